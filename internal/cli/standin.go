package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"ambercellar/internal/standin"
)

func standinFlags(f *flag.FlagSet) {
	f.String("listen", "127.0.0.1:9420", "address to listen at")
	f.String("dir", "", "directory for the objects; left out: in memory")
	f.String("bucket", "cellar", "buckets to make, separated by commas")
	f.String("access-key", "", "id of the only key that is let in; left out: everyone is")
}

// standinObjects serves an object store for demonstrations and tests.
func standinObjects(e *env) error {
	ctx, stop := signal.NotifyContext(e.ctx, syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	h, err := standin.Objects{Directory: e.flag("dir"), Buckets: strings.Split(e.flag("bucket"), ","), AccessKey: e.flag("access-key")}.Handler()
	if err != nil {
		return err
	}
	l, err := listen(e.flag("listen"))
	if err != nil {
		return err
	}
	fmt.Fprintf(e.out, "a stand-in object store, which keeps nothing safe, listens at http://%s with the buckets %s\n", l.Addr(), e.flag("bucket"))
	s := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	go func() {
		<-ctx.Done()
		late, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		s.Shutdown(late)
	}()
	if err := s.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

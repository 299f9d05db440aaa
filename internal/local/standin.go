package local

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os/signal"
	"strconv"
	"strings"
	"syscall"
	"time"

	"ambercellar/internal/cli"
	"ambercellar/internal/standin"
)

func standinFlags(f *flag.FlagSet) {
	f.String("listen", "127.0.0.1:9420", "address to listen at")
	f.String("dir", "", "directory for the objects; left out: in memory")
	f.String("bucket", "cellar", "buckets to make, separated by commas")
	f.String("access-key", "", "id of the only key that is let in; left out: everyone is")
	f.String("region", "", "whose signatures are taken; left out: of any")
	f.Duration("clock", 0, "by how much its clock is ahead")
	f.Int64("quota", 0, "bytes that may be put, in all; 0: no end")
	f.String("deny", "", "methods of HTTP that the key may not use, separated by commas")
	f.String("wait", "low=30s,normal=8s,high=1s", "how long a retrieval from a cold storage class takes, by priority")
	f.String("price", "low=0.002,normal=0.01,high=0.03", "what it costs for a GiB; "+standin.BillPath+
		" tells the bill")
	f.Duration("lock", 0, "keep every version of an object for so long after it was put, whoever removes it; only "+
		"in memory")
	f.Duration("day", 24*time.Hour, "how long a day is, after so many of which a retrieved copy goes away again")
}

// standinObjects serves an object store for demonstrations and tests.
func standinObjects(e *cli.Env) error {
	ctx, stop := signal.NotifyContext(e.Ctx, syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	cold := &standin.Cold{}
	var err error
	if cold.Wait, err = cli.ByPriority(e.Flag("wait"), time.ParseDuration); err != nil {
		return cli.Usage("-wait: %v", err)
	}
	if cold.Price, err = cli.ByPriority(e.Flag("price"),
		func(s string) (float64, error) { return strconv.ParseFloat(s, 64) }); err != nil {
		return cli.Usage("-price: %v", err)
	}
	if cold.Day, err = time.ParseDuration(e.Flag("day")); err != nil || cold.Day <= 0 {
		return cli.Usage("-day: %q is no length of time", e.Flag("day"))
	}
	lock, err := time.ParseDuration(e.Flag("lock"))
	if err != nil || lock < 0 {
		return cli.Usage("-lock: %q is no length of time", e.Flag("lock"))
	}
	o := standin.Objects{Region: e.Flag("region")}
	if deny := e.Flag("deny"); deny != "" {
		o.Deny = strings.Split(deny, ",")
	}
	if o.Clock, err = time.ParseDuration(e.Flag("clock")); err != nil {
		return cli.Usage("-clock: %q is no length of time", e.Flag("clock"))
	}
	o.Quota = cli.Get[int64](e, "quota")
	o.Lock, o.Directory, o.Buckets, o.AccessKey, o.Cold = lock, e.Flag("dir"), strings.Split(e.Flag("bucket"), ","),
		e.Flag("access-key"), cold
	h, err := o.Handler()
	if err != nil {
		return err
	}
	l, err := listen(e.Flag("listen"))
	if err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "a stand-in object store, which keeps nothing safe, listens at http://%s with the buckets %s\n",
		l.Addr(), e.Flag("bucket"))
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

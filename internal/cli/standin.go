package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"ambercellar/internal/archive/store"
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
	f.String("price", "low=0.002,normal=0.01,high=0.03", "what it costs for a GiB; "+standin.BillPath+" tells the bill")
	f.Duration("lock", 0, "keep every version of an object for so long after it was put, whoever removes it; only in memory")
	f.Duration("day", 24*time.Hour, "how long a day is, after so many of which a retrieved copy goes away again")
}

// standinObjects serves an object store for demonstrations and tests.
func standinObjects(e *env) error {
	ctx, stop := signal.NotifyContext(e.ctx, syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	cold := &standin.Cold{}
	var err error
	if cold.Wait, err = byPriority(e.flag("wait"), time.ParseDuration); err != nil {
		return usage("-wait: %v", err)
	}
	if cold.Price, err = byPriority(e.flag("price"), func(s string) (float64, error) { return strconv.ParseFloat(s, 64) }); err != nil {
		return usage("-price: %v", err)
	}
	if cold.Day, err = time.ParseDuration(e.flag("day")); err != nil || cold.Day <= 0 {
		return usage("-day: %q is no length of time", e.flag("day"))
	}
	lock, err := time.ParseDuration(e.flag("lock"))
	if err != nil || lock < 0 {
		return usage("-lock: %q is no length of time", e.flag("lock"))
	}
	o := standin.Objects{Region: e.flag("region")}
	if deny := e.flag("deny"); deny != "" {
		o.Deny = strings.Split(deny, ",")
	}
	if o.Clock, err = time.ParseDuration(e.flag("clock")); err != nil {
		return usage("-clock: %q is no length of time", e.flag("clock"))
	}
	fmt.Sscan(e.flag("quota"), &o.Quota)
	o.Lock, o.Directory, o.Buckets, o.AccessKey, o.Cold = lock, e.flag("dir"), strings.Split(e.flag("bucket"), ","), e.flag("access-key"), cold
	h, err := o.Handler()
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

// byPriority reads a list like low=1,normal=2,high=3.
func byPriority[T any](text string, read func(string) (T, error)) (map[string]T, error) {
	out := map[string]T{}
	if text == "" {
		return out, nil
	}
	for _, part := range strings.Split(text, ",") {
		name, value, _ := strings.Cut(part, "=")
		if !slices.Contains(store.Priorities, store.Priority(name)) {
			return nil, fmt.Errorf("%q is none of the priorities low, normal and high", name)
		}
		v, err := read(value)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		out[name] = v
	}
	return out, nil
}

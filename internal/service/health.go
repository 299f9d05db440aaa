package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"

	"ambercellar/internal/catalog"
	"ambercellar/internal/source"
)

// Health says whether the service can do its work, and what keeps it from that.
type Health struct {
	*base
	places   *Places
	queue    *Queue
	notifier *Notifier
	declared *Declarations

	began time.Time
	mu    sync.Mutex
	beats map[string]time.Time // when each loop came round last, by a clock that is not set

	asking sync.Mutex // one looks at a time; others take what was seen
	seen   []Check
	at     time.Time
}

// Check is one thing that was looked at.
type Check struct {
	Name    string     `json:"name"` // what was looked at
	Level   CheckLevel `json:"level"`
	Message string     `json:"message"`
	Remedy  string     `json:"remedy,omitempty"`
	Took    float64    `json:"took_ms"` // milliseconds
	of      checkOf    // what kind of thing it is
}

// CheckLevel is how it stands.
type CheckLevel string

const (
	CheckGood   CheckLevel = "ok"
	CheckWarns  CheckLevel = "warning" // the service works; somebody should look at it
	CheckFailed CheckLevel = "failed"  // something does not work
)

// checkOf is what a check is of.
type checkOf string

const (
	ofCatalog checkOf = "catalog"
	ofStores  checkOf = "stores"
	ofQueue   checkOf = "queue"
)

const (
	// seenFor is for how long what was seen of the service's readiness is told to others who ask.
	seenFor = time.Second
	// lookFor is how long one look may take.
	lookFor = 5 * time.Second
	// beatFor is within what time the loops come round that neither move rows nor wait for others.
	beatFor = 3 * time.Minute
	// leastRoom is how much is free where the catalog lies, and wantedRoom below what somebody should look.
	leastRoom, wantedRoom = 16 << 20, 1 << 30
)

// quickLoops come round within beatFor.
var quickLoops = []string{"freezes", "notifications", "schedules", "waiting runs"}

// beat keeps that a loop came round.
func (s *Health) beat(loop string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.beats[loop] = time.Now()
}

// look makes a check of something and says how long that took.
func look(
	ctx context.Context,
	name string,
	of checkOf,
	fn func(context.Context) (message, remedy string, err error),
) Check {
	within, cancel := context.WithTimeout(ctx, lookFor)
	defer cancel()
	type result struct {
		message, remedy string
		err             error
	}
	begun, done := time.Now(), make(chan result, 1)
	go func() { // what hangs is not waited for
		var r result
		r.message, r.remedy, r.err = fn(within)
		done <- r
	}()
	c := Check{Name: name, Level: CheckGood, of: of}
	select {
	case r := <-done:
		c.Message, c.Remedy = r.message, r.remedy
		if r.err != nil {
			c.Level, c.Message = CheckFailed, r.err.Error()
			var warns *warning
			if errors.As(r.err, &warns) {
				c.Level = CheckWarns
			}
		} else {
			c.Remedy = ""
		}
	case <-within.Done():
		c.Level, c.Message = CheckFailed, fmt.Sprintf("it has not answered within %s", lookFor)
	}
	c.Took = float64(time.Since(begun).Microseconds()) / 1000
	return c
}

// warning is what somebody should look at, though the service works.
type warning struct{ text string }

func (w *warning) Error() string { return w.text }

func warns(format string, args ...any) error { return &warning{fmt.Sprintf(format, args...)} }

// Ready says whether the service can take on work: the catalog can be written, the stores answer, the queue is alive.
// Many may ask at a time.
func (s *Health) Ready(ctx context.Context) []Check {
	s.asking.Lock()
	defer s.asking.Unlock()
	if time.Since(s.at) > seenFor {
		// the look goes on when the one who asked is gone: others wait for it
		s.seen, s.at = s.ready(context.WithoutCancel(ctx)), time.Now()
	}
	return slices.Clone(s.seen)
}

func (s *Health) ready(ctx context.Context) []Check {
	stores, err := s.Catalog.Stores(ctx)
	looks := []func() Check{
		func() Check { return look(ctx, "catalog", ofCatalog, s.catalog) },
		func() Check { return s.Loops(ctx) },
	}
	if err == nil {
		for i := range stores {
			looks = append(
				looks,
				func() Check { return look(ctx, "store "+stores[i].Name, ofStores, s.store(&stores[i])) },
			)
		}
	}
	return together(looks)
}

// Loops says whether the loops of the service come round.
func (s *Health) Loops(ctx context.Context) Check { return look(ctx, "queue", ofQueue, s.loops) }

// together makes checks side by side.
func together(looks []func() Check) []Check {
	out := make([]Check, len(looks))
	var group sync.WaitGroup
	for i, look := range looks {
		group.Go(func() { out[i] = look() })
	}
	group.Wait()
	return out
}

// Parts tells of readiness what anybody may know: which parts are, and which are not.
func Parts(checks []Check) (parts map[string]bool, ready bool) {
	parts, ready = map[string]bool{string(ofCatalog): true, string(ofStores): true, string(ofQueue): true}, true
	for _, c := range checks {
		if c.Level == CheckFailed {
			parts[string(c.of)], ready = false, false
		}
	}
	return parts, ready
}

func (s *Health) catalog(ctx context.Context) (string, string, error) {
	if err := s.Catalog.Writable(ctx); err != nil {
		return "", "look at the data directory's file system and its rights", err
	}
	free, err := freeIn(s.dir)
	switch {
	case err != nil:
		return "", "look at the data directory's file system", err
	case free < leastRoom:
		return "", "make room in the data directory's file system", fmt.Errorf("%s are free where it lies",
			humanize.IBytes(free))
	case free < wantedRoom:
		return "", "make room in the data directory's file system", warns(
			"%s are free where it lies",
			humanize.IBytes(free),
		)
	}
	return fmt.Sprintf("it can be written; %s are free where it lies", humanize.IBytes(free)), "", nil
}

func freeIn(dir string) (uint64, error) {
	var st syscall.Statfs_t
	err := syscall.Statfs(dir, &st)
	return st.Bavail * uint64(st.Bsize), err
}

func (s *Health) loops(context.Context) (string, string, error) {
	working, waiting := s.queue.counts() // waits where the queue does not let go
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, name := range quickLoops {
		last := s.beats[name]
		if last.IsZero() {
			last = s.began
		}
		if since := time.Since(last); since > beatFor {
			return "", "send the log and `ambercellar support` to whoever helps, and start the service again",
				fmt.Errorf("%s have not been looked after for %s", name, since.Round(time.Second))
		}
	}
	return fmt.Sprintf("%d runs work, %d wait", working, waiting), "", nil
}

func (s *Health) store(st *catalog.Store) func(context.Context) (string, string, error) {
	return func(ctx context.Context) (string, string, error) {
		free, err := s.places.StoreState(ctx, st.Name)
		if err != nil {
			return "", "look at its place, its rights and its keys (`ambercellar store list`)", err
		}
		if free < 0 {
			return "it answers", "", nil
		}
		if free < wantedRoom {
			return "", "make room there, or add another store", warns(
				"%s are free in it",
				humanize.IBytes(uint64(free)),
			)
		}
		return fmt.Sprintf("it answers; %s are free in it", humanize.IBytes(uint64(free))), "", nil
	}
}

// Examine looks at everything that the service depends on: what Ready looks at, and sources, rights, clocks, mail,
// schedules, findings and the outbox.
func (s *Health) Examine(ctx context.Context) ([]Check, error) {
	sources, err := s.Catalog.Sources(ctx)
	if err != nil {
		return nil, err
	}
	looks := []func() Check{
		func() Check { return look(ctx, "mail", "", s.mail) },
		func() Check { return look(ctx, "outbox", "", s.outbox) },
		func() Check { return look(ctx, "findings", "", s.open) },
		func() Check { return look(ctx, "schedules", "", s.schedules) },
		func() Check { return look(ctx, "declarations", "", s.declarations) },
	}
	for i := range sources {
		looks = append(looks, func() Check { return look(ctx, "source "+sources[i].Name, "", s.source(&sources[i])) })
	}
	return append(s.Ready(ctx), together(looks)...), nil
}

func (s *Health) source(c *source.Config) func(context.Context) (string, string, error) {
	return func(ctx context.Context) (string, string, error) {
		remedy := "`ambercellar source check " + c.Name + "` says more"
		src, err := s.Source(ctx, c.Name)
		if err != nil {
			return "", remedy, err
		}
		report, err := src.Check(ctx)
		if err != nil {
			return "", remedy, err
		}
		for _, item := range report.Items {
			if item.Level == source.Missing {
				if item.Remedy != "" {
					remedy = item.Remedy
				}
				return "", remedy, errors.New(item.Text)
			}
		}
		theirs, err := src.Clock(ctx)
		if err != nil {
			return "", remedy, err
		}
		if skew := s.Now().Sub(theirs).Abs(); skew > clockSkew {
			return "", "let both machines follow the same clock (NTP)", fmt.Errorf(
				"its clock and the service's are %s apart",
				skew.Round(time.Second),
			)
		}
		for _, item := range report.Items {
			if item.Level == source.Refused {
				return "", remedy, warns("table %s: %s", item.Table, item.Text)
			}
		}
		return report.Engine + " " + report.Version + "; rights and clock are as they should be", "", nil
	}
}

func (s *Health) mail(ctx context.Context) (string, string, error) {
	m := s.notifier.Ways().Mail
	if m.Server == "" {
		return "no mail server is named", "", nil
	}
	client, err := m.dial(ctx)
	if err != nil {
		return "", "look at -smtp, -mail-security and -mail-password-env of `ambercellar serve`, and at the server", err
	}
	return m.Server + " answers; TLS: " + m.Way(), "", client.Close()
}

// declarations says whether what files declare is in force.
func (s *Health) declarations(ctx context.Context) (string, string, error) {
	d, err := s.declared.Lately(ctx)
	if err != nil || d.Dir == "" {
		return "no directory of declarations is named", "", err
	}
	faults, drift := 0, 0
	for _, p := range d.Problems {
		if !p.Warning {
			faults++
		}
	}
	for _, t := range d.Items {
		if t.Drifts {
			drift++
		}
	}
	if faults+drift > 0 {
		return "", "`ambercellar declared list` shows them", warns(
			"%s: %d faults, and %d things that were changed in the service since", d.Dir, faults, drift)
	}
	return "what " + d.Dir + " declares is in force", "", nil
}

func (s *Health) outbox(ctx context.Context) (string, string, error) {
	counts, err := s.Catalog.DeliveryCounts(ctx)
	if err != nil {
		return "", "", err
	}
	waiting, old := int64(0), time.Duration(0)
	for _, c := range counts {
		if c.State == catalog.DeliveryWaiting {
			waiting, old = c.N, 0
			if c.Since != nil {
				old = s.Now().Sub(c.Since.Time)
			}
		}
	}
	if old > undeliveredFor {
		return "", "`ambercellar delivery list -state waiting` says why", warns("%d deliveries wait, the oldest for %s",
			waiting, old.Round(time.Minute))
	}
	return fmt.Sprintf("%d deliveries wait", waiting), "", nil
}

func (s *Health) open(ctx context.Context) (string, string, error) {
	counts, err := s.Catalog.FindingCounts(ctx)
	if err != nil {
		return "", "", err
	}
	open, urgent := 0, 0
	for _, c := range counts {
		if !c.Quiet {
			open += c.N
			if c.Severity == catalog.Urgent {
				urgent += c.N
			}
		}
	}
	if open > 0 {
		return "", "`ambercellar finding list` says what they are", warns(
			"%d are open, %d of them urgent",
			open,
			urgent,
		)
	}
	return "none is open", "", nil
}

func (s *Health) schedules(ctx context.Context) (string, string, error) {
	names, err := s.Catalog.RuleNames(ctx, mostComing)
	if err != nil {
		return "", "", err
	}
	next := s.notifier.firings.Next()
	if len(names) > 0 && len(next) == 0 {
		return "", "give rules a schedule (`schedule: daily at 02:30`), or run them by hand", warns(
			"none of %d rules fires "+
				"by itself",
			len(names),
		)
	}
	return fmt.Sprintf("%d of %d rules fire by themselves", len(next), len(names)), "", nil
}

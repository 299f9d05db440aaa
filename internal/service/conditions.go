package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// Conditions look whether what a rule requires holds, and carry out the steps before and after its runs.
type Conditions struct {
	*base
	notifier *Notifier
	freezes  *Freezes
}

// Condition is how one requirement of a rule stands.
type Condition struct {
	Name  string `json:"name"`  // the field of the rule
	Needs string `json:"needs"` // as the rule has it
	Met   bool   `json:"met"`
	Found string `json:"found"` // in words
}

const (
	// unmetAgain is when what did not hold is looked at again.
	unmetAgain = 5 * time.Minute
	// askBudget is how long one requirement may take to answer.
	askBudget = 20 * time.Second
	// mostHeard is how much of an answer is read.
	mostHeard = 4 << 10
)

// Of tells how what a rule requires stands now. plan is what a run would take; nil: that is not known.
func (s *Conditions) Of(ctx context.Context, r *rule.Rule, plan *catalog.Plan, run *catalog.Run) []Condition {
	out := []Condition{}
	q := r.Requires
	if q == nil {
		return out
	}
	ask := func(name, needs string, do func(context.Context) (met bool, found string, err error)) {
		c, err := inTime(ctx, askBudget, func(ctx context.Context) (c Condition, err error) {
			c.Met, c.Found, err = do(ctx)
			return c, err
		})
		if c.Name, c.Needs = name, needs; err != nil {
			c.Met, c.Found = false, err.Error()
		}
		out = append(out, c)
	}
	if q.Backup != nil {
		ask("backup", q.Backup.Spoken(), func(ctx context.Context) (bool, string, error) {
			return s.backup(ctx, r, q.Backup)
		})
	}
	archive, log := expected(plan, run)
	if q.StoreFree != nil {
		ask("store_free", q.StoreFree.Spoken(), func(ctx context.Context) (bool, string, error) {
			return s.storeFree(ctx, r, q.StoreFree, archive)
		})
	}
	if q.LogFree != nil || q.ReplicaDelay > 0 {
		signals, err := inTime(ctx, askBudget, func(ctx context.Context) (map[string]float64, error) {
			return s.signals(ctx, r)
		})
		if q.LogFree != nil {
			ask("log_free", q.LogFree.Spoken(), func(context.Context) (bool, string, error) {
				return logFree(signals, err, q.LogFree, log)
			})
		}
		if q.ReplicaDelay > 0 {
			ask("replica_delay", pace.Seconds.Spoken(q.ReplicaDelay), func(context.Context) (bool, string, error) {
				return replicaDelay(signals, err, q.ReplicaDelay)
			})
		}
	}
	return out
}

// inTime does something that may hang, and gives up when its time is over or its context ends.
func inTime[T any](ctx context.Context, limit time.Duration, do func(context.Context) (T, error)) (v T, err error) {
	within, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	type answer struct {
		v   T
		err error
	}
	answers := make(chan answer, 1)
	go func() {
		v, err := do(within)
		answers <- answer{v, err}
	}()
	select {
	case a := <-answers:
		err = a.err
		v = a.v
	case <-within.Done():
		err = within.Err()
	}
	switch {
	case ctx.Err() != nil && err != nil:
		return v, context.Cause(ctx)
	case errors.Is(err, context.DeadlineExceeded):
		return v, fmt.Errorf("there was no answer within %s", limit)
	}
	return v, err
}

// expected is how many bytes a plan's run is still expected to write, to the stores and to the database's log;
// negative where that cannot be told.
func expected(p *catalog.Plan, r *catalog.Run) (archive, log float64) {
	if p == nil {
		return -1, -1
	}
	left := 1.0
	if r != nil && r.Due > 0 {
		left = max(0, float64(r.Due-r.Done())/float64(r.Due))
	}
	c, x := p.Counts.V, p.Detail.V.Expect
	of := func(n *int64) float64 {
		if n != nil {
			return left * float64(*n)
		}
		return left * float64(c.Bytes) // what the rows take is more than that, as a rule
	}
	return of(x.ArchiveBytes), of(x.LogBytes)
}

// backup asks when the newest backup of the source was made.
func (s *Conditions) backup(ctx context.Context, r *rule.Rule, b *rule.Backup) (met bool, found string, err error) {
	var made time.Time
	switch {
	case b.File != "":
		st, err := os.Stat(b.File)
		if err != nil {
			return false, "", fmt.Errorf("the backup's file cannot be looked at: %w", err)
		}
		if st.Size() == 0 && !st.IsDir() {
			return false, fmt.Sprintf("the backup's file %s is empty", b.File), nil
		}
		made = st.ModTime()
	case b.Query != "":
		a, err := s.perform(ctx, r.Source, b.Query, true)
		if err != nil {
			return false, "", fmt.Errorf("the backup's query: %w", err)
		}
		text, ok := a.First()
		if !ok {
			return false, "the backup's query returned no time: there is no backup", nil
		}
		if made, err = rule.ParseMade(text); err != nil {
			return false, "", fmt.Errorf("the backup's query: %w", err)
		}
	default:
		text, err := s.call(ctx, http.MethodGet, b.URL, nil)
		if err != nil {
			return false, "", fmt.Errorf("%s: %w", b.URL, err)
		}
		if made, err = rule.ParseMade(text); err != nil {
			return false, "", fmt.Errorf("%s: %w", b.URL, err)
		}
	}
	if stale := b.Stale(made, s.Now()); stale != "" {
		return false, stale, nil
	}
	return true, "the newest backup is of " + made.UTC().Format(time.RFC3339), nil
}

// storeFree asks what is free in the stores that a rule's rows go to.
func (s *Conditions) storeFree(ctx context.Context, r *rule.Rule, need *rule.Room, expects float64) (met bool,
	found string, err error) {
	names := map[string]bool{}
	for i, c := range r.Clauses {
		e := r.Effective(i)
		if c.Off || !e.Then.Copies() {
			continue
		}
		first, err := s.Catalog.Store(ctx, e.Archive.Store)
		if err != nil {
			return false, "", err
		}
		names[first.Name] = true
		if second := cmp.Or(e.Archive.Second, first.Second); second != "" {
			names[second] = true
		}
	}
	var told []string
	for _, name := range slices.Sorted(maps.Keys(names)) {
		st, err := s.Store(ctx, name)
		if err != nil {
			return false, "", err
		}
		free := st.Free(ctx)
		if free < 0 {
			told = append(told, "what is free in store "+name+" is not known, and taken for enough")
			continue
		}
		if short := need.Spare(float64(free), expects); short != "" {
			return false, "in store " + name + ", " + short, nil
		}
		told = append(told, fmt.Sprintf("%s is free in store %s", pace.Bytes.Spoken(float64(free)), name))
	}
	return true, strings.Join(told, "; "), nil
}

// signals asks the source what it shows of its load.
func (s *Conditions) signals(ctx context.Context, r *rule.Rule) (map[string]float64, error) {
	src, err := s.Source(ctx, r.Source)
	if err != nil {
		return nil, err
	}
	t, err := src.Table(ctx, r.Table)
	if err != nil {
		return nil, err
	}
	return src.Signals(ctx, t)
}

func logFree(signals map[string]float64, err error, need *rule.Room, expects float64) (met bool, found string,
	_ error) {
	free, known := signals[pace.Disk]
	switch {
	case err != nil:
		return false, "", err
	case !known:
		return false, "what is free on the database's disk is not known; name its directory, as the service's " +
			"machine has it, when the source is added (-disk)", nil
	}
	if short := need.Spare(free, expects); short != "" {
		return false, "on the database's disk, " + short, nil
	}
	return true, pace.Bytes.Spoken(free) + " is free on the database's disk", nil
}

func replicaDelay(signals map[string]float64, err error, most float64) (met bool, found string, _ error) {
	delay, known := signals[pace.Replica]
	switch {
	case err != nil:
		return false, "", err
	case !known:
		return true, "the database shows no replica", nil
	case delay > most:
		return false, fmt.Sprintf("the slowest replica is %s behind, and may be %s", pace.Seconds.Spoken(delay),
			pace.Seconds.Spoken(most)), nil
	}
	return true, fmt.Sprintf("the slowest replica is %s behind", pace.Seconds.Spoken(delay)), nil
}

// perform sends a statement of a rule's to its source.
func (s *Conditions) perform(ctx context.Context, name, statement string, reading bool) (*source.Answer, error) {
	src, err := s.Source(ctx, name)
	if err != nil {
		return nil, err
	}
	p, ok := source.As[source.Performer](src)
	if !ok {
		return nil, errors.New("this database takes no statements of rules")
	}
	return p.Perform(ctx, statement, reading)
}

// call asks a web server that the start of the service names, and returns what it answers.
func (s *Conditions) call(ctx context.Context, method, to string, body io.Reader) (string, error) {
	if err := s.notifier.mayTell(to); err != nil {
		return "", err
	}
	q, err := http.NewRequestWithContext(ctx, method, to, body)
	if err != nil {
		return "", err
	}
	if body != nil {
		q.Header.Set("Content-Type", "application/json")
	}
	answer, err := direct.Do(q)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, mostHeard))
	if err != nil {
		return "", err
	}
	if answer.StatusCode >= 300 {
		return "", fmt.Errorf("it answered %s: %s", answer.Status, strings.TrimSpace(string(text)))
	}
	return strings.TrimSpace(string(text)), nil
}

// met returns refuse.Unmet where something that a run's rule requires does not hold.
func (s *Conditions) met(ctx context.Context, run *catalog.Run, r *rule.Rule) error {
	if r.Requires == nil {
		return nil
	}
	p, err := s.Catalog.Plan(ctx, run.Plan)
	if err != nil {
		return err
	}
	for _, c := range s.Of(ctx, r, p, run) {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if !c.Met {
			return &refuse.Unmet{Again: s.Now().Add(unmetAgain),
				Reason: fmt.Sprintf("its rule requires %s, which does not hold: %s; that is looked at every five "+
					"minutes", c.Name, c.Found)}
		}
	}
	return s.Catalog.Met(ctx, run.ID)
}

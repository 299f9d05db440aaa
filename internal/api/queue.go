package api

import (
	"context"
	"slices"
	"time"

	"ambercellar/internal/catalog"
)

// QueuedRun is a run that works or waits.
type QueuedRun struct {
	Run RunView `json:"run"`
	// among those that wait, from 1; 0: it works; -1: it waits for something else
	Position int    `json:"position"`
	Why      string `json:"why"`         // it waits, beyond that others work
	StartsIn *int64 `json:"starts_secs"` // seconds until it begins, as far as can be told; null: that cannot
}

// QueuedJob is a restore, an export, a disposal, a verification, a move or a second copy that works or waits.
type QueuedJob struct {
	Kind    catalog.JobKind `json:"kind"`
	ID      string          `json:"id"`
	Source  string          `json:"source"` // empty: of any
	Table   string          `json:"table"`  // likewise
	What    string          `json:"what"`   // in words
	By      string          `json:"by"`
	AskedAt catalog.Time    `json:"asked_at"`
	Done    int64           `json:"done"`
	Of      int64           `json:"of"` // 0: not known yet
	Unit    string          `json:"unit"`
	JobTurn
}

// JobTurn is when the turn of a job comes.
type JobTurn struct {
	State    string `json:"state"`    // working, waiting or paused
	Position int    `json:"position"` // among those of its kind that do not work, from 1; 0: it works
	Why      string `json:"why"`      // it waits, beyond that others work
	Priority int    `json:"priority"`
	// seconds until it begins, as far as can be told; null: that cannot
	StartsIn *int64 `json:"starts_secs"`
}

// NewPriority is which of the runs that wait goes first.
type NewPriority struct {
	Priority int `json:"priority"`
}

// jobRoutes are the routes of jobs that work or wait, other than runs.
func (a *API) jobRoutes() []route {
	s := a.service.Jobs
	did := func(do func(context.Context, string, catalog.JobKind, string) error) func(context.Context,
		request) (Items[QueuedJob], error) {
		return func(ctx context.Context, r request) (Items[QueuedJob], error) {
			if err := do(ctx, r.actor(), catalog.JobKind(r.Param("kind")), r.Param("job")); err != nil {
				return Items[QueuedJob]{}, err
			}
			return all(a.jobs(ctx, r))
		}
	}
	return []route{
		whole("/queue/jobs", "Jobs", "The restores, exports, disposals, verifications, moves, second copies "+
			"and exports of the audit log that work or wait, by kind, in the order of their turns", a.jobs),
		act("POST", "/queue/jobs/{kind}/{job}/pause", "PauseJob", "Stop a job until it is resumed", did(s.Pause)),
		act("POST", "/queue/jobs/{kind}/{job}/resume", "ResumeJob", "Let a paused job go on when its turn comes",
			did(s.Resume)),
		act("POST", "/queue/jobs/{kind}/{job}/cancel", "CancelJob", "End a job; what it has done stays",
			did(s.Cancel)),
		take("POST", "/queue/jobs/{kind}/{job}/priority", "SetJobPriority",
			"Change which of the jobs that wait goes first",
			func(ctx context.Context, r request, in NewPriority) (Items[QueuedJob], error) {
				if err := s.SetPriority(ctx, r.actor(), catalog.JobKind(r.Param("kind")), r.Param("job"),
					in.Priority); err != nil {
					return Items[QueuedJob]{}, err
				}
				return all(a.jobs(ctx, r))
			}),
	}
}

// jobs lists the jobs that work and those that wait, with how far each is.
func (a *API) jobs(ctx context.Context, _ request) ([]QueuedJob, error) {
	out := []QueuedJob{}
	limits := a.service.Queue.Limits()
	var turns *turns
	for _, x := range a.service.Jobs.Line() {
		q := QueuedJob{Kind: x.Kind, ID: x.ID, Source: x.Source, Table: x.Table, What: x.What, By: x.By,
			AskedAt: catalog.At(x.Asked), JobTurn: JobTurn{State: "waiting", Position: x.Position, Why: x.Why,
				Priority: x.Priority}}
		switch {
		case x.Works:
			q.State = "working"
		case x.PausedAt != nil:
			q.State = "paused"
		}
		if err := a.progress(ctx, &q); err != nil {
			return nil, err
		}
		if len(out) == 0 || out[len(out)-1].Kind != q.Kind {
			turns = newTurns(limits.Of(q.Kind))
		}
		if x.Works {
			turns.work(leftOf(q.Done, q.Of, time.Since(x.Began)))
		} else if x.Why == "" {
			q.StartsIn = turns.next()
		}
		out = append(out, q)
	}
	return out, nil
}

// progress tells how far a job is.
func (a *API) progress(ctx context.Context, q *QueuedJob) error {
	c := a.service.Catalog
	switch q.Kind {
	case catalog.JobRestore, catalog.JobExport:
		r, err := c.Restore(ctx, q.ID)
		if err != nil {
			return err
		}
		q.Done, q.Of, q.Unit = r.Restored+r.Skipped, r.Of, "rows"
	case catalog.JobDisposal:
		d, err := c.DisposalBrief(ctx, q.ID)
		if err != nil {
			return err
		}
		q.Done, q.Of, q.Unit = int64(d.Gone), int64(d.Segments), "segments"
	case catalog.JobAudit:
		x, err := c.AuditExport(ctx, q.ID)
		if err != nil {
			return err
		}
		q.Done, q.Of, q.Unit = x.Done, x.Total, "entries"
	case catalog.JobVerification:
		v, err := c.Verification(ctx, q.ID)
		if err != nil {
			return err
		}
		q.Done, q.Of, q.Unit = int64(v.Segments), int64(v.Of), "segments"
	}
	return nil
}

// leftOf tells how many seconds a job works on that has done some of its work in a while; nil: that is not known.
func leftOf(done, of int64, took time.Duration) *float64 {
	if done <= 0 || of <= 0 {
		return nil
	}
	left := took.Seconds() * float64(of-done) / float64(done)
	return &left
}

// turns tells when those that wait begin: some places are free, others will be when what works is done.
type turns struct {
	free int
	ends []float64 // seconds until places come free, in order, those that are known
}

func newTurns(places int) *turns { return &turns{free: places} }

// work takes a place for as long as is known; nil: that is not known.
func (t *turns) work(left *float64) {
	t.free--
	if left != nil {
		at, _ := slices.BinarySearch(t.ends, *left)
		t.ends = slices.Insert(t.ends, at, *left)
	}
}

// next takes the place that comes free first, and returns in how many seconds that is; nil: that is not known.
func (t *turns) next() *int64 {
	var in int64
	if t.free > 0 {
		t.free--
		return &in
	}
	if len(t.ends) == 0 {
		return nil
	}
	in, t.ends = int64(t.ends[0]), t.ends[1:]
	return &in
}

// queue lists what works and what waits. When a run begins is told from when those before it are done.
func (a *API) queue(ctx context.Context, _ request) ([]QueuedRun, error) {
	var out []QueuedRun
	turns := newTurns(a.service.Queue.Limits().All)
	now := a.service.Now()
	for _, x := range a.service.Queue.Line() {
		q := QueuedRun{Run: viewRun(x.Run), Position: x.Position, Why: x.Why}
		switch {
		case x.Position == 0:
			turns.work(q.Run.SecondsLeft)
		case x.Run.StartAt != nil && x.Run.StartAt.After(now):
			in := int64(x.Run.StartAt.Sub(now).Seconds())
			q.StartsIn = &in
		case x.Why == "":
			q.StartsIn = turns.next()
		}
		out = append(out, q)
	}
	return a.others(ctx, out)
}

// mostOthers is how many runs are told that neither work nor wait for a turn.
const mostOthers = 200

// others adds the runs that have not ended and wait for something else than their turn: those that rest, are paused,
// failed, or have copied rows that are still to be deleted.
func (a *API) others(ctx context.Context, out []QueuedRun) ([]QueuedRun, error) {
	runs, _, err := a.service.Catalog.Unended(ctx, mostOthers)
	for i := range runs {
		r := &runs[i]
		if r.State == catalog.Running || r.State == catalog.Queued ||
			slices.ContainsFunc(out, func(q QueuedRun) bool { return q.Run.ID == r.ID }) {
			continue
		}
		out = append(out, QueuedRun{Run: viewRun(r), Position: -1, Why: r.Reason})
	}
	return out, err
}

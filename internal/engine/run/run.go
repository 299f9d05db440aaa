package run

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/calendar"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/engine/watch"
	"ambercellar/internal/source"
)

// Execution is one execution of a run, from its start or from where the last execution of it stopped.
type Execution struct {
	*Mover
	Run  *catalog.Run
	Pass *Pass // the one that the run is at
	task
	tenure
	pacing
	progress
	chains *tables.Chains
}

// task is what a run works on. It does not change while the run goes.
type task struct {
	source   source.Source
	engine   string // of the source
	rule     *rule.Rule
	ruleText string // as it was applied
	table    *shape.Table
	related  due.JoinedTables  // by the name that the rule gives
	joined   due.JoinedTables  // likewise
	pinned   []shape.Partition // as they were when the plan was made
	passes   []*Pass
	whole    source.Selection  // of all passes together
	numbered map[string]string // by table: where the numbers of its columns hold
}

// tenure is the right to work on the tables of a run, and what is known of what was committed under it.
type tenure struct {
	leases  map[string]source.Lease
	history map[string]string  // by table: the identity of the journal that its lease was taken in
	newest  *source.JournalRow // the newest batch that is known to be committed
	lost    atomic.Bool        // the database was out of reach since the last batch
	closing atomic.Bool        // it is being cancelled, and what has become of its tables does not matter any more
}

// pacing is how fast a run goes, and why.
type pacing struct {
	pace    *pace.Steering
	profile pace.Profile // of the source
	workers int          // transactions that go side by side; 0 and 1: one
	family  int          // rows of the slice that a slice with related rows should have; 0: not known yet
	load    load
	watcher *watch.User           // of who else is at work; nil before it looks
	reading atomic.Pointer[haste] // of what goes on beside the batches
	// until when what goes on beside the batches rests, in nanoseconds since the process began
	resting atomic.Int64
	restsOn atomic.Pointer[string] // the signal that they rest for
	rested  atomic.Int64           // how long reading has rested, in nanoseconds
	efforts efforts
	course  *course                     // nil before it works
	pieces  atomic.Pointer[pace.Pieces] // how much is read at a time where reading rests
	reads   *pace.Spurts                // in which it reads, deletes what it has read, and purges, beside others
	deletes *pace.Spurts
	purges  *pace.Spurts
	logAt   *int64         // what the database had logged when it was last asked
	guard   calendar.Hours // when runs may work on the source, as it was last read
	guarded time.Time      // when that was
}

// progress is how far an execution is, and what of it was shown and saved.
type progress struct {
	booking  sync.Mutex // of the counts, and of what is known to be committed, while transactions go side by side
	begun    time.Time  // of this execution
	worked   int64      // microseconds worked by earlier executions
	taken    int64      // rows read so far, where the plan limits them
	pending  []catalog.Batch
	shown    time.Time
	saved    time.Time
	told     time.Time
	waitsFor waitList
}

// Run carries a run out until it has ended or its context is cancelled with one of the causes above. What it returns
// decides the run's next state: nil is done.
func (mv *Mover) Run(ctx context.Context, run *catalog.Run) error {
	err := mv.carryOut(ctx, run)
	if !tables.Away(err) || !tables.Passing(err) {
		return err
	}
	run.ResumeAt, run.WindowsLeft = nil, nil
	mv.Log.Warn("a run lets go until what it needs answers again", "run", run.ID, "error", err)
	return errors.Join(&tables.Waiting{Reason: tables.Waits(err), Why: err},
		mv.Catalog.SaveProgress(context.WithoutCancel(ctx), run, catalog.Progress{}))
}

func (mv *Mover) carryOut(ctx context.Context, run *catalog.Run) (err error) {
	r := &Execution{
		Mover:    mv,
		Run:      run,
		progress: progress{begun: mv.Now(), worked: run.Working},
	}
	cancelled := errors.Is(context.Cause(ctx), refuse.ErrCancel)
	r.closing.Store(cancelled)
	rules, err := r.ruleOf(context.WithoutCancel(ctx))
	if err != nil {
		return err
	}
	r.rule = rules
	if !cancelled {
		if err := r.withinWindow(mv.Now()); err != nil { // before the database is asked for anything
			return errors.Join(err, mv.Catalog.SaveProgress(context.WithoutCancel(ctx), run, catalog.Progress{}))
		}
	}
	if mv.Around != nil {
		leave, entering := mv.Around(ctx, run, rules, cancelled)
		defer func() { err = leave(err) }()
		if entering != nil {
			return entering
		}
	}
	names := []string{run.Table}
	for _, x := range rules.Relations() {
		names = append(names, x.Table)
	}
	waiting := ctx
	if cancelled { // it still has its open segments to close
		waiting = context.WithoutCancel(ctx)
	}
	defer func() { r.watcher.Leave() }()
	release, err := mv.tables.Claim(waiting, run.Source, names)
	if err != nil {
		return err
	}
	defer release()
	var w wait
	err = tables.Retry(ctx, mv.Log, func() error { return r.prepare(context.WithoutCancel(ctx), cancelled) },
		func(err error) { r.tellWait(&w, tables.Waits(err), tables.Away(err)) })
	r.endWait(&w)
	if err != nil {
		if cause := context.Cause(ctx); cause != nil && !cancelled {
			return cause
		}
		return err
	}
	defer func() {
		// The lease stays with a run that can still go on, so that nobody else begins in the middle of it.
		if err == nil || errors.Is(err, refuse.ErrCancel) {
			for _, l := range r.leases {
				release := tables.Retry(ctx, r.Log,
					func() error { return r.source.ReleaseLease(context.WithoutCancel(ctx), l) })
				err = errors.Join(err, release)
			}
		}
	}()
	if r.Run.LogBytes != nil {
		r.load.logBase = *r.Run.LogBytes
	}
	defer r.takeUpCourse(context.WithoutCancel(ctx))()
	r.Run.ResumeAt, r.Run.WindowsLeft = nil, nil
	r.measureLog(ctx)
	err = r.move(ctx)
	r.endSlowdown(r.Now())
	if errors.Is(err, refuse.ErrCopied) {
		return errors.Join(err, r.save(context.WithoutCancel(ctx)))
	}
	if err != nil {
		if cause := context.Cause(ctx); cause != nil && !errors.Is(err, refuse.ErrBooks) {
			err = cause
		}
		if !errors.Is(err, refuse.ErrCancel) {
			return errors.Join(err, r.save(context.WithoutCancel(ctx)))
		}
		r.closing.Store(true)
		if closing := r.closeAsIs(context.WithoutCancel(ctx)); closing != nil {
			return closing
		}
		if closing := r.balance(context.WithoutCancel(ctx)); closing != nil {
			return closing
		}
		return err
	}
	// everything is done: a stop that comes now changes nothing
	if err := r.balance(context.WithoutCancel(ctx)); err != nil {
		return err
	}
	r.pruneEarlier(context.WithoutCancel(ctx))
	return nil
}

// prepare gets everything that the run works with, and takes the lease. A run that is being cancelled deletes
// nothing more, so it does not matter what has become of its table.
func (r *Execution) prepare(ctx context.Context, cancelled bool) error {
	plan, err := r.Catalog.Plan(ctx, r.Run.Plan)
	if err != nil {
		return err
	}
	if r.rule, err = r.ruleOf(ctx); err != nil {
		return err
	}
	if r.source, err = r.Source(ctx, r.Run.Source); err != nil {
		return err
	}
	config, err := r.Catalog.Source(ctx, r.Run.Source)
	if err != nil {
		return err
	}
	r.engine = config.Engine
	r.chains = r.tables.Chains(r.source, r.Run.Source)
	if err := r.source.PrepareJournal(ctx); err != nil {
		return err
	}
	t := &plan.Shape.V
	if cancelled {
		r.related, r.joined = due.AsPlanned(t, r.rule)
	} else {
		if r.related, err = due.RelatedTo(ctx, r.source, r.rule); err != nil {
			return err
		}
		if r.joined, err = due.JoinedBy(ctx, r.source, r.rule); err != nil {
			return err
		}
		for i := range t.Related {
			if _, err := tables.Unaltered(ctx, r.source, &t.Related[i]); err != nil {
				return err
			}
		}
		if t, err = tables.Unaltered(ctx, r.source, t); err != nil {
			return err
		}
		if err := r.number(ctx, append(slices.Collect(maps.Values(r.related)), t)); err != nil {
			return err
		}
		if err := r.othersPartitions(ctx); err != nil {
			return err
		}
	}
	r.table, r.pinned = t, plan.Shape.V.Partitions
	if err := r.makePasses(ctx, plan, t); err != nil {
		return err
	}
	p, err := pace.Parse(r.Run.Pace)
	if err != nil {
		return err
	}
	r.profile = r.source.Reads().Gentle
	r.pace = pace.New(p, r.profile)
	r.reads, r.deletes = pace.NewFindSpurts(r.profile), pace.NewSpurts(r.profile)
	r.purges = pace.NewFindSpurts(r.profile)
	r.watcher.Leave()
	r.watcher = r.Watch.Of(r.source, r.Run.Source, r.table, r.bound())
	r.SetReading()
	r.leases, r.history = map[string]source.Lease{}, map[string]string{}
	for _, name := range slices.Sorted(slices.Values(r.passes[0].tables())) {
		if err := r.take(ctx, name); err != nil {
			return err
		}
	}
	return nil
}

// bound is how much slower others may become for the run, as a share; 0: that is not what it heeds, or the usual.
func (r *Execution) bound() float64 {
	if pace.Pace(r.Run.Pace) != pace.Gentle {
		return pace.MostBound
	}
	return r.rule.Bound
}

func (r *Execution) ruleOf(ctx context.Context) (out *rule.Rule, err error) {
	out, r.ruleText, err = r.due.Revision(ctx, r.Run.Rule, r.Run.Revision)
	return out, err
}

// Work is one slice on its way: read, and where the run archives, stored and verified.
type Work struct {
	number  int
	pass    *Pass
	segment *catalog.Segment // nil where the pass purges
	slice   source.Slice
	Digests []value.Digest // of the rows as the source has them
	set     value.Set      // of all rows
	bytes   int64          // of all rows, as they were read
	// the digests are not known: the rows were cleaned on their way, and the service stopped since
	blind bool
	archived
	relatedRows
	related []*Work         // what goes along, in the order of the pass's related tables
	refers  [][]value.Value // of archived related rows: what each refers to
}

// move takes up what an earlier execution left, and then carries out pass after pass.
func (r *Execution) move(ctx context.Context) error {
	var after []value.Value
	var number int
	err := r.retry(ctx, func() (err error) {
		after, number, err = r.recover(ctx)
		return err
	})
	if err != nil || r.Run.Deleting {
		return err
	}
	if number, err = r.emptyTable(ctx, number); err != nil {
		return err
	}
	if number, err = r.movePartitions(ctx, number); err != nil {
		return err
	}
	for {
		if number, err = r.movePass(ctx, number, after); err != nil {
			return err
		}
		if r.Run.Pass+1 == len(r.passes) {
			break
		}
		r.Run.Pass, r.Run.Position, after = r.Run.Pass+1, "", nil
		r.Pass = r.passes[r.Run.Pass]
		if err := r.show(ctx, true); err != nil { // kept before the first row of the pass is read
			return err
		}
	}
	return r.decide(ctx)
}

// decide ends the copying: where rows were copied alone, their deleting is a decision of its own, made later by hand
// or on its own when the clause's time has passed.
func (r *Execution) decide(ctx context.Context) error {
	open, automatic, wait := false, true, time.Duration(0)
	for _, p := range r.passes {
		if p.then != rule.ThenCopy {
			continue
		}
		open = true
		if p.after == nil {
			automatic = false
		} else {
			now := r.Now()
			wait = max(wait, now.Sub(p.after.Before(now, time.UTC)))
		}
	}
	if !open {
		return nil
	}
	segments, err := r.recoverSegments(ctx)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(segments, func(s catalog.Segment) bool { return s.State == catalog.SegmentOpen }) {
		return nil // no row was due
	}
	if automatic {
		at := catalog.At(r.Now().Add(wait))
		r.Run.DeleteAt = &at
	}
	return refuse.ErrCopied
}

// copied shows rows that were copied and stay for now.
func (r *Execution) copied(w *Work) {
	r.Run.Copied += int64(len(w.Digests))
	for _, x := range append([]*Work{w}, w.related...) {
		if x.segment != nil {
			r.Run.RawBytes += x.segment.RawBytes
			r.Run.FileBytes += x.segment.FileBytes
		}
	}
}

// prove verifies and publishes a stored segment in the background; a slice that is purged needs no proof.
func (r *Execution) prove(ctx context.Context, w *Work) <-chan error {
	out := make(chan error, 1)
	go func() {
		for _, x := range append(slices.Clone(w.related), w) { // the head of the families last: where it is, all are
			if x.segment != nil {
				if err := r.publish(ctx, x); err != nil {
					out <- err
					return
				}
			}
		}
		out <- nil
	}()
	return out
}

type fetched struct {
	work *Work
	err  error
}

// fetch gets the next slice ready in the background, of so many rows at the most; a nil work means that no row is
// left.
func (r *Execution) fetch(ctx context.Context, number int, after []value.Value, rows int) <-chan fetched {
	out := make(chan fetched, 1)
	go func() {
		var w *Work
		err := r.retry(ctx, func() (err error) {
			if r.full() {
				return nil
			}
			if r.Pass.store == nil {
				w, err = r.purgeSlice(ctx, number, after, rows)
			} else {
				w, err = r.archiveSlice(ctx, number, after, rows)
			}
			return err
		})
		out <- fetched{w, err}
	}()
	return out
}

// Ramp is how many rows the next slice may have, of a run that has read so many since it went on: the first slices are
// small, so that deleting begins soon; and where reading rests, each is half as large as all before it, so that it
// never waits for long.
func (r *Execution) Ramp(read int) int {
	switch rests := r.readRest() > 0; {
	case r.Pass.partition != "" || r.Run.Due <= 2*firstRows || !rests && (r.Run.Due <= 2*due.SliceRows || read > 0):
		return due.SliceRows
	case !rests:
		return firstRows
	default:
		return min(max(read/2, shortSliceRows), due.SliceRows)
	}
}

// request asks for a slice of so many rows at the most.
func (r *Execution) request(after []value.Value, rows int) source.SliceRequest {
	req := source.SliceRequest{Selection: r.Pass.sel, After: after, Columns: r.Pass.columns, MaxRows: rows,
		MaxBytes: due.SliceBytes}
	if len(r.Pass.related) > 0 {
		if req.MaxRows = min(r.family, rows); r.FamilyRows > 0 {
			req.MaxRows = r.FamilyRows
		} else if r.family == 0 {
			req.MaxRows = familyFirst
		}
	}
	if r.SliceRows > 0 {
		req.MaxRows = min(req.MaxRows, r.SliceRows)
	}
	if r.source.Reads().BlocksWriters {
		req.MaxRows = min(req.MaxRows, shortSliceRows)
	}
	if r.Run.Limit > 0 {
		req.MaxRows = int(min(int64(req.MaxRows), r.Run.Limit-r.taken))
	}
	return req
}

// full says whether the run has read as many rows as its plan allows.
func (r *Execution) full() bool { return r.Run.Limit > 0 && r.taken >= r.Run.Limit }

// unheld adds the holds that stand now to a request, so that held rows are not copied.
func (r *Execution) unheld(ctx context.Context, req source.SliceRequest) (_ source.SliceRequest, err error) {
	req.Selection, err = r.due.WithHolds(ctx, r.Run.Source, req.Selection)
	return req, err
}

// purgeSlice reads a slice for a purge: its locators and digests, no copy.
func (r *Execution) purgeSlice(ctx context.Context, number int, after []value.Value, rows int) (*Work, error) {
	w := &Work{number: number, pass: r.Pass}
	var hasher value.Hasher
	req, err := r.unheld(ctx, r.request(after, rows))
	if err != nil {
		return nil, err
	}
	note := w.refer(-1, due.ColumnsAt(r.table, r.Pass.columns), r.Pass.related)
	slice, err := r.readSlice(ctx, req, func(c *value.Chunk) error {
		w.digest(c, &hasher)
		for i := range c.Rows() {
			note(c.Row(i))
		}
		return ctx.Err()
	})
	if err != nil || len(w.Digests) == 0 {
		return nil, err
	}
	w.slice = *slice
	return w, r.readRelatedOf(ctx, w)
}

// digest adds the digests of a chunk's rows.
func (w *Work) digest(c *value.Chunk, hasher *value.Hasher) {
	w.bytes += c.Weight()
	for i := range c.Rows() {
		w.Digests = append(w.Digests, hasher.Row(c.Row(i)[:len(w.pass.columns)]))
		w.set.Add(w.Digests[len(w.Digests)-1])
	}
}

func (w *Work) Add(digests []value.Digest) {
	w.Digests = append(w.Digests, digests...)
	for _, d := range digests {
		w.set.Add(d)
	}
}

// How often progress is shown and kept.
const (
	showEvery = 100 * time.Millisecond
	saveEvery = 500 * time.Millisecond
)

// show makes progress known; what ends a wait, at once.
func (r *Execution) show(ctx context.Context, atOnce bool) error {
	now := r.Now()
	r.Run.Working = r.worked + now.Sub(r.begun).Microseconds()
	if r.Progress != nil && (atOnce || now.Sub(r.shown) >= showEvery || r.waitsFor.any()) {
		r.shown = now
		copied := *r.Run
		r.Progress(&copied)
	}
	if now.Sub(r.told) >= tellEvery {
		r.told = now
		r.Tell(context.WithoutCancel(ctx), r.Run)
	}
	if atOnce || now.Sub(r.saved) >= saveEvery {
		r.saved = now
		return r.save(ctx)
	}
	return nil
}

func (r *Execution) save(ctx context.Context) error {
	r.Run.Working = r.worked + r.Now().Sub(r.begun).Microseconds()
	efforts := r.efforts.take()
	err := r.Catalog.SaveProgress(ctx, r.Run, catalog.Progress{Batches: r.pending, Slow: r.load.unsaved,
		Efforts: efforts, Course: r.courseToKeep()})
	if err != nil {
		r.efforts.putBack(efforts)
		return err
	}
	r.pending, r.load.unsaved = nil, nil
	return err
}

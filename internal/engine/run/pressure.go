package run

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/calendar"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// SampleEvery is how often a database is asked for its signals while a run goes on.
const SampleEvery = time.Second

// WatchEvery is the same while nothing is deleted. Tests change it.
var WatchEvery = SampleEvery

// load is what a runner knows of its database's load.
type load struct {
	values   map[string]float64 // of the signals, as last asked for
	asked    time.Time
	pressure pace.Pressure
	grown    []growth          // of the log, within the last minute
	logBase  int64             // what the run's log bytes were when this execution began
	locks    []growth          // deadlocks, as counted by the server, within the last minute
	reason   string            // why it goes slower, or rests
	late     string            // that it will not take the rows of its budget in its window
	slow     *catalog.Slowdown // that lasts
	unsaved  []catalog.Slowdown
	rates    []float64 // of the last batches, in rows a second
}

// ratedBatches is from how many of the last batches the range of the time left is told.
const ratedBatches = 50

// rated takes in how fast a batch went: the tenth slowest and the tenth fastest of the last ones make the range.
func (l *load) rated(run *catalog.Run, rate float64) {
	if l.rates = append(l.rates, rate); len(l.rates) > ratedBatches {
		l.rates = l.rates[1:]
	}
	sorted := slices.Sorted(slices.Values(l.rates))
	run.SlowRate, run.FastRate = sorted[len(sorted)/10], sorted[len(sorted)-1-len(sorted)/10]
}

// growth is a count at an instant.
type growth struct {
	at time.Time
	n  float64
}

// within drops what is older than a minute; the newest of what is dropped stays as the minute's beginning where keep
// says so.
func within(list []growth, now time.Time, keep bool) []growth {
	first := 0
	for first < len(list) && now.Sub(list[first].at) > time.Minute {
		first++
	}
	if keep && first > 0 {
		first--
	}
	return list[first:]
}

// giveWay returns when the next batch may go: within the rule's window and budget, within what may be written to the
// log, and when the database is not under more pressure than the limits allow.
func (r *Execution) giveWay(ctx context.Context) error {
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		r.changePace()
		now := r.Now()
		if err := r.withinWindow(now); err != nil {
			return err
		}
		if err := r.withinLog(); err != nil {
			return err
		}
		r.judge(ctx, now)
		if !r.load.pressure.Rest {
			return nil
		}
		if err := r.show(ctx, true); err != nil {
			return err
		}
		begun := time.Now()
		if err := source.Rest(ctx, SampleEvery); err != nil {
			return err
		}
		r.efforts.add(catalog.EffortRest, r.load.pressure.Signal, time.Since(begun))
		r.load.asked = time.Time{}
	}
}

// judge asks for the signals, where it is time to, and puts them beside their limits.
func (r *Execution) judge(ctx context.Context, now time.Time) {
	l := &r.load
	asked := now.Sub(l.asked) >= SampleEvery
	if asked {
		done := r.awaited("asking for its signals")
		values, err := r.source.Signals(context.WithoutCancel(ctx), r.table)
		done()
		if err != nil { // the batch will say so too, and wait for the database
			r.Log.Warn("not all signals of the database can be read", "run", r.Run.ID, "error", err)
		}
		if n, ok := values[pace.Deadlocks]; ok {
			l.locks = append(within(l.locks, now, true), growth{now, n})
			values[pace.Deadlocks] = max(n-l.locks[0].n, 0)
		}
		l.values, l.asked = values, now
	}
	values := maps.Clone(l.values)
	if values == nil {
		values = map[string]float64{}
	}
	if r.logAt != nil {
		l.grown = within(l.grown, now, false)
		sum := 0.0
		for _, g := range l.grown {
			sum += g.n
		}
		values[pace.LogMinute] = sum
	}
	before := l.pressure
	l.pressure = pace.Judge(values, pace.Pace(r.Run.Pace), r.limits())
	room, why := r.free(pace.Pace(r.Run.Pace))
	l.pressure.Free, l.pressure.Why = max(room.Free, 0), why
	r.pace.Free(room)
	for _, x := range l.pressure.Readings {
		if (x.Signal == pace.Blocked || x.Signal == pace.Deadlocks) && x.Level == pace.Over && !before.Rest {
			r.pace.Shrink()
		}
	}
	r.SetReading()
	shown := l.pressure // others read it while the next is being judged
	r.Run.Pressure, r.Run.BatchRows = &shown, r.pace.Rows()
	r.slowed(now)
	if asked {
		r.moment(now)
	}
}

// deadShare of a table's rows may be dead before a run goes slower for them: more than autovacuum waits for by
// default.
const deadShare = 0.3

// limits are the rule's, with the log's and those that hang on the table's size.
func (r *Execution) limits() pace.Limits {
	out := maps.Clone(r.rule.Limits)
	if out == nil {
		out = pace.Limits{}
	}
	if r.rule.Log != nil && r.rule.Log.Minute > 0 {
		minute := float64(r.rule.Log.Minute)
		out[pace.LogMinute] = &minute
	}
	if _, named := out[pace.Dead]; !named && pace.Pace(r.Run.Pace) != pace.Unlimited {
		dead, _ := pace.FindSignal(pace.Dead)
		limit := max(dead.Limit, deadShare*float64(r.table.Rows))
		out[pace.Dead] = &limit
	}
	return out
}

// slowed keeps when and why the run goes slower.
func (r *Execution) slowed(now time.Time) {
	l, p := &r.load, r.load.pressure
	l.reason = ""
	if p.Rest {
		l.reason = "resting: " + p.Reason
	} else if p.Slow > 0 {
		l.reason = "slower: " + p.Reason
	} else if p.Why != "" {
		l.reason = "careful: " + p.Why
	}
	if l.late != "" {
		l.reason = strings.TrimPrefix(l.reason+"; "+l.late, "; ")
	}
	r.Run.Reason = l.reason
	if l.slow != nil && l.slow.Rests == p.Rest && p.Reason != "" {
		return // still; the reason stands as it was at first
	}
	r.endSlowdown(now)
	if p.Reason != "" {
		l.slow = &catalog.Slowdown{Run: r.Run.ID, Begun: catalog.At(now), Rests: p.Rest, Reason: p.Reason}
		l.unsaved = append(l.unsaved, *l.slow)
	}
}

func (r *Execution) endSlowdown(now time.Time) {
	if r.load.slow != nil {
		at := catalog.At(now)
		r.load.slow.Ended = &at
		r.load.unsaved = append(r.load.unsaved, *r.load.slow)
		r.load.slow = nil
	}
}

// withinLog stops a run that has made the log grow by as much as its rule allows.
func (r *Execution) withinLog() error {
	if r.rule.Log == nil || r.rule.Log.Run == 0 || r.Run.LogBytes == nil {
		return nil
	}
	if grown := *r.Run.LogBytes - r.load.logBase; grown >= r.rule.Log.Run {
		return &refuse.Stopped{Reason: fmt.Sprintf(
			"the database's log has grown by %s, and the rule allows %s for a run; `ambercellar run resume %s` "+
				"allows as much again", pace.Bytes.Spoken(float64(grown)), pace.Bytes.Spoken(float64(r.rule.Log.Run)),
			r.Run.ID)}
	}
	return nil
}

// withinWindow makes a run rest outside its window, or when it has taken what its budget gives it of one.
func (r *Execution) withinWindow(now time.Time) error {
	hours, err := r.hours(now)
	if err != nil || len(hours) == 0 {
		return err
	}
	zone := r.rule.Location()
	span, open := calendar.Shared(now, hours...)
	if !open {
		why := "outside its window (" + windowNames(r.rule.Windows()) + ")"
		if _, rules := calendar.At(r.rule.Windows(), now, zone); rules || len(r.rule.Window) == 0 {
			why = fmt.Sprintf("outside the window of source %s (%s)", r.Run.Source, windowNames(r.guard.Windows))
		}
		if span.From.IsZero() {
			return &refuse.Stopped{Reason: fmt.Sprintf("the windows of the rule (%s) and of source %s (%s) are never "+
				"open together; change one of them, then resume the run", windowNames(r.rule.Windows()), r.Run.Source,
				windowNames(r.guard.Windows))}
		}
		return r.restUntil(span, why, zone)
	}
	if r.Run.WindowFrom == nil || !r.Run.WindowFrom.Equal(span.From) {
		from, began := catalog.At(span.From), catalog.At(now)
		r.Run.LastWindowRows, r.Run.WindowRows = r.Run.WindowRows, 0
		r.Run.WindowFrom, r.Run.WindowBegan = &from, &began
	}
	b := r.rule.Budget
	if b == nil {
		return nil
	}
	r.load.late = r.late(span, now)
	next := calendar.SharedAfter(span, hours...)
	if b.Rows > 0 && r.Run.WindowRows >= b.Rows {
		return r.restUntil(next, fmt.Sprintf("it has taken the %d rows of its budget for this window",
			r.Run.WindowRows), zone)
	}
	if limit := b.Length(); limit > 0 && now.Sub(r.Run.WindowBegan.Time) >= limit {
		return r.restUntil(next, fmt.Sprintf("it has worked for %s, its budget for this window", b.Time), zone)
	}
	return nil
}

// earlyOn is after which share of a window it is told whether a run will take what its budget gives it, onTime the
// share of that which counts as all.
const earlyOn, onTime = 0.1, 0.8

// late says in words that a run will not take the rows of its budget in its window at the rate that it goes at; empty:
// it will, or that cannot be told yet.
func (r *Execution) late(span calendar.Span, now time.Time) string {
	b, worked := r.rule.Budget, now.Sub(r.Run.WindowBegan.Time)
	want := min(b.Rows, r.Run.WindowRows+r.Run.Due-r.Run.Done())
	if b.Rows == 0 || want <= 0 || worked.Seconds() < earlyOn*span.To.Sub(span.From).Seconds() {
		return ""
	}
	left := span.To.Sub(now)
	if limit := b.Length(); limit > 0 {
		left = min(left, limit-worked)
	}
	takes := float64(r.Run.WindowRows) * (1 + max(left.Seconds(), 0)/max(worked.Seconds(), 1))
	if takes >= onTime*float64(want) {
		return ""
	}
	return fmt.Sprintf("behind its budget: at this rate it takes about %.0f of %d rows in this window", takes, want)
}

// guardFor is how long what the guard rails of the source say of its hours is taken for granted.
const guardFor = 5 * time.Second

// hours are when the run may work: those of its rule, and those of its source.
func (r *Execution) hours(now time.Time) (out []calendar.Hours, err error) {
	if r.guarded.IsZero() || now.Sub(r.guarded).Abs() >= guardFor {
		g, err := r.Catalog.Guard(context.Background(), r.Run.Source)
		if err != nil {
			return nil, err
		}
		r.guard, r.guarded = g.Hours(), now
	}
	if len(r.rule.Window) > 0 {
		out = append(out, calendar.Hours{Windows: r.rule.Windows(), Zone: r.rule.Location()})
	}
	if len(r.guard.Windows) > 0 {
		out = append(out, r.guard)
	}
	return out, nil
}

func windowNames(windows []calendar.Window) (out string) {
	for i, w := range windows {
		if i > 0 {
			out += ", "
		}
		out += w.String()
	}
	return out
}

// restUntil says when the run goes on, and how many windows it will still take.
func (r *Execution) restUntil(next calendar.Span, why string, zone *time.Location) error {
	at := catalog.At(next.From)
	r.Run.ResumeAt = &at
	left, perWindow := r.Run.Due-r.Run.Done(), max(r.Run.WindowRows, r.Run.LastWindowRows)
	if b := r.rule.Budget; b != nil && b.Rows > 0 {
		perWindow = b.Rows
	}
	r.Run.WindowsLeft = nil
	more := ""
	if perWindow > 0 && left > 0 {
		n := (left + perWindow - 1) / perWindow
		r.Run.WindowsLeft = &n
		more = fmt.Sprintf("; %d rows are left, for about %d more windows", left, n)
		if n == 1 {
			more = fmt.Sprintf("; %d rows are left, for one more window", left)
		}
	}
	return &refuse.Resting{Until: next.From, Reason: fmt.Sprintf("%s; it goes on at %s%s", why,
		next.From.In(zone).Format("2006-01-02 15:04 MST"), more)}
}

// tellEvery is how often where a run stands is kept in the source itself.
const tellEvery = 5 * time.Second

// Tell keeps in the source where a run stands, for those who read it by SQL there. That it cannot be kept is no reason
// to stop.
func (mv *Mover) Tell(ctx context.Context, run *catalog.Run) {
	src, err := mv.Source(ctx, run.Source)
	if err == nil {
		p := source.Progress{Table: run.Table, Rule: run.Rule, Run: run.ID, Action: run.Action,
			State: string(run.State), Reason: run.Reason, Pace: run.Pace, Cutoff: run.Cutoff.Time,
			Due: run.Due, Done: run.Done(), Deleted: run.Deleted, At: mv.Now()}
		if run.ResumeAt != nil {
			p.ResumesAt = &run.ResumeAt.Time
		}
		var revisions []catalog.Revision
		if revisions, err = mv.Catalog.Revisions(ctx, run.Rule); err == nil {
			for _, v := range revisions {
				if v.Revision == run.Revision {
					p.RuleText = v.Text
				}
			}
			err = src.Show(ctx, p)
		}
	}
	if err != nil {
		mv.Log.Debug("where the run stands cannot be kept in the source", "run", run.ID, "error", err)
	}
}

// processBegun is what instants of the monotonic clock are counted from.
var processBegun = time.Now()

// haste is what the pace and pressure of the batches mean for what goes on beside them.
type haste struct {
	pace pace.Pace
	slow float64
}

// SetReading takes up the pace and pressure for what goes on beside the batches. A rest holds until the signals are
// asked for again, and a little longer: never for good, where nobody does.
func (r *Execution) SetReading() {
	r.reading.Store(&haste{pace.Pace(r.Run.Pace), r.load.pressure.Slow})
	until := time.Duration(0)
	if r.load.pressure.Rest {
		until = time.Since(processBegun) + 3*SampleEvery
		signal := r.load.pressure.Signal
		r.restsOn.Store(&signal)
	}
	r.resting.Store(int64(until))
}

// readRest is how long to rest after a piece of reading or verifying, in multiples of the time that it took.
func (r *Execution) readRest() float64 {
	h := r.reading.Load()
	room, _ := r.free(h.pace)
	return pace.ReadRest(h.pace, r.profile, room, h.slow)
}

// free returns what room there is in the database for a pace now, and why it is not all.
func (r *Execution) free(p pace.Pace) (pace.Room, string) {
	switch {
	case p != pace.Gentle:
		return p.Within(pace.Room{}), ""
	case r.watcher == nil: // a run of a test's own making
		return pace.Room{}, ""
	}
	return r.watcher.Free()
}

// freely says whether a run may take all that the database has.
func (r *Execution) freely() bool {
	room, _ := r.free(pace.Pace(r.Run.Pace))
	return room.Free == 1
}

// restFor is what the pace rests for, as its time is summed up.
func (r *Execution) restFor(p pace.Pace) string {
	if _, why := r.free(p); why != "" {
		return RestOthers
	}
	return RestPace
}

// share is the most rows that the next batch may take, of n: what is left of the budget, and what the log has room
// for.
func (r *Execution) share(n int) int {
	if b := r.rule.Budget; b != nil && b.Rows > 0 {
		n = int(min(int64(n), max(b.Rows-r.Run.WindowRows, 1)))
	}
	if l := r.rule.Log; l != nil && l.Minute > 0 && r.Run.LogBytes != nil && r.Run.Deleted > 0 {
		row := max(float64(*r.Run.LogBytes)/float64(r.Run.Deleted), 1)
		n = min(n, max(int(float64(l.Minute)/4/row), pace.MinRows))
	}
	return n
}

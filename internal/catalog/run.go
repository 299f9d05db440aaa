package catalog

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/core/pace"
)

// Run is the execution of a plan.
type Run struct {
	RunOrder
	RunTurn
	RunStanding
	RunSums
	RunWindow
	RunLive
	RunMark
	RunRates
	Ledger
}

// RunOrder is what was asked of a run.
type RunOrder struct {
	ID        string `db:"id"`
	Plan      string `db:"plan"`
	Rule      string `db:"rule"`
	Revision  int    `db:"revision"`
	Source    string `db:"source"`
	Table     string `db:"table_name"`
	Action    string `db:"action"` // archive or purge
	Store     string `db:"store"`
	Pace      string `db:"pace"`
	Cutoff    Time   `db:"cutoff"`
	Due       int64  `db:"due"` // by the plan
	Limit     int64  `db:"row_limit"`
	CreatedAt Time   `db:"created_at"`
	StartedBy string `db:"started_by"`
}

// RunTurn is when a run's turn comes.
type RunTurn struct {
	StartAt   *Time `db:"start_at"`  // not before; nil: at once
	Priority  int   `db:"priority"`  // higher ones go first; 0 is usual
	Scheduled *Time `db:"scheduled"` // the firing that it is of; nil: somebody started it
	Retries   int   `db:"retries"`   // how often it was tried again by itself after it had failed
}

// RunStanding is where a run stands, and what was decided about it.
type RunStanding struct {
	State     RunState `db:"state"`
	Reason    string   `db:"reason"` // of the state, where there is one
	StartedAt *Time    `db:"started_at"`
	EndedAt   *Time    `db:"ended_at"`
	Working   int64    `db:"working_micros"` // time spent running, pauses left out
	Emptying  bool     `db:"emptying"`       // the table is to be emptied at once, if that can be done
	// it was decided that it ends: it deletes nothing more, whoever takes it up
	Cancelling bool  `db:"cancelling"`
	Deleting   bool  `db:"deleting"`  // of a run that copies: it was decided that the rows go
	DeleteAt   *Time `db:"delete_at"` // when that is decided on its own
	ResumeAt   *Time `db:"resume_at"` // of a run that rests: when its next window opens
	// since when what its rule requires has not held; nil: it holds, or it was not asked
	UnmetSince *Time `db:"unmet_since"`
}

// RunSums is what a run has done so far.
type RunSums struct {
	RawBytes  int64 `db:"raw_bytes"`
	FileBytes int64 `db:"file_bytes"`
	// that the database's log grew by, others' writing included; nil where it is not known
	LogBytes *int64       `db:"log_bytes"`
	Slices   int          `db:"slices"` // slices whose rows are all accounted for
	Passes   JSON[[]Pass] `db:"passes"` // one for each clause that takes rows, in order
	Pass     int          `db:"pass"`   // the one that it is at
	Parts    JSON[[]Part] `db:"parts"`  // partitions that are to leave as a whole, the oldest first
}

// RunWindow is what a run does in its windows of time.
type RunWindow struct {
	WindowBegan    *Time  `db:"window_began"`     // when it began to work in the window in which it last worked
	WindowRows     int64  `db:"window_rows"`      // rows taken in that window
	LastWindowRows int64  `db:"last_window_rows"` // and in the one before
	WindowsLeft    *int64 `db:"windows_left"`     // that it will take, as far as can be told
}

// RunLive is what is known of a run while it goes on; the catalog does not keep it.
type RunLive struct {
	Pressure  *pace.Pressure `db:"-"` // of the database, while the run goes on
	BatchRows int            `db:"-"` // that the next batch will take
}

// RunMark is from where a run goes on.
type RunMark struct {
	Position   string       `db:"position"`    // age and key of the last row of the last slice that is accounted for
	Closed     JSON[Ledger] `db:"closed"`      // the ledger of those slices alone
	WindowFrom *Time        `db:"window_from"` // when the window opened in which it last worked
	Purged     int64        `db:"purged"`      // rows that it deleted without a copy
	// steps before it have begun, and those after it are still to be done
	Entered bool `db:"entered"`
}

// RunRates is how fast a run goes; the catalog does not keep it.
type RunRates struct {
	FastRate float64 `db:"-"` // rows a second of the faster ones among the last batches, rests included
	SlowRate float64 `db:"-"` // and of the slower ones
}

// Done is how many rows a run has dealt with: those that were copied, as long as copying is all that it does, and
// otherwise those that are gone or were left out.
func (r *Run) Done() int64 {
	if r.Action == "copy" && !r.Deleting {
		return r.Copied
	}
	return r.Deleted + r.LeftOut()
}

// Clone copies a run with everything that it holds, so that the copy can be read while the run goes on.
func (r *Run) Clone() *Run {
	out := *r
	out.Passes.V, out.Parts.V = slices.Clone(r.Passes.V), slices.Clone(r.Parts.V)
	for i := range out.Passes.V {
		out.Passes.V[i].Related = slices.Clone(out.Passes.V[i].Related)
	}
	for i := range out.Parts.V {
		out.Parts.V[i].Purges = slices.Clone(out.Parts.V[i].Purges)
	}
	if r.Pressure != nil {
		p := *r.Pressure
		p.Readings = slices.Clone(p.Readings)
		out.Pressure = &p
	}
	return &out
}

// AddRun keeps a new run, unless its table has one that has not ended.
func (c *Catalog) AddRun(ctx context.Context, actor string, r *Run) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		query, args, err := sqlx.In("SELECT id FROM run WHERE source = ? AND table_name = ? AND state IN (?)",
			r.Source, r.Table, ActiveRuns())
		if err != nil {
			return err
		}
		if err := c.useApproval(ctx, tx); err != nil {
			return err
		}
		r.StartedBy = actor
		others, err := list[string](ctx, tx, query, args...)
		if err != nil {
			return err
		}
		if len(others) > 0 {
			return fmt.Errorf("%w: run %s of %s.%s; resume it or cancel it first", ErrActive, others[0], r.Source,
				r.Table)
		}
		_, err = tx.NamedExecContext(ctx,
			`INSERT INTO run (id, plan, rule, revision, source, table_name, action, store, pace, cutoff, due, state,
				created_at, passes, row_limit, parts, emptying, start_at, priority, scheduled, started_by)
			VALUES (:id, :plan, :rule, :revision, :source, :table_name, :action, :store, :pace, :cutoff, :due, :state,
				:created_at, :passes, :row_limit, :parts, :emptying, :start_at, :priority, :scheduled,
				:started_by)`, r)
		if err != nil {
			return err
		}
		if err := c.firingStarted(ctx, tx, r); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "run start", r.ID, fmt.Sprintf("plan %s, rule %s revision %d, cutoff %s", r.Plan,
			r.Rule, r.Revision, r.Cutoff.Format(time.RFC3339)))
	})
}

// Run returns one run.
func (c *Catalog) Run(ctx context.Context, id string) (*Run, error) {
	return get[Run](ctx, c.db, "run", id, "SELECT * FROM run WHERE id = ?", id)
}

// RunFilter narrows a listing of runs; empty fields do not.
type RunFilter struct{ Rule, Source, Table, State string }

// Runs lists runs, the newest first.
func (c *Catalog) Runs(ctx context.Context, f RunFilter, p Page) ([]Run, error) {
	query, args := f.query()
	return paged[Run](ctx, c.db, p, newestFirst, query, args...)
}

func (f RunFilter) query() (string, []any) {
	query, args := "SELECT * FROM run WHERE true", []any{}
	for _, x := range [][2]string{{"rule", f.Rule}, {"source", f.Source}, {"table_name", f.Table},
		{"state", f.State}} {
		if x[1] != "" {
			query, args = query+" AND "+x[0]+" = ?", append(args, x[1])
		}
	}
	return query, args
}

// RunsIn lists the runs in one of the states, the oldest first.
func (c *Catalog) RunsIn(ctx context.Context, states ...RunState) ([]Run, error) {
	query, args, err := sqlx.In("SELECT * FROM run WHERE state IN (?) ORDER BY created_at", states)
	if err != nil {
		return nil, err
	}
	return list[Run](ctx, c.db, query, args...)
}

// Unended lists the newest runs that have not ended, the oldest of them first, and says how many there are in all.
func (c *Catalog) Unended(ctx context.Context, limit int) (runs []Run, all int, err error) {
	query, args, err := sqlx.In("SELECT * FROM run WHERE rowid IN (SELECT rowid FROM run WHERE state IN (?) ORDER "+
		"BY created_at DESC LIMIT ?) ORDER BY created_at", ActiveRuns(), limit)
	if err != nil {
		return nil, 0, err
	}
	if runs, err = list[Run](ctx, c.db, query, args...); err != nil || len(runs) < limit {
		return runs, len(runs), err
	}
	if query, args, err = sqlx.In("SELECT count(*) FROM run WHERE state IN (?)", ActiveRuns()); err == nil {
		err = c.db.GetContext(ctx, &all, query, args...)
	}
	return runs, all, err
}

// LastRuns lists the newest run of each of some rules.
func (c *Catalog) LastRuns(ctx context.Context, rules []string) ([]Run, error) {
	b, err := json.Marshal(rules)
	if err != nil {
		return nil, err
	}
	return list[Run](ctx, c.db, lastRunsQuery, string(b))
}

const lastRunsQuery = `SELECT run.* FROM json_each(?) one CROSS JOIN run ON run.id = (SELECT id FROM run WHERE ` +
	`rule = one.value ORDER BY created_at DESC, id DESC LIMIT 1)`

// OpenRuns lists the runs of which rows may be on their way out of a table: those that have not ended, and those of
// open segments whose run the catalog does not know.
func (c *Catalog) OpenRuns(ctx context.Context, source, table string) ([]string, error) {
	return list[string](ctx, c.db,
		`SELECT id FROM run WHERE source = ?1 AND state NOT IN ('done', 'cancelled') AND (table_name = ?2
			OR EXISTS (SELECT 1 FROM segment WHERE segment.run = run.id AND segment.table_name = ?2))
		UNION SELECT run FROM segment WHERE source = ?1 AND table_name = ?2 AND state = 'open' AND NOT EXISTS (SELECT 1
			FROM run WHERE run.id = segment.run)`, source, table)
}

// RunsSince lists the runs of a source that were made at a moment or later.
func (c *Catalog) RunsSince(ctx context.Context, source string, since Time) ([]string, error) {
	return list[string](ctx, c.db, "SELECT id FROM run WHERE source = ? AND created_at >= ?", source, since)
}

// EndedBefore lists runs of the same table that have ended, and were made before a run: the newest first, so many at
// the most.
func (c *Catalog) EndedBefore(ctx context.Context, r *Run, most int) ([]string, error) {
	return list[string](ctx, c.db,
		`SELECT id FROM run WHERE source = ? AND table_name = ? AND created_at < ? AND id <> ?
		AND state IN ('done', 'cancelled') ORDER BY created_at DESC, id DESC LIMIT ?`, r.Source, r.Table, r.CreatedAt,
		r.ID,
		most)
}

// SetRunState moves a run to another state, if that may follow.
func (c *Catalog) SetRunState(ctx context.Context, actor, id string, to RunState, reason string) (*Run, error) {
	var out *Run
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		r, err := get[Run](ctx, tx, "run", id, "SELECT * FROM run WHERE id = ?", id)
		if err != nil {
			return err
		}
		if r.State == to { // it happened already, and the ledger of it stands
			return fmt.Errorf("run %s is %s already: %w", id, to, ErrState)
		}
		if err := afterRun.refuse("run", id, r.State, to); err != nil {
			return err
		}
		now := At(c.Now())
		r.State, r.Reason = to, reason
		if to == Running && r.StartedAt == nil {
			r.StartedAt = &now
		}
		if to.Ended() {
			r.EndedAt = &now
		}
		if _, err := tx.NamedExecContext(ctx,
			"UPDATE run SET state = :state, reason = :reason, started_at = :started_at, ended_at = :ended_at WHERE "+
				"id = :id", r); err != nil {
			return err
		}
		if out = r; to.Ended() {
			if err := addToDay(ctx, tx, r); err != nil {
				return err
			}
		}
		if to == Done {
			if err := c.runDone(ctx, tx, r.Rule); err != nil {
				return err
			}
		}
		switch {
		case actor == "service" && (to == Queued || to == Running):
			return nil // nobody decided it: the run's own record tells
		case to == Done:
			reason = fmt.Sprintf("rule %s revision %d: due %d, copied %d, deleted %d, left %d %s", r.Rule, r.Revision,
				r.Due, r.Copied, r.Deleted, r.LeftOut(), reason)
		}
		return c.note(ctx, tx, actor, "run "+string(to), id, reason)
	})
	return out, err
}

// Cancelling keeps that a run is to end. From then on it deletes nothing more, however often the service is started
// anew.
func (c *Catalog) Cancelling(ctx context.Context, actor, id string) (*Run, error) {
	var out *Run
	err := c.transaction(ctx, func(tx *sqlx.Tx) (err error) {
		if out, err = get[Run](ctx, tx, "run", id, "SELECT * FROM run WHERE id = ?", id); err != nil {
			return err
		}
		if out.State.Ended() {
			return fmt.Errorf("run %s is %s: %w", id, out.State, ErrState)
		}
		out.Cancelling = true
		if _, err := tx.ExecContext(ctx, "UPDATE run SET cancelling = 1 WHERE id = ?", id); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "run cancel", id, "")
	})
	return out, err
}

// SetPace changes the pace of a run that has not ended.
func (c *Catalog) SetPace(ctx context.Context, actor, id, pace string) (*Run, error) {
	var out *Run
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		r, err := get[Run](ctx, tx, "run", id, "SELECT * FROM run WHERE id = ?", id)
		if err != nil {
			return err
		}
		if r.State.Ended() {
			return fmt.Errorf("run %s is %s, so its pace is of no use any more: %w", id, r.State, ErrState)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE run SET pace = ? WHERE id = ?", pace, id); err != nil {
			return err
		}
		before := r.Pace
		r.Pace, out = pace, r
		return c.note(ctx, tx, actor, "run pace", id, before+" → "+pace)
	})
	return out, err
}

// RunsOf lists all runs of a source.
func (c *Catalog) RunsOf(ctx context.Context, source string) ([]Run, error) {
	return list[Run](ctx, c.db, "SELECT * FROM run WHERE source = ? ORDER BY created_at", source)
}

// RetryRun keeps that a run failed and is tried again by itself at a time.
func (c *Catalog) RetryRun(ctx context.Context, id, reason string, at time.Time) (*Run, error) {
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		if err := afterRun.check(tx, "run", id, Resting); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			"UPDATE run SET state = 'resting', reason = ?, resume_at = ?, retries = retries + 1 WHERE id = ?", reason,
			At(at), id); err != nil {
			return err
		}
		return c.note(ctx, tx, "service", "run retry", id, reason)
	})
	if err != nil {
		return nil, err
	}
	return c.Run(ctx, id)
}

// SetPriority keeps which of the runs that wait goes first.
func (c *Catalog) SetPriority(ctx context.Context, actor, id string, priority int) (*Run, error) {
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		r, err := get[Run](ctx, tx, "run", id, "SELECT * FROM run WHERE id = ?", id)
		if err != nil {
			return err
		}
		if r.State.Ended() {
			return fmt.Errorf("run %s is %s: %w", id, r.State, ErrState)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE run SET priority = ? WHERE id = ?", priority, id); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "run priority", id, fmt.Sprint(priority))
	})
	if err != nil {
		return nil, err
	}
	return c.Run(ctx, id)
}

// UnendedOf lists the runs of a table that have not ended.
func (c *Catalog) UnendedOf(ctx context.Context, source, table string) ([]Run, error) {
	query, args, err := sqlx.In("SELECT * FROM run WHERE source = ? AND table_name = ? AND state IN (?)", source,
		table,
		ActiveRuns())
	if err != nil {
		return nil, err
	}
	return list[Run](ctx, c.db, query, args...)
}

// StateCounts is how many runs that have not ended are in each state.
func (c *Catalog) StateCounts(ctx context.Context) (map[RunState]int, error) {
	rows, err := list[struct {
		State RunState `db:"state"`
		N     int      `db:"n"`
	}](ctx, c.db, "SELECT state, count(*) AS n FROM run WHERE state NOT IN ('done', 'cancelled') GROUP BY state")
	out := map[RunState]int{}
	for _, r := range rows {
		out[r.State] = r.N
	}
	return out, err
}

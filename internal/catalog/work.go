package catalog

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/core/pace"
)

// Ledger is the accounting of a run: copied (purge: found) = deleted + unlinked + changed + vanished + held + skipped.
type Ledger struct {
	Copied        int64  `db:"copied" json:"copied"`
	Deleted       int64  `db:"deleted" json:"deleted"`
	Unlinked      int64  `db:"unlinked" json:"unlinked"`
	Changed       int64  `db:"changed" json:"changed"`
	Vanished      int64  `db:"vanished" json:"vanished"`
	Held          int64  `db:"held" json:"held"`
	Skipped       int64  `db:"skipped" json:"skipped"`
	CopiedDigest  string `db:"copied_digest" json:"copied_digest"`   // of all rows that were read
	DeletedDigest string `db:"deleted_digest" json:"deleted_digest"` // of the rows that the deletes reported
	LeftDigest    string `db:"left_digest" json:"left_digest"`       // of the rows that were read and left out
	Balanced      *bool  `db:"balanced" json:"balanced"`             // null until the run has ended
}

// LeftOut is how many rows were read and not deleted.
func (l *Ledger) LeftOut() int64 { return l.Unlinked + l.Changed + l.Vanished + l.Held + l.Skipped }

// Run is the execution of a plan.
type Run struct {
	ID         string       `db:"id" json:"id"`
	Plan       string       `db:"plan" json:"plan"`
	Rule       string       `db:"rule" json:"rule"`
	Revision   int          `db:"revision" json:"revision"`
	Source     string       `db:"source" json:"source"`
	Table      string       `db:"table_name" json:"table"`
	Action     string       `db:"action" json:"action"` // archive or purge
	Store      string       `db:"store" json:"store"`
	Pace       string       `db:"pace" json:"pace"`
	Cutoff     Time         `db:"cutoff" json:"cutoff"`
	Due        int64        `db:"due" json:"due"` // by the plan
	State      RunState     `db:"state" json:"state"`
	Reason     string       `db:"reason" json:"reason"` // of the state, where there is one
	CreatedAt  Time         `db:"created_at" json:"created_at"`
	StartedAt  *Time        `db:"started_at" json:"started_at"`
	EndedAt    *Time        `db:"ended_at" json:"ended_at"`
	Working    int64        `db:"working_micros" json:"working_micros"` // time spent running, pauses left out
	RawBytes   int64        `db:"raw_bytes" json:"raw_bytes"`
	FileBytes  int64        `db:"file_bytes" json:"file_bytes"`
	LogBytes   *int64       `db:"log_bytes" json:"log_bytes"` // that the database's log grew by, others' writing included; nil where it is not known
	Slices     int          `db:"slices" json:"slices"`       // slices whose rows are all accounted for
	Position   string       `db:"position" json:"-"`          // age and key of the last row of the last of them
	Closed     JSON[Ledger] `db:"closed" json:"-"`            // the ledger of those slices alone
	Passes     JSON[[]Pass] `db:"passes" json:"passes"`       // one for each clause that takes rows, in order
	Pass       int          `db:"pass" json:"pass"`           // the one that it is at
	Limit      int64        `db:"row_limit" json:"limit,omitempty"`
	Parts      JSON[[]Part] `db:"parts" json:"parts"`           // partitions that are to leave as a whole, the oldest first
	Emptying   bool         `db:"emptying" json:"emptying"`     // the table is to be emptied at once, if that can be done
	Cancelling bool         `db:"cancelling" json:"cancelling"` // it was decided that it ends: it deletes nothing more, whoever takes it up
	Deleting   bool         `db:"deleting" json:"deleting"`     // of a run that copies: it was decided that the rows go
	DeleteAt   *Time        `db:"delete_at" json:"delete_at"`   // when that is decided on its own
	ResumeAt   *Time        `db:"resume_at" json:"resume_at"`   // of a run that rests: when its next window opens

	WindowFrom     *Time  `db:"window_from" json:"-"`                     // when the window opened in which it last worked
	WindowBegan    *Time  `db:"window_began" json:"window_began"`         // and when it began to work in it
	WindowRows     int64  `db:"window_rows" json:"window_rows"`           // rows taken in that window
	LastWindowRows int64  `db:"last_window_rows" json:"last_window_rows"` // and in the one before
	WindowsLeft    *int64 `db:"windows_left" json:"windows_left"`         // that it will take, as far as can be told

	Pressure  *pace.Pressure `db:"-" json:"pressure,omitempty"`   // of the database, while the run goes on
	FastRate  float64        `db:"-" json:"-"`                    // rows a second of the faster ones among the last batches, rests included
	SlowRate  float64        `db:"-" json:"-"`                    // and of the slower ones
	BatchRows int            `db:"-" json:"batch_rows,omitempty"` // that the next batch will take
	Ledger    `json:"ledger"`
}

// Done is how many rows a run has dealt with: those that were copied, as long as copying is all that it does, and otherwise those
// that are gone or were left out.
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

// Slowdown is a time in which a run went slower than its pace, or rested, and why.
type Slowdown struct {
	Run    string `db:"run" json:"-"`
	Begun  Time   `db:"begun" json:"begun"`
	Ended  *Time  `db:"ended" json:"ended"` // nil: still
	Rests  bool   `db:"rests" json:"rests"` // it rested altogether
	Reason string `db:"reason" json:"reason"`
}

// Pass is the part of a run that takes the rows of one clause.
type Pass struct {
	Clause int    `json:"clause"`
	Label  string `json:"label"`
	Then   string `json:"then"`
	Store  string `json:"store,omitempty"`
	Cutoff Time   `json:"cutoff"`
	Due    int64  `json:"due"` // by the plan
	Ledger Ledger `json:"ledger"`

	Related []PassRelated `json:"related,omitempty"` // the tables whose rows went along
}

// Part is a partition that was to leave as a whole when the plan was made, or the table itself, if it was to be emptied at
// once.
type Part struct {
	Name    string      `json:"name"` // empty: the table
	From    string      `json:"from,omitempty"`
	To      string      `json:"to,omitempty"`
	Rows    int64       `json:"rows"` // by the plan
	State   PartState   `json:"state"`
	Reason  string      `json:"reason,omitempty"` // why its rows go one by one
	Left    int64       `json:"left"`             // rows that left with it
	Copy    int64       `json:"copy_micros"`      // time for copying and verifying
	Compare int64       `json:"compare_micros"`   // time for comparing once more, while it was aside
	Drop    int64       `json:"drop_micros"`      // time for taking it out and dropping it
	Purges  []PartPurge `json:"purges,omitempty"`
}

// PartPurge is the number of the journal row of what one clause purges with a partition.
type PartPurge struct {
	Clause int `json:"clause"`
	Number int `json:"number"`
}

// PassRelated is what a pass did in a related table.
type PassRelated struct {
	Table  string `json:"table"`
	Then   string `json:"then"`
	Store  string `json:"store,omitempty"`
	Ledger Ledger `json:"ledger"`
}

// Batch is what one delete transaction did.
type Batch struct {
	Run      string `db:"run" json:"-"`
	Segment  int    `db:"segment" json:"segment"`
	Number   int    `db:"number" json:"number"`
	Retry    bool   `db:"retry" json:"retry"`
	Rows     int    `db:"row_count" json:"rows"`
	Deleted  int    `db:"deleted" json:"deleted"`
	Changed  int    `db:"changed" json:"changed"`
	Vanished int    `db:"vanished" json:"vanished"`
	Held     int    `db:"held" json:"held"`
	Skipped  int    `db:"skipped" json:"skipped"`
	Micros   int64  `db:"micros" json:"micros"`
	At       Time   `db:"at" json:"at"`
	Rest     int64  `db:"rest_micros" json:"rest_micros"` // after it
	LogBytes *int64 `db:"log_bytes" json:"log_bytes"`     // that the database's log grew by, others' writing included
}

// Segment is one archived file of rows.
type Segment struct {
	ID           string       `db:"id" json:"id"`
	Run          string       `db:"run" json:"run"`
	Number       int          `db:"number" json:"number"`
	Clause       int          `db:"clause" json:"clause"` // of the rule, from 0
	Source       string       `db:"source" json:"source"`
	Table        string       `db:"table_name" json:"table"`
	Part         string       `db:"part" json:"part,omitempty"` // the partition that its rows were to leave with
	Store        string       `db:"store" json:"store"`
	Stem         string       `db:"stem" json:"stem"`
	State        SegmentState `db:"state" json:"state"`
	Rows         int64        `db:"row_count" json:"rows"`
	RawBytes     int64        `db:"raw_bytes" json:"raw_bytes"`
	FileBytes    int64        `db:"file_bytes" json:"file_bytes"`
	Oldest       string       `db:"oldest" json:"oldest"`
	Newest       string       `db:"newest" json:"newest"`
	Deleted      int64        `db:"deleted" json:"deleted"`
	Changed      int64        `db:"changed" json:"changed"`
	Vanished     int64        `db:"vanished" json:"vanished"`
	Held         int64        `db:"held" json:"held"`
	Skipped      int64        `db:"skipped" json:"skipped"`
	Digest       string       `db:"digest" json:"digest"`
	CreatedAt    Time         `db:"created_at" json:"created_at"`
	ClosedAt     *Time        `db:"closed_at" json:"closed_at"`
	VerifiedAt   *Time        `db:"verified_at" json:"verified_at"`
	KeepUntil    *Time        `db:"keep_until" json:"keep_until"` // by the rule's archive.keep; nil: without end
	Sequence     int64        `db:"sequence" json:"sequence"`     // of the manifest in the table's chain
	ManifestHash string       `db:"manifest_hash" json:"manifest_hash"`
	ClosingSeq   int64        `db:"closing_sequence" json:"closing_sequence"`
	ClosingHash  string       `db:"closing_hash" json:"closing_hash"`
	Second       string       `db:"second" json:"second"`       // the second store, where it lies there too
	SecondAt     *Time        `db:"second_at" json:"second_at"` // since when
	Damage       string       `db:"damage" json:"damage"`       // what was last found to be wrong with it
	Disposal     string       `db:"disposal" json:"disposal"`   // that it was destroyed by, or is being
	DisposedAt   *Time        `db:"disposed_at" json:"disposed_at"`
	DisposalSeq  int64        `db:"disposal_sequence" json:"disposal_sequence"`
	Erased       bool         `db:"erased" json:"erased"` // it was destroyed for an erasure: what stayed of it is in another segment
	DisposalHash string       `db:"disposal_hash" json:"disposal_hash"`
	RowsStore    string       `db:"rows_store" json:"rows_store"`   // where its rows lie, if not with its records in Store
	Moving       string       `db:"moving" json:"moving,omitempty"` // the store to which its rows are being moved
	Leaving      string       `db:"leaving" json:"-"`               // a store that its rows have left, and whose files of them are still to be removed
	Cold         bool         `db:"cold" json:"cold"`               // its rows have to be retrieved before they can be read
	WarmUntil    *Time        `db:"warm_until" json:"warm_until"`   // a retrieved copy is there until then
	WantSecond   string       `db:"want_second" json:"want_second"` // the store for its second copy, by its rule; empty: as its store says
	ColdStore    string       `db:"cold_store" json:"cold_store"`   // where its rows are to move, by its rule
	ColdAt       *Time        `db:"cold_at" json:"cold_at"`         // and when
	Rule         string       `db:"rule" json:"rule"`               // that archived it
	Shape        *int64       `db:"shape" json:"-"`                 // what it looks like, in segment_shape; nil: not known yet
	Span         *int64       `db:"span" json:"-"`                  // where its keys lie, in segment_span
	Rewrites     string       `db:"rewrites" json:"rewrites"`       // the segment of whose rows it holds those that stayed when the others were destroyed
}

// RowsIn is the store in which its rows lie.
func (s *Segment) RowsIn() string {
	if s.RowsStore != "" {
		return s.RowsStore
	}
	return s.Store
}

// Stores lists the stores in which it lies, in whole or in part.
func (s *Segment) Stores() []string {
	out := []string{s.Store}
	for _, name := range []string{s.RowsStore, s.Second} {
		if name != "" {
			out = append(out, name)
		}
	}
	return out
}

// Asleep says whether its rows cannot be read before they are retrieved. A second copy is warm.
func (s *Segment) Asleep(now time.Time) bool {
	return s.Cold && s.Second == "" && (s.WarmUntil == nil || !now.Before(s.WarmUntil.Time))
}

// ErrState is wrapped where a state does not allow what is asked.
var ErrState = errors.New("the state does not allow it")

// ErrActive says that a table has a run that has not ended.
var ErrActive = errors.New("the table has a run that has not ended")

// AddRun keeps a new run, unless its table has one that has not ended.
func (c *Catalog) AddRun(ctx context.Context, actor string, r *Run) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		query, args, err := sqlx.In("SELECT id FROM run WHERE source = ? AND table_name = ? AND state IN (?)", r.Source, r.Table, ActiveRuns())
		if err != nil {
			return err
		}
		others, err := list[string](ctx, tx, query, args...)
		if err != nil {
			return err
		}
		if len(others) > 0 {
			return fmt.Errorf("%w: run %s of %s.%s; resume it or cancel it first", ErrActive, others[0], r.Source, r.Table)
		}
		_, err = tx.NamedExecContext(ctx, `INSERT INTO run (id, plan, rule, revision, source, table_name, action, store, pace, cutoff, due, state, created_at, passes, row_limit, parts, emptying)
			VALUES (:id, :plan, :rule, :revision, :source, :table_name, :action, :store, :pace, :cutoff, :due, :state, :created_at, :passes, :row_limit, :parts, :emptying)`, r)
		if err != nil {
			return err
		}
		return note(ctx, tx, actor, "run start", r.ID, fmt.Sprintf("plan %s, rule %s revision %d, cutoff %s", r.Plan, r.Rule, r.Revision, r.Cutoff.Format(time.RFC3339)))
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
	for _, x := range [][2]string{{"rule", f.Rule}, {"source", f.Source}, {"table_name", f.Table}, {"state", f.State}} {
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
	query, args, err := sqlx.In("SELECT * FROM run WHERE rowid IN (SELECT rowid FROM run WHERE state IN (?) ORDER BY created_at DESC LIMIT ?) ORDER BY created_at", ActiveRuns(), limit)
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

const lastRunsQuery = `SELECT run.* FROM json_each(?) one CROSS JOIN run ON run.id = (SELECT id FROM run WHERE rule = one.value ORDER BY created_at DESC, id DESC LIMIT 1)`

// OpenRuns lists the runs of which rows may be on their way out of a table: those that have not ended, and those of open segments whose run
// the catalog does not know.
func (c *Catalog) OpenRuns(ctx context.Context, source, table string) ([]string, error) {
	return list[string](ctx, c.db, `SELECT id FROM run WHERE source = ?1 AND state NOT IN ('done', 'cancelled') AND (table_name = ?2 OR EXISTS (SELECT 1 FROM segment WHERE segment.run = run.id AND segment.table_name = ?2))
		UNION SELECT run FROM segment WHERE source = ?1 AND table_name = ?2 AND state = 'open' AND NOT EXISTS (SELECT 1 FROM run WHERE run.id = segment.run)`, source, table)
}

// RunsSince lists the runs of a source that were made at a moment or later.
func (c *Catalog) RunsSince(ctx context.Context, source string, since Time) ([]string, error) {
	return list[string](ctx, c.db, "SELECT id FROM run WHERE source = ? AND created_at >= ?", source, since)
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
		now := At(time.Now())
		r.State, r.Reason = to, reason
		if to == Running && r.StartedAt == nil {
			r.StartedAt = &now
		}
		if to.Ended() {
			r.EndedAt = &now
		}
		if _, err := tx.NamedExecContext(ctx, "UPDATE run SET state = :state, reason = :reason, started_at = :started_at, ended_at = :ended_at WHERE id = :id", r); err != nil {
			return err
		}
		out = r
		return note(ctx, tx, actor, "run "+string(to), id, reason)
	})
	return out, err
}

// Cancelling keeps that a run is to end. From then on it deletes nothing more, however often the service is started anew.
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
		return note(ctx, tx, actor, "run cancel", id, "")
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
		return note(ctx, tx, actor, "run pace", id, before+" → "+pace)
	})
	return out, err
}

// SaveProgress keeps a run's counts, and the batches done and the times gone slowly since the last time.
func (c *Catalog) SaveProgress(ctx context.Context, r *Run, batches []Batch, slow ...Slowdown) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx, `UPDATE run SET copied = :copied, deleted = :deleted, unlinked = :unlinked, changed = :changed, vanished = :vanished, held = :held,
			skipped = :skipped, copied_digest = :copied_digest, deleted_digest = :deleted_digest, left_digest = :left_digest, balanced = :balanced,
			raw_bytes = :raw_bytes, file_bytes = :file_bytes, log_bytes = :log_bytes, working_micros = :working_micros, slices = :slices, position = :position, closed = :closed, passes = :passes, pass = :pass, parts = :parts, emptying = :emptying, deleting = :deleting, delete_at = :delete_at,
			resume_at = :resume_at, window_from = :window_from, window_began = :window_began, window_rows = :window_rows, last_window_rows = :last_window_rows, windows_left = :windows_left WHERE id = :id`, r); err != nil {
			return err
		}
		for _, b := range batches {
			if _, err := tx.NamedExecContext(ctx, `INSERT OR REPLACE INTO batch (run, segment, number, retry, row_count, deleted, changed, vanished, held, skipped, micros, at, rest_micros, log_bytes)
				VALUES (:run, :segment, :number, :retry, :row_count, :deleted, :changed, :vanished, :held, :skipped, :micros, :at, :rest_micros, :log_bytes)`, b); err != nil {
				return err
			}
		}
		for _, s := range slow {
			if _, err := tx.NamedExecContext(ctx, "INSERT OR REPLACE INTO slowdown (run, begun, ended, rests, reason) VALUES (:run, :begun, :ended, :rests, :reason)", s); err != nil {
				return err
			}
		}
		return nil
	})
}

// Slowdowns lists the times in which a run went slower than its pace, the newest first.
func (c *Catalog) Slowdowns(ctx context.Context, run string, p Page) ([]Slowdown, error) {
	return paged[Slowdown](ctx, c.db, p, order{columns: []string{"begun"}}, "SELECT * FROM slowdown WHERE run = ?", run)
}

// Batches lists the batches of a run, the newest first.
func (c *Catalog) Batches(ctx context.Context, run string, p Page) ([]Batch, error) {
	return paged[Batch](ctx, c.db, p, order{columns: []string{"segment", "number"}}, "SELECT * FROM batch WHERE run = ?", run)
}

// AddSegment keeps a new segment, before the first byte of it is written.
func (c *Catalog) AddSegment(ctx context.Context, s *Segment) error {
	_, err := c.writes.NamedExecContext(ctx, `INSERT INTO segment (id, run, number, clause, source, table_name, part, store, stem, state, created_at, rows_store, cold, warm_until, rewrites, rule)
		VALUES (:id, :run, :number, :clause, :source, :table_name, :part, :store, :stem, :state, :created_at, :rows_store, :cold, :warm_until, :rewrites, :rule)`, s)
	return err
}

// SaveSegment keeps all of a segment and moves it to its state, if that may follow.
func (c *Catalog) SaveSegment(ctx context.Context, s *Segment) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		before, err := get[Segment](ctx, tx, "segment", s.ID, "SELECT * FROM segment WHERE id = ?", s.ID)
		if err != nil {
			return err
		}
		if err := afterSegment.refuse("segment", s.ID, before.State, s.State); err != nil {
			return err
		}
		_, err = tx.NamedExecContext(ctx, `UPDATE segment SET state = :state, row_count = :row_count, raw_bytes = :raw_bytes, file_bytes = :file_bytes, oldest = :oldest, newest = :newest,
			deleted = :deleted, changed = :changed, vanished = :vanished, held = :held, skipped = :skipped, digest = :digest, closed_at = :closed_at, verified_at = :verified_at,
			keep_until = :keep_until, want_second = :want_second, cold_store = :cold_store, cold_at = :cold_at, sequence = :sequence, manifest_hash = :manifest_hash,
			closing_sequence = :closing_sequence, closing_hash = :closing_hash,
			erased = :erased, disposal = :disposal, disposed_at = :disposed_at, disposal_sequence = :disposal_sequence, disposal_hash = :disposal_hash WHERE id = :id`, s)
		return err
	})
}

// segmentColumns are those of a segment that is taken up from its store.
const segmentColumns = "id, run, number, clause, source, table_name, part, store, stem, state, row_count, raw_bytes, file_bytes, oldest, newest, deleted, changed, vanished, held, skipped, digest, created_at, closed_at, keep_until, sequence, manifest_hash, " +
	"closing_sequence, closing_hash, disposal, disposed_at, disposal_sequence, disposal_hash, erased, rows_store, second, second_at, cold, warm_until, rewrites, rule"

// Adopt keeps a segment that was found in a store, in one step.
func (c *Catalog) Adopt(ctx context.Context, s *Segment) error {
	_, err := c.writes.NamedExecContext(ctx, "INSERT INTO segment ("+segmentColumns+") VALUES (:"+strings.ReplaceAll(segmentColumns, ", ", ", :")+")", s)
	return err
}

// TakeUp keeps what the store of a known segment tells of it, in one step: after the catalog was turned back, or an adoption interrupted,
// any state may follow any other.
func (c *Catalog) TakeUp(ctx context.Context, s *Segment) error {
	var set []string
	for _, name := range strings.Split(segmentColumns, ", ") {
		set = append(set, name+" = :"+name)
	}
	return changed(c.writes.NamedExecContext(ctx, "UPDATE segment SET "+strings.Join(set, ", ")+" WHERE id = :id", s))
}

// Segment returns one segment.
func (c *Catalog) Segment(ctx context.Context, id string) (*Segment, error) {
	return get[Segment](ctx, c.db, "segment", id, "SELECT * FROM segment WHERE id = ?", id)
}

// SegmentFilter narrows a listing of segments; empty fields do not.
type SegmentFilter struct {
	Run, Source, Table, State string
	Ungoverned                bool // those alone whose rule is not there any more
	Archived                  bool // open and closed ones, in place of a state
}

// Segments lists segments, the newest first; abandoned ones only where they are asked for.
func (c *Catalog) Segments(ctx context.Context, f SegmentFilter, p Page) ([]Segment, error) {
	query, args := f.query()
	return paged[Segment](ctx, c.db, p, segmentOrder, query, args...)
}

// NewestNumber returns the greatest of some numbers under which a run has an open or closed segment of a table; 0: none.
func (c *Catalog) NewestNumber(ctx context.Context, run, table string, numbers []int) (n int, err error) {
	b, err := json.Marshal(numbers)
	if err == nil {
		err = c.db.GetContext(ctx, &n, "SELECT coalesce(max(number), 0) FROM segment WHERE run = ? AND table_name = ? AND state IN ('open', 'closed') AND number IN (SELECT value FROM json_each(?))", run, table, string(b))
	}
	return n, err
}

// atOnce is how many items of a list are in memory where it is gone through.
const atOnce = 500

// EachSegment goes through segments, the oldest first.
func (c *Catalog) EachSegment(ctx context.Context, f SegmentFilter) iter.Seq2[*Segment, error] {
	return func(yield func(*Segment, error) bool) {
		query, args := f.query()
		up := segmentOrder
		up.up = true
		for page := First(atOnce); ; {
			some, err := paged[Segment](ctx, c.db, page, up, query, args...)
			if err != nil {
				yield(nil, err)
				return
			}
			for i := range some {
				if !yield(&some[i], nil) {
					return
				}
			}
			if len(some) < atOnce {
				return
			}
			page.After = some[len(some)-1].Place()
		}
	}
}

var segmentOrder = order{columns: []string{"created_at", "number", "id"}}

// query asks for what the filter names, and nothing else, so that an index can serve it.
func (f SegmentFilter) query() (string, []any) {
	where, args := []string{"state <> 'abandoned'"}, []any{}
	if f.State != "" {
		where, args = []string{"state = ?"}, []any{f.State}
	}
	if f.Archived {
		where, args = []string{"state IN ('open', 'closed')"}, []any{}
	}
	for _, x := range [][2]string{{"run", f.Run}, {"source", f.Source}, {"table_name", f.Table}} {
		if x[1] != "" {
			where, args = append(where, x[0]+" = ?"), append(args, x[1])
		}
	}
	if f.Ungoverned {
		where = append(where, "state <> 'disposed' AND NOT EXISTS (SELECT 1 FROM rule WHERE rule.name = segment.rule)")
	}
	return "SELECT * FROM segment WHERE " + strings.Join(where, " AND "), args
}

// ArchivedTable is a table of which closed segments are there.
type ArchivedTable struct {
	Source string `db:"source" json:"source"`
	Table  string `db:"table_name" json:"table"`
}

// ArchivedTables lists the tables of which segments are there, in order of source and table: those of a text in their names.
func (c *Catalog) ArchivedTables(ctx context.Context, text string, p Page) ([]ArchivedTable, error) {
	by := []any{"", ""}
	if p.After != "" {
		var err error
		if by, err = p.behind(2); err != nil {
			return nil, err
		}
	}
	return list[ArchivedTable](ctx, c.db, archivedQuery, by[0], by[1], text, p.Limit)
}

// archivedQuery goes by the shapes of segments, however many segments each has. Both halves come in order, so that a page reads no more than it shows.
const archivedQuery = `SELECT source, table_name FROM segment_shape WHERE segments > 0 AND (source, table_name) > (?1, ?2) AND instr(lower(source || '.' || table_name), lower(?3)) > 0
	UNION SELECT source, table_name FROM segment INDEXED BY segment_unspanned
		WHERE span IS NULL AND state IN ('open', 'closed') AND (source, table_name) > (?1, ?2) AND instr(lower(source || '.' || table_name), lower(?3)) > 0 ORDER BY source, table_name LIMIT ?4`

// RunSegments lists all segments of a run, abandoned ones among them, in order of their number.
func (c *Catalog) RunSegments(ctx context.Context, run string) ([]Segment, error) {
	return list[Segment](ctx, c.db, "SELECT * FROM segment WHERE run = ? ORDER BY number", run)
}

// SegmentSums is what the segments of a table sum up to, in rows that left the table.
type SegmentSums struct {
	Archived int64 `db:"archived"`
	Disposed int64 `db:"disposed"`
	Erased   int64 `db:"erased"`
	Adopted  int64 `db:"adopted"` // of both, those of runs that the catalog does not know
}

// SegmentSums sums up the segments of a table, those of some runs aside. Of a segment that was parted, the rows that stayed are in its successor.
func (c *Catalog) SegmentSums(ctx context.Context, source, table string, aside []string) (*SegmentSums, error) {
	runs, err := JSON[[]string]{append([]string{}, aside...)}.Value()
	if err != nil {
		return nil, err
	}
	return get[SegmentSums](ctx, c.db, "table", source+"."+table, `SELECT coalesce(sum(deleted) FILTER (WHERE state IN ('open', 'closed')), 0) AS archived,
		coalesce(sum(deleted) FILTER (WHERE state = 'disposed' AND NOT erased), 0) - coalesce(sum(deleted) FILTER (WHERE rewrites <> '' AND NOT (SELECT o.erased FROM segment o WHERE o.id = segment.rewrites)), 0) AS disposed,
		coalesce(sum(deleted) FILTER (WHERE state = 'disposed' AND erased), 0) - coalesce(sum(deleted) FILTER (WHERE rewrites <> '' AND (SELECT o.erased FROM segment o WHERE o.id = segment.rewrites)), 0) AS erased,
		coalesce(sum(deleted) FILTER (WHERE state IN ('open', 'closed', 'disposed') AND rewrites = '' AND NOT EXISTS (SELECT 1 FROM run WHERE run.id = segment.run)), 0) AS adopted
		FROM segment WHERE source = ? AND table_name = ? AND run NOT IN (SELECT value FROM json_each(?))`, source, table, runs)
}

// RunsOf lists all runs of a source.
func (c *Catalog) RunsOf(ctx context.Context, source string) ([]Run, error) {
	return list[Run](ctx, c.db, "SELECT * FROM run WHERE source = ? ORDER BY created_at", source)
}

// LastLink returns the newest link of a table's chain that the catalog knows of: its sequence, 0 for none, and hash.
func (c *Catalog) LastLink(ctx context.Context, source, table string) (sequence int64, hash string, err error) {
	var last []struct {
		Sequence int64  `db:"n"`
		Hash     string `db:"hash"`
	}
	err = c.db.SelectContext(ctx, &last, lastLinkQuery, source, table)
	if err != nil || len(last) == 0 {
		return 0, "", err
	}
	return last[0].Sequence, last[0].Hash, nil
}

// lastLinkQuery takes the newest of each kind of record by its index.
const lastLinkQuery = `SELECT * FROM (SELECT sequence AS n, manifest_hash AS hash FROM segment WHERE source = ?1 AND table_name = ?2 ORDER BY sequence DESC LIMIT 1)
	UNION ALL SELECT * FROM (SELECT closing_sequence, closing_hash FROM segment WHERE source = ?1 AND table_name = ?2 ORDER BY closing_sequence DESC LIMIT 1)
	UNION ALL SELECT * FROM (SELECT disposal_sequence, disposal_hash FROM segment WHERE source = ?1 AND table_name = ?2 ORDER BY disposal_sequence DESC LIMIT 1) ORDER BY n DESC LIMIT 1`

// Totals is what the overview sums up.
type Totals struct {
	Segments  int64 `db:"segments" json:"segments"`
	Rows      int64 `db:"row_count" json:"rows"`
	RawBytes  int64 `db:"raw_bytes" json:"raw_bytes"`
	FileBytes int64 `db:"file_bytes" json:"file_bytes"`
	Purged    int64 `db:"purged" json:"purged"`
	Sources   int   `db:"sources" json:"-"`
	Rules     int   `db:"rules" json:"-"`
}

// Totals sums up the archive and what was purged.
func (c *Catalog) Totals(ctx context.Context) (*Totals, error) {
	return get[Totals](ctx, c.db, "archive", "totals", totalsQuery)
}

const totalsQuery = `SELECT coalesce(sum(segments), 0) AS segments, coalesce(sum(deleted), 0) AS row_count, coalesce(sum(raw_bytes), 0) AS raw_bytes,
	coalesce(sum(file_bytes), 0) AS file_bytes, (SELECT coalesce(sum(deleted), 0) FROM run WHERE action = 'purge') + coalesce((SELECT CAST(value AS INTEGER) FROM setting WHERE name = '` + purgedSetting + `'), 0) AS purged,
	(SELECT count(*) FROM source) AS sources, (SELECT count(*) FROM rule) AS rules FROM segment_sum`

// LinkSegment returns the segment of which a record is the link of a sequence.
func (c *Catalog) LinkSegment(ctx context.Context, source, table string, sequence int64) (*Segment, error) {
	return get[Segment](ctx, c.db, "link of the chain of", source+"."+table, linkQuery, source, table, sequence)
}

const linkQuery = `SELECT * FROM segment WHERE source = ?1 AND table_name = ?2 AND sequence = ?3 UNION ALL SELECT * FROM segment WHERE source = ?1 AND table_name = ?2 AND closing_sequence = ?3
	UNION ALL SELECT * FROM segment WHERE source = ?1 AND table_name = ?2 AND disposal_sequence = ?3 LIMIT 1`

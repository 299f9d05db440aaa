package catalog

import (
	"context"
	"encoding/json"
	"iter"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// Segment is one archived file of rows.
type Segment struct {
	SegmentOrigin
	SegmentContent
	SegmentChain
	SegmentPlaces
	SegmentEnd
	SegmentMark
}

// SegmentOrigin is what a segment is of, and where it was put.
type SegmentOrigin struct {
	ID        string       `db:"id"`
	Run       string       `db:"run"`
	Rule      string       `db:"rule"` // that archived it
	Number    int          `db:"number"`
	Clause    int          `db:"clause"` // of the rule, from 0
	Source    string       `db:"source"`
	Table     string       `db:"table_name"`
	Part      string       `db:"part"` // the partition that its rows were to leave with
	Store     string       `db:"store"`
	Stem      string       `db:"stem"`
	State     SegmentState `db:"state"`
	CreatedAt Time         `db:"created_at"`
	// the segment of whose rows it holds those that stayed when the others were destroyed
	Rewrites string `db:"rewrites"`
}

// SegmentContent is what is in a segment, and what became of its rows.
type SegmentContent struct {
	Rows       int64  `db:"row_count"`
	RawBytes   int64  `db:"raw_bytes"`
	FileBytes  int64  `db:"file_bytes"`
	Oldest     string `db:"oldest"`
	Newest     string `db:"newest"`
	Digest     string `db:"digest"`
	Deleted    int64  `db:"deleted"`
	Changed    int64  `db:"changed"`
	Vanished   int64  `db:"vanished"`
	Held       int64  `db:"held"`
	Skipped    int64  `db:"skipped"`
	ClosedAt   *Time  `db:"closed_at"`
	VerifiedAt *Time  `db:"verified_at"`
	Damage     string `db:"damage"` // what was last found to be wrong with it
}

// SegmentChain is where the records of a segment stand in the chain of its table.
type SegmentChain struct {
	Sequence     int64  `db:"sequence"` // of the manifest in the table's chain
	ManifestHash string `db:"manifest_hash"`
	ClosingSeq   int64  `db:"closing_sequence"`
	ClosingHash  string `db:"closing_hash"`
	DisposalSeq  int64  `db:"disposal_sequence"`
	DisposalHash string `db:"disposal_hash"`
}

// SegmentPlaces is where a segment lies, and is to lie.
type SegmentPlaces struct {
	RowsStore  string `db:"rows_store"`  // where its rows lie, if not with its records in Store
	Moving     string `db:"moving"`      // the store to which its rows are being moved
	Second     string `db:"second"`      // the second store, where it lies there too
	SecondAt   *Time  `db:"second_at"`   // since when
	WantSecond string `db:"want_second"` // the store for its second copy, by its rule; empty: as its store says
	Cold       bool   `db:"cold"`        // its rows have to be retrieved before they can be read
	WarmUntil  *Time  `db:"warm_until"`  // a retrieved copy is there until then
	ColdStore  string `db:"cold_store"`  // where its rows are to move, by its rule
	ColdAt     *Time  `db:"cold_at"`     // and when
}

// SegmentEnd is how long a segment is kept, and how it ended.
type SegmentEnd struct {
	KeepUntil  *Time  `db:"keep_until"` // by the rule's archive.keep; nil: without end
	Disposal   string `db:"disposal"`   // that it was destroyed by, or is being
	DisposedAt *Time  `db:"disposed_at"`
	Erased     bool   `db:"erased"` // it was destroyed for an erasure: what stayed of it is in another segment
}

// SegmentMark is what only the catalog needs to know of a segment.
type SegmentMark struct {
	MovingBy string `db:"moving_by"` // who asked for the move that Moving tells of
	MovingAt *Time  `db:"moving_at"`
	Leaving  string `db:"leaving"` // a store that its rows have left, and whose files of them are still to be removed
	Shape    *int64 `db:"shape"`   // what it looks like, in segment_shape; nil: not known yet
	Span     *int64 `db:"span"`    // where its keys lie, in segment_span
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

// AddSegment keeps a new segment, before the first byte of it is written.
func (c *Catalog) AddSegment(ctx context.Context, s *Segment) error {
	_, err := c.writes.NamedExecContext(ctx,
		`INSERT INTO segment (id, run, number, clause, source, table_name, part, store, stem, state, created_at,
			rows_store, cold, warm_until, rewrites, rule)
		VALUES (:id, :run, :number, :clause, :source, :table_name, :part, :store, :stem, :state, :created_at,
			:rows_store, :cold, :warm_until, :rewrites, :rule)`, s)
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
		_, err = tx.NamedExecContext(ctx,
			`UPDATE segment SET state = :state, row_count = :row_count, raw_bytes = :raw_bytes,
				file_bytes = :file_bytes, oldest = :oldest, newest = :newest,
			deleted = :deleted, changed = :changed, vanished = :vanished, held = :held, skipped = :skipped,
				digest = :digest, closed_at = :closed_at, verified_at = :verified_at,
			keep_until = :keep_until, want_second = :want_second, cold_store = :cold_store, cold_at = :cold_at,
				sequence = :sequence, manifest_hash = :manifest_hash,
			closing_sequence = :closing_sequence, closing_hash = :closing_hash,
			erased = :erased, disposal = :disposal, disposed_at = :disposed_at, disposal_sequence = :disposal_sequence,
				disposal_hash = :disposal_hash WHERE id = :id`, s)
		return err
	})
}

// segmentColumns are those of a segment that is taken up from its store.
const segmentColumns = "id, run, number, clause, source, table_name, part, store, stem, state, row_count, " +
	"raw_bytes, file_bytes, oldest, newest, deleted, changed, vanished, held, skipped, digest, created_at, " +
	"closed_at, keep_until, sequence, manifest_hash, " +
	"closing_sequence, closing_hash, disposal, disposed_at, disposal_sequence, disposal_hash, erased, rows_store, " +
	"second, second_at, cold, warm_until, rewrites, rule"

// Adopt keeps a segment that was found in a store, in one step.
func (c *Catalog) Adopt(ctx context.Context, s *Segment) error {
	_, err := c.writes.NamedExecContext(ctx, "INSERT INTO segment ("+segmentColumns+") VALUES (:"+
		strings.ReplaceAll(segmentColumns, ", ", ", :")+")", s)
	return err
}

// TakeUp keeps what the store of a known segment tells of it, in one step: after the catalog was turned back, or an
// adoption interrupted, any state may follow any other.
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

// NewestNumber returns the greatest of some numbers under which a run has an open or closed segment of a table; 0:
// none.
func (c *Catalog) NewestNumber(ctx context.Context, run, table string, numbers []int) (n int, err error) {
	b, err := json.Marshal(numbers)
	if err == nil {
		err = c.db.GetContext(ctx, &n,
			"SELECT coalesce(max(number), 0) FROM segment WHERE run = ? AND table_name = ? AND state IN ('open', "+
				"'closed') AND number IN (SELECT value FROM json_each(?))", run, table, string(b))
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
	Source string `db:"source"`
	Table  string `db:"table_name"`
}

// ArchivedTables lists the tables of which segments are there, in order of source and table: those of a text in their
// names.
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

// archivedQuery goes by the shapes of segments, however many segments each has. Both halves come in order, so that a
// page reads no more than it shows.
const archivedQuery = `SELECT source, table_name FROM segment_shape WHERE segments > 0 AND (source, table_name) > (?1,
	?2) AND instr(lower(source || '.' || table_name), lower(?3)) > 0
	UNION SELECT source, table_name FROM segment INDEXED BY segment_unspanned
		WHERE span IS NULL AND state IN ('open', 'closed') AND (source, table_name) > (?1, ?2)
			AND instr(lower(source || '.' || table_name), lower(?3)) > 0 ORDER BY source, table_name LIMIT ?4`

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

// SegmentSums sums up the segments of a table, those of some runs aside. Of a segment that was parted, the rows that
// stayed are in its successor.
func (c *Catalog) SegmentSums(ctx context.Context, source, table string, aside []string) (*SegmentSums, error) {
	runs, err := JSON[[]string]{append([]string{}, aside...)}.Value()
	if err != nil {
		return nil, err
	}
	return get[SegmentSums](ctx, c.db, "table", source+"."+table,
		`SELECT coalesce(sum(deleted) FILTER (WHERE state IN ('open', 'closed')), 0) AS archived,
		coalesce(sum(deleted) FILTER (WHERE state = 'disposed' AND NOT erased),
			0) - coalesce(sum(deleted) FILTER (WHERE rewrites <> '' AND NOT (SELECT o.erased FROM segment o
			WHERE o.id = segment.rewrites)), 0) AS disposed,
		coalesce(sum(deleted) FILTER (WHERE state = 'disposed' AND erased),
			0) - coalesce(sum(deleted) FILTER (WHERE rewrites <> '' AND (SELECT o.erased FROM segment o
			WHERE o.id = segment.rewrites)), 0) AS erased,
		coalesce(sum(deleted) FILTER (WHERE state IN ('open', 'closed', 'disposed') AND rewrites = ''
			AND NOT EXISTS (SELECT 1 FROM run WHERE run.id = segment.run)), 0) AS adopted
		FROM segment WHERE source = ? AND table_name = ? AND run NOT IN (SELECT value FROM json_each(?))`, source,
		table, runs)
}

package catalog

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/core/shape"
)

// SpanColumns is how many columns of a key the spans of segments are of.
const SpanColumns = 2

// Span is from where to where the values of one column lie, made coarse (archive.Coarse).
type Span struct{ Low, High float64 }

// Anywhere is the span of a column of which nothing is known.
var Anywhere = Span{-math.MaxFloat32, math.MaxFloat32}

// Shape is what segments of a table look like that have the same columns.
type Shape struct {
	ID       int64                `db:"id"`
	Source   string               `db:"source"`
	Table    string               `db:"table_name"`
	Columns  JSON[[]shape.Column] `db:"columns"`
	Numbered string               `db:"numbered"` // where the numbers of the columns hold
	Key      JSON[[]string]       `db:"key"`
	Newest   string               `db:"newest"` // when the newest segment of it was made
	Segments int                  `db:"segments"`
}

// Spanned keeps what a segment looks like and where its keys lie. It is never changed: neither do the rows.
func (c *Catalog) Spanned(ctx context.Context, s *Segment, x Shape, spans [SpanColumns]Span) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		x.Source, x.Table = s.Source, s.Table
		at, _ := s.CreatedAt.Value() // it always has one
		x.Newest, x.Segments = at.(string), 0
		rows, err := tx.NamedQuery(
			`INSERT INTO segment_shape (source, table_name, columns, numbered, key, newest) VALUES (:source,
				:table_name, :columns, :numbered, :key, :newest)
			ON CONFLICT DO UPDATE SET newest = max(newest, excluded.newest) RETURNING id`, x)
		if err != nil {
			return err
		}
		if rows.Next() {
			err = rows.Scan(&x.ID)
		}
		if rows.Close(); err != nil || x.ID == 0 {
			return fmt.Errorf("the shape of segment %s cannot be kept: %w", s.ID, err)
		}
		var there bool
		if err := tx.GetContext(ctx, &there,
			"SELECT state IN ('open', 'closed') AND span IS NULL FROM segment WHERE id = ?", s.ID); err != nil ||
			!there {
			return err
		}
		done, err := tx.ExecContext(ctx,
			"INSERT INTO segment_span (shape_low, shape_high, low1, high1, low2, high2) VALUES (?, ?, ?, ?, ?, ?)",
			x.ID, x.ID, spans[0].Low, spans[0].High, spans[1].Low, spans[1].High)
		if err != nil {
			return err
		}
		id, err := done.LastInsertId()
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE segment SET shape = ?, span = ? WHERE id = ?", x.ID, id,
			s.ID); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "UPDATE segment_shape SET segments = segments + 1 WHERE id = ?", x.ID)
		return err
	})
}

// Unspanned lists segments of which it is not known where their keys lie, behind one, in the order of their ids.
func (c *Catalog) Unspanned(ctx context.Context, after string, limit int) ([]Segment, error) {
	return list[Segment](ctx, c.db, unspannedQuery, after, limit)
}

const unspannedQuery = "SELECT * FROM segment WHERE span IS NULL AND state IN ('open', 'closed') AND id > ? ORDER " +
	"BY id LIMIT ?"

// ShapesOf lists what the segments of a table look like that are there, the newest first.
func (c *Catalog) ShapesOf(ctx context.Context, source, table string) ([]Shape, error) {
	return list[Shape](ctx, c.db, shapesQuery, source, table)
}

const shapesQuery = `SELECT * FROM segment_shape x WHERE source = ? AND table_name = ? AND segments > 0 ORDER BY ` +
	`newest DESC, id DESC`

// Probe is a place in the spans of the segments of a shape.
type Probe struct {
	Shape int64
	At    [SpanColumns]*float64 // nil: anywhere
}

// Within lists the open and closed segments of a table that can have rows at one of some places, and those of which
// that is not known, or that are of one of some runs: the newest first. unknown is how many there are of which it is
// not known.
func (c *Catalog) Within(ctx context.Context, source, table string, probes []Probe, runs []string) (segments []Segment,
	unknown int, err error) {
	found := map[string]bool{}
	add := func(ids []string, err error) error {
		for _, id := range ids {
			found[id] = true
		}
		return err
	}
	if err := add(list[string](ctx, c.db, unspannedOfQuery, source, table)); err != nil {
		return nil, 0, err
	}
	unknown = len(found)
	for _, run := range runs {
		if err := add(list[string](ctx, c.db,
			"SELECT id FROM segment WHERE run = ? AND table_name = ? AND state IN ('open', 'closed')", run,
			table)); err != nil {
			return nil, 0, err
		}
	}
	for _, p := range probes {
		query, args := withinQuery, []any{p.Shape, p.Shape}
		for i, at := range p.At {
			if at != nil {
				query += fmt.Sprintf(" AND low%[1]d <= ? AND high%[1]d >= ?", i+1)
				args = append(args, *at, *at)
			}
		}
		if err := add(list[string](ctx, c.db, query, args...)); err != nil {
			return nil, 0, err
		}
	}
	ids := make([]string, 0, len(found))
	for id := range found {
		ids = append(ids, id)
	}
	b, err := json.Marshal(ids)
	if err != nil {
		return nil, 0, err
	}
	query := "SELECT segment.* FROM json_each(?) one CROSS JOIN segment ON segment.id = one.value ORDER BY segment." +
		strings.Join(segmentOrder.columns, " DESC, segment.") + " DESC"
	segments, err = list[Segment](ctx, c.db, query, string(b))
	return segments, unknown, err
}

const unspannedOfQuery = "SELECT id FROM segment INDEXED BY segment_unspanned WHERE span IS NULL AND state IN " +
	"('open', 'closed') AND source = ? AND table_name = ?"

const withinQuery = "SELECT segment.id FROM segment_span CROSS JOIN segment ON segment.span = segment_span.id " +
	"WHERE shape_low <= ? AND shape_high >= ?"

// KeySpan is where the first column of the keys of a segment lies.
type KeySpan struct {
	Segment string  `db:"segment"`
	Shape   int64   `db:"shape"`
	Low     float64 `db:"low"`
	High    float64 `db:"high"`
}

// KeySpans lists where the keys of the open and closed segments of a table lie of which that is known, by where they
// begin.
func (c *Catalog) KeySpans(ctx context.Context, source, table string) ([]KeySpan, error) {
	return list[KeySpan](ctx, c.db, keySpansQuery, source, table)
}

const keySpansQuery = `SELECT segment.id AS segment, segment.shape AS shape, low1 AS low, high1 AS high
	FROM segment CROSS JOIN segment_span ON segment_span.id = segment.span
	WHERE segment.source = ? AND segment.table_name = ? AND segment.state IN ('open', 'closed') ORDER BY low1`

// Asleep counts the closed segments of a table that are in cold storage and cannot be read now.
func (c *Catalog) Asleep(ctx context.Context, source, table string, now time.Time) (n int, err error) {
	err = c.db.GetContext(ctx, &n,
		"SELECT count(*) FROM segment WHERE source = ? AND table_name = ? AND state = 'closed' AND cold = 1 AND "+
			"second = '' AND coalesce(warm_until, '') <= ?", source, table, At(now))
	return n, err
}

// MoreThan says whether a table has more than so many open and closed segments.
func (c *Catalog) MoreThan(ctx context.Context, source, table string, n int) (yes bool, err error) {
	err = c.db.GetContext(ctx, &yes,
		"SELECT count(*) > ?3 FROM (SELECT 1 FROM segment WHERE source = ?1 AND table_name = ?2 AND state IN "+
			"('open', 'closed') LIMIT ?3 + 1)", source, table, n)
	return yes, err
}

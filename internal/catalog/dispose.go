package catalog

import (
	"context"
	"fmt"
	"slices"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/core/filter"
)

// Kinds of disposals.
const (
	KindDisposal = "disposal" // of segments whose time in the archive is over
	KindErasure  = "erasure"  // of the rows of a condition
)

// Disposal is the decision to destroy segments of one table whose time in the archive is over, or single rows of them.
type Disposal struct {
	DisposalOrder
	DisposalStanding
	DisposalLists
	DisposalSum
}

// DisposalOrder is what a disposal is to destroy, and by which rule.
type DisposalOrder struct {
	ID   string `db:"id"`
	Kind string `db:"kind"`
	// of an erasure: the condition of its rows, until it is carried out or decided against
	Erases    string `db:"erases"`
	Source    string `db:"source"`
	Table     string `db:"table_name"`
	Rule      string `db:"rule"`
	Revision  int    `db:"revision"` // of the rule that governs now
	Keep      string `db:"keep"`     // by that revision, at least
	Note      string `db:"note"`
	CreatedAt Time   `db:"created_at"`
	CreatedBy string `db:"created_by"`
}

// DisposalStanding is where a disposal stands.
type DisposalStanding struct {
	State      DisposalState `db:"state"`
	Reason     string        `db:"reason"`
	DecidedAt  *Time         `db:"decided_at"`
	DecidedBy  string        `db:"decided_by"`
	EndedAt    *Time         `db:"ended_at"`
	ApprovedBy string        `db:"approved_by"`
	ApprovedAt *Time         `db:"approved_at"`
}

// DisposalLists is what a disposal lists.
type DisposalLists struct {
	// segments that are to be destroyed: none in a list of disposals, and the first of them where one is shown
	Items   JSON[[]DisposalItem] `db:"-"`
	Stays   JSON[[]DisposalStay] `db:"-"`       // segments of the table that stay, and why; likewise
	Remains JSON[[]string]       `db:"remains"` // what may hold such rows still, where, and why
}

// DisposalSum is how much a disposal is of. The catalog keeps it.
type DisposalSum struct {
	Segments int   `db:"segments"`  // that are to be destroyed
	Rows     int64 `db:"row_count"` // of them, less those that stay
	Bytes    int64 `db:"bytes"`
	Gone     int   `db:"gone"` // segments that were destroyed so far
	Staying  int   `db:"staying"`
}

// DisposalItem is a segment that is to be destroyed.
type DisposalItem struct {
	DisposalItemOf
	DisposalItemEnd
}

// DisposalItemOf is the segment that an item of a disposal is.
type DisposalItemOf struct {
	Segment string   `json:"segment"`
	Rows    int64    `json:"rows"`
	Bytes   int64    `json:"bytes"`
	Oldest  string   `json:"oldest"`
	Newest  string   `json:"newest"`
	Stored  Time     `json:"stored"`
	Due     Time     `json:"due"` // when its time was over
	Keep    string   `json:"keep"`
	SHA256  string   `json:"sha256"` // of the file
	Digest  string   `json:"digest"` // of its rows
	Stores  []string `json:"stores"` // in which it lies
}

// DisposalItemEnd is what became of it.
type DisposalItemEnd struct {
	Destroyed *Time    `json:"destroyed"`
	Record    string   `json:"record,omitempty"`   // SHA-256 of the disposal record
	Sequence  int64    `json:"sequence,omitempty"` // of that record in the table's chain
	Left      string   `json:"left,omitempty"`     // why it was not destroyed after all
	Kept      int64    `json:"kept,omitempty"`     // of its rows, those that stay, in a segment of their own
	Why       string   `json:"why,omitempty"`      // why they stay
	Successor string   `json:"successor,omitempty"`
	Searched  []string `json:"searched,omitempty"` // the stores that were listed and found without it
	Remains   []string `json:"remains,omitempty"`  // what may hold it still, and why
}

// DisposalStay is a segment that stays.
type DisposalStay struct {
	Segment string `json:"segment"`
	Due     *Time  `json:"due"` // when its time is over; null: never
	Reason  string `json:"reason"`
}

// AddDisposal keeps a new disposal.
func (c *Catalog) AddDisposal(ctx context.Context, d *Disposal) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx,
			`INSERT INTO disposal (id, kind, erases, source, table_name, rule, revision, keep, state, reason, note,
				created_at, created_by, remains)
			VALUES (:id, :kind, :erases, :source, :table_name, :rule, :revision, :keep, :state, :reason, :note,
				:created_at, :created_by, :remains)`, d); err != nil {
			return err
		}
		for i, x := range d.Items.V {
			if _, err := tx.ExecContext(ctx, "INSERT INTO disposal_item VALUES (?, ?, ?)", d.ID, i,
				JSON[DisposalItem]{x}); err != nil {
				return err
			}
		}
		for i, x := range d.Stays.V {
			if _, err := tx.ExecContext(ctx, "INSERT INTO disposal_stay VALUES (?, ?, ?)", d.ID, i,
				JSON[DisposalStay]{x}); err != nil {
				return err
			}
		}
		if err := tx.GetContext(ctx, &d.DisposalSum,
			"SELECT segments, row_count, bytes, gone, staying FROM disposal WHERE id = ?", d.ID); err != nil {
			return err
		}
		return c.note(ctx, tx, d.CreatedBy, d.Kind+" plan", d.ID, fmt.Sprintf("%s.%s, %d segments: %s", d.Source,
			d.Table, len(d.Items.V), d.Note))
	})
}

// SaveDisposalItem keeps what became of one of a disposal's segments.
func (c *Catalog) SaveDisposalItem(ctx context.Context, d *Disposal, i int) error {
	_, err := c.writes.ExecContext(ctx, "UPDATE disposal_item SET item = ? WHERE disposal = ? AND position = ?",
		JSON[DisposalItem]{d.Items.V[i]}, d.ID, i)
	return err
}

// SaveDisposalRemains keeps what may hold a disposal's rows still.
func (c *Catalog) SaveDisposalRemains(ctx context.Context, d *Disposal) error {
	_, err := c.writes.NamedExecContext(ctx, "UPDATE disposal SET remains = :remains WHERE id = :id", d)
	return err
}

// fill reads the segments of a disposal.
func (d *Disposal) fill(ctx context.Context, q sqlx.QueryerContext) error {
	items, err := disposalItems(ctx, q, d.ID, All)
	if err != nil {
		return err
	}
	stays, err := disposalStays(ctx, q, d.ID, All)
	if err != nil {
		return err
	}
	d.take(items, stays)
	return nil
}

func (d *Disposal) take(items []PlacedItem, stays []PlacedStay) {
	d.Items.V, d.Stays.V = make([]DisposalItem, len(items)), make([]DisposalStay, len(stays))
	for i := range items {
		d.Items.V[i] = items[i].DisposalItem
	}
	for i := range stays {
		d.Stays.V[i] = stays[i].DisposalStay
	}
}

// PlacedItem is a segment that is to be destroyed, in a list of them.
type PlacedItem struct {
	Position int `db:"position" json:"-"`
	DisposalItem
}

// PlacedStay is a segment that stays, in a list of them.
type PlacedStay struct {
	Position int `db:"position" json:"-"`
	DisposalStay
}

// The places of items in their lists.
func (i *PlacedItem) Place() string { return place(i.Position) }
func (s *PlacedStay) Place() string { return place(s.Position) }

var byPosition = order{columns: []string{"position"}, up: true}

// disposalPart is a part of what a disposal lists.
type disposalPart[T any] struct {
	Position int     `db:"position"`
	Of       JSON[T] `db:"of"`
}

// disposalParts reads a page of what a disposal lists: item or stay.
func disposalParts[T, P any](ctx context.Context, q sqlx.QueryerContext, what, id string, p Page,
	placed func(int, T) P) ([]P, error) {
	query := "SELECT position, " + what + ` AS "of" FROM disposal_` + what + " WHERE disposal = ?"
	parts, err := paged[disposalPart[T]](ctx, q, p, byPosition, query, id)
	out := make([]P, len(parts))
	for i := range parts {
		out[i] = placed(parts[i].Position, parts[i].Of.V)
	}
	return out, err
}

func disposalItems(ctx context.Context, q sqlx.QueryerContext, id string, p Page) ([]PlacedItem, error) {
	return disposalParts(ctx, q, "item", id, p, func(at int, x DisposalItem) PlacedItem { return PlacedItem{at, x} })
}

func disposalStays(ctx context.Context, q sqlx.QueryerContext, id string, p Page) ([]PlacedStay, error) {
	return disposalParts(ctx, q, "stay", id, p, func(at int, x DisposalStay) PlacedStay { return PlacedStay{at, x} })
}

// DisposalItems lists the segments that a disposal is to destroy.
func (c *Catalog) DisposalItems(ctx context.Context, id string, p Page) ([]PlacedItem, error) {
	if _, err := c.disposal(ctx, id); err != nil {
		return nil, err
	}
	return disposalItems(ctx, c.db, id, p)
}

// DisposalStays lists the segments that a disposal leaves, and why.
func (c *Catalog) DisposalStays(ctx context.Context, id string, p Page) ([]PlacedStay, error) {
	if _, err := c.disposal(ctx, id); err != nil {
		return nil, err
	}
	return disposalStays(ctx, c.db, id, p)
}

func (c *Catalog) disposal(ctx context.Context, id string) (*Disposal, error) {
	return get[Disposal](ctx, c.db, "disposal", id, "SELECT * FROM disposal WHERE id = ?", id)
}

// DisposalShown is how many of its segments a disposal is shown with.
const DisposalShown = 200

// Brief is a disposal with the first of its segments.
func (d *Disposal) Brief() *Disposal {
	out := *d
	out.Items.V, out.Stays.V = d.Items.V[:min(len(d.Items.V), DisposalShown)],
		d.Stays.V[:min(len(d.Stays.V), DisposalShown)]
	return &out
}

// DisposalBrief returns one disposal with the first of its segments.
func (c *Catalog) DisposalBrief(ctx context.Context, id string) (*Disposal, error) {
	d, err := c.disposal(ctx, id)
	if err != nil {
		return nil, err
	}
	items, err := disposalItems(ctx, c.db, id, First(DisposalShown))
	if err != nil {
		return nil, err
	}
	stays, err := disposalStays(ctx, c.db, id, First(DisposalShown))
	d.take(items, stays)
	return d, err
}

// ApproveDisposal keeps that somebody approved a planned disposal.
func (c *Catalog) ApproveDisposal(ctx context.Context, actor, id string, now Time) (*Disposal, error) {
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		d, err := get[Disposal](ctx, tx, "disposal", id, "SELECT * FROM disposal WHERE id = ?", id)
		if err != nil {
			return err
		}
		if d.State != DisposalPlanned {
			return fmt.Errorf("disposal %s is %s and waits for no approval: %w", id, d.State, ErrState)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE disposal SET approved_by = ?, approved_at = ? WHERE id = ?", actor,
			now, id); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, d.Kind+" approve", id, "")
	})
	if err != nil {
		return nil, err
	}
	return c.Disposal(ctx, id)
}

// SetDisposalState moves a disposal to another state, if that may follow.
func (c *Catalog) SetDisposalState(ctx context.Context, actor, id string, to DisposalState, reason string,
	now Time) (*Disposal, error) {
	var out *Disposal
	err := c.transaction(ctx, func(tx *sqlx.Tx) (err error) {
		if out, err = get[Disposal](ctx, tx, "disposal", id, "SELECT * FROM disposal WHERE id = ?", id); err != nil {
			return err
		}
		if out.State == to {
			return fmt.Errorf("disposal %s is %s already: %w", id, to, ErrState)
		}
		if err := afterDisposal.refuse("disposal", id, out.State, to); err != nil {
			return err
		}
		if to == Disposing && out.DecidedAt == nil {
			if err := c.useApproval(ctx, tx); err != nil {
				return err
			}
			out.DecidedAt, out.DecidedBy = &now, actor
		}
		if afterDisposal.ended(to) {
			out.EndedAt, out.Erases = &now, ""
		}
		if out.Kind == KindErasure && to == DisposalDone {
			if err := c.forgetConditions(ctx, tx, out.Source, out.Table); err != nil {
				return err
			}
		}
		out.State, out.Reason = to, reason
		if err := out.fill(ctx, tx); err != nil {
			return err
		}
		if _, err := tx.NamedExecContext(ctx,
			"UPDATE disposal SET state = :state, reason = :reason, decided_at = :decided_at, decided_by = "+
				":decided_by, ended_at = :ended_at, erases = :erases WHERE id = :id", out); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, out.Kind+" "+string(to), id, reason)
	})
	return out, err
}

// Disposal returns one disposal.
func (c *Catalog) Disposal(ctx context.Context, id string) (*Disposal, error) {
	d, err := c.disposal(ctx, id)
	if err != nil {
		return nil, err
	}
	return d, d.fill(ctx, c.db)
}

// Disposals lists disposals, the newest first, with how much each is of in place of its segments.
func (c *Catalog) Disposals(ctx context.Context, p Page) ([]Disposal, error) {
	out, err := paged[Disposal](ctx, c.db, p, newestFirst, "SELECT * FROM disposal WHERE true")
	for i := range out {
		out[i].Items.V, out[i].Stays.V = []DisposalItem{}, []DisposalStay{}
	}
	return out, err
}

// DisposalsIn lists the disposals in a state.
func (c *Catalog) DisposalsIn(ctx context.Context, state DisposalState) ([]Disposal, error) {
	out, err := list[Disposal](ctx, c.db, "SELECT * FROM disposal WHERE state = ? ORDER BY created_at", state)
	for i := range out {
		if err == nil {
			err = out[i].fill(ctx, c.db)
		}
	}
	return out, err
}

// BeingDisposed lists the segments of a table whose destruction was begun and has not ended.
func (c *Catalog) BeingDisposed(ctx context.Context, source, table string) ([]Segment, error) {
	return list[Segment](ctx, c.db,
		"SELECT * FROM segment WHERE source = ? AND table_name = ? AND disposal <> '' AND disposed_at IS NULL "+
			"ORDER BY sequence", source, table)
}

// forgetArchived asks for the same details to be taken out of the segments of the audit log.
func (c *Catalog) forgetArchived(ctx context.Context, tx *sqlx.Tx, why, source, table string) error {
	holds := []string{}
	if err := tx.SelectContext(ctx, &holds, "SELECT id FROM hold WHERE source = ? AND table_name = ? AND "+
		"lifted_at IS NOT NULL AND filter <> ''", source, table); err != nil {
		return err
	}
	conditions := []string{"kind IN ('rows', 'request') AND subject = " + quoted(source+"."+table)}
	for some := range slices.Chunk(holds, filter.MaxList) {
		conditions = append(conditions, "action = 'hold place' AND "+in("subject", some))
	}
	for _, condition := range conditions {
		if err := c.eraseArchived(ctx, tx, "service", why, condition+" AND erased = 0 AND detail <> ''"); err != nil {
			return err
		}
	}
	return nil
}

// forgetConditions takes the conditions and keys that people gave out of what is over and done with, for a table of
// which rows were erased: they can name who was. Holds that stand, and what has not ended, keep theirs.
func (c *Catalog) forgetConditions(ctx context.Context, tx *sqlx.Tx, source, table string) error {
	why := "rows of " + source + "." + table + " were erased"
	if err := c.eraseDetails(ctx, tx, "service", why, `action = 'hold place' AND subject IN (SELECT id FROM hold WHERE
		source = ? AND table_name = ? AND lifted_at IS NOT NULL AND filter <> '')`, source, table); err != nil {
		return err
	}
	// what rows somebody looked for, or was refused
	if err := c.eraseDetails(ctx, tx, "service", why, "kind IN ('rows', 'request') AND subject = ? AND text <> ''",
		source+"."+table); err != nil {
		return err
	}
	if err := c.forgetArchived(ctx, tx, why, source, table); err != nil {
		return err
	}
	for _, statement := range []string{
		"UPDATE hold SET filter = '(forgotten)' WHERE source = ?1 AND table_name = ?2 AND lifted_at IS NOT NULL " +
			"AND filter <> ''",
		`UPDATE restore SET scope = json_set(scope, '$.where', '(forgotten)'), reason = CASE WHEN reason = '' THEN ''
			ELSE '(forgotten)' END WHERE source = ?1 AND table_name = ?2
			AND json_extract(scope, '$.where') <> '' AND (state IN ('failed', 'refused', 'expired') OR state = 'done'
				AND expires_at IS NULL)`,
		`UPDATE plan SET detail = json_set(detail, '$.narrow.where', '(forgotten)', '$.statements', json('[]'))
			WHERE source = ?1 AND table_name = ?2 AND json_extract(detail, '$.narrow.where') <> ''
			AND NOT EXISTS (SELECT 1 FROM run WHERE run.plan = plan.id AND run.state NOT IN ('done', 'cancelled'))`,
		`UPDATE plan SET detail = json_set(detail, '$.narrow.keys', '(forgotten)', '$.statements', json('[]'))
			WHERE source = ?1 AND table_name = ?2 AND json_extract(detail, '$.narrow.keys') <> ''
			AND NOT EXISTS (SELECT 1 FROM run WHERE run.plan = plan.id AND run.state NOT IN ('done', 'cancelled'))`,
	} {
		if _, err := tx.ExecContext(ctx, statement, source, table); err != nil {
			return err
		}
	}
	return nil
}

package plan

import (
	"context"
	"fmt"
	"strings"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/approval"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/source"
)

// HoldRequest is what somebody asks to be held: rows by a filter or by keys, or segments.
type HoldRequest struct {
	Source    string   `json:"source"`
	Table     string   `json:"table"`
	Where     string   `json:"where,omitempty"`
	Keys      []string `json:"keys,omitempty"` // of a table whose key has one column
	Segments  []string `json:"segments,omitempty"`
	Reference string   `json:"reference"`
	Reason    string   `json:"reason"`
}

// Placed is a hold with what it protects now.
type Placed struct {
	catalog.Hold
	Rows int64 // live rows that it holds, counted to 100,000
}

const maxHeldCount = 100_000

func refusedHold(field, message, remedy string) error {
	return &refuse.Error{Field: field, Message: message, Remedy: remedy}
}

// checkHold refuses a request that says too little or too much, and finds out the table of segments.
func (pl *Planner) checkHold(ctx context.Context, q *HoldRequest) error {
	for field, text := range map[string]string{"reference": q.Reference, "reason": q.Reason} {
		if strings.TrimSpace(text) == "" {
			return refusedHold(field, "the "+field+" is missing",
				"say which case the hold is for (reference), and why (reason); an auditor will ask")
		}
	}
	kinds := 0
	for _, set := range []bool{q.Where != "", len(q.Keys) > 0, len(q.Segments) > 0} {
		if set {
			kinds++
		}
	}
	if kinds != 1 {
		return refusedHold("where", "say what is held: exactly one of a filter, keys, and segments",
			"`-where TRUE` holds a whole table")
	}
	for _, id := range q.Segments {
		s, err := pl.Catalog.Segment(ctx, id)
		if err != nil {
			return err
		}
		if q.Source == "" && q.Table == "" {
			q.Source, q.Table = s.Source, s.Table
		}
		if s.Source != q.Source || s.Table != q.Table {
			return refusedHold("segments", fmt.Sprintf("segment %s is of table %s.%s and not of %s.%s", id, s.Source,
				s.Table, q.Source, q.Table), "place a hold for each table")
		}
	}
	return nil
}

// holdsSomething prints the filter of a hold anew and counts the live rows that it holds. It refuses one that holds
// neither a live row nor anything of an archive.
func (pl *Planner) holdsSomething(ctx context.Context, src source.Source, t *shape.Table, h *catalog.Hold) (int64,
	error) {
	f, bad := filter.Bind(h.Filter, filter.TableScope(t))
	if len(bad) > 0 {
		return 0, refuse.Filter("where", bad[0])
	}
	if f.Never() {
		return 0, refusedHold("where", "no row can satisfy this condition: the hold would hold nothing",
			"mend the condition")
	}
	h.Filter = f.String()
	rows, err := src.CountWhere(ctx, t, f, maxHeldCount)
	if err != nil || rows > 0 {
		return rows, err
	}
	archived, err := pl.Catalog.Segments(ctx, catalog.SegmentFilter{Source: h.Source, Table: t.Name}, catalog.First(1))
	if err == nil && len(archived) == 0 {
		err = refusedHold("where", fmt.Sprintf(
			"the condition %s holds nothing: no row of %s satisfies it, and nothing of the table is archived",
			h.Filter, t.Name), "mend the condition")
	}
	return 0, err
}

// PlaceHold keeps a hold. When it returns, every delete and disposal that began before it has ended, and from then on
// each asks for the hold.
func (pl *Planner) PlaceHold(ctx context.Context, actor string, q HoldRequest) (*Placed, error) {
	if err := pl.checkHold(ctx, &q); err != nil {
		return nil, err
	}
	src, err := pl.Source(ctx, q.Source)
	if err != nil {
		return nil, err
	}
	t, err := src.Table(ctx, q.Table)
	if err != nil {
		return nil, err
	}
	h := &catalog.Hold{ID: ulid.Make().String(), Source: q.Source, Table: t.Name, Filter: strings.TrimSpace(q.Where),
		Segments:  catalog.JSON[[]string]{V: q.Segments},
		Reference: q.Reference, Reason: q.Reason, PlacedAt: catalog.At(pl.Now()), PlacedBy: actor}
	if h.Segments.V == nil {
		h.Segments.V = []string{}
	}
	if len(q.Keys) > 0 {
		if h.Filter, err = refuse.KeysFilter(t, q.Keys); err != nil {
			return nil, err
		}
	}
	placed := &Placed{}
	if h.Filter != "" {
		if placed.Rows, err = pl.holdsSomething(ctx, src, t, h); err != nil {
			return nil, err
		}
	}
	gate := pl.tables.Gate(h.Source, h.Table)
	gate.Lock()
	defer gate.Unlock()
	if err := pl.Catalog.AddHold(ctx, h); err != nil {
		return nil, err
	}
	// Batches of this service are kept out by the gate; the session of one that was killed may still be at work.
	if err := tables.Retry(ctx, pl.Log, func() error { return src.Fence(ctx, h.Table) }); err != nil {
		return nil, fmt.Errorf("hold %s stands and binds every batch from now on, but a batch that began before it "+
			"may still be going on in source %s: %w; ask the database for open transactions on %s", h.ID, h.Source,
			err, h.Table)
	}
	placed.Hold = *h
	return placed, nil
}

// LiftHold ends a hold.
func (pl *Planner) LiftHold(ctx context.Context, actor, id, reason string) (*catalog.Hold, error) {
	if strings.TrimSpace(reason) == "" {
		return nil, &refuse.Error{Field: "reason", Message: "the reason is missing",
			Remedy: "say why the hold ends; it is kept"}
	}
	h, err := pl.Catalog.Hold(ctx, id)
	if err != nil {
		return nil, err
	}
	if h.LiftedAt == nil {
		if ctx, err = pl.Allow(ctx, deps.Need{Whats: []approval.What{approval.Lifts}, Source: h.Source, Table: h.Table,
			Subject: id, Of: h, Summary: fmt.Sprintf("the hold on %s.%s of case %s ends: %s", h.Source, h.Table,
				h.Reference,
				reason), Asker: actor, Begins: Lift{Hold: id, Reason: reason}}); err != nil {
			return nil, err
		}
	}
	return pl.Catalog.LiftHold(ctx, actor, id, reason, pl.Now())
}

// Lift is the end of a hold that comes by itself once it is approved.
type Lift struct {
	Hold   string `json:"hold"`
	Reason string `json:"reason"`
}

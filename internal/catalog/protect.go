package catalog

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/core/calendar"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/rule"
)

// Hold is a legal hold: rows and segments of a table that nothing may remove until it is lifted.
type Hold struct {
	ID         string         `db:"id"`
	Source     string         `db:"source"`
	Table      string         `db:"table_name"`
	Filter     string         `db:"filter"` // which rows; empty with segments: those alone
	Segments   JSON[[]string] `db:"segments"`
	Reference  string         `db:"reference"` // of the case that it is for
	Reason     string         `db:"reason"`
	PlacedAt   Time           `db:"placed_at"`
	PlacedBy   string         `db:"placed_by"`
	LiftedAt   *Time          `db:"lifted_at"`
	LiftedBy   string         `db:"lifted_by"`
	LiftReason string         `db:"lift_reason"`
}

// AddHold keeps a new hold.
func (c *Catalog) AddHold(ctx context.Context, h *Hold) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx,
			`INSERT INTO hold (id, source, table_name, filter, segments, reference, reason, placed_at, placed_by)
			VALUES (:id, :source, :table_name, :filter, :segments, :reference, :reason, :placed_at, :placed_by)`,
			h); err != nil {
			return err
		}
		return c.note(ctx, tx, h.PlacedBy, "hold place", h.ID, fmt.Sprintf("%s.%s, %s %v, reference %s: %s", h.Source,
			h.Table, h.Filter, h.Segments.V, h.Reference, h.Reason))
	})
}

// LiftHold ends a hold.
func (c *Catalog) LiftHold(ctx context.Context, actor, id, reason string, now time.Time) (*Hold, error) {
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		h, err := get[Hold](ctx, tx, "hold", id, "SELECT * FROM hold WHERE id = ?", id)
		if err != nil {
			return err
		}
		if err := c.useApproval(ctx, tx); err != nil {
			return err
		}
		if h.LiftedAt != nil {
			return fmt.Errorf("hold %s was lifted at %s already: %w", id, h.LiftedAt.Format(time.RFC3339), ErrState)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE hold SET lifted_at = ?, lifted_by = ?, lift_reason = ? WHERE id = ?",
			At(now), actor, reason, id); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "hold lift", id, reason)
	})
	if err != nil {
		return nil, err
	}
	return c.Hold(ctx, id)
}

// Hold returns one hold.
func (c *Catalog) Hold(ctx context.Context, id string) (*Hold, error) {
	return get[Hold](ctx, c.db, "hold", id, "SELECT * FROM hold WHERE id = ?", id)
}

// Holds lists holds, the newest first: all of them, or those that stand.
func (c *Catalog) Holds(ctx context.Context, lifted bool) ([]Hold, error) {
	return list[Hold](ctx, c.db, "SELECT * FROM hold WHERE ? OR lifted_at IS NULL ORDER BY placed_at DESC", lifted)
}

// TableHolds lists the holds that stand on a table.
func (c *Catalog) TableHolds(ctx context.Context, source, table string) ([]Hold, error) {
	return list[Hold](ctx, c.db, "SELECT * FROM hold WHERE source = ? AND table_name = ? AND lifted_at IS NULL "+
		"ORDER BY placed_at", source, table)
}

// Keep is a named keep.
type Keep struct {
	Name      string           `db:"name"`
	Body      JSON[rule.Named] `db:"body"`
	Text      string           `db:"text"`
	AppliedAt Time             `db:"applied_at"`
	AppliedBy string           `db:"applied_by"`
}

// Keeps lists the named keeps.
func (c *Catalog) Keeps(ctx context.Context) ([]Keep, error) {
	return list[Keep](ctx, c.db, "SELECT * FROM keep ORDER BY name")
}

// Guard is what binds all rules, plans and disposals of a source.
type Guard struct {
	Live    *period.Period `json:"live,omitempty"`    // rows stay live at least so long
	Archive *period.Period `json:"archive,omitempty"` // segments stay in the archive at least so long
	Only    []string       `json:"only,omitempty"`    // the tables that may have a rule; empty: all
	Never   []string       `json:"never,omitempty"`   // the tables that may not
	// what others have to approve before it is carried out, as approval.Parse reads it: runs, emptyings, overrides,
	// restores, disposals, erasures, loosenings, lifts or guards, with @RULE, :PERSONS and :above=ROWS behind it
	Approve []string `json:"approve,omitempty"`
	// when runs may work on the source, whatever their rules say; none: at any time
	Window []rule.Window `json:"window,omitempty"`
	Zone   string        `json:"zone,omitempty"` // IANA name, of the windows; empty: UTC
}

// Hours are the windows of the source, as calendar takes them.
func (g Guard) Hours() calendar.Hours {
	zone, err := time.LoadLocation(g.Zone)
	if err != nil {
		zone = time.UTC // SetGuard refuses zones that cannot be loaded
	}
	h := calendar.Hours{Zone: zone}
	for _, w := range g.Window {
		h.Windows = append(h.Windows, w.Window)
	}
	return h
}

// Guard returns the guard rails of a source; the zero Guard where none are set.
func (c *Catalog) Guard(ctx context.Context, source string) (g Guard, err error) {
	found, err := list[string](ctx, c.db, "SELECT body FROM guard WHERE source = ?", source)
	if err == nil && len(found) > 0 {
		err = json.Unmarshal([]byte(found[0]), &g)
	}
	return g, err
}

// SetGuard sets the guard rails of a source.
func (c *Catalog) SetGuard(ctx context.Context, actor, source string, g Guard) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if err := c.useApproval(ctx, tx); err != nil {
			return err
		}
		before, err := was(ctx, tx, "SELECT body FROM guard WHERE source = ?", source)
		if err != nil {
			return err
		}
		body := JSON[Guard]{g}
		if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO guard VALUES (?, ?, ?, ?)", source, body, At(c.Now()),
			actor); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "guard set", source, change(before, g))
	})
}

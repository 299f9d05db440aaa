package view

import (
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
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
	ID   string `json:"id"`
	Kind string `json:"kind"`
	// of an erasure: the condition of its rows, until it is carried out or decided against
	Erases    string       `json:"erases,omitempty"`
	Source    string       `json:"source"`
	Table     string       `json:"table"`
	Rule      string       `json:"rule"`
	Revision  int          `json:"revision"` // of the rule that governs now
	Keep      string       `json:"keep"`     // by that revision, at least
	Note      string       `json:"note"`
	CreatedAt catalog.Time `json:"created_at"`
	CreatedBy string       `json:"created_by"`
}

// DisposalStanding is where a disposal stands.
type DisposalStanding struct {
	State      catalog.DisposalState `json:"state"`
	Reason     string                `json:"reason"`
	DecidedAt  *catalog.Time         `json:"decided_at"`
	DecidedBy  string                `json:"decided_by"`
	EndedAt    *catalog.Time         `json:"ended_at"`
	ApprovedBy string                `json:"approved_by"`
	ApprovedAt *catalog.Time         `json:"approved_at"`
}

// DisposalLists is what a disposal lists.
type DisposalLists struct {
	// segments that are to be destroyed: none in a list of disposals, and the first of them where one is shown
	Items   catalog.JSON[[]catalog.DisposalItem] `json:"items"`
	Stays   catalog.JSON[[]catalog.DisposalStay] `json:"stays"`   // segments of the table that stay, and why; likewise
	Remains catalog.JSON[[]string]               `json:"remains"` // what may hold such rows still, where, and why
}

// DisposalOf shows a record of the catalog.
func DisposalOf(d *catalog.Disposal) Disposal {
	return Disposal{DisposalOrder: DisposalOrder(d.DisposalOrder),
		DisposalStanding: DisposalStanding(d.DisposalStanding), DisposalLists: DisposalLists(d.DisposalLists),
		DisposalSum: DisposalSum(d.DisposalSum)}
}

// DisposalSum is how much a disposal is of. The catalog keeps it.
type DisposalSum struct {
	Segments int   `json:"segments"` // that are to be destroyed
	Rows     int64 `json:"rows"`     // of them, less those that stay
	Bytes    int64 `json:"bytes"`
	Gone     int   `json:"gone"` // segments that were destroyed so far
	Staying  int   `json:"staying"`
}

// DisposalSumOf shows a record of the catalog.
func DisposalSumOf(d *catalog.DisposalSum) DisposalSum { return DisposalSum(*d) }

// Hold is a legal hold: rows and segments of a table that nothing may remove until it is lifted.
type Hold struct {
	ID         string                 `json:"id"`
	Source     string                 `json:"source"`
	Table      string                 `json:"table"`
	Filter     string                 `json:"filter,omitempty"` // which rows; empty with segments: those alone
	Segments   catalog.JSON[[]string] `json:"segments"`
	Reference  string                 `json:"reference"` // of the case that it is for
	Reason     string                 `json:"reason"`
	PlacedAt   catalog.Time           `json:"placed_at"`
	PlacedBy   string                 `json:"placed_by"`
	LiftedAt   *catalog.Time          `json:"lifted_at"`
	LiftedBy   string                 `json:"lifted_by,omitempty"`
	LiftReason string                 `json:"lift_reason,omitempty"`
}

// HoldOf shows a record of the catalog.
func HoldOf(h *catalog.Hold) Hold { return Hold(*h) }

// PlacedItem is a segment that is to be destroyed, in a list of them.
type PlacedItem struct{ catalog.DisposalItem }

// PlacedItemOf shows a record of the catalog.
func PlacedItemOf(p *catalog.PlacedItem) PlacedItem { return PlacedItem{p.DisposalItem} }

// PlacedStay is a segment that stays, in a list of them.
type PlacedStay struct{ catalog.DisposalStay }

// PlacedStayOf shows a record of the catalog.
func PlacedStayOf(p *catalog.PlacedStay) PlacedStay { return PlacedStay{p.DisposalStay} }

// Placed is a hold that was placed, with what it holds.
type Placed struct {
	Hold
	Rows int64 `json:"rows"` // live rows that it holds, counted to 100,000
}

// PlacedOf shows a hold that was placed.
func PlacedOf(p *plan.Placed) Placed { return Placed{HoldOf(&p.Hold), p.Rows} }

package catalog

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

// Part is a partition that was to leave as a whole when the plan was made, or the table itself, if it was to be
// emptied at once.
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

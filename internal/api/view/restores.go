package view

import (
	"ambercellar/internal/catalog"
)

// Restore is a request to bring archived rows back.
type Restore struct {
	RestoreOrder
	RestoreStanding
	RestoreSums
}

// RestoreOrder is what was asked of a restore.
type RestoreOrder struct {
	ID     string                      `json:"id"`
	Source string                      `json:"source"`
	Table  string                      `json:"table"`
	Scope  catalog.JSON[catalog.Scope] `json:"scope"`
	Target string                      `json:"target"` // "table", "side" or "file"
	// of side: the source of the table that is made
	TargetSource string                    `json:"target_source,omitempty"`
	TargetTable  string                    `json:"target_table,omitempty"` // of side: the table that is made
	Format       string                    `json:"format"`                 // of a file: csv, ndjson or parquet
	Note         string                    `json:"note"`
	CreatedAt    catalog.Time              `json:"created_at"`
	CreatedBy    string                    `json:"created_by"`
	Fit          catalog.JSON[catalog.Fit] `json:"fit"`
	// ISO 8601: the rows go again when that has passed; empty: they stay
	Lasts     string `json:"lasts,omitempty"`
	Conflicts string `json:"conflicts"` // what becomes of rows whose key is there: "skip", "fail" or "replace"
	Pace      string `json:"pace"`
	Tell      string `json:"tell"` // who is told when it is ready: a mail address or a URL
}

// RestoreStanding is where a restore stands.
type RestoreStanding struct {
	State      catalog.RestoreState `json:"state"`
	Reason     string               `json:"reason"`
	Begun      bool                 `json:"begun"` // rows may have been put back or replaced
	EndedAt    *catalog.Time        `json:"ended_at"`
	ExpiresAt  *catalog.Time        `json:"expires_at"` // when they go
	ExpiredAt  *catalog.Time        `json:"expired_at"` // when they went
	ApprovedBy string               `json:"approved_by"`
	ApprovedAt *catalog.Time        `json:"approved_at"`
	ToldAt     *catalog.Time        `json:"told_at"`
}

// RestoreSums is what a restore has done so far.
type RestoreSums struct {
	Segments int64 `json:"segments"`
	Found    int64 `json:"found"`    // archived rows in the scope
	Restored int64 `json:"restored"` // put back, or written to the file
	Skipped  int64 `json:"skipped"`  // their key was there already, or a newer archived version
	Replaced int64 `json:"replaced"` // of the restored rows, those that took the place of another
	// rows of the segments that are read, for telling how far it is; 0: not known yet
	Of        int64  `json:"of"`
	Digest    string `json:"digest"`   // of the restored rows
	Verified  *bool  `json:"verified"` // counts and digest hold
	FileBytes int64  `json:"file_bytes"`
	TakenBack int64  `json:"taken_back"` // rows that went
	Stayed    int64  `json:"stayed"`     // rows that had been changed, and stayed
}

// RestoreOf shows a record of the catalog.
func RestoreOf(r *catalog.Restore) Restore {
	return Restore{RestoreOrder: RestoreOrder(r.RestoreOrder), RestoreStanding: RestoreStanding(r.RestoreStanding),
		RestoreSums: RestoreSums(r.RestoreSums)}
}

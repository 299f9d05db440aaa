package view

import "ambercellar/internal/catalog"

// AuditExport is an export of the audit log into a file, which is made in the background.
type AuditExport struct {
	ID        string                   `json:"id"`
	Format    string                   `json:"format"`     // csv, ndjson, xml or pdf
	Filter    map[string]string        `json:"filter"`     // which entries are meant, as they were asked for
	By        string                   `json:"by"`         // who asked for it
	Rows      bool                     `json:"rows"`       // details that may name values of rows are in it
	Tell      string                   `json:"tell"`       // who is told when it has ended; empty: nobody
	Schedule  string                   `json:"schedule"`   // that asked for it; empty: somebody did
	State     catalog.AuditExportState `json:"state"`      // waiting, working, done, failed or gone
	Done      int64                    `json:"done"`       // entries that were written
	Of        int64                    `json:"of"`         // about as many are to be; 0: that is not known yet
	Entries   int64                    `json:"entries"`    // that are in its file
	Bytes     int64                    `json:"bytes"`      // of its file
	SHA256    string                   `json:"sha256"`     // of its file
	Problem   string                   `json:"problem"`    // why it failed, or its file is gone
	MadeAt    catalog.Time             `json:"made_at"`    // when it was asked for
	EndedAt   *catalog.Time            `json:"ended_at"`   // null: it has not
	ExpiresAt *catalog.Time            `json:"expires_at"` // when its file is removed; null: there is none
}

// AuditExportOf shows an export.
func AuditExportOf(x *catalog.AuditExport) AuditExport {
	return AuditExport{ID: x.ID, Format: x.Format, Filter: x.Filter.V.Fields(), By: x.Account, Rows: x.SeesRows,
		Tell: x.Tell, Schedule: x.Schedule, State: x.State, Done: x.Done, Of: x.Total, Entries: x.Entries,
		Bytes: x.Bytes, SHA256: x.SHA256, Problem: x.Problem, MadeAt: x.MadeAt, EndedAt: x.EndedAt,
		ExpiresAt: x.ExpiresAt}
}

// AuditSchedule asks for an export again and again: of the entries since it did so last.
type AuditSchedule struct {
	Name   string            `json:"name"`
	When   string            `json:"when"`    // as it was written
	Zone   string            `json:"zone"`    // whose clock it follows
	Format string            `json:"format"`  // of the exports
	Filter map[string]string `json:"filter"`  // which entries are meant
	By     string            `json:"by"`      // who asked for it, and whose exports they are
	Tell   string            `json:"tell"`    // who is told of each; empty: nobody
	Since  catalog.Time      `json:"since"`   // from when on the next export has entries
	NextAt catalog.Time      `json:"next_at"` // when that is made
}

// AuditScheduleOf shows a schedule of exports.
func AuditScheduleOf(x *catalog.AuditSchedule) AuditSchedule {
	return AuditSchedule{
		Name:   x.Name,
		When:   x.Recurrence,
		Zone:   x.Zone,
		Format: x.Format,
		Filter: x.Filter.V.Fields(),
		By:     x.Account,
		Tell:   x.Tell,
		Since:  x.LastAt,
		NextAt: x.NextAt,
	}
}

// AuditSegment is a segment of old entries of the audit log, in a store.
type AuditSegment struct {
	First   int64         `json:"first"`    // its first entry
	Last    int64         `json:"last"`     // its last
	From    catalog.Time  `json:"from"`     // the time of the earliest
	To      catalog.Time  `json:"to"`       // of the latest
	Hash    string        `json:"hash"`     // of the last entry
	Erased  int64         `json:"erased"`   // entries whose detail was taken away
	Store   string        `json:"store"`    // in which it lies
	File    string        `json:"file"`     // its name there
	Bytes   int64         `json:"bytes"`    // of the file
	SHA256  string        `json:"sha256"`   // of the file
	MovedAt catalog.Time  `json:"moved_at"` // when they were moved there
	DueAt   *catalog.Time `json:"due_at"`   // from when on its entries may be destroyed; null: they stay for now
}

// AuditSegmentOf shows a segment of entries.
func AuditSegmentOf(s *catalog.AuditSegment) AuditSegment {
	return AuditSegment{First: s.First, Last: s.Last, From: s.Least, To: s.Greatest, Hash: s.Hash, Erased: s.Erased,
		Store: s.Store, File: s.Stem + ".parquet", Bytes: s.Written.V.FileBytes, SHA256: s.Written.V.SHA256,
		MovedAt: s.MovedAt, DueAt: s.DueAt}
}

// AuditKept says where the entries of the audit log lie, and how long they are kept.
type AuditKept struct {
	Live     string         `json:"live"`     // how long entries stay in the catalog, ISO 8601; whole months move
	Keep     string         `json:"keep"`     // how long they are kept in all; empty: for good
	Store    string         `json:"store"`    // that old ones move to; empty: there is none
	First    int64          `json:"first"`    // the first entry that there is; those before were destroyed
	Here     int64          `json:"here"`     // the first entry that is in the catalog
	Last     int64          `json:"last"`     // the last one
	Segments []AuditSegment `json:"segments"` // the oldest first
}

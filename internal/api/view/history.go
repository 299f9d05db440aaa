package view

import "ambercellar/internal/catalog"

// History is what happened over days.
type History struct {
	From string      `json:"from"` // the first day, in UTC, like 2027-01-31
	To   string      `json:"to"`   // the last one
	Days []DayTotals `json:"days"` // on which runs ended, the oldest first
	// the rules whose runs moved the most rows, those first
	Rules   []RuleSums   `json:"rules"`
	Efforts []EffortView `json:"efforts"` // of all rules of the source, or of all sources
	Stores  []StoreDay   `json:"stores"`  // the oldest day first
}

// RuleSums is what the runs of a rule came to that ended within some days.
type RuleSums struct {
	Rule      string  `json:"rule"`
	Source    string  `json:"source"`
	Table     string  `json:"table"`
	Runs      int64   `json:"runs"`
	Archived  int64   `json:"archived"`
	Purged    int64   `json:"purged"`
	Freed     int64   `json:"freed"`
	FileBytes int64   `json:"file_bytes"`
	Working   float64 `json:"working_secs"`
}

// RuleSumsOf shows a record of the catalog.
func RuleSumsOf(t *catalog.RuleTotals) RuleSums {
	return RuleSums{Rule: t.Rule, Source: t.Source, Table: t.Table, Runs: t.Runs, Archived: t.Archived,
		Purged: t.Purged, Freed: t.Freed, FileBytes: t.FileBytes, Working: seconds(t.Working)}
}

// EffortView is where the time of runs went on a day: in a stage of the work (copy, verify, delete), or in rests for a
// reason (pace, or the name of a signal). What works side by side is added up.
type EffortView struct {
	Day   string  `json:"day"`
	Kind  string  `json:"kind"` // stage or rest
	Name  string  `json:"name"`
	Spent float64 `json:"spent_secs"`
	Times int64   `json:"times"`
}

// EffortOf shows a record of the catalog.
func EffortOf(e *catalog.Effort) EffortView {
	return EffortView{Day: e.Day, Kind: e.Kind, Name: e.Name, Spent: seconds(e.Micros), Times: e.Times}
}

// StoreDay is how large a store was at the end of a day, or is so far.
type StoreDay struct {
	Day      string `json:"day"`
	Store    string `json:"store"`
	Bytes    int64  `json:"bytes"` // of its segments, and of rows of others
	Segments int64  `json:"segments"`
	Free     int64  `json:"free"` // -1: not known
}

// StoreDayOf shows a record of the catalog.
func StoreDayOf(s *catalog.StoreSize) StoreDay { return StoreDay(*s) }

package view

import (
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
)

// SharedSchedule is a schedule that rules share.
type SharedSchedule struct {
	Name      string                           `json:"name"`
	Body      catalog.JSON[rule.NamedSchedule] `json:"body"`
	Text      string                           `json:"text"`
	AppliedAt catalog.Time                     `json:"applied_at"`
	AppliedBy string                           `json:"applied_by"`
}

// ScheduleOf shows a record of the catalog.
func ScheduleOf(s *catalog.Schedule) SharedSchedule { return SharedSchedule(*s) }

// Firing is a moment at which a rule runs by itself, and what became of it.
type Firing struct {
	Rule   string              `json:"rule"`
	At     catalog.Time        `json:"at"`
	Source string              `json:"source"`
	Table  string              `json:"table"`
	State  catalog.FiringState `json:"state"`
	Reason string              `json:"reason"`
	Missed int                 `json:"missed"` // firings before it that it makes up for
	FiringWork
}

// FiringWork is what was done about a firing.
type FiringWork struct {
	Tries   int           `json:"tries"`
	NextTry *catalog.Time `json:"next_try"`
	Plan    string        `json:"plan"` // empty: none yet
	Run     string        `json:"run"`  // empty: none
	Due     int64         `json:"due"`  // rows, by its plan
	BeganAt catalog.Time  `json:"began_at"`
	EndedAt *catalog.Time `json:"ended_at"`
	AskedBy string        `json:"asked_by"` // who wanted it; empty: the schedule
}

// FiringOf shows a record of the catalog.
func FiringOf(f *catalog.Firing) Firing {
	return Firing{Rule: f.Rule, At: f.At, Source: f.Source, Table: f.Table, State: f.State, Reason: f.Reason,
		Missed: f.Missed, FiringWork: FiringWork(f.FiringWork)}
}

// Freeze keeps the service from touching databases.
type Freeze struct {
	ID       string        `json:"id"`
	Source   string        `json:"source"` // empty: all
	Table    string        `json:"table"`  // empty: all of the source
	Where    string        `json:"where"`  // in words
	Reason   string        `json:"reason"`
	Until    *catalog.Time `json:"until"` // when it lifts itself; null: somebody lifts it
	PlacedAt catalog.Time  `json:"placed_at"`
	PlacedBy string        `json:"placed_by"`
	FreezeLift
}

// FreezeLift is how a freeze ended.
type FreezeLift struct {
	LiftedAt   *catalog.Time `json:"lifted_at"`
	LiftedBy   string        `json:"lifted_by"`
	LiftReason string        `json:"lift_reason"`
}

// FreezeOf shows a record of the catalog.
func FreezeOf(f *catalog.Freeze) Freeze {
	return Freeze{ID: f.ID, Source: f.Source, Table: f.Table, Where: f.Where(), Reason: f.Reason, Until: f.Until,
		PlacedAt: f.PlacedAt, PlacedBy: f.PlacedBy, FreezeLift: FreezeLift(f.FreezeLift)}
}

// Finding is something that somebody should look at.
type Finding struct {
	ID string `json:"id"`
	Cause
	OpenedAt catalog.Time  `json:"opened_at"`
	SeenAt   catalog.Time  `json:"seen_at"` // when its cause was last seen to be another
	ClosedAt *catalog.Time `json:"closed_at"`
	Acknowledgement
}

// Cause is what a finding says.
type Cause struct {
	Kind     string           `json:"kind"`
	Subject  string           `json:"subject"` // a rule, a table, a store, a run
	Severity catalog.Severity `json:"severity"`
	Message  string           `json:"message"`
	Evidence string           `json:"evidence"`
	Remedy   string           `json:"remedy"`
	Address  string           `json:"address"` // of the page of the console that shows it, from #
}

// Acknowledgement is who knows of a finding, and why it may stay for now.
type Acknowledgement struct {
	AcknowledgedAt    *catalog.Time `json:"acknowledged_at"`
	AcknowledgedBy    string        `json:"acknowledged_by"`
	AcknowledgedUntil *catalog.Time `json:"acknowledged_until"` // from when on it is shown again; null: never
	AcknowledgeReason string        `json:"acknowledge_reason"`
}

// FindingOf shows a record of the catalog.
func FindingOf(f *catalog.Finding) Finding {
	return Finding{ID: f.ID, Cause: Cause(f.Cause), OpenedAt: f.OpenedAt, SeenAt: f.SeenAt, ClosedAt: f.ClosedAt,
		Acknowledgement: Acknowledgement(f.Acknowledgement)}
}

// OffSchedule keeps a rule from firing by its schedule for a while.
type OffSchedule struct {
	ID        string        `json:"id"`
	Rule      string        `json:"rule"`
	Reason    string        `json:"reason"`
	Until     *catalog.Time `json:"until"`      // when it ends; null: by hand, or by until_done
	UntilDone bool          `json:"until_done"` // it ends when a run of the rule is done
	PlacedAt  catalog.Time  `json:"placed_at"`
	PlacedBy  string        `json:"placed_by"`
	FreezeLift
}

// OffScheduleOf shows a record of the catalog.
func OffScheduleOf(o *catalog.OffSchedule) OffSchedule {
	return OffSchedule{ID: o.ID, Rule: o.Rule, Reason: o.Reason, Until: o.Until, UntilDone: o.UntilDone,
		PlacedAt: o.PlacedAt, PlacedBy: o.PlacedBy, FreezeLift: FreezeLift(o.FreezeLift)}
}

// StepRecord is something that was done before a run worked, or after.
type StepRecord struct {
	ID     string        `json:"id"`
	Run    string        `json:"run"`
	Rule   string        `json:"rule"`
	Phase  catalog.Phase `json:"phase"`
	Number int           `json:"number"` // in the rule, from 0
	What   string        `json:"what"`   // as the rule has it
	StepOutcome
}

// StepOutcome is what became of a step.
type StepOutcome struct {
	BeganAt catalog.Time    `json:"began_at"`
	EndedAt *catalog.Time   `json:"ended_at"` // null: it goes on, or was cut off
	Outcome catalog.Outcome `json:"outcome"`
	Output  string          `json:"output"` // what it answered, or why it failed
	Tries   int             `json:"tries"`
}

// StepOf shows a record of the catalog.
func StepOf(s *catalog.Step) StepRecord {
	return StepRecord{ID: s.ID, Run: s.Run, Rule: s.Rule, Phase: s.Phase, Number: s.Number, What: s.What,
		StepOutcome: StepOutcome(s.StepOutcome)}
}

// DayTotals is what the runs came to that ended on a day, in UTC.
type DayTotals struct {
	Day       string `json:"day"` // like 2027-01-31
	Runs      int64  `json:"runs"`
	Archived  int64  `json:"archived"`   // rows that left their tables for the archive
	Purged    int64  `json:"purged"`     // rows that were deleted without a copy
	Freed     int64  `json:"freed"`      // bytes of both in their tables; of purged ones, as the plans took them to be
	FileBytes int64  `json:"file_bytes"` // that the archive grew by

	Working float64 `json:"working_secs"` // for how long the runs worked
}

// DayOf shows a record of the catalog.
func DayOf(d *catalog.Day) DayTotals {
	return DayTotals{Day: d.Day, Runs: d.Runs, Archived: d.Archived, Purged: d.Purged, Freed: d.Freed,
		FileBytes: d.FileBytes, Working: seconds(d.Working)}
}

func seconds(micros int64) float64 { return float64(micros) / 1e6 }

package tables

import (
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/rule"
)

// KeptUntil is when the keep of a segment is over that counts from its storing, or from its newest age; nil: never.
func KeptUntil(m *archive.Manifest, newest string, from rule.KeepFrom, keep *period.Period) *catalog.Time {
	if from != rule.FromAge {
		return KeepUntil(m.Stored, keep)
	}
	at, ok := rule.ParseISO(newest)
	if !ok { // an age that is no time has no end that could be told
		return nil
	}
	return KeepUntil(at, keep)
}

// KeepUntil says until when a segment stays in the archive at least; nil: without end.
func KeepUntil(stored time.Time, keep *period.Period) *catalog.Time {
	if keep == nil {
		return nil
	}
	t := catalog.At(stored.AddDate(keep.Years, keep.Months, 7*keep.Weeks+keep.Days).
		Add(time.Duration(keep.Hours)*time.Hour + time.Duration(keep.Minutes)*time.Minute +
			time.Duration(keep.Seconds)*time.Second))
	return &t
}

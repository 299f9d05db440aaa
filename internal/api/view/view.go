// Package view is what the interface shows of the catalog's records. Each record has a type here of the same fields,
// so that one can be made of the other; what the catalog keeps for itself is left out.
package view

import (
	"ambercellar/internal/catalog"
)

// Totals is what the overview sums up.
type Totals struct {
	Segments  int64 `json:"segments"`
	Rows      int64 `json:"rows"`
	RawBytes  int64 `json:"raw_bytes"`
	FileBytes int64 `json:"file_bytes"`
	Purged    int64 `json:"purged"`
}

// TotalsOf shows a record of the catalog.
func TotalsOf(t *catalog.Totals) Totals {
	return Totals{Segments: t.Segments, Rows: t.Rows, RawBytes: t.RawBytes, FileBytes: t.FileBytes, Purged: t.Purged}
}

package tables

import (
	"fmt"

	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// What became of a row of a slice.
const (
	RowDeleted = iota + 1
	RowChanged
	RowVanished
	RowSkipped
	RowHeld
)

// Fates computes from journal rows what became of each row of a slice; 0: no batch has covered it yet. Later batches
// overrule earlier ones.
func Fates(fate []byte, journal []source.JournalRow) error {
	for _, row := range journal {
		for o := row.First; o <= row.Last && o < len(fate); o++ {
			if !row.Retry || fate[o] == RowSkipped {
				fate[o] = RowDeleted
			}
		}
		for code, ordinals := range map[byte][]int{RowChanged: row.Changed, RowVanished: row.Vanished,
			RowSkipped: row.Skipped, RowHeld: row.Held} {
			for _, o := range ordinals {
				if o < 0 || o >= len(fate) {
					return fmt.Errorf("%w: the journal names row %d of %d", refuse.ErrBooks, o, len(fate))
				}
				fate[o] = code
			}
		}
	}
	return nil
}

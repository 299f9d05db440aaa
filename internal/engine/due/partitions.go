package due

import (
	"context"
	"fmt"

	"github.com/dustin/go-humanize"

	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// Wholly says why a selection does not take all rows of its table; nil where it does.
func Wholly(ctx context.Context, src source.Source, sel source.Selection) error {
	tallies, err := src.Tally(ctx, sel, source.Span{})
	if err != nil {
		return err
	}
	outside := int64(0)
	if !sel.Empties() {
		if outside, err = src.Outside(ctx, sel); err != nil {
			return err
		}
	}
	var uncovered, held, restored, referenced, stays int64
	for _, t := range tallies {
		if t.Clause < 0 {
			uncovered += t.Rows
			continue
		}
		held, restored, referenced = held+t.Held, restored+t.Restored, referenced+t.Referenced
		stays += t.Rows - t.Due
	}
	for _, x := range []struct {
		rows int64
		text string
	}{{held, "%s rows of it are held"}, {restored, "%s rows of it were restored"},
		{referenced, "other tables refer to %s rows of it"}, {uncovered, "%s rows of it are covered by no clause"},
		{outside, "the age of %s rows of it is no instant"}, {stays, "%s rows of it are not due"}} {
		if x.rows > 0 {
			return &refuse.Differs{Why: fmt.Sprintf(x.text, humanize.Comma(x.rows))}
		}
	}
	return nil
}

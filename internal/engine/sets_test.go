package engine

import (
	"testing"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/run"
)

// A digest that cannot be read is never taken for the empty set: whatever is added to it, in whichever order, the
// ledger does not close.
func TestADigestThatCannotBeReadStaysInTheSum(t *testing.T) {
	t.Parallel()
	var h value.Hasher
	var one value.Set
	one.Add(h.Row([]value.Value{value.Of(1)}))
	good, bad := one.String(), one.String()[:20]
	for _, texts := range [][]string{{bad}, {good, bad}, {bad, good}, {good, bad, good}, {"", bad, ""}} {
		sum := &catalog.Ledger{Copied: 1, Deleted: 1}
		for _, text := range texts {
			run.AddLedger(sum, catalog.Ledger{CopiedDigest: text, DeletedDigest: good, LeftDigest: ""})
		}
		if sum.CopiedDigest != bad {
			t.Errorf("%q add up to %q", texts, sum.CopiedDigest)
		}
		if err := run.CloseLedger(sum); err == nil || sum.Balanced != nil {
			t.Errorf("%q: the ledger closes, %v", texts, sum.Balanced)
		}
	}
	sum := &catalog.Ledger{Copied: 2, Deleted: 2}
	for range 2 {
		run.AddLedger(sum, catalog.Ledger{CopiedDigest: good, DeletedDigest: good})
	}
	if err := run.CloseLedger(sum); err != nil || sum.Balanced == nil || !*sum.Balanced {
		t.Errorf("two good ones: %+v, %v", sum, err)
	}
}

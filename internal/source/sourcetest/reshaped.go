package sourcetest

import (
	"errors"
	"fmt"
	"testing"

	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// reshaped: nothing is read or deleted of a table that was altered since it was described, in whatever way would make
// more go than was copied; after it was described again, it is.
func reshaped(t *testing.T, w *world) {
	w.scans(t, 20, 10)
	sel := w.selection(t, "scan", "scanned_at")
	p, lease := w.read(t, sel, nil, 100, 1<<30), w.lease(t, "scan", "me")
	for i, alteration := range []string{"ALTER TABLE scan ADD extra varchar(20)",
		"CREATE TABLE child (id integer PRIMARY KEY, scan integer REFERENCES scan (id) ON DELETE CASCADE)"} {
		w.exec(alteration)
		if row, err := w.s.DeleteBatch(w.ctx, w.batch(sel, p, lease, i+1)); !errors.Is(err, source.ErrReshaped) {
			t.Errorf("%s: a batch is deleted: %+v, %v", alteration, row, err)
		}
		if rows, err := source.FamiliesOf(w.s).DeleteFamilies(w.ctx, w.batch(sel, p, lease, i+1)); !errors.Is(err,
			source.ErrReshaped) {
			t.Errorf("%s: families are deleted: %+v, %v", alteration, rows, err)
		}
		if x, ok := w.s.(source.Purger); ok {
			if row, _, err := x.Purge(w.ctx, source.PurgeRequest{Selection: sel, Lease: lease, Segment: 1, Number: i +
				1, Rows: 5}); !errors.Is(err, source.ErrReshaped) {
				t.Errorf("%s: rows are purged: %+v, %v", alteration, row, err)
			}
		}
		if _, err := w.s.ReadSlice(w.ctx, source.SliceRequest{Selection: sel, Columns: allColumns(sel.Table),
			MaxRows: 5, MaxBytes: 1 << 30}, func(*value.Chunk) error { return nil }); !errors.Is(err,
			source.ErrReshaped) {
			t.Errorf("%s: a slice is read: %v", alteration, err)
		}
		w.renew(t, sel)
		expect(t, fmt.Sprintf("rows that are due after %q", alteration), w.due(t, sel), 10)
	}
	w.exec("CREATE TABLE elsewhere (id integer PRIMARY KEY)")
	row, err := w.s.DeleteBatch(w.ctx, w.batch(sel, p, lease, 3))
	if err != nil || row.Deleted != 10 {
		t.Errorf("described again: %+v, %v", row, err)
	}
}

// renew describes a selection's table again and takes its new sign.
func (w *world) renew(t *testing.T, sel source.Selection) {
	t.Helper()
	now, err := w.s.Table(w.ctx, sel.Table.Name)
	if err != nil {
		t.Fatal(err)
	}
	sel.Table.Sign.Renew(now.Sign)
}

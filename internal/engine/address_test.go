package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/source"
)

// rewriting rewrites the table before its third batch is deleted.
type rewriting struct {
	source.Source
	batches int
	rewrite func()
}

func (x *rewriting) Unwrap() source.Source { return x.Source }

func (r *rewriting) DeleteBatch(ctx context.Context, b source.Batch) (*source.JournalRow, error) {
	if r.batches++; r.batches == 3 {
		r.rewrite()
	}
	return r.Source.DeleteBatch(ctx, b)
}

func TestTablesWithoutKeyGoByAddress(t *testing.T) {
	t.Parallel()
	divided := func(t testing.TB, h *harbour) { // two partitions in which the same addresses occur
		heap(t, h)
		h.exec(t, "ALTER TABLE scan RENAME TO loose",
			"CREATE TABLE scan (id integer, at timestamptz NOT NULL, note varchar(40)) PARTITION BY RANGE (at)",
			"CREATE TABLE scan_old PARTITION OF scan FOR VALUES FROM ('2019-01-01+00') TO ('2020-01-03+00')",
			"CREATE TABLE scan_new PARTITION OF scan FOR VALUES FROM ('2020-01-03+00') TO ('2021-01-01+00')",
			"INSERT INTO scan SELECT * FROM loose", "DROP TABLE loose", "CREATE INDEX ON scan (at)")
	}
	for _, c := range []struct {
		name, engine, rewrite string
		prepare               func(testing.TB, *harbour)
	}{{"sqlite", "sqlite", "", heap}, {"postgres", "postgres", "VACUUM FULL scan", heap},
		{"postgres divided", "postgres", "VACUUM FULL scan_old", divided}} {
		t.Run(c.name, func(t *testing.T) {
			h := newHarbour(t, c.engine)
			c.prepare(t, h)
			s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-01-06", "archive") + cellar,
				tables: []string{"scan"}, gone: 238}
			b := h.serve(t, func(src source.Source) source.Source {
				return &rewriting{Source: src, rewrite: func() {
					if c.rewrite != "" {
						h.exec(t, c.rewrite)
					}
				}}
			})
			before := s.rows(t, b)
			run := s.start(t, h, b)
			if err := s.work(t, b, run); err != nil {
				t.Fatal(err)
			}
			s.account(t, b, h, run, before, c.name)
			var refused *refuse.Error
			if _, err := b.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "scan",
				Keys: []string{"1"}, Reason: "r", Reference: "c"}); !errors.As(err, &refused) ||
				!strings.Contains(err.Error(), "no key") {
				t.Errorf("a hold on keys: %v", err)
			}
			for _, want := range []int64{238, 0} {
				x, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Scope: catalog.Scope{Run: run},
					Target: "table"})
				if err == nil {
					err = b.Restores.Restore(t.Context(), x, t.TempDir())
				}
				if err != nil || x.Restored != want || x.Skipped != 238-want {
					t.Errorf("restored %d, skipped %d, want %d restored: %v", x.Restored, x.Skipped, want, err)
				}
				if s.rows(t, b)["scan"] != before["scan"] {
					t.Error("what came back is not what went")
				}
			}
		})
	}
}

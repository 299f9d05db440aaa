package engine

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/source"
)

// meddled calls out before a partition is taken out, and when it is locked.
type meddled struct {
	source.Source
	source.Partitions
	detach, seize, seized func()
}

func (m *meddled) Detach(ctx context.Context, l source.Lease, t *shape.Table, partition string) error {
	if m.detach != nil {
		m.detach()
		m.detach = nil
	}
	return m.Partitions.Detach(ctx, l, t, partition)
}

func (m *meddled) Seize(ctx context.Context, l source.Lease, t *shape.Table, partition string) (source.Seized, error) {
	if m.seize != nil {
		m.seize()
		m.seize = nil
	}
	z, err := m.Partitions.Seize(ctx, l, t, partition)
	if m.seized != nil && err == nil {
		m.seized()
		m.seized = nil
	}
	return z, err
}

func divided(t *testing.T, fn func(t *testing.T, h *harbour)) {
	for _, engine := range []string{"postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			h.readings(t, 250)
			fn(t, h)
		})
	}
}

// partStates says what became of each partition of a run.
func partStates(r *catalog.Run) string {
	var out []string
	for _, p := range r.Parts.V {
		text := fmt.Sprintf("%s %s %d", strings.TrimPrefix(p.Name, "reading_"), p.State, p.Left)
		if p.Reason != "" {
			text += " (" + p.Reason + ")"
		}
		out = append(out, text)
	}
	return strings.Join(out, "; ")
}

func TestPartitionsLeaveAsAWhole(t *testing.T) {
	t.Parallel()
	divided(t, func(t *testing.T, h *harbour) {
		b := h.serve(t, nil)
		b.rule(t, fmt.Sprintf(readingRule, "archive"))
		before := h.words(t, h.digest("at < '2026-05-01'"))
		p := b.plan(t, plan.PlanRequest{Rule: "readings", Exact: true})
		var ways []string
		for _, x := range p.Detail.V.Partitions {
			ways = append(ways, x.Name[8:]+" "+string(x.Way))
		}
		if got := strings.Join(ways, ", "); got != "2026_01 whole, 2026_02 whole, 2026_03 whole, 2026_04 whole, "+
			"2026_05 stays" || p.Counts.V.Due != 1000 {
			t.Fatalf("planned: %s; due %d", got, p.Counts.V.Due)
		}
		r := b.begin(t, p)
		if err := b.Runs.Run(t.Context(), r); err != nil {
			t.Fatal(err)
		}
		if got := partStates(r); got != "2026_01 left 250; 2026_02 left 250; 2026_03 left 250; 2026_04 left 250" {
			t.Errorf("parts: %s", got)
		}
		if got := h.parts(t); got != "2026_05" || h.count(t, "SELECT count(*) FROM reading") != 250 {
			t.Errorf("left: %s", got)
		}
		if r.Deleted != 1000 || r.Ledger.Copied != 1000 || r.Balanced == nil || !*r.Balanced {
			t.Errorf("ledger: %+v", r.Ledger)
		}
		if list, err := source.PartitionsOf(mustSource(t, b)).Departures(t.Context(), "reading"); err != nil ||
			len(list) != 0 {
			t.Errorf("on their way still: %v, %v", list, err)
		}
		segments, err := b.Catalog.RunSegments(t.Context(), r.ID)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range segments {
			if s.State != catalog.SegmentClosed || s.Deleted != s.Rows || s.Part == "" {
				t.Errorf("segment %d: %+v", s.Number, s)
			}
			if _, err := b.Upkeep.VerifySegment(t.Context(), s.ID); err != nil {
				t.Error(err)
			}
		}
		// What left with its partition comes back like anything: first, room is made for it.
		if h.engine == "postgres" {
			h.exec(t, "CREATE TABLE reading_old PARTITION OF reading FOR VALUES FROM (MINVALUE) TO ('2026-05-01')")
		}
		b.restore(t, r)
		if after := h.words(t, h.digest("at < '2026-05-01'")); after != before {
			t.Error("what came back is not what left")
		}
	})
}

func TestAPartitionThatChangesMeanwhileGoesBack(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		change string
		when   string
		want   string // of the first partition
		ledger string // copied, deleted, changed
	}{
		"changed": {"UPDATE reading SET deck = 'wet' WHERE id = 101", "detach",
			"rows 0 (some of its rows were changed after they were copied)", "1001 1000 1"},
		"inserted": {"INSERT INTO reading (id, at, deck) VALUES (7, '2026-01-05 00:00:00', 'late')",
			"detach", "rows 0 (250 of its rows were copied, and 251 are there now)", "1001 1001 0"},
		"deleted": {"DELETE FROM reading WHERE id = 101", "detach",
			"rows 0 (250 of its rows were copied, and 249 are there now)", "1000 999 0"},
		"held": {"hold", "seize", "rows 0 (250 of its rows were copied, and 249 are there now)",
			"1000 999 0"},
		"held when it is locked": {"hold", "seized", "rows 0 (250 of its rows were copied, and 249 are there now)",
			"1000 999 0"},
	} {
		t.Run(name, func(t *testing.T) {
			divided(t, func(t *testing.T, h *harbour) {
				m := &meddled{}
				b := h.serve(t, func(s source.Source) source.Source {
					m.Source, m.Partitions = s,
						source.PartitionsOf(s)
					return m
				})
				b.rule(t, fmt.Sprintf(readingRule, "archive"))
				r := b.begin(t, b.plan(t, plan.PlanRequest{Rule: "readings"}))
				change := func() {
					if c.change != "hold" {
						h.exec(t, c.change)
					} else if _, err := b.Plans.PlaceHold(t.Context(), "me",
						plan.HoldRequest{Source: "harbour", Table: "reading", Where: "id = 101", Reference: "claim 7",
							Reason: "for the test"}); err != nil {
						t.Error(err)
					}
				}
				switch c.when {
				case "detach":
					m.detach = change
				case "seize":
					m.seize = change
				default:
					m.seized = change
				}
				if err := b.Runs.Run(t.Context(), r); err != nil {
					t.Fatal(err)
				}
				if got := partStates(r); got != "2026_01 "+c.want+
					"; 2026_02 left 250; 2026_03 left 250; 2026_04 left 250" {
					t.Errorf("parts: %s", got)
				}
				if got := fmt.Sprintf("%d %d %d", r.Ledger.Copied, r.Ledger.Deleted,
					r.Ledger.Changed); got != c.ledger || !*r.Balanced {
					t.Errorf("ledger: %+v", r.Ledger)
				}
				if got := h.parts(t); got != "2026_01 2026_05" {
					t.Errorf("partitions: %s", got)
				}
				if n := h.count(t, "SELECT count(*) FROM reading WHERE at < "+
					"'2026-05-01'"); (c.change == "hold") != (n == 1) {
					t.Errorf("%d old rows are live", n)
				}
				if h.engine == "postgres" && h.words(t,
					"SELECT string_agg(conname, ' ' ORDER BY conname) FROM pg_constraint WHERE conrelid = "+
						"'reading_2026_01'::regclass AND contype = 'c'") != "reading_celsius_check" {
					t.Error("the constraint that detaching made is still there")
				}
			})
		})
	}
}

func TestPurgedPartitionsAreCountedUnderTheirLock(t *testing.T) {
	t.Parallel()
	divided(t, func(t *testing.T, h *harbour) {
		b := h.serve(t, nil)
		b.rule(t, strings.NewReplacer("  - before: 2026-05-01",
			"  - {before: 2026-04-01, where: deck = 'deck 1'}\n  - {before: 2026-05-01, otherwise: true}",
			"archive: {store: cellar}\n", "").Replace(fmt.Sprintf(readingRule, "purge")))
		r := b.begin(t, b.plan(t, plan.PlanRequest{Rule: "readings"}))
		if err := b.Runs.Run(t.Context(), r); err != nil {
			t.Fatal(err)
		}
		kept := h.count(t, "SELECT count(*) FROM reading WHERE deck = 'deck 1' AND at >= '2026-04-01' AND at < "+
			"'2026-05-01'")
		if got := partStates(r); got != "2026_01 left 250; 2026_02 left 250; 2026_03 left 250" ||
			h.parts(t) != "2026_04 2026_05" {
			t.Errorf("parts: %s; there: %s", got, h.parts(t))
		}
		if n := h.count(t, "SELECT count(*) FROM reading"); kept == 0 || n != 250+kept || r.Ledger.Deleted != 1250-n ||
			!*r.Balanced {
			t.Errorf("%d of %d rows are left; ledger %+v", n, kept, r.Ledger)
		}
		if x := r.Passes.V; x[0].Ledger.Deleted == 0 || x[0].Ledger.Deleted+x[1].Ledger.Deleted != r.Ledger.Deleted {
			t.Errorf("passes: %+v", x)
		}
	})
}

func TestOthersAtTheTableKeepAPartitionThereForAWhile(t *testing.T) {
	t.Parallel()
	divided(t, func(t *testing.T, h *harbour) {
		m := &meddled{}
		b := h.serve(t, func(s source.Source) source.Source {
			m.Source, m.Partitions = s, source.PartitionsOf(s)
			return m
		})
		b.rule(t, fmt.Sprintf(readingRule, "archive"))
		r := b.begin(t, b.plan(t, plan.PlanRequest{Rule: "readings"}))
		tx, err := h.db.Begin()
		if err != nil {
			t.Fatal(err)
		}
		waited := false
		m.detach = func() {
			var n int
			if err := tx.QueryRow("SELECT count(*) FROM reading").Scan(&n); err != nil || n != 1250 {
				t.Error(n, err)
			}
		}
		b.Runs.Progress = func(r *catalog.Run) {
			if !waited && strings.HasPrefix(r.Reason, "waiting") {
				waited = true
				tx.Rollback()
			}
		}
		if err := b.Runs.Run(t.Context(), r); err != nil {
			t.Fatal(err)
		}
		if got := partStates(r); !waited ||
			got != "2026_01 left 250; 2026_02 left 250; 2026_03 left 250; 2026_04 left 250" || r.Reason != "" {
			t.Errorf("waited %v; parts: %s; %s", waited, got, r.Reason)
		}
	})
}

func TestWithoutTheRightsForPartitionsRowsGoOneByOne(t *testing.T) {
	t.Parallel()
	divided(t, func(t *testing.T, h *harbour) {
		u, err := url.Parse(h.address)
		if err != nil {
			t.Fatal(err)
		}
		u.User = url.User("mover")
		if h.engine == "postgres" {
			h.exec(t, "DO $$ BEGIN CREATE ROLE mover LOGIN; EXCEPTION WHEN duplicate_object THEN NULL; END $$",
				"GRANT SELECT, DELETE ON reading TO mover", "GRANT CREATE ON DATABASE "+h.database()+" TO mover")
		} else {
			h.exec(t, "CREATE OR REPLACE USER mover", "GRANT SELECT, INSERT, UPDATE, DELETE, CREATE ON "+h.database()+
				".* TO mover")
		}
		whole := h.address
		h.address = u.String()
		b := h.serve(t, nil)
		h.address = whole
		if h.engine == "postgres" { // a right on the table alone is none on its partitions
			report, err := mustSource(t, b).Check(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			i := slices.IndexFunc(report.Items, func(f source.Finding) bool {
				return f.Table == "reading" &&
					f.Remedy != ""
			})
			if i < 0 || !strings.Contains(report.Items[i].Remedy, "DELETE") ||
				!strings.Contains(report.Items[i].Remedy, `"reading_2026_01"`) {
				t.Fatalf("the check: %+v", report.Items)
			}
			h.exec(t, report.Items[i].Remedy)
		}
		b.rule(t, fmt.Sprintf(readingRule, "archive"))
		p := b.plan(t, plan.PlanRequest{Rule: "readings"})
		r := b.begin(t, p)
		if err := b.Runs.Run(t.Context(), r); err != nil {
			t.Fatal(err)
		}
		if why := p.Detail.V.Partitions[0].Why; h.engine == "postgres" &&
			(len(r.Parts.V) > 0 || !strings.Contains(why, "only the owner of the table may detach its partitions")) {
			t.Errorf("planned: %q; parts: %s", why, partStates(r))
		}
		if got := partStates(r); h.engine == "mariadb" && strings.Count(got, "rows 0") != 4 ||
			strings.Count(got, "denied") != len(r.Parts.V) {
			t.Errorf("parts: %s", got)
		}
		if list, err := source.PartitionsOf(mustSource(t, b)).Departures(t.Context(), "reading"); err != nil ||
			len(list) != 0 || r.Deleted != 1000 || !*r.Balanced ||
			h.parts(t) != "2026_01 2026_02 2026_03 2026_04 2026_05" {
			t.Errorf("on their way: %v, %v; ledger %+v; partitions %s", list, err, r.Ledger, h.parts(t))
		}
	})
}

func TestPartitionsThatOthersFollowGoRowByRow(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "postgres")
	h.readings(t, 20)
	h.exec(t, "CREATE FUNCTION keep() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RETURN OLD; END $$",
		"CREATE TRIGGER kept BEFORE DELETE ON reading_2026_02 FOR EACH ROW EXECUTE FUNCTION keep()",
		"CREATE TABLE reading_note (id bigint, at timestamptz, FOREIGN KEY (id, at) REFERENCES reading_2026_03 "+
			"(id, at))")
	b := h.serve(t, nil)
	b.rule(t, fmt.Sprintf(readingRule, "archive"))
	p := b.plan(t, plan.PlanRequest{Rule: "readings"})
	if x := p.Detail.V.Partitions; x[0].Way != rule.WayWhole || x[1].Way != rule.WayRows ||
		!strings.Contains(x[1].Why, "a trigger of its own") {
		t.Errorf("planned: %+v", x[:2])
	}
	r := b.begin(t, p)
	if err := b.Runs.Run(t.Context(), r); err != nil {
		t.Fatal(err)
	}
	if got := partStates(r); !strings.Contains(got, "2026_01 left 20; 2026_03 rows 0") || r.Deleted != 80 ||
		h.parts(t) != "2026_02 2026_03 2026_05" {
		t.Errorf("parts: %s; ledger %+v; partitions %s", got, r.Ledger, h.parts(t))
	}
	h.exec(t, "CREATE PUBLICATION feed FOR TABLE reading")
	if x := b.plan(t, plan.PlanRequest{Rule: "readings"}).Detail.V.Partitions; !strings.Contains(x[0].Why,
		"a publication sends deletes on") {
		t.Errorf("planned where it is published: %+v", x[0])
	}
}

func TestPartitionsAreMadeAhead(t *testing.T) {
	t.Parallel()
	divided(t, func(t *testing.T, h *harbour) {
		b := h.serve(t, nil)
		for _, try := range []bool{true, false} {
			out, err := b.Plans.MakeAhead(t.Context(), "me", "harbour", "reading", 3, try)
			if err != nil {
				t.Fatal(err)
			}
			if len(out.Partitions) != 3 || out.Partitions[2].Name != "reading_2026_08" ||
				out.Partitions[2].To != "2026-09-01T00:00:00Z" || out.Made == try || len(out.Statements) == 0 {
				t.Errorf("%+v", out)
			}
			want := "2026_01 2026_02 2026_03 2026_04 2026_05"
			if !try {
				want += " 2026_06 2026_07 2026_08"
			}
			if got := h.parts(t); got != want {
				t.Errorf("partitions: %s", got)
			}
		}
		h.exec(t, "INSERT INTO reading (id, at) VALUES (99999, '2026-08-31 23:59:59')")
		if _, err := b.Plans.MakeAhead(t.Context(), "me", "harbour", "reading", 0, true); err == nil {
			t.Error("none are made")
		}
	})
}

func mustSource(t *testing.T, b *bench) source.Source {
	t.Helper()
	s, err := b.Source(t.Context(), "harbour")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// restore puts all rows of a run back.
func (b *bench) restore(t *testing.T, r *catalog.Run) *catalog.Restore {
	t.Helper()
	x, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Scope: catalog.Scope{Run: r.ID},
		Target: "table"})
	if err == nil {
		err = b.Restores.Restore(t.Context(), x, t.TempDir())
	}
	if err != nil {
		t.Fatal(err)
	}
	return x
}

// digest is a query for a fingerprint of readings.
func (h *harbour) digest(where string) string {
	if h.engine == "postgres" {
		return "SELECT md5(string_agg(reading::text, '|' ORDER BY id)) FROM reading WHERE " + where
	}
	return "SELECT md5(group_concat(id, '/', at, '/', deck, '/', celsius ORDER BY id SEPARATOR '|')) FROM reading " +
		"WHERE " + where
}

const emptyRule = "rule: queue\nsource: harbour\ntable: waiting\nage: at\nzone: UTC\nconfirm: empty " +
	"waiting\nclauses:\n  - keep: none\nthen: purge\npace: unlimited\n"

// queue makes table waiting, with so many rows.
func (h *harbour) queue(t testing.TB, n int) {
	t.Helper()
	kind := map[string]string{"sqlite": "datetime", "postgres": "timestamptz", "mariadb": "datetime"}[h.engine]
	h.exec(t, "CREATE TABLE waiting (id integer PRIMARY KEY, at "+kind+", note text)",
		fmt.Sprintf("INSERT INTO waiting WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < "+
			"%d) SELECT g, CASE WHEN g %% 3 = 0 THEN NULL ELSE '2026-01-01 00:00:00' END%s, 'x' FROM s",
			n, map[string]string{"postgres": "::timestamptz"}[h.engine]))
}

func TestATableIsEmptiedAtOnceOnlyWhereThatIsOffered(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			h.queue(t, 500)
			b := h.serve(t, nil)
			b.rule(t, emptyRule)
			p := b.plan(t, plan.PlanRequest{Rule: "queue", Exact: true})
			x := p.Detail.V.Emptying
			if x == nil || x.Offered != (engine != "sqlite") || x.Offered != (len(x.Effects) == 2) ||
				p.Counts.V.Due != 500 {
				t.Fatalf("%+v, due %d", x, p.Counts.V.Due)
			}
			if engine == "sqlite" {
				if _, err := b.Plans.Start(t.Context(), "me", p.ID, true); err == nil ||
					!strings.Contains(err.Error(),
						"does not offer to empty table waiting at once: SQLite has no statement") {
					t.Error(err)
				}
				return
			}
			if engine == "mariadb" {
				h.exec(t, "DO SLEEP(3.1)") // a table made just now cannot be told from one emptied just now
			}
			r, err := b.Plans.Start(t.Context(), "me", p.ID, true)
			if err == nil {
				r, err = b.Catalog.SetRunState(t.Context(), "me", r.ID, catalog.Running, "")
			}
			if err == nil {
				h.exec(t, "INSERT INTO waiting VALUES (501, NULL, 'late')") // due like all others
				err = b.Runs.Run(t.Context(), r)
			}
			if err != nil {
				t.Fatal(err)
			}
			if n := h.count(t, "SELECT count(*) FROM waiting"); n != 0 || r.Deleted != 501 || !*r.Balanced ||
				r.Reason != "" || r.Emptying {
				t.Errorf("%d rows are left; ledger %+v; %q", n, r.Ledger, r.Reason)
			}
			if batches, err := b.Catalog.Batches(t.Context(), r.ID, catalog.First(10)); err != nil ||
				len(batches) != 1 || batches[0].Deleted != 501 {
				t.Errorf("batches: %+v, %v", batches, err)
			}
			h.exec(t, "INSERT INTO waiting VALUES (1, NULL, 'again')")
			if _, err := b.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "waiting",
				Where: "id = 1", Reference: "claim 7", Reason: "for the test"}); err != nil {
				t.Fatal(err)
			}
			if x := b.plan(t, plan.PlanRequest{Rule: "queue"}).Detail.V.Emptying; x.Offered ||
				x.Why != "there is a hold on the table" {
				t.Errorf("%+v", x)
			}
		})
	}
}

func TestATableThatOthersNeverLetGoOfIsEmptiedInBatches(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			h.queue(t, 300)
			if engine == "mariadb" {
				h.exec(t, "DO SLEEP(3.1)") // a table made just now cannot be told from one emptied just now
			}
			b := h.serve(t, nil)
			b.rule(t, emptyRule)
			r, err := b.Plans.Start(t.Context(), "me", b.plan(t, plan.PlanRequest{Rule: "queue"}).ID, true)
			if err == nil {
				r, err = b.Catalog.SetRunState(t.Context(), "me", r.ID, catalog.Running, "")
			}
			tx, busy := newHarbourAt(t, engine, h.address).db.Begin()
			if busy == nil {
				_, busy = tx.Exec("SELECT 1 FROM waiting WHERE id = 9999")
			}
			if err := errors.Join(err, busy); err != nil {
				t.Fatal(err)
			}
			defer tx.Rollback()
			if err := b.Runs.Run(t.Context(), r); err != nil {
				t.Fatal(err)
			}
			if n := h.count(t, "SELECT count(*) FROM waiting"); n != 0 || r.Deleted != 300 ||
				!strings.HasPrefix(partStates(r),
					" rows 0 (others were at the table whenever it was to be emptied: ") {
				t.Errorf("%d rows are left; ledger %+v; %q", n, r.Ledger, partStates(r))
			}
		})
	}
}

func TestATableOnWhichAHoldComesIsEmptiedInBatches(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			h.queue(t, 300)
			b := h.serve(t, nil)
			b.rule(t, emptyRule)
			r, err := b.Plans.Start(t.Context(), "me", b.plan(t, plan.PlanRequest{Rule: "queue"}).ID, true)
			if err == nil {
				r, err = b.Catalog.SetRunState(t.Context(), "me", r.ID, catalog.Running, "")
			}
			if err != nil {
				t.Fatal(err)
			}
			if _, err := b.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "waiting",
				Where: "id <= 3", Reference: "claim 7", Reason: "for the test"}); err != nil {
				t.Fatal(err)
			}
			if err := b.Runs.Run(t.Context(), r); err != nil {
				t.Fatal(err)
			}
			if n := h.count(t, "SELECT count(*) FROM waiting"); n != 3 || r.Deleted != 297 ||
				!strings.HasPrefix(partStates(r), " rows 0 (hold ") ||
				!strings.HasSuffix(partStates(r), " (claim 7) stands on the table)") {
				t.Errorf("%d rows are left; ledger %+v; %q", n, r.Ledger, partStates(r))
			}
		})
	}
}

package engine

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/reconcile"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/upkeep"
)

// finish carries a run of the rule scans out and ends it.
func (b *bench) finish(t *testing.T, q plan.PlanRequest) *catalog.Run {
	t.Helper()
	r := b.begin(t, b.plan(t, q))
	if err := b.Runs.Run(t.Context(), r); err != nil {
		t.Fatal(err)
	}
	r, err := b.Catalog.SetRunState(t.Context(), "service", r.ID, catalog.Done, "")
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// putBackAgain restores rows for good.
func (b *bench) putBackAgain(t *testing.T, where string, n int64) {
	t.Helper()
	r, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Source: "harbour", Table: "scan",
		Scope: catalog.Scope{Where: where}, Target: catalog.TargetTable, Pace: "unlimited"})
	if err == nil {
		err = b.Restores.Restore(t.Context(), r, t.TempDir())
	}
	if err != nil || r.Restored != n {
		t.Fatalf("%+v, %v", r, err)
	}
}

// TestARecordCountsOnce: one that was put back counts once with the archive, and one that was archived again is found
// in its newest version, counted and summed up once; what has become of all rows adds up.
func TestARecordCountsOnce(t *testing.T) {
	t.Parallel()
	b, _ := archivedScans(t, "PT1S")
	count := func(what, where string, live bool, want string) {
		t.Helper()
		s, err := b.Search.Summarise(t.Context(), search.SummaryRequest{Source: "harbour", Table: "scan", Where: where,
			Of: []search.Measure{{Of: "count"}}, Live: live})
		if err != nil || *s.Groups[0][0] != want {
			t.Errorf("%s: %v, %v", what, s, err)
		}
	}
	totals := func(what string, want reconcile.TableTotals) {
		t.Helper()
		x, err := b.Reconcile.Reconcile(t.Context(), "harbour", "scan")
		if err != nil || x.Totals == nil || *x.Totals != want {
			t.Errorf("%s: %+v, %v", what, x.Totals, err)
		}
	}
	live := int64(b.live(t))
	all := int64(rows)
	gone := all - live
	totals("archived", reconcile.TableTotals{Live: live, Counted: true, Archived: gone, Records: all, ByRuns: gone,
		AddsUp: true})
	b.exec(t, "INSERT INTO scan VALUES (20000, '2026-11-20', 'of today')")
	b.putBackAgain(t, "id BETWEEN 1500 AND 1509", 10)
	totals("put back", reconcile.TableTotals{Live: live + 11, Counted: true, Archived: gone, Restored: 10,
		Records: all + 1, ByRuns: gone, AddsUp: true})
	count("archive alone", "id BETWEEN 1490 AND 1519", false, "30")
	count("with the table", "id BETWEEN 1490 AND 1519", true, "30")
	count("all", "TRUE", true, fmt.Sprint(all+1))

	// They are archived once more, changed, since their record was dropped.
	b.exec(t, "UPDATE scan SET note = 'seen ' || id WHERE id BETWEEN 1500 AND 1509")
	var table string
	if err := b.db.QueryRow("SELECT name FROM sqlite_master WHERE name LIKE 'ambercellar_restored%'").Scan(
		&table); err != nil {
		t.Fatal(err)
	}
	b.exec(t, `DROP TABLE "`+table+`"`)
	b.finish(t, plan.PlanRequest{})
	totals("archived again", reconcile.TableTotals{Live: live + 1, Counted: true, Archived: gone + 10, Again: 10,
		Records: all + 1, ByRuns: gone + 10, AddsUp: true})
	count("counted once", "id BETWEEN 1490 AND 1519", false, "30")
	count("changed ones", "note LIKE 'seen %'", false, "10")
	if text, s := b.found(t, search.SearchRequest{Where: "id BETWEEN 1499 AND 1501", Columns: []string{"note"},
		Limit: 10}); text != "note 1499|note 1501|seen 1500" && text != "note 1499|seen 1500|seen 1501" ||
		s.Superseded != 2 {
		t.Errorf("found: %s, %+v", text, s)
	}
	if text, s := b.found(t, search.SearchRequest{Where: "id = 1500",
		Columns: []string{"note"}}); text != "seen 1500" || s.Superseded != 1 {
		t.Errorf("found without a limit: %s, %+v", text, s)
	}

	// Some are destroyed, others purged: it still adds up.
	b.now = b.now.Add(time.Minute)
	d := b.decide(t)
	d.Items.V = d.Items.V[:1]
	if err := b.Disposals.Dispose(t.Context(), d); err != nil {
		t.Fatal(err)
	}
	first := d.Items.V[0].Rows
	b.rule(t, "rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - keep: P1D\nthen: "+
		"purge\npace: unlimited\n")
	b.finish(t, plan.PlanRequest{})
	totals("disposed of and purged", reconcile.TableTotals{Counted: true, Archived: gone + 10 - first, Again: 10,
		Records: gone - first, Purged: live + 1, Disposed: first, ByRuns: gone + 11 + live, AddsUp: true})
}

// TestALedgerIsCheckedByAnybody: an exported ledger holds with the stores alone; a changed number, a changed record, a
// missing file and a flipped byte are named.
func TestALedgerIsCheckedByAnybody(t *testing.T) {
	t.Parallel()
	b, _ := archivedScans(t, "P7D")
	runs, err := b.Catalog.Runs(t.Context(), catalog.RunFilter{}, catalog.First(10))
	if err != nil {
		t.Fatal(err)
	}
	l, err := b.Upkeep.Ledger(t.Context(), runs[0].ID)
	if err != nil || len(l.Parts) != 1 || len(l.Parts[0].Segments) != 1 {
		t.Fatalf("%+v, %v", l, err)
	}
	text, err := json.Marshal(l)
	if err != nil {
		t.Fatal(err)
	}
	places := []archive.Place{{Name: "cellar", Store: b.store.Directory}}
	check := func(what, want string, change func(*upkeep.RunLedger)) {
		t.Helper()
		var again upkeep.RunLedger
		if err := json.Unmarshal(text, &again); err != nil {
			t.Fatal(err)
		}
		change(&again)
		got, err := upkeep.CheckLedger(t.Context(), &again, places)
		if err != nil {
			t.Fatal(err)
		}
		if all := strings.Join(got.Wrong, "\n"); want == "" && (all != "" || got.Rows == 0 || got.Segments != 1) ||
			!strings.Contains(all, want) {
			t.Errorf("%s: %+v", what, got)
		}
	}
	nothing := func(*upkeep.RunLedger) {}
	check("as it is", "", nothing)
	check("a row more", "are not", func(l *upkeep.RunLedger) { l.Parts[0].Ledger.Copied++ })
	check("a row deleted that was not", "the closing records tell of",
		func(l *upkeep.RunLedger) { l.Parts[0].Ledger.Copied++; l.Parts[0].Ledger.Deleted++ })
	check("another digest", "do not add up",
		func(l *upkeep.RunLedger) { l.Parts[0].Ledger.LeftDigest = l.Parts[0].Ledger.DeletedDigest })
	check("another record", "is not the one that the ledger tells of",
		func(l *upkeep.RunLedger) { l.Parts[0].Segments[0].ClosingHash = strings.Repeat("0", 64) })
	check("a segment that never was", "at none of these places",
		func(l *upkeep.RunLedger) { l.Parts[0].Segments[0].Stem += "x" })
	file := filepath.Join(b.cellar, l.Parts[0].Segments[0].Stem+".parquet")
	content, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	content[len(content)/2] ^= 1
	if err := os.WriteFile(file, content, 0o640); err != nil {
		t.Fatal(err)
	}
	check("a flipped byte", "SHA-256", nothing)
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	check("a missing file", "its rows are at none of these places", nothing)
	running := b.begin(t, b.plan(t, plan.PlanRequest{}))
	if _, err := b.Upkeep.Ledger(t.Context(), running.ID); err == nil ||
		!strings.Contains(err.Error(), "books are not closed") {
		t.Errorf("a run that goes on: %v", err)
	}
}

package e2e

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"

	"ambercellar/client"
	"ambercellar/internal/core/shape"
)

func TestFromTheTableToTheArchiveAndBack(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(5000)
		before := w.content("true")
		w.define("archive", "unlimited")

		tables := must1[client.Items[shape.Table]](w, "table", "list", "harbour")
		if len(tables.Items) < 2 || tables.Items[1].Name != "scan" || tables.Items[1].AgeColumn != "scanned_at" ||
			!strings.HasPrefix(tables.Items[1].Oldest, "2020-01-01") {
			t.Errorf("table list: %+v", tables.Items)
		}
		if out := w.must("table", "show", "harbour", "scan"); !strings.Contains(out, "scan(vessel_id)") ||
			!strings.Contains(out, "scan_age") {
			t.Errorf("table show lacks foreign key or index:\n%s", out)
		}
		p := must1[client.Plan](w, "plan", "make", "scans", "-exact")
		s := p.Counts
		if s.Due != 5000 || !s.Counted || p.Segments != 1 ||
			!strings.HasPrefix(strings.Replace(s.LastGoing, "T", " ", 1), "2020-07-27 08:00:00") {
			t.Errorf("plan: %+v", p)
		}
		if w.content("true") != before {
			t.Fatal("a plan changed something")
		}
		out := w.must("run", "start", p.ID, "-watch")
		if !strings.Contains(out, "5,000 found = 5,000 deleted") || !strings.Contains(out, "balanced") {
			t.Errorf("run start -watch:\n%s", out)
		}
		if n := w.count("SELECT count(*) FROM scan"); n != 100 {
			t.Errorf("%d rows are live instead of 100", n)
		}
		segments := must1[client.Items[client.Segment]](w, "segment", "list")
		if len(segments.Items) != 1 || segments.Items[0].State != client.SegmentClosed ||
			segments.Items[0].Deleted != 5000 || segments.Items[0].KeepUntil == nil {
			t.Fatalf("segments: %+v", segments.Items)
		}
		if out := w.must("segment", "verify", segments.Items[0].ID); !strings.Contains(out, "5,000 rows") {
			t.Errorf("segment verify: %s", out)
		}
		// What is archived is found again.
		if out := w.must("search", "harbour", "scan", "-where", "id = 17", "-columns", "id,note"); !strings.Contains(
			out, segments.Items[0].ID) || !strings.Contains(out, "note 17") ||
			!strings.Contains(out, "rows found: 1;") {
			t.Errorf("search:\n%s", out)
		}
		if out := w.must("search", "harbour", "scan", "-where", "id IN (16, 17)", "-columns", "note", "-rows",
			"csv"); out != "note\r\n\"note 16\"\r\n\"note 17\"\r\n" {
			t.Errorf("search -rows csv: %q", out)
		}
		if found := must1[client.Found](w, "search", "harbour", "scan"); len(found.Items) != 100 ||
			!found.Searched.More {
			t.Errorf("without limit a search shows %d rows: %+v", len(found.Items), found.Searched)
		}
		w.refuse(1, []string{"where", "did you mean note?", "^"}, "search", "harbour", "scan", "-where", "nota = 'x'")
		w.refuse(1, []string{"nothing of harbour.vessel is archived"}, "search", "harbour", "vessel")
		w.refuse(1, []string{"csv, csv-safe, ndjson or parquet"}, "search", "harbour", "scan", "-rows", "yaml")
		// A day, then everything; rows of the first restore are skipped by the second.
		day := must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-from",
			"2020-02-01", "-to", "2020-02-02", "-note", "asked for")
		if day.Restored != 24 || day.Verified == nil || !*day.Verified {
			t.Errorf("restore of a day: %+v", day)
		}
		p2 := must1[client.Plan](w, "plan", "make", "scans", "-exact")
		if first, now := p.Detail.Expect, p2.Detail.Expect; first.LogBytes != nil || first.Seconds != nil ||
			now.LogBytes == nil || now.Seconds == nil {
			t.Errorf("expected before any run: %+v, and after one: %+v", first, now)
		}
		if p2.Counts.Due != 0 || p2.Counts.Restored != 24 {
			t.Errorf("a plan after the restore finds %d due and %d restored", p2.Counts.Due, p2.Counts.Restored)
		}
		all := must1[client.Restore](w, "restore", "request", "-pace", "unlimited", "-segment", segments.Items[0].ID)
		if all.Found != 5000 || all.Restored != 4976 || all.Skipped != 24 {
			t.Errorf("restore of the segment: %+v", all)
		}
		if w.content("true") != before {
			t.Error("the rows that came back are not the rows that went")
		}
	})
}

func TestRestoresIntoFiles(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(300)
		w.exec(`UPDATE scan SET note = NULL WHERE id = 2; UPDATE scan SET note = '' WHERE id = 3; UPDATE scan SET ` +
			`note = 'say "hi", please' WHERE id = 4`)
		w.define("archive", "unlimited")
		r := w.ended(w.planned().ID)
		w.balanced(r, 300, 300)
		for _, format := range []string{"csv", "ndjson", "parquet"} {
			path := filepath.Join(w.dir, "out."+format)
			got := must1[client.Restore](w, "restore", "request", "-pace", "unlimited", "-run", r.ID, "-into", "file",
				"-format", format, "-out", path)
			if got.Restored != 300 || got.Verified == nil {
				t.Fatalf("%s: %+v", format, got)
			}
			b, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			switch format {
			case "csv":
				rows, err := csv.NewReader(strings.NewReader(string(b))).ReadAll()
				if err != nil || len(rows) != 301 || rows[4][4] != `say "hi", please` || rows[1][3] != "1.25" {
					t.Errorf("csv: %d rows, %v, %q", len(rows), err, rows[:min(5, len(rows))])
				}
				if lines := strings.Split(string(b), "\r\n"); !strings.HasSuffix(lines[2], ",") ||
					!strings.HasSuffix(lines[3], `,""`) {
					t.Errorf("csv does not tell NULL from the empty text: %q, %q", lines[2], lines[3])
				}
			case "ndjson":
				var row map[string]any
				lines := strings.Split(strings.TrimSpace(string(b)), "\n")
				if err := json.Unmarshal([]byte(lines[1]), &row); err != nil || len(lines) != 300 ||
					row["note"] != nil || row["id"] != 2.0 {
					t.Errorf("ndjson: %d lines, %v, %v", len(lines), err, row)
				}
			case "parquet":
				f, err := os.Open(path)
				if err != nil {
					t.Fatal(err)
				}
				defer f.Close()
				p, err := parquet.OpenFile(f, int64(len(b)))
				if err != nil || p.NumRows() != 300 || p.Schema().Columns()[4][0] != "note" {
					t.Errorf("parquet: %v", err)
				}
			}
		}
	})
}

func TestAPurgeDeletesWithoutACopy(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(3000)
		young := w.content("id > 3000")
		w.define("purge", "careful")
		r := w.ended(w.planned().ID)
		w.balanced(r, 3000, 3000)
		if w.content("true") != young {
			t.Error("the rows that are not due were touched")
		}
		if l := must1[client.Items[client.Segment]](w, "segment", "list"); len(l.Items) != 0 {
			t.Errorf("a purge wrote %d segments", len(l.Items))
		}
		if again := w.ended(w.planned().ID); again.Ledger.Copied != 0 || again.Ledger.Balanced == nil ||
			!*again.Ledger.Balanced {
			t.Errorf("a purge with nothing due: %+v", again.Ledger)
		}
	})
}

func TestPauseResumeAndCancel(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		const n = 8000 // enough that no command comes after the end, and one slice
		w.scans(n)
		before := w.content("true")
		w.define("archive", "careful")
		r := w.planned()
		w.someDeleted(r.ID, 500)
		w.must("run", "pause", r.ID)
		paused := must1[client.RunView](w, "run", "show", r.ID)
		live := w.count("SELECT count(*) FROM scan")
		if paused.State != client.Paused || live <= 100 || live >= n+100 {
			t.Fatalf("paused: state %s, %d rows live", paused.State, live)
		}
		w.refuse(1, []string{"has a run that has not ended"}, "run", "start",
			must1[client.Plan](w, "plan", "make", "scans", "-exact").ID)
		w.refuse(1, []string{"is paused"}, "run", "pause", r.ID)
		if open := must1[client.Items[client.Segment]](w, "segment",
			"list"); open.Items[0].State != client.SegmentOpen {
			t.Fatalf("the segment of a paused run is %s", open.Items[0].State)
		} else {
			r := must1[client.Restore](w, "restore", "request", "-segment", open.Items[0].ID, "-into", "file")
			if r.Restored == 0 || r.Restored > n+100-live || r.Verified == nil || !*r.Verified {
				t.Errorf("rows that have left in batches of an open segment: %+v", r)
			}
		}
		w.must("run", "resume", r.ID)
		w.someDeleted(r.ID, n+100-live+500)
		w.must("run", "cancel", r.ID)
		cancelled := must1[client.RunView](w, "run", "show", r.ID)
		live = w.count("SELECT count(*) FROM scan")
		w.balanced(cancelled, n, n+100-live)
		if cancelled.State != client.Cancelled || cancelled.Ledger.Skipped != live-100 {
			t.Errorf("cancelled: %s, %+v with %d rows live", cancelled.State, cancelled.Ledger, live)
		}
		// What the cancelled run left is taken by the next one; then all comes back.
		next := w.hurried(w.planned().ID)
		w.balanced(next, live-100, live-100)
		for _, id := range []string{r.ID, next.ID} {
			w.must("restore", "request", "-pace", "unlimited", "-run", id)
		}
		if w.content("true") != before {
			t.Error("the rows that came back are not the rows that went")
		}
	})
}

// someDeleted waits until a run has deleted so many rows.
func (w *world) someDeleted(id string, rows int64) {
	w.t.Helper()
	w.untilWithin(id, fmt.Sprintf("does not get to %d rows", rows), 5*time.Minute, func(r client.RunView) bool {
		if r.Ledger.Deleted < rows && (r.State.Ended() || r.State == client.Failed) {
			w.t.Fatalf("run %s is %s (%s) before it has deleted %d rows", id, r.State, r.Reason, rows)
		}
		return r.Ledger.Deleted >= rows
	})
}

func TestKilledInTheMiddleItGoesOnWhereItWas(t *testing.T) {
	t.Parallel()
	for _, then := range []string{"archive", "purge"} {
		t.Run(then, func(t *testing.T) {
			t.Parallel()
			engines(t, func(t *testing.T, w *world) {
				w.scans(8000)
				before := w.content("true")
				young := w.content("id > 8000")
				w.define(then, "careful")
				r := w.planned()
				for _, deleted := range []int64{0, 300, 1200} { // the first kill hits reading, storing or verifying
					if deleted > 0 {
						w.someDeleted(r.ID, deleted)
					} else {
						w.eventually("the run is at work",
							func() bool {
								return must1[client.RunView](w, "run", "show",
									r.ID).State == client.Running
							})
					}
					w.stop(syscall.SIGKILL)
					w.start()
				}
				w.someDeleted(r.ID, 1500)
				w.stop(syscall.SIGTERM) // and one clean stop
				w.start()
				got := w.hurried(r.ID)
				if got.State != client.Done {
					t.Fatalf("the run is %s: %s", got.State, got.Reason)
				}
				w.balanced(got, 8000, 8000)
				if w.content("true") != young {
					t.Error("other rows are live than those that are not due")
				}
				if then == "purge" {
					return
				}
				for _, s := range must1[client.Items[client.Segment]](w, "segment", "list").Items {
					w.must("segment", "verify", s.ID)
				}
				w.must("restore", "request", "-pace", "unlimited", "-run", r.ID)
				if w.content("true") != before {
					t.Error("live and archive together are not what the table held: a row is lost, or there twice")
				}
			})
		})
	}
}

func TestRowsThatOthersChangeOrLockStay(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "postgres")
	w.scans(10000)
	w.define("archive", "careful")
	lock := w.pgConn()
	if _, err := lock.Exec(t.Context(), "BEGIN; SELECT * FROM scan WHERE id IN (9000, 9001) FOR UPDATE"); err != nil {
		t.Fatal(err)
	}
	r := w.planned()
	w.someDeleted(r.ID, 200)
	// The whole slice was read before the first delete, so these rows are copied already.
	w.exec("UPDATE scan SET note = 'edited while it was on its way' WHERE id = 9500; DELETE FROM scan WHERE id = " +
		"9600; UPDATE scan SET id = 77777 WHERE id = 9700")
	got := w.hurried(r.ID)
	w.balanced(got, 10000, 10000-5)
	if l := got.Ledger; l.Changed != 1 || l.Vanished != 2 || l.Skipped != 2 {
		t.Errorf("ledger %+v; want 1 changed, 2 vanished, 2 skipped", l)
	}
	if _, err := lock.Exec(t.Context(), "ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	if n := w.count("SELECT count(*) FROM scan WHERE id IN (9000, 9001, 9500, 77777)"); n != 4 {
		t.Errorf("%d of the 4 rows that had to stay are there", n)
	}
	w.exec("DELETE FROM scan WHERE id = 9500")
	all := must1[client.Restore](w, "restore", "request", "-pace", "unlimited", "-run", r.ID)
	if all.Found != 9995 || all.Restored != 9995 {
		t.Errorf("restore: %+v", all)
	}
	if n := w.count("SELECT count(*) FROM scan WHERE id IN (9500, 9600, 9700)"); n != 0 {
		t.Errorf("%d stale copies came back", n)
	}
}

func TestASecondServiceKeepsOut(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(8000)
		w.define("archive", "careful")
		first := w.planned()
		w.someDeleted(first.ID, 100)
		w.must("run", "pause", first.ID)
		other := &world{t: t, dir: t.TempDir(), engine: w.engine, dsn: w.dsn, db: w.db}
		other.start()
		t.Cleanup(func() { other.stop(syscall.SIGKILL) })
		other.define("archive", "unlimited")
		second := other.ended(other.planned().ID)
		if second.State != client.Failed || !strings.Contains(second.Reason, "is being worked on by service") ||
			!strings.Contains(second.Reason, first.ID) {
			t.Errorf("the second service's run is %s: %s", second.State, second.Reason)
		}
		w.must("run", "cancel", first.ID)
		// The table is free now; but the other service does not know the chain, and stops until it does.
		other.must("run", "resume", second.ID)
		if r := other.ended(second.ID); r.State != client.Failed || !strings.Contains(r.Reason, "disagree") {
			t.Errorf("a catalog that does not know the table's chain: %s, %s", r.State, r.Reason)
		}
	})
}

func TestTheCatalogComesBackFromTheStore(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(1000)
	before := w.content("true")
	w.define("archive", "unlimited")
	r := w.ended(w.planned().ID)
	w.balanced(r, 1000, 1000)
	w.stop(syscall.SIGTERM)
	for _, name := range []string{"catalog.db", "catalog.db-wal", "catalog.db-shm"} {
		os.Remove(filepath.Join(w.dir, "data", name))
	}
	w.start()
	if out := w.must("store", "adopt", "cellar"); !strings.Contains(out, "1") {
		t.Errorf("store adopt: %s", out)
	}
	w.define("archive", "unlimited")
	got := must1[client.Restore](w, "restore", "request", "-pace", "unlimited", "-source", "harbour", "-table", "scan",
		"-from", "2020-01-01")
	if got.Restored != 1000 || w.content("true") != before {
		t.Errorf("restore from an adopted store: %+v", got)
	}
	if again := w.ended(w.planned().ID); again.State != client.Done {
		t.Errorf("the next run is %s: %s", again.State, again.Reason)
	}
}

func TestADamagedSegmentGivesNoRows(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(1000)
	w.define("archive", "unlimited")
	w.ended(w.planned().ID)
	s := must1[client.Items[client.Segment]](w, "segment", "list").Items[0]
	path := filepath.Join(w.dir, "data", "cellar", filepath.FromSlash(s.Stem)+".parquet")
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	b[len(b)/3] ^= 1
	if err := os.WriteFile(path, b, 0o644); err != nil {
		t.Fatal(err)
	}
	w.refuse(1, []string{"damaged", s.ID}, "segment", "verify", s.ID)
	w.refuse(1, []string{"damaged"}, "restore", "request", "-segment", s.ID)
	if n := w.count("SELECT count(*) FROM scan"); n != 100 {
		t.Errorf("%d rows came back from a damaged segment", n-100)
	}
}

func TestRulesKeepTheirRevisionsAndPlansGoStale(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(100)
	w.define("archive", "careful")
	p := must1[client.Plan](w, "plan", "make", "scans", "-exact")
	file := w.rules(strings.Replace(fmt.Sprintf(scanRule, "archive", "archive: {store: cellar}", "careful"), "1 year",
		"2 years", 1))
	out := w.must("rule", "apply", "-f", file)
	if !strings.Contains(out, "keep P1Y → keep P2Y") || !strings.Contains(out, "archive.keep: P7Y → nothing") {
		t.Errorf("rule apply does not say what changed:\n%s", out)
	}
	if out := w.must("rule", "apply", "-f", file); !strings.Contains(out, "as it was") {
		t.Errorf("the same file again:\n%s", out)
	}
	if out := w.must("rule", "show", "scans"); !strings.Contains(out, "keep: 2 years") ||
		!strings.Contains(out, "new") {
		t.Errorf("rule show:\n%s", out)
	}
	w.refuse(1, []string{"is of revision 1", "make a new one"}, "run", "start", p.ID)
	if n := w.count("SELECT count(*) FROM scan"); n != 200 {
		t.Errorf("a stale plan took rows: %d are live", n)
	}
}

func TestEventsFollowARun(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(5000)
	w.define("archive", "careful")
	r := w.planned()
	var seen []int64
	var last client.RunView
	if err := w.client.Watch(t.Context(), r.ID, func(v client.RunView) error {
		seen, last = append(seen, v.Done), v
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if len(seen) < 3 || last.State != client.Done || last.Done != 5000 {
		t.Errorf("%d events, the last %s with %d rows", len(seen), last.State, last.Done)
	}
	for i := 1; i < len(seen); i++ {
		if seen[i] < seen[i-1] {
			t.Errorf("the count goes back: %v", seen)
		}
	}
	if _, err := w.client.Run(t.Context(), "no such/run"); err == nil {
		t.Error("a run that is not there was found")
	}
}

func TestTheWholeExampleRunsOnItsOwn(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		args := []string{"demo", "-once", "-anchor", "2026-11-01"}
		if w.engine != "sqlite" {
			w.exec("DROP TABLE first_thing")
			args = append(args, "-engine", w.engine, "-dsn", w.dsn)
		}
		out := w.must(args...)
		for _, part := range []string{"300,000 boarding scans", "balanced",
			"live + archive = before, to the row and to the bit", "counts and digest hold", "Done in"} {
			if !strings.Contains(out, part) {
				t.Errorf("the example does not say %q:\n%s", part, out)
			}
		}
	})
}

// The demo has three weeks of nights behind it: one firing failed, and one finding is open. It is ended and started
// again, and has played them once.
func TestTheDemoHasAStory(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "demo")
	today := time.Now().AddDate(0, 0, -1)
	for try := range 2 {
		cmd := exec.Command(program, "demo", "-data", dir, "-listen", "127.0.0.1:0")
		out, err := cmd.StdoutPipe()
		if err == nil {
			err = cmd.Start()
		}
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { cmd.Process.Kill() })
		var c *client.Client
		played := false
		for lines := bufio.NewScanner(out); c == nil && lines.Scan(); {
			line := strings.TrimSpace(lines.Text())
			played = played || strings.Contains(line, "nights of firings, played on a moved clock")
			if server, token, ok := strings.Cut(line, "/#token="); ok {
				c = &client.Client{Server: server, Token: token}
			}
		}
		if c == nil || played != (try == 0) {
			t.Fatalf("start %d: played %t", try, played)
		}
		firings, err := c.Firings(t.Context(), client.FiringsQuery{Limit: 200})
		if err != nil {
			t.Fatal(err)
		}
		states := map[client.FiringState]int{}
		for _, f := range firings.Items {
			if f.State != client.FiringDue || f.At.Before(today) { // last night's may be in work now
				states[f.State]++
			}
		}
		findings, err := c.Findings(t.Context(), client.FindingsQuery{})
		var kinds []string
		for _, f := range findings.Items {
			kinds = append(kinds, f.Kind+" "+f.Subject)
		}
		if slices.Sort(kinds); err != nil ||
			strings.Join(kinds, ", ") != "falls behind boarding-scans, nothing due passengers" {
			t.Errorf("%v, %v", kinds, err)
		}
		if states["failed"] != 1 || states["started"] < 20 || states["nothing"] < 20 || states["due"] != 0 {
			t.Errorf("firings: %v", states)
		}
		cmd.Process.Signal(syscall.SIGTERM)
		if err := cmd.Wait(); err != nil {
			t.Errorf("the demo ended with %v", err)
		}
	}
}

func TestThePaceChangesWhileARunGoes(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(20000)
	w.define("purge", "careful")
	p := must1[client.Plan](w, "plan", "make", "scans")
	id := must1[client.RunView](w, "run", "start", p.ID).ID
	for r := must1[client.RunView](w, "run", "show", id); r.Ledger.Deleted == 0; r = must1[client.RunView](w, "run",
		"show", id) {
		if r.State.Ended() {
			t.Fatalf("the run is %s (%s)", r.State, r.Reason)
		}
	}
	w.refuse(1, []string{"write gentle, careful or unlimited"}, "run", "pace", id, "frantic")
	if r := must1[client.RunView](w, "run", "pace", id, "unlimited"); r.Pace != "unlimited" {
		t.Errorf("the answer shows pace %s", r.Pace)
	}
	r := w.ended(id)
	w.balanced(r, 20000, 20000)
	if r.Pace != "unlimited" {
		t.Errorf("the run ended at pace %s", r.Pace)
	}
	w.refuse(1, []string{"is done"}, "run", "pace", id, "careful")
	w.refuse(2, nil, "run", "pace", id)
}

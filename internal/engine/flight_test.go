package engine

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/source"
)

// watched is a database that tells of its batches.
type watched struct {
	source.Source
	batch func()
}

func (x *watched) Unwrap() source.Source { return x.Source }

func (w *watched) DeleteBatch(ctx context.Context, b source.Batch) (*source.JournalRow, error) {
	row, err := w.Source.DeleteBatch(ctx, b)
	if err == nil {
		w.batch()
	}
	return row, err
}

func (w *watched) DeleteFamilies(ctx context.Context, b source.Batch) ([]*source.JournalRow, error) {
	rows, err := source.FamiliesOf(w.Source).DeleteFamilies(ctx, b)
	if err == nil {
		w.batch()
	}
	return rows, err
}

func (w *watched) PruneJournal(ctx context.Context, run string, segment int) error {
	w.batch() // its segment is closed, and the journal tells of it still
	err := w.Source.PruneJournal(ctx, run, segment)
	w.batch()
	return err
}

// counts counts a table's records in every way that there is: live and archived by one question, live by the database
// and archived by a search, and by what is told of the table.
func (b *bench) counts(t *testing.T, h *harbour, table string, total int64, exact bool) {
	t.Helper()
	s, err := b.Search.Summarise(t.Context(), search.SummaryRequest{Source: "harbour", Table: table,
		Of: []search.Measure{{Of: "count"}}, Live: true})
	if err != nil || *s.Groups[0][0] != fmt.Sprint(total) {
		t.Errorf("%s: %+v rows by one question, want %d, %v", table, s, total, err)
	}
	x, err := b.Reconcile.Reconcile(t.Context(), "harbour", table)
	if err != nil || x.Totals != nil && (x.Totals.Records != total || !x.Totals.AddsUp) {
		t.Errorf("%s: %+v, %v", table, x.Totals, err)
	}
	if !exact {
		return
	}
	live := h.count(t, "SELECT count(*) FROM "+table)
	archived, err := b.Search.Search(t.Context(), search.SearchRequest{Source: "harbour", Table: table, Live: true,
		Whole: true}, func([]shape.Column) error { return nil }, func(search.Hit) error { return nil })
	if err != nil || archived.Live != live || archived.Found != total {
		t.Errorf("%s: %d live rows, and a search finds %+v of %d, %v", table, live, archived, total, err)
	}
}

// TestARowIsAlwaysInTheAnswer: at each of a hundred moments of a run, and of fifteen where rows go along, every row is
// live or archived, in searches, counts and what is told of a table; and what has left can be restored.
func TestARowIsAlwaysInTheAnswer(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		for _, what := range []string{"scan", "trip"} {
			t.Run(engine+" "+what, func(t *testing.T) {
				h := newHarbour(t, engine)
				tables, total, least := []string{"scan"}, map[string]int64{"scan": matrixRows}, 100
				slice, families := 7, 7
				s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-01-11", "archive") + cellar}
				if what == "trip" {
					journeys(t, h)
					tables, total, least = []string{"trip", "leg"}, map[string]int64{"trip": 40, "leg": 80}, 15
					slice, families = 20, 7
					s.rule = fmt.Sprintf(matrixRule, "trip", "before: 2020-01-20", "archive") + cellar +
						"related:\n  - {table: leg, then: archive}\n"
				} else {
					scans(t, h)
				}
				moments := 0
				var b *bench
				w := &watched{}
				b = h.serve(t, func(src source.Source) source.Source { w.Source = src; return w })
				w.batch = func() {}
				b.Runs.SliceRows, b.Runs.FamilyRows = slice, families
				run := s.start(t, h, b)
				restored := false
				w.batch = func() {
					moments++
					for _, table := range tables {
						b.counts(t, h, table, total[table], true)
					}
					if moments == 7 && !restored {
						restored = true
						r, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Source: "harbour",
							Table: tables[0], Scope: catalog.Scope{Where: "id > 0"}, Target: catalog.TargetFile,
							Format: "csv"})
						if err == nil {
							err = b.Restores.Restore(t.Context(), r, t.TempDir())
						}
						if gone := total[tables[0]] - h.count(t, "SELECT count(*) FROM "+tables[0]); err != nil ||
							r.Restored != gone {
							t.Errorf("of %d rows that have left, a restore gives %+v, %v", gone, r, err)
						}
					}
				}
				r, err := b.Catalog.Run(t.Context(), run)
				if err == nil {
					b.Runs.SetPace(t.Context(), "me", run, "unlimited")
					err = b.Runs.Run(t.Context(), r)
				}
				if err != nil {
					t.Fatal(err)
				}
				w.batch = func() {}
				if _, err := b.Catalog.SetRunState(t.Context(), "service", run, catalog.Done, ""); err != nil {
					t.Fatal(err)
				}
				for _, table := range tables {
					b.counts(t, h, table, total[table], true)
				}
				if t.Logf("%d moments", moments); moments < least || !restored {
					t.Errorf("only %d moments", moments)
				}
			})
		}
	}
}

// TestAnswersHoldWhileARunGoesOn: the same, asked without stopping the run.
func TestAnswersHoldWhileARunGoesOn(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			scans(t, h)
			h.exec(t, "INSERT INTO scan SELECT id + 1000, at, note FROM scan",
				"INSERT INTO scan SELECT id + 2000, at, note FROM scan",
				"INSERT INTO scan SELECT id + 4000, at, note FROM scan")
			var asked, batches atomic.Int64
			b := h.serve(t, func(src source.Source) source.Source {
				// the first batches wait for a question each, which goes on beside the next
				return &watched{Source: src, batch: func() {
					for n := batches.Add(1); n <= 30 && asked.Load() < n && t.Context().Err() == nil; {
						time.Sleep(time.Millisecond)
					}
				}}
			})
			b.Engine.Now = time.Now
			b.Runs.SliceRows = 100
			s := &scene{rule: strings.Replace(fmt.Sprintf(matrixRule, "scan", "before: 2020-01-11", "archive")+cellar,
				"unlimited", "careful", 1)}
			run := s.start(t, h, b)
			done := make(chan error, 1)
			go func() {
				r, err := b.Catalog.Run(context.Background(), run)
				if err == nil {
					err = b.Runs.Run(context.Background(), r)
				}
				done <- err
			}()
			for ; ; asked.Add(1) {
				b.counts(t, h, "scan", 8*matrixRows, false)
				if t.Failed() {
					t.Fatalf("after %d questions", asked.Load())
				}
				if asked.Load() == 60 {
					if _, err := b.Runs.SetPace(t.Context(), "me", run, "unlimited"); err != nil {
						t.Fatal(err)
					}
				}
				select {
				case err := <-done:
					if err != nil {
						t.Fatal(err)
					}
					if t.Logf("asked %d times", asked.Load()); asked.Load() < 20 {
						t.Errorf("the run was over after %d questions", asked.Load())
					}
					return
				default:
				}
			}
		})
	}
}

// midway is a database that stops a run after the first batch of a segment.
type midway struct {
	source.Source
	segment int
	stop    func()
}

func (x *midway) Unwrap() source.Source { return x.Source }

func (s *midway) DeleteBatch(ctx context.Context, b source.Batch) (*source.JournalRow, error) {
	row, err := s.Source.DeleteBatch(ctx, b)
	if b.Segment == s.segment {
		s.stop()
	}
	return row, err
}

// TestASearchSaysWhatItCannotTell: a run has stopped in the midst of its first segment, or of a later one, and its
// database does not answer.
func TestASearchSaysWhatItCannotTell(t *testing.T) {
	t.Parallel()
	const says = "is not told, since the source does not answer"
	for _, segment := range []int{1, 2} {
		b := newBench(t, "wal")
		b.Runs.SliceRows = 1000
		r := b.start(t)
		r.Pace = "careful" // so that a batch is no whole segment
		inner := mustSource(t, b)
		ctx, stop := context.WithCancelCause(t.Context())
		b.Source = func(context.Context, string) (source.Source, error) {
			return &midway{inner, segment, func() { stop(refuse.ErrPause) }}, nil
		}
		if err := b.Runs.Run(ctx, r); err == nil {
			t.Fatal("it was not stopped")
		}
		if n := b.archivedRows(t, "") + b.live(t); n != rows {
			t.Errorf("%d of %d rows are live or archived", n, rows)
		}
		b.Source = func(context.Context, string) (source.Source, error) { return nil, source.ErrUnreachable }
		s, err := b.Search.Search(t.Context(), search.SearchRequest{Source: "harbour", Table: "scan", Limit: 10},
			func([]shape.Column) error { return nil }, func(search.Hit) error { return nil })
		switch {
		case segment == 1 && (err == nil || !strings.Contains(err.Error(), says)):
			t.Errorf("of open segments alone: %+v, %v", s, err)
		case segment == 2 && (err != nil || !strings.Contains(s.Incomplete(), says)):
			t.Errorf("of a closed segment and an open one: %+v, %v", s, err)
		}
	}
}

// A segment that is closed while an answer looks which there are is in it, once.
func TestASegmentThatIsClosedMeanwhileIsInTheAnswer(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "sqlite")
	scans(t, h)
	b := h.serve(t, nil)
	b.Runs.SliceRows = 40
	b.rule(t, fmt.Sprintf(matrixRule, "scan", "before: 2020-01-06", "archive")+cellar)
	b.archived(t, time.Time{})
	all, err := b.Catalog.Segments(t.Context(), catalog.SegmentFilter{}, catalog.All)
	if err != nil || len(all) < 3 {
		t.Fatal(len(all), err)
	}
	db, err := sql.Open("sqlite", "file:"+filepath.Join(h.dir, "catalog.db")+"?_pragma=busy_timeout(10000)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	ctx, stop := context.WithCancel(t.Context())
	var group sync.WaitGroup
	group.Go(func() {
		for ctx.Err() == nil {
			db.ExecContext(ctx, "UPDATE segment SET state = CASE state WHEN 'open' THEN 'closed' ELSE 'open' END "+
				"WHERE id = ?", all[1].ID)
		}
	})
	for range 300 {
		m := &search.Moment{Runs: []string{all[0].Run},
			Rows:   map[string]map[int][]source.JournalRow{all[1].Run: {all[1].Number: {{Batch: 1}}}},
			Newest: map[[2]string]int{{all[0].Run, "scan"}: 1000}}
		list, _, err := b.Search.Searchable(t.Context(), search.SearchRequest{Source: "harbour", Table: "scan"}, m,
			nil)
		if err != nil || len(list) != len(all) {
			t.Errorf("%d of %d segments, %v", len(list), len(all), err)
			break
		}
	}
	stop()
	group.Wait()
}

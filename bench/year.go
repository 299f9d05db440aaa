package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"ambercellar/client"
	"ambercellar/internal/api"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/service"
	"ambercellar/internal/source"
)

const (
	yearRules = 200 // each of which runs every hour
	yearDays  = 365
	// yearPage is how long a page may take, in milliseconds, at the end of the year.
	yearPage = 100
)

// aYear makes a year of hourly runs of 200 rules on a moved clock, removing each day what a service removes by itself,
// and measures what is left of it. One run is carried out for each rule; the records of the others are yearCopies of
// its.
func aYear(ctx context.Context, _ string, say func(sizeMeasure)) error {
	dir, err := os.MkdirTemp("", "year-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	var ahead atomic.Int64
	now := func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
	begun := now().AddDate(-1, 0, 0).UTC().Truncate(24 * time.Hour)
	move := func(to time.Time) { ahead.Store(int64(time.Until(to))) }
	move(begun)
	data := filepath.Join(dir, "data")
	s, token, err := service.Open(ctx, data, slog.New(slog.NewTextHandler(io.Discard, nil)), func(s *service.Service) {
		s.Now, s.Engine.Plans.Skew = now, 0
	})
	if err != nil {
		return err
	}
	defer s.Close()
	if err := firstRuns(ctx, s, dir); err != nil {
		return err
	}
	server := httptest.NewServer(api.New(s, s.Log, nil))
	defer server.Close()
	c := &client.Client{Server: server.URL, Token: token}
	first, err := slowest(ctx, c)
	if err == nil { // the records of the year are copied: the service itself fires nothing meanwhile
		err = applyYear(ctx, s, "")
	}
	if err != nil {
		return err
	}
	db, err := sql.Open("sqlite", "file:"+filepath.Join(data, "catalog.db")+
		"?_pragma=busy_timeout(60000)&_pragma=synchronous(0)&_pragma=cache_size(-400000)")
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1) // its temporary tables are its own
	if err := prepareCopies(ctx, db); err != nil {
		return err
	}
	began := time.Now()
	for day := range yearDays {
		if day%30 == 0 {
			fmt.Fprintf(os.Stderr, "day %d of %d, %s\n", day, yearDays, time.Since(began).Round(time.Second))
		}
		if err := copyDay(ctx, db, begun.AddDate(0, 0, day)); err != nil {
			return err
		}
		move(begun.AddDate(0, 0, day+1))
		if _, err := s.Chores.Forget(ctx); err != nil {
			return err
		}
	}
	if err := errors.Join(applyYear(ctx, s, "schedule: hourly\n"), s.Findings.Look(ctx)); err != nil {
		return err
	}
	last, err := slowest(ctx, c)
	if err != nil {
		return err
	}
	var size int64
	if _, err := db.ExecContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)"); err != nil {
		return err
	}
	for _, ending := range []string{"", "-wal"} {
		if st, err := os.Stat(filepath.Join(data, "catalog.db"+ending)); err == nil {
			size += st.Size()
		}
	}
	say(sizeMeasure{fmt.Sprintf("catalog after %d hourly runs of %d rules", yearDays*24*yearRules, yearRules), 1024,
		float64(size) / (1 << 20), "MiB"})
	for i, p := range yearPages {
		say(sizeMeasure{"page " + p.name + ", first day", yearPage, first[i], "ms"})
		say(sizeMeasure{"page " + p.name + ", after a year", yearPage, last[i], "ms"})
	}
	look := time.Now()
	if err := s.Findings.Look(ctx); err != nil {
		return err
	}
	say(sizeMeasure{"a look for findings", 1000, ms(look), "ms"})
	return nil
}

// yearPages are what the console's pages ask for.
var yearPages = []struct {
	name string
	ask  func(context.Context, *client.Client) error
}{
	{"overview", func(ctx context.Context, c *client.Client) error {
		_, err := c.Status(ctx)
		return err
	}},
	{"overview (last 24 hours)", func(ctx context.Context, c *client.Client) error {
		_, err := c.RunSpans(ctx, client.RunSpansQuery{})
		return err
	}},
	{"overview (weeks)", func(ctx context.Context, c *client.Client) error {
		_, err := c.History(ctx, client.HistoryQuery{})
		return err
	}},
	{"runs", func(ctx context.Context, c *client.Client) error {
		_, err := c.Runs(ctx, client.RunsQuery{Limit: 50})
		return err
	}},
	{"rules", func(ctx context.Context, c *client.Client) error {
		_, err := c.Rules(ctx, client.RulesQuery{Limit: 50})
		return err
	}},
	{"schedule", func(ctx context.Context, c *client.Client) error {
		_, err := c.Firings(ctx, client.FiringsQuery{Limit: 50})
		_, coming := c.Coming(ctx, client.ComingQuery{})
		return errors.Join(err, coming)
	}},
	{"queue", func(ctx context.Context, c *client.Client) error {
		_, err := c.Queue(ctx)
		return err
	}},
	{"findings", func(ctx context.Context, c *client.Client) error {
		_, err := c.Findings(ctx, client.FindingsQuery{Limit: 50})
		return err
	}},
}

// slowest asks for each page a few times, and returns the slowest answer of each in milliseconds.
func slowest(ctx context.Context, c *client.Client) ([]float64, error) {
	out := make([]float64, len(yearPages))
	for i, p := range yearPages {
		for range 10 {
			begun := time.Now()
			if err := p.ask(ctx, c); err != nil {
				return nil, fmt.Errorf("page %s: %w", p.name, err)
			}
			out[i] = max(out[i], ms(begun))
		}
	}
	return out, nil
}

// firstRuns makes the tables and their rules, which purge every hour, and lets each rule run once by its schedule.
func firstRuns(ctx context.Context, s *service.Service, dir string) error {
	path := filepath.Join(dir, "harbour.db")
	db, err := sql.Open("sqlite", path)
	if err != nil {
		return err
	}
	defer db.Close()
	for i := range yearRules {
		if _, err := db.ExecContext(ctx,
			fmt.Sprintf(`CREATE TABLE scan_%03d (id integer PRIMARY KEY, at datetime NOT NULL,
			gate integer NOT NULL, outcome text NOT NULL, device text, note text); CREATE INDEX scan_%03[1]d_at ON
			scan_%03[1]d (at); INSERT INTO scan_%03[1]d (at, gate, outcome) VALUES
			('2020-01-01 00:00:00', 1, 'boarded'), ('2020-01-02 00:00:00', 2, 'refused')`, i)); err != nil {
			return err
		}
	}
	if _, err := s.Places.AddSource(ctx, "bench", source.Config{Name: "harbour", Engine: "sqlite",
		Address: path}); err != nil {
		return err
	}
	if err := applyYear(ctx, s, "schedule: hourly\n"); err != nil {
		return err
	}
	if _, err := s.Schedules.Ask(ctx, "schedule", "", "", "the first of them"); err != nil {
		return err
	}
	for begun := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		if _, err := s.Schedules.Tick(ctx); err != nil {
			return err
		}
		runs, err := s.Catalog.RunsIn(ctx, catalog.Done)
		if err != nil {
			return err
		}
		if len(runs) == yearRules {
			return nil
		}
		if time.Since(begun) > 5*time.Minute {
			return fmt.Errorf("%d of %d first runs are done", len(runs), yearRules)
		}
	}
}

// applyYear applies the rules of the year, with a further field.
func applyYear(ctx context.Context, s *service.Service, field string) error {
	var text strings.Builder
	for i := range yearRules {
		fmt.Fprintf(&text, "---\nrule: scans-%03d\nsource: harbour\ntable: scan_%03[1]d\nage: at\nzone: "+
			"UTC\nclauses:\n"+
			"  - where: outcome = 'refused'\n    keep: P1Y\n  - keep: P6M\n    otherwise: true\nthen: purge\n"+
			"pace: unlimited\n%s", i, field)
	}
	_, problems, err := s.Engine.Plans.ApplyRules(ctx, "bench", "", []byte(text.String()), "")
	if err == nil && rule.Fatal(problems) {
		err = fmt.Errorf("%v", problems)
	}
	return err
}

// copyDay adds the records of a day: of each rule, a run every hour, like its first.
func copyDay(ctx context.Context, db *sql.DB, day time.Time) error {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for hour := range 24 {
		at := day.Add(time.Duration(hour)*time.Hour + time.Minute)
		mark, when := at.Format("2006010215"), catalog.At(at)
		for _, copied := range yearCopies {
			if _, err := tx.ExecContext(ctx, copied, mark, when); err != nil {
				return fmt.Errorf("%w in %s", err, copied)
			}
		}
	}
	return tx.Commit()
}

// yearCopies copy the records of the first runs, under other names and times: ?1 is a mark, ?2 the time.
var yearCopies []string

// prepareCopies writes them, by the columns that the tables have. Names begin with the time, as those of records do.
func prepareCopies(ctx context.Context, db *sql.DB) error {
	for _, t := range []struct {
		table, change string
	}{
		{"plan", "id=?1 || t.id, made_at=?2"},
		{"run", "id=?1 || t.id, plan=?1 || t.plan, created_at=?2, started_at=?2, ended_at=?2, scheduled=?2"},
		{"batch", "run=?1 || t.run, at=?2"},
		{"firing", "at=?2, began_at=?2, ended_at=?2, plan=?1 || t.plan, run=?1 || t.run"},
	} {
		set := map[string]string{}
		for _, x := range strings.Split(t.change, ", ") {
			column, value, _ := strings.Cut(x, "=")
			set[column] = value
		}
		rows, err := db.QueryContext(ctx, "SELECT name FROM pragma_table_info(?)", t.table)
		if err != nil {
			return err
		}
		var names, values []string
		for rows.Next() {
			var name string
			if err := rows.Scan(&name); err != nil {
				return err
			}
			value, changed := set[name]
			if !changed {
				value = "t.\"" + name + "\""
			}
			names, values = append(names, `"`+name+`"`), append(values, value)
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return err
		}
		yearCopies = append(yearCopies, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM first_%[1]s t", t.table,
			strings.Join(names, ", "), strings.Join(values, ", ")))
		if _, err := db.ExecContext(ctx, "CREATE TEMP TABLE first_"+t.table+" AS SELECT * FROM "+t.table); err != nil {
			return err
		}
	}
	yearCopies = append(yearCopies,
		`INSERT INTO day_sum SELECT substr(?2, 1, 10), rule, revision, source, table_name, store, 1, 0, purged,
		raw_bytes, 0, working_micros FROM first_run WHERE ?1 = ?1 ON CONFLICT DO UPDATE SET runs = runs + 1,
		purged = purged + excluded.purged`)
	return nil
}

package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	_ "modernc.org/sqlite"

	"ambercellar/client"
	"ambercellar/internal/catalog"
	"ambercellar/internal/dbtest"
)

// sizedTables is how many tables each source of a large user has.
const sizedTables = 2000

// sizeMeasure is one thing that is asked of a service at the size of a large user.
type sizeMeasure struct {
	What    string  `json:"what"`
	Allowed float64 `json:"allowed"`
	Taken   float64 `json:"taken"`
	Unit    string  `json:"unit"`
}

// sizes measures the service at the sizes of a large user: sources of 2,000 tables on three engines (size-tables), and
// a catalog of a million segments (size-catalog), 10,000 scheduled rules (schedules), and a year of hourly runs of 200
// rules (year).
func sizes(ctx context.Context, what, out, program string) error {
	var all []sizeMeasure
	say := func(m sizeMeasure) {
		all = append(all, m)
		verdict := "ok"
		if m.Taken > m.Allowed {
			verdict = "OVER"
		}
		fmt.Printf("%-64s %10.1f %-4s of %8.0f  %s\n", m.What, m.Taken, m.Unit, m.Allowed, verdict)
	}
	fmt.Printf("\n%s\n", what)
	measure := manyTables
	switch what {
	case "size-catalog":
		measure = largeCatalog
	case "schedules":
		measure = manySchedules
	case "outbox":
		measure = anOutbox
	case "year":
		measure = aYear
	case "access":
		measure = access
	}
	if err := measure(ctx, program, say); err != nil {
		return err
	}
	return written(out, what, map[string]any{"when": time.Now().UTC(), "machine": machine, "measures": all})
}

// fleetOf are the statements that make a source of so many tables: each with an indexed age, every fourth with a
// reference to the one before it, every tenth with a trigger, and a few rows in each.
func fleetOf(engine string, tables int) (out []string) {
	at, id := map[string]string{"postgres": "timestamptz", "mariadb": "datetime", "sqlite": "datetime"}[engine],
		"integer PRIMARY KEY"
	if engine == "postgres" {
		out = append(out, "CREATE FUNCTION nothing() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RETURN OLD; END $$")
	}
	for i := range tables {
		refers := ""
		if i%4 == 3 {
			refers = fmt.Sprintf(", voyage integer, CONSTRAINT voyage_%d FOREIGN KEY (voyage) REFERENCES "+
				"quay_%04d (id)", i, i-1)
		}
		out = append(out, fmt.Sprintf(
			"CREATE TABLE quay_%04d (id %s, at %s NOT NULL, vessel varchar(40), fare decimal(9,2), note "+
				"varchar(100)%s)", i, id, at, refers),
			fmt.Sprintf("CREATE INDEX quay_%04d_at ON quay_%04d (at)", i, i),
			fmt.Sprintf("INSERT INTO quay_%04d (id, at, vessel) VALUES (1, '2020-01-01 00:00:00', 'Heron'), (2, "+
				"'2024-05-01 00:00:00', 'Plover'), (3, '2026-11-01 00:00:00', 'Dunlin')", i))
		if i%10 == 0 {
			switch engine {
			case "postgres":
				out = append(out, fmt.Sprintf(
					"CREATE TRIGGER gone BEFORE DELETE ON quay_%04d FOR EACH ROW EXECUTE FUNCTION nothing()", i))
			case "mariadb":
				out = append(out, fmt.Sprintf(
					"CREATE TRIGGER gone_%d BEFORE DELETE ON quay_%04d FOR EACH ROW SET @gone = 1", i, i))
			default:
				out = append(out, fmt.Sprintf("CREATE TRIGGER gone_%d BEFORE DELETE ON quay_%04d BEGIN SELECT 1; END",
					i, i))
			}
		}
	}
	return out
}

// manyTables lists and checks sources of many tables. Each is asked right after the service has opened it.
func manyTables(ctx context.Context, program string, say func(sizeMeasure)) error {
	dir, err := os.MkdirTemp("", "ambercellar-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	c, _, stop, err := serve(ctx, program, filepath.Join(dir, "data"))
	if err != nil {
		return err
	}
	defer stop()
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		address, end, err := fleet(engine, dir)
		if err != nil {
			if end != nil {
				end()
			}
			return fmt.Errorf("%s: %w", engine, err)
		}
		err = func() error {
			defer end()
			if _, err := c.AddSource(ctx, client.NewSource{Name: engine, Engine: engine, Address: address,
				TLS: "off"}); err != nil {
				return err
			}
			for _, x := range []struct {
				what    string
				allowed float64
				ask     func() (int, error)
			}{
				{"list", 2, func() (int, error) {
					l, err := c.Tables(ctx, engine)
					return len(l.Items), err
				}},
				{"check", 4, func() (int, error) {
					_, err := c.CheckSource(ctx, engine)
					return sizedTables, err
				}},
			} {
				var took []float64
				for range 3 {
					begun := time.Now()
					n, err := x.ask()
					if err == nil && n != sizedTables {
						err = fmt.Errorf("%d tables are listed", n)
					}
					if err != nil {
						return err
					}
					took = append(took, time.Since(begun).Seconds())
				}
				say(sizeMeasure{fmt.Sprintf("%s: %s of %d tables, the slowest of three", engine, x.what, sizedTables),
					x.allowed, slices.Max(took), "s"})
			}
			return nil
		}()
		if err != nil {
			return fmt.Errorf("%s: %w", engine, err)
		}
	}
	return nil
}

// fleet makes a source of many tables.
func fleet(engine, dir string) (address string, end func(), err error) {
	statements := fleetOf(engine, sizedTables)
	run := func(driver, at string, within int) error {
		db, err := sqlx.Open(driver, at)
		if err != nil {
			return err
		}
		defer db.Close()
		conn, err := db.Connx(context.Background())
		if err != nil {
			return err
		}
		defer conn.Close()
		for i, s := range statements {
			if within > 0 && i%within == 0 { // in transactions, where they are faster so
				if i > 0 {
					if _, err := conn.ExecContext(context.Background(), "COMMIT"); err != nil {
						return err
					}
				}
				if _, err := conn.ExecContext(context.Background(), "BEGIN"); err != nil {
					return err
				}
			}
			if _, err := conn.ExecContext(context.Background(), s); err != nil {
				return fmt.Errorf("%w\n%s", err, s)
			}
		}
		if within > 0 {
			_, err = conn.ExecContext(context.Background(), "COMMIT")
		}
		return err
	}
	switch engine {
	case "postgres":
		s, err := dbtest.Start(postgresSettings...)
		if err != nil {
			return "", nil, err
		}
		return s.URL("postgres"), s.Stop, run("pgx", s.URL("postgres"), 200)
	case "mariadb":
		s, err := dbtest.StartMariaDB(mariaSettings...)
		if err != nil {
			return "", nil, err
		}
		err = dbtest.ExecMariaDB(s.URL("mysql"), "CREATE DATABASE fleet CHARACTER SET utf8mb4")
		if err == nil {
			x, one := dbtest.OpenMariaDB(s.URL("fleet"))
			if one != nil {
				return "", s.Stop, one
			}
			defer x.Close()
			for _, text := range statements {
				if _, err := x.Exec(text); err != nil {
					return "", s.Stop, fmt.Errorf("%w\n%s", err, text)
				}
			}
		}
		return s.URL("fleet"), s.Stop, err
	}
	path := filepath.Join(dir, "fleet.db")
	return path, func() {}, run("sqlite", "file:"+path+"?_pragma=journal_mode(wal)&_pragma=synchronous(off)", 1000)
}

// The catalog of a large user.
const sizedSegments, sizedRuns, sizedRules, sizedSources = 1_000_000, 100_000, 10_000, 200

const sizedRule = `rule: scans
source: harbour
table: scan
age: at
zone: UTC
clauses:
  - keep: P1Y
then: archive
archive: {store: cellar}
pace: unlimited
`

// placeIn is a place in the midst of the segments of the large disposal.
var placeIn = (&catalog.PlacedItem{Position: 50_000}).Place()

// largeCatalog measures a service whose records are those of a large user: one rule has really been carried out, and
// everything else is what a copy of its records would be, with other names, times and keys.
func largeCatalog(ctx context.Context, program string, say func(sizeMeasure)) error {
	dir, err := os.MkdirTemp("", "ambercellar-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	data := filepath.Join(dir, "data")
	token, err := oneRun(ctx, program, dir, data)
	if err != nil {
		return err
	}
	begun := time.Now()
	middle, run, err := multiply(ctx, filepath.Join(data, "catalog.db"))
	if err != nil {
		return err
	}
	if st, err := os.Stat(filepath.Join(data, "catalog.db")); err == nil {
		fmt.Printf("a catalog of %d segments, %d runs, %d rules, %d sources: %d MiB, made in %s\n", sizedSegments,
			sizedRuns, sizedRules, sizedSources, st.Size()>>20, time.Since(begun).Round(time.Second))
	}
	cold := ", with nothing of it in memory"
	if exec.Command("sync").Run() != nil || os.WriteFile("/proc/sys/vm/drop_caches", []byte("3"), 0) != nil {
		cold = ", with the disk's pages in memory, which this machine does not let go"
	}
	begun = time.Now()
	c, pid, stop, err := serve(ctx, program, data)
	if err != nil {
		return err
	}
	defer stop()
	c.Token = token
	say(sizeMeasure{"start of the service" + cold, 2, time.Since(begun).Seconds(), "s"})
	if err := lookedUp(ctx, c, say, cold, middle, run); err != nil {
		return err
	}
	used := ownTime(pid)
	const watched = 60 * time.Second
	time.Sleep(watched)
	say(sizeMeasure{"idle, of a processor", 1, 100 * (ownTime(pid) - used) / watched.Seconds(), "%"})
	peak, err := resident(pid, "VmHWM:")
	say(sizeMeasure{"memory at its most", 200, float64(peak) / (1 << 20), "MiB"})
	return err
}

// lookedUp measures how long answers take: look-ups of rows, and lists and records of every kind.
func lookedUp(ctx context.Context, c *client.Client, say func(sizeMeasure), cold, middle, run string) error {
	look := func(what string, allowed float64, rounds int, ask func() error) error {
		var took []float64
		for range rounds {
			begun := time.Now()
			if err := ask(); err != nil {
				return fmt.Errorf("%s: %w", what, err)
			}
			took = append(took, float64(time.Since(begun).Microseconds())/1000)
		}
		if rounds > 1 {
			what += ", the slowest of " + fmt.Sprint(rounds)
		}
		say(sizeMeasure{what, allowed, slices.Max(took), "ms"})
		return nil
	}
	seek := func(where string) func() error {
		return func() error {
			found, err := c.Search(ctx, client.SearchRequest{Source: "harbour", Table: "scan", Where: where,
				Limit: 10})
			if err == nil && (len(found.Items) != 1 || found.Searched.Segments < sizedSegments/2) {
				err = fmt.Errorf("%d rows of %d segments", len(found.Items), found.Searched.Segments)
			}
			return err
		}
	}
	if err := look("first look-up of a row by its key"+cold, 1000, 1, seek("id = 77")); err != nil {
		return err
	}
	if err := look("look-up of a row by its key", 200, 10, seek("id = 78")); err != nil {
		return err
	}
	for _, x := range []struct {
		what    string
		allowed float64
		path    string
	}{
		{"/status", 20, "/status"}, {"/segments", 50, "/segments"},
		{"/segments, in the middle", 50, "/segments?after=" + middle},
		{"/segments of a table", 50, "/segments?source=harbour&table=scan"},
		{"/segments of a state", 50, "/segments?state=closed"}, {"/archived", 50, "/archived"}, {"/runs", 50, "/runs"},
		{"/runs of a rule", 50, "/runs?rule=rule-5000"}, {"/runs of a state", 50, "/runs?state=failed"},
		{"/rules", 50, "/rules"}, {"/rules with a text", 50, "/rules?text=rule-777"},
		{"/rules of a source", 50, "/rules?source=source-100"}, {"/plans", 50, "/plans"}, {"/sources", 50, "/sources"},
		{"/stores", 50, "/stores"},
		{"/restores", 50, "/restores"}, {"/disposals", 50, "/disposals"},
		{"a disposal of 100,000 segments", 50, "/disposals/large"},
		{"its segments, in the middle", 50, "/disposals/large/segments?after=" + placeIn},
		{"/verifications", 50, "/verifications"}, {"/retrievals", 50, "/retrievals"}, {"/audit", 50, "/audit"},
		{"a rule", 50, "/rules/rule-5000"}, {"a run", 50, "/runs/" + run},
		{"a segment", 50, "/segments/segment-0500000"}, {"a table", 50, "/sources/harbour/tables/scan"},
	} {
		if err := look(x.what, x.allowed, 10, func() error {
			var text json.RawMessage
			err := c.Do(ctx, "GET", x.path, nil, &text)
			return err
		}); err != nil {
			return err
		}
	}
	return nil
}

// oneRun has a service archive a small table in two segments, and returns its token.
func oneRun(ctx context.Context, program, dir, data string) (token string, err error) {
	address := filepath.Join(dir, "harbour.db")
	db, err := sqlx.Open("sqlite", "file:"+address)
	if err != nil {
		return "", err
	}
	_, err = db.ExecContext(ctx,
		`CREATE TABLE scan (id integer PRIMARY KEY, at datetime NOT NULL, vessel text, note text); CREATE INDEX scan_at
			ON scan (at);
		INSERT INTO scan WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < 200) SELECT g,
			'2020-01-01 00:00:00', 'Heron', 'note ' || g FROM s`)
	if err = errors.Join(err, db.Close()); err != nil {
		return "", err
	}
	c, _, stop, err := serve(ctx, program, data)
	if err != nil {
		return "", err
	}
	defer stop()
	if _, err := c.AddSource(ctx, client.NewSource{Name: "harbour", Engine: "sqlite", Address: address}); err != nil {
		return "", err
	}
	if _, err := c.ApplyRules(ctx, client.RuleFile{Text: sizedRule}); err != nil {
		return "", err
	}
	p, err := c.MakePlan(ctx, client.NewPlan{Rule: "scans"})
	if err != nil {
		return "", err
	}
	r, err := c.StartRun(ctx, client.NewRun{Plan: p.ID})
	for err == nil && r.State != client.Done {
		if r.State.Ended() {
			return "", fmt.Errorf("the run is %s: %s", r.State, r.Reason)
		}
		time.Sleep(50 * time.Millisecond)
		r, err = c.Run(ctx, r.ID)
	}
	return c.Token, err
}

// multiply makes the catalog as large as that of a large user. It returns the place of a segment in the middle of all,
// and the id of a run.
func multiply(ctx context.Context, path string) (middle, run string, err error) {
	db, err := sqlx.Open("sqlite", "file:"+path+"?_pragma=synchronous(off)&_pragma=journal_mode(wal)")
	if err != nil {
		return "", "", err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	for _, step := range []func(context.Context, *sqlx.DB) error{copies, spans, largeDisposal} {
		if err := step(ctx, db); err != nil {
			return "", "", err
		}
	}
	s := catalog.Segment{}
	if err := db.Get(&s, "SELECT * FROM segment WHERE id = ?",
		fmt.Sprintf("segment-%07d", sizedSegments/2)); err != nil {
		return "", "", err
	}
	_, err = db.ExecContext(ctx, "PRAGMA wal_checkpoint(truncate)")
	return s.Place(), fmt.Sprintf("run-%06d", sizedRuns/2), err
}

// count are the numbers from 1 on.
const count = "WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < %d) "

// anewOf is the columns of a table and their values, some of them said anew.
func anewOf(db *sqlx.DB, table string, anew map[string]string) (columns, values string, err error) {
	var names, said []string
	if err := db.Select(&names, "SELECT name FROM pragma_table_info(?)", table); err != nil {
		return "", "", err
	}
	for _, n := range names {
		v, ok := anew[n]
		if !ok {
			v = "o." + n
		}
		said = append(said, v)
	}
	return strings.Join(names, ", "), strings.Join(said, ", "), nil
}

// copies makes sources, rules, runs and segments out of those that are there.
func copies(ctx context.Context, db *sqlx.DB) error {
	rule := fmt.Sprintf("CASE WHEN s.g <= %d THEN 'rule-' || (s.g %% %d) ELSE 'rule-' || (s.g %% %d) END", sizedRules,
		sizedRules, sizedRules)
	table := "'table-' || (s.g % 50)"
	sourceOf := fmt.Sprintf("'source-' || (s.g / 50 %% %d)", sizedSources)
	when := func(n int) string { // the oldest three years ago
		return fmt.Sprintf("strftime('%%Y-%%m-%%dT%%H:%%M:%%f000Z', 'now', ((s.g - %d) * 94608000.0 / %d) || ' "+
			"seconds')", n, n)
	}
	for _, x := range []struct {
		table, from string
		n           int
		anew        map[string]string
	}{
		{"source", "source o WHERE o.name = 'harbour'", sizedSources,
			map[string]string{"name": "'source-' || (s.g - 1)"}},
		{"rule", "rule o WHERE o.name = 'scans'", sizedRules, map[string]string{"name": "'rule-' || (s.g % 10000)",
			"source": sourceOf, "table_name": table}},
		{"rule_revision", "rule_revision o WHERE o.rule = 'scans'", sizedRules,
			map[string]string{"rule": "'rule-' || (s.g % 10000)"}},
		{"run", "run o WHERE o.rule = 'scans'", sizedRuns, map[string]string{"id": "printf('run-%06d', s.g)",
			"rule": rule, "source": sourceOf, "table_name": table, "created_at": when(sizedRuns),
			"state": "CASE WHEN s.g % 997 = 0 THEN 'failed' ELSE 'done' END"}},
		// Half of the segments are of the one table that was really archived, with keys of their own; the others are
		// spread over all.
		{"segment", "(SELECT * FROM segment WHERE table_name = 'scan' LIMIT 1) o", sizedSegments,
			map[string]string{"id": "printf('segment-%07d', s.g)", "run": "printf('run-%06d', 1 + s.g % 100000)",
				"number": "s.g / 100000", "stem": "'made/' || s.g", "created_at": when(sizedSegments),
				"source":           "CASE WHEN s.g % 2 = 0 THEN 'harbour' ELSE " + sourceOf + " END",
				"table_name":       "CASE WHEN s.g % 2 = 0 THEN 'scan' ELSE " + table + " END",
				"verified_at":      "strftime('%Y-%m-%dT%H:%M:%f000Z', 'now')",
				"sequence":         "CASE WHEN s.g % 2 = 0 THEN 0 ELSE s.g END",
				"closing_sequence": "CASE WHEN s.g % 2 = 0 THEN 0 ELSE s.g + 1000000 END", "rule": rule,
				"shape": "CASE WHEN s.g % 2 = 0 THEN o.shape ELSE 1000 + s.g / 50 % 200 * 50 + s.g % 50 END",
				"span":  "CASE WHEN s.g % 2 = 0 THEN s.g + 1000 ELSE s.g + 5000000 END"}},
	} {
		columns, values, err := anewOf(db, x.table, x.anew)
		if err == nil {
			_, err = db.ExecContext(ctx, fmt.Sprintf("INSERT INTO %s (%s) "+count+"SELECT %s FROM s, %s", x.table,
				columns, x.n, values, x.from))
		}
		if err != nil {
			return fmt.Errorf("%s: %w", x.table, err)
		}
	}
	return nil
}

// spans gives the segments keys, and tables their shapes.
func spans(ctx context.Context, db *sqlx.DB) error {
	if _, err := db.ExecContext(ctx, fmt.Sprintf("INSERT INTO segment_span "+count+
		"SELECT s.g + 1000, o.shape, o.shape, s.g * 50000, s.g * 50000 + 49999, -3e38, 3e38 FROM s, (SELECT shape "+
		"FROM segment WHERE run NOT LIKE 'run-%%' LIMIT 1) o WHERE s.g %% 2 = 0", sizedSegments)); err != nil {
		return err
	}
	if _, err := db.ExecContext(ctx, fmt.Sprintf("INSERT INTO segment_shape "+count+
		"SELECT 1000 + s.g / 50 %% 200 * 50 + s.g %% 50, 'source-' || (s.g / 50 %% 200), 'table-' || (s.g %% 50), "+
		"o.columns, '', o.key, o.newest, 0 FROM s, segment_shape o WHERE o.table_name = 'scan'",
		sizedRules)); err != nil {
		return err
	}
	_, err := db.ExecContext(ctx,
		"CREATE TEMP TABLE sum AS SELECT shape, count(*) AS n FROM segment GROUP BY shape; UPDATE segment_shape "+
			"SET segments = coalesce((SELECT n FROM sum WHERE shape = id), 0)")
	return err
}

// largeDisposal is one of 100,000 segments.
func largeDisposal(ctx context.Context, db *sqlx.DB) error {
	_, err := db.ExecContext(ctx,
		`INSERT INTO disposal (id, kind, erases, source, table_name, rule, revision, keep, state, note, created_at,
			created_by, remains)
		VALUES ('large', 'disposal', '', 'harbour', 'scan', 'scans', 1, 'P7Y', 'planned', '',
			'2026-01-01T00:00:00.000000Z', 'me', '[]');
		INSERT INTO disposal_item `+fmt.Sprintf(count, 100_000)+
			`SELECT 'large', s.g, json_object('segment', printf('segment-%07d', 2 * s.g), 'rows', 100, 'bytes', 4000,
				'oldest', '2020-01-01', 'newest', '2020-01-02',
		'stored', '2020-02-01T00:00:00Z', 'due', '2026-01-01T00:00:00Z', 'keep', 'P5Y', 'sha256', '', 'digest', '',
			'stores', json_array('cellar'), 'destroyed', NULL) FROM s`)
	return err
}

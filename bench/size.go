package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"
	_ "modernc.org/sqlite"

	"ambercellar/internal/api"
	"ambercellar/internal/client"
	"ambercellar/internal/dbtest"
	"ambercellar/internal/source"
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

// sizes measures the service at the sizes of a large user: sources of 2,000 tables on three engines, and a catalog of a million segments.
func sizes(ctx context.Context, out, program string) error {
	var all []sizeMeasure
	say := func(m sizeMeasure) {
		all = append(all, m)
		verdict := "ok"
		if m.Taken > m.Allowed {
			verdict = "OVER"
		}
		fmt.Printf("%-64s %10.1f %-4s of %8.0f  %s\n", m.What, m.Taken, m.Unit, m.Allowed, verdict)
	}
	fmt.Printf("\nsize\n")
	if err := manyTables(ctx, program, say); err != nil {
		return err
	}
	if err := largeCatalog(ctx, program, say); err != nil {
		return err
	}
	b, err := json.MarshalIndent(map[string]any{"when": time.Now().UTC(), "machine": machine, "measures": all}, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(out, "size.json"), append(b, '\n'), 0o644)
}

// fleetOf are the statements that make a source of so many tables: each with an indexed age, every fourth with a reference to the one before it, every
// tenth with a trigger, and a few rows in each.
func fleetOf(engine string, tables int) (out []string) {
	at, id := map[string]string{"postgres": "timestamptz", "mariadb": "datetime", "sqlite": "datetime"}[engine], "integer PRIMARY KEY"
	if engine == "postgres" {
		out = append(out, "CREATE FUNCTION nothing() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RETURN OLD; END $$")
	}
	for i := range tables {
		refers := ""
		if i%4 == 3 {
			refers = fmt.Sprintf(", voyage integer, CONSTRAINT voyage_%d FOREIGN KEY (voyage) REFERENCES quay_%04d (id)", i, i-1)
		}
		out = append(out, fmt.Sprintf("CREATE TABLE quay_%04d (id %s, at %s NOT NULL, vessel varchar(40), fare decimal(9,2), note varchar(100)%s)", i, id, at, refers),
			fmt.Sprintf("CREATE INDEX quay_%04d_at ON quay_%04d (at)", i, i),
			fmt.Sprintf("INSERT INTO quay_%04d (id, at, vessel) VALUES (1, '2020-01-01 00:00:00', 'Heron'), (2, '2024-05-01 00:00:00', 'Plover'), (3, '2026-11-01 00:00:00', 'Dunlin')", i))
		if i%10 == 0 {
			switch engine {
			case "postgres":
				out = append(out, fmt.Sprintf("CREATE TRIGGER gone BEFORE DELETE ON quay_%04d FOR EACH ROW EXECUTE FUNCTION nothing()", i))
			case "mariadb":
				out = append(out, fmt.Sprintf("CREATE TRIGGER gone_%d BEFORE DELETE ON quay_%04d FOR EACH ROW SET @gone = 1", i, i))
			default:
				out = append(out, fmt.Sprintf("CREATE TRIGGER gone_%d BEFORE DELETE ON quay_%04d BEGIN SELECT 1; END", i, i))
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
			return fmt.Errorf("%s: %w", engine, err)
		}
		err = func() error {
			defer end()
			if _, err := client.Post[source.Report](ctx, c, "/sources", api.NewSource{Name: engine, Engine: engine, Address: address, TLS: "off"}); err != nil {
				return err
			}
			for _, x := range []struct {
				what    string
				allowed float64
				ask     func() (int, error)
			}{
				{"list", 2, func() (int, error) {
					l, err := client.Get[api.Items[json.RawMessage]](ctx, c, "/sources/"+engine+"/tables")
					return len(l.Items), err
				}},
				{"check", 4, func() (int, error) {
					_, err := client.Get[source.Report](ctx, c, "/sources/"+engine+"/check")
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
				say(sizeMeasure{fmt.Sprintf("%s: %s of %d tables, the slowest of three", engine, x.what, sizedTables), x.allowed, slices.Max(took), "s"})
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
			var db interface{ Close() error }
			if x, one := dbtest.OpenMariaDB(s.URL("fleet")); one != nil {
				err = one
			} else {
				db = x
				for _, text := range statements {
					if _, one := x.Exec(text); one != nil {
						err = errors.Join(err, fmt.Errorf("%w\n%s", one, text))
						break
					}
				}
				db.Close()
			}
		}
		return s.URL("fleet"), s.Stop, err
	}
	path := filepath.Join(dir, "fleet.db")
	return path, func() {}, run("sqlite", "file:"+path+"?_pragma=journal_mode(wal)&_pragma=synchronous(off)", 1000)
}


func largeCatalog(context.Context, string, func(sizeMeasure)) error { return nil }

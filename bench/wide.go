package main

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver

	"ambercellar/internal/dbtest"
)

// wideRow is how many bytes a row of the table of wide rows has, and wideRows how many of them there are.
const wideRow, wideRows = 10_000_000, 40

// wides archives rows of 10 MB from each engine and prints how much memory the service takes for it.
func wides(ctx context.Context, program string, wanted func(string) bool) error {
	fmt.Printf("\nwide rows: %d of %d bytes each, archived\n%-10s %10s %16s\n", wideRows, wideRow, "engine", "seconds",
		"peak memory, MiB")
	for _, x := range []struct {
		engine string
		start  func() (table, error)
	}{{"postgres", startPostgres}, {"mariadb", startMariaDB}, {"sqlite", startSQLite}} {
		if !wanted("wide-" + x.engine) {
			continue
		}
		t, err := x.start()
		if err != nil {
			return err
		}
		err = wide(ctx, t, x.engine, program)
		t.close()
		if err != nil {
			return fmt.Errorf("%s: %w", x.engine, err)
		}
	}
	return nil
}

func wide(ctx context.Context, t table, engine, program string) error {
	_, address := t.address()
	var db *sql.DB
	var err error
	switch x := t.(type) {
	case postgres:
		err = x.Exec("postgres", "CREATE DATABASE round")
	case *maria:
		err = dbtest.ExecMariaDB(x.URL("mysql"), "CREATE DATABASE bench CHARACTER SET utf8mb4")
	}
	if err != nil {
		return err
	}
	create, insert := "CREATE TABLE scan (id integer PRIMARY KEY, scanned_at timestamptz NOT NULL, body bytea)",
		"INSERT INTO scan VALUES ($1, '2024-01-01', $2)"
	switch engine {
	case "postgres":
		db, err = sql.Open("pgx", address)
	case "mariadb":
		create, insert = "CREATE TABLE scan (id integer PRIMARY KEY, scanned_at datetime NOT NULL, body longblob)",
			"INSERT INTO scan VALUES (?, '2024-01-01', ?)"
		db, err = dbtest.OpenMariaDB(address)
	default:
		create, insert = "CREATE TABLE scan (id integer PRIMARY KEY, scanned_at text NOT NULL, body blob)",
			"INSERT INTO scan VALUES (?, '2024-01-01', ?)"
		db, err = sql.Open("sqlite", "file:"+address+"?_pragma=journal_mode(wal)")
	}
	if err == nil {
		_, err = db.ExecContext(ctx, create)
	}
	if err == nil {
		_, err = db.ExecContext(ctx, "CREATE INDEX scan_at ON scan (scanned_at)")
	}
	random := rand.NewChaCha8([32]byte{7})
	body := make([]byte, wideRow)
	for i := 0; i < wideRows && err == nil; i++ {
		random.Read(body)
		_, err = db.ExecContext(ctx, insert, i, body)
	}
	if err != nil {
		return err
	}
	db.Close()
	dir, err := os.MkdirTemp("", "ambercellar-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	m, err := byService(ctx, t, dir, false, program, "unlimited")
	if err == nil {
		fmt.Printf("%-10s %10.1f %16.0f\n", engine, m.Seconds, float64(m.PeakMemory)/(1<<20))
	}
	return err
}

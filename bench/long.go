package main

import "fmt"

// narrow is a long table of narrow rows on PostgreSQL: what a meter writes, about 100 bytes a row with its indexes. It
// is filled where it is measured, since a copy of it would take as much again.
type narrow struct{ postgres }

func startNarrow() (table, error) {
	t, err := startPostgres()
	if err != nil {
		return nil, err
	}
	return narrow{t.(postgres)}, nil
}

func (n narrow) fill(rows int) error {
	if err := n.Exec("postgres", "CREATE DATABASE round"); err != nil {
		return err
	}
	for _, statement := range []string{
		"CREATE TABLE scan (id bigint NOT NULL, scanned_at timestamptz NOT NULL, gate integer NOT NULL)",
		fmt.Sprintf("INSERT INTO scan SELECT g, timestamptz '%[2]s' - interval '1000 days' + (g::float8 / %[1]d) * "+
			"interval '1000 days', g %% 12 FROM generate_series(1, %[1]d) g", rows, anchor),
		"SET maintenance_work_mem = '1GB'; ALTER TABLE scan ADD PRIMARY KEY (id); CREATE INDEX ON scan (scanned_at)",
		"VACUUM ANALYZE scan", "CHECKPOINT"} {
		if err := n.Exec("round", statement); err != nil {
			return err
		}
	}
	return nil
}

// fresh finds the table as it was filled: it is measured once.
func (n narrow) fresh() error { return nil }

package engine

import (
	"fmt"
	"testing"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/restore"
)

// TestComputedNumberedAndVeryLongColumnsComeBack archives, purges and restores rows whose columns the database
// computes and numbers by itself, with values of 64 MB beside them.
func TestComputedNumberedAndVeryLongColumnsComeBack(t *testing.T) {
	t.Parallel()
	const long = 64 << 20
	tables := map[string][]string{
		"sqlite": {"CREATE TABLE scan (id INTEGER PRIMARY KEY AUTOINCREMENT, at datetime NOT NULL, note blob, " +
			"twice AS (id * 2) STORED, thrice AS (id * 3) VIRTUAL)", "CREATE INDEX scan_at ON scan (at)",
			"INSERT INTO scan (at, note) VALUES ('2020-01-01 00:00:00', 'short'), ('2020-01-02 00:00:00', " +
				"zeroblob(%d)), ('2020-01-03 00:00:00', NULL), ('2030-01-01 00:00:00', x'00ff')"},
		"postgres": {"CREATE TABLE scan (id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY, at timestamptz NOT " +
			"NULL, note bytea, twice integer GENERATED ALWAYS AS (id * 2) STORED, serial bigserial)",
			"CREATE INDEX scan_at ON scan (at)",
			"INSERT INTO scan (at, note) VALUES ('2020-01-01+00', 'short'), ('2020-01-02+00', " +
				"convert_to(repeat('x', %d), 'UTF8')), ('2020-01-03+00', NULL), ('2030-01-01+00', '\\x00ff')"},
		"mariadb": {"CREATE TABLE scan (id integer AUTO_INCREMENT PRIMARY KEY, at datetime NOT NULL, note " +
			"longblob, twice integer AS (stamp * 2) STORED, thrice integer AS (stamp * 3) VIRTUAL, stamp integer " +
			"DEFAULT 7, KEY scan_at (at))",
			"INSERT INTO scan (at, note) VALUES ('2020-01-01 00:00:00', 'short'), ('2020-01-02 00:00:00', " +
				"REPEAT('x', %d)), ('2020-01-03 00:00:00', NULL), ('2030-01-01 00:00:00', x'00ff')"},
	}
	prints := map[string]string{
		"sqlite": "SELECT group_concat(id || ' ' || at || ' ' || coalesce(length(note) || typeof(note) || " +
			"substr(note, 1, 5), '-') || ' ' || twice || ' ' || thrice, '|') FROM (SELECT * FROM scan ORDER BY id)",
		"postgres": "SELECT string_agg(concat_ws(' ', id, at, coalesce(md5(note), '-'), twice, serial), '|' ORDER " +
			"BY id) FROM scan",
		"mariadb": "SELECT GROUP_CONCAT(CONCAT_WS(' ', id, at, COALESCE(MD5(note), '-'), twice, thrice, stamp) " +
			"ORDER BY id SEPARATOR '|') FROM scan",
	}
	for engine, statements := range tables {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			for i, text := range statements {
				if i == len(statements)-1 {
					text = fmt.Sprintf(text, long)
				}
				h.exec(t, text)
			}
			before := h.words(t, prints[engine])
			b := h.serve(t, nil)
			s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "before: 2021-01-01", "archive") + cellar,
				tables: []string{"scan"}, gone: 3}
			run := s.start(t, h, b)
			if err := s.work(t, b, run); err != nil {
				t.Fatal(err)
			}
			if n := h.count(t, "SELECT count(*) FROM scan"); n != 1 {
				t.Errorf("%d rows are live", n)
			}
			x, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Scope: catalog.Scope{Run: run},
				Target: "table"})
			if err == nil {
				err = b.Restores.Restore(t.Context(), x, t.TempDir())
			}
			if err != nil || x.Restored != 3 {
				t.Fatalf("restored %d: %v", x.Restored, err)
			}
			if after := h.words(t, prints[engine]); after != before {
				t.Errorf("back came %s\ninstead of %s", after, before)
			}
		})
	}
}

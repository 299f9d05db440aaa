package main

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver
)

type sqlite struct{ dir string }

func startSQLite() (table, error) {
	dir, err := os.MkdirTemp("", "ambercellar-bench-")
	return &sqlite{dir}, err
}

func (s *sqlite) settings() []string {
	return []string{"SQLite", "journal_mode=WAL", "synchronous=FULL", "page_size=4096"}
}
func (s *sqlite) file() string                 { return filepath.Join(s.dir, "round.db") }
func (s *sqlite) base() string                 { return filepath.Join(s.dir, "base.db") }
func (s *sqlite) address() (engine, at string) { return "sqlite", s.file() }
func (s *sqlite) close()                       { os.RemoveAll(s.dir) }

func shell(ctx context.Context, text string) error {
	cmd := exec.CommandContext(ctx, "bash", "-c", "set -euo pipefail\n"+text)
	cmd.Stderr = os.Stderr
	return cmd.Run()
}

func (s *sqlite) fill(rows int) error {
	cmd := exec.Command("sqlite3", s.base())
	cmd.Stdin = strings.NewReader(fmt.Sprintf(`
PRAGMA journal_mode=WAL; PRAGMA synchronous=OFF; PRAGMA cache_size=-400000;
CREATE TABLE scan (id INTEGER PRIMARY KEY, booking_id INTEGER NOT NULL, vessel TEXT NOT NULL, gate INTEGER NOT NULL,
	scanned_at TEXT NOT NULL, outcome TEXT NOT NULL, fare REAL, device TEXT, note TEXT);
BEGIN;
WITH RECURSIVE g(g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM g WHERE g < %[1]d)
INSERT INTO scan SELECT g, abs(random()) %% 1000000, substr('Heron     Plover    Dunlin    Curlew    Sanderling',
	1 + 10 * (abs(random()) %% 5), 10), abs(random()) %% 13,
	strftime('%%Y-%%m-%%d %%H:%%M:%%f', julianday('%[2]s') - 1000 + 1000.0 * g / %[1]d),
	CASE abs(random()) %% 6 WHEN 0 THEN 'late' WHEN 1 THEN 'refused' ELSE 'ok' END, abs(random()) %% 20000 / 100.0,
		lower(hex(randomblob(16))),
	CASE WHEN abs(random()) %% 5 = 0 THEN lower(hex(randomblob(16))) END FROM g;
UPDATE scan SET vessel = rtrim(vessel);
COMMIT;
CREATE INDEX scan_at ON scan (scanned_at);
CREATE INDEX scan_booking ON scan (booking_id);
ANALYZE;
PRAGMA wal_checkpoint(TRUNCATE);`, rows, anchor))
	cmd.Stderr = os.Stderr
	return cmd.Run()
}

func (s *sqlite) fresh() error {
	return shell(context.Background(),
		fmt.Sprintf("rm -f %[2]s %[2]s-wal %[2]s-shm; cp %[1]s %[2]s; cat %[2]s >/dev/null", s.base(), s.file()))
}

func (s *sqlite) archive(ctx context.Context, file string, sessions int) error {
	return shell(ctx, abreast(sessions, func(n int, x part) string {
		return fmt.Sprintf(`sqlite3 -cmd ".timeout 60000" -csv %s "select * from scan where %s" | zstd -3 -q -f -o %s`,
			s.file(), x.condition("'%s'"), nth(file, n)) // each waits while the other opens the file
	}))
}

// purge deletes 5,000 rows at a time until none is left, in one session whatever is asked for, since one writes at a
// time.
func (s *sqlite) purge(ctx context.Context, _ int) error {
	return shell(ctx, fmt.Sprintf(
		`while n=$(sqlite3 %s "pragma synchronous=full; delete from scan where rowid in (select rowid from scan `+
			`where scanned_at < '%s' limit 5000); select changes();"); [ "$n" -gt 0 ]; do :; done`,
		s.file(), cutoff().Format(time.DateOnly)))
}

func (s *sqlite) count(ctx context.Context) (n int64, err error) {
	db, err := sql.Open("sqlite", s.file())
	if err != nil {
		return 0, err
	}
	defer db.Close()
	err = db.QueryRowContext(ctx, "SELECT count(*) FROM scan").Scan(&n)
	return n, err
}

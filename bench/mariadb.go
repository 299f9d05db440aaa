package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"ambercellar/internal/dbtest"
)

var mariaSettings = []string{"innodb-flush-log-at-trx-commit=1", "sync-binlog=1", "log-bin", "binlog-format=ROW",
	"innodb-buffer-pool-size=1G", "innodb-log-file-size=1G", "innodb-stats-auto-recalc=ON"}

// maria keeps a copy of the filled server's files, which is put back for every round.
type maria struct {
	*dbtest.MariaServer
	base string
}

func startMariaDB() (table, error) {
	s, err := dbtest.StartMariaDB(mariaSettings...)
	if err != nil {
		return nil, err
	}
	base, err := os.MkdirTemp("", "ambercellar-bench-")
	return &maria{s, base}, err
}

func (m *maria) settings() []string           { return append([]string{"MariaDB"}, mariaSettings...) }
func (m *maria) address() (engine, at string) { return "mariadb", m.URL("bench") }
func (m *maria) close() {
	m.Stop()
	os.RemoveAll(m.base)
}

func (m *maria) fill(rows int) error {
	if err := dbtest.ExecMariaDB(m.URL("mysql"), "CREATE DATABASE bench CHARACTER SET utf8mb4"); err != nil {
		return err
	}
	if err := dbtest.ExecMariaDB(m.URL("bench"), fmt.Sprintf(`
SET SESSION sql_log_bin = 0;
SET SESSION rand_seed1 = 5, rand_seed2 = 7;
CREATE TABLE scan (id bigint AUTO_INCREMENT PRIMARY KEY, booking_id bigint NOT NULL, vessel varchar(40) NOT NULL,
	gate smallint NOT NULL,
	scanned_at datetime(6) NOT NULL, outcome varchar(20) NOT NULL, fare decimal(9,2), device uuid, note varchar(100),
		KEY (scanned_at), KEY (booking_id));
INSERT INTO scan (booking_id, vessel, gate, scanned_at, outcome, fare, device, note)
SELECT floor(rand() * 1e6), elt(1 + floor(rand() * 5), 'Heron', 'Plover', 'Dunlin', 'Curlew', 'Sanderling'),
	floor(rand() * 13),
	timestamp('%[2]s') - interval 1000 day + interval (seq * 86400000000.0 * 1000 / %[1]d) microsecond,
	elt(1 + floor(rand() * 6), 'ok', 'ok', 'ok', 'ok', 'late', 'refused'), rand() * 200, insert(insert(md5(rand()), 13,
		1, '4'), 17, 1, 'a'), if(rand() < 0.2, md5(seq), NULL)
FROM seq_1_to_%[1]d;
ANALYZE TABLE scan;`, rows, anchor)); err != nil {
		return err
	}
	return m.While(func() error { return copyDirectory(m.Data(), filepath.Join(m.base, "data")) })
}

func copyDirectory(from, to string) error {
	if err := os.RemoveAll(to); err != nil {
		return err
	}
	return exec.Command("cp", "-a", from, to).Run()
}

func (m *maria) fresh() error {
	if err := m.While(func() error { return copyDirectory(filepath.Join(m.base, "data"), m.Data()) }); err != nil {
		return err
	}
	return dbtest.ExecMariaDB(m.URL("bench"),
		"SELECT count(*), sum(booking_id), max(note) FROM scan IGNORE INDEX (scanned_at); SELECT count(scanned_at) "+
			"FROM scan FORCE INDEX (scanned_at) WHERE scanned_at > '2000-01-01'")
}

func (m *maria) script(ctx context.Context, text string) error {
	cmd := exec.CommandContext(ctx, "bash", "-c",
		fmt.Sprintf("set -euo pipefail\nclient=(mariadb --no-defaults -h 127.0.0.1 -P %d -u root)\n", m.Port)+text)
	cmd.Stderr = os.Stderr
	return cmd.Run()
}

func (m *maria) archive(ctx context.Context, file string, sessions int) error {
	return m.script(ctx, abreast(sessions, func(n int, x part) string {
		return `"${client[@]}" --quick -BN bench -e "select * from scan where ` + x.condition("'%s'") +
			`" | zstd -3 -q -f -o ` + nth(file, n)
	}))
}

// purge deletes 5,000 rows at a time until none is left, each time committed.
func (m *maria) purge(ctx context.Context, sessions int) error {
	return m.script(ctx, abreast(sessions, func(n int, x part) string {
		return fmt.Sprintf(`"${client[@]}" bench <<SQL
delimiter //
create or replace procedure delete_by_hand_%[1]d() begin declare n int default 1;
  while n > 0 do delete from scan where %s limit 5000; set n = row_count(); commit; end while; end //
delimiter ;
call delete_by_hand_%[1]d();
SQL`, n, x.condition("'%s'")+ordered(sessions))
	}))
}

func (m *maria) count(ctx context.Context) (n int64, err error) {
	db, err := dbtest.OpenMariaDB(m.URL("bench"))
	if err != nil {
		return 0, err
	}
	defer db.Close()
	err = db.QueryRowContext(ctx, "SELECT count(*) FROM scan").Scan(&n)
	return n, err
}

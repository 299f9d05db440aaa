package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"

	"github.com/jackc/pgx/v5"

	"ambercellar/internal/dbtest"
)

var postgresSettings = []string{"fsync=on", "synchronous_commit=on", "full_page_writes=on", "shared_buffers=512MB",
	"max_wal_size=4GB", "checkpoint_timeout=30min", "autovacuum=off"}

type postgres struct{ *dbtest.Server }

func startPostgres() (table, error) {
	s, err := dbtest.Start(postgresSettings...)
	if err != nil {
		return nil, err
	}
	return postgres{s}, nil
}

func (p postgres) settings() []string           { return append([]string{"PostgreSQL"}, postgresSettings...) }
func (p postgres) address() (engine, at string) { return "postgres", p.URL("round") }
func (p postgres) close()                       { p.Stop() }

func (p postgres) fill(rows int) error {
	if err := p.Exec("postgres", "CREATE DATABASE base"); err != nil {
		return err
	}
	if err := p.Exec("base", fmt.Sprintf(`
SELECT setseed(0.5);
CREATE TABLE scan (id bigserial PRIMARY KEY, booking_id bigint NOT NULL, vessel text NOT NULL, gate smallint NOT NULL,
	scanned_at timestamptz NOT NULL, outcome text NOT NULL, fare numeric(9,2), device uuid, note text);
INSERT INTO scan (booking_id, vessel, gate, scanned_at, outcome, fare, device, note)
SELECT (random() * 1e6)::bigint, (array['Heron', 'Plover', 'Dunlin', 'Curlew', 'Sanderling'])[1 + (random() * 4)::int],
	(random() * 12)::int,
	timestamptz '%[2]s' - interval '1000 days' + (g::float8 / %[1]d) * interval '1000 days',
	(array['ok', 'ok', 'ok', 'ok', 'late', 'refused'])[1 + (random() * 5)::int], (random() * 200)::numeric(9,2),
		gen_random_uuid(),
	CASE WHEN random() < 0.2 THEN md5(g::text) END
FROM generate_series(1, %[1]d) g;
CREATE INDEX ON scan (scanned_at);
CREATE INDEX ON scan (booking_id);`, rows, anchor)); err != nil {
		return err
	}
	return p.Exec("base", "VACUUM ANALYZE scan")
}

func (p postgres) fresh() error {
	if err := p.Exec("postgres", "DROP DATABASE IF EXISTS round"); err != nil {
		return err
	}
	if err := p.Exec("postgres", "CREATE DATABASE round TEMPLATE base"); err != nil {
		return err
	}
	return p.Exec("round", "CHECKPOINT; SELECT count(*), max(scanned_at) FROM scan")
}

func (p postgres) script(ctx context.Context, text string) error {
	cmd := exec.CommandContext(ctx, "bash", "-c", "set -euo pipefail\n"+text)
	cmd.Env = append(os.Environ(), "PGHOST=127.0.0.1", fmt.Sprintf("PGPORT=%d", p.Port), "PGUSER=postgres",
		"PGDATABASE=round")
	cmd.Stderr = os.Stderr
	return cmd.Run()
}

func (p postgres) archive(ctx context.Context, file string, sessions int) error {
	return p.script(ctx, abreast(sessions, func(n int, x part) string {
		return `psql -qX -c "copy (select * from scan where ` + x.condition("timestamptz '%s'") +
			`) to stdout csv" | zstd -3 -q -f -o ` + nth(file, n)
	}))
}

// purge deletes 5,000 rows at a time by row address, each committed.
func (p postgres) purge(ctx context.Context, sessions int) error {
	return p.script(ctx, abreast(sessions, func(_ int, x part) string {
		return `psql -qXAt <<SQL
do \$\$ declare n int; begin loop
  delete from scan where ctid = any(array(select ctid from scan where ` + x.condition("timestamptz '%s'") +
			ordered(sessions) + ` limit 5000));
  get diagnostics n = row_count; commit; exit when n = 0;
end loop; end \$\$;
SQL`
	}))
}

// restored copies what was archived back into the table.
func (p postgres) restored(ctx context.Context, file string, sessions int) error {
	return p.script(ctx, abreast(sessions, func(n int, _ part) string {
		return `zstd -dcq ` + nth(file, n) + ` | psql -qX -c "copy scan from stdin csv"`
	}))
}

func (p postgres) count(ctx context.Context) (n int64, err error) {
	c, err := pgx.Connect(ctx, p.URL("round"))
	if err != nil {
		return 0, err
	}
	defer c.Close(ctx)
	err = c.QueryRow(ctx, "SELECT count(*) FROM scan").Scan(&n)
	return n, err
}

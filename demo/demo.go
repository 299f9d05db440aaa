// Package demo is the made-up harbour of the examples: a ferry operator's tables in a made-up archipelago, filled from
// a fixed seed and an anchor date, and the retention rules for them. All names are invented.
package demo

import (
	"context"
	"database/sql"
	_ "embed"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/url"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"
	_ "modernc.org/sqlite" // the driver "sqlite"
)

// Rules is the demo's file of rules.
//
//go:embed rules.yaml
var Rules string

// Nights is a rule that the demo has beside those, and that matches nothing.
//
//go:embed nights.yaml
var Nights string

//go:embed sqlite.sql
var sqliteSchema string

//go:embed postgres.sql
var postgresSchema string

//go:embed mariadb.sql
var mariadbSchema string

//go:embed postgres_keys.sql
var serverKeys string

//go:embed indexes.sql
var indexes string

// Days is how far the data reaches back from the anchor.
const Days = 1000

// How many rows the larger tables get.
const (
	passengers = 6_000
	sailings   = 8_000
	bookings   = 25_000
	scans      = 300_000
	readings   = 50_000
	notices    = 10_000
)

// target takes the rows of the tables. What differs between the engines is how a table is filled and what Go value a
// column of a kind takes.
type target interface {
	exec(ctx context.Context, statements string) error
	fill(ctx context.Context, table string, columns []string, rows int, row func(i int) []any) error
	timestamp(t time.Time) any
	date(t time.Time) any
	list(parts ...string) any
}

// Fill makes the harbour's tables in an empty database: engine is sqlite (address: the path of a new file), postgres
// or mariadb (address: a URL). anchor is the day that the data ends with.
func Fill(ctx context.Context, engine, address string, anchor time.Time) error {
	anchor = anchor.UTC().Truncate(24 * time.Hour)
	switch engine {
	case "sqlite":
		db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: address}).EscapedPath()+
			"?_pragma=journal_mode(wal)&_pragma=synchronous(off)")
		if err != nil {
			return err
		}
		defer db.Close()
		db.SetMaxOpenConns(1)
		return fill(ctx, &sqliteTarget{sqlTarget{db: db, many: 50}}, sqliteSchema, indexes, anchor)
	case "postgres":
		c, err := pgx.Connect(ctx, address)
		if err != nil {
			return err
		}
		defer c.Close(context.WithoutCancel(ctx))
		schema := postgresSchema
		for m := range Days/30 + 3 { // one partition a month
			from := time.Date(anchor.Year(), anchor.Month()+2-time.Month(m), 1, 0, 0, 0, 0, time.UTC)
			schema += fmt.Sprintf("CREATE TABLE engine_reading_%s PARTITION OF engine_reading FOR VALUES FROM "+
				"('%s') TO ('%s');\n",
				from.Format("2006_01"), from.Format(time.DateOnly), from.AddDate(0, 1, 0).Format(time.DateOnly))
		}
		return fill(ctx, &postgresTarget{c}, schema, serverKeys+indexes, anchor)
	case "mariadb":
		db, err := openMariaDB(address)
		if err != nil {
			return err
		}
		defer db.Close()
		parts := []string{}
		for m := Days/30 + 2; m >= 0; m-- {
			to := time.Date(anchor.Year(), anchor.Month()+3-time.Month(m), 1, 0, 0, 0, 0, time.UTC)
			parts = append(parts, fmt.Sprintf("PARTITION p%s VALUES LESS THAN ('%s')",
				to.AddDate(0, -1, 0).Format("2006_01"), to.Format(time.DateOnly)))
		}
		// Partitioned tables take no foreign keys there.
		keys := strings.Replace(serverKeys,
			"ALTER TABLE engine_reading ADD FOREIGN KEY (vessel_id) REFERENCES vessel (id);\n", "", 1)
		// so InnoDB fills an empty table sorted, without undo (MariaDB documentation, "InnoDB bulk insert")
		unchecked := "SET SESSION unique_checks = 0, foreign_key_checks = 0"
		schema := strings.Replace(mariadbSchema, "/* one a month */", strings.Join(parts, ", "), 1)
		// The indexes first, since a key makes its own otherwise; and keys that are checked have each table copied.
		after := strings.Replace(indexes, "ANALYZE;", "SET SESSION foreign_key_checks = 0;\n"+keys+
			"SET SESSION foreign_key_checks = 1;\nANALYZE TABLE boarding_scan, engine_reading, notice;", 1)
		return fill(ctx, &mariadbTarget{sqlTarget{db, 500, unchecked}}, schema, after, anchor)
	}
	return fmt.Errorf("the demo knows the engines sqlite, postgres and mariadb, not %q", engine)
}

func fill(ctx context.Context, to target, schema, after string, anchor time.Time) error {
	if err := to.exec(ctx, schema); err != nil {
		return fmt.Errorf("making the demo's tables (the database must be empty): %w", err)
	}
	g := &generator{target: to, random: rand.New(rand.NewPCG(7, 19)), anchor: anchor,
		start: anchor.AddDate(0, 0, -Days)}
	for _, table := range g.tables() {
		if err := to.fill(ctx, table.name, strings.Fields(table.columns), table.rows, table.row); err != nil {
			return fmt.Errorf("filling table %s: %w", table.name, err)
		}
	}
	return to.exec(ctx, after)
}

type generator struct {
	target
	random        *rand.Rand
	anchor, start time.Time
}

var (
	portNames = []string{"Amberhaven", "Skarrow", "Tollen", "Vestrup", "Limmersund", "Oyle", "Brannick",
		"Hollow Quay", "Nessery", "Far Torvik", "Saltholm Pier", "Quillan"}
	islands     = []string{"Great Amber", "Little Amber", "Skarr", "Vest", "Oyle"}
	vesselNames = []string{"Heron", "Plover", "Dunlin", "Curlew", "Sanderling", "Turnstone", "Whimbrel", "Avocet"}
	firstNames  = []string{"Aldo", "Brenna", "Corin", "Dagna", "Elio", "Ferren", "Gisla", "Havel", "Ilka", "Jorun",
		"Kesta", "Lorin", "Mirel", "Nadja", "Orsa", "Peder", "Runa", "Sorel", "Tilde", "Ulrik"}
	lastNames = []string{"Amberly", "Brusk", "Corvane", "Dalgard", "Esker", "Fjorn", "Grendal", "Hask", "Islander",
		"Jarnow", "Kettle", "Lanndal", "Morrick", "Nordal", "Ostrand", "Pellow", "Rannick", "Solberry", "Tarn",
		"Ulfsby"}
	outcomes = []string{"ok", "ok", "ok", "ok", "ok", "ok", "late", "refused"}
	methods  = []string{"card", "card", "cash", "pass", "voucher"}
	decks    = []string{"upper", "main", "car"}
	channels = []string{"mail", "text", "post"}
)

func pick(r *rand.Rand, from []string) string { return from[r.IntN(len(from))] }

// moment is an instant between start and anchor, a fraction of the way along, in working hours mostly.
func (g *generator) moment(fraction float64) time.Time {
	return g.start.Add(time.Duration(fraction * float64(Days*24*time.Hour))).Truncate(time.Second)
}

func (g *generator) money(most float64) any {
	return fmt.Sprintf("%d.%02d", int(g.random.Float64()*most), g.random.IntN(20)*5)
}

func (g *generator) device() string {
	n := g.random.Uint64N(400)
	return fmt.Sprintf("00000000-5ca0-4000-8000-%012x", n*0x9e3779b97f4a7c15>>16)
}

type filling struct {
	name, columns string
	rows          int
	row           func(i int) []any
}

func (g *generator) tables() []filling {
	r := g.random
	return []filling{
		{"port", "id name island opened", len(portNames), func(i int) []any {
			return []any{i + 1, portNames[i], islands[i%len(islands)], g.date(g.anchor.AddDate(-40+i*2, i, i))}
		}},
		{"vessel", "id name class seats built beacon", len(vesselNames), func(i int) []any {
			return []any{i + 1, vesselNames[i], []string{"day boat", "night boat", "car ferry"}[i%3], 80 + 40*i,
				g.date(g.anchor.AddDate(-20+i, 0, 0)), []byte{0xa0, byte(i), 0, 0xff}}
		}},
		{"passenger", "id name language preferences joined_at", passengers, func(i int) []any {
			preferences, _ := json.Marshal(map[string]any{"seat": pick(r, []string{"window", "aisle", "deck"}),
				"news": r.IntN(2) == 0})
			return []any{i + 1, pick(r, firstNames) + " " + pick(r, lastNames), pick(r, []string{"am", "sk", "oy"}),
				string(preferences), g.timestamp(g.moment(float64(i) / passengers))}
		}},
		{"sailing", "id vessel_id from_port to_port departs_at cancelled", sailings, func(i int) []any {
			from := r.IntN(len(portNames))
			return []any{i + 1, r.IntN(len(vesselNames)) + 1, from + 1,
				(from+1+r.IntN(len(portNames)-1))%len(portNames) + 1, g.timestamp(g.moment(float64(i) / sailings)),
				r.IntN(60) == 0}
		}},
		{"booking", "id passenger_id reference booked_at state seats", bookings, func(i int) []any {
			return []any{i + 1, r.IntN(passengers) + 1, fmt.Sprintf("AC%06X", i*7919),
				g.timestamp(g.moment(float64(i) / bookings)), pick(r, []string{"open", "closed", "closed", "closed"}),
				g.list(fmt.Sprintf("%d%c", r.IntN(40)+1, 'A'+rune(r.IntN(6))),
					fmt.Sprintf("%d%c", r.IntN(40)+1, 'A'+rune(r.IntN(6))))}
		}},
		{"booking_leg", "booking_id leg sailing_id deck", bookings, func(i int) []any {
			return []any{i + 1, 1, min(i*sailings/bookings+r.IntN(20), sailings-1) + 1, pick(r, decks)}
		}},
		{"payment", "id booking_id amount method paid_at", bookings, func(i int) []any {
			return []any{i + 1, i + 1, g.money(240), pick(r, methods),
				g.timestamp(g.moment(float64(i) / bookings).Add(time.Duration(r.IntN(3600)) * time.Second))}
		}},
		{"boarding_scan", "id booking_id sailing_id gate scanned_at outcome fare device note", scans,
			func(i int) []any {
				along := float64(i) / scans
				var fare, note any = g.money(120), nil
				if r.IntN(12) == 0 {
					fare = nil
				}
				outcome := pick(r, outcomes)
				if outcome == "refused" {
					note = pick(r, []string{"ticket for another day", "gate closed", "no valid pass",
						"luggage too large, moved to car deck"})
				}
				return []any{i + 1, int(along*bookings) + 1, int(along*sailings) + 1, r.IntN(12) + 1,
					g.timestamp(g.moment(along).Add(time.Duration(r.IntN(280)) * time.Second)), outcome, fare,
					g.device(), note}
			}},
		{"engine_reading", "id vessel_id read_at rpm temperature pressure alarm", readings, func(i int) []any {
			var pressure any = float64(r.IntN(600)) / 64
			if r.IntN(30) == 0 {
				pressure = nil
			}
			return []any{i + 1, i%len(vesselNames) + 1, g.timestamp(g.moment(float64(i) / readings)), 600 +
				r.IntN(900), 60 + r.NormFloat64()*8, pressure, r.IntN(400) == 0}
		}},
		{"notice", "id passenger_id sent_on channel body", notices, func(i int) []any {
			return []any{i + 1, r.IntN(passengers) + 1, g.date(g.moment(float64(i) / notices)), pick(r, channels),
				fmt.Sprintf("Your sailing to %s leaves from quay %d.", pick(r, portNames), r.IntN(5)+1)}
		}},
		{"fare_change", "from_port to_port effective_on fare", len(portNames) * 20, func(i int) []any {
			return []any{i%len(portNames) + 1, (i+1)%len(portNames) + 1,
				g.date(g.start.AddDate(0, 0, i/len(portNames)*50)), g.money(60)}
		}},
	}
}

// sqlTarget fills tables through database/sql, so many rows with one INSERT.
type sqlTarget struct {
	db        *sql.DB
	many      int
	unchecked string // has rows taken unchecked; empty: they are checked
}

type sqliteTarget struct{ sqlTarget }

func (s *sqlTarget) exec(ctx context.Context, statements string) error {
	_, err := s.db.ExecContext(ctx, statements)
	return err
}

func (s *sqlTarget) fill(ctx context.Context, table string, columns []string, rows int, row func(int) []any) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if s.unchecked != "" {
		if _, err := tx.ExecContext(ctx, s.unchecked); err != nil {
			return err
		}
	}
	statement := func(n int) string {
		one := "(?" + strings.Repeat(", ?", len(columns)-1) + ")"
		return fmt.Sprintf("INSERT INTO %s (%s) VALUES %s", table, strings.Join(columns, ", "), one+
			strings.Repeat(", "+one, n-1))
	}
	many, err := tx.PrepareContext(ctx, statement(s.many))
	if err != nil {
		return err
	}
	defer many.Close()
	// The next rows are made while the ones before are inserted.
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	made := make(chan []any, 4)
	go func() {
		defer close(made)
		for i := 0; i < rows; {
			args := make([]any, 0, s.many*len(columns))
			for ; i < rows && len(args) < cap(args); i++ {
				args = append(args, row(i)...)
			}
			select {
			case made <- args:
			case <-ctx.Done():
				return
			}
		}
	}()
	for args := range made {
		if len(args) == s.many*len(columns) {
			_, err = many.ExecContext(ctx, args...)
		} else {
			_, err = tx.ExecContext(ctx, statement(len(args)/len(columns)), args...)
		}
		if err != nil {
			return err
		}
	}
	return tx.Commit()
}

func (s *sqliteTarget) timestamp(t time.Time) any { return t.Format("2006-01-02 15:04:05") }
func (s *sqliteTarget) date(t time.Time) any      { return t.Format(time.DateOnly) }
func (s *sqliteTarget) list(parts ...string) any  { return strings.Join(parts, ",") }

type mariadbTarget struct{ sqlTarget }

func (m *mariadbTarget) timestamp(t time.Time) any { return t.Format("2006-01-02 15:04:05") }
func (m *mariadbTarget) date(t time.Time) any      { return t.Format(time.DateOnly) }
func (m *mariadbTarget) list(parts ...string) any  { return strings.Join(parts, ",") }

// openMariaDB opens a URL; its password, where it has one, goes no further than this.
func openMariaDB(address string) (*sql.DB, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	c := mysql.NewConfig()
	c.User, c.Net, c.Addr, c.DBName, c.MultiStatements = u.User.Username(), "tcp", u.Host, strings.Trim(u.Path, "/"),
		true
	c.Passwd, _ = u.User.Password()
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
}

type postgresTarget struct{ conn *pgx.Conn }

func (p *postgresTarget) exec(ctx context.Context, statements string) error {
	_, err := p.conn.PgConn().Exec(ctx, statements).ReadAll()
	return err
}

func (p *postgresTarget) fill(ctx context.Context, table string, columns []string, rows int,
	row func(int) []any) error {
	// The enum's OID is known to no one beforehand.
	if t, err := p.conn.LoadType(ctx, "scan_outcome"); err == nil {
		p.conn.TypeMap().RegisterType(t)
	}
	_, err := p.conn.CopyFrom(ctx, pgx.Identifier{table}, columns,
		pgx.CopyFromSlice(rows, func(i int) ([]any, error) { return row(i), nil }))
	return err
}

func (p *postgresTarget) timestamp(t time.Time) any { return t }
func (p *postgresTarget) date(t time.Time) any      { return t }
func (p *postgresTarget) list(parts ...string) any  { return parts }

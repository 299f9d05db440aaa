package demo

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/dbtest"
)

func TestMain(m *testing.M) { os.Exit(dbtest.Main(m)) }

var anchor = time.Date(2026, 11, 1, 15, 0, 0, 0, time.UTC)

// sums counts every table and adds up something of its rows.
func sums(t *testing.T, db *sql.DB) string {
	t.Helper()
	var out []string
	for _, q := range []string{"port: count(*), sum(length(name))", "vessel: count(*), sum(seats)",
		"passenger: count(*), sum(length(name))", "sailing: count(*), sum(vessel_id * id)",
		"booking: count(*), sum(passenger_id)", "booking_leg: count(*), sum(sailing_id)",
		"payment: count(*), sum(cast(round(amount * 100) as int))",
		"boarding_scan: count(*), sum(cast(round(fare * 100) as int) + gate)", "engine_reading: count(*), sum(rpm)",
		"notice: count(*), sum(length(body))", "fare_change: count(*), sum(cast(round(fare * 100) as int))"} {
		table, what, _ := strings.Cut(q, ": ")
		var n, sum int64
		if err := db.QueryRow("SELECT "+what+" FROM "+table).Scan(&n, &sum); err != nil {
			t.Fatalf("%s: %v", table, err)
		}
		out = append(out, fmt.Sprint(table, " ", n, " ", sum))
	}
	return strings.Join(out, "\n")
}

func sqlite(t *testing.T) *sql.DB {
	t.Helper()
	path := filepath.Join(t.TempDir(), "harbour.db")
	if err := Fill(t.Context(), "sqlite", path, anchor); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", "file:"+path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

func TestTheSameSeedMakesTheSameHarbourOnEveryEngine(t *testing.T) {
	first := sqlite(t)
	want := sums(t, first)
	if !strings.Contains(want, "boarding_scan 300000 ") {
		t.Errorf("not 300,000 boarding scans:\n%s", want)
	}
	if got := sums(t, sqlite(t)); got != want {
		t.Errorf("the second time SQLite holds\n%s\ninstead of\n%s", got, want)
	}
	url := dbtest.Postgres(t)
	if err := Fill(t.Context(), "postgres", url, anchor); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("pgx", url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if got := sums(t, db); got != want {
		t.Errorf("PostgreSQL holds\n%s\ninstead of\n%s", got, want)
	}
	address := dbtest.MariaDB(t)
	if err := Fill(t.Context(), "mariadb", address, anchor); err != nil {
		t.Fatal(err)
	}
	maria, err := dbtest.OpenMariaDB(address)
	if err != nil {
		t.Fatal(err)
	}
	defer maria.Close()
	if got := sums(t, maria); got != want {
		t.Errorf("MariaDB holds\n%s\ninstead of\n%s", got, want)
	}
	var violations int
	if err := first.QueryRow("SELECT count(*) FROM pragma_foreign_key_check").Scan(&violations); err != nil ||
		violations != 0 {
		t.Errorf("%d rows refer to nothing (%v)", violations, err)
	}
	var oldest, newest string
	if err := first.QueryRow("SELECT min(scanned_at), max(scanned_at) FROM boarding_scan").Scan(&oldest,
		&newest); err != nil || oldest < "2024-02-05" || oldest > "2024-02-06" || newest < "2026-10-31" ||
		newest >= "2026-11-01" {
		t.Errorf("the scans reach from %s to %s (%v)", oldest, newest, err)
	}
	if err := Fill(t.Context(), "postgres", url, anchor); err == nil ||
		!strings.Contains(err.Error(), "must be empty") {
		t.Errorf("a database that is not empty: %v", err)
	}
}

func TestTheRulesAreGood(t *testing.T) {
	docs, problems := rule.Parse("rules.yaml", []byte(Rules))
	if len(problems) > 0 || len(docs) != 5 {
		t.Errorf("%d rules, problems %v", len(docs), problems)
	}
	for _, d := range docs {
		if d.Keep == nil && d.Rule.About == "" {
			t.Errorf("rule %s does not say why", d.Rule.Name)
		}
	}
}

func TestOtherEnginesAreRefused(t *testing.T) {
	if err := Fill(t.Context(), "papyrus", "x", anchor); err == nil || !strings.Contains(err.Error(), "papyrus") {
		t.Errorf("got %v", err)
	}
}

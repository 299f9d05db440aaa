package service

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"database/sql"
	"encoding/pem"
	"fmt"
	"math/big"
	"os"
	"path/filepath"
	"testing"
	"time"

	"ambercellar/internal/catalog"
)

// catalogDo changes the catalog behind the service's back.
func (n *nights) catalogDo(t *testing.T, statement string, args ...any) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(n.dir, "data", "catalog.db")+"?_pragma=busy_timeout(10000)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(statement, args...); err != nil {
		t.Fatal(err)
	}
}

func TestTablesThatGrowWithoutARule(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan", "berth", "deck")
	n.apply(t, "", "scan")
	keep := func(days int, mib map[string]int64) {
		t.Helper()
		var sizes []catalog.TableSize
		for table, size := range mib {
			sizes = append(sizes, catalog.TableSize{Source: "harbour", Table: table,
				At: catalog.At(n.Now().AddDate(0, 0, -days)), Rows: 10, Bytes: size << 20})
		}
		if err := n.Catalog.KeepSizes(t.Context(), sizes); err != nil {
			t.Fatal(err)
		}
	}
	keep(40, map[string]int64{"deck": 1})
	keep(20, map[string]int64{"scan": 100, "berth": 100, "deck": 1000})
	keep(1, map[string]int64{"scan": 900, "berth": 163, "deck": 1100}) // one has a rule, one grew little, one not much
	n.found(t)
	keep(0, map[string]int64{"berth": 165})
	n.found(t, "growing harbour.berth")
	n.apply(t, "", "berth")
	n.found(t)
	// The service keeps sizes by itself, once a day.
	for range 3 {
		if _, err := n.Chores.keepSizes(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	if at, err := n.Catalog.SizesKept(t.Context(), "harbour"); err != nil || n.Now().Sub(at) > time.Hour {
		t.Errorf("kept at %s, %v", at, err)
	}
}

func TestStoresThatAreNearlyFull(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.found(t)
	day := n.Now().UTC().Format(time.DateOnly)
	n.catalogDo(t, `INSERT INTO day_sum VALUES (?, 'scan', 1, 'harbour', 'scan', 'cellar', 1, 1, 0, 1, ?, 0)`, day,
		int64(1)<<60)
	n.found(t, "store full cellar")
	n.catalogDo(t, "UPDATE day_sum SET day = '2020-01-01'")
	n.found(t)
}

func TestCertificatesThatEnd(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	file := filepath.Join(n.dir, "service.pem")
	write := func(ends time.Time) {
		t.Helper()
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		c := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: ends.AddDate(-1, 0, 0), NotAfter: ends}
		der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
			0o600); err != nil {
			t.Fatal(err)
		}
	}
	n.Findings.Certificates = []string{file}
	n.found(t, "certificate "+file) // it is not there
	for days, open := range map[int]bool{60: false, 20: true, -1: true} {
		write(n.Now().AddDate(0, 0, days))
		if open {
			n.found(t, "certificate "+file)
		} else {
			n.found(t)
		}
	}
	if err := os.WriteFile(file, []byte("nonsense"), 0o600); err != nil {
		t.Fatal(err)
	}
	n.found(t, "certificate "+file)
}

func TestRunsThatAreNotWhatWasExpected(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.rows(t, "scan", 10_000)
	n.apply(t, "", "scan")
	run := n.now(t, "scan")
	n.ended(t, run)
	n.found(t)
	for _, change := range map[string][2]string{
		"time":    {"working_micros = 1000000 * 1300", `$.expect.seconds', 400.0`},
		"log":     {"log_bytes = 1 << 30", `$.expect.log_bytes', 1 << 20`},
		"archive": {"file_bytes = 1 << 30", `$.expect.archive_bytes', 1 << 20`},
		"left":    {"skipped = 1001, due = 10000", `$.note', ''`},
	} {
		var was string
		db, err := sql.Open("sqlite", "file:"+filepath.Join(n.dir, "data", "catalog.db")+
			"?_pragma=busy_timeout(10000)")
		if err != nil {
			t.Fatal(err)
		}
		if err := db.QueryRow("SELECT detail FROM plan WHERE id = (SELECT plan FROM run WHERE id = ?)", run).Scan(
			&was); err != nil {
			t.Fatal(err)
		}
		db.Close()
		n.catalogDo(t, "UPDATE run SET "+change[0]+" WHERE id = ?", run)
		n.catalogDo(t, "UPDATE plan SET detail = json_set(detail, '"+change[1]+")")
		n.found(t, "unexpected "+run)
		n.catalogDo(t, "UPDATE run SET working_micros = 1, log_bytes = NULL, file_bytes = 0, skipped = 0 WHERE id = ?",
			run)
		n.catalogDo(t, "UPDATE plan SET detail = ?", was)
		n.found(t)
	}
}

func TestATableThatAnotherServiceHolds(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.rows(t, "scan", 10)
	n.apply(t, "", "scan")
	src, err := n.Source(t.Context(), "harbour")
	if err != nil {
		t.Fatal(err)
	}
	if err := src.PrepareJournal(t.Context()); err != nil {
		t.Fatal(err)
	}
	l, err := src.TakeLease(t.Context(), "scan", "another-service", "its run")
	if err != nil {
		t.Fatal(err)
	}
	run := n.now(t, "scan")
	n.until(t, run, "it is tried again", 90*time.Second,
		func(r *catalog.Run) bool { return r.State == catalog.Resting || r.State == catalog.Failed })
	n.found(t, "held elsewhere harbour.scan")
	if err := src.ReleaseLease(t.Context(), l); err != nil {
		t.Fatal(err)
	}
	n.later(t, 6*time.Minute)
	n.ended(t, run)
	n.found(t)
}

func TestRowsThatNoClauseIsFor(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.rows(t, "scan", 10)
	text := "rule: scan\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - where: id > 5\n    keep: " +
		"P1Y\n%s" +
		"then: purge\npace: unlimited\nschedule: daily at 22:00\nlimit: {rows: 1M}\n"
	for _, x := range []struct {
		clause string
		found  []string
	}{{"", []string{"uncovered scan"}}, {"  - keep: forever\n    otherwise: true\n", nil}} {
		if _, _, err := n.Engine.Plans.ApplyRules(t.Context(), "me", "", fmt.Appendf(nil, text, x.clause),
			""); err != nil {
			t.Fatal(err)
		}
		n.rows(t, "scan", 1)
		n.ended(t, n.now(t, "scan"))
		n.found(t, x.found...)
	}
}

package sqlite

import (
	"context"
	"database/sql"
	"net/url"
	"path/filepath"
	"testing"

	"ambercellar/internal/source"
	"ambercellar/internal/source/sourcetest"
)

func open(mode string) func(t *testing.T) (source.Source, func(string)) {
	return func(t *testing.T) (source.Source, func(string)) {
		path := filepath.Join(t.TempDir(), "harbour 100%.db")
		db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?_pragma=journal_mode("+mode+
			")&_pragma=busy_timeout(2000)")
		if err != nil {
			t.Fatal(err)
		}
		exec := func(statements string) {
			t.Helper()
			if _, err := db.Exec(statements); err != nil {
				t.Fatalf("%v\n%s", err, statements)
			}
		}
		exec("CREATE TABLE first_thing (id integer); DROP TABLE first_thing")
		s, err := Open(context.Background(), source.Config{Name: "harbour", Address: path, Connections: 4})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { s.Close(); db.Close() })
		return s, exec
	}
}

func TestConformance(t *testing.T) {
	everyClass := []string{"0", "-9223372036854775808", "9223372036854775807", "0.1", "-1.5e308", "4.9e-324", "''",
		"'text'", "x''", "x'00ff'", "CAST(x'fffe41' AS TEXT)", "'12:00'", "'zero' || char(0) || 'inside'", "9e999",
		"-9e999"}
	var types []sourcetest.TypeCase
	for _, typ := range []string{"INTEGER", "TEXT", "BLOB", "REAL", "NUMERIC(9,2)", "DATETIME", "BOOLEAN", ""} {
		types = append(types, sourcetest.TypeCase{Type: typ, Literals: everyClass})
	}
	for _, mode := range []string{"wal", "delete"} {
		t.Run("journal mode "+mode, func(t *testing.T) {
			sourcetest.Run(t, sourcetest.Fixture{
				Open: open(mode), AgeType: "DATETIME", ClockType: "DATETIME", Types: types,
				Endless: "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT count(*) FROM n",
				Same:    "%[1]s IS %[2]s AND typeof(%[1]s) = typeof(%[2]s) AND quote(%[1]s) = quote(%[2]s)",
				Judged: []sourcetest.Judged{
					{Name: "n", Type: "INTEGER", Rows: []string{"0", "1", "-1", "2", "9007199254740993",
						"9223372036854775807", "-9223372036854775808", "1.5", "2.5e300", "'text'", "x'31'", "'1'"},
						Literals: []string{"0", "1", "-1", "2", "1.5", "-0.5", "9007199254740992", "9007199254740993",
							"9223372036854775807", "9223372036854775808", "-1e30", "2.5e300"}},
					{Name: "f", Type: "REAL", Rows: []string{"0", "0.1", "-1.5", "1e300", "-1e-300", "9e999", "-9e999",
						"9007199254740993", "'x'"}, Literals: []string{"0", "0.1", "-1.5", "0.30000000000000004",
						"1e300", "9007199254740992"}},
					{Name: "d", Type: "NUMERIC(9,2)", Rows: []string{"0", "12.5", "12.50", "9007199254740993",
						"'12.5'", "'abc'", "x''"}, Literals: []string{"12.5", "0", "-1", "9007199254740993",
						"12.49999999"}},
					{Name: "c", Type: "char(5)", Text: true, Rows: []string{"'ab'", "'ab  '", "''", "' '", "'é'", "7",
						"x'6162'"}, Literals: []string{"'ab'", "'ab '", "''", "'é'"}},
					{Name: "s", Type: "TEXT", Text: true, Rows: []string{"''", "'a'", "'A'", "'a '", "'é'", "'aé'",
						"'100%'", "'_'", "'[x]'", "'a*'", "'a?'", "'it''s'", "'ß!'", "'z' || char(0) || 'a'",
						"char(128674)", "char(65535)", "x'61'", "7"},
						Literals: []string{"''", "'a'", "'A'", "'a '", "'é'", "'z'", "'it''s'", "'7'", "'\U0001F6A2'",
							"'\uFFFF'"}},
					{Name: "l", Type: "TEXT COLLATE NOCASE", Text: true,
						Rows:     []string{"'Plover'", "'plover'", "'PLOVER '", "'dunlin'"},
						Literals: []string{"'plover'", "'Plover'", "'DUNLIN'"}},
					{Name: "b", Type: "BOOLEAN", Flag: true, Rows: []string{"0", "1", "2", "'yes'"},
						Literals: []string{"TRUE", "FALSE", "1", "2"}},
					{Name: "t", Type: "DATETIME", Rows: []string{"'2024-03-31'", "'2024-03-31 12:00'",
						"'2024-03-31T12:00:00'", "'2024-03-31 12:00:00.75'", "'2024-03-31T14:00:00+02:00'",
						"'2024-03-31T12:00:00Z'", "'2024-02-31'", "'soon'", "'now'", "20240331", "''",
						"'2024-12-31 23:59:59'"},
						Literals: []string{"DATE '2024-03-31'", "TIMESTAMP '2024-03-31 12:00:00'",
							"TIMESTAMP '2024-03-31 12:00:01'", "DATE '2025-01-01'"}},
					{Name: "p", Type: "BLOB", Opaque: true, Rows: []string{"x''", "x'00'", "'t'"}},
				},
				Folded: "TEXT COLLATE NOCASE",
				Ageless: []string{"NULL", "'yesterday'", "'now'", "20200101", "'2020-02-31'", "'2020-13-01 00:00:00'",
					"x'323032302d30312d3031'", "''", "'0000-00-00'", "'2020-01-01 25:00:00'"},
			})
		})
	}
}

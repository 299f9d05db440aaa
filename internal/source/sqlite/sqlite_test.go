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
		db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?_pragma=journal_mode("+mode+")&_pragma=busy_timeout(2000)")
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
	everyClass := []string{"0", "-9223372036854775808", "9223372036854775807", "0.1", "-1.5e308", "4.9e-324", "''", "'text'", "x''", "x'00ff'", "CAST(x'fffe41' AS TEXT)", "'12:00'", "'zero' || char(0) || 'inside'", "9e999", "-9e999"}
	var types []sourcetest.TypeCase
	for _, typ := range []string{"INTEGER", "TEXT", "BLOB", "REAL", "NUMERIC(9,2)", "DATETIME", "BOOLEAN", ""} {
		types = append(types, sourcetest.TypeCase{Type: typ, Literals: everyClass})
	}
	for _, mode := range []string{"wal", "delete"} {
		t.Run("journal mode "+mode, func(t *testing.T) {
			sourcetest.Run(t, sourcetest.Fixture{
				Open: open(mode), AgeType: "DATETIME", Types: types,
				Same:    "%[1]s IS %[2]s AND typeof(%[1]s) = typeof(%[2]s) AND quote(%[1]s) = quote(%[2]s)",
				Ageless: []string{"NULL", "'yesterday'", "'now'", "20200101", "'2020-02-31'", "'2020-13-01 00:00:00'", "x'323032302d30312d3031'", "''", "'0000-00-00'", "'2020-01-01 25:00:00'"},
			})
		})
	}
}

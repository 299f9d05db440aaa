package mariadb

import (
	"context"
	"os"
	"testing"

	"ambercellar/internal/dbtest"
	"ambercellar/internal/source"
	"ambercellar/internal/source/sourcetest"
)

func TestMain(m *testing.M) { os.Exit(dbtest.Main(m)) }

func open(t *testing.T) (*Source, func(string)) {
	url := dbtest.MariaDB(t)
	return openAt(t, url), func(statements string) {
		t.Helper()
		if err := dbtest.ExecMariaDB(url, statements); err != nil {
			t.Fatalf("%v\n%s", err, statements)
		}
	}
}

// ownServer starts a server for one test alone, with settings, and opens a source on it.
func ownServer(t *testing.T, settings ...string) (*dbtest.MariaServer, *Source) {
	t.Helper()
	server, err := dbtest.StartMariaDB(settings...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Stop)
	if err := dbtest.ExecMariaDB(server.URL("mysql"), "CREATE DATABASE harbour"); err != nil {
		t.Fatal(err)
	}
	return server, openAt(t, server.URL("harbour"))
}

func openAt(t *testing.T, url string) *Source {
	t.Helper()
	s, err := Open(context.Background(), source.Config{Name: "harbour", Address: url, Connections: 4})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

// TestConformance runs the suite as on MariaDB, and once more without the abilities that MySQL lacks.
func TestConformance(t *testing.T) {
	numbers := []string{"0", "1", "-1"}
	dates := []string{"'2024-02-29'", "'0000-00-00'", "'2024-00-10'", "'2024-02-31'", "'9999-12-31'", "'0001-01-01'",
		"'1969-12-31'"}
	for name, plain := range map[string]bool{"deletes that return": false, "deletes that return nothing": true} {
		t.Run(name, func(t *testing.T) {
			sourcetest.Run(t, sourcetest.Fixture{
				Open: func(t *testing.T) (source.Source, func(string)) {
					s, exec := open(t)
					if plain {
						s.returning = false
					}
					return s, exec
				},
				PurgesDirect: !plain,
				PurgeEnds:    "LIMIT 5",
				AgeType:      "datetime",
				ClockType:    "datetime",
				Same:         "%[1]s <=> %[2]s AND CAST(%[1]s AS BINARY) <=> CAST(%[2]s AS BINARY)",
				Ageless: []string{"NULL", "'0000-00-00 00:00:00'", "'2024-00-10 00:00:00'",
					"'2020-02-31 10:00:00'"},
				SelfKeeps: true,
				Folded:    "varchar(20) COLLATE utf8mb4_general_ci",
				Types: []sourcetest.TypeCase{
					{Type: "tinyint", Literals: append(numbers, "-128", "127")},
					{Type: "smallint unsigned", Literals: []string{"0", "65535"}},
					{Type: "integer", Literals: append(numbers, "-2147483648", "2147483647")},
					{Type: "bigint", Literals: append(numbers, "-9223372036854775808", "9223372036854775807")},
					{Type: "bigint unsigned", Literals: []string{"0", "9223372036854775808", "18446744073709551615"}},
					{Type: "decimal(9,2)", Literals: append(numbers, "0.01", "-9999999.99", "100.10")},
					{Type: "decimal(18,6)", Literals: append(numbers, "999999999999.999999", "-0.10")},
					{Type: "decimal(65,30)", Literals: append(numbers,
						"99999999999999999999999999999999999.999999999999999999999999999999")},
					{Type: "float", Literals: append(numbers, "1.1", "1e-38", "16777217")},
					{Type: "double", Literals: append(numbers, "0.1", "4.9e-324", "1.7976931348623157e308")},
					{Type: "boolean", Literals: []string{"true", "false"}},
					{Type: "text", Literals: []string{"''", "'plain'", "'tab\tline\n\\.'", "'ÆØÅ 🚢'",
						"REPEAT('x', 100000)", "CONCAT('zero', CHAR(0), 'inside')"}},
					{Type: "varchar(20)", Literals: []string{"'  spaces  '", "'ends with space '"}},
					{Type: "varchar(20) CHARACTER SET latin1", Literals: []string{"'Göteborg'", "'€'"}},
					{Type: "char(5)", Literals: []string{"'ab'", "''"}},
					{Type: "binary(4)", Literals: []string{"x'00ff'", "x''"}},
					{Type: "varbinary(10)", Literals: []string{"x'00ff5c'", "x''"}},
					{Type: "blob", Literals: []string{"x''", "x'00ff5c27'"}},
					{Type: "bit(10)", Literals: []string{"b'0'", "b'1010101010'"}},
					{Type: "date", Literals: dates},
					{Type: "datetime", Literals: append(dates, "'2024-02-29 12:34:56'")},
					{Type: "datetime(6)", Literals: append(dates, "'2024-02-29 12:34:56.789012'")},
					{Type: "timestamp NULL", Literals: []string{"'2024-03-31 02:30:00'", "'0000-00-00 00:00:00'",
						"'1970-01-01 00:00:01'", "'2038-01-19 03:14:07'"}},
					{Type: "timestamp(3) NULL", Literals: []string{"'2024-03-31 02:30:00.125'"}},
					{Type: "time", Literals: []string{"'00:00:00'", "'-838:59:59'", "'838:59:59'", "'12:34:56'"}},
					{Type: "time(6)", Literals: []string{"'12:34:56.789012'", "'-00:00:00.5'"}},
					{Type: "year", Literals: []string{"0", "2024", "1901"}},
					{Type: "enum('calm', 'rough', '')", Literals: []string{"'calm'", "''", "0"}},
					{Type: "enum('calm', '🚢')", Literals: []string{"'🚢'", "0"}},
					{Type: "set('a', 'b', 'c')", Literals: []string{"''", "'a,c'"}},
					{Type: "json", Literals: []string{`'{"b" : 1,  "a":[1.50, null]}'`}},
					{Type: "uuid", Literals: []string{"'00112233-4455-6677-8899-aabbccddeeff'"}},
					{Type: "inet6", Literals: []string{"'2001:db8::1'"}},
					{Type: "inet4", Literals: []string{"'192.0.2.1'"}},
					{Type: "mediumint unsigned", Literals: []string{"0", "16777215"}},
					{Type: "float unsigned", Literals: []string{"0", "3.4028234e38", "1.1754944e-38"}},
					{Type: "decimal(20,0) unsigned zerofill", Literals: []string{"0", "99999999999999999999"}},
					{Type: "double", Literals: []string{"-0e0", "2.2250738585072014e-308"}},
					{Type: "bit(64)", Literals: []string{
						"b'1111111111111111111111111111111111111111111111111111111111111111'"}},
					{Type: "longtext", Literals: []string{"REPEAT('🚢', 30000)"}},
					{Type: "mediumblob", Literals: []string{"REPEAT(x'00ff', 100000)"}},
					{Type: "char(10) CHARACTER SET ucs2", Literals: []string{"'ÆØ'", "CONVERT(x'D83D' USING ucs2)"}},
					{Type: "geometry", Literals: []string{"ST_GeomFromText('POINT(0.1 -2)', 4326)",
						"ST_GeomFromText('GEOMETRYCOLLECTION(POINT(1 2), LINESTRING(0 0, 1.5 1))')"}},
					{Type: "point", Literals: []string{"POINT(0.1, -2)"}},
					{Type: "polygon", Literals: []string{"ST_GeomFromText('POLYGON((0 0, 0 3, 3 3, 0 0))')"}},
				},
				NoAddress: true,
				Endless:   "SELECT sleep(60)",
				Refused:   []string{"varchar(20) CHARACTER SET sjis"},
				Judged: []sourcetest.Judged{
					{Name: "n", Type: "bigint", Rows: []string{"0", "1", "-1", "2", "9007199254740993",
						"9223372036854775807", "-9223372036854775808"},
						Literals: []string{"0", "1", "-1", "1.5", "-0.5", "9007199254740992", "9223372036854775807",
							"9223372036854775808", "-1e30", "1e80", "1.5e-40"}},
					{Name: "w", Type: "bigint unsigned", Rows: []string{"0", "9223372036854775808",
						"18446744073709551615"}, Literals: []string{"0", "-1", "9223372036854775807",
						"18446744073709551615", "1e20"}},
					{Name: "d", Type: "decimal(9,2)", Rows: []string{"0", "12.5", "-0.01"},
						Literals: []string{"12.5", "12.50", "12.499999999999999999999",
							"12.4999999999999999999999999999999999999999999999", "-1e-2", "0"}},
					{Name: "e", Type: "decimal(65,30)",
						Rows: []string{"0.1", "1e30", "-1e30", "0.000000000000000000000000000001"},
						Literals: []string{"0.1", "0.10000000000000000001", "1e30", "1e-30", "1e-31", "-1e-31",
							"1e90"}},
					{Name: "f", Type: "double", Rows: []string{"0", "-0.0", "0.1", "-1.5", "1e300",
						"9007199254740992"}, Literals: []string{"0", "0.1", "-1.5", "1e300", "9007199254740993",
						"0.30000000000000004"}},
					{Name: "r", Type: "float", Rows: []string{"0.1", "1.5", "16777217"},
						Literals: []string{"0.1", "1.5", "0.10000000149011612", "16777217"}},
					{Name: "s", Type: "varchar(20) COLLATE utf8mb4_general_ci", Text: true,
						Rows: []string{"''", "'a'", "'A'", "'a '", "'é'", "'aé'", "'100%'", "'_'", "'[x]'", "'a*'",
							"'it''s'", "'ß!'", "'🚢'", "'\uFFFF'", "'b\\c'", "CONCAT('z', CHAR(0), 'a')"},
						Literals: []string{"''", "'a'", "'A'", "'a '", "'é'", "'z'", "'it''s'", "'🚢'", "'\uFFFF'",
							"'b\\c'"}},
					{Name: "l", Type: "varchar(20) CHARACTER SET latin1", Text: true,
						Rows: []string{"'é'", "'E'", "'ü'", "'€'"}, Literals: []string{"'é'", "'e'", "'€'", "'🚢'"}},
					{Name: "c", Type: "char(5)", Text: true, Rows: []string{"'ab'", "'ab  '", "''", "'é'"},
						Literals: []string{"'ab'", "'ab '", "''", "'é'"}},
					{Name: "m", Type: "enum('calm', 'rough', '')", Text: true,
						Rows: []string{"'calm'", "'rough'", "''", "0"}, Literals: []string{"'calm'", "'CALM'", "'m'"}},
					{Name: "tm", Type: "time", Text: true, Rows: []string{"'12:34:56'", "'-01:00:00'"},
						Literals: []string{"'12:34:56'", "'1'"}},
					{Name: "b", Type: "boolean", Flag: true, Rows: []string{"true", "false", "2"},
						Literals: []string{"TRUE", "FALSE", "2"}},
					{Name: "dd", Type: "date", Rows: dates, Literals: []string{"DATE '2024-02-29'", "'1970-01-01'",
						"'1969-12-31'", "'0001-01-01'"}},
					{Name: "ts", Type: "datetime(6)", Rows: append(dates, "'2024-02-29 12:00:00.000001'"),
						Literals: []string{"TIMESTAMP '2024-02-29 12:00:00.000001'", "'2024-02-29'",
							"'1970-01-01 00:00'"}},
					{Name: "tz", Type: "timestamp NULL DEFAULT NULL",
						Rows: []string{"'2024-03-31 00:30:00'", "'0000-00-00 00:00:00'"},
						Literals: []string{"TIMESTAMP '2024-03-31 02:30:00+02:00'",
							"TIMESTAMP '2024-03-31T00:30:01Z'"}},
					{Name: "p", Type: "blob", Opaque: true, Rows: []string{"x''", "x'00'"}},
				},
			})
		})
	}
}

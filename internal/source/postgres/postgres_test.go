package postgres

import (
	"context"
	"os"
	"testing"

	"ambercellar/internal/dbtest"
	"ambercellar/internal/source"
	"ambercellar/internal/source/sourcetest"
)

func TestMain(m *testing.M) { os.Exit(dbtest.Main(m)) }

func open(t *testing.T) (source.Source, func(string)) {
	url := dbtest.Postgres(t)
	s, err := Open(context.Background(), source.Config{Name: "harbour", Address: url, Connections: 4, TLS: "off"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s, func(statements string) {
		t.Helper()
		if err := dbtest.Exec(url, statements); err != nil {
			t.Fatalf("%v\n%s", err, statements)
		}
	}
}

func TestConformance(t *testing.T) {
	numbers := []string{"0", "1", "-1"}
	sourcetest.Run(t, sourcetest.Fixture{
		Open: func(t *testing.T) (source.Source, func(string)) {
			s, exec := open(t)
			exec("CREATE TYPE mood AS ENUM ('calm', 'rough', 'Sehr rauh'); CREATE DOMAIN fare AS numeric(7,2) " +
				"CHECK (VALUE >= 0); CREATE TYPE pair AS (a int, b text, c float8, d timestamptz, e mood); CREATE " +
				"TYPE nest AS (p pair); CREATE DOMAIN many AS int[]; CREATE COLLATION folded (provider = icu, " +
				"locale = 'und-u-ks-level2', deterministic = false)")
			return s, exec
		},
		PurgesDirect: true, PurgeEnds: "<= ('line 0'::character varying, '16'::integer)",
		JournalSchema: "ambercellar", AgeType: "timestamptz", ClockType: "timestamp",
		Folded: "varchar(20) COLLATE folded",
		Judged: []sourcetest.Judged{
			{Name: "n", Type: "bigint", Rows: []string{"0", "1", "-1", "2", "9007199254740993", "9223372036854775807",
				"-9223372036854775808"},
				Literals: []string{"0", "1", "-1", "1.5", "-0.5", "9007199254740992", "9223372036854775807",
					"9223372036854775808", "-1e30"}},
			{Name: "h", Type: "smallint", Rows: []string{"0", "32767", "-32768"},
				Literals: []string{"0", "32767", "32768", "-99999999999"}},
			{Name: "d", Type: "numeric(9,2)", Rows: []string{"0", "12.5", "-0.01", "'NaN'"},
				Literals: []string{"12.5", "12.50", "12.499999999999999999999", "0", "-1e-2"}},
			{Name: "e", Type: "numeric", Rows: []string{"0.1", "1e100", "'Infinity'", "'-Infinity'", "'NaN'",
				"100.000"}, Literals: []string{"0.1", "0.10000000000000000001", "1e100", "100"}},
			{Name: "f", Type: "double precision", Rows: []string{"0", "'-0'", "0.1", "-1.5", "1e300", "'NaN'",
				"'Infinity'", "'-Infinity'", "9007199254740992"}, Literals: []string{"0", "0.1", "-1.5", "1e300",
				"9007199254740993", "0.30000000000000004"}},
			{Name: "r", Type: "real", Rows: []string{"0.1", "1.5", "'NaN'", "16777217"},
				Literals: []string{"0.1", "1.5", "0.10000000149011612", "16777217"}},
			{Name: "s", Type: "text COLLATE \"en-x-icu\"", Text: true, Rows: []string{"''", "'a'", "'A'", "'a '",
				"'é'", "'aé'", "'100%'", "'_'", "'[x]'", "'a*'", "'it''s'", "'ß!'", "'🚢'", "E'\\uFFFF'", "E'b\\\\c'"},
				Literals: []string{"''", "'a'", "'A'", "'a '", "'é'", "'z'", "'it''s'", "'🚢'", "'\uFFFF'", "'b\\c'"}},
			{Name: "c", Type: "char(5)", Text: true, Rows: []string{"'ab'", "'ab  '", "''", "'é'"},
				Literals: []string{"'ab'", "'ab '", "''", "'é'"}},
			{Name: "m", Type: "mood", Text: true, Rows: []string{"'calm'", "'rough'"},
				Literals: []string{"'calm'", "'never'", "'m'"}},
			{Name: "b", Type: "boolean", Flag: true, Rows: []string{"true", "false"},
				Literals: []string{"TRUE", "FALSE"}},
			{Name: "dd", Type: "date", Rows: []string{"'2024-02-29'", "'infinity'", "'-infinity'", "'0044-03-15 BC'",
				"'1969-12-31'"}, Literals: []string{"DATE '2024-02-29'", "'1970-01-01'", "'1969-12-31'",
				"'0001-01-01'"}},
			{Name: "ts", Type: "timestamp", Rows: []string{"'2024-02-29 12:00:00.000001'", "'infinity'", "'-infinity'",
				"'1969-12-31 23:59:59'", "'294270-01-01'"},
				Literals: []string{"TIMESTAMP '2024-02-29 12:00:00.000001'", "'2024-02-29'", "'1970-01-01 00:00'"}},
			{Name: "tz", Type: "timestamptz", Rows: []string{"'2024-03-31 02:30:00+02'", "'infinity'",
				"'1969-12-31 23:59:59Z'"}, Literals: []string{"TIMESTAMP '2024-03-31 02:30:00+02:00'",
				"TIMESTAMP '2024-03-31T00:30Z'", "'1970-01-01 00:00:00Z'"}},
			{Name: "u", Type: "uuid", Unordered: true, Rows: []string{"'00112233-4455-6677-8899-aabbccddeeff'",
				"'ffffffff-4455-6677-8899-aabbccddeeff'"}, Literals: []string{"'00112233-4455-6677-8899-AABBCCDDEEFF'",
				"'ffffffff445566778899aabbccddeeff'"}},
			{Name: "p", Type: "bytea", Opaque: true, Rows: []string{"''", "'\\x00'"}},
		},
		Same: "%[1]s::text IS NOT DISTINCT FROM %[2]s::text AND pg_column_size(%[1]s) IS NOT DISTINCT FROM " +
			"pg_column_size(%[2]s)",
		Ageless: []string{"NULL", "'infinity'", "'-infinity'"},
		Types: []sourcetest.TypeCase{
			{Type: "smallint", Literals: append(numbers, "-32768", "32767")},
			{Type: "integer", Literals: append(numbers, "-2147483648", "2147483647")},
			{Type: "bigint", Literals: append(numbers, "-9223372036854775808", "9223372036854775807")},
			{Type: "numeric(9,2)", Literals: append(numbers, "0.01", "-9999999.99", "10000", "100.10", "'NaN'")},
			{Type: "numeric(18,6)", Literals: append(numbers, "999999999999.999999", "0.000001", "-0.10")},
			{Type: "numeric(38,10)", Literals: append(numbers, "9999999999999999999999999999.9999999999")},
			{Type: "numeric(4,-2)", Literals: append(numbers, "123400")},
			{Type: "numeric", Literals: append(numbers, "1.50", "1.5", "0.00", "'NaN'", "'Infinity'", "'-Infinity'",
				"10::numeric ^ 300 + 0.5", "0.000000000000000000001", "10000", "100000000",
				"('1' || repeat('0', 999))::numeric")},
			{Type: "real", Literals: append(numbers, "'-0'", "1.1", "'NaN'", "'Infinity'", "'1e-45'")},
			{Type: "double precision", Literals: append(numbers, "'-0'", "0.1", "'NaN'", "'-Infinity'", "'4.9e-324'",
				"1.7976931348623157e308")},
			{Type: "boolean", Literals: []string{"true", "false"}},
			{Type: "text", Literals: []string{"''", "'plain'", "E'tab\\tline\\n\\\\.'", "'ÆØÅ 🚢'",
				"repeat('x', 100000)", "'\\N'"}},
			{Type: "varchar(20)", Literals: []string{"'  spaces  '"}},
			{Type: "char(5)", Literals: []string{"'ab'", "''"}},
			{Type: "bytea", Literals: []string{"''", "'\\x00ff5c'"}},
			{Type: "date", Literals: []string{"'2024-02-29'", "'infinity'", "'-infinity'", "'0044-03-15 BC'",
				"'5874897-12-31'", "'0001-01-01'"}},
			{Type: "time", Literals: []string{"'00:00'", "'24:00'", "'12:34:56.789012'"}},
			{Type: "timetz", Literals: []string{"'12:34:56.789012+05:30'"}},
			{Type: "timestamp", Literals: []string{"'2024-02-29 12:34:56.789012'", "'infinity'", "'-infinity'",
				"'4713-01-01 00:00:00 BC'", "'294276-12-31 23:59:59.999999'", "'1969-12-31 23:59:59.999999'"}},
			{Type: "timestamptz", Literals: []string{"'2024-03-31 02:30:00+02'", "'infinity'", "'-infinity'",
				"'0044-03-15 BC'"}},
			{Type: "interval", Literals: []string{"'1 year -2 months 3 days -04:05:06.789'", "'-1 day +1 hour'"}},
			{Type: "uuid", Literals: []string{"'00112233-4455-6677-8899-aabbccddeeff'"}},
			{Type: "json", Literals: []string{`'{"b" : 1,  "a":[1.50, null]}'`}},
			{Type: "jsonb", Literals: []string{`'{"b":1,"a":[1.50,null,"é"]}'`, `'null'`, `'1e400'`}},
			{Type: "int[]", Literals: []string{"'{}'", "'{1,NULL,3}'", "'{{1,2},{3,4}}'", "'[2:3]={5,6}'"}},
			{Type: "text[]", Literals: []string{`'{"a,b","c\"d",NULL,""}'`}},
			{Type: "float8[]", Literals: []string{"'{0.1,NaN,-0}'"}},
			{Type: "mood", Literals: []string{"'calm'", "'Sehr rauh'"}},
			{Type: "mood[]", Literals: []string{"'{calm,\"Sehr rauh\"}'"}},
			{Type: "fare", Literals: []string{"12.30"}},
			{Type: "inet", Literals: []string{"'192.0.2.1/24'", "'2001:db8::1'"}},
			{Type: "bit varying", Literals: []string{"B'0101'", "B''"}},
			{Type: "tstzrange", Literals: []string{"'[2024-01-01,)'", "'empty'"}},
			{Type: "int4range", Literals: []string{"'[1,5)'", "'(,)'"}},
			{Type: "numrange", Literals: []string{"'[0.10,1.50]'"}},
			{Type: "datemultirange", Literals: []string{"'{[2024-01-01,2024-02-01),[2025-01-01,)}'", "'{}'"}},
			{Type: "int4range[]", Literals: []string{`'{"[1,5)",empty}'`}},
			{Type: "pair", Literals: []string{
				`ROW(1, 'a "b", (c)', 0.1, '2024-03-31 02:30:00.123456+02', 'Sehr rauh')::pair`,
				"ROW(NULL, '', '-0', 'infinity', NULL)::pair", "ROW(NULL, NULL, 'NaN', NULL, NULL)::pair"}},
			{Type: "pair[]", Literals: []string{`ARRAY[ROW(1, 'x,y', 1e300, NULL, 'calm')::pair, NULL]`}},
			{Type: "many", Literals: []string{"'{1,2}'"}},
			{Type: "money", Literals: []string{"0", "'-92233720368547758.08'", "'0.01'"}},
			{Type: `"char"`, Literals: []string{"'a'", `'\377'`, "''"}},
			{Type: "name", Literals: []string{"'harbour'", "''"}},
			{Type: "xml", Literals: []string{"'<a b=\"1\"> x </a>'"}},
			{Type: "cidr", Literals: []string{"'192.0.2.0/24'", "'2001:db8::/32'"}},
			{Type: "macaddr", Literals: []string{"'08:00:2b:01:02:03'"}},
			{Type: "macaddr8", Literals: []string{"'08:00:2b:01:02:03:04:05'"}},
			{Type: "bit(5)", Literals: []string{"B'01011'"}},
			{Type: "point", Literals: []string{"'(0.1,-1e-300)'", "'(Infinity,NaN)'"}},
			{Type: "line", Literals: []string{"'{1,-0.1,3}'"}},
			{Type: "lseg", Literals: []string{"'[(0.1,2),(3,4)]'"}},
			{Type: "box", Literals: []string{"'(3,4),(0.1,2)'"}},
			{Type: "path", Literals: []string{"'((0.1,2),(3,4))'", "'[(0.1,2),(3,4)]'"}},
			{Type: "polygon", Literals: []string{"'((0.1,2),(3,4),(5,6))'"}},
			{Type: "circle", Literals: []string{"'<(0.1,2),3.3>'"}},
			{Type: "tsvector", Literals: []string{"'ab:1A,3 c:2'"}},
			{Type: "tsquery", Literals: []string{"'a & (b | !c:*)'"}},
			{Type: "pg_lsn", Literals: []string{"'16/B374D848'"}},
			{Type: "pg_snapshot", Literals: []string{"'10:20:10,14,15'"}},
			{Type: "jsonpath", Literals: []string{"'$.a[*] ? (@ > 1.50)'"}},
			{Type: "numeric[]", Literals: []string{"'{NaN,1.50,Infinity,NULL}'"}},
			{Type: "bytea[]", Literals: []string{`ARRAY['\x00ff'::bytea, '']`}},
			{Type: "interval[]", Literals: []string{"'{1 mon -2 days}'"}},
			{Type: "timestamptz[]", Literals: []string{`'{-infinity,"0044-03-15 00:00:00 BC"}'`}},
		},
		Endless: "SELECT pg_sleep(60)",
		Refused: []string{"oid", "regclass", "nest", "xid"},
	})
}

package shape

import (
	"strings"
	"testing"
)

// Types go into statements as they stand in a manifest, which anybody may have written: only what is a type does.
func TestOnlyTypesAreTypes(t *testing.T) {
	for _, good := range []string{"", "integer", "INTEGER", "character varying(40)", "numeric(10,-2)",
		"timestamp(3) with time zone", "double precision", "integer[]", "character varying(3)[]", "bit varying(5)",
		`"char"`, `public.mood`, `harbour."Sea State"`, "enum('let in','refused')", "enum('it''s',';--')",
		"set('a','b')", "int(10) unsigned zerofill", "decimal(9,2)", "interval day to second(3)",
		"geometry(Point,4326)",
		"VARCHAR (255)", "numeric(7, 2)", "double precision[][3]", "tid", "datetime(6)"} {
		if err := CheckType(good); err != nil {
			t.Errorf("%q: %v", good, err)
		}
	}
	for _, bad := range []string{"integer); DROP TABLE scan; --", "integer, extra integer",
		"integer DEFAULT (SELECT 1)", "integer CHECK (true)", "integer REFERENCES scan", "text COLLATE x",
		"text /* */", "text -- x", "int GENERATED ALWAYS AS (1)",
		"enum('a\\'); DROP TABLE scan; --')", "enum('a'", "integer)", "((integer))", "integer(1)(2)", "int;",
		"int\x00", "int PRIMARY KEY", "int NOT NULL", "int AUTO_INCREMENT", `"unclosed`, "'text'", "int(a(b))", "1",
		"int `x`"} {
		if err := CheckType(bad); err == nil {
			t.Errorf("%q is taken for a type", bad)
		}
	}
}

func FuzzTypes(f *testing.F) {
	for _, s := range []string{"integer", "enum('a','b')", `"x"."y"(1)`, "int)"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if CheckType(text) != nil {
			return
		}
		bare := quoted.ReplaceAllString(text, "")
		if strings.ContainsAny(bare, ";'\"`\\#@=<>") || strings.Contains(bare, "--") || strings.Contains(bare, "/*") ||
			strings.Count(bare, "(") != strings.Count(bare, ")") {
			t.Errorf("%q is taken for a type", text)
		}
	})
}

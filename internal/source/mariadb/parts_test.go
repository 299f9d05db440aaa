package mariadb

import (
	"errors"
	"strings"
	"testing"

	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// A partition whose table was dropped, and of which that is not noted, since the session ended in between, is dropped
// again: what is left to do is done, and its rows are in the journal once.
func TestADroppingThatWasCutOffIsEnded(t *testing.T) {
	s, exec := open(t)
	exec("CREATE TABLE reading (id integer NOT NULL, at datetime NOT NULL, PRIMARY KEY (id, at)) PARTITION BY " +
		"RANGE COLUMNS (at) (PARTITION p1 VALUES LESS THAN ('2026-02-01'), PARTITION p2 VALUES LESS THAN " +
		"('2026-03-01'))")
	exec("INSERT INTO reading VALUES (1, '2026-01-10'), (2, '2026-01-11'), (3, '2026-02-10')")
	if err := s.PrepareJournal(t.Context()); err != nil {
		t.Fatal(err)
	}
	table, err := s.Table(t.Context(), "reading")
	if err != nil {
		t.Fatal(err)
	}
	lease, err := s.TakeLease(t.Context(), "reading", "me", "run")
	if err == nil {
		err = s.Detach(t.Context(), lease, table, "p1")
	}
	if err != nil {
		t.Fatal(err)
	}
	var set value.Set
	set.Add(value.Digest{1})
	set.Add(value.Digest{2})
	rows := []*source.JournalRow{source.WholeRow("run", 1, set)}
	z, err := s.Seize(t.Context(), lease, table, "p1")
	if err == nil {
		err = z.Drop(t.Context(), rows)
	}
	if err != nil {
		t.Fatal(err)
	}
	z.Release()
	// as it was until just before the end
	exec("INSERT INTO ambercellar_departure VALUES ('reading', 'p1', 'run', '', 'dropping', '')")
	list, err := s.Departures(t.Context(), "reading")
	if err != nil || len(list) != 1 || !list[0].Dropping {
		t.Fatalf("%+v, %v", list, err)
	}
	again, err := s.Seize(t.Context(), lease, table, "p1")
	if err != nil {
		t.Fatal(err)
	}
	defer again.Release()
	if _, err := again.Rows(t.Context()); !errors.Is(err, source.ErrNoTable) {
		t.Errorf("its rows are counted: %v", err)
	}
	req := source.SliceRequest{Selection: source.Selection{Table: s.Part(table, "p1", true)}, MaxRows: 10,
		MaxBytes: 1 << 20}
	req.Selection.Age.Column = "at"
	if _, err := s.ReadSlice(t.Context(), req, func(*value.Chunk) error { return nil }); !errors.Is(err,
		source.ErrNoTable) {
		t.Errorf("its rows are read: %v", err)
	}
	if err := again.Drop(t.Context(), nil); err != nil {
		t.Error(err)
	}
	if list, err := s.Departures(t.Context(), "reading"); err != nil || len(list) != 0 {
		t.Errorf("%+v, %v", list, err)
	}
	if journal, err := s.Journal(t.Context(), "run", -1); err != nil || len(journal) != 1 || journal[0].Digest != set {
		t.Errorf("the journal has %+v, %v", journal, err)
	}
}

// The table that a partition is exchanged with is made from the definition alone, and is what LIKE would have made of
// it, whatever stands in texts and names.
func TestATableLikeAPartitionedOneHasNoPartitions(t *testing.T) {
	s, exec := open(t)
	byRange := " PARTITION BY RANGE (id) (PARTITION p1 VALUES LESS THAN (10) COMMENT = 'one', PARTITION p2 VALUES " +
		"LESS THAN MAXVALUE)"
	for base, definition := range map[string]string{
		"plain": "(id integer NOT NULL PRIMARY KEY AUTO_INCREMENT, note varchar(20) DEFAULT 'it''s') " +
			"AUTO_INCREMENT = 7" + byRange,
		"odd \"name\" (with": "(id integer NOT NULL PRIMARY KEY, \"a \" \" PARTITION BY\" text COMMENT 'x\n) " +
			"ENGINE=InnoDB\n PARTITION BY', KEY short (\"a \" \" PARTITION BY\"(5))) COMMENT = 'a\n PARTITION BY " +
			"RANGE\n) ENGINE=InnoDB' ROW_FORMAT = COMPRESSED" + byRange,
		"computed": "(id integer NOT NULL PRIMARY KEY, twice integer AS (id * 2) STORED, label varchar(9) " +
			"CHECK (label <> 'a\nb'), KEY (twice)) CHARSET = latin1" + byRange,
		"hashed": "(id integer NOT NULL PRIMARY KEY) PARTITION BY HASH (id) PARTITIONS 3",
		"deep": "(id integer NOT NULL, at date NOT NULL, PRIMARY KEY (id, at)) PARTITION BY RANGE COLUMNS (at) " +
			"SUBPARTITION BY HASH (id) SUBPARTITIONS 2 (PARTITION p1 VALUES LESS THAN ('2026-01-01'))",
	} {
		definition = strings.ReplaceAll(definition, "\"a \" \" PARTITION BY\"", "\"a \"\" PARTITION BY\"")
		named := `"` + strings.ReplaceAll(base, `"`, `""`) + `"`
		exec("CREATE TABLE " + named + " " + definition)
		exec("CREATE TABLE liked LIKE " + named + "; ALTER TABLE liked REMOVE PARTITIONING")
		shown := func(name string) (text string) {
			t.Helper()
			var ignored string
			if err := s.db.QueryRow("SHOW CREATE TABLE "+quote(name)).Scan(&ignored, &text); err != nil {
				t.Fatal(err)
			}
			return strings.Replace(text, " AUTO_INCREMENT=7", "", 1)
		}
		var text, ignored string
		if err := s.db.QueryRow("SHOW CREATE TABLE "+quote(base)).Scan(&ignored, &text); err != nil {
			t.Fatal(err)
		}
		if _, ok := undivided(text, base, "aside"); !ok {
			t.Errorf("table %s goes the long way:\n%s", base, text)
		}
		if err := s.makeUndivided(t.Context(), base, "aside"); err != nil {
			t.Fatal(err)
		}
		if got, want := strings.Replace(shown("aside"), "`aside`", "`liked`", 1), shown("liked"); got != want {
			t.Errorf("of table %s was made\n%s\nand not\n%s", base, got, want)
		}
		exec("DROP TABLE aside, liked")
	}
	for _, text := range []string{"", "CREATE TABLE `a` (\n  `id` int\n) ENGINE=InnoDB",
		"CREATE TABLE `a` (\n  `id` int\n) ENGINE=InnoDB\n PARTITION BY HASH (`id`)\n" +
			"(PARTITION `p` DATA DIRECTORY = '/x')",
		"CREATE TABLE `b` (\n  `id` int\n) ENGINE=InnoDB\n PARTITION BY HASH (`id`)",
		"CREATE TABLE `a` (\n  `id` int\n) ENGINE=Aria\n PARTITION BY HASH (`id`)"} {
		if statement, ok := undivided(text, "a", "aside"); ok {
			t.Errorf("from %q comes %q", text, statement)
		}
	}
	const dated = "CREATE TABLE `a` (\n  `id` int\n) ENGINE=InnoDB COMMENT='x'\n/*!50100 PARTITION BY HASH (`id`)\n" +
		"PARTITIONS 3 */"
	if statement, ok := undivided(dated, "a", "aside"); !ok ||
		statement != "CREATE TABLE `aside` (\n  `id` int\n) ENGINE=InnoDB COMMENT='x'" {
		t.Errorf("from an older server's comes %q", statement)
	}
}

package mariadb

import (
	"errors"
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

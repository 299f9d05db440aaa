package archive

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// carried are columns that are carried otherwise than by their kind, each with what fits and what does not.
var carried = []struct {
	column     shape.Column
	was        shape.Column // as the first format carried it
	foreign    string       // the type that another engine sees
	fits, odd  []string     // as exact values
	conditions []string
}{
	{shape.Column{Name: "wide", Type: "decimal(20,4)", Kind: value.Decimal, Precision: 20, Scale: 4},
		shape.Column{Name: "wide", Kind: value.Decimal}, "DECIMAL(20,4)",
		[]string{"decimal:0.0000", "decimal:-0.0001", "decimal:9999999999999999.9999",
			"decimal:-9999999999999999.9999", "decimal:1.5000", "decimal:-12.2500"},
		[]string{"decimal:NaN", "decimal:1.5", "decimal:12345678901234567.0000", "text:1.5000", "int:1",
			"decimal:-0.0000", "decimal:01.0000"}, []string{"wide < 0", "wide = 1.5", "wide > 1e10"}},
	{shape.Column{Name: "huge", Type: "numeric(38,0)", Kind: value.Decimal, Precision: 38},
		shape.Column{Name: "huge", Kind: value.Decimal}, "DECIMAL(38,0)",
		[]string{"decimal:99999999999999999999999999999999999999", "decimal:-99999999999999999999999999999999999999",
			"decimal:0", "decimal:-1"}, []string{"decimal:Infinity",
			"decimal:100000000000000000000000000000000000000"}, []string{"huge <= -1", "huge > 0"}},
	{shape.Column{Name: "tall", Type: "bigint(20) unsigned", Kind: value.Int},
		shape.Column{Name: "tall", Kind: value.Int}, "UBIGINT",
		[]string{"int:0", "int:9223372036854775807", "decimal:9223372036854775808", "decimal:18446744073709551615"},
		[]string{"int:-1", "decimal:5", "decimal:18446744073709551616"},
		[]string{"tall > 9223372036854775807", "tall = 18446744073709551615", "tall < 10"}},
	{shape.Column{Name: "mark", Type: "uuid", Kind: value.Text, AsText: true},
		shape.Column{Name: "mark", Kind: value.Text, AsText: true}, "UUID",
		[]string{"text:00112233-4455-6677-8899-aabbccddeeff", "text:ffffffff-ffff-ffff-ffff-ffffffffffff"},
		[]string{"text:00112233-4455-6677-8899-AABBCCDDEEFF", "text:none"},
		[]string{"mark = '00112233-4455-6677-8899-aabbccddeeff'", "mark > 'a'"}},
	{shape.Column{Name: "clock", Type: "time(3)", Kind: value.Text, AsText: true},
		shape.Column{Name: "clock", Kind: value.Text, AsText: true}, "TIME",
		[]string{"text:00:00:00.000", "text:23:59:59.999", "text:12:34:56.789"},
		[]string{"text:-00:00:01.000", "text:24:00:00.000", "text:838:59:59.000", "text:12:34:56",
			"text:12:34:56.78x"}, []string{"clock >= '12:34:56.789'", "clock < '0'"}},
	{shape.Column{Name: "hour", Type: "time", Kind: value.Text, AsText: true},
		shape.Column{Name: "hour", Kind: value.Text, AsText: true}, "TIME",
		[]string{"text:00:00:00", "text:23:59:59"}, []string{"text:-838:59:59", "text:12:60:00"},
		[]string{"hour > '1'"}},
	{shape.Column{Name: "doc", Type: "json", Kind: value.Text, AsText: true},
		shape.Column{Name: "doc", Kind: value.Text, AsText: true}, "JSON",
		[]string{`text:{"b" : 1,  "a":[1.50, null]}`, "text:null"}, []string{"texthex:ff"}, []string{"doc = 'null'"}},
	{shape.Column{Name: "flag", Type: "bit(1)", Kind: value.Bytes}, shape.Column{Name: "flag", Kind: value.Bytes},
		"BOOLEAN",
		[]string{"bytes:00", "bytes:01"}, []string{"bytes:02", "bytes:0001"}, []string{"flag IS NOT NULL"}},
	{shape.Column{Name: "berth", Type: "point", Kind: value.Bytes}, shape.Column{Name: "berth", Kind: value.Bytes},
		"BLOB",
		[]string{"bytes:000000000101000000000000000000f03f0000000000000040",
			"bytes:0000000000000000013ff00000000000004000000000000000"},
		[]string{"bytes:e61000000101000000000000000000f03f0000000000000040", "bytes:ffffffff0107000000",
			"bytes:0000000002", "bytes:000000000108000000", "bytes:", "int:7"}, []string{"berth IS NOT NULL"}},
}

func carriedRows(t *testing.T) (now, was []shape.Column, rows [][]value.Value, odd int64) {
	t.Helper()
	most := 0
	for _, c := range carried {
		now, was = append(now, c.column), append(was, c.was)
		most = max(most, len(c.fits)+len(c.odd)+1)
	}
	for r := range 3 * most {
		row := make([]value.Value, len(carried))
		for i, c := range carried {
			all := append(append([]string{}, c.fits...), c.odd...)
			if r%most >= len(all) {
				continue // NULL
			}
			v, err := value.ParseExact(all[r%most])
			if err != nil {
				t.Fatal(err)
			}
			if row[i] = v; r%most >= len(c.fits) {
				odd++
			}
		}
		rows = append(rows, row)
	}
	return now, was, rows, odd
}

func writeCarried(t *testing.T, st store.Store, columns []shape.Column, rows [][]value.Value) *Manifest {
	t.Helper()
	m := &Manifest{ManifestOrigin: ManifestOrigin{Source: "harbour", Table: "scan", Run: "r1", Number: 1},
		ManifestColumns: ManifestColumns{Columns: columns}}
	m.Name()
	d, err := Create(t.Context(), st, m)
	if err != nil {
		t.Fatal(err)
	}
	var h value.Hasher
	chunk := &value.Chunk{Width: len(columns)}
	for _, r := range rows {
		chunk.Values = append(chunk.Values, r...)
		m.Digest.Add(h.Row(r))
	}
	if err := d.Write(chunk); err != nil {
		t.Fatal(err)
	}
	if err := d.Commit(); err != nil {
		t.Fatal(err)
	}
	return m
}

// What has a type of its own in Parquet is carried in it, and comes back bit by bit; what the type cannot hold stands
// in the companion. Files of the first format are read as before.
func TestTypesAreCarriedAsOthersKnowThem(t *testing.T) {
	now, was, rows, odd := carriedRows(t)
	root := t.TempDir()
	st, err := store.MakeDirectory(root)
	if err != nil {
		t.Fatal(err)
	}
	m := writeCarried(t, st, now, rows)
	told := int64(0)
	for _, n := range m.Exact {
		told += n
	}
	if told != odd {
		t.Errorf("%d values stand in the companion column instead of %d: %v", told, odd, m.Exact)
	}
	same := func(what string, st store.Store, m *Manifest) {
		t.Helper()
		at := 0
		err := Verify(t.Context(), st, m, func(c *value.Chunk, _ []value.Digest) error {
			for i := range c.Rows() {
				for j, v := range c.Row(i) {
					if !bytes.Equal(v.AppendCanonical(nil), rows[at][j].AppendCanonical(nil)) {
						t.Fatalf("%s: row %d, column %q: %s instead of %s", what, at, now[j].Name, v.Exact(),
							rows[at][j].Exact())
					}
				}
				at++
			}
			return nil
		})
		if err != nil || at != len(rows) {
			t.Errorf("%s: %d of %d rows, %v", what, at, len(rows), err)
		}
	}
	same("as it is written now", st, m)
	if !m.WKB {
		t.Error("the manifest does not say that geometries lie in their well-known binary form")
	}
	old := directory(t)
	first := writeCarried(t, old, was, rows)
	if first.Columns = now; first.WKB {
		t.Error("the manifest says that geometries lie in their well-known binary form")
	}
	same("as the first format had it", old, first)

	for _, c := range carried {
		for _, text := range c.conditions {
			f, bad := filter.Bind(text, filter.TableScope(&shape.Table{TableForm: shape.TableForm{Columns: now}}))
			if len(bad) > 0 {
				t.Fatalf("%s: %v", text, bad[0])
			}
			want := 0
			for _, row := range rows {
				if f.Eval(row).Only() {
					want++
				}
			}
			for what, x := range map[string]struct {
				st store.Store
				m  *Manifest
			}{"now": {st, m}, "first": {old, first}} {
				found := 0
				if _, err := Scan(t.Context(), x.st, x.m, Search{Filter: f, Columns: []int{0}, Absent: 1},
					func(int, []value.Value) error { found++; return nil }); err != nil || found != want {
					t.Errorf("%s, %s: %d rows instead of %d, %v", text, what, found, want, err)
				}
			}
		}
	}

	table := foreignTable(t, filepath.Join(root, filepath.FromSlash(m.RowsName())))
	for i, c := range carried {
		if got := table[i].kind; got != c.foreign {
			t.Errorf("another engine sees column %s as %s, not as %s", c.column.Name, got, c.foreign)
		}
		for row, got := range table[i].values {
			if got == nil {
				continue
			}
			want := rows[row][i].String()
			switch v := rows[row][i]; {
			case c.foreign == "BLOB" && v.Kind == value.Bytes && wellKnown(v.B):
				want = strings.ToUpper(hex.EncodeToString(v.B[4:]))
			case c.foreign != "UBIGINT" && !strings.HasPrefix(c.foreign, "DECIMAL"):
				continue
			}
			if *got != want {
				t.Errorf("row %d, %s: another engine reads %s, not %s", row, c.column.Name, *got, want)
			}
		}
	}
}

// What was archived in another form is not of the column's type any more, and stands in its column all the same.
func TestMaskedColumnsAreCarriedAsTheyAre(t *testing.T) {
	st := directory(t)
	m := &Manifest{ManifestOrigin: ManifestOrigin{Source: "harbour", Table: "scan", Run: "r1", Number: 1},
		ManifestColumns: ManifestColumns{Columns: []shape.Column{{Name: "mark", Type: "uuid", Kind: value.Text,
			AsText: true}},
			Masked: map[string]string{"mark": "hash"}}}
	m.Name()
	d, err := Create(t.Context(), st, m)
	if err != nil {
		t.Fatal(err)
	}
	want := value.OfText(strings.Repeat("0f", 32))
	var h value.Hasher
	m.Digest.Add(h.Row([]value.Value{want}))
	if err := errors.Join(d.Write(&value.Chunk{Width: 1, Values: []value.Value{want}}), d.Commit()); err != nil {
		t.Fatal(err)
	}
	if err := Verify(t.Context(), st, m, nil); err != nil || len(m.Exact) != 0 {
		t.Errorf("in the companion: %v; %v", m.Exact, err)
	}
}

// docs/archive.md says how the reference system of a geometry stands apart from it.
func TestThePageTellsOfReferenceSystems(t *testing.T) {
	page, err := os.ReadFile("../../docs/archive.md")
	if err != nil {
		t.Fatal(err)
	}
	v, err := value.ParseExact("bytes:e61000000101000000000000000000f03f0000000000000040")
	if apart := plainWKB.apart(&v); err != nil || !strings.Contains(string(page), fmt.Sprintf("%q", apart)) {
		t.Errorf("the page does not show %q, %v", apart, err)
	}
}

// What stays of a segment that was written before geometries lay in their well-known binary form is written as it is
// done now, and says so.
func TestWhatStaysOfAnOlderSegmentIsWrittenAsNow(t *testing.T) {
	now, was, rows, _ := carriedRows(t)
	st := directory(t)
	m := writeCarried(t, st, was, rows)
	m.Columns, m.Format = now, readFormats[1]
	s := m.Succeed()
	fresh := s.Manifest(m)
	d, err := Create(t.Context(), st, fresh)
	if err != nil {
		t.Fatal(err)
	}
	err = Verify(t.Context(), st, m, func(c *value.Chunk, _ []value.Digest) error { return d.Write(c) })
	if err = errors.Join(err, d.Commit()); err != nil {
		t.Fatal(err)
	}
	s.Written, s.Digest = fresh.Written, m.Digest
	stays := s.Manifest(m)
	if err := Verify(t.Context(), st, stays, nil); err != nil || !stays.WKB || m.WKB ||
		stays.Format != ManifestFormat || m.Format != readFormats[1] {
		t.Errorf("%v; it is of format %s, with well-known forms %v", err, stays.Format, stays.WKB)
	}
}

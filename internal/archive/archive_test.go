package archive

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// columns has one of every kind, one that is called like the companion, and names that need care.
func columns() []shape.Column {
	return []shape.Column{{Name: "z", Kind: value.Int}, {Name: "a.b", Kind: value.Float64},
		{Name: "_exact", Kind: value.Float32}, {Name: "ok", Kind: value.Bool},
		{Name: "fare", Kind: value.Decimal, Precision: 9, Scale: 2},
		{Name: "wide", Kind: value.Decimal, Precision: 18, Scale: 4}, {Name: "any", Kind: value.Decimal},
		{Name: `say "hi"`, Kind: value.Text}, {Name: "raw", Kind: value.Bytes}, {Name: "day", Kind: value.Date},
		{Name: "clock", Kind: value.Time},
		{Name: "local", Kind: value.Timestamp}, {Name: "at", Kind: value.Instant}, {Name: "größe", Kind: value.UUID}}
}

// rows fit their columns first, then do not: other kinds, endless dates, text that is no text, NULLs.
func rows() [][]value.Value {
	usual := func(i int64) []value.Value {
		return []value.Value{value.Of(i - 5), value.OfFloat(float64(i) / 3), value.OfFloat32(float32(i)),
			value.OfBool(i%2 == 0), {Kind: value.Decimal, N: -i * 105, Scale: 2},
			{Kind: value.Decimal, N: i << 40, Scale: 4}, {Kind: value.Decimal, B: []byte(fmt.Sprint(i, ".50"))},
			value.OfText(fmt.Sprint("row ", i)), value.OfBytes([]byte{byte(i)}), {Kind: value.Date, N: 19000 + i},
			{Kind: value.Time, N: i * 1000}, {Kind: value.Timestamp, N: i * 1e9}, {Kind: value.Instant, N: -i * 1e9},
			{Kind: value.UUID, B: bytes.Repeat([]byte{byte(i)}, 16)}}
	}
	var out [][]value.Value
	for i := range int64(3000) {
		out = append(out, usual(i))
	}
	odd := []value.Value{value.OfText("not a number"), value.OfText("x"), value.Of(1), value.Of(2),
		{Kind: value.Decimal, B: []byte("NaN")}, {Kind: value.Decimal, N: 5, Scale: 1},
		{Kind: value.Decimal, B: bytes.Repeat([]byte("9"), 1000)},
		{Kind: value.Text, B: []byte{0xff}}, value.OfText("text in bytes"), {Kind: value.Date, N: value.Infinity},
		{Kind: value.Time, N: 86_400_000_000}, {Kind: value.Timestamp, N: -1 << 62},
		{Kind: value.Instant, N: value.NegInfinity}, {Kind: value.UUID, B: []byte("short")}}
	edge := []value.Value{value.Of(math.MinInt64), value.OfFloat(math.NaN()),
		value.OfFloat32(float32(math.Copysign(0, -1))), {}, {Kind: value.Decimal, N: 999999999, Scale: 2},
		{Kind: value.Decimal, N: -999999999999999999, Scale: 4}, {Kind: value.Decimal, B: []byte("0.00")},
		value.OfText(""), value.OfBytes([]byte{}), {Kind: value.Date, N: firstDay}, {},
		{Kind: value.Timestamp, N: behindMicro - 1}, {Kind: value.Instant, N: behindMicro}, {}}
	return append(out, odd, edge, make([]value.Value, len(odd)))
}

func write(t *testing.T, st store.Store, without ...int) (*Manifest, [][]value.Value) {
	t.Helper()
	m := &Manifest{ManifestOrigin: ManifestOrigin{Source: "harbour", Table: "scan/../..", Run: "r1", Number: 1},
		ManifestColumns: ManifestColumns{Columns: columns(), Key: []string{"z"}}}
	m.Name()
	d, err := Create(t.Context(), st, m)
	if err != nil {
		t.Fatal(err)
	}
	var h value.Hasher
	chunk := &value.Chunk{Width: len(m.Columns)}
	all := rows()
	if len(without) > 0 { // so many rows, so that files differ
		all = all[without[0]:]
	}
	for i, r := range all {
		chunk.Values = append(chunk.Values, r...)
		m.Digest.Add(h.Row(r))
		if chunk.Rows() == 700 || i == len(all)-1 {
			if err := d.Write(chunk); err != nil {
				t.Fatal(err)
			}
			chunk.Reset()
		}
	}
	if err := d.Commit(); err != nil {
		t.Fatal(err)
	}
	return m, all
}

func directory(t *testing.T) *store.Directory {
	t.Helper()
	st, err := store.MakeDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	return st
}

func TestRowsComeBackBitByBit(t *testing.T) {
	st := directory(t)
	m, want := write(t, st)
	at := 0
	err := Verify(t.Context(), st, m, func(c *value.Chunk, _ []value.Digest) error {
		for i := range c.Rows() {
			for j, v := range c.Row(i) {
				if !bytes.Equal(v.AppendCanonical(nil), want[at][j].AppendCanonical(nil)) {
					t.Fatalf("row %d, column %q: %s instead of %s", at, m.Columns[j].Name, v.Exact(),
						want[at][j].Exact())
				}
			}
			at++
		}
		return nil
	})
	if err != nil || at != len(want) {
		t.Fatalf("%d of %d rows, %v", at, len(want), err)
	}
	if m.Companion != "_exact_" || m.Exact["raw"] != 1 || m.Exact["at"] != 2 || m.Exact["z"] != 1 {
		t.Errorf("companion %q holds %v", m.Companion, m.Exact)
	}
}

func TestAnyReaderOfParquetSeesTheTable(t *testing.T) {
	st := directory(t)
	m, _ := write(t, st)
	f, err := st.Open(t.Context(), m.RowsName())
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	p, err := parquet.OpenFile(f, f.Size())
	if err != nil {
		t.Fatal(err)
	}
	for i, c := range p.Schema().Columns() {
		want := m.Companion
		if i < len(m.Columns) {
			want = m.Columns[i].Name
		}
		if c[0] != want {
			t.Errorf("column %d is %q instead of %q: the table's order is lost", i, c[0], want)
		}
	}
	for name, want := range map[string]string{"fare": "DECIMAL(9,2)",
		"at": "TIMESTAMP(isAdjustedToUTC=true,unit=MICROS)", "day": "DATE"} {
		leaf, ok := p.Schema().Lookup(name)
		if !ok || leaf.Node.Type().LogicalType().String() != want {
			t.Errorf("column %s is a %v, want %s", name, leaf.Node.Type().LogicalType(), want)
		}
	}
}

func TestEveryFlippedByteIsFound(t *testing.T) {
	st := directory(t)
	m, _ := write(t, st)
	f, err := st.Open(t.Context(), m.RowsName())
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	good := make([]byte, f.Size())
	if _, err := f.ReadAt(good, 0); err != nil {
		t.Fatal(err)
	}
	for at := 0; at < len(good); at += 1 + len(good)/97 {
		bad := bytes.Clone(good)
		bad[at] ^= 0x10
		lie := &lying{Store: st, content: bad}
		if err := Verify(t.Context(), lie, m, nil); !errors.Is(err, ErrDamaged) {
			t.Fatalf("byte %d flipped: %v", at, err)
		}
		// Without its hash: what decodes to other rows is found by the digest, and nothing panics.
		var set value.Set
		var h value.Hasher
		err := Read(bytes.NewReader(bad), int64(len(bad)), m.Columns, m.Rows, func(c *value.Chunk) error {
			for i := range c.Rows() {
				set.Add(h.Row(c.Row(i)))
			}
			return nil
		})
		if err != nil && !errors.Is(err, ErrDamaged) {
			t.Fatalf("byte %d flipped: %v", at, err)
		}
	}
	for _, n := range []int{0, 4, len(good) / 2, len(good) - 1} {
		if err := Read(bytes.NewReader(good[:n]), int64(n), m.Columns, m.Rows,
			func(*value.Chunk) error { return nil }); !errors.Is(err, ErrDamaged) {
			t.Errorf("cut to %d bytes: %v", n, err)
		}
	}
}

// lying is a store that returns other bytes than were written.
type lying struct {
	store.Store
	content []byte
}

type content struct{ *bytes.Reader }

func (content) Close() error { return nil }

func (l *lying) Open(_ context.Context, _ string) (store.Reader, error) {
	return content{bytes.NewReader(l.content)}, nil
}

func TestASegmentExistsOnceItsManifestDoes(t *testing.T) {
	st := directory(t)
	m, _ := write(t, st)
	if stems, err := stemsOf(t, st); err != nil || len(stems) != 0 {
		t.Fatalf("before the manifest: %v, %v", stems, err)
	}
	hash, err := Publish(t.Context(), st, m, Range{Oldest: "2020-01-01"})
	if err != nil {
		t.Fatal(err)
	}
	back, again, err := LoadManifest(t.Context(), st, m.Stem)
	if err != nil || again != hash || back.Digest != m.Digest || back.Rows != m.Rows ||
		back.Columns[4].Kind != value.Decimal {
		t.Errorf("the manifest came back as %+v with hash %s, %v", back, again, err)
	}
	if err := Discard(t.Context(), st, m); err == nil {
		t.Error("a segment with a manifest was discarded")
	}
	if c, _, err := LoadClosing(t.Context(), st, m); c != nil || err != nil {
		t.Errorf("an open segment has the closing record %+v, %v", c, err)
	}
	if _, err := WriteClosing(t.Context(), st, m, &Closing{Deleted: 3, Changed: []int{2}, Skipped: []int{1},
		Closed: time.Now()}); err != nil {
		t.Fatal(err)
	}
	if c, _, err := LoadClosing(t.Context(), st, m); err != nil || fmt.Sprint(c.LeftOut()) != "[1 2]" {
		t.Errorf("the closing record came back as %+v, %v", c, err)
	}
	if _, err := WriteClosing(t.Context(), st, m, &Closing{}); !errors.Is(err, store.ErrExists) {
		t.Errorf("a closing record was overwritten: %v", err)
	}
	if _, _, err := LoadManifest(t.Context(), st, "nowhere"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a manifest that is not there: %v", err)
	}
}

func TestAManifestOfAnotherPlaceIsRefused(t *testing.T) {
	root := t.TempDir()
	st, err := store.MakeDirectory(root)
	if err != nil {
		t.Fatal(err)
	}
	m, _ := write(t, st)
	if _, err := Publish(t.Context(), st, m, Range{}); err != nil {
		t.Fatal(err)
	}
	b, err := os.ReadFile(filepath.Join(root, m.ManifestName()))
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string][]byte{"copied": b, "empty": nil, "other": []byte("{}"), "half": b[:len(b)/2]} {
		if err := os.WriteFile(filepath.Join(root, name+manifestEnding), text, 0o644); err != nil {
			t.Fatal(err)
		}
		if _, _, err := LoadManifest(t.Context(), st, name); !errors.Is(err, ErrDamaged) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// A mistake in what takes the rows is not damage of the file: it is not caught on the way.
func TestAMistakeOfTheReaderIsNotDamage(t *testing.T) {
	now, _, rows, _ := carriedRows(t)
	st := directory(t)
	m := writeCarried(t, st, now, rows)
	caught := func(read func() error) (mistake any, err error) {
		defer func() { mistake = recover() }()
		return nil, read()
	}
	for name, read := range map[string]func() error{
		"verify": func() error {
			return Verify(t.Context(), st, m, func(*value.Chunk, []value.Digest) error { panic("a mistake") })
		},
		"scan": func() error {
			_, err := Scan(t.Context(), st, m, Search{Columns: []int{0}, Absent: 1},
				func(int, []value.Value) error { panic("a mistake") })
			return err
		},
	} {
		if mistake, err := caught(read); mistake != "a mistake" {
			t.Errorf("%s took a mistake for %v, %v", name, err, mistake)
		}
	}
}

func stemsOf(t *testing.T, st store.Store) (out []string, err error) {
	for stem, err := range Stems(t.Context(), st, "") {
		if err != nil {
			return nil, err
		}
		out = append(out, stem)
	}
	return out, nil
}

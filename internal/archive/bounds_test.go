package archive

import (
	"encoding/json"
	"fmt"
	"testing"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// keyedSegment is the manifest of rows with a UUID and a number for a key, and their description.
func keyedSegment(t *testing.T, rows int, key []string, number func(int) int64) (*Manifest, *Range) {
	t.Helper()
	st := directory(t)
	m := &Manifest{ManifestOrigin: ManifestOrigin{Source: "harbour", Table: "scan", Run: "r1", Number: 1},
		ManifestColumns: ManifestColumns{Columns: []shape.Column{{Name: "device", Kind: value.UUID, Type: "uuid"},
			{Name: "id", Kind: value.Int, Type: "bigint"}, {Name: "gate", Kind: value.Text, Type: "text"}}, Key: key}}
	m.Name()
	d, err := Create(t.Context(), st, m)
	if err != nil {
		t.Fatal(err)
	}
	chunk := &value.Chunk{Width: 3}
	var hasher value.Hasher
	for i := range rows {
		chunk.Values = append(chunk.Values, value.Value{Kind: value.UUID, B: []byte(fmt.Sprintf("device-%09d", i*2))},
			value.Of(number(i)), value.OfText(fmt.Sprint("gate ", i%7)))
		m.Digest.Add(hasher.Row(chunk.Row(i)))
	}
	if err := d.Write(chunk); err != nil {
		t.Fatal(err)
	}
	if err := d.Commit(); err != nil {
		t.Fatal(err)
	}
	description, err := Describe(t.Context(), st, m)
	if err != nil {
		t.Fatal(err)
	}
	if err := Verify(t.Context(), st, m, func(c *value.Chunk, _ []value.Digest) error {
		description.Rows(c)
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	r := &Range{}
	description.Into(r)
	b, err := json.Marshal(r)
	if err == nil {
		err = json.Unmarshal(b, r)
	}
	if err != nil {
		t.Fatal(err)
	}
	return m, r
}

func bound(t testing.TB, m *Manifest, text string) *filter.Filter {
	t.Helper()
	f, bad := filter.Bind(text, filter.TableScope(&shape.Table{TableForm: shape.TableForm{Columns: m.Columns}}))
	if len(bad) > 0 {
		t.Fatal(bad[0])
	}
	return f
}

// TestAFilterOfKeysNeverDeniesAKey: of keys that a segment has it says so of every one, of others it is wrong about
// few, and of conditions that do not name the whole key it says nothing.
func TestAFilterOfKeysNeverDeniesAKey(t *testing.T) {
	const rows = 5000
	m, r := keyedSegment(t, rows, []string{"device", "id"}, func(i int) int64 { return int64(i) * 1000 })
	if r.Keys == nil || !m.KeyFilter {
		t.Fatal("there is no filter of the keys")
	}
	keys, err := r.Keys.Open()
	if err != nil {
		t.Fatal(err)
	}
	device := func(i int) string { return fmt.Sprintf("%x", fmt.Sprintf("device-%09d", i)) }
	wrong := 0
	for i := range rows {
		if !keys.Possibly(m, bound(t, m, fmt.Sprintf("device = '%s' AND id = %d", device(2*i), i*1000))) {
			t.Fatalf("it denies row %d", i)
		}
		if keys.Possibly(m, bound(t, m, fmt.Sprintf("id = %d AND device = '%s'", i*1000, device(2*i+1)))) {
			wrong++
		}
	}
	if wrong > rows/30 {
		t.Errorf("it is wrong about %d of %d keys that are not there", wrong, rows)
	}
	for text, want := range map[string]bool{
		"id = 5": true, "device = '" + device(1) + "'": true, "id > 5 AND device = '" + device(1) + "'": true,
		"NOT (id = 5 AND device = '" + device(1) + "')":               true,
		"id = 5 AND device = '" + device(1) + "' AND gate = 'gate 1'": false, "id IN (5, 6) AND device IN ('" +
			device(1) + "', '" + device(3) + "')": false,
		"id IN (5, 2000) AND device IN ('" + device(1) + "', '" + device(4) + "')": true,
		"id = 5 AND device = '" + device(1) + "' OR gate = 'gate 1'":               true,
		"(id = 5 OR id = 7) AND device = '" + device(1) + "'":                      false,
	} {
		if got := keys.Possibly(m, bound(t, m, text)); got != want {
			t.Errorf("%s: %v", text, got)
		}
	}
	b, err := r.Bounds(m)
	if err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]bool{"id = 4999000": true, "id > 4999000": false, "id < 0": false,
		"gate = 'gate 3'": true, "gate > 'gate 6'": false, "gate IS NULL": true} {
		if got := b.Possibly(bound(t, m, text)); got != want {
			t.Errorf("by bounds, %s: %v", text, got)
		}
	}
	// Where a number alone is the key and few are missing, its range tells as much.
	if m, r := keyedSegment(t, 1000, []string{"id"}, func(i int) int64 { return int64(i) * 3 }); m.KeyFilter ||
		r.Keys != nil {
		t.Error("a dense key has a filter")
	}
	if m, r := keyedSegment(t, 1000, []string{"id"}, func(i int) int64 { return int64(i) * 300 }); !m.KeyFilter ||
		r.Keys == nil {
		t.Error("a sparse key has none")
	}
}

// FuzzSideFile: whatever stands in a side file, reading it ends without a panic, and what cannot be read is damage.
func FuzzSideFile(f *testing.F) {
	f.Add([]byte(`{"columns": {"id": ["int:1", "int:9"], "gate": ["text:a", "int:3"]}, "keys": {"columns": ` +
		`["device", "id"], "blocks": "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA="}}`))
	f.Add([]byte(`{"columns": {"id": ["null:", "decimal:NaN"]}, "keys": {"columns": [], "blocks": "!"}}`))
	m := &Manifest{ManifestColumns: ManifestColumns{Columns: []shape.Column{{Name: "device", Kind: value.UUID,
		Type: "uuid"},
		{Name: "id", Kind: value.Int, Type: "bigint"}, {Name: "gate", Kind: value.Text, Type: "text"}},
		Key: []string{"device", "id"}},
		Written: Written{Rows: 5}}
	condition := bound(f, m, "id = 5 AND device = '00000000000000000000000000000000' AND gate BETWEEN 'a' AND 'c'")
	f.Fuzz(func(t *testing.T, text []byte) {
		r := &Range{}
		if json.Unmarshal(text, r) != nil {
			return
		}
		if b, err := r.Bounds(m); err == nil {
			b.Possibly(condition)
			b.Column(1)
		}
		if r.Keys != nil {
			if k, err := r.Keys.Open(); err == nil {
				k.Possibly(m, condition)
			}
		}
	})
}

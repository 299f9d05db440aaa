package archive

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/value"
)

// chained makes a store with a chain of three closed segments, and returns its directory and their manifests.
func chained(t *testing.T) (root string, segments []*Manifest) {
	t.Helper()
	root = t.TempDir()
	st, err := store.MakeDirectory(root)
	if err != nil {
		t.Fatal(err)
	}
	link := Link{Sequence: 1}
	next := func(hash string, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		link = Link{Sequence: link.Sequence + 1, Previous: hash}
	}
	for n := range 3 {
		m, rows := write(t, st, n)
		m.Number, m.Link, m.Stored = n+1, link, time.Now()
		next(Publish(t.Context(), st, m, Range{Oldest: "2024-01-01", Newest: fmt.Sprint(n)}))
		c := &Closing{Changed: []int{2}, Skipped: []int{n + 5}, Link: link, Closed: time.Now()}
		var h value.Hasher
		for i, r := range rows {
			if i == 2 || i == n+5 {
				c.Left.Add(h.Row(r))
			} else {
				c.Digest.Add(h.Row(r))
			}
		}
		c.Deleted = c.Digest.Count
		next(WriteClosing(t.Context(), st, m, c))
		segments = append(segments, m)
	}
	return root, segments
}

// examine returns what is found at places: kind and file of what is wrong, and after a comma, of what is worth
// knowing.
func examine(t *testing.T, roots ...string) (wrong, notes []string, got *Examined) {
	t.Helper()
	var places []Place
	for _, r := range roots {
		st, err := store.MakeDirectory(r)
		if err != nil {
			t.Fatal(err)
		}
		places = append(places, Place{Name: filepath.Base(r), Store: st})
	}
	got, err := Examine(t.Context(), places, Examining{Find: func(f Remark) {
		if f.Message == "" || f.Store == "" {
			t.Errorf("a finding says too little: %+v", f)
		}
		if f.Wrong {
			wrong = append(wrong, f.Kind+" "+f.File)
		} else {
			notes = append(notes, f.Kind+" "+f.File)
		}
	}})
	if err != nil {
		t.Fatal(err)
	}
	return wrong, notes, got
}

// TestExamineNamesExactlyWhatIsWrong: whatever is done to a store, what is wrong is named by file and kind, and
// nothing else.
func TestExamineNamesExactlyWhatIsWrong(t *testing.T) {
	edit := func(t *testing.T, path string, change func([]byte) []byte) {
		b, err := os.ReadFile(path)
		if err == nil {
			err = os.WriteFile(path, change(b), 0o640)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	flip := func(at int) func([]byte) []byte {
		return func(b []byte) []byte { b[(at+len(b))%len(b)] ^= 1; return b }
	}
	remove := func(t *testing.T, paths ...string) {
		for _, p := range paths {
			if err := os.Remove(p); err != nil {
				t.Fatal(err)
			}
		}
	}
	swap := func(t *testing.T, a, b string) {
		for _, m := range [][2]string{{a, a + "x"}, {b, a}, {a + "x", b}} {
			if err := os.Rename(m[0], m[1]); err != nil {
				t.Fatal(err)
			}
		}
	}
	reword := func(old, new string) func([]byte) []byte {
		return func(b []byte) []byte {
			if !bytes.Contains(b, []byte(old)) {
				t.Fatalf("there is no %s in %s", old, b)
			}
			return bytes.Replace(b, []byte(old), []byte(new), 1)
		}
	}
	for name, c := range map[string]struct {
		damage       func(t *testing.T, at func(string) string, s []*Manifest)
		wrong, notes func(s []*Manifest) []string
	}{
		"nothing": {},
		"a byte in the midst": {damage: func(t *testing.T, at func(string) string,
			s []*Manifest) {
			edit(t, at(s[1].RowsName()), flip(3000))
		}, wrong: func(s []*Manifest) []string { return []string{"damaged " + s[1].RowsName()} }},
		"a byte of the footer": {damage: func(t *testing.T, at func(string) string,
			s []*Manifest) {
			edit(t, at(s[1].RowsName()), flip(-20))
		}, wrong: func(s []*Manifest) []string { return []string{"damaged " + s[1].RowsName()} }},
		"rows cut off": {damage: func(t *testing.T, at func(string) string, s []*Manifest) {
			edit(t, at(s[2].RowsName()), func(b []byte) []byte { return b[:len(b)/2] })
		}, wrong: func(s []*Manifest) []string { return []string{"damaged " + s[2].RowsName()} }},
		"rows gone": {damage: func(t *testing.T, at func(string) string,
			s []*Manifest) {
			remove(t, at(s[0].RowsName()))
		}, wrong: func(s []*Manifest) []string { return []string{"missing " + s[0].RowsName()} }},
		"rows of two swapped": {damage: func(t *testing.T, at func(string) string, s []*Manifest) {
			swap(t, at(s[0].RowsName()), at(s[1].RowsName()))
		}, wrong: func(s []*Manifest) []string {
			return []string{"swapped " + s[0].RowsName(), "swapped " + s[1].RowsName()}
		}},
		"side file of another": {damage: func(t *testing.T, at func(string) string, s []*Manifest) {
			swap(t, at(s[0].RangeName()), at(s[1].RangeName()))
		}, wrong: func(s []*Manifest) []string {
			return []string{"damaged " + s[0].RangeName(), "damaged " + s[1].RangeName()}
		}},
		"side file gone": {damage: func(t *testing.T, at func(string) string,
			s []*Manifest) {
			remove(t, at(s[0].RangeName()))
		}, notes: func(s []*Manifest) []string { return []string{"missing " + s[0].RangeName()} }},
		"manifest is no JSON": {damage: func(t *testing.T, at func(string) string, s []*Manifest) {
			edit(t, at(s[2].ManifestName()), func([]byte) []byte { return []byte("{") })
		}, wrong: func(s []*Manifest) []string { return []string{"damaged " + s[2].ManifestName()} }},
		"manifest reworded": {damage: func(t *testing.T, at func(string) string, s []*Manifest) {
			edit(t, at(s[1].ManifestName()), reword(`"run": "r1"`, `"run":"r1"`))
		}, wrong: func(s []*Manifest) []string { return []string{"chain " + s[1].ClosingName()} }},
		"manifest gone": {damage: func(t *testing.T, at func(string) string,
			s []*Manifest) {
			remove(t, at(s[1].ManifestName()))
		}, wrong: func(s []*Manifest) []string {
			return []string{"missing " + s[1].ManifestName(), "chain " + s[2].ManifestName()}
		}},
		"a segment gone": {damage: func(t *testing.T, at func(string) string, s []*Manifest) {
			remove(t, at(s[1].ManifestName()), at(s[1].ClosingName()), at(s[1].RowsName()), at(s[1].RangeName()))
		}, wrong: func(s []*Manifest) []string { return []string{"chain " + s[2].ManifestName()} }},
		"the last closing gone": {damage: func(t *testing.T, at func(string) string,
			s []*Manifest) {
			remove(t, at(s[2].ClosingName()))
		}, notes: func(s []*Manifest) []string { return []string{"open " + s[2].ClosingName()} }},
		"a closing in the midst": {damage: func(t *testing.T, at func(string) string,
			s []*Manifest) {
			remove(t, at(s[0].ClosingName()))
		}, wrong: func(s []*Manifest) []string { return []string{"chain " + s[1].ManifestName()} },
			notes: func(s []*Manifest) []string { return []string{"open " + s[0].ClosingName()} }},
		"closing names other rows": {damage: func(t *testing.T, at func(string) string, s []*Manifest) {
			edit(t, at(s[2].ClosingName()), reword("7\n", "8\n"))
		}, wrong: func(s []*Manifest) []string { return []string{"books " + s[2].ClosingName()} }},
		"closing names no row": {damage: func(t *testing.T, at func(string) string, s []*Manifest) {
			edit(t, at(s[2].ClosingName()), reword("7\n", "70000\n"))
		}, wrong: func(s []*Manifest) []string { return []string{"books " + s[2].ClosingName()} }},
		"closing counts wrongly": {damage: func(t *testing.T, at func(string) string, s []*Manifest) {
			edit(t, at(s[2].ClosingName()), reword(`"deleted": 2`, `"deleted": 3`))
		}, wrong: func(s []*Manifest) []string { return []string{"books " + s[2].ClosingName()} }},
		"a link twice": {damage: forked,
			wrong: func(s []*Manifest) []string { return []string{"chain " + forkedName(s)} },
			notes: func(s []*Manifest) []string {
				return []string{"open " + closingOf(forkedName(s)), "missing " + rangeOf(forkedName(s))}
			}},
		"what is left of a run": {damage: func(t *testing.T, at func(string) string, s []*Manifest) {
			touch(t, at("harbour/scan/r9/000001-01K00000000000000000000000.parquet"))
		},
			notes: func(s []*Manifest) []string {
				return []string{"extra harbour/scan/r9/000001-01K00000000000000000000000.manifest.json"}
			}},
		"a file of somebody": {damage: func(t *testing.T, at func(string) string,
			s []*Manifest) {
			touch(t, at("notes.txt"))
		}, notes: func(s []*Manifest) []string { return []string{"foreign notes.txt"} }},
	} {
		t.Run(name, func(t *testing.T) {
			root, s := chained(t)
			if c.damage != nil {
				c.damage(t, func(file string) string { return filepath.Join(root, filepath.FromSlash(file)) }, s)
			}
			want := func(of func([]*Manifest) []string) (out []string) {
				if of != nil {
					out = of(s)
				}
				slices.Sort(out)
				return out
			}
			wrong, notes, got := examine(t, root)
			slices.Sort(wrong)
			slices.Sort(notes)
			if fmt.Sprint(wrong) != fmt.Sprint(want(c.wrong)) || fmt.Sprint(notes) != fmt.Sprint(want(c.notes)) {
				t.Errorf("wrong:\n %s\ninstead of\n %s\nworth knowing:\n %s\ninstead of\n %s",
					strings.Join(wrong, "\n "), strings.Join(want(c.wrong), "\n "), strings.Join(notes, "\n "),
					strings.Join(want(c.notes), "\n "))
			}
			if got.Wrong != len(wrong) || len(got.Chains) != 1 || c.damage == nil &&
				(got.Rows != 3*s[0].Rows-3 || got.Chains[0].Last != 6 || got.Segments != 3) {
				t.Errorf("it counts %+v", got)
			}
		})
	}
}

func touch(t *testing.T, path string) {
	t.Helper()
	err := os.MkdirAll(filepath.Dir(path), 0o750)
	if err == nil {
		err = os.WriteFile(path, []byte("x"), 0o640)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// forked puts a second record of link 3 into the store: a copy of a segment under another name.
func forked(t *testing.T, at func(string) string, s []*Manifest) {
	m := *s[1]
	m.Stem = strings.TrimSuffix(forkedName(s), manifestEnding)
	m.Segment = m.Stem[len(m.Stem)-26:]
	b, err := json.MarshalIndent(m, "", "  ")
	if err == nil {
		err = os.WriteFile(at(m.ManifestName()), b, 0o640)
	}
	if err == nil {
		err = os.Link(at(s[1].RowsName()), at(m.RowsName()))
	}
	if err != nil {
		t.Fatal(err)
	}
}

func forkedName(s []*Manifest) string {
	return s[1].Stem[:len(s[1].Stem)-26] + "7ZZZZZZZZZZZZZZZZZZZZZZZZZ" + manifestEnding
}

func closingOf(manifest string) string {
	return strings.TrimSuffix(manifest, manifestEnding) + closingEnding
}
func rangeOf(manifest string) string {
	return strings.TrimSuffix(manifest, manifestEnding) + rangeEnding
}

// TestSecondCopiesAreNoForks: the same segments at two places form one chain, and each copy is read.
func TestSecondCopiesAreNoForks(t *testing.T) {
	one, s := chained(t)
	two := t.TempDir()
	if err := os.CopyFS(two, os.DirFS(one)); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(two, s[1].RowsName()), []byte("x"), 0o640); err != nil {
		t.Fatal(err)
	}
	wrong, notes, got := examine(t, one, two)
	if fmt.Sprint(wrong) != fmt.Sprint([]string{"damaged " + s[1].RowsName()}) || len(notes) > 0 || got.Segments != 6 {
		t.Errorf("%v, %v, %+v", wrong, notes, got)
	}
}

// TestADisposedSegmentIsWhole: after a disposal record the files of rows have to be gone, and nothing else is missing.
func TestADisposedSegmentIsWhole(t *testing.T) {
	root, s := chained(t)
	st, err := store.MakeDirectory(root)
	if err != nil {
		t.Fatal(err)
	}
	_, last, err := LoadClosing(t.Context(), st, s[2])
	if err != nil {
		t.Fatal(err)
	}
	if _, err := WriteDisposal(t.Context(), st, s[0], &Disposal{Disposal: "d1", At: time.Now(),
		Link: Link{Sequence: 7, Previous: last}}); err != nil {
		t.Fatal(err)
	}
	if wrong, _, _ := examine(t, root); fmt.Sprint(wrong) != fmt.Sprint([]string{"extra " + s[0].RowsName(), "extra " +
		s[0].RangeName()}) {
		t.Errorf("before the files are gone: %v", wrong)
	}
	if err := errors.Join(st.Remove(t.Context(), s[0].RowsName()),
		st.Remove(t.Context(), s[0].RangeName())); err != nil {
		t.Fatal(err)
	}
	wrong, notes, got := examine(t, root)
	if len(wrong)+len(notes) > 0 || got.Chains[0].Last != 7 {
		t.Errorf("%v, %v, %+v", wrong, notes, got)
	}
	if d, _, err := LoadDisposal(t.Context(), st, s[0]); err != nil || d.SHA256 != s[0].SHA256 || d.Rows != s[0].Rows {
		t.Errorf("%+v, %v", d, err)
	}
}

// FuzzRecords: whatever lies where records should, examining ends in findings.
func FuzzRecords(f *testing.F) {
	stem := "harbour/scan/r1/000001-01K00000000000000000000000"
	f.Add([]byte(`{"format":"ambercellar-manifest/1","stem":"`+stem+
		`","sequence":1,"rows":3,"file_bytes":1,"beside":[{"join":"../../x"}]}`),
		[]byte(`{"format":"ambercellar-closing/1","deleted":3,"changed":[-1,1e3]}`), []byte("PAR1"))
	f.Add([]byte("null"), []byte("[]"), []byte{})
	f.Fuzz(func(t *testing.T, manifest, closing, rows []byte) {
		root := t.TempDir()
		for ending, b := range map[string][]byte{manifestEnding: manifest, closingEnding: closing, rowsEnding: rows} {
			path := filepath.Join(root, stem+ending)
			touch(t, path)
			if err := os.WriteFile(path, b, 0o640); err != nil {
				t.Fatal(err)
			}
		}
		if wrong, _, _ := examine(t, root); len(wrong) == 0 {
			t.Error("nothing is wrong with what was made up")
		}
	})
}

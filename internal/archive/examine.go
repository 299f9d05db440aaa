package archive

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/value"
)

// Place is a store with the name that findings call it by.
type Place struct {
	Name  string
	Store store.Store
}

// Kinds of findings.
const (
	FindDamaged = "damaged" // a file is not what was written
	FindMissing = "missing" // a file that a record tells of is not there
	FindSwapped = "swapped" // a file holds what belongs to another segment
	FindChain   = "chain"   // the records of a table do not follow each other
	FindBooks   = "books"   // a closing record does not add up
	FindOpen    = "open"    // a segment has no closing record yet
	FindCold    = "cold"    // rows are in cold storage, and were not read
	FindExtra   = "extra"   // a file is named like a segment's and belongs to none
	FindForeign = "foreign" // a file is none of ours
)

// Remark is something that is wrong with a store, or worth knowing.
type Remark struct {
	Wrong   bool   `json:"wrong"` // false: it is only worth knowing
	Kind    string `json:"kind"`
	Store   string `json:"store"`
	Table   string `json:"table,omitempty"` // SOURCE.TABLE
	Segment string `json:"segment,omitempty"`
	File    string `json:"file,omitempty"`
	Message string `json:"message"`
}

// Examining says what is examined, and who hears of it. Chains are always examined as a whole.
type Examining struct {
	Wanted func(*Manifest) bool // segments whose rows are read; nil: all
	// hears of each piece of so many bytes that was read of rows; may wait
	Paused func(ctx context.Context, n int) error
	Step   func(Examined)                  // hears how far it is; may be nil
	Find   func(Remark)                    // hears of each remark
	Seen   func(place string, m *Manifest) // hears of each segment that there is; may be nil
	// hears of each segment whose files at a place are what was written; may be nil
	Good func(place string, m *Manifest)
}

// Examined is how much was examined.
type Examined struct {
	Segments int       `json:"segments"` // whose rows were read, or were to be read
	Of       int       `json:"of"`       // segments that are to be examined
	Rows     int64     `json:"rows"`
	Bytes    int64     `json:"bytes"`
	OfBytes  int64     `json:"of_bytes"`
	Wrong    int       `json:"wrong"` // findings
	Chains   []Chained `json:"chains"`
}

// Chained is the chain of one table, as it was found.
type Chained struct {
	Source   string `json:"source"`
	Table    string `json:"table"`
	Records  int    `json:"records"`
	Segments int    `json:"segments"`
	// sequence of the newest record; the places alone cannot tell whether there was one after it
	Last int64  `json:"last"`
	Head string `json:"head"` // its hash
}

// record is a link of a chain that lies at a place.
type record struct {
	Link
	hash, file, place string
	segment           string
}

// kept is a segment at a place.
type kept struct {
	place    Place
	manifest *Manifest
	hash     string
	closing  *Closing // nil: there is none
	unread   bool     // there is one, and it cannot be read
	disposal *Disposal
	files    []string // at the place
}

// examiner goes through tables one after the other, and holds the records of one at a time.
type examiner struct {
	Examining
	out    Examined
	doubts []doubt
	of     int // segments that were wanted so far
	bytes  int64

	segments []kept // of the table that it is at
	chains   map[[2]string][]record
	alone    map[string][]alone // by stem
}

// doubt is a file that is not what was written, of which it is not known yet whether it is that of another segment.
type doubt struct {
	found Remark
	sum   string // SHA-256 of what it is
}

// alone are files of rows at a place where there is no manifest beside them. It may lie at another place.
type alone struct {
	place Place
	stem  string
	files []string
}

// rowsOf returns the place at which the rows of a segment lie: that of its records, or another.
func (x *examiner) rowsOf(s *kept) Place {
	file := s.manifest.RowsName()
	if slices.Contains(s.files, file) {
		return s.place
	}
	for _, a := range x.alone[s.manifest.Stem] {
		if slices.Contains(a.files, file) {
			return a.place
		}
	}
	return s.place
}

// Examine reads what lies at some places, and trusts nothing: that the records of each table form one chain, that each
// segment's files are those that its manifest tells of, and that its closing record adds up. A copy of a segment at a
// second place counts as such. Places alone cannot tell whether the newest records of a chain were removed. An error
// is returned only where a place does not answer.
func Examine(ctx context.Context, places []Place, q Examining) (*Examined, error) {
	x := &examiner{Examining: q}
	x.out.Chains = []Chained{}
	tables := map[string]bool{}
	for _, p := range places {
		if err := x.list(ctx, p, tables); err != nil {
			return nil, fmt.Errorf("store %s: %w", p.Name, err)
		}
	}
	for _, t := range slices.Sorted(maps.Keys(tables)) {
		if err := x.table(ctx, places, t); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(x.out.Chains, func(a, b Chained) int {
		return cmp.Or(cmp.Compare(a.Source, b.Source),
			cmp.Compare(a.Table, b.Table))
	})
	x.out.Of, x.out.OfBytes = x.of, x.bytes
	return &x.out, x.resolve(ctx, places)
}

// table examines what belongs to one table, at all places.
func (x *examiner) table(ctx context.Context, places []Place, table string) error {
	x.segments, x.chains, x.alone = nil, map[[2]string][]record{}, map[string][]alone{}
	known := map[string]bool{} // stems with a manifest
	for _, p := range places {
		files, err := filesOf(ctx, p, table)
		if err != nil {
			return fmt.Errorf("store %s: %w", p.Name, err)
		}
		for _, stem := range slices.Sorted(maps.Keys(files)) {
			there, err := x.collect(ctx, p, stem, files[stem])
			if err != nil {
				return fmt.Errorf("store %s: %w", p.Name, err)
			}
			known[stem] = known[stem] || there
		}
	}
	for _, stem := range slices.Sorted(maps.Keys(x.alone)) {
		for _, a := range x.alone[stem] {
			if !known[stem] {
				x.find(Remark{Kind: FindExtra, Store: a.place.Name, File: a.stem + manifestEnding,
					Message: "there is no manifest beside these files, so they are no segment: one that is being " +
						"written, one whose records lie in another store, or what is left of one that never came " +
						"to be"})
			}
		}
	}
	x.links()
	slices.SortStableFunc(x.segments, func(a, b kept) int {
		return cmp.Or(cmp.Compare(a.manifest.Source, b.manifest.Source),
			cmp.Compare(a.manifest.Table, b.manifest.Table), cmp.Compare(a.manifest.Sequence, b.manifest.Sequence))
	})
	for i := range x.segments {
		s := &x.segments[i]
		if x.of++; s.disposal == nil {
			x.bytes += s.manifest.FileBytes
		}
		x.out.Of, x.out.OfBytes = max(x.out.Of, x.of), max(x.out.OfBytes, x.bytes)
		if err := x.segment(ctx, s); err != nil {
			return fmt.Errorf("store %s: %w", s.place.Name, err)
		}
		x.out.Segments++
		x.step()
	}
	return nil
}

// resolve finds out whether files that are not what was written are those of other segments.
func (x *examiner) resolve(ctx context.Context, places []Place) error {
	owners := map[string]*Manifest{} // by sum
	for _, d := range x.doubts {
		owners[d.sum] = nil
	}
	for _, p := range places {
		if len(owners) == 0 {
			break
		}
		for stem, err := range Stems(ctx, p.Store, "") {
			if err != nil {
				return fmt.Errorf("store %s: %w", p.Name, err)
			}
			m, _, err := LoadManifest(ctx, p.Store, stem)
			if errors.Is(err, ErrDamaged) || errors.Is(err, fs.ErrNotExist) {
				continue
			} else if err != nil {
				return fmt.Errorf("store %s: %w", p.Name, err)
			}
			if _, asked := owners[m.SHA256]; asked {
				owners[m.SHA256] = m
			}
		}
	}
	for _, d := range x.doubts {
		if other := owners[d.sum]; other != nil && other.Segment != d.found.Segment {
			d.found.Kind, d.found.Message = FindSwapped, fmt.Sprintf("the file holds the rows of segment %s (%s)",
				other.Segment, other.RowsName())
		}
		x.find(d.found)
	}
	return nil
}

func (x *examiner) step() {
	if x.Step != nil {
		x.Step(x.out)
	}
}

func (x *examiner) find(f Remark) {
	if f.Wrong {
		x.out.Wrong++
	}
	x.Find(f)
}

// ours are the names of files that the archive writes: SOURCE/TABLE/RUN/NUMBER-SEGMENT and an ending.
var ours = regexp.MustCompile(
	`^([^/]+/[^/]+/[^/]+/\d{6,}-[0-9A-HJKMNP-TV-Z]{26})(\.parquet|\.manifest\.json|\.closing\.json|` +
		`\.range\.json|\.disposed\.json|\.with-[^/]+\.parquet)$`)

// auditLog are the files by which a store knows audit logs: heads, and segments of old entries.
var auditLog = regexp.MustCompile(`^audit/[0-9A-HJKMNP-TV-Z]{26}/([^/]+\.json|entries/[^/]+\.parquet)$`)

// Ours returns the stem of the segment that a file is named as belonging to, and the run of that; false where a file
// is named otherwise.
func Ours(name string) (stem, run string, ok bool) {
	m := ours.FindStringSubmatch(name)
	if m == nil {
		return "", "", false
	}
	return m[1], strings.Split(m[1], "/")[2], true
}

// list finds the tables of which files lie at a place.
func (x *examiner) list(ctx context.Context, p Place, tables map[string]bool) error {
	for o, err := range p.Store.Each(ctx, "") {
		if err != nil {
			return err
		}
		if o.Name == store.IdentityName || auditLog.MatchString(o.Name) {
			continue
		}
		m := ours.FindStringSubmatch(o.Name)
		if m == nil {
			x.find(Remark{Kind: FindForeign, Store: p.Name, File: o.Name,
				Message: "this file is none of the archive's; it is left alone"})
			continue
		}
		if table := path.Dir(path.Dir(m[1])); !tables[table] {
			tables[table] = true
		}
		if x.Wanted == nil && m[2] == manifestEnding {
			x.out.Of++
		} else if x.Wanted == nil && m[2] == rowsEnding {
			x.out.OfBytes += o.Size
		}
	}
	return nil
}

// filesOf lists the files of a table at a place, by stem.
func filesOf(ctx context.Context, p Place, table string) (map[string][]string, error) {
	objects, err := p.Store.List(ctx, table+"/")
	out := map[string][]string{}
	for _, o := range objects {
		if m := ours.FindStringSubmatch(o.Name); m != nil {
			out[m[1]] = append(out[m[1]], o.Name)
		}
	}
	return out, err
}

// collect reads the records of a segment at a place. It returns whether its manifest is there.
func (x *examiner) collect(ctx context.Context, p Place, stem string, files []string) (bool, error) {
	if slices.Contains(files, stem+manifestEnding) {
		return true, x.records(ctx, p, stem, files)
	}
	if slices.Contains(files, stem+closingEnding) || slices.Contains(files, stem+disposalEnding) {
		x.find(Remark{Wrong: true, Kind: FindMissing, Store: p.Name, File: stem + manifestEnding,
			Message: "the segment's manifest is not there, although a later record of it is"})
	} else {
		x.alone[stem] = append(x.alone[stem], alone{p, stem, files})
	}
	return false, nil
}

// records reads the records of one segment.
func (x *examiner) records(ctx context.Context, p Place, stem string, files []string) error {
	m, hash, err := LoadManifest(ctx, p.Store, stem)
	if errors.Is(err, ErrDamaged) {
		x.find(Remark{Wrong: true, Kind: FindDamaged, Store: p.Name, File: stem + manifestEnding,
			Message: strings.TrimPrefix(err.Error(), stem+manifestEnding+": ")})
		return nil
	} else if err != nil {
		return err
	}
	s := kept{place: p, manifest: m, hash: hash, files: files}
	chain := [2]string{m.Source, m.Table}
	add := func(l Link, hash, file string) {
		x.chains[chain] = append(x.chains[chain], record{Link: l, hash: hash, file: file, place: p.Name,
			segment: m.Segment})
	}
	add(m.Link, hash, m.ManifestName())
	bad := func(kind, file string, err error) {
		x.find(Remark{Wrong: true, Kind: kind, Store: p.Name, Table: m.Source + "." + m.Table, Segment: m.Segment,
			File: file, Message: strings.TrimPrefix(err.Error(), file+": ")})
	}
	s.closing, hash, err = LoadClosing(ctx, p.Store, m)
	switch {
	case errors.Is(err, ErrDamaged):
		s.unread = true
		bad(FindDamaged, m.ClosingName(), err)
	case err != nil:
		return err
	case s.closing != nil:
		add(s.closing.Link, hash, m.ClosingName())
	}
	s.disposal, hash, err = LoadDisposal(ctx, p.Store, m)
	switch {
	case errors.Is(err, ErrDamaged):
		bad(FindDamaged, m.DisposalName(), err)
	case err != nil:
		return err
	case s.disposal != nil:
		add(s.disposal.Link, hash, m.DisposalName())
	}
	for _, f := range files {
		if strings.Contains(f[len(stem):], ".with-") &&
			!slices.ContainsFunc(m.Beside, func(b Beside) bool { return m.BesideName(b.Join) == f }) {
			x.find(Remark{Kind: FindExtra, Store: p.Name, Table: m.Source + "." + m.Table, Segment: m.Segment,
				File: f, Message: "the segment's manifest does not tell of this file"})
		}
	}
	if x.Seen != nil {
		x.Seen(p.Name, m)
	}
	if x.Wanted == nil || x.Wanted(m) {
		x.segments = append(x.segments, s)
	}
	return nil
}

// links examines the chain of each table.
func (x *examiner) links() {
	for table, list := range x.chains {
		slices.SortFunc(list, func(a, b record) int {
			return cmp.Or(cmp.Compare(a.Sequence, b.Sequence),
				cmp.Compare(a.hash, b.hash))
		})
		// second copies
		list = slices.CompactFunc(list, func(a, b record) bool {
			return a.Sequence == b.Sequence && a.hash == b.hash &&
				a.file == b.file
		})
		name := table[0] + "." + table[1]
		wrong := func(r record, format string, args ...any) {
			x.find(Remark{Wrong: true, Kind: FindChain, Store: r.place, Table: name, Segment: r.segment, File: r.file,
				Message: fmt.Sprintf(format, args...)})
		}
		at, head := int64(0), ""
		c := Chained{Source: table[0], Table: table[1], Records: len(list)}
		for len(list) > 0 {
			same := 1
			for same < len(list) && list[same].Sequence == list[0].Sequence {
				same++
			}
			r := follows(list[:same], list[same:], head)
			for _, other := range list[:same] {
				if other != r {
					wrong(other, "there are %d records of link %d; this one is not the one that the others follow",
						same, r.Sequence)
				}
			}
			list = list[same:]
			switch {
			case r.Sequence < 1:
				wrong(r, "%d is no place in a chain", r.Sequence)
				continue
			case r.Sequence == at+2:
				wrong(r, "link %d is missing: no record at these places has it", at+1)
			case r.Sequence > at+1:
				wrong(r, "links %d to %d are missing: no record at these places has them", at+1, r.Sequence-1)
			case r.Previous != head:
				wrong(r, "link %d follows a record with the hash %.12s, but link %d has the hash %.12s: one of the "+
					"two was changed", r.Sequence, orNone(r.Previous), at, orNone(head))
			}
			at, head = r.Sequence, r.hash
			if strings.HasSuffix(r.file, manifestEnding) {
				c.Segments++
			}
		}
		c.Last, c.Head = at, head
		x.out.Chains = append(x.out.Chains, c)
	}
}

// follows picks from the records of one link the one that those of the next link follow, or that follows the one
// before.
func follows(these, later []record, head string) record {
	for _, r := range these {
		for _, next := range later {
			if next.Sequence == r.Sequence+1 && next.Previous == r.hash {
				return r
			}
		}
	}
	for _, r := range these {
		if r.Previous == head {
			return r
		}
	}
	return these[0]
}

func orNone(hash string) string {
	if hash == "" {
		return "(none)"
	}
	return hash
}

// Balance says whether a closing record adds up: beyond are ordinals that the segment does not have, left the digest
// of the rows that were left out, where it was counted.
func (c *Closing) Balance(m *Manifest, beyond []int, left value.Set, counted bool) error {
	whole := m.Digest
	if m.AsRead != nil {
		whole = *m.AsRead
	}
	sum := c.Digest
	sum.Merge(c.Left)
	out := int64(len(c.LeftOut()))
	switch {
	case counted && len(beyond) > 0:
		return fmt.Errorf("it names row %d, and the segment has %d", beyond[0], m.Rows)
	case c.Deleted+out != m.Rows || c.Digest.Count != c.Deleted || c.Left.Count != out:
		return fmt.Errorf("%d deleted and %d left out are not the segment's %d rows", c.Deleted, out, m.Rows)
	case sum != whole:
		return errors.New("the digests of the deleted rows and of those left out do not add up to the segment's")
	case counted && left != c.Left:
		return errors.New("the rows that it names as left out have another digest than it says")
	}
	return nil
}

// FileSum returns the SHA-256 of a file, as hexadecimal text.
func FileSum(ctx context.Context, st store.Store, name string) (string, error) {
	f, err := st.Open(ctx, name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	_, err = io.Copy(h, io.NewSectionReader(f, 0, f.Size()))
	return hex.EncodeToString(h.Sum(nil)), err
}

// Paced returns a store whose reading waits as it is told after each piece of so many bytes.
func Paced(st store.Store, pause func(context.Context, int) error) store.Store {
	return &pacedStore{Store: st, pause: pause}
}

// pacedStore waits as it is told after each piece that is read.
type pacedStore struct {
	store.Store
	pause func(context.Context, int) error
}

func (p *pacedStore) Open(ctx context.Context, name string) (store.Reader, error) {
	f, err := p.Store.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	return &pacedReader{Reader: f, ctx: ctx, pause: p.pause}, nil
}

type pacedReader struct {
	store.Reader
	ctx   context.Context
	pause func(context.Context, int) error
}

func (r *pacedReader) ReadAt(b []byte, at int64) (int, error) {
	n, err := r.Reader.ReadAt(b, at)
	if wait := r.pause(r.ctx, n); wait != nil {
		return n, wait
	}
	return n, err
}

// CopyFile copies a file from one store to another, where it must not exist, and returns the SHA-256 of what was
// copied.
func CopyFile(ctx context.Context, from, to store.Store, name string) (sum string, err error) {
	f, err := from.Open(ctx, name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	w, err := to.Create(ctx, name)
	if err != nil {
		return "", err
	}
	h := sha256.New()
	if _, err := io.Copy(io.MultiWriter(w, h), io.NewSectionReader(f, 0, f.Size())); err != nil {
		w.Abort()
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), w.Commit()
}

// SameFile says whether the file of a name is the same in two stores, byte by byte.
func SameFile(ctx context.Context, a, b store.Store, name string) (bool, error) {
	one, err := FileSum(ctx, a, name)
	if err != nil {
		return false, err
	}
	other, err := FileSum(ctx, b, name)
	return one == other, err
}

// Files lists the names of all files of a segment that should lie in a store, by its records.
func (m *Manifest) Files(closing *Closing, disposal *Disposal) []string {
	var out []string
	if disposal == nil {
		out = append(out, m.RowsName())
		for _, b := range m.Beside {
			out = append(out, m.BesideName(b.Join))
		}
		out = append(out, m.RangeName())
	}
	out = append(out, m.ManifestName())
	if closing != nil {
		out = append(out, m.ClosingName())
	}
	if disposal != nil {
		out = append(out, m.DisposalName())
	}
	return out
}

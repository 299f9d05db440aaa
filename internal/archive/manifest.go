package archive

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// Names of the formats of the JSON files, with their versions.
const (
	ManifestFormat = "ambercellar-manifest/3"
	ClosingFormat  = "ambercellar-closing/1"
)

// readFormats are those of manifests that are read; docs/formats/versions.md says how they differ.
var readFormats = []string{ManifestFormat, "ambercellar-manifest/2", "ambercellar-manifest/1"}

// Endings of a segment's files behind their common stem.
const (
	rowsEnding     = ".parquet"
	manifestEnding = ".manifest.json"
	closingEnding  = ".closing.json"
	rangeEnding    = ".range.json"
)

// Link is what the records of one table's chain have in common. A record's own hash is the SHA-256 of its file.
type Link struct {
	Sequence int64  `json:"sequence"` // from 1, without gaps, within the table
	Previous string `json:"previous"` // hash of the record before; empty for the first
}

// Manifest describes one segment. A segment whose manifest is not in the store does not exist. It names rows by
// ordinal (from 0, in the order of the file) and never by value.
type Manifest struct {
	ManifestOrigin
	ManifestColumns
	Written
	ManifestProof
	ManifestTerms
	Link
}

// ManifestOrigin is what a segment is of, and by which rule and run it came to be.
type ManifestOrigin struct {
	Format   string    `json:"format"`
	Segment  string    `json:"segment"` // unique among all segments of all services
	Stem     string    `json:"stem"`    // of the names of the segment's files in the store
	Source   string    `json:"source"`
	Engine   string    `json:"engine"`
	Table    string    `json:"table"`
	Rule     string    `json:"rule"`
	Revision int       `json:"revision"`
	RuleText string    `json:"rule_text,omitempty"` // of that revision, as it was applied
	Run      string    `json:"run"`
	Number   int       `json:"number"`           // within the run, from 1
	Clause   int       `json:"clause,omitempty"` // of the rule's revision, from 0
	Label    string    `json:"label,omitempty"`  // which rows that clause is for
	Cutoff   time.Time `json:"cutoff"`
	Age      rule.Age  `json:"age"`
}

// ManifestColumns is what stands in a segment and beside it.
type ManifestColumns struct {
	Columns  []shape.Column `json:"columns"`            // in the table's order
	Numbered string         `json:"numbered,omitempty"` // where the numbers of columns hold; as a table has it
	Key      []string       `json:"key"`
	// column that holds what a row's typed columns cannot, as JSON
	Companion string   `json:"companion"`
	Omitted   []string `json:"omitted,omitempty"` // columns of the table that were left out
	// columns that were archived in another form, with its name
	Masked map[string]string `json:"masked,omitempty"`
	// columns, the last ones, that stood in joined rows: JOIN.COLUMN
	Included []string  `json:"included,omitempty"`
	GoesWith *GoesWith `json:"goes_with,omitempty"` // of related rows: what they refer to
	Beside   []Beside  `json:"beside,omitempty"`    // joined rows that are kept with the segment
}

// ManifestProof is what the rows and the side file are known by.
type ManifestProof struct {
	// of all rows, as read back from the store, and as read from the source where that is the same
	Digest value.Set `json:"digest"`
	// of all rows as read from the source, where columns were left out or masked; closing records count in it
	AsRead *value.Set `json:"as_read,omitempty"`
	// The side file has a filter of the keys.
	KeyFilter bool `json:"key_filter,omitempty"`
	// hash of the side file with the range of ages and keys; the file itself may be replaced
	Range string `json:"range"`
}

// ManifestTerms is how long a segment is kept, and what it follows.
type ManifestTerms struct {
	Keep string `json:"keep,omitempty"`
	// What Keep counts from: the age of the newest row, or, where empty, the moment at which the segment was stored.
	KeepFrom rule.KeepFrom `json:"keep_from,omitempty"`
	// The segment ends with all rows of its newest age, and not in the midst of them.
	WholeAges bool      `json:"whole_ages,omitempty"`
	Stored    time.Time `json:"stored"`
	// Of a segment that holds the rows which stayed when others of a segment were destroyed: that segment, and the
	// first of them.
	Rewrites string `json:"rewrites,omitempty"`
	Origin   string `json:"origin,omitempty"`
}

// ManifestAt is the manifest of a segment of which no more is known than the stem of its files' names.
func ManifestAt(stem string) *Manifest { return &Manifest{ManifestOrigin: ManifestOrigin{Stem: stem}} }

// First is the segment as which its rows were archived at first, by which those that went along with them know it.
func (m *Manifest) First() string {
	if m.Origin != "" {
		return m.Origin
	}
	return m.Segment
}

// GoesWith says which rows the rows of a segment went along with.
type GoesWith struct {
	Table string `json:"table"` // that they refer to
	// of the rows at the head of the families; empty where those were purged
	Segment string      `json:"segment,omitempty"`
	On      [][2]string `json:"on"` // pairs of the segment's column and the other table's
}

// Beside describes a file of joined rows that lies beside a segment, one row for each that a row of it refers to.
type Beside struct {
	Join    string         `json:"join"`
	Table   string         `json:"table"`
	On      [][2]string    `json:"on"` // pairs of the segment's column and the other table's
	Columns []shape.Column `json:"columns"`
	Key     []string       `json:"key"`
	Written
	Digest value.Set `json:"digest"`
}

// Closing says what became of a segment's rows in their table. All ordinals that are not listed were deleted.
type Closing struct {
	Format   string    `json:"format"`
	Segment  string    `json:"segment"`
	Deleted  int64     `json:"deleted"`
	Digest   value.Set `json:"digest"` // of the deleted rows, by what the deletes reported
	Left     value.Set `json:"left"`   // of the rows that were left out
	Changed  []int     `json:"changed"`
	Vanished []int     `json:"vanished"`
	Held     []int     `json:"held"`
	Skipped  []int     `json:"skipped"`
	Closed   time.Time `json:"closed"`
	Link
}

// LeftOut returns the ordinals that were not deleted, ascending.
func (c *Closing) LeftOut() []int {
	out := slices.Concat(c.Changed, c.Vanished, c.Held, c.Skipped)
	slices.Sort(out)
	return out
}

// Range is the side file: what a search needs to know of a segment's values. The salt keeps its hash from telling
// them.
type Range struct {
	Salt     string `json:"salt"`
	Oldest   string `json:"oldest"` // age of the first row
	Newest   string `json:"newest"` // age of the last row
	FirstKey string `json:"first_key"`
	LastKey  string `json:"last_key"`

	// the least and the greatest value, as KIND:TEXT; columns of which none is known are missing
	Columns map[string][2]string `json:"columns,omitempty"`
	Keys    *KeyFilter           `json:"keys,omitempty"` // where the range of the keys tells little

	// Of one that was lost and made again from the rows, whose hash the manifest does not have: the SHA-256 of the
	// rest, as compact JSON.
	Remade string `json:"remade,omitempty"`
}

// sum is what Remade holds of a side file that was made again.
func (r Range) sum() string {
	r.Remade = ""
	b, _ := json.Marshal(r) // texts always marshal
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Remade says whether the side file of a segment is one that was made again, after the first was lost, and is as it
// was made.
func Remade(ctx context.Context, st store.Store, m *Manifest) bool {
	r, err := LoadRange(ctx, st, m)
	return err == nil && r != nil && r.Remade != ""
}

// WriteRange writes a side file that was lost, made again from the rows.
func WriteRange(ctx context.Context, st store.Store, m *Manifest, r Range) error {
	r.Salt = rand.Text()
	r.Remade = r.sum()
	_, err := writeJSON(ctx, st, m.RangeName(), r)
	return err
}

// RowsName, ManifestName, ClosingName and RangeName are the names of a segment's files.
func (m *Manifest) RowsName() string     { return m.Stem + rowsEnding }
func (m *Manifest) ManifestName() string { return m.Stem + manifestEnding }
func (m *Manifest) ClosingName() string  { return m.Stem + closingEnding }
func (m *Manifest) RangeName() string    { return m.Stem + rangeEnding }

// BesideName is the name of the file of joined rows of a join.
func (m *Manifest) BesideName(join string) string {
	return m.Stem + ".with-" + segmentPath(join) + rowsEnding
}

// Name gives a manifest its segment id and a stem that no file ever had.
func (m *Manifest) Name() {
	m.Format = ManifestFormat
	m.Segment = ulid.Make().String()
	m.Stem = fmt.Sprintf("%s/%s/%s/%06d-%s", segmentPath(m.Source), segmentPath(m.Table), m.Run, m.Number, m.Segment)
}

// TablePrefix is what the names of all files of a table's segments begin with.
func TablePrefix(source, table string) string {
	return segmentPath(source) + "/" + segmentPath(table) + "/"
}

// Succeed gives the file of rows that stay of a segment a name that no file ever had.
func (m *Manifest) Succeed() *Successor {
	id := ulid.Make().String()
	return &Successor{Segment: id, Stem: strings.TrimSuffix(m.Stem, m.Segment) + id}
}

// segmentPath writes any name as one element of a path.
func segmentPath(name string) string {
	p := url.PathEscape(name)
	if strings.Trim(p, ".") == "" {
		return "_" + p
	}
	return strings.ReplaceAll(p, ":", "%3A")
}

// Draft is a segment being written.
type Draft struct {
	*Writer
	manifest *Manifest
	file     store.File
}

// Create begins the file of a segment. The manifest must have been named.
func Create(ctx context.Context, st store.Store, m *Manifest) (*Draft, error) {
	f, err := st.Create(ctx, m.RowsName())
	if err != nil {
		return nil, err
	}
	m.Companion = companionName(m.Columns)
	return &Draft{Writer: NewWriter(f, m.Table, m.Carried()), manifest: m, file: f}, nil
}

// Commit completes the file, makes it durable, and notes in the manifest what was written.
func (d *Draft) Commit() (err error) {
	if d.manifest.Written, err = d.Writer.Close(); err != nil {
		d.file.Abort()
		return err
	}
	return d.file.Commit()
}

// Abort drops the file.
func (d *Draft) Abort() { d.file.Abort() }

// Publish writes the side file and then the manifest, and returns the manifest's hash. From then on the segment
// exists.
func Publish(ctx context.Context, st store.Store, m *Manifest, r Range) (hash string, err error) {
	r.Salt = rand.Text()
	if m.Range, err = writeJSON(ctx, st, m.RangeName(), r); err != nil {
		return "", err
	}
	return writeJSON(ctx, st, m.ManifestName(), m)
}

// WriteClosing writes a closing record and returns its hash.
func WriteClosing(ctx context.Context, st store.Store, m *Manifest, c *Closing) (hash string, err error) {
	c.Format, c.Segment = ClosingFormat, m.Segment
	return writeJSON(ctx, st, m.ClosingName(), c)
}

func writeJSON(ctx context.Context, st store.Store, name string, v any) (hash string, err error) {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return "", err
	}
	b = append(b, '\n')
	f, err := st.Create(ctx, name)
	if err != nil {
		return "", err
	}
	if _, err := f.Write(b); err != nil {
		f.Abort()
		return "", err
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:]), f.Commit()
}

// maxRecord bounds the JSON files that are read: 64 MiB, some millions of ordinals.
const maxRecord = 64 << 20

func readJSON(ctx context.Context, st store.Store, name string, v any) (hash string, err error) {
	f, err := st.Open(ctx, name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if f.Size() > maxRecord {
		return "", fmt.Errorf("%s: %w: a record of %d bytes", name, ErrDamaged, f.Size())
	}
	b, err := io.ReadAll(io.NewSectionReader(f, 0, f.Size()))
	if err != nil {
		return "", err
	}
	d := json.NewDecoder(bytes.NewReader(b))
	if err := d.Decode(v); err != nil {
		return "", fmt.Errorf("%s: %w", name, damaged(err))
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:]), nil
}

// LoadManifest reads the manifest under a stem and returns its hash; fs.ErrNotExist where there is none.
func LoadManifest(ctx context.Context, st store.Store, stem string) (*Manifest, string, error) {
	m := ManifestAt(stem)
	hash, err := readJSON(ctx, st, m.ManifestName(), m)
	if err == nil && (!slices.Contains(readFormats, m.Format) || m.Stem != stem) {
		err = fmt.Errorf("%s: %w: it is no manifest of this place and version (format %q, stem %q)", stem+
			manifestEnding, ErrDamaged, m.Format, m.Stem)
	}
	if err != nil {
		return nil, "", err
	}
	return m, hash, nil
}

// LoadClosing reads a segment's closing record and returns its hash; nil where there is none: the segment is open.
func LoadClosing(ctx context.Context, st store.Store, m *Manifest) (*Closing, string, error) {
	c := &Closing{}
	hash, err := readJSON(ctx, st, m.ClosingName(), c)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, "", nil
	}
	if err == nil && (c.Format != ClosingFormat || c.Segment != m.Segment) {
		err = fmt.Errorf("%s: %w: it is no closing record of this segment and version", m.ClosingName(), ErrDamaged)
	}
	if err != nil {
		return nil, "", err
	}
	return c, hash, nil
}

// LoadRange reads a segment's side file; nil where it has been removed. One that is not what was written could hide
// rows: ErrDamaged.
func LoadRange(ctx context.Context, st store.Store, m *Manifest) (*Range, error) {
	r := &Range{}
	hash, err := readJSON(ctx, st, m.RangeName(), r)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil && hash != m.Range && (r.Remade == "" || r.Remade != r.sum()) {
		err = fmt.Errorf("%s: %w: it has the SHA-256 %.12s instead of %.12s", m.RangeName(), ErrDamaged, hash, m.Range)
	}
	return r, err
}

// Stems goes through the stems of the segments that exist in a store below a prefix; all where that is empty.
func Stems(ctx context.Context, st store.Store, prefix string) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		for o, err := range st.Each(ctx, prefix) {
			if stem, ok := strings.CutSuffix(o.Name, manifestEnding); ok || err != nil {
				if !yield(stem, err) || err != nil {
					return
				}
			}
		}
	}
}

// Discard removes the files of a segment that never came to exist. It refuses where there is a manifest.
func Discard(ctx context.Context, st store.Store, m *Manifest) error {
	if f, err := st.Open(ctx, m.ManifestName()); err == nil {
		f.Close()
		return fmt.Errorf("segment %s has a manifest, so its files stay", m.Segment)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	beside, err := st.List(ctx, m.Stem+".with-")
	for _, o := range beside {
		err = errors.Join(err, st.Remove(ctx, o.Name))
	}
	return errors.Join(err, st.Remove(ctx, m.RowsName()), st.Remove(ctx, m.RangeName()))
}

// Carried are the columns as their values lie in the file: those that were archived in another form are not of their
// type any more.
func (m *Manifest) Carried() []shape.Column {
	out := slices.Clone(m.Columns)
	for i := range out {
		if m.Masked[out[i].Name] != "" {
			out[i].Type = ""
		}
	}
	return out
}

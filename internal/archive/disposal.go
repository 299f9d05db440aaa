package archive

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/value"
)

// DisposalFormat is the name of the format of disposal records, with its version.
const DisposalFormat = "ambercellar-disposal/1"

const disposalEnding = ".disposed.json"

// Disposal is the record that a segment's rows were destroyed, because their time in the archive was over, or for an
// erasure. It is written before the first file is removed: from then on the segment gives no rows any more. Manifest
// and closing record stay.
type Disposal struct {
	Format   string `json:"format"`
	Segment  string `json:"segment"`
	Disposal string `json:"disposal"` // the decision that it belongs to
	// single rows were destroyed, whatever their time; no rule has to do with that
	Erasure  bool      `json:"erasure,omitempty"`
	Rule     string    `json:"rule"`
	Revision int       `json:"revision"` // of the rule that governed the segment when that was decided
	Keep     string    `json:"keep"`     // by that rule
	Due      time.Time `json:"due"`      // when its time was over, or the erasure decided
	Rows     int64     `json:"rows"`
	Digest   value.Set `json:"digest"` // of all rows of the file, as the manifest has it
	Bytes    int64     `json:"bytes"`
	SHA256   string    `json:"sha256"` // of the file
	By       string    `json:"by"`
	At       time.Time `json:"at"`
	// Where only a part of the rows was destroyed: the segment that holds those that stayed.
	Successor *Successor `json:"successor,omitempty"`
	Link
}

// Successor is the file of rows that stayed when others of a segment were destroyed. It was read back before the
// disposal record was written; its manifest follows in the chain.
type Successor struct {
	Segment string `json:"segment"`
	Stem    string `json:"stem"`
	Written
	Digest value.Set `json:"digest"`
}

// Manifest is the manifest of the successor of a segment, but for its place in the chain and its side file.
func (s *Successor) Manifest(m *Manifest) *Manifest {
	out := *m
	out.Format = ManifestFormat // in which it is written, whatever the other has
	out.Segment, out.Stem, out.Rewrites, out.Origin = s.Segment, s.Stem, m.Segment, m.First()
	out.Written, out.Digest, out.AsRead, out.WholeAges, out.KeyFilter = s.Written, s.Digest, nil, false, false
	out.Range, out.Link = "", Link{}
	return &out
}

// DisposalName is the name of a segment's disposal record.
func (m *Manifest) DisposalName() string { return m.Stem + disposalEnding }

// WriteDisposal writes a disposal record and returns its hash.
func WriteDisposal(ctx context.Context, st store.Store, m *Manifest, d *Disposal) (hash string, err error) {
	d.Format, d.Segment = DisposalFormat, m.Segment
	d.Rows, d.Digest, d.Bytes, d.SHA256 = m.Rows, m.Digest, m.FileBytes, m.SHA256
	return writeJSON(ctx, st, m.DisposalName(), d)
}

// LoadDisposal reads a segment's disposal record and returns its hash; nil where there is none.
func LoadDisposal(ctx context.Context, st store.Store, m *Manifest) (*Disposal, string, error) {
	d := &Disposal{}
	hash, err := readJSON(ctx, st, m.DisposalName(), d)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, "", nil
	}
	if err == nil && (d.Format != DisposalFormat || d.Segment != m.Segment) {
		err = fmt.Errorf("%s: %w: it is no disposal record of this segment and version", m.DisposalName(), ErrDamaged)
	}
	if err != nil {
		return nil, "", err
	}
	return d, hash, nil
}

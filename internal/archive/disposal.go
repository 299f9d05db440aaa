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

// Disposal is the record that a segment's rows were destroyed, because their time in the archive was over. It is written
// before the first file is removed: from then on the segment gives no rows any more. Manifest and closing record stay.
type Disposal struct {
	Format   string    `json:"format"`
	Segment  string    `json:"segment"`
	Disposal string    `json:"disposal"` // the decision that it belongs to
	Rule     string    `json:"rule"`
	Revision int       `json:"revision"` // of the rule that governed the segment when that was decided
	Keep     string    `json:"keep"`     // by that rule
	Due      time.Time `json:"due"`      // when its time was over
	Rows     int64     `json:"rows"`
	Digest   value.Set `json:"digest"` // of all rows of the file, as the manifest has it
	Bytes    int64     `json:"bytes"`
	SHA256   string    `json:"sha256"` // of the file
	By       string    `json:"by"`
	At       time.Time `json:"at"`
	Link
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

// Destroy removes the files of a segment that tell its rows or their values. It refuses where there is no disposal record.
func Destroy(ctx context.Context, st store.Store, m *Manifest) error {
	if d, _, err := LoadDisposal(ctx, st, m); err != nil {
		return err
	} else if d == nil {
		return fmt.Errorf("segment %s has no disposal record, so its files stay", m.Segment)
	}
	err := errors.Join(st.Remove(ctx, m.RowsName()), st.Remove(ctx, m.RangeName()))
	for _, b := range m.Beside {
		err = errors.Join(err, st.Remove(ctx, m.BesideName(b.Join)))
	}
	return err
}

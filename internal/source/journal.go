package source

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"ambercellar/internal/core/value"
)

// EncodePosition writes the age and key at which a slice or batch ended, for the journal and the catalog.
func EncodePosition(p []value.Value) string {
	if p == nil {
		return ""
	}
	parts := make([]string, len(p))
	for i, v := range p {
		parts[i] = v.Exact()
	}
	b, _ := json.Marshal(parts) // strings always marshal
	return string(b)
}

// DecodePosition is the inverse of EncodePosition.
func DecodePosition(s string) ([]value.Value, error) {
	if s == "" {
		return nil, nil
	}
	var parts []string
	if err := json.Unmarshal([]byte(s), &parts); err != nil {
		return nil, fmt.Errorf("position %.60q: %w", s, err)
	}
	out := make([]value.Value, len(parts))
	for i, part := range parts {
		v, err := value.ParseExact(part)
		if err != nil {
			return nil, fmt.Errorf("position %.60q: %w", s, err)
		}
		out[i] = v
	}
	return out, nil
}

// NewJournalRow begins the journal row of a batch.
func NewJournalRow(b Batch) *JournalRow {
	r := &JournalRow{Run: b.Lease.Run, Segment: b.Segment, Batch: b.Number, Retry: b.Retry, Rows: len(b.Ordinals),
		First: b.Ordinals[0], Last: b.Ordinals[len(b.Ordinals)-1], At: time.Now().UTC()}
	for _, o := range b.Ordinals {
		if !b.Retry {
			r.Found.Add(b.Digests[o])
		}
	}
	return r
}

// leftOut is the journal's form of the ordinals that were not deleted.
type leftOut struct {
	Changed  []int `json:"changed,omitempty"`
	Vanished []int `json:"vanished,omitempty"`
	Held     []int `json:"held,omitempty"`
	Skipped  []int `json:"skipped,omitempty"`
}

// LeftOut writes the ordinals that were not deleted, as the journal keeps them.
func (r *JournalRow) LeftOut() string {
	b, _ := json.Marshal(leftOut{r.Changed, r.Vanished, r.Held, r.Skipped}) // numbers always marshal
	return string(b)
}

// SetLeftOut is the inverse of LeftOut.
func (r *JournalRow) SetLeftOut(s string) error {
	var out leftOut
	if err := json.Unmarshal([]byte(s), &out); err != nil {
		return fmt.Errorf("ordinals left out %.60q: %w", s, err)
	}
	r.Changed, r.Vanished, r.Held, r.Skipped = out.Changed, out.Vanished, out.Held, out.Skipped
	return nil
}

// ScanJournalRow reads a journal row from a query of the columns run, segment, batch, retry, row_count, found,
// deleted, digest, left_out, first, last and at, all texts but for numbers.
func ScanJournalRow(scan func(...any) error) (*JournalRow, error) {
	var r JournalRow
	var found, digest, left, at string
	if err := scan(&r.Run, &r.Segment, &r.Batch, &r.Retry, &r.Rows, &found, &r.Deleted, &digest, &left, &r.First,
		&r.Last, &at); err != nil {
		return nil, err
	}
	err := r.SetLeftOut(left)
	var errs [3]error
	r.Found, errs[0] = value.ParseSet(found)
	r.Digest, errs[1] = value.ParseSet(digest)
	r.At, errs[2] = time.Parse(time.RFC3339Nano, at)
	if err := errors.Join(append(errs[:], err)...); err != nil {
		return nil, fmt.Errorf("the journal row of run %s, segment %d, batch %d cannot be read: %w", r.Run, r.Segment,
			r.Batch, err)
	}
	return &r, nil
}

// Package entries writes and reads the segments of the audit log: Parquet files of its oldest entries, in the form in
// which segments of tables are. What a segment has to be is known by the chain of the log; where it lies is told by the
// catalog.
package entries

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/audit"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// Entry is an entry of the audit log with its detail.
type Entry struct {
	audit.Entry
	audit.Detail
}

// Segment says what a file of entries has to be.
type Segment struct {
	Stem   string // of the file's name in its store
	First  int64  // its first entry
	Last   int64  // its last
	Before string // the hash of the entry before the first
	Hash   string // of the last
	archive.Written
	Digest value.Set // of its rows
}

// directory is where a store keeps entries of a log.
func directory(log string) string { return "audit/" + log + "/entries/" }

// Stem names the file of a segment: the n-th of its entries, from 0. A later one has fewer details.
func Stem(log string, s *Segment, n int) string {
	stem := fmt.Sprintf("%s%012d-%012d-%.16s", directory(log), s.First, s.Last, s.Hash)
	if n > 0 {
		stem += fmt.Sprintf("-%d", n)
	}
	return stem
}

// table is how entries lie in a file.
var table = shape.Table{TableForm: shape.TableForm{Key: []string{"id"}, Columns: []shape.Column{
	{Name: "id", Kind: value.Int},
	{Name: "at", Kind: value.Instant},
	{Name: "actor", Kind: value.Text},
	{Name: "session", Kind: value.Text},
	{Name: "address", Kind: value.Text},
	{Name: "kind", Kind: value.Text},
	{Name: "action", Kind: value.Text},
	{Name: "subject", Kind: value.Text},
	{Name: "outcome", Kind: value.Text},
	{Name: "digest", Kind: value.Text},
	{Name: "hash", Kind: value.Text},
	{Name: "salt", Kind: value.Text},
	{Name: "detail", Kind: value.Text},
	{Name: "erased", Kind: value.Int},
}}}

// KindOf is the first word of an action.
func KindOf(action string) string {
	kind, _, _ := strings.Cut(action, " ")
	return kind
}

// row puts an entry into a chunk.
func (e *Entry) row(c *value.Chunk) {
	text := func(s string) value.Value { return value.Value{Kind: value.Text, B: c.Keep([]byte(s))} }
	c.Values = append(c.Values, value.Of(e.ID), value.Value{Kind: value.Instant, N: e.At.UnixMicro()}, text(e.Actor),
		text(e.Session), text(e.Address), text(KindOf(e.Action)), text(e.Action), text(e.Subject),
		text(string(e.Outcome)), text(e.Digest), text(e.Hash), text(e.Salt), text(e.Text), value.Of(e.Erased))
}

// entryOf takes an entry out of a row.
func entryOf(row []value.Value) *Entry {
	text := func(i int) string { return string(row[i].B) }
	return &Entry{audit.Entry{ID: row[0].N, At: time.UnixMicro(row[1].N).UTC(), Actor: text(2), Session: text(3),
		Address: text(4), Action: text(6), Subject: text(7), Outcome: audit.EntryOutcome(text(8)), Digest: text(9),
		Hash: text(10)}, audit.Detail{Salt: text(11), Text: text(12), Erased: row[13].N}}
}

// manifest is what the archive needs to know of a segment.
func (s *Segment) manifest() *archive.Manifest {
	m := archive.ManifestAt(s.Stem)
	m.Segment, m.Table, m.Columns, m.Written, m.Digest = s.Stem, "audit", table.Columns, s.Written, s.Digest
	return m
}

// piece is how many entries are written at a time.
const piece = 1000

// Write stores entries as a segment, and fills in what was written. It fails with store.ErrExists where there is a file
// of that name.
func Write(ctx context.Context, st store.Store, s *Segment, list []Entry) error {
	m := s.manifest()
	draft, err := archive.Create(ctx, st, m)
	if err != nil {
		return err
	}
	defer draft.Abort()
	s.Digest = value.Set{}
	var hasher value.Hasher
	chunk := value.Chunk{Width: len(table.Columns)}
	for len(list) > 0 {
		n := min(piece, len(list))
		chunk.Reset()
		for i := range n {
			list[i].row(&chunk)
			s.Digest.Add(hasher.Row(chunk.Row(i)))
		}
		if err := draft.Write(&chunk); err != nil {
			return err
		}
		list = list[n:]
	}
	if err := draft.Commit(); err != nil {
		return err
	}
	s.Written = m.Written
	return nil
}

// Found says what the file of a name holds, which was written before and of which nothing is known: it is read and
// compared with the entries that it should hold. An error that is archive.ErrDamaged says that it holds others.
func Found(ctx context.Context, st store.Store, s *Segment, list []Entry) error {
	f, err := st.Open(ctx, s.manifest().RowsName())
	if err != nil {
		return err
	}
	size := f.Size()
	f.Close()
	written, err := archive.FileSum(ctx, st, s.manifest().RowsName())
	if err != nil {
		return err
	}
	// which values lie in the companion column is not known, so it is always read
	s.Written = archive.Written{Rows: int64(len(list)), FileBytes: size, SHA256: written,
		Exact: map[string]int64{"detail": 1}}
	s.Digest = value.Set{}
	var hasher value.Hasher
	for i := range list {
		c := value.Chunk{Width: len(table.Columns)}
		list[i].row(&c)
		s.Digest.Add(hasher.Row(c.Values))
		s.RawBytes += int64(c.Size() + 8*len(c.Values))
	}
	return archive.Verify(ctx, st, s.manifest(), nil)
}

// Later finds the newest file of a segment in a store, of which only is known what the chain of the log says: that it
// begins behind an entry, and ends with one. fs.ErrNotExist where there is none that is so.
func Later(ctx context.Context, st store.Store, log string, s *Segment) (*Segment, error) {
	list, err := st.List(ctx, Stem(log, s, 0))
	if err != nil {
		return nil, err
	}
	found := fmt.Errorf("entries %d to %d: %w", s.First, s.Last, fs.ErrNotExist)
	for n := len(list); n >= 0; n-- {
		x := &Segment{First: s.First, Last: s.Last, Before: s.Before, Hash: s.Hash, Stem: Stem(log, s, n)}
		all, err := x.unknown(ctx, st)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil {
			err = Found(ctx, st, x, all)
		}
		if err == nil {
			return x, nil
		}
		found = err
	}
	return nil, found
}

// unknown reads a file of which only is known what the chain of the log says.
func (s *Segment) unknown(ctx context.Context, st store.Store) (all []Entry, err error) {
	f, err := st.Open(ctx, s.manifest().RowsName())
	if err != nil {
		return nil, err
	}
	defer f.Close()
	err = archive.Read(f, f.Size(), table.Columns, s.Last-s.First+1, func(c *value.Chunk) error {
		for i := range c.Rows() {
			all = append(all, *entryOf(c.Row(i)))
		}
		return ctx.Err()
	})
	if err != nil {
		return nil, err
	}
	chain := audit.NewChecker(s.First-1, s.Before, nil)
	for i := range all {
		chain.Add(&all[i].Entry, all[i].Detail)
	}
	if id, hash := chain.Last(); len(chain.Faults) > 0 || id != s.Last || hash != s.Hash {
		return nil, fmt.Errorf("%s holds other entries: %w", s.manifest().RowsName(), archive.ErrDamaged)
	}
	return all, nil
}

// Verify reads a segment back from its store: its size, its SHA-256 and every entry, which each hears of.
func Verify(ctx context.Context, st store.Store, s *Segment, each func(*Entry)) error {
	return archive.Verify(ctx, st, s.manifest(), func(c *value.Chunk, _ []value.Digest) error {
		for i := range c.Rows() {
			each(entryOf(c.Row(i)))
		}
		return nil
	})
}

// Read returns all entries of a segment, each as it was written.
func Read(ctx context.Context, st store.Store, s *Segment) (list []Entry, err error) {
	list = make([]Entry, 0, s.Rows)
	err = Verify(ctx, st, s, func(e *Entry) { list = append(list, *e) })
	return list, err
}

// Search hands on the entries of a segment for which a condition on its columns is true, in their order. It reads no
// more of the file than it needs.
func Search(ctx context.Context, st store.Store, s *Segment, condition string, each func(*Entry) error) error {
	f, bad := filter.Bind(condition, filter.TableScope(&table))
	if len(bad) > 0 {
		return errors.New(bad[0].Plain())
	}
	columns := make([]int, len(table.Columns))
	for i := range columns {
		columns[i] = i
	}
	_, err := archive.Scan(ctx, st, s.manifest(), archive.Search{Filter: f, Columns: columns},
		func(_ int, row []value.Value) error { return each(entryOf(row)) })
	return err
}

// Matching returns what says of an entry whether a condition on its columns is true.
func Matching(condition string) (func(*Entry) bool, error) {
	f, bad := filter.Bind(condition, filter.TableScope(&table))
	if len(bad) > 0 {
		return nil, errors.New(bad[0].Plain())
	}
	return func(e *Entry) bool {
		c := value.Chunk{Width: len(table.Columns)}
		e.row(&c)
		return f.Eval(c.Values) == filter.True
	}, nil
}

// Remove removes the file of a segment.
func Remove(ctx context.Context, st store.Store, stem string) error {
	return st.Remove(ctx, archive.ManifestAt(stem).RowsName())
}

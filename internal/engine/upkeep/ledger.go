package upkeep

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/shelf"
)

// LedgerFormat is the name of the format of exported ledgers, with its version.
const LedgerFormat = "ambercellar-ledger/1"

// RunLedger is the accounting of a run, with the records in the stores that it rests on, so that anybody who has those
// can check it.
type RunLedger struct {
	Format   string        `json:"format"`
	Instance string        `json:"instance"` // the service that carried the run out
	Run      string        `json:"run"`
	Rule     string        `json:"rule"`
	Revision int           `json:"revision"`
	Source   string        `json:"source"`
	Table    string        `json:"table"`
	State    string        `json:"state"`
	Cutoff   catalog.Time  `json:"cutoff"`
	Started  *catalog.Time `json:"started"`
	Ended    *catalog.Time `json:"ended"`
	Made     catalog.Time  `json:"made"` // this document
	Parts    []LedgerPart  `json:"parts"`
}

// LedgerPart is what a run did with the rows of one clause in one table.
type LedgerPart struct {
	Table    string          `json:"table"`
	Clause   int             `json:"clause"` // from 0
	Label    string          `json:"label"`
	Then     string          `json:"then"`
	Ledger   catalog.Ledger  `json:"ledger"`
	Segments []LedgerSegment `json:"segments"` // none where the rows were purged
}

// LedgerSegment is a segment that a run wrote.
type LedgerSegment struct {
	Segment      string `json:"segment"`
	Store        string `json:"store"`
	RowsStore    string `json:"rows_store,omitempty"` // where its rows lay when this was made, if not with its records
	Stem         string `json:"stem"`
	Rows         int64  `json:"rows"`
	Deleted      int64  `json:"deleted"`
	Sequence     int64  `json:"sequence"` // of its manifest in the table's chain
	ManifestHash string `json:"manifest_hash"`
	ClosingSeq   int64  `json:"closing_sequence"`
	ClosingHash  string `json:"closing_hash"`
	DisposalHash string `json:"disposal_hash,omitempty"` // where its rows were destroyed since
}

// Ledger makes the ledger of a run that has ended.
func (kp *Keeper) Ledger(ctx context.Context, id string) (*RunLedger, error) {
	r, err := kp.Catalog.Run(ctx, id)
	if err != nil {
		return nil, err
	}
	if !r.State.Ended() {
		return nil, fmt.Errorf("run %s is %s, and its books are not closed: %w", id, r.State, catalog.ErrState)
	}
	out := &RunLedger{Format: LedgerFormat, Instance: kp.Instance, Run: r.ID, Rule: r.Rule, Revision: r.Revision,
		Source: r.Source, Table: r.Table, State: string(r.State), Cutoff: r.Cutoff,
		Started: r.StartedAt, Ended: r.EndedAt, Made: catalog.At(kp.Now()), Parts: []LedgerPart{}}
	segments, err := kp.Catalog.RunSegments(ctx, id)
	if err != nil {
		return nil, err
	}
	add := func(table string, clause int, label, then string, l catalog.Ledger) {
		p := LedgerPart{Table: table, Clause: clause, Label: label, Then: then, Ledger: l, Segments: []LedgerSegment{}}
		for _, s := range segments {
			if s.Table == table && s.Clause == clause && s.Rewrites == "" &&
				(s.State == catalog.SegmentClosed || s.State == catalog.SegmentDisposed) {
				p.Segments = append(p.Segments, LedgerSegment{Segment: s.ID, Store: s.Store, RowsStore: s.RowsStore,
					Stem: s.Stem, Rows: s.Rows, Deleted: s.Deleted, Sequence: s.Sequence, ManifestHash: s.ManifestHash,
					ClosingSeq: s.ClosingSeq, ClosingHash: s.ClosingHash, DisposalHash: s.DisposalHash})
			}
		}
		out.Parts = append(out.Parts, p)
	}
	for _, p := range r.Passes.V {
		add(r.Table, p.Clause, p.Label, p.Then, p.Ledger)
		for _, x := range p.Related {
			add(x.Table, p.Clause, p.Label, x.Then, x.Ledger)
		}
	}
	return out, nil
}

// LedgerChecked is how much of a ledger was checked, and what is wrong.
type LedgerChecked struct {
	Parts    int      `json:"parts"`
	Segments int      `json:"segments"`
	Rows     int64    `json:"rows"`  // that were read back
	Gone     int      `json:"gone"`  // segments whose rows were destroyed, so that their records alone were checked
	Cold     int      `json:"cold"`  // segments whose rows are in cold storage, likewise
	Wrong    []string `json:"wrong"` // none: it holds
}

// CheckLedger checks a ledger with nothing but what lies at some places: that its numbers and digests add up, that the
// records are there by their hashes, that they add up to the ledger, and that the rows are those that the records tell
// of.
func CheckLedger(ctx context.Context, l *RunLedger, places []archive.Place) (*LedgerChecked, error) {
	out := &LedgerChecked{Wrong: []string{}}
	if l.Format != LedgerFormat {
		return nil, fmt.Errorf("it is no ledger of this version (format %q)", l.Format)
	}
	for i := range l.Parts {
		p := &l.Parts[i]
		c := &ledgerCheck{out: out, part: p, places: places}
		if err := c.run(ctx); err != nil {
			return nil, err
		}
		out.Parts++
	}
	return out, nil
}

type ledgerCheck struct {
	out    *LedgerChecked
	part   *LedgerPart
	places []archive.Place
	sum    catalog.Ledger // by the closing records
	gone   value.Set
	left   value.Set
}

func (c *ledgerCheck) wrong(format string, args ...any) {
	c.out.Wrong = append(c.out.Wrong, fmt.Sprintf("%s, clause %s: ", c.part.Table, c.part.Label)+
		fmt.Sprintf(format, args...))
}

func (c *ledgerCheck) run(ctx context.Context) error {
	l := &c.part.Ledger
	if l.Copied != l.Deleted+l.LeftOut() {
		c.wrong("%d rows read are not %d deleted and %d not deleted", l.Copied, l.Deleted, l.LeftOut())
	}
	copied, one := value.ParseSet(l.CopiedDigest)
	gone, two := value.ParseSet(l.DeletedDigest)
	left, three := value.ParseSet(l.LeftDigest)
	if l.Copied > 0 && errors.Join(one, two, three) != nil {
		c.wrong("its digests cannot be read")
		return nil
	}
	total := gone
	if total.Merge(left); total != copied {
		c.wrong("the digests of what was deleted and of what was left out do not add up to that of what was read")
	}
	if len(c.part.Segments) == 0 {
		return nil
	}
	for i := range c.part.Segments {
		if err := c.segment(ctx, &c.part.Segments[i]); err != nil {
			return err
		}
	}
	if c.sum.Deleted != l.Deleted+l.Unlinked && c.sum.Deleted != l.Deleted || c.sum.Changed != l.Changed ||
		c.sum.Vanished != l.Vanished || c.sum.Held != l.Held || c.sum.Skipped != l.Skipped {
		c.wrong("the closing records tell of %d deleted, %d changed, %d vanished, %d held and %d skipped rows, and "+
			"the ledger of %d, %d, %d, %d and %d", c.sum.Deleted, c.sum.Changed, c.sum.Vanished, c.sum.Held,
			c.sum.Skipped,
			l.Deleted, l.Changed, l.Vanished, l.Held, l.Skipped)
	}
	if c.gone != gone || c.left != left {
		c.wrong("the digests of the closing records do not add up to those of the ledger")
	}
	return nil
}

// segment checks the records and rows of one segment.
func (c *ledgerCheck) segment(ctx context.Context, s *LedgerSegment) error {
	for _, p := range c.places {
		m, hash, err := archive.LoadManifest(ctx, p.Store, s.Stem)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		} else if errors.Is(err, archive.ErrDamaged) || err == nil && hash != s.ManifestHash {
			c.wrong("segment %s: its manifest at %s is not the one that the ledger tells of", s.Segment, p.Name)
			continue
		} else if err != nil {
			return fmt.Errorf("store %s: %w", p.Name, err)
		}
		books, hash, err := archive.LoadClosing(ctx, p.Store, m)
		if err != nil && !errors.Is(err, archive.ErrDamaged) {
			return fmt.Errorf("store %s: %w", p.Name, err)
		}
		if err != nil || books == nil || hash != s.ClosingHash {
			c.wrong("segment %s: its closing record at %s is not the one that the ledger tells of", s.Segment, p.Name)
			continue
		}
		c.out.Segments++
		c.sum.Deleted += books.Deleted
		c.sum.Changed += int64(len(books.Changed))
		c.sum.Vanished += int64(len(books.Vanished))
		c.sum.Held += int64(len(books.Held))
		c.sum.Skipped += int64(len(books.Skipped))
		c.gone.Merge(books.Digest)
		c.left.Merge(books.Left)
		return c.rows(ctx, s, m)
	}
	c.wrong("segment %s: its records are at none of these places", s.Segment)
	return nil
}

func (c *ledgerCheck) rows(ctx context.Context, s *LedgerSegment, m *archive.Manifest) error {
	var last error
	for _, p := range c.places {
		f, err := p.Store.Open(ctx, m.RowsName())
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil {
			f.Close()
			if err = archive.Verify(ctx, p.Store, m, nil); err == nil {
				c.out.Rows += m.Rows
				return nil
			}
		}
		last = err
	}
	switch {
	case last == nil && s.DisposalHash != "":
		c.out.Gone++
	case last == nil && s.RowsStore != "":
		c.wrong("segment %s: its rows are at none of these places; they lay in store %s when the ledger was made",
			s.Segment, s.RowsStore)
	case last == nil:
		c.wrong("segment %s: its rows are at none of these places", s.Segment)
	case shelf.IsCold(last):
		c.out.Cold++
	default:
		c.wrong("%v", last)
	}
	return ctx.Err()
}

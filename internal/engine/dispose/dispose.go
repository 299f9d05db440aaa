package dispose

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/source"
)

// PlanDisposal finds out which segments of a rule's table have been in the archive long enough, and which stay, and
// why. It keeps that as a disposal that somebody has to decide on; nothing is destroyed. table is one whose related
// rows the rule archived; empty: the rule's own.
func (ds *Disposer) Plan(ctx context.Context, actor, ruleName, table, note string) (*catalog.Disposal, error) {
	r, err := ds.Catalog.Rule(ctx, ruleName)
	if err != nil {
		return nil, err
	}
	d := &catalog.Disposal{DisposalOrder: catalog.DisposalOrder{ID: ulid.Make().String(), Kind: catalog.KindDisposal,
		Source: r.Source, Table: r.Table, Rule: r.Name, Revision: r.Revision, Note: note,
		CreatedAt: catalog.At(ds.Now()), CreatedBy: actor},
		DisposalStanding: catalog.DisposalStanding{State: catalog.DisposalPlanned}}
	if table != "" {
		d.Table = table
	}
	keep, err := governing(&r.Body.V)
	if err != nil {
		return nil, err
	}
	d.Keep = keep.String()
	needs, err := ds.shelf.NeedsOf(ctx, d.Source)
	if err != nil {
		return nil, err
	}
	d.Items.V, d.Stays.V, d.Remains.V = []catalog.DisposalItem{}, []catalog.DisposalStay{}, []string{}
	some := false
	for s, err := range ds.Catalog.EachSegment(ctx, catalog.SegmentFilter{Source: d.Source, Table: d.Table}) {
		if err != nil {
			return nil, err
		}
		if some = true; s.State == catalog.SegmentDisposed {
			continue
		}
		item, stay, err := ds.disposable(ctx, &r.Body.V, s, keep, needs)
		if err != nil {
			return nil, err
		}
		if stay != nil {
			d.Stays.V = append(d.Stays.V, *stay)
		} else {
			d.Items.V = append(d.Items.V, *item)
		}
	}
	if !some {
		return nil, &refuse.Error{Field: "table", Message: fmt.Sprintf("nothing of %s.%s is archived", d.Source,
			d.Table), Remedy: ds.shelf.NearestArchived(ctx, d.Source, d.Table)}
	}
	return d, ds.Catalog.AddDisposal(ctx, d)
}

// governing is how long every segment of a rule's table stays by the rule as it is now: the longest of the keeps of
// its clauses that archive, so that a clause that was moved or reworded never shortens another's.
func governing(r *rule.Rule) (period.Period, error) {
	var longest *period.Period
	for i := range r.Clauses {
		c := r.Effective(i)
		if !c.Then.Copies() {
			continue
		}
		if c.Archive.Keep == nil {
			return period.Period{}, &refuse.Error{Field: "rule",
				Message: fmt.Sprintf("rule %s keeps what it archives without end (%s has no archive.keep)", r.Name,
					r.Label(i)), Remedy: "give every clause that archives an archive.keep"}
		}
		if longest == nil || shelf.Longer(*c.Archive.Keep, *longest) {
			longest = c.Archive.Keep
		}
	}
	if longest == nil {
		return period.Period{}, &refuse.Error{Field: "rule",
			Message: fmt.Sprintf("rule %s archives nothing, so nothing says how long its segments stay; they are kept",
				r.Name), Remedy: "a rule that archives, with archive.keep, governs the segments of its table"}
	}
	return *longest, nil
}

// disposable says of a segment that its time is over, or why it stays: the keep under which it was archived and that
// of the rule as it is now must both be over, its run must have ended, and no hold may stand on any of its rows.
func (ds *Disposer) disposable(ctx context.Context, r *rule.Rule, s *catalog.Segment, keep period.Period,
	needs *shelf.Needs) (*catalog.DisposalItem, *catalog.DisposalStay, error) {
	stays := func(due *catalog.Time, format string, args ...any) (*catalog.DisposalItem, *catalog.DisposalStay,
		error) {
		return nil, &catalog.DisposalStay{Segment: s.ID, Due: due, Reason: fmt.Sprintf(format, args...)}, nil
	}
	if reason, err := ds.undecided(ctx, s); err != nil {
		return nil, nil, err
	} else if reason != "" {
		return stays(nil, "%s", reason)
	}
	st, err := ds.shelf.StoreOf(ctx, s)
	if err != nil {
		return nil, nil, err
	}
	m, books, err := ds.shelf.Load(ctx, st, s)
	if err != nil {
		return stays(nil, "its records cannot be read: %v", err)
	}
	if m.Rule != r.Name {
		if _, err := ds.Catalog.Rule(ctx, m.Rule); errors.Is(err, catalog.ErrNotFound) {
			return stays(nil, "its rule %s is not there any more, so nothing governs it: it is kept", m.Rule)
		}
		return stays(nil, "rule %s archived it, and governs it", m.Rule)
	}
	if m.Keep == "" {
		return stays(nil, "it was archived without an end (revision %d of rule %s)", m.Revision, m.Rule)
	}
	own, err := period.Parse(m.Keep)
	if err != nil {
		return stays(nil, "its keep %q cannot be read", m.Keep)
	}
	due, now := tables.KeptUntil(m, s.Newest, m.KeepFrom, &own), tables.KeptUntil(m, s.Newest, r.Archive.From, &keep)
	if due == nil || now == nil {
		return stays(nil, "its keep counts from the age of its rows, and its newest age %q is no time", s.Newest)
	}
	if now.After(due.Time) {
		due = now
	}
	if r, err := needs.By(ctx, s); err != nil {
		return nil, nil, err
	} else if r != nil {
		return stays(due, "restore %s has put rows of it back for a time, which compares them with it in the end",
			r.ID)
	}
	p := &parting{engine: ds, segment: s, manifest: m, books: books,
		terms: []keptFor{{own, m.KeepFrom}, {keep, r.Archive.From}}}
	if p.filters, p.whole, err = ds.holdsOver(ctx, s, m); err != nil {
		return nil, nil, err
	}
	item := p.item(foundRows{}, *due)
	reason, err := p.decide(ctx, item)
	if err != nil {
		return nil, nil, err
	}
	if reason != "" {
		return stays(due, "%s", reason)
	}
	if until, name, err := ds.lockedUntil(ctx, s, m); err != nil {
		return nil, nil, err
	} else if until.After(ds.Now()) {
		at := catalog.At(until)
		return stays(&at, "store %s itself keeps a version of its files until %s, whatever a rule says", name,
			until.UTC().Format("2006-01-02 15:04:05 UTC"))
	}
	return item, nil, nil
}

// lockedUntil says until when a store keeps files of a segment from being removed, and which; the zero time: none
// does.
func (ds *Disposer) lockedUntil(ctx context.Context, s *catalog.Segment, m *archive.Manifest) (until time.Time,
	where string, err error) {
	for _, place := range s.Stores() {
		st, err := ds.Store(ctx, place)
		if err != nil {
			return until, "", err
		}
		for _, name := range append(m.RowFiles(), m.RangeName()) {
			one, err := st.KeptUntil(ctx, name)
			if err != nil {
				return until, "", fmt.Errorf("store %s: %w", place, err)
			}
			if one.After(until) {
				until, where = one, place
			}
		}
	}
	return until, where, nil
}

// holdsOver returns the filters of the holds that may stand on rows of a segment, and a hold that stands on all of
// them: on the segment itself, or by a condition that cannot be judged on archived rows.
func (ds *Disposer) holdsOver(ctx context.Context, s *catalog.Segment, m *archive.Manifest) (filters []heldFilter,
	whole *catalog.Hold, err error) {
	own, err := ds.shelf.Named(ctx, m)
	if err != nil {
		return nil, nil, err
	}
	holds, err := ds.Catalog.TableHolds(ctx, s.Source, s.Table)
	for i := range holds {
		h := &holds[i]
		if slices.Contains(h.Segments.V, s.ID) || slices.Contains(h.Segments.V, m.First()) ||
			slices.Contains(h.Segments.V, m.Rewrites) {
			return nil, h, nil
		}
		if h.Filter == "" {
			continue
		}
		f, err := shelf.BindArchived(h.Filter, own, own)
		if err != nil || m.Masked != nil && touches(f, m) {
			return nil, h, nil
		}
		filters = append(filters, heldFilter{h, f})
	}
	return filters, nil, err
}

// heldFilter is a hold with its condition, bound to the columns of a segment.
type heldFilter struct {
	hold   *catalog.Hold
	filter *filter.Filter
}

// touches says whether a filter looks at a column that was archived in another form, so that it cannot be judged.
func touches(f *filter.Filter, m *archive.Manifest) bool {
	for _, c := range f.Columns() {
		if c.Index < len(m.Columns) && m.Masked[m.Columns[c.Index].Name] != "" {
			return true
		}
	}
	return false
}

// Dispose carries a disposal out that was decided on. It can be called again after it stopped anywhere; Waiting says
// that something does not answer.
func (ds *Disposer) Dispose(ctx context.Context, d *catalog.Disposal) error {
	err := ds.disposeOf(ctx, d)
	if tables.Away(err) && tables.Passing(err) {
		return &tables.Waiting{Reason: tables.Waits(err), Why: err}
	}
	return err
}

func (ds *Disposer) disposeOf(ctx context.Context, d *catalog.Disposal) error {
	claiming, cancel := context.WithTimeoutCause(ctx, tables.ClaimWait,
		&refuse.Error{Message: fmt.Sprintf("a run is at work on table %s.%s", d.Source, d.Table),
			Remedy: "wait until it has ended, or pause it; then start the disposal again"})
	defer cancel()
	release, err := ds.tables.Claim(claiming, d.Source, []string{d.Table})
	if err != nil {
		return err
	}
	defer release()
	src, err := ds.Source(ctx, d.Source)
	if err != nil {
		return err
	}
	if err := src.PrepareJournal(ctx); err != nil {
		return err
	}
	lease, _, err := ds.tables.TakeTable(ctx, src, d.Source, d.Table, d.ID)
	if err != nil {
		return err
	}
	defer func() {
		if err := src.ReleaseLease(context.WithoutCancel(ctx), lease); err != nil {
			ds.Log.Error("a lease cannot be released", "table", d.Table, "error", err)
		}
	}()
	newest, err := ds.tables.AdvanceHead(ctx, src, d.Source, d.Table)
	if err != nil {
		return err
	}
	var r *catalog.Rule
	if d.Kind == catalog.KindDisposal {
		if r, err = ds.Catalog.Rule(ctx, d.Rule); err != nil {
			return err
		}
	}
	for i := range d.Items.V {
		if err := context.Cause(ctx); err != nil {
			return err
		}
		item := &d.Items.V[i]
		if item.Destroyed != nil {
			continue
		}
		if newest, err = ds.destroy(ctx, d, item, r, src, newest); err != nil {
			return fmt.Errorf("segment %s: %w", item.Segment, err)
		}
		if err := ds.Catalog.SaveDisposalItem(ctx, d, i); err != nil {
			return err
		}
	}
	if !slices.ContainsFunc(d.Items.V, func(item catalog.DisposalItem) bool { return item.Destroyed != nil }) {
		return nil
	}
	return ds.clearTable(ctx, d)
}

// destroy destroys one segment: its disposal record first, which the catalog and then the source hear of, then its
// files. It returns the newest link of the table's chain.
func (ds *Disposer) destroy(ctx context.Context, d *catalog.Disposal, item *catalog.DisposalItem, r *catalog.Rule,
	src source.Source, newest source.Head) (source.Head, error) {
	s, err := ds.Catalog.Segment(ctx, item.Segment)
	if err != nil {
		return newest, err
	}
	st, err := ds.Store(ctx, s.Store)
	if err != nil {
		return newest, err
	}
	m, _, err := archive.LoadManifest(ctx, st, s.Stem)
	if err != nil {
		return newest, err
	}
	item.Left = ""
	if s.State == catalog.SegmentClosed {
		if newest, err = ds.part(ctx, &destruction{d, item, r, s, m, src}, newest); err != nil || item.Left != "" {
			return newest, err
		}
	} else if s.State != catalog.SegmentDisposed || s.Disposal != d.ID {
		item.Left = fmt.Sprintf("it is %s", s.State)
		if s.Disposal != "" {
			item.Left += " by disposal " + s.Disposal
		}
		return newest, nil
	}
	item.Record, item.Sequence = s.DisposalHash, s.DisposalSeq
	// with the records of what stays, after an interruption
	if newest, err = ds.tables.AdvanceHead(ctx, src, s.Source, s.Table); err != nil {
		return newest, err
	}
	if err := ds.removeFiles(ctx, item, s.ID, m); err != nil {
		return newest, err
	}
	now := catalog.At(ds.Now())
	item.Destroyed, s.DisposedAt = &now, &now
	return newest, ds.Catalog.SaveSegment(ctx, s)
}

// destruction is one segment of a disposal that is being destroyed.
type destruction struct {
	disposal *catalog.Disposal
	item     *catalog.DisposalItem
	rule     *catalog.Rule // nil where that is gone
	segment  *catalog.Segment
	manifest *archive.Manifest
	source   source.Source
}

// part writes the disposal record of a segment. Where rows of it stay, those stand in a segment of their own before
// anybody reads the archive again.
func (ds *Disposer) part(ctx context.Context, x *destruction, newest source.Head) (source.Head, error) {
	if x.item.Kept > 0 {
		if err := ds.shelf.Exclude(ctx); err != nil {
			return newest, err
		}
		defer ds.shelf.Reading.Unlock()
	}
	now, err := ds.Catalog.Segment(ctx, x.segment.ID) // it may have been moved while the lock was waited for
	if err != nil {
		return newest, err
	}
	*x.segment = *now
	newest, err = ds.record(ctx, x, newest)
	if err != nil || x.item.Left != "" || x.item.Successor == "" {
		return newest, err
	}
	return ds.tables.AdvanceHead(ctx, x.source, x.segment.Source, x.segment.Table)
}

// record decides once more that a segment may go, and writes its disposal record. A hold that is placed meanwhile
// waits for that.
func (ds *Disposer) record(ctx context.Context, w *destruction, newest source.Head) (source.Head, error) {
	d, item, s := w.disposal, w.item, w.segment
	gate := ds.tables.Gate(s.Source, s.Table)
	gate.RLock()
	defer gate.RUnlock()
	again, p, left, err := ds.decideAgain(ctx, d, w.rule, s)
	if err != nil || left != "" {
		item.Left = left
		return newest, err
	}
	item.Kept, item.Why, item.Successor = again.Kept, again.Why, ""
	var successor *archive.Successor
	if item.Kept > 0 {
		if successor, err = ds.rewrite(ctx, p); err != nil {
			return newest, err
		}
		item.Kept, item.Successor = successor.Rows, successor.Segment
	}
	s.Disposal = d.ID
	if err := ds.Catalog.SaveSegment(ctx, s); err != nil { // from here on it is known that there may be a record
		return newest, err
	}
	st, err := ds.Store(ctx, s.Store)
	if err != nil {
		return newest, err
	}
	x := &archive.Disposal{Disposal: d.ID, Erasure: d.Kind == catalog.KindErasure, Rule: d.Rule, Keep: item.Keep,
		Due: item.Due.Time, By: d.DecidedBy, At: ds.Now(), Successor: successor,
		Link: archive.Link{Sequence: newest.Sequence + 1, Previous: newest.Hash}}
	if w.rule != nil {
		x.Revision = w.rule.Revision
	}
	hash, err := archive.WriteDisposal(ctx, st, w.manifest, x)
	if err != nil {
		return newest, err
	}
	s.State, s.DisposalSeq, s.DisposalHash, s.Erased = catalog.SegmentDisposed, x.Sequence, hash, x.Erasure
	if err := ds.Catalog.SaveSegment(ctx, s); err != nil {
		return newest, err
	}
	newest = source.Head{Sequence: x.Sequence, Hash: hash}
	if err := tables.Retry(ctx, ds.Log, func() error { return w.source.SetHead(ctx, s.Table, newest) }); err != nil {
		return newest, err
	}
	return newest, ds.Catalog.Note(ctx, d.DecidedBy, "chain", s.Source+"."+s.Table,
		fmt.Sprintf("link %d: %s", newest.Sequence, newest.Hash))
}

// decideAgain says of a segment what becomes of it now, and which of its rows stay, or why all of them do.
func (ds *Disposer) decideAgain(ctx context.Context, d *catalog.Disposal, r *catalog.Rule,
	s *catalog.Segment) (item *catalog.DisposalItem, p *parting, left string, err error) {
	var stay *catalog.DisposalStay
	needs, err := ds.shelf.NeedsOf(ctx, s.Source)
	if err != nil {
		return nil, nil, "", err
	}
	if d.Kind == catalog.KindErasure {
		columns, err := ds.search.ArchivedColumns(ctx, s.Source, s.Table)
		if err == nil {
			item, stay, err = ds.erasable(ctx, d, s, columns, needs)
		}
		if err == nil && item != nil {
			p, err = ds.erasing(ctx, d, s, columns)
		}
		if err != nil {
			return nil, nil, "", err
		}
	} else {
		keep, err := governing(&r.Body.V)
		if err != nil {
			return nil, nil, err.Error(), nil
		}
		if item, stay, err = ds.disposable(ctx, &r.Body.V, s, keep, needs); err == nil && item != nil {
			p, err = ds.disposing(ctx, &r.Body.V, s, keep)
		}
		if err != nil {
			return nil, nil, "", err
		}
	}
	switch {
	case stay != nil:
		return nil, nil, stay.Reason, nil
	case item == nil:
		return nil, nil, "it holds no such row", nil
	}
	return item, p, "", nil
}

// removeFiles removes every file of a segment that tells its rows or their values from every store, once nobody reads,
// copies or moves anything: whole files and those that were begun, wherever a copy was ever made. Then each store is
// listed once more. A store that does not answer stops it where the segment is known to lie there, and is named as
// what remains where it is not.
func (ds *Disposer) removeFiles(ctx context.Context, item *catalog.DisposalItem, id string,
	m *archive.Manifest) error {
	if err := ds.shelf.Exclude(ctx); err != nil {
		return err
	}
	defer ds.shelf.Reading.Unlock()
	s, err := ds.Catalog.Segment(ctx, id) // as it is now: a second copy may have been made meanwhile
	if err != nil {
		return err
	}
	records, err := ds.Store(ctx, s.Store)
	if err != nil {
		return err
	}
	if d, hash, err := archive.LoadDisposal(ctx, records, m); err != nil {
		return err
	} else if d == nil || hash != s.DisposalHash {
		return fmt.Errorf("segment %s has no disposal record that the catalog knows, so its files stay", s.ID)
	}
	stores, err := ds.Catalog.Stores(ctx)
	if err != nil {
		return err
	}
	item.Searched, item.Remains = []string{}, nil
	for _, c := range stores {
		st, err := ds.Store(ctx, c.Name)
		if err == nil {
			err = clearOf(ctx, records, st, m)
		}
		switch {
		case err == nil:
			item.Searched = append(item.Searched, c.Name)
		case s.Leaving == c.Name || slices.Contains(s.Stores(), c.Name) || errors.Is(err, errStillThere):
			return fmt.Errorf("store %s: %w", c.Name, err)
		default:
			item.Remains = append(item.Remains, fmt.Sprintf("store %s could not be searched for an old copy: %v",
				c.Name, err))
		}
	}
	return nil
}

// errStillThere says that a file that was removed is still listed.
var errStillThere = errors.New("a file that was removed is still there")

// clearOf removes a segment's files from one store, and leaves the record of that where it had a copy.
func clearOf(ctx context.Context, records, st store.Store, m *archive.Manifest) error {
	whole, begun, err := shelf.FilesOf(ctx, st, m)
	if err != nil {
		return err
	}
	if f, err := st.Open(ctx, m.ManifestName()); err == nil {
		f.Close()
		if err := shelf.CopyOnce(ctx, records, st, m.DisposalName()); err != nil {
			return err
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, name := range whole {
		if err := st.Remove(ctx, name); err != nil {
			return err
		}
	}
	for _, u := range begun {
		if err := st.RemoveUnfinished(ctx, u); err != nil {
			return err
		}
	}
	if whole, begun, err = shelf.FilesOf(ctx, st, m); err != nil {
		return err
	}
	for _, u := range begun {
		whole = append(whole, u.Name)
	}
	if len(whole) > 0 {
		return fmt.Errorf("%w: %s", errStillThere, strings.Join(whole, ", "))
	}
	return nil
}

// clearTable removes from every store what runs of a table left behind that came to no segment: it may hold rows that
// were destroyed. What cannot be told to be left over stays, and is named.
func (ds *Disposer) clearTable(ctx context.Context, d *catalog.Disposal) error {
	stores, err := ds.Catalog.Stores(ctx)
	if err != nil {
		return err
	}
	d.Remains.V = []string{}
	prefix := archive.TablePrefix(d.Source, d.Table)
	for _, c := range stores {
		swept, err := ds.sweeps.SweepBelow(ctx, d.DecidedBy, c.Name, prefix, ds.Now().AddDate(100, 0, 0), true)
		if err != nil {
			d.Remains.V = append(d.Remains.V,
				fmt.Sprintf("store %s could not be searched for what runs left behind: %v", c.Name, err))
			continue
		}
		for _, f := range swept.Files {
			if !f.Removed {
				d.Remains.V = append(d.Remains.V, fmt.Sprintf("store %s, %s: %s", c.Name, f.File, f.Reason))
			}
		}
	}
	return ds.Catalog.SaveDisposalRemains(ctx, d)
}

// Certificate is what remains of a disposal: what was destroyed, by which rule, by whose decision.
type Certificate struct {
	CertificateOf
	CertificateSums
	CertificateLists
}

// CertificateOf is what a certificate is about: a disposal, and who decided it.
type CertificateOf struct {
	Format    string       `json:"format"`
	Kind      string       `json:"kind"` // disposal or erasure
	Disposal  string       `json:"disposal"`
	Source    string       `json:"source"`
	Table     string       `json:"table"`
	Rule      string       `json:"rule"`
	Revision  int          `json:"revision"`
	Keep      string       `json:"keep"`
	Note      string       `json:"note"`
	PlannedBy string       `json:"planned_by"`
	PlannedAt catalog.Time `json:"planned_at"`
	DecidedBy string       `json:"decided_by"`
	DecidedAt catalog.Time `json:"decided_at"`
}

// CertificateSums is how much was destroyed.
type CertificateSums struct {
	Segments int    `json:"segments"` // of which all files were destroyed
	Rows     int64  `json:"rows"`     // destroyed
	Kept     int64  `json:"kept"`     // of the same segments, that stay in segments of their own
	Bytes    int64  `json:"bytes"`    // of files, in each store
	Oldest   string `json:"oldest"`
	Newest   string `json:"newest"`
}

// CertificateLists is what was destroyed, and what was not.
type CertificateLists struct {
	Destroyed []catalog.DisposalItem `json:"destroyed"`
	Left      []catalog.DisposalItem `json:"left"`    // what was to be destroyed and was not, with the reason
	Remains   []string               `json:"remains"` // what may hold such rows still, where, and why
	Issued    catalog.Time           `json:"issued"`
	Instance  string                 `json:"instance"` // the service that did it
}

// CertificateFormat is the name of the format of certificates, with its version.
const CertificateFormat = "ambercellar-certificate/1"

// Certificate makes the certificate of a disposal that has been carried out.
func (ds *Disposer) Certificate(ctx context.Context, id string) (*Certificate, error) {
	d, err := ds.Catalog.Disposal(ctx, id)
	if err != nil {
		return nil, err
	}
	if d.State != catalog.DisposalDone {
		return nil, fmt.Errorf("disposal %s is %s, and a certificate is of what was done: %w", id, d.State,
			catalog.ErrState)
	}
	out := &Certificate{CertificateOf: CertificateOf{Format: CertificateFormat, Kind: d.Kind, Disposal: d.ID,
		Source: d.Source, Table: d.Table, Rule: d.Rule, Revision: d.Revision, Keep: d.Keep, Note: d.Note,
		PlannedBy: d.CreatedBy, PlannedAt: d.CreatedAt, DecidedBy: d.DecidedBy, DecidedAt: *d.DecidedAt},
		CertificateLists: CertificateLists{Destroyed: []catalog.DisposalItem{}, Left: []catalog.DisposalItem{},
			Remains: append([]string{}, d.Remains.V...), Issued: *d.EndedAt, Instance: ds.Instance}}
	for _, item := range d.Items.V {
		if item.Destroyed == nil {
			out.Left = append(out.Left, item)
			continue
		}
		out.Destroyed = append(out.Destroyed, item)
		for _, r := range item.Remains {
			out.Remains = append(out.Remains, "segment "+item.Segment+": "+r)
		}
		out.Segments++
		out.Rows += item.Rows - item.Kept
		out.Kept += item.Kept
		out.Bytes += item.Bytes
		if out.Oldest == "" || item.Oldest < out.Oldest {
			out.Oldest = item.Oldest
		}
		out.Newest = max(out.Newest, item.Newest)
	}
	return out, nil
}

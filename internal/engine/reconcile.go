package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// compareLineage compares what the source says of a table with what the catalog knows. One lease may have been taken of which
// the catalog never heard, since a stop can come in between.
func compareLineage(known *catalog.Lineage, now source.Lineage) (differences []string) {
	if known == nil {
		return nil
	}
	switch {
	case now.Identity == "":
		return []string{"the source has no journal any more: it was dropped, or the database was made anew, or turned back to a time before the first run"}
	case now.Identity != known.Identity:
		return []string{"the address leads to another database than before, or its journal was made anew"}
	case now.Epoch < known.Epoch:
		return []string{fmt.Sprintf("the source's journal is at lease %d of the table and the catalog has seen lease %d: the database was turned back, or a replica took over that had not got everything", now.Epoch, known.Epoch)}
	case now.Epoch > known.Epoch+1:
		return []string{fmt.Sprintf("the source's journal is at lease %d of the table and the catalog has seen no more than %d: the catalog was turned back, or another service has worked on the table", now.Epoch, known.Epoch)}
	}
	return nil
}

// Agree says whether source, store and catalog tell the same of a table; a refuse.Disagree where they do not.
func (e *Engine) Agree(ctx context.Context, sourceName, table string) error {
	src, err := e.Source(ctx, sourceName)
	if err != nil {
		return err
	}
	now, err := src.Lineage(ctx, table)
	if err != nil {
		return err
	}
	known, err := e.Catalog.TableLineage(ctx, sourceName, table)
	if err != nil {
		return err
	}
	if list := compareLineage(known, now); len(list) > 0 {
		return &refuse.Disagree{Source: sourceName, Table: table, Difference: list[0]}
	}
	_, err = e.newestLink(ctx, sourceName, table, now.Head)
	return err
}

// CheckLineages compares all tables that were ever worked on, says in the log what it finds, and returns it.
func (e *Engine) CheckLineages(ctx context.Context) (found []*refuse.Disagree) {
	list, err := e.Catalog.Lineages(ctx)
	if err != nil {
		e.Log.Warn("what is known of the sources cannot be read", "error", err)
	}
	for _, l := range list {
		release := e.tryClaim(l.Source, l.Table)
		if release == nil { // what works on it has compared it, and is changing both sides
			continue
		}
		var d *refuse.Disagree
		if err := e.Agree(ctx, l.Source, l.Table); errors.As(err, &d) {
			e.Log.Error("runs of a table are stopped", "source", l.Source, "table", l.Table, "error", err)
			found = append(found, d)
		}
		release()
	}
	return found
}

// takeTable takes the lease of a table, if everybody tells the same of it, and keeps what that tells of the database. It
// returns the identity of the source's journal, too.
func (e *Engine) takeTable(ctx context.Context, src source.Source, sourceName, table, run string) (source.Lease, string, error) {
	now, err := src.Lineage(ctx, table)
	if err != nil {
		return source.Lease{}, "", err
	}
	known, err := e.Catalog.TableLineage(ctx, sourceName, table)
	if err != nil {
		return source.Lease{}, "", err
	}
	if list := compareLineage(known, now); len(list) > 0 {
		return source.Lease{}, "", &refuse.Disagree{Source: sourceName, Table: table, Difference: list[0]}
	}
	lease, err := src.TakeLease(ctx, table, e.Instance, run)
	if err != nil {
		return lease, "", err
	}
	if now.Identity == "" { // its journal was made a moment ago
		if now, err = src.Lineage(ctx, table); err != nil {
			return lease, "", err
		}
	}
	if known != nil && known.Server != now.Server {
		if err := e.Catalog.Note(ctx, "service", "another server", sourceName+"."+table, fmt.Sprintf("%s answers, and %s did before; its journal goes on where that one's stood", now.Server, known.Server)); err != nil {
			return lease, "", err
		}
	}
	return lease, now.Identity, e.Catalog.SaveLineage(ctx, catalog.Lineage{Source: sourceName, Table: table, Identity: now.Identity, Server: now.Server, Epoch: lease.Epoch})
}

// take takes the lease of a table for the run.
func (r *runner) take(ctx context.Context, table string) (err error) {
	r.leases[table], r.history[table], err = r.takeTable(ctx, r.source, r.run.Source, table, r.run.ID)
	return err
}

// sameHistory makes sure, after the database was out of reach, that what answers now has everything that was committed before:
// the lease, and the newest batch.
func (r *runner) sameHistory(ctx context.Context) error {
	if !r.lost.Load() {
		return nil
	}
	table := r.table.Name
	now, err := r.source.Lineage(ctx, table)
	if err != nil {
		return err
	}
	if now.Identity != r.history[table] || now.Epoch < r.leases[table].Epoch {
		return &refuse.Disagree{Source: r.run.Source, Table: table, Difference: "what answers after the outage does not know the lease of this run"}
	}
	r.booking.Lock()
	last := r.newest
	r.booking.Unlock()
	if last != nil {
		rows, err := r.source.Journal(ctx, r.run.ID, last.Segment)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(rows, func(x source.JournalRow) bool { return x.Batch == last.Batch }) {
			return &refuse.Disagree{Source: r.run.Source, Table: table, Difference: fmt.Sprintf("batch %d of slice %d was committed before the outage, and what answers now does not know it", last.Batch, last.Segment)}
		}
	}
	r.lost.Store(false)
	return nil
}

// Reconciliation is what source, stores and catalog tell of a table, side by side.
type Reconciliation struct {
	Source      string           `json:"source"`
	Table       string           `json:"table"`
	Agree       bool             `json:"agree"`
	Differences []string         `json:"differences"` // in words
	Known       *catalog.Lineage `json:"known"`       // to the catalog; null: no run has worked on the table
	Identity    string           `json:"identity"`    // of the source's journal; empty: it has none
	Server      string           `json:"server"`
	Epoch       int64            `json:"epoch"`
	SourceLink  int64            `json:"source_link"`  // the newest link of the chain that the source's journal knows
	CatalogLink int64            `json:"catalog_link"` // that the catalog knows
	StoreLink   int64            `json:"store_link"`   // that lies in the stores
	Unknown     []string         `json:"unknown"`      // segments in the stores that the catalog does not know
	Displaced   []string         `json:"displaced"`    // segments whose rows are not in the store in which the catalog has them
	Reappeared  []Reappeared     `json:"reappeared"`   // segments whose rows were deleted after the moment that the source is at
	Settling    []string         `json:"settling"`     // what settling does, in words
	Totals      *TableTotals     `json:"totals"`       // of all rows that ever were; null where nothing was ever archived or purged
}

// TableTotals is what has become of a table's rows, over all runs. Records are what counts each of them once:
// live + archived - again - restored.
type TableTotals struct {
	Live     int64 `json:"live"`     // rows in the table now
	Counted  bool  `json:"counted"`  // they were counted; false: that took too long, and it is the database's estimate
	Archived int64 `json:"archived"` // rows in the archive that left the table, as often as they did
	Again    int64 `json:"again"`    // of these, versions of which a newer one is archived too
	Untold   int   `json:"untold"`   // segments in cold storage that may have such
	Restored int64 `json:"restored"` // live rows that were put back, and are in the archive too
	Records  int64 `json:"records"`
	Purged   int64 `json:"purged"`
	Disposed int64 `json:"disposed"` // archived once, and destroyed since
	Erased   int64 `json:"erased"`
	ByRuns   int64 `json:"by_runs"` // rows that runs have deleted, by their ledgers
	Adopted  int64 `json:"adopted"` // rows archived by runs that this catalog does not know
	AddsUp   bool  `json:"adds_up"` // by runs + adopted = archived + disposed + purged + erased
}

// Reappeared is a segment whose deletes the source has forgotten.
type Reappeared struct {
	Segment string `json:"segment"`
	Deleted int64  `json:"deleted"` // rows, by its closing record
	Live    int64  `json:"live"`    // of those, rows whose key is in the table; -1: the table has no key, so nobody can tell
}

// Reconcile compares everything that is known of a table, down to which rows are live again. It changes nothing.
func (e *Engine) Reconcile(ctx context.Context, sourceName, table string) (*Reconciliation, error) {
	src, err := e.Source(ctx, sourceName)
	if err != nil {
		return nil, err
	}
	t, err := src.Table(ctx, table)
	if err != nil {
		return nil, err
	}
	out := &Reconciliation{Source: sourceName, Table: t.Name, Differences: []string{}, Unknown: []string{}, Displaced: []string{}, Reappeared: []Reappeared{}, Settling: []string{}}
	if out.Known, err = e.Catalog.TableLineage(ctx, sourceName, t.Name); err != nil {
		return nil, err
	}
	now, err := src.Lineage(ctx, t.Name)
	if err != nil {
		return nil, err
	}
	out.Identity, out.Server, out.Epoch, out.SourceLink = now.Identity, now.Server, now.Epoch, now.Head.Sequence
	out.Differences = append(out.Differences, compareLineage(out.Known, now)...)
	newest, err := e.newestLink(ctx, sourceName, t.Name, now.Head)
	var disagree *refuse.Disagree
	if errors.As(err, &disagree) {
		out.Differences = append(out.Differences, disagree.Difference)
	} else if err != nil {
		return nil, err
	}
	out.CatalogLink, out.StoreLink = newest.Sequence, newest.Sequence
	if err := e.lookIntoStores(ctx, out); err != nil {
		return nil, err
	}
	segments, err := e.Catalog.LinksAfter(ctx, sourceName, t.Name, out.SourceLink+1) // one may be written and not noted in the source
	if err != nil {
		return nil, err
	}
	for i := range segments {
		if len(out.Differences) == 0 {
			break
		}
		live, err := e.liveAgain(ctx, src, &segments[i])
		if err != nil {
			return nil, err
		}
		out.Reappeared = append(out.Reappeared, Reappeared{Segment: segments[i].ID, Deleted: segments[i].Deleted, Live: live})
	}
	out.Agree = len(out.Differences) == 0
	out.settling()
	if len(out.Displaced) == 0 { // otherwise rows of the archive cannot be counted
		out.Totals, err = e.totals(ctx, src, sourceName, t)
	}
	return out, err
}

// liveCount is how long it may take to count the rows of a table.
const liveCount = 10 * time.Second

// totals adds up what has become of a table's rows, all of it at one moment: what runs that go on have deleted is archived.
func (e *Engine) totals(ctx context.Context, src source.Source, sourceName string, t *shape.Table) (*TableTotals, error) {
	out := &TableTotals{Live: t.Rows}
	within, cancel := context.WithTimeout(ctx, liveCount)
	live, m, err := e.liveCounted(within, src, sourceName, t)
	cancel()
	switch {
	case err == nil:
		out.Live, out.Counted = live, true
	case ctx.Err() != nil:
		return nil, ctx.Err()
	default:
		if m, err = e.readMoment(ctx, sourceName, t.Name); err != nil {
			return nil, err
		}
	}
	going := m.runs
	if m.untold != "" {
		going = nil
	}
	sums, err := e.Catalog.SegmentSums(ctx, sourceName, t.Name, going)
	if err != nil {
		return nil, err
	}
	out.Archived, out.Disposed, out.Erased, out.Adopted = sums.Archived, sums.Disposed, sums.Erased, sums.Adopted
	runs, err := e.Catalog.RunsOf(ctx, sourceName)
	if err != nil {
		return nil, err
	}
	for i := range runs {
		byRun(&runs[i], t.Name, out, !slices.Contains(going, runs[i].ID))
	}
	for _, run := range going {
		known := slices.ContainsFunc(runs, func(r catalog.Run) bool { return r.ID == run })
		if err := e.addInFlight(ctx, out, run, t.Name, m, known); err != nil {
			return nil, err
		}
	}
	if out.ByRuns == 0 && out.Adopted == 0 {
		return nil, nil
	}
	if !t.ByAddress() {
		list, err := e.restoredInto(ctx, sourceName, src, t)
		if err != nil {
			return nil, err
		}
		for _, r := range list {
			n, err := src.RestoredLive(ctx, t, r.ID)
			if err != nil {
				return nil, err
			}
			out.Restored += n
		}
	}
	if out.Archived > 0 {
		h, err := e.hunt(ctx, SearchRequest{Source: sourceName, Table: t.Name}, m)
		var none *refuse.Error
		if err != nil && !errors.As(err, &none) { // none is closed yet
			return nil, err
		}
		if err == nil {
			again, err := h.superseded(ctx, nil)
			if err != nil {
				return nil, err
			}
			out.Again, out.Untold = again.rows, again.untold
		}
	}
	out.Records = out.Live + out.Archived - out.Again - out.Restored
	out.AddsUp = out.ByRuns+out.Adopted == out.Archived+out.Disposed+out.Purged+out.Erased
	return out, nil
}

// addInFlight adds the rows that a run had deleted at a moment and archived before.
func (e *Engine) addInFlight(ctx context.Context, out *TableTotals, run, table string, m *moment, known bool) error {
	segments, err := e.Catalog.RunSegments(ctx, run)
	if err != nil {
		return err
	}
	segments = slices.DeleteFunc(segments, func(s catalog.Segment) bool {
		return s.Table != table || s.State != catalog.SegmentOpen && s.State != catalog.SegmentClosed
	})
	m.number(segments)
	for i := range segments {
		s := &segments[i]
		gone := int64(0)
		switch m.of(s) {
		case allTold:
			gone = s.Deleted
		case someTold:
			if _, gone, err = m.left(s, s.Rows); err != nil {
				return err
			}
		}
		if out.Archived += gone; known {
			out.ByRuns += gone
		} else {
			out.Adopted += gone
		}
	}
	return nil
}

// byRun adds what a run has deleted of a table; of one that goes on only what it has purged.
func byRun(r *catalog.Run, table string, out *TableTotals, whole bool) {
	add := func(then string, l *catalog.Ledger) {
		purges := rule.Then(then) == rule.ThenPurge
		if purges || whole {
			out.ByRuns += l.Deleted
		}
		if purges {
			out.Purged += l.Deleted
		}
	}
	for i := range r.Passes.V {
		p := &r.Passes.V[i]
		if r.Table == table {
			add(p.Then, &p.Ledger)
		}
		for j := range p.Related {
			if x := &p.Related[j]; x.Table == table {
				add(x.Then, &x.Ledger)
			}
		}
	}
}

// settling says what Settle would do.
func (x *Reconciliation) settling() {
	if x.Agree {
		return
	}
	if n := len(x.Unknown); n > 0 {
		x.Settling = append(x.Settling, fmt.Sprintf("the catalog takes up %d segments that lie in the stores", n))
	}
	if n := len(x.Displaced); n > 0 {
		x.Settling = append(x.Settling, fmt.Sprintf("the catalog finds out from the stores where the rows of %d segments are", n))
	}
	var live int64
	untold := false
	for _, r := range x.Reappeared {
		live += max(r.Live, 0)
		untold = untold || r.Live < 0
	}
	if untold {
		x.Settling = append(x.Settling, "the table has no key, so nobody can tell which of its archived rows are live again; those that are stay, and the next run archives them once more")
	}
	if live > 0 {
		x.Settling = append(x.Settling, fmt.Sprintf("%s rows that were archived and deleted are live again; they stay, and are due like any: the next run archives them once more, and of two archived versions the newer counts", humanize.Comma(live)))
	}
	if link := max(x.StoreLink, x.CatalogLink); link != x.SourceLink {
		x.Settling = append(x.Settling, fmt.Sprintf("the source's journal is brought to link %d, so that the chain goes on there", link))
	}
	x.Settling = append(x.Settling, "the catalog takes the source as it is now; nothing is deleted and no segment is changed")
}

// lookIntoStores finds segments of the table that the catalog does not know.
func (e *Engine) lookIntoStores(ctx context.Context, out *Reconciliation) error {
	stores, err := e.Catalog.Stores(ctx)
	if err != nil {
		return err
	}
	for _, s := range stores {
		st, err := e.Store(ctx, s.Name)
		if err != nil {
			return err
		}
		for stem, err := range archive.Stems(ctx, st, archive.TablePrefix(out.Source, out.Table)) {
			if err != nil {
				return fmt.Errorf("store %s: %w", s.Name, err)
			}
			if known, err := e.Catalog.StemSegment(ctx, stem); err != nil || known != nil {
				if err != nil {
					return err
				}
				continue
			}
			m, _, err := archive.LoadManifest(ctx, st, stem)
			if err != nil {
				return fmt.Errorf("store %s: %w", s.Name, err)
			}
			if m.Source != out.Source || m.Table != out.Table {
				continue
			}
			out.Unknown = append(out.Unknown, m.Segment)
			out.StoreLink = max(out.StoreLink, m.Sequence)
			if books, _, err := archive.LoadClosing(ctx, st, m); err != nil {
				return fmt.Errorf("store %s: %w", s.Name, err)
			} else if books != nil {
				out.StoreLink = max(out.StoreLink, books.Sequence)
			}
			if d, _, err := archive.LoadDisposal(ctx, st, m); err != nil {
				return fmt.Errorf("store %s: %w", s.Name, err)
			} else if d != nil {
				out.StoreLink = max(out.StoreLink, d.Sequence)
			}
		}
	}
	if n := len(out.Unknown); n > 0 {
		out.Differences = append(out.Differences, fmt.Sprintf("%d segments lie in the stores that the catalog does not know", n))
	}
	return e.lookForRows(ctx, out)
}

// lookForRows finds segments whose rows are not where the catalog has them, and those of which a record tells that they were destroyed.
func (e *Engine) lookForRows(ctx context.Context, out *Reconciliation) error {
	gone := 0
	for s, err := range e.Catalog.EachSegment(ctx, catalog.SegmentFilter{Source: out.Source, Table: out.Table, Archived: true}) {
		if err != nil {
			return err
		}
		m := &archive.Manifest{Stem: s.Stem, Segment: s.ID}
		if there, err := e.rowsIn(ctx, s.RowsIn(), m); err != nil {
			return err
		} else if there {
			continue
		}
		out.Displaced = append(out.Displaced, s.ID)
		st, err := e.Store(ctx, s.Store)
		if err != nil {
			return err
		}
		if d, _, err := archive.LoadDisposal(ctx, st, m); err == nil && d != nil {
			out.StoreLink = max(out.StoreLink, d.Sequence)
			gone++
		}
	}
	if n := len(out.Displaced) - gone; n > 0 {
		out.Differences = append(out.Differences, fmt.Sprintf("the rows of %d segments are not in the store in which the catalog has them", n))
	}
	if gone > 0 {
		out.Differences = append(out.Differences, fmt.Sprintf("%d segments were destroyed, by their records, and the catalog does not know that", gone))
	}
	return nil
}

// keysAtOnce is how many keys are looked up in one statement.
const keysAtOnce = 500

// liveAgain counts the rows of a segment, those left out excepted, whose key is in the table.
func (e *Engine) liveAgain(ctx context.Context, src source.Source, s *catalog.Segment) (live int64, err error) {
	if s.Asleep(e.Now()) {
		return -1, nil
	}
	st, err := e.readableStore(ctx, s)
	if err != nil {
		return 0, err
	}
	m, books, err := e.load(ctx, st, s)
	if err != nil || books == nil {
		return 0, err
	}
	t, err := src.Table(ctx, s.Table)
	if err != nil {
		return 0, err
	}
	var at []int
	if t.ByAddress() {
		return -1, nil
	}
	keys := &conflicts{source: src, table: t}
	if at, err = keys.keyOf(m); err != nil {
		return 0, err
	}
	left := books.LeftOut()
	ordinal := 0
	err = archive.Verify(ctx, st, m, func(c *value.Chunk, _ []value.Digest) error {
		for i := range c.Rows() {
			if _, out := slices.BinarySearch(left, ordinal); !out {
				if err := keys.add(ctx, c.Row(i), at); err != nil {
					return err
				}
			}
			ordinal++
		}
		return ctx.Err()
	})
	if err == nil {
		err = keys.look(ctx)
	}
	return keys.found, err
}

// Settle makes source, stores and catalog agree about a table again, in the way that Reconcile says. The reason is kept.
func (e *Engine) Settle(ctx context.Context, actor, sourceName, table, reason string) (out *Reconciliation, err error) {
	if strings.TrimSpace(reason) == "" {
		return nil, &refuse.Error{Field: "reason", Message: "settling needs a reason, which is kept", Remedy: "say what happened to the database or the catalog"}
	}
	release, err := e.claim(ctx, sourceName, []string{table})
	if err != nil {
		return nil, err
	}
	defer release()
	x, err := e.Reconcile(ctx, sourceName, table)
	if err != nil || x.Agree {
		return x, err
	}
	src, err := e.Source(ctx, sourceName)
	if err != nil {
		return nil, err
	}
	if err := src.PrepareJournal(ctx); err != nil {
		return nil, err
	}
	lease, err := src.TakeLease(ctx, x.Table, e.Instance, "settling") // nobody else may be at work on it
	if err != nil {
		return nil, err
	}
	defer func() { // where it was settled, the epoch of the lease is over, and this does nothing
		err = errors.Join(err, src.ReleaseLease(context.WithoutCancel(ctx), lease))
	}()
	if len(x.Unknown)+len(x.Displaced) > 0 {
		stores, err := e.Catalog.Stores(ctx)
		if err != nil {
			return nil, err
		}
		for _, s := range stores {
			if _, err := e.Adopt(ctx, actor, s.Name); err != nil {
				return nil, err
			}
		}
	}
	sequence, hash, err := e.Catalog.LastLink(ctx, sourceName, x.Table)
	if err != nil {
		return nil, err
	}
	if sequence < x.SourceLink {
		return nil, &refuse.Error{Message: fmt.Sprintf("the source's journal knows link %d of the chain, and neither catalog nor stores have more than %d", x.SourceLink, sequence),
			Remedy: "add the store in which the newer segments lie (`ambercellar store add`), then settle again; if they are lost, that cannot be settled"}
	}
	if err := src.SetHead(ctx, x.Table, source.Head{Sequence: sequence, Hash: hash}); err != nil {
		return nil, err
	}
	epoch := lease.Epoch
	if x.Known != nil {
		epoch = max(epoch, x.Known.Epoch)
	}
	if err := src.SetEpoch(ctx, x.Table, epoch+1); err != nil { // whoever still believes to hold the table is shut out
		return nil, err
	}
	now, err := src.Lineage(ctx, x.Table)
	if err != nil {
		return nil, err
	}
	if err := e.Catalog.SaveLineage(ctx, catalog.Lineage{Source: sourceName, Table: x.Table, Identity: now.Identity, Server: now.Server, Epoch: epoch + 1, Settled: epoch + 1}); err != nil {
		return nil, err
	}
	if err := e.Catalog.Note(ctx, actor, "table settled", sourceName+"."+x.Table, strings.Join(x.Differences, "; ")+" — "+strings.Join(x.Settling, "; ")+" — reason: "+reason); err != nil {
		return nil, err
	}
	return e.Reconcile(ctx, sourceName, table)
}

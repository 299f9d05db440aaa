package reconcile

import (
	"github.com/dustin/go-humanize/english"

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
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/source"
)

// CheckLineages compares all tables that were ever worked on, says in the log what it finds, and returns it.
func (rc *Reconciler) CheckLineages(ctx context.Context) (found []*refuse.Disagree) {
	list, err := rc.Catalog.Lineages(ctx)
	if err != nil {
		rc.Log.Warn("what is known of the sources cannot be read", "error", err)
	}
	for _, l := range list {
		release := rc.tables.TryClaim(l.Source, l.Table)
		if release == nil { // what works on it has compared it, and is changing both sides
			continue
		}
		var d *refuse.Disagree
		if err := rc.tables.Agree(ctx, l.Source, l.Table); errors.As(err, &d) {
			rc.Log.Error("runs of a table are stopped", "source", l.Source, "table", l.Table, "error", err)
			found = append(found, d)
		}
		release()
	}
	return found
}

// Reconciliation is what source, stores and catalog tell of a table, side by side.
type Reconciliation struct {
	Source      string           `json:"source"`
	Table       string           `json:"table"`
	Agree       bool             `json:"agree"`
	Differences []string         `json:"differences"` // in words
	Known       *catalog.Lineage `json:"-"`           // to the catalog; nil: no run has worked on the table
	Identity    string           `json:"identity"`    // of the source's journal; empty: it has none
	Server      string           `json:"server"`
	Epoch       int64            `json:"epoch"`
	SourceLink  int64            `json:"source_link"`  // the newest link of the chain that the source's journal knows
	CatalogLink int64            `json:"catalog_link"` // that the catalog knows
	StoreLink   int64            `json:"store_link"`   // that lies in the stores
	Unknown     []string         `json:"unknown"`      // segments in the stores that the catalog does not know
	// segments whose rows are not in the store in which the catalog has them
	Displaced []string `json:"displaced"`
	// segments whose rows were deleted after the moment that the source is at
	Reappeared []Reappeared `json:"reappeared"`
	Settling   []string     `json:"settling"` // what settling does, in words
	// of all rows that ever were; null where nothing was ever archived or purged
	Totals *TableTotals `json:"totals"`
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
	// of those, rows whose key is in the table; -1: the table has no key, so nobody can tell
	Live int64 `json:"live"`
}

// Reconcile compares everything that is known of a table, down to which rows are live again. It changes nothing.
func (rc *Reconciler) Reconcile(ctx context.Context, sourceName, table string) (*Reconciliation, error) {
	src, err := rc.Source(ctx, sourceName)
	if err != nil {
		return nil, err
	}
	t, err := src.Table(ctx, table)
	if err != nil {
		return nil, err
	}
	out := &Reconciliation{Source: sourceName, Table: t.Name, Differences: []string{}, Unknown: []string{},
		Displaced: []string{}, Reappeared: []Reappeared{}, Settling: []string{}}
	if out.Known, err = rc.Catalog.TableLineage(ctx, sourceName, t.Name); err != nil {
		return nil, err
	}
	now, err := src.Lineage(ctx, t.Name)
	if err != nil {
		return nil, err
	}
	out.Identity, out.Server, out.Epoch, out.SourceLink = now.Identity, now.Server, now.Epoch, now.Head.Sequence
	out.Differences = append(out.Differences, tables.CompareLineage(out.Known, now)...)
	newest, err := rc.tables.NewestLink(ctx, sourceName, t.Name, now.Head)
	var disagree *refuse.Disagree
	if errors.As(err, &disagree) {
		out.Differences = append(out.Differences, disagree.Difference)
	} else if err != nil {
		return nil, err
	}
	out.CatalogLink, out.StoreLink = newest.Sequence, newest.Sequence
	if err := rc.lookIntoStores(ctx, out); err != nil {
		return nil, err
	}
	// one may be written and not noted in the source
	segments, err := rc.Catalog.LinksAfter(ctx, sourceName, t.Name, out.SourceLink+1)
	if err != nil {
		return nil, err
	}
	for i := range segments {
		if len(out.Differences) == 0 {
			break
		}
		live, err := rc.liveAgain(ctx, src, &segments[i])
		if err != nil {
			return nil, err
		}
		out.Reappeared = append(out.Reappeared, Reappeared{Segment: segments[i].ID, Deleted: segments[i].Deleted,
			Live: live})
	}
	out.Agree = len(out.Differences) == 0
	out.settling()
	if len(out.Displaced) == 0 { // otherwise rows of the archive cannot be counted
		out.Totals, err = rc.totals(ctx, src, sourceName, t)
	}
	return out, err
}

// liveCount is how long it may take to count the rows of a table.
const liveCount = 10 * time.Second

// totals adds up what has become of a table's rows, all of it at one moment: what runs that go on have deleted is
// archived.
func (rc *Reconciler) totals(ctx context.Context, src source.Source, sourceName string, t *shape.Table) (*TableTotals,
	error) {
	out := &TableTotals{Live: t.Rows}
	within, cancel := context.WithTimeout(ctx, liveCount)
	live, m, err := rc.search.LiveCounted(within, src, sourceName, t)
	cancel()
	switch {
	case err == nil:
		out.Live, out.Counted = live, true
	case ctx.Err() != nil:
		return nil, ctx.Err()
	default:
		if m, err = rc.search.ReadMoment(ctx, sourceName, t.Name); err != nil {
			return nil, err
		}
	}
	going := m.Runs
	if m.Untold != "" {
		going = nil
	}
	sums, err := rc.Catalog.SegmentSums(ctx, sourceName, t.Name, going)
	if err != nil {
		return nil, err
	}
	out.Archived, out.Disposed, out.Erased, out.Adopted = sums.Archived, sums.Disposed, sums.Erased, sums.Adopted
	runs, err := rc.Catalog.RunsOf(ctx, sourceName)
	if err != nil {
		return nil, err
	}
	for i := range runs {
		byRun(&runs[i], t.Name, out, !slices.Contains(going, runs[i].ID))
	}
	for _, run := range going {
		known := slices.ContainsFunc(runs, func(r catalog.Run) bool { return r.ID == run })
		if err := rc.addInFlight(ctx, out, run, t.Name, m, known); err != nil {
			return nil, err
		}
	}
	if out.ByRuns == 0 && out.Adopted == 0 {
		return nil, nil
	}
	if !t.ByAddress() {
		list, err := rc.search.RestoredInto(ctx, sourceName, src, t)
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
		h, err := rc.search.Hunt(ctx, search.SearchRequest{Source: sourceName, Table: t.Name}, m)
		var none *refuse.Error
		if err != nil && !errors.As(err, &none) { // none is closed yet
			return nil, err
		}
		if err == nil {
			again, err := h.Superseded(ctx, nil)
			if err != nil {
				return nil, err
			}
			out.Again, out.Untold = again.Rows, again.Untold
		}
	}
	out.Records = out.Live + out.Archived - out.Again - out.Restored
	out.AddsUp = out.ByRuns+out.Adopted == out.Archived+out.Disposed+out.Purged+out.Erased
	return out, nil
}

// addInFlight adds the rows that a run had deleted at a moment and archived before.
func (rc *Reconciler) addInFlight(ctx context.Context, out *TableTotals, run, table string, m *search.Moment,
	known bool) error {
	segments, err := rc.Catalog.RunSegments(ctx, run)
	if err != nil {
		return err
	}
	segments = slices.DeleteFunc(segments, func(s catalog.Segment) bool {
		return s.Table != table || s.State != catalog.SegmentOpen && s.State != catalog.SegmentClosed
	})
	m.Number(segments)
	for i := range segments {
		s := &segments[i]
		gone := int64(0)
		switch m.Of(s) {
		case search.AllTold:
			gone = s.Deleted
		case search.SomeTold:
			if _, gone, err = m.Left(s, s.Rows); err != nil {
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
		x.Settling = append(x.Settling, fmt.Sprintf("the catalog takes up what lies in the stores: %s",
			english.Plural(n, "segment", "")))
	}
	if n := len(x.Displaced); n > 0 {
		x.Settling = append(x.Settling,
			fmt.Sprintf("the catalog finds out from the stores where the rows of %s are",
				english.Plural(n, "segment", "")))
	}
	var live int64
	untold := false
	for _, r := range x.Reappeared {
		live += max(r.Live, 0)
		untold = untold || r.Live < 0
	}
	if untold {
		x.Settling = append(x.Settling,
			"the table has no key, so nobody can tell which of its archived rows are live again; those that are "+
				"stay, and the next run archives them once more")
	}
	if live > 0 {
		x.Settling = append(x.Settling,
			fmt.Sprintf("%s rows that were archived and deleted are live again; they stay, and are due like any: "+
				"the next run archives them once more, and of two archived versions the newer counts",
				humanize.Comma(live)))
	}
	if link := max(x.StoreLink, x.CatalogLink); link != x.SourceLink {
		x.Settling = append(x.Settling,
			fmt.Sprintf("the source's journal is brought to link %d, so that the chain goes on there", link))
	}
	x.Settling = append(x.Settling,
		"the catalog takes the source as it is now; nothing is deleted and no segment is changed")
}

// lookIntoStores finds segments of the table that the catalog does not know.
func (rc *Reconciler) lookIntoStores(ctx context.Context, out *Reconciliation) error {
	stores, err := rc.Catalog.Stores(ctx)
	if err != nil {
		return err
	}
	for _, s := range stores {
		st, err := rc.Store(ctx, s.Name)
		if err != nil {
			return err
		}
		for stem, err := range archive.Stems(ctx, st, archive.TablePrefix(out.Source, out.Table)) {
			if err != nil {
				return fmt.Errorf("store %s: %w", s.Name, err)
			}
			if known, err := rc.Catalog.StemSegment(ctx, stem); err != nil || known != nil {
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
		out.Differences = append(out.Differences,
			fmt.Sprintf("the stores hold %s that the catalog does not know", english.Plural(n, "segment", "")))
	}
	return rc.lookForRows(ctx, out)
}

// lookForRows finds segments whose rows are not where the catalog has them, and those of which a record tells that
// they were destroyed.
func (rc *Reconciler) lookForRows(ctx context.Context, out *Reconciliation) error {
	gone := 0
	for s, err := range rc.Catalog.EachSegment(ctx, catalog.SegmentFilter{Source: out.Source, Table: out.Table,
		Archived: true}) {
		if err != nil {
			return err
		}
		m := &archive.Manifest{ManifestOrigin: archive.ManifestOrigin{Stem: s.Stem, Segment: s.ID}}
		if there, err := rc.upkeep.RowsIn(ctx, s.RowsIn(), m); err != nil {
			return err
		} else if there {
			continue
		}
		out.Displaced = append(out.Displaced, s.ID)
		st, err := rc.Store(ctx, s.Store)
		if err != nil {
			return err
		}
		if d, _, err := archive.LoadDisposal(ctx, st, m); err == nil && d != nil {
			out.StoreLink = max(out.StoreLink, d.Sequence)
			gone++
		}
	}
	if n := len(out.Displaced) - gone; n > 0 {
		out.Differences = append(out.Differences,
			fmt.Sprintf("the rows of %s are not in the store in which the catalog has them",
				english.Plural(n, "segment", "")))
	}
	if gone > 0 {
		out.Differences = append(out.Differences,
			fmt.Sprintf("%d segments were destroyed, by their records, and the catalog does not know that", gone))
	}
	return nil
}

// liveAgain counts the rows of a segment, those left out excepted, whose key is in the table.
func (rc *Reconciler) liveAgain(ctx context.Context, src source.Source, s *catalog.Segment) (live int64, err error) {
	if s.Asleep(rc.Now()) {
		return -1, nil
	}
	st, err := rc.shelf.ReadableStore(ctx, s)
	if err != nil {
		return 0, err
	}
	m, books, err := rc.shelf.Load(ctx, st, s)
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
	keys := &search.Conflicts{Source: src, Table: t}
	if at, err = keys.KeyOf(m); err != nil {
		return 0, err
	}
	left := books.LeftOut()
	ordinal := 0
	err = archive.Verify(ctx, st, m, func(c *value.Chunk, _ []value.Digest) error {
		for i := range c.Rows() {
			if _, out := slices.BinarySearch(left, ordinal); !out {
				if err := keys.Add(ctx, c.Row(i), at); err != nil {
					return err
				}
			}
			ordinal++
		}
		return ctx.Err()
	})
	if err == nil {
		err = keys.Look(ctx)
	}
	return keys.Found, err
}

// Settle makes source, stores and catalog agree about a table again, in the way that Reconcile says. The reason is
// kept.
func (rc *Reconciler) Settle(ctx context.Context, actor, sourceName, table, reason string) (out *Reconciliation,
	err error) {
	if strings.TrimSpace(reason) == "" {
		return nil, &refuse.Error{Field: "reason", Message: "settling needs a reason, which is kept",
			Remedy: "say what happened to the database or the catalog"}
	}
	release, err := rc.tables.Claim(ctx, sourceName, []string{table})
	if err != nil {
		return nil, err
	}
	defer release()
	x, err := rc.Reconcile(ctx, sourceName, table)
	if err != nil || x.Agree {
		return x, err
	}
	src, err := rc.Source(ctx, sourceName)
	if err != nil {
		return nil, err
	}
	if err := src.PrepareJournal(ctx); err != nil {
		return nil, err
	}
	lease, err := src.TakeLease(ctx, x.Table, rc.Instance, "settling") // nobody else may be at work on it
	if err != nil {
		return nil, err
	}
	defer func() { // where it was settled, the epoch of the lease is over, and this does nothing
		err = errors.Join(err, src.ReleaseLease(context.WithoutCancel(ctx), lease))
	}()
	if len(x.Unknown)+len(x.Displaced) > 0 {
		stores, err := rc.Catalog.Stores(ctx)
		if err != nil {
			return nil, err
		}
		for _, s := range stores {
			if _, err := rc.upkeep.Adopt(ctx, actor, s.Name); err != nil {
				return nil, err
			}
		}
	}
	sequence, hash, err := rc.Catalog.LastLink(ctx, sourceName, x.Table)
	if err != nil {
		return nil, err
	}
	if sequence < x.SourceLink {
		return nil, &refuse.Error{Message: fmt.Sprintf(
			"the source's journal knows link %d of the chain, and neither catalog nor stores have more than %d",
			x.SourceLink, sequence),
			Remedy: "add the store in which the newer segments lie (`ambercellar store add`), then settle again; " +
				"if they are lost, that cannot be settled"}
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
	if err := rc.Catalog.SaveLineage(ctx, catalog.Lineage{Source: sourceName, Table: x.Table, Identity: now.Identity,
		Server: now.Server, Epoch: epoch + 1, Settled: epoch + 1}); err != nil {
		return nil, err
	}
	if err := rc.Catalog.Note(ctx, actor, "table settled", sourceName+"."+x.Table, strings.Join(x.Differences, "; ")+
		" — "+strings.Join(x.Settling, "; ")+" — reason: "+reason); err != nil {
		return nil, err
	}
	return rc.Reconcile(ctx, sourceName, table)
}

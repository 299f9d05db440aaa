package dispose

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/shelf"
)

// An erasure destroys the archived rows of a condition, whatever their time in the archive: one person's, mostly. It
// is planned, approved, carried out and certified like a disposal. Segments that hold other rows besides are parted.
// No record of it names the condition, and the catalog forgets that once it is carried out or decided against.

// ErasureRequest says which archived rows of a table are to be erased: those of a filter, or of keys.
type ErasureRequest struct {
	Source string   `json:"source"`
	Table  string   `json:"table"`
	Where  string   `json:"where,omitempty"`
	Keys   []string `json:"keys,omitempty"` // in place of a filter, of a table whose key has one column
	Note   string   `json:"note,omitempty"` // it stays, so it names nobody
}

// liveErased is how long it may take to count the rows of the table itself that an erasure is not about.
const liveErased = 2 * time.Second

// PlanErasure finds out which segments hold rows that are to be erased, and keeps that as something that somebody has
// to decide on; nothing is destroyed.
func (ds *Disposer) PlanErasure(ctx context.Context, actor string, q ErasureRequest) (*catalog.Disposal, error) {
	if (q.Where == "") == (len(q.Keys) == 0) {
		return nil, &refuse.Error{Field: "where", Message: "say which rows: by a condition, or by their keys",
			Remedy: "write one like passenger_id = 7, or name keys"}
	}
	r := restore.RestoreRequest{Source: q.Source, Table: q.Table, Keys: q.Keys, Scope: catalog.Scope{Where: q.Where}}
	if err := ds.restores.KeysToFilter(ctx, &r); err != nil {
		return nil, err
	}
	columns, err := ds.search.ArchivedColumns(ctx, q.Source, q.Table)
	if err != nil {
		return nil, err
	}
	if _, err := shelf.BindArchived(r.Scope.Where, columns, columns); err != nil {
		return nil, err
	}
	d := &catalog.Disposal{DisposalOrder: catalog.DisposalOrder{ID: ulid.Make().String(), Kind: catalog.KindErasure,
		Erases: r.Scope.Where, Source: q.Source, Table: q.Table, Note: q.Note, CreatedAt: catalog.At(ds.Now()),
		CreatedBy: actor},
		DisposalStanding: catalog.DisposalStanding{State: catalog.DisposalPlanned}}
	d.Items.V, d.Stays.V, d.Remains.V = []catalog.DisposalItem{}, []catalog.DisposalStay{}, []string{}
	needs, err := ds.shelf.NeedsOf(ctx, d.Source)
	if err != nil {
		return nil, err
	}
	for s, err := range ds.Catalog.EachSegment(ctx, catalog.SegmentFilter{Source: d.Source, Table: d.Table}) {
		if err != nil {
			return nil, err
		}
		if s.State == catalog.SegmentDisposed {
			continue
		}
		item, stay, err := ds.erasable(ctx, d, s, columns, needs)
		switch {
		case err != nil:
			return nil, err
		case stay != nil:
			d.Stays.V = append(d.Stays.V, *stay)
		case item != nil:
			d.Items.V = append(d.Items.V, *item)
		}
	}
	if d.Reason, err = ds.beyondErasure(ctx, d); err != nil {
		return nil, err
	}
	return d, ds.Catalog.AddDisposal(ctx, d)
}

// beyondErasure says what an erasure does not reach.
func (ds *Disposer) beyondErasure(ctx context.Context, d *catalog.Disposal) (string, error) {
	src, err := ds.Source(ctx, d.Source)
	if err != nil {
		return "the table itself cannot be asked for such rows: " + err.Error(), nil
	}
	t, err := src.Table(ctx, d.Table)
	if err != nil {
		return "the table itself cannot be asked for such rows: " + err.Error(), nil
	}
	f, bad := filter.Bind(d.Erases, filter.TableScope(t))
	if len(bad) > 0 {
		return "the table itself has other columns now, and was not asked for such rows", nil
	}
	within, cancel := context.WithTimeout(ctx, liveErased)
	defer cancel()
	n, err := src.CountWhere(within, t, f, 1_000_000)
	switch {
	case ctx.Err() != nil:
		return "", ctx.Err()
	case err != nil:
		return "the table itself was not asked in time whether it has such rows; an erasure leaves those alone", nil
	case n == 1:
		return "the table itself has 1 such row; an erasure leaves that alone", nil
	case n > 0:
		return fmt.Sprintf("the table itself has %d such rows; an erasure leaves those alone", n), nil
	}
	return "", nil
}

// undecided says why nothing can be said about a segment yet; empty where it is closed, lies still, and its run has
// ended.
func (ds *Disposer) undecided(ctx context.Context, s *catalog.Segment) (string, error) {
	if s.State != catalog.SegmentClosed {
		return fmt.Sprintf("it is %s: what became of its rows is not settled", s.State), nil
	}
	if s.Leaving != "" {
		return fmt.Sprintf("it is on its way from store %s to store %s", s.Leaving, s.RowsIn()), nil
	}
	run, err := ds.Catalog.Run(ctx, s.Run)
	if err == nil && !run.State.Ended() {
		return fmt.Sprintf("its run %s is %s", run.ID, run.State), nil
	} else if err != nil && !errors.Is(err, catalog.ErrNotFound) {
		return "", err
	}
	return "", nil
}

// erasable says how many rows of a segment an erasure destroys, or why it cannot; neither where the segment holds
// none.
func (ds *Disposer) erasable(ctx context.Context, d *catalog.Disposal, s *catalog.Segment, columns []shape.Column,
	needs *shelf.Needs) (*catalog.DisposalItem, *catalog.DisposalStay, error) {
	now := catalog.At(ds.Now())
	stays := func(due *catalog.Time, format string, args ...any) (*catalog.DisposalItem, *catalog.DisposalStay,
		error) {
		return nil, &catalog.DisposalStay{Segment: s.ID, Due: due, Reason: fmt.Sprintf(format, args...)}, nil
	}
	if reason, err := ds.undecided(ctx, s); err != nil || reason != "" {
		if err != nil {
			return nil, nil, err
		}
		return stays(nil, "%s", reason)
	}
	p, err := ds.erasing(ctx, d, s, columns)
	var damaged *refuse.Error
	if errors.As(err, &damaged) {
		return stays(nil, "%s", damaged.Message)
	} else if err != nil {
		return nil, nil, err
	}
	if missing, err := ds.search.Lacks(ctx, p.manifest, d.Erases); err != nil {
		return nil, nil, err
	} else if missing != "" {
		return stays(nil, "it has no column %[1]s, and nobody can tell whether it holds such rows; `ambercellar "+
			"column tell %[2]s %[3]s %[1]s` says what it was called then, or that it was added; then plan again",
			missing, d.Source, d.Table)
	}
	if possibly, err := ds.restores.MayHold(ctx, s, d.Erases, columns); err != nil {
		return nil, nil, err
	} else if !possibly {
		return nil, nil, nil
	}
	if p.manifest.Masked != nil && touches(p.erase, p.manifest) {
		return stays(nil, "a column of the condition was archived in another form, so that nobody can tell whether "+
			"it holds such rows")
	}
	if s.Asleep(ds.Now()) {
		return stays(nil, "it may hold such rows, and is in cold storage; retrieve it, and plan again")
	}
	found, err := p.find(ctx)
	switch {
	case err != nil:
		return nil, nil, err
	case found.erased+found.held == 0:
		return nil, nil, nil
	case p.whole != nil:
		return stays(&now, "hold %s (%s) stands on it", p.whole.ID, p.whole.Reference)
	case found.erased == 0:
		return stays(&now, "hold %s (%s) stands on every such row of it", p.held.ID, p.held.Reference)
	}
	if r, err := needs.By(ctx, s); err != nil {
		return nil, nil, err
	} else if r != nil {
		return stays(&now, "restore %s has put rows of it back for a time, which compares them with it in the end",
			r.ID)
	}
	item := p.item(found, now)
	if obstacle := p.obstacle(); item.Kept > 0 && obstacle != "" {
		return stays(&now, "it holds %d such rows, and cannot be parted: %s", found.erased, obstacle)
	}
	if until, name, err := ds.lockedUntil(ctx, s, p.manifest); err != nil {
		return nil, nil, err
	} else if until.After(ds.Now()) {
		at := catalog.At(until)
		return stays(&at, "it holds such rows, and store %s itself keeps a version of its files until %s", name,
			until.UTC().Format("2006-01-02 15:04:05 UTC"))
	}
	return item, nil, nil
}

// item is the segment in the list of an erasure.
func (p *parting) item(found foundRows, due catalog.Time) *catalog.DisposalItem {
	m, s := p.manifest, p.segment
	item := &catalog.DisposalItem{DisposalItemOf: catalog.DisposalItemOf{Segment: s.ID, Rows: m.Rows,
		Bytes: m.FileBytes, Oldest: s.Oldest, Newest: s.Newest, Stored: catalog.At(m.Stored), Due: due, Keep: m.Keep,
		SHA256: m.SHA256, Digest: m.Digest.String(), Stores: s.Stores()},
		DisposalItemEnd: catalog.DisposalItemEnd{Kept: found.kept}}
	switch {
	case item.Kept > 0 && found.held > 0:
		item.Why = fmt.Sprintf("they are not meant, but for %d on which hold %s (%s) stands", found.held, p.held.ID,
			p.held.Reference)
	case item.Kept > 0:
		item.Why = "they are not meant"
	}
	return item
}

// erasing is the parting of a segment from the rows of an erasure.
func (ds *Disposer) erasing(ctx context.Context, d *catalog.Disposal, s *catalog.Segment, columns []shape.Column) (
	*parting, error) {
	st, err := ds.shelf.StoreOf(ctx, s)
	if err != nil {
		return nil, err
	}
	m, books, err := ds.shelf.Load(ctx, st, s)
	if errors.Is(err, archive.ErrDamaged) {
		return nil, &refuse.Error{Message: fmt.Sprintf("its records cannot be read: %v", err)}
	} else if err != nil {
		return nil, err
	}
	p := &parting{engine: ds, segment: s, manifest: m, books: books}
	own, err := ds.shelf.Named(ctx, m)
	if err != nil {
		return nil, err
	}
	if p.erase, err = shelf.BindArchived(d.Erases, own, columns); err != nil {
		return nil, err
	}
	p.filters, p.whole, err = ds.holdsOver(ctx, s, m)
	return p, err
}

// foundRows counts the rows of a segment for an erasure; what stayed in the table is in none but erased.
type foundRows struct {
	erased int64 // rows of the file that go: copies of rows that stayed in the table among them
	held   int64 // rows that would go but for a hold
	kept   int64 // rows that stay in the archive, the held ones among them
}

func (p *parting) find(ctx context.Context) (out foundRows, err error) {
	left := p.books.LeftOut()
	_, err = p.engine.shelf.ScanRows(ctx, p.segment, p.manifest, archive.Search{Columns: p.columns(), Absent: 1},
		func(ordinal int, row []value.Value) error {
			_, stayed := slices.BinarySearch(left, ordinal)
			meant := p.erase.Eval(row).Only()
			switch {
			case meant && (p.whole != nil || !stayed && p.stays(row)):
				out.held++
				out.kept++
			case meant:
				out.erased++
			case !stayed:
				out.kept++
			}
			return ctx.Err()
		})
	return out, err
}

package restore

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/source"
)

// lasting reads how long the rows of a restore stay, and from when on they go; the zero Time where the text is empty.
func lasting(text string, now time.Time) (string, *catalog.Time, error) {
	if text == "" {
		return "", nil, nil
	}
	p, err := period.Parse(text)
	if err != nil {
		return "", nil, &refuse.Error{Field: "for", Message: err.Error()}
	}
	at := tables.KeepUntil(now, &p)
	if !at.After(now) {
		return "", nil, &refuse.Error{Field: "for", Message: fmt.Sprintf("%q is no time at all", text),
			Remedy: "write how long the rows are to stay, like P2D"}
	}
	return p.String(), at, nil
}

// KeepRestored changes how long the rows of a restore stay: so long from now on, or for good where text is empty.
func (rs *Restorer) KeepRestored(ctx context.Context, actor, id, text string) (*catalog.Restore, error) {
	lasts, at, err := lasting(text, rs.Now())
	if err != nil {
		return nil, err
	}
	if _, busy := rs.takingBack.Load(id); busy {
		return nil, &refuse.Error{Field: "restore",
			Message: fmt.Sprintf("the time of restore %s is over, and its rows are being taken back", id),
			Remedy:  "request them again"}
	}
	if at != nil {
		r, err := rs.Catalog.Restore(ctx, id)
		if err != nil {
			return nil, err
		}
		if err := rs.canGoAgain(ctx, r); err != nil {
			return nil, err
		}
	}
	return rs.Catalog.SetExpiry(ctx, actor, id, lasts, at)
}

// canGoAgain says why rows of a restore cannot be taken back.
func (rs *Restorer) canGoAgain(ctx context.Context, r *catalog.Restore) error {
	if r.Target != catalog.TargetTable {
		return &refuse.Error{Field: "for", Message: "only rows that go back into their table can be there for a time",
			Remedy: "drop a side table, or remove a file, when you are done with it"}
	}
	src, err := rs.Source(ctx, r.Source)
	if err != nil {
		return err
	}
	t, err := src.Table(ctx, r.Table)
	if err == nil && t.ByAddress() {
		err = &refuse.Error{Field: "for",
			Message: fmt.Sprintf("table %s has no key, so nobody can tell its restored rows from others later",
				t.Name), Remedy: "restore to a side table"}
	}
	return err
}

// TakeBack removes the rows of a restore again whose time is over: those that it put back and that still are what was
// archived, in segments that still verify. Rows that were changed meanwhile stay, and are rows like any from then on.
// It can be called again where it was interrupted.
func (rs *Restorer) TakeBack(ctx context.Context, r *catalog.Restore) error {
	rs.shelf.Reading.RLock()
	defer rs.shelf.Reading.RUnlock()
	now, err := rs.Catalog.Restore(ctx, r.ID) // as it is now: somebody may have kept its rows
	if err != nil {
		return err
	}
	if now.State != catalog.RestoreDone || now.ExpiresAt == nil || rs.Now().Before(now.ExpiresAt.Time) {
		return nil
	}
	*r = *now
	if _, busy := rs.takingBack.LoadOrStore(r.ID, true); busy {
		return nil
	}
	defer rs.takingBack.Delete(r.ID)
	scratch := *r
	b := &takeback{restoration: restoration{Restorer: rs, restore: &scratch, related: true, quiet: true}, asked: r,
		shapes: map[string]*shape.Table{}, leases: map[string]source.Lease{}}
	if err := b.run(ctx); err != nil {
		return err
	}
	at := catalog.At(rs.Now())
	r.State, r.ExpiredAt, r.Stayed = catalog.RestoreExpired, &at, b.stayed
	if b.again { // what an earlier try has taken back and not noted is told by what is there
		r.TakenBack = max(r.Restored-b.stayed, 0)
	}
	return errors.Join(rs.Catalog.SaveRestore(ctx, r), rs.Catalog.Note(ctx, "service", "restore expired", r.ID,
		fmt.Sprintf("rows taken back: %d; that stay: %d", r.TakenBack, r.Stayed)))
}

// takeback goes through the rows of a restore once more.
type takeback struct {
	restoration
	source source.Source
	asked  *catalog.Restore
	shapes map[string]*shape.Table
	leases map[string]source.Lease
	number int   // of the newest batch
	stayed int64 // rows that are there still, in the end
}

// nowhere is where rows go that are only read.
type nowhere struct{}

func (nowhere) deliver(context.Context, *archive.Manifest, *value.Chunk, []value.Digest, []int) error {
	return nil
}
func (nowhere) finish(context.Context) error { return nil }

// outOf takes rows out of the table that they were put back into.
type outOf struct{ *takeback }

func (x outOf) deliver(ctx context.Context, m *archive.Manifest, rows *value.Chunk, digests []value.Digest,
	ordinals []int) error {
	return x.remove(ctx, m, rows, digests, ordinals)
}
func (outOf) finish(context.Context) error { return nil }

func (b *takeback) run(ctx context.Context) error {
	var err error
	if b.source, err = b.Source(ctx, b.restore.Source); err != nil {
		return err
	}
	segments, err := b.segments(ctx)
	if err != nil {
		return err
	}
	var families [][]*member
	for i := range segments {
		f, err := b.familyOf(ctx, &segments[i])
		if err != nil {
			return err
		}
		if f != nil {
			families = append(families, f)
		}
	}
	release, err := b.take(ctx, families)
	if err != nil {
		return err
	}
	defer release()
	for _, family := range families {
		// Which rows of related tables went along is told by the rows that they refer to, so those are read first;
		// they go last.
		b.target = nowhere{}
		for _, x := range family {
			if err := b.segment(ctx, x); err != nil {
				return err
			}
		}
		b.target = outOf{b}
		for _, x := range slices.Backward(family) {
			if err := b.rows(ctx, x); err != nil {
				return err
			}
		}
	}
	for _, t := range b.shapes {
		n, err := b.source.RestoredLive(ctx, t, b.restore.ID)
		if err != nil {
			return err
		}
		b.stayed += n
	}
	for _, t := range b.shapes {
		if err := b.source.ForgetRestored(ctx, t, b.restore.ID); err != nil {
			return err
		}
	}
	return nil
}

// take takes all tables whose rows are removed, so that no run works on them meanwhile.
func (b *takeback) take(ctx context.Context, families [][]*member) (func(), error) {
	var names []string
	for _, f := range families {
		for _, x := range f {
			if !slices.Contains(names, x.manifest.Table) {
				names = append(names, x.manifest.Table)
			}
		}
	}
	claiming, cancel := context.WithTimeoutCause(ctx, tables.ClaimWait,
		&refuse.Error{Message: fmt.Sprintf("a run is at work on table %s.%s", b.restore.Source, b.restore.Table),
			Remedy: "the rows of the restore are taken back once it has ended"})
	defer cancel()
	unclaim, err := b.tables.Claim(claiming, b.restore.Source, names)
	if err != nil {
		return nil, err
	}
	release := func() {
		for _, l := range b.leases {
			if err := b.source.ReleaseLease(context.WithoutCancel(ctx), l); err != nil {
				b.Log.Error("a lease cannot be released", "table", l.Table, "error", err)
			}
		}
		unclaim()
	}
	for _, name := range names {
		t, err := b.source.Table(ctx, name)
		if err == nil {
			b.shapes[name] = t
			err = b.source.PrepareJournal(ctx)
		}
		if err == nil {
			b.leases[name], _, err = b.tables.TakeTable(ctx, b.source, b.restore.Source, name, b.restore.ID)
		}
		if err != nil {
			release()
			return nil, err
		}
	}
	journal, err := b.source.Journal(ctx, b.restore.ID, -1) // of an earlier try
	if err != nil {
		release()
		return nil, err
	}
	b.again = len(journal) > 0 || b.asked.TakenBack > 0
	for _, row := range journal {
		b.number = max(b.number, row.Batch)
	}
	return release, nil
}

// remove removes the rows of a chunk that this restore put back and that are unchanged, in batches.
func (b *takeback) remove(ctx context.Context, m *archive.Manifest, rows *value.Chunk, digests []value.Digest,
	_ []int) error {
	t := b.shapes[m.Table]
	f, err := b.fitNow(ctx, m, t, b.restore.Fit.V)
	if err != nil {
		return err
	}
	rows, digests = f.apply(rows, digests)
	columns, at := f.to, make([]int, len(t.Key))
	for i, k := range t.Key {
		_, column := t.Column(k)
		at[i] = slices.Index(columns, column)
	}
	keys := make([][]value.Value, rows.Rows())
	for i := range keys {
		for _, k := range at {
			keys[i] = append(keys[i], rows.Row(i)[k].Clone())
		}
	}
	for len(keys) > 0 {
		n := min(takeBackRows, len(keys))
		if err := b.batch(ctx, t, columns, keys[:n], digests[:n]); err != nil {
			return err
		}
		keys, digests = keys[n:], digests[n:]
	}
	return b.Catalog.SaveRestore(ctx, b.asked)
}

// takeBackRows is how many rows one transaction removes.
const takeBackRows = 200

func (b *takeback) batch(ctx context.Context, t *shape.Table, columns []int, keys [][]value.Value,
	digests []value.Digest) error {
	ours := map[string]bool{}
	key := func(k []value.Value) string {
		var text []byte
		for _, v := range k {
			text = v.AppendCanonical(text)
		}
		return string(text)
	}
	sel := source.Selection{Table: t}
	err := b.source.Related(ctx, source.Query{Selection: sel, On: t.Key, Values: keys, Restored: b.restore.ID},
		func(k []value.Value) error {
			ours[key(k)] = true
			return nil
		})
	if err != nil || len(ours) == 0 {
		return err
	}
	var mine [][]value.Value
	var want []value.Digest
	for i, k := range keys {
		if ours[key(k)] {
			mine, want = append(mine, k), append(want, digests[i])
		}
	}
	gate := b.tables.Gate(b.restore.Source, t.Name)
	return tables.Retry(ctx, b.Log, func() error {
		locators, err := b.source.Locate(ctx, sel, mine, want)
		if err != nil {
			return err
		}
		gate.RLock()
		defer gate.RUnlock()
		held, err := b.withHoldsOn(ctx, sel)
		if err != nil {
			return err
		}
		ordinals := make([]int, len(mine))
		for i := range ordinals {
			ordinals[i] = i
		}
		row, err := b.source.DeleteBatch(context.WithoutCancel(ctx),
			source.Batch{Selection: held, Lease: b.leases[t.Name], Segment: 1, Number: b.number + 1,
				Ordinals: ordinals, Locators: locators, Digests: want, Columns: columns, LockWait: tables.LockWait})
		if errors.Is(err, source.ErrLocators) {
			return fmt.Errorf("%w: %w", source.ErrBusy, err)
		}
		if errors.Is(err, source.ErrReshaped) {
			if _, changed := tables.Unaltered(ctx, b.source, t); changed != nil {
				return &refuse.Error{Message: fmt.Sprintf("table %s was altered while rows were taken back", t.Name),
					Remedy: "the others go at the next try"}
			}
		}
		if err != nil {
			return err
		}
		b.number++
		b.asked.TakenBack += int64(row.Deleted)
		return b.source.PruneJournal(ctx, b.restore.ID, 1)
	})
}

func (b *takeback) withHoldsOn(ctx context.Context, sel source.Selection) (source.Selection, error) {
	holds, err := b.tables.HoldsOn(ctx, b.restore.Source, sel.Table)
	sel.Holds = holds
	return sel, err
}

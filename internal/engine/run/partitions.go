package run

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
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// A partition that is wholly due leaves as a whole: its rows are copied and verified while it stands where it is; it
// is taken out of the table, locked, compared with what was copied, and dropped. Where anything differs it goes back,
// and its rows leave one by one like those of any table.

// movePartitions takes the partitions of the plan out, one after another. It returns the number of the next slice.
func (r *Execution) movePartitions(ctx context.Context, number int) (int, error) {
	for i := range r.Run.Parts.V {
		partition := &r.Run.Parts.V[i]
		for !partition.State.Ended() {
			if err := r.giveWay(ctx); err != nil {
				return number, err
			}
			err := r.retry(ctx, func() (err error) { // each step finds out where the one before came to
				number, err = r.movePartition(ctx, number, partition)
				return err
			}, func(err error) { r.Run.Reason = "waiting: " + err.Error() })
			var differs *refuse.Differs
			switch {
			case errors.As(err, &differs):
				err = r.handBack(ctx, partition, differs.Why)
			case errors.Is(err, source.ErrWhole):
				err = r.handBack(ctx, partition, err.Error())
			}
			if err == nil {
				err = r.show(ctx, true)
			}
			if err != nil {
				return number, err
			}
		}
	}
	return number, nil
}

// movePartition brings a partition a step further.
func (r *Execution) movePartition(ctx context.Context, number int, partition *catalog.Part) (int, error) {
	if err := r.sameHistory(ctx); err != nil {
		return number, err
	}
	out, settled, err := r.finishPartition(ctx, partition)
	if number = max(number, r.Run.Slices+1); err != nil || settled { // of what an earlier execution journalled, too
		return number, err
	}
	begun := r.Now()
	switch partition.State {
	case catalog.PartWaiting:
		if err := r.dueWholly(ctx, partition); err != nil {
			return number, err
		}
		return number, partition.Become(catalog.PartCopying)
	case catalog.PartCopying:
		for _, p := range r.passes {
			if p.store == nil {
				continue
			}
			if number, err = r.copyPartition(ctx, p, partition, number); err != nil {
				return number, err
			}
		}
		partition.Copy += r.Now().Sub(begun).Microseconds()
		return number, partition.Become(catalog.PartCopied)
	}
	if !out {
		if err := r.detach(ctx, partition); err != nil {
			return number, err
		}
		// otherwise there is more to its rows than was copied
		if err := r.stillSame(context.WithoutCancel(ctx)); err != nil {
			return number, errors.Join(err, r.attach(context.WithoutCancel(ctx), partition))
		}
	}
	partition.Drop += r.Now().Sub(begun).Microseconds()
	number, err = r.leave(ctx, number, partition)
	if err != nil && !errors.Is(err, source.ErrUnreachable) {
		var differs *refuse.Differs
		// whatever it was: nobody is to miss the partition meanwhile
		if !errors.As(err, &differs) && !errors.Is(err, source.ErrWhole) {
			err = errors.Join(err, r.attach(context.WithoutCancel(ctx), partition))
		}
	}
	return number, err
}

// partitionTable is a partition to be read: where it stands, or aside. It has no sign: the table as a whole is looked
// at when the partition has been taken out.
func (r *Execution) partitionTable(name string, aside bool) *shape.Table {
	t := *r.table
	t.Sign = nil
	if !slices.ContainsFunc(t.Partitions, func(p shape.Partition) bool { return p.Name == name }) {
		t.Partitions = r.pinned
	}
	return source.PartitionsOf(r.source).Part(&t, name, aside)
}

// finishPartition finds out how far an earlier execution came with a partition: whether it is aside, and whether
// everything is settled already.
func (r *Execution) finishPartition(ctx context.Context, partition *catalog.Part) (out, settled bool, err error) {
	list, err := source.PartitionsOf(r.source).Departures(ctx, r.table.Name)
	if err != nil {
		return false, false, err
	}
	for _, d := range list {
		if d.Partition != partition.Name || d.Run != r.Run.ID {
			continue
		}
		if d.Dropping {
			return true, true, r.dropAgain(ctx, partition)
		}
		return d.Aside, false, nil
	}
	if partition.State != catalog.PartCopied {
		return false, false, nil
	}
	segments, err := r.segmentsOf(ctx, partition)
	if err != nil {
		return false, false, err
	}
	numbers := []int{}
	for _, s := range segments {
		numbers = append(numbers, s.Number)
	}
	for _, x := range partition.Purges {
		numbers = append(numbers, x.Number)
	}
	for _, n := range numbers {
		journal, err := r.source.Journal(ctx, r.Run.ID, n)
		if err != nil {
			return false, false, err
		}
		if len(journal) > 0 { // dropped, and not all of it closed yet
			return false, true, r.closePartition(ctx, partition)
		}
	}
	if !slices.ContainsFunc(r.table.Partitions, func(p shape.Partition) bool { return p.Name == partition.Name }) {
		return false, false, &refuse.Differs{Why: "it is not there any more, and this run did not drop it"}
	}
	return false, false, nil
}

// segmentsOf lists the open segments of a partition.
func (r *Execution) segmentsOf(ctx context.Context, partition *catalog.Part) ([]catalog.Segment, error) {
	all, err := r.Catalog.RunSegments(ctx, r.Run.ID)
	return slices.DeleteFunc(all, func(s catalog.Segment) bool {
		return s.Part != partition.Name ||
			s.State != catalog.SegmentOpen
	}), err
}

// eachOpen hands on the open segments of a partition, each with its pass and the journal of its rows.
func (r *Execution) eachOpen(ctx context.Context, partition *catalog.Part,
	fn func(*catalog.Segment, *Pass, []source.JournalRow) error) error {
	segments, err := r.segmentsOf(ctx, partition)
	for i := range segments {
		if err != nil {
			return err
		}
		var p *Pass
		var journal []source.JournalRow
		if p, err = r.passOf(segments[i].Clause, segments[i].Table); err == nil {
			journal, err = r.source.Journal(ctx, r.Run.ID, segments[i].Number)
		}
		if err == nil {
			err = fn(&segments[i], p, journal)
		}
	}
	return err
}

// leavesWhole says whether an open segment waits for its partition.
func (r *Execution) leavesWhole(s *catalog.Segment) bool {
	return s.Part != "" && s.State == catalog.SegmentOpen &&
		slices.ContainsFunc(r.Run.Parts.V, func(p catalog.Part) bool {
			return p.Name == s.Part &&
				p.State != catalog.PartRows
		})
}

// purgedWhole says whether a number is that of rows that were purged with a partition, whose books moveParts makes.
func (r *Execution) purgedWhole(number int) bool {
	return slices.ContainsFunc(r.Run.Parts.V, func(p catalog.Part) bool {
		return slices.ContainsFunc(p.Purges, func(x catalog.PartPurge) bool { return x.Number == number })
	})
}

// dueWholly checks that nothing keeps a row of a partition, before work is put into it.
func (r *Execution) dueWholly(ctx context.Context, partition *catalog.Part) error {
	sel, err := r.due.WithHolds(ctx, r.Run.Source, r.whole)
	if err != nil {
		return err
	}
	sel.Table = r.partitionTable(partition.Name, false)
	return r.retry(ctx, func() error { return due.Wholly(ctx, r.source, sel) })
}

// copyPartition copies and verifies what a clause archives of a partition. It goes on where an earlier execution
// stopped.
func (r *Execution) copyPartition(ctx context.Context, p *Pass, partition *catalog.Part, number int) (_ int,
	err error) {
	segments, err := r.segmentsOf(ctx, partition)
	if err != nil {
		return number, err
	}
	var after []value.Value
	for i := range slices.Backward(segments) {
		if s := &segments[i]; s.Clause == p.clause {
			w, err := r.stored(ctx, s, p)
			if err != nil {
				return number, err
			}
			after = w.slice.Next
			break
		}
	}
	one := *p // it copies alone: the partition takes the rows along
	one.partition, one.sel.Table, one.then = partition.Name, r.partitionTable(partition.Name, false), rule.ThenCopy
	r.Pass = &one
	defer func() { r.Pass = r.passes[r.Run.Pass] }()
	return r.movePass(ctx, number, after)
}

// Taking a partition out is tried so often while others are at the table; a detach that has begun is waited for
// without end, since readers do not see the partition any more.
const (
	detachTries = 120
	detachWait  = 500 * time.Millisecond
)

func (r *Execution) detach(ctx context.Context, partition *catalog.Part) error {
	for try := 1; ; try++ {
		err := r.retry(ctx, func() error {
			err := source.PartitionsOf(r.source).Detach(context.WithoutCancel(ctx), r.leases[r.table.Name], r.table,
				partition.Name)
			if errors.Is(err, source.ErrBusy) { // counted here, not waited for without end
				err = fmt.Errorf("%w: %w", refuse.ErrOthers,
					&refuse.Differs{Why: "others were at the table whenever it was to be taken out: " + err.Error()})
			}
			return err
		})
		if !errors.Is(err, refuse.ErrOthers) {
			return err
		}
		if try >= detachTries {
			return err
		}
		r.Run.Reason = fmt.Sprintf("waiting for others at the table, to take partition %s out", partition.Name)
		if err := r.show(ctx, true); err != nil {
			return err
		}
		if err := source.Rest(ctx, detachWait); err != nil {
			return errors.Join(err, r.attach(context.WithoutCancel(ctx), partition))
		}
		r.Run.Reason = ""
	}
}

// leave compares a partition that is aside with what was copied of it, and drops it.
func (r *Execution) leave(ctx context.Context, number int, partition *catalog.Part) (int, error) {
	begun := r.Now()
	holds, err := r.tables.HoldsOn(ctx, r.Run.Source, r.table)
	if err != nil {
		return number, err
	}
	segments, err := r.segmentsOf(ctx, partition)
	if err != nil {
		return number, err
	}
	var z source.Seized
	err = r.retry(ctx, func() (err error) {
		z, err = source.PartitionsOf(r.source).Seize(context.WithoutCancel(ctx), r.leases[r.table.Name], r.table,
			partition.Name)
		return err
	})
	if err != nil {
		return number, err
	}
	defer z.Release()
	rows, number, err := r.matches(ctx, z, number, partition, segments)
	if err != nil {
		return number, err
	}
	partition.Compare += r.Now().Sub(begun).Microseconds()
	// which numbers are those of purged rows must be known before they are journalled
	if err := r.show(ctx, true); err != nil {
		return number, err
	}
	begun = r.Now()
	defer r.gates(r.passes[0])()
	now, err := r.tables.HoldsOn(ctx, r.Run.Source, r.table)
	if err != nil {
		return number, err
	}
	if fmt.Sprint(now) != fmt.Sprint(holds) {
		return number, &refuse.Differs{Why: "the holds on the table changed while it was being compared"}
	}
	if err := z.Drop(context.WithoutCancel(ctx), rows); err != nil {
		return number, err
	}
	partition.Drop += r.Now().Sub(begun).Microseconds()
	r.measureLog(ctx)
	return number, r.closePartition(context.WithoutCancel(ctx), partition)
}

// matches compares, clause by clause, what a partition that is locked holds with what was copied, and makes the
// journal rows of its leaving. A row that belongs to no clause keeps the partition.
func (r *Execution) matches(ctx context.Context, z source.Seized, number int, partition *catalog.Part,
	segments []catalog.Segment) (rows []*source.JournalRow, _ int, err error) {
	total, err := z.Rows(ctx)
	if err != nil {
		return nil, number, err
	}
	partition.Purges, partition.Left = nil, total
	var covered int64
	for _, p := range r.passes {
		found, err := r.setOf(ctx, p, partition.Name)
		if err != nil {
			return nil, number, err
		}
		covered += found.Count
		if p.store == nil {
			if found.Count > 0 {
				rows = append(rows, source.WholeRow(r.Run.ID, number, found))
				partition.Purges = append(partition.Purges, catalog.PartPurge{Clause: p.clause, Number: number})
				number++
			}
			continue
		}
		var copied value.Set
		for _, s := range segments {
			if s.Clause != p.clause {
				continue
			}
			_, set, err := r.asRead(ctx, p, &s)
			if err != nil {
				return nil, number, err
			}
			copied.Merge(set)
			rows = append(rows, source.WholeRow(r.Run.ID, s.Number, set))
		}
		switch {
		case copied.Count != found.Count:
			return nil, number, &refuse.Differs{Why: fmt.Sprintf("%s of its rows were copied, and %s are there now",
				humanize.Comma(copied.Count), humanize.Comma(found.Count))}
		case copied != found:
			return nil, number, &refuse.Differs{Why: "some of its rows were changed after they were copied"}
		}
	}
	if covered != total {
		return nil, number, &refuse.Differs{
			Why: fmt.Sprintf("%s of its rows may not go: they came, or a hold did, after it was looked at",
				humanize.Comma(total-covered))}
	}
	return rows, number, nil
}

// setOf is the set digest of what a clause takes of a partition that is aside.
func (r *Execution) setOf(ctx context.Context, p *Pass, name string) (set value.Set, err error) {
	sel, err := r.due.WithHolds(ctx, r.Run.Source, p.sel)
	if err != nil {
		return set, err
	}
	sel.Table = r.partitionTable(name, true)
	req := source.SliceRequest{Selection: sel, Columns: p.columns, AnyOrder: true, MaxRows: due.SliceRows,
		MaxBytes: due.SliceBytes}
	var hasher value.Hasher
	for {
		var slice *source.Slice
		err := r.retry(ctx, func() (err error) {
			partition := value.Set{}
			slice, err = r.readSlice(ctx, req, func(c *value.Chunk) error {
				for i := range c.Rows() {
					partition.Add(hasher.Row(c.Row(i)))
				}
				return ctx.Err()
			})
			if err == nil {
				set.Merge(partition)
			}
			return err
		})
		if err != nil || !slice.More || slice.Locators.Len() == 0 {
			return set, err
		}
		req.After = slice.Next
	}
}

// asRead is a segment's manifest, and the set digest of its rows as the source had them.
func (r *Execution) asRead(ctx context.Context, p *Pass, s *catalog.Segment) (*archive.Manifest, value.Set, error) {
	m, _, err := archive.LoadManifest(ctx, p.store, s.Stem)
	if err != nil {
		return nil, value.Set{}, err
	}
	if m.AsRead != nil {
		return m, *m.AsRead, nil
	}
	return m, m.Digest, nil
}

// dropAgain ends a dropping that was cut off after its journal rows were written: what is left of the partition must
// still be what they say.
func (r *Execution) dropAgain(ctx context.Context, partition *catalog.Part) error {
	segments, err := r.segmentsOf(ctx, partition)
	if err != nil {
		return err
	}
	z, err := source.PartitionsOf(r.source).Seize(ctx, r.leases[r.table.Name], r.table, partition.Name)
	if err != nil {
		return err
	}
	defer z.Release()
	before := *partition
	if _, _, err := r.matches(ctx, z, 0, partition, segments); err != nil && !errors.Is(err, source.ErrNoTable) {
		var differs *refuse.Differs
		if rows, counted := z.Rows(ctx); !errors.As(err, &differs) || counted == nil && rows > 0 {
			return fmt.Errorf("%w about partition %s of %s: it was found to be what was copied, and is not any "+
				"more (%w)", refuse.ErrDisagree, partition.Name, r.table.Name, err)
		}
	}
	*partition = before
	if err := z.Drop(ctx, nil); err != nil {
		return err
	}
	return r.closePartition(ctx, partition)
}

// closePartition closes the books of a partition that was dropped, from the journal.
func (r *Execution) closePartition(ctx context.Context, partition *catalog.Part) error {
	var numbered []int
	err := r.eachOpen(ctx, partition, func(s *catalog.Segment, p *Pass, journal []source.JournalRow) error {
		m, set, err := r.asRead(ctx, p, s)
		if err != nil {
			return err
		}
		if len(journal) != 1 || journal[0].Digest != set || int64(journal[0].Deleted) != set.Count {
			return fmt.Errorf("%w: partition %s was dropped, and the journal does not say so of segment %s",
				refuse.ErrBooks, partition.Name, s.ID)
		}
		books := &archive.Closing{Deleted: set.Count, Digest: set, Changed: []int{}, Vanished: []int{}, Held: []int{},
			Skipped: []int{}}
		if err := r.closeSegment(ctx, &Work{number: s.Number, pass: p, segment: s, archived: archived{manifest: m}},
			books); err != nil {
			return err
		}
		r.addUp(p, numbers(books))
		r.Run.Slices = max(r.Run.Slices, s.Number)
		numbered = append(numbered, s.Number)
		return nil
	})
	if err != nil {
		return err
	}
	for _, x := range partition.Purges {
		if x.Number <= r.Run.Slices {
			continue
		}
		journal, err := r.source.Journal(ctx, r.Run.ID, x.Number)
		if err != nil {
			return err
		}
		p, err := r.passOf(x.Clause, r.table.Name)
		if err != nil {
			return err
		}
		r.addUp(p, tally(journal))
	}
	for _, x := range partition.Purges {
		r.Run.Slices = max(r.Run.Slices, x.Number)
		numbered = append(numbered, x.Number)
	}
	r.Run.Reason = ""
	if err := errors.Join(partition.Become(catalog.PartLeft), r.show(ctx, true)); err != nil {
		return err
	}
	for _, n := range numbered {
		if err := r.source.PruneJournal(ctx, r.Run.ID, n); err != nil {
			return err
		}
	}
	return nil
}

// attach puts a partition back into its table, if it is on its way out.
func (r *Execution) attach(ctx context.Context, partition *catalog.Part) error {
	return r.retry(ctx, func() error {
		list, err := source.PartitionsOf(r.source).Departures(ctx, r.table.Name)
		if err != nil {
			return err
		}
		for _, d := range list {
			if d.Partition == partition.Name && d.Run == r.Run.ID && !d.Dropping {
				t := r.partitionTable(partition.Name, false)
				t.Base, t.Schema, t.Part = r.table.Base, r.table.Schema, ""
				return source.PartitionsOf(r.source).Return(ctx, r.leases[r.table.Name], t, partition.Name)
			}
		}
		return nil
	})
}

// handBack lets a partition stay; its rows leave one by one, those first that were copied already.
func (r *Execution) handBack(ctx context.Context, partition *catalog.Part, why string) error {
	if err := r.attach(context.WithoutCancel(ctx), partition); err != nil {
		return err
	}
	r.Log.Info("a partition stays, and its rows go one by one", "run", r.Run.ID, "partition", partition.Name, "reason",
		why)
	partition.Reason, partition.Left, partition.Purges = strings.TrimPrefix(why, source.ErrWhole.Error()+": "), 0, nil
	if err := errors.Join(partition.Become(catalog.PartRows), r.show(ctx, true)); err != nil {
		return err
	}
	return r.eachOpen(ctx, partition, func(s *catalog.Segment, p *Pass, journal []source.JournalRow) error {
		w, err := r.reopen(ctx, s, p, nil)
		if err != nil {
			return err
		}
		r.Run.Copied = max(r.Run.Copied-s.Rows, r.Run.Closed.V.Copied) // they count again, batch by batch
		_, err = r.finish(ctx, w, journal)
		return err
	})
}

// returnPartitions puts back what a cancelled run has taken out and not dropped.
func (r *Execution) returnPartitions(ctx context.Context) error {
	if r.Run.Emptying {
		if _, err := r.emptied(ctx, r.Run.Slices+1); err != nil {
			return err
		}
	}
	for i := range r.Run.Parts.V {
		partition := &r.Run.Parts.V[i]
		if partition.State.Ended() {
			continue
		}
		if _, settled, err := r.finishPartition(ctx, partition); err != nil {
			var differs *refuse.Differs
			if !errors.As(err, &differs) {
				return err
			}
		} else if settled {
			continue
		}
		if err := r.attach(ctx, partition); err != nil {
			return err
		}
		if err := partition.Become(catalog.PartRows); err != nil {
			return err
		}
		partition.Reason, partition.Left = "the run was cancelled", 0
	}
	return nil
}

// othersPartitions refuses to work on a table of which another run has taken a partition out.
func (r *Execution) othersPartitions(ctx context.Context) error {
	list, err := source.PartitionsOf(r.source).Departures(ctx, r.Run.Table)
	if err != nil {
		return err
	}
	for _, d := range list {
		if d.Run == r.Run.ID {
			continue
		}
		what := fmt.Sprintf("run %s has taken partition %s out of table %s and has neither dropped it nor put it back",
			d.Run, d.Partition, r.Run.Table)
		if d.Partition == "" {
			what = fmt.Sprintf("run %s has begun to empty table %s and has not said whether it did", d.Run,
				r.Run.Table)
		}
		return &refuse.Error{Message: what, Remedy: "resume or cancel that run; it settles this first"}
	}
	return nil
}

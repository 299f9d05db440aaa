package run

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/mask"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// Pass is the part of a run that takes the rows of one clause.
type Pass struct {
	clause    int
	then      rule.Then
	table     *shape.Table
	sel       source.Selection // holds are added batch by batch
	columns   []int            // of the table, that are read and digested
	after     *period.Period   // until copied rows are deleted; nil: by hand
	partition string           // that it reads, where that leaves as a whole
	related   []*Pass          // of the related tables, whose rows go along
	relation  *source.Related  // of a related table's pass: how its rows refer to others; nil otherwise
	filing
}

// filing is where and how the rows of a pass are archived.
type filing struct {
	store     store.Store    // nil where the rows are purged
	name      string         // of the store
	keep      *period.Period // in the archive
	keepFrom  rule.KeepFrom  // what that counts from
	second    string         // the store for second copies
	coldStore string         // to which segments move
	coldAfter *period.Period
	clean     *mask.Cleaner // nil where rows are archived as they are
	include   []filter.Ref  // joined columns that are archived with the row
	beside    []source.Join // whose rows are kept with the segment
}

// filingOf is what a rule says of it; the store is named and opened for each pass.
func filingOf(a *rule.Archive) filing {
	return filing{keep: a.Keep, keepFrom: a.From, second: a.Second, coldStore: a.ColdStore, coldAfter: a.ColdAfter}
}

// makePasses makes the passes of a run, for a table as it is now.
func (r *Execution) makePasses(ctx context.Context, planned *catalog.Plan, t *shape.Table) error {
	if len(r.Run.Passes.V) == 0 { // of a run that an older version began
		r.Run.Passes.V = []catalog.Pass{{Label: r.rule.Label(0), Then: r.Run.Action, Store: r.Run.Store,
			Cutoff: r.Run.Cutoff, Due: r.Run.Due, Ledger: r.Run.Closed.V}}
	}
	whole, err := due.Selection(r.rule, t, r.joined, due.CutoffsOf(planned, r.rule), planned.Detail.V.Narrow)
	if err != nil {
		return err
	}
	pinned := planned.Detail.V.Pinned
	if pinned == nil { // of an older version
		if pinned, err = r.due.PinRelated(ctx, r.rule, r.related, planned.MadeAt.Time); err != nil {
			return err
		}
	}
	if whole.Related, err = r.due.Related(ctx, r.source, r.rule, t, r.related, pinned); err != nil {
		return err
	}
	r.passes, r.whole = nil, whole
	for _, x := range r.Run.Passes.V {
		e := r.rule.Effective(x.Clause)
		p := &Pass{clause: x.Clause, then: rule.Then(x.Then), table: t, sel: whole,
			filing: filingOf(e.Archive), after: e.DeleteAfter}
		p.name = x.Store
		i := slices.IndexFunc(whole.Terms, func(t rule.Term) bool { return t.Clause == x.Clause })
		if i < 0 {
			return fmt.Errorf("run %s: clause %d is not in revision %d of rule %s", r.Run.ID, x.Clause+1,
				r.Run.Revision, r.Run.Rule)
		}
		p.sel.Terms = []rule.Term{whole.Terms[i]}
		if err := r.equipRelated(ctx, p, e); err != nil {
			return err
		}
		if err := r.equip(ctx, p, e, t, r.joined); err != nil {
			return err
		}
		for _, k := range p.related {
			r.ledger(k) // in the order of the rule
		}
		r.passes = append(r.passes, p)
	}
	r.Pass = r.passes[r.Run.Pass]
	return nil
}

// equip opens the store of a pass and says which columns it reads. What a row version tells of need not be read for
// comparing.
func (r *Execution) equip(ctx context.Context, p *Pass, e rule.Clause, t *shape.Table, joined due.JoinedTables) (
	err error) {
	versions := r.source.Reads().RowVersions && len(p.related) == 0 // families are compared by content
	p.columns = due.Readable(t, nil)
	if !p.then.Copies() {
		if versions {
			p.columns = t.KeyPositions()
			if _, age := p.sel.AgeColumn(); age >= 0 {
				p.columns = append([]int{age}, p.columns...)
			}
		}
		return nil
	}
	if p.store, err = r.Store(ctx, p.name); err != nil {
		return err
	}
	if versions {
		p.columns = due.Readable(t, e.Omit)
	}
	scope := r.rule.Scope(t, joined)
	for _, name := range r.rule.Include {
		join, column, _ := strings.Cut(name, ".")
		c, _, _ := scope(join, column)
		if c == nil {
			return &refuse.Error{Field: "include", Message: fmt.Sprintf("there is no column %q to include any more",
				name), Remedy: "change the rule"}
		}
		p.include = append(p.include, filter.Ref{Join: join, Name: column, Column: c})
	}
	for _, j := range p.sel.Joins {
		if slices.Contains(r.rule.Copy, j.Name) {
			p.beside = append(p.beside, j)
		}
	}
	if len(e.Omit)+len(e.Mask)+len(p.include) > 0 {
		key, err := r.due.MaskKey(ctx)
		if err != nil {
			return err
		}
		p.clean = mask.New(t, p.columns, e.Omit, e.Mask, key)
		p.clean.Include(p.include)
	}
	return nil
}

// passOf is the pass of a clause over a table: the rule's, or a related one.
func (r *Execution) passOf(clause int, table string) (*Pass, error) {
	for _, p := range r.passes {
		if p.clause != clause {
			continue
		}
		for _, x := range append([]*Pass{p}, p.related...) {
			if x.table.Name == table {
				return x, nil
			}
		}
	}
	return nil, fmt.Errorf("%w: run %s has a segment of clause %d and table %s, and takes none such",
		refuse.ErrDisagree, r.Run.ID, clause+1, table)
}

// ledger is what has been closed of a pass.
func (r *Execution) ledger(p *Pass) *catalog.Ledger {
	for i := range r.Run.Passes.V {
		x := &r.Run.Passes.V[i]
		if x.Clause != p.clause {
			continue
		}
		if p.relation == nil {
			return &x.Ledger
		}
		for j := range x.Related {
			if x.Related[j].Table == p.table.Name {
				return &x.Related[j].Ledger
			}
		}
		x.Related = append(x.Related, catalog.PassRelated{Table: p.table.Name, Then: string(p.then), Store: p.name})
		return &x.Related[len(x.Related)-1].Ledger
	}
	return &catalog.Ledger{} // passOf has said so before
}

// sumUp makes the run's ledger the sum of what its passes have closed.
func (r *Execution) sumUp() {
	var sum catalog.Ledger
	for _, p := range r.Run.Passes.V {
		AddLedger(&sum, p.Ledger)
	}
	r.Run.Closed.V, r.Run.Ledger = sum, sum
}

func AddLedger(into *catalog.Ledger, l catalog.Ledger) {
	into.Copied += l.Copied
	into.Deleted += l.Deleted
	into.Unlinked += l.Unlinked
	into.Changed += l.Changed
	into.Vanished += l.Vanished
	into.Held += l.Held
	into.Skipped += l.Skipped
	for to, from := range map[*string]string{&into.CopiedDigest: l.CopiedDigest, &into.DeletedDigest: l.DeletedDigest,
		&into.LeftDigest: l.LeftDigest} {
		mergeSets(to, from)
	}
}

// mergeSets adds set digests to another; the empty text is the empty set. One that cannot be read stays in place of
// the sum, so that closing the ledger says so: a digest must never be taken for the empty set.
func mergeSets(into *string, texts ...string) {
	var sum value.Set
	for _, text := range append([]string{*into}, texts...) {
		if text == "" {
			continue
		}
		set, err := value.ParseSet(text)
		if err != nil {
			*into = text
			return
		}
		sum.Merge(set)
	}
	*into = sum.String()
}

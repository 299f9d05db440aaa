package engine

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// pass is the part of a run that takes the rows of one clause.
type pass struct {
	clause   int
	then     rule.Then
	table    *shape.Table
	sel      source.Selection // holds are added batch by batch
	columns  []int            // of the table, that are read and digested
	store    store.Store      // nil where the rows are purged
	name     string           // of the store
	keep     *period.Period   // in the archive
	keepFrom rule.KeepFrom    // what that counts from

	second, coldStore string // for second copies, and to which segments move
	coldAfter         *period.Period
	after             *period.Period // until copied rows are deleted; nil: by hand
	clean             *cleaner       // nil where rows are archived as they are
	include           []filter.Ref   // joined columns that are archived with the row
	beside            []source.Join  // whose rows are kept with the segment

	part string // the partition that it reads, where that leaves as a whole

	kin      []*pass     // of the related tables, whose rows go along
	relation *source.Kin // of a related table's pass: how its rows refer to others; nil otherwise
}

// passes makes the passes of a run, for a table as it is now.
func (r *runner) makePasses(ctx context.Context, planned *catalog.Plan, t *shape.Table) error {
	if len(r.run.Passes.V) == 0 { // of a run that an older version began
		r.run.Passes.V = []catalog.Pass{{Label: r.rule.Label(0), Then: r.run.Action, Store: r.run.Store, Cutoff: r.run.Cutoff, Due: r.run.Due, Ledger: r.run.Closed.V}}
	}
	whole, err := selection(r.rule, t, r.joined, cutoffsOf(planned, r.rule), planned.Detail.V.Narrow)
	if err != nil {
		return err
	}
	pinned := planned.Detail.V.Pinned
	if pinned == nil { // of an older version
		if pinned, err = r.pinRelated(ctx, r.rule, r.related, planned.MadeAt.Time); err != nil {
			return err
		}
	}
	if whole.Kin, err = r.kinOf(ctx, r.source, r.rule, t, r.related, pinned); err != nil {
		return err
	}
	r.passes, r.whole = nil, whole
	for _, x := range r.run.Passes.V {
		e := r.rule.Effective(x.Clause)
		p := &pass{clause: x.Clause, then: rule.Then(x.Then), table: t, sel: whole, name: x.Store, keep: e.Archive.Keep, keepFrom: e.Archive.From, second: e.Archive.Second, coldStore: e.Archive.ColdStore, coldAfter: e.Archive.ColdAfter, after: e.DeleteAfter}
		i := slices.IndexFunc(whole.Terms, func(t rule.Term) bool { return t.Clause == x.Clause })
		if i < 0 {
			return fmt.Errorf("run %s: clause %d is not in revision %d of rule %s", r.run.ID, x.Clause+1, r.run.Revision, r.run.Rule)
		}
		p.sel.Terms = []rule.Term{whole.Terms[i]}
		if err := r.equipKin(ctx, p, e); err != nil {
			return err
		}
		if err := r.equip(ctx, p, e, t, r.joined); err != nil {
			return err
		}
		for _, k := range p.kin {
			r.ledger(k) // in the order of the rule
		}
		r.passes = append(r.passes, p)
	}
	r.pass = r.passes[r.run.Pass]
	return nil
}

// equip opens the store of a pass and says which columns it reads. What a row version tells of need not be read for
// comparing.
func (r *runner) equip(ctx context.Context, p *pass, e rule.Clause, t *shape.Table, joined joinedTables) (err error) {
	versions := r.source.Reads().RowVersions && len(p.kin) == 0 // families are compared by content
	p.columns = readable(t, nil)
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
		p.columns = readable(t, e.Omit)
	}
	scope := r.rule.Scope(t, joined)
	for _, name := range r.rule.Include {
		join, column, _ := strings.Cut(name, ".")
		c, _, _ := scope(join, column)
		if c == nil {
			return &refuse.Error{Field: "include", Message: fmt.Sprintf("there is no column %q to include any more", name), Remedy: "change the rule"}
		}
		p.include = append(p.include, filter.Ref{Join: join, Name: column, Column: c})
	}
	for _, j := range p.sel.Joins {
		if slices.Contains(r.rule.Copy, j.Name) {
			p.beside = append(p.beside, j)
		}
	}
	if len(e.Omit)+len(e.Mask)+len(p.include) > 0 {
		key, err := r.maskKey(ctx)
		if err != nil {
			return err
		}
		p.clean = newCleaner(t, p.columns, e.Omit, e.Mask, key)
		p.clean.include(p.include)
	}
	return nil
}

const maskSetting = "mask_key"

// maskKey is the key of masks that hash. It stays in the catalog and goes into no archive.
func (e *Engine) maskKey(ctx context.Context) ([]byte, error) {
	text, err := e.Catalog.Setting(ctx, maskSetting)
	if err != nil {
		return nil, err
	}
	if text == "" {
		text = rand.Text() + rand.Text()
		if err := e.Catalog.SetSetting(ctx, maskSetting, text); err != nil {
			return nil, err
		}
	}
	return []byte(text), nil
}

// cleaner leaves out and masks columns on the way to the archive.
type cleaner struct {
	columns  []shape.Column // as they are archived
	from     []int          // where each stands in the rows that are read
	masks    []rule.Mask    // of each; empty: as it is
	omitted  []string
	masked   map[string]rule.Mask
	included []string
	read     int // columns of the table that are read
	key      []byte
	out      value.Chunk
}

func newCleaner(t *shape.Table, read []int, omit []string, mask map[string]rule.Mask, key []byte) *cleaner {
	c := &cleaner{omitted: omit, masked: mask, key: key, read: len(read)}
	for at, i := range read {
		col := t.Columns[i]
		if slices.Contains(omit, col.Name) {
			continue
		}
		if mask[col.Name] == rule.MaskHash {
			col.Kind, col.AsText, col.Age = value.Text, true, shape.AgeNone
		}
		c.columns, c.from, c.masks = append(c.columns, col), append(c.from, at), append(c.masks, mask[col.Name])
	}
	c.out.Width = len(c.columns)
	return c
}

// include appends joined columns, which are read behind the others.
func (c *cleaner) include(refs []filter.Ref) {
	for _, r := range refs {
		col := *r.Column
		col.Name, col.Nullable, col.Generated, col.Number = r.Join+"."+r.Name, true, false, 0
		c.included = append(c.included, col.Name)
		c.columns, c.masks = append(c.columns, col), append(c.masks, "")
		c.from = append(c.from, c.read+len(c.included)-1)
	}
	c.out.Width = len(c.columns)
}

// chunk returns the rows as they are archived; they are valid until its next call.
func (c *cleaner) chunk(in *value.Chunk) *value.Chunk {
	c.out.Reset()
	for i := range in.Rows() {
		row := in.Row(i)
		for j, at := range c.from {
			v := c.mask(row[at], j)
			if v.B != nil {
				v.B = c.out.Keep(v.B)
			}
			c.out.Values = append(c.out.Values, v)
		}
	}
	return &c.out
}

func (c *cleaner) mask(v value.Value, j int) value.Value {
	if v.Kind == value.Null {
		return v
	}
	switch c.masks[j] {
	case rule.MaskBlank:
		if v.Kind == value.Text && !c.columns[j].Nullable {
			return value.OfText("")
		}
		return value.Value{}
	case rule.MaskHash:
		h := hmac.New(sha256.New, c.key)
		h.Write([]byte(c.columns[j].Name + "\x00"))
		h.Write(v.AppendCanonical(nil))
		return value.OfText(hex.EncodeToString(h.Sum(nil)))
	case rule.MaskYear:
		return firstOfYear(v)
	case rule.MaskLast4:
		return value.OfText(lastFour(v))
	}
	return v
}

func firstOfYear(v value.Value) value.Value {
	if v.Kind == value.Text {
		if t, ok := rule.ParseISO(string(v.B)); ok {
			return value.OfText(fmt.Sprintf("%04d-01-01", t.Year()))
		}
		return value.Value{}
	}
	t, ok := v.Instant()
	if !ok {
		return v
	}
	first := time.Date(t.Year(), 1, 1, 0, 0, 0, 0, time.UTC)
	if v.Kind == value.Date {
		return value.Value{Kind: v.Kind, N: (first.Unix() - ((first.Unix()%86_400)+86_400)%86_400) / 86_400}
	}
	return value.Value{Kind: v.Kind, N: first.UnixMicro()}
}

// lastFour keeps the last four characters, and hides how many there were before them. Of so short a text that four are
// most of it, nothing is kept.
func lastFour(v value.Value) string {
	if !utf8.Valid(v.B) || utf8.RuneCount(v.B) < 8 {
		return "****"
	}
	runes := []rune(string(v.B))
	return "****" + string(runes[len(runes)-4:])
}

// notes of what was done to the columns, for the manifest.
func (c *cleaner) maskedNames() map[string]string {
	out := map[string]string{}
	for name, m := range c.masked {
		out[name] = string(m)
	}
	return out
}

// passOf is the pass of a clause over a table: the rule's, or a related one.
func (r *runner) passOf(clause int, table string) (*pass, error) {
	for _, p := range r.passes {
		if p.clause != clause {
			continue
		}
		for _, x := range append([]*pass{p}, p.kin...) {
			if x.table.Name == table {
				return x, nil
			}
		}
	}
	return nil, fmt.Errorf("%w: run %s has a segment of clause %d and table %s, and takes none such", refuse.ErrDisagree, r.run.ID, clause+1, table)
}

// ledger is what has been closed of a pass.
func (r *runner) ledger(p *pass) *catalog.Ledger {
	for i := range r.run.Passes.V {
		x := &r.run.Passes.V[i]
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
func (r *runner) sumUp() {
	var sum catalog.Ledger
	for _, p := range r.run.Passes.V {
		addLedger(&sum, p.Ledger)
	}
	r.run.Closed.V, r.run.Ledger = sum, sum
}

func addLedger(into *catalog.Ledger, l catalog.Ledger) {
	into.Copied += l.Copied
	into.Deleted += l.Deleted
	into.Unlinked += l.Unlinked
	into.Changed += l.Changed
	into.Vanished += l.Vanished
	into.Held += l.Held
	into.Skipped += l.Skipped
	for to, from := range map[*string]string{&into.CopiedDigest: l.CopiedDigest, &into.DeletedDigest: l.DeletedDigest, &into.LeftDigest: l.LeftDigest} {
		mergeSets(to, from)
	}
}

// mergeSets adds set digests to another; the empty text is the empty set. One that cannot be read stays in place of the sum, so that closing
// the ledger says so: a digest must never be taken for the empty set.
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

package plan

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/approval"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/source"
)

// Checked is a file of rules that was read and compared with what there is.
type Checked struct {
	Documents []rule.Document
	Problems  []rule.Problem
	tables    []*shape.Table     // by document; nil for named keeps and where the table could not be reached
	joined    []due.JoinedTables // by document
	related   []due.JoinedTables // by document; the related tables, by the name that the rule gives
	keeps     map[string]rule.Named
	schedules map[string]rule.NamedSchedule
	stores    []string // those that there are
	cold      []string // of them, those whose files go cold
}

// CheckRules parses a file of rules and checks each against its source, table and store, the guard rails of the
// source, and the other rules.
func (pl *Planner) CheckRules(ctx context.Context, file string, text []byte) (*Checked, error) {
	docs, problems := rule.Parse(file, text)
	c := &Checked{Documents: docs, Problems: problems, tables: make([]*shape.Table, len(docs)),
		joined: make([]due.JoinedTables, len(docs)), related: make([]due.JoinedTables, len(docs))}
	known, err := pl.Catalog.Rules(ctx)
	if err != nil {
		return nil, err
	}
	if c.stores, c.cold, err = pl.storeNames(ctx); err != nil {
		return nil, err
	}
	if c.keeps, err = pl.due.Keeps(ctx); err != nil {
		return nil, err
	}
	if c.schedules, err = pl.Schedules(ctx); err != nil {
		return nil, err
	}
	for _, d := range docs {
		if d.Keep != nil {
			c.keeps[d.Keep.Name] = *d.Keep
		} else if d.Schedule != nil {
			c.schedules[d.Schedule.Name] = *d.Schedule
		}
	}
	taken := map[string]string{}
	for _, r := range known {
		taken[r.Source+"\x00"+r.Table] = r.Name
	}
	now := pl.Now().UTC()
	for i := range docs {
		d := &docs[i]
		if d.Schedule != nil {
			c.Problems = append(c.Problems, rule.CheckSchedule(d, now)...)
		}
		if d.Keep != nil || d.Schedule != nil || d.Rule.Source == "" || d.Rule.Table == "" {
			continue
		}
		if err := pl.findTables(ctx, c, i); err != nil {
			return nil, err
		}
		t := c.tables[i]
		if t == nil {
			continue
		}
		if other := taken[d.Rule.Source+"\x00"+t.Name]; other != "" && other != d.Rule.Name {
			c.Problems = append(c.Problems,
				d.At("table", fmt.Sprintf("table %s.%s has the rule %s already, and a table has one rule",
					d.Rule.Source, t.Name, other), "change that rule, or apply this one under its name"))
		}
		taken[d.Rule.Source+"\x00"+t.Name] = d.Rule.Name
		c.Problems = append(c.Problems,
			rule.Check(d, rule.Surroundings{Table: t, Joined: c.joined[i], Related: c.related[i], Stores: c.stores,
				Cold: c.cold, Keeps: c.keeps, Schedules: c.schedules, Now: now})...)
		guard, err := pl.Catalog.Guard(ctx, d.Rule.Source)
		if err != nil {
			return nil, err
		}
		for _, b := range guarded(guard, &d.Rule, now, c.resolver(t)) {
			c.Problems = append(c.Problems, d.At(b.field, b.message, b.remedy))
		}
	}
	return c, nil
}

// findTables finds the table of a document's rule and those that the rule joins and relates to it, or says what is
// wrong with what the rule names.
func (pl *Planner) findTables(ctx context.Context, c *Checked, i int) error {
	d := &c.Documents[i]
	t, problem, err := pl.tableOf(ctx, d)
	if err != nil {
		return err
	}
	if problem != nil {
		c.Problems = append(c.Problems, *problem)
		return nil
	}
	c.tables[i], d.Rule.Table = t, t.Name
	if len(d.Rule.Joins)+len(d.Rule.Related) == 0 {
		return nil
	}
	src, err := pl.Source(ctx, d.Rule.Source)
	if err != nil {
		return err
	}
	if c.joined[i], err = due.JoinedBy(ctx, src, &d.Rule); err != nil {
		return err
	}
	if c.related[i], err = due.RelatedTo(ctx, src, &d.Rule); err != nil {
		return err
	}
	for _, x := range c.related[i] {
		if _, err := pl.shelf.Saw(ctx, d.Rule.Source, x); err != nil {
			return err
		}
	}
	t.Joined = map[string]shape.Table{}
	for name, x := range c.joined[i] {
		t.Joined[name] = *x
	}
	for _, x := range d.Rule.Relations() {
		if related := c.related[i][x.Table]; related != nil {
			t.Related = append(t.Related, *related)
		}
	}
	return nil
}

// tableOf finds a rule's table, or says what is wrong with what the rule names.
func (pl *Planner) tableOf(ctx context.Context, d *rule.Document) (*shape.Table, *rule.Problem, error) {
	problem := func(field, message, remedy string) (*shape.Table, *rule.Problem, error) {
		p := d.At(field, message, remedy)
		return nil, &p, nil
	}
	src, err := pl.Source(ctx, d.Rule.Source)
	if errors.Is(err, catalog.ErrNotFound) {
		return problem("source", fmt.Sprintf("there is no source %q", d.Rule.Source),
			"add it with `ambercellar source add`; `ambercellar source list` shows those that there are")
	} else if err != nil { // that is no fault of the rule
		return nil, nil, err
	}
	t, err := src.Table(ctx, d.Rule.Table)
	if errors.Is(err, source.ErrNoTable) {
		return problem("table", fmt.Sprintf("there is no table %q in source %s", d.Rule.Table, d.Rule.Source),
			pl.nearestTable(ctx, src, d.Rule))
	} else if err != nil {
		return nil, nil, err
	}
	t.Sign = nil // nothing is deleted by what is only checked or planned
	_, err = pl.shelf.Saw(ctx, d.Rule.Source, t)
	return t, nil, err
}

// resolver answers for a table what keeps say by reference.
func (c *Checked) resolver(t *shape.Table) rule.Resolver { return due.Resolver(c.keeps, t) }

// breach is one guard rail that a rule does not keep to.
type breach struct{ field, message, remedy string }

// guarded compares a rule with the guard rails of its source.
func guarded(g catalog.Guard, r *rule.Rule, now time.Time, resolve rule.Resolver) (out []breach) {
	const remedy = "lengthen it, or change the guard rail with `ambercellar guard set`"
	if slices.Contains(g.Never, r.Table) || len(g.Only) > 0 && !slices.Contains(g.Only, r.Table) {
		out = append(out, breach{"table", fmt.Sprintf("the guard rails of source %s allow no rule for table %s",
			r.Source, r.Table), "name another table, or change the guard rail with `ambercellar guard set`"})
	}
	for _, x := range r.Relations() {
		if slices.Contains(g.Never, x.Table) && x.Then != rule.ThenUnlink {
			out = append(out, breach{x.Field + ".table",
				fmt.Sprintf("the guard rails of source %s allow no rule for table %s", r.Source, x.Table),
				"unlink its rows, or change the guard rail with `ambercellar guard set`"})
		}
	}
	cutoffs, err := r.Cutoffs(now, resolve)
	if err != nil {
		return out // what is wrong with the keep is said elsewhere
	}
	for i, c := range r.Clauses {
		e := r.Effective(i)
		if c.Off {
			continue
		}
		if g.Live != nil && !cutoffs[i].Never && cutoffs[i].At.After(g.Live.Before(now, r.Location())) {
			out = append(out, breach{fmt.Sprintf("clauses[%d].keep", i),
				fmt.Sprintf("the guard rails of source %s keep every row live for at least %s", r.Source,
					g.Live.Spoken()), remedy})
		}
		if k := e.Archive.Keep; g.Archive != nil && e.Then.Copies() && k != nil &&
			k.Before(now, time.UTC).After(g.Archive.Before(now, time.UTC)) {
			out = append(out, breach{fmt.Sprintf("clauses[%d].archive.keep", i),
				fmt.Sprintf("the guard rails of source %s keep segments in the archive for at least %s", r.Source,
					g.Archive.Spoken()), remedy})
		}
	}
	return out
}

// storeNames lists all stores, and of them those that let files go cold.
func (pl *Planner) storeNames(ctx context.Context) (names, cold []string, err error) {
	stores, err := pl.Catalog.Stores(ctx)
	for _, s := range stores {
		if names = append(names, s.Name); s.Cold() {
			cold = append(cold, s.Name)
		}
	}
	return names, cold, err
}

func (pl *Planner) nearestTable(ctx context.Context, src source.Source, r rule.Rule) string {
	tables, err := src.Tables(ctx)
	if err != nil {
		return ""
	}
	names := make([]string, len(tables))
	for i, t := range tables {
		names[i] = t.Name
	}
	return shelf.Nearest(r.Table, names, fmt.Sprintf("`ambercellar table list %s` shows its tables", r.Source))
}

// Schedules returns the named schedules of the catalog.
func (pl *Planner) Schedules(ctx context.Context) (map[string]rule.NamedSchedule, error) {
	named, err := pl.Catalog.Schedules(ctx)
	out := map[string]rule.NamedSchedule{}
	for _, s := range named {
		out[s.Name] = s.Body.V
	}
	return out, err
}

// Resolver answers what the keeps of a rule say by reference, with its table as it was when the rule was applied.
func (pl *Planner) Resolver(ctx context.Context, r *catalog.Rule) (rule.Resolver, error) {
	keeps, err := pl.due.Keeps(ctx)
	return due.Resolver(keeps, &r.Shape.V), err
}

// Applied says what became of one rule, named keep or named schedule of a file.
type Applied struct {
	Rule     string   `json:"rule"`
	Keep     bool     `json:"keep,omitempty"`     // it is a named keep
	Schedule bool     `json:"schedule,omitempty"` // it is a named schedule
	Revision int      `json:"revision"`
	New      bool     `json:"new"`
	Changes  []string `json:"changes"` // empty where it is as it was
}

// ApplyRules checks a file of rules and, if nothing is wrong with any of them, keeps them all. Warnings are returned
// with what was done. A locked clause is loosened only for a reason, which is kept.
func (pl *Planner) ApplyRules(ctx context.Context, actor, file string, text []byte, reason string) ([]Applied,
	[]rule.Problem, error) {
	return pl.ApplyOver(ctx, actor, file, text, reason, nil)
}

// ApplyOver applies rules like ApplyRules, but only in the place of what is expected there: the texts of rules, by
// their names. Where one was changed meanwhile, nothing is applied.
func (pl *Planner) ApplyOver(ctx context.Context, actor, file string, text []byte, reason string,
	expected map[string]string) ([]Applied, []rule.Problem, error) {
	c, err := pl.CheckRules(ctx, file, text)
	if err != nil {
		return nil, nil, err
	}
	before, err := pl.due.Keeps(ctx)
	if err != nil {
		return nil, nil, err
	}
	var out []Applied
	var keep []catalog.Applied
	schedules, err := pl.Schedules(ctx)
	if err != nil {
		return nil, nil, err
	}
	var loosened []string
	for i, d := range c.Documents {
		if d.Schedule != nil {
			a := Applied{Rule: d.Schedule.Name, Schedule: true, New: true, Changes: []string{"new"}}
			if old, ok := schedules[d.Schedule.Name]; ok {
				a.New, a.Changes = false, old.Compare(d.Schedule)
			}
			if len(a.Changes) > 0 {
				keep = append(keep, catalog.Applied{Document: d, Changes: a.Changes})
			}
			out = append(out, a)
			continue
		}
		if d.Keep != nil {
			a := Applied{Rule: d.Keep.Name, Keep: true, New: true, Changes: []string{"new"}}
			if old, ok := before[d.Keep.Name]; ok {
				a.New, a.Changes = false, compareKeeps(old, *d.Keep)
				if loose, err := pl.loosenedByKeep(ctx, c, old, *d.Keep); err != nil {
					return nil, nil, err
				} else if len(loose) > 0 {
					loosened = append(loosened, loose...)
				}
			}
			if len(a.Changes) > 0 {
				keep = append(keep, catalog.Applied{Document: d, Changes: a.Changes})
			}
			out = append(out, a)
			continue
		}
		a := Applied{Rule: d.Rule.Name, Revision: 1, New: true, Changes: []string{"new"}}
		old, err := pl.Catalog.Rule(ctx, d.Rule.Name)
		var over *int
		if was, ok := expected[d.Rule.Name]; ok {
			if err == nil && old.Text != was || err != nil && was != "" {
				return nil, nil, &refuse.Error{Field: "rule", Message: fmt.Sprintf("rule %s was changed meanwhile",
					d.Rule.Name), Remedy: "look at it, and ask again"}
			}
			over = new(int) // should it be changed after this look, nothing is applied
			if err == nil {
				*over = old.Revision
			}
		}
		switch {
		case err == nil:
			a.New, a.Revision, a.Changes = false, old.Revision, rule.Compare(&old.Body.V, &d.Rule)
			if len(a.Changes) == 0 && old.Text != d.Text {
				a.Changes = []string{"comments or layout"}
			}
			if t := c.tables[i]; len(a.Changes) == 0 && t != nil && old.Shape.V.Base != "" &&
				len(shape.Drift(&old.Shape.V, t)) > 0 {
				a.Changes = []string{"the table as it is now was confirmed"}
			}
			if len(a.Changes) > 0 {
				a.Revision++
			}
			if t := c.tables[i]; t != nil {
				for _, l := range rule.Loosened(&old.Body.V, &d.Rule, pl.Now().UTC(), c.resolver(t)) {
					loosened = append(loosened, "rule "+d.Rule.Name+": "+l)
				}
			}
		case !errors.Is(err, catalog.ErrNotFound):
			return nil, nil, err
		}
		if len(a.Changes) > 0 {
			keep = append(keep, catalog.Applied{Document: d, Shape: c.tables[i], Changes: a.Changes,
				Reason: strings.TrimSpace(reason), Over: over})
		} else {
			a.Changes = []string{}
		}
		out = append(out, a)
	}
	if rule.Fatal(c.Problems) {
		return nil, nil, &refuse.Problems{Problems: c.Problems}
	}
	if len(loosened) > 0 && strings.TrimSpace(reason) == "" {
		return nil, nil, &refuse.Error{Field: "reason", Message: "a locked clause would be loosened: " +
			strings.Join(loosened, "; "), Remedy: "give the reason (-reason), which is kept, or leave the clause " +
			"as it is"}
	}
	if len(loosened) > 0 {
		if ctx, err = pl.allowLoosening(ctx, actor, c, file, text, reason, loosened); err != nil {
			return nil, nil, err
		}
	}
	return out, c.Problems, pl.Catalog.ApplyRules(ctx, actor, pl.Now(), keep)
}

// Application is a file of rules that is applied by itself once it is approved, in the place of what is expected.
type Application struct {
	File     string            `json:"file"`
	Text     string            `json:"text"`
	Reason   string            `json:"reason"`
	Expected map[string]string `json:"expected"` // the texts of its rules, by their names; empty: there is none yet
}

// allowLoosening asks whether a file of rules that loosens locked clauses may be applied, in every source that it is
// about.
func (pl *Planner) allowLoosening(
	ctx context.Context,
	actor string,
	c *Checked,
	file string,
	text []byte,
	reason string,
	loosened []string,
) (context.Context, error) {
	in := Application{File: file, Text: string(text), Reason: reason, Expected: map[string]string{}}
	var sources []string
	for _, d := range c.Documents {
		switch {
		case d.Keep != nil: // of whichever rules use it
			all, err := pl.Catalog.Sources(ctx)
			if err != nil {
				return ctx, err
			}
			for _, s := range all {
				sources = append(sources, s.Name)
			}
		case d.Schedule == nil:
			old, err := pl.Catalog.Rule(ctx, d.Rule.Name)
			if err != nil && !errors.Is(err, catalog.ErrNotFound) {
				return ctx, err
			}
			in.Expected[d.Rule.Name] = ""
			sources = append(sources, d.Rule.Source)
			if err == nil {
				in.Expected[d.Rule.Name] = old.Text
				sources = append(sources, old.Source)
			}
		}
	}
	slices.Sort(sources)
	var err error
	for _, source := range slices.Compact(sources) {
		if ctx, err = pl.Allow(ctx, deps.Need{Whats: []approval.What{approval.Loosenings}, Source: source,
			Subject: source, Of: in,
			Summary: strings.Join(loosened, "; ") + ": " + reason, Asker: actor, Begins: in}); err != nil {
			return ctx, err
		}
	}
	return ctx, nil
}

func compareKeeps(before, after rule.Named) []string {
	out := []string{}
	if before.Keep().String() != after.Keep().String() {
		out = append(out, fmt.Sprintf("period: %s → %s", before.Keep(), after.Keep()))
	}
	if before.About != after.About {
		out = append(out, fmt.Sprintf("about: %s → %s", before.About, after.About))
	}
	return out
}

// loosenedByKeep says which locked clauses of any rule a changed keep would shorten.
func (pl *Planner) loosenedByKeep(ctx context.Context, c *Checked, before, after rule.Named) ([]string, error) {
	if before.Forever == after.Forever &&
		!after.Period.Before(pl.Now(), time.UTC).After(before.Period.Before(pl.Now(), time.UTC)) || after.Forever {
		return nil, nil
	}
	rules, err := pl.Catalog.Rules(ctx)
	var out []string
	for _, r := range rules {
		for i, clause := range r.Body.V.Clauses {
			if clause.Keep.Name == after.Name && clause.Locked != "" && !clause.Off {
				out = append(out, fmt.Sprintf("rule %s: clause %s is shortened from %s to %s", r.Name,
					r.Body.V.Label(i), before.Keep(), after.Keep()))
			}
		}
	}
	return out, err
}

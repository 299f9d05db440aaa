package due

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// RelatedTo describes the tables that a rule names as related, by the name that it gives; those that are not there are
// left out.
func RelatedTo(ctx context.Context, src source.Source, r *rule.Rule) (JoinedTables, error) {
	out := JoinedTables{}
	if _, ok := source.As[source.Families](src); !ok && len(r.Relations()) > 0 {
		return nil, &refuse.Error{Field: "related",
			Message: "this kind of database cannot delete related rows together with those that they refer to",
			Remedy:  "leave related tables out of the rule"}
	}
	for _, x := range r.Relations() {
		t, err := src.Table(ctx, x.Table)
		if errors.Is(err, source.ErrNoTable) {
			continue
		} else if err != nil {
			return nil, err
		}
		out[x.Table] = t
	}
	return out, nil
}

// PinRelated looks up the enabled rules of the tables related to a rule's, with their cutoffs at now.
func (du *Selector) PinRelated(ctx context.Context, r *rule.Rule, related JoinedTables,
	now time.Time) ([]catalog.PinnedRule, error) {
	out := []catalog.PinnedRule{}
	if len(r.Relations()) == 0 {
		return out, nil
	}
	rules, err := du.Catalog.Rules(ctx)
	if err != nil {
		return nil, err
	}
	keeps, err := du.Keeps(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range r.Relations() {
		own := related[x.Table]
		if own == nil {
			continue // whoever binds it says so
		}
		for i := range rules {
			body := &rules[i].Body.V
			if rules[i].Source != r.Source || rules[i].Table != own.Name || body.Off {
				continue
			}
			cutoffs, err := body.Cutoffs(now, Resolver(keeps, own))
			if err != nil {
				return nil, unjudged(body, own, err)
			}
			p := catalog.PinnedRule{Table: own.Name, Rule: rules[i].Name, Revision: rules[i].Revision}
			for _, c := range cutoffs {
				pinned := catalog.PinnedCutoff{Never: c.Never, All: c.All}
				if !c.At.IsZero() {
					at := catalog.Time{Time: c.At}
					pinned.At = &at
				}
				p.Cutoffs = append(p.Cutoffs, pinned)
			}
			out = append(out, p)
		}
	}
	return out, nil
}

func unjudged(body *rule.Rule, own *shape.Table, err error) error {
	return &refuse.Error{Field: "related",
		Message: fmt.Sprintf("the rule %s of the related table %s cannot be judged: %v", body.Name, own.Name, err),
		Remedy:  "mend that rule"}
}

// Related makes the related tables of a rule's selection. A related table that had an enabled rule of its own when the
// plan was made keeps what that rule kept then; holds are not filled in.
func (du *Selector) Related(ctx context.Context, src source.Source, r *rule.Rule, t *shape.Table, related JoinedTables,
	pinned []catalog.PinnedRule) ([]source.Related, error) {
	var out []source.Related
	for _, x := range r.Relations() {
		own, above := related[x.Table], t
		if own == nil {
			return nil, &refuse.Error{Field: "related", Message: fmt.Sprintf("there is no table %q any more", x.Table),
				Remedy: "change the rule"}
		}
		if x.Parent >= 0 {
			above = out[x.Parent].Table
		}
		on, err := x.Pairs(own, above)
		if err != nil {
			return nil, &refuse.Error{Field: "related", Message: err.Error(), Remedy: "change the rule"}
		}
		k := source.Related{Selection: source.Selection{Table: own}, Parent: x.Parent, On: on, Then: x.Then}
		for i := range pinned {
			if pinned[i].Table == own.Name {
				if err := du.judgeRelated(ctx, src, &k, &pinned[i]); err != nil {
					return nil, err
				}
			}
		}
		out = append(out, k)
	}
	return out, nil
}

// judgeRelated gives a related table the terms of its pinned rule.
func (du *Selector) judgeRelated(ctx context.Context, src source.Source, k *source.Related,
	p *catalog.PinnedRule) error {
	body, _, err := du.Revision(ctx, p.Rule, p.Revision)
	if err != nil {
		return err
	}
	joined, err := JoinedBy(ctx, src, body)
	if err != nil {
		return err
	}
	cutoffs := make([]rule.Cutoff, len(p.Cutoffs))
	for i, c := range p.Cutoffs {
		cutoffs[i] = rule.Cutoff{Never: c.Never, All: c.All}
		if c.At != nil {
			cutoffs[i].At = c.At.Time
		}
	}
	if k.Terms, err = body.Terms(cutoffs, body.Scope(k.Table, joined)); err != nil {
		return unjudged(body, k.Table, err)
	}
	k.Age, k.Joins = body.Age, JoinsOf(body, joined)
	return nil
}

// Revision reads a revision of a rule, and its text as it was applied.
func (du *Selector) Revision(ctx context.Context, name string, revision int) (*rule.Rule, string, error) {
	revisions, err := du.Catalog.Revisions(ctx, name)
	if err != nil {
		return nil, "", err
	}
	for _, v := range revisions {
		if v.Revision != revision {
			continue
		}
		if docs, _ := rule.Parse("", []byte(v.Text)); len(docs) == 1 {
			return &docs[0].Rule, v.Text, nil
		}
	}
	return nil, "", fmt.Errorf("revision %d of rule %s cannot be read", revision, name)
}

// WithHolds fills in the holds that stand on a selection's table and on those related to it.
func (du *Selector) WithHolds(ctx context.Context, sourceName string, sel source.Selection) (source.Selection, error) {
	var err error
	if sel.Holds, err = du.tables.HoldsOn(ctx, sourceName, sel.Table); err != nil {
		return sel, err
	}
	sel.Related = slices.Clone(sel.Related)
	for i := range sel.Related {
		if sel.Related[i].Holds, err = du.tables.HoldsOn(ctx, sourceName, sel.Related[i].Table); err != nil {
			return sel, err
		}
	}
	return sel, nil
}

// RelationText says by which columns a related table refers to the one above it.
func RelationText(k source.Related) string {
	parts := make([]string, len(k.On))
	for i, pair := range k.On {
		parts[i] = pair[0] + " = " + pair[1]
	}
	return strings.Join(parts, ", ")
}

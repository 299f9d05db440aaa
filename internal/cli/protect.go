package cli

import (
	"flag"
	"fmt"
	"net/url"
	"strings"

	"ambercellar/internal/api"
	"ambercellar/internal/catalog"
	"ambercellar/internal/client"
	"ambercellar/internal/core/period"
	"ambercellar/internal/engine/plan"
)

func holdFlags(f *flag.FlagSet) {
	whereFlags(f)
	f.String("keys", "", "the keys of the rows, with commas between")
	f.String("keys-file", "", "a file with a key a line; - reads standard input")
	f.String("segments", "", "segments rather than rows, with commas between")
	f.String("reference", "", "the case that the hold is for")
	f.String("reason", "", "why nothing may be removed; it is kept")
}

// names splits a list with commas.
func names(text string) []string {
	var out []string
	for _, s := range strings.Split(text, ",") {
		if s = strings.TrimSpace(s); s != "" {
			out = append(out, s)
		}
	}
	return out
}

func holdPlace(e *env) error {
	where, err := e.where()
	if err != nil {
		return err
	}
	q := plan.HoldRequest{Source: e.args[0], Table: e.args[1], Where: where, Keys: names(e.flag("keys")), Segments: names(e.flag("segments")), Reference: e.flag("reference"), Reason: e.flag("reason")}
	if file := e.flag("keys-file"); file != "" {
		text, err := e.read(file)
		if err != nil {
			return err
		}
		for _, line := range strings.Split(string(text), "\n") {
			if line = strings.TrimRight(line, "\r"); line != "" {
				q.Keys = append(q.Keys, line)
			}
		}
	}
	h, err := client.Post[plan.Placed](e.ctx, e.client, "/holds", q)
	if err != nil {
		return err
	}
	rows := count(h.Rows)
	if h.Rows >= 100_000 {
		rows = "100,000 or more"
	}
	if err := e.hold(&h.Hold, h, "live rows held", rows); err != nil || e.format != "table" {
		return err
	}
	_, err = fmt.Fprintln(e.out, "the hold stands: whatever was being removed has ended, and nothing that it protects is removed from now on")
	return err
}

func (e *env) hold(h *catalog.Hold, answer any, more ...string) error {
	what := h.Filter
	if len(h.Segments.V) > 0 {
		what = "segments " + strings.Join(h.Segments.V, ", ")
	}
	lifted := ""
	if h.LiftedAt != nil {
		lifted = fmt.Sprintf("%s by %s: %s", at(*h.LiftedAt), h.LiftedBy, h.LiftReason)
	}
	return e.facts(answer, append([]string{"hold", h.ID, "table", h.Source + "." + h.Table, "holds", what, "reference", h.Reference, "reason", h.Reason, "placed", at(h.PlacedAt) + " by " + h.PlacedBy, "lifted", lifted}, more...)...)
}

func holdList(e *env) error {
	l, err := client.Get[api.Items[catalog.Hold]](e.ctx, e.client, "/holds?all="+e.flag("all"))
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, h := range l.Items {
		what := h.Filter
		if len(h.Segments.V) > 0 {
			what = fmt.Sprintf("%d segments", len(h.Segments.V))
		}
		rows = append(rows, []string{h.ID, h.Source + "." + h.Table, what, h.Reference, h.Reason, at(h.PlacedAt), atOrDash(h.LiftedAt)})
	}
	return e.show(l, []string{"hold", "table", "holds", "reference", "reason", "placed", "lifted"}, rows)
}

func holdShow(e *env) error {
	h, err := client.Get[catalog.Hold](e.ctx, e.client, "/holds/"+url.PathEscape(e.args[0]))
	if err != nil {
		return err
	}
	return e.hold(&h, h)
}

func holdLift(e *env) error {
	h, err := client.Post[catalog.Hold](e.ctx, e.client, "/holds/"+url.PathEscape(e.args[0])+"/lift", api.Lift{Reason: e.flag("reason")})
	if err != nil {
		return err
	}
	return e.hold(&h, h)
}

func (e *env) guard(g *catalog.Guard) error {
	text := func(p *period.Period) string {
		if p == nil {
			return "not bound"
		}
		return p.String()
	}
	only := "any"
	if len(g.Only) > 0 {
		only = strings.Join(g.Only, ", ")
	}
	return e.facts(g, "source", e.args[0], "live at least", text(g.Live), "in the archive at least", text(g.Archive), "tables with rules", only, "tables without", strings.Join(g.Never, ", "), "approved first", strings.Join(g.Approve, ", "))
}

func guardShow(e *env) error {
	g, err := client.Get[catalog.Guard](e.ctx, e.client, "/sources/"+url.PathEscape(e.args[0])+"/guard")
	if err != nil {
		return err
	}
	return e.guard(&g)
}

func guardSet(e *env) error {
	g := catalog.Guard{Only: names(e.flag("only")), Never: names(e.flag("never")), Approve: names(e.flag("approve"))}
	for name, into := range map[string]**period.Period{"live": &g.Live, "archive": &g.Archive} {
		if text := e.flag(name); text != "" {
			p, err := period.Parse(text)
			if err != nil {
				return usage("-%s: %v", name, err)
			}
			*into = &p
		}
	}
	if err := e.client.Do(e.ctx, "PUT", "/sources/"+url.PathEscape(e.args[0])+"/guard", g, &g); err != nil {
		return err
	}
	return e.guard(&g)
}

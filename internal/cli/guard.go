package cli

import (
	"cmp"
	"strings"

	"ambercellar/client"
	"ambercellar/internal/core/calendar"
	"ambercellar/internal/core/period"
)

func (e *Env) guard(g *client.Guard) error {
	text := func(p *string) string {
		if p == nil {
			return "not bound"
		}
		return *p
	}
	only := "any"
	if len(g.Only) > 0 {
		only = strings.Join(g.Only, ", ")
	}
	hours := "at any time"
	if len(g.Window) > 0 {
		hours = strings.Join(g.Window, ", ") + " (" + cmp.Or(g.Zone, "UTC") + ")"
	}
	return e.Facts(g, []Fact{{"source", e.Args[0]}, {"live at least", text(g.Live)},
		{"in the archive at least", text(g.Archive)}, {"tables with rules", only},
		{"tables without", strings.Join(g.Never, ", ")}, {"approved first", strings.Join(g.Approve, ", ")},
		{"runs work", hours}})
}

func guardShow(e *Env) error {
	g, err := e.Client.Guard(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.guard(g)
}

func guardSet(e *Env) error {
	g := client.Guard{Only: Names(e.Flag("only")), Never: Names(e.Flag("never")), Approve: Names(e.Flag("approve"))}
	for _, w := range strings.Split(e.Flag("window"), ";") {
		if w = strings.TrimSpace(w); w == "" {
			continue
		}
		if _, err := calendar.ParseWindow(w); err != nil {
			return Usage("-window: %v", err)
		}
		g.Window = append(g.Window, w)
	}
	g.Zone = e.Flag("zone")
	for name, into := range map[string]**string{"live": &g.Live, "archive": &g.Archive} {
		if text := e.Flag(name); text != "" {
			p, err := period.Parse(text)
			if err != nil {
				return Usage("-%s: %v", name, err)
			}
			text = p.String()
			*into = &text
		}
	}
	kept, err := e.Client.SetGuard(e.Ctx, e.Args[0], g)
	if err != nil {
		return err
	}
	return e.guard(kept)
}

package cli

import (
	"flag"
	"fmt"
	"strings"

	"ambercellar/client"
)

// holdCommands are the commands of holds and guard rails.
func holdCommands() []Command {
	return []Command{
		{Name: "hold place", Args: "SOURCE TABLE",
			Summary: "see to it that nothing removes rows or segments until the hold is lifted", Flags: holdFlags,
			Run: holdPlace},
		{Name: "hold list", Summary: "list the holds that stand",
			Flags: func(f *flag.FlagSet) { f.Bool("all", false, "those that were lifted too") }, Run: holdList},
		{Name: "hold show", Args: "HOLD", Summary: "show a hold", Run: holdShow},
		{Name: "hold lift", Args: "HOLD", Summary: "end a hold",
			Flags: func(f *flag.FlagSet) { f.String("reason", "", "why the hold ends; it is kept") }, Run: holdLift},
		{Name: "guard show", Args: "SOURCE", Summary: "show what binds all rules of a source", Run: guardShow},
		{Name: "guard set", Args: "SOURCE",
			Summary: "set what binds all rules of a source; what is left out is no longer bound",
			Flags: func(f *flag.FlagSet) {
				f.String("live", "", "rows stay live at least so long, like P30D")
				f.String("archive", "", "segments stay in the archive at least so long")
				f.String("only", "", "the only tables that may have a rule, with commas between")
				f.String("never", "", "tables that may not have a rule")
				f.String("window", "", "when runs may work on the source, whatever their rules say, like "+
					"'mon-fri 22:00-05:00'; several with semicolons between")
				f.String("zone", "", "IANA name of the zone of the windows; left out: UTC")
				f.String("approve", "", "what others have to approve before it is carried out, like "+
					"runs:2:above=10000,restores: runs, emptyings, overrides, restores, disposals, erasures, "+
					"loosenings, "+
					"lifts or guards; behind it @RULE, :PERSONS, :above=ROWS")
			}, Run: guardSet},
	}
}

func holdFlags(f *flag.FlagSet) {
	whereFlags(f)
	f.String("keys", "", "the keys of the rows, with commas between")
	f.String("keys-file", "", "a file with a key a line; - reads standard input")
	f.String("segments", "", "segments rather than rows, with commas between")
	f.String("reference", "", "the case that the hold is for")
	f.String("reason", "", "why nothing may be removed; it is kept")
}

// Names splits a list with commas.
func Names(text string) []string {
	var out []string
	for _, s := range strings.Split(text, ",") {
		if s = strings.TrimSpace(s); s != "" {
			out = append(out, s)
		}
	}
	return out
}

func holdPlace(e *Env) error {
	where, err := e.where()
	if err != nil {
		return err
	}
	q := client.HoldRequest{Source: e.Args[0], Table: e.Args[1], Where: where, Keys: Names(e.Flag("keys")),
		Segments: Names(e.Flag("segments")), Reference: e.Flag("reference"), Reason: e.Flag("reason")}
	if file := e.Flag("keys-file"); file != "" {
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
	h, err := e.Client.PlaceHold(e.Ctx, q)
	if err != nil {
		return err
	}
	rows := Count(h.Rows)
	if h.Rows >= 100_000 {
		rows = "100,000 or more"
	}
	if err := e.hold(&h.Hold, h, Fact{"live rows held", rows}); err != nil || e.Format != "table" {
		return err
	}
	_, err = fmt.Fprintln(e.Out, "the hold stands: whatever was being removed has ended, and nothing that it "+
		"protects is removed from now on")
	return err
}

func (e *Env) hold(h *client.Hold, answer any, more ...Fact) error {
	what := h.Filter
	if len(h.Segments) > 0 {
		what = "segments " + strings.Join(h.Segments, ", ")
	}
	lifted := ""
	if h.LiftedAt != nil {
		lifted = fmt.Sprintf("%s by %s: %s", At(*h.LiftedAt), h.LiftedBy, h.LiftReason)
	}
	return e.Facts(answer, append([]Fact{{"hold", h.ID}, {"table", h.Source + "." + h.Table}, {"holds", what},
		{"reference", h.Reference}, {"reason", h.Reason}, {"placed", At(h.PlacedAt) + " by " + h.PlacedBy},
		{"lifted", lifted}}, more...))
}

func holdList(e *Env) error {
	l, err := e.Client.Holds(e.Ctx, client.HoldsQuery{All: Get[bool](e, "all")})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, h := range l.Items {
		what := h.Filter
		if len(h.Segments) > 0 {
			what = Things(len(h.Segments), "segment")
		}
		rows = append(rows, []string{h.ID, h.Source + "." + h.Table, what, h.Reference, h.Reason, At(h.PlacedAt),
			atOrDash(h.LiftedAt)})
	}
	return e.Show(l, []string{"hold", "table", "holds", "reference", "reason", "placed", "lifted"}, rows)
}

func holdShow(e *Env) error {
	h, err := e.Client.Hold(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.hold(h, h)
}

func holdLift(e *Env) error {
	h, err := e.Client.LiftHold(e.Ctx, e.Args[0], client.Lift{Reason: e.Flag("reason")})
	if err != nil {
		return err
	}
	return e.hold(h, h)
}

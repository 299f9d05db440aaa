package cli

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"ambercellar/client"
	"ambercellar/internal/core/declare"
	"ambercellar/internal/core/shape"
)

// declaredCommands are the commands of what is declared in files.
func declaredCommands() []Command {
	return []Command{
		{Name: "declared list", Summary: "compare what files declare (serve -declare) with what is in force",
			Flags: declaredListFlags, Run: declaredList},
		{Name: "declared show", Args: "KIND NAME",
			Summary: "show how a source, store, keep, schedule or rule differs from its file", Run: declaredShow},
		{Name: "declared apply", Summary: "take up what is new or was changed in the files",
			Flags: declaredApplyFlags, Run: declaredApply},
		{Name: "declared print", Summary: "print all that is in force as files declare it", Run: declaredPrint},
	}
}

func declaredListFlags(f *flag.FlagSet) {
	f.Bool("all", false, "also what is as declared, and what no file declares")
}

func declaredList(e *Env) error {
	d, err := e.Client.Declared(e.Ctx)
	if err != nil {
		return err
	}
	return e.declared(d, Get[bool](e, "all"))
}

// declared shows how files and service stand to each other. It is an error where a file has a fault, or somebody has
// to decide.
func (e *Env) declared(d *client.Declared, all bool) error {
	if d.Dir == "" && e.Format == "table" {
		fmt.Fprintln(e.Out, "the service was given no directory of declarations (serve -declare DIR)")
		return nil
	}
	counts, drift := map[client.Standing]int{}, 0
	rows := [][]string{}
	for _, t := range d.Items {
		counts[t.State]++
		if t.Drifts {
			drift++
		}
		if !all && (t.State == client.DeclaredSame || t.State == client.Undeclared) {
			continue
		}
		place := t.File
		if t.Line > 0 {
			place += fmt.Sprintf(":%d", t.Line)
		}
		rows = append(rows, []string{t.Kind, t.Name, string(t.State), Dash(place), declaredState[t.State]})
	}
	if e.Format != "table" || len(rows) > 0 {
		if err := e.Show(d, []string{"kind", "name", "state", "file", "what that says"}, rows); err != nil {
			return err
		}
	}
	faults := 0
	for _, p := range d.Problems {
		fmt.Fprintln(e.Err, p.Error())
		if !p.Warning {
			faults++
		}
	}
	if e.Format == "table" {
		fmt.Fprintf(e.Out, "%s: %s as declared, %s in no file\n", d.Dir, Count(counts[client.DeclaredSame]),
			Count(counts[client.Undeclared]))
	}
	switch {
	case faults > 0:
		return fmt.Errorf("%s in what %s declares; that is not in force", Things(int64(faults), "fault"), d.Dir)
	case drift == 1:
		return fmt.Errorf("1 thing was changed in the service since it was declared; %s", driftRemedy)
	case drift > 1:
		return fmt.Errorf("%d things were changed in the service since they were declared; %s", drift, driftRemedy)
	}
	return nil
}

const driftRemedy = "`ambercellar declared show KIND NAME` shows how, `ambercellar declared apply -over \"KIND " +
	"NAME\"` takes the file up over that"

var declaredState = map[client.Standing]string{
	client.DeclaredSame:     "as declared",
	client.DeclaredNew:      "not in force yet",
	client.DeclaredNewer:    "the file was changed since",
	client.DeclaredChanged:  "somebody changed it in the service since",
	client.DeclaredConflict: "both the file and the service say something else than what was taken up last",
	client.DeclaredGone:     "in no file any more, and still in force",
	client.Undeclared:       "in no file",
}

func declaredShow(e *Env) error {
	d, err := e.Client.Declared(e.Ctx)
	if err != nil {
		return err
	}
	kind, name := e.Args[0], e.Args[1]
	if !slices.Contains(declare.Kinds, kind) {
		return Usage("%q is none of %s", kind, strings.Join(declare.Kinds, ", "))
	}
	var names []string
	for i := range d.Items {
		t := &d.Items[i]
		if t.Kind != kind {
			continue
		}
		if names = append(names, t.Name); t.Name != name {
			continue
		}
		if e.Format != "table" {
			return e.Show(t, nil, nil)
		}
		fmt.Fprintf(e.Out, "%s %s: %s\n%s", t.Kind, t.Name, declaredState[t.State], t.Difference)
		return nil
	}
	hint := ""
	if near := shape.Nearest(name, names); near != "" {
		hint = fmt.Sprintf("; did you mean %s?", near)
	}
	return fmt.Errorf("there is no %s %s, declared or in force%s", kind, name, hint)
}

func declaredApplyFlags(f *flag.FlagSet) {
	f.String("over", "", "what is taken up over changes that somebody made in the service, like \"rule fares, source "+
		"harbour\", or all; of what is in no file any more: that it ever was is forgotten")
	f.String("reason", "", "why locked clauses are loosened, if any are; it is kept")
}

func declaredApply(e *Env) error {
	d, err := e.Client.ApplyDeclared(e.Ctx, client.TakeUp{Over: Names(e.Flag("over")), Reason: e.Flag("reason")})
	if err != nil {
		return err
	}
	return e.declared(d, false)
}

func declaredPrint(e *Env) error { return e.Client.PrintDeclared(e.Ctx, e.Out) }

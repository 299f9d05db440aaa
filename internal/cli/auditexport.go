package cli

import (
	"errors"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ambercellar/client"
)

// auditExportCommands are those of exports that the service makes in the background.
func auditExportCommands() []Command {
	return []Command{
		{Name: "audit exports", Summary: "list your exports of the audit log, the newest first", Flags: limitFlag,
			Run: auditExports},
		{
			Name:    "audit fetch",
			Args:    "EXPORT",
			Summary: "wait for an export that is made in the background, and save its file",
			Flags:   func(f *flag.FlagSet) { f.String("out", "", "the file to write, a zip; it must not exist") },
			Run:     func(e *Env) error { return e.fetchExport(e.Args[0]) },
		},
		{
			Name:    "audit discard",
			Args:    "EXPORT",
			Summary: "remove the file of an export, or end it",
			Run: func(e *Env) error {
				return e.Client.DiscardAuditExport(e.Ctx, e.Args[0])
			},
		},
		{
			Name: "audit schedule",
			Args: "NAME",
			Summary: "have exports made again and again, each of the entries since the " +
				"one before",
			Flags: func(f *flag.FlagSet) {
				f.String("actor", "", "only of this account; service: what nobody asked for")
				f.String("kind", "", "only of this kind: the first word of an action, like run")
				f.String("action", "", "only this action, like \"run start\"")
				f.String("subject", "", "only of this run, rule, source, …")
				f.String("outcome", "", "only what was done, refused or failed")
				f.String(
					"when",
					"",
					"in words, as cron does, or as a recurrence rule: \"monthly on the 1st at 06:00\"",
				)
				f.String("zone", "UTC", "whose clock that follows")
				f.String("format", "csv", "csv, ndjson, xml or pdf")
				f.String("tell", "", "a mail address that is told of each")
			},
			Run: auditSchedule,
		},
		{Name: "audit schedules", Summary: "list your schedules of exports", Run: auditSchedules},
		{Name: "audit unschedule", Args: "NAME", Summary: "end a schedule of exports", Run: func(e *Env) error {
			return e.Client.EndAuditSchedule(e.Ctx, e.Args[0])
		}},
	}
}

func (e *Env) newExport() client.NewAuditExport {
	n := client.NewAuditExport{Format: e.Flag("format"), Tell: e.Flag("tell")}
	n.Actor, n.Kind, n.Action = e.Flag("actor"), e.Flag("kind"), e.Flag("action")
	n.Subject, n.Outcome = e.Flag("subject"), e.Flag("outcome")
	if e.Flags.Lookup("from") != nil {
		n.From, n.To = e.Flag("from"), e.Flag("to")
	}
	return n
}

// exportInBackground has the service make an export, and waits for it where its file is wanted.
func (e *Env) exportInBackground() error {
	if out := e.Flag("out"); out != "" {
		if err := free(out); err != nil {
			return err
		}
	}
	x, err := e.Client.MakeAuditExport(e.Ctx, e.newExport())
	if err != nil {
		return err
	}
	if e.Flag("out") != "" {
		return e.fetchExport(x.ID)
	}
	return e.exportFacts(x)
}

func (e *Env) exportFacts(x *client.AuditExport) error {
	return e.Facts(x, []Fact{{"export", x.ID}, {"format", x.Format}, {"entries", meantInWords(x.Filter)},
		{"state", string(x.State)}, {"asked by", x.By}, {"tells", Dash(x.Tell)}})
}

func meantInWords(filter map[string]string) string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(filter)) {
		out = append(out, name+" "+filter[name])
	}
	if len(out) == 0 {
		return "all"
	}
	return strings.Join(out, ", ")
}

// fetchExport waits for an export, with its progress, and saves its file.
func (e *Env) fetchExport(id string) error {
	out := e.Flag("out")
	if out == "" {
		return Usage("-out is missing: the file to write")
	}
	if err := free(out); err != nil {
		return err
	}
	show := stepProgress(e.Err)
	for {
		x, err := e.Client.OneAuditExport(e.Ctx, id)
		if err != nil {
			return err
		}
		switch x.State {
		case client.AuditExportDone:
			if err := e.save("/audit/exports/"+id+"/file", out); err != nil {
				return err
			}
			fmt.Fprintf(e.Err, "%s entries, %s, SHA-256 %s\n", Count(x.Entries), Size(x.Bytes), x.SHA256)
			return nil
		case client.AuditExportFailed, client.AuditExportGone:
			return errors.New("export " + id + " is " + string(x.State) + ": " + Dash(x.Problem))
		}
		show(x.Done, x.Of, exportState(x))
		if err := Sleep(e.Ctx, time.Second/2); err != nil {
			return err
		}
	}
}

// exportState says how far an export is.
func exportState(x *client.AuditExport) string {
	if x.State == client.AuditExportWorking && x.Of > 0 {
		return fmt.Sprintf("working, %d %%", min(100*x.Done/x.Of, 100))
	}
	return string(x.State)
}

func auditExports(e *Env) error {
	l, err := items(e, func(limit int, after string) (client.Items[client.AuditExport], error) {
		return e.Client.AuditExports(e.Ctx, client.AuditExportsQuery{Limit: limit, After: after})
	})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for i := range l.Items {
		x := &l.Items[i]
		state := exportState(x)
		if x.Problem != "" {
			state += ": " + x.Problem
		}
		rows = append(
			rows,
			[]string{x.ID, At(x.MadeAt), x.By, x.Format, meantInWords(x.Filter), state, Count(x.Entries),
				Size(x.Bytes), atOrDash(x.ExpiresAt)},
		)
	}
	return e.Show(
		l,
		[]string{"export", "asked", "by", "format", "which", "state", "entries", "size", "removed"},
		rows,
	)
}

func auditSchedule(e *Env) error {
	if e.Flag("when") == "" {
		return Usage("-when is missing: like \"monthly on the 1st at 06:00\"")
	}
	n := client.NewAuditSchedule{Name: e.Args[0], When: e.Flag("when"), Zone: e.Flag("zone")}
	n.NewAuditExport = e.newExport()
	x, err := e.Client.MakeAuditSchedule(e.Ctx, n)
	if err != nil {
		return err
	}
	return e.Facts(x, []Fact{{"schedule", x.Name}, {"when", x.When + ", " + x.Zone}, {"format", x.Format},
		{"entries", meantInWords(x.Filter)}, {"next", At(x.NextAt)}, {"tells", Dash(x.Tell)}})
}

func auditSchedules(e *Env) error {
	l, err := e.Client.AuditSchedules(e.Ctx)
	if err != nil {
		return err
	}
	rows := [][]string{}
	for i := range l.Items {
		x := &l.Items[i]
		rows = append(rows, []string{x.Name, x.When, x.Zone, x.Format, meantInWords(x.Filter), x.By, Dash(x.Tell),
			At(x.Since), At(x.NextAt)})
	}
	return e.Show(l, []string{"schedule", "when", "zone", "format", "which", "by", "tells", "since", "next"}, rows)
}

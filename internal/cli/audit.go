package cli

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"ambercellar/client"
)

func auditCommands() []Command {
	filter := func(f *flag.FlagSet) {
		f.String("actor", "", "only of this account; service: what nobody asked for")
		f.String("kind", "", "only of this kind: the first word of an action, like run")
		f.String("action", "", "only this action, like \"run start\"")
		f.String("subject", "", "only of this run, rule, source, …")
		f.String("outcome", "", "only what was done, refused or failed")
		f.String("from", "", "only from this instant on")
		f.String("to", "", "only before this instant")
	}
	return append(auditExportCommands(), []Command{
		{Name: "audit list", Summary: "list who did what, the newest first", Flags: func(f *flag.FlagSet) {
			filter(f)
			limitFlag(f)
		}, Run: auditList},
		{Name: "audit follow", Summary: "show who does what, as it happens", Flags: filter, Run: auditFollow},
		{Name: "audit show", Args: "ENTRY", Summary: "show one entry of the audit log", Run: auditShow},
		{Name: "audit export", Summary: "write the entries that are meant into a file, the oldest first",
			Flags: func(f *flag.FlagSet) {
				filter(f)
				f.String("out", "", "the file to write; it must not exist")
				f.String("format", "csv", "csv, ndjson, xml or pdf")
				f.Bool("background", false, "have the service make it, of any length: a zip of entries and details")
				f.String("tell", "", "with -background: a mail address that is told when it has ended")
			}, Run: auditExport},
		{Name: "audit erase", Args: "ENTRY", Summary: "take away the detail of an entry for good; the chain holds",
			Flags: func(f *flag.FlagSet) { f.String("reason", "", "why; it stays, so it names nobody") },
			Run:   auditErase},
		{Name: "audit segments", Summary: "show where the entries of the audit log lie, and how long they are kept",
			Run: auditSegments},
		{
			Name: "audit verify",
			Summary: "check that the audit log is what was written, against itself and against the stores; " +
				"exit status 1 where it is not",
			Flags: func(f *flag.FlagSet) {
				f.String("catalog", "", "the file of a catalog, or of a backup: check it without a service")
				f.Var(
					&Several{},
					"store",
					"with -catalog: a directory or address of a store; may be given several times",
				)
			},
			Run: auditVerify,
		},
	}...)
}

func (e *Env) auditQuery() client.AuditLogQuery {
	return client.AuditLogQuery{Actor: e.Flag("actor"), Kind: e.Flag("kind"), Action: e.Flag("action"),
		Subject: e.Flag("subject"), Outcome: e.Flag("outcome"), From: e.Flag("from"), To: e.Flag("to")}
}

// mostOfDetail is how much of a detail stands in a table. All of it is shown by `audit show`.
const mostOfDetail = 120

// oneLine writes a text on one line, of so many characters at most.
func oneLine(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if r := []rune(text); len(r) > mostOfDetail {
		return string(r[:mostOfDetail]) + "…"
	}
	return text
}

func auditRow(x *client.Entry) []string {
	detail := x.Detail
	if x.Erased {
		detail = "(erased)"
	} else if x.Withheld {
		detail = "(for those who may see rows)"
	}
	return []string{
		fmt.Sprint(x.ID),
		At(x.At),
		x.Actor,
		Dash(x.Address),
		x.Action,
		x.Subject,
		string(x.Outcome),
		detail,
	}
}

var auditHeader = []string{"entry", "at", "who", "from", "action", "of", "outcome", "detail"}

func auditList(e *Env) error {
	q := e.auditQuery()
	l, err := items(e, func(limit int, after string) (client.Items[client.Entry], error) {
		q.Limit, q.After = limit, after
		return e.Client.AuditLog(e.Ctx, q)
	})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for i := range l.Items {
		row := auditRow(&l.Items[i])
		if e.Format == "table" {
			row[len(row)-1] = oneLine(row[len(row)-1])
		}
		rows = append(rows, row)
	}
	return e.Show(l, auditHeader, rows)
}

// followEvery is how often new entries are asked for.
const followEvery = time.Second

func auditFollow(e *Env) error {
	if e.Format == "csv" {
		return Usage("-o csv cannot be followed; write table, or json for a line an entry")
	}
	q := e.auditQuery()
	q.Limit = 1
	l, err := e.Client.AuditLog(e.Ctx, client.AuditLogQuery{Limit: 1})
	if err != nil {
		return err
	}
	last := int64(0)
	if len(l.Items) > 0 {
		last = l.Items[0].ID
	}
	for q.Limit = 500; ; {
		if err := Sleep(e.Ctx, followEvery); err != nil {
			return nil // whoever follows has seen enough
		}
		q.Since, q.After = fmt.Sprint(last), ""
		var fresh []client.Entry
		for {
			l, err := e.Client.AuditLog(e.Ctx, q)
			if e.Ctx.Err() != nil {
				return nil
			} else if err != nil {
				return err
			}
			fresh = append(fresh, l.Items...)
			if l.Next == nil {
				break
			}
			q.After = *l.Next
		}
		slices.SortFunc(fresh, func(a, b client.Entry) int { return int(a.ID - b.ID) })
		for i := range fresh {
			x := &fresh[i]
			last = max(last, x.ID)
			if e.Format == "json" {
				err = json.NewEncoder(e.Out).Encode(x)
			} else {
				row := auditRow(x)
				_, err = fmt.Fprintf(e.Out, "%s  %s  %s  %s %s  %s\n", row[1], row[2], row[6], row[4], row[5],
					oneLine(row[7]))
			}
			if err != nil {
				return err
			}
		}
	}
}

func auditShow(e *Env) error {
	x, err := e.Client.AuditEntry(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.auditFacts(x)
}

func (e *Env) auditFacts(x *client.Entry) error {
	row := auditRow(x)
	return e.Facts(x, []Fact{{"entry", row[0]}, {"at", row[1]}, {"who", x.Actor}, {"session", x.Session},
		{
			"from",
			x.Address,
		}, {"action", x.Action}, {"of", x.Subject}, {"outcome", string(x.Outcome)}, {"detail", row[7]},
		{"digest", x.Digest}, {"hash", x.Hash}})
}

func auditErase(e *Env) error {
	x, err := e.Client.EraseDetail(e.Ctx, e.Args[0], client.NewReason{Reason: e.Flag("reason")})
	if err != nil {
		return err
	}
	return e.auditFacts(x)
}

func auditExport(e *Env) error {
	if Get[bool](e, "background") {
		return e.exportInBackground()
	}
	if e.Flag("tell") != "" {
		return Usage("-tell is for exports in the background; add -background")
	}
	out := e.Flag("out")
	if out == "" {
		return Usage("-out is missing: the file to write")
	}
	v := url.Values{"format": {e.Flag("format")}}
	for _, name := range []string{"actor", "kind", "action", "subject", "outcome", "from", "to"} {
		if e.Flag(name) != "" {
			v.Set(name, e.Flag(name))
		}
	}
	return e.save("/audit/export?"+v.Encode(), out)
}

func auditSegments(e *Env) error {
	k, err := e.Client.AuditSegments(e.Ctx)
	if err != nil {
		return err
	}
	rows := [][]string{}
	for i := range k.Segments {
		x := &k.Segments[i]
		rows = append(
			rows,
			[]string{fmt.Sprintf("%d–%d", x.First, x.Last), At(x.From), At(x.To), Count(x.Erased), x.Store,
				Size(x.Bytes), At(x.MovedAt), atOrDash(x.DueAt)},
		)
	}
	if err := e.Show(k, []string{"entries", "from", "to", "erased", "store", "size", "moved", "may be destroyed"},
		rows); err != nil || e.Format != "table" {
		return err
	}
	keep := "for good"
	if k.Keep != "" {
		keep = "for " + k.Keep
	}
	_, err = fmt.Fprintf(
		e.Out,
		"entries %d–%d are in the catalog; they stay there for %s, move to store %s, and are "+
			"kept %s in all\n",
		k.Here,
		k.Last,
		k.Live,
		Dash(k.Store),
		keep,
	)
	return err
}

func auditVerify(e *Env) error {
	var report *client.AuditReport
	var err error
	if path := e.Flag("catalog"); path != "" {
		report, err = e.verifyAudit(e, path, *e.Flags.Lookup("store").Value.(*Several))
	} else {
		report, err = e.Client.VerifyAudit(e.Ctx)
	}
	if err != nil {
		return err
	}
	verdict := "the audit log is what was written"
	if !report.Holds {
		verdict = "the audit log is NOT what was written"
	}
	facts := []Fact{{"verdict", verdict}, {"log", report.Log}, {"entries", Count(report.Entries)},
		{"last", fmt.Sprintf("%d, hash %s", report.Last, report.Hash)}, {"in segments", Count(report.Archived)},
		{"details erased", Count(report.Erased)},
		{"known to stores", fmt.Sprintf("%s of it, the newest of %s", Things(int64(report.Heads), "head"),
			atOrDash(report.Newest))}, {"took", fmt.Sprintf("%.2f s", report.Took)}}
	if report.Destroyed > 0 {
		facts = append(facts, Fact{"destroyed", fmt.Sprintf("entries up to %d, kept long enough", report.Destroyed)})
	}
	if report.Unread > 0 {
		facts = append(
			facts,
			Fact{
				"not checked",
				fmt.Sprintf("entries in segments whose store does not answer: %s", Count(report.Unread)),
			},
		)
	}
	for _, away := range report.Away {
		facts = append(facts, Fact{"could not ask", away})
	}
	for _, f := range report.Faults {
		facts = append(facts, Fact{"fault", f.Message})
	}
	if report.More > 0 {
		facts = append(facts, Fact{"fault", fmt.Sprintf("and %d more", report.More)})
	}
	if err := e.Facts(report, facts); err != nil {
		return err
	}
	if !report.Holds {
		return errors.New("the audit log does not hold; keep the file as it is, and compare it with a backup")
	}
	if report.Unread > 0 {
		return fmt.Errorf(
			"not all of it could be checked (entries: %s); what was checked holds",
			Count(report.Unread),
		)
	}
	if report.Heads == 0 {
		e.Warn("no store knows the log yet: that entries were removed at its end could not be found")
	}
	return nil
}

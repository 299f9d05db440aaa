package cli

import (
	"flag"
	"fmt"
	"net/url"
	"strings"

	"ambercellar/client"
)

// disposalCommands are the commands of disposals and erasures.
func disposalCommands() []Command {
	return []Command{
		{Name: "disposal plan", Args: "RULE",
			Summary: "find out which segments of a rule have been in the archive long enough; nothing is destroyed",
			Flags:   disposalFlags, Run: disposalPlan},
		{Name: "disposal start", Args: "DISPOSAL",
			Summary: "decide that the segments of a disposal are destroyed now, and wait for it", Run: disposalStart},
		{Name: "disposal approve", Args: "DISPOSAL",
			Summary: "approve a disposal where that is demanded; it is still to be started", Run: disposalApprove},
		{Name: "disposal cancel", Args: "DISPOSAL", Summary: "decide against a disposal", Run: disposalCancel},
		{Name: "disposal list", Summary: "list disposals, the newest first", Flags: limitFlag, Run: disposalList},
		{Name: "disposal show", Args: "DISPOSAL", Summary: "show a disposal", Run: disposalShow},
		{Name: "disposal certificate", Args: "DISPOSAL",
			Summary: "write the certificate of a disposal, as JSON or PDF", Flags: certificateFlags,
			Run: disposalCertificate},
		{Name: "erasure plan", Args: "SOURCE TABLE",
			Summary: "find out which segments hold rows of a condition, whatever their time in the archive; " +
				"nothing is destroyed", Flags: erasureFlags, Run: erasurePlan},
	}
}

func disposalApprove(e *Env) error {
	d, err := e.Client.ApproveDisposal(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.disposal(d)
}

func disposalFlags(f *flag.FlagSet) {
	f.String("table", "", "a table whose related rows the rule archived; left out: the rule's own")
	f.String("note", "", "what it is for; it stands on the certificate")
}

func disposalPlan(e *Env) error {
	d, err := e.Client.PlanDisposal(e.Ctx, client.NewDisposal{Rule: e.Args[0], Table: e.Flag("table"),
		Note: e.Flag("note")})
	if err != nil {
		return err
	}
	if err := e.disposal(d); err != nil || e.Format != "table" {
		return err
	}
	if len(d.Items) > 0 {
		fmt.Fprintf(e.Out, "\nnothing was destroyed; `ambercellar disposal start %s` decides that it is, and that "+
			"cannot be taken back\n", d.ID)
	}
	return nil
}

func erasureFlags(f *flag.FlagSet) {
	f.String("where", "", "the rows, like passenger_id = 7")
	f.String("keys", "", "the rows by their keys, with commas between, in place of a condition")
	f.String("note", "", "what it is for; it stays, on the certificate too, so it should name nobody")
}

func erasurePlan(e *Env) error {
	q := client.ErasureRequest{Source: e.Args[0], Table: e.Args[1], Where: e.Flag("where"),
		Keys: Names(e.Flag("keys")), Note: e.Flag("note")}
	d, err := e.Client.PlanErasure(e.Ctx, q)
	if err != nil {
		return err
	}
	if err := e.disposal(d); err != nil || e.Format != "table" {
		return err
	}
	if len(d.Items) == 0 {
		fmt.Fprintln(e.Out, "\nno segment holds such rows that could be erased")
		return nil
	}
	fmt.Fprintf(e.Out, "\nnothing was destroyed; `ambercellar disposal start %s` decides that it is, and that "+
		"cannot be taken back\n", d.ID)
	return nil
}

func (e *Env) disposal(d *client.Disposal) error {
	if err := whole(e, &d.Items, d.Segments, func(n int, after string) (client.Items[client.PlacedItem], error) {
		return e.Client.DisposalSegments(e.Ctx, d.ID, client.DisposalSegmentsQuery{Limit: n, After: after})
	}, func(x client.PlacedItem) client.DisposalItem { return x.DisposalItem }); err != nil {
		return err
	}
	if err := whole(e, &d.Stays, d.Staying, func(n int, after string) (client.Items[client.PlacedStay], error) {
		return e.Client.DisposalStays(e.Ctx, d.ID, client.DisposalStaysQuery{Limit: n, After: after})
	}, func(x client.PlacedStay) client.DisposalStay { return x.DisposalStay }); err != nil {
		return err
	}
	decided := ""
	if d.DecidedAt != nil {
		decided = At(*d.DecidedAt) + " by " + d.DecidedBy
	}
	rule := fmt.Sprintf("%s, revision %d: kept for %s at least", d.Rule, d.Revision, d.Keep)
	if d.Kind == client.KindErasure {
		rule = ""
	}
	if err := e.Facts(d, []Fact{{d.Kind, d.ID}, {"table", d.Source + "." + d.Table}, {"rule", rule},
		{"erases", d.Erases}, {"state", string(d.State)}, {"reason", d.Reason}, {"note", d.Note},
		{"planned", At(d.CreatedAt) + " by " + d.CreatedBy}, {"approved", approval(d)}, {"decided", decided},
		{"ended", atOrDash(d.EndedAt)},
		{"segments", fmt.Sprintf("%s, with %s in %s; %s destroyed so far", Count(d.Segments), Things(d.Rows, "row"),
			Size(d.Bytes), Count(d.Gone))}}); err != nil || e.Format != "table" {
		return err
	}
	list := [][]string{}
	for _, x := range d.Items {
		state := "goes"
		switch {
		case x.Destroyed != nil:
			state = "destroyed " + At(*x.Destroyed)
		case x.Left != "":
			state = "left: " + x.Left
		case d.State == client.DisposalCancelled:
			state = "stays"
		}
		if x.Kept > 0 {
			rows := "rows stay"
			if x.Kept == 1 {
				rows = "row stays"
			}
			state += fmt.Sprintf("; %s %s", Count(x.Kept), rows)
			if x.Successor != "" {
				state += " in " + x.Successor
			}
			state += ": " + x.Why
		}
		list = append(list, []string{x.Segment, Count(x.Rows), Size(x.Bytes), x.Oldest, x.Newest, At(x.Due),
			strings.Join(x.Stores, ", "), state})
	}
	for _, x := range d.Stays {
		list = append(list, []string{x.Segment, "", "", "", "", atOrDash(x.Due), "", "stays: " + x.Reason})
	}
	fmt.Fprintln(e.Out)
	return e.Show(d, []string{"segment", "rows", "file", "oldest", "newest", "time over", "stores",
		"what becomes of it"}, list)
}

// whole asks for all of a list of which an answer had only the first.
func whole[T, P any](e *Env, list *[]T, all int, page pager[P], of func(P) T) error {
	if len(*list) >= all {
		return nil
	}
	placed, err := every(e, page)
	*list = nil
	for _, x := range placed {
		*list = append(*list, of(x))
	}
	return err
}

func approval(d *client.Disposal) string {
	if d.ApprovedAt == nil {
		return ""
	}
	return At(*d.ApprovedAt) + " by " + d.ApprovedBy
}

func disposalStart(e *Env) error {
	d, err := e.Client.StartDisposal(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	show := countProgress(e.Err)
	for d.State == client.Disposing {
		if d, err = follow(e, "disposal", d.ID, e.Client.Disposal); err != nil {
			return err
		}
		show(d.Gone, d.Segments, "segments destroyed")
	}
	if err := e.disposal(d); err != nil {
		return err
	}
	if d.State == client.DisposalFailed {
		return fmt.Errorf("%s %s failed", d.Kind, d.ID) // why stands above
	}
	return nil
}

func disposalCancel(e *Env) error {
	d, err := e.Client.CancelDisposal(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.disposal(d)
}

func disposalShow(e *Env) error {
	d, err := e.Client.Disposal(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.disposal(d)
}

func disposalList(e *Env) error {
	l, err := items(e, func(n int, after string) (client.Items[client.Disposal], error) {
		return e.Client.Disposals(e.Ctx, client.DisposalsQuery{Limit: n, After: after})
	})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, d := range l.Items {
		rows = append(rows, []string{d.ID, d.Source + "." + d.Table, d.Kind, Dash(d.Rule), string(d.State),
			Count(d.Segments), Count(d.Rows), At(d.CreatedAt), Dash(d.DecidedBy)})
	}
	return e.Show(l, []string{"disposal", "table", "kind", "rule", "state", "segments", "rows", "planned",
		"decided by"}, rows)
}

func certificateFlags(f *flag.FlagSet) {
	f.String("format", "json", "json or pdf")
	f.String("out", "", "the file to write; left out: JSON goes to standard output")
}

func disposalCertificate(e *Env) error {
	format, out := e.Flag("format"), e.Flag("out")
	if format != "json" && format != "pdf" {
		return Usage("-format %q is none of json and pdf", format)
	}
	path := "/disposals/" + url.PathEscape(e.Args[0]) + "/certificate"
	switch {
	case out != "":
		return e.save(path+"?format="+format, out)
	case format == "pdf":
		return Usage("-out is missing: the file to write")
	}
	x, err := e.Client.CertificateOf(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	e.Format = "json"
	return e.Show(x, nil, nil)
}

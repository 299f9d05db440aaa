package cli

import (
	"flag"
	"fmt"
	"net/url"
	"strings"

	"ambercellar/internal/api"
	"ambercellar/internal/catalog"
	"ambercellar/internal/client"
	"ambercellar/internal/engine/dispose"
)

func disposalFlags(f *flag.FlagSet) {
	f.String("table", "", "a table whose related rows the rule archived; left out: the rule's own")
	f.String("note", "", "what it is for; it stands on the certificate")
}

func disposalPlan(e *env) error {
	d, err := client.Post[catalog.Disposal](e.ctx, e.client, "/disposals", api.NewDisposal{Rule: e.args[0], Table: e.flag("table"), Note: e.flag("note")})
	if err != nil {
		return err
	}
	if err := e.disposal(&d); err != nil || e.format != "table" {
		return err
	}
	if len(d.Items.V) > 0 {
		fmt.Fprintf(e.out, "\nnothing was destroyed; `ambercellar disposal start %s` decides that it is, and that cannot be taken back\n", d.ID)
	}
	return nil
}

func erasureFlags(f *flag.FlagSet) {
	f.String("where", "", "the rows, like passenger_id = 7")
	f.String("keys", "", "the rows by their keys, with commas between, in place of a condition")
	f.String("note", "", "what it is for; it stays, on the certificate too, so it should name nobody")
}

func erasurePlan(e *env) error {
	q := dispose.ErasureRequest{Source: e.args[0], Table: e.args[1], Where: e.flag("where"), Keys: names(e.flag("keys")), Note: e.flag("note")}
	d, err := client.Post[catalog.Disposal](e.ctx, e.client, "/erasures", q)
	if err != nil {
		return err
	}
	if err := e.disposal(&d); err != nil || e.format != "table" {
		return err
	}
	if len(d.Items.V) == 0 {
		fmt.Fprintln(e.out, "\nno segment holds such rows that could be erased")
		return nil
	}
	fmt.Fprintf(e.out, "\nnothing was destroyed; `ambercellar disposal start %s` decides that it is, and that cannot be taken back\n", d.ID)
	return nil
}

func (e *env) disposal(d *catalog.Disposal) error {
	path := "/disposals/" + url.PathEscape(d.ID)
	if err := whole(e, &d.Items.V, d.Segments, path+"/segments", func(x catalog.PlacedItem) catalog.DisposalItem { return x.DisposalItem }); err != nil {
		return err
	}
	if err := whole(e, &d.Stays.V, d.Staying, path+"/stays", func(x catalog.PlacedStay) catalog.DisposalStay { return x.DisposalStay }); err != nil {
		return err
	}
	decided := ""
	if d.DecidedAt != nil {
		decided = at(*d.DecidedAt) + " by " + d.DecidedBy
	}
	rule := fmt.Sprintf("%s, revision %d: kept for %s at least", d.Rule, d.Revision, d.Keep)
	if d.Kind == catalog.KindErasure {
		rule = ""
	}
	if err := e.facts(d, d.Kind, d.ID, "table", d.Source+"."+d.Table, "rule", rule, "erases", d.Erases, "state", string(d.State), "reason", d.Reason, "note", d.Note,
		"planned", at(d.CreatedAt)+" by "+d.CreatedBy, "approved", approval(d), "decided", decided, "ended", atOrDash(d.EndedAt), "segments", fmt.Sprintf("%s, with %s in %s; %s destroyed so far", count(d.Segments), things(d.Rows, "row"), size(d.Bytes), count(d.Gone))); err != nil || e.format != "table" {
		return err
	}
	list := [][]string{}
	for _, x := range d.Items.V {
		state := "goes"
		switch {
		case x.Destroyed != nil:
			state = "destroyed " + at(*x.Destroyed)
		case x.Left != "":
			state = "left: " + x.Left
		case d.State == catalog.DisposalCancelled:
			state = "stays"
		}
		if x.Kept > 0 {
			rows := "rows stay"
			if x.Kept == 1 {
				rows = "row stays"
			}
			state += fmt.Sprintf("; %s %s", count(x.Kept), rows)
			if x.Successor != "" {
				state += " in " + x.Successor
			}
			state += ": " + x.Why
		}
		list = append(list, []string{x.Segment, count(x.Rows), size(x.Bytes), x.Oldest, x.Newest, at(x.Due), strings.Join(x.Stores, ", "), state})
	}
	for _, x := range d.Stays.V {
		list = append(list, []string{x.Segment, "", "", "", "", atOrDash(x.Due), "", "stays: " + x.Reason})
	}
	fmt.Fprintln(e.out)
	return e.show(d, []string{"segment", "rows", "file", "oldest", "newest", "time over", "stores", "what becomes of it"}, list)
}

// whole asks for all of a list of which an answer had only the first.
func whole[T, P any](e *env, list *[]T, all int, path string, of func(P) T) error {
	if len(*list) >= all {
		return nil
	}
	placed, err := every[P](e, path)
	*list = nil
	for _, x := range placed {
		*list = append(*list, of(x))
	}
	return err
}

func approval(d *catalog.Disposal) string {
	if d.ApprovedAt == nil {
		return ""
	}
	return at(*d.ApprovedAt) + " by " + d.ApprovedBy
}

func disposalStart(e *env) error {
	path := "/disposals/" + url.PathEscape(e.args[0])
	d, err := client.Post[catalog.Disposal](e.ctx, e.client, path+"/start", nil)
	if err != nil {
		return err
	}
	show := countProgress(e.err)
	for d.State == catalog.Disposing {
		if d, err = follow[catalog.Disposal](e, "disposal", d.ID, path); err != nil {
			return err
		}
		show(d.Gone, d.Segments, "segments destroyed")
	}
	if err := e.disposal(&d); err != nil {
		return err
	}
	if d.State == catalog.DisposalFailed {
		return fmt.Errorf("%s %s failed", d.Kind, d.ID) // why stands above
	}
	return nil
}

func disposalCancel(e *env) error {
	d, err := client.Post[catalog.Disposal](e.ctx, e.client, "/disposals/"+url.PathEscape(e.args[0])+"/cancel", nil)
	if err != nil {
		return err
	}
	return e.disposal(&d)
}

func disposalShow(e *env) error {
	d, err := client.Get[catalog.Disposal](e.ctx, e.client, "/disposals/"+url.PathEscape(e.args[0]))
	if err != nil {
		return err
	}
	return e.disposal(&d)
}

func disposalList(e *env) error {
	l, err := items[catalog.Disposal](e, "/disposals", nil)
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, d := range l.Items {
		rows = append(rows, []string{d.ID, d.Source + "." + d.Table, d.Kind, dash(d.Rule), string(d.State), count(d.Segments), count(d.Rows), at(d.CreatedAt), dash(d.DecidedBy)})
	}
	return e.show(l, []string{"disposal", "table", "kind", "rule", "state", "segments", "rows", "planned", "decided by"}, rows)
}

func certificateFlags(f *flag.FlagSet) {
	f.String("format", "json", "json or pdf")
	f.String("out", "", "the file to write; left out: JSON goes to standard output")
}

func disposalCertificate(e *env) error {
	format, out := e.flag("format"), e.flag("out")
	if format != "json" && format != "pdf" {
		return usage("-format %q is none of json and pdf", format)
	}
	path := "/disposals/" + url.PathEscape(e.args[0]) + "/certificate"
	switch {
	case out != "":
		return e.save(path+"?format="+format, out)
	case format == "pdf":
		return usage("-out is missing: the file to write")
	}
	x, err := client.Get[dispose.Certificate](e.ctx, e.client, path)
	if err != nil {
		return err
	}
	e.format = "json"
	return e.show(x, nil, nil)
}

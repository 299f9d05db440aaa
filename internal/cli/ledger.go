package cli

import (
	"fmt"
	"net/url"

	"ambercellar/client"
)

func runLedger(e *Env) error {
	if out := e.Flag("out"); out != "" {
		return e.save("/runs/"+url.PathEscape(e.Args[0])+"/ledger", out)
	}
	l, err := e.Client.Ledger(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	e.Format = "json"
	return e.Show(l, nil, nil)
}

func (e *Env) totals(t *client.TableTotals) {
	if t == nil || e.Format != "table" {
		return
	}
	about := ""
	if !t.Counted {
		about = "about "
	}
	fmt.Fprintf(e.Out, "\nrecords   %s%s = %s%s live + %s archived - %s archived again later - %s put back\n", about,
		Count(t.Records), about, Count(t.Live), Count(t.Archived), Count(t.Again), Count(t.Restored))
	adds := "which adds up"
	if !t.AddsUp {
		adds = "WHICH DOES NOT ADD UP"
	}
	fmt.Fprintf(e.Out, "deleted   %s by runs + %s by runs of before this catalog = %s archived + %s disposed + %s "+
		"purged + %s erased, %s\n", Count(t.ByRuns), Count(t.Adopted), Count(t.Archived), Count(t.Disposed),
		Count(t.Purged), Count(t.Erased), adds)
	if t.Untold > 0 {
		fmt.Fprintf(e.Out, "          %s in cold storage may have versions of rows that are archived again; they "+
			"were not looked into\n", Things(t.Untold, "segment"))
	}
}

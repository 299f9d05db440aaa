package cli

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/url"
	"os"
	"strings"

	"ambercellar/internal/client"
	"ambercellar/internal/engine/reconcile"
	"ambercellar/internal/engine/upkeep"
)

func runLedger(e *env) error {
	path := "/runs/" + url.PathEscape(e.args[0]) + "/ledger"
	if out := e.flag("out"); out != "" {
		return e.save(path, out)
	}
	l, err := client.Get[upkeep.RunLedger](e.ctx, e.client, path)
	if err != nil {
		return err
	}
	e.format = "json"
	return e.show(l, nil, nil)
}

func runCheckFlags(f *flag.FlagSet) {
	f.Var(&several{}, "store", "what lies in this directory, or at this address of a bucket (https://HOST/BUCKET/PREFIX); may be given again")
	f.String("key-file", "", "the keys of sealed stores")
}

// runCheck checks an exported ledger against stores, without a service.
func runCheck(e *env) error {
	e.format = "table"
	if e.flag("store") == "" {
		return usage("-store is missing: where the segments lie")
	}
	b, err := os.ReadFile(e.args[0])
	if err != nil {
		return err
	}
	var l upkeep.RunLedger
	if err := json.Unmarshal(b, &l); err != nil {
		return fmt.Errorf("%s is no ledger: %w", e.args[0], err)
	}
	places, err := e.openPlaces(strings.Split(e.flag("store"), "\n"))
	if err != nil {
		return err
	}
	got, err := upkeep.CheckLedger(e.ctx, &l, places)
	if err != nil {
		return fmt.Errorf("%s: %w", e.args[0], err)
	}
	verdict := "it holds"
	if len(got.Wrong) > 0 {
		verdict = strings.Join(got.Wrong, "\n")
	}
	if err := e.facts(got, "run", l.Run, "table", l.Source+"."+l.Table, "parts", count(got.Parts), "segments", count(got.Segments), "rows read back", count(got.Rows), "rows destroyed since", fmt.Sprintf("of %s", things(got.Gone, "segment")),
		"in cold storage", fmt.Sprintf("rows of %s, whose records alone were checked", things(got.Cold, "segment")), "verdict", verdict); err != nil {
		return err
	}
	if len(got.Wrong) > 0 {
		return errors.New("the ledger does not hold")
	}
	return nil
}

// totals shows what has become of a table's rows, over all runs.
func (e *env) totals(t *reconcile.TableTotals) {
	if t == nil || e.format != "table" {
		return
	}
	about := ""
	if !t.Counted {
		about = "about "
	}
	fmt.Fprintf(e.out, "\nrecords   %s%s = %s%s live + %s archived - %s archived again later - %s put back\n", about, count(t.Records), about, count(t.Live), count(t.Archived), count(t.Again), count(t.Restored))
	adds := "which adds up"
	if !t.AddsUp {
		adds = "WHICH DOES NOT ADD UP"
	}
	fmt.Fprintf(e.out, "deleted   %s by runs + %s by runs of before this catalog = %s archived + %s disposed + %s purged + %s erased, %s\n", count(t.ByRuns), count(t.Adopted), count(t.Archived), count(t.Disposed), count(t.Purged), count(t.Erased), adds)
	if t.Untold > 0 {
		fmt.Fprintf(e.out, "          %s in cold storage may have versions of rows that are archived again; they were not looked into\n", things(t.Untold, "segment"))
	}
}

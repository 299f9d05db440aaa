package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ambercellar/client"
)

// catalogCommands are the commands of the service's own records.
func catalogCommands() []Command {
	return []Command{
		{Name: "catalog backup", Summary: "write the service's own records, as they are at this moment, into a file",
			Flags: catalogBackupFlags, Run: catalogBackup},
		{Name: "catalog keep", Summary: "say for how long records of the service's own are kept, or change that",
			Flags: func(f *flag.FlagSet) {
				f.String("set", "", "what is to be changed, like batches=P30D,plans=forever")
			}, Run: catalogKeep},
		{Name: "catalog rebuild", Summary: "take up every segment of all stores that the catalog does not know",
			Run: catalogRebuild},
	}
}

func catalogBackupFlags(f *flag.FlagSet) {
	f.String("out", "", "the file to write; it must not exist")
}

func catalogBackup(e *Env) error {
	out := e.Flag("out")
	if out == "" {
		return Usage("-out is missing: the file to write")
	}
	if err := e.save("/catalog/backup", out); err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "the catalog was written to %s; `ambercellar catalog restore -data DIR %s` puts it back "+
		"while the service is stopped\n", out, out)
	return nil
}

// recordKinds says what the kinds of records are that are kept for a time.
var recordKinds = map[string]string{client.KeepBatches: "batches of runs that have ended; their ledgers stay",
	client.KeepSlowdowns:     "when and why runs that have ended went slower",
	client.KeepPlans:         "plans of which no run is known",
	client.KeepRuns:          "runs that have ended and archived nothing that is known; the newest of each rule stays",
	client.KeepVerifications: "verifications that have ended",
	client.KeepRetrievals:    "retrievals from cold storage that are over",
	client.KeepDetails:       "statements, columns and spread of plans whose runs have ended; the rest stays",
	client.KeepFirings:       "firings that are carried out; the ten newest of each rule stay",
	client.KeepFindings:      "findings that are closed",
	client.KeepSteps:         "steps before and after runs, with what came back",
	client.KeepSizes:         "sizes of tables, once a day",
	client.KeepDeliveries:    "notices that were sent, given up or cancelled",
	client.KeepNews:          "what happened, as the console's bell shows it"}

func catalogKeep(e *Env) error {
	var keeps map[string]string
	var err error
	if set := e.Flag("set"); set != "" {
		change := map[string]string{}
		for _, part := range strings.Split(set, ",") {
			kind, keep, ok := strings.Cut(strings.TrimSpace(part), "=")
			if !ok {
				return Usage("-set %q: write KIND=PERIOD, like batches=P30D", part)
			}
			change[kind] = keep
		}
		keeps, err = e.Client.SetRecordKeeps(e.Ctx, change)
	} else {
		keeps, err = e.Client.RecordKeeps(e.Ctx)
	}
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, kind := range slices.Sorted(maps.Keys(keeps)) {
		keep := keeps[kind]
		if keep == "" {
			keep = "for good"
		}
		rows = append(rows, []string{kind, keep, recordKinds[kind]})
	}
	return e.Show(keeps, []string{"kind", "kept for", "what"}, rows)
}

func catalogRebuild(e *Env) error {
	l, err := e.Client.Stores(e.Ctx)
	if err != nil {
		return err
	}
	rows, failed := [][]string{}, error(nil)
	for _, s := range l.Items {
		a, err := lasting(e, "adopting",
			func(ctx context.Context) (*client.Adopted, error) { return e.Client.Adopt(ctx, s.Name) })
		problem := ""
		if err != nil {
			a, problem, failed = &client.Adopted{}, err.Error(),
				errors.Join(failed, fmt.Errorf("store %s: %w", s.Name, err))
		}
		rows = append(rows, []string{s.Name, Count(a.Segments), Count(a.Renewed), Dash(problem)})
	}
	return errors.Join(e.Show(l, []string{"store", "segments taken up", "renewed", "problem"}, rows), failed)
}

package local

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/url"
	"os"
	"path"
	"strings"

	"ambercellar/client"
	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/cli"
	"ambercellar/internal/engine/upkeep"
	"ambercellar/internal/service"
)

func runCheckFlags(f *flag.FlagSet) {
	f.Var(&cli.Several{}, "store",
		"what lies in this directory, or at this address of a bucket (https://HOST/BUCKET/PREFIX); may be given again")
	f.String("key-file", "", "the keys of sealed stores")
}

// runCheck checks an exported ledger against stores, without a service.
func runCheck(e *cli.Env) error {
	e.Format = "table"
	if e.Flag("store") == "" {
		return cli.Usage("-store is missing: where the segments lie")
	}
	b, err := os.ReadFile(e.Args[0])
	if err != nil {
		return err
	}
	places, err := openPlaces(e, strings.Split(e.Flag("store"), "\n"))
	if err != nil {
		return err
	}
	l, got, err := checkLedger(e.Ctx, b, places)
	if err != nil {
		return fmt.Errorf("%s: %w", e.Args[0], err)
	}
	verdict := "it holds"
	if len(got.Wrong) > 0 {
		verdict = strings.Join(got.Wrong, "\n")
	}
	if err := e.Facts(got, []cli.Fact{{Name: "run", Value: l.Run}, {Name: "table", Value: l.Source + "." + l.Table},
		{Name: "parts", Value: cli.Count(got.Parts)}, {Name: "segments", Value: cli.Count(got.Segments)},
		{Name: "rows read back", Value: cli.Count(got.Rows)},
		{Name: "rows destroyed since", Value: fmt.Sprintf("of %s", cli.Things(got.Gone, "segment"))},
		{Name: "in cold storage", Value: fmt.Sprintf("rows of %s, whose records alone were checked",
			cli.Things(got.Cold, "segment"))}, {Name: "verdict", Value: verdict}}); err != nil {
		return err
	}
	if len(got.Wrong) > 0 {
		return errors.New("the ledger does not hold")
	}
	return nil
}

// checkLedger checks a ledger, or a report, which holds one.
func checkLedger(ctx context.Context, text []byte, places []archive.Place) (*upkeep.RunLedger, *upkeep.LedgerChecked,
	error) {
	var kind struct {
		Format string `json:"format"`
	}
	if err := json.Unmarshal(text, &kind); err != nil {
		return nil, nil, fmt.Errorf("it is no ledger: %w", err)
	}
	if kind.Format == service.ReportFormat {
		var r service.RunReport
		if err := json.Unmarshal(text, &r); err != nil {
			return nil, nil, fmt.Errorf("it is no report of a run: %w", err)
		}
		got, err := r.Check(ctx, places)
		return r.Ledger, got, err
	}
	var l upkeep.RunLedger
	if err := json.Unmarshal(text, &l); err != nil {
		return nil, nil, fmt.Errorf("it is no ledger: %w", err)
	}
	got, err := upkeep.CheckLedger(ctx, &l, places)
	return &l, got, err
}

// totals shows what has become of a table's rows, over all runs.

func storeKeyFlags(f *flag.FlagSet) {
	f.String("out", "", "the file of keys; where it exists the new key is put before the others, and seals from "+
		"then on")
}

// storeKey makes a key for sealed stores.
func storeKey(e *cli.Env) error {
	out := e.Flag("out")
	if out == "" {
		return cli.Usage("-out is missing: the file of keys")
	}
	text, id, err := store.NewSealKey()
	if err != nil {
		return err
	}
	before, err := os.ReadFile(out)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	fresh := out + ".new"
	f, err := os.OpenFile(fresh, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(f, "# key %s\n%s\n%s", id, text, before)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(fresh, out)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "key %s stands first in %s now; keep a copy where the store is not: without its keys nobody "+
		"can read what lies there\n", id, out)
	if len(before) > 0 {
		fmt.Fprintln(e.Out, "`ambercellar store set NAME -key-file FILE` has the service read it; `ambercellar "+
			"store reseal NAME` seals with it what is there already")
	}
	return nil
}

// examined is what verifying stores without a service tells.
type examined struct {
	*archive.Examined
	Findings []archive.Remark `json:"findings"`
}

// openPlaces opens stores without a service.
func openPlaces(e *cli.Env, addresses []string) (places []archive.Place, err error) {
	for _, a := range addresses {
		st, err := openPlace(e.Ctx, a)
		if keys := e.Flag("key-file"); err == nil && keys != "" {
			st, err = store.OpenSealed(st, store.Seal{File: keys})
		}
		if err != nil {
			return nil, err
		}
		places = append(places, archive.Place{Name: a, Store: st})
	}
	return places, nil
}

// verifyStores verifies what lies in stores, with nothing but what lies there.
func verifyStores(e *cli.Env, addresses []string, sourceName, table string) error {
	places, err := openPlaces(e, addresses)
	if err != nil {
		return err
	}
	show := cli.BytesProgress(e.Err)
	out := examined{Findings: []archive.Remark{}}
	got, err := archive.Examine(e.Ctx, places, archive.Examining{
		Wanted: func(m *archive.Manifest) bool { return table == "" || m.Source == sourceName && m.Table == table },
		Find: func(f archive.Remark) {
			if table == "" || f.Table == sourceName+"."+table {
				out.Findings = append(out.Findings, f)
			}
		},
		Step: func(x archive.Examined) {
			show(x.Bytes, x.OfBytes, fmt.Sprintf("%s of %s", cli.Count(x.Segments), cli.Things(x.Of, "segment")))
		},
	})
	if err != nil {
		return err
	}
	fmt.Fprintln(e.Err)
	out.Examined = got
	rows := [][]string{}
	for _, c := range got.Chains {
		rows = append(rows, []string{c.Source + "." + c.Table, cli.Count(c.Segments), cli.Count(c.Records),
			fmt.Sprintf("%.12s", c.Head)})
	}
	if err := e.Show(out, []string{"table", "segments", "records", "newest record"}, rows); err != nil {
		return err
	}
	found := []client.FoundInStore{}
	wrong := 0
	for _, f := range out.Findings {
		found = append(found, client.FoundInStore{Remark: client.Remark(f)})
		if f.Wrong {
			wrong++
		}
	}
	if e.Format == "table" {
		if len(found) > 0 {
			fmt.Fprintln(e.Out)
			e.Show(out, cli.FindingHeads, cli.FindingRows(found))
		}
		fmt.Fprintf(e.Out, "\nread: %s, %s, %s\na store alone cannot tell whether the newest records of a table "+
			"were removed: compare each newest record with the source's journal, the audit log, or `segment verify "+
			"-all` of the service\n", cli.Things(got.Segments, "segment"), cli.Things(got.Rows, "row"),
			cli.Size(got.Bytes))
	}
	if wrong > 0 {
		return fmt.Errorf("not everything is what was written: %s wrong", cli.Count(wrong))
	}
	return nil
}

// verifyAudit checks the audit log of a catalog's file, against what stores know of it, without a service.
func verifyAudit(e *cli.Env, catalogFile string, addresses []string) (*client.AuditReport, error) {
	var stores []store.Store
	for _, address := range addresses {
		st, err := openPlace(e.Ctx, address)
		if err != nil {
			return nil, err
		}
		stores = append(stores, st)
	}
	report, err := service.VerifyAuditFile(e.Ctx, catalogFile, stores)
	if err != nil {
		return nil, err
	}
	b, err := json.Marshal(report)
	out := new(client.AuditReport)
	if err == nil {
		err = json.Unmarshal(b, out)
	}
	return out, err
}

// openPlace opens a directory that exists, or a bucket by its address, with credentials from the environment.
func openPlace(ctx context.Context, address string) (store.Store, error) {
	if u, err := url.Parse(address); err == nil && (u.Scheme == "http" || u.Scheme == "https") {
		bucket, prefix, _ := strings.Cut(strings.Trim(path.Clean(u.Path), "/"), "/")
		st, err := store.OpenBucket(store.Bucket{Endpoint: u.Scheme + "://" + u.Host, Name: bucket, Prefix: prefix,
			Region: os.Getenv("AWS_REGION")})
		if err != nil {
			return nil, cli.Usage("-store %s: %v", address, err)
		}
		return st, nil
	}
	if at, err := os.Stat(address); err != nil {
		return nil, err
	} else if !at.IsDir() {
		return nil, cli.Usage("-store %s: it is no directory", address)
	}
	return store.OpenDirectory(address)
}

func catalogRestoreFlags(f *flag.FlagSet) {
	f.String("data", "ambercellar-data", "the service's data directory; no service may run on it")
}

func catalogRestore(e *cli.Env) error {
	before, err := service.RestoreCatalog(e.Ctx, e.Flag("data"), e.Args[0])
	if err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "%s is the catalog of %s now\n", e.Args[0], e.Flag("data"))
	if before != "" {
		fmt.Fprintf(e.Out, "the one before is %s\n", before)
	}
	fmt.Fprintln(e.Out,
		"all sessions have ended; accounts are those of the backup: revoke again who was revoked since, and "+
			"see what `ambercellar audit verify` says of the time between")
	fmt.Fprintln(e.Out, "segments that were made since the backup come back by `ambercellar catalog rebuild` once "+
		"the service runs; tables whose source is further than the catalog stop until `ambercellar table "+
		"reconcile` settles them")
	return nil
}

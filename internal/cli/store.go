package cli

import (
	"errors"
	"flag"
	"fmt"
	"maps"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"ambercellar/internal/api"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/client"
	"ambercellar/internal/engine/sweep"
	"ambercellar/internal/engine/upkeep"
	"ambercellar/internal/service"
)

func storeFlags(f *flag.FlagSet) {
	f.String("path", "", "a directory, as the service sees it")
	f.String("endpoint", "", "of an object store: http://HOST:PORT or https://HOST")
	f.String("bucket", "", "with -endpoint: the bucket, which must exist")
	f.String("prefix", "", "with -endpoint: of the names of all files")
	f.String("region", "", "with -endpoint: the bucket's region; left out: us-east-1")
	f.String("style", "", "with -endpoint: how the bucket is addressed, path or host; left out: path")
	f.String("credentials-file", "", "with -endpoint: an INI file, as the service sees it, with aws_access_key_id and aws_secret_access_key; left out: the service's environment")
	f.String("profile", "", "with -credentials-file: its section; left out: default")
	f.String("ca-file", "", "with -endpoint: PEM file of the authority that signed the server's certificate")
	f.String("encryption", "", "with -endpoint: AES256 or aws:kms, done by the object store")
	f.String("key-id", "", "with -encryption aws:kms: the key")
	f.String("second", "", "the store in which every segment gets a second copy")
	f.String("class", "", "with -endpoint: the storage class into which files are let go cold, GLACIER or DEEP_ARCHIVE; segments move there, none is written there")
	f.Bool("existing", false, "the place comes from elsewhere and is a store already, or holds segments; no other service may write there")
	sealFlags(f)
	tariffFlags(f)
}

func sealFlags(f *flag.FlagSet) {
	f.String("key-file", "", "seal the store: file of age keys, as the service sees it (`ambercellar store key` makes one)")
	f.String("key-env", "", "seal the store: environment variable of the service that holds the keys")
}

// seal is what these flags say; nil where none was given.
func (e *env) seal() *store.Seal {
	s := store.Seal{File: e.flag("key-file"), Env: e.flag("key-env")}
	if !s.Sealed() {
		return nil
	}
	if abs, err := filepath.Abs(s.File); err == nil && s.File != "" {
		s.File = abs
	}
	return &s
}

func storeAdd(e *env) error {
	in := api.NewStore{Name: e.args[0], Second: e.flag("second"), Seal: e.seal(), Tariff: &catalog.Tariff{}, Existing: e.flag("existing") == "true"}
	if err := e.tariff(in.Tariff, e.given()); err != nil {
		return err
	}
	switch path, endpoint := e.flag("path"), e.flag("endpoint"); {
	case (path == "") == (endpoint == ""):
		return usage("give either -path, or -endpoint and -bucket")
	case path != "":
		abs, err := filepath.Abs(path)
		if err != nil {
			return err
		}
		in.Path = abs
	default:
		in.Bucket = &store.Bucket{Endpoint: endpoint, Name: e.flag("bucket"), Prefix: e.flag("prefix"), Region: e.flag("region"), Style: e.flag("style"), Credentials: e.flag("credentials-file"),
			Profile: e.flag("profile"), CA: e.flag("ca-file"), Encryption: e.flag("encryption"), KeyID: e.flag("key-id"), Class: e.flag("class")}
	}
	s, err := client.Post[api.StoreKept](e.ctx, e.client, "/stores", in)
	if err != nil {
		return err
	}
	return e.store(&s)
}

func (e *env) store(s *api.StoreKept) error {
	scrub := "never on its own"
	if x := s.Scrub.V; x.Every != "" {
		scrub = "each segment every " + x.Every
		if x.Rate > 0 {
			scrub += ", " + size(x.Rate) + "/s at the most"
		}
		if x.Window != "" {
			scrub += ", " + x.Window + " UTC"
		}
	}
	sealed, cold := "", ""
	if x := s.Seal.V; x.Sealed() {
		sealed = "with the keys in " + x.File
		if x.Env != "" {
			sealed = "with the keys in the variable " + x.Env
		}
	}
	if s.Cold() {
		cold = "files go cold (" + s.Bucket.V.Class + ")"
		for _, p := range store.Priorities {
			if r, ok := s.Tariff.V.Of[p]; ok {
				cold += fmt.Sprintf("; %s: %s, %g %s a GiB", p, r.Wait, r.Price, s.Tariff.V.Currency)
			}
		}
		if b := s.Tariff.V.Budget; b > 0 {
			cold += "; up to " + size(b) + " in 30 days retrieved to verify"
		}
	}
	for _, w := range s.Warnings {
		e.warn(w)
	}
	return e.facts(s, "store", s.Name, "kind", s.Kind, "path", s.Path, "identity", s.Identity, "second store", s.Second, "sealed", sealed, "cold", cold, "verified again", scrub)
}

func storeSetFlags(f *flag.FlagSet) {
	f.String("second", "", "the store in which every segment gets a second copy; none: no second copies any more")
	f.String("scrub-every", "", "how often each segment is verified again, like P30D; never: not on its own")
	f.String("scrub-rate", "", "bytes a second that are read for it, like 32MiB; 0: as fast as it goes")
	f.String("scrub-window", "", "when, in UTC, like 01:00-05:00; any: at any time")
	sealFlags(f)
	tariffFlags(f)
}

func storeSet(e *env) error {
	path := "/stores/" + url.PathEscape(e.args[0])
	l, err := client.Get[api.Items[api.StoreView]](e.ctx, e.client, "/stores")
	if err != nil {
		return err
	}
	change := service.StoreChange{}
	given := e.given()
	for _, s := range l.Items {
		if s.Name != e.args[0] {
			continue
		}
		change.Scrub = &s.Scrub.V
		for _, name := range []string{"wait", "price", "currency", "days", "verify-budget"} {
			if given(name) {
				change.Tariff = &s.Tariff.V
			}
		}
	}
	if change.Tariff != nil {
		if err := e.tariff(change.Tariff, given); err != nil {
			return err
		}
	}
	change.Seal = e.seal()
	value := func(flag, none string) string {
		if v := e.flag(flag); v != none {
			return v
		}
		return ""
	}
	if given("second") {
		second := value("second", "none")
		change.Second = &second
	}
	if change.Scrub != nil {
		if given("scrub-every") {
			change.Scrub.Every = value("scrub-every", "never")
		}
		if given("scrub-window") {
			change.Scrub.Window = value("scrub-window", "any")
		}
		if given("scrub-rate") {
			n, err := humanize.ParseBytes(e.flag("scrub-rate"))
			if err != nil {
				return usage("-scrub-rate %q is no number of bytes; write one like 32MiB", e.flag("scrub-rate"))
			}
			change.Scrub.Rate = int64(n)
		}
	}
	s, err := client.Patch[api.StoreKept](e.ctx, e.client, path, change)
	if err != nil {
		return err
	}
	return e.store(&s)
}

func storeCheck(e *env) error {
	l, err := client.Post[api.Items[store.Habit]](e.ctx, e.client, "/stores/"+url.PathEscape(e.args[0])+"/check", nil)
	if err != nil {
		return err
	}
	rows := [][]string{{"well", "a file was written, read back and listed, and removed unless the place locks it"}}
	harms := 0
	for _, h := range l.Items {
		verdict := "note"
		if h.Harms {
			verdict, harms = "HARMS", harms+1
		}
		rows = append(rows, []string{verdict, h.Message})
	}
	if err := e.show(l, []string{"verdict", "what"}, rows); err != nil || harms == 0 {
		return err
	}
	return fmt.Errorf("store %s: what the place does on its own would harm the archive", e.args[0])
}

func storeList(e *env) error {
	l, err := client.Get[api.Items[api.StoreView]](e.ctx, e.client, "/stores")
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, s := range l.Items {
		free := "unknown"
		if s.Free >= 0 {
			free = size(s.Free)
		}
		second := dash(s.Second)
		if n := s.Totals.Unseconded; n > 0 {
			second += fmt.Sprintf(" (%s to copy)", count(n))
		}
		kind, here := s.Kind, count(s.Totals.Segments)
		if s.Seal.V.Sealed() {
			kind += ", sealed"
		}
		if s.Cold() {
			kind += ", cold"
		}
		if n := s.Totals.Away; n > 0 {
			here += fmt.Sprintf(" (%s with rows elsewhere)", count(n))
		}
		guests := count(s.Totals.Guests)
		if s.Totals.Guests > 0 {
			guests += " (" + size(s.Totals.GuestBytes) + ")"
		}
		rows = append(rows, []string{s.Name, kind, s.Path, here, size(s.Totals.FileBytes), guests, free, count(s.Totals.Seconds), second, atOrDash(s.Totals.Verified), count(s.Totals.Damaged), dash(s.Problem)})
		for _, w := range s.Warnings {
			defer e.warn(w)
		}
	}
	return e.show(l, []string{"name", "kind", "path", "segments", "size", "rows of others", "free", "copies of others", "second store", "all verified since", "damaged", "problem"}, rows)
}

func storeAdopt(e *env) error {
	a, err := client.Post[upkeep.Adopted](e.ctx, e.client, "/stores/"+url.PathEscape(e.args[0])+"/adopt", nil)
	if err != nil {
		return err
	}
	return e.facts(a, "segments adopted", count(a.Segments), "segments renewed", count(a.Renewed))
}

func catalogBackupFlags(f *flag.FlagSet) {
	f.String("out", "", "the file to write; it must not exist")
}

func catalogBackup(e *env) error {
	out := e.flag("out")
	if out == "" {
		return usage("-out is missing: the file to write")
	}
	if err := e.save("/catalog/backup", out); err != nil {
		return err
	}
	fmt.Fprintf(e.out, "the catalog was written to %s; `ambercellar catalog restore -data DIR %s` puts it back while the service is stopped\n", out, out)
	return nil
}

// recordKinds says what the kinds of records are that are kept for a time.
var recordKinds = map[string]string{catalog.KeepBatches: "batches of runs that have ended; their ledgers stay", catalog.KeepSlowdowns: "when and why runs that have ended went slower",
	catalog.KeepPlans: "plans of which no run came", catalog.KeepRuns: "runs that have ended and archived nothing that is known; the newest of each rule stays",
	catalog.KeepVerifications: "verifications that have ended", catalog.KeepRetrievals: "retrievals from cold storage that are over"}

func catalogKeep(e *env) error {
	var keeps catalog.RecordKeeps
	var err error
	if set := e.flag("set"); set != "" {
		change := catalog.RecordKeeps{}
		for _, part := range strings.Split(set, ",") {
			kind, keep, ok := strings.Cut(strings.TrimSpace(part), "=")
			if !ok {
				return usage("-set %q: write KIND=PERIOD, like batches=P30D", part)
			}
			change[kind] = keep
		}
		keeps, err = client.Patch[catalog.RecordKeeps](e.ctx, e.client, "/catalog/keeps", change)
	} else {
		keeps, err = client.Get[catalog.RecordKeeps](e.ctx, e.client, "/catalog/keeps")
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
	return e.show(keeps, []string{"kind", "kept for", "what"}, rows)
}

func catalogRestoreFlags(f *flag.FlagSet) {
	f.String("data", "ambercellar-data", "the service's data directory; no service may run on it")
}

func catalogRestore(e *env) error {
	before, err := service.RestoreCatalog(e.ctx, e.flag("data"), e.args[0])
	if err != nil {
		return err
	}
	fmt.Fprintf(e.out, "%s is the catalog of %s now\n", e.args[0], e.flag("data"))
	if before != "" {
		fmt.Fprintf(e.out, "the one before is %s\n", before)
	}
	fmt.Fprintln(e.out, "segments that were made since the backup come back by `ambercellar catalog rebuild` once the service runs; tables whose source is further than the catalog stop until `ambercellar table reconcile` settles them")
	return nil
}

func catalogRebuild(e *env) error {
	l, err := client.Get[api.Items[api.StoreView]](e.ctx, e.client, "/stores")
	if err != nil {
		return err
	}
	rows, failed := [][]string{}, error(nil)
	for _, s := range l.Items {
		a, err := client.Post[upkeep.Adopted](e.ctx, e.client, "/stores/"+url.PathEscape(s.Name)+"/adopt", nil)
		problem := ""
		if err != nil {
			problem, failed = err.Error(), errors.Join(failed, fmt.Errorf("store %s: %w", s.Name, err))
		}
		rows = append(rows, []string{s.Name, count(a.Segments), count(a.Renewed), dash(problem)})
	}
	return errors.Join(e.show(l, []string{"store", "segments taken up", "renewed", "problem"}, rows), failed)
}

func storeSweepFlags(f *flag.FlagSet) {
	f.String("older", "P1D", "only files that were not touched for so long")
	f.Bool("remove", false, "remove what goes; left out: it is only listed")
}

func storeSweep(e *env) error {
	s, err := client.Post[sweep.Swept](e.ctx, e.client, "/stores/"+url.PathEscape(e.args[0])+"/sweep", api.NewSweep{Older: e.flag("older"), Remove: e.flag("remove") == "true"})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, f := range s.Files {
		what := "stays"
		switch {
		case f.Removed:
			what = "removed"
		case f.Goes:
			what = "goes"
		}
		rows = append(rows, []string{what, f.File, size(f.Bytes), at(f.Modified), f.Reason})
	}
	if err := e.show(s, []string{"what", "file", "size", "touched", "why"}, rows); err != nil || e.format != "table" {
		return err
	}
	fmt.Fprintf(e.out, "files looked at: %s; left behind: %s (%s); removed: %s\n", count(s.Looked), count(s.Going), size(s.Bytes), count(s.Removed))
	return nil
}

package cli

import (
	"context"
	"flag"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"

	"ambercellar/client"
	"ambercellar/internal/core/period"
)

// storeCommands are the commands of stores.
func storeCommands() []Command {
	return []Command{
		{Name: "store add", Args: "NAME",
			Summary: "add a directory, or a bucket of an S3-compatible object store, for archived segments",
			Flags:   storeFlags, Run: storeAdd},
		{Name: "store set", Args: "NAME", Summary: "change a store's second store, or how it is scrubbed",
			Flags: storeSetFlags, Run: storeSet},
		{Name: "store check", Args: "NAME", Summary: "write to a store, read it back, list and remove it",
			Run: storeCheck},
		{Name: "store sweep", Args: "NAME",
			Summary: "list what interrupted runs left behind in a store, and remove it with -remove",
			Flags:   storeSweepFlags, Run: storeSweep},
		{Name: "store list", Summary: "list the stores and what lies in them", Run: storeList},
		{Name: "store reseal", Args: "NAME", Summary: "seal every file of a store with the newest of its keys",
			Run: storeReseal},
		{Name: "store adopt", Args: "NAME",
			Summary: "bring segments of a store into a catalog that does not know them", Run: storeAdopt},
	}
}

func storeFlags(f *flag.FlagSet) {
	f.String("path", "", "a directory, as the service sees it")
	f.String("endpoint", "", "of an object store: http://HOST:PORT or https://HOST")
	f.String("bucket", "", "with -endpoint: the bucket, which must exist")
	f.String("prefix", "", "with -endpoint: of the names of all files")
	f.String("region", "", "with -endpoint: the bucket's region; left out: us-east-1")
	f.String("style", "", "with -endpoint: how the bucket is addressed, path or host; left out: path")
	f.String("credentials-file", "",
		"with -endpoint: an INI file, as the service sees it, with aws_access_key_id and aws_secret_access_key; "+
			"left out: the service's environment")
	f.String("profile", "", "with -credentials-file: its section; left out: default")
	f.String("ca-file", "", "with -endpoint: PEM file of the authority that signed the server's certificate")
	f.String("encryption", "", "with -endpoint: AES256 or aws:kms, done by the object store")
	f.String("key-id", "", "with -encryption aws:kms: the key")
	f.String("second", "", "the store in which every segment gets a second copy")
	f.String("class", "", "with -endpoint: the storage class into which files are let go cold, by the name that "+
		"the object "+
		"store gives it: one whose files have to be retrieved before they are read")
	f.Bool("existing", false, "the place comes from elsewhere and is a store already, or holds segments; no other "+
		"service may write there")
	sealFlags(f)
	tariffFlags(f)
}

func sealFlags(f *flag.FlagSet) {
	f.String("key-file", "", "seal the store: file of age keys, as the service sees it (`ambercellar store key` "+
		"makes one)")
	f.String("key-env", "", "seal the store: environment variable of the service that holds the keys")
}

// seal is what these flags say; nil where none was given.
func (e *Env) seal() *client.Seal {
	s := client.Seal{File: e.Flag("key-file"), Env: e.Flag("key-env")}
	if !s.Sealed() {
		return nil
	}
	if abs, err := filepath.Abs(s.File); err == nil && s.File != "" {
		s.File = abs
	}
	return &s
}

func storeAdd(e *Env) error {
	in := client.NewStore{Name: e.Args[0], Second: e.Flag("second"), Seal: e.seal(), Tariff: &client.Tariff{},
		Existing: Get[bool](e, "existing")}
	if err := e.tariff(in.Tariff, e.given()); err != nil {
		return err
	}
	switch path, endpoint := e.Flag("path"), e.Flag("endpoint"); {
	case (path == "") == (endpoint == ""):
		return Usage("give either -path, or -endpoint and -bucket")
	case path != "":
		abs, err := filepath.Abs(path)
		if err != nil {
			return err
		}
		in.Path = abs
	default:
		in.Bucket = &client.StoreBucket{Endpoint: endpoint, Name: e.Flag("bucket"), Prefix: e.Flag("prefix"),
			Region: e.Flag("region"), Style: e.Flag("style"), Credentials: e.Flag("credentials-file"),
			Profile: e.Flag("profile"), CA: e.Flag("ca-file"), Encryption: e.Flag("encryption"),
			KeyID: e.Flag("key-id"), Class: e.Flag("class")}
	}
	s, err := e.Client.AddStore(e.Ctx, in)
	if err != nil {
		return err
	}
	return e.store(s)
}

func (e *Env) store(s *client.StoreKept) error {
	scrub := "never on its own"
	if x := s.Scrub; x.Every != "" {
		scrub = "each segment every " + x.Every
		if x.Rate > 0 {
			scrub += ", " + Size(x.Rate) + "/s at the most"
		}
		if x.Window != "" {
			scrub += ", " + x.Window + " UTC"
		}
	}
	sealed, cold := "", ""
	if x := s.Seal; x.Sealed() {
		sealed = "with the keys in " + x.File
		if x.Env != "" {
			sealed = "with the keys in the variable " + x.Env
		}
	}
	if s.Cold() {
		cold = "files go cold (" + s.Bucket.Class + ")"
		for _, p := range []client.Priority{client.Low, client.Normal, client.High} {
			if r, ok := s.Tariff.Of[p]; ok {
				cold += fmt.Sprintf("; %s: %s, %g %s a GiB", p, r.Wait, r.Price, s.Tariff.Currency)
			}
		}
		if b := s.Tariff.Budget; b > 0 {
			cold += "; up to " + Size(b) + " in 30 days retrieved to verify"
		}
	}
	for _, w := range s.Warnings {
		e.Warn(w)
	}
	return e.Facts(s, []Fact{{"store", s.Name}, {"kind", s.Kind}, {"path", s.Path}, {"identity", s.Identity},
		{"second store", s.Second}, {"sealed", sealed}, {"cold", cold}, {"verified again", scrub}})
}

func storeSetFlags(f *flag.FlagSet) {
	f.String("second", "", "the store in which every segment gets a second copy; none: no second copies any more")
	f.String("scrub-every", "", "how often each segment is verified again, like P30D; never: not on its own")
	f.String("scrub-rate", "", "bytes a second that are read for it, like 32MiB; 0: as fast as it goes")
	f.String("scrub-window", "", "when, in UTC, like 01:00-05:00; any: at any time")
	sealFlags(f)
	tariffFlags(f)
}

func storeSet(e *Env) error {
	l, err := e.Client.Stores(e.Ctx)
	if err != nil {
		return err
	}
	change := client.StoreChange{}
	given := e.given()
	for _, s := range l.Items {
		if s.Name != e.Args[0] {
			continue
		}
		change.Scrub = &s.Scrub
		for _, name := range []string{"wait", "price", "currency", "days", "verify-budget"} {
			if given(name) {
				change.Tariff = &s.Tariff
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
		if v := e.Flag(flag); v != none {
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
			n, err := humanize.ParseBytes(e.Flag("scrub-rate"))
			if err != nil {
				return Usage("-scrub-rate %q is no number of bytes; write one like 32MiB", e.Flag("scrub-rate"))
			}
			change.Scrub.Rate = int64(n)
		}
	}
	s, err := e.Client.SetStore(e.Ctx, e.Args[0], change)
	if err != nil {
		return err
	}
	return e.store(s)
}

func storeCheck(e *Env) error {
	l, err := e.Client.CheckStore(e.Ctx, e.Args[0])
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
	if err := e.Show(l, []string{"verdict", "what"}, rows); err != nil || harms == 0 {
		return err
	}
	return fmt.Errorf("store %s: what the place does on its own would harm the archive", e.Args[0])
}

func storeList(e *Env) error {
	l, err := e.Client.Stores(e.Ctx)
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, s := range l.Items {
		free := "unknown"
		if s.Free >= 0 {
			free = Size(s.Free)
		}
		second := Dash(s.Second)
		if n := s.Totals.Unseconded; n > 0 {
			second += fmt.Sprintf(" (%s to copy)", Count(n))
		}
		kind, here := s.Kind, Count(s.Totals.Segments)
		if s.Seal.Sealed() {
			kind += ", sealed"
		}
		if s.Cold() {
			kind += ", cold"
		}
		if n := s.Totals.Away; n > 0 {
			here += fmt.Sprintf(" (%s with rows elsewhere)", Count(n))
		}
		guests := Count(s.Totals.Guests)
		if s.Totals.Guests > 0 {
			guests += " (" + Size(s.Totals.GuestBytes) + ")"
		}
		rows = append(rows, []string{s.Name, kind, s.Path, here, Size(s.Totals.FileBytes), guests, free,
			Count(s.Totals.Seconds), second, atOrDash(s.Totals.Verified), Count(s.Totals.Damaged), Dash(s.Problem)})
		for _, w := range s.Warnings {
			defer e.Warn(w)
		}
	}
	return e.Show(l, []string{"name", "kind", "path", "segments", "size", "rows of others", "free", "copies of others",
		"second store", "all verified since", "damaged", "problem"}, rows)
}

func storeAdopt(e *Env) error {
	a, err := lasting(e, "adopting",
		func(ctx context.Context) (*client.Adopted, error) { return e.Client.Adopt(ctx, e.Args[0]) })
	if err != nil {
		return err
	}
	return e.Facts(a, []Fact{{"segments adopted", Count(a.Segments)}, {"segments renewed", Count(a.Renewed)}})
}

func storeSweepFlags(f *flag.FlagSet) {
	f.String("older", "P1D", "only files that were not touched for so long")
	f.Bool("remove", false, "remove what goes; left out: it is only listed")
}

func storeSweep(e *Env) error {
	in := client.NewSweep{Older: e.Flag("older"), Remove: Get[bool](e, "remove")}
	s, err := lasting(e, "sweeping",
		func(ctx context.Context) (*client.Swept, error) { return e.Client.Sweep(ctx, e.Args[0], in) })
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
		rows = append(rows, []string{what, f.File, Size(f.Bytes), At(f.Modified), f.Reason})
	}
	if err := e.Show(s, []string{"what", "file", "size", "touched", "why"}, rows); err != nil || e.Format != "table" {
		return err
	}
	fmt.Fprintf(e.Out, "files looked at: %s; left behind: %s (%s); removed: %s\n", Count(s.Looked), Count(s.Going),
		Size(s.Bytes), Count(s.Removed))
	return nil
}

// tariffFlags say what retrievals from a cold store take.
func tariffFlags(f *flag.FlagSet) {
	f.String("wait", "", "of a store whose files go cold: how long a retrieval takes, by priority, like "+
		"low=PT12H,normal=PT4H,high=PT5M")
	f.String("price", "", "of a store whose files go cold: what it costs for a GiB, by priority, like "+
		"low=0.002,normal=0.01,high=0.03")
	f.String("currency", "", "of these prices")
	f.Int("days", 0, "how many days a retrieved copy stays where nothing else is said; left out: "+
		strconv.Itoa(client.UsualDays))
	f.String("verify-budget", "", "bytes in 30 days that are retrieved to verify cold segments, like 20GiB; left "+
		"out: none")
}

// tariff reads what was given of these flags into a tariff.
func (e *Env) tariff(t *client.Tariff, given func(string) bool) error {
	if given("wait") || given("price") {
		waits, err := ByPriority(e.Flag("wait"), func(s string) (string, error) {
			p, err := period.Parse(s)
			return p.String(), err
		})
		if err != nil {
			return Usage("-wait: %v", err)
		}
		prices, err := ByPriority(e.Flag("price"),
			func(s string) (float64, error) { return strconv.ParseFloat(s, 64) })
		if err != nil {
			return Usage("-price: %v", err)
		}
		t.Of = map[client.Priority]client.Rate{}
		for _, p := range []client.Priority{client.Low, client.Normal, client.High} {
			wait, ok := waits[string(p)]
			price, priced := prices[string(p)]
			if ok != priced {
				return Usage("-wait and -price name the same priorities")
			}
			if ok {
				t.Of[p] = client.Rate{Wait: wait, Price: price}
			}
		}
	}
	if given("currency") {
		t.Currency = e.Flag("currency")
	}
	if given("days") {
		t.Days = Get[int](e, "days")
	}
	if given("verify-budget") {
		n, err := humanize.ParseBytes(e.Flag("verify-budget"))
		if err != nil {
			return Usage("-verify-budget %q is no number of bytes; write one like 20GiB", e.Flag("verify-budget"))
		}
		t.Budget = int64(n)
	}
	return nil
}

// given says which flags were given.
func (e *Env) given() func(string) bool {
	set := map[string]bool{}
	e.Flags.Visit(func(f *flag.Flag) { set[f.Name] = true })
	return func(name string) bool { return set[name] }
}

func storeReseal(e *Env) error {
	r, err := lasting(e, "sealing anew",
		func(ctx context.Context) (*client.Resealed, error) { return e.Client.Reseal(ctx, e.Args[0]) })
	if err != nil {
		return err
	}
	return e.Facts(r, []Fact{{"sealed anew", fmt.Sprintf("%s files (%s)", Count(r.Sealed), Size(r.Bytes))},
		{"in cold storage", fmt.Sprintf("%s files, which keep their key", Count(r.Cold))}})
}

// ByPriority reads a list like low=1,normal=2,high=3.
func ByPriority[T any](text string, read func(string) (T, error)) (map[string]T, error) {
	out := map[string]T{}
	if text == "" {
		return out, nil
	}
	for _, part := range strings.Split(text, ",") {
		name, value, _ := strings.Cut(part, "=")
		if !slices.Contains([]client.Priority{client.Low, client.Normal, client.High}, client.Priority(name)) {
			return nil, fmt.Errorf("%q is none of the priorities low, normal and high", name)
		}
		v, err := read(value)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		out[name] = v
	}
	return out, nil
}

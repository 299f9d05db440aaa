package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/url"
	"os"
	"path"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/client"
	"ambercellar/internal/engine/upkeep"
)

// several is a flag that may be given more than once.
type several []string

func (s *several) String() string     { return strings.Join(*s, "\n") }
func (s *several) Set(v string) error { *s = append(*s, v); return nil }

func verifyFlags(f *flag.FlagSet) {
	f.Bool("all", false, "every segment of all stores, and everything else that lies there")
	f.String("table", "", "the segments of this table, as SOURCE.TABLE")
	f.String("in", "", "the segments in this store")
	f.Bool("repair", false, "with -all, -table or -in: replace what is damaged from the other copy, where that is whole")
	f.String("key-file", "", "with -store: the keys of sealed stores")
	f.Var(&several{}, "store", "without a service: what lies in this directory, or at this address of a bucket (https://HOST/BUCKET/PREFIX); may be given again")
}

func segmentVerify(e *env) error {
	table, in, all := e.flag("table"), e.flag("in"), e.flag("all") == "true"
	stores := e.flag("store")
	kinds := 0
	for _, given := range []bool{len(e.args) == 1, all || in != "" || table != "" && stores == "", stores != ""} {
		if given {
			kinds++
		}
	}
	if kinds != 1 || stores != "" && e.flag("repair") == "true" {
		return usage("say what is to be verified: a segment; or -all, -table or -in; or -store")
	}
	sourceName, tableName, ok := strings.Cut(table, ".")
	if table != "" && !ok {
		return usage("-table %q: write SOURCE.TABLE", table)
	}
	switch {
	case stores != "":
		return e.verifyStores(strings.Split(stores, "\n"), sourceName, tableName)
	case len(e.args) == 1:
		return e.verifyOne(e.args[0])
	}
	v, err := client.Post[catalog.Verification](e.ctx, e.client, "/verifications", upkeep.VerificationRequest{Store: in, Source: sourceName, Table: tableName, Repair: e.flag("repair") == "true"})
	if err != nil {
		return err
	}
	show, said := bytesProgress(e.err), ""
	for v.State == catalog.Verifying {
		if v, err = follow[catalog.Verification](e, "verification", v.ID, "/verifications/"+url.PathEscape(v.ID)); err != nil {
			return err
		}
		if v.Reason != said && v.State == catalog.Verifying {
			if said = v.Reason; said != "" {
				fmt.Fprintf(e.err, "\n%s\n", said)
			}
		}
		show(v.Bytes, v.OfBytes, fmt.Sprintf("%s of %s", count(v.Segments), things(v.Of, "segment")))
	}
	fmt.Fprintln(e.err)
	return e.verification(&v)
}

func (e *env) verifyOne(id string) error {
	s, err := client.Post[catalog.Segment](e.ctx, e.client, "/segments/"+url.PathEscape(id)+"/verify", nil)
	if err != nil {
		return err
	}
	if e.format == "table" {
		fmt.Fprintf(e.out, "segment %s is what was written: %s, file hash, manifest, closing record and digest agree\n", s.ID, things(s.Rows, "row"))
		return nil
	}
	return e.segment(s, &s)
}

// bytesProgress shows how many bytes of all have been read: as a bar on a terminal, and as a line every few seconds elsewhere.
func bytesProgress(w io.Writer) func(done, all int64, text string) {
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		bar := progressbar.NewOptions64(1, progressbar.OptionSetWriter(w), progressbar.OptionSetWidth(36), progressbar.OptionShowBytes(true),
			progressbar.OptionSetTheme(progressbar.Theme{Saucer: "█", SaucerPadding: "░", BarStart: "", BarEnd: ""}))
		return func(done, all int64, text string) {
			bar.ChangeMax64(max(all, done, 1))
			bar.Describe(text)
			bar.Set64(done)
		}
	}
	var shown time.Time
	return func(done, all int64, text string) {
		if all > 0 && time.Since(shown) > 3*time.Second {
			shown = time.Now()
			fmt.Fprintf(w, "%s, %s of %s read\n", text, size(done), size(all))
		}
	}
}

// countProgress shows now and then how many of all things are done.
func countProgress(w io.Writer) func(done, all int, what string) {
	shown := time.Now()
	return func(done, all int, what string) {
		if time.Since(shown) > time.Second {
			shown = time.Now()
			fmt.Fprintf(w, "%s of %s %s\n", count(done), count(all), what)
		}
	}
}

func findingRows(list []catalog.FoundInStore) [][]string {
	rows := [][]string{}
	for _, f := range list {
		verdict := "note"
		switch {
		case f.Repaired != "":
			verdict = "repaired from " + f.Repaired
		case f.Wrong:
			verdict = "WRONG"
		}
		rows = append(rows, []string{verdict, f.Kind, dash(f.Table), f.Store + ":" + f.File, f.Message})
	}
	return rows
}

var findingHeads = []string{"verdict", "kind", "table", "file", "what"}

func (e *env) verification(v *catalog.Verification) error {
	what := "all stores"
	if v.Store != "" {
		what = "store " + v.Store
	}
	if v.Table != "" {
		what += ", table " + v.Source + "." + v.Table
	}
	if v.Older != nil {
		what += ", segments not verified since " + at(*v.Older)
	}
	if err := e.facts(v, "verification", v.ID, "of", what, "state", string(v.State), "reason", v.Reason, "asked by", v.CreatedBy, "begun", at(v.CreatedAt), "ended", atOrDash(v.EndedAt),
		"read", fmt.Sprintf("%s, %s, %s", things(v.Segments, "segment"), things(v.Rows, "row"), size(v.Bytes)), "wrong", fmt.Sprintf("%s, of which %s repaired", count(v.Wrong), count(v.Repaired))); err != nil {
		return err
	}
	if e.format == "table" && len(v.Findings.V) > 0 {
		fmt.Fprintln(e.out)
		e.show(v, findingHeads, findingRows(v.Findings.V))
	}
	switch {
	case v.State == catalog.VerificationFailed:
		return errors.New(v.Reason)
	case v.Wrong > v.Repaired:
		return fmt.Errorf("not everything is what was written: %s wrong", count(v.Wrong-v.Repaired))
	}
	return nil
}

func verificationList(e *env) error {
	l, err := items[catalog.Verification](e, "/verifications", nil)
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, v := range l.Items {
		what := v.Store
		if v.Table != "" {
			what = strings.TrimSpace(what + " " + v.Source + "." + v.Table)
		}
		rows = append(rows, []string{v.ID, dash(what), string(v.State), v.CreatedBy, at(v.CreatedAt), count(v.Segments), count(v.Rows), size(v.Bytes), count(v.Wrong), count(v.Repaired)})
	}
	return e.show(l, []string{"verification", "of", "state", "asked by", "begun", "segments", "rows", "read", "wrong", "repaired"}, rows)
}

func verificationShow(e *env) error {
	v, err := client.Get[catalog.Verification](e.ctx, e.client, "/verifications/"+url.PathEscape(e.args[0]))
	if err != nil {
		return err
	}
	return e.verification(&v)
}

// examined is what verifying stores without a service tells.
type examined struct {
	*archive.Examined
	Findings []archive.Finding `json:"findings"`
}

// openPlaces opens stores without a service.
func (e *env) openPlaces(addresses []string) (places []archive.Place, err error) {
	for _, a := range addresses {
		st, err := openPlace(e.ctx, a)
		if keys := e.flag("key-file"); err == nil && keys != "" {
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
func (e *env) verifyStores(addresses []string, sourceName, table string) error {
	places, err := e.openPlaces(addresses)
	if err != nil {
		return err
	}
	show := bytesProgress(e.err)
	out := examined{Findings: []archive.Finding{}}
	got, err := archive.Examine(e.ctx, places, archive.Examining{
		Wanted: func(m *archive.Manifest) bool { return table == "" || m.Source == sourceName && m.Table == table },
		Find: func(f archive.Finding) {
			if table == "" || f.Table == sourceName+"."+table {
				out.Findings = append(out.Findings, f)
			}
		},
		Step: func(x archive.Examined) {
			show(x.Bytes, x.OfBytes, fmt.Sprintf("%s of %s", count(x.Segments), things(x.Of, "segment")))
		},
	})
	if err != nil {
		return err
	}
	fmt.Fprintln(e.err)
	out.Examined = got
	rows := [][]string{}
	for _, c := range got.Chains {
		rows = append(rows, []string{c.Source + "." + c.Table, count(c.Segments), count(c.Records), fmt.Sprintf("%.12s", c.Head)})
	}
	if err := e.show(out, []string{"table", "segments", "records", "newest record"}, rows); err != nil {
		return err
	}
	found := []catalog.FoundInStore{}
	wrong := 0
	for _, f := range out.Findings {
		found = append(found, catalog.FoundInStore{Finding: f})
		if f.Wrong {
			wrong++
		}
	}
	if e.format == "table" {
		if len(found) > 0 {
			fmt.Fprintln(e.out)
			e.show(out, findingHeads, findingRows(found))
		}
		fmt.Fprintf(e.out, "\nread: %s, %s, %s\na store alone cannot tell whether the newest records of a table were removed: compare each newest record with the source's journal, the audit log, or `segment verify -all` of the service\n", things(got.Segments, "segment"), things(got.Rows, "row"), size(got.Bytes))
	}
	if wrong > 0 {
		return fmt.Errorf("not everything is what was written: %s wrong", count(wrong))
	}
	return nil
}

// openPlace opens a directory that exists, or a bucket by its address, with credentials from the environment.
func openPlace(ctx context.Context, address string) (store.Store, error) {
	if u, err := url.Parse(address); err == nil && (u.Scheme == "http" || u.Scheme == "https") {
		bucket, prefix, _ := strings.Cut(strings.Trim(path.Clean(u.Path), "/"), "/")
		st, err := store.OpenBucket(store.Bucket{Endpoint: u.Scheme + "://" + u.Host, Name: bucket, Prefix: prefix, Region: os.Getenv("AWS_REGION")})
		if err != nil {
			return nil, usage("-store %s: %v", address, err)
		}
		return st, nil
	}
	if at, err := os.Stat(address); err != nil {
		return nil, err
	} else if !at.IsDir() {
		return nil, usage("-store %s: it is no directory", address)
	}
	return store.OpenDirectory(address)
}

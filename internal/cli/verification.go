package cli

import (
	"errors"
	"flag"
	"fmt"
	"strings"

	"ambercellar/client"
)

// Several is a flag that may be given more than once.
type Several []string

func (s *Several) String() string { return strings.Join(*s, "\n") }

func (s *Several) Set(v string) error { *s = append(*s, v); return nil }

func verifyFlags(f *flag.FlagSet) {
	f.Bool("all", false, "every segment of all stores, and everything else that lies there")
	f.String("table", "", "the segments of this table, as SOURCE.TABLE")
	f.String("in", "", "the segments in this store")
	f.Bool("repair", false, "with -all, -table or -in: replace what is damaged from the other copy, where that is "+
		"whole")
	f.String("key-file", "", "with -store: the keys of sealed stores")
	f.Var(&Several{}, "store", "without a service: what lies in this directory, or at this address of a bucket "+
		"(https://HOST/BUCKET/PREFIX); may be given again")
}

func segmentVerify(e *Env) error {
	table, in, all := e.Flag("table"), e.Flag("in"), Get[bool](e, "all")
	stores := e.Flag("store")
	kinds := 0
	for _, given := range []bool{len(e.Args) == 1, all || in != "" || table != "" && stores == "", stores != ""} {
		if given {
			kinds++
		}
	}
	if kinds != 1 || stores != "" && Get[bool](e, "repair") {
		return Usage("say what is to be verified: a segment; or -all, -table or -in; or -store")
	}
	sourceName, tableName, ok := strings.Cut(table, ".")
	if table != "" && !ok {
		return Usage("-table %q: write SOURCE.TABLE", table)
	}
	switch {
	case stores != "":
		return e.verifyStores(e, strings.Split(stores, "\n"), sourceName, tableName)
	case len(e.Args) == 1:
		return e.verifyOne(e.Args[0])
	}
	v, err := e.Client.Verify(e.Ctx, client.VerificationRequest{Store: in, Source: sourceName, Table: tableName,
		Repair: Get[bool](e, "repair")})
	if err != nil {
		return err
	}
	show, said := BytesProgress(e.Err), ""
	for v.State == client.Verifying {
		if v, err = follow(e, "verification", v.ID, e.Client.Verification); err != nil {
			return err
		}
		if v.Reason != said && v.State == client.Verifying {
			if said = v.Reason; said != "" {
				fmt.Fprintf(e.Err, "\n%s\n", said)
			}
		}
		show(v.Bytes, v.OfBytes, fmt.Sprintf("%s of %s", Count(v.Segments), Things(v.Of, "segment")))
	}
	fmt.Fprintln(e.Err)
	return e.verification(v)
}

func (e *Env) verifyOne(id string) error {
	s, err := e.Client.VerifySegment(e.Ctx, id)
	if err != nil {
		return err
	}
	if e.Format == "table" {
		fmt.Fprintf(e.Out, "segment %s is what was written: %s, file hash, manifest, closing record and digest "+
			"agree\n", s.ID, Things(s.Rows, "row"))
		return nil
	}
	return e.segment(s, s)
}

func FindingRows(list []client.FoundInStore) [][]string {
	rows := [][]string{}
	for _, f := range list {
		verdict := "note"
		switch {
		case f.Repaired != "":
			verdict = "repaired from " + f.Repaired
		case f.Wrong:
			verdict = "WRONG"
		}
		rows = append(rows, []string{verdict, f.Kind, Dash(f.Table), f.Store + ":" + f.File, f.Message})
	}
	return rows
}

var FindingHeads = []string{"verdict", "kind", "table", "file", "what"}

func (e *Env) verification(v *client.Verification) error {
	what := "all stores"
	if v.Store != "" {
		what = "store " + v.Store
	}
	if v.Table != "" {
		what += ", table " + v.Source + "." + v.Table
	}
	if v.Older != nil {
		what += ", segments not verified since " + At(*v.Older)
	}
	if err := e.Facts(v, []Fact{{"verification", v.ID}, {"of", what}, {"state", string(v.State)}, {"reason", v.Reason},
		{"asked by", v.CreatedBy}, {"begun", At(v.CreatedAt)}, {"ended", atOrDash(v.EndedAt)},
		{"read", fmt.Sprintf("%s, %s, %s", Things(v.Segments, "segment"), Things(v.Rows, "row"), Size(v.Bytes))},
		{"wrong", fmt.Sprintf("%s, of which %s repaired", Count(v.Wrong), Count(v.Repaired))}}); err != nil {
		return err
	}
	if e.Format == "table" && len(v.Findings) > 0 {
		fmt.Fprintln(e.Out)
		e.Show(v, FindingHeads, FindingRows(v.Findings))
	}
	switch {
	case v.State == client.VerificationFailed:
		return errors.New(v.Reason)
	case v.Wrong > v.Repaired:
		return fmt.Errorf("not everything is what was written: %s wrong", Count(v.Wrong-v.Repaired))
	}
	return nil
}

func verificationList(e *Env) error {
	l, err := items(e, func(n int, after string) (client.Items[client.Verification], error) {
		return e.Client.Verifications(e.Ctx, client.VerificationsQuery{Limit: n, After: after})
	})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, v := range l.Items {
		what := v.Store
		if v.Table != "" {
			what = strings.TrimSpace(what + " " + v.Source + "." + v.Table)
		}
		rows = append(rows, []string{v.ID, Dash(what), string(v.State), v.CreatedBy, At(v.CreatedAt),
			Count(v.Segments), Count(v.Rows), Size(v.Bytes), Count(v.Wrong), Count(v.Repaired)})
	}
	return e.Show(l, []string{"verification", "of", "state", "asked by", "begun", "segments", "rows", "read", "wrong",
		"repaired"}, rows)
}

func verificationShow(e *Env) error {
	v, err := e.Client.Verification(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.verification(v)
}

package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"ambercellar/client"
)

// restoreCommands are the commands of restores.
func restoreCommands() []Command {
	return []Command{
		{Name: "restore request", Summary: "bring archived rows back, into their table or a file", Flags: restoreFlags,
			Run: restoreRequest},
		{Name: "restore keep", Args: "RESTORE",
			Summary: "change how long the rows of a restore stay: for so long from now on, or for good",
			Flags:   func(f *flag.FlagSet) { f.String("for", "", "like P5D; left out: for good") }, Run: restoreKeep},
		{Name: "restore approve", Args: "RESTORE", Summary: "approve a restore that waits for it",
			Run: restoreApprove},
		{Name: "restore refuse", Args: "RESTORE", Summary: "refuse a restore that waits for an approval",
			Flags: func(f *flag.FlagSet) { f.String("reason", "", "why; the asker is told") }, Run: restoreRefuse},
		{Name: "restore replaced", Args: "RESTORE", Summary: "write the rows that a restore replaced, as they were",
			Flags: func(f *flag.FlagSet) { f.String("out", "", "the file to write") }, Run: restoreReplaced},
		{Name: "restore list", Summary: "list restores, the newest first", Flags: limitFlag, Run: restoreList},
		{Name: "restore show", Args: "RESTORE", Summary: "show a restore", Run: restoreShow},
	}
}

func restoreFlags(f *flag.FlagSet) {
	f.String("run", "", "rows of this run")
	f.String("segment", "", "rows of this segment")
	f.String("source", "", "with -table, -from and -to: the source")
	f.String("table", "", "with -source, -from and -to: the table")
	f.String("from", "", "rows whose age is this date or time, or later")
	f.String("to", "", "rows whose age is before this date or time")
	f.String("where", "", "with -source and -table: rows for which this is true, in the language of rules")
	f.Var(&Several{}, "row", "a single row, as SEGMENT:NUMBER of a search; may be given again")
	f.String("into", "table", "table (the one the rows came from), side (a new table, made to fit) or file")
	f.String("side-table", "", "with -into side: the name of the table that is made; left out: the table's own and "+
		"the time")
	f.String("side-source", "", "with -into side: the source that it is made in; left out: the one the rows came from")
	f.String("conflicts", "", "with -into table: skip rows whose key is there already, fail before anything is "+
		"written, or replace what is there, which is kept in a file; left out: skip")
	f.Bool("all-rows", false, "with -source and -table: every archived row")
	f.String("keys", "", "with -source and -table: rows with these keys, separated by commas, of a table whose key "+
		"has one column")
	f.String("priority", "", "of retrievals, where rows are in cold storage: low, normal or high; left out: normal")
	f.Int("days", 0, "how many days retrieved copies stay; left out: as the store has it")
	f.String("pace", "", "gentle, careful or unlimited; left out: that of the table's rule")
	f.String("tell", "", "who is told when it is ready: a mail address, or a URL that is sent it as JSON")
	f.Bool("wait", true, "wait for it; -wait=false does not")
	f.Var(&Several{}, "rename", "with -into table: an archived column that is called otherwise now, as OLD=NEW; "+
		"may be given again")
	f.String("leave-out", "", "with -into table: archived columns that have no place any more, separated by commas")
	f.String("for", "", "with -into table: the rows go again by themselves after so long, like P2D, unless they "+
		"were changed")
	f.Bool("try", false, "only say what it would do")
	f.String("format", "csv", "of a file: csv, csv-safe (no text is a formula in a spreadsheet), ndjson or parquet")
	f.String("out", "", "write the file here once it is made")
	f.String("note", "", "who asked, and why")
}

func restoreRequest(e *Env) error {
	q := client.RestoreRequest{Source: e.Flag("source"), Table: e.Flag("table"),
		Scope: client.Scope{Run: e.Flag("run"), Segment: e.Flag("segment"), From: e.Flag("from"), To: e.Flag("to"),
			Where: e.Flag("where"), All: Get[bool](e, "all-rows")},
		Target: e.Flag("into"), TargetTable: e.Flag("side-table"), TargetSource: e.Flag("side-source"),
		Conflicts: e.Flag("conflicts"), For: e.Flag("for"), Note: e.Flag("note"),
		Priority: client.Priority(e.Flag("priority")), Pace: e.Flag("pace"), Tell: e.Flag("tell")}
	q.Days = Get[int](e, "days")
	if list := e.Flag("keys"); list != "" {
		q.Keys = strings.Split(list, ",")
	}
	for _, row := range strings.Fields(e.Flag("row")) {
		segment, ordinal, ok := strings.Cut(row, ":")
		n, err := strconv.Atoi(ordinal)
		if !ok || err != nil {
			return Usage("-row %q: write SEGMENT:NUMBER, as a search shows them", row)
		}
		q.Scope.Rows = append(q.Scope.Rows, client.RowAt{Segment: segment, Ordinal: n})
	}
	for _, pair := range strings.Fields(e.Flag("rename")) {
		old, now, ok := strings.Cut(pair, "=")
		if !ok {
			return Usage("-rename %q: write OLD=NEW", pair)
		}
		if q.Fit.Rename == nil {
			q.Fit.Rename = map[string]string{}
		}
		q.Fit.Rename[old] = now
	}
	if list := e.Flag("leave-out"); list != "" {
		q.Fit.LeaveOut = strings.Split(list, ",")
	}
	if q.Target == "file" {
		q.Format = e.Flag("format")
	} else if e.Flag("out") != "" {
		return Usage("-out goes with -into file")
	}
	if out := e.Flag("out"); out != "" { // rather than when all is done
		if err := free(out); err != nil {
			return err
		}
	}
	if Get[bool](e, "try") {
		return e.restorePreview(q)
	}
	r, err := e.Client.RequestRestore(e.Ctx, q)
	if err != nil {
		return err
	}
	show := countProgress(e.Err)
	for Get[bool](e, "wait") && (r.State == client.Restoring || r.State == client.Retrieving) {
		if r, err = follow(e, "restore", r.ID, e.Client.Restore); err != nil {
			return err
		}
		what := "rows looked at"
		if r.State == client.Retrieving {
			what = r.Reason
		}
		show(int(r.Found), int(r.Of), what)
	}
	if err := e.restore(r); err != nil {
		return err
	}
	if r.State == client.RestoreFailed {
		return fmt.Errorf("restore %s failed", r.ID) // why stands above
	}
	if out := e.Flag("out"); out != "" {
		return e.save("/restores/"+url.PathEscape(r.ID)+"/file", out)
	}
	return nil
}

func restoreKeep(e *Env) error {
	r, err := e.Client.KeepRestored(e.Ctx, e.Args[0], client.NewKeeping{For: e.Flag("for")})
	if err != nil {
		return err
	}
	return e.restore(r)
}

// staying says how long the rows of a restore stay.
func staying(r *client.Restore) string {
	switch {
	case r.ExpiredAt != nil:
		return fmt.Sprintf("gone again since %s: %s taken back, %s had been changed and stay", At(*r.ExpiredAt),
			Count(r.TakenBack), Count(r.Stayed))
	case r.ExpiresAt != nil:
		return "for " + r.Lasts + ", until " + At(*r.ExpiresAt)
	}
	return ""
}

func (e *Env) restorePreview(q client.RestoreRequest) error {
	p, err := e.Client.PreviewRestore(e.Ctx, q)
	if err != nil {
		return err
	}
	there := ""
	switch {
	case q.Target != client.TargetTable:
	case p.Untold:
		there = "the table has no key, so nobody can tell"
	default:
		there = fmt.Sprintf("%s of these rows", Count(p.Conflicts))
	}
	stale := ""
	if p.Stale > 0 {
		stale = fmt.Sprintf("%s more of which a newer version is archived", Count(p.Stale))
	}
	if err := e.Facts(p, []Fact{{"rows", fmt.Sprintf("%s of %s.%s, in %s (%s)", Count(p.Rows), p.Source, p.Table,
		Things(p.Segments, "segment"), Size(p.Bytes))}, {"not restored", stale}, {"into", p.Into},
		{"key there already", there}, {"approval",
			map[bool]string{true: "somebody has to approve it first"}[p.Approval]},
		{"triggers that fire", strings.Join(p.Triggers, ", ")}}); err != nil || e.Format != "table" {
		return err
	}
	if c := p.Cold; c != nil {
		fmt.Fprintf(e.Out, "in cold storage, and not counted: %s with %s (%s)\n", Things(len(c.Segments), "segment"),
			Things(c.Rows, "row"), Size(c.Bytes))
		for _, o := range c.Offers {
			fmt.Fprintf(e.Out, "  to retrieve them at %s priority: %s\n", o.Priority, Offered(o))
		}
	}
	fmt.Fprintln(e.Out, "nothing was changed")
	return nil
}

func restoreReplaced(e *Env) error {
	out := e.Flag("out")
	if out == "" {
		return Usage("-out is missing: the file to write")
	}
	return e.save("/restores/"+url.PathEscape(e.Args[0])+"/replaced", out)
}

// free says whether a file can be made.
func free(file string) error {
	if _, err := os.Lstat(file); err == nil {
		return fmt.Errorf("%s exists already; name another file, or remove it", file)
	}
	if st, err := os.Stat(filepath.Dir(file)); err != nil {
		return fmt.Errorf("%s cannot be made: %w", file, err)
	} else if !st.IsDir() {
		return fmt.Errorf("%s cannot be made: %s is no directory", file, filepath.Dir(file))
	}
	return nil
}

// save downloads a file. It gets its name when all of it has arrived: what has that name is whole.
func (e *Env) save(path, file string) error {
	if err := free(file); err != nil {
		return err
	}
	part := file + ".part"
	f, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(part)
	err = e.Client.Download(e.Ctx, path, f)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Link(part, file) // which fails where somebody was faster
	}
	if err == nil {
		fmt.Fprintln(e.Err, "written to", file)
	}
	return err
}

func Sleep(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

func (e *Env) restore(r *client.Restore) error {
	verified := "no"
	if r.Verified != nil && *r.Verified {
		verified = "counts and digest hold"
	}
	file := ""
	into := r.Target
	switch r.Target {
	case client.TargetFile:
		file = fmt.Sprintf("%s, %s", r.Format, Size(r.FileBytes))
	case client.TargetSide:
		into = fmt.Sprintf("side table %s.%s", r.TargetSource, r.TargetTable)
	}
	return e.Facts(r, []Fact{{"restore", r.ID}, {"table", r.Source + "." + r.Table}, {"scope", scopeText(r.Scope)},
		{"into", into}, {"file", file}, {"note", r.Note}, {"state", string(r.State)}, {"reason", r.Reason},
		{"rows", fmt.Sprintf("%s found in %s = %s restored + %s skipped", Count(r.Found),
			Things(r.Segments, "segment"), Count(r.Restored), Count(r.Skipped))}, {"replaced", replaced(r)},
		{"approved", approved(r)}, {"told", told(r)}, {"rows stay", staying(r)}, {"verified", verified},
		{"digest", r.Digest}, {"requested", At(r.CreatedAt)}, {"ended", atOrDash(r.EndedAt)}})
}

func replaced(r *client.Restore) string {
	if r.Replaced == 0 {
		return ""
	}
	return fmt.Sprintf("%s of the restored rows took the place of others, which `ambercellar restore replaced %s "+
		"-out FILE` writes", Count(r.Replaced), r.ID)
}

func approved(r *client.Restore) string {
	if r.ApprovedAt == nil {
		return ""
	}
	return r.ApprovedBy + ", " + At(*r.ApprovedAt)
}

func told(r *client.Restore) string {
	if r.Tell == "" {
		return ""
	}
	if r.ToldAt == nil {
		return r.Tell + ", not yet"
	}
	return r.Tell + ", " + At(*r.ToldAt)
}

func scopeText(s client.Scope) string {
	var parts []string
	for _, p := range [][2]string{{"run", s.Run}, {"segment", s.Segment}, {"from", s.From}, {"to", s.To},
		{"where", s.Where}} {
		if p[1] != "" {
			parts = append(parts, p[0]+" "+p[1])
		}
	}
	if n := len(s.Rows); n > 0 {
		parts = append(parts, Count(n)+" single rows")
	}
	if s.All {
		parts = append(parts, "every row")
	}
	return strings.Join(parts, " ")
}

func restoreList(e *Env) error {
	l, err := items(e, func(n int, after string) (client.Items[client.Restore], error) {
		return e.Client.Restores(e.Ctx, client.RestoresQuery{Limit: n, After: after})
	})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, r := range l.Items {
		rows = append(rows, []string{r.ID, r.Source + "." + r.Table, scopeText(r.Scope), r.Target, string(r.State),
			Count(r.Restored), Count(r.Skipped), At(r.CreatedAt)})
	}
	return e.Show(l, []string{"restore", "table", "scope", "into", "state", "restored", "skipped", "requested"}, rows)
}

func restoreShow(e *Env) error {
	r, err := e.Client.Restore(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.restore(r)
}

func restoreApprove(e *Env) error {
	r, err := e.Client.ApproveRestore(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.restore(r)
}

func restoreRefuse(e *Env) error {
	r, err := e.Client.RefuseRestore(e.Ctx, e.Args[0], client.NewRefusal{Reason: e.Flag("reason")})
	if err != nil {
		return err
	}
	return e.restore(r)
}

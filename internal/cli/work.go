package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"maps"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"ambercellar/internal/api"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/client"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/engine"
)

func runStart(e *env) error {
	r, err := client.Post[api.RunView](e.ctx, e.client, "/runs", api.NewRun{Plan: e.args[0], Empty: e.flag("empty") == "true"})
	if err != nil {
		return err
	}
	if e.flag("watch") == "true" {
		return e.watch(r.ID)
	}
	return e.run1(&r)
}

// run1 prints a run.
func (e *env) run1(r *api.RunView) error {
	l := r.Ledger
	left := ""
	if r.SecondsLeft != nil {
		left = spanOf(r)
	}
	if r.ResumeAt != nil {
		left = "goes on " + at(*r.ResumeAt)
		if r.WindowsLeft != nil {
			left += fmt.Sprintf(", windows to go: about %d", *r.WindowsLeft)
		}
	}
	if r.Pressure != nil && e.format == "table" {
		defer e.signals(r)
	}
	archived, logged := "", ""
	if r.LogBytes != nil {
		logged = size(*r.LogBytes) + " of the database's, others' writing included"
	}
	if r.Store != "" {
		archived = fmt.Sprintf("%s in the archive%s", size(r.FileBytes), ratio(r.RawBytes, r.FileBytes))
	}
	if parts := partsText(r); parts != "" && e.format == "table" {
		defer fmt.Fprint(e.out, parts)
	}
	passes := ""
	for _, p := range r.Passes.V {
		if len(r.Passes.V) > 1 || len(p.Related) > 0 {
			passes += fmt.Sprintf("clause %s: %s, %s deleted of %s\n", p.Label, p.Then, count(p.Ledger.Deleted), count(p.Ledger.Copied))
		}
		for _, x := range p.Related {
			passes += fmt.Sprintf("  with %s: %s, %s: %s\n", x.Table, x.Then, ledgerText(x.Ledger), balance(x.Ledger))
		}
	}
	if passes != "" && e.format == "table" {
		defer fmt.Fprint(e.out, passes)
	}
	return e.facts(r, "run", r.ID, "rule", fmt.Sprintf("%s, revision %d", r.Rule, r.Revision), "table", r.Source+"."+r.Table, "action", r.Action, "pace", r.Pace, "cutoff", at(r.Cutoff), "state", string(r.State), "reason", r.Reason,
		"due by plan", count(r.Due), "done", fmt.Sprintf("%s rows, %s a second", count(r.Done), count(int64(r.Rate))), "time left", left, "written", archived, "log volume", logged, "started", atOrDash(r.StartedAt), "ended", atOrDash(r.EndedAt),
		"ledger", ledgerText(l)+": "+balance(l))
}

// partsText says what became of each partition that was to leave as a whole.
func partsText(r *api.RunView) (out string) {
	for _, p := range r.Parts.V {
		if out += "partition " + p.Name + ": "; p.Name == "" {
			out = "the whole table: "
		}
		switch p.State {
		case catalog.PartLeft:
			if p.Name == "" {
				out += fmt.Sprintf("emptied at once, %s rows in %s", count(p.Left), brief(p.Drop))
				break
			}
			out += fmt.Sprintf("left as a whole, %s rows; ", count(p.Left))
			if p.Copy > 0 {
				out += fmt.Sprintf("copied in %s, ", brief(p.Copy))
			}
			out += fmt.Sprintf("compared in %s, taken out and dropped in %s", brief(p.Compare), brief(p.Drop))
		case catalog.PartRows:
			out += "its rows go one by one: " + p.Reason
		default:
			out += string(p.State)
		}
		out += "\n"
	}
	return out
}

// brief writes microseconds, short times in milliseconds.
func brief(micros int64) string {
	if micros < 10_000_000 {
		return count(micros/1000) + " ms"
	}
	return span(float64(micros) / 1e6)
}

func ledgerText(l catalog.Ledger) string {
	return fmt.Sprintf("%s found = %s deleted + %s unlinked + %s changed + %s vanished + %s held + %s skipped", count(l.Copied), count(l.Deleted), count(l.Unlinked), count(l.Changed), count(l.Vanished), count(l.Held), count(l.Skipped))
}

func runList(e *env) error {
	l, err := client.Get[api.Items[api.RunView]](e.ctx, e.client, "/runs?limit=100&rule="+url.QueryEscape(e.flag("rule")))
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, r := range l.Items {
		rows = append(rows, []string{r.ID, r.Rule, r.Source + "." + r.Table, r.Action, string(r.State), count(r.Due), count(r.Ledger.Deleted), count(r.LeftOut()), balance(r.Ledger), at(r.CreatedAt)})
	}
	return e.show(l, []string{"run", "rule", "table", "action", "state", "due", "deleted", "left out", "books", "created"}, rows)
}

func runShow(e *env) error {
	path := "/runs/" + url.PathEscape(e.args[0])
	r, err := client.Get[api.RunView](e.ctx, e.client, path)
	if err != nil {
		return err
	}
	if e.format == "json" {
		return e.run1(&r)
	}
	if e.format == "table" {
		if err := e.run1(&r); err != nil {
			return err
		}
		l := r.Ledger
		e.facts(r, "digest found", l.CopiedDigest, "digest deleted", l.DeletedDigest, "digest left out", l.LeftDigest)
		fmt.Fprintln(e.out)
	}
	b, err := client.Get[api.Items[catalog.Batch]](e.ctx, e.client, path+"/batches?limit="+e.flag("batches"))
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, x := range b.Items {
		rows = append(rows, []string{fmt.Sprintf("%d/%d", x.Segment, x.Number), at(x.At), count(x.Rows), count(x.Deleted), count(x.Changed), count(x.Vanished), count(x.Held), count(x.Skipped), fmt.Sprintf("%.1f ms", float64(x.Micros)/1000), fmt.Sprintf("%.1f ms", float64(x.Rest)/1000), sizeOrDash(x.LogBytes), yes(x.Retry)})
	}
	if e.format == "table" {
		if err := e.slowdowns(path); err != nil {
			return err
		}
	}
	return e.show(b, []string{"batch", "at", "rows", "deleted", "changed", "vanished", "held", "skipped", "took", "rest", "log", "again"}, rows)
}

// slowdowns shows when and why the run went slower than its pace; nothing where it never did.
func (e *env) slowdowns(path string) error {
	l, err := client.Get[api.Items[catalog.Slowdown]](e.ctx, e.client, path+"/slowdowns?limit="+e.flag("batches"))
	if err != nil || len(l.Items) == 0 {
		return err
	}
	rows := [][]string{}
	for _, s := range l.Items {
		what, lasted := "slower", "still"
		if s.Rests {
			what = "rested"
		}
		if s.Ended != nil {
			lasted = fmt.Sprintf("%.1f s", s.Ended.Sub(s.Begun.Time).Seconds())
		}
		rows = append(rows, []string{at(s.Begun), what, lasted, s.Reason})
	}
	if err := e.show(l, []string{"from", "went", "for", "reason"}, rows); err != nil {
		return err
	}
	fmt.Fprintln(e.out)
	return nil
}

func runVerb(verb string) func(*env) error {
	return func(e *env) error {
		r, err := client.Post[api.RunView](e.ctx, e.client, "/runs/"+url.PathEscape(e.args[0])+"/"+verb, nil)
		if err != nil {
			return err
		}
		return e.run1(&r)
	}
}

func runPace(e *env) error {
	r, err := client.Post[api.RunView](e.ctx, e.client, "/runs/"+url.PathEscape(e.args[0])+"/pace", api.NewPace{Pace: e.args[1]})
	if err != nil {
		return err
	}
	return e.run1(&r)
}

func runWatch(e *env) error { return e.watch(e.args[0]) }

// watch shows a run's progress as a bar on a terminal, and as a line every few seconds elsewhere.
func (e *env) watch(id string) error {
	var last api.RunView
	show := plainProgress(e.err)
	if f, ok := e.err.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		show = barProgress(f)
	}
	err := e.client.Watch(e.ctx, id, func(r api.RunView) error {
		last = r
		show(&r)
		return nil
	})
	if err != nil {
		return err
	}
	fmt.Fprintln(e.err)
	if err := e.run1(&last); err != nil {
		return err
	}
	if last.State == catalog.Failed {
		return fmt.Errorf("run %s failed: %s", id, last.Reason)
	}
	return nil
}

func progressLine(r *api.RunView) string {
	left := ""
	if r.SecondsLeft != nil {
		left = ", " + spanOf(r) + " left"
	}
	if r.Reason != "" {
		left += ", " + r.Reason
	}
	return fmt.Sprintf("%s: %s of %s rows, %s rows/s%s", r.State, count(r.Done), count(r.Due), count(int64(r.Rate)), left)
}

// spanOf is the time left, as a range where the last batches give one.
func spanOf(r *api.RunView) string {
	if r.SecondsLow != nil && r.SecondsHigh != nil && span(*r.SecondsLow) != span(*r.SecondsHigh) {
		return span(*r.SecondsLow) + " to " + span(*r.SecondsHigh)
	}
	return span(*r.SecondsLeft)
}

// signalLine are the signals of the database on one line, those first that slow the run.
func signalLine(r *api.RunView) string {
	if r.Pressure == nil || r.State != catalog.Running {
		return ""
	}
	parts := []string{fmt.Sprintf("batches of %s rows", count(r.BatchRows))}
	for _, x := range r.Pressure.Readings {
		parts = append(parts, strings.ReplaceAll(x.Signal, "_", " ")+" "+readingText(x))
	}
	return strings.Join(parts, ", ")
}

func readingText(x pace.Reading) string {
	text := x.Unit.Spoken(x.Value)
	if x.Limit != nil {
		text += "/" + x.Unit.Spoken(*x.Limit)
	}
	if x.Level == pace.Near || x.Level == pace.Over {
		text += " (" + string(x.Level) + ")"
	}
	return text
}

// signals shows each signal with its limit.
func (e *env) signals(r *api.RunView) {
	rows := [][]string{}
	for _, x := range r.Pressure.Readings {
		limit := "none"
		if x.Limit != nil {
			limit = "at most " + x.Unit.Spoken(*x.Limit)
			if x.Floor {
				limit = "at least " + x.Unit.Spoken(*x.Limit)
			}
		}
		rows = append(rows, []string{x.Signal, x.Label, x.Unit.Spoken(x.Value), limit, string(x.Level)})
	}
	fmt.Fprintln(e.out)
	e.show(r.Pressure, []string{"signal", "what it is", "value", "limit", "level"}, rows)
}

func plainProgress(w io.Writer) func(*api.RunView) {
	var shown time.Time
	var state catalog.RunState
	var reason string
	return func(r *api.RunView) {
		if r.State == state && r.Reason == reason && time.Since(shown) < 3*time.Second {
			return
		}
		shown, state, reason = time.Now(), r.State, r.Reason
		fmt.Fprintln(w, progressLine(r))
		if line := signalLine(r); line != "" {
			fmt.Fprintln(w, "  "+line)
		}
	}
}

func barProgress(w io.Writer) func(*api.RunView) {
	bar := progressbar.NewOptions64(1, progressbar.OptionSetWriter(w), progressbar.OptionSetWidth(36), progressbar.OptionSetElapsedTime(false), progressbar.OptionSetPredictTime(false),
		progressbar.OptionShowTotalBytes(false), progressbar.OptionSetTheme(progressbar.Theme{Saucer: "█", SaucerPadding: "░", BarStart: "", BarEnd: ""}))
	return func(r *api.RunView) {
		bar.ChangeMax64(max(r.Due, r.Done, 1))
		bar.Describe(progressLine(r))
		bar.Set64(r.Done)
	}
}

func segmentList(e *env) error {
	q := url.Values{"limit": {"200"}, "run": {e.flag("run")}, "source": {e.flag("source")}, "table": {e.flag("table")}, "ungoverned": {e.flag("ungoverned")}}
	l, err := client.Get[api.Items[catalog.Segment]](e.ctx, e.client, "/segments?"+q.Encode())
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, s := range l.Items {
		rows = append(rows, []string{s.ID, s.Source + "." + s.Table, string(s.State), count(s.Deleted), size(s.FileBytes), dash(s.Oldest), dash(s.Newest), atOrDash(s.KeepUntil)})
	}
	return e.show(l, []string{"segment", "table", "state", "rows", "file", "oldest", "newest", "kept until"}, rows)
}

func segmentShow(e *env) error {
	s, err := client.Get[engine.SegmentDetail](e.ctx, e.client, "/segments/"+url.PathEscape(e.args[0]))
	if err != nil {
		return err
	}
	with, masked, beside := "", []string{}, []string{}
	if g := s.GoesWith; g != nil {
		with = "rows of " + g.Table
		if g.Segment != "" {
			with += ", families of segment " + g.Segment
		}
	}
	for _, column := range slices.Sorted(maps.Keys(s.Masked)) {
		masked = append(masked, column+" ("+s.Masked[column]+")")
	}
	for _, b := range s.Beside {
		beside = append(beside, fmt.Sprintf("%s rows of %s in %s", count(b.Rows), b.Table, b.File))
	}
	return e.segment(s, &s.Segment, "goes with", with, "joined columns", strings.Join(s.Included, ", "), "beside", strings.Join(beside, "; "), "left out", strings.Join(s.Omitted, ", "), "masked", strings.Join(masked, ", "))
}

func (e *env) segment(whole any, s *catalog.Segment, more ...string) error {
	return e.facts(whole, append([]string{"segment", s.ID, "table", s.Source + "." + s.Table, "run", fmt.Sprintf("%s, segment %d", s.Run, s.Number), "state", string(s.State), "store", s.Store, "file", s.Stem + ".parquet",
		"rows", fmt.Sprintf("%s copied = %s deleted + %s changed + %s vanished + %s held + %s skipped", count(s.Rows), count(s.Deleted), count(s.Changed), count(s.Vanished), count(s.Held), count(s.Skipped)),
		"size", size(s.FileBytes) + ratio(s.RawBytes, s.FileBytes), "oldest", s.Oldest, "newest", s.Newest, "digest", s.Digest, "created", at(s.CreatedAt), "closed", atOrDash(s.ClosedAt), "verified", atOrDash(s.VerifiedAt),
		"kept until", atOrDash(s.KeepUntil), "rows lie in", whereabouts(s), "chain", fmt.Sprintf("link %d: %s", s.Sequence, s.ManifestHash), "closing", s.ClosingHash}, more...)...)
}

// whereabouts says where the rows of a segment lie, if not with its records, and whether they can be read.
func whereabouts(s *catalog.Segment) string {
	switch {
	case s.RowsStore == "" && s.ColdAt != nil:
		return fmt.Sprintf("%s; they move to %s on %s", s.Store, s.ColdStore, at(*s.ColdAt))
	case s.RowsStore == "":
		return ""
	case !s.Cold:
		return s.RowsStore
	case s.WarmUntil != nil && time.Now().Before(s.WarmUntil.Time):
		return fmt.Sprintf("%s, cold; a copy can be read until %s", s.RowsStore, at(*s.WarmUntil))
	}
	return s.RowsStore + ", cold: they have to be retrieved before they can be read"
}

func restoreFlags(f *flag.FlagSet) {
	f.String("run", "", "rows of this run")
	f.String("segment", "", "rows of this segment")
	f.String("source", "", "with -table, -from and -to: the source")
	f.String("table", "", "with -source, -from and -to: the table")
	f.String("from", "", "rows whose age is this date or time, or later")
	f.String("to", "", "rows whose age is before this date or time")
	f.String("where", "", "with -source and -table: rows for which this is true, in the language of rules")
	f.Var(&several{}, "row", "a single row, as SEGMENT:NUMBER of a search; may be given again")
	f.String("into", "table", "table (the one the rows came from), side (a new table, made to fit) or file")
	f.String("side-table", "", "with -into side: the name of the table that is made; left out: the table's own and the time")
	f.String("side-source", "", "with -into side: the source that it is made in; left out: the one the rows came from")
	f.String("conflicts", "", "with -into table: skip rows whose key is there already, fail before anything is written, or replace what is there, which is kept in a file; left out: skip")
	f.String("keys", "", "with -source and -table: rows with these keys, separated by commas, of a table whose key has one column")
	f.String("priority", "", "of retrievals, where rows are in cold storage: low, normal or high; left out: normal")
	f.Int("days", 0, "how many days retrieved copies stay; left out: as the store has it")
	f.String("pace", "", "gentle or unlimited; left out: that of the table's rule")
	f.String("tell", "", "who is told when it is ready: a mail address, or a URL that is sent it as JSON")
	f.Bool("wait", true, "wait for it; -wait=false does not")
	f.Var(&several{}, "rename", "with -into table: an archived column that is called otherwise now, as OLD=NEW; may be given again")
	f.String("leave-out", "", "with -into table: archived columns that have no place any more, separated by commas")
	f.String("for", "", "with -into table: the rows go again by themselves after so long, like P2D, unless they were changed")
	f.Bool("try", false, "only say what it would do")
	f.String("format", "csv", "of a file: csv, ndjson or parquet")
	f.String("out", "", "write the file here once it is made")
	f.String("note", "", "who asked, and why")
}

func restoreRequest(e *env) error {
	q := engine.RestoreRequest{Source: e.flag("source"), Table: e.flag("table"), Scope: catalog.Scope{Run: e.flag("run"), Segment: e.flag("segment"), From: e.flag("from"), To: e.flag("to"), Where: e.flag("where")},
		Target: e.flag("into"), TargetTable: e.flag("side-table"), TargetSource: e.flag("side-source"), Conflicts: e.flag("conflicts"), For: e.flag("for"), Note: e.flag("note"),
		Priority: store.Priority(e.flag("priority")), Pace: e.flag("pace"), Tell: e.flag("tell")}
	fmt.Sscan(e.flag("days"), &q.Days)
	if list := e.flag("keys"); list != "" {
		q.Keys = strings.Split(list, ",")
	}
	for _, row := range strings.Fields(e.flag("row")) {
		segment, ordinal, ok := strings.Cut(row, ":")
		n, err := strconv.Atoi(ordinal)
		if !ok || err != nil {
			return usage("-row %q: write SEGMENT:NUMBER, as a search shows them", row)
		}
		q.Scope.Rows = append(q.Scope.Rows, catalog.RowAt{Segment: segment, Ordinal: n})
	}
	for _, pair := range strings.Fields(e.flag("rename")) {
		old, now, ok := strings.Cut(pair, "=")
		if !ok {
			return usage("-rename %q: write OLD=NEW", pair)
		}
		if q.Fit.Rename == nil {
			q.Fit.Rename = map[string]string{}
		}
		q.Fit.Rename[old] = now
	}
	if list := e.flag("leave-out"); list != "" {
		q.Fit.LeaveOut = strings.Split(list, ",")
	}
	if q.Target == "file" {
		q.Format = e.flag("format")
	} else if e.flag("out") != "" {
		return usage("-out goes with -into file")
	}
	if e.flag("try") == "true" {
		return e.restorePreview(q)
	}
	r, err := client.Post[catalog.Restore](e.ctx, e.client, "/restores", q)
	if err != nil {
		return err
	}
	show := countProgress(e.err)
	for e.flag("wait") == "true" && (r.State == catalog.Restoring || r.State == catalog.Retrieving) {
		if err := sleep(e.ctx, 200*time.Millisecond); err != nil {
			return err
		}
		if r, err = client.Get[catalog.Restore](e.ctx, e.client, "/restores/"+url.PathEscape(r.ID)); err != nil {
			return err
		}
		what := "rows looked at"
		if r.State == catalog.Retrieving {
			what = r.Reason
		}
		show(int(r.Found), int(r.Of), what)
	}
	if err := e.restore(&r); err != nil {
		return err
	}
	if r.State == catalog.RestoreFailed {
		return errors.New(r.Reason)
	}
	if out := e.flag("out"); out != "" {
		return e.save("/restores/"+url.PathEscape(r.ID)+"/file", out)
	}
	return nil
}

func restoreKeep(e *env) error {
	r, err := client.Post[catalog.Restore](e.ctx, e.client, "/restores/"+url.PathEscape(e.args[0])+"/keep", api.NewKeeping{For: e.flag("for")})
	if err != nil {
		return err
	}
	return e.restore(&r)
}

// staying says how long the rows of a restore stay.
func staying(r *catalog.Restore) string {
	switch {
	case r.ExpiredAt != nil:
		return fmt.Sprintf("gone again since %s: %s taken back, %s had been changed and stay", at(*r.ExpiredAt), count(r.TakenBack), count(r.Stayed))
	case r.ExpiresAt != nil:
		return "for " + r.Lasts + ", until " + at(*r.ExpiresAt)
	}
	return ""
}

func (e *env) restorePreview(q engine.RestoreRequest) error {
	p, err := client.Post[engine.RestorePreview](e.ctx, e.client, "/restores/preview", q)
	if err != nil {
		return err
	}
	there := ""
	switch {
	case q.Target != engine.TargetTable:
	case p.Untold:
		there = "the table has no key, so nobody can tell"
	default:
		there = fmt.Sprintf("%s of these rows", count(p.Conflicts))
	}
	if err := e.facts(p, "rows", fmt.Sprintf("%s of %s.%s, in %s segments (%s)", count(p.Rows), p.Source, p.Table, count(p.Segments), size(p.Bytes)), "into", p.Into, "key there already", there, "approval", map[bool]string{true: "somebody has to approve it first"}[p.Approval], "triggers that fire", strings.Join(p.Triggers, ", ")); err != nil || e.format != "table" {
		return err
	}
	if c := p.Cold; c != nil {
		fmt.Fprintf(e.out, "in cold storage, and not counted: %s segments with %s rows (%s)\n", count(len(c.Segments)), count(c.Rows), size(c.Bytes))
		for _, o := range c.Offers {
			fmt.Fprintf(e.out, "  to retrieve them at %s priority: %s\n", o.Priority, offered(o))
		}
	}
	fmt.Fprintln(e.out, "nothing was changed")
	return nil
}

func restoreReplaced(e *env) error {
	out := e.flag("out")
	if out == "" {
		return usage("-out is missing: the file to write")
	}
	return e.save("/restores/"+url.PathEscape(e.args[0])+"/replaced", out)
}

// save writes what the service serves at a path into a new file.
func (e *env) save(path, file string) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o640)
	if err != nil {
		return err
	}
	err = e.client.Download(e.ctx, path, f)
	if err = errors.Join(err, f.Close()); err == nil {
		fmt.Fprintln(e.err, "written to", file)
	}
	return err
}

func sleep(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

func (e *env) restore(r *catalog.Restore) error {
	verified := "no"
	if r.Verified != nil && *r.Verified {
		verified = "counts and digest hold"
	}
	file := ""
	into := r.Target
	switch r.Target {
	case engine.TargetFile:
		file = fmt.Sprintf("%s, %s", r.Format, size(r.FileBytes))
	case engine.TargetSide:
		into = fmt.Sprintf("side table %s.%s", r.TargetSource, r.TargetTable)
	}
	return e.facts(r, "restore", r.ID, "table", r.Source+"."+r.Table, "scope", scopeText(r.Scope.V), "into", into, "file", file, "note", r.Note, "state", string(r.State), "reason", r.Reason,
		"rows", fmt.Sprintf("%s found in %s segments = %s restored + %s skipped", count(r.Found), count(r.Segments), count(r.Restored), count(r.Skipped)), "replaced", replaced(r), "approved", approved(r), "told", told(r), "rows stay", staying(r), "verified", verified, "digest", r.Digest, "requested", at(r.CreatedAt), "ended", atOrDash(r.EndedAt))
}

func replaced(r *catalog.Restore) string {
	if r.Replaced == 0 {
		return ""
	}
	return fmt.Sprintf("%s of the restored rows took the place of others, which `ambercellar restore replaced %s -out FILE` writes", count(r.Replaced), r.ID)
}

func approved(r *catalog.Restore) string {
	if r.ApprovedAt == nil {
		return ""
	}
	return r.ApprovedBy + ", " + at(*r.ApprovedAt)
}

func told(r *catalog.Restore) string {
	if r.Tell == "" {
		return ""
	}
	if r.ToldAt == nil {
		return r.Tell + ", not yet"
	}
	return r.Tell + ", " + at(*r.ToldAt)
}

func scopeText(s catalog.Scope) string {
	var parts []string
	for _, p := range [][2]string{{"run", s.Run}, {"segment", s.Segment}, {"from", s.From}, {"to", s.To}, {"where", s.Where}} {
		if p[1] != "" {
			parts = append(parts, p[0]+" "+p[1])
		}
	}
	if n := len(s.Rows); n > 0 {
		parts = append(parts, count(n)+" single rows")
	}
	return strings.Join(parts, " ")
}

func restoreList(e *env) error {
	l, err := client.Get[api.Items[catalog.Restore]](e.ctx, e.client, "/restores?limit=200")
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, r := range l.Items {
		rows = append(rows, []string{r.ID, r.Source + "." + r.Table, scopeText(r.Scope.V), r.Target, string(r.State), count(r.Restored), count(r.Skipped), at(r.CreatedAt)})
	}
	return e.show(l, []string{"restore", "table", "scope", "into", "state", "restored", "skipped", "requested"}, rows)
}

func restoreShow(e *env) error {
	r, err := client.Get[catalog.Restore](e.ctx, e.client, "/restores/"+url.PathEscape(e.args[0]))
	if err != nil {
		return err
	}
	return e.restore(&r)
}

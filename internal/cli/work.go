package cli

import (
	"fmt"
	"io"
	"maps"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"ambercellar/internal/api"
	"ambercellar/internal/catalog"
	"ambercellar/internal/client"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/engine/shelf"
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
		"due by plan", count(r.Due), "done", fmt.Sprintf("%s, %s a second", things(r.Done, "row"), count(int64(r.Rate))), "time left", left, "written", archived, "log volume", logged, "started", atOrDash(r.StartedAt), "ended", atOrDash(r.EndedAt),
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
				out += fmt.Sprintf("emptied at once, %s in %s", things(p.Left, "row"), brief(p.Drop))
				break
			}
			out += fmt.Sprintf("left as a whole, %s; ", things(p.Left, "row"))
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
	l, err := items[api.RunView](e, "/runs", url.Values{"rule": {e.flag("rule")}, "state": {e.flag("state")}})
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
	err := e.patiently("run", id, func() error {
		return e.client.Watch(e.ctx, id, func(r api.RunView) error {
			last = r
			show(&r)
			return nil
		})
	})
	if err != nil {
		return err
	}
	fmt.Fprintln(e.err)
	if err := e.run1(&last); err != nil {
		return err
	}
	if last.State == catalog.Failed {
		return fmt.Errorf("run %s failed", id) // why stands above
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
	return fmt.Sprintf("%s: %s of %s, %s rows/s%s", r.State, count(r.Done), things(r.Due, "row"), count(int64(r.Rate)), left)
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
	parts := []string{fmt.Sprintf("batches of %s", things(r.BatchRows, "row"))}
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
	q := url.Values{"run": {e.flag("run")}, "source": {e.flag("source")}, "table": {e.flag("table")}, "ungoverned": {e.flag("ungoverned")}}
	l, err := items[catalog.Segment](e, "/segments", q)
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, s := range l.Items {
		in := s.RowsIn()
		if s.Cold {
			in += ", cold"
		}
		rows = append(rows, []string{s.ID, s.Source + "." + s.Table, string(s.State), in, count(s.Deleted), size(s.FileBytes), dash(s.Oldest), dash(s.Newest), atOrDash(s.KeepUntil)})
	}
	return e.show(l, []string{"segment", "table", "state", "store", "rows", "file", "oldest", "newest", "kept until"}, rows)
}

func segmentShow(e *env) error {
	s, err := client.Get[shelf.SegmentDetail](e.ctx, e.client, "/segments/"+url.PathEscape(e.args[0]))
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
		beside = append(beside, fmt.Sprintf("%s of %s in %s", things(b.Rows, "row"), b.Table, b.File))
	}
	return e.segment(s, &s.Segment, "goes with", with, "joined columns", strings.Join(s.Included, ", "), "beside", strings.Join(beside, "; "), "left out", strings.Join(s.Omitted, ", "), "masked", strings.Join(masked, ", "))
}

func (e *env) segment(whole any, s *catalog.Segment, more ...string) error {
	return e.facts(whole, append([]string{"segment", s.ID, "table", s.Source + "." + s.Table, "run", fmt.Sprintf("%s, segment %d", s.Run, s.Number), "state", string(s.State), "store", s.Store, "being moved to", s.Moving, "second copy in", s.Second, "file", s.Stem + ".parquet",
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
	case s.Second != "":
		return fmt.Sprintf("%s, cold; they are read from the second copy in %s", s.RowsStore, s.Second)
	case s.WarmUntil != nil && time.Now().Before(s.WarmUntil.Time):
		return fmt.Sprintf("%s, cold; a copy can be read until %s", s.RowsStore, at(*s.WarmUntil))
	}
	return s.RowsStore + ", cold: they have to be retrieved before they can be read"
}

package e2e

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ambercellar/client"
)

// TestHistoryTellsWhereTheTimeWent: rows, stages and rests of a run that is careful, by command, interface, figures and
// picture; they stay over a start.
func TestHistoryTellsWhereTheTimeWent(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(12000)
	w.define("archive", "careful")
	id := must1[client.RunView](w, "run", "start", must1[client.Plan](w, "plan", "make", "scans").ID).ID
	figures := func() string {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), "GET", w.svc.server+"/metrics", nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+w.token)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	w.until(id, "deletes something", func(r client.RunView) bool { return r.Ledger.Deleted > 0 })
	if text := figures(); !strings.Contains(text, `ambercellar_signal{rule="scans",signal="`) {
		t.Errorf("no signal of a run that works:\n%s", text)
	}
	w.must("run", "pace", id, "unlimited")
	w.balanced(w.hurried(id), 12000, 12000)
	check := func() {
		t.Helper()
		today := time.Now().UTC().Format(time.DateOnly)
		h := must1[client.History](w, "history")
		if n := len(h.Days); n != 1 || h.Days[0].Archived != 12000 || h.Days[0].Working <= 0 || h.To < today {
			t.Errorf("days: %+v", h.Days)
		}
		if len(h.Rules) != 1 || h.Rules[0].Rule != "scans" || h.Rules[0].Archived != 12000 {
			t.Errorf("rules: %+v", h.Rules)
		}
		if len(h.Stores) == 0 || h.Stores[len(h.Stores)-1].Bytes == 0 || h.Stores[len(h.Stores)-1].Segments == 0 {
			t.Errorf("stores: %+v", h.Stores)
		}
		spent := map[string]float64{}
		for _, e := range h.Efforts {
			spent[e.Kind+" "+e.Name] += e.Spent
		}
		for _, name := range []string{"stage copy", "stage verify", "stage delete", "rest pace"} {
			if spent[name] <= 0 || spent[name] > 600 {
				t.Errorf("%s: %g s of %v", name, spent[name], spent)
			}
		}
		text := figures()
		for _, part := range []string{`ambercellar_stage_seconds_total{stage="delete"} `,
			`ambercellar_rest_seconds_total{reason="pace"} `, `ambercellar_rests_total{reason="pace"} `} {
			if !strings.Contains(text, part) {
				t.Errorf("the figures lack %s", part)
			}
		}
	}
	check()
	w.stop(15)
	w.start()
	check()
	for _, by := range []string{"day", "week", "month"} {
		out := w.must("history", "-by", by)
		if !strings.Contains(out, "12,000") || !strings.Contains(out, "at rest for pace: ") {
			t.Errorf("by %s:\n%s", by, out)
		}
	}
	if h := must1[client.History](w, "history", "-rule", "nets"); len(h.Days) != 0 || len(h.Efforts) == 0 {
		t.Errorf("of a rule that there is not: %+v", h)
	}
	w.refuse(2, []string{"-by", "fortnight"}, "history", "-by", "fortnight")
	w.refuse(1, []string{"from", "2027-01-31"}, "history", "-from", "yesterday")

	p := browse(t)
	p.do(chromedp.Navigate(w.svc.server + "/#token=" + w.token))
	p.sees("Overview")
	p.press("History")
	p.sees("Rows", "Time at work", "Time at rest", "scans", "12,000")
	p.press("By month")
	for _, label := range []string{"archived 12,000", "pace "} {
		p.do(chromedp.WaitVisible(fmt.Sprintf(`//*[@role="img" and contains(@aria-label, %q)]`, label)))
	}
	p.press("scans")
	p.sees("History of scans", "all rules")
}

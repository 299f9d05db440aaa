package e2e

import (
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ambercellar/client"
)

func TestARunGivesWayToTheWorkloadAndSaysWhy(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "postgres")
	w.scans(20000)
	w.define("archive", "careful\nlimits: {waiting: 0}")
	holder, waiter := w.pgConn(), w.pgConn()
	if _, err := holder.Exec(t.Context(), "BEGIN; UPDATE scan SET note = note WHERE id = 20050"); err != nil {
		t.Fatal(err)
	}
	waited := make(chan error, 1)
	go func() {
		_, err := waiter.Exec(t.Context(), "UPDATE scan SET note = note WHERE id = 20050")
		waited <- err
	}()
	r := w.planned()
	const reason = "sessions that wait for locks: 1 (at most 0)"
	w.until(r.ID, "while another session waits", func(v client.RunView) bool { return v.Reason == "resting: "+reason })
	if n := w.count("SELECT count(*) FROM scan"); n < 20000 {
		t.Errorf("%d rows are left of 20,100 while it should rest", n)
	}
	text := w.must("run", "show", r.ID)
	for _, part := range []string{"waiting", "at most 0", "over", "rested", "still", reason} {
		if !strings.Contains(text, part) {
			t.Errorf("run show does not say %q:\n%s", part, text)
		}
	}
	p := browse(t)
	p.do(chromedp.Navigate(w.svc.server + "/#token=" + url.QueryEscape(w.token)))
	p.sees("Overview")
	p.do(chromedp.Navigate(w.svc.server + "/#/runs/" + r.ID))
	p.sees("resting: "+reason, "Pressure", "beyond its limit", "time of a probe by key", "Slow-downs", "rested")
	if _, err := holder.Exec(t.Context(), "COMMIT"); err != nil {
		t.Fatal(err)
	}
	if err := <-waited; err != nil {
		t.Fatal(err)
	}
	got := w.hurried(r.ID)
	w.balanced(got, 20000, 20000)
	p.sees("done", "Plan and actual", "20,000")
	list, err := w.client.Slowdowns(t.Context(), r.ID, client.SlowdownsQuery{})
	if err != nil || len(list.Items) == 0 || list.Items[len(list.Items)-1].Ended == nil ||
		list.Items[len(list.Items)-1].Reason != reason {
		t.Errorf("the slow-downs are %+v (%v)", list.Items, err)
	}
	if state := w.told("ambercellar.runs"); state != "done 20000 of 20000" {
		t.Errorf("by SQL the run is %s", state)
	}
}

// told is where the run stands by the view in the source.
func (w *world) told(view string) (state string) {
	w.t.Helper()
	var name string
	var done, due int64
	for begun := time.Now(); ; time.Sleep(10 * time.Millisecond) {
		err := w.db.QueryRow("SELECT state, done, due FROM "+view+" WHERE table_name = 'scan'").Scan(&name, &done, &due)
		if err == nil {
			break
		}
		if !errors.Is(err, sql.ErrNoRows) || time.Since(begun) > 10*time.Second { // it is told soon after
			w.t.Fatal(err)
		}
	}
	return fmt.Sprintf("%s %d of %d", name, done, due)
}

func TestARunRestsOutsideItsWindow(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(2000)
	later := time.Now().UTC().Add(2 * time.Hour)
	window := later.Format("15:04") + "-" + later.Add(time.Hour).Format("15:04")
	w.define("archive", "careful\nwindow: \""+window+"\"\nbudget: {rows: 500}")
	r := w.planned()
	got := w.until(r.ID, "outside its window", func(v client.RunView) bool { return v.State == client.Resting })
	if got.ResumeAt == nil || time.Until(*got.ResumeAt) < 118*time.Minute ||
		time.Until(*got.ResumeAt) > 121*time.Minute || !strings.Contains(got.Reason, "outside its window ("+window+
		"); it goes on at ") {
		t.Errorf("it goes on at %v: %s", got.ResumeAt, got.Reason)
	}
	if state := w.told("ambercellar_runs"); state != "resting 0 of 2000" {
		t.Errorf("by SQL the run is %s", state)
	}
	w.refuse(1, []string{"resume it or cancel it first"}, "run", "start",
		must1[client.Plan](w, "plan", "make", "scans").ID)
	w.stop(9) // it still rests after a crash
	w.start()
	if again := must1[client.RunView](w, "run", "show", r.ID); again.State != client.Resting {
		t.Errorf("after a restart it is %s", again.State)
	}
	w.must("run", "pause", r.ID)
	w.must("run", "cancel", r.ID)
	got = w.ended(r.ID)
	w.balanced(got, 0, 0)
	w.refuse(1, []string{"window", `"25:00-03:00"`}, "rule", "check", "-f",
		w.rules(strings.Replace(fmt.Sprintf(scanRule, "purge", "", "careful"), "zone: UTC",
			"zone: UTC\nwindow: '25:00-03:00'", 1)))
	w.refuse(1, []string{"limits.wating", "waiting"}, "rule", "check", "-f",
		w.rules(fmt.Sprintf(scanRule, "purge", "limits: {wating: 3}", "careful")))
}

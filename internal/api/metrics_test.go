package api

import (
	"database/sql"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"

	"ambercellar/internal/metrics"
)

// figures reads /metrics and returns the sum of the series of a figure by its labels as they are written.
func (w *world) figures(t *testing.T, header ...string) map[string]float64 {
	t.Helper()
	response, text := w.ask("GET", "/metrics", "", header...)
	if response.StatusCode != 200 {
		t.Fatalf("%s: %s", response.Status, text)
	}
	parser := expfmt.NewTextParser(model.UTF8Validation)
	families, err := parser.TextToMetricFamilies(strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]float64{}
	for name, f := range families {
		if f.GetHelp() == "" {
			t.Errorf("%s is not explained", name)
		}
		for _, x := range f.GetMetric() {
			var labels []string
			for _, l := range x.GetLabel() {
				labels = append(labels, l.GetName()+"="+l.GetValue())
			}
			out[strings.TrimSuffix(name+" "+strings.Join(labels, " "), " ")] = x.GetGauge().GetValue() +
				x.GetCounter().GetValue()
		}
	}
	return out
}

func TestFiguresOverHTTP(t *testing.T) {
	w := harbour(t)
	admin := []string{"Authorization", "Bearer " + w.token}
	w.must(200, "POST", "/rules", m{"text": lampRule + "schedule: {when: hourly, from: 2100-01-01}\n"})
	p := w.must(201, "POST", "/plans", m{"rule": "lamps", "exact": true})
	r := w.must(202, "POST", "/runs", m{"plan": p["id"]})
	for begun := time.Now(); r["state"] != "done"; r = w.must(200, "GET", "/runs/"+r["id"].(string), nil) {
		if time.Since(begun) > time.Minute {
			t.Fatal(r)
		}
		time.Sleep(10 * time.Millisecond)
	}
	if _, err := w.service.Schedules.Tick(t.Context()); err != nil {
		t.Fatal(err)
	}
	w.must(201, "POST", "/freezes", m{"reason": "the quay is closed"})
	got := w.figures(t, admin...)
	deleted := r["ledger"].(m)["deleted"].(float64)
	for name, want := range map[string]float64{
		"ambercellar_up": 1,
		"ambercellar_rows_total action=archived rule=lamps source=harbour table=lamp": deleted,
		"ambercellar_rows_total action=purged rule=lamps source=harbour table=lamp":   0,
		"ambercellar_runs_total rule=lamps source=harbour table=lamp":                 1,
		"ambercellar_runs state=failed":                                               0,
		"ambercellar_queue_jobs kind=copy state=waiting":                              0,
		"ambercellar_resting_runs reason=freeze":                                      0,
		"ambercellar_freezes":                                                         1,
		"ambercellar_findings acknowledged=false kind=frozen severity=notice":         0,
		"ambercellar_store_up store=cellar":                                           1,
		"ambercellar_store_segments store=cellar":                                     2,
		"ambercellar_store_damaged_segments store=cellar":                             0,
		"ambercellar_rule_next_firing_timestamp_seconds rule=lamps":                   4102444800,
	} {
		if have, there := got[name]; !there || have != want {
			t.Errorf("%s: %v, %v instead of %v", name, there, have, want)
		}
	}
	if deleted == 0 || got["ambercellar_archived_bytes_total rule=lamps source=harbour table=lamp"] == 0 ||
		time.Since(time.UnixMilli(int64(1000*got["ambercellar_rule_last_success_timestamp_seconds rule=lamps"]))).
			Abs() > time.Hour || got["ambercellar_store_free_bytes store=cellar"] == 0 || got["go_goroutines"] == 0 {
		t.Errorf("%v", got)
	}
	page, err := os.ReadFile("../../docs/metrics.md")
	if err != nil {
		t.Fatal(err)
	}
	for name := range got { // the page lists them all
		if name, _, _ := strings.Cut(name, " "); strings.HasPrefix(name, "ambercellar_") &&
			!strings.Contains(string(page), "`"+name+"`") {
			t.Errorf("docs/metrics.md does not tell of %s", name)
		}
	}
	for _, name := range regexp.MustCompile("`(ambercellar_[a-z_]+)`").FindAllStringSubmatch(string(page), -1) {
		if strings.HasPrefix(name[1], "ambercellar_signal") { // they are there while a run works
			continue
		}
		if !regexp.MustCompile("(^|\n)" + name[1] + " ").MatchString(strings.Join(sortedNames(got), "\n")) {
			t.Errorf("docs/metrics.md tells of %s, which is not there", name[1])
		}
	}

	// who may read them
	w.service.Access.SetScrapeToken("gull-gull-gull-gull")
	for name, x := range map[string]struct {
		header []string
		status int
	}{
		"nobody":             {nil, 401},
		"a wrong token":      {[]string{"Authorization", "Bearer gull"}, 401},
		"the token for that": {[]string{"Authorization", "Bearer gull-gull-gull-gull"}, 200},
		"the administrator":  {admin, 200},
	} {
		if response, _ := w.ask("GET", "/metrics", "", x.header...); response.StatusCode != x.status {
			t.Errorf("%s: %s", name, response.Status)
		}
	}
	if response, _ := w.ask("GET", "/api/v1/rules", "", "Authorization",
		"Bearer gull-gull-gull-gull"); response.StatusCode != 401 {
		t.Errorf("the token for figures reads rules: %s", response.Status)
	}
	own := httptest.NewServer(Figures(w.service))
	defer own.Close()
	if response, err := http.Get(own.URL + "/metrics"); err != nil || response.StatusCode != 401 {
		t.Errorf("its own listener, without the token: %v, %v", response, err)
	}
	w.service.Access.SetScrapeToken("")
	if response, err := http.Get(own.URL + "/metrics"); err != nil || response.StatusCode != 200 {
		t.Errorf("its own listener: %v, %v", response, err)
	}
}

func sortedNames(figures map[string]float64) (out []string) {
	for name := range figures {
		out = append(out, name+" ")
	}
	return out
}

// TestManyRulesAreNotManySeries: beyond so many rules, the others are told of together; and many ask at a time.
func TestManyRulesAreNotManySeries(t *testing.T) {
	w := newWorld(t)
	day := time.Now().UTC().Format(time.DateOnly)
	const n = metrics.MostRules + 500
	db, err := sql.Open("sqlite", filepath.Join(w.dir, "catalog.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(fmt.Sprintf(`WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL
		SELECT g + 1 FROM s WHERE g < %d) INSERT INTO day_sum SELECT '%s', printf('rule-%%05d', g), 1, 'harbour',
		printf('table-%%05d', g), 'cellar', 1, 10, 0, 100, 20, 1000 FROM s`, n, day)); err != nil {
		t.Fatal(err)
	}
	got := w.figures(t, "Authorization", "Bearer "+w.token)
	sum := got["ambercellar_rows_total action=archived rule=(others) source=(others) table=(others)"]
	if sum != 10*n || len(got) > 1000 {
		t.Errorf("%v of rules that are not there any more, %d series", sum, len(got))
	}
	var group sync.WaitGroup
	for range 50 {
		group.Go(func() {
			response, _ := w.ask("GET", "/metrics", "", "Authorization", "Bearer "+w.token)
			if response.StatusCode != 200 && response.StatusCode != 503 {
				t.Errorf("%s", response.Status)
			}
		})
	}
	group.Wait()
}

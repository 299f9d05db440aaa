package api

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"
)

func TestSchedulesOverHTTP(t *testing.T) {
	w := harbour(t)
	if s := w.must(200, "GET", "/rules/lamps/schedule", nil); s["spoken"] != "" || len(s["next"].([]any)) != 0 {
		t.Errorf("by hand: %v", s)
	}
	w.must(404, "GET", "/rules/lanterns/schedule", nil)
	w.must(200, "POST", "/rules", m{
		"text": "schedule: nights\nwhen: daily at 22:00\nzone: Europe/Athens\nabout: quiet\n---\n" +
			lampRule + "schedule: nights\nlimit: {share: 10%}\n"})
	s := w.must(200, "GET", "/rules/lamps/schedule", nil)
	next := s["next"].([]any)
	if s["spoken"] != "every day, at 22:00 (Europe/Athens)" || s["named"] != "nights" || s["missed"] != "once" ||
		len(next) != 10 || len(next[0].(m)["cutoffs"].([]any)) != 2 {
		t.Errorf("%v", s)
	}
	if list := w.must(200, "GET", "/schedules", nil)["items"].([]any); len(list) != 1 ||
		list[0].(m)["name"] != "nights" {
		t.Errorf("%v", list)
	}
	coming := w.must(200, "GET", "/firings/coming?until="+time.Now().AddDate(0, 0, 3).Format(time.DateOnly),
		nil)["items"].([]any)
	if n := len(coming); n < 2 || n > 4 || coming[0].(m)["rule"] != "lamps" {
		t.Errorf("%v", coming)
	}
	if list := w.must(200, "GET", "/firings", nil)["items"].([]any); len(list) != 0 {
		t.Errorf("%v", list)
	}
	spoken := w.must(200, "POST", "/schedules/speak", m{"when": "first monday of every third month at 01:00",
		"from": "2100-01-01", "zone": "Europe/Athens"})
	if spoken["spoken"] != "every 3 months on the first Monday, at 01:00 (Europe/Athens, from 2100-01-01)" ||
		spoken["next"].([]any)[0] != "2100-01-03T23:00:00Z" {
		t.Errorf("%v", spoken)
	}
	for name, x := range map[string]struct {
		method, path string
		in           m
		status       int
		part         string
	}{
		"no time":             {"POST", "/schedules/speak", m{"when": ""}, 422, "there is no time in it"},
		"a time that is none": {"POST", "/schedules/speak", m{"when": "daily at noon"}, 422, "column 10"},
		"no zone": {"POST", "/schedules/speak", m{"when": "hourly", "zone": "Atlantis"}, 422,
			"is no zone"},
		"no start": {"POST", "/schedules/speak", m{"when": "hourly", "from": "soon"}, 422,
			"is no day or time"},
		"from when":           {"GET", "/firings?from=soon", nil, 422, "is no day or time"},
		"until when":          {"GET", "/firings/coming?until=late", nil, 422, "is no day or time"},
		"a place":             {"GET", "/firings?after=x", nil, 400, "no place in this list"},
		"no run":              {"PUT", "/queue/limits", m{"all": 0, "source": 1}, 422, "cannot work at a time"},
		"many runs":           {"PUT", "/queue/limits", m{"all": 1, "source": 99}, 422, "cannot work at a time"},
		"no such run":         {"POST", "/runs/x/priority", m{"priority": 1}, 404, "x"},
		"no priority":         {"POST", "/runs/x/priority", m{"priority": 1e9}, 422, "is no priority"},
		"no reason":           {"POST", "/freezes", m{"reason": ""}, 422, "needs a reason"},
		"a freeze of nothing": {"POST", "/freezes", m{"reason": "x", "source": "port"}, 404, "port"},
		"a freeze that ended": {"POST", "/freezes", m{"reason": "x", "until": "2020-01-01T00:00:00Z"}, 422,
			"has passed"},
		"no such freeze":  {"POST", "/freezes/x/lift", m{"reason": ""}, 404, "x"},
		"no such finding": {"POST", "/findings/x/acknowledge", m{"reason": "y"}, 404, "nothing of that name"},
		"why it stays":    {"POST", "/findings/x/acknowledge", m{"reason": " "}, 422, "why the finding may stay"},
		"a rule's schedule": {"POST", "/rules", m{"text": lampRule + "schedule: never\n"}, 422,
			"there is no schedule"},
	} {
		var in any
		if x.in != nil {
			in = x.in
		}
		status, out := w.call(x.method, x.path, in)
		if status != x.status || !strings.Contains(fmt.Sprint(out), x.part) {
			t.Errorf("%s: %d %v, and not %d with %q", name, status, out, x.status, x.part)
		}
	}
}

func TestAFreezeOverHTTP(t *testing.T) {
	w := harbour(t)
	f := w.must(201, "POST", "/freezes", m{"reason": "an audit", "source": "harbour"})
	if f["where"] != "source harbour" || f["placed_by"] == "" || f["lifted_at"] != nil {
		t.Errorf("%v", f)
	}
	if status, out := w.call("POST", "/plans", m{"rule": "lamps"}); status != 409 ||
		!strings.HasSuffix(fmt.Sprint(out["type"]),
			"frozen") || !strings.Contains(fmt.Sprint(out["detail"]), "an audit") {
		t.Errorf("a plan while it is frozen: %d %v", status, out)
	}
	w.must(409, "GET", "/sources/harbour/tables", nil)
	w.must(200, "POST", "/freezes/"+f["id"].(string)+"/lift", m{"reason": "over"})
	w.must(409, "POST", "/freezes/"+f["id"].(string)+"/lift", m{"reason": "over"})
	w.must(201, "POST", "/plans", m{"rule": "lamps"})
	if list := w.must(200, "GET", "/freezes?all=true", nil)["items"].([]any); len(list) != 1 {
		t.Errorf("%v", list)
	}
}

// A page is told that something has changed, and not what.
func TestLiveEvents(t *testing.T) {
	w := harbour(t)
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, "GET", w.server.URL+"/api/v1/events", nil)
	if err != nil {
		t.Fatal(err)
	}
	q.Header.Set("Authorization", "Bearer "+w.token)
	resp, err := http.DefaultClient.Do(q)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	events := 0
	lines := bufio.NewScanner(resp.Body)
	for events < 2 && lines.Scan() {
		switch text := lines.Text(); {
		case text == "event:changed":
			if events++; events == 1 {
				w.must(201, "POST", "/freezes", m{"reason": "an audit"})
			}
		case strings.Contains(text, "audit"):
			t.Errorf("it tells %q", text)
		}
	}
	if events != 2 {
		t.Errorf("%d events, %v", events, lines.Err())
	}
}

func TestWishesAndJobsOverHTTP(t *testing.T) {
	w := harbour(t)
	w.must(200, "POST", "/rules", m{"text": lampRule + "schedule: {when: hourly, from: 2100-01-01}\nrequires: " +
		"{backup: {file: /nowhere/at/all, within: P1D}}\n"})
	if list := w.must(200, "GET", "/rules/lamps/conditions", nil)["items"].([]any); len(list) != 1 ||
		list[0].(m)["met"] != false || !strings.Contains(fmt.Sprint(list[0].(m)["found"]), "/nowhere/at/all") {
		t.Errorf("%v", list)
	}
	if list := w.must(200, "GET", "/queue/jobs", nil)["items"].([]any); len(list) != 0 {
		t.Errorf("%v", list)
	}
	off := w.must(200, "POST", "/rules/lamps/schedule/off", m{"reason": "the lamps are out"})
	if s := w.must(200, "GET", "/rules/lamps/schedule", nil); off["reason"] != "the lamps are out" ||
		s["off"].(m)["reason"] != "the lamps are out" {
		t.Errorf("%v, %v", off, s)
	}
	if s := w.must(200, "POST", "/rules/lamps/schedule/on", m{"reason": "they shine"}); s["off"] != nil {
		t.Errorf("%v", s)
	}
	a := w.must(200, "PUT", "/rules/lamps/enabled", m{"enabled": false, "reason": "no oil"})["items"].([]any)
	if len(a) != 1 || a[0].(m)["revision"] != 3.0 {
		t.Errorf("%v", a)
	}
	if r := w.must(200, "GET", "/rules/lamps", nil); !strings.HasSuffix(r["text"].(string), "enabled: false\n") {
		t.Errorf("%v", r["text"])
	}
	if h := w.must(200, "GET", "/history", nil); len(h["days"].([]any)) != 0 || len(h["rules"].([]any)) != 0 {
		t.Errorf("%v", h)
	}
	for _, q := range []string{"from=yesterday", "from=2027-02-02&to=2027-01-01", "from=1999-01-01", "to=2026-02-30"} {
		w.must(422, "GET", "/history?"+q, nil)
	}
	limits := w.must(200, "PUT", "/queue/limits", m{"all": 3, "source": 2, "exports": 4})
	if limits["exports"] != 4.0 || limits["disposals"] != 1.0 || limits["all"] != 3.0 {
		t.Errorf("%v", limits)
	}
	guard := w.must(200, "PUT", "/sources/harbour/guard", m{"window": []string{"mon-fri 22:00-05:00"},
		"zone": "Europe/Athens"})
	if fmt.Sprint(guard["window"]) != "[mon,tue,wed,thu,fri 22:00-05:00]" {
		t.Errorf("%v", guard)
	}
	for name, x := range map[string]struct {
		method, path string
		in           m
		status       int
		part         string
	}{
		"fire for no reason":   {"POST", "/firings", m{"rule": "lamps"}, 422, "it is not said why"},
		"fire nothing":         {"POST", "/firings", m{"reason": "x"}, 422, "no rule is enabled there"},
		"fire one that is off": {"POST", "/firings", m{"rule": "lamps", "reason": "x"}, 422, "is not enabled"},
		"fire what is not":     {"POST", "/firings", m{"rule": "lanterns", "reason": "x"}, 404, "lanterns"},
		"fire nowhere":         {"POST", "/firings", m{"source": "port", "reason": "x"}, 404, "port"},
		"off for no reason":    {"POST", "/rules/lamps/schedule/off", m{}, 422, "it is not said why"},
		"off until yesterday": {"POST", "/rules/lamps/schedule/off",
			m{"reason": "x", "until": "2020-01-01T00:00:00Z"}, 422, "has passed"},
		"off until done": {"POST", "/rules/lamps/schedule/off", m{"reason": "x", "until_done": true}, 422,
			"has no run"},
		"off of what is not": {"POST", "/rules/lanterns/schedule/off", m{"reason": "x"}, 404, "lanterns"},
		"on that is on": {"POST", "/rules/lamps/schedule/on", m{"reason": "x"}, 409,
			"is not off its schedule"},
		"disabled twice":        {"PUT", "/rules/lamps/enabled", m{"reason": "x"}, 409, "is that already"},
		"enabled for no reason": {"PUT", "/rules/lamps/enabled", m{"enabled": true}, 422, "it is not said why"},
		"conditions of nothing": {"GET", "/rules/lanterns/conditions", nil, 404, "lanterns"},
		"steps of nothing":      {"GET", "/runs/x/steps", nil, 404, "x"},
		"a dream":               {"POST", "/queue/jobs/dream/x/pause", nil, 422, "is no kind of job"},
		"no job":                {"POST", "/queue/jobs/restore/x/cancel", nil, 409, "neither works nor waits"},
		"a priority of nothing": {"POST", "/queue/jobs/restore/x/priority", m{"priority": 1}, 409,
			"neither works nor waits"},
		"a large priority": {"POST", "/queue/jobs/restore/x/priority", m{"priority": 1e6}, 422, "is no priority"},
		"negative limits": {"PUT", "/queue/limits", m{"all": 1, "source": 1, "exports": -1}, 422,
			"cannot work at a time"},
		"a window that is none": {"PUT", "/sources/harbour/guard", m{"window": []string{"noon"}}, 400, "noon"},
		"a zone that is none":   {"PUT", "/sources/harbour/guard", m{"zone": "Mars"}, 422, "is no zone"},
		"days from when":        {"GET", "/history?from=soon", nil, 422, "is no day"},
		"news since when":       {"GET", "/news?since=soon", nil, 422, "is no number of an item"},
	} {
		var in any
		if x.in != nil {
			in = x.in
		}
		status, out := w.call(x.method, x.path, in)
		if status != x.status || !strings.Contains(fmt.Sprint(out), x.part) {
			t.Errorf("%s: %d %v, and not %d with %q", name, status, out, x.status, x.part)
		}
	}
}

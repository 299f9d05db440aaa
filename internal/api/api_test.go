package api

import (
	"reflect"

	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"ambercellar/internal/api/view"
	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/service"
	"ambercellar/internal/source"
)

func TestTheOpenAPIDocumentIsTheOneInDocs(t *testing.T) {
	want, err := os.ReadFile("../../docs/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	if string(Document()) != string(want) {
		t.Error("docs/openapi.json is not what the routes say; write it anew: go run ./cmd/ambercellar openapi > " +
			"docs/openapi.json")
	}
}

// world is a service behind its HTTP interface, with a console of two files.
type world struct {
	t       *testing.T
	service *service.Service
	server  *httptest.Server
	token   string
	dir     string // of the service's data
}

func newWorld(t *testing.T) *world {
	t.Helper()
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	dir := t.TempDir()
	s, token, err := service.Open(t.Context(), dir, log)
	if err != nil {
		t.Fatal(err)
	}
	files := fstest.MapFS{"index.html": {Data: []byte("<p>console</p>")}, "assets/app-1.js": {Data: []byte("1")}}
	w := &world{t: t, service: s, token: token, dir: dir,
		server: httptest.NewUnstartedServer(New(s, log, files, "cellar.example"))}
	w.server.Listener = Listener{w.server.Listener}
	w.server.Start()
	t.Cleanup(func() {
		w.server.Close()
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	return w
}

// ask sends a request; header holds names and values in turn.
func (w *world) ask(method, path, body string, header ...string) (*http.Response, string) {
	w.t.Helper()
	req, err := http.NewRequest(method, w.server.URL+path, strings.NewReader(body))
	if err != nil {
		w.t.Fatal(err)
	}
	for i := 0; i < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		w.t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		w.t.Fatal(err)
	}
	return resp, string(b)
}

func TestASessionIsACookieThatOnlyOurOwnPagesCanUse(t *testing.T) {
	w := newWorld(t)
	resp, body := w.ask("POST", "/api/v1/session", fmt.Sprintf(`{"token":%q}`, w.token))
	cookies := resp.Cookies()
	if resp.StatusCode != 200 || len(cookies) != 1 {
		t.Fatalf("sign-in: %d %s", resp.StatusCode, body)
	}
	c := cookies[0]
	if !c.HttpOnly || c.SameSite != http.SameSiteStrictMode || strings.Contains(c.Value, w.token) ||
		time.Until(c.Expires) > 13*time.Hour {
		t.Errorf("the cookie is %+v", c)
	}
	cookie := c.Name + "=" + c.Value
	rule := `{"text":"x"}`
	for _, x := range []struct {
		name, method, path, body string
		header                   []string
		status                   int
	}{
		{"looking", "GET", "/api/v1/rules", "", []string{"Cookie", cookie}, 200},
		{"changing from our own page", "POST", "/api/v1/rules/check", rule,
			[]string{"Cookie", cookie, "Origin", w.server.URL}, 200},
		{"changing from another site", "POST", "/api/v1/rules/check", rule,
			[]string{"Cookie", cookie, "Origin", "http://evil.example"}, 401},
		{"changing from nowhere", "POST", "/api/v1/rules/check", rule, []string{"Cookie", cookie}, 401},
		{"another cookie", "GET", "/api/v1/rules", "", []string{"Cookie", c.Name + "=guess"}, 401},
		{"a token from another site is a token", "POST", "/api/v1/rules/check", rule,
			[]string{"Authorization", "Bearer " + w.token, "Origin", "http://other.example"}, 200},
		{"signing out", "DELETE", "/api/v1/session", "", []string{"Cookie", cookie, "Origin", w.server.URL}, 204},
		{"after signing out", "GET", "/api/v1/rules", "", []string{"Cookie", cookie}, 401},
	} {
		if resp, body := w.ask(x.method, x.path, x.body, x.header...); resp.StatusCode != x.status {
			t.Errorf("%s: %d instead of %d: %s", x.name, resp.StatusCode, x.status, body)
		}
	}
}

func TestANewTokenVoidsTheOldOne(t *testing.T) {
	w := newWorld(t)
	fresh, err := w.service.Access.NewToken(t.Context())
	if err != nil || fresh == w.token {
		t.Fatalf("%q, %v", fresh, err)
	}
	for token, want := range map[string]int{w.token: 401, fresh: 200, "": 401, fresh + "x": 401} {
		if resp, _ := w.ask("GET", "/api/v1/status", "", "Authorization", "Bearer "+token); resp.StatusCode != want {
			t.Errorf("token %q: %d instead of %d", token, resp.StatusCode, want)
		}
	}
}

func TestTheConsoleIsServedWithItsHeaders(t *testing.T) {
	w := newWorld(t)
	for _, c := range []struct{ path, body, cache string }{
		{"/", "<p>console</p>", "no-cache"}, {"/index.html", "<p>console</p>", "no-cache"},
		{"/assets/app-1.js", "1", "immutable"},
	} {
		resp, body := w.ask("GET", c.path, "")
		h := resp.Header
		if resp.StatusCode != 200 || body != c.body || !strings.Contains(h.Get("Cache-Control"), c.cache) {
			t.Errorf("%s: %d %q %q", c.path, resp.StatusCode, body, h.Get("Cache-Control"))
		}
		if h.Get("X-Content-Type-Options") != "nosniff" || h.Get("X-Frame-Options") != "DENY" ||
			!strings.Contains(h.Get("Content-Security-Policy"), "default-src 'none'") ||
			strings.Contains(h.Get("Content-Security-Policy"), "unsafe") || h.Get("Permissions-Policy") == "" {
			t.Errorf("%s comes without its security headers: %v", c.path, h)
		}
	}
	for _, path := range []string{"/some/place", "/api", "/api/v2", "/api/v1/nothing", "/assets/",
		"/assets/app-2.js", "/index.html/more"} {
		if resp, body := w.ask("GET", path, ""); resp.StatusCode != 404 ||
			!strings.Contains(body, "urn:ambercellar:problem:not-found") {
			t.Errorf("%s, which is nowhere: %d %s", path, resp.StatusCode, body)
		}
	}
	if resp, body := w.ask("POST", "/", ""); resp.StatusCode != 405 ||
		!strings.Contains(body, "urn:ambercellar:problem:method") {
		t.Errorf("POST to the console: %d %s", resp.StatusCode, body)
	}
}

func TestListsComeInPages(t *testing.T) {
	w := newWorld(t)
	for i := range 7 {
		s := &catalog.Segment{SegmentOrigin: catalog.SegmentOrigin{ID: fmt.Sprint("s", i), Run: "r", Number: i,
			Source: "harbour", Table: "scan", Stem: fmt.Sprint(i), State: catalog.SegmentWriting,
			CreatedAt: catalog.At(time.Unix(int64(i), 0))}}
		if err := w.service.Catalog.AddSegment(t.Context(), s); err != nil {
			t.Fatal(err)
		}
	}
	var seen []string
	for after, n := "", 7; ; n++ {
		_, body := w.ask("GET", "/api/v1/segments?limit=3&after="+after, "", "Authorization", "Bearer "+w.token)
		var page Items[view.Segment]
		if err := json.Unmarshal([]byte(body), &page); err != nil {
			t.Fatalf("%v: %s", err, body)
		}
		for _, s := range page.Items {
			seen = append(seen, s.ID)
		}
		if page.Next == nil {
			break
		}
		after = *page.Next
		s := &catalog.Segment{SegmentOrigin: catalog.SegmentOrigin{ID: fmt.Sprint("s", n), Run: "r", Number: n,
			Source: "harbour", Table: "scan", Stem: fmt.Sprint(n), State: catalog.SegmentWriting,
			CreatedAt: catalog.At(time.Unix(int64(n), 0))}}
		if err := w.service.Catalog.AddSegment(t.Context(), s); err != nil { // what comes in front moves nothing
			t.Fatal(err)
		}
	}
	if got := strings.Join(seen, " "); got != "s6 s5 s4 s3 s2 s1 s0" {
		t.Errorf("the pages hold %s", got)
	}
	for _, odd := range []string{"limit=-1", "limit=x", "limit=999999999"} {
		if resp, _ := w.ask("GET", "/api/v1/segments?"+odd, "", "Authorization", "Bearer "+
			w.token); resp.StatusCode != 200 {
			t.Errorf("%s: %d", odd, resp.StatusCode)
		}
	}
	for _, odd := range []string{"x", "WzFd", "W10", "WyJhIiwiYiJd", "W251bGwsMSwiYSJd", "e30", "W3t9LFtdLDFd",
		"%00"} {
		if resp, body := w.ask("GET", "/api/v1/segments?after="+odd, "", "Authorization", "Bearer "+
			w.token); resp.StatusCode != 400 || !strings.Contains(body, `"field":"after"`) {
			t.Errorf("%s: %d %s", odd, resp.StatusCode, body)
		}
	}
}

// The tables of which rows are archived come in pages, by the shapes of their segments and by segments whose shape is
// not known, each once.
func TestArchivedTablesComeInPages(t *testing.T) {
	w := newWorld(t)
	var want []string
	for i := range 25 {
		for range 2 {
			s := &catalog.Segment{SegmentOrigin: catalog.SegmentOrigin{ID: fmt.Sprint("s", i, len(want)), Run: "r",
				Number: i, Source: fmt.Sprint("harbour-", i%3), Table: fmt.Sprintf("quay_%02d", i),
				Stem: fmt.Sprint(i, len(want)), State: catalog.SegmentOpen,
				CreatedAt: catalog.At(time.Unix(int64(i), 0))}}
			if err := w.service.Catalog.AddSegment(t.Context(), s); err != nil {
				t.Fatal(err)
			}
			if i%2 == 0 {
				if err := w.service.Catalog.Spanned(t.Context(), s, catalog.Shape{},
					[catalog.SpanColumns]catalog.Span{catalog.Anywhere, catalog.Anywhere}); err != nil {
					t.Fatal(err)
				}
			}
			want = append(want, s.Source+"."+s.Table)
		}
	}
	slices.Sort(want)
	want = slices.Compact(want)
	asked := func(text string) (got []string) {
		for after := ""; ; {
			_, body := w.ask("GET", "/api/v1/archived?limit=4&text="+text+"&after="+after, "", "Authorization",
				"Bearer "+w.token)
			var page Items[view.ArchivedTable]
			if err := json.Unmarshal([]byte(body), &page); err != nil {
				t.Fatalf("%v: %s", err, body)
			}
			for _, x := range page.Items {
				got = append(got, x.Source+"."+x.Table)
			}
			if page.Next == nil {
				return got
			}
			after = *page.Next
		}
	}
	if got := asked(""); !slices.Equal(got, want) {
		t.Errorf("the pages hold %v instead of %v", got, want)
	}
	if got := asked("QUAY_1"); len(got) != 10 {
		t.Errorf("of a text: %v", got)
	}
}

func TestErrorsBecomeProblemsOfTheirKind(t *testing.T) {
	for _, c := range []struct {
		err    error
		status int
		kind   string
	}{
		{fmt.Errorf("x: %w", catalog.ErrNotFound), 404, "not-found"}, {source.ErrNoTable, 404, "not-found"},
		{catalog.ErrActive, 409, "state"}, {&source.HeldError{Table: "t", Holder: "h", Run: "r"}, 409, "held"},
		{archive.ErrDamaged, 409, "damaged"}, {refuse.ErrDisagree, 409, "damaged"},
		{context.DeadlineExceeded, 504, "slow"}, {source.Of("harbour", errors.New("gone")), 502, "source"},
		{errors.New("who knows"), 500, "internal"},
		{&refuse.Error{Field: "f", Message: "m", Remedy: "r"}, 422, "refused"},
		{&refuse.Problems{Problems: []rule.Problem{{Message: "m"}}}, 422, "rule"},
	} {
		p := problemOf(c.err)
		if p.Status != c.status || p.Type != typePrefix+c.kind || p.Title == "" {
			t.Errorf("%v: %+v; want %d and %s", c.err, p, c.status, c.kind)
		}
	}
	if p := problemOf(&refuse.Error{Field: "f", Message: "m", Remedy: "r"}); p.Field != "f" || p.Detail != "m" ||
		p.Remedy != "r" {
		t.Errorf("a refusal loses its field or remedy: %+v", p)
	}
}

func TestEveryRouteNeedsTheTokenButTheFewThatSaySo(t *testing.T) {
	w := newWorld(t)
	open := 0
	for _, r := range (&API{service: w.service}).routes() {
		if r.open {
			open++
			continue
		}
		path := "/api/v1" + parameter.ReplaceAllString(r.path, "x")
		if resp, _ := w.ask(r.method, path, "{}"); resp.StatusCode != 401 {
			t.Errorf("%s %s without a token: %d", r.method, path, resp.StatusCode)
		}
	}
	if open != 7 {
		t.Errorf("%d routes are open; the document and the six of signing in are", open)
	}
}

// TestWhatIsShownIsNoRecord goes through all types of the interface: a column more in the catalog is none in the
// interface. The ledger alone is both, as the catalog keeps it in columns and, of each pass, as JSON.
func TestWhatIsShownIsNoRecord(t *testing.T) {
	seen := map[reflect.Type]bool{reflect.TypeFor[catalog.Ledger](): true}
	var look func(of reflect.Type, call string)
	look = func(of reflect.Type, call string) {
		switch of.Kind() {
		case reflect.Pointer, reflect.Slice, reflect.Array, reflect.Map:
			look(of.Elem(), call)
		case reflect.Struct:
			if seen[of] {
				return
			}
			seen[of] = true
			for i := range of.NumField() {
				f := of.Field(i)
				if f.Tag.Get("db") != "" {
					t.Errorf("%s shows %s, whose field %s is a column of the catalog", call, of, f.Name)
				}
				if f.Tag.Get("json") != "-" {
					look(f.Type, call)
				}
			}
		}
	}
	for _, c := range Calls() {
		for _, x := range []any{c.In, c.Out} {
			if x != nil {
				look(reflect.TypeOf(x), c.Name)
			}
		}
	}
	if len(seen) < 100 {
		t.Errorf("only %d types were looked at", len(seen))
	}
}

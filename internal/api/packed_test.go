package api

import (
	"bytes"
	"compress/gzip"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/gin-gonic/gin"
)

func TestWhoTakesGzip(t *testing.T) {
	for accept, want := range map[string]bool{"": false, "gzip": true, "br, GZIP;q=0.5": true, "gzip;q=0": false,
		"gzip; q=0.0": false, "deflate": false, "*": true, "*;q=0": false, "gzip;q=x": true, "gzipped": false} {
		if got := takesGzip(accept); got != want {
			t.Errorf("%q: %v", accept, got)
		}
	}
}

// TestAnswersArePackedForWhoTakesThem: files of the console and long answers in JSON, the same bytes either way.
func TestAnswersArePackedForWhoTakesThem(t *testing.T) {
	script := strings.Repeat("let ferry = 1;\n", 1000)
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	w.Write([]byte(script))
	w.Close()
	a := &API{console: fstest.MapFS{"assets/ferry.js.gz": {Data: packed.Bytes()}, "index.html": {Data: []byte("<p>")}}}
	gin.SetMode(gin.ReleaseMode)
	g := gin.New()
	g.GET("/long", func(c *gin.Context) { answer(c, http.StatusOK, strings.Repeat("quay ", 1000)) })
	g.GET("/short", func(c *gin.Context) { answer(c, http.StatusOK, "quay") })
	g.GET("/none", func(c *gin.Context) { answer(c, http.StatusOK, func() {}) })
	g.NoRoute(a.other)
	ask := func(path, accept string) *httptest.ResponseRecorder {
		q := httptest.NewRequest(http.MethodGet, path, nil)
		q.Header.Set("Accept-Encoding", accept)
		r := httptest.NewRecorder()
		g.ServeHTTP(r, q)
		return r
	}
	for path, want := range map[string]string{"/assets/ferry.js": script,
		"/long": `"` + strings.Repeat("quay ", 1000) + `"`} {
		plain, short := ask(path, ""), ask(path, "gzip")
		if plain.Body.String() != want || plain.Header().Get("Content-Encoding") != "" ||
			plain.Header().Get("Vary") != "Accept-Encoding" {
			t.Errorf("%s in clear: %d bytes, %v", path, plain.Body.Len(), plain.Header())
		}
		if short.Body.Len() > len(want)/10 || short.Header().Get("Content-Type") != plain.Header().Get("Content-Type") {
			t.Errorf("%s packed: %d of %d bytes, %v", path, short.Body.Len(), len(want), short.Header())
		}
		r, err := gzip.NewReader(short.Body)
		if err != nil {
			t.Fatal(path, err)
		}
		if got, err := io.ReadAll(r); err != nil || string(got) != want {
			t.Errorf("%s unpacked: %d bytes, %v", path, len(got), err)
		}
	}
	if r := ask("/short", "gzip"); r.Body.String() != `"quay"` || r.Header().Get("Content-Encoding") != "" {
		t.Errorf("a short answer: %q, %v", r.Body, r.Header())
	}
	if r := ask("/none", "gzip"); r.Code != http.StatusInternalServerError {
		t.Errorf("an answer that cannot be written: %d", r.Code)
	}
	if r := ask("/assets/ferry.js.map", "gzip"); r.Code != http.StatusNotFound {
		t.Errorf("a file that is not there: %d", r.Code)
	}
}

package api

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"io/fs"
	"mime"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"
)

// packing is how the names of the console's files end that are held compressed.
const packing = ".gz"

// unpack answers with a file that is held compressed: as it is to whoever takes that.
func (a *API) unpack(c *gin.Context, path string) {
	c.Header("Vary", "Accept-Encoding")
	kind := mime.TypeByExtension(filepath.Ext(path))
	if takesGzip(c.GetHeader("Accept-Encoding")) {
		b, err := fs.ReadFile(a.console, path+packing)
		if err != nil {
			fail(c, err)
			return
		}
		c.Header("Content-Encoding", "gzip")
		c.Data(http.StatusOK, kind, b)
		return
	}
	f, err := a.console.Open(path + packing)
	if err != nil {
		fail(c, err)
		return
	}
	defer f.Close()
	r, err := gzip.NewReader(f)
	if err != nil {
		fail(c, err)
		return
	}
	c.DataFromReader(http.StatusOK, -1, kind, r, nil)
}

// takesGzip says whether an Accept-Encoding (RFC 9110, 12.5.3) allows gzip.
func takesGzip(accept string) bool {
	for _, part := range strings.Split(accept, ",") {
		name, weight, _ := strings.Cut(strings.TrimSpace(part), ";")
		if name = strings.TrimSpace(name); strings.EqualFold(name, "gzip") || name == "*" {
			q := strings.TrimPrefix(strings.ReplaceAll(weight, " ", ""), "q=")
			n, err := strconv.ParseFloat(q, 64)
			return err != nil || n > 0
		}
	}
	return false
}

// leastPacked is how many bytes an answer has at least that is sent compressed: shorter ones fit into one packet.
const leastPacked = 1400

var packers = sync.Pool{New: func() any { return gzip.NewWriter(nil) }}

// answer answers with JSON, compressed to whoever takes that.
func answer(c *gin.Context, status int, out any) {
	const kind = "application/json; charset=utf-8"
	b, err := json.Marshal(out)
	if err != nil {
		fail(c, err)
		return
	}
	c.Header("Vary", "Accept-Encoding")
	if len(b) < leastPacked || !takesGzip(c.GetHeader("Accept-Encoding")) {
		c.Data(status, kind, b)
		return
	}
	var packed bytes.Buffer
	w := packers.Get().(*gzip.Writer)
	defer packers.Put(w)
	w.Reset(&packed)
	w.Write(b) // to memory
	w.Close()
	c.Header("Content-Encoding", "gzip")
	c.Data(status, kind, packed.Bytes())
}

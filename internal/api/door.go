package api

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
)

// ownNames are those of the machine.
func ownNames() []string {
	names := []string{"localhost"}
	if name, err := os.Hostname(); err == nil {
		names = append(names, strings.ToLower(name))
	}
	return names
}

// named turns requests away that ask for another host: a page of somebody else whose name was made to lead here. An
// address is no such name.
func (a *API) named(c *gin.Context) {
	host := strings.ToLower(c.Request.Host)
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.TrimSuffix(strings.Trim(host, "[]"), ".")
	// which tell nothing, to whoever watches over it
	if path := c.Request.URL.Path; path == "/healthz" || path == "/readyz" {
		return
	}
	if net.ParseIP(host) == nil && !slices.Contains(a.hosts, host) {
		p := problem(http.StatusMisdirectedRequest, "host", "The service is not known by this name",
			fmt.Sprintf("the request asks for %q", host))
		p.Remedy = "use its address, or name the host where it is started (`ambercellar serve -hosts NAME,…`)"
		fail(c, p)
	}
}

// overTLS says whether a request came over TLS, here or at the proxy in front.
func overTLS(r *http.Request) bool {
	return r.TLS != nil || strings.EqualFold(r.Header.Get("X-Forwarded-Proto"), "https")
}

// A body of a request, and a reader of an answer, may stand still for so long.
var bodyStall, writeStall = 20 * time.Second, time.Minute

// body is the body of a request, which has to go on coming.
type body struct {
	io.ReadCloser
	control *http.ResponseController
	over    bool
}

func (b *body) Read(p []byte) (int, error) {
	b.control.SetReadDeadline(time.Now().Add(bodyStall))
	n, err := b.ReadCloser.Read(p)
	if b.over = err == io.EOF; b.over || err == nil {
		b.control.SetReadDeadline(time.Time{})
	}
	return n, err
}

// Listener is a listener whose connections are given up where nobody reads what is written to them: a reader that
// stands still would keep files from being moved and destroyed.
type Listener struct{ net.Listener }

// Accept waits for the next connection.
func (l Listener) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return &moving{c}, nil
}

type moving struct{ net.Conn }

const pieceBytes = 64 << 10

func (m *moving) Write(b []byte) (written int, err error) {
	for first := true; first || len(b) > 0; first = false {
		piece := b[:min(len(b), pieceBytes)]
		if err := m.Conn.SetWriteDeadline(time.Now().Add(writeStall)); err != nil {
			return written, err
		}
		n, err := m.Conn.Write(piece)
		if written += n; err != nil {
			return written, err
		}
		b = b[len(piece):]
	}
	return written, nil
}

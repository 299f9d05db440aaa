// Package api is the HTTP interface: routes, errors as problem details, the OpenAPI document, live events, and the
// embedded console. Each route only translates; what it asks for is done by the service.
package api

import (
	"io/fs"
	"log/slog"
	"net/http"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/metrics"
	"ambercellar/internal/service"
)

// maxBody is the largest request body: a file of rules and a little.
const maxBody = rule.MaxFile + 64<<10

// API answers HTTP requests for a service.
type API struct {
	service  *service.Service
	log      *slog.Logger
	console  fs.FS
	document func() []byte
	counting sync.Map // by ticket: Counting
	hosts    []string // names under which the service is asked, beside addresses and those of this machine
	lasting  lasting
	streams  streams
}

// New returns the handler of all HTTP requests. hosts are further names under which the service may be asked.
func New(s *service.Service, log *slog.Logger, console fs.FS, hosts ...string) http.Handler {
	a := &API{service: s, log: log, console: console, document: sync.OnceValue(Document),
		hosts: append(hosts, ownNames()...)}
	gin.SetMode(gin.ReleaseMode)
	g := gin.New()
	g.UseRawPath, g.UnescapePathValues = true, true
	g.Use(a.logged, a.recovering, secured, a.named)
	g.GET("/healthz", a.healthz)
	g.GET("/readyz", a.readyz)
	figures := metrics.Handler(s)
	g.GET("/metrics", a.scraped, func(c *gin.Context) { figures.ServeHTTP(c.Writer, c.Request) })
	for _, r := range a.routes() {
		handlers := []gin.HandlerFunc{limited}
		if !r.open {
			handlers = append(handlers, a.authenticated, a.recorded(r), a.allowed(r))
		}
		if !r.open && r.raw != nil {
			handlers = append(handlers, a.whileStanding(r.right()))
		}
		g.Handle(r.method, "/api/v1"+ginPath(r.path), append(handlers, r.handler(a.meant))...)
	}
	g.NoRoute(a.other)
	a.lasting.next, a.lasting.stands = g, a.stands
	return &a.lasting
}

func (a *API) routes() []route {
	return slices.Concat(
		a.sessionRoutes(),
		a.sourceRoutes(),
		a.tableRoutes(),
		a.storeRoutes(),
		a.ruleRoutes(),
		a.planRoutes(),
		a.runRoutes(),
		a.segmentRoutes(),
		a.disposalRoutes(),
		a.restoreRoutes(),
		a.searchRoutes(),
		a.scheduleRoutes(),
		a.jobRoutes(),
		a.catalogRoutes(),
		a.notificationRoutes(),
		a.healthRoutes(),
		a.declaredRoutes(),
		a.historyRoutes(),
		a.accountRoutes(),
		a.auditRoutes(),
		a.auditExportRoutes(),
		a.approvalRoutes(),
		[]route{act("DELETE", "/requests/{request}", "EndRequest",
			"End what a request does that was sent with an id in the header "+RequestHeader, a.lasting.endRequest)},
	)
}

// logged writes a line a request; those that only look are written at the lowest level.
func (a *API) logged(c *gin.Context) {
	begun := time.Now()
	c.Next()
	level := slog.LevelDebug
	if c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		level = slog.LevelInfo
	}
	attrs := []any{"method", c.Request.Method, "path", c.Request.URL.Path, "status", c.Writer.Status(), "took",
		time.Since(begun).Round(time.Microsecond)}
	if c.Writer.Status() >= 500 && c.Request.Context().Err() == nil { // whoever asked is still there
		level = slog.LevelError
	}
	if e := c.Errors.Last(); e != nil {
		attrs = append(attrs, "error", e.Err)
	}
	a.log.Log(c.Request.Context(), level, "request", attrs...)
}

// recovering answers a request whose handler panicked. Where a part of the answer is on its way, the connection breaks
// off instead, so that no reader takes what it has for the whole.
func (a *API) recovering(c *gin.Context) {
	defer func() {
		err := recover()
		switch {
		case err == nil:
		case err == http.ErrAbortHandler:
			a.log.Error("an answer was broken off", "path", c.Request.URL.Path, "error", c.Errors.Last())
			panic(http.ErrAbortHandler)
		case c.Writer.Written():
			a.log.Error("a request panicked in the middle of its answer", "path", c.Request.URL.Path, "panic", err,
				"stack", string(debug.Stack()))
			panic(http.ErrAbortHandler)
		default:
			a.recovered(c, err)
		}
	}()
	c.Next()
}

func (a *API) recovered(c *gin.Context, err any) {
	a.log.Error("a request panicked", "path", c.Request.URL.Path, "panic", err, "stack", string(debug.Stack()))
	fail(c, problem(http.StatusInternalServerError, "internal", "The service failed",
		"the request could not be answered; the log says more"))
}

func secured(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Content-Security-Policy",
		"default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "+
			"connect-src 'self'; manifest-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'")
	h.Set("Permissions-Policy", "camera=(), geolocation=(), microphone=(), payment=(), usb=()")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
}

// limited bounds the size of a request's body, and how long it may stand still.
func limited(c *gin.Context) {
	if c.Request.Body == nil || c.Request.Body == http.NoBody {
		return
	}
	b := &body{ReadCloser: http.MaxBytesReader(c.Writer, c.Request.Body, maxBody),
		control: http.NewResponseController(c.Writer)}
	c.Request.Body = b
	c.Next()
	if !b.over { // what nobody has read is read by the server, before the next request
		b.control.SetReadDeadline(time.Now().Add(bodyStall))
	}
}

// other answers with the console's files. Places within the console stand behind the # of its address, so that every
// other path is none.
func (a *API) other(c *gin.Context) {
	path := strings.TrimPrefix(c.Request.URL.Path, "/")
	nothing := func(detail string) {
		fail(c, problem(http.StatusNotFound, "not-found", "There is nothing here", detail))
	}
	if strings.HasPrefix(path, "api/") {
		nothing("the interface has no " + c.Request.Method + " /" + path + "; /api/v1/openapi.json lists what it has")
		return
	}
	if path == "" {
		path = "index.html"
	}
	f, err := fs.Stat(a.console, path)
	packed := false
	if err != nil {
		f, err = fs.Stat(a.console, path+packing)
		packed = err == nil
	}
	if err != nil || f.IsDir() {
		if _, err := fs.Stat(a.console, "index.html"); err != nil {
			c.String(http.StatusNotFound, "this build holds no console; `make build` makes one that does\n")
			return
		}
		nothing("there is no /" + path + "; the console is at /, the interface at /api/v1")
		return
	}
	if c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		fail(c, problem(http.StatusMethodNotAllowed, "method", "The console is only to be read",
			"send requests to /api/v1"))
		return
	}
	if strings.HasPrefix(path, "assets/") {
		c.Header("Cache-Control", "public, max-age=31536000, immutable") // their names hold a hash of their content
	} else {
		c.Header("Cache-Control", "no-cache")
	}
	if path == "index.html" { // ServeFileFS would redirect it to /
		b, err := fs.ReadFile(a.console, path)
		if err != nil {
			fail(c, err)
			return
		}
		c.Data(http.StatusOK, "text/html; charset=utf-8", b)
		return
	}
	if packed {
		a.unpack(c, path)
		return
	}
	http.ServeFileFS(c.Writer, c.Request, a.console, path)
}

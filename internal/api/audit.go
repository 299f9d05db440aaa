package api

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/audit"
	"ambercellar/internal/core/rights"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/entryfile"
	"ambercellar/internal/service"
)

// auditFilter are the query parameters that say which entries are meant.
var auditFilter = []string{"actor", "kind", "action", "subject", "outcome", "from", "to", "since"}

// auditRoutes are the routes of the audit log.
func (a *API) auditRoutes() []route {
	s := a.service
	list := get(
		"/audit",
		"AuditLog",
		"The audit log, the newest entries first; those that are meant: by account, kind (the "+
			"first word of an action), action, subject, outcome, time, or all behind an entry (since)",
		a.auditLog,
	)
	export := file(
		"/audit/export",
		"AuditExport",
		"The entries of the audit log that are meant, the oldest first, as csv, "+
			"ndjson, xml or pdf",
		a.auditExport,
	)
	return []route{
		list.asks(append(auditFilter, "limit", "after")...),
		export.asks(append([]string{"format"}, auditFilter...)...),
		get("/audit/entries/{entry}", "AuditEntry", "One entry of the audit log",
			func(ctx context.Context, r request) (*entryfile.Entry, error) {
				id, err := strconv.ParseInt(r.Param("entry"), 10, 64)
				if err != nil {
					return nil, &catalog.NotFoundError{Kind: "entry", Name: r.Param("entry")}
				}
				e, err := s.Audit.Entry(ctx, id)
				if err != nil {
					return nil, err
				}
				out := entryfile.EntryOf(e, r.who().May(rights.Rows))
				return &out, nil
			}),
		take("POST", "/audit/entries/{entry}/erase", "EraseDetail",
			"Take away the detail of an entry for good; that it was is recorded, and the chain holds",
			func(ctx context.Context, r request, in NewReason) (*entryfile.Entry, error) {
				id, err := strconv.ParseInt(r.Param("entry"), 10, 64)
				if err != nil {
					return nil, &catalog.NotFoundError{Kind: "entry", Name: r.Param("entry")}
				}
				e, err := s.Audit.EraseDetail(ctx, r.actor(), id, in.Reason)
				if err != nil {
					return nil, err
				}
				out := entryfile.EntryOf(e, true)
				return &out, nil
			}),
		get("/audit/segments", "AuditSegments", "Where the entries of the audit log lie, and how long they are kept",
			a.auditKept),
		get(
			"/audit/verification",
			"VerifyAudit",
			"Check the audit log against itself, and against what stores know of it",
			func(ctx context.Context, _ request) (*service.AuditReport, error) { return s.Audit.Verify(ctx) },
		),
	}
}

func (a *API) auditKept(ctx context.Context, _ request) (*view.AuditKept, error) {
	k, err := a.service.Audit.Kept(ctx)
	if err != nil {
		return nil, err
	}
	out := &view.AuditKept{Live: k.Live.String(), Store: k.Store, First: k.First, Here: k.Here, Last: k.Last,
		Segments: shown(k.Segments, view.AuditSegmentOf)}
	if !k.Keep.Zero() {
		out.Keep = k.Keep.String()
	}
	return out, nil
}

func filterOf(r request) (f catalog.AuditFilter, err error) {
	f = catalog.AuditFilter{Actor: r.Query("actor"), Kind: r.Query("kind"), Action: r.Query("action"),
		Subject: r.Query("subject"), Outcome: audit.EntryOutcome(r.Query("outcome"))}
	if err := checkOutcome(f.Outcome); err != nil {
		return f, err
	}
	for name, at := range map[string]**catalog.Time{"from": &f.From, "to": &f.To} {
		t, err := instantOf(r, name)
		if err != nil {
			return f, err
		}
		if !t.IsZero() {
			x := catalog.At(t)
			*at = &x
		}
	}
	if text := r.Query("since"); text != "" {
		if f.Since, err = strconv.ParseInt(text, 10, 64); err != nil || f.Since < 0 {
			return f, &refuse.Error{Field: "since", Message: fmt.Sprintf("%.80q is no number of an entry", text),
				Remedy: "write the id of the last entry that you know"}
		}
	}
	return f, nil
}

// entriesFor shows entries to somebody who may see values of rows or not.
func entriesFor(rows bool) func(*catalog.Entry) entryfile.Entry {
	return func(e *catalog.Entry) entryfile.Entry { return entryfile.EntryOf(e, rows) }
}

func checkOutcome(o audit.EntryOutcome) error {
	switch o {
	case "", audit.OutcomeDone, audit.OutcomeRefused, audit.OutcomeFailed:
		return nil
	}
	return &refuse.Error{Field: "outcome", Message: fmt.Sprintf("%.80q is no outcome", string(o)),
		Remedy: "write done, refused or failed"}
}

func (a *API) auditLog(ctx context.Context, r request) (Items[entryfile.Entry], error) {
	f, err := filterOf(r)
	if err != nil {
		return Items[entryfile.Entry]{}, err
	}
	p := page(r.Context)
	list, err := a.service.Audit.Page(ctx, f, p)
	rows := r.who().May(rights.Rows)
	return paging(list, p, entriesFor(rows)), err
}

// auditExport sends the entries that are meant. It ends with trailers, like a stream of rows: one without them was cut
// off.
func (a *API) auditExport(c *gin.Context) {
	r := request{c}
	f, err := filterOf(r)
	format := c.DefaultQuery("format", "csv")
	w, known := entryfile.Stream(format)
	known = known || format == "pdf"
	if !known && err == nil {
		err = &refuse.Error{Field: "format", Message: fmt.Sprintf("%.80q is no format", format),
			Remedy: "write csv, ndjson, xml or pdf"}
	}
	ctx := c.Request.Context()
	if err == nil {
		err = a.service.Catalog.Note(ctx, r.actor(), "audit export", format, c.Request.URL.RawQuery)
	}
	if err != nil {
		fail(c, err)
		return
	}
	if format == "pdf" {
		b, err := a.auditPDF(ctx, f, r.who().May(rights.Rows))
		if err != nil {
			fail(c, err)
			return
		}
		c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=\"audit-%s.pdf\"",
			a.service.Now().UTC().Format(time.DateOnly)))
		c.Data(http.StatusOK, "application/pdf", b)
		return
	}
	c.Header("Content-Type", w.Type)
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=\"audit-%s.%s\"",
		a.service.Now().UTC().Format(time.DateOnly), format))
	c.Header("Trailer", TrailerRows+", "+TrailerBytes)
	out := &begun{ResponseWriter: c.Writer}
	n, rows := int64(0), r.who().May(rights.Rows)
	if err = w.Begin(out); err == nil {
		err = a.service.Audit.Each(ctx, f, func(list []catalog.Entry) error {
			n += int64(len(list))
			return w.Each(out, shown(list, entriesFor(rows)))
		})
	}
	if err == nil {
		_, err = io.WriteString(out, w.End)
	}
	if err != nil {
		c.Error(err)
		panic(http.ErrAbortHandler) // what was sent is not all: the connection breaks off, and the reader hears of it
	}
	out.Flush()
	c.Header(TrailerRows, strconv.FormatInt(n, 10))
	c.Header(TrailerBytes, strconv.FormatInt(out.sent, 10))
}

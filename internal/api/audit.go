package api

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
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
			func(ctx context.Context, r request) (*view.Entry, error) {
				id, err := strconv.ParseInt(r.Param("entry"), 10, 64)
				if err != nil {
					return nil, &catalog.NotFoundError{Kind: "entry", Name: r.Param("entry")}
				}
				e, err := s.Catalog.AuditEntry(ctx, id)
				if err != nil {
					return nil, err
				}
				out := view.EntryOf(e, r.who().May(rights.Rows))
				return &out, nil
			}),
		take("POST", "/audit/entries/{entry}/erase", "EraseDetail",
			"Take away the detail of an entry for good; that it was is recorded, and the chain holds",
			func(ctx context.Context, r request, in NewReason) (*view.Entry, error) {
				id, err := strconv.ParseInt(r.Param("entry"), 10, 64)
				if err != nil {
					return nil, &catalog.NotFoundError{Kind: "entry", Name: r.Param("entry")}
				}
				e, err := s.Audit.EraseDetail(ctx, r.actor(), id, in.Reason)
				if err != nil {
					return nil, err
				}
				out := view.EntryOf(e, true)
				return &out, nil
			}),
		get(
			"/audit/verification",
			"VerifyAudit",
			"Check the audit log against itself, and against what stores know of it",
			func(ctx context.Context, _ request) (*service.AuditReport, error) { return s.Audit.Verify(ctx) },
		),
	}
}

func filterOf(r request) (f catalog.AuditFilter, err error) {
	f = catalog.AuditFilter{Actor: r.Query("actor"), Kind: r.Query("kind"), Action: r.Query("action"),
		Subject: r.Query("subject"), Outcome: audit.EntryOutcome(r.Query("outcome"))}
	switch f.Outcome {
	case "", audit.OutcomeDone, audit.OutcomeRefused, audit.OutcomeFailed:
	default:
		return f, &refuse.Error{Field: "outcome", Message: fmt.Sprintf("%.80q is no outcome", string(f.Outcome)),
			Remedy: "write done, refused or failed"}
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

func (a *API) auditLog(ctx context.Context, r request) (Items[view.Entry], error) {
	f, err := filterOf(r)
	if err != nil {
		return Items[view.Entry]{}, err
	}
	p := page(r.Context)
	list, err := a.service.Catalog.AuditLog(ctx, f, p)
	rows := r.who().May(rights.Rows)
	return paging(list, p, func(e *catalog.Entry) view.Entry { return view.EntryOf(e, rows) }), err
}

// auditColumns are the fields of an entry in a file, in their order.
var auditColumns = []string{
	"id",
	"at",
	"actor",
	"session",
	"address",
	"action",
	"subject",
	"outcome",
	"detail",
	"erased",
	"withheld",
	"digest",
	"hash",
}

func auditFields(e *view.Entry) []string {
	return []string{strconv.FormatInt(e.ID, 10), e.At.UTC().Format(audit.Form), e.Actor, e.Session, e.Address, e.Action,
		e.Subject, string(e.Outcome), e.Detail, strconv.FormatBool(e.Erased), strconv.FormatBool(e.Withheld),
		e.Digest, e.Hash}
}

// auditWriter writes entries into a file of a kind.
type auditWriter struct {
	begin func(io.Writer) error
	each  func(io.Writer, []view.Entry) error
	end   string
	kind  string
}

// auditWriters are the kinds of files, by their names.
var auditWriters = map[string]auditWriter{
	"csv": {kind: "text/csv; charset=utf-8", begin: func(w io.Writer) error {
		c := csv.NewWriter(w)
		c.Write(auditColumns)
		c.Flush()
		return c.Error()
	}, each: func(w io.Writer, list []view.Entry) error {
		c := csv.NewWriter(w)
		for i := range list {
			fields := auditFields(&list[i])
			for j := range fields {
				fields[j] = harmless(fields[j])
			}
			c.Write(fields)
		}
		c.Flush()
		return c.Error()
	}},
	"ndjson": {kind: "application/x-ndjson", each: func(w io.Writer, list []view.Entry) error {
		j := json.NewEncoder(w)
		for i := range list {
			if err := j.Encode(&list[i]); err != nil {
				return err
			}
		}
		return nil
	}},
	"xml": {kind: "application/xml", end: "</audit>\n", begin: func(w io.Writer) error {
		_, err := io.WriteString(w, xml.Header+"<audit>\n")
		return err
	}, each: func(w io.Writer, list []view.Entry) error {
		x := xml.NewEncoder(w)
		for i := range list {
			entry := xml.StartElement{Name: xml.Name{Local: "entry"}}
			fields := auditFields(&list[i])
			for j, name := range auditColumns {
				if name != "detail" {
					entry.Attr = append(entry.Attr, xml.Attr{Name: xml.Name{Local: name}, Value: fields[j]})
				}
			}
			if err := x.EncodeElement(list[i].Detail, entry); err != nil {
				return err
			}
			if err := x.Flush(); err != nil {
				return err
			}
			if _, err := io.WriteString(w, "\n"); err != nil {
				return err
			}
		}
		return nil
	}},
}

// harmless writes a value so that a spreadsheet does not take it for a formula.
func harmless(text string) string {
	if text != "" {
		switch text[0] {
		case '=', '+', '-', '@', '\t', '\r':
			return "'" + text
		}
	}
	return text
}

// auditExport sends the entries that are meant. It ends with trailers, like a stream of rows: one without them was cut
// off.
func (a *API) auditExport(c *gin.Context) {
	r := request{c}
	f, err := filterOf(r)
	format := c.DefaultQuery("format", "csv")
	w, known := auditWriters[format]
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
	c.Header("Content-Type", w.kind)
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=\"audit-%s.%s\"",
		a.service.Now().UTC().Format(time.DateOnly), format))
	c.Header("Trailer", TrailerRows+", "+TrailerBytes)
	out := &begun{ResponseWriter: c.Writer}
	n, rows := int64(0), r.who().May(rights.Rows)
	if w.begin != nil {
		err = w.begin(out)
	}
	if err == nil {
		err = a.service.Catalog.EachEntry(ctx, f, func(list []catalog.Entry) error {
			n += int64(len(list))
			return w.each(out, shown(list, func(e *catalog.Entry) view.Entry { return view.EntryOf(e, rows) }))
		})
	}
	if err == nil {
		_, err = io.WriteString(out, w.end)
	}
	if err != nil {
		c.Error(err)
		panic(http.ErrAbortHandler) // what was sent is not all: the connection breaks off, and the reader hears of it
	}
	out.Flush()
	c.Header(TrailerRows, strconv.FormatInt(n, 10))
	c.Header(TrailerBytes, strconv.FormatInt(out.sent, 10))
}

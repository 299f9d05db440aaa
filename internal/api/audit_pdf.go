package api

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"ambercellar/internal/api/paper"
	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
)

// mostOnPaper is how many entries of the audit log a PDF holds at the most: it is made in memory.
const mostOnPaper = 5000

// errTooLong ends the reading of entries that a PDF has no room for.
var errTooLong = errors.New("too many entries")

// auditPDF makes a PDF of the entries that are meant.
func (a *API) auditPDF(ctx context.Context, f catalog.AuditFilter, rows bool) ([]byte, error) {
	var list []view.Entry
	err := a.service.Catalog.EachEntry(ctx, f, func(some []catalog.Entry) error {
		if len(list)+len(some) > mostOnPaper {
			return errTooLong
		}
		list = append(list, shown(some, func(e *catalog.Entry) view.Entry { return view.EntryOf(e, rows) })...)
		return nil
	})
	if errors.Is(err, errTooLong) {
		return nil, &refuse.Error{Field: "format",
			Message: fmt.Sprintf("these are more than %d entries, which is too much for "+
				"a PDF", mostOnPaper), Remedy: "ask for a shorter time, or take csv, ndjson or xml"}
	}
	head, one := a.service.Catalog.AuditHead(ctx)
	if err = errors.Join(err, one); err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = writeAudit(&b, list, fmt.Sprintf("log %s, %d entries of %d, as of %s; its last hash is %s", head.Log,
		len(list), head.Entry, a.service.Now().UTC().Format(reportTime), head.Hash))
	return b.Bytes(), err
}

// writeAudit writes entries as PDF, A4.
func writeAudit(w io.Writer, list []view.Entry, about string) error {
	p := paper.New()
	p.SetTitle("Audit log", true)
	p.SetCreator("Amber Cellar", true)
	p.SetMargins(15, 15, 15)
	p.SetAutoPageBreak(true, 18)
	p.AliasNbPages("")
	p.SetFooterFunc(func() {
		p.SetY(-13)
		p.Font("Helvetica", "", 8)
		p.Line(6, fmt.Sprintf("Audit log, page %d of {nb}", p.PageNo()), "", "C")
	})
	p.AddPage()
	p.Font("Helvetica", "B", 16)
	p.Line(9, "Audit log", "", "")
	p.Font("Helvetica", "", 9)
	p.Text(0, 5, about)
	p.Ln(3)
	for i := range list {
		e := &list[i]
		p.Font("Helvetica", "B", 9)
		p.Text(0, 4.5, strings.TrimRight(fmt.Sprintf("%d.  %s  %s: %s, %s", e.ID, e.At.UTC().Format(time.DateTime),
			e.Actor, e.Action, e.Outcome), " "))
		p.Font("Helvetica", "", 8)
		about := e.Subject
		if e.Address != "" {
			about += "  from " + e.Address
		}
		if e.Session != "" {
			about += "  session " + e.Session
		}
		switch {
		case e.Erased:
			about += "  (its detail was erased)"
		case e.Withheld:
			about += "  (its detail is for those who may see rows)"
		case e.Detail != "":
			about += "  " + e.Detail
		}
		p.Text(0, 4, strings.TrimSpace(about))
	}
	return p.Output(w)
}

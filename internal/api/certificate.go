package api

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/gin-gonic/gin"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/dispose"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/paper"
)

func (a *API) certificate(c *gin.Context) {
	x, err := a.service.Engine.Disposals.Certificate(c.Request.Context(), c.Param("disposal"))
	if err != nil {
		fail(c, err)
		return
	}
	switch format := c.DefaultQuery("format", "json"); format {
	case "json":
		c.IndentedJSON(http.StatusOK, x)
	case "pdf":
		c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="certificate-%s.pdf"`, x.Disposal))
		var b bytes.Buffer
		if err := writeCertificate(&b, x); err != nil {
			fail(c, err)
			return
		}
		c.Data(http.StatusOK, "application/pdf", b.Bytes())
	default:
		fail(c, &refuse.Error{Field: "format", Message: fmt.Sprintf("%q is no format of a certificate", format),
			Remedy: "write json or pdf"})
	}
}

// writeCertificate writes a certificate as PDF, A4, with a table of all segments.
func writeCertificate(w io.Writer, x *dispose.Certificate) error {
	p := paper.New()
	kind, why := "disposal", "The archived rows named below were destroyed because their time in the archive was "+
		"over. Their files were removed from every store in which they lay."
	if x.Kind == catalog.KindErasure {
		kind, why = "erasure", "Rows of the archived segments named below were destroyed on request, whatever "+
			"their time in the archive. The files that held them were removed from every store in which they lay; "+
			"rows that were not meant were written anew before."
	}
	p.SetTitle("Certificate of "+kind+" "+x.Disposal, true)
	p.SetCreator("Amber Cellar", true)
	p.SetCreationDate(x.Issued.Time)
	p.SetModificationDate(x.Issued.Time)
	p.SetMargins(18, 18, 18)
	p.SetAutoPageBreak(true, 20)
	p.AliasNbPages("")
	p.SetFooterFunc(func() {
		p.SetY(-15)
		p.Font("Helvetica", "", 8)
		p.Line(6, fmt.Sprintf("%s %s, page %d of {nb}", strings.ToUpper(kind[:1])+kind[1:], x.Disposal,
			p.PageNo()), "", "C")
	})
	p.AddPage()
	p.Font("Helvetica", "B", 18)
	p.Line(10, "Certificate of "+kind, "", "")
	p.Font("Helvetica", "", 10)
	p.Ln(2)
	p.Text(0, 5, fmt.Sprintf("%s Their manifests and closing records, which name no values, and a record of this %s "+
		"stay in the chain of table %s.%s.", why, kind, x.Source, x.Table))
	p.Ln(3)
	certifyFacts(p, x)
	p.Ln(4)
	certifyDestroyed(p, x)
	certifyWhatStays(p, x)
	return p.Output(w)
}

// certifyFacts writes of what table and by whose decision rows were destroyed, and how many.
func certifyFacts(p *paper.Paper, x *dispose.Certificate) {
	fact := func(name, value string) {
		p.Font("Helvetica", "", 9)
		p.SetTextColor(90, 90, 90)
		p.Cell(42, 6, name)
		p.SetTextColor(0, 0, 0)
		p.Font("Helvetica", "", 10)
		p.Text(0, 6, value)
	}
	at := func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }
	fact("Table", x.Source+"."+x.Table)
	if x.Rule != "" {
		fact("Rule", fmt.Sprintf("%s, revision %d: kept for %s", x.Rule, x.Revision, x.Keep))
	}
	fact("Planned", fmt.Sprintf("%s by %s", at(x.PlannedAt.Time), x.PlannedBy))
	fact("Decided", fmt.Sprintf("%s by %s", at(x.DecidedAt.Time), x.DecidedBy))
	fact("Carried out", at(x.Issued.Time)+" by the service "+x.Instance)
	if x.Note != "" {
		fact("Note", x.Note)
	}
	fact("Destroyed", fmt.Sprintf("rows: %s; files: %d, of %s bytes in each store; ages in them: %s to %s",
		humanize.Comma(x.Rows), x.Segments, humanize.Comma(x.Bytes), orDash(x.Oldest), orDash(x.Newest)))
}

// certifyDestroyed writes what was destroyed of each segment.
func certifyDestroyed(p *paper.Paper, x *dispose.Certificate) {
	for i, s := range x.Destroyed {
		if p.GetY() > 245 {
			p.AddPage()
		}
		p.Font("Helvetica", "B", 10)
		p.Line(6, fmt.Sprintf("%d.  Segment %s", i+1, s.Segment), "T", "")
		p.Font("Helvetica", "", 9)
		p.Text(0, 4.5, destroyedText(x, &s))
		p.Font("Courier", "", 7)
		for _, line := range [][2]string{{"SHA-256 of the file", s.SHA256}, {"digest of the rows", s.Digest},
			{fmt.Sprintf("record, link %d", s.Sequence), s.Record}} {
			p.Cell(36, 4, line[0])
			p.Text(0, 4, line[1])
		}
		p.Ln(1)
	}
}

// certifyWhatStays writes what may hold such rows still, and what was planned and not destroyed.
func certifyWhatStays(p *paper.Paper, x *dispose.Certificate) {
	if len(x.Remains) > 0 {
		p.Ln(3)
		p.Font("Helvetica", "B", 10)
		p.Line(6, "What may hold such rows still", "T", "")
		p.Font("Helvetica", "", 9)
		for _, line := range x.Remains {
			p.Text(0, 5, line)
		}
	}
	if len(x.Left) > 0 {
		p.Ln(3)
		p.Font("Helvetica", "B", 10)
		p.Line(6, "Planned, and not destroyed", "T", "")
		p.Font("Helvetica", "", 9)
		for _, s := range x.Left {
			p.Text(0, 5, fmt.Sprintf("Segment %s: %s", s.Segment, s.Left))
		}
	}
}

// destroyedText says of one segment what was destroyed of it, and what stays.
func destroyedText(x *dispose.Certificate, s *catalog.DisposalItem) string {
	at := func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }
	out := humanize.Comma(s.Rows) + " rows"
	if s.Kept > 0 {
		out = fmt.Sprintf("%s of its %s rows", humanize.Comma(s.Rows-s.Kept), humanize.Comma(s.Rows))
	}
	out += fmt.Sprintf(" (the segment's ages: %s to %s); archived %s", s.Oldest, s.Newest, at(s.Stored.Time))
	if x.Kind != catalog.KindErasure {
		out += fmt.Sprintf(", kept for %s, until %s", s.Keep, at(s.Due.Time))
	}
	out += fmt.Sprintf("; destroyed %s in %s", at(s.Destroyed.Time), strings.Join(s.Stores, " and "))
	if s.Successor != "" {
		out += fmt.Sprintf("; the other %s stay in segment %s", humanize.Comma(s.Kept), s.Successor)
	}
	return out
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

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
	"ambercellar/internal/core/rights"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/paper"
	"ambercellar/internal/service"
)

// report answers with all that is to be told of a run.
func (a *API) report(c *gin.Context) {
	x, err := a.service.Audit.Report(c.Request.Context(), c.Param("run"))
	if err != nil {
		fail(c, a.meant(c.Request.Context(), err))
		return
	}
	if !(request{c}).who().MayIn(rights.Rows, x.Ledger.Source) {
		withhold(x)
	}
	switch format := c.DefaultQuery("format", "json"); format {
	case "json":
		c.IndentedJSON(http.StatusOK, x)
	case "pdf":
		c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="run-%s.pdf"`, x.Ledger.Run))
		var b bytes.Buffer
		if err := writeReport(&b, x); err != nil {
			fail(c, err)
			return
		}
		c.Data(http.StatusOK, "application/pdf", b.Bytes())
	default:
		fail(c, &refuse.Error{Field: "format", Message: fmt.Sprintf("%.80q is no format of a report", format),
			Remedy: "write json or pdf"})
	}
}

// withhold takes out of a report what may name values of rows: the digests of it stay.
func withhold(x *service.RunReport) {
	x.Plan.Approved = ""
	for i := range x.Audit {
		x.Audit[i].Detail = ""
	}
}

// writeReport writes a report as PDF, A4.
func writeReport(w io.Writer, x *service.RunReport) error {
	p := paper.New()
	l := x.Ledger
	p.SetTitle("Report of run "+l.Run, true)
	p.SetCreator("Amber Cellar", true)
	p.SetCreationDate(x.Made.Time)
	p.SetModificationDate(x.Made.Time)
	p.SetMargins(18, 18, 18)
	p.SetAutoPageBreak(true, 20)
	p.AliasNbPages("")
	p.SetFooterFunc(func() {
		p.SetY(-15)
		p.Font("Helvetica", "", 8)
		p.Line(6, fmt.Sprintf("Run %s, page %d of {nb}", l.Run, p.PageNo()), "", "C")
	})
	p.AddPage()
	p.Font("Helvetica", "B", 18)
	p.Line(10, "Report of a run", "", "")
	r := &reportPaper{p}
	r.facts([][2]string{{"Table", l.Source + "." + l.Table}, {"Run", l.Run + ", " + l.State},
		{"Started", reportAt(l.Started) + " by " + x.StartedBy}, {"Ended", reportAt(l.Ended)},
		{"Rows before", l.Cutoff.UTC().Format(reportTime)}, {"Service", l.Instance},
		{"This report", x.Made.UTC().Format(reportTime) + "; `ambercellar run check` checks its JSON form"}})
	r.rule(x)
	r.plan(x)
	r.did(x)
	r.since(x)
	r.log(x)
	return p.Output(w)
}

const reportTime = "2006-01-02 15:04:05 UTC"

func reportAt(t *catalog.Time) string {
	if t == nil {
		return "-"
	}
	return t.UTC().Format(reportTime)
}

// reportPaper writes the parts of a report.
type reportPaper struct{ p *paper.Paper }

func (r *reportPaper) head(text string) {
	if r.p.GetY() > 250 {
		r.p.AddPage()
	}
	r.p.Ln(4)
	r.p.Font("Helvetica", "B", 12)
	r.p.Line(7, text, "T", "")
}

func (r *reportPaper) facts(list [][2]string) {
	for _, f := range list {
		if f[1] == "" {
			continue
		}
		r.p.Font("Helvetica", "", 9)
		r.p.SetTextColor(90, 90, 90)
		r.p.Cell(38, 5.5, f[0])
		r.p.SetTextColor(0, 0, 0)
		r.p.Font("Helvetica", "", 10)
		r.p.Text(0, 5.5, f[1])
	}
}

func (r *reportPaper) rule(x *service.RunReport) {
	r.head("By which rule")
	r.facts([][2]string{{"Rule", fmt.Sprintf("%s, revision %d", x.Rule.Name, x.Rule.Revision)},
		{"Applied", x.Rule.AppliedAt.UTC().Format(reportTime) + " by " + x.Rule.AppliedBy},
		{"Changes", strings.Join(x.Rule.Changes, "; ")}, {"Reason", x.Rule.Reason}})
	r.p.Font("Courier", "", 8)
	for _, line := range strings.Split(strings.TrimRight(x.Rule.Text, "\n"), "\n") {
		r.p.Text(0, 4, line)
	}
}

func (r *reportPaper) plan(x *service.RunReport) {
	r.head("By whose decision")
	r.facts([][2]string{{"Plan", x.Plan.ID},
		{"Made", x.Plan.MadeAt.UTC().Format(reportTime) + " by " + orDash(x.Plan.MadeBy)},
		{"Due", humanize.Comma(x.Plan.Due) + " of " + humanize.Comma(x.Plan.Total) + " rows"}, {"Note", x.Plan.Note},
		{"Beyond", strings.Join(x.Plan.Guards, "; ")}, {"Because", x.Plan.Override},
		{"Warnings", strings.Join(x.Plan.Warnings, "; ")}})
	if len(x.Approvals) == 0 {
		r.facts([][2]string{{"Approval", "nobody else had to approve it"}})
	}
	for _, a := range x.Approvals {
		r.facts([][2]string{{"Asked", a.AskedAt.UTC().Format(reportTime) + " by " + a.AskedBy + ", of " +
			fmt.Sprintf("%d others: %s (request %s)", a.Persons, a.State, a.ID)}})
		for _, v := range a.Votes {
			name, who := "Approved", v.Account
			if !v.Approves {
				name = "Refused"
			}
			if v.ForPerson != "" {
				who += ", for " + v.ForPerson
			}
			text := v.At.UTC().Format(reportTime) + " by " + who
			if v.Reason != "" {
				text += ": " + v.Reason
			}
			r.facts([][2]string{{name, text}})
		}
		r.digest("digest of what was approved", a.Digest)
	}
}

func (r *reportPaper) digest(name, value string) {
	r.p.Font("Courier", "", 7)
	r.p.Cell(50, 4, name)
	r.p.Text(0, 4, orDash(value))
}

func (r *reportPaper) did(x *service.RunReport) {
	r.head("What it did")
	books := "were not closed"
	if x.Balanced != nil {
		books = map[bool]string{true: "balance", false: "DO NOT BALANCE"}[*x.Balanced]
	}
	r.facts([][2]string{{"The books", books}})
	for _, part := range x.Ledger.Parts {
		g := part.Ledger
		r.p.Font("Helvetica", "B", 10)
		r.p.Line(6, fmt.Sprintf("%s, %s: %s", part.Table, part.Label, part.Then), "", "")
		r.p.Font("Helvetica", "", 9)
		r.p.Text(0, 4.5, fmt.Sprintf("%s rows found, %s deleted; %s changed meanwhile, %s gone meanwhile, %s held, %s "+
			"skipped", humanize.Comma(g.Copied), humanize.Comma(g.Deleted), humanize.Comma(g.Changed),
			humanize.Comma(g.Vanished), humanize.Comma(g.Held), humanize.Comma(g.Skipped)))
		r.digest("digest of what was found", g.CopiedDigest)
		r.digest("digest of what was deleted", g.DeletedDigest)
		for _, s := range part.Segments {
			r.p.Font("Helvetica", "", 9)
			r.p.Text(0, 4.5, fmt.Sprintf("Segment %s in store %s: %s rows, links %d and %d of the table's chain",
				s.Segment,
				s.Store, humanize.Comma(s.Rows), s.Sequence, s.ClosingSeq))
			r.digest("SHA-256 of its manifest", s.ManifestHash)
			r.digest("SHA-256 of its closing record", s.ClosingHash)
		}
	}
}

func (r *reportPaper) since(x *service.RunReport) {
	if len(x.Segments) == 0 {
		return
	}
	r.head("What has become of the rows")
	for _, s := range x.Segments {
		text := fmt.Sprintf("%s is %s; last read back and found whole: %s", s.Segment, s.State, reportAt(s.Verified))
		if s.Keep != nil {
			text += "; kept until " + s.Keep.UTC().Format(time.DateOnly)
		}
		if s.Damage != "" {
			text += "; DAMAGED: " + s.Damage
		}
		if s.Disposed != nil {
			text += fmt.Sprintf("; destroyed %s by disposal %s", reportAt(s.Disposed), s.Disposal)
		}
		r.p.Font("Helvetica", "", 9)
		r.p.Text(0, 4.5, text)
	}
}

func (r *reportPaper) log(x *service.RunReport) {
	r.head("What the audit log says")
	for _, e := range x.Audit {
		r.p.Font("Helvetica", "", 9)
		from := ""
		if e.Address != "" {
			from = " from " + e.Address
		}
		r.p.Text(0, 4.5, strings.TrimSpace(fmt.Sprintf("%d.  %s  %s%s: %s, %s. %s", e.ID, e.At.UTC().Format(reportTime),
			e.Actor, from, e.Action, e.Outcome, e.Detail)))
	}
	r.digest(fmt.Sprintf("the log's head, entry %d", x.Head.Entry), x.Head.Hash)
}

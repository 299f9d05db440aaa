package entryfile

import (
	"fmt"
	"io"
	"strings"
	"time"

	"ambercellar/internal/paper"
)

// MostOnPaper is how many entries a PDF holds at the most: it is made in memory.
const MostOnPaper = 5000

// PDF writes entries as PDF, A4.
func PDF(w io.Writer, list []Entry, about string) error {
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

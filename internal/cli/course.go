package cli

import (
	"fmt"
	"strings"
	"time"

	"ambercellar/client"
)

// courseLines is how many lines the moments of a run are shown in at the most.
const courseLines = 24

// runCourse shows how a run goes or went.
func runCourse(e *Env) error {
	c, err := e.Client.Course(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	rows, most := [][]string{}, 0.0
	each := max((len(c.Points)+courseLines-1)/courseLines, 1)
	if e.Format == "csv" {
		each = 1
	}
	means := []meantime{}
	for i := 0; i < len(c.Points); i += each {
		s := meanOf(c.Points[i:min(i+each, len(c.Points))])
		means, most = append(means, s), max(most, s.rate)
	}
	for _, s := range means {
		rows = append(
			rows,
			[]string{At(s.from), Count(int64(s.rate)), bar(s.rate, most), fmt.Sprintf("%.1f %%", 100*s.worked),
				fmt.Sprintf("%.1f", s.busy), countOrDash(s.others), millisOrDash(s.alone), millisOrDash(s.beside)},
		)
	}
	err = e.Show(
		c,
		[]string{"from", "rows/s", "", "at work", "others", "their rate/s", "look-up alone", "beside us"},
		rows,
	)
	if err != nil || len(c.Turns) == 0 || e.Format != "table" {
		return err
	}
	fmt.Fprintln(e.Out)
	if c.Lost > 0 {
		fmt.Fprintf(e.Out, "%s changes of speed in the middle are not kept any more.\n", Count(c.Lost))
	}
	turns := [][]string{}
	for _, t := range c.Turns {
		turns = append(turns, []string{At(t.At), t.Why})
	}
	return e.Show(c, []string{"from", "why it went as fast as it did"}, turns)
}

// meantime is what several moments come to.
type meantime struct {
	from               time.Time
	rate, worked, busy float64
	others             *float64
	alone, beside      float64
}

func meanOf(list []client.CourseMoment) (out meantime) {
	secs, rows, others := 0.0, 0.0, 0.0
	for _, m := range list {
		secs, rows = secs+m.Secs, rows+float64(m.Rows)
		out.worked, out.busy = out.worked+m.Worked*m.Secs, out.busy+m.Busy*m.Secs
		if m.Rate != nil {
			others += *m.Rate * m.Secs
			out.others = &others
		}
		out.alone, out.beside = max(out.alone, m.Alone), max(out.beside, m.Beside)
	}
	secs = max(secs, 1e-3)
	out.from, out.rate, out.worked, out.busy = list[0].At, rows/secs, out.worked/secs, out.busy/secs
	others /= secs
	return out
}

// bar draws an amount beside the most.
func bar(v, most float64) string {
	if most <= 0 {
		return ""
	}
	return strings.Repeat("█", int(v/most*20+0.5))
}

func countOrDash(v *float64) string {
	if v == nil {
		return "–"
	}
	return Count(int64(*v + 0.5))
}

func millisOrDash(v float64) string {
	if v == 0 {
		return "–"
	}
	return fmt.Sprintf("%.2f ms", v)
}

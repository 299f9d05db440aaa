package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
)

// draw draws the latency over time, one line an arm: of each second, the median of its rounds, so that one stall of a
// disk is not all that is seen.
func (r *loadReport) draw(file string) error {
	p := plot.New()
	p.Title.Text = fmt.Sprintf("%s: p99 of %.0f statements a second, second by second, %s", r.Work, r.Rate,
		rounds(len(r.Rounds[armNone])))
	p.X.Label.Text, p.Y.Label.Text = "seconds", "p99, ms (logarithmic)"
	p.Y.Scale, p.Y.Tick.Marker = plot.LogScale{}, plot.LogTicks{Prec: -1}
	p.Legend.Top, p.Legend.YOffs, p.Legend.Padding = true, vg.Points(26), vg.Points(2) // above the lines
	p.Title.Padding = vg.Points(34)
	p.Add(plotter.NewGrid())
	for _, arm := range arms {
		rounds := r.Rounds[arm]
		if armColours[arm] == nil || len(rounds) == 0 {
			continue
		}
		var points plotter.XYs
		for i := range rounds[0].Seconds {
			var seen []float64
			for _, round := range rounds {
				if i < len(round.Seconds) && round.Seconds[i].P99 > 0 {
					seen = append(seen, round.Seconds[i].P99)
				}
			}
			if len(seen) > 0 {
				points = append(points, plotter.XY{X: float64(i), Y: middle(seen)})
			}
		}
		line, err := plotter.NewLine(points)
		if err != nil {
			return err
		}
		line.Color, line.Width = armColours[arm], vg.Points(1.8)
		p.Add(line)
		p.Legend.Add(arm, line)
	}
	return p.Save(24*vg.Centimeter, 12*vg.Centimeter, file)
}

// rounds says what a line shows.
func rounds(n int) string {
	if n == 1 {
		return "one round"
	}
	return fmt.Sprintf("median of %d rounds", n)
}

// redrawn draws a load that was measured before.
func redrawn(file, out string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	r := &loadReport{}
	if err := json.Unmarshal(text, r); err != nil {
		return err
	}
	return r.draw(filepath.Join(out, r.Work+".png"))
}

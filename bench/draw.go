package main

import (
	"fmt"
	"image/color"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
)

// draw draws the latency over time, of the last round, one line an arm.
func (r *loadReport) draw(file string) error {
	p := plot.New()
	p.Title.Text = fmt.Sprintf("%s: p99 of %.0f statements a second, second by second", r.Work, r.Rate)
	p.X.Label.Text, p.Y.Label.Text = "seconds", "p99, ms (logarithmic)"
	p.Y.Scale, p.Y.Tick.Marker = plot.LogScale{}, plot.LogTicks{Prec: -1}
	p.Legend.Top = true
	p.Add(plotter.NewGrid())
	colours := map[string]color.Color{armNone: color.Gray{150}, armOurs: color.RGBA{217, 119, 6, 255}, armLoop: color.RGBA{37, 99, 235, 255}, armDelete: color.RGBA{185, 28, 28, 255}}
	for _, arm := range arms {
		rounds := r.Rounds[arm]
		if colours[arm] == nil || len(rounds) == 0 {
			continue
		}
		var points plotter.XYs
		for i, s := range rounds[len(rounds)-1].Seconds {
			if s.P99 > 0 {
				points = append(points, plotter.XY{X: float64(i), Y: s.P99})
			}
		}
		line, err := plotter.NewLine(points)
		if err != nil {
			return err
		}
		line.Color, line.Width = colours[arm], vg.Points(1.8)
		p.Add(line)
		p.Legend.Add(arm, line)
	}
	return p.Save(24*vg.Centimeter, 12*vg.Centimeter, file)
}

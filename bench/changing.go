package main

import (
	"context"
	"fmt"
	"image/color"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
)

// changing is a load that changes while a run goes on, and what is put beside it.
type changing struct {
	load load
	arms []string
}

// loadsThatChange are what can be measured of them, by name: a rush beside a run at full speed; a load that comes and
// goes; and a day in ten minutes.
var loadsThatChange = map[string]changing{
	"rush": {load{{"quiet", 15 * time.Second, 0}, {"rush", 25 * time.Second, 0.4}},
		[]string{armNone, armOurs, armAgain}},
	"waves": {slices.Repeat(load{{"load", 10 * time.Second, 0.2}, {"quiet", 10 * time.Second, 0}}, 5),
		[]string{armNone, armOurs}},
	"day": {load{{"night", 20 * time.Second, 0.02}, {"morning", 100 * time.Second, 0.15},
		{"rush", 90 * time.Second, 0.35}, {"afternoon", 210 * time.Second, 0.2}, {"rush", 90 * time.Second, 0.3},
		{"evening", 60 * time.Second, 0.1}, {"night", 30 * time.Second, 0.02}},
		[]string{armNone, armOurs, armLoop}},
}

// changingReport is what was measured of one.
type changingReport struct {
	Work     string                 `json:"work"`
	When     string                 `json:"when"`
	Settings []string               `json:"server_settings"`
	Most     float64                `json:"saturating_statements_per_second"`
	Load     load                   `json:"load"`
	Arms     []string               `json:"arms"`
	Rounds   map[string][]armResult `json:"rounds"`
}

// changes measures what a workload feels, second by second, while it changes.
func (a *asked) changes(ctx context.Context, name, engine string, rows int) error {
	w, err := startLoad(engine, rows)
	if err != nil {
		return err
	}
	defer w.close()
	x := loadsThatChange[name]
	if a.arm > 0 {
		x.load = x.load.lasting(a.arm)
	}
	fmt.Printf("\n%s-%s: %s\nfilling a table of %d rows with three indexes\n", engine, name,
		strings.Join(w.settings(), ", "), rows)
	if err := w.fill(rows); err != nil {
		return err
	}
	if err := w.begin(); err != nil {
		return err
	}
	r := &changingReport{Work: engine + "-" + name, When: time.Now().UTC().Format(time.RFC3339),
		Settings: w.settings(), Load: x.load, Arms: x.arms, Rounds: map[string][]armResult{}}
	if r.Most, err = w.saturate(ctx); err != nil {
		return err
	}
	fmt.Printf("saturated at %.0f statements a second\n", r.Most)
	for round := range a.loadRounds {
		for _, arm := range x.arms {
			if err := w.begin(); err != nil {
				return err
			}
			got, err := w.arm(ctx, arm, r.Most, x.load, a.program)
			if err != nil {
				return fmt.Errorf("%s: %w", arm, err)
			}
			fmt.Printf("round %d, %s: %d statements, %d failed, %d deadlocks, %d lock timeouts; %d rows gone; "+
				"%.1f %% stolen, %d calm seconds\n", round+1, arm, got.Statements, got.Failed, got.Deadlocks,
				got.Timeouts, got.Gone, 100*got.Stolen, got.Calm)
			r.Rounds[arm] = append(r.Rounds[arm], *got)
		}
	}
	return r.finish(a.out)
}

// span is a phase's first second, or the rest of it.
type span struct{ from, to int }

// of returns the median over the rounds of what each calm second of a span has: the median of those seconds.
func (r *changingReport) of(arm string, in span, what func(second) float64) float64 {
	var rounds []float64
	for _, x := range r.Rounds[arm] {
		var seen []float64
		for i := in.from; i < min(in.to, len(x.Seconds)); i++ {
			if x.calmAt(i) {
				seen = append(seen, what(x.Seconds[i]))
			}
		}
		if len(seen) > 0 {
			rounds = append(rounds, middle(seen))
		}
	}
	return middle(rounds)
}

// beside is the p99 of a span, and how it stands to that of all rounds without a run; a dash where no second was calm.
func (r *changingReport) beside(arm string, in span) string {
	got, none := r.of(arm, in, p99), []float64{}
	for _, arm := range []string{armNone, armAgain} {
		if v := r.of(arm, in, p99); v > 0 {
			none = append(none, v)
		}
	}
	switch {
	case got == 0:
		return "– | –"
	case len(none) == 0:
		return fmt.Sprintf("%.2f ms | –", got)
	}
	return fmt.Sprintf("%.2f ms | %.2f ×", got, got/middle(none))
}

// went is the median over the rounds of how many rows went in a second, calm or not.
func (r *changingReport) went(arm string, at int) float64 {
	var rounds []float64
	for _, x := range r.Rounds[arm] {
		if at < len(x.Seconds) {
			rounds = append(rounds, x.Seconds[at].Gone)
		}
	}
	return middle(rounds)
}

func p99(s second) float64  { return s.P99 }
func gone(s second) float64 { return s.Gone }

// finish prints a line a phase, and writes the JSON and the picture.
func (r *changingReport) finish(out string) error {
	fmt.Printf("\n| %s: phase, seconds, statements a second | arm | p99 of its first second | to no run "+
		"| p99 of a second after that, median | to no run | rows a second, median |\n"+
		"|---|---|---|---|---|---|---|\n", r.Work)
	at := 0
	for _, p := range r.Load {
		first, rest := span{at, at + 1}, span{at + 1, at + int(p.Length.Seconds())}
		at = rest.to
		for _, arm := range r.Arms {
			felt := "– | – | – | –"
			if p.Share > 0 {
				felt = r.beside(arm, first) + " | " + r.beside(arm, rest)
			}
			fmt.Printf("| %s, %.0f, %.0f | %s | %s | %.0f |\n", p.Name, p.Length.Seconds(), p.Share*r.Most, arm, felt,
				r.of(arm, rest, gone))
		}
	}
	if err := written(out, r.Work, r); err != nil {
		return err
	}
	return r.draw(filepath.Join(out, r.Work+".png"))
}

// armColours are the arms' in pictures.
var armColours = map[string]color.Color{armNone: color.Gray{150}, armOurs: color.RGBA{217, 119, 6, 255},
	armPurge: color.RGBA{22, 163, 74, 255}, armLoop: color.RGBA{37, 99, 235, 255},
	armDelete: color.RGBA{185, 28, 28, 255}}

// draw draws what the workload felt above, and what went below, second by second: the median of the rounds.
func (r *changingReport) draw(file string) error {
	felt, rate := plot.New(), plot.New()
	felt.Title.Text = fmt.Sprintf("%s, %s: what the workload felt, and how many rows went beside it", r.Work,
		rounds(len(r.Rounds[r.Arms[0]])))
	felt.Y.Label.Text, rate.Y.Label.Text = "p99 of a second, ms", "rows a second"
	rate.X.Label.Text = "seconds"
	felt.Legend.Top, felt.Legend.YOffs, felt.Legend.Padding = true, vg.Points(26), vg.Points(2)
	felt.Title.Padding = vg.Points(34)
	for _, p := range []*plot.Plot{felt, rate} {
		p.Y.Scale, p.Y.Tick.Marker = plot.LogScale{}, plot.LogTicks{Prec: -1}
		p.Add(plotter.NewGrid())
	}
	length := int(r.Load.length().Seconds())
	for _, arm := range r.Arms {
		if armColours[arm] == nil || len(r.Rounds[arm]) == 0 {
			continue
		}
		slow := func(arm string, at int) float64 { return r.of(arm, span{at, at + 1}, p99) }
		for p, what := range map[*plot.Plot]func(string, int) float64{felt: slow, rate: r.went} {
			var points plotter.XYs
			most := 0.0
			for i := range length {
				y := what(arm, i)
				most = max(most, y)
				if p == rate {
					y = max(y, 1) // the scale knows no zero: seconds without a row lie at its foot
				}
				if y > 0 {
					points = append(points, plotter.XY{X: float64(i), Y: y})
				}
			}
			if most == 0 {
				continue
			}
			line, err := plotter.NewLine(points)
			if err != nil {
				return err
			}
			line.Color, line.Width = armColours[arm], vg.Points(1.5)
			p.Add(line)
			if p == felt {
				p.Legend.Add(arm, line)
			}
		}
	}
	r.name(felt)
	felt.X.Min, felt.X.Max, rate.X.Min, rate.X.Max = 0, float64(length), 0, float64(length)
	canvas := vgimg.NewWith(vgimg.UseWH(26*vg.Centimeter, 16*vg.Centimeter), vgimg.UseDPI(96))
	both := plot.Align([][]*plot.Plot{{felt}, {rate}}, draw.Tiles{Rows: 2, Cols: 1, PadY: 3 * vg.Millimeter},
		draw.New(canvas))
	felt.Draw(both[0][0])
	rate.Draw(both[1][0])
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	if _, err = (vgimg.PngCanvas{Canvas: canvas}).WriteTo(f); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

// named is the least share of the whole time that a phase lasts which is named.
const named = 0.05

// name writes the phases along the time, where each begins; those without room for their name go without.
func (r *changingReport) name(p *plot.Plot) {
	var ticks []plot.Tick
	at := 0.0
	for _, x := range r.Load {
		tick := plot.Tick{Value: at, Label: " "} // one without any text is a minor one, without a line
		if x.Length.Seconds() >= named*r.Load.length().Seconds() {
			tick.Label = fmt.Sprintf("%s, %.0f %%", x.Name, 100*x.Share)
		}
		ticks = append(ticks, tick)
		at += x.Length.Seconds()
	}
	p.X.Tick.Marker, p.X.Tick.Label.XAlign = plot.ConstantTicks(ticks), draw.XLeft
}

package local

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"ambercellar/client"
	"ambercellar/demo"
	"ambercellar/internal/catalog"
	"ambercellar/internal/cli"
	"ambercellar/internal/service"
	"ambercellar/internal/source"
)

// storyDays is for how many days before today the demo's rules have run by themselves.
const storyDays = 21

// storySchedules are when the demo's rules run by themselves.
var storySchedules = map[string]string{"engine-readings": "daily at 02:30", "notices": "mon at 03:00"}

// failingNight is the night of the story on which a table is away.
const failingNight = 9

// story plays three weeks of nights, so that there is something to look at: the service's clock is moved from firing to
// firing, and what it does then is real. On one night a table is away, and one rule never finds a row.
func (d *demoRun) story() (err error) {
	if _, err := os.Stat(filepath.Join(d.dir, "service", "catalog.db")); err == nil {
		return nil // it was played, or somebody has begun without it
	}
	begun := time.Now()
	var offset atomic.Int64
	at := d.anchor.UTC().Truncate(24*time.Hour).AddDate(0, 0, -storyDays).Add(12 * time.Hour)
	move := func(to time.Time) { offset.Store(int64(time.Until(to))) }
	move(at)
	ctx, stop := context.WithCancel(d.Ctx)
	defer stop()
	_, wait, err := d.start(ctx, "127.0.0.1:0", slog.New(slog.NewTextHandler(io.Discard, nil)),
		func(s *service.Service) {
			s.Now = func() time.Time { return time.Now().Add(time.Duration(offset.Load())) }
			s.Engine.Plans.Skew, s.Findings.ClockMoves = 0, true // the database's clock is not moved
		})
	if err != nil {
		return err
	}
	if err = d.define(); err == nil {
		err = d.schedule()
	}
	if err == nil {
		err = d.recipients()
	}
	nights := 0
	for day := range storyDays {
		night := at.Truncate(24*time.Hour).AddDate(0, 0, day+1)
		if err != nil || !night.Add(4*time.Hour).Before(d.anchor) {
			break
		}
		err = d.night(night, day == failingNight, move)
		nights++
	}
	stop()
	if err = errors.Join(err, wait()); err != nil {
		return fmt.Errorf("the nights before today: %w", err)
	}
	d.say("   %s of firings, played on a moved clock, in %.1f s", cli.Things(int64(nights), "night"),
		time.Since(begun).Seconds())
	return nil
}

// schedule gives rules of the demo their schedules, and adds the one that matches nothing.
func (d *demoRun) schedule() error {
	for name, when := range storySchedules {
		r, err := d.client.Rule(d.Ctx, name)
		if err != nil {
			return err
		}
		if _, err := d.client.ApplyRules(d.Ctx, client.RuleFile{File: "rules.yaml",
			Text: strings.TrimRight(r.Text, "\n") + "\nschedule: " + when + "\n"}); err != nil {
			return err
		}
	}
	_, err := d.client.ApplyRules(d.Ctx, client.RuleFile{File: "nights.yaml", Text: demo.Nights})
	return err
}

// night lets the rules fire that are due in one night. away: a table has another name until the morning.
func (d *demoRun) night(night time.Time, away bool, move func(time.Time)) error {
	rename := func(from, to string) error {
		src, err := d.service.Source(d.Ctx, "harbour")
		if err != nil {
			return err
		}
		p, ok := source.As[source.Performer](src)
		if !ok {
			return errors.New("this database takes no statements")
		}
		_, err = p.Perform(d.Ctx, "ALTER TABLE "+from+" RENAME TO "+to, false)
		return err
	}
	if away {
		if err := rename("engine_reading", "engine_reading_moved"); err != nil {
			return err
		}
	}
	for _, clock := range []time.Duration{150 * time.Minute, 180 * time.Minute, 195 * time.Minute} {
		move(night.Add(clock + time.Second))
		if err := d.settled(); err != nil {
			return err
		}
	}
	if err := d.service.Findings.Look(d.Ctx); err != nil {
		return err
	}
	if away {
		return rename("engine_reading_moved", "engine_reading")
	}
	return nil
}

// settled fires what is due, and waits until all of it has ended.
func (d *demoRun) settled() error {
	for begun := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		if _, err := d.service.Schedules.Tick(d.Ctx); err != nil {
			return err
		}
		due, err := d.service.Catalog.DueFirings(d.Ctx)
		if err != nil {
			return err
		}
		due = slices.DeleteFunc(due, func(f catalog.Firing) bool { return f.NextTry != nil })
		if len(due) == 0 && len(d.service.Queue.Line()) == 0 {
			return nil
		}
		if time.Since(begun) > time.Minute {
			return fmt.Errorf("%d firings have not ended after a minute", len(due))
		}
		if err := context.Cause(d.Ctx); err != nil {
			return err
		}
	}
}

// recipients says who is told what in the demo: a keeper of what goes wrong, an office of each day, and somebody who is
// not there any more.
func (d *demoRun) recipients() error {
	for name, r := range map[string]client.NewRecipient{
		"keeper": {Address: "keeper@harbour.example", Severity: "warning",
			Events: []client.EventKind{"run-failed", "firing-failed", "restore-ready", "finding-opened"}},
		"office": {Address: "office@harbour.example", Digest: "07:30"},
		"purser": {Address: "purser@harbour.example", Events: []client.EventKind{"restore-ready", "finding-opened"},
			Quiet: []string{"22:00-06:00"}},
	} {
		if _, err := d.client.SetRecipient(d.Ctx, name, r); err != nil {
			return err
		}
	}
	return nil
}

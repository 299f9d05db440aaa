package service

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/notify"
	"ambercellar/internal/engine/refuse"
)

// Findings are what somebody should look at. Each kind is looked for again and again: what is new opens, what is gone
// closes.
type Findings struct {
	*base
	lineages *Lineages
	places   *Places
	declared *Declarations
	audit    *Audit
	clock    clockWatch
	// files of certificates that the service itself shows; they are looked at as those of sources are
	Certificates []string
	ClockMoves   bool // on purpose: that it is set is no finding
}

// clockWatch compares the service's clock with time that passes.
type clockWatch struct {
	wall    time.Time
	passed  time.Time // with a monotonic reading
	jumped  time.Duration
	noticed time.Time
}

const (
	// quietFirings is after how many firings in a row without a due row a rule is looked at.
	quietFirings = 3
	// unverifiedFor is after how long without a verification a segment is looked at.
	unverifiedFor = 60 * 24 * time.Hour
	// clockJump is by how much the clock may be set before somebody is told.
	clockJump = 5 * time.Minute
)

// lookedFor is a kind of findings, and what looks for its causes.
type lookedFor struct {
	kind string
	look func(context.Context) ([]catalog.Cause, error)
}

func (s *Findings) all() []lookedFor {
	return []lookedFor{
		{"unscheduled", s.unscheduled}, {"nothing due", s.nothingDue}, {"firing failed", s.firingsFailed},
		{"over limit", s.overLimit}, {"run stopped", s.runsStopped}, {"damaged", s.damaged}, {"disagree", s.disagree},
		{"unverified", s.unverified},
		{"frozen", s.frozen}, {"clock", s.clockSet}, {"requirement", s.requirementUnmet},
		{"step failed", s.stepsFailed},
		{"off schedule", s.offSchedule}, {"uncovered", s.uncovered}, {"unexpected", s.unexpected},
		{"held elsewhere", s.heldElsewhere}, {"store full", s.storesFull}, {"growing", s.growing},
		{"certificate", s.certificates}, {"undelivered", s.undelivered}, {notify.WaitsLongFinding, s.waitsLong},
		{"declared", s.declarations}, {"audit log", s.auditKept}, {"falls behind", s.fallsBehind},
	}
}

// Kinds lists the kinds of findings that there are.
func (s *Findings) Kinds() []string {
	var out []string
	for _, x := range s.all() {
		out = append(out, x.kind)
	}
	return out
}

// Look brings all findings up to date.
func (s *Findings) Look(ctx context.Context) error {
	var causes []catalog.Cause
	for _, x := range s.all() {
		found, err := x.look(ctx)
		if err != nil {
			return fmt.Errorf("looking for %q: %w", x.kind, err)
		}
		for i := range found {
			found[i].Kind = x.kind
		}
		causes = append(causes, found...)
	}
	opened, closed, err := s.Catalog.Find(ctx, s.Kinds(), causes)
	if opened+closed > 0 {
		s.Log.Info("findings", "opened", opened, "closed", closed)
	}
	return err
}

// Acknowledge says that somebody knows of a finding, for a reason.
func (s *Findings) Acknowledge(ctx context.Context, actor, id, reason string, until *catalog.Time) (*catalog.Finding,
	error) {
	if reason = strings.TrimSpace(reason); reason == "" {
		return nil, &refuse.Error{Field: "reason", Message: "it is not said why the finding may stay",
			Remedy: "give a reason (-reason)"}
	}
	if until != nil && !until.After(s.Now()) {
		return nil, &refuse.Error{Field: "until", Message: until.Format(time.RFC3339) + " has passed",
			Remedy: "give a time to come"}
	}
	return s.Catalog.Acknowledge(ctx, actor, id, reason, until)
}

// unscheduled finds rules that are enabled, that somebody gave no schedule, and that have not run for a month.
func (s *Findings) unscheduled(ctx context.Context) (out []catalog.Cause, err error) {
	rules, err := s.Catalog.Unscheduled(ctx, s.Now().AddDate(0, -1, 0))
	for _, r := range rules {
		evidence := "it has not run"
		if r.LastRun != nil {
			evidence = "its last run began on " + r.LastRun.Format(time.DateOnly)
		}
		out = append(out, catalog.Cause{Subject: r.Name, Severity: catalog.Notice, Evidence: evidence,
			Message: fmt.Sprintf("rule %s has no schedule and has not run for a month", r.Name),
			Remedy:  "give it a schedule (`schedule: daily at 02:30`), or run it by hand", Address: "#/rules/" +
				r.Name})
	}
	return out, err
}

// nothingDue finds rules whose last firings found no row.
func (s *Findings) nothingDue(ctx context.Context) (out []catalog.Cause, err error) {
	found, err := s.Catalog.QuietRules(ctx, quietFirings)
	for _, name := range found {
		out = append(out, catalog.Cause{Subject: name, Severity: catalog.Warning,
			Message:  fmt.Sprintf("rule %s is on, and its last %d firings found no row due", name, quietFirings),
			Evidence: "`ambercellar firing list -rule " + name + "`",
			Remedy:   "compare its where and keep with the table (`ambercellar plan make " + name + " -exact`)",
			Address:  "#/rules/" + name})
	}
	return out, err
}

// latest lists the newest firing of each rule that is in a state.
func (s *Findings) latest(ctx context.Context, state catalog.FiringState, make func(*catalog.Firing) catalog.Cause) (
	out []catalog.Cause, err error) {
	list, err := s.Catalog.LatestFirings(ctx, state)
	for i := range list {
		x := make(&list[i])
		x.Subject, x.Address = list[i].Rule, "#/rules/"+list[i].Rule
		out = append(out, x)
	}
	return out, err
}

// firingsFailed finds rules whose newest firing failed.
func (s *Findings) firingsFailed(ctx context.Context) ([]catalog.Cause, error) {
	return s.latest(ctx, catalog.FiringFailed, func(f *catalog.Firing) catalog.Cause {
		severity, again := catalog.Warning, ""
		before, err := s.Catalog.Firings(ctx, catalog.FiringFilter{Rule: f.Rule}, catalog.First(2))
		if err == nil && len(before) == 2 && before[1].State == catalog.FiringFailed {
			severity, again = catalog.Urgent, ", as the time before"
		}
		return catalog.Cause{Severity: severity, Evidence: f.Reason,
			Message: fmt.Sprintf("rule %s fired at %s, and its run could not be started%s", f.Rule,
				f.At.Format(time.RFC3339), again),
			Remedy: "mend what the reason names; the next firing tries again, or `ambercellar plan make " + f.Rule +
				"`"}
	})
}

// overLimit finds firings that ask.
func (s *Findings) overLimit(ctx context.Context) ([]catalog.Cause, error) {
	return s.latest(ctx, catalog.FiringAsking, func(f *catalog.Firing) catalog.Cause {
		if strings.Contains(f.Reason, "to approve it first") {
			return catalog.Cause{Severity: catalog.Warning, Evidence: f.Reason,
				Message: fmt.Sprintf("the run of rule %s waits for an approval", f.Rule),
				Remedy:  "have somebody decide who may: Approvals in the console, or `ambercellar approval list`"}
		}
		return catalog.Cause{Severity: catalog.Warning, Evidence: f.Reason,
			Message: fmt.Sprintf("rule %s would take more than its limit allows, and asks", f.Rule),
			Remedy: "look at plan " + f.Plan + ", then start it (`ambercellar run start " + f.Plan +
				"`) within a day, or change the rule"}
	})
}

// runsStopped finds runs that failed, or that somebody paused and left for a week.
func (s *Findings) runsStopped(ctx context.Context) (out []catalog.Cause, err error) {
	runs, err := s.Catalog.RunsIn(ctx, catalog.Failed, catalog.Paused)
	for _, r := range runs {
		x := catalog.Cause{Subject: r.ID, Severity: catalog.Warning, Evidence: r.Reason, Address: "#/runs/" + r.ID,
			Message: fmt.Sprintf("run %s of rule %s failed", r.ID, r.Rule),
			Remedy:  "mend what the reason names, then `ambercellar run resume " + r.ID + "`, or cancel it"}
		if r.State == catalog.Paused {
			if s.Now().Sub(r.CreatedAt.Time) < 7*24*time.Hour {
				continue
			}
			x.Severity, x.Message = catalog.Notice,
				fmt.Sprintf("run %s of rule %s is paused, and its table has no other", r.ID,
					r.Rule)
		}
		out = append(out, x)
	}
	return out, err
}

// damaged finds segments that a verification found damaged.
func (s *Findings) damaged(ctx context.Context) (out []catalog.Cause, err error) {
	segments, err := s.Catalog.Damaged(ctx)
	for _, x := range segments {
		out = append(out, catalog.Cause{Subject: x.ID, Severity: catalog.Urgent, Address: "#/archive/" + x.ID,
			Message:  fmt.Sprintf("segment %s of %s.%s in store %s is damaged", x.ID, x.Source, x.Table, x.Store),
			Evidence: "`ambercellar segment show " + x.ID + "`",
			Remedy:   "repair it from its second copy (`ambercellar segment verify -repair`), or put its file back"})
	}
	return out, err
}

// unverified finds stores with segments that nobody verified for long.
func (s *Findings) unverified(ctx context.Context) (out []catalog.Cause, err error) {
	stores, err := s.Catalog.Stores(ctx)
	if err != nil {
		return nil, err
	}
	since := s.Now().Add(-unverifiedFor)
	for _, st := range stores {
		some, err := s.Catalog.Unverified(ctx, st.Name, since, s.Now())
		if err != nil {
			return nil, err
		}
		if some {
			out = append(out, catalog.Cause{Subject: st.Name, Severity: catalog.Warning, Address: "#/archive",
				Message: fmt.Sprintf("store %s has segments that were last verified before %s", st.Name,
					since.Format(time.DateOnly)),
				Evidence: "`ambercellar segment list` says when each was verified",
				Remedy: "verify them (`ambercellar segment verify -in " + st.Name +
					"`), and have the store scrubbed " +
					"(`ambercellar store set " + st.Name + " -h`)"})
		}
	}
	return out, nil
}

// disagree finds tables of which source, stores and catalog tell different stories.
func (s *Findings) disagree(context.Context) (out []catalog.Cause, err error) {
	for _, d := range s.lineages.Disagreements() {
		out = append(out, catalog.Cause{Subject: d.Source + "." + d.Table, Severity: catalog.Urgent,
			Evidence: d.Difference,
			Message: fmt.Sprintf("source, stores and catalog disagree about %s.%s; nothing is moved there", d.Source,
				d.Table),
			Remedy:  fmt.Sprintf("`ambercellar table reconcile %s %s` shows it and settles it", d.Source, d.Table),
			Address: "#/tables/" + d.Source + "/" + url.PathEscape(d.Table)})
	}
	return out, nil
}

// frozen finds freezes that have stood for a day and have no end.
func (s *Findings) frozen(ctx context.Context) (out []catalog.Cause, err error) {
	stands, err := s.Catalog.Freezes(ctx, false)
	for _, f := range stands {
		if f.Until == nil && s.Now().Sub(f.PlacedAt.Time) > 24*time.Hour {
			out = append(out, catalog.Cause{Subject: f.ID, Severity: catalog.Warning, Evidence: f.Reason,
				Message: fmt.Sprintf("%s has been frozen since %s", f.Where(), f.PlacedAt.Format(time.DateOnly)),
				Remedy:  "`ambercellar service unfreeze " + f.ID + "` lifts it", Address: "#/"})
		}
	}
	return out, err
}

// clockSet finds that the clock was set while the service ran. That is told for a day.
func (s *Findings) clockSet(context.Context) (out []catalog.Cause, err error) {
	c := &s.clock
	wall, passed := s.Now().Round(0), time.Now() // the one as the clock shows it, the other as time passes
	if !c.wall.IsZero() {
		if off := wall.Sub(c.wall) - passed.Sub(c.passed); off.Abs() > clockJump && !s.ClockMoves {
			c.jumped, c.noticed = off, wall
		}
	}
	c.wall, c.passed = wall, passed
	if c.jumped != 0 && wall.Sub(c.noticed) < 24*time.Hour && !wall.Before(c.noticed) {
		out = append(out, catalog.Cause{Subject: "clock", Severity: catalog.Urgent, Address: "#/",
			Message:  fmt.Sprintf("the service's clock was set by %s", c.jumped.Round(time.Second)),
			Evidence: "noticed at " + c.noticed.Format(time.RFC3339),
			Remedy: "cutoffs follow the clock: compare it with the databases' (`ambercellar source check`) and " +
				"mend it"})
	}
	return out, nil
}

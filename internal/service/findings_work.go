package service

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
)

const (
	// unmetFor is after how long that a requirement does not hold somebody is told.
	unmetFor = time.Hour
	// offFor is after how long off its schedule a rule is looked at.
	offFor = 30 * 24 * time.Hour
	// A run is looked at that takes so many times as long as its plan expected, or writes so many times as much, from
	// these on.
	beyond       = 3
	leastSeconds = 600
	leastBytes   = 256 << 20
	// leftOut is the share of its due rows that a run may leave, and leastLeft how many it may at any rate.
	leftOut, leastLeft = 0.1, 1000
	// undeliveredFor is after how long somebody is looked at who cannot be told; what failed for good is shown for
	// a day.
	undeliveredFor, undeliveredShown = time.Hour, 24 * time.Hour
	// turnFor is after how long a run is looked at that waits for its turn, decisionFor what waits for a decision.
	turnFor, decisionFor = 4 * time.Hour, 24 * time.Hour
)

// requirementUnmet finds runs that have rested for long because what their rules require does not hold.
func (s *Findings) requirementUnmet(ctx context.Context) (out []catalog.Cause, err error) {
	runs, err := s.Catalog.RunsIn(ctx, catalog.Resting)
	for _, r := range runs {
		if r.UnmetSince == nil || s.Now().Sub(r.UnmetSince.Time) < unmetFor {
			continue
		}
		out = append(out, catalog.Cause{Subject: r.ID, Severity: catalog.Warning, Evidence: r.Reason,
			Message: fmt.Sprintf("run %s of rule %s has waited since %s for what its rule requires", r.ID, r.Rule,
				r.UnmetSince.Format(time.RFC3339)),
			Remedy: "see to what the reason names (`ambercellar rule requirements " + r.Rule +
				"`); the run goes on by " +
				"itself, or cancel it", Address: "#/runs/" + r.ID})
	}
	return out, err
}

// stepsFailed finds rules of which a step after the newest run failed.
func (s *Findings) stepsFailed(ctx context.Context) (out []catalog.Cause, err error) {
	steps, err := s.Catalog.FailedSteps(ctx, s.Now().AddDate(0, -1, 0))
	for _, x := range steps {
		out = append(out, catalog.Cause{Subject: x.Rule, Severity: catalog.Warning, Evidence: x.Output,
			Message: fmt.Sprintf("step %d after run %s of rule %s failed: %s", x.Number+1, x.Run, x.Rule, x.What),
			Remedy:  "do by hand what it is for, and mend it; a later run that does it closes this",
			Address: "#/runs/" + x.Run})
	}
	return out, err
}

// offSchedule finds rules that have been off their schedules for long without an end.
func (s *Findings) offSchedule(ctx context.Context) (out []catalog.Cause, err error) {
	list, err := s.Catalog.OffSchedules(ctx, "")
	for _, o := range list {
		if o.Until == nil && s.Now().Sub(o.PlacedAt.Time) > offFor {
			out = append(out, catalog.Cause{Subject: o.Rule, Severity: catalog.Notice, Evidence: o.Reason,
				Message: fmt.Sprintf("rule %s has been off its schedule since %s", o.Rule,
					o.PlacedAt.Format(time.DateOnly)),
				Remedy: "`ambercellar schedule on " + o.Rule + "` lets it fire again", Address: "#/rules/" + o.Rule})
		}
	}
	return out, err
}

// uncovered finds scheduled rules whose newest plan counted rows that no clause is for.
func (s *Findings) uncovered(ctx context.Context) (out []catalog.Cause, err error) {
	list, err := s.Catalog.UncoveredRows(ctx)
	for _, x := range list {
		out = append(out, catalog.Cause{Subject: x.Rule, Severity: catalog.Notice, Address: "#/rules/" + x.Rule,
			Message:  fmt.Sprintf("rule %s leaves rows that none of its clauses is for", x.Rule),
			Evidence: fmt.Sprintf("its newest plan counted %d of them", x.Rows),
			Remedy: "add a clause for them (`otherwise: true`), if only to keep them forever, or acknowledge that " +
				"they " +
				"stay"})
	}
	return out, err
}

// unexpected finds runs that take much longer, write much more, or leave many more rows than their plans expected.
func (s *Findings) unexpected(ctx context.Context) (out []catalog.Cause, err error) {
	runs, err := s.Catalog.RunsExpected(ctx, s.Now().AddDate(0, 0, -7))
	for i := range runs {
		r := &runs[i]
		why := ""
		took := float64(r.Working) / 1e6
		switch {
		case r.Seconds != nil && took > leastSeconds && took > beyond**r.Seconds:
			why = fmt.Sprintf("it has worked for more than %d times the %s that its plan expected", beyond,
				(time.Duration(*r.Seconds) * time.Second).String())
		case r.ExpectLog != nil && r.LogBytes != nil && *r.LogBytes > leastBytes && *r.LogBytes > beyond**r.ExpectLog:
			why = fmt.Sprintf("the database's log has grown by more than %d times the %s that its plan expected",
				beyond,
				pace.Bytes.Spoken(float64(*r.ExpectLog)))
		case r.ExpectArchive != nil && r.FileBytes > leastBytes && r.FileBytes > beyond**r.ExpectArchive:
			why = fmt.Sprintf("it has written more than %d times the %s that its plan expected", beyond,
				pace.Bytes.Spoken(float64(*r.ExpectArchive)))
		case r.State == catalog.Done && r.Left > leastLeft && float64(r.Left) > leftOut*float64(r.Due):
			why = fmt.Sprintf("it left %d of %d due rows: others had changed or locked them, or they were held",
				r.Left,
				r.Due)
		default:
			continue
		}
		out = append(out, catalog.Cause{Subject: r.ID, Severity: catalog.Notice, Evidence: why, Address: "#/runs/" +
			r.ID,
			Message: fmt.Sprintf("run %s of rule %s is not what its plan expected", r.ID, r.Rule),
			Remedy:  "its page shows plan and actual; the next plan expects what this run took"})
	}
	return out, err
}

// heldElsewhere finds tables on which another service works.
func (s *Findings) heldElsewhere(context.Context) (out []catalog.Cause, err error) {
	for at, who := range s.lineages.Held() {
		out = append(out, catalog.Cause{Subject: at[0] + "." + at[1], Severity: catalog.Urgent, Evidence: who,
			Message: fmt.Sprintf("another service holds table %s of source %s", at[1], at[0]),
			Remedy: "let one service alone work on a table: stop the rule there or here; if the other is gone for " +
				"good, " +
				"`ambercellar table reconcile` says what to do",
			Address: "#/tables/" + at[0] + "/" + url.PathEscape(at[1])})
	}
	return out, nil
}

// undelivered finds recipients that cannot be told.
func (s *Findings) undelivered(ctx context.Context) (out []catalog.Cause, err error) {
	list, err := s.Catalog.Undeliverable(ctx, s.Now().Add(-undeliveredFor), s.Now().Add(-undeliveredShown))
	for _, u := range list {
		name := "recipient " + u.Recipient
		if u.Recipient == "" {
			name = u.Address
		}
		out = append(out, catalog.Cause{Subject: name, Severity: catalog.Warning, Evidence: u.Error,
			Message: fmt.Sprintf("%s could not be told of something since %s", name, u.Since.Format(time.RFC3339)),
			Remedy: "see to what the error names; `ambercellar delivery list -state failed` lists what is not tried " +
				"any more, `ambercellar delivery resend` sends it again", Address: "#/notifications"})
	}
	return out, err
}

// waitsLong finds what waits for its turn, or for somebody's decision, for longer than usual.
func (s *Findings) waitsLong(ctx context.Context) (out []catalog.Cause, err error) {
	list, err := s.Catalog.LongWaits(ctx, s.Now().Add(-turnFor), s.Now().Add(-decisionFor))
	for _, w := range list {
		x := catalog.Cause{Subject: w.Kind + " " + w.ID, Severity: catalog.Notice, Address: "#/queue",
			Message: fmt.Sprintf(
				"%s %s of %s.%s has waited since %s",
				w.Kind,
				w.ID,
				w.Source,
				w.Table,
				w.Since.Format(time.RFC3339),
			),
			Evidence: "it waits for its turn",
			Remedy:   "`ambercellar queue list` says what works; change limits or priorities"}
		if w.Kind != "run" {
			x.Evidence = "it waits for a decision"
		}
		switch w.Kind {
		case "run":
			x.Address = "#/runs/" + w.ID
		case "firing":
			x.Address, x.Remedy = "#/rules/"+w.Rule, "look at its plan, and start its run or not"
		case "restore":
			x.Address, x.Remedy = "#/restores", "`ambercellar restore approve "+w.ID+"`, or refuse it"
		case "disposal":
			x.Address = "#/disposals"
			x.Remedy = "`ambercellar disposal show " + w.ID + "` says what it would destroy; decide it"
		}
		out = append(out, x)
	}
	return out, err
}

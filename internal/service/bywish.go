package service

import (
	"context"
	"fmt"
	"regexp"
	"strings"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
)

// reasoned is a reason that somebody gave, without spaces around; an error where there is none.
func reasoned(reason, what string) (string, error) {
	if reason = strings.TrimSpace(reason); reason == "" {
		return "", &refuse.Error{Field: "reason", Message: "it is not said why " + what,
			Remedy: "give a reason (-reason); it is kept"}
	}
	return reason, nil
}

// Ask fires rules now, whatever their schedules say: one, those of a source, or all that are enabled. Each makes a plan
// and starts its run, within its limit, as a scheduled firing does.
func (s *Schedules) Ask(ctx context.Context, actor, name, source, reason string) ([]catalog.Firing, error) {
	reason, err := reasoned(reason, "rules are to run now")
	if err != nil {
		return nil, err
	}
	var rules []catalog.Rule
	if name != "" {
		r, err := s.Catalog.Rule(ctx, name)
		if err != nil {
			return nil, err
		}
		if r.Body.V.Off {
			return nil, &refuse.Error{Field: "rule", Message: "rule " + name + " is not enabled",
				Remedy: "enable it first (`ambercellar rule enable " + name + "`)"}
		}
		rules = append(rules, *r)
	} else if rules, err = s.Catalog.Rules(ctx); err != nil {
		return nil, err
	}
	if source != "" {
		if _, err := s.Catalog.Source(ctx, source); err != nil {
			return nil, err
		}
	}
	firings := []catalog.Firing{}
	for _, r := range rules {
		if !r.Body.V.Off && (source == "" || r.Source == source) {
			firings = append(firings, catalog.Firing{Rule: r.Name, Source: r.Source, Table: r.Table})
		}
	}
	if len(firings) == 0 {
		return nil, &refuse.Error{Field: "rule", Message: "no rule is enabled there",
			Remedy: "`ambercellar rule list` shows the rules"}
	}
	return firings, s.Catalog.FireAsked(ctx, actor, reason, firings)
}

// Off keeps a rule from firing for a while.
func (s *Schedules) Off(ctx context.Context, actor string, o catalog.OffSchedule) (*catalog.OffSchedule, error) {
	var err error
	if o.Reason, err = reasoned(o.Reason, "the rule is not to fire"); err != nil {
		return nil, err
	}
	r, err := s.Catalog.Rule(ctx, o.Rule)
	switch {
	case err != nil:
		return nil, err
	case r.Body.V.Schedule == nil:
		return nil, &refuse.Error{Field: "rule", Message: "rule " + o.Rule + " has no schedule",
			Remedy: "it runs by hand only"}
	case o.Until != nil && o.UntilDone:
		return nil, &refuse.Error{Field: "until", Message: "it ends either at a time or when a run is done",
			Remedy: "give one of the two"}
	case o.Until != nil && !o.Until.After(s.Now()):
		return nil, &refuse.Error{Field: "until", Message: o.Until.Format(time.RFC3339) + " has passed",
			Remedy: "give a time to come"}
	}
	if o.UntilDone {
		runs, err := s.Catalog.UnendedOf(ctx, r.Source, r.Table)
		if err != nil {
			return nil, err
		}
		if len(runs) == 0 {
			return nil, &refuse.Error{Field: "until_done", Message: "rule " + o.Rule + " has no run that has not ended",
				Remedy: "start one first (`ambercellar run start -rule " + o.Rule + "`)"}
		}
	}
	return s.Catalog.TakeOffSchedule(ctx, actor, o)
}

// On lets a rule fire again.
func (s *Schedules) On(ctx context.Context, actor, rule, reason string) error {
	reason, err := reasoned(reason, "the rule is to fire again")
	if err != nil {
		return err
	}
	return s.Catalog.PutOnSchedule(ctx, actor, rule, reason)
}

// offSchedule returns what keeps a rule from firing at a moment; nil: nothing does. What is over ends with that.
func (s *Schedules) offSchedule(ctx context.Context, name string, at time.Time) (*catalog.OffSchedule, error) {
	list, err := s.Catalog.OffSchedules(ctx, name)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	if !stands(&list[0], at) {
		return nil, s.Catalog.PutOnSchedule(ctx, "service", name, "its time is over")
	}
	return &list[0], nil
}

// stands says whether a rule is off its schedule at a moment.
func stands(o *catalog.OffSchedule, at time.Time) bool {
	return o != nil && (o.Until == nil || at.Before(o.Until.Time))
}

var enabledLine = regexp.MustCompile(`(?m)^enabled:.*\r?\n?`)

// SetEnabled enables a rule, or keeps it from running, as a revision of its own.
func (s *Schedules) SetEnabled(ctx context.Context, actor, name string, enabled bool, reason string) ([]plan.Applied,
	error) {
	reason, err := reasoned(reason, "the rule is to be enabled, or not to be")
	if err != nil {
		return nil, err
	}
	r, err := s.Catalog.Rule(ctx, name)
	if err != nil {
		return nil, err
	}
	if r.Body.V.Off == !enabled {
		return nil, fmt.Errorf("rule %s is that already: %w", name, catalog.ErrState)
	}
	text := enabledLine.ReplaceAllString(r.Text, "")
	if !enabled {
		text = strings.TrimRight(text, "\n") + "\nenabled: false\n"
	}
	docs, problems := rule.Parse("", []byte(text))
	if len(docs) != 1 || len(problems) > 0 || docs[0].Rule.Off == enabled { // it is written in another way
		body := r.Body.V
		body.Off = !enabled
		text = rule.Write(&body)
	}
	applied, problems, err := s.Engine.Plans.ApplyRules(ctx, actor, "", []byte(text), reason)
	if err == nil && len(applied) == 0 && len(problems) > 0 {
		err = &refuse.Problems{Problems: problems}
	}
	return applied, err
}

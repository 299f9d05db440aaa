package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/run"
)

// Hook is what a webhook of a rule is sent, as JSON.
type Hook struct {
	Phase  catalog.Phase `json:"phase"` // before or after
	Run    string        `json:"run"`
	Rule   string        `json:"rule"`
	Source string        `json:"source"`
	Table  string        `json:"table"`
	Result string        `json:"result,omitempty"` // after: done, stopped or failed
	Counts HookCounts    `json:"counts"`
}

// HookCounts is how far the run is.
type HookCounts struct {
	Due     int64 `json:"due"`
	Copied  int64 `json:"copied"`
	Deleted int64 `json:"deleted"`
}

const (
	// stepTries is how often a step after a run is tried, with a pause between that doubles.
	stepTries         = 3
	firstPauseOfSteps = time.Second
	// closingBudget is how long the steps after a run may take when the service ends; what is left of them follows
	// after the next start.
	closingBudget = 20 * time.Second
)

// around is asked before a run works. It looks whether what the rule requires holds, and carries out the steps before;
// those after follow when the run stops, whatever the reason.
func (s *Conditions) around(ctx context.Context, r *catalog.Run, body *rule.Rule, cancelled bool) (run.Leave, error) {
	nothing := func(err error) error { return err }
	leave := func(err error) error {
		s.leave(ctx, r, body, err)
		return err
	}
	if cancelled { // it works no more; what an earlier start left open is closed
		if r.Entered {
			return leave, nil
		}
		return nothing, nil
	}
	if err := s.met(ctx, r, body); err != nil {
		if r.Entered { // since before the service stopped
			return leave, err
		}
		return nothing, err
	}
	r.UnmetSince = nil
	if len(body.Before)+len(body.After) == 0 {
		return nothing, nil
	}
	if err := s.Catalog.Enter(ctx, r.ID, true); err != nil {
		return nothing, err
	}
	r.Entered = true
	for i, step := range body.Before {
		if err := s.step(ctx, r, catalog.BeforeRun, i, step, "", 1); err != nil {
			if cause := context.Cause(ctx); cause != nil {
				return leave, cause
			}
			return leave, fmt.Errorf("step %d before the run (%s): %w", i+1, step, err)
		}
	}
	return leave, nil
}

// leave carries out the steps after a run has stopped working.
func (s *Conditions) leave(ctx context.Context, r *catalog.Run, body *rule.Rule, err error) {
	var frozen *refuse.Frozen
	if errors.As(err, &frozen) || s.freezes.over(r.Source, r.Table) != nil {
		s.Log.Info("the steps after a run follow when the freeze is lifted", "run", r.ID)
		return
	}
	ctx = context.WithoutCancel(ctx)
	if s.ctx.Err() != nil {
		short, cancel := context.WithTimeout(ctx, closingBudget)
		defer cancel()
		ctx = short
	}
	result := "stopped"
	switch {
	case err == nil || errors.Is(err, refuse.ErrCopied):
		result = "done"
	case stopsByItself(err):
	default:
		result = "failed"
	}
	for i, step := range body.After {
		if err := s.step(ctx, r, catalog.AfterRun, i, step, result, stepTries); err != nil {
			s.Log.Error("a step after a run failed", "run", r.ID, "step", step.String(), "error", err)
		}
		if ctx.Err() != nil {
			return
		}
	}
	if err := s.Catalog.Enter(ctx, r.ID, false); err != nil {
		s.Log.Error("it cannot be kept that the steps after a run are done", "run", r.ID, "error", err)
		return
	}
	r.Entered = false
}

// stopsByItself says whether a run stopped for a reason that is no fault.
func stopsByItself(err error) bool {
	var resting *refuse.Resting
	var unmet *refuse.Unmet
	var stopped *refuse.Stopped
	return errors.As(err, &resting) || errors.As(err, &unmet) || errors.As(err, &stopped) ||
		errors.Is(err, refuse.ErrPause) || errors.Is(err, refuse.ErrCancel) || errors.Is(err, refuse.ErrShutdown)
}

// step carries out one step, and keeps what became of it.
func (s *Conditions) step(ctx context.Context, r *catalog.Run, phase catalog.Phase, number int, step rule.Step,
	result string, tries int) error {
	kept := &catalog.Step{Run: r.ID, Rule: r.Rule, Phase: phase, Number: number, What: step.String()}
	if err := s.Catalog.BeginStep(ctx, kept); err != nil {
		return err
	}
	var err error
	for pause := firstPauseOfSteps; ; pause *= 2 {
		kept.Output, err = s.once(ctx, r, phase, step, result)
		if err == nil || kept.Tries == tries || ctx.Err() != nil {
			break
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
			kept.Tries++
		}
	}
	kept.Outcome = catalog.StepDone
	if err != nil {
		kept.Outcome, kept.Output = catalog.StepFailed, err.Error()
	}
	s.Log.Info("a step "+string(phase)+" a run", "run", r.ID, "step", kept.What, "outcome", kept.Outcome, "tries",
		kept.Tries)
	return errors.Join(err, s.Catalog.EndStep(context.WithoutCancel(ctx), kept))
}

// once carries out a step once, within its time.
func (s *Conditions) once(ctx context.Context, r *catalog.Run, phase catalog.Phase, step rule.Step, result string) (
	output string, err error) {
	return inTime(ctx, step.Limit(), func(ctx context.Context) (string, error) {
		if step.SQL != "" {
			a, err := s.perform(ctx, r.Source, step.SQL, false)
			if err != nil {
				return "", err
			}
			return a.String(), nil
		}
		body, err := json.Marshal(Hook{phase, r.ID, r.Rule, r.Source, r.Table, result,
			HookCounts{r.Due, r.Copied, r.Deleted}})
		if err != nil {
			return "", err
		}
		return s.call(ctx, http.MethodPost, step.Webhook, bytes.NewReader(body))
	})
}

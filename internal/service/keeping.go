package service

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/keeping"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
)

const (
	// inflowEvery is how often it is counted how many rows become due by a rule, inflowAgain how long after that failed
	// it is tried again.
	inflowEvery, inflowAgain = 24 * time.Hour, 6 * time.Hour
	// keepingDays is how far back the runs of a rule are looked at.
	keepingDays = 30
)

// KeepingUp is how a rule keeps up with its table, and what that is told from.
type KeepingUp struct {
	keeping.Verdict
	Due       int64         `json:"due"`               // rows that are due now, about
	Inflow    float64       `json:"inflow"`            // rows that become due a day; less than 0: not known
	Taken     float64       `json:"taken"`             // rows a day that its runs took lately
	CountedAt *catalog.Time `json:"counted_at"`        // when it was counted how many become due; null: not yet
	Problem   string        `json:"problem,omitempty"` // what kept that from being counted
}

// Keeping says how a rule keeps up. It asks no database: what becomes due was counted within the last day.
func (s *Findings) Keeping(ctx context.Context, name string) (*KeepingUp, error) {
	r, err := s.Catalog.Rule(ctx, name)
	if err != nil {
		return nil, err
	}
	inflows, err := s.Catalog.Inflows(ctx)
	if err != nil {
		return nil, err
	}
	for i := range inflows {
		if inflows[i].Rule == name {
			return s.keepingOf(ctx, r, &inflows[i])
		}
	}
	return s.keepingOf(ctx, r, nil)
}

func (s *Findings) keepingOf(ctx context.Context, r *catalog.Rule, in *catalog.Inflow) (*KeepingUp, error) {
	now := s.Now()
	first, err := s.Catalog.FirstApplied(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	from := now.AddDate(0, 0, -keepingDays)
	if first.After(from) {
		from = first.Time
	}
	taking, err := s.Catalog.TakenSince(ctx, r.Name, from)
	if err != nil {
		return nil, err
	}
	body := r.Body.V
	f := keeping.Facts{Inflow: -1, Taken: taking.Rows, Runs: taking.Runs, Days: now.Sub(from).Hours() / 24,
		Window: len(body.Window) > 0, Unlimited: body.Pace == pace.Unlimited, Scheduled: body.Schedule != nil,
		Partitioned: body.Partitions == rule.WayRows}
	if taking.Runs > 0 {
		f.Gap = f.Days / float64(taking.Runs)
	}
	out := &KeepingUp{Inflow: -1, Taken: float64(taking.Rows) / max(f.Days, 1)}
	if in != nil {
		out.CountedAt, out.Problem = &in.At, in.Problem
		if in.Problem == "" {
			f.Inflow, out.Inflow = in.PerDay, in.PerDay
			if in.Days > plan.InflowDays { // it becomes due by whole months, say
				f.Gap = max(f.Gap, float64(in.Days))
			}
		}
	}
	if f.Due, err = s.dueNow(ctx, r.Name, in, now); err != nil {
		return nil, err
	}
	if f.Beside, err = s.wentBeside(ctx, r.Name); err != nil {
		return nil, err
	}
	out.Due, out.Verdict = int64(f.Due), keeping.Judge(f)
	return out, nil
}

// dueNow is about how many rows are due: as many as the newest whole run has left, or the newest whole plan counted, or
// else the statistics told; and what has become due since, less what runs have taken since.
func (s *Findings) dueNow(ctx context.Context, name string, in *catalog.Inflow, now time.Time) (float64, error) {
	at, due := time.Time{}, 0.0
	plans, err := s.Catalog.NewestDue(ctx, name)
	if err != nil {
		return 0, err
	}
	for _, p := range plans { // the newest that was counted, or else the newest estimate
		if reflect.DeepEqual(p.Narrow.V, catalog.Narrow{}) && p.Due >= 0 && (p.Exactly || at.IsZero()) {
			at, due = p.At.Time, float64(p.Due)
			if p.Exactly {
				break
			}
		}
	}
	if at.IsZero() && in != nil && in.Due >= 0 {
		at, due = in.At.Time, float64(in.Due)
	}
	if at.IsZero() {
		return 0, nil
	}
	taken, err := s.Catalog.TakenSince(ctx, name, at)
	if err != nil {
		return 0, err
	}
	if in != nil && in.Problem == "" {
		due += in.PerDay * max(now.Sub(at).Hours()/24, 0)
	}
	return max(due-float64(taken.Rows), 0), nil
}

// wentBeside says whether the newest run of a rule went beside others for most of its time.
func (s *Findings) wentBeside(ctx context.Context, name string) (bool, error) {
	runs, err := s.Catalog.Runs(ctx, catalog.RunFilter{Rule: name}, catalog.First(1))
	if err != nil || len(runs) == 0 {
		return false, err
	}
	course, err := s.Catalog.Course(ctx, runs[0].ID)
	if err != nil {
		return false, err
	}
	beside, whole := 0.0, 0.0
	for _, m := range course.Points {
		whole += m.Secs
		beside += m.Secs * min(m.Busy, 1)
	}
	return whole > 0 && beside > whole/2, nil
}

// fallsBehind finds rules whose runs take fewer rows than become due.
func (s *Findings) fallsBehind(ctx context.Context) (out []catalog.Cause, err error) {
	inflows, err := s.Catalog.Inflows(ctx)
	if err != nil {
		return nil, err
	}
	for i := range inflows {
		r, err := s.Catalog.Rule(ctx, inflows[i].Rule)
		var gone *catalog.NotFoundError
		if errors.As(err, &gone) {
			continue
		} else if err != nil {
			return nil, err
		}
		if r.Body.V.Off {
			continue
		}
		k, err := s.keepingOf(ctx, r, &inflows[i])
		if err != nil {
			return nil, err
		}
		if k.State == keeping.Falls {
			out = append(out, catalog.Cause{Subject: r.Name, Severity: catalog.Warning, Evidence: k.Spoken,
				Message: "rule " + r.Name + " falls behind: its runs take fewer rows than become due",
				Remedy:  joined(k.Help), Address: "#/rules/" + r.Name})
		}
	}
	return out, nil
}

func joined(help []string) string {
	if len(help) == 0 {
		return "see when and how fast its runs work (`ambercellar rule show`)"
	}
	out := "what would help: "
	for i, h := range help {
		if i > 0 {
			out += ", or "
		}
		out += h
	}
	return out
}

// countInflows counts once a day how many rows become due by each rule.
func (s *Chores) countInflows(ctx context.Context) (next time.Time, err error) {
	rules, err := s.Catalog.Rules(ctx)
	if err != nil {
		return next, err
	}
	known, err := s.Catalog.Inflows(ctx)
	if err != nil {
		return next, err
	}
	counted := map[string]catalog.Inflow{}
	for _, x := range known {
		counted[x.Rule] = x
	}
	for _, r := range rules {
		if r.Body.V.Off {
			continue
		}
		now := s.Now()
		x, ok := counted[r.Name]
		every := inflowEvery
		if x.Problem != "" {
			every = inflowAgain
		}
		if again := x.At.Add(every); ok && x.Revision == r.Revision && again.After(now) && !x.At.After(now) {
			next = sooner(next, again)
			continue
		}
		in, failed := s.Engine.Plans.Inflow(ctx, r.Name)
		var frozen *refuse.Frozen
		if errors.As(failed, &frozen) || ctx.Err() != nil {
			continue
		}
		x = catalog.Inflow{Rule: r.Name, Revision: r.Revision, At: catalog.At(now), PerDay: in.PerDay, Days: in.Days,
			Due: in.Due}
		if failed != nil {
			x.PerDay, x.Problem = -1, failed.Error()
		}
		if one := s.Catalog.KeepInflow(ctx, x); one != nil {
			err = errors.Join(err, fmt.Errorf("what becomes due by rule %s: %w", r.Name, one))
		}
		next = sooner(next, now.Add(inflowEvery))
	}
	return next, err
}

package api

import (
	"context"
	"strings"
	"time"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/calendar"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/service"
)

// RuleTimes is when a rule runs by itself.
type RuleTimes struct {
	Rule    string      `json:"rule"`
	Spoken  string      `json:"spoken"` // in words; empty: it runs by hand only
	Named   string      `json:"named,omitempty"`
	Missed  rule.Missed `json:"missed"`
	Limit   *rule.Limit `json:"limit,omitempty"`
	Enabled bool        `json:"enabled"`
	// why it does not fire for a while; left out: it does
	Off  *view.OffSchedule `json:"off,omitempty"`
	Next []NextFiring      `json:"next"` // the next ten
}

// NextFiring is a firing that is to come, and the cutoffs that it would use.
type NextFiring struct {
	At      catalog.Time `json:"at"`
	Cutoffs []NextCutoff `json:"cutoffs"`
}

// NextCutoff is the cutoff of one clause.
type NextCutoff struct {
	Clause int           `json:"clause"` // from 0
	Label  string        `json:"label"`
	Cutoff *catalog.Time `json:"cutoff"` // null: its rows are never due
}

// ComingFiring is a firing of any rule that is to come.
type ComingFiring struct {
	Rule     string       `json:"rule"`
	Source   string       `json:"source"`
	Table    string       `json:"table"`
	At       catalog.Time `json:"at"`
	Expected int64        `json:"expected"` // rows, by the run before it; 0: not known
}

// TimesText is a text that says when something happens.
type TimesText struct {
	When string `json:"when"`
	From string `json:"from,omitempty"`
	Zone string `json:"zone,omitempty"` // left out: UTC
}

// SpokenTimes is what such a text means.
type SpokenTimes struct {
	Spoken string         `json:"spoken"`
	Next   []catalog.Time `json:"next"` // the next ten
}

// NewFreeze asks for a freeze.
type NewFreeze struct {
	Source string        `json:"source,omitempty"` // left out: all
	Table  string        `json:"table,omitempty"`  // left out: all of the source
	Reason string        `json:"reason"`
	Until  *catalog.Time `json:"until,omitempty"` // left out: until somebody lifts it
}

// NewFirings asks for rules to run now.
type NewFirings struct {
	Rule   string `json:"rule,omitempty"`   // left out: all that are enabled
	Source string `json:"source,omitempty"` // left out: of any source
	Reason string `json:"reason"`
}

// NewOffSchedule asks for a rule not to fire for a while.
type NewOffSchedule struct {
	Reason    string        `json:"reason"`
	Until     *catalog.Time `json:"until,omitempty"`      // left out: by hand, or by until_done
	UntilDone bool          `json:"until_done,omitempty"` // until the run of the rule that has not ended is done
}

// NewEnabled enables a rule, or keeps it from running.
type NewEnabled struct {
	Enabled bool   `json:"enabled"`
	Reason  string `json:"reason"`
}

// NewReason is why something is done.
type NewReason struct {
	Reason string `json:"reason"`
}

// NewAcknowledgement says that somebody knows of a finding.
type NewAcknowledgement struct {
	Reason string        `json:"reason"`
	Until  *catalog.Time `json:"until,omitempty"` // from when on it is shown again
}

// scheduleRoutes are the routes of schedules, firings, the queue, freezes and findings.
func (a *API) scheduleRoutes() []route {
	s := a.service
	return []route{
		whole("/schedules", "Schedules", "The named schedules",
			func(ctx context.Context, _ request) ([]view.SharedSchedule,
				error) {
				return each(view.ScheduleOf)(s.Catalog.Schedules(ctx))
			}),
		take("POST", "/schedules/speak", "SpeakSchedule", "What a text means that says when something happens",
			func(_ context.Context, _ request, in TimesText) (*SpokenTimes, error) { return a.speak(in) }),
		get("/rules/{rule}/schedule", "RuleSchedule", "When a rule runs by itself, and with which cutoffs",
			func(ctx context.Context, r request) (*RuleTimes, error) {
				return a.ruleSchedule(ctx, r.Param("rule"))
			}),
		paged("/firings", "Firings", "Moments at which rules ran by themselves, the newest first",
			func(ctx context.Context, r request, p catalog.Page) ([]catalog.Firing, error) {
				f := catalog.FiringFilter{Rule: r.Query("rule"), Source: r.Query("source"), State: r.Query("state")}
				var err error
				if f.From, err = instantOf(r, "from"); err == nil {
					f.To, err = instantOf(r, "to")
				}
				if err != nil {
					return nil, err
				}
				return s.Catalog.Firings(ctx, f, p)
			}, view.FiringOf).asks("rule", "source", "state", "from", "to"),
		whole("/firings/coming", "Coming", "The firings that are to come, the soonest first", a.coming).asks("rule",
			"until"),
		take("POST", "/firings", "Fire", "Run rules now, whatever their schedules say: one, those of a source, or all",
			func(ctx context.Context, r request, in NewFirings) (Items[view.Firing], error) {
				return all(each(view.FiringOf)(s.Schedules.Ask(ctx, r.actor(), in.Rule, in.Source, in.Reason)))
			}).accepted(),
		take("POST", "/rules/{rule}/schedule/off", "OffSchedule", "Keep a rule from firing for a while",
			func(ctx context.Context, r request, in NewOffSchedule) (*view.OffSchedule, error) {
				return one(view.OffScheduleOf)(s.Schedules.Off(ctx, r.actor(), catalog.OffSchedule{
					Rule: r.Param("rule"), Reason: in.Reason, Until: in.Until, UntilDone: in.UntilDone}))
			}),
		take("POST", "/rules/{rule}/schedule/on", "OnSchedule", "Let a rule fire by its schedule again",
			func(ctx context.Context, r request, in NewReason) (*RuleTimes, error) {
				if err := s.Schedules.On(ctx, r.actor(), r.Param("rule"), in.Reason); err != nil {
					return nil, err
				}
				return a.ruleSchedule(ctx, r.Param("rule"))
			}),
		take("PUT", "/rules/{rule}/enabled", "SetEnabled", "Enable a rule, or keep it from running",
			func(ctx context.Context, r request, in NewEnabled) (Items[plan.Applied], error) {
				return all(s.Schedules.SetEnabled(ctx, r.actor(), r.Param("rule"), in.Enabled, in.Reason))
			}),
		whole("/rules/{rule}/conditions", "Conditions", "How what a rule requires stands now", a.conditions),
		whole("/runs/{run}/steps", "Steps", "What was done before and after a run worked, the newest first",
			func(ctx context.Context, r request) ([]view.StepRecord, error) {
				if _, err := s.Catalog.Run(ctx, r.Param("run")); err != nil {
					return nil, err
				}
				return each(view.StepOf)(s.Catalog.Steps(ctx, r.Param("run")))
			}),
		whole("/queue", "Queue", "The runs that work, those that wait, in the order of their turns, and others "+
			"that have not ended", a.queue),
		get("/queue/limits", "QueueLimits", "How many runs and other jobs work at a time",
			func(context.Context, request) (service.QueueLimits, error) { return s.Queue.Limits(), nil }),
		take("PUT", "/queue/limits", "SetQueueLimits",
			"Change how many runs and other jobs work at a time; of kinds of jobs for which 0 is given, as many as "+
				"before",
			func(ctx context.Context, r request, in service.QueueLimits) (service.QueueLimits, error) {
				return s.Queue.SetLimits(ctx, r.actor(), in)
			}),
		take("POST", "/runs/{run}/priority", "SetPriority", "Change which of the runs that wait goes first",
			func(ctx context.Context, r request, in NewPriority) (*RunView, error) {
				return one(viewRun)(s.Queue.SetPriority(ctx, r.actor(), r.Param("run"), in.Priority))
			}),
		whole("/freezes", "Freezes", "The freezes that stand; with all=true, also those that were lifted",
			func(ctx context.Context, r request) ([]view.Freeze, error) {
				return each(view.FreezeOf)(s.Catalog.Freezes(ctx, r.Query("all") == "true"))
			}).asks("all"),
		take("POST", "/freezes", "Freeze", "Stop the work on all sources, one, or one table of it",
			func(ctx context.Context, r request, in NewFreeze) (*view.Freeze, error) {
				return one(view.FreezeOf)(s.Freezes.Freeze(ctx, r.actor(),
					catalog.Freeze{Source: in.Source, Table: in.Table,
						Reason: in.Reason, Until: in.Until}))
			}).created(),
		take("POST", "/freezes/{freeze}/lift", "Unfreeze", "End a freeze; what it stopped goes on",
			func(ctx context.Context, r request, in NewReason) (*view.Freeze, error) {
				return one(view.FreezeOf)(s.Freezes.Lift(ctx, r.actor(), r.Param("freeze"), in.Reason))
			}),
		file("/events", "Live",
			"That something has changed in the service's records, once a second at the most, as server-sent "+
				"events named changed",
			a.live),
		paged("/findings", "Findings", "What somebody should look at; with all=true, also what is over",
			func(ctx context.Context, r request, p catalog.Page) ([]catalog.Finding, error) {
				return s.Catalog.Findings(ctx, r.Query("all") == "true", p)
			}, view.FindingOf).asks("all"),
		take("POST", "/findings/{finding}/acknowledge", "Acknowledge", "Say that somebody knows of a finding",
			func(ctx context.Context, r request, in NewAcknowledgement) (*view.Finding, error) {
				return one(view.FindingOf)(s.Findings.Acknowledge(ctx, r.actor(), r.Param("finding"), in.Reason,
					in.Until))
			}),
	}
}

// instantOf reads a time that a query parameter holds; zero where it is left out.
func instantOf(r request, name string) (time.Time, error) {
	text := r.Query(name)
	if text == "" {
		return time.Time{}, nil
	}
	at, ok := rule.ParseISO(text)
	if !ok {
		return at, &refuse.Error{Field: name, Message: text + " is no day or time",
			Remedy: "write one like 2027-01-31 or 2027-01-31T12:00:00Z"}
	}
	return at, nil
}

const nextFirings = 10

func (a *API) speak(in TimesText) (*SpokenTimes, error) {
	when, err := calendar.ParseRecurrence(in.When)
	if err != nil {
		return nil, &refuse.Error{Field: "when", Message: err.Error()}
	}
	zone, err := time.LoadLocation(in.Zone)
	if err != nil || strings.EqualFold(in.Zone, "local") {
		return nil, &refuse.Error{Field: "zone", Message: in.Zone + " is no zone",
			Remedy: "write an IANA name like Europe/Athens, or UTC"}
	}
	s := rule.Schedule{When: &when, Zone: in.Zone}
	if in.From != "" {
		s.From = &rule.Moment{}
		if err := s.From.UnmarshalText([]byte(in.From)); err != nil {
			return nil, &refuse.Error{Field: "from", Message: err.Error()}
		}
	}
	out := &SpokenTimes{Spoken: s.Spoken(zone), Next: []catalog.Time{}}
	for _, at := range s.Firings(nextFirings, a.service.Now(), zone) {
		out.Next = append(out.Next, catalog.At(at))
	}
	return out, nil
}

func (a *API) ruleSchedule(ctx context.Context, name string) (*RuleTimes, error) {
	r, err := a.service.Catalog.Rule(ctx, name)
	if err != nil {
		return nil, err
	}
	body := &r.Body.V
	out := &RuleTimes{Rule: name, Limit: body.Limit, Enabled: !body.Off, Next: []NextFiring{}}
	if body.Schedule == nil {
		return out, nil
	}
	named, err := a.service.Engine.Plans.Schedules(ctx)
	if err != nil {
		return nil, err
	}
	whole, _ := body.Schedule.Resolved(named)
	out.Named, out.Missed, out.Spoken = whole.Name, whole.Missed, whole.Spoken(body.Location())
	if out.Missed == "" {
		out.Missed = rule.MissedOnce
	}
	if body.Off {
		return out, nil
	}
	off, err := each(view.OffScheduleOf)(a.service.Catalog.OffSchedules(ctx, name))
	if err != nil {
		return nil, err
	}
	if len(off) > 0 {
		out.Off = &off[0]
	}
	resolve, err := a.service.Engine.Plans.Resolver(ctx, r)
	if err != nil {
		return nil, err
	}
	for _, at := range whole.Firings(nextFirings, a.service.Now(), body.Location()) {
		n := NextFiring{At: catalog.At(at), Cutoffs: []NextCutoff{}}
		cutoffs, err := body.Cutoffs(at, resolve)
		if err != nil {
			return nil, err
		}
		for i, c := range cutoffs {
			x := NextCutoff{Clause: i, Label: body.Label(i)}
			if !c.Never && !body.Clauses[i].Off {
				cut := catalog.At(c.At)
				x.Cutoff = &cut
			}
			n.Cutoffs = append(n.Cutoffs, x)
		}
		out.Next = append(out.Next, n)
	}
	return out, nil
}

// conditions tells how what a rule requires stands, against its newest plan.
func (a *API) conditions(ctx context.Context, r request) ([]service.Condition, error) {
	found, err := a.service.Catalog.Rule(ctx, r.Param("rule"))
	if err != nil {
		return nil, err
	}
	plans, err := a.service.Catalog.Plans(ctx, found.Name, catalog.First(1))
	if err != nil {
		return nil, err
	}
	var newest *catalog.Plan
	if len(plans) > 0 {
		newest = &plans[0]
	}
	return a.service.Conditions.Of(ctx, &found.Body.V, newest, nil), nil
}

// mostComing is how many firings that are to come are told.
const mostComing = 500

func (a *API) coming(ctx context.Context, r request) ([]ComingFiring, error) {
	until, err := instantOf(r, "until")
	if err != nil {
		return nil, err
	}
	if until.IsZero() {
		until = a.service.Now().AddDate(0, 1, 0)
	}
	list, err := a.service.Schedules.Coming(ctx, r.Query("rule"), until, mostComing)
	out := make([]ComingFiring, len(list))
	for i, x := range list {
		out[i] = ComingFiring{x.Rule, x.Source, x.Table, catalog.At(x.At), x.Expected}
	}
	return out, err
}

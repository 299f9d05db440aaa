package api

import (
	"context"
	"time"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/engine/upkeep"
	"ambercellar/internal/service"
)

// runRoutes are the routes of runs.
func (a *API) runRoutes() []route {
	s := a.service
	report := file("/runs/{run}/report", "RunReport",
		"All that is to be told of a run that has ended: by which rule, by whose "+
			"decision, what it did, what has become of the rows, and what the audit log says", a.report).asks("format")
	report.out = service.RunReport{}
	return []route{
		paged("/runs", "Runs", "Runs, the newest first",
			func(ctx context.Context, r request, p catalog.Page) ([]catalog.Run, error) {
				return s.Catalog.Runs(ctx, catalog.RunFilter{Rule: r.Query("rule"), Source: r.Query("source"),
					Table: r.Query("table"), State: r.Query("state")}, p)
			}, viewRun).asks("rule", "source", "table", "state"),
		take("POST", "/runs", "StartRun", "Start a run of a plan",
			func(ctx context.Context, r request, in NewRun) (*RunView, error) {
				return one(viewRun)(s.Queue.StartRun(ctx, r.actor(), in.Plan, in.Empty,
					catalog.RunTurn{StartAt: in.At, Priority: in.Priority}))
			}).accepted(),
		whole("/runs/spans", "RunSpans", "When runs worked since a moment, or in the last 24 hours, by source and "+
			"state; those that followed each other closely are one",
			func(ctx context.Context, r request) ([]RunSpan, error) {
				from, err := instantOf(r, "from")
				if err != nil {
					return nil, err
				}
				if from.IsZero() {
					from = s.Now().Add(-24 * time.Hour)
				}
				runs, err := s.Catalog.RunTimes(ctx, from)
				return spansOf(runs, s.Now().Sub(from)/spansAtMost), err
			}).asks("from"),
		get("/runs/{run}", "Run", "One run", func(ctx context.Context, r request) (*RunView, error) {
			return one(viewRun)(s.Queue.Run(ctx, r.Param("run")))
		}),
		paged("/runs/{run}/batches", "Batches", "The batches of a run, the newest first",
			func(ctx context.Context, r request, p catalog.Page) ([]catalog.Batch, error) {
				if _, err := s.Catalog.Run(ctx, r.Param("run")); err != nil {
					return nil, err
				}
				return s.Catalog.Batches(ctx, r.Param("run"), p)
			}, view.BatchOf),
		paged("/runs/{run}/slowdowns", "Slowdowns",
			"When and why a run went slower than its pace or rested, the newest first",
			func(ctx context.Context, r request, p catalog.Page) ([]catalog.Slowdown, error) {
				if _, err := s.Catalog.Run(ctx, r.Param("run")); err != nil {
					return nil, err
				}
				return s.Catalog.Slowdowns(ctx, r.Param("run"), p)
			}, view.SlowdownOf),
		get(
			"/runs/{run}/course",
			"Course",
			"How a run goes or went, moment after moment: what it took, what others did and felt, and each change of "+
				"its speed with its reason",
			func(ctx context.Context, r request) (*pace.Course, error) {
				return s.Engine.Runs.Course(ctx, r.Param("run"))
			},
		),
		file("/runs/{run}/events", "Watch", "A run's counts as they change, as server-sent events named run",
			a.events),
		report,
		get("/runs/{run}/ledger", "Ledger",
			"The accounting of a run, with the records that it rests on, for whoever wants to check it",
			func(ctx context.Context, r request) (*upkeep.RunLedger, error) {
				return s.Engine.Upkeep.Ledger(ctx, r.Param("run"))
			}),
		act("POST", "/runs/{run}/pause", "PauseRun", "Stop a run after its current batch",
			func(ctx context.Context, r request) (*RunView, error) {
				return one(viewRun)(s.Queue.Pause(ctx, r.actor(), r.Param("run")))
			}),
		take("POST", "/runs/{run}/pace", "SetPace", "Change a run's pace, from its next batch on",
			func(ctx context.Context, r request, in NewPace) (*RunView, error) {
				return one(viewRun)(s.Engine.Runs.SetPace(ctx, r.actor(), r.Param("run"), in.Pace))
			}),
		act("POST", "/runs/{run}/resume", "ResumeRun", "Go on with a run that is paused, resting or failed",
			func(ctx context.Context, r request) (*RunView, error) {
				return one(viewRun)(s.Queue.Resume(ctx, r.actor(), r.Param("run")))
			}),
		act("POST", "/runs/{run}/delete", "DeleteCopied",
			"Delete the rows of a run that copied them, those that still are what was copied",
			func(ctx context.Context, r request) (*RunView, error) {
				return one(viewRun)(s.Queue.Delete(ctx, r.actor(), r.Param("run")))
			}),
		act("POST", "/runs/{run}/cancel", "CancelRun", "End a run after its current batch",
			func(ctx context.Context, r request) (*RunView, error) {
				return one(viewRun)(s.Queue.Cancel(ctx, r.actor(), r.Param("run")))
			}),
		get("/status", "Status", "What is running and what was archived", a.status),
	}
}

// viewRun is a run as the interface shows it.
func viewRun(r *catalog.Run) RunView {
	v := RunView{Run: view.RunOf(r), Done: r.Done()}
	if r.Working > 0 {
		v.Rate = float64(v.Done) / (float64(r.Working) / 1e6)
	}
	if r.State == catalog.Running && v.Rate > 0 {
		rows := max(float64(r.Due-v.Done), 0)
		left := rows / v.Rate
		v.SecondsLeft = &left
		if r.SlowRate > 0 {
			low, high := rows/r.FastRate, rows/r.SlowRate
			v.SecondsLow, v.SecondsHigh = &low, &high
		}
	}
	return v
}

// mostActive is how many runs that have not ended the status names.
const mostActive = 20

func (a *API) status(ctx context.Context, _ request) (*Status, error) {
	s := a.service
	out := &Status{Version: service.Version, Instance: s.Instance, Started: catalog.At(s.Started),
		Now: catalog.At(s.Now()), Active: []RunView{}, Recent: []RunView{}}
	totals, err := s.Catalog.Totals(ctx)
	if err != nil {
		return nil, err
	}
	out.Totals, out.Sources, out.Rules = view.TotalsOf(totals), totals.Sources, totals.Rules
	out.Disagree = s.Lineages.Disagreements()
	if out.Damaged, err = each(view.SegmentOf)(s.Catalog.Damaged(ctx)); err != nil {
		return nil, err
	}
	active, total, err := s.Catalog.Unended(ctx, mostActive)
	out.ActiveTotal = total
	if err != nil {
		return nil, err
	}
	for i := range active {
		r := &active[i]
		if r.State == catalog.Running { // its newest counts
			if r, err = s.Queue.Run(ctx, r.ID); err != nil {
				return nil, err
			}
		}
		out.Active = append(out.Active, viewRun(r))
	}
	runs, err := s.Catalog.Runs(ctx, catalog.RunFilter{}, catalog.First(20))
	for i := range runs {
		if runs[i].State.Ended() {
			out.Recent = append(out.Recent, viewRun(&runs[i]))
		}
	}
	return out, err
}

// keepAlive is how often a quiet stream of events sends a comment, so that nothing between takes it for dead.
const keepAlive = 15 * time.Second

// events sends a run's counts as they change. The stream ends when the run stops; a client that comes back later gets
// one event with where it stands.
func (a *API) events(c *gin.Context) {
	r, err := a.service.Queue.Run(c.Request.Context(), c.Param("run"))
	if err != nil {
		fail(c, err)
		return
	}
	c.Header("Cache-Control", "no-store")
	c.Header("X-Accel-Buffering", "no")
	send := func(r *catalog.Run) {
		c.SSEvent("run", viewRun(r))
		c.Writer.Flush()
	}
	send(r)
	updates, stop := a.service.Queue.Listen(r.ID)
	defer stop()
	tick := time.NewTicker(keepAlive)
	defer tick.Stop()
	for {
		select {
		case <-c.Request.Context().Done():
			return
		case <-tick.C:
			if _, err := c.Writer.WriteString(": still here\n\n"); err != nil {
				return
			}
			c.Writer.Flush()
		case r, ok := <-updates:
			if !ok {
				if last, err := a.service.Queue.Run(c.Request.Context(), c.Param("run")); err == nil {
					send(last)
				}
				c.SSEvent("end", "")
				return
			}
			send(r)
		}
	}
}

package api

import (
	"context"
	"fmt"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/service"
	"ambercellar/internal/source"
)

// runView answers with a run as the interface shows it.
func runView(do func(context.Context, string) (*catalog.Run, error)) func(*gin.Context) (any, error) {
	return func(c *gin.Context) (any, error) {
		r, err := do(c.Request.Context(), c.Param("run"))
		if err != nil {
			return nil, err
		}
		return viewRun(r), nil
	}
}

// mostActive is how many runs that have not ended the status names.
const mostActive = 20

func (a *API) status(c *gin.Context) (any, error) {
	s := a.service
	out := Status{Version: service.Version, Instance: s.Instance, Started: catalog.At(s.Started), Now: catalog.At(s.Now()), Active: []RunView{}, Recent: []RunView{}}
	totals, err := s.Catalog.Totals(c.Request.Context())
	if err != nil {
		return nil, err
	}
	out.Totals = *totals
	out.Disagree = s.Disagreements()
	if out.Damaged, err = s.Catalog.Damaged(c.Request.Context()); err != nil {
		return nil, err
	}
	out.Sources, out.Rules = totals.Sources, totals.Rules
	active, total, err := s.Catalog.Unended(c.Request.Context(), mostActive)
	out.ActiveTotal = total
	if err != nil {
		return nil, err
	}
	for i := range active {
		r := &active[i]
		if r.State == catalog.Running { // its newest counts
			if r, err = s.Run(c.Request.Context(), r.ID); err != nil {
				return nil, err
			}
		}
		out.Active = append(out.Active, viewRun(r))
	}
	runs, err := s.Catalog.Runs(c.Request.Context(), catalog.RunFilter{}, catalog.First(20))
	for i := range runs {
		if runs[i].State.Ended() {
			out.Recent = append(out.Recent, viewRun(&runs[i]))
		}
	}
	return out, err
}

func (a *API) addSource(c *gin.Context) (any, error) {
	var in NewSource
	if err := read(c, &in); err != nil {
		return nil, err
	}
	return a.service.AddSource(c.Request.Context(), actor, source.Config(in))
}

func (a *API) checkSource(c *gin.Context) (any, error) {
	src, err := a.service.Source(c.Request.Context(), c.Param("source"))
	if err != nil {
		return nil, err
	}
	return src.Check(c.Request.Context())
}

func (a *API) tables(c *gin.Context) (any, error) {
	src, err := a.service.Source(c.Request.Context(), c.Param("source"))
	if err != nil {
		return nil, err
	}
	list, err := src.Tables(c.Request.Context())
	for i := range list {
		tidy(&list[i])
	}
	return all(list, err)
}

func (a *API) table(c *gin.Context) (any, error) {
	src, err := a.service.Source(c.Request.Context(), c.Param("source"))
	if err != nil {
		return nil, err
	}
	t, err := src.Table(c.Request.Context(), c.Param("table"))
	if err != nil {
		return nil, err
	}
	return tidy(t), nil
}

func (a *API) reconcile(c *gin.Context) (any, error) {
	return a.service.Reconcile.Reconcile(c.Request.Context(), c.Param("source"), c.Param("table"))
}

func (a *API) settle(c *gin.Context) (any, error) {
	var in NewSettling
	if err := read(c, &in); err != nil {
		return nil, err
	}
	return a.service.Settle(c.Request.Context(), actor, c.Param("source"), c.Param("table"), in.Reason)
}

func (a *API) columnNames(c *gin.Context) (any, error) {
	return all(a.service.Search.ColumnNames(c.Request.Context(), c.Param("source"), c.Param("table")))
}

func (a *API) tellName(c *gin.Context) (any, error) {
	var in NewName
	if err := read(c, &in); err != nil {
		return nil, err
	}
	return all(a.service.Search.TellName(c.Request.Context(), actor, catalog.FormerName{Source: c.Param("source"), Table: c.Param("table"), Name: in.Name, Was: in.Was}))
}

func (a *API) forgetName(c *gin.Context) (any, error) {
	var in NewName
	if err := read(c, &in); err != nil {
		return nil, err
	}
	n := catalog.FormerName{Source: c.Param("source"), Table: c.Param("table"), Name: in.Name, Was: in.Was}
	if err := a.service.Catalog.ForgetName(c.Request.Context(), actor, n); err != nil {
		return nil, err
	}
	return a.columnNames(c)
}

func (a *API) makeAhead(c *gin.Context) (any, error) {
	var in NewPartitions
	if err := read(c, &in); err != nil {
		return nil, err
	}
	return a.service.Plans.MakeAhead(c.Request.Context(), actor, c.Param("source"), c.Param("table"), in.Ahead, in.Try)
}

func (a *API) stores(c *gin.Context) (any, error) {
	list, err := a.service.Catalog.Stores(c.Request.Context())
	if err != nil {
		return nil, err
	}
	out := make([]StoreView, len(list))
	var group sync.WaitGroup
	defer group.Wait()
	for i, s := range list {
		out[i].Store, out[i].Warnings = s, service.StoreWarnings(&s, list)
		group.Go(func() {
			var err error
			if out[i].Free, err = a.service.StoreState(c.Request.Context(), s.Name); err != nil {
				out[i].Problem = err.Error()
			}
		})
		totals, err := a.service.Catalog.StoreTotals(c.Request.Context(), &s)
		if err != nil {
			return nil, err
		}
		out[i].Totals = *totals
	}
	group.Wait()
	return all(out, nil)
}

func (a *API) addStore(c *gin.Context) (any, error) {
	var in NewStore
	if err := read(c, &in); err != nil {
		return nil, err
	}
	s := catalog.Store{Name: in.Name, Path: in.Path, Second: in.Second}
	if in.Seal != nil {
		s.Seal.V = *in.Seal
	}
	if in.Tariff != nil {
		s.Tariff.V = *in.Tariff
	}
	if in.Bucket != nil {
		s.Bucket.V = *in.Bucket
	}
	if err := a.service.AddStore(c.Request.Context(), actor, s, in.Existing); err != nil {
		return nil, err
	}
	return a.storeKept(c.Request.Context(), in.Name)
}

func (a *API) rules(c *gin.Context) (any, error) {
	p := page(c)
	list, err := a.service.Catalog.RulesOf(c.Request.Context(), catalog.RuleFilter{Source: c.Query("source"), Table: c.Query("table"), Text: c.Query("text")}, p)
	if err != nil {
		return nil, err
	}
	last, err := a.lastRuns(c.Request.Context(), list)
	if err != nil {
		return nil, err
	}
	out := make([]RuleView, len(list))
	for i := range list {
		out[i] = viewRule(&list[i], last)
	}
	return paging(out, p), nil
}

// lastRuns are the newest runs of rules, by rule.
func (a *API) lastRuns(ctx context.Context, rules []catalog.Rule) (map[string]*catalog.Run, error) {
	names, out := make([]string, len(rules)), map[string]*catalog.Run{}
	for i := range rules {
		names[i] = rules[i].Name
	}
	runs, err := a.service.Catalog.LastRuns(ctx, names)
	for i := range runs {
		out[runs[i].Rule] = &runs[i]
	}
	return out, err
}

func (a *API) rule(c *gin.Context) (any, error) {
	r, err := a.service.Catalog.Rule(c.Request.Context(), c.Param("rule"))
	if err != nil {
		return nil, err
	}
	last, err := a.lastRuns(c.Request.Context(), []catalog.Rule{*r})
	return viewRule(r, last), err
}

func viewRule(r *catalog.Rule, last map[string]*catalog.Run) RuleView {
	v := RuleView{Rule: *r}
	for i, clause := range r.Body.V.Clauses {
		if i > 0 {
			v.Spoken += "; "
		}
		switch {
		case clause.Otherwise:
			v.Spoken += "otherwise "
		case clause.Where != "":
			v.Spoken += clause.Where + ": "
		}
		v.Spoken += clause.Keep.Spoken()
		if clause.Align != "" {
			v.Spoken += ", cut at the " + string(clause.Align)
		}
		if clause.Off {
			v.Spoken += " (not enabled)"
		}
	}
	if run := last[r.Name]; run != nil {
		run := viewRun(run)
		v.LastRun = &run
	}
	return v
}

func (a *API) applyRules(c *gin.Context) (any, error) {
	var in RuleFile
	if err := read(c, &in); err != nil {
		return nil, err
	}
	applied, problems, err := a.service.Plans.ApplyRules(c.Request.Context(), actor, in.File, []byte(in.Text), in.Reason)
	fill(&applied)
	fill(&problems)
	return RuleResult{Applied: applied, Problems: problems}, err
}

func (a *API) checkRules(c *gin.Context) (any, error) {
	var in RuleFile
	if err := read(c, &in); err != nil {
		return nil, err
	}
	checked, err := a.service.Plans.CheckRules(c.Request.Context(), in.File, []byte(in.Text))
	if err != nil {
		return nil, err
	}
	fill(&checked.Problems)
	return RuleResult{Applied: []plan.Applied{}, Problems: checked.Problems}, nil
}

func (a *API) makePlan(c *gin.Context) (any, error) {
	var in NewPlan
	if err := read(c, &in); err != nil {
		return nil, err
	}
	var before time.Time
	if in.Before != "" {
		var ok bool
		if before, ok = rule.ParseISO(in.Before); !ok {
			return nil, &refuse.Error{Field: "before", Message: fmt.Sprintf("%q is not a date or time", in.Before), Remedy: "write one like 2024-03-31 or 2024-03-31T12:00:00Z"}
		}
	}
	q := plan.PlanRequest{Rule: in.Rule, Before: before, Where: in.Where, Keys: in.Keys, Limit: in.Limit, Note: in.Note, Exact: in.Exact, Confirm: in.Confirm, Override: in.Override}
	if in.Budget != "" {
		p, err := period.Parse(in.Budget)
		if err != nil {
			return nil, &refuse.Error{Field: "budget", Message: err.Error()}
		}
		now := a.service.Now()
		q.Budget = now.Sub(p.Before(now, time.UTC))
	}
	if in.Ticket != "" {
		q.Counted = func(done, pieces int) { a.counting.Store(in.Ticket, Counting{done, pieces}) }
		defer a.counting.Delete(in.Ticket)
	}
	return a.service.Plans.Make(c.Request.Context(), actor, q)
}

func (a *API) countingOf(c *gin.Context) (any, error) {
	x, ok := a.counting.Load(c.Param("ticket"))
	if !ok {
		return nil, fmt.Errorf("no plan of ticket %s is being counted: %w", c.Param("ticket"), catalog.ErrNotFound)
	}
	return x, nil
}

func (a *API) startRun(c *gin.Context) (any, error) {
	var in NewRun
	if err := read(c, &in); err != nil {
		return nil, err
	}
	r, err := a.service.StartRun(c.Request.Context(), actor, in.Plan, in.Empty)
	if err != nil {
		return nil, err
	}
	return viewRun(r), nil
}

// keepAlive is how often a quiet stream of events sends a comment, so that nothing between takes it for dead.
const keepAlive = 15 * time.Second

// events sends a run's counts as they change. The stream ends when the run stops; a client that comes back later gets
// one event with where it stands.
func (a *API) events(c *gin.Context) {
	r, err := a.service.Run(c.Request.Context(), c.Param("run"))
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
	updates, stop := a.service.Listen(r.ID)
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
				if last, err := a.service.Run(c.Request.Context(), c.Param("run")); err == nil {
					send(last)
				}
				c.SSEvent("end", "")
				return
			}
			send(r)
		}
	}
}

var fileKinds = map[string]string{"csv": "text/csv; charset=utf-8", "csv-safe": "text/csv; charset=utf-8", "ndjson": "application/x-ndjson", "parquet": "application/vnd.apache.parquet"}

func (a *API) replacedFile(c *gin.Context) {
	path, err := a.service.ReplacedFile(c.Request.Context(), c.Param("restore"))
	if err != nil {
		fail(c, err)
		return
	}
	c.Header("Content-Type", fileKinds["ndjson"])
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=\"%s\"", filepath.Base(path)))
	http.ServeFile(c.Writer, c.Request, path)
}

func (a *API) restoreFile(c *gin.Context) {
	path, r, err := a.service.RestoreFile(c.Request.Context(), c.Param("restore"))
	if err != nil {
		fail(c, err)
		return
	}
	c.Header("Content-Type", fileKinds[r.Format])
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=\"%s.%s\"", r.ID, strings.TrimSuffix(r.Format, "-safe")))
	http.ServeFile(c.Writer, c.Request, path)
}

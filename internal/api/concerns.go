package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/audit"
	"ambercellar/internal/core/rights"
	"ambercellar/internal/engine/dispose"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/retrieve"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/upkeep"
	"ambercellar/internal/service"
)

// allowed lets those pass who have the right that a route needs: in the sources that the request concerns, where it can
// be told which these are, and otherwise in all. Who looks at values of rows is recorded before they see them.
func (a *API) allowed(r route) gin.HandlerFunc {
	right := r.right()
	return func(c *gin.Context) {
		who := request{c}.who()
		if right == rights.See {
			if err := a.sees(c, r); err != nil {
				fail(c, err)
			}
			return
		}
		if !who.MaySomewhere(right) {
			fail(c, mayNot(who, right, nil))
			return
		}
		begins := func(in any) error { return a.begins(c, r, right, in) }
		if r.in != nil {
			c.Set(beginsKey, begins) // when the body has been read
			return
		}
		if err := begins(nil); err != nil {
			fail(c, err)
		}
	}
}

// askedKey is where a request keeps its body, once it has been read.
const askedKey = "asked"

// beginsKey is where a request keeps what is to be asked once its body has been read.
const beginsKey = "begins"

func (a *API) begins(c *gin.Context, r route, right rights.Right, in any) error {
	ctx, who := c.Request.Context(), request{c}.who()
	if !who.May(right) {
		sources, err := a.concerns(ctx, c, in)
		if err != nil && !errors.Is(err, catalog.ErrNotFound) {
			return err
		}
		may := len(sources) > 0
		for _, s := range sources {
			may = may && who.MayIn(right, s)
		}
		if !may {
			return mayNot(who, right, sources)
		}
	}
	if right != rights.Rows {
		return nil
	}
	asked := ""
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		asked = string(b)
	}
	if err := a.service.Catalog.Note(ctx, who.Name, "rows "+inWords(r.name), a.subject(c, in), asked); err != nil {
		return fmt.Errorf("who looks at values of rows has to be recorded, and cannot be: %w", err)
	}
	return nil
}

// subject is what a request is about, for the record.
func (a *API) subject(c *gin.Context, in any) string {
	switch q := in.(type) {
	case *search.SearchRequest:
		return q.Source + "." + q.Table
	case *search.SummaryRequest:
		return q.Source + "." + q.Table
	case *dispose.ErasureRequest:
		return q.Source + "." + q.Table
	case *plan.HoldRequest:
		return q.Source + "." + q.Table
	case *NewPlan:
		return q.Rule
	case *NewRun:
		return q.Plan
	case *NewDisposal:
		return q.Rule
	case *NewFreeze:
		return q.Source
	}
	var ids []string
	for _, p := range c.Params {
		ids = append(ids, p.Value)
	}
	return strings.Join(ids, " ")
}

// inWords writes the name of an operation in words.
func inWords(name string) string {
	var b strings.Builder
	for i, r := range name {
		if i > 0 && r >= 'A' && r <= 'Z' {
			b.WriteByte(' ')
		}
		b.WriteRune(r)
	}
	return strings.ToLower(b.String())
}

func mayNot(who *service.Who, right rights.Right, sources []string) error {
	in := ""
	if len(sources) > 0 {
		in = " in source " + strings.Join(sources, " and ")
	} else if who.MaySomewhere(right) {
		in = " in all sources"
	}
	role := "is " + string(who.Role)
	if who.Role == rights.Nobody {
		role = "has a role in single sources alone"
	}
	p := problem(http.StatusForbidden, "right", "You may not do that",
		fmt.Sprintf("%s %s and may not %s%s", who.Name, role, may[right], in))
	p.Remedy = fmt.Sprintf("ask somebody who may, or an administrator for the right %q", right)
	return p
}

// concerns names the sources that a request is about; none: that cannot be told, or it is about all.
func (a *API) concerns(ctx context.Context, c *gin.Context, in any) ([]string, error) {
	if sources, err := a.concernsBody(ctx, in); len(sources) > 0 || err != nil {
		return sources, err
	}
	for _, p := range c.Params {
		source, err := a.sourceOf(ctx, p.Key, p.Value, c.Param("kind"))
		if source != "" || err != nil {
			return []string{source}, err
		}
	}
	return nil, nil
}

// sourceOf is the source of a record of a kind; empty: of none, or of more than one.
func (a *API) sourceOf(ctx context.Context, kind, id, job string) (string, error) {
	c := a.service.Catalog
	if kind == "job" {
		switch catalog.JobKind(job) {
		case catalog.JobRestore, catalog.JobExport:
			kind = "restore"
		case catalog.JobDisposal:
			kind = "disposal"
		}
	}
	switch kind {
	case "source":
		return id, nil
	case "rule":
		return field(c.Rule(ctx, id))(func(r *catalog.Rule) string { return r.Source })
	case "plan":
		return field(c.Plan(ctx, id))(func(p *catalog.Plan) string { return p.Source })
	case "run":
		return field(c.Run(ctx, id))(func(r *catalog.Run) string { return r.Source })
	case "segment":
		return field(c.Segment(ctx, id))(func(s *catalog.Segment) string { return s.Source })
	case "restore":
		return field(c.Restore(ctx, id))(func(r *catalog.Restore) string { return r.Source })
	case "disposal":
		return field(c.DisposalBrief(ctx, id))(func(d *catalog.Disposal) string { return d.Source })
	case "verification":
		return field(c.Verification(ctx, id))(func(v *catalog.Verification) string { return v.Source })
	case "approval":
		return field(c.Approval(ctx, id))(func(a *catalog.Approval) string { return a.Source })
	case "hold":
		return field(c.Hold(ctx, id))(func(h *catalog.Hold) string { return h.Source })
	}
	return "", nil
}

// field takes a field of a record.
func field[R any](r *R, err error) func(func(*R) string) (string, error) {
	return func(of func(*R) string) (string, error) {
		if err != nil {
			return "", err
		}
		return of(r), nil
	}
}

// concernsBody names the sources that a request's body is about.
func (a *API) concernsBody(ctx context.Context, in any) ([]string, error) {
	one := func(source string, err error) ([]string, error) {
		if source == "" {
			return nil, err
		}
		return []string{source}, err
	}
	switch q := in.(type) {
	case *NewPlan:
		return one(a.sourceOf(ctx, "rule", q.Rule, ""))
	case *NewRun:
		return one(a.sourceOf(ctx, "plan", q.Plan, ""))
	case *NewDisposal:
		return one(a.sourceOf(ctx, "rule", q.Rule, ""))
	case *NewFirings:
		if q.Rule != "" {
			return one(a.sourceOf(ctx, "rule", q.Rule, ""))
		}
		return one(q.Source, nil)
	case *NewFreeze:
		return one(q.Source, nil)
	case *dispose.ErasureRequest:
		return one(q.Source, nil)
	case *plan.HoldRequest:
		return one(q.Source, nil)
	case *search.SearchRequest:
		return one(q.Source, nil)
	case *search.SummaryRequest:
		return one(q.Source, nil)
	case *upkeep.VerificationRequest:
		return one(q.Source, nil)
	case *retrieve.RetrievalRequest:
		if len(q.Segments) > 0 {
			return a.sourcesOf(ctx, "segment", q.Segments)
		}
		return one(q.Source, nil)
	case *restore.RestoreRequest:
		return a.concernsRestore(ctx, q)
	}
	return nil, nil
}

// concernsRestore names the sources that the rows come from and go to.
func (a *API) concernsRestore(ctx context.Context, q *restore.RestoreRequest) ([]string, error) {
	var segments []string
	for _, row := range q.Scope.Rows {
		segments = append(segments, row.Segment)
	}
	if q.Scope.Segment != "" {
		segments = append(segments, q.Scope.Segment)
	}
	out, err := a.sourcesOf(ctx, "segment", segments)
	if err == nil && q.Scope.Run != "" {
		var more []string
		more, err = a.sourcesOf(ctx, "run", []string{q.Scope.Run})
		out = append(out, more...)
	}
	for _, s := range []string{q.Source, q.TargetSource} {
		if s != "" {
			out = append(out, s)
		}
	}
	if len(segments) == 0 && q.Scope.Run == "" && q.Source == "" {
		return nil, err
	}
	return out, err
}

// sourcesOf names the sources of records.
func (a *API) sourcesOf(ctx context.Context, kind string, ids []string) (out []string, err error) {
	seen := map[string]bool{}
	for _, id := range ids {
		if seen[id] {
			continue
		}
		seen[id] = true
		s, err := a.sourceOf(ctx, kind, id, "")
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

// recorded keeps in the audit log that something was refused, or failed. What was done is kept with what it changes.
func (a *API) recorded(r route) gin.HandlerFunc {
	looks := r.method == http.MethodGet || r.right() == rights.See
	return func(c *gin.Context) {
		c.Next()
		status := c.Writer.Status()
		// whoever gives up has been refused nothing
		if status < 400 || looks && status != http.StatusForbidden || c.Request.Context().Err() != nil {
			return
		}
		outcome, why := audit.OutcomeRefused, http.StatusText(status)
		if status >= 500 {
			outcome = audit.OutcomeFailed
		}
		var outstanding *refuse.Outstanding
		if e := c.Errors.Last(); e != nil && errors.As(e.Err, &outstanding) {
			return // it is not refused yet, and that it was asked for is kept
		} else if e != nil {
			why = cmp.Or(problemOf(e.Err).Detail, why)
		}
		who := request{c}.who()
		asked, _ := c.Get(askedKey) // nil where nothing could be read
		a.service.Access.NoteRefused(c.Request.Context(), who.Name, who.Name, "request "+inWords(r.name),
			a.subject(c, asked), outcome, why)
	}
}

// Package api is the HTTP interface: routes, errors as problem details, the OpenAPI document, live events, and the
// embedded console. Each route only translates; what it asks for is done by the service.
package api

import (
	"context"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/dispose"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/reconcile"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/retrieve"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/sweep"
	"ambercellar/internal/engine/upkeep"
	"ambercellar/internal/service"
	"ambercellar/internal/source"
)

// maxBody is the largest request body: a file of rules and a little.
const maxBody = rule.MaxFile + 64<<10

// API answers HTTP requests for a service.
type API struct {
	service  *service.Service
	log      *slog.Logger
	console  fs.FS
	document func() []byte
	counting sync.Map // by ticket: Counting
	hosts    []string // names under which the service is asked, beside addresses and those of this machine
	tries    tries
}

// New returns the handler of all HTTP requests. hosts are further names under which the service may be asked.
func New(s *service.Service, log *slog.Logger, console fs.FS, hosts ...string) http.Handler {
	a := &API{service: s, log: log, console: console, document: sync.OnceValue(Document), hosts: append(hosts, ownNames()...)}
	gin.SetMode(gin.ReleaseMode)
	g := gin.New()
	g.UseRawPath, g.UnescapePathValues = true, true
	g.Use(a.logged, a.recovering, secured, a.named)
	g.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	g.GET("/readyz", func(c *gin.Context) {
		if _, err := s.Catalog.Setting(c.Request.Context(), "instance"); err != nil {
			c.String(http.StatusServiceUnavailable, "the catalog does not answer: %v\n", err)
			return
		}
		c.String(http.StatusOK, "ready\n")
	})
	for _, r := range a.routes() {
		handlers := []gin.HandlerFunc{limited}
		if !r.open {
			handlers = append(handlers, a.authenticated)
		}
		g.Handle(r.method, "/api/v1"+ginPath(r.path), append(handlers, r.handler())...)
	}
	g.NoRoute(a.other)
	return g
}

// route is one operation of the interface. The OpenAPI document is made from the same table. Handlers hand on the
// request's own context, never the router's: that one is used again for other requests while a database may still look
// at it.
type route struct {
	method, path string // path parameters in braces
	summary      string
	query        []string // names of query parameters
	in, out      any      // the types of the request's and the answer's JSON; nil for none
	status       int
	open         bool // needs no token
	do           func(*gin.Context) (any, error)
	raw          func(*gin.Context) // answers on its own, in place of do
}

func ginPath(p string) string { return strings.NewReplacer("{", ":", "}", "").Replace(p) }

func (r route) handler() gin.HandlerFunc {
	if r.raw != nil {
		return r.raw
	}
	return func(c *gin.Context) {
		out, err := r.do(c)
		if err != nil {
			fail(c, err)
			return
		}
		status := r.status
		if status == 0 {
			status = http.StatusOK
		}
		if out == nil {
			c.Status(http.StatusNoContent)
			return
		}
		c.JSON(status, out)
	}
}

const actor = "administrator"

func (a *API) routes() []route {
	s := a.service
	paged := []string{"limit", "after"}
	return append([]route{
		{method: "GET", path: "/openapi.json", summary: "This document", open: true, raw: func(c *gin.Context) { c.Data(http.StatusOK, "application/json", a.document()) }},
		{method: "POST", path: "/session", summary: "Sign in to the console with a token", in: Login{}, out: Session{}, open: true, do: a.signIn},
		{method: "GET", path: "/session", summary: "Who is signed in", out: Session{}, do: func(*gin.Context) (any, error) { return Session{actor}, nil }},
		{method: "DELETE", path: "/session", summary: "Sign out", do: a.signOut},
		{method: "GET", path: "/status", summary: "What is going on and what was archived", out: Status{}, do: a.status},

		{method: "GET", path: "/sources", summary: "All sources", out: Items[source.Config]{}, do: func(c *gin.Context) (any, error) { return all(s.Catalog.Sources(c.Request.Context())) }},
		{method: "POST", path: "/sources", summary: "Add a source", in: NewSource{}, out: source.Report{}, status: http.StatusCreated, do: a.addSource},
		{method: "GET", path: "/sources/{source}/check", summary: "Connect to a source and report rights and obstacles", out: source.Report{}, do: a.checkSource},
		{method: "GET", path: "/sources/{source}/tables", summary: "The tables of a source", out: Items[shape.Table]{}, do: a.tables},
		{method: "GET", path: "/sources/{source}/tables/{table}", summary: "One table", out: shape.Table{}, do: a.table},
		{method: "GET", path: "/sources/{source}/tables/{table}/reconciliation", summary: "What source, stores and catalog tell of a table, side by side", out: reconcile.Reconciliation{}, do: a.reconcile},
		{method: "POST", path: "/sources/{source}/tables/{table}/reconciliation", summary: "Make them agree again", in: NewSettling{}, out: reconcile.Reconciliation{}, do: a.settle},
		{method: "POST", path: "/sources/{source}/tables/{table}/partitions", summary: "Make the next partitions of a table, or see how", in: NewPartitions{}, out: plan.PartitionsAhead{}, do: a.makeAhead},

		{method: "GET", path: "/sources/{source}/tables/{table}/names", summary: "The names that a table's columns have had, as they were told or as the database knows them", out: Items[catalog.FormerName]{}, do: a.columnNames},
		{method: "POST", path: "/sources/{source}/tables/{table}/names", summary: "Tell what a column was called before", in: NewName{}, out: Items[catalog.FormerName]{}, do: a.tellName},
		{method: "POST", path: "/sources/{source}/tables/{table}/names/forget", summary: "Take back what was told of a column's name", in: NewName{}, out: Items[catalog.FormerName]{}, do: a.forgetName},

		{method: "GET", path: "/stores", summary: "All stores", out: Items[StoreView]{}, do: a.stores},
		{method: "POST", path: "/stores", summary: "Add a store", in: NewStore{}, out: StoreKept{}, status: http.StatusCreated, do: a.addStore},
		{method: "PATCH", path: "/stores/{store}", summary: "Change a store's second store, or how it is scrubbed", in: service.StoreChange{}, out: StoreKept{}, do: a.setStore},
		{method: "POST", path: "/stores/{store}/check", summary: "Write to a store, read it back, list and remove it, and say what the place does with files on its own", out: Items[store.Habit]{}, do: a.checkStore},
		{method: "POST", path: "/stores/{store}/sweep", summary: "List what interrupted runs left behind in a store, and remove it where that is asked for", in: NewSweep{}, out: sweep.Swept{}, do: a.sweep},
		{method: "POST", path: "/stores/{store}/reseal", summary: "Seal every file of a store with the newest of its keys", out: service.Resealed{}, do: func(c *gin.Context) (any, error) { return s.Reseal(c.Request.Context(), actor, c.Param("store")) }},
		{method: "POST", path: "/stores/{store}/adopt", summary: "Bring segments of a store into the catalog that it does not know, and find out anew where the rows of those lie that it knows", out: upkeep.Adopted{}, do: func(c *gin.Context) (any, error) {
			return s.Upkeep.Adopt(c.Request.Context(), actor, c.Param("store"))
		}},

		{method: "GET", path: "/rules", summary: "Rules, in the order of their names", query: append([]string{"source", "table", "text"}, paged...), out: Items[RuleView]{}, do: a.rules},
		{method: "POST", path: "/rules", summary: "Apply a file of rules: all of them or none", in: RuleFile{}, out: RuleResult{}, do: a.applyRules},
		{method: "POST", path: "/rules/check", summary: "Check a file of rules and change nothing", in: RuleFile{}, out: RuleResult{}, do: a.checkRules},
		{method: "GET", path: "/rules/{rule}", summary: "One rule", out: RuleView{}, do: a.rule},
		{method: "GET", path: "/rules/{rule}/revisions", summary: "All revisions of a rule, the newest first", out: Items[catalog.Revision]{}, do: func(c *gin.Context) (any, error) {
			if _, err := s.Catalog.Rule(c.Request.Context(), c.Param("rule")); err != nil {
				return nil, err
			}
			return all(s.Catalog.Revisions(c.Request.Context(), c.Param("rule")))
		}},

		{method: "GET", path: "/plans", summary: "The newest plans", query: append([]string{"rule"}, paged...), out: Items[catalog.Plan]{}, do: func(c *gin.Context) (any, error) {
			p := page(c)
			list, err := s.Catalog.Plans(c.Request.Context(), c.Query("rule"), p)
			return paging(list, p), err
		}},
		{method: "POST", path: "/plans", summary: "Make a plan of a rule; nothing in the source changes", in: NewPlan{}, out: catalog.Plan{}, status: http.StatusCreated, do: a.makePlan},
		{method: "GET", path: "/plans/counting/{ticket}", summary: "How far the counting for a plan is that is being made; closing the request for the plan ends it", out: Counting{}, do: a.countingOf},
		{method: "GET", path: "/plans/{plan}", summary: "One plan", out: catalog.Plan{}, do: func(c *gin.Context) (any, error) { return s.Catalog.Plan(c.Request.Context(), c.Param("plan")) }},

		{method: "GET", path: "/plans/{plan}/sample", summary: "Some of the rows that a plan would take, read anew", out: catalog.Sample{}, do: func(c *gin.Context) (any, error) { return s.Plans.Sample(c.Request.Context(), c.Param("plan")) }},

		{method: "GET", path: "/runs", summary: "Runs, the newest first", query: append([]string{"rule", "source", "table", "state"}, paged...), out: Items[RunView]{}, do: func(c *gin.Context) (any, error) {
			p := page(c)
			f := catalog.RunFilter{Rule: c.Query("rule"), Source: c.Query("source"), Table: c.Query("table"), State: c.Query("state")}
			rs, err := s.Catalog.Runs(c.Request.Context(), f, p)
			return paging(viewRuns(rs), p), err
		}},
		{method: "POST", path: "/runs", summary: "Start a run of a plan", in: NewRun{}, out: RunView{}, status: http.StatusAccepted, do: a.startRun},
		{method: "GET", path: "/runs/{run}", summary: "One run", out: RunView{}, do: runView(s.Run)},
		{method: "GET", path: "/runs/{run}/batches", summary: "The batches of a run, the newest first", query: paged, out: Items[catalog.Batch]{}, do: func(c *gin.Context) (any, error) {
			if _, err := s.Catalog.Run(c.Request.Context(), c.Param("run")); err != nil {
				return nil, err
			}
			p := page(c)
			bs, err := s.Catalog.Batches(c.Request.Context(), c.Param("run"), p)
			return paging(bs, p), err
		}},
		{method: "GET", path: "/runs/{run}/slowdowns", summary: "When and why a run went slower than its pace or rested, the newest first", query: paged, out: Items[catalog.Slowdown]{}, do: func(c *gin.Context) (any, error) {
			if _, err := s.Catalog.Run(c.Request.Context(), c.Param("run")); err != nil {
				return nil, err
			}
			p := page(c)
			list, err := s.Catalog.Slowdowns(c.Request.Context(), c.Param("run"), p)
			return paging(list, p), err
		}},
		{method: "GET", path: "/runs/{run}/events", summary: "A run's counts as they change, as server-sent events named run", raw: a.events},
		{method: "GET", path: "/runs/{run}/ledger", summary: "The accounting of a run, with the records that it rests on, for whoever wants to check it", out: upkeep.RunLedger{}, do: func(c *gin.Context) (any, error) { return s.Upkeep.Ledger(c.Request.Context(), c.Param("run")) }},
		{method: "POST", path: "/runs/{run}/pause", summary: "Stop a run after its batch in hand", out: RunView{}, do: runView(s.Pause)},
		{method: "POST", path: "/runs/{run}/pace", summary: "Change a run's pace, from its next batch on", in: NewPace{}, out: RunView{}, do: func(c *gin.Context) (any, error) {
			var in NewPace
			if err := read(c, &in); err != nil {
				return nil, err
			}
			return runView(func(ctx context.Context, id string) (*catalog.Run, error) {
				return s.Runs.SetPace(ctx, actor, id, in.Pace)
			})(c)
		}},
		{method: "POST", path: "/runs/{run}/resume", summary: "Go on with a run that is paused, resting or failed", out: RunView{}, do: runView(s.Resume)},
		{method: "POST", path: "/runs/{run}/delete", summary: "Delete the rows of a run that copied them, those that still are what was copied", out: RunView{}, do: runView(func(ctx context.Context, id string) (*catalog.Run, error) { return s.Delete(ctx, actor, id) })},
		{method: "POST", path: "/runs/{run}/cancel", summary: "End a run after its batch in hand", out: RunView{}, do: runView(s.Cancel)},

		{method: "GET", path: "/segments", summary: "Segments, the newest first", query: append([]string{"run", "source", "table", "state", "ungoverned"}, paged...), out: Items[catalog.Segment]{}, do: func(c *gin.Context) (any, error) {
			p := page(c)
			f := catalog.SegmentFilter{Run: c.Query("run"), Source: c.Query("source"), Table: c.Query("table"), State: c.Query("state"), Ungoverned: c.Query("ungoverned") == "true"}
			list, err := s.Catalog.Segments(c.Request.Context(), f, p)
			return paging(list, p), err
		}},
		{method: "GET", path: "/archived", summary: "The tables of which rows are archived, in the order of their names", query: append([]string{"text"}, paged...), out: Items[catalog.ArchivedTable]{}, do: func(c *gin.Context) (any, error) {
			p := page(c)
			list, err := s.Catalog.ArchivedTables(c.Request.Context(), c.Query("text"), p)
			return paging(list, p), err
		}},
		{method: "GET", path: "/segments/{segment}", summary: "One segment", out: shelf.SegmentDetail{}, do: func(c *gin.Context) (any, error) {
			return s.Shelf.SegmentDetail(c.Request.Context(), c.Param("segment"))
		}},
		{method: "POST", path: "/segments/{segment}/verify", summary: "Read a segment back from its store and check every row", out: catalog.Segment{}, do: func(c *gin.Context) (any, error) {
			return s.Upkeep.VerifySegment(c.Request.Context(), c.Param("segment"))
		}},

		{method: "POST", path: "/segments/{segment}/move", summary: "Move the rows of a segment to another store, or back to that of its records", in: NewMove{}, out: catalog.Segment{}, do: func(c *gin.Context) (any, error) {
			var in NewMove
			if err := read(c, &in); err != nil {
				return nil, err
			}
			return s.Upkeep.MoveSegment(c.Request.Context(), actor, c.Param("segment"), in.To)
		}},

		{method: "GET", path: "/retrievals", summary: "Retrievals from cold storage, the newest first", query: paged, out: Items[catalog.Retrieval]{}, do: func(c *gin.Context) (any, error) {
			p := page(c)
			list, err := s.Catalog.Retrievals(c.Request.Context(), p)
			return paging(list, p), err
		}},
		{method: "POST", path: "/retrievals", summary: "Fetch segments from cold storage for some days", in: retrieve.RetrievalRequest{}, out: Items[catalog.Retrieval]{}, status: http.StatusAccepted, do: func(c *gin.Context) (any, error) {
			var q retrieve.RetrievalRequest
			if err := read(c, &q); err != nil {
				return nil, err
			}
			return all(s.Retrieve.Retrieve(c.Request.Context(), actor, q))
		}},
		{method: "POST", path: "/retrievals/preview", summary: "What lies in cold storage of what somebody asks for, and what it takes to fetch it", in: retrieve.RetrievalRequest{}, out: shelf.Chilled{}, do: func(c *gin.Context) (any, error) {
			var q retrieve.RetrievalRequest
			if err := read(c, &q); err != nil {
				return nil, err
			}
			return s.Retrieve.ColdOf(c.Request.Context(), q)
		}},

		{method: "GET", path: "/verifications", summary: "Verifications of segments, the newest first", query: paged, out: Items[catalog.Verification]{}, do: func(c *gin.Context) (any, error) {
			p := page(c)
			list, err := s.Catalog.Verifications(c.Request.Context(), p)
			return paging(list, p), err
		}},
		{method: "POST", path: "/verifications", summary: "Read the segments of stores or a table back and check everything: files, rows, records and their chains", in: upkeep.VerificationRequest{}, out: catalog.Verification{}, status: http.StatusAccepted, do: func(c *gin.Context) (any, error) {
			var q upkeep.VerificationRequest
			if err := read(c, &q); err != nil {
				return nil, err
			}
			return s.RequestVerification(c.Request.Context(), actor, q)
		}},
		{method: "GET", path: "/verifications/{verification}", summary: "One verification", out: catalog.Verification{}, do: func(c *gin.Context) (any, error) {
			return s.Catalog.Verification(c.Request.Context(), c.Param("verification"))
		}},
		{method: "GET", path: "/disposals", summary: "Disposals, the newest first", query: paged, out: Items[catalog.Disposal]{}, do: func(c *gin.Context) (any, error) {
			p := page(c)
			list, err := s.Catalog.Disposals(c.Request.Context(), p)
			return paging(list, p), err
		}},
		{method: "POST", path: "/disposals", summary: "Find out which segments have been in the archive long enough; nothing is destroyed", in: NewDisposal{}, out: catalog.Disposal{}, status: http.StatusCreated, do: func(c *gin.Context) (any, error) {
			var in NewDisposal
			if err := read(c, &in); err != nil {
				return nil, err
			}
			return brief(s.Disposals.Plan(c.Request.Context(), actor, in.Rule, in.Table, in.Note))
		}},
		{method: "POST", path: "/erasures", summary: "Find out which segments hold rows of a condition, whatever their time in the archive; a disposal of kind erasure, and nothing is destroyed", in: dispose.ErasureRequest{}, out: catalog.Disposal{}, status: http.StatusCreated, do: func(c *gin.Context) (any, error) {
			var in dispose.ErasureRequest
			if err := read(c, &in); err != nil {
				return nil, err
			}
			return brief(s.Disposals.PlanErasure(c.Request.Context(), actor, in))
		}},
		{method: "GET", path: "/disposals/{disposal}", summary: "One disposal, with the first of its segments", out: catalog.Disposal{}, do: func(c *gin.Context) (any, error) {
			return s.Catalog.DisposalBrief(c.Request.Context(), c.Param("disposal"))
		}},
		{method: "GET", path: "/disposals/{disposal}/segments", summary: "The segments that a disposal is to destroy, the oldest first", query: paged, out: Items[catalog.PlacedItem]{}, do: func(c *gin.Context) (any, error) {
			p := page(c)
			list, err := s.Catalog.DisposalItems(c.Request.Context(), c.Param("disposal"), p)
			return paging(list, p), err
		}},
		{method: "GET", path: "/disposals/{disposal}/stays", summary: "The segments of its table that a disposal leaves, and why, the oldest first", query: paged, out: Items[catalog.PlacedStay]{}, do: func(c *gin.Context) (any, error) {
			p := page(c)
			list, err := s.Catalog.DisposalStays(c.Request.Context(), c.Param("disposal"), p)
			return paging(list, p), err
		}},
		{method: "POST", path: "/disposals/{disposal}/start", summary: "Decide that its segments are destroyed now, and go on with one that stopped", out: catalog.Disposal{}, status: http.StatusAccepted, do: func(c *gin.Context) (any, error) {
			return brief(s.StartDisposal(c.Request.Context(), actor, c.Param("disposal")))
		}},
		{method: "POST", path: "/disposals/{disposal}/approve", summary: "Approve a disposal that waits for it; it is still to be started", out: catalog.Disposal{}, do: func(c *gin.Context) (any, error) {
			return brief(s.Catalog.ApproveDisposal(c.Request.Context(), actor, c.Param("disposal"), catalog.At(s.Now())))
		}},
		{method: "POST", path: "/disposals/{disposal}/cancel", summary: "Decide against it", out: catalog.Disposal{}, do: func(c *gin.Context) (any, error) {
			return brief(s.Catalog.SetDisposalState(c.Request.Context(), actor, c.Param("disposal"), catalog.DisposalCancelled, "", catalog.At(s.Now())))
		}},
		{method: "GET", path: "/disposals/{disposal}/certificate", summary: "What was destroyed, by which rule and by whose decision", query: []string{"format"}, out: dispose.Certificate{}, raw: a.certificate},
		{method: "GET", path: "/catalog/backup", summary: "The catalog as it is at this moment, as an SQLite file", raw: a.backup},

		{method: "GET", path: "/catalog/keeps", summary: "How long records of the service's own are kept, by kind; empty: for good", out: catalog.RecordKeeps{}, do: func(c *gin.Context) (any, error) { return s.Catalog.RecordKeeps(c.Request.Context()) }},
		{method: "PATCH", path: "/catalog/keeps", summary: "Change how long records of the service's own are kept", in: catalog.RecordKeeps{}, out: catalog.RecordKeeps{}, do: func(c *gin.Context) (any, error) {
			var in catalog.RecordKeeps
			if err := read(c, &in); err != nil {
				return nil, err
			}
			return s.SetRecordKeeps(c.Request.Context(), actor, in)
		}},

		{method: "GET", path: "/restores", summary: "Restores, the newest first", query: paged, out: Items[catalog.Restore]{}, do: func(c *gin.Context) (any, error) {
			p := page(c)
			list, err := s.Catalog.Restores(c.Request.Context(), p)
			return paging(list, p), err
		}},
		{method: "POST", path: "/restores", summary: "Bring archived rows back", in: restore.RestoreRequest{}, out: catalog.Restore{}, status: http.StatusAccepted, do: func(c *gin.Context) (any, error) {
			var q restore.RestoreRequest
			if err := read(c, &q); err != nil {
				return nil, err
			}
			return s.RequestRestore(c.Request.Context(), actor, q)
		}},
		{method: "POST", path: "/restores/preview", summary: "What a restore would do; nothing is changed", in: restore.RestoreRequest{}, out: restore.RestorePreview{}, do: func(c *gin.Context) (any, error) {
			var q restore.RestoreRequest
			if err := read(c, &q); err != nil {
				return nil, err
			}
			return s.Restores.PreviewRestore(c.Request.Context(), q)
		}},
		{method: "GET", path: "/restores/{restore}", summary: "One restore", out: catalog.Restore{}, do: func(c *gin.Context) (any, error) { return s.Catalog.Restore(c.Request.Context(), c.Param("restore")) }},
		{method: "POST", path: "/restores/{restore}/keep", summary: "Change how long the rows of a restore stay", in: NewKeeping{}, out: catalog.Restore{}, do: func(c *gin.Context) (any, error) {
			var in NewKeeping
			if err := read(c, &in); err != nil {
				return nil, err
			}
			return s.Restores.KeepRestored(c.Request.Context(), actor, c.Param("restore"), in.For)
		}},
		{method: "POST", path: "/restores/{restore}/approve", summary: "Approve a restore that waits for it", out: catalog.Restore{}, status: http.StatusAccepted, do: func(c *gin.Context) (any, error) {
			return s.DecideRestore(c.Request.Context(), actor, c.Param("restore"), true, "")
		}},
		{method: "POST", path: "/restores/{restore}/refuse", summary: "Refuse a restore that waits for an approval", in: NewRefusal{}, out: catalog.Restore{}, do: func(c *gin.Context) (any, error) {
			var in NewRefusal
			if err := read(c, &in); err != nil {
				return nil, err
			}
			return s.DecideRestore(c.Request.Context(), actor, c.Param("restore"), false, in.Reason)
		}},
		{method: "GET", path: "/restores/{restore}/file", summary: "The file of a restore", raw: a.restoreFile},
		{method: "GET", path: "/restores/{restore}/replaced", summary: "The rows that a restore replaced, as they were, as newline-delimited JSON", raw: a.replacedFile},

		{method: "POST", path: "/search", summary: "Search archived rows: the first of them, 100 where no limit is given", in: search.SearchRequest{}, out: Found{}, do: a.search},
		{method: "POST", path: "/search/summary", summary: "Count and sum up archived rows, by groups", in: search.SummaryRequest{}, out: search.Summary{}, do: func(c *gin.Context) (any, error) {
			var q search.SummaryRequest
			if err := read(c, &q); err != nil {
				return nil, err
			}
			return s.Search.Summarise(c.Request.Context(), q)
		}},
		{method: "POST", path: "/search/rows", summary: "Search archived rows: all of them as a stream, as CSV or newline-delimited JSON", query: []string{"format"}, in: search.SearchRequest{}, raw: a.searchRows},

		{method: "GET", path: "/audit", summary: "The newest lines of the audit log", query: paged, out: Items[catalog.Entry]{}, do: func(c *gin.Context) (any, error) {
			p := page(c)
			list, err := s.Catalog.AuditLog(c.Request.Context(), p)
			return paging(list, p), err
		}},
	}, a.protection()...)
}

// all wraps a list that is never long.
func all[T any](list []T, err error) (any, error) {
	fill(&list)
	return Items[T]{Items: list}, err
}

const defaultLimit, maxLimit = 50, 500

// page is the page that is asked for, and one item more, which tells whether another one follows.
func page(c *gin.Context) catalog.Page {
	limit, err := strconv.Atoi(c.Query("limit"))
	if err != nil || limit < 1 {
		limit = defaultLimit
	}
	return catalog.Page{Limit: min(limit, maxLimit) + 1, After: c.Query("after")}
}

// paging makes a page of a list that was read one longer than the page.
func paging[T any, P interface {
	*T
	Place() string
}](list []T, p catalog.Page) Items[T] {
	fill(&list)
	if n := p.Limit - 1; len(list) > n {
		next := P(&list[n-1]).Place()
		return Items[T]{Items: list[:n], Next: &next}
	}
	return Items[T]{Items: list}
}

// logged writes a line a request; those that only look are written at the lowest level.
func (a *API) logged(c *gin.Context) {
	begun := time.Now()
	c.Next()
	level := slog.LevelDebug
	if c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		level = slog.LevelInfo
	}
	attrs := []any{"method", c.Request.Method, "path", c.Request.URL.Path, "status", c.Writer.Status(), "took", time.Since(begun).Round(time.Microsecond)}
	if c.Writer.Status() >= 500 {
		level = slog.LevelError
	}
	if e := c.Errors.Last(); e != nil {
		attrs = append(attrs, "error", e.Err)
	}
	a.log.Log(c.Request.Context(), level, "request", attrs...)
}

// recovering answers a request whose handler panicked. Where a part of the answer is on its way, the connection breaks off instead, so
// that no reader takes what it has for the whole.
func (a *API) recovering(c *gin.Context) {
	defer func() {
		err := recover()
		switch {
		case err == nil:
		case err == http.ErrAbortHandler:
			a.log.Error("an answer was broken off", "path", c.Request.URL.Path, "error", c.Errors.Last())
			panic(http.ErrAbortHandler)
		case c.Writer.Written():
			a.log.Error("a request panicked in the middle of its answer", "path", c.Request.URL.Path, "panic", err, "stack", string(debug.Stack()))
			panic(http.ErrAbortHandler)
		default:
			a.recovered(c, err)
		}
	}()
	c.Next()
}

func (a *API) recovered(c *gin.Context, err any) {
	a.log.Error("a request panicked", "path", c.Request.URL.Path, "panic", err, "stack", string(debug.Stack()))
	fail(c, problem(http.StatusInternalServerError, "internal", "The service failed", "the request could not be answered; the log says more"))
}

func secured(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'")
}

// limited bounds the size of a request's body, and how long it may stand still.
func limited(c *gin.Context) {
	if c.Request.Body == nil || c.Request.Body == http.NoBody {
		return
	}
	b := &body{ReadCloser: http.MaxBytesReader(c.Writer, c.Request.Body, maxBody), control: http.NewResponseController(c.Writer)}
	c.Request.Body = b
	c.Next()
	if !b.over { // what nobody has read is read by the server, before the next request
		b.control.SetReadDeadline(time.Now().Add(bodyStall))
	}
}

const cookieName = "ambercellar_session"

// authenticated lets in whoever shows the token, or the cookie of a session. A cookie changes things only for pages of
// our own, so that no other site can use it.
func (a *API) authenticated(c *gin.Context) {
	if bearer, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		if good, err := a.service.CheckToken(c.Request.Context(), bearer); err != nil {
			fail(c, err)
		} else if !good {
			fail(c, problem(http.StatusUnauthorized, "token", "The token is wrong", "this is not the administrator's token; `ambercellar serve -new-token` makes a new one"))
		}
		return
	}
	secret, err := c.Cookie(cookieName)
	if err == nil {
		good, err := a.service.CheckSession(c.Request.Context(), secret)
		if err != nil {
			fail(c, err)
			return
		}
		if good && sameSite(c.Request) {
			return
		}
	}
	fail(c, problem(http.StatusUnauthorized, "token", "You are not signed in", "send the administrator's token as `Authorization: Bearer …` (the client reads it from AMBERCELLAR_TOKEN)"))
}

func sameSite(r *http.Request) bool {
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		return true
	}
	u, err := url.Parse(r.Header.Get("Origin"))
	return err == nil && u.Host == r.Host
}

func (a *API) signIn(c *gin.Context) (any, error) {
	var in Login
	if err := read(c, &in); err != nil {
		return nil, err
	}
	good, err := a.service.CheckToken(c.Request.Context(), in.Token)
	if err != nil {
		return nil, err
	}
	if !good {
		if wait := a.tries.failed(c.RemoteIP(), time.Now()); wait > 0 {
			c.Header("Retry-After", strconv.Itoa(int(wait/time.Second)+1))
			p := problem(http.StatusTooManyRequests, "token", "Too many wrong tokens", fmt.Sprintf("%d wrong tokens came from %s", mostTries, c.RemoteIP()))
			p.Field, p.Remedy = "token", fmt.Sprintf("wait for %s; the right token is taken at any time", wait.Round(time.Second))
			return nil, p
		}
		p := problem(http.StatusUnauthorized, "token", "The token is wrong", "this is not the administrator's token")
		p.Field, p.Remedy = "token", "it was written into a file of the data directory when the service first started; `ambercellar serve -new-token` makes a new one"
		return nil, p
	}
	secret, expires, err := a.service.BeginSession(c.Request.Context())
	if err != nil {
		return nil, err
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: cookieName, Value: secret, Path: "/", Expires: expires, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: overTLS(c.Request)})
	return Session{actor}, nil
}

func (a *API) signOut(c *gin.Context) (any, error) {
	if secret, err := c.Cookie(cookieName); err == nil {
		if err := a.service.EndSession(c.Request.Context(), secret); err != nil {
			return nil, err
		}
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: cookieName, Path: "/", MaxAge: -1, HttpOnly: true, SameSite: http.SameSiteStrictMode})
	return nil, nil
}

// other answers with the console's files. Places within the console stand behind the # of its address, so that every other path is none.
func (a *API) other(c *gin.Context) {
	path := strings.TrimPrefix(c.Request.URL.Path, "/")
	nothing := func(detail string) {
		fail(c, problem(http.StatusNotFound, "not-found", "There is nothing here", detail))
	}
	if strings.HasPrefix(path, "api/") {
		nothing("the interface has no " + c.Request.Method + " /" + path + "; /api/v1/openapi.json lists what it has")
		return
	}
	if path == "" {
		path = "index.html"
	}
	f, err := fs.Stat(a.console, path)
	if err != nil || f.IsDir() {
		if _, err := fs.Stat(a.console, "index.html"); err != nil {
			c.String(http.StatusNotFound, "this build holds no console; `make build` makes one that does\n")
			return
		}
		nothing("there is no /" + path + "; the console is at /, the interface at /api/v1")
		return
	}
	if c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		fail(c, problem(http.StatusMethodNotAllowed, "method", "The console is only to be read", "send requests to /api/v1"))
		return
	}
	if strings.HasPrefix(path, "assets/") {
		c.Header("Cache-Control", "public, max-age=31536000, immutable") // their names hold a hash of their content
	} else {
		c.Header("Cache-Control", "no-cache")
	}
	if path == "index.html" { // ServeFileFS would redirect it to /
		b, err := fs.ReadFile(a.console, path)
		if err != nil {
			fail(c, err)
			return
		}
		c.Data(http.StatusOK, "text/html; charset=utf-8", b)
		return
	}
	http.ServeFileFS(c.Writer, c.Request, a.console, path)
}

package api

import (
	"context"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/retrieve"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/upkeep"
)

// segmentRoutes are the routes of segments, of what lies in cold storage, and of verifications.
func (a *API) segmentRoutes() []route {
	s := a.service
	return []route{
		paged("/segments", "Segments", "Segments, the newest first",
			func(ctx context.Context, r request, p catalog.Page) ([]catalog.Segment, error) {
				f := catalog.SegmentFilter{Run: r.Query("run"), Source: r.Query("source"), Table: r.Query("table"),
					State: r.Query("state"), Ungoverned: r.Query("ungoverned") == "true"}
				return s.Catalog.Segments(ctx, f, p)
			}, view.SegmentOf).asks("run", "source", "table", "state", "ungoverned"),
		paged("/archived", "ArchivedTables", "The tables of which rows are archived, in the order of their names",
			func(ctx context.Context, r request, p catalog.Page) ([]catalog.ArchivedTable, error) {
				return s.Catalog.ArchivedTables(ctx, r.Query("text"), p)
			}, view.ArchivedTableOf).asks("text"),
		get("/segments/{segment}", "Segment", "One segment",
			func(ctx context.Context, r request) (*view.SegmentDetail, error) {
				return one(view.SegmentDetailOf)(s.Engine.Shelf.SegmentDetail(ctx, r.Param("segment")))
			}),
		act("POST", "/segments/{segment}/verify", "VerifySegment",
			"Read a segment back from its store and check every row",
			func(ctx context.Context, r request) (*view.Segment, error) {
				return one(view.SegmentOf)(s.Engine.Upkeep.VerifySegment(ctx, r.Param("segment")))
			}),
		take("POST", "/segments/{segment}/move", "MoveSegment",
			"Move the rows of a segment to another store, or back to that of its records",
			func(ctx context.Context, r request, in NewMove) (*view.Segment, error) {
				return one(view.SegmentOf)(s.Queue.Move(ctx, r.actor(), r.Param("segment"), in.To))
			}),

		paged("/retrievals", "Retrievals", "Retrievals from cold storage, the newest first",
			func(ctx context.Context, _ request, p catalog.Page) ([]catalog.Retrieval, error) {
				return s.Catalog.Retrievals(ctx, p)
			}, view.RetrievalOf),
		take("POST", "/retrievals", "Retrieve", "Fetch segments from cold storage for some days",
			func(ctx context.Context, r request, q retrieve.RetrievalRequest) (Items[view.Retrieval], error) {
				return all(each(view.RetrievalOf)(s.Engine.Retrieve.Retrieve(ctx, r.actor(), q)))
			}).accepted(),
		take("POST", "/retrievals/preview", "PreviewRetrieval",
			"What lies in cold storage of what somebody asks for, and what it takes to fetch it",
			func(ctx context.Context, _ request, q retrieve.RetrievalRequest) (*shelf.Chilled, error) {
				return s.Engine.Retrieve.ColdOf(ctx, q)
			}),

		paged("/verifications", "Verifications", "Verifications of segments, the newest first",
			func(ctx context.Context, _ request, p catalog.Page) ([]catalog.Verification, error) {
				return s.Catalog.Verifications(ctx, p)
			}, view.VerificationOf),
		take("POST", "/verifications", "Verify",
			"Read the segments of stores or a table back and check everything: files, rows, records and their chains",
			func(ctx context.Context, r request, q upkeep.VerificationRequest) (*view.Verification, error) {
				return one(view.VerificationOf)(s.Queue.RequestVerification(ctx, r.actor(), q))
			}).accepted(),
		get("/verifications/{verification}", "Verification", "One verification",
			func(ctx context.Context, r request) (*view.Verification, error) {
				return one(view.VerificationOf)(s.Catalog.Verification(ctx, r.Param("verification")))
			}),
	}
}

package api

import (
	"context"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/dispose"
	"ambercellar/internal/engine/plan"
)

// disposalRoutes are the routes of disposals and erasures, and of the holds that stand in their way.
func (a *API) disposalRoutes() []route {
	s := a.service
	certificate := file("/disposals/{disposal}/certificate", "CertificateFile",
		"What was destroyed, by which rule and by whose decision", a.certificate).asks("format")
	certificate.out = dispose.Certificate{}
	return []route{
		paged("/disposals", "Disposals", "Disposals, the newest first",
			func(ctx context.Context, _ request, p catalog.Page) ([]catalog.Disposal, error) {
				return s.Catalog.Disposals(ctx, p)
			}, view.DisposalOf),
		take("POST", "/disposals", "PlanDisposal",
			"Find out which segments have been in the archive long enough; nothing is destroyed",
			func(ctx context.Context, r request, in NewDisposal) (*view.Disposal, error) {
				return brief(s.Engine.Disposals.Plan(ctx, r.actor(), in.Rule, in.Table, in.Note))
			}).created(),
		take("POST", "/erasures", "PlanErasure",
			"Find out which segments hold rows of a condition, whatever their time in the archive; a disposal of "+
				"kind erasure, and nothing is destroyed",
			func(ctx context.Context, r request, in dispose.ErasureRequest) (*view.Disposal, error) {
				return brief(s.Engine.Disposals.PlanErasure(ctx, r.actor(), in))
			}).created(),
		get("/disposals/{disposal}", "Disposal", "One disposal, with the first of its segments",
			func(ctx context.Context, r request) (*view.Disposal, error) {
				return one(view.DisposalOf)(s.Catalog.DisposalBrief(ctx, r.Param("disposal")))
			}),
		paged("/disposals/{disposal}/segments", "DisposalSegments",
			"The segments that a disposal is to destroy, the oldest first",
			func(ctx context.Context, r request, p catalog.Page) ([]catalog.PlacedItem, error) {
				return s.Catalog.DisposalItems(ctx, r.Param("disposal"), p)
			}, view.PlacedItemOf),
		paged("/disposals/{disposal}/stays", "DisposalStays",
			"The segments of its table that a disposal leaves, and why, the oldest first",
			func(ctx context.Context, r request, p catalog.Page) ([]catalog.PlacedStay, error) {
				return s.Catalog.DisposalStays(ctx, r.Param("disposal"), p)
			}, view.PlacedStayOf),
		act("POST", "/disposals/{disposal}/start", "StartDisposal",
			"Decide that its segments are destroyed now, and go on with one that stopped",
			func(ctx context.Context, r request) (*view.Disposal, error) {
				return brief(s.Queue.StartDisposal(ctx, r.actor(), r.Param("disposal")))
			}).accepted(),
		act("POST", "/disposals/{disposal}/approve", "ApproveDisposal",
			"Approve a disposal that waits for it; it is still to be started",
			func(ctx context.Context, r request) (*view.Disposal, error) {
				asked, err := s.Approvals.OfDisposal(ctx, r.Param("disposal"))
				if err == nil {
					_, err = s.Approvals.Decide(ctx, r.who(), asked.ID, true, "")
				}
				if err != nil {
					return nil, err
				}
				return brief(s.Catalog.Disposal(ctx, r.Param("disposal")))
			}),
		act("POST", "/disposals/{disposal}/cancel", "CancelDisposal", "Decide against it",
			func(ctx context.Context, r request) (*view.Disposal, error) {
				return brief(s.Queue.CancelDisposal(ctx, r.actor(), r.Param("disposal")))
			}),
		certificate,

		whole("/holds", "Holds", "Holds, the newest first; with all=true those that were lifted too",
			func(ctx context.Context, r request) ([]view.Hold, error) {
				return each(view.HoldOf)(s.Catalog.Holds(ctx, r.Query("all") == "true"))
			}).asks("all"),
		take("POST", "/holds", "PlaceHold",
			"Place a hold; the answer comes when nothing is being removed any more that it protects",
			func(ctx context.Context, r request, q plan.HoldRequest) (*view.Placed, error) {
				return one(view.PlacedOf)(s.Engine.Plans.PlaceHold(ctx, r.actor(), q))
			}).created(),
		get("/holds/{hold}", "Hold", "One hold", func(ctx context.Context, r request) (*view.Hold, error) {
			return one(view.HoldOf)(s.Catalog.Hold(ctx, r.Param("hold")))
		}),
		take("POST", "/holds/{hold}/lift", "LiftHold", "End a hold",
			func(ctx context.Context, r request, in Lift) (*view.Hold, error) {
				return one(view.HoldOf)(s.Engine.Plans.LiftHold(ctx, r.actor(), r.Param("hold"), in.Reason))
			}),
	}
}

// brief answers with a disposal and the first of its segments.
func brief(d *catalog.Disposal, err error) (*view.Disposal, error) {
	return one(func(d *catalog.Disposal) view.Disposal { return view.DisposalOf(d.Brief()) })(d, err)
}

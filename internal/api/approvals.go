package api

import (
	"context"
	"fmt"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rights"
	"ambercellar/internal/engine/refuse"
)

// Decision is how somebody decides on a request, and why.
type Decision struct {
	Reason string `json:"reason,omitempty"` // a refusal needs one
}

// NewDelegation lets somebody else decide in one's place for a time.
type NewDelegation struct {
	To     string `json:"to"`
	Until  string `json:"until"` // an instant, or a duration like P14D; 90 days at the most
	Reason string `json:"reason"`
}

// approvalRoutes are the routes of what others have to approve before it is carried out. Whether somebody may decide
// on a request depends on its source, on who asked, and on delegations: the service finds that out.
func (a *API) approvalRoutes() []route {
	s := a.service.Approvals
	decide := func(approves bool) func(context.Context, request, Decision) (*view.Approval, error) {
		return func(ctx context.Context, r request, in Decision) (*view.Approval, error) {
			return one(view.ApprovalOf)(s.Decide(ctx, r.who(), r.Param("approval"), approves, in.Reason))
		}
	}
	return []route{
		paged(
			"/approvals",
			"Approvals",
			"What others have to approve, or have decided on, the newest first; in a state where "+
				"one is named",
			func(ctx context.Context, r request, p catalog.Page) ([]catalog.Approval, error) {
				state := catalog.ApprovalState(r.Query("state"))
				switch state {
				case "",
					catalog.ApprovalWaiting,
					catalog.ApprovalGranted,
					catalog.ApprovalRefused,
					catalog.ApprovalExpired,
					catalog.ApprovalVoid,
					catalog.ApprovalUsed:
				default:
					return nil, &refuse.Error{Field: "state", Message: fmt.Sprintf("%.80q is no state", string(state)),
						Remedy: "write waiting, granted, refused, expired, void or used"}
				}
				return a.service.Catalog.Approvals(ctx, state, p)
			},
			view.ApprovalOf,
		).asks(
			"state",
		),
		get("/approvals/{approval}", "Approval", "One request",
			func(ctx context.Context, r request) (*view.Approval, error) {
				return one(view.ApprovalOf)(a.service.Catalog.Approval(ctx, r.Param("approval")))
			}),
		take(
			"POST",
			"/approvals/{approval}/approve",
			"Approve",
			"Approve what is asked for; what was to begin by itself begins "+
				"with the last approval that it needs",
			decide(true),
		),
		take("POST", "/approvals/{approval}/refuse", "Refuse", "Refuse what is asked for", decide(false)),
		take("POST", "/approvals/{approval}/withdraw", "Withdraw", "Take a request of your own back",
			func(ctx context.Context, r request, in Decision) (*view.Approval, error) {
				return one(view.ApprovalOf)(s.Withdraw(ctx, r.who(), r.Param("approval"), in.Reason))
			}),
		take(
			"POST",
			"/plans/{plan}/approve",
			"ApprovePlan",
			"Approve the run of a plan, before or after somebody asks for it",
			func(ctx context.Context, r request, in Decision) (*view.Approval, error) {
				asked, err := s.OfPlan(ctx, r.Param("plan"))
				if err != nil {
					return nil, err
				}
				return one(view.ApprovalOf)(s.Decide(ctx, r.who(), asked.ID, true, in.Reason))
			},
		),
		whole("/delegations", "Delegations", "Who decides for somebody else now",
			func(ctx context.Context, _ request) ([]view.Delegation, error) {
				return each(view.DelegationOf)(a.service.Catalog.Delegations(ctx))
			}),
		take("POST", "/delegations", "Delegate", "Let somebody else decide in your place for a time",
			func(ctx context.Context, r request, in NewDelegation) (*view.Delegation, error) {
				return one(view.DelegationOf)(s.Delegate(ctx, r.who(), in.To, in.Until, in.Reason))
			}).created(),
		act(
			"DELETE",
			"/delegations/{delegation}",
			"EndDelegation",
			"End a delegation of yours; anybody's, for administrators",
			func(ctx context.Context, r request) (none, error) {
				from := r.who().Name
				of := &from
				if r.who().May(rights.Administer) {
					of = nil
				}
				return none{}, a.service.Catalog.EndDelegation(ctx, r.actor(), r.Param("delegation"), of)
			},
		),
	}
}

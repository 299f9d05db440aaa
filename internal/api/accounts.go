package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/api/view"
	"ambercellar/internal/core/rights"
	"ambercellar/internal/service"
)

// accountRoutes are the routes of who may come in.
func (a *API) accountRoutes() []route {
	s := a.service
	return []route{
		whole("/accounts", "Accounts", "Who may come in with a token of their own, and who might once",
			func(ctx context.Context, _ request) ([]view.Account, error) {
				return each(view.AccountOf)(s.Catalog.Accounts(ctx))
			}),
		take("POST", "/accounts", "AddAccount", "Make an account; its token is told once",
			func(ctx context.Context, r request, in NewAccount) (*MadeAccount, error) {
				token, err := s.Access.AddAccount(ctx, r.actor(), service.NewAccount{Name: in.Name, About: in.About,
					Role: in.Role, Rows: in.Rows, Expires: in.Expires})
				return &MadeAccount{Name: in.Name, Token: token}, err
			}).created(),
		take("POST", "/accounts/{account}/revoke", "RevokeAccount",
			"End an account and its sessions, at once and for good",
			func(ctx context.Context, r request, in Lift) (Items[view.Account], error) {
				if err := s.Access.RevokeAccount(ctx, r.actor(), r.Param("account"), in.Reason); err != nil {
					return Items[view.Account]{}, err
				}
				return all(each(view.AccountOf)(s.Catalog.Accounts(ctx)))
			}),
	}
}

// NewAccount is an account that is to be made.
type NewAccount struct {
	Name    string `json:"name"`
	About   string `json:"about,omitempty"`
	Role    string `json:"role"`              // viewer, operator, approver or administrator
	Rows    bool   `json:"rows,omitempty"`    // it sees values of rows: samples, searches and files
	Expires string `json:"expires,omitempty"` // an instant, or a duration like P90D; empty: never
}

// MadeAccount is a new account with its token, which is told this once.
type MadeAccount struct {
	Name  string `json:"name"`
	Token string `json:"token"` // for AMBERCELLAR_TOKEN, or to sign in to the console with
}

func sessionOf(who *service.Who) Session {
	out := Session{Actor: who.Name, Role: who.Role, Rights: []rights.Right{}}
	for _, right := range rights.Rights {
		if who.May(right) {
			out.Rights = append(out.Rights, right)
		}
	}
	return out
}

// allowed lets those pass who have a right.
func allowed(right rights.Right) gin.HandlerFunc {
	return func(c *gin.Context) {
		who := request{c}.who()
		if who.May(right) {
			return
		}
		p := problem(http.StatusForbidden, "right", "You may not do that",
			fmt.Sprintf("%s is %s and may not %s", who.Name, who.Role, may[right]))
		p.Remedy = fmt.Sprintf("ask somebody who may, or an administrator for an account with the right %q", right)
		fail(c, p)
	}
}

// may says in words what each right is for.
var may = map[rights.Right]string{
	rights.See: "see what the service does", rights.Rows: "see values of rows",
	rights.Operate: "plan, run, restore or verify anything", rights.Approve: "decide on what others ask for",
	rights.Administer: "change what the service is told: sources, stores, rules, guard rails, holds, accounts",
}

// needs names operations by the right that they need, where that is not the usual one: to see, of what only reads, and
// to administer, of all else.
var needs = map[rights.Right][]string{
	rights.See:  {"CheckRules", "CompareRules", "PreviewRule", "CheckFilter", "SpeakSchedule", "SignOut", "EndRequest"},
	rights.Rows: {"Sample", "Search", "SearchRows", "Summarise", "RestoreFile", "ReplacedRows"},
	rights.Operate: {"MakePlan", "StartRun", "PauseRun", "SetPace", "ResumeRun", "DeleteCopied", "CancelRun",
		"SetPriority", "VerifySegment", "MoveSegment", "Retrieve", "PreviewRetrieval", "Verify", "PlanDisposal",
		"PlanErasure", "StartDisposal", "CancelDisposal", "RequestRestore", "PreviewRestore", "KeepRestored", "Fire",
		"OffSchedule", "OnSchedule", "Acknowledge", "PauseJob", "ResumeJob", "CancelJob", "SetJobPriority", "Resend",
		"CancelDelivery", "MakePartitions", "CheckStore", "Freeze"},
	rights.Approve:    {"ApproveDisposal", "ApproveRestore", "RefuseRestore"},
	rights.Administer: {"BackupCatalog", "Support", "Configuration", "Accounts"},
}

// right is what a route needs.
func (r route) right() rights.Right {
	for right, names := range needs {
		if slices.Contains(names, r.name) {
			return right
		}
	}
	if r.method == http.MethodGet {
		return rights.See
	}
	return rights.Administer
}

package api

import (
	"context"
	"net/http"
	"slices"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rights"
	"ambercellar/internal/service"
)

// accountRoutes are the routes of who may come in.
func (a *API) accountRoutes() []route {
	s := a.service
	list := func(ctx context.Context) (Items[view.Account], error) {
		return all(each(view.AccountOf)(s.Catalog.Accounts(ctx)))
	}
	return []route{
		whole("/accounts", "Accounts", "Who may come in, and who might once: persons and services",
			func(ctx context.Context, _ request) ([]view.Account, error) {
				return each(view.AccountOf)(s.Catalog.Accounts(ctx))
			}),
		take("POST", "/accounts", "AddAccount", "Make an account; its token or first password is told once",
			func(ctx context.Context, r request, in NewAccount) (*MadeAccount, error) {
				secret, err := s.Access.AddAccount(ctx, r.actor(), service.NewAccount{Name: in.Name, Kind: in.Kind,
					About: in.About, Role: in.Role, Rows: in.Rows, Grants: in.Grants, Expires: in.Expires,
					Owner: in.Owner,
					Email: in.Email, Issuer: in.Issuer, Identity: in.Identity})
				out := &MadeAccount{Name: in.Name}
				if in.Kind == catalog.Person {
					out.Password = secret
				} else {
					out.Token = secret
				}
				return out, err
			}).created(),
		take("PATCH", "/accounts/{account}", "ChangeAccount",
			"Change what an account is and may do; its sessions end where that changes",
			func(ctx context.Context, r request, in ChangedAccount) (*view.Account, error) {
				return one(view.AccountOf)(s.Access.ChangeAccount(ctx, r.actor(), r.Param("account"),
					service.AccountChange(in)))
			}),
		act("POST", "/accounts/{account}/password", "GivePassword",
			"Give a person a new password for one sign-in, and take the second factor away; their sessions end",
			func(ctx context.Context, r request) (*MadeAccount, error) {
				password, err := s.Access.GivePassword(ctx, r.actor(), r.Param("account"))
				return &MadeAccount{Name: r.Param("account"), Password: password}, err
			}),
		take("POST", "/accounts/{account}/revoke", "RevokeAccount",
			"End an account and its sessions, at once and for good",
			func(ctx context.Context, r request, in Lift) (Items[view.Account], error) {
				if err := s.Access.RevokeAccount(ctx, r.actor(), r.Param("account"), in.Reason); err != nil {
					return Items[view.Account]{}, err
				}
				return list(ctx)
			}),
	}
}

// NewAccount is an account that is to be made.
type NewAccount struct {
	Name string `json:"name"`
	// person, with a password, or service, with a token; empty: service
	Kind  catalog.AccountKind `json:"kind,omitempty"`
	About string              `json:"about,omitempty"`
	Email string              `json:"email,omitempty"`
	// in all sources: viewer, operator, approver or administrator; none: only what grants give in single ones
	Role    string        `json:"role"`
	Rows    bool          `json:"rows,omitempty"`    // it sees values of rows: samples, searches and files
	Grants  rights.Grants `json:"grants,omitempty"`  // what it may do besides, by source
	Expires string        `json:"expires,omitempty"` // an instant, or a duration like P90D; empty: never
	// the person whose account it is; empty: it stands for itself
	Owner    string `json:"owner,omitempty"`
	Issuer   string `json:"issuer,omitempty"`   // of single sign-on, where the person comes in by that
	Identity string `json:"identity,omitempty"` // how the issuer calls the person
}

// ChangedAccount is what is to be changed of an account; what is left out stays.
type ChangedAccount struct {
	About   *string        `json:"about,omitempty"`
	Role    *string        `json:"role,omitempty"`
	Owner   *string        `json:"owner,omitempty"`
	Email   *string        `json:"email,omitempty"`
	Rows    *bool          `json:"rows,omitempty"`
	Grants  *rights.Grants `json:"grants,omitempty"`
	Expires *string        `json:"expires,omitempty"` // an instant, a duration, or never
}

// MadeAccount is a new account with its secret, which is told this once.
type MadeAccount struct {
	Name     string `json:"name"`
	Token    string `json:"token"`    // of a service: for AMBERCELLAR_TOKEN
	Password string `json:"password"` // of a person: for signing in once, within three days
}

func sessionOf(who *service.Who) Session {
	out := Session{Actor: who.Name, Role: who.Role, Rights: []rights.Right{}, Grants: who.Grants, Kind: "administrator"}
	for _, right := range rights.Rights {
		if who.May(right) {
			out.Rights = append(out.Rights, right)
		}
	}
	if out.Grants == nil {
		out.Grants = rights.Grants{}
	}
	if a := who.Account; a != nil {
		out.Kind, out.MustChange, out.SecondFactor = string(a.Kind), a.MustChange, a.Second != ""
	}
	if who.Session != nil {
		out.Session, out.ExpiresAt = who.Session.ID, &who.Session.ExpiresAt
	}
	return out
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
	rights.See: {"CheckRules", "CheckFilter", "SpeakSchedule", "SignOut", "EndRequest",
		"ChangePassword", "Pair", "OfferSecond", "TakeSecond", "EndSession", "Approve", "Refuse", "Withdraw",
		"Delegate", "EndDelegation", "MakeAuditExport", "DiscardAuditExport", "MakeAuditSchedule", "EndAuditSchedule"},
	rights.Rows: {"Sample", "Search", "SearchRows", "Summarise", "RestoreFile", "ReplacedRows"},
	rights.Operate: {"CompareRules", "PreviewRule", "MakePlan", "StartRun", "PauseRun", "SetPace", "ResumeRun",
		"DeleteCopied", "CancelRun",
		"SetPriority", "VerifySegment", "MoveSegment", "Retrieve", "PreviewRetrieval", "Verify", "PlanDisposal",
		"PlanErasure", "StartDisposal", "CancelDisposal", "RequestRestore", "PreviewRestore", "KeepRestored", "Fire",
		"OffSchedule", "OnSchedule", "Acknowledge", "PauseJob", "ResumeJob", "CancelJob", "SetJobPriority", "Resend",
		"CancelDelivery", "MakePartitions", "CheckStore", "Freeze"},
	rights.Approve:    {"ApproveDisposal", "ApproveRestore", "RefuseRestore", "ApprovePlan"},
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

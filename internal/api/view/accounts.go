package view

import (
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rights"
)

// Account is who may come in, or might once: a person or a service.
type Account struct {
	Name         string              `json:"name"`
	Kind         catalog.AccountKind `json:"kind"`  // person or service
	Owner        string              `json:"owner"` // the person whose account it is; empty: it stands for itself
	About        string              `json:"about"`
	Email        string              `json:"email"`
	Role         rights.Role         `json:"role"`   // in all sources
	Rows         bool                `json:"rows"`   // it sees values of rows
	Grants       rights.Grants       `json:"grants"` // what it may do besides, by source
	MustChange   bool                `json:"must_change"`
	SecondFactor bool                `json:"second_factor"`
	Issuer       string              `json:"issuer"`   // of single sign-on; empty: none
	Identity     string              `json:"identity"` // how the issuer calls the person
	CreatedAt    catalog.Time        `json:"created_at"`
	CreatedBy    string              `json:"created_by"`
	ExpiresAt    *catalog.Time       `json:"expires_at"`     // null: never
	UsedAt       *catalog.Time       `json:"used_at"`        // of a token, to the minute; null: never
	UsedFrom     string              `json:"used_from"`      // the address that the token was last used from
	SignedInAt   *catalog.Time       `json:"signed_in_at"`   // null: never
	SignedInFrom string              `json:"signed_in_from"` // the address of the last sign-in
	RevokedAt    *catalog.Time       `json:"revoked_at"`     // null: it stands
	RevokedBy    string              `json:"revoked_by"`
	Reason       string              `json:"reason"` // why it was revoked
}

// AccountOf shows an account.
func AccountOf(a *catalog.Account) Account {
	grants := a.Grants.V
	if grants == nil {
		grants = rights.Grants{}
	}
	return Account{
		Name:         a.Name,
		Kind:         a.Kind,
		Owner:        a.Owner,
		About:        a.About,
		Email:        a.Email,
		Role:         a.Role,
		Rows:         a.SeesRows,
		Grants:       grants,
		MustChange:   a.MustChange,
		SecondFactor: a.Second != "",
		Issuer:       a.Issuer,
		Identity:     a.Identity,
		CreatedAt:    a.CreatedAt,
		CreatedBy:    a.CreatedBy,
		ExpiresAt:    a.ExpiresAt,
		UsedAt:       a.UsedAt,
		UsedFrom:     a.UsedFrom,
		SignedInAt:   a.SignedInAt,
		SignedInFrom: a.SignedInFrom,
		RevokedAt:    a.RevokedAt,
		RevokedBy:    a.RevokedBy,
		Reason:       a.Reason,
	}
}

// OpenSession is what somebody has begun who signed in.
type OpenSession struct {
	ID        string       `json:"id"`      // its public name, which stands in the audit log
	Account   string       `json:"account"` // empty: the administrator's token
	BegunAt   catalog.Time `json:"begun_at"`
	ExpiresAt catalog.Time `json:"expires_at"`
	UsedAt    catalog.Time `json:"used_at"` // to the minute
	Address   string       `json:"address"` // from which it was begun
	Agent     string       `json:"agent"`   // what the browser or the command line calls itself
	Own       bool         `json:"own"`     // it is the one that asks
}

// OpenSessionOf shows a session. own is the one that asks.
func OpenSessionOf(s *catalog.Session, own string) OpenSession {
	return OpenSession{ID: s.ID, Account: s.Account, BegunAt: s.BegunAt, ExpiresAt: s.ExpiresAt, UsedAt: s.UsedAt,
		Address: s.Address, Agent: s.Agent, Own: s.ID == own}
}

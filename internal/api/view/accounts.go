package view

import (
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rights"
)

// Account is who may come in with a token of its own, or might once.
type Account struct {
	Name      string        `json:"name"`
	About     string        `json:"about"`
	Role      rights.Role   `json:"role"`
	Rows      bool          `json:"rows"` // it sees values of rows
	CreatedAt catalog.Time  `json:"created_at"`
	CreatedBy string        `json:"created_by"`
	ExpiresAt *catalog.Time `json:"expires_at"` // null: never
	UsedAt    *catalog.Time `json:"used_at"`    // to the minute; null: never
	UsedFrom  string        `json:"used_from"`  // the address that it was last used from
	RevokedAt *catalog.Time `json:"revoked_at"` // null: it stands
	RevokedBy string        `json:"revoked_by"`
	Reason    string        `json:"reason"` // why it was revoked
}

// AccountOf shows an account.
func AccountOf(a *catalog.Account) Account {
	return Account{Name: a.Name, About: a.About, Role: a.Role, Rows: a.SeesRows, CreatedAt: a.CreatedAt,
		CreatedBy: a.CreatedBy, ExpiresAt: a.ExpiresAt, UsedAt: a.UsedAt, UsedFrom: a.UsedFrom,
		RevokedAt: a.RevokedAt, RevokedBy: a.RevokedBy, Reason: a.Reason}
}

// Package rights says which roles there are, and what each may do.
package rights

import (
	"fmt"
	"slices"
)

// Right is leave to do one kind of thing.
type Right string

const (
	See        Right = "see"        // counts, rules, states and records, but no values of rows
	Rows       Right = "rows"       // values of rows: samples, searches and files
	Operate    Right = "operate"    // plans, runs, restores, verifications and what goes on in the queue
	Approve    Right = "approve"    // decide on what others have asked for
	Administer Right = "administer" // sources, stores, rules, guard rails, holds, accounts and settings
)

// Role is a set of rights that an account has.
type Role string

const (
	Nobody        Role = "none" // in all sources: what somebody may do is what they may in single ones
	Viewer        Role = "viewer"
	Operator      Role = "operator"
	Approver      Role = "approver"
	Administrator Role = "administrator"
)

// Roles are all roles, those with the fewest rights first.
var Roles = []Role{Nobody, Viewer, Operator, Approver, Administrator}

// Rights are all rights.
var Rights = []Right{See, Rows, Operate, Approve, Administer}

var granted = map[Role][]Right{
	Nobody:        {},
	Viewer:        {See},
	Operator:      {See, Operate},
	Approver:      {See, Approve},
	Administrator: Rights,
}

// ParseRole reads a role.
func ParseRole(text string) (Role, error) {
	if r := Role(text); granted[r] != nil {
		return r, nil
	}
	return "", fmt.Errorf("%q is not a role", text)
}

// May says whether a role has a right. Rows is given to an account besides its role, but for administrators.
func (r Role) May(right Right) bool { return slices.Contains(granted[r], right) }

// Grant is what somebody may do in one source, besides what they may do in all.
type Grant struct {
	Role Role `json:"role"`           // viewer, operator, approver or administrator
	Rows bool `json:"rows,omitempty"` // they see values of rows
}

// May says whether a grant holds a right.
func (g Grant) May(right Right) bool { return g.Role.May(right) || right == Rows && g.Rows }

// Grants are grants by source.
type Grants map[string]Grant

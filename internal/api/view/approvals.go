package view

import (
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/approval"
)

// Approval is a request for something to be approved before it is carried out, and what became of it.
type Approval struct {
	ID        string                `json:"id"`
	What      approval.What         `json:"what"`
	Source    string                `json:"source"`
	Table     string                `json:"table"`   // empty: of the source as a whole
	Rule      string                `json:"rule"`    // empty: of no rule
	Subject   string                `json:"subject"` // the plan, restore, disposal, hold or source
	Digest    string                `json:"digest"`  // SHA-256 of exactly what is asked for
	Summary   string                `json:"summary"` // of that, in words
	Rows      int64                 `json:"rows"`    // that it is about; less than 0: not known
	Persons   int                   `json:"persons"` // so many have to approve it
	AskedBy   string                `json:"asked_by"`
	AskedAt   catalog.Time          `json:"asked_at"`
	ExpiresAt catalog.Time          `json:"expires_at"` // when it is too late to decide, or to carry it out
	State     catalog.ApprovalState `json:"state"`
	EndedAt   *catalog.Time         `json:"ended_at"`
	Begins    bool                  `json:"begins"`   // it is carried out by itself once it is approved
	BegunAt   *catalog.Time         `json:"begun_at"` // null: it was not
	Trouble   string                `json:"trouble"`  // why it could not be carried out
	Votes     []Vote                `json:"votes"`
}

// Vote is how a person decided on a request.
type Vote struct {
	Person    string       `json:"person"`
	Account   string       `json:"account"`    // under which they decided
	ForPerson string       `json:"for_person"` // in whose place; empty: in their own
	Approves  bool         `json:"approves"`
	Reason    string       `json:"reason"`
	At        catalog.Time `json:"at"`
}

// ApprovalOf shows a request.
func ApprovalOf(a *catalog.Approval) Approval {
	out := Approval{ID: a.ID, What: a.What, Source: a.Source, Table: a.Table, Rule: a.Rule, Subject: a.Subject,
		Digest: a.Digest, Summary: a.Summary, Rows: a.Rows, Persons: a.Persons, AskedBy: a.AskedBy, AskedAt: a.AskedAt,
		ExpiresAt: a.ExpiresAt, State: a.State, EndedAt: a.EndedAt, Begins: a.Begins != "", BegunAt: a.BegunAt,
		Trouble: a.Trouble, Votes: []Vote{}}
	for _, v := range a.Votes {
		out.Votes = append(out.Votes, Vote{Person: v.Person, Account: v.Account, ForPerson: v.ForPerson,
			Approves: v.Approves, Reason: v.Reason, At: v.At})
	}
	return out
}

// Delegation says who decides for somebody else for a time.
type Delegation struct {
	ID     string       `json:"id"`
	From   string       `json:"from"` // for whom
	To     string       `json:"to"`   // who decides
	Until  catalog.Time `json:"until"`
	Reason string       `json:"reason"`
	MadeAt catalog.Time `json:"made_at"`
}

// DelegationOf shows a delegation.
func DelegationOf(d *catalog.Delegation) Delegation {
	return Delegation{ID: d.ID, From: d.From, To: d.To, Until: d.Until, Reason: d.Reason, MadeAt: d.MadeAt}
}

package entryfile

import (
	"strings"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/audit"
)

// Entry is an entry of the audit log.
type Entry struct {
	ID      int64              `json:"id"` // from 1 on, without a gap
	At      catalog.Time       `json:"at"`
	Actor   string             `json:"actor"`   // the account, or service
	Session string             `json:"session"` // by which session; empty: by a token, or by the service itself
	Address string             `json:"address"` // from where; empty: not from outside
	Action  string             `json:"action"`
	Subject string             `json:"subject"`
	Outcome audit.EntryOutcome `json:"outcome"` // done, refused or failed
	Digest  string             `json:"digest"`  // SHA-256 of the detail, with a salt
	Hash    string             `json:"hash"`    // SHA-256 of the entry, with that of the one before
	Detail  string             `json:"detail"`
	Erased  bool               `json:"erased"` // the detail was taken away, which another entry records

	Withheld bool `json:"withheld"` // the detail may name values of rows, which whoever asks may not see
}

// withRows are the kinds of entries whose details may name values of rows.
var withRows = map[string]bool{
	"rows":     true,
	"hold":     true,
	"restore":  true,
	"plan":     true,
	"disposal": true,
	"erasure":  true,
	"segment":  true,
	"request":  true,
}

// EntryOf shows a record of the catalog, to somebody who may see values of rows or not.
func EntryOf(e *catalog.Entry, rows bool) Entry {
	out := Entry{ID: e.ID, At: e.At, Actor: e.Actor, Session: e.Session, Address: e.Address, Action: e.Action,
		Subject: e.Subject, Outcome: e.Outcome, Digest: e.Digest, Hash: e.Hash, Detail: e.Detail, Erased: e.Erased}
	if kind, _, _ := strings.Cut(e.Action, " "); !rows && withRows[kind] && e.Detail != "" {
		out.Detail, out.Withheld = "", true
	}
	return out
}

package service

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/approval"
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/refuse"
)

// SetGuard sets the guard rails of a source.
func (s *Places) SetGuard(ctx context.Context, actor, source string, g catalog.Guard) error {
	for _, text := range g.Approve {
		if _, err := approval.Parse(text); err != nil {
			return &refuse.Error{Field: "approve", Message: err.Error(),
				Remedy: "write runs, emptyings, overrides, restores, disposals, erasures, loosenings, lifts or " +
					"guards, and " +
					"behind it what it may need: @RULE, :PERSONS, :above=ROWS"}
		}
	}
	if _, err := time.LoadLocation(g.Zone); err != nil || strings.EqualFold(g.Zone, "local") {
		return &refuse.Error{Field: "zone", Message: fmt.Sprintf("%q is no zone", g.Zone),
			Remedy: "write an IANA name like Europe/Athens, or UTC"}
	}
	if _, err := s.Catalog.Source(ctx, source); err != nil {
		return err
	}
	change := guardChange{Source: source, Guard: g}
	before, err := s.Catalog.Guard(ctx, source)
	if err != nil {
		return err
	}
	if change.Before, err = approval.Digest(before); err != nil {
		return err
	}
	if ctx, err = s.Allow(ctx, deps.Need{Whats: []approval.What{approval.Guards}, Source: source, Subject: source,
		Of:      change,
		Summary: "the guard rails of " + source + " change", Asker: actor, Begins: change}); err != nil {
		return err
	}
	return s.Catalog.SetGuard(ctx, actor, source, g)
}

// guardChange is a change of guard rails that is made by itself once it is approved, in the place of those before it.
type guardChange struct {
	Source string        `json:"source"`
	Guard  catalog.Guard `json:"guard"`
	Before string        `json:"before"` // the digest of those that it changes
}

// CancelDisposal decides against a disposal.
func (s *Queue) CancelDisposal(ctx context.Context, actor, id string) (*catalog.Disposal, error) {
	return s.Catalog.SetDisposalState(ctx, actor, id, catalog.DisposalCancelled, "", catalog.At(s.Now()))
}

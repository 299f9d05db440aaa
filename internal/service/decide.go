package service

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
)

// SetGuard sets the guard rails of a source.
func (s *Places) SetGuard(ctx context.Context, actor, source string, g catalog.Guard) error {
	for _, what := range g.Approve {
		if what != catalog.ApproveRestores && what != catalog.ApproveDisposals {
			return &refuse.Error{Field: "approve",
				Message: fmt.Sprintf("%q is nothing that can be made to need an approval", what),
				Remedy:  "write restores, disposals, or both"}
		}
	}
	if _, err := time.LoadLocation(g.Zone); err != nil || strings.EqualFold(g.Zone, "local") {
		return &refuse.Error{Field: "zone", Message: fmt.Sprintf("%q is no zone", g.Zone),
			Remedy: "write an IANA name like Europe/Athens, or UTC"}
	}
	if _, err := s.Catalog.Source(ctx, source); err != nil {
		return err
	}
	return s.Catalog.SetGuard(ctx, actor, source, g)
}

// ApproveDisposal approves a disposal that waits for it; it is still to be started.
func (s *Queue) ApproveDisposal(ctx context.Context, actor, id string) (*catalog.Disposal, error) {
	return s.Catalog.ApproveDisposal(ctx, actor, id, catalog.At(s.Now()))
}

// CancelDisposal decides against a disposal.
func (s *Queue) CancelDisposal(ctx context.Context, actor, id string) (*catalog.Disposal, error) {
	return s.Catalog.SetDisposalState(ctx, actor, id, catalog.DisposalCancelled, "", catalog.At(s.Now()))
}

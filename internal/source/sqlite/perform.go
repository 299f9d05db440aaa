package sqlite

import (
	"context"

	"ambercellar/internal/source"
	"ambercellar/internal/source/sqlbase"
)

// Perform sends a statement of an administrator's as it is.
func (s *Source) Perform(ctx context.Context, statement string, reading bool) (*source.Answer, error) {
	var before []string
	if reading {
		before = []string{"PRAGMA query_only = 1"}
	}
	a, err := sqlbase.Perform(ctx, s.read, before, statement, "SELECT changes()")
	return a, source.Of(s.cfg.Name, err)
}

package mariadb

import (
	"context"
	"fmt"
	"time"

	"ambercellar/internal/source"
	"ambercellar/internal/source/sqlbase"
)

// Perform sends a statement of an administrator's as it is. MariaDB stops what goes on beyond its time by itself; MySQL
// does that to queries alone.
func (s *Source) Perform(ctx context.Context, statement string, reading bool) (*source.Answer, error) {
	var before []string
	if at, ok := ctx.Deadline(); ok {
		left := max(time.Until(at), time.Millisecond)
		if s.mariadb {
			before = append(before, fmt.Sprintf("SET SESSION max_statement_time = %.3f", left.Seconds()))
		} else {
			before = append(before, fmt.Sprintf("SET SESSION max_execution_time = %d", left.Milliseconds()))
		}
	}
	if reading {
		before = append(before, "START TRANSACTION READ ONLY")
	}
	a, err := sqlbase.Perform(ctx, s.db, before, statement, "SELECT row_count()")
	return a, source.Of(s.cfg.Name, unreachable(err))
}

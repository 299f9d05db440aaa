package postgres

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/source"
	"ambercellar/internal/source/sqlbase"
)

// Perform sends a statement of an administrator's as it is. Names without a schema are looked for where the server's
// usual path says.
func (s *Source) Perform(ctx context.Context, statement string, reading bool) (*source.Answer, error) {
	var a *source.Answer
	err := s.conn(ctx, func(pooled *pgxpool.Conn) error {
		c := pooled.Hijack() // whatever the statement made of the session ends
		defer c.Close(context.WithoutCancel(ctx))
		before := []string{`SET search_path = "$user", public`}
		if at, ok := ctx.Deadline(); ok {
			before = append(before, fmt.Sprintf("SET statement_timeout = %d", max(time.Until(at).Milliseconds(), 1)))
		}
		if reading {
			before = append(before, "SET default_transaction_read_only = on")
		}
		for _, b := range before {
			if _, err := c.Exec(ctx, b); err != nil {
				return err
			}
		}
		rows, err := c.Query(ctx, statement, pgx.QueryExecModeDescribeExec) // takes one statement alone
		if err != nil {
			return err
		}
		defer rows.Close()
		a = &source.Answer{}
		for _, f := range rows.FieldDescriptions() {
			a.Columns = append(a.Columns, f.Name)
		}
		for rows.Next() {
			values, err := rows.Values()
			if err != nil {
				return err
			}
			row := make([]string, len(values))
			for i, v := range values {
				row[i] = sqlbase.Text(v)
			}
			a.Add(row)
		}
		rows.Close()
		a.Changed = rows.CommandTag().RowsAffected()
		return rows.Err()
	})
	return a, err
}

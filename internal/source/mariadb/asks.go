package mariadb

import (
	"context"
	"database/sql/driver"
	"errors"

	"ambercellar/internal/source"
)

// counting counts the statements of a connection as the server does (MariaDB documentation, "Server Status Variables",
// Questions): each that is carried out, prepared or not, and not the preparing.
type counting struct {
	connection
	address string // of the server
}

// connection is all that the driver's connections can do.
type connection interface {
	driver.Conn
	driver.ConnBeginTx
	driver.ConnPrepareContext
	driver.ExecerContext
	driver.QueryerContext
	driver.NamedValueChecker
	driver.Pinger
	driver.SessionResetter
	driver.Validator
}

func (c counting) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	out, err := c.connection.ExecContext(ctx, query, args)
	c.asked(err)
	return out, err
}

func (c counting) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	out, err := c.connection.QueryContext(ctx, query, args)
	c.asked(err)
	return out, err
}

// asked counts a statement, unless the driver left it to be prepared.
func (c counting) asked(err error) {
	if !errors.Is(err, driver.ErrSkip) {
		source.Asks(c.address)
	}
}

func (c counting) PrepareContext(ctx context.Context, query string) (driver.Stmt, error) {
	out, err := c.connection.PrepareContext(ctx, query)
	if s, ok := out.(statement); ok && err == nil {
		return countingStatement{s, c.address}, nil
	}
	return out, err
}

type countingStatement struct {
	statement
	address string
}

// statement is all that the driver's prepared statements can do.
type statement interface {
	driver.Stmt
	driver.StmtExecContext
	driver.StmtQueryContext
	driver.NamedValueChecker
}

func (s countingStatement) ExecContext(ctx context.Context, args []driver.NamedValue) (driver.Result, error) {
	source.Asks(s.address)
	return s.statement.ExecContext(ctx, args)
}

func (s countingStatement) QueryContext(ctx context.Context, args []driver.NamedValue) (driver.Rows, error) {
	source.Asks(s.address)
	return s.statement.QueryContext(ctx, args)
}

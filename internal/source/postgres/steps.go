package postgres

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5/pgconn"
)

// step is one statement of several that go to the server in one message, so that a transaction waits for few answers.
type step struct {
	query  string
	values []string
	row    func([][]byte) error // gets the rows, in binary form, valid during the call only; nil: they are not wanted
	// its text is the same for every table and batch: the server keeps how it is carried out
	fixed bool
}

// statementsKey is where a connection keeps the names of the statements that are prepared on it.
const statementsKey = "ambercellar.statements"

// prepared returns the name of a statement that the connection keeps.
func prepared(ctx context.Context, pc *pgconn.PgConn, query string, values int) (string, error) {
	names, _ := pc.CustomData()[statementsKey].(map[string]string)
	if names == nil {
		names = map[string]string{}
		pc.CustomData()[statementsKey] = names
	}
	if name, ok := names[query]; ok {
		return name, nil
	}
	_, types := texts(make([]string, values)...)
	name := fmt.Sprintf("ambercellar_%d", len(names)+1)
	if _, err := pc.Prepare(ctx, name, query, types); err != nil {
		return "", err
	}
	names[query] = name
	return name, nil
}

// together carries out statements in one exchange with the server. Behind one that fails, none is carried out; the
// transaction is then to be rolled back.
func together(ctx context.Context, pc *pgconn.PgConn, steps ...step) error {
	names := make([]string, len(steps))
	for i, s := range steps {
		if s.fixed {
			var err error
			if names[i], err = prepared(ctx, pc, s.query, len(s.values)); err != nil {
				return err
			}
		}
	}
	p := pc.StartPipeline(ctx)
	binary := []int16{1}
	for i, s := range steps {
		params, types := texts(s.values...)
		if s.fixed {
			p.SendQueryPrepared(names[i], params, nil, binary)
		} else {
			p.SendQueryParams(s.query, params, types, nil, binary)
		}
	}
	err := p.Sync()
	for i := 0; err == nil && i < len(steps); i++ {
		var got any
		if got, err = p.GetResults(); err == nil {
			result, ok := got.(*pgconn.ResultReader)
			if !ok {
				err = fmt.Errorf("the server answered a statement with %T", got)
				break
			}
			var failed error
			for result.NextRow() {
				if failed == nil && steps[i].row != nil {
					failed = steps[i].row(result.Values())
				}
			}
			_, err = result.Close()
			err = errors.Join(err, failed)
		}
	}
	return errors.Join(err, p.Close())
}

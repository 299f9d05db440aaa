package mariadb

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
	"ambercellar/internal/source/bykey"
)

// Restore puts rows back whose key is free, and reads them again from the table to compute their digest. If a key is
// taken between the look and the insert, all is taken back and tried once more.
func (s *Source) Restore(ctx context.Context, req source.RestoreRequest) (*source.RestoreOutcome, error) {
	if err := s.makeRestoredTable(ctx, req.Table); err != nil {
		return nil, err
	}
	out, err := s.restore(ctx, req)
	if code(err) == duplicate {
		out, err = s.restore(ctx, req)
	}
	if err != nil {
		return nil, fmt.Errorf("table %s: rows cannot be put back: %w", req.Table.Name, err)
	}
	return out, nil
}

// restoring is a batch of rows being put back in a transaction.
type restoring struct {
	*batchWork
	req      source.RestoreRequest
	out      *source.RestoreOutcome
	row      *bykey.Reader
	keys     [][]value.Value
	ordinals map[string]int  // of rows, by key
	present  map[string]bool // keys that the table has
	others   map[string]bool // keys of which the table has other rows than were archived, which are replaced
}

func (s *Source) restore(ctx context.Context, req source.RestoreRequest) (*source.RestoreOutcome, error) {
	t := req.Table
	x := &restoring{req: req, row: &bykey.Reader{Columns: len(req.Columns)}, ordinals: map[string]int{},
		present: map[string]bool{}, others: map[string]bool{},
		out: &source.RestoreOutcome{Present: make([]bool, req.Rows.Rows())}}
	for i := range req.Rows.Rows() {
		key := bykey.KeyOf(t, req.Columns, req.Rows.Row(i))
		x.keys = append(x.keys, key)
		x.ordinals[x.row.Key(key)] = i
	}
	err := s.transaction(ctx, func(c *sql.Conn) error {
		x.batchWork = s.work(c, source.Batch{Selection: source.Selection{Table: t}, Columns: req.Columns}, false)
		if !unlabelled(t, req) { // what the server would change is told by the digests anyway
			if err := x.exec(ctx, "SET SESSION sql_mode = '"+strictMode+"'"); err != nil {
				return err
			}
			defer x.exec(context.WithoutCancel(ctx), "SET SESSION sql_mode = '"+looseMode+"'")
		}
		if err := x.lookUp(ctx); err != nil {
			return err
		}
		inserted, err := x.putBack(ctx)
		if err != nil {
			return err
		}
		return x.compare(ctx, inserted)
	})
	return x.out, err
}

// lookUp finds out which rows the table has, and hands on those that are to be replaced.
func (x *restoring) lookUp(ctx context.Context) error {
	lock := ""
	if x.req.Replace != nil {
		lock = " FOR UPDATE"
	}
	there := &value.Chunk{Width: len(x.req.Columns)}
	err := x.read(ctx, x.keys, newDialect(x.b.Selection, "t."), "", lock, func(row []value.Value) error {
		d, key := x.row.Row(row)
		if x.present[key] = true; x.req.Replace != nil && d != x.req.Digests[x.ordinals[key]] {
			x.others[key] = true
			for _, v := range row[:len(x.req.Columns)] {
				there.Values = append(there.Values, v.Clone())
			}
		}
		return nil
	})
	if err != nil || there.Rows() == 0 {
		return err
	}
	if err := x.req.Replace(there); err != nil {
		return err
	}
	x.out.Replaced = int64(there.Rows())
	return nil
}

// putBack inserts the rows that the table does not have, replaces those that are to be, and records both. It returns
// their keys.
func (x *restoring) putBack(ctx context.Context) (inserted [][]value.Value, err error) {
	t, columns := x.req.Table, x.req.Columns
	insert, err := x.conn.PrepareContext(ctx, insertStatement(t, columns))
	if err != nil {
		return nil, err
	}
	defer insert.Close()
	record, err := x.conn.PrepareContext(ctx, "REPLACE INTO "+quote(restoredTable(t))+" VALUES (?"+
		strings.Repeat(", ?", len(t.Key))+")")
	if err != nil {
		return nil, err
	}
	defer record.Close()
	for i, key := range x.keys {
		k := x.row.Key(key)
		if x.out.Present[i] = x.present[k] && !x.others[k]; x.out.Present[i] {
			x.out.Skipped++
			continue
		}
		if x.others[k] {
			err = replaceRow(ctx, x.conn, t, columns, x.req.Rows.Row(i), key)
		} else {
			var args []any
			for j, v := range x.req.Rows.Row(i) {
				if !t.Columns[columns[j]].Generated {
					args = append(args, encode(v))
				}
			}
			_, err = insert.ExecContext(ctx, args...)
		}
		if err != nil {
			return nil, err
		}
		bound := []any{x.req.Restore}
		for _, v := range key {
			bound = append(bound, encode(v))
		}
		if _, err := record.ExecContext(ctx, bound...); err != nil {
			return nil, err
		}
		inserted = append(inserted, key)
	}
	return inserted, nil
}

// compare reads what was put back and compares it with what was archived.
func (x *restoring) compare(ctx context.Context, inserted [][]value.Value) error {
	err := x.read(ctx, inserted, newDialect(x.b.Selection, "t."), "", "", func(row []value.Value) error {
		d, key := x.row.Row(row)
		i, ok := x.ordinals[key]
		if !ok || d != x.req.Digests[i] {
			return source.ErrAltered
		}
		x.out.Digest.Add(d)
		x.out.Inserted++
		return nil
	})
	if err == nil && x.out.Inserted != int64(len(inserted)) {
		err = source.ErrAltered
	}
	return err
}

// unlabelled says whether a row has index 0 of an enumeration, which the server takes in its loose mode only.
func unlabelled(t *shape.Table, req source.RestoreRequest) bool {
	for j, c := range req.Columns {
		for i := 0; enumeration(&t.Columns[c]) && i < req.Rows.Rows(); i++ {
			if req.Rows.Row(i)[j].Kind == value.Int {
				return true
			}
		}
	}
	return false
}

// replaceRow gives the row under a key the restored values. Those of the key, and what the server computes, stay.
func replaceRow(ctx context.Context, c *sql.Conn, t *shape.Table, columns []int, row, key []value.Value) error {
	var sets []string
	var args []any
	for j, v := range row {
		if column := t.Columns[columns[j]]; !column.Generated && !slices.Contains(t.Key, column.Name) {
			sets, args = append(sets, quote(column.Name)+" = ?"), append(args, encode(v))
		}
	}
	if len(sets) == 0 {
		return nil
	}
	on := make([]string, len(key))
	for i, v := range key {
		on[i], args = quote(t.Key[i])+" = ?", append(args, encode(v))
	}
	_, err := c.ExecContext(ctx, fmt.Sprintf("UPDATE %s SET %s WHERE %s", quote(t.Name), strings.Join(sets, ", "),
		strings.Join(on, " AND ")), args...)
	return err
}

func insertStatement(t *shape.Table, columns []int) string {
	var names []string
	for _, c := range columns {
		if !t.Columns[c].Generated {
			names = append(names, t.Columns[c].Name)
		}
	}
	return fmt.Sprintf("INSERT INTO %s (%s) VALUES (?%s)", quote(t.Name), quoteAll("", names),
		strings.Repeat(", ?", len(names)-1))
}

// makeRestoredTable makes the record of restored rows, with key columns of the table's own types. It cannot be part of
// a transaction, so it comes before.
func (s *Source) makeRestoredTable(ctx context.Context, t *shape.Table) error {
	if there, err := s.recorded(ctx, t); err != nil || there {
		return err
	}
	columns, keys := "", make([]string, len(t.Key))
	for i, k := range t.Key {
		keys[i] = fmt.Sprintf("k%d", i+1)
		columns += fmt.Sprintf(", t.%s AS %s", quote(k), keys[i])
	}
	_, err := s.db.ExecContext(ctx,
		fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s (restore_id varchar(64) CHARACTER SET ascii NOT NULL, PRIMARY "+
			"KEY (%s)) ENGINE=InnoDB SELECT '' AS restore_id%s FROM %s t LIMIT 0",
			quote(restoredTable(t)), strings.Join(keys, ", "), columns, quote(t.Name)))
	if err != nil {
		return fmt.Errorf("table %s: the record of restored rows cannot be made: %w", t.Name, unreachable(err))
	}
	return nil
}

// MakeTable makes a table without what computes or checks values: rows come as they were. Text is compared exactly in
// it.
func (s *Source) MakeTable(ctx context.Context, name string, columns []shape.Column, key []string) error {
	parts := make([]string, len(columns), len(columns)+1)
	for i, c := range columns {
		parts[i] = quote(c.Name) + " " + c.Type
		if labelled.MatchString(c.Type) && strings.ContainsAny(c.Type, "?\\") {
			// The server names a label with characters beyond the basic plane with question marks, and would make a
			// type of those; a backslash would be more than itself.
			parts[i] = quote(c.Name) + map[bool]string{true: " varchar(255)", false: " longtext"}[enumeration(&c)] +
				" CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"
		} else if err := shape.CheckType(c.Type); err != nil || c.Type == "" {
			return fmt.Errorf("column %q: %w", c.Name, cmp.Or(err, errors.New("it has no type")))
		} else if textType.MatchString(c.Type) {
			parts[i] += " CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"
		}
		if slices.Contains(key, c.Name) {
			parts[i] += " NOT NULL"
		} else {
			parts[i] += " NULL"
		}
	}
	if len(key) > 0 {
		parts = append(parts, "PRIMARY KEY ("+quoteAll("", key)+")")
	}
	_, err := s.db.ExecContext(ctx, fmt.Sprintf("CREATE TABLE %s (%s) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4",
		quote(name), strings.Join(parts, ", ")))
	return unreachable(err)
}

var labelled = regexp.MustCompile(`(?i)^(enum|set)\(`)

var textType = regexp.MustCompile(`(?i)^(char|varchar|tinytext|text|mediumtext|longtext|enum|set)\b`)

package catalog

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/core/shape"
)

// FormerName is a name that a column of a table has had, as the administrator tells it.
type FormerName struct {
	Source string `db:"source"`
	Table  string `db:"table_name"`
	Name   string `db:"name"`    // that the column has now, or had next
	Was    string `db:"was"`     // that it had before; empty: none, the column was added
	ToldAt Time   `db:"told_at"` // when that was told
	ToldBy string `db:"told_by"`
}

// FormerNames are all that is told of a table's columns.
type FormerNames []FormerName

// Now returns the columns of an archived table under the names that they have now: one whose name was another's before
// has that, unless a column of that name stands beside it. Names follow each other, however often a column was
// renamed.
func (f FormerNames) Now(columns []shape.Column) []shape.Column {
	out := columns
	for range f { // each can apply once
		changed := false
		for _, n := range f {
			at, taken := -1, false
			for i := range out {
				if n.Was != "" && out[i].Name == n.Was {
					at = i
				}
				taken = taken || out[i].Name == n.Name
			}
			if at < 0 || taken {
				continue
			}
			if !changed && &out[0] == &columns[0] {
				out = append([]shape.Column{}, columns...)
			}
			out[at].Name, changed = n.Name, true
		}
		if !changed {
			break
		}
	}
	return out
}

// added says whether a column is told to have had no other name before.
func (f FormerNames) added(name string) bool {
	return slices.ContainsFunc(f, func(n FormerName) bool { return n.Name == name && n.Was == "" })
}

// ColumnNames is what is known of the names of a table's columns over time.
type ColumnNames struct {
	Told FormerNames
	Seen []SeenColumn
}

// SeenColumn is a name that a column was seen to have, by the number by which its database knows it.
type SeenColumn struct {
	Source   string `db:"source"`
	Table    string `db:"table_name"`
	Numbered string `db:"numbered"` // where the number holds
	Number   int    `db:"number"`
	Name     string `db:"name"`
	First    Time   `db:"first_at"` // when the column was seen under that name for the first time
	Since    Time   `db:"since"`    // and since when it has it, or had it last
	Gone     bool   `db:"gone"`     // the column was dropped
}

// ColumnNames reads what is known of a table's columns.
func (c *Catalog) ColumnNames(ctx context.Context, source, table string) (n ColumnNames, err error) {
	if n.Told, err = list[FormerName](ctx, c.db,
		"SELECT * FROM column_name WHERE source = ? AND table_name = ? ORDER BY told_at, name, was", source,
		table); err != nil {
		return n, err
	}
	n.Seen, err = list[SeenColumn](ctx, c.db,
		"SELECT * FROM column_seen WHERE source = ? AND table_name = ? ORDER BY since, number", source, table)
	return n, err
}

// scopes lists where numbers of the table held, the oldest first.
func (n ColumnNames) scopes() (out []string) {
	first := map[string]Time{}
	for _, s := range n.Seen {
		if t, ok := first[s.Numbered]; !ok || s.First.Before(t.Time) {
			first[s.Numbered] = s.First
		}
	}
	for s := range first {
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b string) int {
		return cmp.Or(first[a].Compare(first[b].Time),
			strings.Compare(a, b))
	})
	return out
}

// last is the newest name of a column by its number; nil where it was never seen.
func (n ColumnNames) last(scope string, number int) (out *SeenColumn) {
	for i := range n.Seen { // in the order in which they came up
		if s := &n.Seen[i]; s.Numbered == scope && s.Number == number {
			out = s
		}
	}
	return out
}

// Now returns the columns of an archived table under the names that they have now: by their numbers, where the
// database tells those, and by what the administrator told. A column that was dropped keeps its name, unless another
// has it now.
func (n ColumnNames) Now(numbered string, columns []shape.Column) []shape.Column {
	scopes := n.scopes()
	if at := slices.Index(scopes, numbered); numbered != "" && at >= 0 {
		columns = n.byNumber(scopes[at:], columns)
	}
	return n.Told.Now(columns)
}

// Dropped ends the name of a column that was dropped, where another has that name now.
const Dropped = " (dropped)"

func (n ColumnNames) byNumber(scopes []string, columns []shape.Column) []shape.Column {
	out := slices.Clone(columns)
	gone := make([]bool, len(out))
	for i := range out {
		if out[i].Number == 0 {
			continue
		}
		known := func(s SeenColumn) bool {
			return s.Numbered == scopes[0] && s.Number == out[i].Number && s.Name == out[i].Name
		}
		if !slices.ContainsFunc(n.Seen, known) {
			continue // a name that was never seen is newer than all that were: the catalog was turned back
		}
		if s := n.last(scopes[0], out[i].Number); s != nil {
			out[i].Name, gone[i] = s.Name, s.Gone
		}
		// whose numbers are others: the column is the one that had its name there at first
		for _, later := range scopes[1:] {
			at := -1
			if gone[i] { // and was not taken along
				break
			}
			for k, s := range n.Seen {
				if s.Numbered == later && s.Name == out[i].Name && (at < 0 || s.First.Before(n.Seen[at].First.Time)) {
					at = k
				}
			}
			if at >= 0 {
				s := n.last(later, n.Seen[at].Number)
				out[i].Name, gone[i] = s.Name, s.Gone
			}
		}
	}
	for i := range out {
		same := func(c shape.Column) bool { return c.Name == out[i].Name }
		if gone[i] && (slices.ContainsFunc(out[:i], same) || slices.ContainsFunc(out[i+1:], same)) {
			out[i].Name += Dropped
		}
	}
	return out
}

// Added says whether a column did not exist when rows with those columns were archived, none of the table's left out:
// as it is told, or as its number tells.
func (n ColumnNames) Added(name, numbered string, columns []shape.Column) bool {
	if n.Told.added(name) {
		return true
	}
	for i := range n.Seen {
		s := &n.Seen[i]
		if s.Numbered == numbered && s.Name == name && n.last(numbered, s.Number) == s {
			return !slices.ContainsFunc(columns, func(c shape.Column) bool { return c.Number == s.Number })
		}
	}
	return false
}

// SeeColumns keeps the names that columns of a table have now, by their numbers, and says whether that is news. agree
// is asked before a number is believed to have another name: false where the database may be another one, or was
// turned back. Then nothing is kept.
func (c *Catalog) SeeColumns(ctx context.Context, source string, t *shape.Table, numbered string, now time.Time,
	agree func() (bool, error)) (news bool, err error) {
	if numbered == "" {
		return false, nil
	}
	known, err := c.ColumnNames(ctx, source, t.Name)
	if err != nil {
		return false, err
	}
	var write []SeenColumn
	for _, x := range t.Columns {
		was := known.last(numbered, x.Number)
		if was != nil && was.Name == x.Name && !was.Gone {
			continue
		}
		s := SeenColumn{Source: source, Table: t.Name, Numbered: numbered, Number: x.Number, Name: x.Name,
			First: At(now), Since: At(now)}
		for _, k := range known.Seen {
			if k.Numbered == s.Numbered && k.Number == s.Number && k.Name == s.Name {
				s.First = k.First
			}
		}
		write = append(write, s)
	}
	for i := range known.Seen {
		s := known.Seen[i]
		if there := slices.ContainsFunc(t.Columns,
			func(x shape.Column) bool { return x.Number == s.Number }); s.Numbered == numbered && !there && !s.Gone {
			s.Gone = true
			write = append(write, s)
		}
	}
	if len(write) == 0 {
		return false, nil
	}
	if slices.ContainsFunc(write, func(s SeenColumn) bool { return known.last(numbered, s.Number) != nil }) {
		if agreed, err := agree(); err != nil || !agreed {
			return false, err
		}
	}
	return true, c.transaction(ctx, func(tx *sqlx.Tx) error {
		for _, s := range write {
			if _, err := tx.NamedExecContext(ctx,
				"INSERT OR REPLACE INTO column_seen VALUES (:source, :table_name, :numbered, :number, :name, "+
					":first_at, :since, :gone)", s); err != nil {
				return err
			}
			if was := known.last(s.Numbered, s.Number); was != nil && was.Name != s.Name {
				if err := c.note(ctx, tx, seenBy, "column seen", source+"."+t.Name,
					FormerName{Name: s.Name, Was: was.Name}.said()); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// seenBy stands for who told a former name where the database did.
const seenBy = "the database"

// All lists the former names of columns, those that were told and those that were seen, in that order.
func (n ColumnNames) All() []FormerName {
	out := slices.Clone(n.Told)
	for i := range n.Seen {
		s := &n.Seen[i]
		for k := range n.Seen[:i] {
			was := &n.Seen[k]
			known := func(t FormerName) bool { return t.Name == s.Name && t.Was == was.Name }
			if was.Numbered == s.Numbered && was.Number == s.Number && was.Name != s.Name &&
				!slices.ContainsFunc(out, known) {
				out = append(out, FormerName{Source: s.Source, Table: s.Table, Name: s.Name, Was: was.Name,
					ToldAt: s.Since, ToldBy: seenBy})
			}
		}
	}
	return out
}

// TellName keeps a former name of a column.
func (c *Catalog) TellName(ctx context.Context, n FormerName) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx,
			"INSERT OR REPLACE INTO column_name VALUES (:source, :table_name, :name, :was, :told_at, :told_by)",
			n); err != nil {
			return err
		}
		return c.note(ctx, tx, n.ToldBy, "column tell", n.Source+"."+n.Table, n.said())
	})
}

// ForgetName takes back what was told of a column. ErrNotFound: it was not.
func (c *Catalog) ForgetName(ctx context.Context, actor string, n FormerName) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		res, err := tx.NamedExecContext(ctx,
			"DELETE FROM column_name WHERE source = :source AND table_name = :table_name AND name = :name AND was "+
				"= :was", n)
		if err != nil {
			return err
		}
		if k, err := res.RowsAffected(); err != nil || k == 0 {
			return fmt.Errorf("what was told of %s.%s, that %s: %w", n.Source, n.Table, n.said(), ErrNotFound)
		}
		return c.note(ctx, tx, actor, "column forget", n.Source+"."+n.Table, n.said())
	})
}

func (n FormerName) said() string {
	if n.Was == "" {
		return strings.TrimSpace("column " + n.Name + " was added")
	}
	return "column " + n.Name + " was called " + n.Was
}

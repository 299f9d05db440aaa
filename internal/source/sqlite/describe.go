package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// sizeBudget bounds the reading of page statistics, which walks all pages of a table.
const sizeBudget = time.Second

// countBudget bounds the counting of one table's rows for a listing.
const countBudget = 300 * time.Millisecond

// Tables lists the tables of the main schema, the journal's own left out.
func (s *Source) Tables(ctx context.Context) ([]shape.Table, error) {
	names, err := s.strings(ctx, `SELECT name FROM pragma_table_list WHERE schema = 'main' AND type IN ('table', 'virtual')
		AND name NOT LIKE 'sqlite\_%' ESCAPE '\' AND name NOT LIKE 'ambercellar\_%' ESCAPE '\' ORDER BY name`)
	if err != nil {
		return nil, err
	}
	tables := make([]shape.Table, 0, len(names))
	for _, name := range names {
		t, err := s.describe(ctx, name)
		if err != nil {
			return nil, err
		}
		s.measure(ctx, t)
		tables = append(tables, *t)
	}
	return tables, nil
}

// Table describes one table.
func (s *Source) Table(ctx context.Context, name string) (*shape.Table, error) {
	sign, err := s.sign(ctx, strings.TrimPrefix(name, "main."))
	if err != nil {
		return nil, err
	}
	t, err := s.describe(ctx, name)
	if err != nil {
		return nil, err
	}
	t.Sign = sign
	s.measure(ctx, t)
	return t, nil
}

func (s *Source) strings(ctx context.Context, query string, args ...any) ([]string, error) {
	rows, err := s.read.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var v string
		if err := rows.Scan(&v); err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, rows.Err()
}

func (s *Source) describe(ctx context.Context, name string) (*shape.Table, error) {
	var kind, ddl string
	var withoutRowid bool
	name = strings.TrimPrefix(name, "main.")
	err := s.read.QueryRowContext(ctx, "SELECT name, type, wr FROM pragma_table_list WHERE schema = 'main' AND name = ? COLLATE NOCASE AND type IN ('table', 'virtual', 'view')", name).Scan(&name, &kind, &withoutRowid)
	if err == sql.ErrNoRows || strings.HasPrefix(name, "ambercellar_") || strings.HasPrefix(name, "sqlite_") {
		return nil, fmt.Errorf("%w: %q", source.ErrNoTable, name)
	}
	if err != nil {
		return nil, err
	}
	t := &shape.Table{Name: name, Base: name, Rows: -1, Bytes: -1, IndexBytes: -1}
	switch kind {
	case "virtual":
		t.Obstacles = append(t.Obstacles, "it is a virtual table: what its module does with a delete cannot be undone by a transaction")
	case "view":
		t.Obstacles = append(t.Obstacles, "it is a view; name the table behind it")
	}
	primary, err := s.columns(ctx, t)
	if err != nil {
		return nil, err
	}
	if err := s.read.QueryRowContext(ctx, "SELECT coalesce(max(sql), '') FROM sqlite_schema WHERE name = ? AND type = 'table'", t.Name).Scan(&ddl); err != nil {
		return nil, err
	}
	if strings.Contains(strings.ToUpper(ddl), "COLLATE") { // which column's it is, the catalog does not say
		for i := range t.Columns {
			if t.Columns[i].Kind == value.Text {
				t.Columns[i].Collation = "as the table declares"
			}
		}
	}
	if err := s.indexes(ctx, t, primary, withoutRowid); err != nil {
		return nil, err
	}
	t.UseAddress(address(t, withoutRowid)...)
	if err := s.foreignKeys(ctx, t); err != nil {
		return nil, err
	}
	const triggers = "SELECT name FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ? COLLATE NOCASE AND sql LIKE ? ORDER BY name"
	if t.Triggers, err = s.strings(ctx, triggers, name, "%delete%on%"); err != nil {
		return nil, err
	}
	t.InsertTriggers, err = s.strings(ctx, triggers, name, "%insert%on%")
	t.AgeColumn = shape.GuessAge(t)
	return t, err
}

// columns fills in the columns and returns the primary key's, in its order.
func (s *Source) columns(ctx context.Context, t *shape.Table) ([]string, error) {
	rows, err := s.read.QueryContext(ctx, "SELECT name, type, \"notnull\", pk, hidden FROM pragma_table_xinfo(?) ORDER BY cid", t.Name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	byPosition := map[int]string{}
	for rows.Next() {
		var c shape.Column
		var notNull bool
		var pk, hidden int
		if err := rows.Scan(&c.Name, &c.Type, &notNull, &pk, &hidden); err != nil {
			return nil, err
		}
		if hidden == 1 {
			continue // of a virtual table
		}
		c.Nullable = !notNull
		c.Generated = hidden > 1
		c.Kind, c.Age = affinity(c.Type)
		t.Columns = append(t.Columns, c)
		if pk > 0 {
			byPosition[pk] = c.Name
		}
	}
	var primary []string
	for i := 1; i <= len(byPosition); i++ {
		primary = append(primary, byPosition[i])
	}
	return primary, rows.Err()
}

// affinity applies the rules of "Determination Of Column Affinity" (SQLite documentation, Datatypes, section 3.1),
// and guesses from the declared type what most values will be. Values of other storage classes are carried all the same.
func affinity(declared string) (value.Kind, shape.AgeKind) {
	d := strings.ToUpper(declared)
	has := func(parts ...string) bool {
		for _, p := range parts {
			if strings.Contains(d, p) {
				return true
			}
		}
		return false
	}
	switch {
	case has("INT"):
		return value.Int, shape.AgeNumber
	case has("CHAR", "CLOB", "TEXT"):
		return value.Text, shape.AgeISO
	case d == "":
		return value.Text, shape.AgeNone
	case has("BLOB"):
		return value.Bytes, shape.AgeNone
	case has("REAL", "FLOA", "DOUB"):
		return value.Float64, shape.AgeNone
	case has("DATE", "TIME"):
		return value.Text, shape.AgeISO
	case has("BOOL"):
		return value.Int, shape.AgeNone
	case has("DEC", "NUM"):
		return value.Float64, shape.AgeNone
	}
	return value.Text, shape.AgeNone
}

// indexes fills in the indexes and the key.
func (s *Source) indexes(ctx context.Context, t *shape.Table, primary []string, withoutRowid bool) error {
	rows, err := s.read.QueryContext(ctx, `SELECT l.name, l."unique", l.origin, l.partial, coalesce(x.name, '(expression)')
		FROM pragma_index_list(?) l, pragma_index_xinfo(l.name) x WHERE x.key ORDER BY l.seq, x.seqno`, t.Name)
	if err != nil {
		return err
	}
	defer rows.Close()
	var primaryIndexed bool
	for rows.Next() {
		var x shape.Index
		var origin, column string
		if err := rows.Scan(&x.Name, &x.Unique, &origin, &x.Partial, &column); err != nil {
			return err
		}
		if n := len(t.Indexes); n > 0 && t.Indexes[n-1].Name == x.Name {
			t.Indexes[n-1].Columns = append(t.Indexes[n-1].Columns, column)
			continue
		}
		primaryIndexed = primaryIndexed || origin == "pk"
		x.Columns = []string{column}
		t.Indexes = append(t.Indexes, x)
	}
	t.Key = primary
	if len(primary) > 0 {
		rowid := len(primary) == 1 && !primaryIndexed // INTEGER PRIMARY KEY: the rowid itself
		for _, name := range primary {
			c, _ := t.Column(name)
			if rowid || withoutRowid {
				c.Nullable = false
			} else if c.Nullable {
				t.Notes = append(t.Notes, fmt.Sprintf("key column %q may hold NULL; rows that do are never due", name))
			}
		}
		return rows.Err()
	}
	for _, x := range t.Indexes {
		if x.Unique && !x.Partial && t.NotNull(x.Columns) {
			t.Key = x.Columns
			break
		}
	}
	return rows.Err()
}

func (s *Source) foreignKeys(ctx context.Context, t *shape.Table) error {
	rows, err := s.read.QueryContext(ctx, `SELECT m.name, f.id, f."table", f."from", coalesce(f."to", ''), lower(f.on_delete)
		FROM sqlite_schema m, pragma_foreign_key_list(m.name) f WHERE m.type = 'table' ORDER BY m.name, f.id, f.seq`)
	if err != nil {
		return err
	}
	defer rows.Close()
	var all []shape.ForeignKey
	last := ""
	for rows.Next() {
		var k shape.ForeignKey
		var id int
		var from, to string
		if err := rows.Scan(&k.Table, &id, &k.RefTable, &from, &to, &k.OnDelete); err != nil {
			return err
		}
		if !strings.EqualFold(k.Table, t.Name) && !strings.EqualFold(k.RefTable, t.Name) {
			continue
		}
		if this := fmt.Sprintf("%s %d", k.Table, id); this != last {
			k.Name = fmt.Sprintf("%s(%s)", k.Table, from)
			all = append(all, k)
			last = this
		}
		end := &all[len(all)-1]
		end.Columns = append(end.Columns, from)
		if to != "" {
			end.RefColumns = append(end.RefColumns, to)
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	rows.Close()
	for _, k := range all {
		first, err := s.strings(ctx, `SELECT x.name FROM pragma_index_list(?1) l, pragma_index_info(l.name) x WHERE x.seqno = 0 AND NOT l.partial AND x.name IS NOT NULL
			UNION ALL SELECT name FROM pragma_table_info(?1) WHERE pk = 1`, k.Table)
		if err != nil {
			return err
		}
		k.Unindexed = !slices.ContainsFunc(k.Columns, func(c string) bool {
			return slices.ContainsFunc(first, func(x string) bool { return strings.EqualFold(x, c) })
		})
		if len(k.RefColumns) == 0 { // the reference names no columns: it means the parent's primary key
			if k.RefColumns, err = s.strings(ctx, "SELECT name FROM pragma_table_info(?) WHERE pk > 0 ORDER BY pk", k.RefTable); err != nil {
				return err
			}
		}
		if strings.EqualFold(k.Table, t.Name) {
			t.References = append(t.References, k)
		}
		if strings.EqualFold(k.RefTable, t.Name) {
			t.ReferencedBy = append(t.ReferencedBy, k)
		}
	}
	return nil
}

// pages returns the bytes of a table's or index's pages; -1 where reading them takes too long.
func (s *Source) pages(ctx context.Context, name string) int64 {
	var bytes sql.NullInt64
	if s.read.QueryRowContext(ctx, "SELECT pgsize FROM dbstat WHERE name = ? AND aggregate = TRUE", name).Scan(&bytes) != nil {
		return -1
	}
	return bytes.Int64
}

// measure fills in what a listing shows beyond the shape; what cannot be had quickly stays unknown.
func (s *Source) measure(ctx context.Context, t *shape.Table) {
	if len(t.Obstacles) > 0 {
		return
	}
	quick, cancel := context.WithTimeout(ctx, countBudget)
	defer cancel()
	if err := s.read.QueryRowContext(quick, "SELECT count(*) FROM "+quote(t.Name)).Scan(&t.Rows); err != nil {
		var largest sql.NullInt64
		if s.read.QueryRowContext(ctx, "SELECT max(rowid) FROM "+quote(t.Name)).Scan(&largest) == nil {
			t.Rows = largest.Int64
		}
	}
	walk, cancelWalk := context.WithTimeout(ctx, sizeBudget)
	defer cancelWalk()
	t.Bytes, t.IndexBytes = s.pages(walk, t.Name), 0
	for _, x := range t.Indexes {
		if bytes := s.pages(walk, x.Name); bytes < 0 {
			t.IndexBytes = -1
			break
		} else {
			t.IndexBytes += bytes
		}
	}
	if t.AgeColumn == "" {
		return
	}
	c, _ := t.Column(t.AgeColumn)
	var oldest, newest sql.NullString
	age := quote(t.AgeColumn)
	instant := newDialect(source.Selection{Table: t, Age: rule.Age{Column: c.Name}}, "").Instant()
	span, cancelSpan := context.WithTimeout(ctx, countBudget)
	defer cancelSpan()
	// Two queries: SQLite takes the end of an index for min or max only where one stands alone.
	if s.read.QueryRowContext(span, "SELECT +"+age+" FROM "+quote(t.Name)+" WHERE "+instant+" ORDER BY "+age+" LIMIT 1").Scan(&oldest) == nil {
		t.Oldest = oldest.String
	}
	if s.read.QueryRowContext(span, "SELECT +"+age+" FROM "+quote(t.Name)+" WHERE "+instant+" ORDER BY "+age+" DESC LIMIT 1").Scan(&newest) == nil {
		t.Newest = newest.String
	}
}

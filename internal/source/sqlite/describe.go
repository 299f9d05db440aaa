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

// countBudget bounds the counting of one table's rows.
const countBudget = 300 * time.Millisecond

// listBudget bounds the same for all tables of a listing together; what cannot be had by then follows when a table is
// looked at by itself. leastBudget is what one table of many has of it.
const listBudget, leastBudget = time.Second, 20 * time.Millisecond

// Tables lists the tables of the main schema, the journal's own left out.
func (s *Source) Tables(ctx context.Context) ([]shape.Table, error) {
	found, err := s.describe(ctx, "")
	if err != nil {
		return nil, err
	}
	bytes := s.allPages(ctx)
	tables := make([]shape.Table, len(found))
	whole, cancel := context.WithTimeout(ctx, listBudget)
	defer cancel()
	for i, t := range found {
		if len(t.Obstacles) == 0 {
			s.count(whole, min(countBudget, max(leastBudget, listBudget/time.Duration(2*len(found)))), t)
			s.span(whole, t)
			t.Bytes, t.IndexBytes = -1, -1
			if bytes != nil {
				t.Bytes, t.IndexBytes = bytes[t.Name], 0
				for _, x := range t.Indexes {
					t.IndexBytes += bytes[x.Name]
				}
			}
		}
		tables[i] = *t
	}
	return tables, ctx.Err()
}

// Table describes one table.
func (s *Source) Table(ctx context.Context, name string) (*shape.Table, error) {
	sign, err := s.sign(ctx, strings.TrimPrefix(name, "main."))
	if err != nil {
		return nil, err
	}
	found, err := s.describe(ctx, strings.TrimPrefix(name, "main."))
	if err != nil {
		return nil, err
	}
	if name == "" || len(found) == 0 {
		return nil, source.NoTable(ctx, s, name)
	}
	t := found[0]
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

// described is a table while it is made out.
type described struct {
	*shape.Table
	withoutRowid   bool
	collated       bool     // its definition names a collation
	primary        []string // in its order
	primaryIndexed bool
}

// ours says of a name in any case whether the table is one of the journal's, or SQLite's own.
const ours = `(m.name LIKE 'sqlite\_%' ESCAPE '\' OR m.name LIKE 'ambercellar\_%' ESCAPE '\')`

// describe describes one table or view, or all tables by a few questions for all of them together, in the order of
// their names.
func (s *Source) describe(ctx context.Context, name string) ([]*shape.Table, error) {
	var out []*shape.Table
	tables := map[string]*described{} // by the name in small letters
	err := s.each(ctx, `SELECT m.name, m.type, m.wr FROM pragma_table_list m
		WHERE m.schema = 'main' AND NOT `+ours+
		` AND (?1 = '' AND m.type IN ('table', 'virtual') OR m.name = ?1 COLLATE NOCASE AND m.type IN ('table', `+
		`'virtual', 'view')) ORDER BY m.name`, func(scan func(...any) error) error {
		d := &described{Table: &shape.Table{TableSize: shape.TableSize{Rows: -1, Bytes: -1, IndexBytes: -1}}}
		var kind string
		if err := scan(&d.Name, &kind, &d.withoutRowid); err != nil {
			return err
		}
		d.Base = d.Name
		switch kind {
		case "virtual":
			d.Obstacles = append(d.Obstacles,
				"it is a virtual table: what its module does with a delete cannot be undone by a transaction")
		case "view":
			d.Obstacles = append(d.Obstacles, "it is a view; name the table behind it")
		}
		out, tables[strings.ToLower(d.Name)] = append(out, d.Table), d
		return nil
	}, name)
	for _, fill := range []func(context.Context, string, map[string]*described) error{s.collations, s.columns,
		s.indexes, s.foreignKeys, s.triggers} {
		if err == nil {
			err = fill(ctx, name, tables)
		}
	}
	for _, t := range out {
		d := tables[strings.ToLower(t.Name)]
		t.UseAddress(address(t, d.withoutRowid)...)
		t.AgeColumn = shape.GuessAge(t)
	}
	return out, err
}

// each asks something of a table, or of all where its name is empty, and calls fn for every row of the answer.
func (s *Source) each(ctx context.Context, query string, fn func(scan func(...any) error) error, name string) error {
	rows, err := s.read.QueryContext(ctx, query, name)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := fn(rows.Scan); err != nil {
			return err
		}
	}
	return rows.Err()
}

// within are the tables and views that a question about columns or indexes goes through.
const within = `FROM sqlite_schema m, %s WHERE m.type IN ('table', 'view') AND (?1 = '' OR m.name = ?1 COLLATE NOCASE)`

// collations notes which definitions name a collation. Which column's it is, the catalog does not say.
func (s *Source) collations(ctx context.Context, name string, tables map[string]*described) error {
	return s.each(ctx, "SELECT name FROM sqlite_schema WHERE type = 'table' AND sql LIKE '%collate%' AND (?1 = '' "+
		"OR name = ?1 COLLATE NOCASE)", func(scan func(...any) error) error {
		var table string
		if err := scan(&table); err != nil {
			return err
		}
		if t := tables[strings.ToLower(table)]; t != nil {
			t.collated = true
		}
		return nil
	}, name)
}

// columns fills in the columns, and notes the primary keys'.
func (s *Source) columns(ctx context.Context, name string, tables map[string]*described) error {
	positions := map[*described]map[int]string{}
	err := s.each(ctx, "SELECT m.name, x.name, x.type, x.\"notnull\", x.pk, x.hidden "+
		fmt.Sprintf(within, "pragma_table_xinfo(m.name) x")+" ORDER BY m.name, x.cid",
		func(scan func(...any) error) error {
			var c shape.Column
			var table string
			var notNull bool
			var pk, hidden int
			if err := scan(&table, &c.Name, &c.Type, &notNull, &pk, &hidden); err != nil {
				return err
			}
			d := tables[strings.ToLower(table)]
			if d == nil || hidden == 1 { // of a virtual table
				return nil
			}
			c.Nullable = !notNull
			c.Generated = hidden > 1
			c.Kind, c.Age = affinity(c.Type)
			if d.collated && c.Kind == value.Text {
				c.Collation = "as the table declares"
			}
			d.Columns = append(d.Columns, c)
			if pk > 0 {
				if positions[d] == nil {
					positions[d] = map[int]string{}
				}
				positions[d][pk] = c.Name
			}
			return nil
		}, name)
	for d, by := range positions {
		for i := 1; i <= len(by); i++ {
			d.primary = append(d.primary, by[i])
		}
	}
	return err
}

// affinity applies the rules of "Determination Of Column Affinity" (SQLite documentation, Datatypes, section 3.1),
// and guesses from the declared type what most values will be. Values of other storage classes are carried all the
// same.
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

// indexes fills in the indexes and the keys.
func (s *Source) indexes(ctx context.Context, name string, tables map[string]*described) error {
	err := s.each(ctx, `SELECT m.name, l.name, l."unique", l.origin, l.partial, coalesce(x.name, '(expression)') `+
		fmt.Sprintf(within, "pragma_index_list(m.name) l, pragma_index_xinfo(l.name) x")+
		" AND x.key ORDER BY m.name, l.seq, x.seqno", func(scan func(...any) error) error {
		var x shape.Index
		var table, origin, column string
		if err := scan(&table, &x.Name, &x.Unique, &origin, &x.Partial, &column); err != nil {
			return err
		}
		t := tables[strings.ToLower(table)]
		if t == nil {
			return nil
		}
		if n := len(t.Indexes); n > 0 && t.Indexes[n-1].Name == x.Name {
			t.Indexes[n-1].Columns = append(t.Indexes[n-1].Columns, column)
			return nil
		}
		t.primaryIndexed = t.primaryIndexed || origin == "pk"
		x.Columns = []string{column}
		t.Indexes = append(t.Indexes, x)
		return nil
	}, name)
	for _, t := range tables {
		t.findKey()
	}
	return err
}

func (t *described) findKey() {
	t.Key = t.primary
	if len(t.primary) > 0 {
		rowid := len(t.primary) == 1 && !t.primaryIndexed // INTEGER PRIMARY KEY: the rowid itself
		for _, name := range t.primary {
			c, _ := t.Column(name)
			if rowid || t.withoutRowid {
				c.Nullable = false
			} else if c.Nullable {
				t.Notes = append(t.Notes, fmt.Sprintf("key column %q may hold NULL; rows that do are never due", name))
			}
		}
		return
	}
	for _, x := range t.Indexes {
		if x.Unique && !x.Partial && t.NotNull(x.Columns) {
			t.Key = x.Columns
			break
		}
	}
}

func (s *Source) foreignKeys(ctx context.Context, name string, tables map[string]*described) error {
	var all []shape.ForeignKey
	last := ""
	err := s.each(ctx, `SELECT m.name, f.id, f."table", f."from", coalesce(f."to", ''), lower(f.on_delete)
		FROM sqlite_schema m, pragma_foreign_key_list(m.name) f WHERE m.type = 'table' AND (?1 = ''
			OR m.name = ?1 COLLATE NOCASE OR f."table" = ?1 COLLATE NOCASE) ORDER BY m.name, f.id, f.seq`,
		func(scan func(...any) error) error {
			var k shape.ForeignKey
			var id int
			var from, to string
			if err := scan(&k.Table, &id, &k.RefTable, &from, &to, &k.OnDelete); err != nil {
				return err
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
			return nil
		}, name)
	if err != nil {
		return err
	}
	for _, k := range all {
		if child := tables[strings.ToLower(k.Table)]; name == "" && child != nil { // it is described already
			k.Unindexed = !child.leads(k.Columns)
		} else {
			first, err := s.strings(ctx,
				`SELECT x.name FROM pragma_index_list(?1) l, pragma_index_info(l.name) x WHERE x.seqno = 0
					AND NOT l.partial AND x.name IS NOT NULL
				UNION ALL SELECT name FROM pragma_table_info(?1) WHERE pk = 1`, k.Table)
			if err != nil {
				return err
			}
			k.Unindexed = !slices.ContainsFunc(k.Columns, func(c string) bool {
				return slices.ContainsFunc(first, func(x string) bool { return strings.EqualFold(x, c) })
			})
		}
		if len(k.RefColumns) == 0 { // the reference names no columns: it means the parent's primary key
			if parent := tables[strings.ToLower(k.RefTable)]; parent != nil {
				k.RefColumns = slices.Clone(parent.primary)
			} else if k.RefColumns, err = s.strings(ctx,
				"SELECT name FROM pragma_table_info(?) WHERE pk > 0 ORDER BY pk", k.RefTable); err != nil {
				return err
			}
		}
		if t := tables[strings.ToLower(k.Table)]; t != nil {
			t.References = append(t.References, k)
		}
		if t := tables[strings.ToLower(k.RefTable)]; t != nil {
			t.ReferencedBy = append(t.ReferencedBy, k)
		}
	}
	return nil
}

// leads says whether one of some columns leads an index that finds all rows.
func (t *described) leads(columns []string) bool {
	return slices.ContainsFunc(columns, func(c string) bool {
		return len(t.primary) > 0 && strings.EqualFold(t.primary[0], c) ||
			slices.ContainsFunc(t.Indexes, func(x shape.Index) bool {
				return !x.Partial &&
					strings.EqualFold(x.Columns[0], c)
			})
	})
}

func (s *Source) triggers(ctx context.Context, name string, tables map[string]*described) error {
	return s.each(ctx, `SELECT tbl_name, name, sql LIKE '%delete%on%', sql LIKE '%insert%on%' FROM sqlite_schema `+
		`WHERE type = 'trigger' AND (?1 = '' OR tbl_name = ?1 COLLATE NOCASE) ORDER BY name`,
		func(scan func(...any) error) error {
			var table, trigger string
			var onDelete, onInsert bool
			if err := scan(&table, &trigger, &onDelete, &onInsert); err != nil {
				return err
			}
			if t := tables[strings.ToLower(table)]; t != nil {
				if onDelete {
					t.Triggers = append(t.Triggers, trigger)
				}
				if onInsert {
					t.InsertTriggers = append(t.InsertTriggers, trigger)
				}
			}
			return nil
		}, name)
}

// pages returns the bytes of a table's or index's pages; -1 where reading them takes too long.
func (s *Source) pages(ctx context.Context, name string) int64 {
	var bytes sql.NullInt64
	if s.read.QueryRowContext(ctx, "SELECT pgsize FROM dbstat WHERE name = ? AND aggregate = TRUE",
		name).Scan(&bytes) != nil {
		return -1
	}
	return bytes.Int64
}

// allPages returns the bytes of the pages of every table and index; nil where reading them takes too long.
func (s *Source) allPages(ctx context.Context) map[string]int64 {
	ctx, cancel := context.WithTimeout(ctx, listBudget/2)
	defer cancel()
	out := map[string]int64{}
	err := s.each(ctx, "SELECT name, pgsize FROM dbstat WHERE aggregate = TRUE AND ?1 = ''",
		func(scan func(...any) error) error {
			var name string
			var bytes int64
			err := scan(&name, &bytes)
			out[name] = bytes
			return err
		}, "")
	if err != nil {
		return nil
	}
	return out
}

// measure fills in what is shown beyond the shape; what cannot be had quickly stays unknown.
func (s *Source) measure(ctx context.Context, t *shape.Table) {
	if len(t.Obstacles) > 0 {
		return
	}
	s.count(ctx, countBudget, t)
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
	span, cancelSpan := context.WithTimeout(ctx, countBudget)
	defer cancelSpan()
	s.span(span, t)
}

// count counts the rows; where that takes longer than its budget, the largest number that a row has stands for it.
func (s *Source) count(ctx context.Context, budget time.Duration, t *shape.Table) {
	quick, cancel := context.WithTimeout(ctx, budget)
	defer cancel()
	if s.read.QueryRowContext(quick, "SELECT count(*) FROM "+quote(t.Name)).Scan(&t.Rows) == nil {
		return
	}
	t.Rows = -1
	var largest sql.NullInt64
	if s.read.QueryRowContext(ctx, "SELECT max(rowid) FROM "+quote(t.Name)).Scan(&largest) == nil {
		t.Rows = largest.Int64
	}
}

// span looks for the oldest and the newest age.
func (s *Source) span(ctx context.Context, t *shape.Table) {
	if t.AgeColumn == "" || ctx.Err() != nil {
		return
	}
	c, _ := t.Column(t.AgeColumn)
	var oldest, newest sql.NullString
	age := quote(t.AgeColumn)
	instant := newDialect(source.Selection{Table: t, Age: rule.Age{Column: c.Name}}, "").Instant()
	// Two queries: SQLite takes the end of an index for min or max only where one stands alone.
	if s.read.QueryRowContext(ctx, "SELECT +"+age+" FROM "+quote(t.Name)+" WHERE "+instant+" ORDER BY "+age+
		" LIMIT 1").Scan(&oldest) == nil {
		t.Oldest = oldest.String
	}
	if s.read.QueryRowContext(ctx, "SELECT +"+age+" FROM "+quote(t.Name)+" WHERE "+instant+" ORDER BY "+age+
		" DESC LIMIT 1").Scan(&newest) == nil {
		t.Newest = newest.String
	}
}

package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// Tables lists all tables of the database that are not our own.
func (s *Source) Tables(ctx context.Context) ([]shape.Table, error) {
	found, err := s.describe(ctx, "")
	if err != nil {
		return nil, err
	}
	out := make([]shape.Table, len(found))
	for i, t := range found {
		out[i] = *t
	}
	return out, nil
}

// Table describes one table.
func (s *Source) Table(ctx context.Context, name string) (*shape.Table, error) {
	found, err := s.describe(ctx, strings.TrimPrefix(name, s.database+"."))
	if err != nil {
		return nil, err
	}
	if len(found) == 0 || name == "" {
		return nil, source.NoTable(ctx, s, name)
	}
	return found[0], nil
}

// each runs a query on the server's catalog and calls fn after every row was scanned.
func (s *Source) each(ctx context.Context, query string, args []any, into []any, fn func() error) error {
	rows, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return source.Of(s.cfg.Name, unreachable(err))
	}
	defer rows.Close()
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		if err := fn(); err != nil {
			return err
		}
	}
	return unreachable(rows.Err())
}

func (s *Source) describe(ctx context.Context, name string) ([]*shape.Table, error) {
	var out []*shape.Table
	tables := map[string]*shape.Table{}
	var kind, engine string
	t := shape.Table{}
	err := s.each(ctx,
		`SELECT TABLE_NAME, TABLE_TYPE, COALESCE(ENGINE, ''), COALESCE(TABLE_ROWS, -1), COALESCE(DATA_LENGTH, -1),
			COALESCE(INDEX_LENGTH, -1) FROM information_schema.TABLES
		WHERE TABLE_SCHEMA = ? AND TABLE_NAME NOT LIKE 'ambercellar!_%' ESCAPE '!' AND (? = '' OR TABLE_NAME = ?)
			AND (? <> '' OR TABLE_TYPE IN ('BASE TABLE', 'SYSTEM VERSIONED')) ORDER BY TABLE_NAME`,
		[]any{s.database, name, name, name}, []any{&t.Base, &kind, &engine, &t.Rows, &t.Bytes, &t.IndexBytes},
		func() error {
			d := t
			d.Name = d.Base
			switch {
			case kind == "SYSTEM VERSIONED":
				d.Obstacles = append(d.Obstacles,
					"it keeps its own versions: a delete would only add one, and free nothing")
			case kind != "BASE TABLE":
				d.Obstacles = append(d.Obstacles, "it is a "+strings.ToLower(kind)+"; name the table behind it")
			case !strings.EqualFold(engine, "InnoDB"):
				d.Obstacles = append(d.Obstacles,
					fmt.Sprintf("its storage engine %s has no transactions; ALTER TABLE %s ENGINE=InnoDB mends it",
						engine, quote(d.Name)))
			}
			out = append(out, &d)
			tables[d.Name] = &d
			return nil
		})
	if err != nil {
		return nil, err
	}
	if name != "" && len(out) == 1 {
		if words, err := s.signOf(ctx, s.db, out[0]); err == nil {
			out[0].Sign = shape.NewSign(words)
		} else if code(err) == 0 { // otherwise we may not see it, and no run can work on it
			return nil, source.Of(s.cfg.Name, unreachable(err))
		}
	}
	for _, fill := range []func(context.Context, string, map[string]*shape.Table) error{s.columns, s.indexes,
		s.foreignKeys, s.triggers, s.partitions} {
		if err := fill(ctx, name, tables); err != nil {
			return nil, err
		}
	}
	for _, t := range out {
		t.AgeColumn = shape.GuessAge(t)
	}
	source.EachWithin(ctx, len(out), func(ctx context.Context, i int) { s.span(ctx, out[i]) })
	return out, nil
}

func (s *Source) columns(ctx context.Context, name string, tables map[string]*shape.Table) error {
	var table, kind, charset, collation, extra string
	var nullable bool
	var precision, scale int
	c := shape.Column{}
	return s.each(ctx,
		`SELECT TABLE_NAME, COLUMN_NAME, COLUMN_TYPE, LOWER(DATA_TYPE), IS_NULLABLE = 'YES',
			COALESCE(CHARACTER_SET_NAME, ''), COALESCE(COLLATION_NAME, ''), UPPER(EXTRA),
		COALESCE(NUMERIC_PRECISION, 0), COALESCE(NUMERIC_SCALE, 0) FROM information_schema.COLUMNS
			WHERE TABLE_SCHEMA = ? AND (? = '' OR TABLE_NAME = ?) ORDER BY TABLE_NAME, ORDINAL_POSITION`,
		[]any{s.database, name, name}, []any{&table, &c.Name, &c.Type, &kind, &nullable, &charset, &collation, &extra,
			&precision, &scale}, func() error {
			t := tables[table]
			if t == nil {
				return nil
			}
			d := c
			d.Nullable = nullable
			d.Generated = strings.Contains(extra, "GENERATED") && !strings.Contains(extra, "DEFAULT_GENERATED")
			classify(&d, declared{kind, charset, collation, precision, scale})
			t.Columns = append(t.Columns, d)
			return nil
		})
}

// characterSets are those whose text comes back as it was when it goes through UTF-8 and back.
var characterSets = []string{"utf8mb4", "utf8mb3", "utf8", "latin1", "ascii", "ucs2", "utf16", "utf16le", "utf32",
	"latin2", "cp1250", "cp1251", "cp1252", "koi8r", "koi8u", "greek", "hebrew"}

// declared is what the server tells of a column's type.
type declared struct {
	kind, charset, collation string
	precision, scale         int
}

func classify(c *shape.Column, d declared) {
	switch d.kind {
	case "tinyint", "smallint", "mediumint", "year":
		c.Kind = value.Int
	case "int", "bigint":
		c.Kind, c.Age = value.Int, shape.AgeNumber
	case "decimal":
		c.Kind, c.Precision, c.Scale = value.Decimal, d.precision, d.scale
	case "float":
		c.Kind = value.Float32
	case "double":
		c.Kind = value.Float64
	case "char", "varchar", "tinytext", "text", "mediumtext", "longtext":
		c.Kind = value.Text
		if !slices.Contains(characterSets, d.charset) {
			c.Problem = fmt.Sprintf("text in the character set %s may not come back exactly", d.charset)
		}
		if d.collation != "utf8mb4_nopad_bin" && d.collation != "utf8mb4_0900_bin" {
			c.Collation = d.collation
		}
	case "json", "enum", "set", "uuid", "inet4", "inet6", "time":
		c.Kind, c.AsText = value.Text, true
	case "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "bit",
		// the latter in the server's own form, which it takes back
		"geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon",
		"geometrycollection":
		c.Kind = value.Bytes
	case "date":
		c.Kind, c.Age = value.Date, shape.AgeTime
	case "datetime":
		c.Kind, c.Age = value.Timestamp, shape.AgeTime
	case "timestamp":
		c.Kind, c.Age = value.Instant, shape.AgeTime
	default:
		c.Problem = fmt.Sprintf("values of type %s cannot be archived exactly", c.Type)
	}
}

// alike says whether two rows can have keys that the server takes for equal and that are not: beside an empty label of
// an enumeration, its index 0. Such a key finds no row for certain.
func alike(t *shape.Table, columns []string) bool {
	return slices.ContainsFunc(columns, func(name string) bool {
		c, _ := t.Column(name)
		return c != nil && enumeration(c) && emptyLabel.MatchString(c.Type)
	})
}

var emptyLabel = regexp.MustCompile(`[(,]''[,)]`)

func (s *Source) indexes(ctx context.Context, name string, tables map[string]*shape.Table) error {
	var table, index string
	var column sql.NullString
	var unique, prefix bool
	err := s.each(ctx,
		`SELECT TABLE_NAME, INDEX_NAME, NON_UNIQUE = 0, COLUMN_NAME, SUB_PART IS NOT NULL
			FROM information_schema.STATISTICS
		WHERE TABLE_SCHEMA = ? AND (? = '' OR TABLE_NAME = ?) AND INDEX_TYPE IN ('BTREE', 'HASH') ORDER BY TABLE_NAME,
			INDEX_NAME <> 'PRIMARY', INDEX_NAME, SEQ_IN_INDEX`,
		[]any{s.database, name, name}, []any{&table, &index, &unique, &column, &prefix}, func() error {
			t := tables[table]
			if t == nil {
				return nil
			}
			part := column.String
			if !column.Valid {
				part = "(expression)"
			}
			if n := len(t.Indexes); n > 0 && t.Indexes[n-1].Name == index {
				t.Indexes[n-1].Columns = append(t.Indexes[n-1].Columns, part)
				t.Indexes[n-1].Partial = t.Indexes[n-1].Partial || prefix
				return nil
			}
			t.Indexes = append(t.Indexes, shape.Index{Name: index, Columns: []string{part}, Unique: unique,
				Partial: prefix})
			return nil
		})
	for _, t := range tables {
		for _, x := range t.Indexes {
			if len(t.Key) == 0 && x.Unique && !x.Partial && t.NotNull(x.Columns) && !alike(t, x.Columns) {
				t.Key = x.Columns
			}
		}
	}
	return err
}

func (s *Source) foreignKeys(ctx context.Context, name string, tables map[string]*shape.Table) error {
	var k shape.ForeignKey
	var schema, refSchema, column, ref string
	var all []shape.ForeignKey
	last := ""
	qualify := func(schema, table string) string {
		if schema != s.database {
			return schema + "." + table
		}
		return table
	}
	err := s.each(ctx,
		`SELECT u.CONSTRAINT_NAME, u.TABLE_SCHEMA, u.TABLE_NAME, u.REFERENCED_TABLE_SCHEMA, u.REFERENCED_TABLE_NAME,
			LOWER(r.DELETE_RULE), u.COLUMN_NAME, u.REFERENCED_COLUMN_NAME
		FROM information_schema.KEY_COLUMN_USAGE u JOIN information_schema.REFERENTIAL_CONSTRAINTS r
			ON r.CONSTRAINT_SCHEMA = u.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = u.CONSTRAINT_NAME
			AND r.TABLE_NAME = u.TABLE_NAME
		WHERE u.REFERENCED_TABLE_NAME IS NOT NULL AND (u.TABLE_SCHEMA = ? AND (? = '' OR u.TABLE_NAME = ?)
			OR u.REFERENCED_TABLE_SCHEMA = ? AND (? = '' OR u.REFERENCED_TABLE_NAME = ?))
		ORDER BY u.TABLE_SCHEMA, u.TABLE_NAME, u.CONSTRAINT_NAME, u.ORDINAL_POSITION`,
		[]any{s.database, name, name, s.database, name, name}, []any{&k.Name, &schema, &k.Table, &refSchema,
			&k.RefTable, &k.OnDelete, &column, &ref}, func() error {
			d := k
			d.Table, d.RefTable = qualify(schema, k.Table), qualify(refSchema, k.RefTable)
			if this := d.Table + "\x00" + d.Name; this != last {
				all, last = append(all, d), this
			}
			end := &all[len(all)-1]
			end.Columns, end.RefColumns = append(end.Columns, column), append(end.RefColumns, ref)
			return nil
		})
	for _, k := range all {
		if t := tables[k.Table]; t != nil {
			t.References = append(t.References, k)
		}
		if t := tables[k.RefTable]; t != nil {
			t.ReferencedBy = append(t.ReferencedBy, k)
		}
	}
	return err
}

func (s *Source) triggers(ctx context.Context, name string, tables map[string]*shape.Table) error {
	var table, trigger, event string
	return s.each(ctx, "SELECT EVENT_OBJECT_TABLE, TRIGGER_NAME, EVENT_MANIPULATION FROM "+
		"information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = ? AND EVENT_MANIPULATION IN ('DELETE', 'INSERT') "+
		"AND (? = '' OR EVENT_OBJECT_TABLE = ?) ORDER BY TRIGGER_NAME",
		[]any{s.database, name, name}, []any{&table, &trigger, &event}, func() error {
			switch t := tables[table]; {
			case t == nil:
			case event == "INSERT":
				t.InsertTriggers = append(t.InsertTriggers, trigger)
			default:
				t.Triggers = append(t.Triggers, trigger)
			}
			return nil
		})
}

// partitions lists the partitions of tables that are divided by ranges of one column's values, or of the days, years
// or seconds that the server makes of them.
func (s *Source) partitions(ctx context.Context, name string, tables map[string]*shape.Table) error {
	var table, part, method, expression, to string
	var sub sql.NullString
	var rows, bytes, index int64
	noted := map[string]bool{}
	return s.each(ctx,
		`SELECT TABLE_NAME, PARTITION_NAME, PARTITION_METHOD, COALESCE(PARTITION_EXPRESSION, ''),
			COALESCE(PARTITION_DESCRIPTION, ''), SUBPARTITION_NAME,
		COALESCE(TABLE_ROWS, -1), COALESCE(DATA_LENGTH, 0), COALESCE(INDEX_LENGTH, 0)
			FROM information_schema.PARTITIONS
		WHERE TABLE_SCHEMA = ? AND PARTITION_NAME IS NOT NULL AND (? = '' OR TABLE_NAME = ?)
			AND COALESCE(SUBPARTITION_ORDINAL_POSITION, 1) = 1 ORDER BY TABLE_NAME, PARTITION_ORDINAL_POSITION`,
		[]any{s.database, name, name}, []any{&table, &part, &method, &expression, &to, &sub, &rows, &bytes, &index},
		func() error {
			t := tables[table]
			if t == nil {
				return nil
			}
			if !noted[table] {
				noted[table] = true
				t.Notes = append(t.Notes, "partitioned")
			}
			column, bound, ok := rangeOf(method, expression)
			if !ok {
				return nil
			}
			p := shape.Partition{Name: part, Column: column, To: bound(strings.Trim(to, "'")), Rows: rows,
				Bytes: bytes, IndexBytes: index}
			if sub.Valid {
				p.Hinders = "it is divided further"
			}
			if to == "MAXVALUE" {
				p.To, t.CatchAll = "", part
			}
			if n := len(t.Partitions); n > 0 {
				p.From = t.Partitions[n-1].To
			}
			t.Partitions = append(t.Partitions, p)
			return nil
		})
}

var dividedBy = regexp.MustCompile("(?i)^(to_days|to_seconds|year|unix_timestamp)\\(`([^`]+)`\\)$")

// What TO_DAYS and TO_SECONDS make of 1970-01-01 (MariaDB documentation, "Date & Time Functions").
const daysTo1970, secondsTo1970 = 719528, 62167219200

// rangeOf tells the column that ranges are of, and how their bounds are read as what the column holds.
func rangeOf(method, expression string) (column string, bound func(string) string, ok bool) {
	if strings.Contains(expression, ",") {
		return "", nil, false
	}
	if method == "RANGE COLUMNS" || method == "RANGE" && !strings.ContainsAny(expression, "()+-*/ ") {
		return strings.Trim(expression, "`"), func(text string) string { return text }, true
	}
	m := dividedBy.FindStringSubmatch(expression)
	if method != "RANGE" || m == nil {
		return "", nil, false
	}
	return m[2], func(text string) string {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return text
		}
		switch strings.ToLower(m[1]) {
		case "to_days":
			return time.Unix((n-daysTo1970)*86400, 0).UTC().Format(time.DateOnly)
		case "to_seconds":
			return time.Unix(n-secondsTo1970, 0).UTC().Format("2006-01-02 15:04:05")
		case "year":
			return fmt.Sprintf("%04d-01-01", n)
		}
		return time.Unix(n, 0).UTC().Format(time.RFC3339)
	}, true
}

// spanBudget bounds the search for the oldest and newest age; with an index it takes no time, without one it is left
// out.
const spanBudget = 300 * time.Millisecond

func (s *Source) span(ctx context.Context, t *shape.Table) {
	if t.AgeColumn == "" || len(t.Obstacles) > 0 || !t.IndexServes(t.AgeColumn) && t.Rows > 1_000_000 {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, spanBudget)
	defer cancel()
	c, _ := t.Column(t.AgeColumn)
	name := "t." + quote(c.Name)
	for order, into := range map[string]*string{"": &t.Oldest, " DESC": &t.Newest} {
		s.db.QueryRowContext(ctx, fmt.Sprintf("SELECT COALESCE(%s, '') FROM %s t WHERE %s ORDER BY %s%s LIMIT 1",
			iso(name, c), quote(t.Name), real(name), name, order)).Scan(into)
	}
}

package postgres

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// partsOf lists a table c and its partitions, from the catalogue alone: the server's own function for that waits for
// locks.
const partsOf = `WITH RECURSIVE tree AS (SELECT c.oid UNION ALL SELECT i.inhrelid FROM tree JOIN pg_inherits i ON ` +
	`i.inhparent = tree.oid WHERE c.relkind = 'p') SELECT oid FROM tree`

// tablesQuery lists tables, partitions left out, with the sizes of all their partitions together.
const tablesQuery = `
WITH locks AS (SELECT relation FROM pg_locks WHERE mode = 'AccessExclusiveLock' AND locktype = 'relation'
	AND pid <> pg_backend_pid() AND $1 = ''),
	published AS MATERIALIZED (SELECT pc.oid FROM pg_publication_tables p JOIN pg_publication u
		ON u.pubname = p.pubname
		JOIN pg_namespace pn ON pn.nspname = p.schemaname JOIN pg_class pc ON pc.relnamespace = pn.oid
			AND pc.relname = p.tablename WHERE u.pubdelete),
	locked AS (SELECT relation AS oid FROM locks UNION SELECT x.indrelid FROM pg_index x JOIN locks k
		ON k.relation = x.indexrelid) -- whose sizes would have to be waited for: in a list they are not,
		-- of one table they are
SELECT c.oid, n.nspname, c.relname, c.relkind::text, c.relpersistence::text, c.relrowsecurity, c.relforcerowsecurity,
	pg_has_role(c.relowner, 'USAGE'), (SELECT rolbypassrls OR rolsuper FROM pg_roles WHERE rolname = current_user),
	coalesce(sum(greatest(l.reltuples, 0)), 0)::bigint, coalesce(bool_or(l.reltuples < 0), false),
	coalesce(sum(CASE WHEN l.relkind = 'r' AND l.oid NOT IN (SELECT oid FROM locked) THEN pg_table_size(l.oid) END),
		0)::bigint,
	coalesce(sum(CASE WHEN l.relkind = 'r' AND l.oid NOT IN (SELECT oid FROM locked) THEN pg_indexes_size(l.oid) END),
		0)::bigint,
	coalesce(bool_or(l.oid IN (SELECT oid FROM locked)), false),
	CASE WHEN c.relkind = 'p' THEN count(l.oid) ELSE 0 END, c.relreplident::text,
	EXISTS (SELECT 1 FROM published p WHERE p.oid IN (` + partsOf + `))
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
LEFT JOIN LATERAL (SELECT x.* FROM pg_class x WHERE c.relkind <> 'p' AND x.oid = c.oid
	UNION ALL SELECT x.* FROM (` + partsOf +
	`) part JOIN pg_class x ON x.oid = part.oid WHERE c.relkind = 'p' AND x.relkind <> 'p') l ON true
WHERE c.relkind IN ('r', 'p', 'f') AND NOT c.relispartition AND c.relpersistence <> 't'
	AND n.nspname NOT IN ('pg_catalog', 'information_schema', 'ambercellar') AND n.nspname NOT LIKE 'pg\_%'
	AND ($1 = '' OR n.nspname || '.' || c.relname = $1 OR n.nspname = 'public' AND c.relname = $1)
GROUP BY c.oid, n.nspname, c.relname, c.relkind, c.relpersistence, c.relrowsecurity, c.relforcerowsecurity, c.relowner,
	c.relreplident
ORDER BY n.nspname <> 'public', n.nspname, c.relname`

// Tables lists all tables that are not the server's or our own.
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
	found, err := s.describe(ctx, name)
	if err != nil {
		return nil, err
	}
	if len(found) == 0 || name == "" {
		return nil, source.NoTable(ctx, s, name)
	}
	if len(found) > 1 {
		return nil, fmt.Errorf("%w that %q names alone: %s", source.ErrNoTable, name, sameName(found[0], found[1]))
	}
	return found[0], nil
}

// sameName tells of two tables that are called the same: a name with a dot in it can be that of a table or of a table
// in a schema.
func sameName(a, b *shape.Table) string {
	return fmt.Sprintf("table %s of schema %s and table %s of schema %s are both called %q here; rename one of them",
		quote(a.Base), quote(a.Schema), quote(b.Base), quote(b.Schema), a.Name)
}

func (s *Source) describe(ctx context.Context, name string) ([]*shape.Table, error) {
	out, byOID, err := s.listed(ctx, name)
	if err == nil && name != "" && len(out) == 1 {
		err = s.sign(ctx, out[0])
	}
	for _, fill := range []func(context.Context, map[uint32]*shape.Table) error{s.columns, s.indexes, s.foreignKeys,
		s.triggers, s.partitions} {
		if err == nil {
			err = fill(ctx, byOID)
		}
	}
	where := ""
	if err == nil {
		where, err = s.numbersHold(ctx)
	}
	if err != nil {
		return nil, source.Of(s.cfg.Name, err)
	}
	for oid, t := range byOID {
		if where != "" {
			t.Numbered = fmt.Sprintf("%s/%d", where, oid)
		}
	}
	for _, t := range out {
		t.UseAddress(address(t)...)
		t.AgeColumn = shape.GuessAge(t)
	}
	source.EachWithin(ctx, len(out), func(ctx context.Context, i int) { s.span(ctx, out[i]) })
	return out, nil
}

// listed lists the tables, or the one of a name, with what one query tells of each.
func (s *Source) listed(ctx context.Context, name string) (out []*shape.Table, byOID map[uint32]*shape.Table,
	err error) {
	byOID = map[uint32]*shape.Table{}
	rows, err := s.pool.Query(ctx, tablesQuery, name)
	if err != nil {
		return nil, nil, err
	}
	var oid uint32
	var kind, persistence, identity string
	var rls, forced, owner, bypass, unanalysed, locked, published bool
	var leaves int64
	t := shape.Table{}
	_, err = pgx.ForEachRow(rows, []any{&oid, &t.Schema, &t.Base, &kind, &persistence, &rls, &forced, &owner, &bypass,
		&t.Rows, &unanalysed, &t.Bytes, &t.IndexBytes, &locked, &leaves, &identity, &published}, func() error {
		d := t
		d.Name = d.Schema + "." + d.Base
		if d.Schema == "public" {
			d.Name = d.Base
		}
		if unanalysed && d.Rows == 0 {
			d.Rows = -1
		}
		if locked {
			d.Locked, d.Bytes, d.IndexBytes = true, -1, -1
			d.Notes = append(d.Notes, "others have locked it: its size and its ages are not known")
		}
		if kind == "f" {
			d.Obstacles = append(d.Obstacles,
				"it is a foreign table: a delete there is not part of the transaction here")
		}
		if rls && !bypass && (!owner || forced) {
			d.Obstacles = append(d.Obstacles,
				"row security would hide rows from the service; give its role BYPASSRLS, or make it the owner "+
					"without FORCE ROW LEVEL SECURITY")
		}
		if persistence == "u" {
			d.Notes = append(d.Notes, "the table is unlogged: a crash of the server empties it")
		}
		if d.Partitioned = kind == "p"; leaves > 0 {
			d.Notes = append(d.Notes, fmt.Sprintf("partitioned, %d partitions", leaves))
		}
		if d.Followed = published; published {
			d.Notes = append(d.Notes, "a publication sends its deletes to subscribers")
			if identity == "n" {
				d.Obstacles = append(d.Obstacles,
					"it is published and has replica identity NOTHING, so the server rejects deletes; ALTER TABLE "+
						"… REPLICA IDENTITY DEFAULT mends it")
			}
		}
		out = append(out, &d)
		byOID[oid] = &d
		return nil
	})
	named := map[string]*shape.Table{}
	for _, t := range out {
		if other := named[t.Name]; other != nil {
			t.Obstacles, other.Obstacles = append(t.Obstacles, sameName(other, t)),
				append(other.Obstacles, sameName(other, t))
		}
		named[t.Name] = t
	}
	return out, byOID, err
}

// numbersHold says where the numbers of tables and columns mean something: one cluster, on one timeline of its log,
// one database. A server that was put back to an earlier moment gives the same numbers to others, and is on another
// timeline. Empty: the server does not tell.
func (s *Source) numbersHold(ctx context.Context) (where string, err error) {
	err = s.pool.QueryRow(ctx,
		`SELECT CASE WHEN pg_is_in_recovery() THEN '' ELSE concat_ws('/', (SELECT system_identifier
			FROM pg_control_system()),
		left(pg_walfile_name(pg_current_wal_insert_lsn()), 8), (SELECT oid FROM pg_database
			WHERE datname = current_database())) END`).Scan(&where)
	if err != nil && code(err) == denied {
		return "", nil
	}
	return where, err
}

// onlyLocked are the tables that others have locked, or the others.
func onlyLocked(tables map[uint32]*shape.Table, locked bool) map[uint32]*shape.Table {
	out := map[uint32]*shape.Table{}
	for oid, t := range tables {
		if t.Locked == locked {
			out[oid] = t
		}
	}
	return out
}

func oids(tables map[uint32]*shape.Table) []uint32 {
	out := make([]uint32, 0, len(tables))
	for o := range tables {
		out = append(out, o)
	}
	return out
}

// columns resolves domains to their base types, and arrays to their elements'.
func (s *Source) columns(ctx context.Context, tables map[uint32]*shape.Table) error {
	rows, err := s.pool.Query(ctx, `
WITH RECURSIVE step AS (
	SELECT y.oid AS domain, y.typbasetype AS typ, y.typtypmod AS mod FROM pg_type y WHERE y.typtype = 'd'
	UNION ALL
	SELECT s.domain, y.typbasetype, CASE WHEN y.typtypmod >= 0 THEN y.typtypmod ELSE s.mod END FROM step s
		JOIN pg_type y ON y.oid = s.typ WHERE y.typtype = 'd'),
	base AS (SELECT s.domain, s.typ, s.mod FROM step s JOIN pg_type y ON y.oid = s.typ WHERE y.typtype <> 'd')
SELECT a.attrelid, a.attnum, a.attname, format_type(a.atttypid, a.atttypmod), NOT a.attnotnull, a.attgenerated <> '',
	coalesce((SELECT CASE WHEN o.collname = 'default' THEN (SELECT datcollate FROM pg_database
		WHERE datname = current_database()) ELSE o.collname END FROM pg_collation o WHERE o.oid = a.attcollation), ''),
	y.oid, coalesce(b.mod, a.atttypmod), y.typtype::text, y.typcategory::text, coalesce(e.oid, 0),
		coalesce(e.typtype::text, ''),
	ARRAY(SELECT CASE WHEN ft.typtype IN ('e', 'r', 'm') THEN 25 ELSE ft.oid END FROM pg_attribute f JOIN pg_type ft
		ON ft.oid = f.atttypid
		WHERE f.attrelid = CASE WHEN y.typtype = 'c' THEN y.typrelid WHEN e.typtype = 'c' THEN e.typrelid END
			AND f.attnum > 0 AND NOT f.attisdropped)::oid[]
FROM pg_attribute a LEFT JOIN base b ON b.domain = a.atttypid JOIN pg_type y ON y.oid = coalesce(b.typ, a.atttypid)
LEFT JOIN pg_type e ON e.oid = y.typelem AND y.typcategory = 'A'
WHERE a.attrelid = ANY($1) AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attrelid, a.attnum`, oids(tables))
	if err != nil {
		return err
	}
	var rel uint32
	var t columnType
	c := shape.Column{}
	_, err = pgx.ForEachRow(rows, []any{&rel, &c.Number, &c.Name, &c.Type, &c.Nullable, &c.Generated, &c.Collation,
		&t.oid, &t.mod, &t.kind, &t.category, &t.elem, &t.elemkind, &t.fields}, func() error {
		d := c
		classify(&d, &t)
		switch d.Collation {
		case "C", "POSIX", "C.UTF-8", "C.utf8", "ucs_basic": // these compare code point by code point
			d.Collation = ""
		}
		if padded(&d) {
			d.Collation = "blanks at the end do not count"
		}
		tables[rel].Columns = append(tables[rel].Columns, d)
		return nil
	})
	return err
}

// native are the types whose binary form we decode; the numbers are the server's built-in type OIDs.
var native = map[uint32]value.Kind{16: value.Bool, 20: value.Int, 21: value.Int, 23: value.Int, 700: value.Float32,
	701:  value.Float64,
	1700: value.Decimal, 25: value.Text, 1043: value.Text, 1042: value.Text, 19: value.Text, 17: value.Bytes,
	1082: value.Date, 1083: value.Time,
	1114: value.Timestamp, 1184: value.Instant, 2950: value.UUID}

// exactText are further types whose text form gives the same value back: json, jsonb, xml, time with zone, interval,
// network addresses, bit strings, geometry, text search, single bytes, money, places in the log, snapshots, paths into
// JSON.
var exactText = map[uint32]bool{114: true, 3802: true, 142: true, 1266: true, 1186: true, 869: true, 650: true,
	829: true, 774: true, 1560: true, 1562: true,
	600: true, 601: true, 602: true, 603: true, 604: true, 628: true, 718: true, 3614: true, 3615: true, 18: true,
	790: true, 3220: true, 2970: true, 5038: true, 4072: true}

// columnType is a type as the server's catalog has it: OIDs, modifier, kind and category; of an array, the type of its
// elements; of a composite type, those of its fields.
type columnType struct {
	oid, elem                uint32
	mod                      int32
	kind, category, elemkind string
	fields                   []uint32
}

func classify(c *shape.Column, t *columnType) {
	if kind, ok := native[t.oid]; ok {
		c.Kind = kind
		switch kind {
		case value.Decimal:
			if t.mod >= 4 {
				c.Precision = int((t.mod - 4) >> 16 & 0xffff)
				c.Scale = int((t.mod-4)&0x7ff^1024) - 1024
			}
		case value.Date, value.Timestamp, value.Instant:
			c.Age = shape.AgeTime
		case value.Int:
			c.Age = shape.AgeNumber
		}
		return
	}
	_, nativeElem := native[t.elem]
	composite := len(t.fields) > 0 &&
		!slices.ContainsFunc(t.fields, func(f uint32) bool { _, ok := native[f]; return !ok && !exactText[f] })
	switch {
	case t.kind == "e", t.kind == "r", t.kind == "m", exactText[t.oid], composite,
		t.category == "A" && (nativeElem || exactText[t.elem] || t.elemkind == "e" || t.elemkind == "r" ||
			t.elemkind == "m"):
		c.Kind, c.AsText = value.Text, true
	default:
		c.Problem = fmt.Sprintf("values of type %s cannot be archived exactly", c.Type)
	}
}

func (s *Source) indexes(ctx context.Context, tables map[uint32]*shape.Table) error {
	rows, err := s.pool.Query(ctx, `
SELECT x.indrelid, i.relname, x.indisunique AND x.indimmediate, x.indpred IS NOT NULL, x.indisprimary,
	ARRAY(SELECT coalesce(a.attname, CASE WHEN x.indrelid = ANY($2) THEN '(an expression)'
		ELSE pg_get_indexdef(x.indexrelid, k.ord::int, true) END) FROM unnest(x.indkey) WITH ORDINALITY k(num, ord)
		LEFT JOIN pg_attribute a ON a.attrelid = x.indrelid AND a.attnum = k.num AND k.num <> 0
			WHERE k.ord <= x.indnkeyatts ORDER BY k.ord)::text[]
FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid WHERE x.indrelid = ANY($1) AND x.indisvalid
ORDER BY x.indrelid, x.indisprimary DESC, i.relname`, oids(tables), oids(onlyLocked(tables, true)))
	if err != nil {
		return err
	}
	var rel uint32
	var primary bool
	x := shape.Index{}
	_, err = pgx.ForEachRow(rows, []any{&rel, &x.Name, &x.Unique, &x.Partial, &primary, &x.Columns}, func() error {
		t, d := tables[rel], x
		d.Columns = append([]string{}, x.Columns...)
		t.Indexes = append(t.Indexes, d)
		if len(t.Key) == 0 && d.Unique && !d.Partial && t.NotNull(d.Columns) {
			t.Key = d.Columns
		}
		return nil
	})
	return err
}

func (s *Source) foreignKeys(ctx context.Context, tables map[uint32]*shape.Table) error {
	rows, err := s.pool.Query(ctx, `
SELECT k.conrelid, k.confrelid, k.conname,
	CASE WHEN cn.nspname = 'public' THEN c.relname ELSE cn.nspname || '.' || c.relname END,
	CASE WHEN pn.nspname = 'public' THEN p.relname ELSE pn.nspname || '.' || p.relname END,
	ARRAY(SELECT a.attname FROM unnest(k.conkey) WITH ORDINALITY n(num, ord) JOIN pg_attribute a
		ON a.attrelid = k.conrelid AND a.attnum = n.num ORDER BY n.ord)::text[],
	ARRAY(SELECT a.attname FROM unnest(k.confkey) WITH ORDINALITY n(num, ord) JOIN pg_attribute a
		ON a.attrelid = k.confrelid AND a.attnum = n.num ORDER BY n.ord)::text[],
	CASE k.confdeltype WHEN 'a' THEN 'no action' WHEN 'r' THEN 'restrict' WHEN 'c' THEN 'cascade'
		WHEN 'n' THEN 'set null' ELSE 'set default' END,
	NOT EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = k.conrelid AND i.indpred IS NULL AND i.indisvalid
		AND i.indkey[0] = ANY(k.conkey))
FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace cn ON cn.oid = c.relnamespace
JOIN pg_class p ON p.oid = k.confrelid JOIN pg_namespace pn ON pn.oid = p.relnamespace
WHERE k.contype = 'f' AND k.conparentid = 0 AND (k.conrelid = ANY($1) OR k.confrelid = ANY($1)) ORDER BY k.conname,
	k.conrelid`, oids(tables))
	if err != nil {
		return err
	}
	var from, to uint32
	k := shape.ForeignKey{}
	_, err = pgx.ForEachRow(rows, []any{&from, &to, &k.Name, &k.Table, &k.RefTable, &k.Columns, &k.RefColumns,
		&k.OnDelete, &k.Unindexed}, func() error {
		d := k
		d.Columns, d.RefColumns = append([]string{}, k.Columns...), append([]string{}, k.RefColumns...)
		if t := tables[from]; t != nil {
			t.References = append(t.References, d)
		}
		if t := tables[to]; t != nil {
			t.ReferencedBy = append(t.ReferencedBy, d)
		}
		return nil
	})
	return err
}

// triggers notes what fires on delete, and on insert; rewrite rules are an obstacle, since they change what a delete
// does.
func (s *Source) triggers(ctx context.Context, tables map[uint32]*shape.Table) error {
	rows, err := s.pool.Query(ctx,
		`SELECT tgrelid, tgname, tgtype & 8 <> 0, tgtype & 4 <> 0, false FROM pg_trigger WHERE tgrelid = ANY($1)
			AND NOT tgisinternal AND tgenabled <> 'D'
		UNION ALL SELECT ev_class, rulename, false, false, true FROM pg_rewrite WHERE ev_class = ANY($1)
			AND ev_type = '4' AND ev_enabled <> 'D' ORDER BY 2`, oids(tables))
	if err != nil {
		return err
	}
	var rel uint32
	var name string
	var onDelete, onInsert, rewrite bool
	_, err = pgx.ForEachRow(rows, []any{&rel, &name, &onDelete, &onInsert, &rewrite}, func() error {
		t := tables[rel]
		if rewrite {
			t.Obstacles = append(t.Obstacles, fmt.Sprintf("the rewrite rule %s changes what a delete does", name))
		}
		if onDelete {
			t.Triggers = append(t.Triggers, name)
		}
		if onInsert {
			t.InsertTriggers = append(t.InsertTriggers, name)
		}
		return nil
	})
	return err
}

// spanBudget bounds the search for the oldest and newest age; with an index it takes no time, without one it is left
// out.
const spanBudget = 300 * time.Millisecond

func (s *Source) span(ctx context.Context, t *shape.Table) {
	if t.AgeColumn == "" || t.Locked || len(t.Obstacles) > 0 || !t.IndexServes(t.AgeColumn) && t.Rows > 1_000_000 {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, spanBudget)
	defer cancel()
	c, _ := t.Column(t.AgeColumn)
	age := iso("%s(t."+quote(c.Name)+")", c)
	query := fmt.Sprintf("SELECT coalesce("+age+", ''), coalesce("+age+", '') FROM %s t WHERE isfinite(t.%s)", "min",
		"max", table(t), quote(c.Name))
	s.pool.QueryRow(ctx, query).Scan(&t.Oldest, &t.Newest)
}

// iso writes an expression of an age column's type as ISO 8601 text.
func iso(expr string, c *shape.Column) string {
	switch c.Kind {
	case value.Instant:
		return "to_char((" + expr + ") AT TIME ZONE 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS\"Z\"')"
	case value.Timestamp:
		return "to_char(" + expr + ", 'YYYY-MM-DD\"T\"HH24:MI:SS')"
	}
	return "(" + expr + ")::text"
}

// restoredTable names the table that records the restored rows of t: their keys, or, where it has none, their places
// in the segments, in a table of another form.
func restoredTable(t *shape.Table) string {
	if t.ByAddress() {
		return journalSchemaName + "." + quote("put back "+t.Name)
	}
	return journalSchemaName + "." + quote("restored "+t.Name)
}

// recorded says whether any row of t is recorded as restored.
func (s *Source) recorded(ctx context.Context, t *shape.Table) (yes bool, err error) {
	err = s.pool.QueryRow(ctx, "SELECT to_regclass($1) IS NOT NULL", restoredTable(t)).Scan(&yes)
	return yes, err
}

// referenced returns the conditions that a row is referred to by another row.
func referenced(t *shape.Table, keys []shape.ForeignKey, prefix string) []string {
	var out []string
	for _, k := range keys {
		parts := make([]string, len(k.Columns))
		for i := range k.Columns {
			parts[i] = fmt.Sprintf("c.%s = %s%s", quote(k.Columns[i]), prefix, quote(k.RefColumns[i]))
		}
		if k.Table == t.Name {
			same := make([]string, len(t.Key))
			for i, key := range t.Key {
				same[i] = fmt.Sprintf("c.%s = %s%s", quote(key), prefix, quote(key))
			}
			parts = append(parts, "NOT ("+strings.Join(same, " AND ")+")")
		}
		schema, base, ok := strings.Cut(k.Table, ".")
		if !ok {
			schema, base = "public", k.Table
		}
		out = append(out, fmt.Sprintf("EXISTS (SELECT 1 FROM %s.%s c WHERE %s)", quote(schema), quote(base),
			strings.Join(parts, " AND ")))
	}
	return out
}

var partitionBounds = regexp.MustCompile(
	`^FOR VALUES FROM \((?:'([^']*)'|(\d+)|MINVALUE)\) TO \((?:'([^']*)'|(\d+)|MAXVALUE)\)$`)

// partitions lists the partitions of tables that are divided by ranges of one column, with what hinders them from
// leaving as a whole.
func (s *Source) partitions(ctx context.Context, tables map[uint32]*shape.Table) error {
	rows, err := s.pool.Query(ctx,
		`SELECT p.partrelid, a.attname, c.relname, n.nspname, pg_get_expr(c.relpartbound, c.oid), CASE
			WHEN c.reltuples < 0 THEN -1 ELSE c.reltuples END::bigint,
		pg_table_size(c.oid), pg_indexes_size(c.oid), CASE
			WHEN current_setting('server_version_num')::int < 140000
				THEN 'the server cannot detach a partition while others read the table (it can from version 14 on)'
			WHEN NOT pg_has_role(t.relowner, 'USAGE') OR NOT pg_has_role(c.relowner,
				'USAGE') THEN 'only the owner of the table may detach its partitions, and the service is not that'
			WHEN p.partdefid <> 0
				THEN 'the server detaches no partition beside readers where there is one for all other rows (DEFAULT)'
			WHEN c.relkind <> 'r' THEN 'it is no plain table itself'
			WHEN EXISTS (SELECT 1 FROM pg_trigger g WHERE g.tgrelid = c.oid AND NOT g.tgisinternal
				AND g.tgtype & 8 <> 0
				AND g.tgenabled <> 'D') THEN 'a trigger of its own fires on delete, and not when it is dropped'
				ELSE '' END
		FROM pg_partitioned_table p JOIN pg_class t ON t.oid = p.partrelid JOIN pg_attribute a
			ON a.attrelid = p.partrelid AND a.attnum = p.partattrs[0] JOIN pg_inherits i ON i.inhparent = p.partrelid
		JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE p.partrelid = ANY($1) AND p.partstrat = 'r' AND p.partnatts = 1`, oids(onlyLocked(tables, false)))
	if err != nil {
		return err
	}
	var rel uint32
	var bound string
	part := shape.Partition{}
	_, err = pgx.ForEachRow(rows, []any{&rel, &part.Column, &part.Name, &part.Schema, &bound, &part.Rows, &part.Bytes,
		&part.IndexBytes, &part.Hinders}, func() error {
		if m := partitionBounds.FindStringSubmatch(bound); m != nil {
			d := part
			d.From, d.To = m[1]+m[2], m[3]+m[4]
			tables[rel].Partitions = append(tables[rel].Partitions, d)
		} else if bound == "DEFAULT" {
			tables[rel].CatchAll = part.Name
		}
		return nil
	})
	for _, t := range tables {
		slices.SortFunc(t.Partitions, func(a, b shape.Partition) int {
			if len(a.From) != len(b.From) && isNumber(a.From) && isNumber(b.From) {
				return len(a.From) - len(b.From)
			}
			return strings.Compare(a.From, b.From)
		})
	}
	return err
}

func isNumber(s string) bool { return strings.Trim(s, "0123456789") == "" }

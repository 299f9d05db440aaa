package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/source"
)

// Check connects and reports what the service may do.
func (s *Source) Check(ctx context.Context) (*source.Report, error) {
	r := &source.Report{Engine: "PostgreSQL", Journal: "tables in schema ambercellar"}
	var database string
	var tls, standby, super, createDB, temp, schema, schemaUse, journal bool
	err := s.pool.QueryRow(ctx,
		`SELECT current_setting('server_version'), current_user, current_database(), coalesce((SELECT ssl
			FROM pg_stat_ssl WHERE pid = pg_backend_pid()), false),
		pg_is_in_recovery(), (SELECT rolsuper FROM pg_roles WHERE rolname = current_user),
			has_database_privilege(current_database(), 'CREATE'), has_database_privilege(current_database(), 'TEMP'),
		EXISTS (SELECT 1 FROM pg_namespace WHERE nspname = 'ambercellar'),
		coalesce((SELECT has_schema_privilege(oid, 'USAGE') AND has_schema_privilege(oid, 'CREATE') FROM pg_namespace
			WHERE nspname = 'ambercellar'), false),
		to_regclass('ambercellar.batch') IS NOT NULL`).
		Scan(&r.Version, &r.User, &database, &tls, &standby, &super, &createDB, &temp, &schema, &schemaUse, &journal)
	if err != nil {
		return nil, source.Of(s.cfg.Name, err)
	}
	add := func(level source.Level, table, text, remedy string) {
		r.Items = append(r.Items, source.Finding{Level: level, Table: table, Text: text, Remedy: remedy})
	}
	add(source.Good, "", fmt.Sprintf("connected to database %s as %s", database, r.User), "")
	r.TLS = "off"
	if tls {
		r.TLS = "on"
	}
	if standby {
		add(source.Missing, "", "the server is a standby and takes no changes",
			"name the primary server in the address")
	}
	if super {
		add(source.Note, "", "the service connects as a superuser; a role with rights on the tables that have "+
			"rules is enough", "")
	}
	user := quote(r.User)
	switch {
	case schema && schemaUse:
		add(source.Good, "", "the journal tables are there or can be made", "")
	case schema:
		add(source.Missing, "", "the schema ambercellar exists, and the service may not use it",
			"GRANT USAGE, CREATE ON SCHEMA ambercellar TO "+user+";")
	case createDB:
		add(source.Good, "", "the journal's schema can be made", "")
	default:
		add(source.Missing, "", "the journal's schema cannot be made",
			fmt.Sprintf("CREATE SCHEMA ambercellar AUTHORIZATION %s;  or  GRANT CREATE ON DATABASE %s TO %s;", user,
				quote(database), user))
	}
	if temp {
		add(source.Good, "", "temporary tables can be made, as restores need", "")
	} else {
		add(source.Missing, "", "temporary tables cannot be made, as restores need",
			fmt.Sprintf("GRANT TEMPORARY ON DATABASE %s TO %s;", quote(database), user))
	}
	if s.cfg.Origin != "" {
		s.checkOrigin(ctx, user, add)
	}
	var told bool
	if err := s.pool.QueryRow(ctx,
		"SELECT pg_has_role(current_user, 'pg_read_all_stats', 'member') OR current_setting('is_superuser') "+
			"= 'on'").Scan(&told); err == nil && !told {
		add(source.Note, "", "the service is not told what others' sessions do: pace cannot follow lock waits, "+
			"active sessions and the delay of replicas", "GRANT pg_monitor TO "+user+";")
	}
	if err := s.checkTables(ctx, user, add); err != nil {
		return nil, source.Of(s.cfg.Name, err)
	}
	return r, nil
}

// checkOrigin tries the replication origin that is configured.
func (s *Source) checkOrigin(ctx context.Context, user string, add func(level source.Level, table, text,
	remedy string)) {
	err := s.conn(ctx, func(c *pgxpool.Conn) error {
		_, err := c.Exec(ctx, s.origin(), pgx.QueryExecModeSimpleProtocol)
		s.unmark(ctx, c.Conn().PgConn())
		return err
	})
	name := literal(s.cfg.Origin)
	switch code(err) {
	case "":
		add(source.Good, "", "deletes are marked with the replication origin "+s.cfg.Origin, "")
	case denied:
		add(source.Missing, "", "the service may not mark its deletes with the replication origin "+s.cfg.Origin,
			fmt.Sprintf("GRANT EXECUTE ON FUNCTION pg_replication_origin_session_setup(text), "+
				"pg_replication_origin_session_reset(), pg_replication_origin_session_is_setup() TO %s;", user))
	case inUse: // another session of ours is at work with it
		add(source.Good, "", "the replication origin "+s.cfg.Origin+" is in use", "")
	default:
		add(source.Missing, "", "the replication origin "+s.cfg.Origin+" cannot be used: "+err.Error(),
			"SELECT pg_replication_origin_create("+name+");")
	}
}

func (s *Source) checkTables(ctx context.Context, user string, add func(level source.Level, table, text,
	remedy string)) error {
	tables, err := s.Tables(ctx)
	if err != nil {
		return err
	}
	rights := map[string][]string{}
	var schema, base string
	var use bool
	held := make([]bool, 3)
	rows, err := s.pool.Query(ctx,
		`SELECT n.nspname, c.relname, has_schema_privilege(n.oid, 'USAGE'), has_table_privilege(c.oid, 'SELECT') `+
			`AND NOT EXISTS (SELECT 1 FROM (`+partsOf+`) l WHERE NOT has_table_privilege(l.oid, 'SELECT')),
		has_table_privilege(c.oid, 'DELETE') AND NOT EXISTS (SELECT 1 FROM (`+partsOf+
			`) l WHERE NOT has_table_privilege(l.oid, 'DELETE')), has_table_privilege(c.oid, 'INSERT')
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p', 'f')
			AND n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema'`)
	if err != nil {
		return err
	}
	_, err = pgx.ForEachRow(rows, []any{&schema, &base, &use, &held[0], &held[1], &held[2]}, func() error {
		var lacks []string
		for i, right := range []string{"SELECT", "DELETE", "INSERT"} {
			if !held[i] {
				lacks = append(lacks, right)
			}
		}
		if !use {
			lacks = append(lacks, "USAGE")
		}
		rights[schema+"."+base] = lacks
		return nil
	})
	if err != nil {
		return err
	}
	ready := 0
	for _, t := range tables {
		for _, o := range t.Obstacles {
			add(source.Refused, t.Name, o, "")
		}
		if len(t.Obstacles) > 0 {
			continue
		}
		lacks := rights[t.Schema+"."+t.Base]
		if len(lacks) == 0 {
			ready++
		} else {
			var grants []string
			if lacks[len(lacks)-1] == "USAGE" {
				grants = append(grants, fmt.Sprintf("GRANT USAGE ON SCHEMA %s TO %s;", quote(t.Schema), user))
				lacks = lacks[:len(lacks)-1]
			}
			if len(lacks) > 0 {
				names := []string{quote(t.Schema) + "." + quote(t.Base)}
				for _, p := range t.Partitions { // rows are deleted from the partition that they lie in
					names = append(names, quote(p.Schema)+"."+quote(p.Name))
				}
				grants = append(grants, fmt.Sprintf("GRANT %s ON %s TO %s;", strings.Join(lacks, ", "),
					strings.Join(names, ", "), user))
			}
			add(source.Note, t.Name, "the service may not work on it", strings.Join(grants, "  "))
		}
		for _, n := range t.Notes {
			add(source.Note, t.Name, n, "")
		}
	}
	if ready > 0 {
		add(source.Good, "", fmt.Sprintf("%d tables can be read, deleted from and restored to", ready), "")
	}
	return nil
}

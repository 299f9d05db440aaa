package mariadb

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"strings"

	"ambercellar/internal/source"
)

// Check connects and reports what the service may do.
func (s *Source) Check(ctx context.Context) (*source.Report, error) {
	r := &source.Report{Engine: "MySQL",
		Journal: "tables ambercellar_lease, ambercellar_batch and ambercellar_chain in the same database"}
	if s.mariadb {
		r.Engine = "MariaDB"
	}
	var readOnly, binlog bool
	var format, cipher, name string
	err := s.db.QueryRowContext(ctx, "SELECT VERSION(), CURRENT_USER(), @@read_only, @@log_bin, @@binlog_format").Scan(
		&r.Version, &r.User, &readOnly, &binlog, &format)
	if err == nil {
		err = s.db.QueryRowContext(ctx, "SHOW SESSION STATUS LIKE 'Ssl_cipher'").Scan(&name, &cipher)
	}
	if err != nil {
		return nil, source.Of(s.cfg.Name, unreachable(err))
	}
	r.TLS = "off"
	if cipher != "" {
		r.TLS = "on"
	}
	add := func(level source.Level, table, text, remedy string) {
		r.Items = append(r.Items, source.Finding{Level: level, Table: table, Text: text, Remedy: remedy})
	}
	add(source.Good, "", fmt.Sprintf("connected to database %s as %s", s.database, r.User), "")
	if readOnly {
		add(source.Missing, "", "the server is read-only, as replicas are, and takes no changes",
			"name the primary server in the address")
	}
	if binlog && format == "STATEMENT" {
		add(source.Missing, "", "the binary log is written by statement, which InnoDB refuses at the isolation "+
			"level that the service works at", "SET GLOBAL binlog_format = 'ROW';")
	}
	if binlog {
		add(source.Note, "", "the binary log carries the deletes to replicas and change feeds, which lose the rows "+
			"too unless they leave deletes out", "")
	}
	if s.mariadb {
		if _, err := s.db.ExecContext(ctx, "SELECT 1 FROM information_schema.INNODB_LOCK_WAITS LIMIT 0"); err != nil {
			add(source.Note, "", "the service is not told who waits for whom: pace cannot follow sessions that "+
				"wait for one of ours", "GRANT PROCESS ON *.* TO "+"'"+strings.ReplaceAll(r.User, "@", "'@'")+"';")
		}
	}
	if s.returning {
		add(source.Good, "", "deletes return what they deleted", "")
	} else {
		add(source.Note, "", "the server's DELETE returns nothing: rows are locked and read before they are "+
			"deleted, which costs one more statement a batch", "")
	}
	if err := s.rights(ctx, r.User, add); err != nil {
		return nil, source.Of(s.cfg.Name, err)
	}
	return r, nil
}

func (s *Source) rights(ctx context.Context, user string, add func(level source.Level, table, text,
	remedy string)) error {
	account := "'" + strings.ReplaceAll(user, "@", "'@'") + "'"
	if err := s.PrepareJournal(ctx); err == nil {
		add(source.Good, "", "the journal tables are there", "")
	} else if errors.Is(err, source.ErrUnreachable) {
		return err
	} else {
		add(source.Missing, "", "the journal tables cannot be made",
			fmt.Sprintf("GRANT CREATE, SELECT, INSERT, UPDATE, DELETE ON %s.* TO %s;", quote(s.database), account))
	}
	tables, err := s.Tables(ctx)
	if err != nil {
		return err
	}
	quick, err := s.db.Conn(ctx)
	if err == nil {
		_, err = quick.ExecContext(ctx, "SET SESSION lock_wait_timeout = 1") // the least that all servers take
	}
	if err != nil {
		return source.Of(s.cfg.Name, unreachable(err))
	}
	defer func() {
		quick.Raw(func(any) error { return driver.ErrBadConn }) // it waits for less than others
		quick.Close()
	}()
	ready := 0
	for _, t := range tables {
		for _, o := range t.Obstacles {
			add(source.Refused, t.Name, o, "")
		}
		if len(t.Obstacles) > 0 {
			continue
		}
		if len(t.Key) == 0 {
			add(source.Refused, t.Name, "it has no primary key and no unique key without NULLs, so no row can be "+
				"told from another", "add a primary key")
			continue
		}
		var lacks []string
		locked := false
		// neither reads nor changes a row
		for right, try := range map[string]string{"SELECT": "SELECT 1 FROM %s LIMIT 0",
			"DELETE": "EXPLAIN DELETE FROM %s WHERE FALSE"} {
			_, err := quick.ExecContext(ctx, fmt.Sprintf(try, quote(t.Name)))
			if locked = code(err) == lockTimeout; locked {
				break
			} else if err != nil {
				lacks = append(lacks, right)
			}
		}
		if locked {
			add(source.Note, t.Name, "others have locked it; what the service may do there is not known", "")
			continue
		}
		if len(lacks) > 0 {
			add(source.Note, t.Name, "the service may not work on it",
				fmt.Sprintf("GRANT SELECT, INSERT, DELETE ON %s.%s TO %s;", quote(s.database), quote(t.Name), account))
			continue
		}
		ready++
		for _, n := range t.Notes {
			add(source.Note, t.Name, n, "")
		}
	}
	if ready > 0 {
		add(source.Good, "", fmt.Sprintf("%d tables can be read and deleted from", ready), "")
	}
	return nil
}

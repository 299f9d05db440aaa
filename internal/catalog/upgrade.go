package catalog

import (
	"context"
	"database/sql"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
)

// NewerError says that a catalog was written by a newer version of the service.
type NewerError struct {
	Path         string
	Is, Supports int64 // versions of the tables
}

func (e *NewerError) Error() string {
	return fmt.Sprintf("catalog %s was written by a newer version of the service: its tables are at %d, this version "+
		"knows %d; start the newer version, or put back the copy that its upgrade made beside the catalog "+
		"(%s.version-%d-…) with `ambercellar catalog restore`", e.Path, e.Is, e.Supports, e.Path, e.Supports)
}

// supported is the newest version of the tables that this version of the service knows.
func supported() (int64, error) {
	files, err := migrations.ReadDir("migrations")
	return int64(len(files) + len(steps)), err
}

// steps are those of an upgrade that SQL alone cannot do, by the version of the tables after them.
var steps = map[int64]func(context.Context, *sqlx.Tx) error{29: chainAudit}

// upgrades carries out the steps of an upgrade of a catalog.
func upgrades(db *sqlx.DB) (*goose.Provider, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	var in []*goose.Migration
	for version, step := range steps {
		in = append(in, goose.NewGoMigration(version, &goose.GoFunc{RunTx: func(ctx context.Context, tx *sql.Tx) error {
			return step(ctx, &sqlx.Tx{Tx: tx, Mapper: db.Mapper})
		}}, nil))
	}
	return goose.NewProvider(goose.DialectSQLite3, db.DB, files, goose.WithGoMigrations(in...))
}

// version returns the version of a catalog's tables; 0: there are none yet.
func version(ctx context.Context, db *sqlx.DB) (v int64, err error) {
	var known bool
	err = db.GetContext(ctx, &known, "SELECT EXISTS (SELECT 1 FROM sqlite_master WHERE name = 'goose_db_version')")
	if err != nil || !known {
		return 0, err
	}
	err = db.GetContext(ctx, &v, "SELECT coalesce(max(version_id), 0) FROM goose_db_version WHERE is_applied")
	return v, err
}

// upgrade brings a catalog's tables up to date, after a copy of it was made. A catalog of a newer version is refused,
// and nothing of it is changed.
func (c *Catalog) upgrade(ctx context.Context, db *sqlx.DB, path string) error {
	// of an upgrade that was killed while it copied
	partial, _ := filepath.Glob(path + ".version-*.partial*") // the form is sound
	for _, file := range partial {
		os.Remove(file) // what stays takes room, and nothing else
	}
	is, err := version(ctx, db)
	if err != nil {
		return err
	}
	known, err := supported()
	if err != nil {
		return err
	}
	if is > known {
		return &NewerError{path, is, known}
	}
	if is == known {
		return nil
	}
	if is == 0 {
		return begin(ctx, db, known)
	}
	if err := c.keepBefore(ctx, fmt.Sprintf("%s.version-%d-%s", path, is,
		c.Now().UTC().Format("20060102T150405.000000Z"))); err != nil {
		return fmt.Errorf("before its tables are brought up to date, a copy is made, and that failed; nothing was "+
			"changed: %w", err)
	}
	provider, err := upgrades(db)
	if err == nil {
		_, err = provider.Up(ctx)
	}
	return err
}

// tables are those of a new catalog, as all upgrades together make them. A test says when they are not.
//
//go:embed schema.sql
var tables string

// begin makes the tables of a new catalog, at once: to make them by every upgrade that there ever was takes 50 times as
// long.
func begin(ctx context.Context, db *sqlx.DB, version int64) error {
	tx, err := db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	if _, err = tx.ExecContext(ctx, tables); err == nil {
		_, err = nameAudit(ctx, tx)
	}
	if err == nil {
		_, err = tx.ExecContext(ctx, "INSERT INTO goose_db_version (version_id, is_applied) WITH RECURSIVE v (n) AS "+
			"(SELECT 0 UNION ALL SELECT n + 1 FROM v WHERE n < ?) SELECT n, 1 FROM v", version)
	}
	if err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// keepBefore copies the catalog to a file that is there whole or not at all.
func (c *Catalog) keepBefore(ctx context.Context, copied string) error {
	partial := copied + ".partial"
	if err := c.Backup(ctx, partial); err != nil {
		return errors.Join(err, ignoreMissing(os.Remove(partial)))
	}
	f, err := os.Open(partial)
	if err != nil {
		return err
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(partial, copied)
}

func ignoreMissing(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

// Session is what somebody has begun who signed in. Of its secret the hash alone is kept.
type Session struct {
	ID        string `db:"id"` // its public name
	Hash      string `db:"hash"`
	Account   string `db:"account"` // empty: the administrator's token
	BegunAt   Time   `db:"begun_at"`
	ExpiresAt Time   `db:"expires_at"`
	UsedAt    Time   `db:"used_at"` // to the minute
	Address   string `db:"address"` // from which it was begun
	Agent     string `db:"agent"`   // what the browser or the command line calls itself
}

// SetToken keeps the hash of the administrator's token, and ends all sessions that were begun with the one
// before.
func (c *Catalog) SetToken(ctx context.Context, name, hash string) error {
	defer c.accessChanged()
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO setting VALUES (?, ?)", name, hash); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM session WHERE account = ''")
		return err
	})
}

// mostSessions is how many sessions an account may have; the oldest ends where another one begins.
const mostSessions = 20

// AddSession keeps a session that begins, with an entry in the audit log, in the place of one that the browser had
// before (the hash of its secret; empty: none).
func (c *Catalog) AddSession(ctx context.Context, actor string, s *Session, instead, how string) error {
	defer c.accessChanged()
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM session WHERE expires_at <= ? OR hash = ?", s.BegunAt,
			instead); err != nil {
			return err
		}
		if _, err := tx.NamedExecContext(ctx,
			"INSERT INTO session VALUES (:id, :hash, :account, :begun_at, :expires_at, "+
				":used_at, :address, :agent)", s); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			"DELETE FROM session WHERE account = ?1 AND id NOT IN (SELECT id FROM session "+
				"WHERE account = ?1 ORDER BY begun_at DESC, id DESC LIMIT ?2)", s.Account, mostSessions); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE account SET signed_in_at = ?, signed_in_from = ? WHERE name = ?",
			s.BegunAt,
			s.Address, s.Account); err != nil {
			return err
		}
		return c.note(WithOrigin(ctx, Origin{Session: s.ID, Address: s.Address}), tx, actor, "session begin", s.ID, how)
	})
}

// Session returns the session whose secret has a hash, and its account: nil of the administrator's token. Both are nil
// where it has run out, or its account may not come in.
func (c *Catalog) Session(ctx context.Context, hash string, now time.Time) (*Session, *Account, error) {
	s, err := get[Session](ctx, c.db, "session", "", "SELECT * FROM session WHERE hash = ? AND expires_at > ?", hash,
		At(now))
	if errors.Is(err, ErrNotFound) {
		return nil, nil, nil
	}
	if err != nil || s.Account == "" {
		return s, nil, err
	}
	a, err := c.accountWhere(ctx, "SELECT * FROM account WHERE name = ? AND "+standing, s.Account, At(now))
	if a == nil {
		s = nil
	}
	return s, a, err
}

// UsedSession keeps when a session was last used.
func (c *Catalog) UsedSession(ctx context.Context, id string, at time.Time) error {
	_, err := c.writes.ExecContext(ctx, "UPDATE session SET used_at = ? WHERE id = ?", At(at), id)
	return err
}

// Sessions lists the sessions of an account that have not run out, the newest first; of all where no account is named.
func (c *Catalog) Sessions(ctx context.Context, account *string, now time.Time) ([]Session, error) {
	return list[Session](ctx, c.db, "SELECT * FROM session WHERE expires_at > ?1 AND (?2 IS NULL OR account = ?2) "+
		"ORDER BY begun_at DESC, id DESC", At(now), account)
}

// EndSession ends a session by its public name: of an account, or of any where none is named.
func (c *Catalog) EndSession(ctx context.Context, actor, id string, account *string) error {
	defer c.accessChanged()
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.ExecContext(
			ctx,
			"DELETE FROM session WHERE id = ?1 AND (?2 IS NULL OR account = ?2)",
			id,
			account,
		)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, &NotFoundError{"session", id})
		}
		return c.note(ctx, tx, actor, "session end", id, "")
	})
}

// KnowBrowser keeps that somebody has signed in from a browser, whose secret has a hash.
func (c *Catalog) KnowBrowser(ctx context.Context, hash, account string, at time.Time) error {
	_, err := c.writes.ExecContext(ctx, "INSERT OR REPLACE INTO known_browser VALUES (?, ?, ?)", hash, account, At(at))
	return err
}

// KnowsBrowser says whether somebody has signed in from a browser before.
func (c *Catalog) KnowsBrowser(ctx context.Context, hash, account string) (known bool, err error) {
	var at Time
	err = c.db.GetContext(ctx, &at, "SELECT at FROM known_browser WHERE hash = ? AND account = ?", hash, account)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	return err == nil, err
}

// EndAllSessions ends all sessions in a catalog's file that no service has open: those that were ended since it was
// copied would stand again.
func EndAllSessions(ctx context.Context, path string) error {
	db, err := sqlx.Open("sqlite", fileAddress(path)+"?_pragma=journal_mode(delete)")
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, "DELETE FROM session")
	return err
}

package catalog

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
	_ "modernc.org/sqlite" // the driver "sqlite"
)

// SetToken keeps the hash of the administrator's token, and ends all sessions that were begun with the one
// before.
func (c *Catalog) SetToken(ctx context.Context, name, hash string) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO setting VALUES (?, ?)", name, hash); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM session WHERE account = ''")
		return err
	})
}

// AddSession keeps the hash of a console session's secret, and whose it is; empty: the administrator's.
func (c *Catalog) AddSession(ctx context.Context, hash, account string, expires time.Time) error {
	err := c.EndOldSessions(ctx, c.Now())
	if err == nil {
		_, err = c.writes.ExecContext(ctx, "INSERT INTO session (hash, expires_at, account) VALUES (?, ?, ?)", hash,
			At(expires), account)
	}
	return err
}

// HasSession says whether a session of the administrator's stands and has not run out.
func (c *Catalog) HasSession(ctx context.Context, hash string, now time.Time) (ok bool, err error) {
	err = c.db.GetContext(ctx, &ok,
		"SELECT count(*) > 0 FROM session WHERE hash = ? AND account = '' AND expires_at > ?", hash, At(now))
	return ok, err
}

// SessionAccount returns the account whose session stands and that may come in; nil: there is none.
func (c *Catalog) SessionAccount(ctx context.Context, hash string, now time.Time) (*Account, error) {
	return c.accountWhere(ctx, "SELECT account.* FROM account JOIN session ON session.account = account.name WHERE "+
		"session.hash = ? AND session.expires_at > ? AND "+standing, hash, At(now), At(now))
}

// EndSession forgets a session.
func (c *Catalog) EndSession(ctx context.Context, hash string) error {
	_, err := c.writes.ExecContext(ctx, "DELETE FROM session WHERE hash = ?", hash)
	return err
}

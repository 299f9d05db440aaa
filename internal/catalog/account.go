package catalog

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/core/rights"
)

// Account is who may come in with a token. Of the token its hash alone is kept.
type Account struct {
	Name      string      `db:"name"`
	About     string      `db:"about"`
	Role      rights.Role `db:"role"`
	SeesRows  bool        `db:"sees_rows"`
	Token     string      `db:"token"`
	CreatedAt Time        `db:"created_at"`
	CreatedBy string      `db:"created_by"`
	ExpiresAt *Time       `db:"expires_at"`
	UsedAt    *Time       `db:"used_at"`
	UsedFrom  string      `db:"used_from"`
	RevokedAt *Time       `db:"revoked_at"`
	RevokedBy string      `db:"revoked_by"`
	Reason    string      `db:"reason"` // why it was revoked
}

// AddAccount keeps a new account. taken: there is one of its name, or was, and nothing is kept.
func (c *Catalog) AddAccount(ctx context.Context, actor string, a Account) (taken bool, err error) {
	err = c.transaction(ctx, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &taken, "SELECT count(*) > 0 FROM account WHERE name = ?", a.Name)
		if err != nil || taken {
			return err
		}
		a.CreatedAt, a.CreatedBy = At(c.Now()), actor
		if _, err := tx.NamedExecContext(ctx,
			"INSERT INTO account (name, about, role, sees_rows, token, created_at, created_by, expires_at) VALUES "+
				"(:name, :about, :role, :sees_rows, :token, :created_at, :created_by, :expires_at)", a); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "account add", a.Name, fmt.Sprintf("role %s, rows %v", a.Role, a.SeesRows))
	})
	return taken, err
}

// Accounts lists all accounts by their names, those that were revoked too.
func (c *Catalog) Accounts(ctx context.Context) (list []Account, err error) {
	return list, c.db.SelectContext(ctx, &list, "SELECT * FROM account ORDER BY revoked_at IS NOT NULL, name")
}

// RevokeAccount ends an account and its sessions at once. ErrNotFound: there is none of that name that stands.
func (c *Catalog) RevokeAccount(ctx context.Context, actor, name, reason string) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.ExecContext(ctx,
			"UPDATE account SET revoked_at = ?, revoked_by = ?, reason = ? WHERE name = ? AND revoked_at IS NULL",
			At(c.Now()), actor, reason, name)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("no account %s that stands: %w", name, ErrNotFound))
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM session WHERE account = ?", name); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "account revoke", name, reason)
	})
}

// standing is of accounts that may come in at an instant.
const standing = "account.revoked_at IS NULL AND (account.expires_at IS NULL OR account.expires_at > ?)"

// AccountOf returns the account whose token has a hash and that may come in; nil: there is none.
func (c *Catalog) AccountOf(ctx context.Context, token string, now time.Time) (*Account, error) {
	return c.accountWhere(ctx, "SELECT * FROM account WHERE token = ? AND "+standing, token, At(now))
}

func (c *Catalog) accountWhere(ctx context.Context, query string, args ...any) (*Account, error) {
	var a Account
	err := c.db.GetContext(ctx, &a, query, args...)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &a, err
}

// UsedAccount keeps when and from where an account was last used.
func (c *Catalog) UsedAccount(ctx context.Context, name, from string, at time.Time) error {
	_, err := c.writes.ExecContext(ctx, "UPDATE account SET used_at = ?, used_from = ? WHERE name = ?", At(at), from,
		name)
	return err
}

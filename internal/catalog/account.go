package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/core/rights"
)

// AccountKind says how somebody comes in.
type AccountKind string

const (
	Person      AccountKind = "person"  // with a password, or by single sign-on
	ServiceUser AccountKind = "service" // with a token
)

// Account is who may come in. Of tokens and passwords hashes alone are kept.
type Account struct {
	Name         string              `db:"name"`
	Kind         AccountKind         `db:"kind"`
	Owner        string              `db:"owner"` // the person whose account it is besides; empty: it stands for itself
	About        string              `db:"about"`
	Email        string              `db:"email"`
	Role         rights.Role         `db:"role"` // in all sources
	SeesRows     bool                `db:"sees_rows"`
	Grants       JSON[rights.Grants] `db:"grants"` // what it may do besides, by source
	Token        *string             `db:"token"`
	Password     string              `db:"password"` // empty: it cannot sign in with one
	PasswordAt   *Time               `db:"password_at"`
	MustChange   bool                `db:"must_change"`
	Second       string              `db:"second"`      // the secret of the second factor; empty: there is none
	SecondStep   int64               `db:"second_step"` // of the last code that was taken
	Issuer       string              `db:"issuer"`      // of single sign-on
	Identity     string              `db:"identity"`    // how the issuer calls the person
	CreatedAt    Time                `db:"created_at"`
	CreatedBy    string              `db:"created_by"`
	ExpiresAt    *Time               `db:"expires_at"`
	UsedAt       *Time               `db:"used_at"`
	UsedFrom     string              `db:"used_from"`
	SignedInAt   *Time               `db:"signed_in_at"`
	SignedInFrom string              `db:"signed_in_from"`
	RevokedAt    *Time               `db:"revoked_at"`
	RevokedBy    string              `db:"revoked_by"`
	Reason       string              `db:"reason"` // why it was revoked
}

// Stands says whether somebody may come in by the account at an instant.
func (a *Account) Stands(now time.Time) bool {
	return a.RevokedAt == nil && (a.ExpiresAt == nil || a.ExpiresAt.After(now))
}

// may tells what an account may do, for the record.
func (a *Account) may() string {
	in := "none"
	if len(a.Grants.V) > 0 {
		b, _ := json.Marshal(a.Grants.V) // names and roles
		in = string(b)
	}
	return fmt.Sprintf("role %s, rows %v, in single sources %s, expires %s", a.Role, a.SeesRows, in,
		timeOr(a.ExpiresAt, "never"))
}

func timeOr(t *Time, otherwise string) string {
	if t == nil {
		return otherwise
	}
	return t.Format(time.RFC3339)
}

// AddAccount keeps a new account. taken: there is one of its name, or was, and nothing is kept.
func (c *Catalog) AddAccount(ctx context.Context, actor string, a Account) (taken bool, err error) {
	defer c.accessChanged()
	err = c.transaction(ctx, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &taken, "SELECT count(*) > 0 FROM account WHERE name = ?", a.Name)
		if err != nil || taken {
			return err
		}
		a.CreatedAt, a.CreatedBy = At(c.Now()), actor
		if _, err := tx.NamedExecContext(ctx, "INSERT INTO account (name, kind, owner, about, email, role, sees_rows, "+
			"grants, token, password, password_at, must_change, issuer, identity, created_at, created_by, expires_at) "+
			"VALUES (:name, :kind, :owner, :about, :email, :role, :sees_rows, :grants, :token, :password, "+
			":password_at, "+
			":must_change, :issuer, :identity, :created_at, :created_by, :expires_at)", a); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "account add", a.Name, string(a.Kind)+", "+a.may())
	})
	return taken, err
}

// Accounts lists all accounts by their names, those that were revoked last.
func (c *Catalog) Accounts(ctx context.Context) ([]Account, error) {
	return list[Account](ctx, c.db, "SELECT * FROM account ORDER BY revoked_at IS NOT NULL, name")
}

// Account returns an account.
func (c *Catalog) Account(ctx context.Context, name string) (*Account, error) {
	return get[Account](ctx, c.db, "account", name, "SELECT * FROM account WHERE name = ?", name)
}

// ErrLastAdministrator says that nobody would be left who may administer.
var ErrLastAdministrator = errors.New("nobody would be left who may administer")

// lastAdministrator is an ErrLastAdministrator where a person was the last account with which somebody administers.
func (c *Catalog) lastAdministrator(ctx context.Context, tx *sqlx.Tx) error {
	accounts, err := list[Account](ctx, tx, "SELECT * FROM account WHERE kind = 'person'")
	if err != nil {
		return err
	}
	now := c.Now()
	if !slices.ContainsFunc(accounts, func(a Account) bool { return a.Stands(now) && a.Role == rights.Administrator }) {
		return ErrLastAdministrator
	}
	return nil
}

// ChangeAccount changes an account that stands, as change does, and ends its sessions where what it may do, its
// password or its second factor changed, but for one. ErrNotFound: there is none of that name that stands.
func (c *Catalog) ChangeAccount(ctx context.Context, actor, name, action, keep string,
	change func(*Account) error) (*Account, error) {
	defer c.accessChanged()
	var out *Account
	return out, c.transaction(ctx, func(tx *sqlx.Tx) error {
		a, err := get[Account](
			ctx,
			tx,
			"account",
			name,
			"SELECT * FROM account WHERE name = ? AND revoked_at IS NULL",
			name,
		)
		if err != nil {
			return err
		}
		before := *a
		if err := change(a); err != nil {
			return err
		}
		if _, err := tx.NamedExecContext(ctx,
			"UPDATE account SET owner = :owner, about = :about, email = :email, role = "+
				":role, sees_rows = :sees_rows, grants = :grants, token = :token, password = :password, password_at = "+
				":password_at, must_change = :must_change, second = :second, second_step = :second_step, issuer = "+
				":issuer, "+
				"identity = :identity, expires_at = :expires_at WHERE name = :name", a); err != nil {
			return err
		}
		if before.Kind == Person && before.Role == rights.Administrator && a.Role != rights.Administrator {
			if err := c.lastAdministrator(ctx, tx); err != nil {
				return err
			}
		}
		if a.may() != before.may() || a.Password != before.Password || a.Second != before.Second {
			if _, err := tx.ExecContext(ctx, "DELETE FROM session WHERE account = ? AND id <> ?", name,
				keep); err != nil {
				return err
			}
		}
		detail := ""
		if a.may() != before.may() {
			detail = "before: " + before.may() + "; after: " + a.may()
		}
		out = a
		return c.note(ctx, tx, actor, action, name, detail)
	})
}

// RevokeAccount ends an account and its sessions at once. ErrNotFound: there is none of that name that stands.
func (c *Catalog) RevokeAccount(ctx context.Context, actor, name, reason string) error {
	defer c.accessChanged()
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		a, err := get[Account](ctx, tx, "account", name, "SELECT * FROM account WHERE name = ?", name)
		if err == nil && a.RevokedAt != nil {
			err = &NotFoundError{"account that stands", name}
		}
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			"UPDATE account SET revoked_at = ?, revoked_by = ?, reason = ?, token = NULL, "+
				"password = '', second = '' WHERE name = ?", At(c.Now()), actor, reason, name); err != nil {
			return err
		}
		if a.Kind == Person && a.Role == rights.Administrator {
			if err := c.lastAdministrator(ctx, tx); err != nil {
				return err
			}
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

// AccountIdentified returns the account of who is known to an issuer under a name; nil: there is none.
func (c *Catalog) AccountIdentified(ctx context.Context, issuer, identity string) (*Account, error) {
	return c.accountWhere(ctx, "SELECT * FROM account WHERE issuer = ? AND identity = ?", issuer, identity)
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

// TakeStep keeps that a code of a second factor was taken; false: it was, or a newer one, before.
func (c *Catalog) TakeStep(ctx context.Context, name string, step int64) (bool, error) {
	done, err := c.writes.ExecContext(
		ctx,
		"UPDATE account SET second_step = ? WHERE name = ? AND second_step < ?",
		step,
		name,
		step,
	)
	if err != nil {
		return false, err
	}
	n, err := done.RowsAffected()
	return n > 0, err
}

package catalog

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/oklog/ulid/v2"

	"ambercellar/internal/core/approval"
)

// ApprovalState is where a request for an approval stands.
type ApprovalState string

const (
	ApprovalWaiting ApprovalState = "waiting"
	ApprovalGranted ApprovalState = "granted" // what was asked for may be carried out, once
	ApprovalRefused ApprovalState = "refused"
	ApprovalExpired ApprovalState = "expired"
	ApprovalVoid    ApprovalState = "void" // what was asked for is something else now
	ApprovalUsed    ApprovalState = "used" // what was asked for was carried out
)

// approvalLife is how long a request waits, and how long one stands that was granted.
const approvalLife = 7 * 24 * time.Hour

// Approval is a request for an approval, and what became of it.
type Approval struct {
	ID          string        `db:"id"`
	What        approval.What `db:"what"`
	Source      string        `db:"source"`
	Table       string        `db:"table_name"`
	Rule        string        `db:"rule"`
	Subject     string        `db:"subject"` // the plan, restore, disposal, hold, or source
	Digest      string        `db:"digest"`  // of exactly what is asked for
	Summary     string        `db:"summary"` // of it, in words
	Rows        int64         `db:"row_count"`
	Persons     int           `db:"persons"` // so many have to approve it
	AskedBy     string        `db:"asked_by"`
	AskedPerson string        `db:"asked_person"`
	AskedAt     Time          `db:"asked_at"`
	ExpiresAt   Time          `db:"expires_at"`
	State       ApprovalState `db:"state"`
	EndedAt     *Time         `db:"ended_at"`
	Begins      string        `db:"begins"` // what is carried out by itself once it is granted, as JSON; empty: nothing
	BegunAt     *Time         `db:"begun_at"`
	Trouble     string        `db:"trouble"` // why that could not be carried out
	Votes       []Vote        `db:"-"`
}

// Vote is how a person decided on a request.
type Vote struct {
	Approval  string `db:"approval"`
	Person    string `db:"person"`
	Account   string `db:"account"`    // under which they decided
	ForPerson string `db:"for_person"` // in whose place; empty: in their own
	Approves  bool   `db:"approves"`
	Reason    string `db:"reason"`
	At        Time   `db:"at"`
}

// stands is whose decision a vote is.
func (v *Vote) stands() string {
	if v.ForPerson != "" {
		return v.ForPerson
	}
	return v.Person
}

const openApprovals = "state IN ('waiting', 'granted')"

// until is when a request that is asked for now is over: a week later, or sooner where it says so.
func (a *Approval) until(now Time) Time {
	if usual := At(now.Add(approvalLife)); a.ExpiresAt.IsZero() || a.ExpiresAt.After(usual.Time) {
		return usual
	}
	return a.ExpiresAt
}

// AskApproval keeps a request for an approval in the place of one of the same subject that is open: as it is, where
// it is about the same, and otherwise that one is void.
func (c *Catalog) AskApproval(ctx context.Context, a *Approval) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		now := At(c.Now())
		open, err := list[Approval](ctx, tx, "SELECT * FROM approval WHERE subject = ? AND what = ? AND "+openApprovals,
			a.Subject, a.What)
		if err != nil {
			return err
		}
		for _, x := range open {
			if x.Digest == a.Digest && x.Persons == a.Persons && x.ExpiresAt.After(now.Time) &&
				x.State == ApprovalWaiting {
				if x.Begins == "" && a.Begins != "" { // it is to begin by itself, after all
					x.Begins = a.Begins
					if _, err := tx.ExecContext(ctx, "UPDATE approval SET begins = ? WHERE id = ?", x.Begins,
						x.ID); err != nil {
						return err
					}
				}
				*a = x
				return nil
			}
			to := ApprovalVoid
			if !x.ExpiresAt.After(now.Time) {
				to = ApprovalExpired
			}
			if err := c.endApproval(ctx, tx, "service", &x, to, "it was asked for anew"); err != nil {
				return err
			}
		}
		a.ID, a.AskedAt, a.State = ulid.Make().String(), now, ApprovalWaiting
		if a.ExpiresAt = a.until(now); a.What == approval.Runs && !a.ExpiresAt.After(now.Time) {
			return fmt.Errorf("the plan %s is too old to be approved: %w", a.Subject, ErrState)
		}
		if _, err := tx.NamedExecContext(ctx,
			"INSERT INTO approval (id, what, source, table_name, rule, subject, digest, "+
				"summary, row_count, persons, asked_by, asked_person, asked_at, expires_at, state, begins) VALUES "+
				"(:id, :what, "+
				":source, :table_name, :rule, :subject, :digest, :summary, :row_count, :persons, :asked_by, "+
				":asked_person, "+
				":asked_at, :expires_at, :state, :begins)", a); err != nil {
			return err
		}
		return c.note(
			ctx,
			tx,
			a.AskedBy,
			"approval ask",
			a.ID,
			fmt.Sprintf("%s of %s, %d persons, digest %s: %s", a.What,
				a.Subject, a.Persons, a.Digest, a.Summary),
		)
	})
}

func (c *Catalog) endApproval(ctx context.Context, tx *sqlx.Tx, actor string, a *Approval, to ApprovalState,
	why string) error {
	now := At(c.Now())
	a.State, a.EndedAt = to, &now
	if _, err := tx.ExecContext(ctx, "UPDATE approval SET state = ?, ended_at = ? WHERE id = ?", to, now,
		a.ID); err != nil {
		return err
	}
	return c.note(ctx, tx, actor, "approval "+string(to), a.ID, why)
}

// GrantedApproval returns the request of a subject that was granted for exactly that, by so many persons, and that
// still stands; nil: there is none.
func (c *Catalog) GrantedApproval(
	ctx context.Context,
	what approval.What,
	subject, digest string,
	persons int,
) (*Approval,
	error) {
	found, err := list[Approval](
		ctx,
		c.db,
		"SELECT * FROM approval WHERE subject = ? AND what = ? AND digest = ? AND persons "+
			">= ? AND state = 'granted' AND expires_at > ? ORDER BY asked_at DESC LIMIT 1",
		subject,
		what,
		digest,
		persons,
		At(c.Now()),
	)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return &found[0], nil
}

// Approval returns a request with its votes.
func (c *Catalog) Approval(ctx context.Context, id string) (*Approval, error) {
	a, err := get[Approval](ctx, c.db, "approval", id, "SELECT * FROM approval WHERE id = ?", id)
	if err == nil {
		a.Votes, err = list[Vote](ctx, c.db, "SELECT * FROM approval_vote WHERE approval = ? ORDER BY at", id)
	}
	return a, err
}

// OpenApproval returns the newest request of a subject that is open; ErrNotFound: there is none.
func (c *Catalog) OpenApproval(ctx context.Context, what approval.What, subject string) (*Approval, error) {
	a, err := get[Approval](
		ctx,
		c.db,
		"approval",
		subject,
		"SELECT * FROM approval WHERE subject = ? AND what = ? AND "+
			openApprovals+" ORDER BY asked_at DESC LIMIT 1",
		subject,
		what,
	)
	if err != nil {
		return nil, err
	}
	return c.Approval(ctx, a.ID)
}

// Approvals lists requests, the newest first; in a state where one is named.
func (c *Catalog) Approvals(ctx context.Context, state ApprovalState, p Page) ([]Approval, error) {
	query, args := "SELECT * FROM approval WHERE true", []any{}
	if state != "" {
		query, args = query+" AND state = ?", append(args, state)
	}
	out, err := paged[Approval](ctx, c.db, p, order{columns: []string{"asked_at", "id"}}, query, args...)
	for i := range out {
		if err == nil {
			out[i].Votes, err = list[Vote](
				ctx,
				c.db,
				"SELECT * FROM approval_vote WHERE approval = ? ORDER BY at",
				out[i].ID,
			)
		}
	}
	return out, err
}

// Vote keeps how a person decides on a request. It is granted when so many have approved it as it needs, and refused
// when one refuses. ErrState: it waits for no decision any more, or the person has decided already.
func (c *Catalog) Vote(ctx context.Context, v Vote) (*Approval, error) {
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		a, err := get[Approval](ctx, tx, "approval", v.Approval, "SELECT * FROM approval WHERE id = ?", v.Approval)
		if err != nil {
			return err
		}
		v.At = At(c.Now())
		if a.State == ApprovalWaiting && !a.ExpiresAt.After(v.At.Time) {
			a.State = ApprovalExpired // which is kept when it is looked after
		}
		if a.State != ApprovalWaiting {
			return fmt.Errorf("the request %s is %s and waits for no decision: %w", a.ID, a.State, ErrState)
		}
		if a.AskedPerson == v.Person && v.Person != "administrator" {
			return fmt.Errorf("%s has asked for it: %w", v.Person, ErrState)
		}
		votes, err := list[Vote](ctx, tx, "SELECT * FROM approval_vote WHERE approval = ?", a.ID)
		if err != nil {
			return err
		}
		for _, x := range votes {
			if x.Person == v.Person || x.stands() == v.stands() {
				return fmt.Errorf("%s has decided on the request %s already: %w", x.stands(), a.ID, ErrState)
			}
		}
		if _, err := tx.NamedExecContext(ctx,
			"INSERT INTO approval_vote (approval, person, account, for_person, approves, "+
				"reason, at) VALUES (:approval, :person, :account, :for_person, :approves, :reason, :at)",
			v); err != nil {
			return err
		}
		if !v.Approves {
			return c.endApproval(ctx, tx, v.Account, a, ApprovalRefused, v.Reason)
		}
		if err := c.note(ctx, tx, v.Account, "approval approve", a.ID, v.Reason); err != nil {
			return err
		}
		if len(votes)+1 < a.Persons {
			return nil
		}
		if a.What != approval.Runs { // a plan does not get younger
			a.ExpiresAt = At(v.At.Add(approvalLife))
		}
		_, err = tx.ExecContext(
			ctx,
			"UPDATE approval SET state = 'granted', expires_at = ? WHERE id = ?",
			a.ExpiresAt,
			a.ID,
		)
		return err
	})
	if err != nil {
		return nil, err
	}
	return c.Approval(ctx, v.Approval)
}

// WithdrawApproval ends a request that waits or that was granted.
func (c *Catalog) WithdrawApproval(ctx context.Context, actor, id, reason string) (*Approval, error) {
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		a, err := get[Approval](ctx, tx, "approval", id, "SELECT * FROM approval WHERE id = ?", id)
		if err != nil {
			return err
		}
		if a.State != ApprovalWaiting && a.State != ApprovalGranted {
			return fmt.Errorf("the request %s is %s: %w", a.ID, a.State, ErrState)
		}
		return c.endApproval(ctx, tx, actor, a, ApprovalVoid, reason)
	})
	if err != nil {
		return nil, err
	}
	return c.Approval(ctx, id)
}

// ExpireApprovals ends the requests whose time is over.
func (c *Catalog) ExpireApprovals(ctx context.Context) error {
	over, err := list[Approval](
		ctx,
		c.db,
		"SELECT * FROM approval WHERE "+openApprovals+" AND expires_at <= ?",
		At(c.Now()),
	)
	for i := range over {
		err = errors.Join(err, c.transaction(ctx, func(tx *sqlx.Tx) error {
			a, err := get[Approval](ctx, tx, "approval", over[i].ID, "SELECT * FROM approval WHERE id = ?", over[i].ID)
			if err != nil || a.State != over[i].State {
				return err
			}
			return c.endApproval(ctx, tx, "service", a, ApprovalExpired, "")
		}))
	}
	return err
}

// ToBegin lists the requests that were granted, and of which what is to begin by itself has not begun.
func (c *Catalog) ToBegin(ctx context.Context) ([]Approval, error) {
	return list[Approval](
		ctx,
		c.db,
		"SELECT * FROM approval WHERE state = 'granted' AND begins <> '' AND begun_at IS NULL "+
			"ORDER BY asked_at",
	)
}

// BeganApproval keeps that what was approved was begun, and what went wrong with that.
func (c *Catalog) BeganApproval(ctx context.Context, id, trouble string) error {
	_, err := c.writes.ExecContext(
		ctx,
		"UPDATE approval SET begun_at = ?, trouble = ? WHERE id = ?",
		At(c.Now()),
		trouble,
		id,
	)
	return err
}

type approvalKey struct{}

// WithApproval says of what is done with a context which approval it uses, besides those that it uses already. They are
// used up in the transaction that does it, or nothing is done.
func WithApproval(ctx context.Context, id string) context.Context {
	before, _ := ctx.Value(approvalKey{}).([]string)
	return context.WithValue(ctx, approvalKey{}, append(slices.Clip(before), id))
}

// useApproval uses the approvals of a context up.
func (c *Catalog) useApproval(ctx context.Context, tx *sqlx.Tx) error {
	ids, _ := ctx.Value(approvalKey{}).([]string)
	for _, id := range ids {
		a, err := get[Approval](ctx, tx, "approval", id, "SELECT * FROM approval WHERE id = ?", id)
		if err != nil {
			return err
		}
		if a.State != ApprovalGranted || !a.ExpiresAt.After(c.Now()) {
			return fmt.Errorf("the approval %s is %s, and cannot be used: %w", id, a.State, ErrState)
		}
		if err := c.endApproval(ctx, tx, "service", a, ApprovalUsed, ""); err != nil {
			return err
		}
	}
	return nil
}

// Delegation says who decides for somebody else for a time.
type Delegation struct {
	ID      string `db:"id"`
	From    string `db:"from_account"`
	To      string `db:"to_account"`
	Until   Time   `db:"until"`
	Reason  string `db:"reason"`
	MadeAt  Time   `db:"made_at"`
	EndedAt *Time  `db:"ended_at"`
	EndedBy string `db:"ended_by"`
}

// Delegate keeps that somebody decides for somebody else for a time.
func (c *Catalog) Delegate(ctx context.Context, actor string, d *Delegation) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		d.ID, d.MadeAt = ulid.Make().String(), At(c.Now())
		if _, err := tx.NamedExecContext(ctx,
			"INSERT INTO delegation (id, from_account, to_account, until, reason, made_at) "+
				"VALUES (:id, :from_account, :to_account, :until, :reason, :made_at)", d); err != nil {
			return err
		}
		return c.note(
			ctx,
			tx,
			actor,
			"delegation add",
			d.ID,
			fmt.Sprintf("%s decides for %s until %s: %s", d.To, d.From,
				d.Until.Format(time.RFC3339), d.Reason),
		)
	})
}

// Delegations lists the delegations that stand, the newest first.
func (c *Catalog) Delegations(ctx context.Context) ([]Delegation, error) {
	return list[Delegation](
		ctx,
		c.db,
		"SELECT * FROM delegation WHERE ended_at IS NULL AND until > ? ORDER BY made_at DESC",
		At(c.Now()),
	)
}

// EndDelegation ends a delegation: of an account's own making, or any where none is named.
func (c *Catalog) EndDelegation(ctx context.Context, actor, id string, from *string) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.ExecContext(
			ctx,
			"UPDATE delegation SET ended_at = ?1, ended_by = ?2 WHERE id = ?3 AND ended_at IS NULL "+
				"AND (?4 IS NULL OR from_account = ?4)",
			At(c.Now()),
			actor,
			id,
			from,
		)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, &NotFoundError{"delegation", id})
		}
		return c.note(ctx, tx, actor, "delegation end", id, "")
	})
}

// ApprovalsOf lists the requests of a subject, the oldest first.
func (c *Catalog) ApprovalsOf(ctx context.Context, subject string) ([]Approval, error) {
	out, err := list[Approval](ctx, c.db, "SELECT * FROM approval WHERE subject = ? ORDER BY asked_at, id", subject)
	for i := range out {
		if err == nil {
			out[i].Votes, err = list[Vote](ctx, c.db, "SELECT * FROM approval_vote WHERE approval = ? ORDER BY at",
				out[i].ID)
		}
	}
	return out, err
}

package catalog

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/oklog/ulid/v2"

	"ambercellar/internal/core/notify"
)

// Recipient is who is told what happens.
type Recipient struct {
	Name       string                 `db:"name"`
	Body       JSON[notify.Recipient] `db:"body"`
	SetAt      Time                   `db:"set_at"`
	SetBy      string                 `db:"set_by"`
	DigestedTo Time                   `db:"digested_to"` // the end of the last day that was summed up
}

// Delivery is one notice to one recipient.
type Delivery struct {
	Seq       int64               `db:"seq"` // the order in which they are sent
	ID        string              `db:"id"`
	Recipient string              `db:"recipient"` // empty: whom a request names by its address
	Address   string              `db:"address"`
	Kind      notify.EventKind    `db:"kind"`
	Record    string              `db:"record"`
	Title     string              `db:"title"`
	Notice    JSON[notify.Notice] `db:"notice"`
	Urgent    bool                `db:"urgent"`
	DeliveryStanding
}

// DeliveryStanding is where a delivery stands.
type DeliveryStanding struct {
	State    DeliveryState `db:"state"`
	Attempts int           `db:"attempts"`
	MadeAt   Time          `db:"made_at"`
	Since    Time          `db:"since"`   // since when it is tried
	NextAt   Time          `db:"next_at"` // not tried before
	EndedAt  *Time         `db:"ended_at"`
	Error    string        `db:"error"` // of the last attempt
}

// NewDelivery makes a delivery of a notice that is to be sent at once.
func NewDelivery(r *notify.Recipient, n notify.Notice, urgent bool, now time.Time) Delivery {
	at := At(now)
	n.ID = ulid.Make().String()
	return Delivery{ID: n.ID, Recipient: r.Name, Address: r.Address, Kind: n.Kind, Record: n.Record, Title: n.Title,
		Notice: JSON[notify.Notice]{V: n}, Urgent: urgent, DeliveryStanding: DeliveryStanding{State: DeliveryWaiting,
			MadeAt: at, Since: at, NextAt: at}}
}

// Recipients lists who is told what happens, by name.
func (c *Catalog) Recipients(ctx context.Context) ([]Recipient, error) {
	return list[Recipient](ctx, c.db, "SELECT * FROM recipient ORDER BY name")
}

// Recipient returns one of them.
func (c *Catalog) Recipient(ctx context.Context, name string) (*Recipient, error) {
	return get[Recipient](ctx, c.db, "recipient", name, "SELECT * FROM recipient WHERE name = ?", name)
}

// SetRecipient keeps a recipient, in the place of one of that name. What waits for that one goes to its new address.
// A day is summed up first when one has passed.
func (c *Catalog) SetRecipient(ctx context.Context, actor string, r notify.Recipient) (*Recipient, error) {
	now := At(c.Now())
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		before, err := was(ctx, tx, "SELECT body FROM recipient WHERE name = ?", r.Name)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO recipient (name, body, set_at, set_by, digested_to) VALUES
			(?, ?, ?, ?, ?) ON CONFLICT (name) DO UPDATE SET body = excluded.body, set_at = excluded.set_at, set_by =
			excluded.set_by, digested_to = CASE WHEN body ->> '$.digest' IS excluded.body ->> '$.digest'
			THEN digested_to ELSE excluded.digested_to END`, r.Name, JSON[notify.Recipient]{V: r}, now, actor,
			now); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE delivery SET address = ?, next_at = ? WHERE recipient = ? AND state =
			'waiting'`, r.Address, now, r.Name); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "recipient set", r.Name, fmt.Sprintf("%s: %v; %s", r.Address, r.Events,
			change(before, r)))
	})
	if err != nil {
		return nil, err
	}
	return c.Recipient(ctx, r.Name)
}

// DeleteRecipient removes a recipient. What waits for it is cancelled.
func (c *Catalog) DeleteRecipient(ctx context.Context, actor, name string) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		before, err := was(ctx, tx, "SELECT body FROM recipient WHERE name = ?", name)
		if err != nil {
			return err
		}
		done, err := tx.ExecContext(ctx, "DELETE FROM recipient WHERE name = ?", name)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, &NotFoundError{"recipient", name})
		}
		if _, err := tx.ExecContext(ctx, `UPDATE delivery SET state = 'cancelled', ended_at = ?, error =
			'the recipient was removed' WHERE recipient = ? AND state = 'waiting'`, At(c.Now()), name); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "recipient delete", name, change(before, nothing))
	})
}

// happened is an event as it is kept.
type happened struct {
	ID     int64               `db:"id"`
	Kind   notify.EventKind    `db:"kind"`
	Record string              `db:"record"`
	At     Time                `db:"at"`
	Detail JSON[notify.Detail] `db:"detail"`
}

// eventsAtOnce is how many events are looked at in one transaction.
const eventsAtOnce = 200

// TakeEvents hands the oldest events to fn, which says what is news and what is delivered because of them, and keeps
// that in one transaction with their going. It returns how many there were.
func (c *Catalog) TakeEvents(ctx context.Context, fn func(*notify.Event) (*News, []Delivery)) (n int, err error) {
	var any bool
	if err := c.db.GetContext(ctx, &any, "SELECT EXISTS (SELECT 1 FROM event)"); err != nil || !any {
		return 0, err
	}
	err = c.transaction(ctx, func(tx *sqlx.Tx) error {
		found, err := list[happened](ctx, tx, "SELECT * FROM event ORDER BY id LIMIT ?", eventsAtOnce)
		if err != nil || len(found) == 0 {
			return err
		}
		for _, h := range found {
			e := notify.Event{Kind: h.Kind, Record: h.Record, At: h.At.Time, Detail: h.Detail.V}
			news, deliveries := fn(&e)
			if news != nil {
				if _, err := tx.NamedExecContext(ctx, insertNews, news); err != nil {
					return err
				}
			}
			if err := insertDeliveries(ctx, tx, deliveries); err != nil {
				return err
			}
		}
		n = len(found)
		_, err = tx.ExecContext(ctx, "DELETE FROM event WHERE id <= ?", found[n-1].ID)
		return err
	})
	return n, err
}

func insertDeliveries(ctx context.Context, tx *sqlx.Tx, out []Delivery) error {
	for i := range out {
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO delivery (id, recipient, address, kind, record,
			title, notice, urgent, state, made_at, since, next_at) VALUES (:id, :recipient, :address,
			:kind, :record, :title, :notice, :urgent, :state, :made_at, :since, :next_at)`, out[i]); err != nil {
			return err
		}
	}
	return nil
}

// Deliver keeps deliveries that are to be sent.
func (c *Catalog) Deliver(ctx context.Context, out ...Delivery) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error { return insertDeliveries(ctx, tx, out) })
}

// DeliverDigest keeps the sum of a recipient's day up to a moment, unless that was done. What was done after now was
// done by a clock that is set back since.
func (c *Catalog) DeliverDigest(ctx context.Context, d Delivery, to time.Time) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if err := changed(tx.ExecContext(ctx, `UPDATE recipient SET digested_to = ?1 WHERE name = ?2 AND
			(digested_to < ?1 OR digested_to > ?3)`, At(to), d.Recipient, At(c.Now()))); err != nil {
			return err
		}
		return insertDeliveries(ctx, tx, []Delivery{d})
	})
}

// Lane is a recipient's urgent deliveries, or its others. Those of a lane are sent one after another.
type Lane struct {
	Recipient string `db:"recipient"`
	Address   string `db:"address"`
	Urgent    bool   `db:"urgent"`
}

// Lanes lists the lanes in which deliveries wait.
func (c *Catalog) Lanes(ctx context.Context) ([]Lane, error) {
	return list[Lane](ctx, c.db, lanesQuery)
}

// lanesQuery steps from lane to lane by the index: a lane can have a hundred thousand deliveries.
const lanesQuery = `WITH RECURSIVE lane (recipient, address, urgent) AS (
	SELECT * FROM (SELECT recipient, address, urgent FROM delivery WHERE state = 'waiting'
		ORDER BY recipient, address, urgent LIMIT 1)
	UNION ALL
	SELECT d.recipient, d.address, d.urgent FROM lane l CROSS JOIN delivery d ON d.seq = (SELECT seq FROM delivery
		WHERE state = 'waiting' AND (recipient, address, urgent) > (l.recipient, l.address, l.urgent)
		ORDER BY recipient, address, urgent, seq LIMIT 1))
	SELECT * FROM lane`

// WaitingIn lists the oldest deliveries that wait in a lane.
func (c *Catalog) WaitingIn(ctx context.Context, l Lane, most int) ([]Delivery, error) {
	return list[Delivery](ctx, c.db, `SELECT * FROM delivery WHERE state = 'waiting' AND recipient = ? AND address = ?
		AND urgent = ? ORDER BY seq LIMIT ?`, l.Recipient, l.Address, l.Urgent, most)
}

// SaveDelivery keeps what came of an attempt. One that failed does not count where somebody ended the delivery
// meanwhile. Who asked for a restore and was told of it is marked there.
func (c *Catalog) SaveDelivery(ctx context.Context, d *Delivery) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if err := changed(tx.NamedExecContext(ctx, `UPDATE delivery SET state = :state, attempts = :attempts, next_at =
			:next_at, since = :since, ended_at = :ended_at, error = :error WHERE id = :id AND
			(state = 'waiting' OR :state = 'sent')`, d)); err != nil {
			return err
		}
		if d.Recipient != "" || d.State != DeliverySent {
			return nil
		}
		_, err := tx.ExecContext(ctx, "UPDATE restore SET told_at = ? WHERE id = ?", d.EndedAt, d.Record)
		return err
	})
}

// SaveAttempts keeps, in one transaction, that deliveries are about to be tried, or are not after all. Those that
// somebody ended meanwhile stay as they are.
func (c *Catalog) SaveAttempts(ctx context.Context, list []Delivery) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		for i := range list {
			if _, err := tx.NamedExecContext(ctx, `UPDATE delivery SET attempts = :attempts, next_at = :next_at, since =
				:since WHERE id = :id AND state = 'waiting'`, list[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

// DeliveryFilter says which deliveries are listed; empty fields: any.
type DeliveryFilter struct{ Recipient, State string }

// Deliveries lists deliveries, the newest first.
func (c *Catalog) Deliveries(ctx context.Context, f DeliveryFilter, p Page) ([]Delivery, error) {
	query, args := "SELECT * FROM delivery WHERE true", []any{}
	if f.Recipient != "" {
		query, args = query+" AND recipient = ?", append(args, f.Recipient)
	}
	if f.State != "" {
		query, args = query+" AND state = ?", append(args, f.State)
	}
	return paged[Delivery](ctx, c.db, p, order{columns: []string{"seq"}}, query, args...)
}

// Delivery returns one delivery.
func (c *Catalog) Delivery(ctx context.Context, id string) (*Delivery, error) {
	return get[Delivery](ctx, c.db, "delivery", id, "SELECT * FROM delivery WHERE id = ?", id)
}

// Resend has a delivery tried at once, in quiet hours too: one that ended goes again, behind those that wait.
func (c *Catalog) Resend(ctx context.Context, actor, id string) (*Delivery, error) {
	now := At(c.Now())
	return c.turnDelivery(ctx, actor, "delivery resend", id, func(tx *sqlx.Tx, d *Delivery) error {
		if d.State == DeliveryWaiting {
			_, err := tx.ExecContext(ctx, "UPDATE delivery SET next_at = ?, since = ?, urgent = 1 WHERE id = ?", now,
				now, id)
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE delivery SET state = 'waiting', attempts = 0, urgent = 1, since = ?,
			next_at = ?, ended_at = NULL, error = '', seq = (SELECT max(seq) + 1 FROM delivery), address =
			coalesce((SELECT body ->> '$.address' FROM recipient WHERE name = delivery.recipient), address)
			WHERE id = ?`, now, now, id)
		return err
	})
}

// CancelDelivery ends a delivery that waits.
func (c *Catalog) CancelDelivery(ctx context.Context, actor, id string) (*Delivery, error) {
	return c.turnDelivery(ctx, actor, "delivery cancel", id, func(tx *sqlx.Tx, d *Delivery) error {
		if err := afterDelivery.refuse("delivery", id, d.State, DeliveryCancelled); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE delivery SET state = 'cancelled', ended_at = ? WHERE id = ?",
			At(c.Now()), id)
		return err
	})
}

func (c *Catalog) turnDelivery(ctx context.Context, actor, action, id string,
	turn func(*sqlx.Tx, *Delivery) error) (*Delivery, error) {
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		d, err := get[Delivery](ctx, tx, "delivery", id, "SELECT * FROM delivery WHERE id = ?", id)
		if err != nil {
			return err
		}
		if err := turn(tx, d); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, action, id, d.Recipient+" "+d.Address+": "+d.Title)
	})
	if err != nil {
		return nil, err
	}
	return c.Delivery(ctx, id)
}

// DeliveryCount is how many deliveries are in a state, and since when the oldest of those that were tried is.
type DeliveryCount struct {
	State DeliveryState `db:"state"`
	N     int64         `db:"n"`
	Since *Time         `db:"since"`
}

// DeliveryCounts counts the deliveries that wait and those that failed.
func (c *Catalog) DeliveryCounts(ctx context.Context) ([]DeliveryCount, error) {
	return list[DeliveryCount](ctx, c.db, `SELECT state, count(*) AS n, min(CASE WHEN attempts > 0 THEN since END) AS
		since FROM delivery WHERE state IN ('waiting', 'failed') GROUP BY state`)
}

// Undelivered is a recipient that cannot be told.
type Undelivered struct {
	Recipient string `db:"recipient"`
	Address   string `db:"address"`
	N         int64  `db:"n"`
	Since     Time   `db:"since"`
	Error     string `db:"error"`
}

// Undeliverable lists the recipients that something has waited for, after failed attempts, since before a moment, or of
// which something failed for good after another.
func (c *Catalog) Undeliverable(ctx context.Context, waiting, failed time.Time) ([]Undelivered, error) {
	return list[Undelivered](ctx, c.db, `SELECT recipient, address, count(*) AS n, min(since) AS since, max(error) AS
		error FROM delivery WHERE state = 'waiting' AND attempts > 0 AND since < ? OR state = 'failed' AND ended_at > ?
		GROUP BY recipient, address ORDER BY recipient, address`, At(waiting), At(failed))
}

// Day reads what happened in a day, for digests. Firings to come are not known here.
func (c *Catalog) Day(ctx context.Context, from, to time.Time) (*notify.Day, error) {
	d := &notify.Day{From: from, To: to, Rules: map[string]notify.DayOfRule{}, Restores: map[string]int{},
		Findings: map[string]int{}}
	runs, err := list[dayOfRuns](ctx, c.db, `SELECT rule, source, table_name, state, count(*) AS n, sum(deleted) AS
		row_count, sum(file_bytes) AS bytes FROM run WHERE ended_at >= ? AND ended_at < ? GROUP BY 1, 2, 3, 4`,
		At(from), At(to))
	if err != nil {
		return nil, err
	}
	nothing, err := list[dayOfRuns](ctx, c.db, `SELECT rule, source, table_name, '' AS state, count(*) AS n, 0 AS
		row_count, 0 AS bytes FROM firing WHERE at >= ? AND at < ? AND state = 'nothing' GROUP BY 1, 2, 3`, At(from),
		At(to))
	if err != nil {
		return nil, err
	}
	for _, x := range append(runs, nothing...) {
		r := d.Rules[x.Rule]
		if r.Runs == nil {
			r.Runs = map[string]int{}
		}
		r.Source, r.Table, r.Rows, r.Bytes = x.Source, x.Table, r.Rows+x.Rows, r.Bytes+x.Bytes
		if x.State == "" {
			r.Nothing += x.N
		} else {
			r.Runs[x.State] += x.N
		}
		d.Rules[x.Rule] = r
	}
	type count struct {
		What string `db:"what"`
		N    int    `db:"n"`
	}
	into := func(m map[string]int, query string, args ...any) error {
		found, err := list[count](ctx, c.db, query, args...)
		for _, x := range found {
			m[x.What] = x.N
		}
		return err
	}
	waiting := map[string]int{}
	err = errors.Join(
		into(d.Restores, `SELECT state AS what, count(*) AS n FROM restore WHERE ended_at >= ? AND ended_at < ?
			GROUP BY state`, At(from), At(to)),
		into(d.Findings, `SELECT severity AS what, count(*) AS n FROM finding WHERE closed_at IS NULL AND
			(acknowledged_at IS NULL OR acknowledged_until <= ?) GROUP BY severity`, At(to)),
		into(waiting, `SELECT 'restores' AS what, count(*) AS n FROM restore WHERE state = 'asked' UNION ALL
			SELECT 'disposals', count(*) FROM disposal WHERE state = 'planned' UNION ALL
			SELECT 'firings', count(*) FROM firing WHERE state = 'asking' UNION ALL
			SELECT 'runs', count(*) FROM run WHERE state = 'copied'`))
	for _, n := range waiting {
		d.Waiting += n
	}
	return d, err
}

type dayOfRuns struct {
	Rule   string `db:"rule"`
	Source string `db:"source"`
	Table  string `db:"table_name"`
	State  string `db:"state"`
	N      int    `db:"n"`
	Rows   int64  `db:"row_count"`
	Bytes  int64  `db:"bytes"`
}

// LongWaits are records that wait for somebody, or for their turn, since before a moment.
type LongWaits struct {
	Kind   string `db:"kind"` // run, restore, disposal or firing
	ID     string `db:"id"`
	Rule   string `db:"rule"`
	Source string `db:"source"`
	Table  string `db:"table_name"`
	Since  Time   `db:"since"`
}

// LongWaits lists runs that wait for their turn since before a moment, and what waits for a decision since before
// another.
func (c *Catalog) LongWaits(ctx context.Context, turn, decision time.Time) ([]LongWaits, error) {
	return list[LongWaits](
		ctx,
		c.db,
		`SELECT 'run' AS kind, id, rule, source, table_name, coalesce(start_at, created_at) AS
		since FROM run WHERE state = 'queued' AND coalesce(start_at, created_at) < ?1
		UNION ALL SELECT 'run', id, rule, source, table_name, created_at FROM run WHERE state = 'copied' AND NOT
			deleting AND delete_at IS NULL AND created_at < ?2
		UNION ALL SELECT 'firing', rule || ' ' || at, rule, source, table_name, began_at FROM firing WHERE state =
			'asking' AND began_at < ?2
		UNION ALL SELECT 'restore', id, '', source, table_name, created_at FROM restore WHERE state = 'asked' AND
			created_at < ?2
		UNION ALL SELECT 'disposal', id, rule, source, table_name, created_at FROM disposal WHERE state = 'planned' AND
			created_at < ?2 ORDER BY since`,
		At(turn),
		At(decision),
	)
}

// Place is the delivery's place in a list.
func (d *Delivery) Place() string { return place(d.Seq) }

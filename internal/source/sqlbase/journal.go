package sqlbase

import (
	"context"
	"fmt"
	"strings"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// ReleaseLease gives a table back, unless another has taken it meanwhile.
func (b *Base) ReleaseLease(ctx context.Context, l source.Lease) error {
	return b.exec(ctx, "UPDATE "+b.Journal+"lease SET holder = NULL, run = NULL WHERE table_name = \x00 AND "+
		"epoch = \x00", l.Table, l.Epoch)
}

// SetEpoch sets the epoch of a lease that nobody holds.
func (b *Base) SetEpoch(ctx context.Context, table string, epoch int64) error {
	return b.exec(ctx, "INSERT INTO "+b.Journal+"lease (table_name, holder, run, epoch) "+
		"VALUES (\x00, NULL, NULL, \x00)"+
		b.Upsert("table_name", "holder", "run", "epoch"), table, epoch)
}

// Head returns the newest link of a table's chain; the zero Head where there is none.
func (b *Base) Head(ctx context.Context, table string) (h source.Head, err error) {
	err = b.one(ctx, "SELECT sequence, hash FROM "+b.Journal+"chain WHERE table_name = \x00", []any{table}, &h.Sequence,
		&h.Hash)
	return h, err
}

// SetHead records the newest link of a table's chain.
func (b *Base) SetHead(ctx context.Context, table string, h source.Head) error {
	return b.exec(ctx, "INSERT INTO "+b.Journal+"chain (table_name, sequence, hash) VALUES (\x00, \x00, \x00)"+
		b.Upsert("table_name", "sequence", "hash"), table, h.Sequence, h.Hash)
}

// Show keeps where the newest run of a table stands.
func (b *Base) Show(ctx context.Context, p source.Progress) error {
	values := p.Values()
	return b.exec(ctx, "INSERT INTO "+b.Journal+"progress ("+strings.Join(source.ProgressColumns, ", ")+
		") VALUES (\x00"+strings.Repeat(", \x00", len(values)-1)+")"+
		b.Upsert(source.ProgressColumns[0], source.ProgressColumns[1:]...), values...)
}

// RestoredCondition is the condition that a row of t, called by prefix, is recorded as restored; empty where none is,
// and where nothing tells such a row from others.
func (b *Base) RestoredCondition(ctx context.Context, t *shape.Table, prefix string) (string, error) {
	if t.ByAddress() {
		return "", nil
	}
	if there, err := b.There(ctx, t); err != nil || !there {
		return "", err
	}
	return fmt.Sprintf("EXISTS (SELECT 1 FROM %s r WHERE %s)", b.Restored(t), b.onKey(t, prefix)), nil
}

// ForgetRestored removes the records of a restore.
func (b *Base) ForgetRestored(ctx context.Context, t *shape.Table, restore string) error {
	if there, err := b.There(ctx, t); err != nil || !there {
		return err
	}
	return b.exec(ctx, "DELETE FROM "+b.Restored(t)+" WHERE "+b.Restore+" = \x00", restore)
}

// RestoredCount returns how many rows are recorded for a restore.
func (b *Base) RestoredCount(ctx context.Context, t *shape.Table, restore string) (n int64, err error) {
	return b.recorded(ctx, t, restore, "")
}

// RestoredLive returns how many of them are in the table still.
func (b *Base) RestoredLive(ctx context.Context, t *shape.Table, restore string) (int64, error) {
	if t.ByAddress() {
		return b.RestoredCount(ctx, t, restore)
	}
	return b.recorded(ctx, t, restore, fmt.Sprintf(" AND EXISTS (SELECT 1 FROM %s t WHERE %s)", b.From(t),
		b.onKey(t, "t.")))
}

func (b *Base) recorded(ctx context.Context, t *shape.Table, restore, and string) (n int64, err error) {
	if there, err := b.There(ctx, t); err != nil || !there {
		return 0, err
	}
	err = b.one(ctx, "SELECT count(*) FROM "+b.Restored(t)+" r WHERE r."+b.Restore+" = \x00"+and, []any{restore}, &n)
	return n, err
}

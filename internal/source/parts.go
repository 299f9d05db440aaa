package source

import (
	"context"
	"errors"
	"regexp"
	"time"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// ErrWhole says that a partition cannot leave as a whole, and why; its rows go one by one.
var ErrWhole = errors.New("the partition cannot leave as a whole")

// Partitions is a source that moves whole partitions.
type Partitions interface {
	// Part is one partition of a table, to be read like a table: where it stands, or, if aside, where Detach has put
	// it.
	Part(t *shape.Table, partition string, aside bool) *shape.Table
	// Departures lists the partitions of a table that a run has begun to take out and that are neither dropped nor
	// back.
	Departures(ctx context.Context, table string) ([]Departure, error)
	// Detach takes a partition out of its table and leaves it aside, its intent journalled first. It can be called
	// again after it failed, or after a crash. ErrBusy: others are at the table; ErrWhole: it cannot be done.
	Detach(ctx context.Context, l Lease, t *shape.Table, partition string) error
	// Seize locks a partition that is aside against every change. It can be read meanwhile with ReadSlice.
	Seize(ctx context.Context, l Lease, t *shape.Table, partition string) (Seized, error)
	// Return puts a partition that is aside, or on its way there, back into its table.
	Return(ctx context.Context, l Lease, t *shape.Table, partition string) error
	// Ahead makes partitions behind the newest, as long as that is, and returns their names. It changes nothing where
	// try is set, and returns the statements that it would send.
	Ahead(ctx context.Context, t *shape.Table, bounds [][2]time.Time, try bool) (names []string, statements []string,
		err error)
}

// Emptier is a source that can empty a table at once.
type Emptier interface {
	// Empty removes all rows of a table at once, under a lock that keeps everybody else out, and returns the journal
	// row of what was there then. ErrWhole: it cannot be done.
	Empty(ctx context.Context, l Lease, t *shape.Table, segment int, columns []int) (*JournalRow, error)
	// Emptied finds out what became of an emptying that was cut off: its journal row, or nil where it did not happen,
	// or was journalled before. Nothing of it is open afterwards.
	Emptied(ctx context.Context, l Lease, t *shape.Table, segment int) (*JournalRow, error)
}

// Departure is a partition on its way out, as the journal keeps it.
type Departure struct {
	Table     string
	Partition string
	Run       string
	Aside     bool // it is out of the table
	// it was found to be what was copied, and its batches are journalled: only the dropping itself is open
	Dropping bool
}

// Seized is a partition that is aside and locked.
type Seized interface {
	// Rows counts its rows.
	Rows(ctx context.Context) (int64, error)
	// Drop journals the rows as deleted and drops the partition, both or neither as far as the engine can; after a
	// crash in between, Departures shows it as Dropping, and Drop is to be called again.
	Drop(ctx context.Context, rows []*JournalRow) error
	// Release gives the lock back; after Drop it does nothing.
	Release()
}

// WholeRow is the journal row of a slice that left with its partition, or of a table that was emptied.
func WholeRow(run string, segment int, set value.Set) *JournalRow {
	return &JournalRow{Run: run, Segment: segment, Batch: 1, Rows: int(set.Count), Found: set, Deleted: int(set.Count),
		Digest: set, Last: max(int(set.Count)-1, 0), At: time.Now().UTC()}
}

// PartName names a further partition as the newest is named: with the new date in the place of its date.
func PartName(t *shape.Table, newest string, from time.Time) string {
	m := dateForm.FindStringSubmatchIndex(newest)
	if m == nil || m[8] < 0 && from.Day() != 1 {
		return t.Base + "_" + from.Format("2006_01_02")
	}
	between := newest[m[4]:m[5]]
	layout := "2006" + between + "01"
	if m[8] >= 0 {
		layout += newest[m[8]:m[9]] + "02"
	}
	out := newest[:m[0]] + from.Format(layout) + newest[m[1]:]
	if out == newest {
		return t.Base + "_" + from.Format("2006_01_02")
	}
	return out
}

// dateForm finds a year and month, and perhaps a day, in a name.
var dateForm = regexp.MustCompile(`(\d{4})([_-]?)(\d{2})(?:([_-]?)(\d{2}))?`)

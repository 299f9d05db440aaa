package source

import (
	"context"
	"fmt"
	"time"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// Source is one open database. Its methods may be called concurrently unless they say otherwise. What only some
// databases can do stands in interfaces of its own, which As finds: Purger, Families, Partitions, Emptier,
// Performer.
type Source interface {
	Describer
	Meter
	Counter
	Reader
	Deleter
	Journal
	Restorer
	Close() error
}

// Describer tells what the service may do in a database, and which tables there are.
type Describer interface {
	// Check connects and reports what the service may do there, and how to mend what it may not.
	Check(ctx context.Context) (*Report, error)
	// Tables returns every table, without its columns' details but with sizes and the span of its likely age column.
	Tables(ctx context.Context) ([]shape.Table, error)
	// Table describes one table; ErrNoTable where there is none of that name.
	Table(ctx context.Context, name string) (*shape.Table, error)
	// Clock returns what the database's clock shows, to be compared with the service's. Nothing else asks for it.
	Clock(ctx context.Context) (time.Time, error)
}

// Meter tells how much a database has to do.
type Meter interface {
	// LogWritten returns how many bytes of log the database has written, from some beginning on: by everybody on the
	// server, since no engine tells it by session. False where it does not tell.
	LogWritten(ctx context.Context) (bytes int64, known bool, err error)
	// Signals returns what the database shows of its load, by the names of package pace; those that it does not tell,
	// or not to us, are left out. Deadlocks are counted from some beginning on.
	Signals(ctx context.Context, t *shape.Table) (map[string]float64, error)
}

// Watched is a source that shows who else is at work in it.
type Watched interface {
	// Others looks who beside us was at work within the time given, or as far back as can be seen. It is cheap: it is
	// asked several times a second while a run goes on.
	Others(ctx context.Context, within time.Duration) (pace.Look, error)
}

// Waking is how long it may take at the most until sleeping processors are awake, and caches filled, which those who
// work all the time do not wait for: so a look-up comes before each probe. One that takes longer waits for something
// else, and is the probe.
const Waking = 10 * time.Millisecond

// Probed is a source in which it can be felt how others fare.
type Probed interface {
	// Probe does what others do, and next to nothing of it: it looks up one row of a table by its key, or commits. It
	// returns when that began and how long it took, which shows what others feel. Waiting for one of our connections
	// does not count, nor does a look-up before it of less than Waking.
	Probe(ctx context.Context, kind pace.FeelKind, t *shape.Table) (begun time.Time, took time.Duration, err error)
}

// Counter counts rows without taking locks.
type Counter interface {
	// Estimate says from the database's own statistics how many rows of each term are due. It takes well under a
	// second.
	Estimate(ctx context.Context, sel Selection) ([]int64, error)
	// Tally counts the rows whose age lies in a span, by the clause that governs them. One short statement.
	Tally(ctx context.Context, sel Selection, span Span) ([]Tally, error)
	// Outside counts what no span holds: rows whose age is no instant.
	Outside(ctx context.Context, sel Selection) (int64, error)
	// Ends returns the oldest and the newest age; false where there is none.
	Ends(ctx context.Context, sel Selection) (oldest, newest time.Time, ok bool, err error)
	// CountWhere counts the rows that satisfy a filter, to limit at the most.
	CountWhere(ctx context.Context, t *shape.Table, f *filter.Filter, limit int64) (int64, error)
	// Difference counts the rows that are due, by their clauses alone, in a and not in b, in b and not in a, and in
	// both.
	Difference(ctx context.Context, a, b Selection) (onlyA, onlyB, both int64, err error)
	// Statements returns the very statements that a run of the selection sends, for reading.
	Statements(ctx context.Context, sel Selection, columns []int) ([]Statement, error)
}

// Reader reads rows without taking locks.
type Reader interface {
	// LiveRows hands on what the journal tells of runs and then the rows of a table, both as they are at one and the
	// same moment: a row is in the one or in the other, whatever a run deletes meanwhile. It returns how many rows
	// there were, and takes no locks.
	LiveRows(ctx context.Context, q LiveQuery) (int64, error)
	// ReadSlice reads one slice in order of (age, key) and hands it on in chunks, each valid only during the call.
	// It takes no row locks and holds no transaction beyond its return.
	ReadSlice(ctx context.Context, req SliceRequest, sink func(*value.Chunk) error) (*Slice, error)
	// Locate finds rows again by key that were read before a restart. Rows whose content has another digest now, or
	// that are gone, get a locator that matches nothing.
	Locate(ctx context.Context, sel Selection, keys [][]value.Value, digests []value.Digest) (Locators, error)
	// Related hands on the rows that a query asks for, each with its key behind its columns; it takes no locks.
	Related(ctx context.Context, q Query, report func(row []value.Value) error) error
	// Reads says how slices are to be read.
	Reads() ReadTraits
}

// Deleter deletes what was read.
type Deleter interface {
	// DeleteBatch deletes, in one transaction with its journal row, those rows that still are what was read. It
	// returns ErrLeaseLost if another holder has taken the table and ErrLocators if rows must be located again.
	DeleteBatch(ctx context.Context, b Batch) (*JournalRow, error)
}

// Journal keeps in the source who works on a table and what was done there.
type Journal interface {
	// PrepareJournal makes the journal tables where they do not exist.
	PrepareJournal(ctx context.Context) error
	// TakeLease makes holder the only one to work on a table; HeldError says who else does.
	TakeLease(ctx context.Context, table, holder, run string) (Lease, error)
	ReleaseLease(ctx context.Context, l Lease) error
	// Fence returns when every batch of a table that held its lease, whoever began it, has ended: a session of a
	// service that was killed may still be at work. ErrBusy: not yet.
	Fence(ctx context.Context, table string) error
	// Journal returns the rows of a run (of one segment where it is not negative) in order of segment and batch.
	Journal(ctx context.Context, run string, segment int) ([]JournalRow, error)
	// PruneJournal removes the rows of a closed segment, the newest of the table excepted.
	PruneJournal(ctx context.Context, run string, segment int) error
	// Lineage tells which database this is, and how far the journal of a table has come; the zero Lineage without
	// journal.
	Lineage(ctx context.Context, table string) (Lineage, error)
	// SetEpoch sets the epoch of a table's lease, which nobody may hold.
	SetEpoch(ctx context.Context, table string, epoch int64) error
	// Head and SetHead keep the newest link of a table's chain of manifests.
	Head(ctx context.Context, table string) (Head, error)
	SetHead(ctx context.Context, table string, h Head) error
	// Show keeps where the newest run of a table stands, for those who read it by SQL.
	Show(ctx context.Context, p Progress) error
}

// Restorer puts rows back.
type Restorer interface {
	// Restore puts rows back in one transaction, in which it also records them as restored. A row whose key is
	// there already is skipped; every other conflict is an error and nothing of the call stays.
	Restore(ctx context.Context, req RestoreRequest) (*RestoreOutcome, error)
	// MakeTable makes a table that rows of such columns and key fit into; it fails where there is one of that name.
	MakeTable(ctx context.Context, name string, columns []shape.Column, key []string) error
	// ForgetRestored removes the records of a restore: its rows are rows like any from then on.
	ForgetRestored(ctx context.Context, t *shape.Table, restore string) error
	// RestoredCount returns how many rows are recorded for a restore.
	RestoredCount(ctx context.Context, t *shape.Table, restore string) (int64, error)
	// RestoredLive returns how many of them have their key in the table still; in a table without key, how many are
	// recorded.
	RestoredLive(ctx context.Context, t *shape.Table, restore string) (int64, error)
}

// Families is a source that deletes a row and the rows that are related to it together, or not at all.
type Families interface {
	// CountRelated counts the rows of the related table at a position that would go along.
	CountRelated(ctx context.Context, sel Selection, related int) (int64, error)
	// DeleteFamilies is DeleteBatch for rows that others go along with: a row and what is related to it leave whole or
	// not at all. It returns the journal row of the batch, and one for each related table that has rows in it.
	DeleteFamilies(ctx context.Context, b Batch) ([]*JournalRow, error)
}

// As finds an ability of a source, or of the source that it wraps: one with a method Unwrap() Source.
func As[T any](s Source) (ability T, ok bool) {
	for {
		if ability, ok = s.(T); ok {
			return ability, true
		}
		wrapping, wraps := s.(interface{ Unwrap() Source })
		if !wraps {
			return ability, false
		}
		s = wrapping.Unwrap()
	}
}

// FamiliesOf returns what deletes families of rows in a source; where it cannot, that says so.
func FamiliesOf(s Source) Families {
	if f, ok := As[Families](s); ok {
		return f
	}
	return none{}
}

// PartitionsOf returns what moves whole partitions of a source; where it cannot, that has none.
func PartitionsOf(s Source) Partitions {
	if p, ok := As[Partitions](s); ok {
		return p
	}
	return none{}
}

// EmptierOf returns what empties tables of a source at once; where it cannot, that says so.
func EmptierOf(s Source) Emptier {
	if e, ok := As[Emptier](s); ok {
		return e
	}
	return none{}
}

// none has no abilities.
type none struct{}

var (
	errNoFamilies   = fmt.Errorf("this database cannot delete related rows together")
	errNoPartitions = fmt.Errorf("%w: this database has no partitions", ErrWhole)
	errNoEmptying   = fmt.Errorf("%w: this database cannot empty a table at once", ErrWhole)
)

func (none) CountRelated(context.Context, Selection, int) (int64, error)  { return 0, errNoFamilies }
func (none) DeleteFamilies(context.Context, Batch) ([]*JournalRow, error) { return nil, errNoFamilies }

func (none) Part(t *shape.Table, _ string, _ bool) *shape.Table        { return t }
func (none) Departures(context.Context, string) ([]Departure, error)   { return nil, nil }
func (none) Detach(context.Context, Lease, *shape.Table, string) error { return errNoPartitions }
func (none) Seize(context.Context, Lease, *shape.Table, string) (Seized, error) {
	return nil, errNoPartitions
}
func (none) Return(context.Context, Lease, *shape.Table, string) error { return errNoPartitions }
func (none) Ahead(context.Context, *shape.Table, [][2]time.Time, bool) ([]string, []string, error) {
	return nil, nil, errNoPartitions
}

func (none) Empty(context.Context, Lease, *shape.Table, int, []int) (*JournalRow, error) {
	return nil, errNoEmptying
}
func (none) Emptied(context.Context, Lease, *shape.Table, int) (*JournalRow, error) { return nil, nil }

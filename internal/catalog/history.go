package catalog

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Kinds of efforts.
const (
	EffortStage = "stage" // a stage of a run's work
	EffortRest  = "rest"  // a rest, for a reason
)

// Effort is where the time of runs went on a day, in UTC.
type Effort struct {
	Day    string `db:"day"`
	Kind   string `db:"kind"`
	Name   string `db:"name"`   // of the stage, or of the reason
	Micros int64  `db:"micros"` // altogether
	Times  int64  `db:"times"`
}

// addEfforts adds what a run has done since the last time to the sums of the day.
func addEfforts(ctx context.Context, tx *sqlx.Tx, source string, now time.Time, efforts []Effort) error {
	for _, e := range efforts {
		if _, err := tx.ExecContext(ctx, `INSERT INTO effort_sum VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET
			micros = micros + excluded.micros, times = times + excluded.times`, now.UTC().Format(time.DateOnly),
			source, e.Kind, e.Name, e.Micros, e.Times); err != nil {
			return err
		}
	}
	return nil
}

// Past says which days are asked for, in UTC, and of what; empty texts: of all.
type Past struct {
	From, To time.Time // the days of both are within
	Source   string
	Rule     string
}

func (p Past) days() (from, to string) {
	return p.From.UTC().Format(time.DateOnly), p.To.UTC().Format(time.DateOnly)
}

const pastSums = `sum(runs) AS runs, sum(archived) AS archived, sum(purged) AS purged, sum(freed) AS freed,
	sum(file_bytes) AS file_bytes, sum(working_micros) AS working_micros FROM day_sum
	WHERE day BETWEEN ?1 AND ?2 AND (?3 = '' OR source = ?3) AND (?4 = '' OR rule = ?4)`

// PastDays lists what runs came to, by the days on which they ended, the oldest first.
func (c *Catalog) PastDays(ctx context.Context, p Past) ([]Day, error) {
	from, to := p.days()
	return list[Day](ctx, c.db, "SELECT day, "+pastSums+" GROUP BY day ORDER BY day", from, to, p.Source, p.Rule)
}

// PastRules lists the rules whose runs moved the most rows, those first, and as many as are wanted.
func (c *Catalog) PastRules(ctx context.Context, p Past, most int) ([]RuleTotals, error) {
	from, to := p.days()
	return list[RuleTotals](ctx, c.db, "SELECT rule, source, table_name, "+pastSums+` GROUP BY rule, source, table_name
		ORDER BY sum(archived) + sum(purged) DESC, rule LIMIT ?5`, from, to, p.Source, p.Rule, most)
}

// PastEfforts lists where the time of runs went, the oldest day first. It is not told apart by rules.
func (c *Catalog) PastEfforts(ctx context.Context, p Past) ([]Effort, error) {
	from, to := p.days()
	return list[Effort](ctx, c.db, `SELECT day, kind, name, sum(micros) AS micros, sum(times) AS times FROM effort_sum
		WHERE day BETWEEN ? AND ? AND (?3 = '' OR source = ?3) GROUP BY day, kind, name ORDER BY day, kind, name`, from,
		to, p.Source)
}

// Efforts sums up where the time of all runs went.
func (c *Catalog) Efforts(ctx context.Context) ([]Effort, error) {
	return list[Effort](ctx, c.db, `SELECT '' AS day, kind, name, sum(micros) AS micros, sum(times) AS times
		FROM effort_sum GROUP BY kind, name ORDER BY kind, name`)
}

// StoreSize is how large a store was at the end of a day, in UTC, or is so far.
type StoreSize struct {
	Day      string `db:"day"`
	Store    string `db:"store"`
	Bytes    int64  `db:"bytes"` // of its segments, and of rows of others
	Segments int64  `db:"segments"`
	Free     int64  `db:"free"` // -1: not known
}

// KeepStoreSize keeps how large a store is on a day.
func (c *Catalog) KeepStoreSize(ctx context.Context, s StoreSize) error {
	_, err := c.writes.NamedExecContext(ctx,
		"INSERT OR REPLACE INTO store_size VALUES (:day, :store, :bytes, :segments, :free)", s)
	return err
}

// PastStores lists how large stores were, the oldest day first.
func (c *Catalog) PastStores(ctx context.Context, p Past) ([]StoreSize, error) {
	from, to := p.days()
	return list[StoreSize](
		ctx,
		c.db,
		"SELECT * FROM store_size WHERE day BETWEEN ? AND ? ORDER BY day, store",
		from,
		to,
	)
}

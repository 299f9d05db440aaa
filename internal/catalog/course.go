package catalog

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/core/pace"
)

// saveCourse keeps how a run has gone so far; nil: as it is kept.
func saveCourse(ctx context.Context, tx *sqlx.Tx, run string, course *pace.Course) error {
	if course == nil {
		return nil
	}
	_, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO course VALUES (?, ?)", run, JSON[*pace.Course]{course})
	return err
}

// SaveCourse keeps how a run has gone so far.
func (c *Catalog) SaveCourse(ctx context.Context, run string, course *pace.Course) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error { return saveCourse(ctx, tx, run, course) })
}

// Course returns how a run went, as it was last kept; an empty one where nothing is known of that.
func (c *Catalog) Course(ctx context.Context, run string) (*pace.Course, error) {
	found, err := list[JSON[pace.Course]](ctx, c.db, "SELECT course FROM course WHERE run = ?", run)
	if err != nil || len(found) == 0 {
		return &pace.Course{Step: 1, Points: []pace.CourseMoment{}, Turns: []pace.Turn{}}, err
	}
	return &found[0].V, nil
}

// usualMost is how many probes what is usual at an hour of the week stands for, at the most: about what four weeks with
// half an hour of work each bring. What is older than those weighs less.
const usualMost = 20_000

// hourOfWeek is the hour of the week in UTC, from 0, which begins on Monday at 00:00, to 167.
func hourOfWeek(at time.Time) int {
	at = at.UTC()
	return (int(at.Weekday())+6)%7*24 + at.Hour()
}

// usualSpread is what is kept of one kind of probe.
type usualSpread struct {
	Kind   pace.FeelKind     `db:"kind"`
	Spread JSON[pace.Spread] `db:"spread"`
}

func usually(ctx context.Context, q sqlx.QueryerContext, source string, at time.Time) (map[pace.FeelKind]pace.Spread,
	error) {
	rows, err := list[usualSpread](ctx, q, "SELECT kind, spread FROM usual WHERE source = ? AND hour = ?", source,
		hourOfWeek(at))
	out := map[pace.FeelKind]pace.Spread{}
	for _, x := range rows {
		s := x.Spread.V
		s.Sum()
		out[x.Kind] = s
	}
	return out, err
}

// Usually returns how long probes of a source usually take at this hour of the week while nobody of us is at work
// there.
func (c *Catalog) Usually(ctx context.Context, source string, at time.Time) (map[pace.FeelKind]pace.Spread, error) {
	return usually(ctx, c.db, source, at)
}

// LearnUsual adds to what is usual at this hour of the week.
func (c *Catalog) LearnUsual(ctx context.Context, source string, at time.Time,
	felt map[pace.FeelKind]pace.Spread) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		known, err := usually(ctx, tx, source, at)
		if err != nil {
			return err
		}
		for kind, now := range felt {
			sum := known[kind]
			if room := max(usualMost-now.Total, 0); sum.Total > room {
				sum.Fade(room / sum.Total)
			}
			sum.Merge(&now, 1)
			if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO usual VALUES (?, ?, ?, ?, ?)", source,
				hourOfWeek(at), string(kind), JSON[pace.Spread]{sum}, At(c.Now())); err != nil {
				return err
			}
		}
		return nil
	})
}

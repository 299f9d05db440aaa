package catalog

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/core/period"
)

// RecordKeeps says for how long records of the service's own stay, by their kind, as ISO 8601; empty: for good. The
// audit log and everything that proves where archived rows are or went stays for good.
type RecordKeeps map[string]string

// The kinds of records that are kept for a time. A day at least passes before anything goes.
const (
	KeepBatches   = "batches"   // of runs that have ended: their ledgers stay
	KeepSlowdowns = "slowdowns" // likewise
	KeepPlans     = "plans"     // of which no run is known
	KeepDetails   = "details"   // of plans whose runs have ended: statements, spread over age, columns of the table
	// that have ended and of which no segment is known; the newest of each rule stays
	KeepRuns          = "runs"
	KeepVerifications = "verifications" // that have ended; what was found of segments stays with them
	KeepRetrievals    = "retrievals"    // that are over
	KeepFirings       = "firings"       // that are carried out; the newest of each rule stay
	KeepFindings      = "findings"      // that are closed
	KeepSteps         = "steps"         // before and after runs
	KeepSizes         = "sizes"         // of tables
	KeepDeliveries    = "deliveries"    // of notices, that have ended
	KeepNews          = "news"
)

// UsualKeeps are those where nothing else was said.
var UsualKeeps = RecordKeeps{KeepBatches: "P90D", KeepSlowdowns: "P90D", KeepPlans: "P1Y", KeepDetails: "P90D",
	KeepRuns:          "P10Y",
	KeepVerifications: "P1Y", KeepRetrievals: "P1Y", KeepFirings: "P1Y", KeepFindings: "P1Y",
	KeepSteps: "P1Y", KeepSizes: "P90D", KeepDeliveries: "P90D", KeepNews: "P90D"}

// mostKept is how many records of a kind are kept, however young they are: the newest. It bounds what a service keeps
// whose rules run every hour. Of runs, those of which segments are known stay beyond that.
var mostKept = map[string]int{KeepDetails: 20_000, KeepPlans: 120_000, KeepRuns: 100_000, KeepFirings: 400_000,
	KeepBatches: 100_000, KeepSlowdowns: 100_000, KeepDeliveries: 200_000,
	KeepNews: 100_000}

// newest tells, of a kind of records, when the one was made or ended that so many newer ones follow.
var newest = map[string]string{
	KeepDetails:    "SELECT made_at FROM plan ORDER BY made_at DESC LIMIT 1 OFFSET ?",
	KeepPlans:      "SELECT made_at FROM plan ORDER BY made_at DESC LIMIT 1 OFFSET ?",
	KeepRuns:       runEnded,
	KeepBatches:    runEnded, // of so many runs
	KeepSlowdowns:  runEnded,
	KeepFirings:    "SELECT at FROM firing ORDER BY at DESC LIMIT 1 OFFSET ?",
	KeepDeliveries: "SELECT ended_at FROM delivery WHERE ended_at IS NOT NULL ORDER BY ended_at DESC LIMIT 1 OFFSET ?",
	KeepNews:       "SELECT at FROM news ORDER BY seq DESC LIMIT 1 OFFSET ?",
}

const runEnded = "SELECT ended_at FROM run WHERE ended_at IS NOT NULL ORDER BY ended_at DESC LIMIT 1 OFFSET ?"

// Beyond returns before when records of a kind go because there are so many newer ones; zero: there are not.
func (c *Catalog) Beyond(ctx context.Context, kind string) (time.Time, error) {
	query, bounded := newest[kind]
	if !bounded {
		return time.Time{}, nil
	}
	found, err := list[Time](ctx, c.db, query, mostKept[kind])
	if err != nil || len(found) == 0 {
		return time.Time{}, err
	}
	return found[0].Time, nil
}

// leastKeep is the shortest time for which records are kept.
const leastKeep = 24 * time.Hour

// Check says what is wrong with a keep, and writes it in its usual form.
func (k RecordKeeps) Check(kind string) (string, error) {
	if _, ok := UsualKeeps[kind]; !ok {
		return "", fmt.Errorf("%q is no kind of records that are kept for a time: %v", kind,
			slices.Sorted(maps.Keys(UsualKeeps)))
	}
	if k[kind] == "forever" {
		return "", nil
	}
	p, err := period.Parse(k[kind])
	if err != nil {
		return "", err
	}
	moment := time.Unix(1<<30, 0) // any instant will do
	if moment.Sub(p.Before(moment, time.UTC)) < leastKeep {
		return "", fmt.Errorf("%s is less than a day", k[kind])
	}
	return p.String(), nil
}

const keepsSetting = "keeps"

// RecordKeeps returns how long records are kept.
func (c *Catalog) RecordKeeps(ctx context.Context) (RecordKeeps, error) {
	out := maps.Clone(UsualKeeps)
	text, err := c.Setting(ctx, keepsSetting)
	if err != nil || text == "" {
		return out, err
	}
	return out, json.Unmarshal([]byte(text), &out)
}

// SetRecordKeeps changes how long records of some kinds are kept.
func (c *Catalog) SetRecordKeeps(ctx context.Context, actor string, keeps RecordKeeps) (RecordKeeps, error) {
	out, err := c.RecordKeeps(ctx)
	if err != nil {
		return nil, err
	}
	before := maps.Clone(out)
	maps.Copy(out, keeps)
	b, err := json.Marshal(out)
	if err != nil {
		return nil, err
	}
	return out, c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO setting VALUES (?, ?)", keepsSetting,
			string(b)); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "catalog keep", "records", fmt.Sprint(keeps)+"; "+change(before, out))
	})
}

// forgets is what goes of each kind whose time was over at a moment, at most so many at a time.
var forgets = map[string]string{
	KeepBatches: `DELETE FROM batch WHERE (run, segment, number) IN (SELECT b.run, b.segment, b.number FROM run
		CROSS JOIN batch b ON b.run = run.id WHERE run.ended_at < ?1 ORDER BY run.ended_at LIMIT ?2)`,
	KeepSlowdowns: `DELETE FROM slowdown WHERE (run, begun) IN (SELECT s.run, s.begun FROM run
		CROSS JOIN slowdown s ON s.run = run.id WHERE run.ended_at < ?1 ORDER BY run.ended_at LIMIT ?2)`,
	KeepPlans: "DELETE FROM plan WHERE id IN (SELECT id FROM plan WHERE made_at < ?1 AND NOT EXISTS " +
		"(SELECT 1 FROM run WHERE run.plan = plan.id) ORDER BY made_at LIMIT ?2)",
	KeepDetails: `UPDATE plan SET thin = 1, shape = '{}', counts = json_set(counts, '$.spread', json('[]')),
		detail = json_set(detail, '$.statements', json('[]')) WHERE id IN (SELECT id FROM plan WHERE made_at < ?1
		AND NOT thin AND NOT EXISTS (SELECT 1 FROM run WHERE run.plan = plan.id AND run.ended_at IS NULL)
		ORDER BY made_at LIMIT ?2)`,
	KeepVerifications: "DELETE FROM verification WHERE id IN (SELECT id FROM verification WHERE created_at < ?1 " +
		"AND ended_at IS NOT NULL ORDER BY created_at LIMIT ?2)",
	KeepRetrievals: "DELETE FROM retrieval WHERE id IN (SELECT id FROM retrieval WHERE created_at < ?1 AND state " +
		"IN ('over', 'failed') ORDER BY created_at LIMIT ?2)",
	KeepFirings: `DELETE FROM firing WHERE (rule, at) IN (SELECT rule, at FROM firing f WHERE at < ?1 AND state NOT IN
		('due', 'asking') AND EXISTS (SELECT 1 FROM firing later WHERE later.rule = f.rule AND later.at > f.at LIMIT 1
		OFFSET 9) ORDER BY at LIMIT ?2)`,
	KeepSteps: "DELETE FROM step WHERE id IN (SELECT id FROM step WHERE began_at < ?1 ORDER BY began_at LIMIT ?2)",
	KeepSizes: "DELETE FROM table_size WHERE (source, table_name, at) IN (SELECT source, table_name, at FROM " +
		"table_size WHERE at < ?1 ORDER BY at LIMIT ?2)",
	KeepDeliveries: "DELETE FROM delivery WHERE seq IN (SELECT seq FROM delivery WHERE ended_at < ?1 ORDER BY " +
		"ended_at LIMIT ?2)",
	KeepNews: "DELETE FROM news WHERE seq IN (SELECT seq FROM news WHERE at < ?1 ORDER BY seq LIMIT ?2)",
	KeepFindings: "DELETE FROM finding WHERE id IN (SELECT id FROM finding WHERE closed_at < ?1 ORDER BY closed_at " +
		"LIMIT ?2)",
}

// alsoForgets is what goes besides.
var alsoForgets = map[string][]string{
	KeepSlowdowns: {`DELETE FROM course WHERE run IN (SELECT c.run FROM run CROSS JOIN course c ON c.run = run.id
		WHERE run.ended_at < ?1 ORDER BY run.ended_at LIMIT ?2)`},
}

// oldRuns are the runs whose time is over.
const oldRuns = `SELECT id FROM run WHERE ended_at < ? AND state IN ('done', 'cancelled') AND NOT EXISTS (SELECT 1
	FROM segment WHERE segment.run = run.id AND segment.state <> 'abandoned')
	AND EXISTS (SELECT 1 FROM run later WHERE later.rule = run.rule AND (later.created_at, later.id) > (run.created_at,
		run.id)) ORDER BY ended_at LIMIT ?`

// purgedSetting is how many rows runs have purged that are not known any more.
const purgedSetting = "purged"

// Forget removes records of a kind that are older than a moment, at most so many, and returns how many went.
func (c *Catalog) Forget(ctx context.Context, kind string, before time.Time, most int) (n int64, err error) {
	err = c.transaction(ctx, func(tx *sqlx.Tx) error {
		if kind == KeepRuns {
			n, err = forgetRuns(ctx, tx, before, most)
			return err
		}
		for _, text := range append([]string{forgets[kind]}, alsoForgets[kind]...) {
			done, err := tx.ExecContext(ctx, text, At(before), most)
			if err != nil {
				return err
			}
			gone, err := done.RowsAffected()
			if n += gone; err != nil {
				return err
			}
		}
		return nil
	})
	return n, err
}

// forgetRuns removes runs with what hangs on them. What they purged stays in the total.
func forgetRuns(ctx context.Context, tx *sqlx.Tx, before time.Time, most int) (n int64, err error) {
	ids, err := list[string](ctx, tx, oldRuns, At(before), most)
	if err != nil || len(ids) == 0 {
		return 0, err
	}
	for _, text := range []string{
		"INSERT INTO setting SELECT '" + purgedSetting +
			"', coalesce(sum(purged), 0) FROM run WHERE id IN (?) ON CONFLICT DO UPDATE SET " +
			"value = CAST(value AS INTEGER) + CAST(excluded.value AS INTEGER)",
		"DELETE FROM batch WHERE run IN (?)", "DELETE FROM slowdown WHERE run IN (?)",
		"DELETE FROM course WHERE run IN (?)",
		"DELETE FROM run WHERE id IN (?)",
	} {
		query, args, err := sqlx.In(text, ids)
		if err != nil {
			return 0, err
		}
		if _, err := tx.ExecContext(ctx, query, args...); err != nil {
			return 0, err
		}
	}
	return int64(len(ids)), nil
}

// browserKept is how long it is known that somebody has signed in from a browser.
const browserKept = 180 * 24 * time.Hour

// EndOldSessions forgets sessions that have run out, and browsers that were not seen for long.
func (c *Catalog) EndOldSessions(ctx context.Context, now time.Time) error {
	_, err := c.writes.ExecContext(ctx, "DELETE FROM session WHERE expires_at < ?", At(now))
	if err == nil {
		_, err = c.writes.ExecContext(ctx, "DELETE FROM known_browser WHERE at < ?", At(now.Add(-browserKept)))
	}
	return err
}

package catalog

import (
	"context"
	"fmt"
	"time"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"

	"github.com/jmoiron/sqlx"
)

// Plan is what a run would do. It is never changed.
type Plan struct {
	ID       string            `db:"id"`
	Rule     string            `db:"rule"`
	Revision int               `db:"revision"`
	Source   string            `db:"source"`
	Table    string            `db:"table_name"`
	Cutoff   Time              `db:"cutoff"` // the latest of its clauses'
	MadeAt   Time              `db:"made_at"`
	Counts   JSON[Counts]      `db:"counts"`
	Batches  int64             `db:"batches"`
	Segments int64             `db:"segments"`
	Warnings JSON[[]string]    `db:"warnings"`
	Detail   JSON[PlanDetail]  `db:"detail"`
	Shape    JSON[shape.Table] `db:"shape"`
	MadeBy   string            `db:"made_by"` // empty: before it was kept who made plans
	Thin     bool              `db:"thin"`    // statements, spread and shape are gone: it is old, and its run has ended
}

// NotCounted stands for a number that an estimate does not give.
const NotCounted = -1

// Counts are the numbers of a plan: counted row by row, or estimated from the database's statistics.
type Counts struct {
	CountsHead
	CountsApart
	CountsAll
}

// CountsHead is how a plan was counted, and what is due.
type CountsHead struct {
	Counted bool `json:"counted"`
	// when counting began and ended: rows may have changed in between
	From       *Time  `json:"counted_from,omitempty"`
	To         *Time  `json:"counted_to,omitempty"`
	Due        int64  `json:"due"`
	Bytes      int64  `json:"bytes"` // estimated from the average width of a row
	Oldest     string `json:"oldest,omitempty"`
	LastGoing  string `json:"last_going,omitempty"`
	FirstStays string `json:"first_stays,omitempty"`
}

// CountsApart is the rows that are not due for a reason of their own.
type CountsApart struct {
	Uncovered  int64 `json:"uncovered"`  // rows that no clause covers; kept
	Ageless    int64 `json:"ageless"`    // rows whose age is no instant; never due
	Future     int64 `json:"future"`     // rows dated more than a day after the planning instant
	Held       int64 `json:"held"`       // due but for a hold
	Restored   int64 `json:"restored"`   // aged rows left alone because a restore brought them back
	Referenced int64 `json:"referenced"` // aged rows left alone because another table refers to them
	Collation  int64 `json:"collation"`  // judged otherwise by a column's own collation; left alone
}

// CountsAll is the whole table.
type CountsAll struct {
	Total   int64         `json:"total"` // the table's rows
	Clauses []ClauseCount `json:"clauses"`
	Spread  []Bucket      `json:"spread"` // over age, the oldest first; empty in an estimate
}

// ClauseCount is what one clause governs.
type ClauseCount struct {
	Clause     int    `json:"clause"` // from 0
	Rows       int64  `json:"rows"`
	Due        int64  `json:"due"`
	Bytes      int64  `json:"bytes"`
	Held       int64  `json:"held"`
	Restored   int64  `json:"restored"`
	Referenced int64  `json:"referenced"`
	Collation  int64  `json:"collation"`
	Oldest     string `json:"oldest,omitempty"`
	Newest     string `json:"newest,omitempty"`
	LastGoing  string `json:"last_going,omitempty"`
	FirstStays string `json:"first_stays,omitempty"`
}

// Bucket is a stretch of age, with the rows of each clause in it.
type Bucket struct {
	From    Time    `json:"from"`
	To      Time    `json:"to"`
	Rows    int64   `json:"rows"`
	Due     int64   `json:"due"`
	Clauses []int64 `json:"clauses"` // rows by clause, in the order of the plan's clauses; uncovered ones last
}

// PlanDetail is what a plan holds beside its numbers.
type PlanDetail struct {
	Note    string        `json:"note,omitempty"`
	Narrow  Narrow        `json:"narrow"`
	Clauses []PlanClause  `json:"clauses"`
	Related []PlanRelated `json:"related"`
	// the rules of related tables, as they were; null: the plan is of an older version
	Pinned     []PinnedRule       `json:"pinned"`
	Partitions []PlanPartition    `json:"partitions"`
	CatchAll   *PlanCatchAll      `json:"catch_all,omitempty"`
	Emptying   *PlanEmptying      `json:"emptying,omitempty"` // of a rule that empties its table
	Statements []source.Statement `json:"statements"`
	Expect     Expectation        `json:"expect"`
	// how the table differs from what it was when the rule was applied
	Drift []string `json:"drift"`
	// the drift changes what would be deleted or archived: a run needs it confirmed
	Confirm  bool     `json:"confirm"`
	Guards   []string `json:"guards"`             // guard rails that the plan breaks
	Override string   `json:"override,omitempty"` // the reason for which it may
}

// Narrow is what a plan asks for beyond its rule; it can only take less.
type Narrow struct {
	Before *Time  `json:"before,omitempty"`
	Where  string `json:"where,omitempty"`
	Keys   string `json:"keys,omitempty"`  // FROM..TO
	Limit  int64  `json:"limit,omitempty"` // rows; 0: no limit
}

// PlanClause is a clause as the plan pins it.
type PlanClause struct {
	Clause      int                  `json:"clause"`
	Label       string               `json:"label"`
	About       string               `json:"about,omitempty"`
	Locked      string               `json:"locked,omitempty"`
	Keep        string               `json:"keep"`
	Cutoff      *Time                `json:"cutoff"` // null: never due
	Then        rule.Then            `json:"then"`
	Store       string               `json:"store,omitempty"`
	ArchiveKeep string               `json:"archive_keep,omitempty"`
	DeleteAfter string               `json:"delete_after,omitempty"`
	Omit        []string             `json:"omit,omitempty"`
	Mask        map[string]rule.Mask `json:"mask,omitempty"`
}

// PlanRelated is a table whose rows go along.
type PlanRelated struct {
	Table string    `json:"table"`
	Above string    `json:"above"` // the table that its rows refer to
	On    string    `json:"on"`
	Then  rule.Then `json:"then"`
	Rows  int64     `json:"rows"`            // that go along with the due rows; -1: not counted
	Keeps bool      `json:"keeps,omitempty"` // it has a rule of its own: what that keeps, keeps its family
}

// PinnedRule is the rule of a related table as a plan found it: what that keeps, keeps its family, whatever becomes of
// the rule until the run.
type PinnedRule struct {
	Table    string         `json:"table"`
	Rule     string         `json:"rule"`
	Revision int            `json:"revision"`
	Cutoffs  []PinnedCutoff `json:"cutoffs"` // by clause
}

// PinnedCutoff is the cutoff of one clause.
type PinnedCutoff struct {
	At    *Time `json:"at,omitempty"`
	Never bool  `json:"never,omitempty"` // nothing is due
	All   bool  `json:"all,omitempty"`   // everything is due
}

// PlanPartition says how a partition's rows leave.
type PlanPartition struct {
	Name       string   `json:"name"`
	From       string   `json:"from,omitempty"` // empty: no bound
	To         string   `json:"to,omitempty"`
	Rows       int64    `json:"rows"` // the database's estimate; -1 where it has none
	Bytes      int64    `json:"bytes"`
	IndexBytes int64    `json:"index_bytes"`
	Way        rule.Way `json:"way"`
	Why        string   `json:"why,omitempty"`
}

// PlanCatchAll is the partition that takes what no other does.
type PlanCatchAll struct {
	Name string `json:"name"`
	Rows int64  `json:"rows"` // counted to 100,000; -1: not counted
	Due  int64  `json:"due"`
}

// PlanEmptying says whether a table can be emptied at once, rather than in batches.
type PlanEmptying struct {
	Offered bool     `json:"offered"`
	Why     string   `json:"why,omitempty"` // not
	Effects []string `json:"effects"`       // what it locks, resets and passes by
}

// Sample is some of the rows that would go, as they are when they are asked for. It is kept nowhere.
type Sample struct {
	Columns []string   `json:"columns"`
	Rows    [][]string `json:"rows"`
}

// Expectation is what earlier runs of the table let one expect; nil where none has measured it.
type Expectation struct {
	Seconds      *float64 `json:"seconds"`
	ArchiveBytes *int64   `json:"archive_bytes"`
	LogBytes     *int64   `json:"log_bytes"`
}

// AddPlan keeps a plan.
func (c *Catalog) AddPlan(ctx context.Context, p *Plan) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx,
			`INSERT INTO plan (id, rule, revision, source, table_name, cutoff, made_at, counts, batches, segments,
				warnings, detail, shape, made_by)
			VALUES (:id, :rule, :revision, :source, :table_name, :cutoff, :made_at, :counts, :batches, :segments,
				:warnings, :detail, :shape, :made_by)`, p); err != nil ||
			p.MadeBy == "schedule" && p.Counts.V.Due == 0 {
			return err // nothing comes of it
		}
		return c.note(
			ctx,
			tx,
			p.MadeBy,
			"plan make",
			p.ID,
			fmt.Sprintf("rule %s revision %d, cutoff %s, due %d %s", p.Rule,
				p.Revision, p.Cutoff.Format(time.RFC3339), p.Counts.V.Due, p.Detail.V.Note),
		)
	})
}

// Plan returns one plan.
func (c *Catalog) Plan(ctx context.Context, id string) (*Plan, error) {
	return get[Plan](ctx, c.db, "plan", id, "SELECT * FROM plan WHERE id = ?", id)
}

// Plans lists the newest plans, of one rule where it is named.
func (c *Catalog) Plans(ctx context.Context, ruleName string, p Page) ([]Plan, error) {
	query, args := "SELECT * FROM plan WHERE true", []any{}
	if ruleName != "" {
		query, args = query+" AND rule = ?", append(args, ruleName)
	}
	return paged[Plan](ctx, c.db, p, order{columns: []string{"made_at", "id"}}, query, args...)
}

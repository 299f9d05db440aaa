package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// Rows 1 to 3,000 of table scan are a minute apart, from 2020-01-01 00:01 on.

func (b *bench) apply(t *testing.T, clauses string) {
	t.Helper()
	b.now = b.now.Add(time.Second)
	if !strings.Contains(clauses, "pace:") {
		clauses += "\npace: unlimited\n"
	}
	if _, problems, err := b.Plans.ApplyRules(t.Context(), "me", "r",
		[]byte("rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\n"+clauses), ""); err != nil {
		t.Fatal(err, problems)
	}
}

func (b *bench) exec(t *testing.T, text string) {
	t.Helper()
	if _, err := b.db.Exec(text); err != nil {
		t.Fatal(err)
	}
}

func (b *bench) plan(t *testing.T, q plan.PlanRequest) *catalog.Plan {
	t.Helper()
	if q.Rule == "" {
		q.Rule = "scans"
	}
	p, err := b.Plans.Make(t.Context(), "me", q)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestAnExactPlanAccountsForEveryRow(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	b.apply(t, "clauses:\n  - where: id <= 1000\n    before: 2020-01-01 10:00:00\n  - where: id > 1000 AND id <= "+
		"2500\n    before: 2020-01-02 20:00:00\n    then: purge\nthen: archive\narchive: {store: cellar}\n")
	b.exec(t, "UPDATE scan SET at = NULL WHERE id IN (7, 2999); UPDATE scan SET at = 'soon' WHERE id = 8; UPDATE "+
		"scan SET at = '2999-01-01 00:00:00' WHERE id = 9")
	for _, where := range []string{"id BETWEEN 1 AND 50", "note = 'note 1200'"} {
		if _, err := b.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "scan",
			Where: where, Reference: "case", Reason: "asked"}); err != nil {
			t.Fatal(err)
		}
	}
	var said []string
	p := b.plan(t, plan.PlanRequest{Exact: true,
		Counted: func(done, pieces int) { said = append(said, fmt.Sprintf("%d/%d", done, pieces)) }})
	c := p.Counts.V
	// Before 10:00 lie rows 1 to 599, of which 7, 8 and 9 do not, and 1 to 50 are held; of the second clause, up to
	// 02.01. 20:00, lie 1001 to 2500 (2500 minutes are 01.02. 17:40), of which one is held.
	if c.Clauses[0].Due != 599-50 || c.Clauses[1].Due != 1499 || c.Due != 549+1499 || c.Held != 48 {
		t.Errorf("due: %+v", c)
	}
	if c.Total != rows || c.Ageless != 3 || c.Future != 1 || c.Uncovered != 499 || c.Clauses[0].Rows+c.Clauses[1].Rows+
		c.Uncovered+c.Ageless != rows {
		t.Errorf("of all rows: %+v", c)
	}
	if c.Clauses[0].LastGoing != "2020-01-01 09:59:00" || c.Clauses[0].FirstStays != "2020-01-01 10:00:00" {
		t.Errorf("the last that goes %q, the first that stays %q", c.Clauses[0].LastGoing, c.Clauses[0].FirstStays)
	}
	spread := int64(0)
	for i, x := range c.Spread {
		spread += x.Rows
		if i > 0 && !x.From.Equal(c.Spread[i-1].To.Time) {
			t.Errorf("bar %d begins at %s, and the one before it ends at %s", i, x.From, c.Spread[i-1].To)
		}
	}
	if len(c.Spread) != plan.LeastBuckets || spread != rows-c.Ageless || len(said) != plan.LeastBuckets ||
		said[3] != fmt.Sprintf("3/%d", plan.LeastBuckets) {
		t.Errorf("%d bars with %d rows; said %v", len(c.Spread), spread, said)
	}
	text := strings.Join(p.Warnings.V, "\n")
	for _, want := range []string{"499 rows are covered by no clause", "purges: its rows are deleted without a copy",
		"2,048 of 3,000 rows are due, which is more than half"} {
		if !strings.Contains(text, want) {
			t.Errorf("no warning %q in\n%s", want, text)
		}
	}
	// The run does what the plan says.
	r := b.begin(t, p)
	if err := b.Runs.Run(t.Context(), r); err != nil || r.Deleted != c.Due || r.LogBytes == nil {
		t.Errorf("the run: %v, %d deleted, log %v", err, r.Deleted, r.LogBytes)
	}
}

func TestCountingEndsWhenNobodyWaitsOrItTakesTooLong(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	_, err := b.Plans.Make(ctx, "me", plan.PlanRequest{Rule: "scans", Exact: true, Counted: func(done, _ int) {
		if done == 2 {
			cancel()
		}
	}})
	if !errors.Is(err, context.Canceled) {
		t.Errorf("counting that was cancelled: %v", err)
	}
	if plans, err := b.Catalog.Plans(t.Context(), "scans", catalog.First(10)); err != nil || len(plans) != 0 {
		t.Errorf("%d plans are kept, %v", len(plans), err)
	}
	slow := func(int, int) { time.Sleep(30 * time.Millisecond) }
	var refused *refuse.Error
	if _, err := b.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "scans", Exact: true,
		Budget: 50 * time.Millisecond, Counted: slow}); !errors.As(err, &refused) ||
		!strings.Contains(err.Error(), "budget") {
		t.Errorf("counting beyond its budget: %v", err)
	}
}

func TestAPlanTakesOnlyLessThanItsRule(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	if n := b.plan(t, plan.PlanRequest{Exact: true}).Counts.V.Due; n != rows {
		t.Fatalf("%d rows are due", n)
	}
	for _, x := range []struct {
		q   plan.PlanRequest
		due int64
	}{
		{plan.PlanRequest{Before: time.Date(2020, 1, 1, 1, 0, 0, 0, time.UTC)}, 59},
		{plan.PlanRequest{Where: "note LIKE 'note 1__'"}, 100},
		{plan.PlanRequest{Keys: "100..199"}, 100},
		{plan.PlanRequest{Keys: "..10"}, 10},
		{plan.PlanRequest{Keys: "2991.."}, 10},
		{plan.PlanRequest{Keys: "1..100", Where: "id > 90", Before: time.Date(2020, 1, 1, 1, 35, 30, 0, time.UTC)}, 5},
	} {
		x.q.Exact = true
		if n := b.plan(t, x.q).Counts.V.Due; n != x.due {
			t.Errorf("%+v: %d rows are due instead of %d", x.q, n, x.due)
		}
	}
	for want, q := range map[string]plan.PlanRequest{
		"would take more than it allows":    {Before: b.now.AddDate(0, -6, 0)},
		"lies in the future":                {Before: b.now.AddDate(0, 0, 1)},
		"no row can satisfy this condition": {Where: "id > 5 AND id < 3"},
		"there is no column":                {Where: "gate = 1"},
		"is no range of keys":               {Keys: "17"},
		"is no key of scan":                 {Keys: "a..b"},
		"is no number of rows":              {Limit: -1},
	} {
		q.Rule = "scans"
		if _, err := b.Plans.Make(t.Context(), "me", q); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, and not %q", q, err, want)
		}
	}
}

// astray is a source whose clock is wrong.
type astray struct {
	source.Source
	by  time.Duration
	now func() time.Time
}

func (x *astray) Unwrap() source.Source { return x.Source }

func (a *astray) Clock(context.Context) (time.Time, error) { return a.now().Add(a.by), nil }

func TestPlansAreRefusedWhereTheClocksDiffer(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	src, err := b.Source(t.Context(), "harbour")
	if err != nil {
		t.Fatal(err)
	}
	theirs := &astray{Source: src, now: func() time.Time { return b.now }}
	b.Engine.Source = func(context.Context, string) (source.Source, error) { return theirs, nil }
	b.Plans.Skew = time.Minute
	for by, fine := range map[time.Duration]bool{0: true, 50 * time.Second: true, -50 * time.Second: true,
		2 * time.Minute: false, -2 * time.Hour: false} {
		theirs.by = by
		_, err := b.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "scans"})
		var refused *refuse.Error
		if fine && err != nil || !fine &&
			(!errors.As(err, &refused) || !strings.Contains(err.Error(), "clock differs")) {
			t.Errorf("a clock that is off by %s: %v", by, err)
		}
	}
}

func TestTheForecastFollowsTheRows(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	b.now = time.Date(2020, 12, 10, 0, 0, 0, 0, time.UTC) // the rows are due a year after 1 to 3 January 2020
	lines, err := b.Plans.ForecastRule(t.Context(), "scans", 3)
	if err != nil || len(lines) != 4 {
		t.Fatalf("%d lines, %v", len(lines), err)
	}
	if lines[0].Rows != 0 || lines[1].Rows != 0 || lines[2].Rows != rows || lines[3].Rows != 0 {
		t.Errorf("forecast: %+v", lines)
	}
	if at := lines[2].Cutoffs[0]; at == nil || !at.Equal(time.Date(2020, 2, 1, 0, 0, 0, 0, time.UTC)) {
		t.Errorf("the cutoff of %s is %v", lines[2].At, at)
	}
	for _, months := range []int{0, 121} {
		if _, err := b.Plans.ForecastRule(t.Context(), "scans", months); err == nil {
			t.Errorf("%d months are forecast", months)
		}
	}
}

func TestAPreviewKeepsNothing(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	text := "rule: others\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - where: id < 11\n    " +
		"keep: P1Y\nthen: purge\n"
	x, err := b.Plans.PreviewRule(t.Context(), text, false)
	if err != nil || x.Rule == nil || x.Plan != nil && x.Plan.Counts.V.Due != 10 {
		t.Fatalf("preview: %+v, %v", x, err)
	}
	x, err = b.Plans.PreviewRule(t.Context(), strings.Replace(text, "others", "scans", 1), true)
	if err != nil || x.Plan == nil || x.Plan.Counts.V.Due != 10 || x.Plan.Counts.V.Uncovered != rows-10 {
		t.Fatalf("preview of the rule as it would be: %+v, %v", x, err)
	}
	if x, err = b.Plans.PreviewRule(t.Context(), strings.Replace(text, "id < 11", "id < 'a'", 1), true); err != nil ||
		x.Plan != nil || len(x.Problems) == 0 {
		t.Errorf("preview of a mistake: %+v, %v", x, err)
	}
	rules, err := b.Catalog.Rules(t.Context())
	if plans, _ := b.Catalog.Plans(t.Context(), "scans", catalog.First(10)); err != nil || len(rules) != 1 ||
		len(plans) != 0 {
		t.Errorf("%d rules, %d plans, %v", len(rules), len(plans), err)
	}
	b.exec(t, "UPDATE scan SET at = '2999-01-01' WHERE id = 3000")
	compared, _, err := b.Plans.Compare(t.Context(), "r",
		[]byte("rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - before: 2020-01-01 "+
			"00:11:00\nthen: archive\narchive: {store: cellar}\n"))
	if err != nil || len(compared) != 1 || compared[0].Gained != 0 || compared[0].Lost != rows-11 ||
		compared[0].Both != 10 {
		t.Errorf("compared: %+v, %v", compared, err)
	}
}

func TestGuardRailsBindTheKeepsThatAPlanComesTo(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	b.apply(t, "clauses:\n  - before: 2020-01-02\nthen: archive\narchive: {store: cellar, keep: P1Y}\n")
	set := func(g catalog.Guard) {
		if err := b.Catalog.SetGuard(t.Context(), "me", "harbour", g); err != nil {
			t.Fatal(err)
		}
	}
	years := func(n int) *period.Period { return &period.Period{Years: n} }
	for want, g := range map[string]catalog.Guard{"": {Live: years(6), Archive: years(1), Only: []string{"scan"}},
		"live": {Live: years(7)}, "archive": {Archive: years(2)}, "may not": {Never: []string{"scan"}},
		"may have": {Only: []string{"vessel"}}} {
		set(g)
		_, err := b.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "scans"})
		if want == "" && err != nil || want != "" && err == nil {
			t.Errorf("guard rails %+v: %v", g, err)
			continue
		}
		if want == "" {
			continue
		}
		p, err := b.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "scans", Override: "the court said so"})
		if err != nil || p.Detail.V.Override != "the court said so" || len(p.Detail.V.Guards) == 0 {
			t.Errorf("overridden %+v: %v", g, err)
		}
	}
}

func TestAKeepShorterThanWritersNeedIsMentioned(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	b.exec(t, "ALTER TABLE scan ADD COLUMN touched datetime; UPDATE scan SET touched = datetime(at, '+1 day'); "+
		"UPDATE scan SET touched = datetime(at, '+7 years') WHERE id % 100 = 0")
	b.apply(t, "modified: touched\nclauses:\n  - keep: P5Y\nthen: archive\narchive: {store: cellar}\n")
	said := strings.Join(b.plan(t, plan.PlanRequest{Exact: true}).Warnings.V, "\n")
	if !strings.Contains(said, "of the 3000 oldest due rows, 30 were still changed (touched) later than the keep") {
		t.Errorf("the warnings are\n%s", said)
	}
	b.exec(t, "UPDATE scan SET touched = NULL WHERE id % 100 = 0")
	if said = strings.Join(b.plan(t, plan.PlanRequest{Exact: true}).Warnings.V, "\n"); strings.Contains(said,
		"still changed") {
		t.Errorf("the warnings are\n%s", said)
	}
}

func TestHoldsThatCannotBeJudgedHoldEverything(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	b.exec(t, "ALTER TABLE scan ADD COLUMN gate text")
	if _, err := b.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "scan",
		Where: "gate IS NULL AND id < 5", Reference: "case", Reason: "asked"}); err != nil {
		t.Fatal(err)
	}
	b.apply(t, "clauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\n")
	if c := b.plan(t, plan.PlanRequest{Exact: true}).Counts.V; c.Due != rows-4 || c.Held != 4 {
		t.Errorf("with the column: %+v", c)
	}
	b.exec(t, "ALTER TABLE scan DROP COLUMN gate")
	if c := b.plan(t, plan.PlanRequest{Exact: true, Confirm: true}).Counts.V; c.Due != 0 || c.Held != rows {
		t.Errorf("without it: %+v", c)
	}
}

func TestPurgesThatEmptyATableLeaveNothingButWhatIsHeld(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	b.exec(t, "UPDATE scan SET at = NULL WHERE id <= 20; UPDATE scan SET at = '2999-01-01' WHERE id BETWEEN 21 AND "+
		"40; UPDATE scan SET at = 'never' WHERE id = 41")
	b.apply(t, "clauses:\n  - keep: none\nthen: purge\nconfirm: empty scan\n")
	if _, err := b.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "scan",
		Keys: []string{"7", "30", "500"}, Reference: "case", Reason: "asked"}); err != nil {
		t.Fatal(err)
	}
	p := b.plan(t, plan.PlanRequest{Exact: true})
	if c := p.Counts.V; c.Due != rows-3 || c.Held != 3 || c.Total != rows || c.Ageless != 21 || c.Uncovered != 0 {
		t.Errorf("plan: %+v", c)
	}
	r := b.begin(t, p)
	if err := b.Runs.Run(t.Context(), r); err != nil || r.Deleted != rows-3 || b.live(t) != 3 {
		t.Errorf("the run: %v, %d deleted, %d live", err, r.Deleted, b.live(t))
	}
	// What is narrowed to a time goes by the age again: rows without one stay.
	b.exec(t, "INSERT INTO scan SELECT id + 10000, at, note FROM (SELECT 1 AS id, NULL AS at, 'x' AS note UNION "+
		"ALL SELECT 2, '2020-05-05', 'y')")
	if c := b.plan(t, plan.PlanRequest{Exact: true, Before: b.now.AddDate(-1, 0, 0)}).Counts.V; c.Due != 1 {
		t.Errorf("narrowed: %+v", c)
	}
}

// What a plan says of the data that is due counts what lies out of line, and compressed, in the database.
func TestDueDataCountsWhatLiesOutOfLine(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			text := map[string]string{"sqlite": "text", "postgres": "text", "mariadb": "longtext"}[engine]
			long := map[string]string{"sqlite": "replace(hex(zeroblob(50000)), '00', 'amber-')",
				"postgres": "repeat('amber-', 50000)", "mariadb": "repeat('amber-', 50000)"}[engine]
			h.exec(t, "CREATE TABLE scan (id integer PRIMARY KEY, at timestamp NOT NULL, note "+text+")",
				"CREATE INDEX scan_at ON scan (at)",
				"INSERT INTO scan WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < 60) "+
					"SELECT g, '2020-01-02 00:00:00', "+long+" FROM s")
			b := h.serve(t, nil)
			s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-06-01", "archive") + cellar}
			run, err := b.Catalog.Run(t.Context(), s.start(t, h, b))
			if err != nil {
				t.Fatal(err)
			}
			p, err := b.Catalog.Plan(t.Context(), run.Plan)
			if err != nil {
				t.Fatal(err)
			}
			if got := p.Counts.V.Bytes; got < 60*300_000 || got > 3*60*300_000 {
				t.Errorf("%d bytes are said to be due of %d", got, 60*300_000)
			}
		})
	}
}

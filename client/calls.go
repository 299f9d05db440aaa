// Written by tools/client from the routes of the service. DO NOT EDIT.

package client

import (
	"context"
	"io"
	"net/url"
	"strconv"
)

// SignIn: sign in, with a name and a password, or with a token.
func (c *Client) SignIn(ctx context.Context, in Login) (*Session, error) {
	out := new(Session)
	if err := c.Do(ctx, "POST", "/session", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// SignInWays: how people can sign in here.
func (c *Client) SignInWays(ctx context.Context) (*SignInWays, error) {
	out := new(SignInWays)
	if err := c.Do(ctx, "GET", "/session/ways", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// BeginSingle: go to the identity provider, to sign in there.
func (c *Client) BeginSingle(ctx context.Context, w io.Writer) error {
	return c.Download(ctx, "/session/single", w)
}

// EndSingle: come back from the identity provider.
func (c *Client) EndSingle(ctx context.Context, w io.Writer) error {
	return c.Download(ctx, "/session/single/back", w)
}

// BeginPairing: have a command line signed in by somebody who is signed in to the console: it shows a code, which
// they confirm there.
func (c *Client) BeginPairing(ctx context.Context) (*Pairing, error) {
	out := new(Pairing)
	if err := c.Do(ctx, "POST", "/session/pairing", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Pair: confirm the code that a command line shows: it signs in as you.
func (c *Client) Pair(ctx context.Context, in PairingCode) error {
	return c.Do(ctx, "POST", "/session/pairing/confirmation", in, nil)
}

// TakePairing: the session of a command line whose code was confirmed.
func (c *Client) TakePairing(ctx context.Context, in PairingTaken) (*PairedSession, error) {
	out := new(PairedSession)
	if err := c.Do(ctx, "POST", "/session/pairing/session", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Session: who is signed in.
func (c *Client) Session(ctx context.Context) (*Session, error) {
	out := new(Session)
	if err := c.Do(ctx, "GET", "/session", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// SignOut: sign out.
func (c *Client) SignOut(ctx context.Context) error {
	return c.Do(ctx, "DELETE", "/session", nil, nil)
}

// ChangePassword: change your own password; your other sessions end.
func (c *Client) ChangePassword(ctx context.Context, in NewPassword) error {
	return c.Do(ctx, "POST", "/session/password", in, nil)
}

// OfferSecond: make a second factor; it is yours once you show a code.
func (c *Client) OfferSecond(ctx context.Context, in PasswordAgain) (*SecondFactor, error) {
	out := new(SecondFactor)
	if err := c.Do(ctx, "POST", "/session/second-factor", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// TakeSecond: have a second factor from now on, or none any more.
func (c *Client) TakeSecond(ctx context.Context, in NewSecond) error {
	return c.Do(ctx, "PUT", "/session/second-factor", in, nil)
}

// SessionsQuery is what Sessions can be asked for. What is left empty is not asked for.
type SessionsQuery struct {
	All bool
}

func (q SessionsQuery) text() string {
	v := url.Values{}
	if q.All {
		v.Set("all", "true")
	}
	return queryText(v)
}

// Sessions: your sessions, the newest first; with all=true everybody's, for administrators.
func (c *Client) Sessions(ctx context.Context, q SessionsQuery) (out Items[OpenSession], err error) {
	err = c.Do(ctx, "GET", "/sessions"+q.text(), nil, &out)
	return out, err
}

// EndSession: end a session of yours; anybody's, for administrators.
func (c *Client) EndSession(ctx context.Context, session string) error {
	return c.Do(ctx, "DELETE", "/sessions/"+url.PathEscape(session), nil, nil)
}

// Sources: all sources.
func (c *Client) Sources(ctx context.Context) (out Items[Config], err error) {
	err = c.Do(ctx, "GET", "/sources", nil, &out)
	return out, err
}

// AddSource: add a source.
func (c *Client) AddSource(ctx context.Context, in NewSource) (*Report, error) {
	out := new(Report)
	if err := c.Do(ctx, "POST", "/sources", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// ChangeSource: change how a source is reached; its engine stays, and its address while a run or a restore of it
// works.
func (c *Client) ChangeSource(ctx context.Context, source string, in SourceChange) (*Report, error) {
	out := new(Report)
	if err := c.Do(ctx, "PATCH", "/sources/"+url.PathEscape(source), in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// DeleteSource: forget a source that no rule, run, segment, restore or hold knows.
func (c *Client) DeleteSource(ctx context.Context, source string) (out Items[Config], err error) {
	err = c.Do(ctx, "DELETE", "/sources/"+url.PathEscape(source), nil, &out)
	return out, err
}

// CheckSource: connect to a source and report rights and obstacles.
func (c *Client) CheckSource(ctx context.Context, source string) (*Report, error) {
	out := new(Report)
	if err := c.Do(ctx, "GET", "/sources/"+url.PathEscape(source)+"/check", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Guard: the guard rails of a source.
func (c *Client) Guard(ctx context.Context, source string) (*Guard, error) {
	out := new(Guard)
	if err := c.Do(ctx, "GET", "/sources/"+url.PathEscape(source)+"/guard", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// SetGuard: set the guard rails of a source.
func (c *Client) SetGuard(ctx context.Context, source string, in Guard) (*Guard, error) {
	out := new(Guard)
	if err := c.Do(ctx, "PUT", "/sources/"+url.PathEscape(source)+"/guard", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Tables: the tables of a source.
func (c *Client) Tables(ctx context.Context, source string) (out Items[Table], err error) {
	err = c.Do(ctx, "GET", "/sources/"+url.PathEscape(source)+"/tables", nil, &out)
	return out, err
}

// Table: one table.
func (c *Client) Table(ctx context.Context, source, table string) (*Table, error) {
	out := new(Table)
	if err := c.Do(ctx, "GET",
		"/sources/"+url.PathEscape(source)+"/tables/"+url.PathEscape(table), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Reconcile: what source, stores and catalog tell of a table, side by side.
func (c *Client) Reconcile(ctx context.Context, source, table string) (*Reconciliation, error) {
	out := new(Reconciliation)
	if err := c.Do(ctx, "GET",
		"/sources/"+url.PathEscape(source)+"/tables/"+url.PathEscape(table)+"/reconciliation", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Settle: make them agree again.
func (c *Client) Settle(ctx context.Context, source,
	table string, in NewSettling) (*Reconciliation, error) {
	out := new(Reconciliation)
	if err := c.Do(ctx, "POST",
		"/sources/"+url.PathEscape(source)+"/tables/"+url.PathEscape(table)+"/reconciliation", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// MakePartitions: make the next partitions of a table, or see how.
func (c *Client) MakePartitions(ctx context.Context, source,
	table string, in NewPartitions) (*PartitionsAhead, error) {
	out := new(PartitionsAhead)
	if err := c.Do(ctx, "POST",
		"/sources/"+url.PathEscape(source)+"/tables/"+url.PathEscape(table)+"/partitions", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// ColumnNames: the names that a table's columns have had, as they were told or as the database knows them.
func (c *Client) ColumnNames(ctx context.Context, source, table string) (out Items[FormerName], err error) {
	err = c.Do(ctx, "GET",
		"/sources/"+url.PathEscape(source)+"/tables/"+url.PathEscape(table)+"/names", nil, &out)
	return out, err
}

// TellName: tell what a column was called before.
func (c *Client) TellName(ctx context.Context, source,
	table string, in NewName) (out Items[FormerName], err error) {
	err = c.Do(ctx, "POST",
		"/sources/"+url.PathEscape(source)+"/tables/"+url.PathEscape(table)+"/names", in, &out)
	return out, err
}

// ForgetName: take back what was told of a column's name.
func (c *Client) ForgetName(ctx context.Context, source,
	table string, in NewName) (out Items[FormerName], err error) {
	err = c.Do(ctx, "POST",
		"/sources/"+url.PathEscape(source)+"/tables/"+url.PathEscape(table)+"/names/forget", in, &out)
	return out, err
}

// Stores: all stores.
func (c *Client) Stores(ctx context.Context) (out Items[StoreView], err error) {
	err = c.Do(ctx, "GET", "/stores", nil, &out)
	return out, err
}

// AddStore: add a store.
func (c *Client) AddStore(ctx context.Context, in NewStore) (*StoreKept, error) {
	out := new(StoreKept)
	if err := c.Do(ctx, "POST", "/stores", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// SetStore: change a store's second store, or how it is scrubbed.
func (c *Client) SetStore(ctx context.Context, store string, in StoreChange) (*StoreKept, error) {
	out := new(StoreKept)
	if err := c.Do(ctx, "PATCH", "/stores/"+url.PathEscape(store), in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// CheckStore: write to a store, read it back, list and remove it, and say what the place does with files on its
// own.
func (c *Client) CheckStore(ctx context.Context, store string) (out Items[Habit], err error) {
	err = c.Do(ctx, "POST", "/stores/"+url.PathEscape(store)+"/check", nil, &out)
	return out, err
}

// Sweep: list what interrupted runs left behind in a store, and remove it where that is asked for.
func (c *Client) Sweep(ctx context.Context, store string, in NewSweep) (*Swept, error) {
	out := new(Swept)
	if err := c.Do(ctx, "POST", "/stores/"+url.PathEscape(store)+"/sweep", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Reseal: seal every file of a store with the newest of its keys.
func (c *Client) Reseal(ctx context.Context, store string) (*Resealed, error) {
	out := new(Resealed)
	if err := c.Do(ctx, "POST", "/stores/"+url.PathEscape(store)+"/reseal", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Adopt: bring segments of a store into the catalog that it does not know, and find out anew where the rows of
// those lie that it knows.
func (c *Client) Adopt(ctx context.Context, store string) (*Adopted, error) {
	out := new(Adopted)
	if err := c.Do(ctx, "POST", "/stores/"+url.PathEscape(store)+"/adopt", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// RulesQuery is what Rules can be asked for. What is left empty is not asked for.
type RulesQuery struct {
	Source string
	Table  string
	Text   string
	Limit  int    // of a page; 0: 50; at most 500
	After  string // where the page before ended: its Next
}

func (q RulesQuery) text() string {
	v := url.Values{}
	if q.Source != "" {
		v.Set("source", q.Source)
	}
	if q.Table != "" {
		v.Set("table", q.Table)
	}
	if q.Text != "" {
		v.Set("text", q.Text)
	}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// Rules: rules, in the order of their names.
func (c *Client) Rules(ctx context.Context, q RulesQuery) (out Items[RuleView], err error) {
	err = c.Do(ctx, "GET", "/rules"+q.text(), nil, &out)
	return out, err
}

// ApplyRules: apply a file of rules: all of them or none.
func (c *Client) ApplyRules(ctx context.Context, in RuleFile) (*RuleResult, error) {
	out := new(RuleResult)
	if err := c.Do(ctx, "POST", "/rules", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// CheckRules: check a file of rules and change nothing.
func (c *Client) CheckRules(ctx context.Context, in RuleFile) (*RuleResult, error) {
	out := new(RuleResult)
	if err := c.Do(ctx, "POST", "/rules/check", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// CompareRules: say which rows become due or stop being due if a file of rules were applied.
func (c *Client) CompareRules(ctx context.Context, in RuleFile) (*Comparison, error) {
	out := new(Comparison)
	if err := c.Do(ctx, "POST", "/rules/compare", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// PreviewRule: say what a rule would do while it is being written; nothing is kept.
func (c *Client) PreviewRule(ctx context.Context, in Draft) (*Preview, error) {
	out := new(Preview)
	if err := c.Do(ctx, "POST", "/rules/preview", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Rule: one rule.
func (c *Client) Rule(ctx context.Context, rule string) (*RuleView, error) {
	out := new(RuleView)
	if err := c.Do(ctx, "GET", "/rules/"+url.PathEscape(rule), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Revisions: all revisions of a rule, the newest first.
func (c *Client) Revisions(ctx context.Context, rule string) (out Items[Revision], err error) {
	err = c.Do(ctx, "GET", "/rules/"+url.PathEscape(rule)+"/revisions", nil, &out)
	return out, err
}

// Keeping: whether the runs of a rule take the rows that become due: it keeps up, is behind or falls behind.
func (c *Client) Keeping(ctx context.Context, rule string) (*KeepingUp, error) {
	out := new(KeepingUp)
	if err := c.Do(ctx, "GET", "/rules/"+url.PathEscape(rule)+"/keeping", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// ForecastQuery is what Forecast can be asked for. What is left empty is not asked for.
type ForecastQuery struct {
	Months int
}

func (q ForecastQuery) text() string {
	v := url.Values{}
	if q.Months != 0 {
		v.Set("months", strconv.Itoa(q.Months))
	}
	return queryText(v)
}

// Forecast: what runs of a rule would take in the coming months.
func (c *Client) Forecast(ctx context.Context, rule string,
	q ForecastQuery) (out Items[Forecast], err error) {
	err = c.Do(ctx, "GET", "/rules/"+url.PathEscape(rule)+"/forecast"+q.text(), nil, &out)
	return out, err
}

// Keeps: the named keeps.
func (c *Client) Keeps(ctx context.Context) (out Items[Keep], err error) {
	err = c.Do(ctx, "GET", "/keeps", nil, &out)
	return out, err
}

// CheckFilter: check a filter against the columns of a table.
func (c *Client) CheckFilter(ctx context.Context, in FilterCheck) (*FilterResult, error) {
	out := new(FilterResult)
	if err := c.Do(ctx, "POST", "/filters/check", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// PlansQuery is what Plans can be asked for. What is left empty is not asked for.
type PlansQuery struct {
	Rule  string
	Limit int    // of a page; 0: 50; at most 500
	After string // where the page before ended: its Next
}

func (q PlansQuery) text() string {
	v := url.Values{}
	if q.Rule != "" {
		v.Set("rule", q.Rule)
	}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// Plans: the newest plans.
func (c *Client) Plans(ctx context.Context, q PlansQuery) (out Items[Plan], err error) {
	err = c.Do(ctx, "GET", "/plans"+q.text(), nil, &out)
	return out, err
}

// MakePlan: make a plan of a rule; nothing in the source changes.
func (c *Client) MakePlan(ctx context.Context, in NewPlan) (*Plan, error) {
	out := new(Plan)
	if err := c.Do(ctx, "POST", "/plans", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Counting: how far the counting for a plan is that is being made; closing the request for the plan ends it.
func (c *Client) Counting(ctx context.Context, ticket string) (*Counting, error) {
	out := new(Counting)
	if err := c.Do(ctx, "GET", "/plans/counting/"+url.PathEscape(ticket), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Plan: one plan.
func (c *Client) Plan(ctx context.Context, plan string) (*Plan, error) {
	out := new(Plan)
	if err := c.Do(ctx, "GET", "/plans/"+url.PathEscape(plan), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Sample: some of the rows that a plan would take, read anew.
func (c *Client) Sample(ctx context.Context, plan string) (*Sample, error) {
	out := new(Sample)
	if err := c.Do(ctx, "GET", "/plans/"+url.PathEscape(plan)+"/sample", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// RunsQuery is what Runs can be asked for. What is left empty is not asked for.
type RunsQuery struct {
	Rule   string
	Source string
	Table  string
	State  string
	Limit  int    // of a page; 0: 50; at most 500
	After  string // where the page before ended: its Next
}

func (q RunsQuery) text() string {
	v := url.Values{}
	if q.Rule != "" {
		v.Set("rule", q.Rule)
	}
	if q.Source != "" {
		v.Set("source", q.Source)
	}
	if q.Table != "" {
		v.Set("table", q.Table)
	}
	if q.State != "" {
		v.Set("state", q.State)
	}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// Runs: runs, the newest first.
func (c *Client) Runs(ctx context.Context, q RunsQuery) (out Items[RunView], err error) {
	err = c.Do(ctx, "GET", "/runs"+q.text(), nil, &out)
	return out, err
}

// StartRun: start a run of a plan.
func (c *Client) StartRun(ctx context.Context, in NewRun) (*RunView, error) {
	out := new(RunView)
	if err := c.Do(ctx, "POST", "/runs", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// RunSpansQuery is what RunSpans can be asked for. What is left empty is not asked for.
type RunSpansQuery struct {
	From string
}

func (q RunSpansQuery) text() string {
	v := url.Values{}
	if q.From != "" {
		v.Set("from", q.From)
	}
	return queryText(v)
}

// RunSpans: when runs worked since a moment, or in the last 24 hours, by source and state; those that followed each
// other closely are one.
func (c *Client) RunSpans(ctx context.Context, q RunSpansQuery) (out Items[RunSpan], err error) {
	err = c.Do(ctx, "GET", "/runs/spans"+q.text(), nil, &out)
	return out, err
}

// Run: one run.
func (c *Client) Run(ctx context.Context, run string) (*RunView, error) {
	out := new(RunView)
	if err := c.Do(ctx, "GET", "/runs/"+url.PathEscape(run), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// BatchesQuery is what Batches can be asked for. What is left empty is not asked for.
type BatchesQuery struct {
	Limit int    // of a page; 0: 50; at most 500
	After string // where the page before ended: its Next
}

func (q BatchesQuery) text() string {
	v := url.Values{}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// Batches: the batches of a run, the newest first.
func (c *Client) Batches(ctx context.Context, run string, q BatchesQuery) (out Items[Batch], err error) {
	err = c.Do(ctx, "GET", "/runs/"+url.PathEscape(run)+"/batches"+q.text(), nil, &out)
	return out, err
}

// SlowdownsQuery is what Slowdowns can be asked for. What is left empty is not asked for.
type SlowdownsQuery struct {
	Limit int    // of a page; 0: 50; at most 500
	After string // where the page before ended: its Next
}

func (q SlowdownsQuery) text() string {
	v := url.Values{}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// Slowdowns: when and why a run went slower than its pace or rested, the newest first.
func (c *Client) Slowdowns(ctx context.Context, run string,
	q SlowdownsQuery) (out Items[Slowdown], err error) {
	err = c.Do(ctx, "GET", "/runs/"+url.PathEscape(run)+"/slowdowns"+q.text(), nil, &out)
	return out, err
}

// Course: how a run goes or went, moment after moment: what it took, what others did and felt, and each change of
// its speed with its reason.
func (c *Client) Course(ctx context.Context, run string) (*Course, error) {
	out := new(Course)
	if err := c.Do(ctx, "GET", "/runs/"+url.PathEscape(run)+"/course", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// RunReport: all that is to be told of a run that has ended: by which rule, by whose decision, what it did, what
// has become of the rows, and what the audit log says.
func (c *Client) RunReport(ctx context.Context, run string, w io.Writer) error {
	return c.Download(ctx, "/runs/"+url.PathEscape(run)+"/report", w)
}

// Ledger: the accounting of a run, with the records that it rests on, for whoever wants to check it.
func (c *Client) Ledger(ctx context.Context, run string) (*RunLedger, error) {
	out := new(RunLedger)
	if err := c.Do(ctx, "GET", "/runs/"+url.PathEscape(run)+"/ledger", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// PauseRun: stop a run after its current batch.
func (c *Client) PauseRun(ctx context.Context, run string) (*RunView, error) {
	out := new(RunView)
	if err := c.Do(ctx, "POST", "/runs/"+url.PathEscape(run)+"/pause", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// SetPace: change a run's pace, from its next batch on.
func (c *Client) SetPace(ctx context.Context, run string, in NewPace) (*RunView, error) {
	out := new(RunView)
	if err := c.Do(ctx, "POST", "/runs/"+url.PathEscape(run)+"/pace", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// ResumeRun: go on with a run that is paused, resting or failed.
func (c *Client) ResumeRun(ctx context.Context, run string) (*RunView, error) {
	out := new(RunView)
	if err := c.Do(ctx, "POST", "/runs/"+url.PathEscape(run)+"/resume", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// DeleteCopied: delete the rows of a run that copied them, those that still are what was copied.
func (c *Client) DeleteCopied(ctx context.Context, run string) (*RunView, error) {
	out := new(RunView)
	if err := c.Do(ctx, "POST", "/runs/"+url.PathEscape(run)+"/delete", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// CancelRun: end a run after its current batch.
func (c *Client) CancelRun(ctx context.Context, run string) (*RunView, error) {
	out := new(RunView)
	if err := c.Do(ctx, "POST", "/runs/"+url.PathEscape(run)+"/cancel", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Status: what is running and what was archived.
func (c *Client) Status(ctx context.Context) (*Status, error) {
	out := new(Status)
	if err := c.Do(ctx, "GET", "/status", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// SegmentsQuery is what Segments can be asked for. What is left empty is not asked for.
type SegmentsQuery struct {
	Run        string
	Source     string
	Table      string
	State      string
	Ungoverned bool
	Limit      int    // of a page; 0: 50; at most 500
	After      string // where the page before ended: its Next
}

func (q SegmentsQuery) text() string {
	v := url.Values{}
	if q.Run != "" {
		v.Set("run", q.Run)
	}
	if q.Source != "" {
		v.Set("source", q.Source)
	}
	if q.Table != "" {
		v.Set("table", q.Table)
	}
	if q.State != "" {
		v.Set("state", q.State)
	}
	if q.Ungoverned {
		v.Set("ungoverned", "true")
	}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// Segments: segments, the newest first.
func (c *Client) Segments(ctx context.Context, q SegmentsQuery) (out Items[Segment], err error) {
	err = c.Do(ctx, "GET", "/segments"+q.text(), nil, &out)
	return out, err
}

// ArchivedTablesQuery is what ArchivedTables can be asked for. What is left empty is not asked for.
type ArchivedTablesQuery struct {
	Text  string
	Limit int    // of a page; 0: 50; at most 500
	After string // where the page before ended: its Next
}

func (q ArchivedTablesQuery) text() string {
	v := url.Values{}
	if q.Text != "" {
		v.Set("text", q.Text)
	}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// ArchivedTables: the tables of which rows are archived, in the order of their names.
func (c *Client) ArchivedTables(ctx context.Context, q ArchivedTablesQuery,
) (out Items[ArchivedTable], err error) {
	err = c.Do(ctx, "GET", "/archived"+q.text(), nil, &out)
	return out, err
}

// Segment: one segment.
func (c *Client) Segment(ctx context.Context, segment string) (*SegmentDetail, error) {
	out := new(SegmentDetail)
	if err := c.Do(ctx, "GET", "/segments/"+url.PathEscape(segment), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// VerifySegment: read a segment back from its store and check every row.
func (c *Client) VerifySegment(ctx context.Context, segment string) (*Segment, error) {
	out := new(Segment)
	if err := c.Do(ctx, "POST", "/segments/"+url.PathEscape(segment)+"/verify", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// MoveSegment: move the rows of a segment to another store, or back to that of its records.
func (c *Client) MoveSegment(ctx context.Context, segment string, in NewMove) (*Segment, error) {
	out := new(Segment)
	if err := c.Do(ctx, "POST", "/segments/"+url.PathEscape(segment)+"/move", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// RetrievalsQuery is what Retrievals can be asked for. What is left empty is not asked for.
type RetrievalsQuery struct {
	Limit int    // of a page; 0: 50; at most 500
	After string // where the page before ended: its Next
}

func (q RetrievalsQuery) text() string {
	v := url.Values{}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// Retrievals: retrievals from cold storage, the newest first.
func (c *Client) Retrievals(ctx context.Context, q RetrievalsQuery) (out Items[Retrieval], err error) {
	err = c.Do(ctx, "GET", "/retrievals"+q.text(), nil, &out)
	return out, err
}

// Retrieve: fetch segments from cold storage for some days.
func (c *Client) Retrieve(ctx context.Context, in RetrievalRequest) (out Items[Retrieval], err error) {
	err = c.Do(ctx, "POST", "/retrievals", in, &out)
	return out, err
}

// PreviewRetrieval: what lies in cold storage of what somebody asks for, and what it takes to fetch it.
func (c *Client) PreviewRetrieval(ctx context.Context, in RetrievalRequest) (*Chilled, error) {
	out := new(Chilled)
	if err := c.Do(ctx, "POST", "/retrievals/preview", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// VerificationsQuery is what Verifications can be asked for. What is left empty is not asked for.
type VerificationsQuery struct {
	Limit int    // of a page; 0: 50; at most 500
	After string // where the page before ended: its Next
}

func (q VerificationsQuery) text() string {
	v := url.Values{}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// Verifications: verifications of segments, the newest first.
func (c *Client) Verifications(ctx context.Context, q VerificationsQuery,
) (out Items[Verification], err error) {
	err = c.Do(ctx, "GET", "/verifications"+q.text(), nil, &out)
	return out, err
}

// Verify: read the segments of stores or a table back and check everything: files, rows, records and their chains.
func (c *Client) Verify(ctx context.Context, in VerificationRequest) (*Verification, error) {
	out := new(Verification)
	if err := c.Do(ctx, "POST", "/verifications", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Verification: one verification.
func (c *Client) Verification(ctx context.Context, verification string) (*Verification, error) {
	out := new(Verification)
	if err := c.Do(ctx, "GET", "/verifications/"+url.PathEscape(verification), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// DisposalsQuery is what Disposals can be asked for. What is left empty is not asked for.
type DisposalsQuery struct {
	Limit int    // of a page; 0: 50; at most 500
	After string // where the page before ended: its Next
}

func (q DisposalsQuery) text() string {
	v := url.Values{}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// Disposals: disposals, the newest first.
func (c *Client) Disposals(ctx context.Context, q DisposalsQuery) (out Items[Disposal], err error) {
	err = c.Do(ctx, "GET", "/disposals"+q.text(), nil, &out)
	return out, err
}

// PlanDisposal: find out which segments have been in the archive long enough; nothing is destroyed.
func (c *Client) PlanDisposal(ctx context.Context, in NewDisposal) (*Disposal, error) {
	out := new(Disposal)
	if err := c.Do(ctx, "POST", "/disposals", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// PlanErasure: find out which segments hold rows of a condition, whatever their time in the archive; a disposal of
// kind erasure, and nothing is destroyed.
func (c *Client) PlanErasure(ctx context.Context, in ErasureRequest) (*Disposal, error) {
	out := new(Disposal)
	if err := c.Do(ctx, "POST", "/erasures", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Disposal: one disposal, with the first of its segments.
func (c *Client) Disposal(ctx context.Context, disposal string) (*Disposal, error) {
	out := new(Disposal)
	if err := c.Do(ctx, "GET", "/disposals/"+url.PathEscape(disposal), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// DisposalSegmentsQuery is what DisposalSegments can be asked for. What is left empty is not asked for.
type DisposalSegmentsQuery struct {
	Limit int    // of a page; 0: 50; at most 500
	After string // where the page before ended: its Next
}

func (q DisposalSegmentsQuery) text() string {
	v := url.Values{}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// DisposalSegments: the segments that a disposal is to destroy, the oldest first.
func (c *Client) DisposalSegments(ctx context.Context, disposal string,
	q DisposalSegmentsQuery) (out Items[PlacedItem], err error) {
	err = c.Do(ctx, "GET", "/disposals/"+url.PathEscape(disposal)+"/segments"+q.text(), nil, &out)
	return out, err
}

// DisposalStaysQuery is what DisposalStays can be asked for. What is left empty is not asked for.
type DisposalStaysQuery struct {
	Limit int    // of a page; 0: 50; at most 500
	After string // where the page before ended: its Next
}

func (q DisposalStaysQuery) text() string {
	v := url.Values{}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// DisposalStays: the segments of its table that a disposal leaves, and why, the oldest first.
func (c *Client) DisposalStays(ctx context.Context, disposal string,
	q DisposalStaysQuery) (out Items[PlacedStay], err error) {
	err = c.Do(ctx, "GET", "/disposals/"+url.PathEscape(disposal)+"/stays"+q.text(), nil, &out)
	return out, err
}

// StartDisposal: decide that its segments are destroyed now, and go on with one that stopped.
func (c *Client) StartDisposal(ctx context.Context, disposal string) (*Disposal, error) {
	out := new(Disposal)
	if err := c.Do(ctx, "POST", "/disposals/"+url.PathEscape(disposal)+"/start", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// ApproveDisposal: approve a disposal that waits for it; it is still to be started.
func (c *Client) ApproveDisposal(ctx context.Context, disposal string) (*Disposal, error) {
	out := new(Disposal)
	if err := c.Do(ctx, "POST", "/disposals/"+url.PathEscape(disposal)+"/approve", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// CancelDisposal: decide against it.
func (c *Client) CancelDisposal(ctx context.Context, disposal string) (*Disposal, error) {
	out := new(Disposal)
	if err := c.Do(ctx, "POST", "/disposals/"+url.PathEscape(disposal)+"/cancel", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// CertificateFile: what was destroyed, by which rule and by whose decision.
func (c *Client) CertificateFile(ctx context.Context, disposal string, w io.Writer) error {
	return c.Download(ctx, "/disposals/"+url.PathEscape(disposal)+"/certificate", w)
}

// HoldsQuery is what Holds can be asked for. What is left empty is not asked for.
type HoldsQuery struct {
	All bool
}

func (q HoldsQuery) text() string {
	v := url.Values{}
	if q.All {
		v.Set("all", "true")
	}
	return queryText(v)
}

// Holds: holds, the newest first; with all=true those that were lifted too.
func (c *Client) Holds(ctx context.Context, q HoldsQuery) (out Items[Hold], err error) {
	err = c.Do(ctx, "GET", "/holds"+q.text(), nil, &out)
	return out, err
}

// PlaceHold: place a hold; the answer comes when nothing is being removed any more that it protects.
func (c *Client) PlaceHold(ctx context.Context, in HoldRequest) (*Placed, error) {
	out := new(Placed)
	if err := c.Do(ctx, "POST", "/holds", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Hold: one hold.
func (c *Client) Hold(ctx context.Context, hold string) (*Hold, error) {
	out := new(Hold)
	if err := c.Do(ctx, "GET", "/holds/"+url.PathEscape(hold), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// LiftHold: end a hold.
func (c *Client) LiftHold(ctx context.Context, hold string, in Lift) (*Hold, error) {
	out := new(Hold)
	if err := c.Do(ctx, "POST", "/holds/"+url.PathEscape(hold)+"/lift", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// RestoresQuery is what Restores can be asked for. What is left empty is not asked for.
type RestoresQuery struct {
	Limit int    // of a page; 0: 50; at most 500
	After string // where the page before ended: its Next
}

func (q RestoresQuery) text() string {
	v := url.Values{}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// Restores: restores, the newest first.
func (c *Client) Restores(ctx context.Context, q RestoresQuery) (out Items[Restore], err error) {
	err = c.Do(ctx, "GET", "/restores"+q.text(), nil, &out)
	return out, err
}

// RequestRestore: bring archived rows back.
func (c *Client) RequestRestore(ctx context.Context, in RestoreRequest) (*Restore, error) {
	out := new(Restore)
	if err := c.Do(ctx, "POST", "/restores", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// PreviewRestore: what a restore would do; nothing is changed.
func (c *Client) PreviewRestore(ctx context.Context, in RestoreRequest) (*RestorePreview, error) {
	out := new(RestorePreview)
	if err := c.Do(ctx, "POST", "/restores/preview", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Restore: one restore.
func (c *Client) Restore(ctx context.Context, restore string) (*Restore, error) {
	out := new(Restore)
	if err := c.Do(ctx, "GET", "/restores/"+url.PathEscape(restore), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// KeepRestored: change how long the rows of a restore stay.
func (c *Client) KeepRestored(ctx context.Context, restore string, in NewKeeping) (*Restore, error) {
	out := new(Restore)
	if err := c.Do(ctx, "POST", "/restores/"+url.PathEscape(restore)+"/keep", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// ApproveRestore: approve a restore that waits for it.
func (c *Client) ApproveRestore(ctx context.Context, restore string) (*Restore, error) {
	out := new(Restore)
	if err := c.Do(ctx, "POST", "/restores/"+url.PathEscape(restore)+"/approve", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// RefuseRestore: refuse a restore that waits for an approval.
func (c *Client) RefuseRestore(ctx context.Context, restore string, in NewRefusal) (*Restore, error) {
	out := new(Restore)
	if err := c.Do(ctx, "POST", "/restores/"+url.PathEscape(restore)+"/refuse", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// RestoreFile: the file of a restore.
func (c *Client) RestoreFile(ctx context.Context, restore string, w io.Writer) error {
	return c.Download(ctx, "/restores/"+url.PathEscape(restore)+"/file", w)
}

// ReplacedRows: the rows that a restore replaced, as they were, as newline-delimited JSON.
func (c *Client) ReplacedRows(ctx context.Context, restore string, w io.Writer) error {
	return c.Download(ctx, "/restores/"+url.PathEscape(restore)+"/replaced", w)
}

// Search: search archived rows: the first of them, 100 where no limit is given.
func (c *Client) Search(ctx context.Context, in SearchRequest) (*Found, error) {
	out := new(Found)
	if err := c.Do(ctx, "POST", "/search", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Summarise: count and sum up archived rows, by groups.
func (c *Client) Summarise(ctx context.Context, in SummaryRequest) (*Summary, error) {
	out := new(Summary)
	if err := c.Do(ctx, "POST", "/search/summary", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Schedules: the named schedules.
func (c *Client) Schedules(ctx context.Context) (out Items[SharedSchedule], err error) {
	err = c.Do(ctx, "GET", "/schedules", nil, &out)
	return out, err
}

// SpeakSchedule: what a text means that says when something happens.
func (c *Client) SpeakSchedule(ctx context.Context, in TimesText) (*SpokenTimes, error) {
	out := new(SpokenTimes)
	if err := c.Do(ctx, "POST", "/schedules/speak", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// RuleSchedule: when a rule runs by itself, and with which cutoffs.
func (c *Client) RuleSchedule(ctx context.Context, rule string) (*RuleTimes, error) {
	out := new(RuleTimes)
	if err := c.Do(ctx, "GET", "/rules/"+url.PathEscape(rule)+"/schedule", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// FiringsQuery is what Firings can be asked for. What is left empty is not asked for.
type FiringsQuery struct {
	Rule   string
	Source string
	State  string
	From   string
	To     string
	Limit  int    // of a page; 0: 50; at most 500
	After  string // where the page before ended: its Next
}

func (q FiringsQuery) text() string {
	v := url.Values{}
	if q.Rule != "" {
		v.Set("rule", q.Rule)
	}
	if q.Source != "" {
		v.Set("source", q.Source)
	}
	if q.State != "" {
		v.Set("state", q.State)
	}
	if q.From != "" {
		v.Set("from", q.From)
	}
	if q.To != "" {
		v.Set("to", q.To)
	}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// Firings: moments at which rules ran by themselves, the newest first.
func (c *Client) Firings(ctx context.Context, q FiringsQuery) (out Items[Firing], err error) {
	err = c.Do(ctx, "GET", "/firings"+q.text(), nil, &out)
	return out, err
}

// ComingQuery is what Coming can be asked for. What is left empty is not asked for.
type ComingQuery struct {
	Rule  string
	Until string
}

func (q ComingQuery) text() string {
	v := url.Values{}
	if q.Rule != "" {
		v.Set("rule", q.Rule)
	}
	if q.Until != "" {
		v.Set("until", q.Until)
	}
	return queryText(v)
}

// Coming: the firings that are to come, the soonest first.
func (c *Client) Coming(ctx context.Context, q ComingQuery) (out Items[ComingFiring], err error) {
	err = c.Do(ctx, "GET", "/firings/coming"+q.text(), nil, &out)
	return out, err
}

// Fire: run rules now, whatever their schedules say: one, those of a source, or all.
func (c *Client) Fire(ctx context.Context, in NewFirings) (out Items[Firing], err error) {
	err = c.Do(ctx, "POST", "/firings", in, &out)
	return out, err
}

// OffSchedule: keep a rule from firing for a while.
func (c *Client) OffSchedule(ctx context.Context, rule string,
	in NewOffSchedule) (*OffSchedule, error) {
	out := new(OffSchedule)
	if err := c.Do(ctx, "POST", "/rules/"+url.PathEscape(rule)+"/schedule/off", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// OnSchedule: let a rule fire by its schedule again.
func (c *Client) OnSchedule(ctx context.Context, rule string, in NewReason) (*RuleTimes, error) {
	out := new(RuleTimes)
	if err := c.Do(ctx, "POST", "/rules/"+url.PathEscape(rule)+"/schedule/on", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// SetEnabled: enable a rule, or keep it from running.
func (c *Client) SetEnabled(ctx context.Context, rule string, in NewEnabled) (out Items[Applied], err error) {
	err = c.Do(ctx, "PUT", "/rules/"+url.PathEscape(rule)+"/enabled", in, &out)
	return out, err
}

// Conditions: how what a rule requires stands now.
func (c *Client) Conditions(ctx context.Context, rule string) (out Items[Condition], err error) {
	err = c.Do(ctx, "GET", "/rules/"+url.PathEscape(rule)+"/conditions", nil, &out)
	return out, err
}

// Steps: what was done before and after a run worked, the newest first.
func (c *Client) Steps(ctx context.Context, run string) (out Items[StepRecord], err error) {
	err = c.Do(ctx, "GET", "/runs/"+url.PathEscape(run)+"/steps", nil, &out)
	return out, err
}

// Queue: the runs that work, those that wait, in the order of their turns, and others that have not ended.
func (c *Client) Queue(ctx context.Context) (out Items[QueuedRun], err error) {
	err = c.Do(ctx, "GET", "/queue", nil, &out)
	return out, err
}

// QueueLimits: how many runs and other jobs work at a time.
func (c *Client) QueueLimits(ctx context.Context) (*QueueLimits, error) {
	out := new(QueueLimits)
	if err := c.Do(ctx, "GET", "/queue/limits", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// SetQueueLimits: change how many runs and other jobs work at a time; of kinds of jobs for which 0 is given, as
// many as before.
func (c *Client) SetQueueLimits(ctx context.Context, in QueueLimits) (*QueueLimits, error) {
	out := new(QueueLimits)
	if err := c.Do(ctx, "PUT", "/queue/limits", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// SetPriority: change which of the runs that wait goes first.
func (c *Client) SetPriority(ctx context.Context, run string, in NewPriority) (*RunView, error) {
	out := new(RunView)
	if err := c.Do(ctx, "POST", "/runs/"+url.PathEscape(run)+"/priority", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// FreezesQuery is what Freezes can be asked for. What is left empty is not asked for.
type FreezesQuery struct {
	All bool
}

func (q FreezesQuery) text() string {
	v := url.Values{}
	if q.All {
		v.Set("all", "true")
	}
	return queryText(v)
}

// Freezes: the freezes that stand; with all=true, also those that were lifted.
func (c *Client) Freezes(ctx context.Context, q FreezesQuery) (out Items[Freeze], err error) {
	err = c.Do(ctx, "GET", "/freezes"+q.text(), nil, &out)
	return out, err
}

// Freeze: stop the work on all sources, one, or one table of it.
func (c *Client) Freeze(ctx context.Context, in NewFreeze) (*Freeze, error) {
	out := new(Freeze)
	if err := c.Do(ctx, "POST", "/freezes", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Unfreeze: end a freeze; what it stopped goes on.
func (c *Client) Unfreeze(ctx context.Context, freeze string, in NewReason) (*Freeze, error) {
	out := new(Freeze)
	if err := c.Do(ctx, "POST", "/freezes/"+url.PathEscape(freeze)+"/lift", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Live: that something has changed in the service's records, once a second at the most, as server-sent events named
// changed.
func (c *Client) Live(ctx context.Context, w io.Writer) error {
	return c.Download(ctx, "/events", w)
}

// FindingsQuery is what Findings can be asked for. What is left empty is not asked for.
type FindingsQuery struct {
	All   bool
	Limit int    // of a page; 0: 50; at most 500
	After string // where the page before ended: its Next
}

func (q FindingsQuery) text() string {
	v := url.Values{}
	if q.All {
		v.Set("all", "true")
	}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// Findings: what somebody should look at; with all=true, also what is over.
func (c *Client) Findings(ctx context.Context, q FindingsQuery) (out Items[Finding], err error) {
	err = c.Do(ctx, "GET", "/findings"+q.text(), nil, &out)
	return out, err
}

// Acknowledge: say that somebody knows of a finding.
func (c *Client) Acknowledge(ctx context.Context, finding string,
	in NewAcknowledgement) (*Finding, error) {
	out := new(Finding)
	if err := c.Do(ctx, "POST", "/findings/"+url.PathEscape(finding)+"/acknowledge", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Jobs: the restores, exports, disposals, verifications, moves, second copies and exports of the audit log that
// work or wait, by kind, in the order of their turns.
func (c *Client) Jobs(ctx context.Context) (out Items[QueuedJob], err error) {
	err = c.Do(ctx, "GET", "/queue/jobs", nil, &out)
	return out, err
}

// PauseJob: stop a job until it is resumed.
func (c *Client) PauseJob(ctx context.Context, kind, job string) (out Items[QueuedJob], err error) {
	err = c.Do(ctx, "POST",
		"/queue/jobs/"+url.PathEscape(kind)+"/"+url.PathEscape(job)+"/pause", nil, &out)
	return out, err
}

// ResumeJob: let a paused job go on when its turn comes.
func (c *Client) ResumeJob(ctx context.Context, kind, job string) (out Items[QueuedJob], err error) {
	err = c.Do(ctx, "POST",
		"/queue/jobs/"+url.PathEscape(kind)+"/"+url.PathEscape(job)+"/resume", nil, &out)
	return out, err
}

// CancelJob: end a job; what it has done stays.
func (c *Client) CancelJob(ctx context.Context, kind, job string) (out Items[QueuedJob], err error) {
	err = c.Do(ctx, "POST",
		"/queue/jobs/"+url.PathEscape(kind)+"/"+url.PathEscape(job)+"/cancel", nil, &out)
	return out, err
}

// SetJobPriority: change which of the jobs that wait goes first.
func (c *Client) SetJobPriority(ctx context.Context, kind,
	job string, in NewPriority) (out Items[QueuedJob], err error) {
	err = c.Do(ctx, "POST",
		"/queue/jobs/"+url.PathEscape(kind)+"/"+url.PathEscape(job)+"/priority", in, &out)
	return out, err
}

// BackupCatalog: the catalog as it is at this moment, as an SQLite file.
func (c *Client) BackupCatalog(ctx context.Context, w io.Writer) error {
	return c.Download(ctx, "/catalog/backup", w)
}

// RecordKeeps: how long records of the service's own are kept, by kind; empty: for good.
func (c *Client) RecordKeeps(ctx context.Context) (out map[string]string, err error) {
	err = c.Do(ctx, "GET", "/catalog/keeps", nil, &out)
	return out, err
}

// SetRecordKeeps: change how long records of the service's own are kept.
func (c *Client) SetRecordKeeps(ctx context.Context, in map[string]string,
) (out map[string]string, err error) {
	err = c.Do(ctx, "PATCH", "/catalog/keeps", in, &out)
	return out, err
}

// Notifications: how people and systems are told what happens, and how far that is.
func (c *Client) Notifications(ctx context.Context) (*Notifying, error) {
	out := new(Notifying)
	if err := c.Do(ctx, "GET", "/notifications", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Recipients: who is told what happens.
func (c *Client) Recipients(ctx context.Context) (out Items[Recipient], err error) {
	err = c.Do(ctx, "GET", "/recipients", nil, &out)
	return out, err
}

// Recipient: one recipient.
func (c *Client) Recipient(ctx context.Context, recipient string) (*Recipient, error) {
	out := new(Recipient)
	if err := c.Do(ctx, "GET", "/recipients/"+url.PathEscape(recipient), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// SetRecipient: say who is told what, anew or in place of what was said.
func (c *Client) SetRecipient(ctx context.Context, recipient string,
	in NewRecipient) (*Recipient, error) {
	out := new(Recipient)
	if err := c.Do(ctx, "PUT", "/recipients/"+url.PathEscape(recipient), in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// DeleteRecipient: tell a recipient nothing more.
func (c *Client) DeleteRecipient(ctx context.Context, recipient string) (out Items[Recipient], err error) {
	err = c.Do(ctx, "DELETE", "/recipients/"+url.PathEscape(recipient), nil, &out)
	return out, err
}

// TestRecipient: send a recipient a test.
func (c *Client) TestRecipient(ctx context.Context, recipient string) (*Delivery, error) {
	out := new(Delivery)
	if err := c.Do(ctx, "POST", "/recipients/"+url.PathEscape(recipient)+"/test", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// NewsQuery is what News can be asked for. What is left empty is not asked for.
type NewsQuery struct {
	Since string
	Limit int    // of a page; 0: 50; at most 500
	After string // where the page before ended: its Next
}

func (q NewsQuery) text() string {
	v := url.Values{}
	if q.Since != "" {
		v.Set("since", q.Since)
	}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// News: what happened that somebody may want to know of, the newest first; of since, a number of an item, only came
// later.
func (c *Client) News(ctx context.Context, q NewsQuery) (out Items[News], err error) {
	err = c.Do(ctx, "GET", "/news"+q.text(), nil, &out)
	return out, err
}

// DeliveriesQuery is what Deliveries can be asked for. What is left empty is not asked for.
type DeliveriesQuery struct {
	Recipient string
	State     string
	Limit     int    // of a page; 0: 50; at most 500
	After     string // where the page before ended: its Next
}

func (q DeliveriesQuery) text() string {
	v := url.Values{}
	if q.Recipient != "" {
		v.Set("recipient", q.Recipient)
	}
	if q.State != "" {
		v.Set("state", q.State)
	}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// Deliveries: what was sent to whom and what waits, the newest first.
func (c *Client) Deliveries(ctx context.Context, q DeliveriesQuery) (out Items[Delivery], err error) {
	err = c.Do(ctx, "GET", "/deliveries"+q.text(), nil, &out)
	return out, err
}

// Delivery: one delivery.
func (c *Client) Delivery(ctx context.Context, delivery string) (*Delivery, error) {
	out := new(Delivery)
	if err := c.Do(ctx, "GET", "/deliveries/"+url.PathEscape(delivery), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Resend: try a delivery now, or send one that ended once more.
func (c *Client) Resend(ctx context.Context, delivery string) (*Delivery, error) {
	out := new(Delivery)
	if err := c.Do(ctx, "POST", "/deliveries/"+url.PathEscape(delivery)+"/resend", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// CancelDelivery: end a delivery that waits.
func (c *Client) CancelDelivery(ctx context.Context, delivery string) (*Delivery, error) {
	out := new(Delivery)
	if err := c.Do(ctx, "POST", "/deliveries/"+url.PathEscape(delivery)+"/cancel", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Configuration: how the service was told to run, and where each setting comes from.
func (c *Client) Configuration(ctx context.Context) (out Items[InForce], err error) {
	err = c.Do(ctx, "GET", "/configuration", nil, &out)
	return out, err
}

// Support: what helps to see what the service does, as a zip without secrets and values of rows.
func (c *Client) Support(ctx context.Context, w io.Writer) error {
	return c.Download(ctx, "/support", w)
}

// Doctor: what the service depends on, how that stands, and what to do about it.
func (c *Client) Doctor(ctx context.Context) (out Items[Check], err error) {
	err = c.Do(ctx, "GET", "/doctor", nil, &out)
	return out, err
}

// Declared: how the files of declarations, as they are now, and what is in force differ.
func (c *Client) Declared(ctx context.Context) (*Declared, error) {
	out := new(Declared)
	if err := c.Do(ctx, "GET", "/declared", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// ApplyDeclared: take up what is new or was changed in the files of declarations, and what is named over changes
// that somebody made.
func (c *Client) ApplyDeclared(ctx context.Context, in TakeUp) (*Declared, error) {
	out := new(Declared)
	if err := c.Do(ctx, "POST", "/declared", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// PrintDeclared: all that can be declared as it is in force, as YAML.
func (c *Client) PrintDeclared(ctx context.Context, w io.Writer) error {
	return c.Download(ctx, "/declared/in-force", w)
}

// HistoryQuery is what History can be asked for. What is left empty is not asked for.
type HistoryQuery struct {
	From   string
	To     string
	Source string
	Rule   string
}

func (q HistoryQuery) text() string {
	v := url.Values{}
	if q.From != "" {
		v.Set("from", q.From)
	}
	if q.To != "" {
		v.Set("to", q.To)
	}
	if q.Source != "" {
		v.Set("source", q.Source)
	}
	if q.Rule != "" {
		v.Set("rule", q.Rule)
	}
	return queryText(v)
}

// History: what runs came to by day in UTC, where their time went, and how large stores were; of the last 30 days,
// or from a day (from) to another (to), of a source or a rule.
func (c *Client) History(ctx context.Context, q HistoryQuery) (*History, error) {
	out := new(History)
	if err := c.Do(ctx, "GET", "/history"+q.text(), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Accounts: who may come in, and who might once: persons and services.
func (c *Client) Accounts(ctx context.Context) (out Items[Account], err error) {
	err = c.Do(ctx, "GET", "/accounts", nil, &out)
	return out, err
}

// AddAccount: make an account; its token or first password is told once.
func (c *Client) AddAccount(ctx context.Context, in NewAccount) (*MadeAccount, error) {
	out := new(MadeAccount)
	if err := c.Do(ctx, "POST", "/accounts", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// ChangeAccount: change what an account is and may do; its sessions end where that changes.
func (c *Client) ChangeAccount(ctx context.Context, account string,
	in ChangedAccount) (*Account, error) {
	out := new(Account)
	if err := c.Do(ctx, "PATCH", "/accounts/"+url.PathEscape(account), in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// GivePassword: give a person a new password for one sign-in, and take the second factor away; their sessions end.
func (c *Client) GivePassword(ctx context.Context, account string) (*MadeAccount, error) {
	out := new(MadeAccount)
	if err := c.Do(ctx, "POST", "/accounts/"+url.PathEscape(account)+"/password", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// RevokeAccount: end an account and its sessions, at once and for good.
func (c *Client) RevokeAccount(ctx context.Context, account string, in Lift) (out Items[Account], err error) {
	err = c.Do(ctx, "POST", "/accounts/"+url.PathEscape(account)+"/revoke", in, &out)
	return out, err
}

// AuditLogQuery is what AuditLog can be asked for. What is left empty is not asked for.
type AuditLogQuery struct {
	Actor   string
	Kind    string
	Action  string
	Subject string
	Outcome string
	From    string
	To      string
	Since   string
	Limit   int    // of a page; 0: 50; at most 500
	After   string // where the page before ended: its Next
}

func (q AuditLogQuery) text() string {
	v := url.Values{}
	if q.Actor != "" {
		v.Set("actor", q.Actor)
	}
	if q.Kind != "" {
		v.Set("kind", q.Kind)
	}
	if q.Action != "" {
		v.Set("action", q.Action)
	}
	if q.Subject != "" {
		v.Set("subject", q.Subject)
	}
	if q.Outcome != "" {
		v.Set("outcome", q.Outcome)
	}
	if q.From != "" {
		v.Set("from", q.From)
	}
	if q.To != "" {
		v.Set("to", q.To)
	}
	if q.Since != "" {
		v.Set("since", q.Since)
	}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// AuditLog: the audit log, the newest entries first; those that are meant: by account, kind (the first word of an
// action), action, subject, outcome, time, or all behind an entry (since).
func (c *Client) AuditLog(ctx context.Context, q AuditLogQuery) (out Items[Entry], err error) {
	err = c.Do(ctx, "GET", "/audit"+q.text(), nil, &out)
	return out, err
}

// AuditExport: the entries of the audit log that are meant, the oldest first, as csv, ndjson, xml or pdf.
func (c *Client) AuditExport(ctx context.Context, w io.Writer) error {
	return c.Download(ctx, "/audit/export", w)
}

// AuditEntry: one entry of the audit log.
func (c *Client) AuditEntry(ctx context.Context, entry string) (*Entry, error) {
	out := new(Entry)
	if err := c.Do(ctx, "GET", "/audit/entries/"+url.PathEscape(entry), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// EraseDetail: take away the detail of an entry for good; that it was is recorded, and the chain holds.
func (c *Client) EraseDetail(ctx context.Context, entry string, in NewReason) (*Entry, error) {
	out := new(Entry)
	if err := c.Do(ctx, "POST", "/audit/entries/"+url.PathEscape(entry)+"/erase", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// AuditSegments: where the entries of the audit log lie, and how long they are kept.
func (c *Client) AuditSegments(ctx context.Context) (*AuditKept, error) {
	out := new(AuditKept)
	if err := c.Do(ctx, "GET", "/audit/segments", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// VerifyAudit: check the audit log against itself, and against what stores know of it.
func (c *Client) VerifyAudit(ctx context.Context) (*AuditReport, error) {
	out := new(AuditReport)
	if err := c.Do(ctx, "GET", "/audit/verification", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// MakeAuditExport: have an export of the audit log made in the background: a zip of the entries that there are now,
// and of their details.
func (c *Client) MakeAuditExport(ctx context.Context, in NewAuditExport) (*AuditExport, error) {
	out := new(AuditExport)
	if err := c.Do(ctx, "POST", "/audit/exports", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// AuditExportsQuery is what AuditExports can be asked for. What is left empty is not asked for.
type AuditExportsQuery struct {
	Limit int    // of a page; 0: 50; at most 500
	After string // where the page before ended: its Next
}

func (q AuditExportsQuery) text() string {
	v := url.Values{}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// AuditExports: your exports of the audit log, the newest first; an administrator sees all.
func (c *Client) AuditExports(ctx context.Context, q AuditExportsQuery) (out Items[AuditExport], err error) {
	err = c.Do(ctx, "GET", "/audit/exports"+q.text(), nil, &out)
	return out, err
}

// OneAuditExport: one export of the audit log.
func (c *Client) OneAuditExport(ctx context.Context, export string) (*AuditExport, error) {
	out := new(AuditExport)
	if err := c.Do(ctx, "GET", "/audit/exports/"+url.PathEscape(export), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// DiscardAuditExport: remove the file of an export, or end it.
func (c *Client) DiscardAuditExport(ctx context.Context, export string) error {
	return c.Do(ctx, "DELETE", "/audit/exports/"+url.PathEscape(export), nil, nil)
}

// AuditExportFile: the file of an export, as zip.
func (c *Client) AuditExportFile(ctx context.Context, export string, w io.Writer) error {
	return c.Download(ctx, "/audit/exports/"+url.PathEscape(export)+"/file", w)
}

// MakeAuditSchedule: have exports made again and again, each of the entries since the one before.
func (c *Client) MakeAuditSchedule(ctx context.Context, in NewAuditSchedule) (*AuditSchedule, error) {
	out := new(AuditSchedule)
	if err := c.Do(ctx, "POST", "/audit/schedules", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// AuditSchedules: your schedules of exports; an administrator sees all.
func (c *Client) AuditSchedules(ctx context.Context) (out Items[AuditSchedule], err error) {
	err = c.Do(ctx, "GET", "/audit/schedules", nil, &out)
	return out, err
}

// EndAuditSchedule: end a schedule of exports.
func (c *Client) EndAuditSchedule(ctx context.Context, schedule string) error {
	return c.Do(ctx, "DELETE", "/audit/schedules/"+url.PathEscape(schedule), nil, nil)
}

// ApprovalsQuery is what Approvals can be asked for. What is left empty is not asked for.
type ApprovalsQuery struct {
	State string
	Limit int    // of a page; 0: 50; at most 500
	After string // where the page before ended: its Next
}

func (q ApprovalsQuery) text() string {
	v := url.Values{}
	if q.State != "" {
		v.Set("state", q.State)
	}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return queryText(v)
}

// Approvals: what others have to approve, or have decided on, the newest first; in a state where one is named.
func (c *Client) Approvals(ctx context.Context, q ApprovalsQuery) (out Items[Approval], err error) {
	err = c.Do(ctx, "GET", "/approvals"+q.text(), nil, &out)
	return out, err
}

// Approval: one request.
func (c *Client) Approval(ctx context.Context, approval string) (*Approval, error) {
	out := new(Approval)
	if err := c.Do(ctx, "GET", "/approvals/"+url.PathEscape(approval), nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Approve: approve what is asked for; what was to begin by itself begins with the last approval that it needs.
func (c *Client) Approve(ctx context.Context, approval string, in Decision) (*Approval, error) {
	out := new(Approval)
	if err := c.Do(ctx, "POST", "/approvals/"+url.PathEscape(approval)+"/approve", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Refuse: refuse what is asked for.
func (c *Client) Refuse(ctx context.Context, approval string, in Decision) (*Approval, error) {
	out := new(Approval)
	if err := c.Do(ctx, "POST", "/approvals/"+url.PathEscape(approval)+"/refuse", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Withdraw: take a request of your own back.
func (c *Client) Withdraw(ctx context.Context, approval string, in Decision) (*Approval, error) {
	out := new(Approval)
	if err := c.Do(ctx, "POST", "/approvals/"+url.PathEscape(approval)+"/withdraw", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// ApprovePlan: approve the run of a plan, before or after somebody asks for it.
func (c *Client) ApprovePlan(ctx context.Context, plan string, in Decision) (*Approval, error) {
	out := new(Approval)
	if err := c.Do(ctx, "POST", "/plans/"+url.PathEscape(plan)+"/approve", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Delegations: who decides for somebody else now.
func (c *Client) Delegations(ctx context.Context) (out Items[Delegation], err error) {
	err = c.Do(ctx, "GET", "/delegations", nil, &out)
	return out, err
}

// Delegate: let somebody else decide in your place for a time.
func (c *Client) Delegate(ctx context.Context, in NewDelegation) (*Delegation, error) {
	out := new(Delegation)
	if err := c.Do(ctx, "POST", "/delegations", in, out); err != nil {
		return nil, err
	}
	return out, nil
}

// EndDelegation: end a delegation of yours; anybody's, for administrators.
func (c *Client) EndDelegation(ctx context.Context, delegation string) error {
	return c.Do(ctx, "DELETE", "/delegations/"+url.PathEscape(delegation), nil, nil)
}

// EndRequest: end what a request does that was sent with an id in the header Ambercellar-Request.
func (c *Client) EndRequest(ctx context.Context, request string) error {
	return c.Do(ctx, "DELETE", "/requests/"+url.PathEscape(request), nil, nil)
}

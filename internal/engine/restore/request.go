package restore

import (
	"errors"

	"github.com/dustin/go-humanize/english"

	"context"
	"fmt"
	"slices"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/archive/export"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/approval"
	"ambercellar/internal/core/notify"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/retrieve"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/shelf"
)

// RestoreRequest is what somebody asks for.
type RestoreRequest struct {
	// with Table, for a span of age or a filter; otherwise they follow from the scope
	Source      string        `json:"source,omitempty"`
	Table       string        `json:"table,omitempty"`
	Scope       catalog.Scope `json:"scope"`
	Target      string        `json:"target"`                 // "table", "side" or "file"
	TargetTable string        `json:"target_table,omitempty"` // of side: the table that is made
	// of side: the source that it is made in; empty: the one that the rows came from
	TargetSource string `json:"target_source,omitempty"`
	Format       string `json:"format,omitempty"`
	// of table: "skip" rows whose key is there, "fail" before anything is written, or "replace" them; empty: skip
	Conflicts string      `json:"conflicts,omitempty"`
	Fit       catalog.Fit `json:"fit,omitzero"` // of table: how rows go into a table that was altered since
	// of table: how long the rows stay before they go again, ISO 8601; empty: for good
	For  string `json:"for,omitempty"`
	Note string `json:"note,omitempty"`

	Keys     []string       `json:"keys,omitempty"`     // in place of a filter, of a table whose key has one column
	Priority store.Priority `json:"priority,omitempty"` // of retrievals, where rows are in cold storage; empty: normal
	Days     int            `json:"days,omitempty"`     // that retrieved copies stay; 0: as the store's tariff says
	Pace     string         `json:"pace,omitempty"`     // gentle, careful or unlimited; empty: that of the table's rule
	// who is told when it is ready: a mail address, or a URL that is sent it as JSON
	Tell string `json:"tell,omitempty"`
}

// mostPicked is how many rows can be picked one by one.
const mostPicked = 10_000

// RequestRestore checks a request and keeps it as a restore to carry out.
func (rs *Restorer) Request(ctx context.Context, actor string, q RestoreRequest) (*catalog.Restore, error) {
	r, segments, err := rs.checkRestore(ctx, &q)
	if err != nil {
		return nil, err
	}
	cold, err := rs.coldFor(ctx, r, segments)
	if err != nil {
		return nil, err
	}
	if r.Lasts, r.ExpiresAt, err = lasting(q.For, rs.Now()); err != nil {
		return nil, err
	}
	if q.For != "" {
		if err := rs.canGoAgain(ctx, r); err != nil {
			return nil, err
		}
	}
	r.ID, r.State, r.CreatedAt, r.CreatedBy = ulid.Make().String(), catalog.Restoring, catalog.At(rs.Now()), actor
	if cold != nil {
		r.State, r.Reason = catalog.Retrieving, beingRetrieved(cold)
	}
	var outstanding *refuse.Outstanding
	if _, err := rs.Allow(ctx, NeedOf(r, mostRows(segments))); errors.As(err, &outstanding) {
		r.State, r.Reason = catalog.RestoreAsked, outstanding.Error()+" (`ambercellar restore approve "+r.ID+"`)"
	} else if err != nil {
		return nil, err
	}
	if q.Conflicts == "fail" && cold == nil {
		p, err := rs.PreviewRestore(ctx, q)
		if err != nil {
			return nil, err
		}
		if p.Conflicts > 0 {
			return nil, &refuse.Error{Field: "conflicts",
				Message: fmt.Sprintf("the keys of %d of %d rows are in table %s already", p.Conflicts, p.Rows,
					p.Table), Remedy: "let them be skipped, or restore to a side table"}
		}
	}
	if r.State == catalog.Retrieving {
		if err := rs.retrieveFor(ctx, actor, r, cold); err != nil {
			return nil, err
		}
	}
	return r, rs.Catalog.AddRestore(ctx, r)
}

// mostRows is how many rows the segments of a restore's scope hold: it is of so many at the most.
func mostRows(segments []catalog.Segment) (n int64) {
	for i := range segments {
		n += segments[i].Deleted
	}
	return n
}

// NeedOf says what others may have to approve before a restore is carried out, of so many rows at the most.
func NeedOf(r *catalog.Restore, rows int64) deps.Need {
	order := r.RestoreOrder
	what := order.Target
	if order.Target != catalog.TargetTable {
		what += " " + order.TargetTable + order.Format
	}
	return deps.Need{
		Whats:   []approval.What{approval.Restores},
		Source:  r.Source,
		Table:   r.Table,
		Subject: r.ID,
		Rows:    rows,
		Of:      order,
		Asker:   r.CreatedBy,
		Summary: fmt.Sprintf("archived rows of %s.%s to %s: %s", r.Source, r.Table, what,
			r.Note),
	}
}

func beingRetrieved(cold *shelf.Chilled) string {
	if len(cold.Segments) == 1 {
		return "1 segment is being retrieved from cold storage"
	}
	return fmt.Sprintf("%s being retrieved from cold storage", english.Plural(len(cold.Segments), "segment is",
		"segments are"))
}

// retrieveFor asks for the cold segments of a restore.
func (rs *Restorer) retrieveFor(ctx context.Context, actor string, r *catalog.Restore, cold *shelf.Chilled) error {
	q := retrieve.RetrievalRequest{Priority: r.Scope.V.Priority, Days: r.Scope.V.Days, Note: "restore " + r.ID}
	for _, s := range cold.Segments {
		q.Segments = append(q.Segments, s.Segment)
	}
	_, err := rs.retrieve.Retrieve(ctx, actor, q)
	return err
}

// ApproveRestore decides that a restore which waits for it is carried out, and asks for what it needs from cold
// storage.
func (rs *Restorer) Approve(ctx context.Context, actor, id string) (*catalog.Restore, error) {
	r, err := rs.Catalog.Restore(ctx, id)
	if err != nil {
		return nil, err
	}
	if r.State != catalog.RestoreAsked {
		return nil, fmt.Errorf("restore %s is %s and waits for no decision: %w", id, r.State, catalog.ErrState)
	}
	segments, err := rs.shelf.InScope(ctx, r.Source, r.Table, r.Scope.V)
	if err != nil {
		return nil, err
	}
	cold, err := rs.coldFor(ctx, r, segments)
	if err != nil {
		return nil, err
	}
	to := catalog.Restoring
	if cold != nil {
		to = catalog.Retrieving
		if err := rs.retrieveFor(ctx, actor, r, cold); err != nil {
			return nil, err
		}
	}
	return rs.Catalog.DecideRestore(ctx, actor, id, to, "", catalog.At(rs.Now()))
}

// coldFor sums up the segments that a restore needs and that are in cold storage: of those in its scope the ones that
// may hold rows of it, and those of related rows that went along with theirs. nil where there are none.
func (rs *Restorer) coldFor(ctx context.Context, r *catalog.Restore, segments []catalog.Segment) (*shelf.Chilled,
	error) {
	var need []catalog.Segment
	var columns []shape.Column
	for i := range segments {
		s := &segments[i]
		related, err := rs.relatedSegments(ctx, r, s)
		if err != nil {
			return nil, err
		}
		asleep := slices.DeleteFunc(append(related, *s), func(s catalog.Segment) bool { return !s.Asleep(rs.Now()) })
		if len(asleep) == 0 {
			continue
		}
		if r.Scope.V.Where != "" {
			if columns == nil {
				if columns, err = rs.search.ArchivedColumns(ctx, r.Source, r.Table); err != nil {
					return nil, err
				}
			}
			possibly, err := rs.MayHold(ctx, s, r.Scope.V.Where, columns)
			if err != nil {
				return nil, err
			}
			if !possibly {
				continue
			}
		}
		need = append(need, asleep...)
	}
	return rs.shelf.Chill(ctx, need)
}

// StillCold says what a restore that waits for cold storage is waiting for; nothing where all that it needs can be
// read. An error says that it waits for something that does not come.
func (rs *Restorer) StillCold(ctx context.Context, r *catalog.Restore) (string, error) {
	segments, err := rs.shelf.InScope(ctx, r.Source, r.Table, r.Scope.V)
	if err != nil {
		return "", err
	}
	cold, err := rs.coldFor(ctx, r, segments)
	if err != nil || cold == nil {
		return "", err
	}
	var latest *catalog.Time
	for _, s := range cold.Segments {
		if s.ExpectedAt == nil {
			return "", &refuse.Error{Message: fmt.Sprintf(
				"segment %s is in cold storage, and is not being retrieved any more", s.Segment),
				Remedy: "`ambercellar retrieval list` says why; ask for the restore again"}
		}
		if latest == nil || s.ExpectedAt.After(latest.Time) {
			latest = s.ExpectedAt
		}
	}
	return fmt.Sprintf("%s, expected by %s", beingRetrieved(cold), latest.UTC().Format("2006-01-02 15:04:05 UTC")), nil
}

// MayHold says whether a segment may hold rows of a filter, by its records alone.
func (rs *Restorer) MayHold(ctx context.Context, s *catalog.Segment, where string, columns []shape.Column) (bool,
	error) {
	k, err := rs.shelf.Learnt(ctx, s)
	if err != nil {
		return false, err
	}
	x := &search.Segment{Segment: s, Known: k, Manifest: k.Manifest}
	own, err := rs.shelf.Named(ctx, k.Manifest)
	if err != nil {
		return false, err
	}
	if x.Search.Filter, err = shelf.BindArchived(where, own, columns); err != nil {
		return false, err
	}
	return rs.search.Possibly(ctx, x)
}

// relatedSegments lists the closed segments whose rows went along with those of a segment, where a restore takes them.
func (rs *Restorer) relatedSegments(ctx context.Context, r *catalog.Restore, s *catalog.Segment) ([]catalog.Segment,
	error) {
	if r.Target == catalog.TargetFile {
		return nil, nil
	}
	all, err := rs.Catalog.RunSegments(ctx, s.Run)
	return slices.DeleteFunc(all, func(o catalog.Segment) bool {
		return o.Table == s.Table || o.State != catalog.SegmentClosed || o.Number < s.Number
	}), err
}

// checkRestore checks a request, and lists the segments that it is for, the newest first.
func (rs *Restorer) checkRestore(ctx context.Context, q *RestoreRequest) (*catalog.Restore, []catalog.Segment, error) {
	if err := rs.KeysToFilter(ctx, q); err != nil {
		return nil, nil, err
	}
	if err := checkScope(q); err != nil {
		return nil, nil, err
	}
	segments, _, err := rs.inScopeNow(ctx, q.Source, q.Table, q.Scope)
	if err != nil {
		return nil, nil, err
	}
	if len(segments) == 0 {
		return nil, nil, &refuse.Error{Field: "scope", Message: "the archive holds no closed segment in this scope",
			Remedy: "`ambercellar segment list` shows what it holds; an open segment gives rows once its run has " +
				"closed it"}
	}
	if q.Scope.From != "" || q.Scope.To != "" { // rather than when it is under way
		k, err := rs.shelf.Learnt(ctx, &segments[0])
		if err == nil {
			_, err = span(k.Manifest, q.Scope)
		}
		if err != nil {
			return nil, nil, err
		}
	}
	table := segments[0].Table
	if run, err := rs.Catalog.Run(ctx, segments[0].Run); err == nil && q.Table == "" && q.Scope.Segment == "" &&
		len(q.Scope.Rows) == 0 {
		table = run.Table
	}
	if q.Scope.Where != "" {
		columns, err := rs.search.ArchivedColumns(ctx, q.Source, q.Table)
		if err == nil {
			_, err = shelf.BindArchived(q.Scope.Where, columns, columns)
		}
		if err != nil {
			return nil, nil, err
		}
	}
	r := &catalog.Restore{RestoreOrder: catalog.RestoreOrder{Source: segments[0].Source, Table: table,
		Scope: catalog.JSON[catalog.Scope]{V: q.Scope}, Target: q.Target, Format: q.Format, Note: q.Note,
		TargetSource: q.TargetSource, TargetTable: q.TargetTable, Fit: catalog.JSON[catalog.Fit]{V: q.Fit},
		Conflicts: q.Conflicts, Pace: q.Pace, Tell: q.Tell}}
	if r.Pace == "" {
		if r.Pace, err = rs.paceOf(ctx, r.Source, r.Table); err != nil {
			return nil, nil, err
		}
	}
	switch r.Target {
	case catalog.TargetSide:
		err = rs.checkSide(ctx, r, segments)
	case catalog.TargetTable:
		err = rs.checkFit(ctx, r, segments)
	}
	if err != nil {
		return nil, nil, err
	}
	return r, segments, nil
}

// checkScope checks what can be told of a request alone.
func checkScope(q *RestoreRequest) error {
	kinds := 0
	for _, set := range []bool{q.Scope.Run != "", q.Scope.Segment != "", q.Scope.From != "" || q.Scope.To != "" ||
		q.Scope.Where != "", len(q.Scope.Rows) > 0, q.Scope.All} {
		if set {
			kinds++
		}
	}
	if kinds != 1 {
		return &refuse.Error{Field: "scope",
			Message: "say which rows, by exactly one of these: a run, a segment, single rows, a span of time or a " +
				"filter, or all", Remedy: "give run, segment, rows, or where, from and to, or all"}
	}
	if err := checkTarget(q); err != nil {
		return err
	}
	if q.Priority != "" && !slices.Contains(store.Priorities, q.Priority) {
		return &refuse.Error{Field: "priority", Message: fmt.Sprintf("%q is none of low, normal and high", q.Priority),
			Remedy: "write one of them"}
	}
	if q.Days < 0 || q.Days > 365 {
		return &refuse.Error{Field: "days", Message: fmt.Sprintf("retrieved copies cannot stay for %d days", q.Days),
			Remedy: "write 1 to 365"}
	}
	if _, err := pace.Parse(q.Pace); err != nil {
		return &refuse.Error{Field: "pace", Message: fmt.Sprintf("%q is not a pace", q.Pace),
			Remedy: "write " + pace.Names}
	}
	if err := checkTell(q.Tell); err != nil {
		return err
	}
	q.Scope.Priority, q.Scope.Days = q.Priority, q.Days
	for field, text := range map[string]string{"from": q.Scope.From, "to": q.Scope.To} {
		if _, ok := rule.ParseISO(text); text != "" && !ok {
			return &refuse.Error{Field: field, Message: fmt.Sprintf("%q is not a date or time", text),
				Remedy: "write one like 2024-03-31 or 2024-03-31T12:00:00Z"}
		}
	}
	if len(q.Scope.Rows) > mostPicked {
		return &refuse.Error{Field: "rows", Message: fmt.Sprintf("%d single rows are more than %d", len(q.Scope.Rows),
			mostPicked), Remedy: "choose them by a filter"}
	}
	if q.Scope.Run == "" && q.Scope.Segment == "" && len(q.Scope.Rows) == 0 && (q.Source == "" || q.Table == "") {
		return &refuse.Error{Field: "table", Message: "a span of time or a filter needs a source and a table",
			Remedy: "name both"}
	}
	return nil
}

// checkTarget checks where the rows are to go, and what is done about those that are there already.
func checkTarget(q *RestoreRequest) error {
	if q.Target != catalog.TargetFile {
		q.Format = ""
	}
	switch q.Target {
	case catalog.TargetTable, catalog.TargetSide:
	case catalog.TargetFile:
		if !export.Known(q.Format) {
			return refuse.Format(q.Format)
		}
	default:
		return &refuse.Error{Field: "target", Message: fmt.Sprintf("%q is nothing that rows can be restored to",
			q.Target), Remedy: "write table, side or file"}
	}
	if q.Target != catalog.TargetTable && (len(q.Fit.Rename) > 0 || len(q.Fit.LeaveOut) > 0) {
		return &refuse.Error{Field: "fit",
			Message: "columns can be renamed or left out only on the way back into the table",
			Remedy:  "a side table and a file have the columns as they were then"}
	}
	if q.Target != catalog.TargetSide && (q.TargetTable != "" || q.TargetSource != "") {
		return &refuse.Error{Field: "target_table",
			Message: "a table to be made is named, and the rows are not to go to a side table",
			Remedy:  "write side as the target, or name none"}
	}
	if q.Conflicts == "" {
		q.Conflicts = ConflictsSkip
	}
	if !slices.Contains([]string{ConflictsSkip, ConflictsFail, ConflictsReplace}, q.Conflicts) ||
		q.Conflicts != ConflictsSkip && q.Target != catalog.TargetTable {
		return &refuse.Error{Field: "conflicts",
			Message: fmt.Sprintf("%q is nothing that can be done about rows that are there already", q.Conflicts),
			Remedy:  "write skip, or for the table that the rows came from, fail or replace"}
	}
	if q.Conflicts == ConflictsReplace && q.For != "" {
		return &refuse.Error{Field: "conflicts",
			Message: "rows that take the place of others cannot go again by themselves: nothing would be in their " +
				"place", Remedy: "restore for good, or to a side table"}
	}
	return nil
}

// paceOf is the pace of the rule of a table; gentle where it has none.
func (rs *Restorer) paceOf(ctx context.Context, sourceName, table string) (string, error) {
	rules, err := rs.Catalog.Rules(ctx)
	for _, r := range rules {
		if r.Source == sourceName && r.Table == table && r.Body.V.Pace != "" {
			return string(r.Body.V.Pace), err
		}
	}
	return string(pace.Gentle), err
}

// What becomes of rows whose key is in the table already.
const (
	ConflictsSkip    = "skip"
	ConflictsFail    = "fail"
	ConflictsReplace = "replace"
)

// KeysToFilter makes a filter of the keys that a request names.
func (rs *Restorer) KeysToFilter(ctx context.Context, q *RestoreRequest) error {
	if len(q.Keys) == 0 {
		return nil
	}
	if q.Scope.Where != "" || q.Source == "" || q.Table == "" {
		return &refuse.Error{Field: "keys", Message: "keys are of one table, and stand in place of a filter",
			Remedy: "name source and table, and no filter"}
	}
	h, err := rs.search.HuntNow(ctx, q.Source, q.Table, false)
	if err != nil {
		return err
	}
	t := &shape.Table{TableForm: shape.TableForm{Name: q.Table, Columns: h.Columns, Key: h.Key()}}
	q.Scope.Where, err = refuse.KeysFilter(t, q.Keys)
	q.Keys = nil
	return err
}

// checkTell checks who is to be told.
func checkTell(tell string) error {
	if tell == "" {
		return nil
	}
	if _, err := notify.CheckAddress(tell); err != nil {
		return &refuse.Error{
			Field:   "tell",
			Message: err.Error(),
			Remedy: "write an address like keeper@harbour.example, " +
				"or a URL like https://desk.harbour.example/told",
		}
	}
	return nil
}

// inScopeNow lists the segments that a scope touches: the closed ones, and before them those of a run that goes on
// from which rows have left.
func (rs *Restorer) inScopeNow(ctx context.Context, sourceName, table string, scope catalog.Scope) ([]catalog.Segment,
	*search.Moment, error) {
	if scope.Segment != "" {
		s, err := rs.Catalog.Segment(ctx, scope.Segment)
		if err != nil {
			return nil, nil, err
		}
		sourceName, table = s.Source, s.Table
	}
	if scope.Run != "" {
		r, err := rs.Catalog.Run(ctx, scope.Run)
		if err != nil {
			return nil, nil, err
		}
		if sourceName = r.Source; table == "" {
			table = r.Table
		}
	}
	if table == "" { // single rows, which a search has named
		out, err := rs.shelf.InScope(ctx, sourceName, table, scope)
		return out, nil, err
	}
	m, err := rs.search.ReadMoment(ctx, sourceName, table)
	if err != nil {
		return nil, nil, err
	}
	open, err := rs.search.InFlight(ctx, sourceName, table, m)
	if err != nil {
		return nil, nil, err
	}
	open = slices.DeleteFunc(open, func(s catalog.Segment) bool {
		return scope.Segment != "" && s.ID != scope.Segment || scope.Run != "" && s.Run != scope.Run ||
			!shelf.InSpan(&s, scope)
	})
	if scope.Segment != "" && len(open) > 0 {
		return open, m, nil
	}
	closed, err := rs.shelf.InScope(ctx, sourceName, table, scope)
	open = slices.DeleteFunc(open, func(s catalog.Segment) bool { // one that was closed meanwhile is in both answers
		return slices.ContainsFunc(closed, func(c catalog.Segment) bool { return c.ID == s.ID })
	})
	return append(open, closed...), m, err
}

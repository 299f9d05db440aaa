package engine

import (
	"context"
	"fmt"
	"slices"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
)

// Targets of restores.
const (
	TargetTable = "table" // the one that the rows came from
	TargetSide  = "side"  // a new table, made to fit
	TargetFile  = "file"
)

// RestoreRequest is what somebody asks for.
type RestoreRequest struct {
	Source       string        `json:"source,omitempty"` // with Table, for a span of age or a filter; otherwise they follow from the scope
	Table        string        `json:"table,omitempty"`
	Scope        catalog.Scope `json:"scope"`
	Target       string        `json:"target"`                  // "table", "side" or "file"
	TargetTable  string        `json:"target_table,omitempty"`  // of side: the table that is made
	TargetSource string        `json:"target_source,omitempty"` // of side: the source that it is made in; empty: the one that the rows came from
	Format       string        `json:"format,omitempty"`
	Conflicts    string        `json:"conflicts,omitempty"` // of table: "skip" rows whose key is there, or "fail" before anything is written; empty: skip
	Fit          catalog.Fit   `json:"fit,omitzero"`        // of table: how rows go into a table that was altered since
	For          string        `json:"for,omitempty"`       // of table: how long the rows stay before they go again, ISO 8601; empty: for good
	Note         string        `json:"note,omitempty"`
}

// mostPicked is how many rows can be picked one by one.
const mostPicked = 10_000

// RequestRestore checks a request and keeps it as a restore to carry out.
func (e *Engine) RequestRestore(ctx context.Context, actor string, q RestoreRequest) (*catalog.Restore, error) {
	r, _, err := e.checkRestore(ctx, &q)
	if err != nil {
		return nil, err
	}
	if r.Lasts, r.ExpiresAt, err = lasting(q.For, e.Now()); err != nil {
		return nil, err
	}
	if q.For != "" {
		if err := e.canGoAgain(ctx, r); err != nil {
			return nil, err
		}
	}
	r.ID, r.State, r.CreatedAt, r.CreatedBy = ulid.Make().String(), catalog.Restoring, catalog.At(e.Now()), actor
	if q.Conflicts == "fail" {
		p, err := e.PreviewRestore(ctx, q)
		if err != nil {
			return nil, err
		}
		if p.Conflicts > 0 {
			return nil, &RefusedError{Field: "conflicts", Message: fmt.Sprintf("the keys of %d of %d rows are in table %s already", p.Conflicts, p.Rows, p.Table), Remedy: "let them be skipped, or restore to a side table"}
		}
	}
	return r, e.Catalog.AddRestore(ctx, r)
}

// checkRestore checks a request, and lists the segments that it is for, the newest first.
func (e *Engine) checkRestore(ctx context.Context, q *RestoreRequest) (*catalog.Restore, []catalog.Segment, error) {
	if err := checkScope(q); err != nil {
		return nil, nil, err
	}
	segments, err := e.inScope(ctx, q.Source, q.Table, q.Scope)
	if err != nil {
		return nil, nil, err
	}
	if len(segments) == 0 {
		return nil, nil, &RefusedError{Field: "scope", Message: "the archive holds no closed segment in this scope", Remedy: "`ambercellar segment list` shows what it holds; an open segment gives rows once its run has closed it"}
	}
	table := segments[0].Table
	if run, err := e.Catalog.Run(ctx, segments[0].Run); err == nil && q.Table == "" && q.Scope.Segment == "" && len(q.Scope.Rows) == 0 {
		table = run.Table
	}
	if q.Scope.Where != "" {
		columns, err := e.archivedColumns(ctx, q.Source, q.Table)
		if err == nil {
			_, err = bindArchived(q.Scope.Where, columns, columns)
		}
		if err != nil {
			return nil, nil, err
		}
	}
	r := &catalog.Restore{Source: segments[0].Source, Table: table, Scope: catalog.JSON[catalog.Scope]{V: q.Scope}, Target: q.Target, Format: q.Format, Note: q.Note, TargetSource: q.TargetSource, TargetTable: q.TargetTable, Fit: catalog.JSON[catalog.Fit]{V: q.Fit}}
	switch r.Target {
	case TargetSide:
		err = e.checkSide(ctx, r, segments)
	case TargetTable:
		err = e.checkFit(ctx, r, segments)
	}
	if err != nil {
		return nil, nil, err
	}
	return r, segments, nil
}

// checkScope checks what can be told of a request alone.
func checkScope(q *RestoreRequest) error {
	kinds := 0
	for _, set := range []bool{q.Scope.Run != "", q.Scope.Segment != "", q.Scope.From != "" || q.Scope.To != "" || q.Scope.Where != "", len(q.Scope.Rows) > 0} {
		if set {
			kinds++
		}
	}
	if kinds != 1 {
		return &RefusedError{Field: "scope", Message: "say which rows: exactly one of a run, a segment, single rows, and a span of time or a filter", Remedy: "give run, segment, rows, or where, from and to"}
	}
	if q.Target != TargetFile {
		q.Format = ""
	}
	switch q.Target {
	case TargetTable, TargetSide:
	case TargetFile:
		if q.Format != "csv" && q.Format != "ndjson" && q.Format != "parquet" {
			return &RefusedError{Field: "format", Message: fmt.Sprintf("%q is no format of a restored file", q.Format), Remedy: "write csv, ndjson or parquet"}
		}
	default:
		return &RefusedError{Field: "target", Message: fmt.Sprintf("%q is nothing that rows can be restored to", q.Target), Remedy: "write table, side or file"}
	}
	if q.Target != TargetTable && (len(q.Fit.Rename) > 0 || len(q.Fit.LeaveOut) > 0) {
		return &RefusedError{Field: "fit", Message: "columns can be renamed or left out only on the way back into the table", Remedy: "a side table and a file have the columns as they were then"}
	}
	if q.Target != TargetSide && (q.TargetTable != "" || q.TargetSource != "") {
		return &RefusedError{Field: "target_table", Message: "a table to be made is named, and the rows are not to go to a side table", Remedy: "write side as the target, or name none"}
	}
	if !slices.Contains([]string{"", "skip", "fail"}, q.Conflicts) || q.Conflicts == "fail" && q.Target != TargetTable {
		return &RefusedError{Field: "conflicts", Message: fmt.Sprintf("%q is nothing that can be done about rows that are there already", q.Conflicts), Remedy: "write skip, or for the table that the rows came from, fail"}
	}
	for field, text := range map[string]string{"from": q.Scope.From, "to": q.Scope.To} {
		if _, ok := rule.ParseISO(text); text != "" && !ok {
			return &RefusedError{Field: field, Message: fmt.Sprintf("%q is not a date or time", text), Remedy: "write one like 2024-03-31 or 2024-03-31T12:00:00Z"}
		}
	}
	if len(q.Scope.Rows) > mostPicked {
		return &RefusedError{Field: "rows", Message: fmt.Sprintf("%d single rows are more than %d", len(q.Scope.Rows), mostPicked), Remedy: "choose them by a filter"}
	}
	if q.Scope.Run == "" && q.Scope.Segment == "" && len(q.Scope.Rows) == 0 && (q.Source == "" || q.Table == "") {
		return &RefusedError{Field: "table", Message: "a span of time or a filter needs a source and a table", Remedy: "name both"}
	}
	return nil
}

// inScope lists the closed segments that a scope touches, the newest first, so that of two archived versions of one
// key the newer comes first.
func (e *Engine) inScope(ctx context.Context, sourceName, table string, scope catalog.Scope) ([]catalog.Segment, error) {
	if scope.Segment != "" {
		s, err := e.Catalog.Segment(ctx, scope.Segment)
		if err != nil {
			return nil, err
		}
		if s.State != catalog.SegmentClosed {
			return nil, &RefusedError{Field: "segment", Message: fmt.Sprintf("segment %s is %s; only closed segments give rows", s.ID, s.State), Remedy: "let its run finish, or cancel it"}
		}
		return []catalog.Segment{*s}, nil
	}
	if len(scope.Rows) > 0 {
		return e.segmentsOf(ctx, scope.Rows)
	}
	if scope.Run != "" {
		if _, err := e.Catalog.Run(ctx, scope.Run); err != nil {
			return nil, err
		}
	}
	all, err := e.Catalog.Segments(ctx, catalog.SegmentFilter{Run: scope.Run, Source: sourceName, Table: table, State: string(catalog.SegmentClosed)}, 1_000_000, 0)
	if err != nil {
		return nil, err
	}
	from, _ := rule.ParseISO(scope.From)
	to, hasTo := rule.ParseISO(scope.To)
	var out []catalog.Segment
	for _, s := range all {
		oldest, ok1 := rule.ParseISO(s.Oldest)
		newest, ok2 := rule.ParseISO(s.Newest)
		if ok1 && ok2 && (newest.Before(from) || hasTo && !oldest.Before(to)) {
			continue
		}
		out = append(out, s)
	}
	return out, nil
}

// segmentsOf lists the segments that single rows lie in, the newest first. All are of one table.
func (e *Engine) segmentsOf(ctx context.Context, rows []catalog.RowAt) ([]catalog.Segment, error) {
	var out []catalog.Segment
	for _, r := range rows {
		if slices.ContainsFunc(out, func(s catalog.Segment) bool { return s.ID == r.Segment }) {
			continue
		}
		one, err := e.inScope(ctx, "", "", catalog.Scope{Segment: r.Segment})
		if err != nil {
			return nil, err
		}
		if len(out) > 0 && (one[0].Source != out[0].Source || one[0].Table != out[0].Table) {
			return nil, &RefusedError{Field: "rows", Message: fmt.Sprintf("they are of several tables: %s.%s and %s.%s", out[0].Source, out[0].Table, one[0].Source, one[0].Table), Remedy: "restore those of each table on their own"}
		}
		out = append(out, one[0])
	}
	slices.SortFunc(out, func(a, b catalog.Segment) int { return b.CreatedAt.Compare(a.CreatedAt.Time) })
	return out, nil
}

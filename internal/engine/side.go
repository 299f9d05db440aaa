package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// checkSide checks that a side table can be made, and gives it a name where it has none.
func (e *Engine) checkSide(ctx context.Context, r *catalog.Restore, segments []catalog.Segment) error {
	if r.TargetSource == "" {
		r.TargetSource = r.Source
	}
	target, err := e.Catalog.Source(ctx, r.TargetSource)
	if errors.Is(err, catalog.ErrNotFound) {
		return &RefusedError{Field: "target_source", Message: fmt.Sprintf("there is no source %s", r.TargetSource), Remedy: "`ambercellar source list` shows which there are"}
	} else if err != nil {
		return err
	}
	st, err := e.Store(ctx, segments[0].Store)
	if err != nil {
		return err
	}
	m, _, err := archive.LoadManifest(ctx, st, segments[0].Stem)
	if err != nil {
		return err
	}
	if m.Engine != target.Engine {
		return &RefusedError{Field: "target_source", Message: fmt.Sprintf("the rows come from %s and source %s is %s: their values would not be the same there bit by bit", m.Engine, r.TargetSource, target.Engine), Remedy: "restore to a file, or to a source of the same kind"}
	}
	if r.TargetTable == "" {
		base := r.Table[strings.LastIndex(r.Table, ".")+1:]
		r.TargetTable = base + "_restored_" + e.Now().UTC().Format("20060102_150405")
	}
	if len(r.TargetTable) > 60 || strings.ContainsAny(r.TargetTable, "\x00\"`") {
		return &RefusedError{Field: "target_table", Message: fmt.Sprintf("%q is no name for a table", r.TargetTable), Remedy: "give one of up to 60 characters, without quotes"}
	}
	src, err := e.Source(ctx, r.TargetSource)
	if err != nil {
		return err
	}
	if _, err := src.Table(ctx, r.TargetTable); err == nil {
		return &RefusedError{Field: "target_table", Message: fmt.Sprintf("source %s has a table %s already", r.TargetSource, r.TargetTable), Remedy: "give another name; a side table is always a new one"}
	} else if !errors.Is(err, source.ErrNoTable) {
		return err
	}
	return nil
}

// makeSide makes the side table for the rows of a segment's table, with columns and key as they were then, and returns its
// name. That of related rows is named after the first and their own.
func (q *restoration) makeSide(ctx context.Context, src source.Source, m *archive.Manifest) (string, error) {
	name := q.restore.TargetTable
	if m.Table != q.restore.Table {
		name += "_" + m.Table[strings.LastIndex(m.Table, ".")+1:]
	}
	if q.again {
		if _, err := src.Table(ctx, name); err == nil { // by an earlier try
			return name, nil
		}
	}
	columns := make([]shape.Column, 0, len(m.Columns))
	for _, c := range m.Columns[:len(m.Columns)-len(m.Included)] {
		columns = append(columns, c)
	}
	if err := src.MakeTable(ctx, name, columns, m.Key); err != nil {
		return "", &RefusedError{Message: fmt.Sprintf("the side table %s cannot be made: %v", name, err), Remedy: "give the service's user the right to make tables there, or restore to a file"}
	}
	return name, nil
}

package restore

import (
	"context"
	"fmt"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// room refuses a restore for whose rows the target has no room, as far as both can be told: of parts of segments it is
// not known beforehand how much they take.
func (q *restoration) room(ctx context.Context, segments []catalog.Segment) error {
	if q.again || !allRows(q.restore.Scope.V) {
		return nil
	}
	var need int64
	for i := range segments {
		if q.restore.Target == catalog.TargetFile && q.restore.Format == "parquet" {
			need += segments[i].FileBytes
		} else {
			need += segments[i].RawBytes
		}
	}
	signals, where := map[string]float64{}, "the service's disk"
	if q.restore.Target == catalog.TargetFile {
		source.DiskSignal(q.directory, signals)
	} else {
		name := q.restore.Source
		if q.restore.TargetSource != "" {
			name = q.restore.TargetSource
		}
		where = "the disk of source " + name
		src, err := q.Source(ctx, name)
		if err != nil {
			return err
		}
		t, err := src.Table(ctx, q.restore.Table)
		if err != nil { // a side table may be made where that one is not
			return nil
		}
		if signals, err = src.Signals(ctx, t); err != nil {
			return err
		}
	}
	if free, known := signals[pace.Disk]; known && float64(need) > free {
		return &refuse.Error{Field: "target", Message: fmt.Sprintf("%s has %s free, and the rows take about %s", where,
			pace.Bytes.Spoken(free), pace.Bytes.Spoken(float64(need))),
			Remedy: "make room there, or restore fewer rows at a time"}
	}
	return nil
}

package archive

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/value"
)

// examined is a segment whose files are examined at a place.
type examined struct {
	*examiner
	*kept
	rows Place // where its rows lie
	good bool  // nothing was found to be wrong, and all of it was read
}

// segment examines one segment's files at a place.
func (x *examiner) segment(ctx context.Context, s *kept) error {
	e := &examined{examiner: x, kept: s, rows: x.rowsOf(s), good: true}
	if s.disposal != nil {
		return e.gone(ctx)
	}
	var left []int // ordinals that stayed in the table
	switch {
	case s.unread:
	case s.closing == nil:
		e.find(false, FindOpen, s.manifest.ClosingName(),
			"the segment has no closing record yet: its rows are being deleted, or wait for that, and none is "+
				"given out")
	default:
		left = s.closing.LeftOut()
	}
	beyond, leftSet, intact, err := e.readRows(ctx, left)
	if err != nil {
		return err
	}
	if err := e.side(ctx); err != nil {
		return err
	}
	if s.closing != nil {
		if err := s.closing.Balance(s.manifest, beyond, leftSet, intact && s.manifest.AsRead == nil); err != nil {
			e.find(true, FindBooks, s.manifest.ClosingName(), err.Error())
		}
	}
	if e.good && x.Good != nil {
		x.Good(s.place.Name, s.manifest)
	}
	return nil
}

// find reports a finding.
func (e *examined) find(wrong bool, kind, file, message string) {
	e.good = e.good && !wrong && kind != FindCold
	where := e.place.Name
	if strings.HasSuffix(file, rowsEnding) {
		where = e.rows.Name
	}
	m := e.manifest
	e.examiner.find(Remark{Wrong: wrong, Kind: kind, Store: where, Table: m.Source + "." + m.Table,
		Segment: m.Segment, File: file, Message: message})
}

// judge tells a damaged file from one that is missing or was swapped; it returns an error only where the place does
// not answer.
func (e *examined) judge(ctx context.Context, file string, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrNotExist):
		e.find(true, FindMissing, file, "the file is not there")
		return nil
	case errors.Is(err, store.ErrCold):
		e.find(false, FindCold, file, "these rows are in cold storage and were not read; they can be once they "+
			"were retrieved")
		return nil
	case !errors.Is(err, ErrDamaged):
		return err
	}
	sum, reading := FileSum(ctx, e.rows.Store, file)
	if reading != nil {
		return reading
	}
	e.good = false
	m := e.manifest
	e.doubts = append(e.doubts, doubt{Remark{Wrong: true, Kind: FindDamaged, Store: e.rows.Name,
		Table: m.Source + "." + m.Table, Segment: m.Segment, File: file,
		Message: strings.TrimPrefix(err.Error(), fmt.Sprintf("segment %s (%s): ", m.Segment, file))}, sum})
	return nil
}

// gone makes sure that nothing is left of a segment that was disposed of.
func (e *examined) gone(ctx context.Context) error {
	for _, file := range []string{e.manifest.RowsName(), e.manifest.RangeName()} {
		f, err := WithRows(e.place.Store, e.rows.Store).Open(ctx, file)
		switch {
		case err == nil || errors.Is(err, store.ErrCold):
			if f != nil {
				f.Close()
			}
			e.find(true, FindExtra, file, "the segment was disposed of on "+e.disposal.At.Format("2006-01-02")+
				", and this file of it is still there")
		case !errors.Is(err, fs.ErrNotExist):
			return err
		}
	}
	return nil
}

// readRows reads the segment's rows and those beside it. It returns which of the ordinals the segment does not have,
// the digest of the rows at the others, and whether all rows are what was written.
func (e *examined) readRows(ctx context.Context, left []int) (beyond []int, leftSet value.Set, intact bool,
	err error) {
	m, ordinal := e.manifest, 0
	paced := WithRows(e.place.Store, e.rows.Store)
	if e.Paused != nil {
		paced = Paced(paced, e.Paused)
	}
	before := e.out.Bytes
	reading := Verify(ctx, paced, m, func(c *value.Chunk, digests []value.Digest) error {
		for _, d := range digests {
			if len(left) > 0 && left[0] == ordinal {
				leftSet.Add(d)
				left = left[1:]
			}
			ordinal++
		}
		e.out.Bytes = before + m.FileBytes*int64(ordinal)/max(m.Rows, 1)
		e.step()
		return ctx.Err()
	})
	e.out.Rows += int64(ordinal)
	e.out.Bytes = before + m.FileBytes
	if ctx.Err() != nil {
		return nil, leftSet, false, ctx.Err()
	}
	if err := e.judge(ctx, m.RowsName(), reading); err != nil {
		return nil, leftSet, false, err
	}
	for i := range m.Beside {
		b := &m.Beside[i]
		if err := e.judge(ctx, m.BesideName(b.Join), verifyBeside(ctx, paced, m, b, nil)); err != nil {
			return nil, leftSet, false, err
		}
	}
	return left, leftSet, reading == nil, nil
}

// side compares the side file with the manifest.
func (e *examined) side(ctx context.Context) error {
	m := e.manifest
	switch sum, err := FileSum(ctx, e.place.Store, m.RangeName()); {
	case errors.Is(err, fs.ErrNotExist):
		e.find(false, FindMissing, m.RangeName(),
			"the side file with the range of ages and keys is not there; searches read more without it")
	case err != nil && !errors.Is(err, ErrDamaged):
		return err
	case err != nil || sum != m.Range && !Remade(ctx, e.place.Store, m):
		e.find(true, FindDamaged, m.RangeName(), fmt.Sprintf("the side file has the SHA-256 %.12s instead of %.12s",
			sum, m.Range))
	}
	return nil
}

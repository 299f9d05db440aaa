package bykey

import (
	"database/sql/driver"
	"errors"
	"io"

	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// Decode makes a value of what a driver gave for the i-th column of a query. keep copies bytes that are to stay.
type Decode func(v driver.Value, i int, keep func([]byte) []byte) (value.Value, error)

// Sizes of a chunk that is handed on.
const chunkRows, chunkBytes = 1024, 1 << 20

// ErrFull ends the reading of a slice that has as many bytes as it may.
var ErrFull = errors.New("full")

// Slicer gathers the rows of a slice: first the values of its columns, then age and key.
type Slicer struct {
	request source.SliceRequest
	decode  Decode
	sink    func(*value.Chunk) error
	out     source.Slice
	keys    *Locators
	chunk   value.Chunk
	arena   value.Chunk         // of keys, which stay
	keep    func([]byte) []byte // what chunk and arena keep: made once, and not for each value
	keepKey func([]byte) []byte
	last    []value.Value
	bytes   int64
	rows    int
}

// NewSlicer begins a slice. sink hears of its rows, each chunk valid only during the call.
func NewSlicer(req source.SliceRequest, decode Decode, sink func(*value.Chunk) error) *Slicer {
	s := &Slicer{request: req, decode: decode, sink: sink, keys: NewLocators(req.Table)}
	s.chunk.Width, s.out.Locators = len(req.Columns)+len(req.Include), s.keys
	s.keep, s.keepKey = s.chunk.Keep, s.arena.Keep
	return s
}

// Row takes the next row; ErrFull: no more are wanted.
func (s *Slicer) Row(row []driver.Value) error {
	before := s.chunk.Size()
	for i, v := range row[:s.chunk.Width] {
		x, err := s.decode(v, i, s.keep)
		if err != nil {
			return err
		}
		s.chunk.Values = append(s.chunk.Values, x)
	}
	s.last = s.last[:0]
	for i, v := range row[s.chunk.Width:] {
		x, err := s.decode(v, s.chunk.Width+i, s.keepKey)
		if err != nil {
			return err
		}
		if s.last = append(s.last, x); i > 0 {
			s.keys.Add(x)
		}
	}
	if s.rows++; s.rows == 1 {
		s.out.First = value.CloneRow(s.last)
	}
	s.bytes += int64(s.chunk.Size()-before) + int64(8*s.chunk.Width)
	if s.chunk.Rows() >= chunkRows || s.chunk.Size() >= chunkBytes {
		if err := s.flush(); err != nil {
			return err
		}
	}
	if s.bytes >= s.request.MaxBytes {
		return ErrFull
	}
	return nil
}

func (s *Slicer) flush() error {
	if s.chunk.Rows() == 0 {
		return nil
	}
	defer s.chunk.Reset()
	return s.sink(&s.chunk)
}

// Rows returns how many rows there are so far.
func (s *Slicer) Rows() int { return s.rows }

// Position returns age and key of the newest row, from which another query goes on.
func (s *Slicer) Position() []value.Value { return value.CloneRow(s.last) }

// End hands on what is left, and returns the slice. full says that reading ended by ErrFull.
func (s *Slicer) End(full bool) (*source.Slice, error) {
	if err := s.flush(); err != nil {
		return nil, err
	}
	if s.out.More = full || s.rows >= s.request.MaxRows; s.rows > 0 {
		s.out.Last = value.CloneRow(s.last)
		s.out.Next = s.out.Last
	}
	return &s.out, nil
}

// EachRow goes through the rows of a driver, each valid only during the call, and closes them.
func EachRow(rows driver.Rows, fn func([]driver.Value) error) error {
	defer rows.Close()
	dest := make([]driver.Value, len(rows.Columns()))
	for {
		if err := rows.Next(dest); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
		if err := fn(dest); err != nil {
			return err
		}
	}
}

// Named are arguments as drivers take them.
func Named(args []any) []driver.NamedValue {
	named := make([]driver.NamedValue, len(args))
	for i, a := range args {
		named[i] = driver.NamedValue{Ordinal: i + 1, Value: a}
	}
	return named
}

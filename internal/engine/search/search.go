package search

import (
	"github.com/dustin/go-humanize/english"

	"bufio"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/semaphore"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/export"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/shelf"
)

// SearchRequest asks for archived rows of a table.
type SearchRequest struct {
	Source  string   `json:"source"`
	Table   string   `json:"table"`
	Where   string   `json:"where,omitempty"`   // in the language of rules; empty: every row
	Columns []string `json:"columns,omitempty"` // to be shown; empty: all
	Limit   int      `json:"limit,omitempty"`   // rows at the most; 0: all
	// rows of the table itself too, before those of the archive; needs a limit
	Live   bool `json:"live,omitempty"`
	Whole  bool // of the table too, without a limit
	keyed  bool // hits have their keys
	any    bool // whichever column is shown, nobody asked for it
	Wide   bool // all segments are looked at, whatever the catalog knows of their keys
	AtOnce bool // the records of all segments are in memory, however many there are
}

// Hit is a row that was searched for.
type Hit struct {
	Segment string // empty: it is in the table
	Ordinal int
	Row     []value.Value
	Key     []value.Value // of a row of the archive, where the search needs it
}

// How many bytes of rows the answer to a limited search may have, and how many are in memory of each segment that is
// searched.
const MostFound, mostWaiting = 32 << 20, 4 << 20

// size is how much memory a row takes.
func (h *Hit) size() (n int64) {
	for _, v := range h.Row {
		n += int64(len(v.B)) + 32
	}
	return n
}

// Searched is how much was searched. Rows are those whose content was looked at, Bytes what was read of the stores.
type Searched struct {
	Segments int   `json:"segments"`
	Passed   int   `json:"passed"` // segments passed over by what their footers tell
	Rows     int64 `json:"rows"`
	Bytes    int64 `json:"bytes"`
	Found    int64 `json:"found"`
	Live     int64 `json:"live"` // of those found, rows of the table itself

	// segments in cold storage that may hold such rows and were not searched; null: none
	Cold *shelf.Chilled `json:"cold"`
	More bool           `json:"more"` // the limit was reached; there may be more

	Superseded int64 `json:"superseded"` // rows that were passed over, since a newer version of them is archived

	Lacking []Lacking `json:"lacking,omitempty"` // columns that it asks for and that some of the segments do not have

	Large bool `json:"large,omitempty"` // there are more, and these are as many bytes as an answer may have

	// what a run that goes on may have archived, and the source does not tell; empty: nothing
	Untold string `json:"untold,omitempty"`
}

// Incomplete says why the answer may lack rows that were asked for; empty: it has all of them.
func (s *Searched) Incomplete() string {
	var why []string
	if s.Cold != nil && len(s.Cold.Segments) > 0 {
		n := len(s.Cold.Segments)
		why = append(why, fmt.Sprintf("%s in cold storage may hold such rows and %s not searched",
			english.Plural(n, "segment", ""), english.PluralWord(n, "was", "were")))
	}
	if s.Untold != "" {
		why = append(why, s.Untold)
	}
	return strings.Join(why, "; ")
}

// searched is a segment that is searched.
type Segment struct {
	Segment  *catalog.Segment
	Known    *shelf.Learnt
	Manifest *archive.Manifest
	own      []shape.Column // the manifest's, under the names that they have now
	left     []int          // ordinals that stayed in the table
	Search   archive.Search
	key      []int // positions of the key
	show     []int // positions of the shown columns; behind the segment's own where it has no such column
	hits     chan Hit
	room     *semaphore.Weighted // for what is handed on and not taken yet
	done     chan struct{}
	scanned  archive.Scanned
	err      error
}

// searchAhead is how many segments are searched at a time.
const searchAhead = 3

// Search hands on the archived rows of a table for which a filter is true, segment by segment in the order in which
// they were archived. Only rows that left the table count. A row from before a column was added has NULL there. head
// hears of the columns first.
func (se *Searcher) Search(ctx context.Context, q SearchRequest, head func([]shape.Column) error,
	hit func(Hit) error) (*Searched, error) {
	se.shelf.Reading.RLock()
	defer se.shelf.Reading.RUnlock()
	m, err := se.ReadMoment(ctx, q.Source, q.Table)
	if err != nil {
		return nil, err
	}
	h, err := se.Hunt(ctx, q, m)
	if err != nil {
		return nil, err
	}
	columns := h.Columns
	var live *shape.Table
	if q.Live {
		if live, columns, err = se.searchedLive(ctx, q, columns); err != nil {
			return nil, err
		}
	}
	show, err := shown(q, columns)
	if err != nil {
		return nil, err
	}
	out := &Searched{}
	begin := func() error {
		if err := h.bind(columns, show); err != nil {
			return err
		}
		if out.Lacking, err = h.lacking(ctx); err != nil {
			return err
		}
		out.Segments, out.Passed = h.Segments, h.passed
		return head(show)
	}
	if live == nil {
		out.Untold, err = se.untold(ctx, q, m)
		if err == nil {
			err = begin()
		}
	} else {
		x := &liveSearch{q: q, table: live, columns: columns, show: show, out: out, hit: hit}
		err = se.searchLive(ctx, x, func(at *Moment) (err error) {
			// what has left is told at the moment at which the table is read
			if h, err = se.Hunt(ctx, q, at); err != nil {
				return err
			}
			return begin()
		})
	}
	if err != nil || out.More {
		return out, err
	}
	return out, se.searchArchive(ctx, h, &taking{q: q, out: out, hit: hit}, columns, show)
}

// shown are the columns that are asked for by name; all of them where none is.
func shown(q SearchRequest, columns []shape.Column) ([]shape.Column, error) {
	if len(q.Columns) == 0 {
		return columns, nil
	}
	var show []shape.Column
	for _, name := range q.Columns {
		i := slices.IndexFunc(columns, func(c shape.Column) bool { return c.Name == name })
		if i < 0 {
			return nil, &refuse.Error{Field: "columns",
				Message: fmt.Sprintf("no archived row of %s has a column %q", q.Table, name),
				Remedy:  "its columns are " + strings.Join(shape.Names(columns), ", ")}
		}
		show = append(show, columns[i])
	}
	return show, nil
}

// searchArchive searches the segments, the oldest first, until there are as many rows as are asked for.
func (se *Searcher) searchArchive(ctx context.Context, h *Hunt, t *taking, columns, show []shape.Column) (err error) {
	q, out := t.q, t.out
	if q.Limit <= 0 { // known beforehand where all rows are wanted
		if t.passed, err = h.Superseded(ctx, nil); err != nil {
			return err
		}
	}
	var cold []catalog.Segment
	for list, err := range h.Parts(ctx) {
		if err != nil {
			return err
		}
		if h.long != nil { // few are bound already
			for _, x := range list {
				if err := x.Bind(q, columns, show); err != nil {
					return err
				}
			}
		}
		asleep := 0
		if list, asleep, cold, err = se.Awake(ctx, list, cold); err != nil {
			return err
		}
		out.Passed += asleep
		if err := se.searchPart(ctx, list, t); err != nil {
			return err
		}
		if out.More {
			break
		}
	}
	if out.Cold, err = se.shelf.Chill(ctx, cold); err != nil {
		return err
	}
	old, err := h.Older(ctx, t.kept)
	if err != nil {
		return err
	}
	for i, x := range t.kept {
		if old[i] {
			out.Superseded++
			continue
		}
		out.Found++
		if err := t.hit(x); err != nil {
			return err
		}
	}
	return nil
}

// taking takes what a search finds.
type taking struct {
	q      SearchRequest
	out    *Searched
	hit    func(Hit) error
	passed *SupersededRows // nil: a limit bounds the rows, which are kept to be compared with newer segments
	kept   []Hit
	bytes  int64
}

func (t *taking) take(h Hit) error {
	n := h.size()
	if t.bytes += n; t.passed == nil && t.bytes > MostFound && len(t.kept) > 0 {
		t.out.More, t.out.Large = true, true
		return nil
	}
	switch {
	case t.passed == nil && t.out.Found+int64(len(t.kept)) >= int64(t.q.Limit):
		t.out.More = true
	case t.passed == nil:
		t.kept = append(t.kept, h)
	case t.passed.Has(h.Segment, h.Ordinal):
		t.out.Superseded++
	default:
		t.out.Found++
		return t.hit(h)
	}
	return nil
}

// searchPart searches segments, a few at a time, and takes their rows in order, until there are enough.
func (se *Searcher) searchPart(ctx context.Context, list []*Segment, t *taking) error {
	ctx, cancel := context.WithCancel(ctx)
	// besides the one that is taken, and the one that waits to be put there
	begun := make(chan *Segment, searchAhead-2)
	go func() {
		defer close(begun)
		for _, x := range list {
			if ctx.Err() != nil {
				return
			}
			x.hits, x.room, x.done = make(chan Hit, 64), semaphore.NewWeighted(mostWaiting), make(chan struct{})
			go se.scan(ctx, x)
			begun <- x
		}
	}()
	defer func() { // nothing is read of a store any more when the answer is there
		cancel()
		for x := range begun {
			<-x.done
			t.out.add(x)
		}
	}()
	for x := range begun {
		err := x.handOn(t)
		cancelled := t.out.More || err != nil
		if cancelled {
			cancel()
		}
		<-x.done
		t.out.add(x)
		if cancelled {
			return err
		}
		if x.err != nil {
			return x.err
		}
	}
	return nil
}

// handOn has the rows of a segment taken, until there are enough.
func (x *Segment) handOn(t *taking) error {
	for h := range x.hits {
		x.room.Release(min(h.size(), mostWaiting))
		if err := t.take(h); err != nil || t.out.More {
			return err
		}
	}
	return nil
}

// add counts what was read of a segment.
func (s *Searched) add(x *Segment) {
	s.Rows += x.scanned.Rows
	s.Bytes += x.scanned.Bytes
	if x.err == nil && x.scanned.Passed == x.scanned.Groups {
		s.Passed++
	}
}

// Awake leaves out the segments whose rows are in cold storage. Those that may hold rows that are searched for are
// added to cold; passed is how many cannot.
func (se *Searcher) Awake(ctx context.Context, list []*Segment, cold []catalog.Segment) (can []*Segment, passed int,
	_ []catalog.Segment, err error) {
	for _, x := range list {
		if !x.Segment.Asleep(se.Now()) {
			can = append(can, x)
			continue
		}
		possibly, err := se.Possibly(ctx, x)
		if err != nil {
			return nil, 0, nil, err
		}
		if possibly {
			cold = append(cold, *x.Segment)
		} else {
			passed++
		}
	}
	return can, passed, cold, nil
}

// Possibly says whether a segment may hold rows that are searched for, by its records and its side file alone.
func (se *Searcher) Possibly(ctx context.Context, x *Segment) (bool, error) {
	if x.Search.Filter == nil {
		return true, nil
	}
	side, err := se.shelf.SideOf(ctx, x.Segment, x.Known)
	if err != nil || side == nil {
		return err == nil, err
	}
	return side.Bounds.Possibly(x.Search.Filter) && side.Keys.Possibly(x.Manifest, x.Search.Filter), nil
}

// liveBudget is how long the search of the table itself may take: it is the workload's, and a condition without index
// reads it all.
const liveBudget = 15 * time.Second

// searchedLive describes the table itself, and adds its columns to those of the archive.
func (se *Searcher) searchedLive(ctx context.Context, q SearchRequest, columns []shape.Column) (*shape.Table,
	[]shape.Column, error) {
	if q.Limit <= 0 && !q.Whole {
		return nil, nil, &refuse.Error{Field: "limit", Message: "a search of the table itself needs a limit",
			Remedy: "give one; the table is the workload's"}
	}
	src, err := se.Source(ctx, q.Source)
	if err != nil {
		return nil, nil, err
	}
	t, err := src.Table(ctx, q.Table)
	if err != nil {
		return nil, nil, err
	}
	for _, c := range t.Columns {
		if c.Problem == "" && !slices.ContainsFunc(columns, func(k shape.Column) bool { return k.Name == c.Name }) {
			columns = append(columns, c)
		}
	}
	return t, columns, nil
}

// Bind binds the filter to the segment's columns, as they were when it was written.
func (x *Segment) Bind(q SearchRequest, columns, show []shape.Column) error {
	own := x.own
	x.Search.Absent = 1
	if q.Limit > 0 || q.keyed { // to tell versions of one row
		x.key = KeyColumns(x.Manifest)
		x.Search.Columns = append(x.Search.Columns, x.key...)
	}
	at := func(name string) int {
		if i := slices.IndexFunc(own, func(c shape.Column) bool { return c.Name == name }); i >= 0 {
			return i
		}
		return len(own) // NULL in each row
	}
	for _, c := range show {
		i := at(c.Name)
		if x.show = append(x.show, i); i < len(own) && !slices.Contains(x.Search.Columns, i) {
			x.Search.Columns = append(x.Search.Columns, i)
		}
	}
	if q.Where == "" {
		return nil
	}
	var err error
	x.Search.Filter, err = shelf.BindArchived(q.Where, own, columns)
	return err
}

// scan searches a segment and hands its rows on.
func (se *Searcher) scan(ctx context.Context, x *Segment) {
	defer close(x.done)
	defer close(x.hits)
	if x.err = ctx.Err(); x.err != nil {
		return
	}
	if f := x.Search.Filter; f != nil && x.Manifest.KeyFilter && x.Manifest.NamesKey(f) {
		if possibly, err := se.Possibly(ctx, x); err != nil {
			x.err = err
			return
		} else if !possibly {
			x.scanned.Groups, x.scanned.Passed = 1, 1
			return
		}
	}
	x.Search.Bounds = x.Known.Bounds.Load()
	defer func() { x.Known.Bounds.Store(x.scanned.Bounds) }()
	x.scanned, x.err = se.shelf.ScanRows(ctx, x.Segment, x.Manifest, x.Search,
		func(ordinal int, row []value.Value) error {
			if _, left := slices.BinarySearch(x.left, ordinal); left {
				return nil
			}
			shown := make([]value.Value, len(x.show))
			for i, c := range x.show {
				shown[i] = row[c].Clone()
			}
			h := Hit{Segment: x.Segment.ID, Ordinal: ordinal, Row: shown}
			for _, c := range x.key {
				h.Key = append(h.Key, row[c].Clone())
			}
			if err := x.room.Acquire(ctx, min(h.size(), mostWaiting)); err != nil {
				return err
			}
			select {
			case x.hits <- h:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
}

// SearchRows writes what a search finds as CSV, newline-delimited JSON or Parquet.
func (se *Searcher) SearchRows(ctx context.Context, q SearchRequest, format string, w io.Writer) (*Searched, error) {
	if !export.Known(format) {
		return nil, refuse.Format(format)
	}
	x := &export.File{Format: format, Out: bufio.NewWriterSize(w, 64<<10)}
	var chunk *value.Chunk
	flush := func() error {
		err := x.Parquet.Write(chunk)
		chunk.Reset()
		return err
	}
	out, err := se.Search(ctx, q, func(columns []shape.Column) error {
		switch x.Columns = columns; format {
		case export.CSV, export.SafeCSV:
			x.CsvHead()
		case "parquet":
			x.Parquet = archive.NewWriter(x.Out, q.Table, columns)
			chunk = &value.Chunk{Width: len(columns)}
		}
		return nil
	}, func(h Hit) error {
		switch format {
		case export.CSV, export.SafeCSV:
			x.CsvRow(h.Row)
		case "ndjson":
			x.JsonRow(h.Row)
		default:
			if chunk.Values = append(chunk.Values, h.Row...); chunk.Rows() >= 1000 {
				return flush()
			}
		}
		return nil
	})
	if err == nil && format == "parquet" {
		if err = flush(); err == nil {
			_, err = x.Parquet.Close()
		}
	}
	if err != nil {
		return nil, err
	}
	return out, x.Out.Flush()
}

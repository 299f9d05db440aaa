package restore

import (
	"context"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
)

// fit is how the rows of a segment go into a table: which of their columns, and where to. What stood in joined rows
// stays out.
type fit struct {
	from []int // positions in the archived rows
	to   []int // the table's column for each
	same bool  // the rows go as they are
}

// fitOf finds the columns of a table for those of a segment, by name or as the restore says. Columns that the table
// has and the segment does not get their defaults.
func fitOf(m *archive.Manifest, t *shape.Table, how catalog.Fit) (*fit, error) {
	f := &fit{}
	own := m.Columns[:len(m.Columns)-len(m.Included)]
	for i, c := range own {
		if slices.Contains(how.LeaveOut, c.Name) {
			continue
		}
		name := c.Name
		if other, ok := how.Rename[name]; ok {
			name = other
		}
		now, at := t.Column(name)
		switch {
		case now == nil && name != c.Name:
			return nil, &refuse.Error{Field: "fit",
				Message: fmt.Sprintf("table %s has no column %q that %q could go to", t.Name, name, c.Name),
				Remedy:  "mend the name"}
		case now == nil:
			return nil, &refuse.Error{Field: "fit",
				Message: fmt.Sprintf("table %s has no column %q any more, and the archived rows have one", t.Name,
					c.Name), Remedy: "say what it is called now (rename), leave it out, or restore to a side table " +
					"or a file"}
		case now.Kind != c.Kind:
			return nil, &refuse.Error{Field: "fit",
				Message: fmt.Sprintf("column %q of table %s is now of type %s and was of type %s", now.Name, t.Name,
					now.Type, c.Type), Remedy: "restore to a side table or a file"}
		case slices.Contains(f.to, at):
			return nil, &refuse.Error{Field: "fit",
				Message: fmt.Sprintf("two archived columns would go to column %q of table %s", now.Name, t.Name),
				Remedy:  "rename or leave out one of them"}
		}
		f.from, f.to = append(f.from, i), append(f.to, at)
	}
	for _, k := range t.OwnKey() {
		if _, at := t.Column(k); !slices.Contains(f.to, at) {
			return nil, &refuse.Error{Field: "fit",
				Message: fmt.Sprintf("the archived rows have nothing for column %q, which is in the key of table %s",
					k, t.Name), Remedy: "restore to a side table or a file"}
		}
	}
	f.same = len(f.from) == len(m.Columns)
	return f, nil
}

// apply takes the columns that go out of rows.
func (f *fit) apply(rows *value.Chunk, digests []value.Digest) (*value.Chunk, []value.Digest) {
	if f.same {
		return rows, digests
	}
	out := &value.Chunk{Width: len(f.from)}
	again := make([]value.Digest, rows.Rows())
	var hasher value.Hasher
	for i := range again {
		for _, c := range f.from {
			out.Values = append(out.Values, rows.Row(i)[c])
		}
		again[i] = hasher.Row(out.Row(i))
	}
	return out, again
}

// checkFit checks that the segments fit into their table as it is now, before anything is written: their columns by
// name, and where a column has become narrower, every value.
func (rs *Restorer) checkFit(ctx context.Context, r *catalog.Restore, segments []catalog.Segment) error {
	src, err := rs.Source(ctx, r.Source)
	if err != nil {
		return err
	}
	t, err := src.Table(ctx, r.Table)
	if err != nil {
		return &refuse.Error{Field: "table", Message: err.Error(), Remedy: "restore to a side table or a file"}
	}
	if _, err := rs.shelf.Saw(ctx, r.Source, t); err != nil {
		return err
	}
	q := &restoration{Restorer: rs, restore: r}
	for i := range segments {
		if segments[i].Table != t.Name {
			continue
		}
		x, err := q.member(ctx, &segments[i])
		if err != nil {
			return err
		}
		f, err := q.fitNow(ctx, x.manifest, t, r.Fit.V)
		if err != nil {
			return err
		}
		if src.Reads().LooseTypes || segments[i].Asleep(rs.Now()) { // these are looked at when they were retrieved
			continue
		}
		if err := q.narrowed(ctx, x, t, f); err != nil {
			return err
		}
	}
	return nil
}

// narrowed looks at the values of columns whose type has changed since.
func (q *restoration) narrowed(ctx context.Context, x *member, t *shape.Table, f *fit) error {
	var at []int
	var holds []func(value.Value) bool
	for i, c := range f.from {
		was, now := &x.manifest.Columns[c], &t.Columns[f.to[i]]
		if was.Type == now.Type {
			continue
		}
		if judge := Room(now); judge != nil {
			at, holds = append(at, c), append(holds, judge)
		}
	}
	if len(at) == 0 {
		return nil
	}
	p, err := q.pick(ctx, x.manifest)
	if err != nil {
		return err
	}
	_, err = p.each(ctx, q.Restorer, x, at, func(ordinal int, row []value.Value) error {
		for i, c := range at {
			if v := row[c]; v.Kind != value.Null && !holds[i](v) {
				now := t.Columns[f.to[slices.Index(f.from, c)]]
				return &refuse.Error{Field: "fit",
					Message: fmt.Sprintf("row %d of segment %s does not fit any more: its column %q is %.60s, and "+
						"%s.%s is of type %s now", ordinal, x.segment.ID, x.manifest.Columns[c].Name, v.Exact(),
						t.Name, now.Name, now.Type),
					Remedy: "widen the column, leave it out, or restore to a side table or a file"}
			}
		}
		return nil
	})
	return err
}

var firstWord = regexp.MustCompile(`^\w*`)

var lengthForm = regexp.MustCompile(`(?i)^(?:character varying|varchar|character|char|nvarchar)\((\d+)\)`)

// Room returns whether a value fits into a column, by its declared type; nil where the type bounds nothing that could
// be told here.
func Room(c *shape.Column) func(value.Value) bool {
	name := strings.ToLower(c.Type)
	if m := lengthForm.FindStringSubmatch(name); m != nil {
		n, _ := strconv.Atoi(m[1]) // digits, by the form
		return func(v value.Value) bool { return v.Kind != value.Text || utf8.RuneCount(v.B) <= n }
	}
	if c.Kind == value.Decimal && c.Precision > 0 {
		return func(v value.Value) bool {
			whole, fraction, _ := strings.Cut(strings.TrimLeft(string(v.AppendText(nil)), "-"), ".")
			return len(strings.TrimLeft(whole, "0")) <= c.Precision-c.Scale &&
				len(strings.TrimRight(fraction, "0")) <= c.Scale
		}
	}
	least, most := int64(math.MinInt64), int64(math.MaxInt64)
	switch firstWord.FindString(name) {
	case "tinyint":
		least, most = math.MinInt8, math.MaxInt8
	case "smallint", "int2":
		least, most = math.MinInt16, math.MaxInt16
	case "mediumint":
		least, most = -1<<23, 1<<23-1
	case "integer", "int", "int4":
		least, most = math.MinInt32, math.MaxInt32
	default:
		return nil
	}
	if strings.Contains(name, "unsigned") {
		least, most = 0, 2*most+1
	}
	return func(v value.Value) bool { return v.Kind != value.Int || v.N >= least && v.N <= most }
}

// fitNow is fitOf with the names that the columns have now, where a restore says nothing else.
func (rs *Restorer) fitNow(ctx context.Context, m *archive.Manifest, t *shape.Table, how catalog.Fit) (*fit, error) {
	own, err := rs.shelf.Named(ctx, m)
	if err != nil {
		return nil, err
	}
	rename, leaveOut := map[string]string{}, slices.Clone(how.LeaveOut)
	for i, c := range m.Columns {
		now, _ := t.Column(own[i].Name)
		if now != nil && own[i].Name != c.Name {
			rename[c.Name] = own[i].Name
		}
		left := slices.Contains(how.LeaveOut, own[i].Name)
		if left {
			leaveOut = append(leaveOut, c.Name)
		}
		if !left && now == nil && strings.HasSuffix(own[i].Name, catalog.Dropped) && how.Rename[c.Name] == "" &&
			!slices.Contains(how.LeaveOut, c.Name) {
			return nil, &refuse.Error{Field: "fit",
				Message: fmt.Sprintf("column %q of the archived rows was dropped from table %s, and another has "+
					"its name now", c.Name, t.Name),
				Remedy: fmt.Sprintf("leave it out, as %q, or restore to a side table or a file", own[i].Name)}
		}
	}
	for was, name := range how.Rename {
		rename[was] = name
	}
	return fitOf(m, t, catalog.Fit{Rename: rename, LeaveOut: leaveOut})
}

package restore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/export"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// checkSide checks that a side table can be made, and gives it a name where it has none.
func (rs *Restorer) checkSide(ctx context.Context, r *catalog.Restore, segments []catalog.Segment) error {
	if r.TargetSource == "" {
		r.TargetSource = r.Source
	}
	target, err := rs.Catalog.Source(ctx, r.TargetSource)
	if errors.Is(err, catalog.ErrNotFound) {
		return &refuse.Error{Field: "target_source", Message: fmt.Sprintf("there is no source %s", r.TargetSource),
			Remedy: "`ambercellar source list` shows which there are"}
	} else if err != nil {
		return err
	}
	st, err := rs.Store(ctx, segments[0].Store)
	if err != nil {
		return err
	}
	m, _, err := archive.LoadManifest(ctx, st, segments[0].Stem)
	if err != nil {
		return err
	}
	if m.Engine != target.Engine {
		return &refuse.Error{Field: "target_source",
			Message: fmt.Sprintf("the rows come from %s and source %s is %s: their values would not be the same "+
				"there bit by bit", m.Engine, r.TargetSource, target.Engine),
			Remedy: "restore to a file, or to a source of the same kind"}
	}
	if r.TargetTable == "" {
		base := r.Table[strings.LastIndex(r.Table, ".")+1:]
		r.TargetTable = base + "_restored_" + rs.Now().UTC().Format("20060102_150405")
	}
	if len(r.TargetTable) > 60 || strings.ContainsAny(r.TargetTable, "\x00\"`") {
		return &refuse.Error{Field: "target_table", Message: fmt.Sprintf("%q is no name for a table", r.TargetTable),
			Remedy: "give one of up to 60 characters, without quotes"}
	}
	src, err := rs.Source(ctx, r.TargetSource)
	if err != nil {
		return err
	}
	if t, err := src.Table(ctx, r.TargetTable); err == nil {
		left, err := rs.leftBeside(ctx, r)
		if err != nil {
			return err
		}
		q := &restoration{Restorer: rs, restore: r, related: true}
		shapes, _, err := q.sideShapes(ctx, segments)
		if err != nil {
			return err
		}
		made := shapes[r.Table]
		// it goes on there
		if left && !t.ByAddress() && made != nil && slices.Equal(shape.Names(made.columns), t.ColumnNames()) &&
			slices.Equal(made.key, t.Key) {
			return q.fitsBeside(ctx, src, segments)
		}
		return &refuse.Error{Field: "target_table", Message: fmt.Sprintf("source %s has a table %s already",
			r.TargetSource, r.TargetTable), Remedy: "give another name; a side table is always a new one"}
	} else if !errors.Is(err, source.ErrNoTable) {
		return err
	}
	return (&restoration{Restorer: rs, restore: r, related: true}).fitsBeside(ctx, src, segments)
}

// leftBeside says whether a side table was made by a restore that failed, and nobody else has asked for since: its
// rows count as skipped when they are asked for again.
func (rs *Restorer) leftBeside(ctx context.Context, r *catalog.Restore) (bool, error) {
	failed, err := rs.Catalog.RestoresIn(ctx, catalog.RestoreFailed)
	return slices.ContainsFunc(failed, func(x catalog.Restore) bool {
		return x.Target == catalog.TargetSide && x.TargetSource == r.TargetSource && x.TargetTable == r.TargetTable &&
			x.Source == r.Source && x.Table == r.Table && x.Begun
	}), err
}

// sideShape is what a side table is made like.
type sideShape struct {
	columns []shape.Column
	key     []string
}

// sideShapes tells, by table, what the side tables for rows of segments are made like: columns that any segment has,
// under the names that they have now, of the types that they had in the newest segment with them.
func (q *restoration) sideShapes(ctx context.Context, segments []catalog.Segment) (map[string]*sideShape,
	map[string][]*member, error) {
	q.unpicked = true
	members, err := q.byTable(ctx, segments)
	q.unpicked = false
	// as nearly always: no file has to be looked into
	if err == nil && !slices.ContainsFunc(slices.Collect(maps.Values(members)), differ) {
		for table := range members {
			members[table] = members[table][:1]
		}
	} else if err == nil {
		members, err = q.byTable(ctx, segments)
	}
	if err != nil {
		return nil, nil, err
	}
	out := map[string]*sideShape{}
	for table, list := range members {
		slices.SortStableFunc(list, func(a, b *member) int {
			return cmp.Compare(b.manifest.Sequence,
				a.manifest.Sequence)
		})
		made := &sideShape{}
		for i, x := range list {
			if err := q.addTo(ctx, made, x.manifest, i == 0); err != nil {
				return nil, nil, err
			}
		}
		out[table] = made
	}
	return out, members, nil
}

// byTable lists the segments of families by their tables.
func (q *restoration) byTable(ctx context.Context, segments []catalog.Segment) (map[string][]*member, error) {
	out := map[string][]*member{}
	for i := range segments {
		family, err := q.familyOf(ctx, &segments[i])
		if err != nil {
			return nil, err
		}
		for _, x := range family {
			out[x.manifest.Table] = append(out[x.manifest.Table], x)
		}
	}
	return out, nil
}

// differ says whether the rows of segments are shaped otherwise than those of the first.
func differ(list []*member) bool {
	first := list[0].manifest
	return slices.ContainsFunc(list[1:], func(x *member) bool {
		m := x.manifest
		typed := func(a, b shape.Column) bool { return a.Type == b.Type && a.Number == b.Number }
		return !export.SameColumns(m.Columns, first.Columns) || !slices.EqualFunc(m.Columns, first.Columns, typed) ||
			!slices.Equal(m.Key, first.Key) ||
			!maps.Equal(m.Masked, first.Masked) || m.Numbered != first.Numbered ||
			len(m.Included) != len(first.Included)
	})
}

// addTo adds to a side table what the rows of one more segment need, an older one.
func (q *restoration) addTo(ctx context.Context, made *sideShape, m *archive.Manifest, first bool) error {
	names, err := q.shelf.Named(ctx, m)
	if err != nil {
		return err
	}
	own := names[:len(m.Columns)-len(m.Included)]
	for i, c := range own {
		if m.Masked[m.Columns[i].Name] == string(rule.MaskHash) {
			c.Type = "varchar(64)" // what stands there is a hash, whatever the column's type was
		}
		at := slices.IndexFunc(made.columns, func(k shape.Column) bool { return k.Name == c.Name })
		if at < 0 {
			made.columns = append(made.columns, c)
		} else if k := &made.columns[at]; k.Kind == c.Kind {
			k.Type = wider(k.Type, c.Type)
		} else {
			return &refuse.Error{Field: "target",
				Message: fmt.Sprintf("column %q of %s is of type %s in segment %s, and of type %s in a newer one",
					c.Name, m.Table, c.Type, m.Segment, k.Type),
				Remedy: apartRemedy}
		}
	}
	key := keyAsNow(m, own)
	if first {
		made.key = key
	}
	if slices.Equal(key, made.key) {
		return nil
	}
	return &refuse.Error{Field: "target",
		Message: fmt.Sprintf("the rows of segment %s of %s have the key (%s), and those of newer ones (%s)", m.Segment,
			m.Table, strings.Join(key, ", "), strings.Join(made.key, ", ")),
		Remedy: apartRemedy}
}

const apartRemedy = "restore its run or segment to a side table of its own, or to a file"

// wider is the one of two types of texts, or of whole numbers, that holds the values of both; where neither is known
// to, the first.
func wider(a, b string) string {
	length := func(t string) int {
		if m := lengthForm.FindStringSubmatch(t); m != nil {
			n, _ := strconv.Atoi(m[1]) // digits, by the form
			return n
		}
		return 0
	}
	if length(a) > 0 && length(b) > length(a) {
		return b
	}
	sizes := []string{"tinyint", "smallint", "mediumint", "int", "integer", "bigint"}
	size := func(t string) int { return slices.Index(sizes, firstWord.FindString(strings.ToLower(t))) }
	if unsigned := func(t string) bool { return strings.Contains(strings.ToLower(t), "unsigned") }; size(a) >= 0 &&
		size(b) > size(a) && unsigned(a) == unsigned(b) {
		return b
	}
	return a
}

// keyAsNow is the key of a segment's rows under the names that its columns have now.
func keyAsNow(m *archive.Manifest, own []shape.Column) (key []string) {
	for _, k := range m.Key {
		if i := slices.IndexFunc(m.Columns, func(c shape.Column) bool { return c.Name == k }); i >= 0 && i < len(own) {
			key = append(key, own[i].Name)
		}
	}
	return key
}

// fitsBeside checks that the rows of segments fit into the side tables that would be made for them, before one is
// made.
func (q *restoration) fitsBeside(ctx context.Context, target source.Source, segments []catalog.Segment) error {
	shapes, members, err := q.sideShapes(ctx, segments)
	if err != nil {
		return err
	}
	for table, list := range members {
		t := &shape.Table{TableForm: shape.TableForm{Name: "the side table for " + table,
			Columns: shapes[table].columns, Key: shapes[table].key}}
		for _, x := range list {
			f, err := q.fitNow(ctx, x.manifest, t, catalog.Fit{})
			if err != nil {
				return err
			}
			if target.Reads().LooseTypes || x.segment.Asleep(q.Now()) { // these are looked at when they were retrieved
				continue
			}
			var refused *refuse.Error
			if err := q.narrowed(ctx, x, t, f); errors.As(err, &refused) {
				return &refuse.Error{Field: "target", Message: refused.Message, Remedy: apartRemedy}
			} else if err != nil {
				return err
			}
		}
	}
	return nil
}

// makeSide makes the side table for the rows of a segment's table, and returns its name. That of related rows is named
// after the first and their own.
func (q *restoration) makeSide(ctx context.Context, src source.Source, m *archive.Manifest) (string, error) {
	name := q.restore.TargetTable
	if m.Table != q.restore.Table {
		name += "_" + m.Table[strings.LastIndex(m.Table, ".")+1:]
	}
	left, err := q.leftBeside(ctx, q.restore)
	if err != nil {
		return "", err
	}
	if q.again || left {
		if _, err := src.Table(ctx, name); err == nil { // by an earlier try
			return name, nil
		}
	}
	made := q.sides[m.Table]
	if made == nil {
		return "", fmt.Errorf("%w: segment %s of %s came up after the side tables were thought out", refuse.ErrBooks,
			m.Segment, m.Table)
	}
	if err := src.MakeTable(ctx, name, made.columns, made.key); err != nil {
		return "", &refuse.Error{Message: fmt.Sprintf("the side table %s cannot be made: %v", name, err),
			Remedy: "give the service's user the right to make tables there, or restore to a file"}
	}
	return name, nil
}

// fitBeside finds the columns of a side table for those of a segment, by their places: an earlier try may have made it
// when columns had other names.
func (q *restoration) fitBeside(ctx context.Context, m *archive.Manifest, t *shape.Table) (*fit, error) {
	made := q.sides[m.Table].columns
	if len(made) != len(t.Columns) {
		return nil, &refuse.Error{Message: fmt.Sprintf("the side table %s was altered since it was made", t.Name),
			Remedy: "restore to another one"}
	}
	own, err := q.shelf.Named(ctx, m)
	if err != nil {
		return nil, err
	}
	rename := map[string]string{}
	for i, c := range m.Columns[:len(m.Columns)-len(m.Included)] {
		at := slices.IndexFunc(made, func(k shape.Column) bool { return k.Name == own[i].Name })
		if at < 0 {
			return nil, fmt.Errorf("%w: column %q of segment %s has no place in the side table", refuse.ErrBooks,
				c.Name, m.Segment)
		}
		rename[c.Name] = t.Columns[at].Name
	}
	return fitOf(m, t, catalog.Fit{Rename: rename})
}

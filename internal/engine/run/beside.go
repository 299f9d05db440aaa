package run

import (
	"context"
	"fmt"
	"slices"

	"ambercellar/internal/archive"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/source"
)

// besides gathers which joined rows the rows of a slice refer to, and stores those with the segment.
type besides struct {
	joins []source.Join
	at    [][]int // where the columns stand that refer to each
	seen  []map[string]bool
	refs  [][][]value.Value
}

func newBesides(p *Pass) *besides {
	b := &besides{joins: p.beside, refs: make([][][]value.Value, len(p.beside))}
	for _, j := range p.beside {
		at := make([]int, len(j.On))
		for i, pair := range j.On {
			_, c := p.table.Column(pair[0])
			at[i] = slices.Index(p.columns, c)
		}
		b.at, b.seen = append(b.at, at), append(b.seen, map[string]bool{})
	}
	return b
}

// note takes in one row of the slice.
func (b *besides) note(row []value.Value) {
next:
	for i, at := range b.at {
		ref := make([]value.Value, len(at))
		for k, p := range at {
			if p < 0 || row[p].Kind == value.Null {
				continue next
			}
			ref[k] = row[p]
		}
		if text := shelf.Canonical(ref); !b.seen[i][text] {
			b.seen[i][text] = true
			b.refs[i] = append(b.refs[i], value.CloneRow(ref))
		}
	}
}

// write stores the joined rows, one file a join, as they stand now.
func (b *besides) write(ctx context.Context, r *Execution, m *archive.Manifest) error {
	for i, j := range b.joins {
		columns := due.Readable(j.Table, nil)
		x := archive.Beside{Join: j.Name, Table: j.Table.Name, On: j.On, Columns: due.ColumnsAt(j.Table, columns),
			Key: j.Table.Key}
		theirs := make([]string, len(j.On))
		for k, pair := range j.On {
			theirs[k] = pair[1]
		}
		err := archive.WriteBeside(ctx, r.Pass.store, m, &x, func(write func(*value.Chunk) error) error {
			chunk := &value.Chunk{Width: len(columns)}
			flush := func() error {
				defer chunk.Reset()
				return write(chunk)
			}
			err := r.source.Related(ctx, source.Query{Selection: source.Selection{Table: j.Table}, Columns: columns,
				On: theirs, Values: b.refs[i]}, func(row []value.Value) error {
				for _, v := range row[:len(columns)] {
					if v.B != nil {
						v.B = chunk.Keep(v.B)
					}
					chunk.Values = append(chunk.Values, v)
				}
				if chunk.Rows() >= 1024 || chunk.Size() >= 1<<20 {
					return flush()
				}
				return nil
			})
			if err != nil {
				return err
			}
			return flush()
		})
		if err != nil {
			return fmt.Errorf("store %s: the rows of join %s: %w", r.Pass.name, j.Name, err)
		}
		m.Beside = append(m.Beside, x)
	}
	return nil
}

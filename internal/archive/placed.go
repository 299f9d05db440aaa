package archive

import (
	"context"
	"strings"
	"time"

	"ambercellar/internal/archive/store"
)

// WithRows returns a store of segments whose records lie in one store and whose files of rows lie in another.
func WithRows(records, rows store.Store) store.Store {
	if records == rows {
		return records
	}
	return &placed{Store: records, rows: rows}
}

// RowsOf is the store in which the files of rows lie.
func RowsOf(st store.Store) store.Store {
	if p, ok := st.(*placed); ok {
		return p.rows
	}
	return st
}

// placed lists records alone.
type placed struct {
	store.Store
	rows store.Store
}

func (p *placed) of(name string) store.Store {
	if strings.HasSuffix(name, rowsEnding) {
		return p.rows
	}
	return p.Store
}

func (p *placed) Create(ctx context.Context, name string) (store.File, error) {
	return p.of(name).Create(ctx, name)
}

func (p *placed) Open(ctx context.Context, name string) (store.Reader, error) {
	return p.of(name).Open(ctx, name)
}

func (p *placed) Remove(ctx context.Context, name string) error { return p.of(name).Remove(ctx, name) }

func (p *placed) KeptUntil(ctx context.Context, name string) (time.Time, error) {
	return p.of(name).KeptUntil(ctx, name)
}

// RowFiles lists the names of a segment's files that hold rows.
func (m *Manifest) RowFiles() []string {
	out := []string{m.RowsName()}
	for _, b := range m.Beside {
		out = append(out, m.BesideName(b.Join))
	}
	return out
}

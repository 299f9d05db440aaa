package catalog

import (
	"bytes"
	"context"
	"database/sql/driver"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/jmoiron/sqlx"
)

// Page is a part of a list: so many of its items, from the one behind a place on. A list that grows meanwhile shows
// nothing twice and leaves nothing out.
type Page struct {
	Limit int    // less than 0: all
	After string // the place of the item before it, as Place tells; empty: from the beginning
}

// All is the whole list.
var All = Page{Limit: -1}

// First is the beginning of a list.
func First(n int) Page { return Page{Limit: n} }

// ErrPlace says that a text is no place in a list.
var ErrPlace = errors.New("that is no place in this list")

// place writes what an item is ordered by.
func place(by ...any) string {
	for i, v := range by {
		if x, ok := v.(driver.Valuer); ok {
			by[i], _ = x.Value() // times always have one
		}
	}
	b, _ := json.Marshal(by) // texts and whole numbers
	return base64.RawURLEncoding.EncodeToString(b)
}

// order is what a list is ordered by. The columns together tell items apart.
type order struct {
	columns []string
	up      bool
}

var newestFirst = order{columns: []string{"created_at", "id"}}

// paged asks for a page of a list. query ends with conditions.
func paged[T any](ctx context.Context, q sqlx.QueryerContext, p Page, o order, query string, args ...any) ([]T,
	error) {
	query, args, err := p.query(o, query, args...)
	if err != nil {
		return nil, err
	}
	return list[T](ctx, q, query, args...)
}

// behind is what the item is ordered by, by so many columns, behind which the page begins.
func (p Page) behind(columns int) (by []any, err error) {
	b, err := base64.RawURLEncoding.DecodeString(p.After)
	if err == nil {
		d := json.NewDecoder(bytes.NewReader(b))
		d.UseNumber()
		err = d.Decode(&by)
	}
	if err != nil || len(by) != columns {
		return nil, fmt.Errorf("%w: %.40q", ErrPlace, p.After)
	}
	for i, v := range by {
		switch x := v.(type) {
		case string:
		case json.Number:
			if by[i], err = x.Int64(); err != nil {
				return nil, fmt.Errorf("%w: %.40q", ErrPlace, p.After)
			}
		default:
			return nil, fmt.Errorf("%w: %.40q", ErrPlace, p.After)
		}
	}
	return by, nil
}

func (p Page) query(o order, query string, args ...any) (string, []any, error) {
	sign, direction := "<", " DESC"
	if o.up {
		sign, direction = ">", ""
	}
	if p.After != "" {
		by, err := p.behind(len(o.columns))
		if err != nil {
			return "", nil, err
		}
		query += " AND (" + strings.Join(o.columns, ", ") + ") " + sign + " (" + strings.Repeat("?, ", len(by)-1) +
			"?)"
		args = append(args, by...)
	}
	return query + " ORDER BY " + strings.Join(o.columns, direction+", ") + direction + " LIMIT ?",
		append(args, p.Limit), nil
}

// The places of items in their lists.
func (r *Run) Place() string           { return place(r.CreatedAt, r.ID) }
func (s *Segment) Place() string       { return place(s.CreatedAt, s.Number, s.ID) }
func (r *Restore) Place() string       { return place(r.CreatedAt, r.ID) }
func (r *Retrieval) Place() string     { return place(r.CreatedAt, r.ID) }
func (v *Verification) Place() string  { return place(v.CreatedAt, v.ID) }
func (d *Disposal) Place() string      { return place(d.CreatedAt, d.ID) }
func (b *Batch) Place() string         { return place(b.Segment, b.Number) }
func (s *Slowdown) Place() string      { return place(s.Begun) }
func (r *Rule) Place() string          { return place(r.Name) }
func (p *Plan) Place() string          { return place(p.MadeAt, p.ID) }
func (t *ArchivedTable) Place() string { return place(t.Source, t.Table) }
func (f *Firing) Place() string        { return place(f.At, f.Rule) }
func (f *Finding) Place() string       { return place(f.OpenedAt, f.ID) }
func (a *Approval) Place() string      { return place(a.AskedAt, a.ID) }
func (e *Entry) Place() string         { return place(e.At, e.ID) }

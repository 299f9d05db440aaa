package shelf

import (
	"context"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
)

// Spanned keeps in the catalog where the keys of a segment lie, by its manifest and its side file; nil: not known.
func (sh *Shelf) Spanned(ctx context.Context, s *catalog.Segment, m *archive.Manifest, r *archive.Range) error {
	spans := [catalog.SpanColumns]catalog.Span{}
	for n := range spans {
		spans[n] = catalog.Anywhere
		if low, high, ok := r.KeySpan(m, n); ok {
			spans[n] = catalog.Span{Low: low, High: high}
		}
	}
	x := catalog.Shape{Numbered: m.Numbered}
	x.Columns.V, x.Key.V = m.Columns, m.Key
	return sh.Catalog.Spanned(ctx, s, x, spans)
}

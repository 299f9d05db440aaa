package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine"
)

// foundRows is how many rows an answer has where no limit is asked for, and how many at the most.
const foundRows, mostFoundRows = 100, 10_000

func (a *API) search(c *gin.Context) (any, error) {
	var q engine.SearchRequest
	if err := read(c, &q); err != nil {
		return nil, err
	}
	if q.Limit <= 0 {
		q.Limit = foundRows
	}
	q.Limit = min(q.Limit, mostFoundRows)
	out := &Found{Items: []FoundRow{}}
	searched, err := a.service.Search(c.Request.Context(), q, func(columns []shape.Column) error {
		out.Columns = shape.Names(columns)
		return nil
	}, func(h engine.Hit) error {
		row := FoundRow{Segment: h.Segment, Ordinal: h.Ordinal, Values: make([]*string, len(h.Row))}
		for i, v := range h.Row {
			if v.Kind != value.Null {
				text := string(v.AppendText(nil))
				row.Values[i] = &text
			}
		}
		out.Items = append(out.Items, row)
		return nil
	})
	if err != nil {
		return nil, err
	}
	out.Searched = *searched
	return out, nil
}

// begun is a response that knows whether some of it is on its way.
type begun struct {
	gin.ResponseWriter
	yes bool
}

func (b *begun) Write(p []byte) (int, error) {
	b.yes = true
	return b.ResponseWriter.Write(p)
}

func (a *API) searchRows(c *gin.Context) {
	var q engine.SearchRequest
	if err := read(c, &q); err != nil {
		fail(c, err)
		return
	}
	format := c.DefaultQuery("format", "ndjson")
	c.Header("Content-Type", fileKinds[format])
	w := &begun{ResponseWriter: c.Writer}
	if _, err := a.service.SearchRows(c.Request.Context(), q, format, w); err != nil && w.yes {
		c.Error(err)
		panic(http.ErrAbortHandler) // what was sent is not all: the connection breaks off, and the reader hears of it
	} else if err != nil {
		fail(c, err)
	}
}

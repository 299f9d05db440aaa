package api

import (
	"context"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/search"
)

// foundRows is how many rows an answer has where no limit is asked for, and how many at the most.
const foundRows, mostFoundRows = 100, 10_000

// searchRoutes are the routes of searching.
func (a *API) searchRoutes() []route {
	rows := route{method: http.MethodPost, path: "/search/rows", name: "SearchRows",
		summary: "Search archived rows: all of them as a stream, as CSV or newline-delimited JSON",
		query:   []string{"format"}, in: search.SearchRequest{}, raw: a.searchRows}
	return []route{
		take("POST", "/search", "Search", "Search archived rows: the first of them, 100 where no limit is given",
			a.search),
		take("POST", "/search/summary", "Summarise", "Count and sum up archived rows, by groups",
			func(ctx context.Context, _ request, q search.SummaryRequest) (*search.Summary, error) {
				return a.service.Engine.Search.Summarise(ctx, q)
			}),
		rows,
	}
}

func (a *API) search(ctx context.Context, _ request, q search.SearchRequest) (*Found, error) {
	if q.Limit <= 0 {
		q.Limit = foundRows
	}
	q.Limit = min(q.Limit, mostFoundRows)
	out := &Found{Items: []FoundRow{}}
	searched, err := a.service.Engine.Search.Search(ctx, q, func(columns []shape.Column) error {
		out.Columns = shape.Names(columns)
		return nil
	}, func(h search.Hit) error {
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

// begun is a response that knows how much of it is on its way.
type begun struct {
	gin.ResponseWriter
	sent int64
}

func (b *begun) Write(p []byte) (int, error) {
	n, err := b.ResponseWriter.Write(p)
	b.sent += int64(n)
	return n, err
}

// What a stream of rows ends with, as trailers (RFC 9110, section 6.5): a stream without them was cut off.
const (
	TrailerRows       = "Ambercellar-Rows"       // that it has
	TrailerBytes      = "Ambercellar-Bytes"      // likewise
	TrailerIncomplete = "Ambercellar-Incomplete" // why these are not all rows that were asked for; missing: they are
	// of columns that some segments do not have; missing: they all have them
	TrailerNote = "Ambercellar-Note"
)

func (a *API) searchRows(c *gin.Context) {
	var q search.SearchRequest
	if err := read(c, &q); err != nil {
		fail(c, err)
		return
	}
	format := c.DefaultQuery("format", "ndjson")
	c.Header("Content-Type", fileKinds[format])
	c.Header("Trailer", TrailerRows+", "+TrailerBytes+", "+TrailerIncomplete+", "+TrailerNote)
	w := &begun{ResponseWriter: c.Writer}
	searched, err := a.service.Engine.Search.SearchRows(c.Request.Context(), q, format, w)
	if err != nil && w.sent > 0 {
		c.Error(err)
		panic(http.ErrAbortHandler) // what was sent is not all: the connection breaks off, and the reader hears of it
	} else if err != nil {
		c.Writer.Header().Del("Trailer")
		fail(c, err)
		return
	}
	w.Flush() // also where there is no row: trailers need an answer that has begun
	c.Header(TrailerRows, strconv.FormatInt(searched.Found, 10))
	c.Header(TrailerBytes, strconv.FormatInt(w.sent, 10))
	if why := searched.Incomplete(); why != "" {
		c.Header(TrailerIncomplete, why)
	}
	var notes []string
	for i := range searched.Lacking {
		notes = append(notes, searched.Lacking[i].Say(q.Source, q.Table))
	}
	if len(notes) > 0 {
		c.Header(TrailerNote, strings.Join(notes, "; "))
	}
}

package api

import (
	"context"
	"net/http"
	"reflect"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/catalog"
	"ambercellar/internal/service"
)

// route is one operation of the interface. The OpenAPI document and the Go client are made from the same table.
// Handlers hand on the request's own context, never the router's: that one is used again for other requests while a
// database may still look at it.
type route struct {
	method, path string // path parameters in braces
	name         string // of the client's method
	summary      string
	query        []string // names of query parameters
	in, out      any      // values of the types of the request's and the answer's JSON; nil for none
	status       int      // of an answer; 0: 200
	open         bool     // needs no token
	do           func(*gin.Context) (any, error)
	raw          func(*gin.Context) // answers on its own, in place of do
}

// request is what a handler is asked.
type request struct{ *gin.Context }

// actor is the name of who asks.
func (r request) actor() string { return r.who().Name }

// who is who asks.
func (r request) who() *service.Who { return r.MustGet(whoKey).(*service.Who) }

// whoKey is where a request keeps who asks.
const whoKey = "who"

// get is a route that reads something.
func get[Out any](path, name, summary string, do func(context.Context, request) (Out, error)) route {
	return act(http.MethodGet, path, name, summary, do)
}

// act is a route without a body.
func act[Out any](method, path, name, summary string, do func(context.Context, request) (Out, error)) route {
	return route{method: method, path: path, name: name, summary: summary, out: zero[Out](),
		do: func(c *gin.Context) (any, error) {
			return do(c.Request.Context(), request{c})
		}}
}

// take is a route with a body of JSON.
func take[In, Out any](method, path, name, summary string, do func(context.Context, request, In) (Out, error)) route {
	return route{method: method, path: path, name: name, summary: summary, in: zero[In](), out: zero[Out](),
		do: func(c *gin.Context) (any, error) {
			var in In
			if err := read(c, &in); err != nil {
				return nil, err
			}
			return do(c.Request.Context(), request{c}, in)
		}}
}

// whole is a route of a list that is never long.
func whole[T any](path, name, summary string, do func(context.Context, request) ([]T, error)) route {
	return get(path, name, summary, func(ctx context.Context, r request) (Items[T], error) { return all(do(ctx, r)) })
}

// paged is a route of a list of records in pages, each as show has it.
func paged[R, V any, P placed[R]](path, name, summary string,
	do func(context.Context, request, catalog.Page) ([]R, error), show func(*R) V) route {
	r := get(path, name, summary, func(ctx context.Context, r request) (Items[V], error) {
		p := page(r.Context)
		list, err := do(ctx, r, p)
		return paging[R, V, P](list, p, show), err
	})
	return r.asks("limit", "after")
}

// placed is a record that knows its place in a list.
type placed[R any] interface {
	*R
	Place() string
}

// one answers with a record as show has it.
func one[R, V any](show func(*R) V) func(*R, error) (*V, error) {
	return func(r *R, err error) (*V, error) {
		if err != nil {
			return nil, err
		}
		v := show(r)
		return &v, nil
	}
}

// each answers with records as show has them.
func each[R, V any](show func(*R) V) func([]R, error) ([]V, error) {
	return func(list []R, err error) ([]V, error) { return shown(list, show), err }
}

func shown[R, V any](list []R, show func(*R) V) []V {
	out := make([]V, len(list))
	for i := range list {
		out[i] = show(&list[i])
	}
	return out
}

// file is a route that answers with something else than JSON.
func file(path, name, summary string, do func(*gin.Context)) route {
	return route{method: http.MethodGet, path: path, name: name, summary: summary, raw: do}
}

func (r route) created() route  { r.status = http.StatusCreated; return r }
func (r route) accepted() route { r.status = http.StatusAccepted; return r }

// asks names query parameters of the route, in front of those that it has.
func (r route) asks(query ...string) route { r.query = append(query, r.query...); return r }

// free is a route that needs no token.
func (r route) free() route { r.open = true; return r }

// zero is a value of a type, or of what it points to.
func zero[T any]() any {
	t := reflect.TypeFor[T]()
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t == reflect.TypeFor[none]() {
		return nil
	}
	return reflect.New(t).Elem().Interface()
}

// none is the answer of a route that answers nothing.
type none struct{}

func ginPath(p string) string { return strings.NewReplacer("{", ":", "}", "").Replace(p) }

func (r route) handler(meant func(context.Context, error) error) gin.HandlerFunc {
	if r.raw != nil {
		return r.raw
	}
	return func(c *gin.Context) {
		out, err := r.do(c)
		if err != nil {
			fail(c, meant(c.Request.Context(), err))
			return
		}
		if _, nothing := out.(none); nothing {
			c.Status(http.StatusNoContent)
			return
		}
		if !r.open {
			out = shownTo(c, out)
		}
		answer(c, max(r.status, http.StatusOK), out)
	}
}

// all wraps a list that is never long.
func all[T any](list []T, err error) (Items[T], error) {
	fill(&list)
	return Items[T]{Items: list}, err
}

const defaultLimit, maxLimit = 50, 500

// page is the page that is asked for, and one item more, which tells whether another one follows.
func page(c *gin.Context) catalog.Page {
	limit, err := strconv.Atoi(c.Query("limit"))
	if err != nil || limit < 1 {
		limit = defaultLimit
	}
	return catalog.Page{Limit: min(limit, maxLimit) + 1, After: c.Query("after")}
}

// paging makes a page of a list that was read one longer than the page.
func paging[R, V any, P placed[R]](list []R, p catalog.Page, show func(*R) V) Items[V] {
	if n := p.Limit - 1; len(list) > n {
		next := P(&list[n-1]).Place()
		return Items[V]{Items: shown(list[:n], show), Next: &next}
	}
	return Items[V]{Items: shown(list, show)}
}

func fill[T any](list *[]T) {
	if *list == nil {
		*list = []T{}
	}
}

// Call is an operation of the interface, as the Go client is made from it.
type Call struct {
	Method, Path, Name, Summary string
	Query                       []string // names of query parameters
	In, Out                     any      // values of the types of the request's and the answer's JSON; nil for none
	File                        bool     // the answer is no JSON
}

// Calls lists all operations.
func Calls() (out []Call) {
	for _, r := range (&API{service: &service.Service{}}).routes() {
		out = append(out, Call{r.method, r.path, r.name, r.summary, r.query, r.in, r.out, r.raw != nil})
	}
	return out
}

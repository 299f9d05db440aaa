package api

import (
	"errors"
	"reflect"
	"slices"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rights"
	"ambercellar/internal/service"
)

// anybodys names operations that concern who asks alone, or carry nothing of any source: whoever comes in may ask for
// them. What is decided on an approval, and what one has delegated, the service looks at by itself.
var anybodys = []string{
	"Session",
	"SignOut",
	"EndRequest",
	"ChangePassword",
	"Pair",
	"OfferSecond",
	"TakeSecond",
	"Sessions",
	"EndSession",
	"SpeakSchedule",
	"Live",
	"Approve",
	"Refuse",
	"Withdraw",
	"Delegations",
	"Delegate",
	"EndDelegation",
}

// limitedKey is where a request keeps that its answer holds only what is of sources that who asks may see.
const limitedKey = "limited"

// sees lets those pass who may see what a route shows. Who may see single sources alone is shown records of these, and
// of lists what is of these; what is about all sources they are not shown.
func (a *API) sees(c *gin.Context, r route) error {
	who := request{c}.who()
	if who.May(rights.See) || slices.Contains(anybodys, r.name) {
		return nil
	}
	sources, err := a.concerns(c.Request.Context(), c, nil)
	if err != nil && !errors.Is(err, catalog.ErrNotFound) {
		return err
	}
	if named := c.Query("source"); named != "" && slices.Contains(r.query, "source") {
		sources = append(sources, named)
	}
	if len(sources) == 0 && isOfSources(r.out) && who.MaySomewhere(rights.See) {
		c.Set(limitedKey, true)
		return nil
	}
	may := len(sources) > 0
	for _, s := range sources {
		may = may && who.MayIn(rights.See, s)
	}
	if !may {
		return mayNot(who, rights.See, sources)
	}
	return nil
}

// sourced is a list that may hold records of sources.
type sourced interface {
	ofSources() bool
	within(may func(source string) bool) any
}

// isOfSources says of a value of the type of an answer whether it is a list of records that each tell of which source
// they are.
func isOfSources(out any) bool {
	l, ok := out.(sourced)
	return ok && l.ofSources()
}

func (Items[T]) ofSources() bool { return sourceIn(reflect.TypeFor[T]()) != nil }

func (l Items[T]) within(may func(string) bool) any {
	at := sourceIn(reflect.TypeFor[T]())
	l.Items = slices.DeleteFunc(slices.Clone(l.Items), func(x T) bool {
		return !may(reflect.ValueOf(x).FieldByIndex(at).String())
	})
	return l
}

// sourceIn is where a record tells of which source it is; nil: it does not.
func sourceIn(t reflect.Type) []int {
	if t.Kind() != reflect.Struct {
		return nil
	}
	name := "Source"
	if t == reflect.TypeFor[view.Config]() {
		name = "Name"
	}
	if f, ok := t.FieldByName(name); ok && f.Type.Kind() == reflect.String {
		return f.Index
	}
	if f, ok := t.FieldByName("Run"); ok { // a run in the queue
		if in := sourceIn(f.Type); in != nil {
			return append(slices.Clone(f.Index), in...)
		}
	}
	return nil
}

// shownTo takes out of an answer what who asks may not see.
func shownTo(c *gin.Context, out any) any {
	who := c.MustGet(whoKey).(*service.Who)
	if who.May(rights.See) {
		return out
	}
	l, ok := out.(sourced)
	if _, limited := c.Get(limitedKey); !ok || !limited && c.Request.Method == "GET" {
		return out
	}
	if !l.ofSources() {
		return out
	}
	return l.within(func(source string) bool { return who.MayIn(rights.See, source) })
}

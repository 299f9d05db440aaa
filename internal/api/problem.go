package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"reflect"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/service"
	"ambercellar/internal/source"
)

// Problem is an error as RFC 9457 describes it. Type is stable; Field and Remedy are there where the input is at
// fault.
type Problem struct {
	Type     string         `json:"type"`
	Title    string         `json:"title"`
	Status   int            `json:"status"`
	Detail   string         `json:"detail"`
	Field    string         `json:"field,omitempty"`
	Remedy   string         `json:"remedy,omitempty"`
	Problems []rule.Problem `json:"problems,omitempty"` // of a file of rules
}

func (p *Problem) Error() string { return p.Detail }

const typePrefix = "urn:ambercellar:problem:"

func problem(status int, kind, title, detail string) *Problem {
	return &Problem{Type: typePrefix + kind, Title: title, Status: status, Detail: detail}
}

// problemOf says of any error what a client should know of it.
func problemOf(err error) *Problem {
	var p *Problem
	var refused *refuse.Error
	var rules *refuse.Problems
	var frozen *refuse.Frozen
	var held *source.HeldError
	var ofSource *source.Error
	var tooLarge *http.MaxBytesError
	var many *service.TooManyError
	var outstanding *refuse.Outstanding
	var mayNot *service.MayNotError
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &rules):
		kind, title := "rule", "The rule cannot be applied"
		if rules.What != "" {
			kind, title = "refused", "The "+rules.What+" cannot be kept"
		}
		p = problem(http.StatusUnprocessableEntity, kind, title, err.Error())
		p.Problems = rules.Problems
		return p
	case errors.As(err, &refused):
		p = problem(http.StatusUnprocessableEntity, "refused", "This cannot be done", refused.Message)
		p.Field, p.Remedy = refused.Field, refused.Remedy
		return p
	case errors.As(err, &frozen):
		p = problem(http.StatusConflict, "frozen", "The database is frozen", frozen.Where+" is frozen: "+frozen.Reason)
		p.Remedy = "lift it with `ambercellar service unfreeze`"
		return p
	case errors.As(err, &tooLarge):
		p = problem(http.StatusRequestEntityTooLarge, "too-large", "The request is too large",
			fmt.Sprintf("a request may have %d bytes", tooLarge.Limit))
		return p
	case errors.As(err, &many):
		p = problem(http.StatusTooManyRequests, "wait", "Too many tries were wrong", err.Error())
		p.Remedy = "wait that long; wrong tries meanwhile do not make it longer"
		return p
	case errors.As(err, &outstanding):
		p = problem(http.StatusConflict, "approval", "Others have to approve it first", err.Error())
		p.Remedy = "have somebody with the right to approve decide (`ambercellar approval list`)"
		return p
	case errors.As(err, &mayNot):
		p = problem(http.StatusForbidden, "right", "You may not do that", err.Error())
		p.Remedy = fmt.Sprintf("ask somebody who may, or an administrator for the right %q", mayNot.Right)
		return p
	case errors.As(err, &held):
		return problem(http.StatusConflict, "held", "Another service works on the table", err.Error())
	}
	for _, a := range answers {
		if errors.Is(err, a.to) {
			p = problem(a.status, a.kind, a.title, err.Error())
			if p.Remedy = a.remedy; a.to == catalog.ErrPlace {
				p.Field = "after"
			}
			return p
		}
	}
	if errors.As(err, &ofSource) {
		p = problem(http.StatusBadGateway, "source", "The source does not answer as it should", err.Error())
		p.Remedy = "`ambercellar source check " + ofSource.Source + "` says more"
		return p
	}
	return problem(http.StatusInternalServerError, "internal", "The service failed", err.Error())
}

// answers say what becomes of errors that callers decide on, the first that fits: the status, the kind, and what to
// do. What stands in no line of it is a fault of the service, or an error of a source's own.
var answers = []struct {
	to          error
	status      int
	kind, title string
	remedy      string
}{
	{service.ErrSecond, http.StatusUnauthorized, "second-factor", "A code is needed",
		"send the six digits that your app shows (code)"},
	{service.ErrWrong, http.StatusUnauthorized, "sign-in", "That was wrong",
		"look at each again; an administrator gives a new password (`ambercellar user password`)"},
	{service.ErrToken, http.StatusUnauthorized, "token", "The token is wrong",
		"the administrator's was written into a file of the data directory when the service first started; " +
			"`ambercellar serve -new-token` makes a new one, `ambercellar account add` an account"},
	{catalog.ErrNotFound, http.StatusNotFound, "not-found", "There is nothing of that name", ""},
	{source.ErrNoTable, http.StatusNotFound, "not-found", "There is nothing of that name", ""},
	{catalog.ErrPlace, http.StatusBadRequest, "malformed", "The request cannot be read",
		"leave after out, or send what the page before says in next"},
	{catalog.ErrLastAdministrator, http.StatusConflict, "state", "The state does not allow it",
		"make another person an administrator first"},
	{catalog.ErrFull, http.StatusInsufficientStorage, "full", "There is no room for the service's own records",
		"make room on the disk of the service's data directory, or ask an administrator to; what cannot be recorded " +
			"is not done"},
	{catalog.ErrActive, http.StatusConflict, "state", "The state does not allow it", ""},
	{catalog.ErrState, http.StatusConflict, "state", "The state does not allow it", ""},
	{source.ErrBusy, http.StatusServiceUnavailable, "busy", "Others have locked what this needs",
		"try it again; somebody holds a lock for long"},
	{source.ErrUnreachable, http.StatusServiceUnavailable, "source-away", "The database does not answer",
		"try it again when it does; runs wait for it by themselves"},
	{source.ErrDenied, http.StatusBadGateway, "denied", "The database does not allow it",
		"`ambercellar source check` names the grant that is missing"},
	{source.ErrReshaped, http.StatusConflict, "altered", "The table was altered meanwhile", "ask again"},
	{source.ErrLeaseLost, http.StatusConflict, "held", "Another service works on the table", "stop it there"},
	{source.ErrLocators, http.StatusConflict, "altered", "The table was rewritten meanwhile", "ask again"},
	{source.ErrAltered, http.StatusConflict, "altered", "Rows would not come back as they were",
		"restore to a side table or a file"},
	{source.ErrByStatement, http.StatusBadGateway, "source", "The source does not answer as it should",
		"set its binary log to rows"},
	{source.ErrWhole, http.StatusConflict, "state", "The state does not allow it", ""},
	{store.ErrAway, http.StatusServiceUnavailable, "store-away", "The store is not there",
		"mount it, or mend its path; `ambercellar store list` shows where it should be"},
	{store.ErrUnreachable, http.StatusServiceUnavailable, "store-away", "The store does not answer",
		"try it again when it does; runs wait for it by themselves"},
	{refuse.ErrNoSpace, http.StatusInsufficientStorage, "full", "The store is full",
		"make room in it, or raise its quota"},
	{store.ErrFull, http.StatusInsufficientStorage, "full", "The store is full",
		"make room in it, or raise its quota"},
	{store.ErrForbidden, http.StatusBadGateway, "denied", "The store does not allow it",
		"let the service write, read, list and remove files there"},
	{store.ErrMisspoken, http.StatusBadGateway, "store", "The store does not take the service's requests",
		"mend how the store is spoken to; `ambercellar store check` says what is wrong"},
	{store.ErrCold, http.StatusConflict, "cold", "The rows are in cold storage",
		"retrieve them first (`ambercellar segment retrieve`)"},
	{store.ErrExists, http.StatusConflict, "damaged", "What is stored is not what was written", ""},
	{archive.ErrDamaged, http.StatusConflict, "damaged", "What is stored is not what was written",
		"`ambercellar segment verify -all -repair` mends it from the other copy, where there is one"},
	{refuse.ErrDisagree, http.StatusConflict, "damaged", "What is stored is not what was written",
		"`ambercellar table reconcile` says what is different, and settles it"},
	{refuse.ErrBooks, http.StatusConflict, "damaged", "What is stored is not what was written", ""},
	{syscall.ENOSPC, http.StatusInsufficientStorage, "full", "A disk is full", "make room on it"},
	{syscall.EDQUOT, http.StatusInsufficientStorage, "full", "A disk is full", "make room on it"},
	{context.DeadlineExceeded, http.StatusGatewayTimeout, "slow", "The source did not answer in time",
		"ask for less, or try it again"},
}

func fail(c *gin.Context, err error) {
	p := problemOf(err)
	var many *service.TooManyError
	if errors.As(err, &many) {
		c.Header("Retry-After", strconv.Itoa(int(many.Wait/time.Second)+1))
	}
	c.Error(err)
	c.Abort()
	c.Header("Content-Type", "application/problem+json")
	b, _ := json.Marshal(p) // a Problem always marshals
	c.Data(p.Status, "application/problem+json", b)
}

// read decodes a JSON request body and refuses fields that it does not know.
func read(c *gin.Context, into any) error {
	d := json.NewDecoder(c.Request.Body)
	d.DisallowUnknownFields()
	err := d.Decode(into)
	if err == nil && d.More() {
		err = errors.New("more than one JSON value")
	}
	var tooLarge *http.MaxBytesError
	var kind *json.UnmarshalTypeError
	switch {
	case err == nil:
		c.Set(askedKey, into)
		if begins, ok := c.Get(beginsKey); ok {
			return begins.(func(any) error)(into)
		}
		return nil
	case errors.As(err, &tooLarge):
		return err
	case errors.Is(err, io.EOF):
		return problem(http.StatusBadRequest, "malformed", "The request cannot be read",
			"the request has no body; send a JSON object")
	case errors.As(err, &kind):
		p := problem(http.StatusBadRequest, "malformed", "The request cannot be read",
			fmt.Sprintf("field %s cannot be: %s", kind.Field, kind.Value))
		if p.Field, p.Remedy = kind.Field, "send: "+jsonKind(kind.Type); kind.Field == "" {
			p.Detail = "the request cannot be: " + kind.Value
		}
		return p
	}
	return problem(http.StatusBadRequest, "malformed", "The request cannot be read",
		strings.TrimPrefix(err.Error(), "json: "))
}

// jsonKind is what a value of a type is in JSON.
func jsonKind(t reflect.Type) string {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch t.Kind() {
	case reflect.Struct, reflect.Map:
		return "object"
	case reflect.Slice, reflect.Array:
		return "array"
	case reflect.Bool:
		return "true or false"
	case reflect.String:
		return "string"
	}
	return "number"
}

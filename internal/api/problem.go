package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine"
	"ambercellar/internal/source"
)

// Problem is an error as RFC 9457 describes it. Type is stable; Field and Remedy are there where the input is at fault.
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
	var refused *engine.RefusedError
	var rules *engine.ProblemsError
	var held *source.HeldError
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &rules):
		p = problem(http.StatusUnprocessableEntity, "rule", "The rule cannot be applied", err.Error())
		p.Problems = rules.Problems
		return p
	case errors.As(err, &refused):
		p = problem(http.StatusUnprocessableEntity, "refused", "This cannot be done", refused.Message)
		p.Field, p.Remedy = refused.Field, refused.Remedy
		return p
	case errors.As(err, &tooLarge):
		p = problem(http.StatusRequestEntityTooLarge, "too-large", "The request is too large", fmt.Sprintf("a request may have %d bytes", tooLarge.Limit))
		return p
	case errors.Is(err, catalog.ErrNotFound), errors.Is(err, source.ErrNoTable):
		return problem(http.StatusNotFound, "not-found", "There is nothing of that name", err.Error())
	case errors.Is(err, catalog.ErrActive), errors.Is(err, catalog.ErrState):
		return problem(http.StatusConflict, "state", "The state does not allow it", err.Error())
	case errors.As(err, &held):
		return problem(http.StatusConflict, "held", "Another service works on the table", err.Error())
	case errors.Is(err, archive.ErrDamaged), errors.Is(err, engine.ErrDisagree), errors.Is(err, engine.ErrBooks):
		return problem(http.StatusConflict, "damaged", "What is stored is not what was written", err.Error())
	case errors.Is(err, context.DeadlineExceeded):
		return problem(http.StatusGatewayTimeout, "slow", "The source did not answer in time", err.Error())
	case strings.HasPrefix(err.Error(), "source "):
		return problem(http.StatusBadGateway, "source", "The source does not answer as it should", err.Error())
	}
	return problem(http.StatusInternalServerError, "internal", "The service failed", err.Error())
}

func fail(c *gin.Context, err error) {
	p := problemOf(err)
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
	case err == nil || errors.As(err, &tooLarge):
		return err
	case errors.Is(err, io.EOF):
		return problem(http.StatusBadRequest, "malformed", "The request cannot be read", "the request has no body; send a JSON object")
	case errors.As(err, &kind):
		p := problem(http.StatusBadRequest, "malformed", "The request cannot be read", fmt.Sprintf("field %s cannot be a %s", kind.Field, kind.Value))
		p.Field, p.Remedy = kind.Field, "send a "+kind.Type.String()
		return p
	}
	return problem(http.StatusBadRequest, "malformed", "The request cannot be read", strings.TrimPrefix(err.Error(), "json: "))
}

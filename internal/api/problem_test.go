package api

import (
	"context"
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"strings"
	"syscall"
	"testing"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/service"
	"ambercellar/internal/source"
)

// Every error that callers decide on has its status, its words and its remedy, whatever else is said around it; what
// steers a run is told to nobody.
func TestEveryErrorHasItsAnswer(t *testing.T) {
	known := map[string]error{
		"source.ErrNoTable": source.ErrNoTable, "source.ErrReshaped": source.ErrReshaped,
		"source.ErrDenied": source.ErrDenied, "source.ErrLeaseLost": source.ErrLeaseLost,
		"source.ErrLocators": source.ErrLocators, "source.ErrAltered": source.ErrAltered,
		"source.ErrUnreachable": source.ErrUnreachable, "source.ErrByStatement": source.ErrByStatement,
		"source.ErrBusy": source.ErrBusy, "source.ErrWhole": source.ErrWhole,
		"catalog.ErrNotFound": catalog.ErrNotFound, "catalog.ErrState": catalog.ErrState,
		"catalog.ErrFull":   catalog.ErrFull,
		"catalog.ErrActive": catalog.ErrActive, "catalog.ErrPlace": catalog.ErrPlace,
		"archive.ErrDamaged": archive.ErrDamaged, "store.ErrDamaged": store.ErrDamaged,
		"store.ErrExists": store.ErrExists, "store.ErrAway": store.ErrAway, "store.ErrCold": store.ErrCold,
		"store.ErrUnreachable": store.ErrUnreachable, "store.ErrFull": store.ErrFull,
		"store.ErrForbidden": store.ErrForbidden, "store.ErrMisspoken": store.ErrMisspoken,
		"refuse.ErrBooks": refuse.ErrBooks, "refuse.ErrDisagree": refuse.ErrDisagree,
		"refuse.ErrNoSpace": refuse.ErrNoSpace, "catalog.ErrLastAdministrator": catalog.ErrLastAdministrator,
		"service.ErrWrong": service.ErrWrong, "service.ErrToken": service.ErrToken,
		"service.ErrSecond": service.ErrSecond,
	}
	steering := map[string]bool{"refuse.ErrPause": true, "refuse.ErrCancel": true, "refuse.ErrShutdown": true,
		"refuse.ErrCopied": true, "refuse.ErrOthers": true}
	seen := 0
	for _, pkg := range []string{"source", "archive", "archive/store", "catalog", "engine/refuse", "engine/tables",
		"engine/shelf", "engine/run", "engine/restore", "service"} {
		//lint:ignore SA1019 names are all that is looked for
		packages, err := parser.ParseDir(token.NewFileSet(), "../"+pkg, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		for name, p := range packages {
			for _, f := range p.Files {
				for _, d := range f.Decls {
					g, ok := d.(*ast.GenDecl)
					if !ok || g.Tok != token.VAR {
						continue
					}
					for _, s := range g.Specs {
						for _, id := range s.(*ast.ValueSpec).Names {
							if full := name + "." + id.Name; strings.HasPrefix(id.Name, "Err") && !steering[full] {
								if seen++; known[full] == nil {
									t.Errorf("%s has no answer that was tested", full)
								}
							}
						}
					}
				}
			}
		}
	}
	if seen < len(known) {
		t.Errorf("%d errors were found, and %d are known", seen, len(known))
	}
	for name, err := range map[string]error{"full": syscall.ENOSPC, "quota": syscall.EDQUOT,
		"slow": context.DeadlineExceeded} {
		known[name] = err
	}
	for name, err := range known {
		p := problemOf(source.Of("harbour", fmt.Errorf("something around it: %w", err)))
		if p.Status == 500 || p.Status == 0 || p.Title == "" || p.Type == typePrefix+"internal" ||
			p.Type == typePrefix+"source" && !errors.Is(err, source.ErrByStatement) {
			t.Errorf("%s is answered by %+v", name, p)
		}
	}
	for _, c := range []struct {
		err    error
		status int
		kind   string
	}{
		{source.Of("harbour", fmt.Errorf("%w: %w", source.ErrUnreachable, context.DeadlineExceeded)), 503,
			"source-away"},
		{source.Of("harbour", fmt.Errorf("%w: canceling statement due to lock timeout", source.ErrBusy)), 503, "busy"},
		{source.Of("harbour", errors.New("syntax error")), 502, "source"},
		{errors.New("source of all evil"), 500, "internal"},
		{fmt.Errorf("run x: %w", &refuse.Error{Field: "table", Message: "no"}), 422, "refused"},
	} {
		if p := problemOf(c.err); p.Status != c.status || p.Type != typePrefix+c.kind {
			t.Errorf("%v is answered by %d %s, want %d %s", c.err, p.Status, p.Type, c.status, c.kind)
		}
	}
}

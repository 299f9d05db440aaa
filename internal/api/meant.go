package api

import (
	"context"
	"errors"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
)

// mostNames is how many names are compared with one that is not there.
const mostNames = 5000

// meant adds to an error that says that something is not there what is there of nearly that name.
func (a *API) meant(ctx context.Context, err error) error {
	var missing *catalog.NotFoundError
	if !errors.As(err, &missing) {
		return err
	}
	if near := shape.Nearest(missing.Name, a.names(ctx, missing.Kind)); near != "" {
		p := problemOf(err)
		p.Remedy = "did you mean " + near + "?"
		return p
	}
	return err
}

// names lists what there is of a kind that has names.
func (a *API) names(ctx context.Context, kind string) (out []string) {
	c := a.service.Catalog
	switch kind {
	case "rule":
		out, _ = c.RuleNames(ctx, mostNames) // without them the error says less
	case "source":
		list, _ := c.Sources(ctx)
		for _, s := range list {
			out = append(out, s.Name)
		}
	case "store":
		list, _ := c.Stores(ctx)
		for _, s := range list {
			out = append(out, s.Name)
		}
	case "recipient":
		list, _ := c.Recipients(ctx)
		for _, r := range list {
			out = append(out, r.Name)
		}
	}
	return out
}

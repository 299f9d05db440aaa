package api

import (
	"context"
	"fmt"
	"slices"
	"time"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
)

const (
	// historyDays is how many days are told where nothing else is said.
	historyDays = 30
	// historyRules is of how many rules it is told by name what they did.
	historyRules = 50
	mostDays     = 20 * 366
)

// historyRoutes are the routes of what happened over days.
func (a *API) historyRoutes() []route {
	return []route{
		get(
			"/history",
			"History",
			"What runs came to by day in UTC, where their time went, and how large stores were; of "+
				"the last 30 days, or from a day (from) to another (to), of a source or a rule",
			a.history,
		).asks(
			"from",
			"to",
			"source",
			"rule",
		),
	}
}

func (a *API) history(ctx context.Context, r request) (*view.History, error) {
	p := catalog.Past{To: a.service.Now().UTC(), Source: r.Query("source"), Rule: r.Query("rule")}
	for name, at := range map[string]*time.Time{"from": &p.From, "to": &p.To} {
		text := r.Query(name)
		if text == "" {
			continue
		}
		day, err := time.Parse(time.DateOnly, text)
		if err != nil {
			return nil, &refuse.Error{Field: name, Message: fmt.Sprintf("%q is no day", text),
				Remedy: "write one like 2027-01-31"}
		}
		*at = day
	}
	if p.From.IsZero() {
		p.From = p.To.AddDate(0, 0, 1-historyDays)
	}
	if p.From.After(p.To) || p.To.Sub(p.From) > mostDays*24*time.Hour {
		return nil, &refuse.Error{Field: "from", Message: fmt.Sprintf("from %s to %s are no days that can be told",
			p.From.Format(time.DateOnly), p.To.Format(time.DateOnly)), Remedy: "begin before the end, and at most 20 " +
			"years before it"}
	}
	c := a.service.Catalog
	days, err := each(view.DayOf)(c.PastDays(ctx, p))
	if err != nil {
		return nil, err
	}
	rules, err := each(view.RuleSumsOf)(c.PastRules(ctx, p, historyRules))
	if err != nil {
		return nil, err
	}
	efforts, err := each(view.EffortOf)(c.PastEfforts(ctx, p))
	if err != nil {
		return nil, err
	}
	stores, err := a.storeDays(ctx, p)
	return &view.History{From: p.From.Format(time.DateOnly), To: p.To.Format(time.DateOnly), Days: days, Rules: rules,
		Efforts: efforts, Stores: stores}, err
}

// storeDays tells how large stores were, and of today how large they are.
func (a *API) storeDays(ctx context.Context, p catalog.Past) ([]view.StoreDay, error) {
	c, today := a.service.Catalog, a.service.Now().UTC().Format(time.DateOnly)
	days, err := c.PastStores(ctx, p)
	if err != nil || p.To.Format(time.DateOnly) < today || p.From.Format(time.DateOnly) > today {
		return shown(days, view.StoreDayOf), err
	}
	stores, err := c.Stores(ctx)
	if err != nil {
		return nil, err
	}
	free := map[string]int64{}
	days = slices.DeleteFunc(days, func(d catalog.StoreSize) bool {
		if d.Day == today {
			free[d.Store] = d.Free
		}
		return d.Day == today
	})
	for i := range stores {
		t, err := c.StoreTotals(ctx, &stores[i])
		if err != nil {
			return nil, err
		}
		left, known := free[stores[i].Name]
		if !known {
			left = -1
		}
		days = append(days, catalog.StoreSize{Day: today, Store: stores[i].Name, Bytes: t.FileBytes + t.GuestBytes,
			Segments: t.Segments, Free: left})
	}
	return shown(days, view.StoreDayOf), nil
}

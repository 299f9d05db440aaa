package shelf

import (
	"context"
	"time"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
)

// Chilled is what lies in cold storage of what somebody asks for, and what it takes to fetch it.
type Chilled struct {
	Segments []ChilledSegment `json:"segments"`
	Rows     int64            `json:"rows"` // of these segments, wanted or not
	Bytes    int64            `json:"bytes"`
	Offers   []Offer          `json:"offers"` // the least urgent first
}

// ChilledSegment is a segment whose rows have to be retrieved before they can be read.
type ChilledSegment struct {
	Segment    string        `json:"segment"`
	Store      string        `json:"store"`
	Rows       int64         `json:"rows"`
	Bytes      int64         `json:"bytes"`
	Oldest     string        `json:"oldest"`
	Newest     string        `json:"newest"`
	ExpectedAt *catalog.Time `json:"expected_at"` // where it is being retrieved already
}

// Offer is what the retrieval of segments takes at one priority, by their stores' tariffs.
type Offer struct {
	Priority store.Priority `json:"priority"`
	Wait     string         `json:"wait,omitempty"` // ISO 8601; empty: not known
	Price    *float64       `json:"price"`          // null: not known
	Currency string         `json:"currency,omitempty"`
}

// Chill sums up the segments of a list whose rows cannot be read now; nil where all can.
func (sh *Shelf) Chill(ctx context.Context, segments []catalog.Segment) (*Chilled, error) {
	out := &Chilled{}
	tariffs := map[string]*catalog.Store{}
	var asked []catalog.Retrieval
	for i := range segments {
		s := &segments[i]
		if !s.Asleep(sh.Now()) {
			continue
		}
		if out.Segments == nil {
			var err error
			if asked, err = sh.Catalog.RetrievalsIn(ctx, catalog.RetrievalAsked); err != nil {
				return nil, err
			}
		}
		x := ChilledSegment{Segment: s.ID, Store: s.RowsIn(), Rows: s.Rows, Bytes: s.FileBytes, Oldest: s.Oldest,
			Newest: s.Newest}
		for _, r := range asked {
			if r.Segment == s.ID {
				x.ExpectedAt = r.ExpectedAt
			}
		}
		if tariffs[x.Store] == nil {
			st, err := sh.Catalog.Store(ctx, x.Store)
			if err != nil {
				return nil, err
			}
			tariffs[x.Store] = st
		}
		out.Segments = append(out.Segments, x)
		out.Rows += x.Rows
		out.Bytes += x.Bytes
	}
	if out.Segments == nil {
		return nil, nil
	}
	for _, p := range store.Priorities {
		out.Offers = append(out.Offers, OfferOf(p, out.Segments, tariffs))
	}
	return out, nil
}

// offer sums up what a priority takes: the price of all, and the longest wait.
func OfferOf(p store.Priority, segments []ChilledSegment, tariffs map[string]*catalog.Store) Offer {
	o, total := Offer{Priority: p}, 0.0
	var longest *period.Period
	known := true
	for _, s := range segments {
		t := tariffs[s.Store].Tariff.V
		rate, ok := t.Of[p]
		if !ok {
			known = false
			continue
		}
		total += rate.Price * float64(s.Bytes) / (1 << 30)
		o.Currency = t.Currency
		if wait, err := period.Parse(rate.Wait); err == nil && (longest == nil || Longer(wait, *longest)) {
			longest = &wait
		}
	}
	if known {
		o.Price = &total
		if longest != nil {
			o.Wait = longest.String()
		}
	}
	return o
}

func Longer(a, b period.Period) bool {
	epoch := time.Unix(0, 0)
	return a.Before(epoch, time.UTC).Before(b.Before(epoch, time.UTC))
}

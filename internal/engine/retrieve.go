package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
	"ambercellar/internal/engine/refuse"
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

// chill sums up the segments of a list whose rows cannot be read now; nil where all can.
func (e *Engine) chill(ctx context.Context, segments []catalog.Segment) (*Chilled, error) {
	out := &Chilled{}
	tariffs := map[string]*catalog.Store{}
	var asked []catalog.Retrieval
	for i := range segments {
		s := &segments[i]
		if !s.Asleep(e.Now()) {
			continue
		}
		if out.Segments == nil {
			var err error
			if asked, err = e.Catalog.RetrievalsIn(ctx, catalog.RetrievalAsked); err != nil {
				return nil, err
			}
		}
		x := ChilledSegment{Segment: s.ID, Store: s.RowsIn(), Rows: s.Rows, Bytes: s.FileBytes, Oldest: s.Oldest, Newest: s.Newest}
		for _, r := range asked {
			if r.Segment == s.ID {
				x.ExpectedAt = r.ExpectedAt
			}
		}
		if tariffs[x.Store] == nil {
			st, err := e.Catalog.Store(ctx, x.Store)
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
		out.Offers = append(out.Offers, offer(p, out.Segments, tariffs))
	}
	return out, nil
}

// offer sums up what a priority takes: the price of all, and the longest wait.
func offer(p store.Priority, segments []ChilledSegment, tariffs map[string]*catalog.Store) Offer {
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
		if wait, err := period.Parse(rate.Wait); err == nil && (longest == nil || longer(wait, *longest)) {
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

// RetrievalRequest asks for segments to be fetched from cold storage: by name, or those of a table that can hold rows of a filter.
type RetrievalRequest struct {
	Segments []string       `json:"segments,omitempty"`
	Source   string         `json:"source,omitempty"`
	Table    string         `json:"table,omitempty"`
	Where    string         `json:"where,omitempty"` // in the language of rules; empty: all of the table
	Priority store.Priority `json:"priority,omitempty"`
	Days     int            `json:"days,omitempty"` // that the copies stay; 0: as the store's tariff says
	Note     string         `json:"note,omitempty"`
}

// ColdOf says what a request for retrieval is about, and what that takes. Nothing is asked of a store.
func (e *Engine) ColdOf(ctx context.Context, q RetrievalRequest) (*Chilled, error) {
	segments, err := e.retrievable(ctx, q)
	if err != nil {
		return nil, err
	}
	out, err := e.chill(ctx, segments)
	if out == nil {
		out = &Chilled{Segments: []ChilledSegment{}, Offers: []Offer{}}
	}
	return out, err
}

func (e *Engine) retrievable(ctx context.Context, q RetrievalRequest) ([]catalog.Segment, error) {
	if (len(q.Segments) > 0) == (q.Table != "") {
		return nil, &refuse.Error{Field: "segments", Message: "say what is to be retrieved: segments, or a table with or without a filter", Remedy: "name either"}
	}
	var out []catalog.Segment
	for _, id := range q.Segments {
		s, err := e.Catalog.Segment(ctx, id)
		if err != nil {
			return nil, err
		}
		if s.State != catalog.SegmentClosed {
			return nil, &refuse.Error{Field: "segments", Message: fmt.Sprintf("segment %s is %s", id, s.State), Remedy: "name closed segments"}
		}
		out = append(out, *s)
	}
	if q.Table == "" {
		return out, nil
	}
	h, err := e.hunt(ctx, SearchRequest{Source: q.Source, Table: q.Table}, nil)
	if err != nil {
		return nil, err
	}
	for list, err := range h.parts(ctx) {
		if err != nil {
			return nil, err
		}
		for _, x := range list {
			if err := x.bind(SearchRequest{Where: q.Where}, h.columns, nil); err != nil {
				return nil, err
			}
		}
		if _, _, out, err = e.awake(ctx, list, out); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Retrieve asks the cold stores for the segments of a request that cannot be read and were not asked for yet.
func (e *Engine) Retrieve(ctx context.Context, actor string, q RetrievalRequest) ([]catalog.Retrieval, error) {
	if q.Priority == "" {
		q.Priority = store.Normal
	}
	if !slices.Contains(store.Priorities, q.Priority) {
		return nil, &refuse.Error{Field: "priority", Message: fmt.Sprintf("%q is none of low, normal and high", q.Priority), Remedy: "write one of them"}
	}
	if q.Days < 0 || q.Days > 365 {
		return nil, &refuse.Error{Field: "days", Message: fmt.Sprintf("a copy cannot stay for %d days", q.Days), Remedy: "write 1 to 365"}
	}
	segments, err := e.retrievable(ctx, q)
	if err != nil {
		return nil, err
	}
	out := []catalog.Retrieval{}
	cold, err := e.chill(ctx, segments)
	if err != nil || cold == nil {
		return out, err
	}
	for _, x := range cold.Segments {
		if x.ExpectedAt != nil {
			continue
		}
		r, err := e.retrieve(ctx, actor, x, q)
		if err != nil {
			return out, err
		}
		out = append(out, *r)
	}
	return out, nil
}

func (e *Engine) retrieve(ctx context.Context, actor string, x ChilledSegment, q RetrievalRequest) (*catalog.Retrieval, error) {
	s, err := e.Catalog.Segment(ctx, x.Segment)
	if err != nil {
		return nil, err
	}
	st, err := e.Catalog.Store(ctx, x.Store)
	if err != nil {
		return nil, err
	}
	r := &catalog.Retrieval{ID: ulid.Make().String(), Segment: x.Segment, Store: x.Store, Priority: q.Priority, Days: q.Days, Bytes: x.Bytes, State: catalog.RetrievalAsked, Note: q.Note, CreatedAt: catalog.At(e.Now()), CreatedBy: actor}
	if r.Days == 0 {
		if r.Days = st.Tariff.V.Days; r.Days == 0 {
			r.Days = catalog.UsualDays
		}
	}
	o := offer(q.Priority, []ChilledSegment{x}, map[string]*catalog.Store{x.Store: st})
	r.Price, r.Currency = o.Price, o.Currency
	expected := catalog.At(e.Now())
	if wait, err := period.Parse(o.Wait); err == nil {
		expected = *keepUntil(e.Now(), &wait)
	}
	r.ExpectedAt = &expected
	if err := e.eachRowFile(ctx, s, func(cold store.Cold, file string) error { return cold.Retrieve(ctx, file, r.Priority, r.Days) }); err != nil {
		return nil, fmt.Errorf("segment %s: %w", s.ID, err)
	}
	return r, e.Catalog.AddRetrieval(ctx, r)
}

// eachRowFile goes through the files of rows of a segment that lies in a cold store.
func (e *Engine) eachRowFile(ctx context.Context, s *catalog.Segment, do func(store.Cold, string) error) error {
	st, err := e.storeOf(ctx, s)
	if err != nil {
		return err
	}
	m, _, err := archive.LoadManifest(ctx, st, s.Stem)
	if err != nil {
		return err
	}
	cold := store.AsCold(archive.RowsOf(st))
	if cold == nil {
		return fmt.Errorf("store %s does not let its files go cold", s.RowsIn())
	}
	for _, file := range m.RowFiles() {
		if err := do(cold, file); err != nil {
			return fmt.Errorf("store %s: %w", s.RowsIn(), err)
		}
	}
	return nil
}

// LookAfterRetrievals asks the stores which copies have arrived, and notes which are gone again.
func (e *Engine) LookAfterRetrievals(ctx context.Context) (arrived int, err error) {
	asked, err := e.Catalog.RetrievalsIn(ctx, catalog.RetrievalAsked)
	for i := range asked {
		there, one := e.lookAfter(ctx, &asked[i])
		if one != nil {
			err = errors.Join(err, fmt.Errorf("retrieval of segment %s: %w", asked[i].Segment, one))
		}
		if there {
			arrived++
		}
	}
	ready, listing := e.Catalog.RetrievalsIn(ctx, catalog.RetrievalReady)
	err = errors.Join(err, listing)
	for i := range ready {
		if r := &ready[i]; r.Until != nil && !e.Now().Before(r.Until.Time) {
			r.State = catalog.RetrievalOver
			err = errors.Join(err, e.Catalog.SaveRetrieval(ctx, r))
		}
	}
	return arrived, err
}

func (e *Engine) lookAfter(ctx context.Context, r *catalog.Retrieval) (bool, error) {
	s, err := e.Catalog.Segment(ctx, r.Segment)
	if err != nil {
		return false, err
	}
	if s.State != catalog.SegmentClosed || s.RowsIn() != r.Store { // it was destroyed or moved meanwhile
		r.State, r.Reason = catalog.RetrievalOver, "the segment is not there any more"
		return false, e.Catalog.SaveRetrieval(ctx, r)
	}
	var until *time.Time
	all, lost := true, false
	err = e.eachRowFile(ctx, s, func(cold store.Cold, file string) error {
		w, err := cold.Warmth(ctx, file)
		all = all && w.Readable()
		lost = lost || !w.Readable() && !w.Retrieving
		if w.Until != nil && (until == nil || w.Until.Before(*until)) {
			until = w.Until
		}
		return err
	})
	switch {
	case err != nil:
		return false, err
	case lost:
		r.State, r.Reason = catalog.RetrievalFailed, "the store has no copy and is not fetching one; ask for it again"
		return false, e.Catalog.SaveRetrieval(ctx, r)
	case !all:
		return false, nil
	}
	now := catalog.At(e.Now())
	end := catalog.At(e.Now().AddDate(10, 0, 0)) // it is not cold at all
	if until != nil {
		end = catalog.At(*until)
	}
	r.State, r.ReadyAt, r.Until = catalog.RetrievalReady, &now, &end
	return true, e.Catalog.SaveRetrieval(ctx, r)
}

// budgetSpan is the time that a store's budget for retrievals of the service's own is for.
const budgetSpan = 30 * 24 * time.Hour

// RetrieveToVerify asks for cold segments of a store that were not verified since a moment, at the lowest priority and within the
// store's budget.
func (e *Engine) RetrieveToVerify(ctx context.Context, st *catalog.Store, since time.Time) (asked int, err error) {
	budget := st.Tariff.V.Budget
	if budget <= 0 || !st.Cold() {
		return 0, nil
	}
	spent, err := e.Catalog.RetrievedSince(ctx, st.Name, "service", e.Now().Add(-budgetSpan))
	if err != nil {
		return 0, err
	}
	list, err := e.Catalog.ColdUnverified(ctx, st.Name, since, e.Now())
	if err != nil {
		return 0, err
	}
	for _, s := range list {
		if spent+s.FileBytes > budget {
			break
		}
		if _, err := e.Retrieve(ctx, "service", RetrievalRequest{Segments: []string{s.ID}, Priority: store.Low, Days: 1, Note: "to verify it"}); err != nil {
			return asked, err
		}
		spent += s.FileBytes
		asked++
	}
	return asked, nil
}

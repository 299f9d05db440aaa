package retrieve

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
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/tables"
)

// RetrievalRequest asks for segments to be fetched from cold storage: by name, or those of a table that can hold rows
// of a filter.
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
func (rt *Retriever) ColdOf(ctx context.Context, q RetrievalRequest) (*shelf.Chilled, error) {
	segments, err := rt.retrievable(ctx, q)
	if err != nil {
		return nil, err
	}
	out, err := rt.shelf.Chill(ctx, segments)
	if out == nil {
		out = &shelf.Chilled{Segments: []shelf.ChilledSegment{}, Offers: []shelf.Offer{}}
	}
	return out, err
}

func (rt *Retriever) retrievable(ctx context.Context, q RetrievalRequest) ([]catalog.Segment, error) {
	if (len(q.Segments) > 0) == (q.Table != "") {
		return nil, &refuse.Error{Field: "segments",
			Message: "say what is to be retrieved: segments, or a table with or without a filter",
			Remedy:  "name either"}
	}
	var out []catalog.Segment
	for _, id := range q.Segments {
		s, err := rt.Catalog.Segment(ctx, id)
		if err != nil {
			return nil, err
		}
		if s.State != catalog.SegmentClosed {
			return nil, &refuse.Error{Field: "segments", Message: fmt.Sprintf("segment %s is %s", id, s.State),
				Remedy: "name closed segments"}
		}
		out = append(out, *s)
	}
	if q.Table == "" {
		return out, nil
	}
	h, err := rt.search.Hunt(ctx, search.SearchRequest{Source: q.Source, Table: q.Table}, nil)
	if err != nil {
		return nil, err
	}
	for list, err := range h.Parts(ctx) {
		if err != nil {
			return nil, err
		}
		for _, x := range list {
			if err := x.Bind(search.SearchRequest{Where: q.Where}, h.Columns, nil); err != nil {
				return nil, err
			}
		}
		if _, _, out, err = rt.search.Awake(ctx, list, out); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Retrieve asks the cold stores for the segments of a request that cannot be read and were not asked for yet.
func (rt *Retriever) Retrieve(ctx context.Context, actor string, q RetrievalRequest) ([]catalog.Retrieval, error) {
	if q.Priority == "" {
		q.Priority = store.Normal
	}
	if !slices.Contains(store.Priorities, q.Priority) {
		return nil, &refuse.Error{Field: "priority", Message: fmt.Sprintf("%q is none of low, normal and high",
			q.Priority), Remedy: "write one of them"}
	}
	if q.Days < 0 || q.Days > 365 {
		return nil, &refuse.Error{Field: "days", Message: fmt.Sprintf("a copy cannot stay for %d days", q.Days),
			Remedy: "write 1 to 365"}
	}
	segments, err := rt.retrievable(ctx, q)
	if err != nil {
		return nil, err
	}
	out := []catalog.Retrieval{}
	cold, err := rt.shelf.Chill(ctx, segments)
	if err != nil || cold == nil {
		return out, err
	}
	for _, x := range cold.Segments {
		if x.ExpectedAt != nil {
			continue
		}
		r, err := rt.retrieve(ctx, actor, x, q)
		if err != nil {
			return out, err
		}
		out = append(out, *r)
	}
	return out, nil
}

func (rt *Retriever) retrieve(ctx context.Context, actor string, x shelf.ChilledSegment,
	q RetrievalRequest) (*catalog.Retrieval, error) {
	s, err := rt.Catalog.Segment(ctx, x.Segment)
	if err != nil {
		return nil, err
	}
	st, err := rt.Catalog.Store(ctx, x.Store)
	if err != nil {
		return nil, err
	}
	r := &catalog.Retrieval{ID: ulid.Make().String(), Segment: x.Segment, Store: x.Store, Priority: q.Priority,
		Days: q.Days, Bytes: x.Bytes, State: catalog.RetrievalAsked, Note: q.Note, CreatedAt: catalog.At(rt.Now()),
		CreatedBy: actor}
	if r.Days == 0 {
		if r.Days = st.Tariff.V.Days; r.Days == 0 {
			r.Days = catalog.UsualDays
		}
	}
	o := shelf.OfferOf(q.Priority, []shelf.ChilledSegment{x}, map[string]*catalog.Store{x.Store: st})
	r.Price, r.Currency = o.Price, o.Currency
	expected := catalog.At(rt.Now())
	if wait, err := period.Parse(o.Wait); err == nil {
		expected = *tables.KeepUntil(rt.Now(), &wait)
	}
	r.ExpectedAt = &expected
	if err := rt.eachRowFile(ctx, s,
		func(cold store.Cold, file string) error { return cold.Retrieve(ctx, file, r.Priority, r.Days) }); err != nil {
		return nil, fmt.Errorf("segment %s: %w", s.ID, err)
	}
	return r, rt.Catalog.AddRetrieval(ctx, r)
}

// eachRowFile goes through the files of rows of a segment that lies in a cold store.
func (rt *Retriever) eachRowFile(ctx context.Context, s *catalog.Segment, do func(store.Cold, string) error) error {
	st, err := rt.shelf.StoreOf(ctx, s)
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
func (rt *Retriever) LookAfterRetrievals(ctx context.Context) (arrived int, err error) {
	asked, err := rt.Catalog.RetrievalsIn(ctx, catalog.RetrievalAsked)
	for i := range asked {
		there, one := rt.lookAfter(ctx, &asked[i])
		if one != nil {
			err = errors.Join(err, fmt.Errorf("retrieval of segment %s: %w", asked[i].Segment, one))
		}
		if there {
			arrived++
		}
	}
	ready, listing := rt.Catalog.RetrievalsIn(ctx, catalog.RetrievalReady)
	err = errors.Join(err, listing)
	for i := range ready {
		if r := &ready[i]; r.Until != nil && !rt.Now().Before(r.Until.Time) {
			r.State = catalog.RetrievalOver
			err = errors.Join(err, rt.Catalog.SaveRetrieval(ctx, r))
		}
	}
	return arrived, err
}

func (rt *Retriever) lookAfter(ctx context.Context, r *catalog.Retrieval) (bool, error) {
	s, err := rt.Catalog.Segment(ctx, r.Segment)
	if err != nil {
		return false, err
	}
	if s.State != catalog.SegmentClosed || s.RowsIn() != r.Store { // it was destroyed or moved meanwhile
		r.State, r.Reason = catalog.RetrievalOver, "the segment is not there any more"
		return false, rt.Catalog.SaveRetrieval(ctx, r)
	}
	var until *time.Time
	all, lost := true, false
	err = rt.eachRowFile(ctx, s, func(cold store.Cold, file string) error {
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
		return false, rt.Catalog.SaveRetrieval(ctx, r)
	case !all:
		return false, nil
	}
	now := catalog.At(rt.Now())
	end := catalog.At(rt.Now().AddDate(10, 0, 0)) // it is not cold at all
	if until != nil {
		end = catalog.At(*until)
	}
	r.State, r.ReadyAt, r.Until = catalog.RetrievalReady, &now, &end
	return true, rt.Catalog.SaveRetrieval(ctx, r)
}

// budgetSpan is the time that a store's budget for retrievals of the service's own is for.
const budgetSpan = 30 * 24 * time.Hour

// RetrieveToVerify asks for cold segments of a store that were not verified since a moment, at the lowest priority and
// within the store's budget.
func (rt *Retriever) RetrieveToVerify(ctx context.Context, st *catalog.Store, since time.Time) (asked int, err error) {
	budget := st.Tariff.V.Budget
	if budget <= 0 || !st.Cold() {
		return 0, nil
	}
	spent, err := rt.Catalog.RetrievedSince(ctx, st.Name, "service", rt.Now().Add(-budgetSpan))
	if err != nil {
		return 0, err
	}
	list, err := rt.Catalog.ColdUnverified(ctx, st.Name, since, rt.Now())
	if err != nil {
		return 0, err
	}
	for _, s := range list {
		if spent+s.FileBytes > budget {
			break
		}
		if _, err := rt.Retrieve(ctx, "service", RetrievalRequest{Segments: []string{s.ID}, Priority: store.Low,
			Days: 1, Note: "to verify it"}); err != nil {
			return asked, err
		}
		spent += s.FileBytes
		asked++
	}
	return asked, nil
}

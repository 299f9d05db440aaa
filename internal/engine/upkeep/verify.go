package upkeep

import (
	limiter "golang.org/x/time/rate"

	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/source"
)

// VerificationRequest says which segments are to be verified.
type VerificationRequest struct {
	Store  string `json:"store,omitempty"`  // empty: all stores
	Source string `json:"source,omitempty"` // with Table; empty: all tables
	Table  string `json:"table,omitempty"`
	Repair bool   `json:"repair,omitempty"` // replace what is damaged from the other copy, where that is whole
}

// RequestVerification checks a request and keeps it as a verification to carry out. older: only segments that were not
// verified since then.
func (kp *Keeper) RequestVerification(ctx context.Context, actor string, q VerificationRequest,
	older *catalog.Time) (*catalog.Verification, error) {
	if (q.Source == "") != (q.Table == "") {
		return nil, &refuse.Error{Field: "table", Message: "a table needs its source, and a source its table",
			Remedy: "name both, or neither"}
	}
	if q.Store != "" {
		if _, err := kp.Catalog.Store(ctx, q.Store); err != nil {
			return nil, err
		}
	}
	v := &catalog.Verification{VerificationOrder: catalog.VerificationOrder{ID: ulid.Make().String(), Store: q.Store,
		Source: q.Source, Table: q.Table, Older: older, Repair: q.Repair, CreatedAt: catalog.At(kp.Now()),
		CreatedBy: actor},
		VerificationStanding: catalog.VerificationStanding{State: catalog.Verifying,
			Findings: catalog.JSON[[]catalog.FoundInStore]{V: []catalog.FoundInStore{}}}}
	return v, kp.Catalog.AddVerification(ctx, v)
}

// lookEvery is how often the counts of a verification are kept.
const lookEvery = 500 * time.Millisecond

// Verify carries a verification out, at so many bytes a second at the most; 0: as fast as it goes. What it finds is
// kept with it, and with the segments. A store that does not answer is waited for, up to VerifyPatience. What is to be
// destroyed waits for one segment, not for all.
func (kp *Keeper) Verify(ctx context.Context, v *catalog.Verification, rate int64) error {
	err := kp.verify(ctx, v, rate)
	now := catalog.At(kp.Now())
	v.EndedAt, v.State, v.Reason = &now, catalog.VerificationDone, ""
	if err != nil {
		v.State, v.Reason = catalog.VerificationFailed, err.Error()
	}
	return errors.Join(err, kp.Catalog.SaveVerification(context.WithoutCancel(ctx), v))
}

func (kp *Keeper) verify(ctx context.Context, v *catalog.Verification, rate int64) error {
	j := &Judging{Keeper: kp, V: v, Pause: throttle(rate), saved: kp.Now()}
	if err := j.patiently(ctx, func() error { return j.examine(ctx) }); err != nil {
		return err
	}
	if err := j.All(ctx); err != nil {
		return err
	}
	for i := range v.Findings.V {
		if f := &v.Findings.V[i]; f.Wrong {
			if v.Wrong++; f.Repaired != "" {
				v.Repaired++
			}
		}
	}
	if v.Repaired > 0 {
		if err := j.patiently(ctx, func() error { return kp.again(ctx, v, j.places) }); err != nil {
			return err
		}
	}
	slices.SortStableFunc(v.Findings.V, func(a, b catalog.FoundInStore) int {
		return cmp.Or(order(a), order(b), cmp.Compare(a.Table, b.Table), cmp.Compare(a.File, b.File))
	})
	return j.chains(ctx)
}

// VerifyPatience is how long a verification waits for stores that do not answer. Shorter in tests.
var VerifyPatience = 10 * time.Minute

// step does a part of a verification while nothing can be destroyed. Whoever waits to destroy something is let in
// first.
func (j *Judging) step(ctx context.Context, do func() error) error {
	if j.Passes != nil {
		if err := j.Passes(ctx, j.V.ID); err != nil {
			return err
		}
	}
	for j.shelf.Destroying.Load() > 0 {
		if err := source.Rest(ctx, 5*time.Millisecond); err != nil {
			return err
		}
	}
	j.shelf.Reading.RLock()
	defer j.shelf.Reading.RUnlock()
	return do()
}

// patiently does a step again while a store that it needs does not answer.
func (j *Judging) patiently(ctx context.Context, do func() error) error {
	for wait, begun := tables.FirstWait, time.Now(); ; wait = min(2*wait, tables.LongWait) {
		err := j.step(ctx, do)
		if !tables.Away(err) || time.Since(begun) > VerifyPatience {
			return err
		}
		if err := j.wait(ctx, err, wait); err != nil {
			return err
		}
	}
}

// wait rests, and shows for how long that takes what is waited for.
func (j *Judging) wait(ctx context.Context, why error, d time.Duration) error {
	j.V.Reason = tables.Waits(why)
	j.saved = time.Time{}
	j.show(ctx)
	err := source.Rest(ctx, d)
	j.V.Reason = ""
	return err
}

// examine looks at the chains, and at what the catalog does not know.
func (j *Judging) examine(ctx context.Context) error {
	v := j.V
	named, err := j.Keeper.places(ctx, v.Store)
	if err != nil {
		return err
	}
	if j.places, err = j.alsoWith(ctx, v.Store, named); err != nil {
		return err
	}
	v.Findings.V, j.bySum = []catalog.FoundInStore{}, map[sumStart]string{}
	got, err := archive.Examine(ctx, j.places, archive.Examining{
		Wanted: func(m *archive.Manifest) bool {
			return (v.Table == "" || m.Source == v.Source && m.Table == v.Table) && !j.knows(ctx, m.Segment, "")
		},
		Paused: j.Pause,
		Step: func(x archive.Examined) {
			v.Segments, v.Of, v.Rows, v.Bytes, v.OfBytes = x.Segments, x.Of, x.Rows, x.Bytes, x.OfBytes
			j.show(ctx)
		},
		Find: func(f archive.Remark) {
			if v.Table != "" && f.Table != v.Source+"."+v.Table ||
				!slices.ContainsFunc(named, func(p archive.Place) bool { return p.Name == f.Store }) {
				return
			}
			if stem, _, _ := archive.Ours(f.File); f.Kind != archive.FindChain && j.knows(ctx, f.Segment, stem) {
				return // it is judged for itself
			}
			v.Findings.V = append(v.Findings.V, catalog.FoundInStore{Remark: f})
		},
		Seen: func(_ string, m *archive.Manifest) { j.bySum[startOf(m.SHA256)] = m.Segment },
	})
	if err = errors.Join(err, j.failed); err != nil {
		return err
	}
	v.Segments, v.Of, v.Rows, v.Bytes, v.OfBytes = got.Segments, got.Of, got.Rows, got.Bytes, got.OfBytes
	return nil
}

// again looks which chains are whole, now that records were replaced.
func (kp *Keeper) again(ctx context.Context, v *catalog.Verification, places []archive.Place) error {
	still := map[string]bool{}
	_, err := archive.Examine(ctx, places, archive.Examining{
		Wanted: func(*archive.Manifest) bool { return false },
		Find: func(f archive.Remark) {
			if f.Kind == archive.FindChain {
				still[f.Store+"\x00"+f.File] = true
			}
		},
	})
	for i := range v.Findings.V {
		f := &v.Findings.V[i]
		if err == nil && f.Kind == archive.FindChain && !still[f.Store+"\x00"+f.File] {
			f.Repaired = "the records before it"
			v.Repaired++
		}
	}
	return err
}

// order puts what is wrong before what is worth knowing.
func order(f catalog.FoundInStore) int {
	if f.Wrong {
		return 0
	}
	return 1
}

// places are the stores of a name, or all.
func (kp *Keeper) places(ctx context.Context, name string) ([]archive.Place, error) {
	stores, err := kp.Catalog.Stores(ctx)
	if err != nil {
		return nil, err
	}
	var out []archive.Place
	for _, s := range stores {
		if name != "" && s.Name != name {
			continue
		}
		st, err := kp.Store(ctx, s.Name)
		if err != nil {
			return nil, err
		}
		out = append(out, archive.Place{Name: s.Name, Store: st})
	}
	return out, nil
}

// alsoWith adds the stores in which segments have rows whose records lie in a store of a name, and those that have the
// records of rows that lie there: neither can be judged without the other.
func (kp *Keeper) alsoWith(ctx context.Context, name string, places []archive.Place) ([]archive.Place, error) {
	out := slices.Clone(places)
	if name == "" {
		return out, nil
	}
	others, err := kp.Catalog.WithRowsOf(ctx, name)
	for _, other := range others {
		if slices.ContainsFunc(out, func(p archive.Place) bool { return p.Name == other }) {
			continue
		}
		st, err := kp.Store(ctx, other)
		if err != nil {
			return nil, err
		}
		out = append(out, archive.Place{Name: other, Store: st})
	}
	return out, err
}

// throttle returns a function that waits so that no more than rate bytes a second are read; nil where there is no
// limit.
func throttle(rate int64) func(context.Context, int) error {
	if rate <= 0 {
		return nil
	}
	burst := int(max(rate/100, 1)) // of a hundredth of a second: less is not waited for
	limit := limiter.NewLimiter(limiter.Limit(rate), burst)
	return func(ctx context.Context, n int) error {
		for n > 0 {
			some := min(n, burst)
			if err := limit.WaitN(ctx, some); err != nil {
				return errors.Join(context.Cause(ctx), err)
			}
			n -= some
		}
		return nil
	}
}

// CopySecond copies a closed segment into its second store, reads it back there, and notes that.
func (kp *Keeper) CopySecond(ctx context.Context, id string) error {
	kp.shelf.Reading.RLock()
	defer kp.shelf.Reading.RUnlock()
	s, err := kp.Catalog.Segment(ctx, id) // it may have been destroyed or moved since it was listed
	if err != nil || s.State != catalog.SegmentClosed || s.Disposal != "" || s.Leaving != "" {
		return err
	}
	second := s.WantSecond
	if second == "" {
		own, err := kp.Catalog.Store(ctx, s.Store)
		if err != nil {
			return err
		}
		second = own.Second
	}
	if second == "" || second == s.Second { // it is not wanted any more, or is there
		return nil
	}
	if second == s.Store || second == s.RowsStore {
		return fmt.Errorf("store %s has it already, and two copies in one place are one", second)
	}
	defer kp.tables.TakeInHand(second, s.Stem)()
	from, err := kp.shelf.StoreOf(ctx, s)
	if err != nil {
		return err
	}
	to, err := kp.Store(ctx, second)
	if err != nil {
		return fmt.Errorf("store %s: %w", second, err)
	}
	m, books, err := kp.shelf.Load(ctx, from, s)
	if err != nil {
		return err
	}
	for _, file := range m.Files(books, nil) {
		err := shelf.CopyOnce(ctx, from, to, file)
		if errors.Is(err, fs.ErrNotExist) && file == m.RangeName() { // it may have been removed
			err = nil
		}
		if err != nil {
			return fmt.Errorf("store %s: %w", second, err)
		}
	}
	if err := errors.Join(archive.Verify(ctx, to, m, nil), archive.VerifyBeside(ctx, to, m, nil)); err != nil {
		return fmt.Errorf("the second copy, read back: %w", err)
	}
	return kp.Catalog.SetSecond(ctx, s.ID, second, kp.Now())
}

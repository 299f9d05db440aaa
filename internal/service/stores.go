package service

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
)

// Places are the sources and stores, as they are opened. Each is opened once.
type Places struct {
	*base
	Secrets Secrets
	freezes *Freezes
	adding  sync.Mutex // of stores: two of one place are not added side by side

	mu      sync.Mutex
	sources map[string]*openedSource
	retired []*openedSource // opened with a configuration that was changed since; closed at the end
	stores  map[string]*openedStore
}

// openedStore is a store that was opened once. Each has a lock of its own, since a place that does not answer keeps
// others waiting.
type openedStore struct {
	turn   chan struct{} // holds one while somebody looks at what follows
	store  store.Store   // nil: not yet, or not any more
	looked time.Time     // at its identity
}

// lookAgain is how old a look at the identity of a bucket may be. A directory is looked at whenever it is used.
const lookAgain = 30 * time.Second

// store opens a store once and keeps it open. Whoever asks for it gets it only if what answers at its place is still
// that store.
func (s *Places) store(ctx context.Context, name string) (store.Store, error) {
	s.mu.Lock()
	o := s.stores[name]
	if o == nil {
		o = &openedStore{turn: make(chan struct{}, 1)}
		s.stores[name] = o
	}
	s.mu.Unlock()
	select {
	case o.turn <- struct{}{}:
		defer func() { <-o.turn }()
	case <-ctx.Done():
		return nil, fmt.Errorf("store %s: %w: it is being looked at", name, store.ErrUnreachable)
	}
	if o.store != nil && time.Since(o.looked) < lookAgain {
		return o.store, nil
	}
	c, err := s.Catalog.Store(ctx, name)
	if err != nil {
		return nil, err
	}
	st := o.store
	if st == nil {
		if st, err = openStore(c); err != nil {
			return nil, fmt.Errorf("store %s: %w", name, err)
		}
	}
	if c.Identity == "" {
		st, err = s.identify(ctx, c, st)
	} else {
		err = sameStore(ctx, c, st)
	}
	if err != nil {
		o.store = nil
		return nil, fmt.Errorf("store %s: %w", name, err)
	}
	o.store, o.looked = st, time.Now()
	return st, nil
}

// glance is how long a store may take to answer somebody who wants to see all stores.
const glance = 2 * time.Second

// StoreState says whether a store answers and is what it was, and how many bytes are free in it; -1: not known.
func (s *Places) StoreState(ctx context.Context, name string) (free int64, err error) {
	within, cancel := context.WithTimeout(ctx, glance)
	defer cancel()
	st, err := s.store(within, name)
	if err == nil {
		_, err = store.Identify(within, st)
	}
	if err == nil {
		return st.Free(within), nil
	}
	if within.Err() != nil && ctx.Err() == nil {
		err = fmt.Errorf("%w: it has not answered within %s", store.ErrUnreachable, glance)
	}
	return -1, err
}

// sameStore says whether what answers at a store's place is that store.
func sameStore(ctx context.Context, c *catalog.Store, st store.Store) error {
	store.Guard(st, c.Identity)
	id, err := store.Identify(ctx, st)
	switch {
	case err != nil:
		return err
	case id == nil:
		return fmt.Errorf("%w: %s has no %s", store.ErrAway, c.Path, store.IdentityName)
	case id.Store != c.Identity:
		return fmt.Errorf("%w: what answers at %s is store %s, and was store %s", store.ErrAway, c.Path, id.Store,
			c.Identity)
	}
	return nil
}

// identify gives a store that an older version added its identity, or takes up the one that its place has. Where the
// catalog knows segments there, one of them must be found first. A store whose place is another's too gives its files
// and takes none.
func (s *Places) identify(ctx context.Context, c *catalog.Store, st store.Store) (store.Store, error) {
	s.adding.Lock()
	defer s.adding.Unlock()
	if err := s.hasItsSegments(ctx, c, st); err != nil {
		return nil, err
	}
	id, err := store.Identify(ctx, st)
	if err != nil {
		return nil, err
	}
	if why, err := s.shared(ctx, c, st, id); err != nil {
		return nil, err
	} else if why != "" {
		return store.ReadOnly(st, &refuse.Error{
			Message: fmt.Sprintf("store %s: %s: what is moved, copied or removed in one would be lost in both", c.Name,
				why), Remedy: "name one place by one store: move what this one holds to another, and take no new " +
				"segments here"}), nil
	}
	if id == nil {
		if id, err = store.Mark(ctx, st, s.Now()); err != nil {
			return nil, fmt.Errorf("it cannot be given its identity: %w", err)
		}
	}
	if err := s.Catalog.SetIdentity(ctx, "service", c.Name, id.Store); err != nil {
		return nil, err
	}
	store.Guard(st, id.Store)
	return st, nil
}

// hasItsSegments looks for a file of the newest segment that the catalog knows in a store.
func (s *Places) hasItsSegments(ctx context.Context, c *catalog.Store, st store.Store) error {
	newest, err := s.Catalog.NewestIn(ctx, c.Name)
	if err != nil || newest == nil {
		return err
	}
	list, err := st.List(ctx, newest.Stem)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("%w: the catalog knows segment %s there, and nothing of it lies in %s; is its disk mounted?",
			store.ErrAway, newest.ID, c.Path)
	}
	return err
}

// shared says in what way the place of a store is another store's too; empty: it is its own. id is its identity, nil
// where it has none yet.
func (s *Places) shared(ctx context.Context, c *catalog.Store, st store.Store, id *store.Identity) (string, error) {
	others, err := s.Catalog.Stores(ctx)
	if err != nil {
		return "", err
	}
	for i := range others {
		other := &others[i]
		if other.Name == c.Name {
			continue
		}
		if id != nil && other.Identity == id.Store {
			return fmt.Sprintf("its place is that of store %s (%s) under another name", other.Name, other.Path), nil
		}
		if other.Kind != catalog.StoreDirectory || c.Kind != catalog.StoreDirectory {
			continue
		}
		opened, err := store.OpenDirectory(other.Path)
		switch {
		case err != nil: // it is away, and is compared when it is opened again
		case store.Within(st, opened) && store.Within(opened, st):
			return fmt.Sprintf("its place is that of store %s (%s) under another name", other.Name, other.Path), nil
		case store.Within(st, opened):
			return fmt.Sprintf("its place lies in that of store %s (%s)", other.Name, other.Path), nil
		case store.Within(opened, st):
			return fmt.Sprintf("store %s (%s) lies in its place", other.Name, other.Path), nil
		}
	}
	where, err := store.Around(ctx, st)
	if err != nil || where == "" {
		return "", err
	}
	return "there is another store " + where, nil
}

// identifyAll gives the stores of older versions their identities. One whose place does not answer gets it when it is
// first used.
func (s *Places) identifyAll() {
	defer s.wait.Done()
	stores, err := s.Catalog.Stores(s.ctx)
	for _, c := range stores {
		if c.Identity != "" {
			continue
		}
		within, cancel := context.WithTimeout(s.ctx, time.Minute)
		if _, one := s.store(within, c.Name); one != nil {
			err = errors.Join(err, one)
		}
		cancel()
	}
	if err != nil && s.ctx.Err() == nil {
		s.Log.Error("not every store has its identity", "error", err)
	}
}

func openStore(c *catalog.Store) (store.Store, error) {
	var st store.Store
	var err error
	if c.Kind == catalog.StoreBucket {
		st, err = store.OpenBucket(c.Bucket.V)
	} else {
		st, err = store.OpenDirectory(c.Path)
	}
	if err != nil || !c.Seal.V.Sealed() {
		return st, err
	}
	return store.OpenSealed(st, c.Seal.V)
}

// firstStore adds the store that the service makes in its data directory at its first start. One may lie there, from a
// catalog that was lost.
func (s *Places) firstStore(ctx context.Context, path string) error {
	st, err := store.MakeDirectory(path)
	if err != nil {
		return err
	}
	id, err := store.Identify(ctx, st)
	if err == nil && id == nil {
		id, err = store.Mark(ctx, st, s.Now())
	}
	if err != nil {
		return err
	}
	return s.Catalog.AddStore(ctx, "service", catalog.Store{Name: "cellar", Kind: catalog.StoreDirectory, Path: path,
		Scrub: usualScrub, Identity: id.Store})
}

// AddStore tries a new store out, gives its place an identity, and keeps it. existing: it comes from elsewhere, and
// has an identity or segments already.
func (s *Places) AddStore(ctx context.Context, actor string, c catalog.Store, existing bool) error {
	s.adding.Lock()
	defer s.adding.Unlock()
	if err := checkName("name", c.Name); err != nil {
		return err
	}
	if (c.Path == "") == (c.Bucket.V == store.Bucket{}) {
		return &refuse.Error{Field: "path", Message: "it takes either a directory or a bucket",
			Remedy: "give the directory in which segments are to lie, or endpoint and name of a bucket"}
	}
	if c.Kind = catalog.StoreBucket; c.Path != "" {
		abs, err := filepath.Abs(c.Path)
		if err != nil {
			return err
		}
		c.Kind, c.Path = catalog.StoreDirectory, abs
	} else if field, message := c.Bucket.V.Problem(); field != "" {
		return &refuse.Error{Field: field, Message: message}
	} else {
		c.Path = c.Bucket.V.String()
	}
	if c.Scrub.V == (catalog.Scrub{}) {
		c.Scrub = usualScrub
	}
	if err := checkScrub(&c.Scrub.V); err != nil {
		return err
	}
	if err := s.checkSecond(ctx, &c); err != nil {
		return err
	}
	if c.Cold() && c.Second != "" {
		return &refuse.Error{Field: "second", Message: "a store whose files go cold cannot be copied from",
			Remedy: "have second copies of the store that segments come from"}
	}
	if c.Cold() {
		if err := checkTariff(&c.Tariff.V); err != nil {
			return err
		}
	}
	if c.Kind == catalog.StoreDirectory {
		if err := s.notOurs("path", c.Path); err != nil {
			return err
		}
	}
	if err := s.sealable(c.Seal.V); err != nil {
		return err
	}
	stores, err := s.Catalog.Stores(ctx)
	if err != nil {
		return err
	}
	for _, other := range stores {
		if other.Name == c.Name || other.Path == c.Path {
			return &refuse.Error{Field: "name", Message: fmt.Sprintf("there is a store %s at %s already", other.Name,
				other.Path), Remedy: "give another name and place"}
		}
	}
	st, fresh, err := s.newPlace(ctx, &c, existing)
	if err != nil {
		return err
	}
	if err := s.Catalog.AddStore(ctx, actor, c); err != nil {
		if fresh {
			err = errors.Join(err, store.Unsealed(st).Remove(context.WithoutCancel(ctx), store.IdentityName))
		}
		return err
	}
	return nil
}

// newPlace opens the place of a new store, tries it out, and gives it an identity where it has none: fresh.
func (s *Places) newPlace(ctx context.Context, c *catalog.Store, existing bool) (st store.Store, fresh bool,
	err error) {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	refused := func(message, remedy string) (store.Store, bool, error) {
		return nil, false, &refuse.Error{Field: "path", Message: message, Remedy: remedy}
	}
	if c.Kind == catalog.StoreDirectory && !existing {
		_, err = store.MakeDirectory(c.Path)
	}
	if err == nil {
		st, err = openStore(c)
	}
	if err == nil {
		err = st.Check(ctx)
	}
	var id *store.Identity
	if err == nil {
		id, err = store.Identify(ctx, st)
	}
	if err != nil {
		remedy := "give the service's user write access to the directory"
		switch {
		case errors.Is(err, store.ErrAway):
			remedy = "mount it, or mend the path"
		// it says so itself
		case errors.Is(err, store.ErrFull), errors.Is(err, store.ErrForbidden), errors.Is(err, store.ErrMisspoken):
			remedy = ""
		case errors.Is(err, store.ErrUnreachable):
			remedy = "start the object store, or mend the endpoint"
		case c.Kind == catalog.StoreBucket:
			remedy = "check the endpoint, the bucket, and the credentials in the service's environment or the file " +
				"that is named"
		}
		return refused(err.Error(), remedy)
	}
	why, err := s.shared(ctx, c, st, id)
	if err != nil {
		return refused(err.Error(), "let the service list what lies there and above it")
	} else if why != "" {
		return refused(fmt.Sprintf("%s cannot be a store of its own: %s", c.Path, why),
			"name a place that no other store has; two copies in one place are one")
	}
	switch {
	case id != nil && !existing:
		return refused(fmt.Sprintf("%s is a store already (%s)", c.Path, id.Store),
			"add it with -existing if it comes from elsewhere; no other service may write there")
	case id == nil && !existing:
		for o, err := range st.Each(ctx, "") {
			if err != nil {
				return refused(err.Error(), "")
			}
			if _, _, ours := archive.Ours(o.Name); ours {
				return refused(fmt.Sprintf("%s holds segments already", c.Path),
					"add it with -existing if it comes from elsewhere; no other service may write there")
			}
		}
	}
	if fresh = id == nil; fresh {
		if id, err = store.Mark(ctx, st, s.Now()); err != nil {
			return refused("the place cannot be given its identity: "+err.Error(), "")
		}
	}
	c.Identity = id.Store
	return st, fresh, nil
}

// StoreWarnings tells what is unsafe about how a store is set up, of all those that there are.
func StoreWarnings(c *catalog.Store, all []catalog.Store) []string {
	out := []string{}
	for i := range all {
		second := &all[i]
		if c.Seal.V.Sealed() && second.Name == c.Second && !second.Seal.V.Sealed() {
			out = append(out, fmt.Sprintf(
				"store %s is sealed, and its second store %s is not: whoever gets at that reads every row; seal it "+
					"too (`ambercellar store set %s -key-file FILE`, then `ambercellar store reseal %s`)", c.Name,
				second.Name, second.Name, second.Name))
		}
	}
	return out
}

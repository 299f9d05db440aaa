package tables

// TakeInHand keeps sweeping from files that are written into a store for a segment that is not known to lie there yet. The function that is
// returned is called once it is, or when the files are given up.
func (ts *Tables) TakeInHand(store, stem string) func() {
	key := store + "\x00" + stem
	ts.inHand.Store(key, true)
	return func() { ts.inHand.Delete(key) }
}

func (ts *Tables) IsInHand(store, stem string) bool {
	_, ok := ts.inHand.Load(store + "\x00" + stem)
	return ok
}

package view

import (
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
)

// Store is where segments lie.
type Store struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
	Path string `json:"path"` // the directory, or the address of bucket and prefix
	// the store in which every segment has a second copy; empty: none
	Second string                       `json:"second"`
	Scrub  catalog.JSON[catalog.Scrub]  `json:"scrub"`
	Bucket catalog.JSON[store.Bucket]   `json:"bucket"`
	Seal   catalog.JSON[store.Seal]     `json:"seal"`   // where the keys are with which its files are encrypted
	Tariff catalog.JSON[catalog.Tariff] `json:"tariff"` // of a bucket whose files go cold: what retrievals take
	// of its place, which is known by that; empty: it was not looked at since an older version added it
	Identity string `json:"identity"`
}

// StoreOf shows a record of the catalog.
func StoreOf(s *catalog.Store) Store { return Store(*s) }

// StoreTotals is what lies in a store.
type StoreTotals struct {
	Segments   int64 `json:"segments"` // whose records lie here
	FileBytes  int64 `json:"file_bytes"`
	Unseconded int64 `json:"unseconded"` // segments that do not lie in the second store yet
	Seconds    int64 `json:"seconds"`    // second copies of another store's segments
	Away       int64 `json:"away"`       // of its segments, those whose rows lie in another store
	Guests     int64 `json:"guests"`     // segments of other stores whose rows lie here
	GuestBytes int64 `json:"guest_bytes"`
	Damaged    int64 `json:"damaged"`
	// the segment that was not verified for the longest time was so then; null: none has been
	Verified *catalog.Time `json:"verified"`
}

// StoreTotalsOf shows a record of the catalog.
func StoreTotalsOf(s *catalog.StoreTotals) StoreTotals { return StoreTotals(*s) }

package view

import (
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/shelf"
)

// Segment is one archived file of rows.
type Segment struct {
	SegmentOrigin
	SegmentContent
	SegmentChain
	SegmentPlaces
	SegmentEnd
}

// SegmentOrigin is what a segment is of, and where it was put.
type SegmentOrigin struct {
	ID        string               `json:"id"`
	Run       string               `json:"run"`
	Rule      string               `json:"rule"` // that archived it
	Number    int                  `json:"number"`
	Clause    int                  `json:"clause"` // of the rule, from 0
	Source    string               `json:"source"`
	Table     string               `json:"table"`
	Part      string               `json:"part,omitempty"` // the partition that its rows were to leave with
	Store     string               `json:"store"`
	Stem      string               `json:"stem"`
	State     catalog.SegmentState `json:"state"`
	CreatedAt catalog.Time         `json:"created_at"`
	// the segment of whose rows it holds those that stayed when the others were destroyed
	Rewrites string `json:"rewrites"`
}

// SegmentContent is what is in a segment, and what became of its rows.
type SegmentContent struct {
	Rows       int64         `json:"rows"`
	RawBytes   int64         `json:"raw_bytes"`
	FileBytes  int64         `json:"file_bytes"`
	Oldest     string        `json:"oldest"`
	Newest     string        `json:"newest"`
	Digest     string        `json:"digest"`
	Deleted    int64         `json:"deleted"`
	Changed    int64         `json:"changed"`
	Vanished   int64         `json:"vanished"`
	Held       int64         `json:"held"`
	Skipped    int64         `json:"skipped"`
	ClosedAt   *catalog.Time `json:"closed_at"`
	VerifiedAt *catalog.Time `json:"verified_at"`
	Damage     string        `json:"damage"` // what was last found to be wrong with it
}

// SegmentChain is where the records of a segment stand in the chain of its table.
type SegmentChain struct {
	Sequence     int64  `json:"sequence"` // of the manifest in the table's chain
	ManifestHash string `json:"manifest_hash"`
	ClosingSeq   int64  `json:"closing_sequence"`
	ClosingHash  string `json:"closing_hash"`
	DisposalSeq  int64  `json:"disposal_sequence"`
	DisposalHash string `json:"disposal_hash"`
}

// SegmentPlaces is where a segment lies, and is to lie.
type SegmentPlaces struct {
	RowsStore string        `json:"rows_store"`       // where its rows lie, if not with its records in Store
	Moving    string        `json:"moving,omitempty"` // the store to which its rows are being moved
	Second    string        `json:"second"`           // the second store, where it lies there too
	SecondAt  *catalog.Time `json:"second_at"`        // since when
	// the store for its second copy, by its rule; empty: as its store says
	WantSecond string        `json:"want_second"`
	Cold       bool          `json:"cold"`       // its rows have to be retrieved before they can be read
	WarmUntil  *catalog.Time `json:"warm_until"` // a retrieved copy is there until then
	ColdStore  string        `json:"cold_store"` // where its rows are to move, by its rule
	ColdAt     *catalog.Time `json:"cold_at"`    // and when
}

// SegmentEnd is how long a segment is kept, and how it ended.
type SegmentEnd struct {
	KeepUntil  *catalog.Time `json:"keep_until"` // by the rule's archive.keep; null: without end
	Disposal   string        `json:"disposal"`   // that it was destroyed by, or is being
	DisposedAt *catalog.Time `json:"disposed_at"`
	// it was destroyed for an erasure: what stayed of it is in another segment
	Erased bool `json:"erased"`
}

// SegmentOf shows a record of the catalog.
func SegmentOf(s *catalog.Segment) Segment {
	return Segment{SegmentOrigin: SegmentOrigin(s.SegmentOrigin), SegmentContent: SegmentContent(s.SegmentContent),
		SegmentChain: SegmentChain(s.SegmentChain), SegmentPlaces: SegmentPlaces(s.SegmentPlaces),
		SegmentEnd: SegmentEnd(s.SegmentEnd)}
}

// Verification is a reading of segments to see that they are what was written.
type Verification struct {
	VerificationOrder
	VerificationStanding
}

// VerificationOrder is what a verification is to read.
type VerificationOrder struct {
	ID        string        `json:"id"`
	Store     string        `json:"store"`  // empty: all stores
	Source    string        `json:"source"` // with Table; empty: all
	Table     string        `json:"table"`  //
	Older     *catalog.Time `json:"older"`  // only segments that were not verified since then; null: all
	Repair    bool          `json:"repair"` // what is damaged is replaced from the other copy, where that is whole
	CreatedAt catalog.Time  `json:"created_at"`
	CreatedBy string        `json:"created_by"`
}

// VerificationStanding is how far a verification is, and what it found.
type VerificationStanding struct {
	State    catalog.VerificationState            `json:"state"`
	Reason   string                               `json:"reason"` // why it failed
	EndedAt  *catalog.Time                        `json:"ended_at"`
	Segments int                                  `json:"segments"`
	Of       int                                  `json:"of"`
	Rows     int64                                `json:"rows"`
	Bytes    int64                                `json:"bytes"`
	OfBytes  int64                                `json:"of_bytes"`
	Wrong    int                                  `json:"wrong"`
	Repaired int                                  `json:"repaired"`
	Findings catalog.JSON[[]catalog.FoundInStore] `json:"findings"`
}

// VerificationOf shows a record of the catalog.
func VerificationOf(v *catalog.Verification) Verification {
	return Verification{VerificationOrder: VerificationOrder(v.VerificationOrder),
		VerificationStanding: VerificationStanding(v.VerificationStanding)}
}

// Retrieval is the fetching of one segment's rows from cold storage, for a time.
type Retrieval struct {
	ID         string                 `json:"id"`
	Segment    string                 `json:"segment"`
	Store      string                 `json:"store"`
	Priority   store.Priority         `json:"priority"`
	Days       int                    `json:"days"` // that the copy stays
	Bytes      int64                  `json:"bytes"`
	Price      *float64               `json:"price"` // by the store's tariff; null: not known
	Currency   string                 `json:"currency,omitempty"`
	State      catalog.RetrievalState `json:"state"`
	Reason     string                 `json:"reason"`
	Note       string                 `json:"note"` // what it is for
	CreatedAt  catalog.Time           `json:"created_at"`
	CreatedBy  string                 `json:"created_by"`
	ExpectedAt *catalog.Time          `json:"expected_at"` // by the tariff
	ReadyAt    *catalog.Time          `json:"ready_at"`
	Until      *catalog.Time          `json:"until"`
}

// RetrievalOf shows a record of the catalog.
func RetrievalOf(r *catalog.Retrieval) Retrieval { return Retrieval(*r) }

// ArchivedTable is a table of which closed segments are there.
type ArchivedTable struct {
	Source string `json:"source"`
	Table  string `json:"table"`
}

// ArchivedTableOf shows a record of the catalog.
func ArchivedTableOf(a *catalog.ArchivedTable) ArchivedTable { return ArchivedTable(*a) }

// SegmentDetail is a segment and what its manifest says.
type SegmentDetail struct {
	Segment
	shelf.Told
}

// SegmentDetailOf shows a segment with what its manifest says.
func SegmentDetailOf(s *shelf.SegmentDetail) SegmentDetail {
	return SegmentDetail{SegmentOf(&s.Segment), s.Told}
}

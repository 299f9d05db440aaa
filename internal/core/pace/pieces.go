package pace

import "time"

// Bounds of a piece that is read at a rest.
const (
	pieceRows   = 500
	pieceTarget = 1500 * time.Microsecond
	pieceSlow   = 10 * pieceTarget
)

// Pieces holds how many rows of a slice are read at a time where reading rests in between. Make it with NewPieces.
//
// A piece is steered to so short a time that whoever comes meanwhile hardly waits. Where even a small one takes long, its rows may
// not be what takes the time: the database reads or sorts much more to find them, as it does without an index by age. There pieces
// become as large as makes a row cheaper.
type Pieces struct {
	rows int
	last piece // of another size than the next one, where pieces take long
}

type piece struct {
	rows int
	each float64 // seconds a row
}

// NewPieces begins with a small piece.
func NewPieces() Pieces { return Pieces{rows: 2 * MinRows} }

// Rows returns how many rows the next piece should have.
func (p *Pieces) Rows() int { return p.rows }

// Done tells how long a piece of rows took.
func (p *Pieces) Done(rows int, took time.Duration) {
	if rows < p.rows || took <= 0 { // a short last piece says nothing
		return
	}
	if took <= pieceSlow {
		want := int(float64(rows) * float64(pieceTarget) / float64(took))
		p.rows, p.last = min(max(want, rows/2, MinRows), 2*rows, pieceRows), piece{}
		return
	}
	this := piece{rows, took.Seconds() / float64(rows)}
	small, large := this, p.last
	if small.rows > large.rows {
		small, large = large, small
	}
	switch {
	case small.rows > 0 && large.each < 0.75*small.each, p.last.rows == 0 && rows <= MinRows:
		p.rows = min(2*rows, MaxRows)
	default:
		p.rows = max(rows/2, MinRows)
	}
	if p.rows != rows {
		p.last = this
	}
}

package pace

import "time"

// pieceTarget is how long a piece takes where its rows are what takes the time.
const pieceTarget = 1500 * time.Microsecond

// Pieces holds how many rows of a slice are read at a time where reading rests in between. Make it with NewPieces.
//
// A piece is steered to so short a time that whoever comes meanwhile hardly waits. But a statement costs something
// whatever its rows, and much where the database reads or sorts a lot to find them, as without an index by age: pieces
// are larger where that makes a row cheaper by a third, which means that they take at most two and a half times what a
// statement without rows would.
type Pieces struct {
	size int                 // a piece has MinRows << size rows
	each [pieceSizes]float64 // seconds that a row takes at each size; 0: not known
	told int                 // pieces since others than the present size were forgotten
	took costs
}

// pieceSizes are from MinRows to about MaxRows.
const pieceSizes = 11

// NewPieces begins with a small piece.
func NewPieces() Pieces { return Pieces{size: 1} }

// Rows returns how many rows the next piece should have.
func (p *Pieces) Rows() int { return MinRows << p.size }

// Within returns how many rows a piece may have that is to take so long: no fewer than Rows.
func (p *Pieces) Within(d time.Duration) int {
	each := p.each[p.size]
	if each <= 0 {
		return p.Rows()
	}
	return min(max(int(d.Seconds()/each), p.Rows()), MaxRows)
}

// Worked returns how much of the time that a piece of rows took was work to rest from, as the pieces before it tell:
// where the machine stalls, a rest that is measured by that would last many times as long.
func (p *Pieces) Worked(rows int, took time.Duration) time.Duration { return p.took.of(rows, took) }

// Took tells how long a piece of another size took, which Within gave.
func (p *Pieces) Took(rows int, took time.Duration) {
	if each := &p.each[p.size]; rows >= p.Rows() && took > 0 {
		*each += (took.Seconds()/float64(rows) - *each) / 4
	}
}

// Done tells how long a piece of rows took.
func (p *Pieces) Done(rows int, took time.Duration) {
	if rows < p.Rows() || took <= 0 { // a short last piece says nothing
		return
	}
	each := &p.each[p.size]
	switch now := took.Seconds() / float64(rows); {
	case *each == 0:
		*each = now
	case now > *each: // one that was held up is no reason
		*each += (min(now, 2**each) - *each) / 4
	default:
		*each += (now - *each) / 2
	}
	if p.told++; p.told == 20 { // what is known of other sizes may not hold any more
		known := *each
		p.each, p.told = [pieceSizes]float64{}, 0
		*each = known
	}
	larger, unknown := false, false
	if p.size+1 < pieceSizes {
		next := p.each[p.size+1]
		larger, unknown = next > 0 && next < 0.7**each, next == 0
	}
	length, target := *each*float64(rows), pieceTarget.Seconds()
	switch {
	case larger:
		p.size++
	case length > target && p.size > 0 && p.each[p.size-1] <= 1.4**each:
		p.size--
	case unknown && (length > target || length <= target/2):
		p.size++
	}
}

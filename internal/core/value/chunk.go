package value

// Chunk is a piece of a stream of rows: Width values a row, row after row. It owns the bytes that its values
// alias, and is reused by whoever fills it: who wants to keep a value clones it.
type Chunk struct {
	Width  int
	Values []Value
	arena  []byte
	size   int
}

// Rows returns how many rows the chunk holds.
func (c *Chunk) Rows() int {
	if c.Width == 0 {
		return 0
	}
	return len(c.Values) / c.Width
}

// Row returns row i.
func (c *Chunk) Row(i int) []Value { return c.Values[i*c.Width : (i+1)*c.Width] }

// Size returns the bytes of variable length that the chunk holds.
func (c *Chunk) Size() int { return c.size }

// Weight is about how many bytes the rows take as they are read: what varies in length, and eight for each value.
func (c *Chunk) Weight() int64 { return int64(c.Size()) + 8*int64(len(c.Values)) }

// Part returns the rows from one up to another, but not that one. It shares their values.
func (c *Chunk) Part(from, to int) *Chunk {
	out := &Chunk{Width: c.Width, Values: c.Values[from*c.Width : to*c.Width]}
	for i := range out.Values {
		out.size += len(out.Values[i].B)
	}
	return out
}

// Append adds copies of another chunk's rows.
func (c *Chunk) Append(o *Chunk) {
	c.Width = o.Width
	for _, v := range o.Values {
		if v.B != nil {
			v.B = c.Keep(v.B)
		}
		c.Values = append(c.Values, v)
	}
}

// Reset empties the chunk and keeps its memory.
func (c *Chunk) Reset() {
	c.Values, c.size = c.Values[:0], 0
	if cap(c.arena) > 8<<20 {
		c.arena = nil // one row of great width must not stay in memory for good
	}
	c.arena = c.arena[:0]
}

// Keep copies b into the chunk's own memory and returns the copy; it is never nil.
func (c *Chunk) Keep(b []byte) []byte {
	if c.arena == nil || len(c.arena)+len(b) > cap(c.arena) {
		c.arena = make([]byte, 0, max(64<<10, 2*cap(c.arena), len(b))) // values in the old arena stay valid
	}
	at := len(c.arena)
	c.size += len(b)
	c.arena = append(c.arena, b...)
	return c.arena[at:len(c.arena):len(c.arena)]
}

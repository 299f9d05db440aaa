package pace

import (
	"slices"
	"time"
)

// costs tells how much of the time of a batch was work, from the batches before it. What waits (for a processor, a
// disk, or a machine that stalls) takes nothing from others, and its time differs from batch to batch; what works takes
// as long each time. The zero value has seen nothing.
type costs struct {
	last [16]costOf
	n    int // of all batches
}

type costOf struct {
	rows int
	took time.Duration
}

// of returns how long a batch of rows worked that took so long: no longer than the third quickest of the last sixteen
// would have, as far as those tell. One of more rows tells the most that fewer take, one of fewer rows is taken as many
// times as it fits.
func (c *costs) of(rows int, took time.Duration) time.Duration {
	c.last[c.n%len(c.last)] = costOf{rows, took}
	c.n++
	if c.n < 4 || rows <= 0 {
		return took
	}
	var would []time.Duration
	for _, x := range c.last[:min(c.n, len(c.last))] {
		if x.rows > 0 {
			would = append(would, time.Duration(float64(x.took)*max(float64(rows)/float64(x.rows), 1)))
		}
	}
	slices.Sort(would)
	return min(took, would[min(2, len(would)-1)])
}

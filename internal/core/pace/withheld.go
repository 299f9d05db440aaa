package pace

import (
	"math"
	"time"
)

// Withheld tells when a host keeps a virtual machine waiting for processors. What takes long in such a moment says
// nothing of what others feel of us. Where a host does so all the time, that is how the machine is, and only what is
// far beyond it counts. The zero value has seen nothing.
type Withheld struct {
	at, sum time.Duration
	told    bool
	usual   float64 // share of the processors' time
}

const (
	// withheldLeast is the share of the processors' time from which on something was withheld, withheldTimes how many
	// times as much as usual that has to be, and withheldUsual the time in which something gets usual.
	withheldLeast, withheldTimes = 0.05, 3.0
	withheldUsual                = 30 * time.Second
)

// Since takes in for how long so many processors, taken together, had been withheld at an instant, counted from any
// beginning, and says whether they were since it was told last.
func (w *Withheld) Since(at, sum time.Duration, processors int) bool {
	passed := at - w.at
	share := (sum - w.sum).Seconds() / max(passed.Seconds(), 1e-6) / float64(max(processors, 1))
	first := !w.told
	w.at, w.sum, w.told = at, sum, true
	if first || passed <= 0 || share < 0 {
		return false
	}
	share = min(share, 1)
	is := share > max(withheldLeast, withheldTimes*w.usual)
	w.usual += (share - w.usual) * (1 - math.Exp(-passed.Seconds()/withheldUsual.Seconds()))
	return is
}

package watch

import (
	"runtime"
	"time"

	"github.com/prometheus/procfs"

	"ambercellar/internal/core/pace"
)

// processors tells when the host keeps this machine waiting for them.
type processors struct {
	pace.Withheld
	stolen func() (sum time.Duration, told bool) // by the host, since the machine was started
	asked  time.Duration
	last   bool
}

// readEach is how often it is read what was stolen: the system counts it in hundredths of a second, and reading it
// takes as long as a probe.
const readEach = 25 * time.Millisecond

// now says whether the host did within the last moment.
func (p *processors) now(at time.Duration) bool {
	if p.asked > 0 && at-p.asked < readEach {
		return p.last
	}
	sum, told := p.stolen()
	p.asked, p.last = at, told && p.Since(at, sum, runtime.NumCPU())
	return p.last
}

// stolen reads what the system says (proc(5), /proc/stat, steal).
func stolen() (sum time.Duration, told bool) {
	proc, err := procfs.NewDefaultFS()
	if err != nil {
		return 0, false
	}
	stat, err := proc.Stat()
	return time.Duration(stat.CPUTotal.Steal * float64(time.Second)), err == nil
}

package watch

import (
	"runtime"
	"time"

	"github.com/prometheus/procfs"

	"ambercellar/internal/core/pace"
)

// processors tells when the host keeps this machine waiting for them, where the system says so (proc(5), /proc/stat,
// steal).
type processors struct{ pace.Withheld }

// now says whether it did since this was asked last.
func (p *processors) now(at time.Duration) bool {
	proc, err := procfs.NewDefaultFS()
	if err != nil {
		return false
	}
	stat, err := proc.Stat()
	return err == nil && p.Since(at, time.Duration(stat.CPUTotal.Steal*float64(time.Second)), runtime.NumCPU())
}

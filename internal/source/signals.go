package source

import (
	"math"
	"syscall"
	"time"

	"ambercellar/internal/core/pace"
)

// Milliseconds rounds a time to tenths of a millisecond, as signals show it.
func Milliseconds(d time.Duration) float64 { return math.Round(d.Seconds()*1e4) / 10 }

// DiskSignal adds what is free on the disk of a directory of this machine, where one is named and can be asked.
func DiskSignal(directory string, signals map[string]float64) {
	var st syscall.Statfs_t
	if directory != "" && syscall.Statfs(directory, &st) == nil {
		signals[pace.Disk] = float64(st.Bavail) * float64(st.Bsize)
	}
}

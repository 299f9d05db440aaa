package sqlite

import (
	"context"
	"path/filepath"
	"strings"
	"time"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// Signals times a look-up by key, which waits where others hold the file, and looks at the disk that the file is on.
func (s *Source) Signals(ctx context.Context, t *shape.Table) (map[string]float64, error) {
	out := map[string]float64{}
	begun := time.Now()
	rows, err := s.read.QueryContext(ctx, "SELECT 1 FROM "+quote(t.Name)+" ORDER BY "+
		strings.ReplaceAll(quoteAll("", t.Key), ", ", " DESC, ")+" DESC LIMIT 1")
	if err == nil {
		rows.Next()
		err = rows.Close()
	}
	out[pace.Probe] = source.Milliseconds(time.Since(begun))
	disk := s.cfg.Disk
	if disk == "" {
		disk = filepath.Dir(s.path)
	}
	source.DiskSignal(disk, out)
	return out, err
}

package sqlite

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"sort"
	"sync"
)

// logMeter adds up what is written to the write-ahead log, which begins again at its start after a checkpoint.
type logMeter struct {
	sync.Mutex
	begun  bool
	salts  []byte // of the log as it stood when it was last looked at
	frames int
	total  int64
}

// Lengths of the write-ahead log's parts in bytes, by SQLite's "Database File Format", section 4.1.
const (
	walHeader   = 32
	frameHeader = 24
)

// LogWritten adds up what it finds new in the write-ahead log. What was written and overwritten since it was last
// called is not seen, so it is called after every batch. Only the log's own file is opened: closing the file with its
// index would let go of SQLite's locks in this process.
func (s *Source) LogWritten(context.Context) (total int64, known bool, err error) {
	if s.blocks {
		return 0, false, nil
	}
	m := &s.log
	m.Lock()
	defer m.Unlock()
	defer func() { m.begun = true }()
	f, err := os.Open(s.path + "-wal")
	if errors.Is(err, fs.ErrNotExist) {
		return m.total, true, nil
	}
	if err != nil {
		return 0, false, err
	}
	defer f.Close()
	var header [walHeader]byte
	if _, err := f.ReadAt(header[:], 0); err != nil { // empty: nothing was written yet
		return m.total, true, nil
	}
	info, err := f.Stat()
	if err != nil {
		return 0, false, err
	}
	frame := int64(frameHeader) + int64(binary.BigEndian.Uint32(header[8:]))
	salts := header[16:24]
	// Frames of the present log carry its salts; behind them may stand ones that are left over.
	n := sort.Search(int((info.Size()-walHeader)/frame), func(i int) bool {
		var got [8]byte
		_, err := f.ReadAt(got[:], walHeader+int64(i)*frame+8)
		return err != nil || !bytes.Equal(got[:], salts)
	})
	switch {
	case !m.begun: // what stands there now was written before
	case bytes.Equal(m.salts, salts):
		m.total += int64(max(n-m.frames, 0)) * frame
	default:
		m.total += int64(n) * frame
	}
	m.salts, m.frames = bytes.Clone(salts), n
	return m.total, true, nil
}

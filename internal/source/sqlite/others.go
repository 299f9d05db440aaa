package sqlite

import (
	"context"
	"database/sql"
	"sync"
	"time"

	"ambercellar/internal/core/pace"
)

// others is what is known of those who write the file beside us. All of our own transactions that change something go
// over one connection, and what that sees of the file's version changes only where another one has committed (SQLite
// documentation, "PRAGMA data_version").
type others struct {
	mu      sync.Mutex
	version int64
	since   time.Time // when the version was first asked for; zero: never
	asked   time.Time
	last    time.Time // when somebody else was last seen to write, or to hold the file
}

// look compares the file's version, on the connection that writes.
func (o *others) look(ctx context.Context, conn *sql.Conn) error {
	var version int64
	if err := conn.QueryRowContext(ctx, "PRAGMA data_version").Scan(&version); err != nil {
		return err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	now := time.Now()
	if o.since.IsZero() {
		o.since = now
	} else if version != o.version {
		o.last = now
	}
	o.version, o.asked = version, now
	return nil
}

// came notes that somebody else holds the file.
func (o *others) came() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.last = time.Now()
}

// Others says whether somebody else has changed the file, or held it, within the time given, and whether nobody else
// has it open. Of those who have, whoever only reads is not seen.
func (s *Source) Others(ctx context.Context, within time.Duration) (pace.Look, error) {
	s.others.mu.Lock()
	fresh := time.Since(s.others.asked) < within/2
	s.others.mu.Unlock()
	if !fresh { // otherwise a transaction of ours has just looked
		conn, err := s.write.Conn(ctx)
		if err != nil {
			return pace.Look{}, err
		}
		err = s.others.look(ctx, conn)
		conn.Close()
		if err != nil {
			return pace.Look{}, err
		}
	}
	alone := s.alone()
	s.others.mu.Lock()
	defer s.others.mu.Unlock()
	out := pace.Look{Span: min(within, time.Since(s.others.since)), Alone: alone}
	if !s.others.last.IsZero() && time.Since(s.others.last) < within {
		out.Busy = 1
	}
	return out, nil
}

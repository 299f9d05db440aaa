package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ambercellar/internal/source"
)

// openedSource is a source that was opened, or is being opened. Each is opened by itself: a database that does not
// answer keeps only those waiting who want something of it.
type openedSource struct {
	turn   chan struct{} // holds one while somebody looks at what follows
	source source.Source // nil: not yet
	failed error         // by the last try to open it
	again  time.Time     // when the next one may be made
	pause  time.Duration // before that, growing
}

// A try to open a source takes no longer than openBudget. After one that failed, askers hear of that for a while,
// before the next is made.
const (
	openBudget             = 30 * time.Second
	firstPause, longestOne = 500 * time.Millisecond, 15 * time.Second
)

// source opens a source once and keeps it open.
func (s *Places) source(ctx context.Context, name string) (source.Source, error) {
	if frozen := s.freezes.over(name, ""); frozen != nil {
		return nil, frozen
	}
	s.mu.Lock()
	o := s.sources[name]
	s.mu.Unlock()
	if o == nil {
		if _, err := s.Catalog.Source(ctx, name); err != nil {
			return nil, err
		}
		s.mu.Lock()
		if o = s.sources[name]; o == nil {
			o = &openedSource{turn: make(chan struct{}, 1)}
			s.sources[name] = o
		}
		s.mu.Unlock()
	}
	select {
	case o.turn <- struct{}{}:
		defer func() { <-o.turn }()
	case <-ctx.Done():
		return nil, source.Of(name, fmt.Errorf("%w: it is being opened", source.ErrUnreachable))
	}
	if o.source != nil {
		return o.source, nil
	}
	if time.Now().Before(o.again) {
		return nil, o.failed
	}
	c, err := s.Catalog.Source(ctx, name)
	if err != nil {
		return nil, err
	}
	if c.Engine == "sqlite" { // a link may lead elsewhere by now
		if err := s.notOurs("address", c.Address); err != nil {
			return nil, err
		}
	}
	within, cancel := context.WithTimeout(ctx, openBudget)
	defer cancel()
	src, err := openers[c.Engine](within, *c)
	if err == nil {
		o.source, o.failed = src, nil
		return src, nil
	}
	if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
		err = source.Of(name, fmt.Errorf("%w: it was not opened within %s", source.ErrUnreachable, openBudget))
	}
	if ctx.Err() == nil { // the asker has waited for it
		o.pause = min(max(2*o.pause, firstPause), longestOne)
		o.failed, o.again = err, time.Now().Add(o.pause)
	}
	return nil, err
}

package api

import (
	"context"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/core/rights"
)

// standsEvery is how often it is asked whether somebody may still have what flows to them: where something has
// changed of who may come in, and otherwise, since accounts and sessions run out, every expiresEvery.
const standsEvery, expiresEvery = 2 * time.Second, 30 * time.Second

// streams are the answers that flow, with who they flow to. One goroutine looks after all of them.
type streams struct {
	mu   sync.Mutex
	all  map[*stream]bool
	at   int64 // api's catalog.Access when all were looked at
	last time.Time
}

type stream struct {
	asks   *http.Request // as it came, with no end of its own
	right  rights.Right
	cancel context.CancelFunc
}

// whileStanding breaks off what flows to somebody whose account or session has ended, or who has lost the right to it.
func (a *API) whileStanding(right rights.Right) gin.HandlerFunc {
	return func(c *gin.Context) {
		ctx, cancel := context.WithCancel(c.Request.Context())
		defer cancel()
		s := &stream{asks: c.Request.WithContext(context.WithoutCancel(ctx)), right: right, cancel: cancel}
		a.flows(s)
		defer a.ended(s)
		c.Request = c.Request.WithContext(ctx)
		c.Next()
	}
}

func (a *API) flows(s *stream) {
	x := &a.streams
	x.mu.Lock()
	defer x.mu.Unlock()
	if len(x.all) == 0 {
		x.all, x.at, x.last = map[*stream]bool{}, a.service.Catalog.Access(), time.Now()
		go a.watchStreams()
	}
	x.all[s] = true
	a.look(s) // it may have changed since they came in
}

// look ends a stream where whoever has it may not any more. Where that cannot be asked, it goes on.
func (a *API) look(s *stream) {
	if who, err := a.sender(s.asks, ""); err == nil && (who == nil || !who.MaySomewhere(s.right)) {
		s.cancel()
	}
}

func (a *API) ended(s *stream) {
	a.streams.mu.Lock()
	defer a.streams.mu.Unlock()
	delete(a.streams.all, s)
}

// watchStreams looks after the streams as long as there are any.
func (a *API) watchStreams() {
	for {
		time.Sleep(standsEvery)
		if !a.lookAtStreams() {
			return
		}
	}
}

func (a *API) lookAtStreams() (more bool) {
	x := &a.streams
	x.mu.Lock()
	defer x.mu.Unlock()
	at := a.service.Catalog.Access()
	if at == x.at && time.Since(x.last) < expiresEvery {
		return len(x.all) > 0
	}
	x.at, x.last = at, time.Now()
	for s := range x.all {
		a.look(s)
	}
	return len(x.all) > 0
}

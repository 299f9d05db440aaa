package service

import (
	"context"
	"crypto/rand"
	"fmt"
	"strings"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
)

// A command line is signed in by somebody who is signed in to the console, by whatever way: it shows a code, they
// confirm it there. So single sign-on serves the command line too, on a machine without a browser as well.

const (
	pairingLife = 10 * time.Minute // from a code's being shown until the session has begun
	mostPairing = 1000             // at a time
	mostOfOne   = 20               // of one address
)

// pairing is a command line that shows a code.
type pairing struct {
	secret  string // its hash: of what the command line knows besides
	account string // who confirmed it; empty: nobody yet
	address string
	agent   string
	begun   time.Time
}

// pairings are those that wait, by code.
type pairings struct {
	mu     sync.Mutex
	byCode *lru.Cache[string, *pairing]
}

// of finds the one of a code; nil: there is none, or it has taken too long. The lock is held.
func (x *pairings) of(code string) *pairing {
	p, known := x.byCode.Peek(code)
	if !known || time.Since(p.begun) > pairingLife {
		return nil
	}
	return p
}

// Pairing is what a command line is told of its own pairing.
type Pairing struct {
	Code      string
	Secret    string
	ExpiresAt time.Time
}

// codeLetters are those of codes that people read and write: none looks like another one.
const codeLetters = "ABCDEFGHJKMNPQRSTUVWXYZ23456789"

func newCode() string {
	b := make([]byte, 8)
	text := rand.Text() + rand.Text() // more than enough letters and digits
	n := 0
	for i := 0; n < len(b) && i < len(text); i++ {
		if strings.IndexByte(codeLetters, text[i]) >= 0 {
			b[n] = text[i]
			n++
		}
	}
	return string(b[:4]) + "-" + string(b[4:])
}

// BeginPairing gives a command line a code to show. From one address, so many wait at the most.
func (s *Access) BeginPairing(address, agent string) (Pairing, error) {
	p := Pairing{Code: newCode(), Secret: rand.Text(), ExpiresAt: time.Now().Add(pairingLife)}
	s.pairings.mu.Lock()
	defer s.pairings.mu.Unlock()
	wait, n := pairingLife, 0
	for _, x := range s.pairings.byCode.Values() {
		if left := pairingLife - time.Since(x.begun); x.address == address && left > 0 {
			wait, n = min(wait, left), n+1
		}
	}
	if n >= mostOfOne {
		return Pairing{}, &TooManyError{Wait: wait}
	}
	s.pairings.byCode.Add(p.Code, &pairing{secret: hash(p.Secret), address: address,
		agent: firstBytes(plainText(agent), mostAgent), begun: time.Now()})
	return p, nil
}

// Pair lets the command line that shows a code sign in as whoever confirms it in the console.
func (s *Access) Pair(ctx context.Context, who *Who, code string) error {
	if who.Session == nil || who.Account == nil || who.Account.Kind != catalog.Person {
		return &refuse.Error{Field: "code", Message: "only a person who is signed in to the console confirms a code",
			Remedy: "a service has a token of its own: set AMBERCELLAR_TOKEN"}
	}
	code = strings.ToUpper(strings.TrimSpace(code))
	if len(code) == 8 {
		code = code[:4] + "-" + code[4:]
	}
	if wait := s.tries.waits("pairing of "+who.Name, time.Now()); wait > 0 {
		return &TooManyError{Wait: wait}
	}
	s.pairings.mu.Lock()
	p := s.pairings.of(code)
	known := p != nil && p.account == ""
	s.pairings.mu.Unlock()
	if !known {
		s.tries.failed("pairing of "+who.Name, time.Now())
		return &refuse.Error{Field: "code", Message: fmt.Sprintf("no command line shows the code %.20q now", code),
			Remedy: "begin anew with `ambercellar login -console`"}
	}
	if err := s.Catalog.Note(ctx, who.Name, "session pair", who.Name, fmt.Sprintf("the command line at %s (%s)",
		p.address, p.agent)); err != nil {
		return err
	}
	s.pairings.mu.Lock()
	defer s.pairings.mu.Unlock()
	if p.account != "" {
		return fmt.Errorf("the code was confirmed already: %w", catalog.ErrState)
	}
	p.account = who.Name
	return nil
}

// TakePairing returns who has confirmed the code of a command line, once; nil: nobody yet.
func (s *Access) TakePairing(ctx context.Context, code, secret string) (*Who, error) {
	s.pairings.mu.Lock()
	p, account := s.pairings.of(code), ""
	known := p != nil && p.secret == hash(secret)
	if known {
		if account = p.account; account != "" {
			s.pairings.byCode.Remove(code)
		}
	}
	s.pairings.mu.Unlock()
	if !known {
		return nil, &refuse.Error{Field: "code", Message: "this code is not known, was used, or has taken too long",
			Remedy: "begin anew with `ambercellar login -console`"}
	}
	if account == "" {
		return nil, nil
	}
	a, err := s.Catalog.Account(ctx, account)
	if err != nil {
		return nil, err
	}
	if !a.Stands(time.Now()) || a.MustChange {
		return nil, &refuse.Error{Message: "the account " + account + " cannot sign in now",
			Remedy: "look at it in the console"}
	}
	return whoOf(a), nil
}

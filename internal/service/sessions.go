package service

import (
	"context"
	"crypto/rand"
	"time"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/catalog"
)

// sessionLife is how long a session lasts at the most, and sessionIdle how long one that is not used.
const sessionLife, sessionIdle = 12 * time.Hour, 2 * time.Hour

// Beginning is what is known of a session that is to begin.
type Beginning struct {
	Who     *Who
	How     string // how they signed in, for the record
	Instead string // the secret of a session that the browser had before; empty: none
	Address string
	Agent   string
}

// mostAgent is how much is kept of what a browser calls itself.
const mostAgent = 200

// BeginSession makes a session for someone who has shown who they are, and returns its secret.
func (s *Access) BeginSession(ctx context.Context, b Beginning) (secret string, session *catalog.Session, err error) {
	account := b.Who.Name
	if account == administrator.Name {
		account = ""
	}
	now := time.Now()
	secret = sessionToken + rand.Text()
	session = &catalog.Session{ID: ulid.Make().String(), Hash: hash(secret), Account: account, BegunAt: catalog.At(now),
		ExpiresAt: catalog.At(now.Add(sessionLife)), UsedAt: catalog.At(now), Address: b.Address,
		Agent: firstBytes(b.Agent, mostAgent)}
	instead := ""
	if b.Instead != "" {
		instead = hash(b.Instead)
	}
	return secret, session, s.Catalog.AddSession(ctx, b.Who.Name, session, instead, b.How)
}

// firstBytes is the beginning of a text, of so many bytes at the most, and of whole characters.
func firstBytes(text string, most int) string {
	if len(text) <= most {
		return text
	}
	cut := 0
	for i := range text {
		if i > most {
			break
		}
		cut = i
	}
	return text[:cut]
}

// CheckSession returns whose a session is; nil: it does not stand.
func (s *Access) CheckSession(ctx context.Context, secret string) (*Who, error) {
	now := time.Now()
	key := hash(secret)
	k := s.recall(key)
	if k == nil {
		at := s.Catalog.Access() // before it is read
		session, a, err := s.Catalog.Session(ctx, key, now)
		if err != nil || session == nil {
			return nil, err
		}
		who := administrator
		if a != nil {
			who = *whoOf(a)
		}
		who.Session = session
		k = s.remember(key, at, who)
	}
	who, idle := k.who, now.Unix()-k.used.Load()
	if !who.Session.ExpiresAt.After(now) || idle > int64(sessionIdle/time.Second) ||
		who.Account != nil && !who.Account.Stands(now) {
		return nil, nil
	}
	if idle >= int64(usedEvery/time.Second) {
		k.used.Store(now.Unix())
		if err := s.Catalog.UsedSession(ctx, who.Session.ID, now); err != nil { // as with tokens
			s.Log.Warn("when a session was used cannot be kept", "session", who.Session.ID, "error", err)
		}
	}
	return &who, nil
}

// Sessions lists somebody's sessions, or all.
func (s *Access) Sessions(ctx context.Context, who *Who, all bool) ([]catalog.Session, error) {
	if all {
		return s.Catalog.Sessions(ctx, nil, time.Now())
	}
	return s.Catalog.Sessions(ctx, who.account(), time.Now())
}

// account is the name of the account for sessions: the administrator's token has none.
func (w *Who) account() *string {
	name := w.Name
	if w.Account == nil {
		name = ""
	}
	return &name
}

// EndSession ends a session of somebody's own, or of anybody's.
func (s *Access) EndSession(ctx context.Context, who *Who, id string, anybodys bool) error {
	if anybodys {
		return s.Catalog.EndSession(ctx, who.Name, id, nil)
	}
	return s.Catalog.EndSession(ctx, who.Name, id, who.account())
}

package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"
)

// Access says who may come in: tokens and sessions.
type Access struct {
	*base
	scrape atomic.Pointer[string] // the token for reading figures alone; nil or empty: there is none
}

// SetScrapeToken changes the token for reading figures alone; empty: there is none.
func (s *Access) SetScrapeToken(token string) { s.scrape.Store(&token) }

// ScrapeToken is the token for reading figures alone; empty: there is none.
func (s *Access) ScrapeToken() string {
	if token := s.scrape.Load(); token != nil {
		return *token
	}
	return ""
}

// tokenSetting is where the catalog keeps the hash of the administrator's token.
const tokenSetting = "token_sha256"

// sessionLife is how long a console session lasts.
const sessionLife = 12 * time.Hour

// hash of a secret. Secrets are made here and hold at least 128 random bits, so a plain hash keeps them.
func hash(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// NewToken makes a new administrator's token; the one before is void, and so are all sessions.
func (s *Access) NewToken(ctx context.Context) (string, error) {
	token := "amber_" + rand.Text()
	return token, s.Catalog.SetToken(ctx, tokenSetting, hash(token))
}

// TokenFile is the file in the data directory that a new token is written to, for its owner alone.
const TokenFile = "administrator-token"

// WriteToken writes a new token into its file, in the place of one before, and returns the file's path.
func (s *Access) WriteToken(token string) (path string, err error) {
	path = filepath.Join(s.dir, TokenFile)
	fresh := path + ".new"
	if err := os.Remove(fresh); err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	f, err := os.OpenFile(fresh, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return "", err
	}
	_, err = f.WriteString(token + "\n")
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(fresh, path)
	}
	return path, err
}

// CheckToken says whether a token is the administrator's.
func (s *Access) CheckToken(ctx context.Context, token string) (bool, error) {
	known, err := s.Catalog.Setting(ctx, tokenSetting)
	return err == nil && known != "" && subtle.ConstantTimeCompare([]byte(known), []byte(hash(token))) == 1, err
}

// MayScrape says whether a request's authorization is the token for reading figures.
func (s *Access) MayScrape(authorization string) bool {
	token, bearer := strings.CutPrefix(authorization, "Bearer ")
	known := s.ScrapeToken()
	return bearer && known != "" && subtle.ConstantTimeCompare([]byte(hash(known)), []byte(hash(token))) == 1
}

// BeginSession makes a console session for someone who has shown the token; the secret goes into a cookie.
func (s *Access) BeginSession(ctx context.Context) (secret string, expires time.Time, err error) {
	secret, expires = rand.Text(), time.Now().Add(sessionLife)
	return secret, expires, s.Catalog.AddSession(ctx, hash(secret), expires)
}

// CheckSession says whether a session stands.
func (s *Access) CheckSession(ctx context.Context, secret string) (bool, error) {
	return s.Catalog.HasSession(ctx, hash(secret), time.Now())
}

// EndSession ends a session.
func (s *Access) EndSession(ctx context.Context, secret string) error {
	return s.Catalog.EndSession(ctx, hash(secret))
}

package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"time"
)

// tokenSetting is where the catalog keeps the hash of the administrator's token.
const tokenSetting = "token_sha256"

// sessionLife is how long a console session lasts.
const sessionLife = 12 * time.Hour

// hash of a secret. Secrets are made here and hold at least 128 random bits, so a plain hash keeps them.
func hash(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// NewToken makes a new administrator's token; the one before is void.
func (s *Service) NewToken(ctx context.Context) (string, error) {
	token := "amber_" + rand.Text()
	return token, s.Catalog.SetSetting(ctx, tokenSetting, hash(token))
}

// CheckToken says whether a token is the administrator's.
func (s *Service) CheckToken(ctx context.Context, token string) (bool, error) {
	known, err := s.Catalog.Setting(ctx, tokenSetting)
	return err == nil && known != "" && subtle.ConstantTimeCompare([]byte(known), []byte(hash(token))) == 1, err
}

// BeginSession makes a console session for someone who has shown the token; the secret goes into a cookie.
func (s *Service) BeginSession(ctx context.Context) (secret string, expires time.Time, err error) {
	secret, expires = rand.Text(), time.Now().Add(sessionLife)
	return secret, expires, s.Catalog.AddSession(ctx, hash(secret), expires)
}

// CheckSession says whether a session stands.
func (s *Service) CheckSession(ctx context.Context, secret string) (bool, error) {
	return s.Catalog.HasSession(ctx, hash(secret), time.Now())
}

// EndSession ends a session.
func (s *Service) EndSession(ctx context.Context, secret string) error {
	return s.Catalog.EndSession(ctx, hash(secret))
}

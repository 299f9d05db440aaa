package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/rights"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/refuse"
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

// Who is who has come in, and what they may do.
type Who struct {
	Name string
	Role rights.Role
	Rows bool // sees values of rows
}

// administrator is who shows the administrator's token.
var administrator = Who{Name: "administrator", Role: rights.Administrator, Rows: true}

// May says whether somebody has a right.
func (w *Who) May(right rights.Right) bool {
	return w.Role.May(right) || right == rights.Rows && w.Rows
}

func whoOf(a *catalog.Account) *Who { return &Who{Name: a.Name, Role: a.Role, Rows: a.SeesRows} }

// CheckToken returns whose a token is; nil: nobody's who may come in. from is the address that it comes from.
func (s *Access) CheckToken(ctx context.Context, token, from string) (*Who, error) {
	known, err := s.Catalog.Setting(ctx, tokenSetting)
	if err != nil {
		return nil, err
	}
	if known != "" && subtle.ConstantTimeCompare([]byte(known), []byte(hash(token))) == 1 {
		who := administrator
		return &who, nil
	}
	a, err := s.Catalog.AccountOf(ctx, hash(token), time.Now())
	if err != nil || a == nil {
		return nil, err
	}
	if err := s.used(ctx, a, from); err != nil { // that it cannot be kept is no reason to keep somebody out
		s.Log.Warn("when an account was used cannot be kept", "account", a.Name, "error", err)
	}
	return whoOf(a), nil
}

// usedEvery is how exactly it is kept when an account was last used.
const usedEvery = time.Minute

func (s *Access) used(ctx context.Context, a *catalog.Account, from string) error {
	now := time.Now()
	if a.UsedAt != nil && a.UsedFrom == from && now.Sub(a.UsedAt.Time) < usedEvery {
		return nil
	}
	return s.Catalog.UsedAccount(ctx, a.Name, from, now)
}

// accountName is what an account may be called.
var accountName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// NewAccount is an account that is to be made.
type NewAccount struct {
	Name, About, Role string
	Rows              bool
	Expires           string // an instant or a duration; empty: never
}

// AddAccount makes an account and returns its token, which nobody is told again.
func (s *Access) AddAccount(ctx context.Context, actor string, in NewAccount) (token string, err error) {
	if !accountName.MatchString(in.Name) || in.Name == administrator.Name || in.Name == "service" {
		return "", &refuse.Error{Field: "name", Message: fmt.Sprintf("%q is not a name for an account", in.Name),
			Remedy: "use up to 63 small letters, digits and hyphens, a letter or digit first, and neither " +
				"administrator nor service"}
	}
	role, err := rights.ParseRole(in.Role)
	if err != nil {
		return "", &refuse.Error{Field: "role", Message: err.Error(),
			Remedy: "write viewer, operator, approver or administrator"}
	}
	token = "amber_" + rand.Text()
	a := catalog.Account{Name: in.Name, About: in.About, Role: role, SeesRows: in.Rows, Token: hash(token)}
	if in.Expires != "" {
		at, err := s.expiry(in.Expires)
		if err != nil {
			return "", err
		}
		a.ExpiresAt = at
	}
	if taken, err := s.Catalog.AddAccount(ctx, actor, a); err != nil {
		return "", err
	} else if taken {
		return "", &refuse.Error{Field: "name", Message: fmt.Sprintf("there is an account %s, or was", in.Name),
			Remedy: "take another name: the record of who did what knows it"}
	}
	return token, nil
}

// expiry reads when an account ends.
func (s *Access) expiry(text string) (*catalog.Time, error) {
	at, ok := rule.ParseISO(text)
	if p, err := period.Parse(text); !ok && err == nil {
		now := s.Now()
		at, ok = now.Add(now.Sub(p.Before(now, time.UTC))), true
	}
	if !ok || !at.After(s.Now()) {
		return nil, &refuse.Error{Field: "expires", Message: fmt.Sprintf("%q is no time to come", text),
			Remedy: "write an instant like 2027-03-31T00:00:00Z, or a duration like P90D"}
	}
	out := catalog.At(at)
	return &out, nil
}

// RevokeAccount ends an account and its sessions.
func (s *Access) RevokeAccount(ctx context.Context, actor, name, reason string) error {
	if strings.TrimSpace(reason) == "" {
		return &refuse.Error{Field: "reason", Message: "no reason is given", Remedy: "say why the account ends"}
	}
	return s.Catalog.RevokeAccount(ctx, actor, name, reason)
}

// MayDecide says whether somebody may approve what another has asked for: whoever asked may not, but for the
// administrator where nobody else could.
func (s *Access) MayDecide(ctx context.Context, who *Who, asker string) error {
	if who.Name != asker {
		return nil
	}
	if who.Name == administrator.Name {
		list, err := s.Catalog.Accounts(ctx)
		if err != nil {
			return err
		}
		now := s.Now()
		if !slices.ContainsFunc(list, func(a catalog.Account) bool {
			return a.RevokedAt == nil && (a.ExpiresAt == nil || a.ExpiresAt.After(now)) && a.Role.May(rights.Approve)
		}) {
			return nil
		}
	}
	return &refuse.Error{Message: who.Name + " has asked for it and may not approve it",
		Remedy: "have somebody else decide: whoever has the right to approve"}
}

// MayScrape says whether a request's authorization is the token for reading figures.
func (s *Access) MayScrape(authorization string) bool {
	token, bearer := strings.CutPrefix(authorization, "Bearer ")
	known := s.ScrapeToken()
	return bearer && known != "" && subtle.ConstantTimeCompare([]byte(hash(known)), []byte(hash(token))) == 1
}

// BeginSession makes a console session for someone who has shown a token; the secret goes into a cookie.
func (s *Access) BeginSession(ctx context.Context, who *Who) (secret string, expires time.Time, err error) {
	account := who.Name
	if account == administrator.Name {
		account = ""
	}
	secret, expires = rand.Text(), time.Now().Add(sessionLife)
	return secret, expires, s.Catalog.AddSession(ctx, hash(secret), account, expires)
}

// CheckSession returns whose a session is; nil: it does not stand.
func (s *Access) CheckSession(ctx context.Context, secret string) (*Who, error) {
	switch ok, err := s.Catalog.HasSession(ctx, hash(secret), time.Now()); {
	case err != nil:
		return nil, err
	case ok:
		who := administrator
		return &who, nil
	}
	a, err := s.Catalog.SessionAccount(ctx, hash(secret), time.Now())
	if err != nil || a == nil {
		return nil, err
	}
	return whoOf(a), nil
}

// EndSession ends a session.
func (s *Access) EndSession(ctx context.Context, secret string) error {
	return s.Catalog.EndSession(ctx, hash(secret))
}

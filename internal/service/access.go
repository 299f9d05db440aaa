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
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rights"
	"ambercellar/internal/engine/refuse"

	lru "github.com/hashicorp/golang-lru/v2"
)

// Access says who may come in: tokens, passwords and sessions.
type Access struct {
	*base
	scrape atomic.Pointer[string] // the token for reading figures alone; nil or empty: there is none
	tries  tries
	single single
	floods floods

	pairings pairings
	known    *lru.Cache[string, *known] // by the hash of what they showed
}

func newAccess(b *base) *Access {
	s := &Access{base: b}
	s.single.pending, _ = lru.New[string, *pendingSignIn](mostPending) // a size that is none is the only error
	s.known, _ = lru.New[string, *known](mostKnown)
	s.pairings.byCode, _ = lru.New[string, *pairing](mostPairing)
	return s
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
	Name    string
	Owner   string // the person whose account it is besides; empty: it stands for itself
	Role    rights.Role
	Rows    bool // sees values of rows
	Grants  rights.Grants
	Session *catalog.Session // nil: came with a token
	Account *catalog.Account // nil: the administrator's token
}

// administrator is who shows the administrator's token.
var administrator = Who{Name: "administrator", Role: rights.Administrator, Rows: true}

// May says whether somebody has a right in all sources.
func (w *Who) May(right rights.Right) bool {
	return w.Role.May(right) || right == rights.Rows && w.Rows
}

// MayIn says whether somebody has a right in a source.
func (w *Who) MayIn(right rights.Right, source string) bool {
	return w.May(right) || w.Grants[source].May(right)
}

// MaySomewhere says whether somebody has a right in all sources or in one.
func (w *Who) MaySomewhere(right rights.Right) bool {
	for source := range w.Grants {
		if w.MayIn(right, source) {
			return true
		}
	}
	return w.May(right)
}

// person is whose acts an account's are: nobody decides on what they asked for under another of their accounts.
func person(a *catalog.Account) string {
	if a.Owner != "" {
		return a.Owner
	}
	return a.Name
}

func (w *Who) person() string {
	if w.Owner != "" {
		return w.Owner
	}
	return w.Name
}

func whoOf(a *catalog.Account) *Who {
	return &Who{Name: a.Name, Owner: a.Owner, Role: a.Role, Rows: a.SeesRows, Grants: a.Grants.V, Account: a}
}

// sessionToken begins the secrets of sessions, where they are shown in place of a token.
const sessionToken = "amber_session_"

// known is who showed a token or a session's secret, as it was read.
type known struct {
	who  Who
	at   int64        // catalog.Access when it was read
	used atomic.Int64 // when it was kept last that it was used, in Unix seconds
	from atomic.Pointer[string]
}

// mostKnown is how many tokens and secrets are known at a time without asking the catalog.
const mostKnown = 10_000

// recall returns who showed a token or a secret before, where nothing has changed since of who may come in.
func (s *Access) recall(hash string) *known {
	k, ok := s.known.Get(hash)
	if !ok || k.at != s.Catalog.Access() {
		return nil
	}
	return k
}

func (s *Access) remember(hash string, at int64, who Who) *known {
	k := &known{who: who, at: at}
	if a := who.Account; a != nil && a.UsedAt != nil {
		k.used.Store(a.UsedAt.Unix())
		k.from.Store(&a.UsedFrom)
	}
	if who.Session != nil {
		k.used.Store(who.Session.UsedAt.Unix())
	}
	s.known.Add(hash, k)
	return k
}

// CheckToken returns whose a token is; nil: nobody's who may come in. from is the address that it comes from; empty: it
// is only asked whether it stands.
func (s *Access) CheckToken(ctx context.Context, token, from string) (*Who, error) {
	if strings.HasPrefix(token, sessionToken) {
		return s.CheckSession(ctx, token)
	}
	key := hash(token)
	k := s.recall(key)
	if k == nil {
		at := s.Catalog.Access() // before it is read
		admin, err := s.Catalog.Setting(ctx, tokenSetting)
		if err != nil {
			return nil, err
		}
		if admin != "" && subtle.ConstantTimeCompare([]byte(admin), []byte(key)) == 1 {
			k = s.remember(key, at, administrator)
		} else {
			a, err := s.Catalog.AccountOf(ctx, key, time.Now())
			if err != nil || a == nil {
				return nil, err
			}
			k = s.remember(key, at, *whoOf(a))
		}
	}
	who := k.who
	if who.Account == nil {
		return &who, nil
	}
	if !who.Account.Stands(time.Now()) {
		return nil, nil
	}
	s.used(ctx, k, from)
	return &who, nil
}

// CheckCertificate returns the service whose account is called as a client certificate names it, which an authority
// vouches for; nil: there is none that may come in. A person signs in by other means.
func (s *Access) CheckCertificate(ctx context.Context, name, from string) (*Who, error) {
	a, err := s.Catalog.Account(ctx, name)
	if errors.Is(err, catalog.ErrNotFound) || err == nil && (a.Kind != catalog.ServiceUser || !a.Stands(time.Now())) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	s.used(ctx, s.remember("certificate of "+name, -1, *whoOf(a)), from)
	return whoOf(a), nil
}

// usedEvery is how exactly it is kept when an account or a session was last used.
const usedEvery = time.Minute

// used keeps when and from where an account was used last. That it cannot be kept is no reason to keep somebody out.
func (s *Access) used(ctx context.Context, k *known, from string) {
	now := time.Now()
	last := k.from.Load()
	if from == "" || last != nil && *last == from && now.Unix()-k.used.Load() < int64(usedEvery/time.Second) {
		return
	}
	k.used.Store(now.Unix())
	k.from.Store(&from)
	if err := s.Catalog.UsedAccount(ctx, k.who.Account.Name, from, now); err != nil {
		s.Log.Warn("when an account was used cannot be kept", "account", k.who.Account.Name, "error", err)
	}
}

// MayDecide says whether somebody may approve what another has asked for: whoever asked may not, under none of their
// accounts, but for the administrator where nobody else could.
func (s *Access) MayDecide(ctx context.Context, who *Who, asker string) error {
	asked := asker
	if a, err := s.Catalog.Account(ctx, asker); err == nil {
		asked = person(a)
	} else if !errors.Is(err, catalog.ErrNotFound) {
		return err
	}
	if who.person() != asked {
		return nil
	}
	if who.Name == administrator.Name {
		list, err := s.Catalog.Accounts(ctx)
		if err != nil {
			return err
		}
		now := s.Now()
		if !slices.ContainsFunc(list, func(a catalog.Account) bool {
			return a.Stands(now) && whoOf(&a).MaySomewhere(rights.Approve)
		}) {
			return nil
		}
	}
	as := ""
	if who.Name != asker {
		as = ", as " + asker + ","
	}
	return &refuse.Error{Message: who.Name + " has asked for it" + as + " and may not approve it",
		Remedy: "have somebody else decide: whoever has the right to approve"}
}

// MayScrape says whether a request's authorization is the token for reading figures.
func (s *Access) MayScrape(authorization string) bool {
	token, bearer := strings.CutPrefix(authorization, "Bearer ")
	known := s.ScrapeToken()
	return bearer && known != "" && subtle.ConstantTimeCompare([]byte(hash(known)), []byte(hash(token))) == 1
}

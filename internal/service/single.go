package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/oauth2"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/audit"
	"ambercellar/internal/core/rights"
	"ambercellar/internal/engine/refuse"
)

// Single is how people sign in by single sign-on: OpenID Connect, the authorization code flow with PKCE (RFC 7636).
type Single struct {
	Issuer     string // its address; empty: there is no single sign-on
	Client     string // how the issuer calls this service
	SecretFile string // with the client's secret; empty: there is none
	Console    string // address of the console as people have it
	Groups     string // the claim that holds the groups of a person
	Roles      []GroupRole
}

// GroupRole is what people of a group may do: in all sources, or in one.
type GroupRole struct {
	Group, Source string
	Grant         rights.Grant
}

// ParseGroupRoles reads what groups may do, as people write it: GROUP=ROLE or GROUP@SOURCE=ROLE, +rows behind it.
func ParseGroupRoles(list []string) (out []GroupRole, err error) {
	for _, text := range list {
		at := strings.LastIndexByte(text, '=')
		if at < 1 {
			return nil, fmt.Errorf("%q is not written like desk=operator or desk@harbour=operator+rows", text)
		}
		group, source, _ := strings.Cut(text[:at], "@")
		role, rows, _ := strings.Cut(text[at+1:], "+")
		x := GroupRole{Group: group, Source: source, Grant: rights.Grant{Rows: rows == "rows"}}
		if rows != "" && !x.Grant.Rows {
			return nil, fmt.Errorf("%q: %q is nothing that is given besides a role; rows is", text, rows)
		}
		if x.Grant.Role, err = rights.ParseRole(role); err != nil {
			return nil, fmt.Errorf("%q: %w", text, err)
		}
		out = append(out, x)
	}
	return out, nil
}

// single is single sign-on as it works.
type single struct {
	set      atomic.Pointer[Single]
	provider atomic.Pointer[provider]
	pending  *lru.Cache[string, *pendingSignIn] // by state
}

type provider struct {
	issuer string
	*oidc.Provider
}

// pendingSignIn is a sign-in for which somebody was sent to the issuer.
type pendingSignIn struct {
	browser, nonce, verifier string
	begun                    time.Time
}

// So many sign-ins may be under way, each for so long; an issuer has so long to answer.
const (
	mostPending   = 10_000
	pendingLife   = 10 * time.Minute
	issuerPatient = 10 * time.Second
)

// SetSingle says how people sign in by single sign-on.
func (s *Access) SetSingle(set Single) { s.single.set.Store(&set) }

// OffersSingle says whether people can sign in by single sign-on.
func (s *Access) OffersSingle() bool { return s.single.now().Issuer != "" }

func (x *single) now() Single {
	if set := x.set.Load(); set != nil {
		return *set
	}
	return Single{}
}

// callback is where the issuer sends people back to, below the console's address.
const callback = "/api/v1/session/single/back"

var issuerClient = &http.Client{Timeout: issuerPatient}

// known finds out how the issuer works, once it answers.
func (x *single) known(ctx context.Context, set Single) (*provider, *oauth2.Config, error) {
	p := x.provider.Load()
	if p == nil || p.issuer != set.Issuer {
		// it goes on being used after this request
		found, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), issuerClient), set.Issuer)
		if err != nil {
			return nil, nil, &refuse.Error{
				Message: "the issuer of single sign-on does not answer as it should: " + err.Error(),
				Remedy:  "sign in with a password, or look at -oidc-issuer of `ambercellar serve`",
			}
		}
		p = &provider{set.Issuer, found}
		x.provider.Store(p)
	}
	secret := ""
	if set.SecretFile != "" {
		b, err := os.ReadFile(set.SecretFile)
		if err != nil {
			return nil, nil, fmt.Errorf("the secret for single sign-on: %w", err)
		}
		secret = strings.TrimSpace(string(b))
	}
	return p, &oauth2.Config{ClientID: set.Client, ClientSecret: secret, Endpoint: p.Endpoint(),
		RedirectURL: set.Console + callback, Scopes: []string{oidc.ScopeOpenID, "profile", "email"}}, nil
}

// BeginSingle returns where somebody is sent to sign in, and a secret for their browser, which comes back with them.
func (s *Access) BeginSingle(ctx context.Context) (address, browser string, err error) {
	set := s.single.now()
	if set.Issuer == "" {
		return "", "", &refuse.Error{Message: "there is no single sign-on here", Remedy: "sign in with a password"}
	}
	_, config, err := s.single.known(ctx, set)
	if err != nil {
		return "", "", err
	}
	p := &pendingSignIn{
		browser:  rand.Text(),
		nonce:    rand.Text(),
		verifier: oauth2.GenerateVerifier(),
		begun:    time.Now(),
	}
	state := rand.Text()
	s.single.pending.Add(state, p)
	return config.AuthCodeURL(state, oidc.Nonce(p.nonce), oauth2.S256ChallengeOption(p.verifier)), p.browser, nil
}

// claims are what an issuer says of a person.
type claims struct {
	Nonce    string `json:"nonce"`
	Name     string `json:"preferred_username"`
	FullName string `json:"name"`
	Email    string `json:"email"`
}

// EndSingle returns who has come back from the issuer. An answer is taken once, from the browser that was sent there.
func (s *Access) EndSingle(ctx context.Context, state, code, problem, browser, address string) (*Who, error) {
	ctx = catalog.WithOrigin(ctx, catalog.Origin{Address: address})
	who, name, err := s.endSingle(ctx, state, code, problem, browser)
	if err == nil {
		return who, nil
	}
	if heard, _ := s.tries.failed("single from "+address, time.Now()); heard {
		s.NoteRefused(ctx, "sign-in", cmp.Or(name, "nobody"), "session begin", "", audit.OutcomeRefused,
			"single sign-on: "+firstBytes(plainText(err.Error()), mostAbout))
	}
	return nil, err
}

func (s *Access) endSingle(ctx context.Context, state, code, problem, browser string) (*Who, string, error) {
	no := func(format string, args ...any) (*Who, string, error) {
		return nil, "", &refuse.Error{Message: fmt.Sprintf(format, args...), Remedy: "begin anew at the sign-in page"}
	}
	p, known := s.single.pending.Get(state)
	s.single.pending.Remove(state)
	set := s.single.now()
	switch {
	case set.Issuer == "":
		return no("there is no single sign-on here")
	case !known || time.Since(p.begun) > pendingLife:
		return no("this sign-in is not known, or has taken too long")
	case subtle.ConstantTimeCompare([]byte(p.browser), []byte(browser)) != 1:
		return no("this sign-in was begun in another browser")
	case problem != "":
		return no("the issuer says: %.200q", problem)
	}
	provider, config, err := s.single.known(ctx, set)
	if err != nil {
		return nil, "", err
	}
	token, err := config.Exchange(oidc.ClientContext(ctx, issuerClient), code, oauth2.VerifierOption(p.verifier))
	if err != nil {
		var refused *oauth2.RetrieveError
		if errors.As(err, &refused) { // its text may hold what was sent
			return no("the issuer does not take the code (status %d)", refused.Response.StatusCode)
		}
		return no("the issuer does not answer")
	}
	raw, _ := token.Extra("id_token").(string)
	is, err := provider.Verifier(&oidc.Config{ClientID: set.Client}).Verify(oidc.ClientContext(ctx, issuerClient), raw)
	if err != nil {
		return no("what the issuer says of who signs in does not hold: %.200s", err)
	}
	var c claims
	var all map[string]any
	if err := errors.Join(is.Claims(&c), is.Claims(&all)); err != nil {
		return no("what the issuer says of who signs in cannot be read")
	}
	if subtle.ConstantTimeCompare([]byte(c.Nonce), []byte(p.nonce)) != 1 {
		return no("the answer is of another sign-in")
	}
	return s.identified(ctx, set, is, &c, groupsOf(all[set.Groups]))
}

func groupsOf(claim any) (out []string) {
	switch x := claim.(type) {
	case string:
		return []string{x}
	case []any:
		for _, g := range x {
			if text, ok := g.(string); ok {
				out = append(out, text)
			}
		}
	}
	return out
}

// given is what people of groups may do. ok: they may do anything.
func given(roles []GroupRole, groups []string) (role rights.Role, rows bool, grants rights.Grants, ok bool) {
	role, grants = rights.Nobody, rights.Grants{}
	more := func(a, b rights.Role) rights.Role {
		if slices.Index(rights.Roles, b) > slices.Index(rights.Roles, a) {
			return b
		}
		return a
	}
	for _, x := range roles {
		if !slices.Contains(groups, x.Group) {
			continue
		}
		ok = true
		if x.Source == "" {
			role, rows = more(role, x.Grant.Role), rows || x.Grant.Rows
			continue
		}
		g := grants[x.Source]
		grants[x.Source] = rights.Grant{Role: more(g.Role, x.Grant.Role), Rows: g.Rows || x.Grant.Rows}
	}
	return role, rows, grants, ok
}

// identified returns the person whom the issuer names, with what their groups may do now; who comes for the first time
// gets an account.
func (s *Access) identified(
	ctx context.Context,
	set Single,
	is *oidc.IDToken,
	c *claims,
	groups []string,
) (*Who, string,
	error) {
	role, rows, grants, ok := given(set.Roles, groups)
	a, err := s.Catalog.AccountIdentified(ctx, is.Issuer, is.Subject)
	if err != nil {
		return nil, "", err
	}
	if a != nil && !a.Stands(s.Now()) {
		return nil, a.Name, &refuse.Error{
			Message: "the account " + a.Name + " has ended",
			Remedy:  "ask an administrator",
		}
	}
	if !ok && len(set.Roles) > 0 {
		name := ""
		if a != nil {
			name = a.Name
		}
		return nil, name, &refuse.Error{Message: "none of the groups that the issuer names may do anything here",
			Remedy: "ask an administrator, who maps groups to roles (-oidc-roles)"}
	}
	if a == nil && len(set.Roles) == 0 {
		return nil, "", &refuse.Error{Message: "nobody here is known to the issuer by this name",
			Remedy: "ask an administrator for an account with this issuer and identity (`ambercellar user add`)"}
	}
	if a == nil {
		name, err := s.nameFor(ctx, c)
		if err != nil {
			return nil, "", err
		}
		if _, err := s.AddAccount(ctx, "service", NewAccount{Name: name, Kind: catalog.Person,
			About: firstBytes(c.FullName, mostAbout), Role: string(role), Rows: rows, Grants: grants, Issuer: is.Issuer,
			Identity: is.Subject}); err != nil {
			return nil, name, err
		}
	} else if len(set.Roles) > 0 {
		text := string(role)
		change := AccountChange{Role: &text, Rows: &rows, Grants: &grants}
		if a.Role != role || a.SeesRows != rows || fmt.Sprint(a.Grants.V) != fmt.Sprint(grants) {
			if _, err := s.ChangeAccount(ctx, "service", a.Name, change); err != nil {
				return nil, a.Name, err
			}
		}
	}
	if a, err = s.Catalog.AccountIdentified(ctx, is.Issuer, is.Subject); err != nil || a == nil {
		return nil, "", errors.Join(err, errors.New("the account is gone"))
	}
	return whoOf(a), a.Name, nil
}

var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

// nameFor finds a free name for who comes for the first time.
func (s *Access) nameFor(ctx context.Context, c *claims) (string, error) {
	mail, _, _ := strings.Cut(c.Email, "@")
	name := strings.Trim(notInNames.ReplaceAllString(strings.ToLower(cmp.Or(c.Name, mail, "person")), "-"), "-")
	name = strings.Trim(firstBytes(cmp.Or(name, "person"), 50), "-")
	if name == administrator.Name || name == "service" {
		name += "-person"
	}
	for n := 1; n < 1000; n++ {
		free := name
		if n > 1 {
			free = fmt.Sprintf("%s-%d", name, n)
		}
		if _, err := s.Catalog.Account(ctx, free); errors.Is(err, catalog.ErrNotFound) {
			return free, nil
		} else if err != nil {
			return "", err
		}
	}
	return "", errors.New("no name is free")
}

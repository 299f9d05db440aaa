package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/audit"
	"ambercellar/internal/engine/refuse"
)

// SignIn is what somebody shows who signs in: a token, or a name and a password.
type SignIn struct {
	Token          string
	Name, Password string
	Code           string // of the second factor
	Browser        string // what the browser was given when somebody signed in from it before; empty: nothing
	Address        string
}

// Why somebody does not come in.
var (
	ErrWrong  = errors.New("the name, the password, or the code is wrong")
	ErrToken  = errors.New("this is neither the administrator's token nor that of an account that stands")
	ErrSecond = errors.New("the code of the second factor is missing")
)

// SignedIn returns who has signed in, and how. Only so many wrong tries in a row are heard: of tokens by address, where
// the right one is always taken; of passwords by name and address, or by the browser from which somebody has signed in
// before. So nobody keeps others out.
func (s *Access) SignedIn(ctx context.Context, in SignIn) (who *Who, how string, err error) {
	now := time.Now()
	ctx = catalog.WithOrigin(ctx, catalog.Origin{Address: in.Address})
	if in.Token != "" || in.Name == "" {
		who, err = s.CheckToken(ctx, in.Token, in.Address)
		if err != nil || who != nil && who.Session == nil {
			return who, "with a token", err
		}
		return nil, "", s.wrong(ctx, "token from "+in.Address, "", ErrToken, now)
	}
	key, err := s.trier(ctx, in)
	if err != nil {
		return nil, "", err
	}
	if wait := s.tries.waits(key, now); wait > 0 {
		return nil, "", &TooManyError{wait}
	}
	a, err := s.Catalog.Account(ctx, in.Name)
	if errors.Is(err, catalog.ErrNotFound) {
		a, err = &catalog.Account{}, nil
	}
	if err != nil {
		return nil, "", err
	}
	known := a.Password != "" && a.Kind == catalog.Person && a.Stands(now)
	hash := noPassword
	if known {
		hash = a.Password
	}
	ok, err := isPassword(ctx, hash, firstBytes(in.Password, mostPassword+1))
	if err != nil {
		return nil, "", err
	}
	if !ok || !known {
		return nil, "", s.wrong(ctx, key, in.Name, ErrWrong, now)
	}
	if a.MustChange && now.Sub(a.PasswordAt.Time) > firstLife {
		return nil, "", &refuse.Error{Field: "password", Message: "this password was for a sign-in within three days",
			Remedy: "ask an administrator for a new one"}
	}
	how = "with a password"
	if a.Second != "" {
		if in.Code == "" {
			return nil, "", ErrSecond
		}
		if ok, err := s.code(ctx, a, in.Code); err != nil {
			return nil, "", err
		} else if !ok {
			return nil, "", s.wrong(ctx, key, in.Name, ErrWrong, now)
		}
		how += " and a code"
	}
	return whoOf(a), how, nil
}

// WrongToken notes that a token was wrong that came with a request, and returns what its sender hears.
func (s *Access) WrongToken(ctx context.Context, address string) error {
	s.wrong(
		catalog.WithOrigin(ctx, catalog.Origin{Address: address}),
		"request from "+address,
		"",
		ErrToken,
		time.Now(),
	)
	return ErrToken // however often: nothing is computed for it
}

// trier is by what wrong passwords are counted.
func (s *Access) trier(ctx context.Context, in SignIn) (string, error) {
	if in.Browser != "" {
		known, err := s.Catalog.KnowsBrowser(ctx, hash(in.Browser), in.Name)
		if err != nil || known {
			return "browser " + hash(in.Browser), err
		}
	}
	return "password of " + firstBytes(in.Name, 100) + " from " + in.Address, nil
}

// wrong notes a wrong try, and returns what its sender hears. Of tries that are not heard the record says nothing.
func (s *Access) wrong(ctx context.Context, key, name string, why error, now time.Time) error {
	heard, last := s.tries.failed(key, now)
	if !heard {
		return &TooManyError{max(s.tries.waits(key, now), time.Second)}
	}
	detail := why.Error()
	if last {
		detail += "; further tries are not heard for a while"
	}
	if !accountName.MatchString(name) { // nobody has such a one
		if name != "" {
			detail += fmt.Sprintf("; the name given was %.60q", name)
		}
		name = "nobody"
	}
	s.NoteRefused(ctx, "sign-in", name, "session begin", "", audit.OutcomeRefused, detail)
	return why
}

// NoteRefused keeps in the audit log that something was refused or failed: one by one, as long as it is no flood. by is
// whose flood it would be.
func (s *Access) NoteRefused(ctx context.Context, by, name, action, subject string, outcome audit.EntryOutcome,
	detail string) {
	yes, more := s.floods.kept(by)
	if !yes {
		return
	}
	if err := s.Catalog.NoteOutcome(ctx, name, action, subject, outcome, detail+more); err != nil {
		s.Log.Error("what was refused cannot be recorded", "action", action, "name", name, "error", err)
	}
}

// KnowBrowser returns what a browser is given from which somebody has signed in.
func (s *Access) KnowBrowser(ctx context.Context, name string) (secret string, err error) {
	secret = rand.Text()
	return secret, s.Catalog.KnowBrowser(ctx, hash(secret), name, time.Now())
}

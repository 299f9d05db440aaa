package service

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
	"golang.org/x/text/unicode/norm"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
)

// Passwords are hashed with argon2id (RFC 9106). The parameters stand in each hash, so that later ones may differ: a
// memory of 19 MiB, two passes, one lane, a salt of 16 bytes, a hash of 32. hashing bounds how many are computed at a
// time, and so what anybody's tries take of processors and memory.
const (
	argonMemory = 19 << 10 // in KiB
	argonPasses = 2
	argonLanes  = 1
)

var hashing = make(chan struct{}, 1)

// hashPassword makes the hash of a password, as $argon2id$v=19$m=…,t=…,p=…$salt$hash.
func hashPassword(ctx context.Context, password string) (string, error) {
	salt := make([]byte, 16)
	rand.Read(salt) // never fails
	sum, err := argon(ctx, password, salt, argonPasses, argonMemory, argonLanes, 32)
	b64 := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf(
		"$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s",
		argon2.Version,
		argonMemory,
		argonPasses,
		argonLanes,
		b64(salt),
		b64(sum),
	), err
}

func argon(ctx context.Context, password string, salt []byte, passes, memory uint32, lanes uint8,
	bytes uint32) ([]byte, error) {
	select {
	case hashing <- struct{}{}:
		defer func() { <-hashing }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	return argon2.IDKey([]byte(norm.NFC.String(password)), salt, passes, memory, lanes, bytes), nil
}

// isPassword says whether a password is that of a hash.
func isPassword(ctx context.Context, hash, password string) (bool, error) {
	parts := strings.Split(hash, "$")
	var version int
	var memory, passes uint32
	var lanes uint8
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, nil
	}
	_, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &memory, &passes, &lanes)
	if err != nil ||
		version != argon2.Version || passes == 0 || lanes == 0 ||
		memory > 1<<20 {
		return false, nil
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false, nil
	}
	want, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil || len(want) < 16 {
		return false, nil
	}
	got, err := argon(ctx, password, salt, passes, memory, lanes, uint32(len(want)))
	return err == nil && subtle.ConstantTimeCompare(got, want) == 1, err
}

// noPassword is the hash of what nobody knows: it is compared with where there is no account, so that an answer takes
// as long for a name that nobody has.
const noPassword = "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

// A password has so many characters at least, and so many bytes at the most.
const leastPassword, mostPassword = 12, 1024

// common are beginnings of passwords that are tried first.
var common = []string{"password", "passwort", "123456", "qwerty", "letmein", "ambercellar", "administrator", "welcome",
	"iloveyou", "changeme"}

// checkPassword says what is wrong with a password that somebody wants to have.
func checkPassword(name, password string) error {
	no := func(format string, args ...any) error {
		return &refuse.Error{Field: "new_password", Message: fmt.Sprintf(format, args...),
			Remedy: "take some words that belong together for you alone"}
	}
	low := strings.ToLower(password)
	switch {
	case len(password) > mostPassword:
		return no("the password has %d bytes, and %d are the most", len(password), mostPassword)
	case !utf8.ValidString(password):
		return no("the password is no text in UTF-8")
	case utf8.RuneCountInString(password) < leastPassword:
		return no("the password has fewer than %d characters", leastPassword)
	case strings.Contains(low, name) && len(name) > 3:
		return no("the password has the account's name in it")
	case len(strings.TrimLeft(low, low[:1])) == 0:
		return no("the password is one character over and over")
	}
	for _, known := range common {
		if strings.HasPrefix(low, known) && len(password) < len(known)+leastPassword {
			return no("the password begins like those that are tried first")
		}
	}
	return nil
}

// firstLife is how long a password stands that somebody was given and has to change.
const firstLife = 3 * 24 * time.Hour

// firstPassword gives an account a password for its first sign-in.
func (s *Access) firstPassword(ctx context.Context, a *catalog.Account) (string, error) {
	password := strings.ToLower(rand.Text()[:20])
	sum, err := hashPassword(ctx, password)
	at := catalog.At(s.Now())
	a.Password, a.PasswordAt, a.MustChange = sum, &at, true
	return password, err
}

// GivePassword gives an account a new password for one sign-in, and takes its second factor away. Its sessions end.
func (s *Access) GivePassword(ctx context.Context, actor, name string) (password string, err error) {
	fresh := &catalog.Account{}
	if password, err = s.firstPassword(ctx, fresh); err != nil {
		return "", err
	}
	_, err = s.Catalog.ChangeAccount(ctx, actor, name, "account password", "", func(a *catalog.Account) error {
		if a.Kind != catalog.Person {
			return &refuse.Error{Message: a.Name + " is a service's account, which has a token and no password",
				Remedy: "revoke it and make another one"}
		}
		a.Password, a.PasswordAt, a.MustChange, a.Second = fresh.Password, fresh.PasswordAt, true, ""
		return nil
	})
	if err != nil {
		return "", err
	}
	return password, nil
}

// ChangePassword changes somebody's own password. Their other sessions end.
func (s *Access) ChangePassword(ctx context.Context, who *Who, old, password string) error {
	if err := s.proven(ctx, who, old); err != nil {
		return err
	}
	if err := checkPassword(who.Name, password); err != nil {
		return err
	}
	if old == password {
		return &refuse.Error{
			Field:   "new_password",
			Message: "it is the password that it was",
			Remedy:  "take another one",
		}
	}
	sum, err := hashPassword(ctx, password)
	if err != nil {
		return err
	}
	at := catalog.At(s.Now())
	_, err = s.Catalog.ChangeAccount(ctx, who.Name, who.Name, "password change", who.sessionID(),
		func(a *catalog.Account) error {
			a.Password, a.PasswordAt, a.MustChange = sum, &at, false
			return nil
		})
	return err
}

func (w *Who) sessionID() string {
	if w.Session == nil {
		return ""
	}
	return w.Session.ID
}

// proven says that somebody who is signed in knows their password, or what is wrong.
func (s *Access) proven(ctx context.Context, who *Who, password string) error {
	if who.Account == nil || who.Account.Kind != catalog.Person || who.Session == nil {
		return &refuse.Error{
			Message: "only a person who has signed in has a password",
			Remedy:  "sign in with your name",
		}
	}
	if wait := s.tries.waits("own "+who.Name, time.Now()); wait > 0 {
		return &TooManyError{wait}
	}
	ok, err := isPassword(ctx, who.Account.Password, password)
	if err != nil {
		return err
	}
	if !ok {
		s.tries.failed("own "+who.Name, time.Now())
		return &refuse.Error{
			Field:   "password",
			Message: "that is not your password",
			Remedy:  "write the one that you have",
		}
	}
	return nil
}

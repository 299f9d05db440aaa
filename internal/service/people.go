package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/mail"
	"regexp"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/rights"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// accountName is what an account may be called.
var accountName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// mostAbout is how long a text of an account may be.
const mostAbout = 500

// NewAccount is an account that is to be made.
type NewAccount struct {
	Name, About, Role string
	Kind              catalog.AccountKind
	Rows              bool
	Grants            rights.Grants
	Expires           string // an instant or a duration; empty: never
	Owner             string // the person whose it is
	Email             string
	Issuer, Identity  string // of single sign-on; empty: none
}

// AddAccount makes an account and returns its secret, which nobody is told again: a service's token, or a person's
// password for the first time. Who signs in by single sign-on alone has none.
func (s *Access) AddAccount(ctx context.Context, actor string, in NewAccount) (secret string, err error) {
	if !accountName.MatchString(in.Name) || in.Name == administrator.Name || in.Name == "service" {
		return "", &refuse.Error{Field: "name", Message: fmt.Sprintf("%.80q is not a name for an account", in.Name),
			Remedy: "use up to 63 small letters, digits and hyphens, a letter or digit first, and neither " +
				"administrator nor service"}
	}
	a := catalog.Account{Name: in.Name, Kind: in.Kind, SeesRows: in.Rows, Issuer: in.Issuer, Identity: in.Identity}
	if a.Kind == "" {
		a.Kind = catalog.ServiceUser
	}
	change := AccountChange{About: &in.About, Role: &in.Role, Rows: &in.Rows, Grants: &in.Grants, Owner: &in.Owner,
		Email: &in.Email}
	if in.Expires != "" {
		change.Expires = &in.Expires
	}
	if err := s.changed(ctx, &a, change); err != nil {
		return "", err
	}
	switch {
	case a.Kind == catalog.ServiceUser:
		secret = "amber_" + rand.Text()
		token := hash(secret)
		a.Token = &token
	case a.Kind != catalog.Person:
		return "", &refuse.Error{Field: "kind", Message: fmt.Sprintf("%.80q is no kind of account", in.Kind),
			Remedy: "write person or service"}
	case a.Identity == "":
		if secret, err = s.firstPassword(ctx, &a); err != nil {
			return "", err
		}
	}
	if taken, err := s.Catalog.AddAccount(ctx, actor, a); err != nil {
		return "", err
	} else if taken {
		return "", &refuse.Error{Field: "name", Message: fmt.Sprintf("there is an account %s, or was", in.Name),
			Remedy: "take another name: the record of who did what knows it"}
	}
	return secret, nil
}

// AccountChange is what is to be changed of an account; nil: it stays.
type AccountChange struct {
	About, Role, Owner, Email *string
	Rows                      *bool
	Grants                    *rights.Grants
	Expires                   *string // an instant, a duration, or never
}

// changed changes an account, and says what cannot be.
func (s *Access) changed(ctx context.Context, a *catalog.Account, c AccountChange) error {
	if c.Role != nil {
		role, err := rights.ParseRole(*c.Role)
		if err != nil {
			return &refuse.Error{Field: "role", Message: firstBytes(err.Error(), mostAbout),
				Remedy: "write viewer, operator, approver or administrator; none, for what is given in single " +
					"sources alone"}
		}
		a.Role = role
	}
	if c.Rows != nil {
		a.SeesRows = *c.Rows
	}
	if a.Role == rights.Nobody && a.SeesRows {
		return &refuse.Error{Field: "rows", Message: "who has no role in all sources cannot see rows of all",
			Remedy: "give rows in single sources (-in harbour=viewer+rows)"}
	}
	if c.Expires != nil {
		a.ExpiresAt = nil
		if *c.Expires != "never" {
			at, err := s.expiry(*c.Expires)
			if err != nil {
				return err
			}
			a.ExpiresAt = at
		}
	}
	return errors.Join(s.changedTexts(ctx, a, c), s.changedGrants(ctx, a, c.Grants))
}

func (s *Access) changedTexts(ctx context.Context, a *catalog.Account, c AccountChange) error {
	if c.About != nil {
		if len(*c.About) > mostAbout {
			return &refuse.Error{Field: "about", Message: fmt.Sprintf("that is %d bytes long, and %d are room for",
				len(*c.About), mostAbout), Remedy: "write less"}
		}
		a.About = plainText(*c.About)
	}
	if c.Email != nil {
		if _, err := mail.ParseAddress(*c.Email); *c.Email != "" && (err != nil || len(*c.Email) > mostAbout) {
			return &refuse.Error{Field: "email", Message: fmt.Sprintf("%.80q is no address", *c.Email),
				Remedy: "write one like desk@harbour.example, or leave it out"}
		}
		a.Email = *c.Email
	}
	if c.Owner == nil || *c.Owner == "" {
		if c.Owner != nil {
			a.Owner = ""
		}
		return nil
	}
	owner, err := s.Catalog.Account(ctx, *c.Owner)
	if err == nil && owner.Kind == catalog.Person && owner.Owner == "" && owner.Name != a.Name {
		a.Owner = owner.Name
		return nil
	} else if err != nil && !errors.Is(err, catalog.ErrNotFound) {
		return err
	}
	return &refuse.Error{
		Field: "owner",
		Message: fmt.Sprintf("%.80q is no account of a person that stands for itself",
			*c.Owner),
		Remedy: "name the person's own account",
	}
}

func (s *Access) changedGrants(ctx context.Context, a *catalog.Account, grants *rights.Grants) error {
	if grants == nil {
		return nil
	}
	known, err := s.Catalog.Sources(ctx)
	if err != nil {
		return err
	}
	for name, g := range *grants {
		role, err := rights.ParseRole(string(g.Role))
		if err != nil || role == rights.Nobody ||
			!slices.ContainsFunc(known, func(x source.Config) bool { return x.Name == name }) {
			return &refuse.Error{
				Field: "grants",
				Message: fmt.Sprintf("%.80q in source %.80q cannot be given", g.Role,
					name),
				Remedy: "name a source that there is, and viewer, operator, approver or administrator",
			}
		}
	}
	a.Grants.V = *grants
	return nil
}

// plainText takes out of a text what would change how the text around it is read: control characters, and marks that
// turn the direction of writing.
func plainText(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r < ' ' || r == 0x7f, r >= 0x80 && r < 0xa0, r >= 0x200b && r <= 0x200f, r >= 0x202a && r <= 0x202e,
			r >= 0x2060 && r <= 0x206f, r == 0xfeff, r == 0x061c:
			return -1
		}
		return r
	}, strings.ToValidUTF8(text, ""))
}

// expiry reads when an account ends.
func (s *Access) expiry(text string) (*catalog.Time, error) {
	at, ok := rule.ParseISO(text)
	if p, err := period.Parse(text); !ok && err == nil {
		now := s.Now()
		at, ok = now.Add(now.Sub(p.Before(now, time.UTC))), true
	}
	if !ok || !at.After(s.Now()) {
		return nil, &refuse.Error{Field: "expires", Message: fmt.Sprintf("%.80q is no time to come", text),
			Remedy: "write an instant like 2027-03-31T00:00:00Z, or a duration like P90D"}
	}
	out := catalog.At(at)
	return &out, nil
}

// ChangeAccount changes what an account is and may do. Its sessions end where what it may do changes.
func (s *Access) ChangeAccount(ctx context.Context, actor, name string, c AccountChange) (*catalog.Account, error) {
	a, err := s.Catalog.ChangeAccount(ctx, actor, name, "account set", "", func(a *catalog.Account) error {
		return s.changed(ctx, a, c)
	})
	return a, lastOne(err)
}

// lastOne says what to do about an account that is needed.
func lastOne(err error) error {
	if errors.Is(err, catalog.ErrLastAdministrator) {
		return &refuse.Error{Message: err.Error() + ": it is the last person with the role administrator",
			Remedy: "make another person an administrator first"}
	}
	return err
}

// RevokeAccount ends an account and its sessions.
func (s *Access) RevokeAccount(ctx context.Context, actor, name, reason string) error {
	if strings.TrimSpace(reason) == "" {
		return &refuse.Error{Field: "reason", Message: "no reason is given", Remedy: "say why the account ends"}
	}
	return lastOne(s.Catalog.RevokeAccount(ctx, actor, name, plainText(reason)))
}

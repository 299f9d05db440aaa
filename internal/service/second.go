package service

import (
	"bytes"
	"context"
	"image/png"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
)

// Codes of a second factor (RFC 6238): six digits from SHA-1, a new one every 30 seconds; the one before and the one
// after are taken as well, each once.
const (
	codeSeconds = 30
	codeSkew    = 1
)

// qrPixels is how wide and high the picture of a second factor is.
const qrPixels = 220

// Second is a second factor that somebody may take: the secret, and as an address that apps read.
type Second struct {
	Secret, Address string
	Picture         []byte // the address as a QR code, as a PNG
}

// OfferSecond makes a second factor for a person. It is theirs once they have shown a code of it.
func (s *Access) OfferSecond(ctx context.Context, who *Who, password string) (*Second, error) {
	if err := s.proven(ctx, who, password); err != nil {
		return nil, err
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: "Amber Cellar " + s.Instance, AccountName: who.Name,
		Period: codeSeconds, Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1})
	if err != nil {
		return nil, err
	}
	code, err := key.Image(qrPixels, qrPixels)
	if err != nil {
		return nil, err
	}
	var picture bytes.Buffer
	if err := png.Encode(&picture, code); err != nil {
		return nil, err
	}
	return &Second{Secret: key.Secret(), Address: key.URL(), Picture: picture.Bytes()}, nil
}

// TakeSecond makes a second factor somebody's, who has shown a code of it; with an empty secret it takes theirs away.
// Their other sessions end.
func (s *Access) TakeSecond(ctx context.Context, who *Who, password, secret, code string) error {
	if err := s.proven(ctx, who, password); err != nil {
		return err
	}
	step := int64(0)
	action := "second factor remove"
	if secret != "" {
		action = "second factor set"
		var ok bool
		if step, ok = stepOf(secret, code, time.Now()); !ok {
			return &refuse.Error{Field: "code", Message: "that is no code of this second factor at this time",
				Remedy: "see that the clocks of both are right, and write the code that is shown now"}
		}
	} else if who.Account.Second != "" {
		if ok, err := s.code(ctx, who.Account, code); err != nil {
			return err
		} else if !ok {
			return &refuse.Error{Field: "code", Message: "that is no code of your second factor at this time",
				Remedy: "write the one that is shown now; an administrator takes a lost factor away, with a " +
					"new password"}
		}
	}
	_, err := s.Catalog.ChangeAccount(ctx, who.Name, who.Name, action, who.sessionID(), func(a *catalog.Account) error {
		a.Second, a.SecondStep = secret, step
		return nil
	})
	return err
}

// code says whether a code is one of an account's second factor now, and was not used before.
func (s *Access) code(ctx context.Context, a *catalog.Account, code string) (bool, error) {
	step, ok := stepOf(a.Second, code, time.Now())
	if !ok {
		return false, nil
	}
	return s.Catalog.TakeStep(ctx, a.Name, step)
}

// stepOf returns which step of a secret's a code is of.
func stepOf(secret, code string, now time.Time) (step int64, ok bool) {
	for skew := int64(-codeSkew); skew <= codeSkew; skew++ {
		step = now.Unix()/codeSeconds + skew
		ok, err := totp.ValidateCustom(
			code,
			secret,
			time.Unix(step*codeSeconds, 0),
			totp.ValidateOpts{Period: codeSeconds,
				Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1},
		)
		if err == nil && ok {
			return step, true
		}
	}
	return 0, false
}

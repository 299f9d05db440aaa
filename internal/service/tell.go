package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"ambercellar/internal/catalog"
)

// Mail says through which SMTP server (RFC 5321) mail goes out. Where the environment variable of PasswordEnv is set, the service
// signs in as the sender.
type Mail struct {
	Server      string // HOST:PORT; empty: no mail is sent
	From        string
	PasswordEnv string
}

// Problem says why no mail can be sent this way; nothing where it can, or is not to be.
func (m Mail) Problem() string {
	if m.Server == "" {
		return ""
	}
	if _, port, err := net.SplitHostPort(m.Server); err != nil {
		return fmt.Sprintf("%q is no HOST:PORT of a mail server", m.Server)
	} else if _, err := strconv.Atoi(port); err != nil {
		return fmt.Sprintf("%q is no port", port)
	}
	if m.From == "" {
		return "the sender's address is missing"
	}
	return ""
}

// tellFor is how long it is tried to tell somebody.
const tellFor = 24 * time.Hour

// tellReady tells whoever asked for a restore that it is ready, or that nothing came of it. What cannot be told is tried again.
func (s *Service) tellReady(ctx context.Context) error {
	list, err := s.Catalog.Untold(ctx)
	for i := range list {
		r := &list[i]
		one := s.tell(ctx, r)
		if one != nil && (r.EndedAt == nil || s.Now().Sub(r.EndedAt.Time) < tellFor) {
			err = errors.Join(err, fmt.Errorf("restore %s: %s cannot be told: %w", r.ID, r.Tell, one))
			continue
		}
		err = errors.Join(err, s.Catalog.Told(ctx, r.ID, catalog.At(s.Now())))
	}
	return err
}

func (s *Service) tell(ctx context.Context, r *catalog.Restore) error {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	if strings.Contains(r.Tell, "://") {
		return tellURL(ctx, r)
	}
	if s.Mail.Server == "" {
		return errors.New("no mail server is named (serve -smtp)")
	}
	host, port, err := net.SplitHostPort(s.Mail.Server)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return err
	}
	options := []mail.Option{mail.WithPort(n), mail.WithTLSPolicy(mail.TLSOpportunistic)}
	if password := os.Getenv(s.Mail.PasswordEnv); s.Mail.PasswordEnv != "" && password != "" {
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory), mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(s.Mail.From), mail.WithPassword(password))
	}
	c, err := mail.NewClient(host, options...)
	if err != nil {
		return err
	}
	m := mail.NewMsg()
	if err := errors.Join(m.From(s.Mail.From), m.To(r.Tell)); err != nil {
		return err
	}
	m.Subject(fmt.Sprintf("Restore of %s.%s is %s", r.Source, r.Table, r.State))
	m.SetBodyString(mail.TypeTextPlain, letter(r))
	return c.DialAndSendWithContext(ctx, m)
}

// letter says in words what became of a restore. It names no value of a row.
func letter(r *catalog.Restore) string {
	var b strings.Builder
	fmt.Fprintf(&b, "Restore %s of table %s of source %s is %s.\n\n", r.ID, r.Table, r.Source, r.State)
	if r.Reason != "" {
		fmt.Fprintf(&b, "Reason: %s\n", r.Reason)
	}
	if r.State == catalog.RestoreDone {
		fmt.Fprintf(&b, "%d rows are there, %d were skipped.\n", r.Restored, r.Skipped)
		if r.ExpiresAt != nil {
			fmt.Fprintf(&b, "They go again on %s.\n", r.ExpiresAt.UTC().Format("2006-01-02 15:04 UTC"))
		}
	}
	if r.Note != "" {
		fmt.Fprintf(&b, "Note: %s\n", r.Note)
	}
	return b.String()
}

// tellURL sends a restore as JSON.
func tellURL(ctx context.Context, r *catalog.Restore) error {
	body, err := json.Marshal(r)
	if err != nil {
		return err
	}
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, r.Tell, bytes.NewReader(body))
	if err != nil {
		return err
	}
	q.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(q)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 300 {
		return fmt.Errorf("it answered %s", answer.Status)
	}
	return nil
}

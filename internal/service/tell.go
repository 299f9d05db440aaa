package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"
	"golang.org/x/sync/errgroup"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
)

// Teller tells the askers of restores what became of them.
type Teller struct {
	*base
	Mail  Mail
	Hosts []string // whose URLs may be told; HOST or HOST:PORT
}

// Mail says through which SMTP server (RFC 5321) mail goes out. Where the environment variable of PasswordEnv is set,
// the service signs in as the sender.
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

// tellReady tells whoever asked for a restore that it is ready, or that nothing came of it. What cannot be told is
// tried again.
func (s *Teller) tellReady(ctx context.Context) error {
	list, err := s.Catalog.Untold(ctx)
	failed := make([]error, len(list))
	var group errgroup.Group
	group.SetLimit(tellAtOnce) // one that does not answer keeps no others waiting
	for i := range list {
		group.Go(func() error {
			r := &list[i]
			one := s.tell(ctx, r)
			if one != nil && (r.EndedAt == nil || s.Now().Sub(r.EndedAt.Time) < tellFor) {
				failed[i] = fmt.Errorf("restore %s: %s cannot be told: %w", r.ID, r.Tell, one)
			} else {
				failed[i] = s.Catalog.Told(ctx, r.ID, catalog.At(s.Now()))
			}
			return nil
		})
	}
	group.Wait()
	return errors.Join(append(failed, err)...)
}

// tellAtOnce is how many are told side by side.
const tellAtOnce = 8

func (s *Teller) tell(ctx context.Context, r *catalog.Restore) error {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	if strings.Contains(r.Tell, "://") {
		if err := s.mayTell(r.Tell); err != nil {
			return err
		}
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
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory), mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover),
			mail.WithUsername(s.Mail.From), mail.WithPassword(password))
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
	if r.State != catalog.RestoreDone {
		fmt.Fprintf(&b, "`ambercellar restore show %s` says why.\n", r.ID) // a reason can name values
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

// Told is what a URL is sent of a restore, as JSON. It has neither its condition nor its reason, which can name
// values.
type Told struct {
	ID        string               `json:"id"`
	Source    string               `json:"source"`
	Table     string               `json:"table"`
	State     catalog.RestoreState `json:"state"`
	Target    string               `json:"target"`
	Restored  int64                `json:"restored"`
	Skipped   int64                `json:"skipped"`
	EndedAt   *catalog.Time        `json:"ended_at"`
	ExpiresAt *catalog.Time        `json:"expires_at"`
}

// mayTell refuses a URL of a host that the start of the service does not name: what can be reached from here is not
// for everybody who may ask.
func (s *Teller) mayTell(to string) error {
	u, err := url.Parse(to)
	if err != nil || u.Host == "" || slices.Contains(s.Hosts, u.Host) || slices.Contains(s.Hosts, u.Hostname()) {
		return err
	}
	return &refuse.Error{Field: "tell", Message: fmt.Sprintf("nothing is sent to %s", u.Host),
		Remedy: "name the host where the service is started (`ambercellar serve -tell-hosts HOST,…`), or write a " +
			"mail address"}
}

// direct follows no redirects: they lead where nobody allowed it.
var direct = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// tellURL sends what became of a restore.
func tellURL(ctx context.Context, r *catalog.Restore) error {
	body, err := json.Marshal(Told{r.ID, r.Source, r.Table, r.State, r.Target, r.Restored, r.Skipped, r.EndedAt,
		r.ExpiresAt})
	if err != nil {
		return err
	}
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, r.Tell, bytes.NewReader(body))
	if err != nil {
		return err
	}
	q.Header.Set("Content-Type", "application/json")
	answer, err := direct.Do(q)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 300 {
		return fmt.Errorf("it answered %s", answer.Status)
	}
	return nil
}

package service

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/notify"
)

// Mail says through which SMTP server (RFC 5321) mail goes out. Where the environment variable of PasswordEnv is set,
// the service signs in.
type Mail struct {
	Server      string // HOST:PORT; empty: no mail is sent
	From        string
	User        string // to sign in as; empty: From
	PasswordEnv string
	Security    string         // one of Securities; empty: offered, or starttls where the service signs in
	Roots       *x509.CertPool // who vouches for the server's certificate; nil: whom the system trusts
}

// Securities are how the way to the mail server is protected: by TLS where the server offers it, by STARTTLS (RFC 3207)
// or not at all, by TLS from the first byte on (RFC 8314), or not.
var Securities = []string{"offered", "starttls", "tls", "none"}

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
	if from, err := notify.CheckAddress(m.From); err != nil || notify.IsURL(from) {
		return fmt.Sprintf("the sender %q is no mail address", m.From)
	}
	if m.Security != "" && !slices.Contains(Securities, m.Security) {
		return fmt.Sprintf("%q is none of %s (-mail-security)", m.Security, strings.Join(Securities, ", "))
	}
	if m.Security == "none" && m.SignsIn() {
		return "a password would travel in clear (-mail-security none)"
	}
	return ""
}

// SignsIn says whether the service signs in at the mail server.
func (m Mail) SignsIn() bool { return m.password() != "" }

// Way says how the way to the mail server is protected: one of Securities.
func (m Mail) Way() string {
	switch {
	case m.Security != "" && (m.Security != "offered" || !m.SignsIn()):
		return m.Security
	case m.SignsIn(): // a password travels under TLS or not at all
		return "starttls"
	}
	return "offered"
}

func (m Mail) password() string {
	if m.PasswordEnv == "" {
		return ""
	}
	return os.Getenv(m.PasswordEnv)
}

var errNoServer = errors.New("no mail server is named (serve -smtp)")

// sendFor is how long sending one notice may take.
const sendFor = 20 * time.Second

// neverError says that a notice will not be taken, however often it is sent.
type neverError struct{ err error }

func (e *neverError) Error() string { return e.err.Error() }
func (e *neverError) Unwrap() error { return e.err }

// post is the connection to the mail server that the mails of a lane go through.
type post struct{ client *mail.Client }

func (p *post) close() {
	if p.client != nil {
		p.client.Close()
		p.client = nil
	}
}

// dial connects to the mail server.
func (m *Mail) dial(ctx context.Context) (*mail.Client, error) {
	host, port, err := net.SplitHostPort(m.Server)
	if err != nil {
		return nil, err
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return nil, err
	}
	options := []mail.Option{mail.WithPort(n), mail.WithTimeout(sendFor),
		mail.WithTLSConfig(&tls.Config{ServerName: host, MinVersion: tls.VersionTLS12, RootCAs: m.Roots})}
	if m.SignsIn() {
		options = append(
			options,
			mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover),
			mail.WithUsername(cmp.Or(m.User, m.From)),
			mail.WithPassword(m.password()),
		)
	}
	switch m.Way() {
	case "tls":
		options = append(options, mail.WithSSL())
	case "starttls":
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	case "none":
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSOpportunistic))
	}
	c, err := mail.NewClient(host, options...)
	if err != nil {
		return nil, err
	}
	return c, c.DialWithContext(ctx)
}

// mail sends a notice as a message (RFC 5322) of plain text and HTML.
func (p *post) mail(ctx context.Context, by *Mail, d *catalog.Delivery) error {
	n := &d.Notice.V
	m := mail.NewMsg()
	if by.Server == "" {
		return errNoServer
	}
	if err := m.From(by.From); err != nil { // the sender can be mended, and what waits goes out then
		return err
	}
	if err := m.To(d.Address); err != nil {
		return &neverError{err}
	}
	// the same each time, so that a mail system that has it already can tell; whoever sorts mail by its threads sees
	// what is of one record together
	m.SetMessageIDWithValue(d.ID + "@ambercellar")
	if n.Record != "" {
		m.SetGenHeader(mail.HeaderReferences, "<"+recordID(n)+"@ambercellar>")
	}
	m.SetDateWithValue(n.At)
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: no answering machine answers
	m.Subject(n.Title)
	m.SetBodyString(mail.TypeTextPlain, n.Text())
	m.AddAlternativeString(mail.TypeTextHTML, n.HTML())
	if p.client == nil {
		client, err := by.dial(ctx)
		if err != nil {
			return err
		}
		p.client = client
	}
	err := p.client.Send(m)
	if err != nil {
		p.close() // what state the connection is in is not known
		var refused *mail.SendError
		if errors.As(err, &refused) && !refused.IsTemp() && refused.ErrorCode() >= 500 {
			return &neverError{err}
		}
	}
	return err
}

// recordID names what a notice is of, in characters that the head of a message may hold.
func recordID(n *notify.Notice) string {
	return fmt.Sprintf("%x", n.Record)
}

// direct follows no redirects: they lead where nobody allowed it. It reads nothing of an answer but its head.
var direct = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	Transport: &http.Transport{MaxResponseHeaderBytes: 64 << 10, TLSHandshakeTimeout: 10 * time.Second,
		MaxIdleConnsPerHost: 2, IdleConnTimeout: time.Minute}}

// postTo sends a notice to a webhook. docs/notifications.md tells how it is signed.
func postTo(ctx context.Context, d *catalog.Delivery, key []byte, now time.Time) error {
	body, err := json.Marshal(d.Notice.V)
	if err != nil {
		return err
	}
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, d.Address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	q.Header.Set("Content-Type", "application/json")
	q.Header.Set("User-Agent", "ambercellar/"+Version)
	q.Header.Set("Ambercellar-Delivery", d.ID)
	if key != nil {
		q.Header.Set("Ambercellar-Timestamp", strconv.FormatInt(now.Unix(), 10))
		q.Header.Set("Ambercellar-Signature", "sha256="+notify.Sign(key, now, body))
	}
	answer, err := direct.Do(q)
	if err != nil {
		return err
	}
	answer.Body.Close()
	switch code := answer.StatusCode; {
	case code < 300:
		return nil
	case code == http.StatusGone:
		return &neverError{fmt.Errorf("it answered %s", answer.Status)}
	default:
		return fmt.Errorf("it answered %s", answer.Status)
	}
}

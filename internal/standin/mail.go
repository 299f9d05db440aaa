package standin

import (
	"bytes"
	"cmp"
	"crypto/subtle"
	"crypto/tls"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-message"
	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Mail is a mail server that takes whatever it is sent and shows it on a page. It hands nothing on and forgets all
// when it ends.
type Mail struct {
	TLS            *tls.Config   // offers STARTTLS; nil: it does not
	User, Password string        // who may sign in, and must; empty: everybody may send
	Refuse         string        // an address, or a part of one, to which it takes nothing, for good
	Busy           string        // likewise, for now
	Delay          time.Duration // before each answer to a message

	mu      sync.Mutex
	letters []Letter
	number  int
}

// Letter is a message that came.
type Letter struct {
	Number    int       `json:"number"`
	At        time.Time `json:"at"`
	From      string    `json:"from"`
	To        []string  `json:"to"`
	Secure    bool      `json:"secure"` // it came under TLS
	Subject   string    `json:"subject"`
	MessageID string    `json:"message_id"`
	Text      string    `json:"text"`
	HTML      string    `json:"html"`
	Raw       string    `json:"raw"`
}

// mostLetters is how many letters are kept, the newest.
const mostLetters = 5000

// Serve takes mail from l until that is closed.
func (m *Mail) Serve(l net.Listener) error {
	s := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) {
		return &mailSession{mail: m, conn: c}, nil
	}))
	s.Domain, s.TLSConfig, s.MaxMessageBytes, s.AllowInsecureAuth = "post.example", m.TLS, 10<<20, m.TLS == nil
	s.ReadTimeout, s.WriteTimeout = time.Minute, time.Minute
	s.ErrorLog = silent{}
	if err := s.Serve(l); !errors.Is(err, net.ErrClosed) && !errors.Is(err, smtp.ErrServerClosed) {
		return err
	}
	return nil
}

type silent struct{}

func (silent) Printf(string, ...any) {}
func (silent) Println(...any)        {}

// Letters lists what came, the newest first.
func (m *Mail) Letters() []Letter {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := slices.Clone(m.letters)
	slices.Reverse(out)
	return out
}

// Count is how many letters came in all.
func (m *Mail) Count() int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.number
}

// mailSession is one connection.
type mailSession struct {
	mail   *Mail
	conn   *smtp.Conn
	signed bool
	from   string
	to     []string
}

func (s *mailSession) AuthMechanisms() []string {
	if s.mail.User == "" {
		return nil
	}
	return []string{sasl.Plain}
}

func (s *mailSession) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if subtle.ConstantTimeCompare([]byte(user+"\n"+password), []byte(s.mail.User+"\n"+s.mail.Password)) != 1 {
			return smtp.ErrAuthFailed
		}
		s.signed = true
		return nil
	}), nil
}

func (s *mailSession) Reset() { s.from, s.to = "", nil }

func (s *mailSession) Logout() error { return nil }

func (s *mailSession) Mail(from string, _ *smtp.MailOptions) error {
	if s.mail.User != "" && !s.signed {
		return smtp.ErrAuthRequired
	}
	s.from = from
	return nil
}

func (s *mailSession) Rcpt(to string, _ *smtp.RcptOptions) error {
	switch {
	case s.mail.Refuse != "" && strings.Contains(to, s.mail.Refuse):
		return &smtp.SMTPError{
			Code:         550,
			EnhancedCode: smtp.EnhancedCode{5, 1, 1},
			Message:      "there is nobody of that name",
		}
	case s.mail.Busy != "" && strings.Contains(to, s.mail.Busy):
		return &smtp.SMTPError{Code: 450, EnhancedCode: smtp.EnhancedCode{4, 2, 1}, Message: "the box is busy"}
	}
	s.to = append(s.to, to)
	return nil
}

func (s *mailSession) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	time.Sleep(s.mail.Delay)
	l := read(raw)
	_, l.Secure = s.conn.TLSConnectionState()
	l.At, l.From, l.To = time.Now(), s.from, s.to
	s.mail.mu.Lock()
	defer s.mail.mu.Unlock()
	s.mail.number++
	l.Number = s.mail.number
	s.mail.letters = append(s.mail.letters, l)
	if len(s.mail.letters) > mostLetters {
		s.mail.letters = slices.Delete(s.mail.letters, 0, 1)
	}
	return nil
}

// read takes a message apart (RFC 5322, RFC 2045). What cannot be read stands in Raw alone.
func read(raw []byte) Letter {
	l := Letter{Raw: string(raw)}
	m, err := mail.CreateReader(bytes.NewReader(raw))
	if err != nil && !message.IsUnknownCharset(err) {
		return l
	}
	defer m.Close()
	l.Subject, _ = m.Header.Subject()
	l.MessageID, _ = m.Header.MessageID()
	for {
		p, err := m.NextPart()
		if err != nil {
			return l
		}
		h, ok := p.Header.(*mail.InlineHeader)
		if !ok {
			continue
		}
		body, err := io.ReadAll(p.Body)
		if err != nil {
			return l
		}
		if kind, _, _ := h.ContentType(); kind == "text/html" {
			l.HTML = string(body)
		} else {
			l.Text = string(body)
		}
	}
}

//go:embed mail.css
var mailStyle string

// show writes the page of a letter, or of all.
func (m *Mail) show(w http.ResponseWriter, one *Letter) {
	h := html.EscapeString
	at := func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-src 'self'")
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprintf(w, `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" `+
		`content="width=device-width, initial-scale=1"><meta name="color-scheme" content="light dark">`+
		`<title>Stand-in mail server</title><style>%s</style></head><body>`, mailStyle)
	if one != nil {
		way := map[bool]string{true: "under TLS", false: "in clear"}[one.Secure]
		fmt.Fprintf(w, `<p><a href="/">All letters</a></p><h1>%s</h1><p>from %s to %s, %s, %s<br><small>%s</small></p>`,
			h(one.Subject), h(one.From), h(strings.Join(one.To, ", ")), at(one.At), way, h(one.MessageID))
		fmt.Fprintf(w, `<div class="two"><section><h2>As a page</h2><iframe title="The letter as a page" `+
			`src="/letters/%d/html" sandbox></iframe></section><section><h2>As plain text</h2><pre>%s</pre>`+
			`</section></div>`+
			`<details><summary>As it came</summary><pre>%s</pre></details></body></html>`, one.Number, h(one.Text),
			h(one.Raw))
		return
	}
	letters := m.Letters()
	fmt.Fprintf(w, "<h1>What the stand-in mail server got: %d</h1>", m.Count())
	if len(letters) == 0 {
		fmt.Fprint(w, "<p>Nothing yet.</p></body></html>")
		return
	}
	fmt.Fprint(w, "<table><thead><tr><th>when</th><th>to</th><th>subject</th></tr></thead><tbody>")
	for _, l := range letters {
		fmt.Fprintf(w, `<tr><td>%s</td><td>%s</td><td><a href="/letters/%d">%s</a></td></tr>`+"\n", at(l.At),
			h(strings.Join(l.To, ", ")), l.Number, h(cmp.Or(l.Subject, "(none)")))
	}
	fmt.Fprint(w, "</tbody></table></body></html>")
}

// Page shows what came: a list of letters, each letter as a mail reader has it, and all of them as JSON at /letters.
func (m *Mail) Page() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) { m.show(w, nil) })
	mux.HandleFunc("GET /letters", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(m.Letters())
	})
	one := func(w http.ResponseWriter, q *http.Request) *Letter {
		n, _ := strconv.Atoi(q.PathValue("number"))
		letters := m.Letters()
		i := slices.IndexFunc(letters, func(l Letter) bool { return l.Number == n })
		if i < 0 {
			http.Error(w, "there is no such letter", http.StatusNotFound)
			return nil
		}
		return &letters[i]
	}
	mux.HandleFunc("GET /letters/{number}", func(w http.ResponseWriter, q *http.Request) {
		if l := one(w, q); l != nil {
			m.show(w, l)
		}
	})
	mux.HandleFunc("GET /letters/{number}/html", func(w http.ResponseWriter, q *http.Request) {
		if l := one(w, q); l != nil {
			w.Header().Set("Content-Security-Policy", "sandbox; default-src 'none'; style-src 'unsafe-inline'")
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprint(w, l.HTML)
		}
	})
	return mux
}

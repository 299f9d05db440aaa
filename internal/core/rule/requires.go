package rule

import (
	"fmt"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/period"
)

// Requires is what must hold for a run to begin, and each time that it goes on. Until all of it does, the run rests.
type Requires struct {
	Backup       *Backup `json:"backup,omitempty"`
	StoreFree    *Room   `json:"store_free,omitempty"`    // in each store that the plan writes to
	LogFree      *Room   `json:"log_free,omitempty"`      // on the disk of the database
	ReplicaDelay float64 `json:"replica_delay,omitempty"` // seconds at the most; 0: any
}

// Backup is how young the source's newest backup must be, and what tells when that was made: exactly one of File,
// Query and URL is set.
type Backup struct {
	File   string        `json:"file,omitempty"`  // of the service's machine: when it was last written
	Query  string        `json:"query,omitempty"` // in the source: the first value of its first row
	URL    string        `json:"url,omitempty"`   // answers a GET with the time
	Within period.Period `json:"within"`
}

// Room is how much must be free: so many bytes, or so many times what the plan expects to write.
type Room struct {
	Bytes float64 `json:"bytes,omitempty"`
	Times float64 `json:"times,omitempty"`
}

// Step is something that is done before a run works, or after.
type Step struct {
	SQL     string         `json:"sql,omitempty"`     // one statement, which is sent to the source
	Webhook string         `json:"webhook,omitempty"` // a URL, which is sent a POST
	Timeout *period.Period `json:"timeout,omitempty"` // nil: UsualStepTime
}

// Bounds of how long a step may take.
const (
	UsualStepTime   = 30 * time.Second
	LongestStepTime = time.Hour
	mostSteps       = 20
)

// Limit is how long the step may take.
func (s Step) Limit() time.Duration {
	if s.Timeout == nil {
		return UsualStepTime
	}
	return length(*s.Timeout)
}

// length is how long a period lasts, its days of 24 hours.
func length(p period.Period) time.Duration {
	from := time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC)
	return from.Sub(p.Before(from, time.UTC))
}

// String writes a step as a rule does.
func (s Step) String() string {
	out := "sql: " + quoted(s.SQL)
	if s.SQL == "" {
		out = "webhook: " + quoted(s.Webhook)
	}
	if s.Timeout != nil {
		out += ", timeout: " + s.Timeout.String()
	}
	return "{" + out + "}"
}

// String names what tells of the backup, as a rule does.
func (b *Backup) String() string {
	for _, x := range [][2]string{{"file", b.File}, {"query", b.Query}, {"url", b.URL}} {
		if x[1] != "" {
			return fmt.Sprintf("{%s: %s, within: %s}", x[0], quoted(x[1]), b.Within)
		}
	}
	return ""
}

// Spoken says in words what must hold.
func (b *Backup) Spoken() string {
	told := "the file " + b.File
	switch {
	case b.Query != "":
		told = "the query " + b.Query
	case b.URL != "":
		told = b.URL
	}
	return fmt.Sprintf("%s tells of a backup younger than %s", told, b.Within.Spoken())
}

// Spare is by how much what is free falls short; empty: it does not. expected is what the plan expects to be written;
// negative: it cannot tell.
func (r *Room) Spare(free float64, expected float64) string {
	need := r.Bytes
	if r.Times > 0 {
		if expected < 0 {
			return ""
		}
		need = r.Times * expected
	}
	if free >= need {
		return ""
	}
	text := fmt.Sprintf("%s is free, and %s must be", pace.Bytes.Spoken(free), pace.Bytes.Spoken(need))
	if r.Times > 0 {
		text += fmt.Sprintf(" (%g times what the plan expects to write, %s)", r.Times, pace.Bytes.Spoken(expected))
	}
	return text
}

func (r *Room) String() string {
	if r.Times > 0 {
		return strconv.FormatFloat(r.Times, 'f', -1, 64) + "x"
	}
	return strconv.FormatFloat(r.Bytes, 'f', -1, 64)
}

// Spoken is how much must be free, in words.
func (r *Room) Spoken() string {
	if r.Times > 0 {
		return r.String() + " what the plan expects to write"
	}
	return pace.Bytes.Spoken(r.Bytes)
}

// String writes the requirements as a rule does, without braces.
func (r *Requires) String() string {
	if r == nil {
		return ""
	}
	var parts []string
	if r.Backup != nil {
		parts = append(parts, "backup: "+r.Backup.String())
	}
	if r.StoreFree != nil {
		parts = append(parts, "store_free: "+r.StoreFree.String())
	}
	if r.LogFree != nil {
		parts = append(parts, "log_free: "+r.LogFree.String())
	}
	if r.ReplicaDelay > 0 {
		parts = append(parts, "replica_delay: "+strconv.FormatFloat(r.ReplicaDelay, 'f', -1, 64))
	}
	return strings.Join(parts, ", ")
}

// Stale says that a backup made at an instant is too old, or cannot be; empty: it is young enough.
func (b *Backup) Stale(made, now time.Time) string {
	switch oldest := b.Within.Before(now, time.UTC); {
	case made.After(now.Add(time.Hour)):
		return fmt.Sprintf("the newest backup is said to be of %s, which is to come", made.UTC().Format(time.RFC3339))
	case made.Before(oldest):
		return fmt.Sprintf("the newest backup is of %s, and must be younger than %s", made.UTC().Format(time.RFC3339),
			b.Within.Spoken())
	}
	return ""
}

// ParseMade reads the time that tells of a backup: as ISO 8601, in UTC where it names no zone, or as the seconds since
// 1970.
func ParseMade(text string) (time.Time, error) {
	text = strings.Trim(strings.TrimSpace(text), `"`)
	for _, form := range []string{time.RFC3339Nano, "2006-01-02 15:04:05.999999999Z07:00",
		"2006-01-02 15:04:05.999999999Z07", "2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999",
		time.DateOnly} {
		if at, err := time.Parse(form, text); err == nil {
			return at.UTC(), nil
		}
	}
	if n, err := strconv.ParseFloat(text, 64); err == nil && n > 0 && n < 1e11 {
		return time.Unix(int64(n), 0).UTC(), nil
	}
	if len(text) > 60 {
		text = text[:60] + "…"
	}
	return time.Time{}, fmt.Errorf("%q is no time; it must be one like 2027-01-31T22:00:00Z", text)
}

const requiresRemedy = "write `requires: {backup: {file: /var/backups/harbour.dump, within: P1D}, store_free: 2x, " +
	"replica_delay: 30 s}`"

// requires reads what must hold for a run to begin.
func (r *reader) requires(n ast.Node) *Requires {
	if n == nil {
		return nil
	}
	f := r.mapping("requires", n, "backup", "store_free", "log_free", "replica_delay")
	if f == nil {
		return nil
	}
	out := &Requires{Backup: r.backup(f["backup"]), StoreFree: r.room("requires.store_free", f["store_free"]),
		LogFree:      r.room("requires.log_free", f["log_free"]),
		ReplicaDelay: r.amount("requires.replica_delay", f["replica_delay"], pace.Seconds)}
	if len(f) == 0 {
		r.fail("requires", "it is not said what a run requires", requiresRemedy)
	}
	return out
}

func (r *reader) backup(n ast.Node) *Backup {
	if n == nil {
		return nil
	}
	const at = "requires.backup"
	f := r.mapping(at, n, "file", "query", "url", "within")
	if f == nil {
		return nil
	}
	b := &Backup{}
	for _, x := range []struct {
		name string
		to   *string
	}{{"file", &b.File}, {"query", &b.Query}, {"url", &b.URL}} {
		*x.to = r.text(at+"."+x.name, f[x.name], f[x.name] != nil, "")
	}
	told := 0
	for _, s := range []string{b.File, b.Query, b.URL} {
		if s != "" {
			told++
		}
	}
	if told != 1 {
		r.fail(at, "exactly one of file, query and url tells when the newest backup was made", requiresRemedy)
	}
	if b.File != "" && !filepath.IsAbs(b.File) {
		r.fail(at+".file", fmt.Sprintf("%q is no whole path", b.File), "write one like /var/backups/harbour.dump")
	}
	if b.URL != "" {
		r.url(at+".url", b.URL)
	}
	if within := r.someTime(at+".within", f["within"]); within != nil {
		b.Within = *within
	} else if f["within"] == nil {
		r.fail(at+".within", "it is not said how young the backup must be", "write `within: P1D`")
	}
	return b
}

// url fails what is not the address of a web server.
func (r *reader) url(field, text string) {
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https":
		r.fail(field, fmt.Sprintf("%q is no address of a web server", text),
			"write one like https://hooks.example/archive")
	case u.User != nil:
		r.fail(field, "the address holds a name or password, which everybody who reads the rule would see",
			"leave it out; let the server know the service's machine")
	}
}

// room reads an amount of free space.
func (r *reader) room(field string, n ast.Node) *Room {
	text := r.text(field, n, n != nil, "write a size like 20 GB, or 2x: twice what the plan expects to write")
	if text == "" {
		return nil
	}
	if times, found := strings.CutSuffix(text, "x"); found {
		v, err := strconv.ParseFloat(strings.TrimSpace(times), 64)
		if err != nil || !(v > 0 && v <= 1000) {
			r.fail(field, fmt.Sprintf("%q is no multiple of what the plan expects to write", text),
				"write one like 2x")
		}
		return &Room{Times: v}
	}
	return &Room{Bytes: r.amount(field, n, pace.Bytes)}
}

const stepRemedy = "write `- sql: ANALYZE boarding_scan` or `- webhook: https://hooks.example/archive`"

// steps reads what is done before or after a run.
func (r *reader) steps(field string, n ast.Node) (out []Step) {
	if n == nil {
		return nil
	}
	list, ok := n.(*ast.SequenceNode)
	if !ok {
		r.fail(field, "here must stand a list of steps", stepRemedy)
		return nil
	}
	if len(list.Values) > mostSteps {
		r.fail(field, fmt.Sprintf("%d steps are more than %d", len(list.Values), mostSteps),
			"put them into a procedure of the database, and call that")
		return nil
	}
	for i, item := range list.Values {
		at := fmt.Sprintf("%s[%d]", field, i)
		r.place(at, item)
		f := r.mapping(at, item, "sql", "webhook", "timeout")
		if f == nil {
			continue
		}
		s := Step{SQL: r.text(at+".sql", f["sql"], false, ""), Webhook: r.text(at+".webhook", f["webhook"], false, ""),
			Timeout: r.someTime(at+".timeout", f["timeout"])}
		if (s.SQL == "") == (s.Webhook == "") {
			r.fail(at, "a step is either a statement or a webhook", stepRemedy)
		}
		if s.Webhook != "" {
			r.url(at+".webhook", s.Webhook)
		}
		if d := s.Limit(); d <= 0 || d > LongestStepTime {
			r.fail(at+".timeout", fmt.Sprintf("%s is not between a second and an hour", s.Timeout),
				"write `timeout: PT30S`")
		}
		out = append(out, s)
	}
	return out
}

func stepText(steps []Step) string {
	parts := make([]string, len(steps))
	for i, s := range steps {
		parts[i] = s.String()
	}
	return strings.Join(parts, ", ")
}

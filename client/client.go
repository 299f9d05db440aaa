// Package client is the Go client of the service's HTTP interface: a method a call, with types of its own. It
// translates calls into requests and problem details into errors, and decides nothing. It needs nothing but the
// standard library.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
)

// Client talks to one service. Its fields are set before its first use; it may be used by many goroutines at a time.
type Client struct {
	Server string // like http://127.0.0.1:7420
	Token  string
	HTTP   *http.Client // nil: the default client
}

// Items is a page of a list.
type Items[T any] struct {
	Items []T     `json:"items"`
	Next  *string `json:"next"` // what After says for the next page; nil on the last
}

// Problem is an error that the service answers with (RFC 9457).
type Problem struct {
	Type     string        `json:"type"` // stable; its last part is the kind of problem
	Title    string        `json:"title"`
	Status   int           `json:"status"` // of HTTP
	Detail   string        `json:"detail"`
	Field    string        `json:"field,omitempty"`  // of the request, that is to be mended
	Remedy   string        `json:"remedy,omitempty"` // what to do about it
	Problems []RuleProblem `json:"problems,omitempty"`
}

// Error is the problem's detail.
func (p *Problem) Error() string { return p.Detail }

// Error writes the problem as compilers do: file, line, column, field, message, remedy.
func (p RuleProblem) Error() string {
	var b strings.Builder
	if p.File != "" {
		b.WriteString(p.File + ":")
	}
	if p.Line > 0 {
		fmt.Fprintf(&b, "%d:%d:", p.Line, p.Column)
	}
	if b.Len() > 0 {
		b.WriteByte(' ')
	}
	if p.Warning {
		b.WriteString("warning: ")
	}
	if p.Rule != "" {
		b.WriteString("rule " + p.Rule + ": ")
	}
	if p.Field != "" {
		b.WriteString("field " + p.Field + ": ")
	}
	b.WriteString(p.Message)
	if p.Remedy != "" {
		b.WriteString("; " + p.Remedy)
	}
	if p.Excerpt != "" {
		b.WriteString("\n" + p.Excerpt)
	}
	return b.String()
}

// AwayError says that the service does not answer, or does no more.
type AwayError struct{ Err error }

func (e *AwayError) Error() string { return e.Err.Error() }
func (e *AwayError) Unwrap() error { return e.Err }

// Do sends a request below /api/v1 and decodes its answer into out; in and out may be nil. What the service refuses
// comes back as *Problem.
func (c *Client) Do(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(b)
	}
	resp, err := c.send(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil {
		return nil
	}
	err = json.NewDecoder(resp.Body).Decode(out)
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.As(err, new(*net.OpError)) {
		return &AwayError{fmt.Errorf("the service's answer broke off: %w", err)}
	}
	return err
}

// RequestHeader names a request by an id of its sender's, of 8 to 64 letters, digits and hyphens. What it asks for goes
// on in the service when the connection is lost. Sent again with the same id, it gets the answer, and nothing is done
// twice. What nobody has waited for during two minutes ends; an answer is kept for ten.
const RequestHeader = "Ambercellar-Request"

type requestKey struct{}

// WithRequest gives an id to the requests that are sent with a context: RequestHeader.
func WithRequest(ctx context.Context, id string) context.Context {
	return context.WithValue(ctx, requestKey{}, id)
}

func (c *Client) send(ctx context.Context, method, path string, body io.Reader) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(c.Server, "/")+"/api/v1"+path, body)
	if err != nil {
		return nil, err
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	req.Header.Set("Authorization", "Bearer "+c.Token)
	req.Header.Set("User-Agent", "ambercellar")
	if id, ok := ctx.Value(requestKey{}).(string); ok {
		req.Header.Set(RequestHeader, id)
	}
	h := c.HTTP
	if h == nil {
		h = http.DefaultClient
	}
	resp, err := h.Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) && ctx.Err() == nil {
			return nil, &AwayError{fmt.Errorf(
				"no service answers at %s: %w; start one with `ambercellar serve`, or name it with -server or "+
					"AMBERCELLAR_SERVER", c.Server, u.Err)}
		}
		return nil, err
	}
	if resp.StatusCode < 400 {
		return resp, nil
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(io.LimitReader(resp.Body, 16<<20))
	var p Problem
	if json.Unmarshal(b, &p) != nil || p.Type == "" {
		return nil, fmt.Errorf("%s answered %s, and not as this service does; is the address right?", c.Server,
			resp.Status)
	}
	return nil, &p
}

// Every goes through all pages of a list, one item after another. page asks for the page that begins after a place;
// the empty text asks for the first. It ends at the first error.
func Every[T any](page func(after string) (Items[T], error)) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		for after := ""; ; {
			p, err := page(after)
			if err != nil {
				yield(*new(T), err)
				return
			}
			for _, x := range p.Items {
				if !yield(x, nil) {
					return
				}
			}
			if p.Next == nil {
				return
			}
			after = *p.Next
		}
	}
}

// Watch calls fn with a run's counts as they change, until the run stops or fn returns an error.
func (c *Client) Watch(ctx context.Context, run string, fn func(RunView) error) error {
	resp, err := c.send(ctx, http.MethodGet, "/runs/"+url.PathEscape(run)+"/events", nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 1<<20)
	event := ""
	for lines.Scan() {
		line := lines.Text()
		if name, ok := strings.CutPrefix(line, "event:"); ok {
			if event = strings.TrimSpace(name); event == "end" {
				return nil
			}
		}
		if data, ok := strings.CutPrefix(line, "data:"); ok && event == "run" {
			var r RunView
			if err := json.Unmarshal([]byte(data), &r); err != nil {
				return err
			}
			if err := fn(r); err != nil {
				return err
			}
		}
	}
	if err := lines.Err(); err != nil && ctx.Err() != nil {
		return err
	}
	return &AwayError{fmt.Errorf("the service closed the stream of run %s; `ambercellar run watch %s` takes it up "+
		"again", run, run)}
}

// What a stream of rows ends with, as trailers (RFC 9110, section 6.5): a stream without them was cut off.
const (
	trailerBytes      = "Ambercellar-Bytes"      // that it has
	trailerIncomplete = "Ambercellar-Incomplete" // why these are not all rows that were asked for; missing: they are
	// of columns that some segments do not have; missing: they all have them
	trailerNote = "Ambercellar-Note"
)

// SearchRows copies the archived rows that a search finds to w, as csv, csv-safe, ndjson or parquet. It returns what
// is to be known of them besides. An error says that w has not all of them; an AwayError, that the answer was cut off.
func (c *Client) SearchRows(ctx context.Context, q SearchRequest, format string, w io.Writer) (note string,
	err error) {
	body, err := json.Marshal(q)
	if err != nil {
		return "", err
	}
	resp, err := c.send(ctx, http.MethodPost, "/search/rows?format="+url.QueryEscape(format), bytes.NewReader(body))
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	n, err := io.Copy(w, resp.Body)
	if err != nil {
		return "", &AwayError{fmt.Errorf("the answer broke off, so these are not all rows: %w", err)}
	}
	switch sent := resp.Trailer.Get(trailerBytes); {
	case sent == "":
		return "", &AwayError{errors.New("the answer ended without saying how many rows it has, so these are not " +
			"all rows: it was cut off on the way")}
	case sent != strconv.FormatInt(n, 10):
		return "", fmt.Errorf("%d bytes arrived and %s were sent, so these are not all rows", n, sent)
	}
	if why := resp.Trailer.Get(trailerIncomplete); why != "" {
		return "", fmt.Errorf("these are not all rows: %s", why)
	}
	return resp.Trailer.Get(trailerNote), nil
}

// Download copies the file that is served below /api/v1 at a path to w.
func (c *Client) Download(ctx context.Context, path string, w io.Writer) error {
	resp, err := c.send(ctx, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if _, err = io.Copy(w, resp.Body); err != nil {
		return fmt.Errorf("the file broke off on the way: %w", err)
	}
	return nil
}

func queryText(v url.Values) string {
	if len(v) == 0 {
		return ""
	}
	return "?" + v.Encode()
}

// CertificateOf returns the certificate of a disposal: what was destroyed, by which rule and by whose decision.
func (c *Client) CertificateOf(ctx context.Context, disposal string) (*Certificate, error) {
	out := new(Certificate)
	if err := c.Do(ctx, http.MethodGet, "/disposals/"+url.PathEscape(disposal)+"/certificate", nil, out); err != nil {
		return nil, err
	}
	return out, nil
}

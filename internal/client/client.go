// Package client is the Go client of the service's HTTP interface. It translates calls into requests and problem
// details into errors, and decides nothing.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"ambercellar/internal/api"
	"ambercellar/internal/engine/search"
)

// Client talks to one service.
type Client struct {
	Server string // like http://127.0.0.1:7420
	Token  string
	HTTP   *http.Client // nil: the default client
}

// Do sends a request below /api/v1 and decodes its answer into out; in and out may be nil. What the service refuses
// comes back as *api.Problem.
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
	return json.NewDecoder(resp.Body).Decode(out)
}

// Get is Do with GET.
func Get[T any](ctx context.Context, c *Client, path string) (out T, err error) {
	return out, c.Do(ctx, http.MethodGet, path, nil, &out)
}

// Post is Do with POST.
func Post[T any](ctx context.Context, c *Client, path string, in any) (out T, err error) {
	return out, c.Do(ctx, http.MethodPost, path, in, &out)
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
	h := c.HTTP
	if h == nil {
		h = http.DefaultClient
	}
	resp, err := h.Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) && ctx.Err() == nil {
			return nil, &AwayError{fmt.Errorf("no service answers at %s: %w; start one with `ambercellar serve`, or name it with -server or AMBERCELLAR_SERVER", c.Server, u.Err)}
		}
		return nil, err
	}
	if resp.StatusCode < 400 {
		return resp, nil
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(io.LimitReader(resp.Body, 16<<20))
	var p api.Problem
	if json.Unmarshal(b, &p) != nil || p.Type == "" {
		return nil, fmt.Errorf("%s answered %s, and not as this service does; is the address right?", c.Server, resp.Status)
	}
	return nil, &p
}

// Watch calls fn with a run's counts as they change, until the run stops or fn returns an error.
func (c *Client) Watch(ctx context.Context, run string, fn func(api.RunView) error) error {
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
			var r api.RunView
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
	return &AwayError{fmt.Errorf("the service closed the stream of run %s; `ambercellar run watch %s` takes it up again", run, run)}
}

// AwayError says that the service does not answer, or does no more.
type AwayError struct{ Err error }

func (e *AwayError) Error() string { return e.Err.Error() }
func (e *AwayError) Unwrap() error { return e.Err }

// SearchRows copies the archived rows that a search finds to w, as csv, ndjson or parquet. It returns what is to be known of them besides.
func (c *Client) SearchRows(ctx context.Context, q search.SearchRequest, format string, w io.Writer) (note string, err error) {
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
		return "", fmt.Errorf("the answer broke off, so these are not all rows: %w", err)
	}
	switch sent := resp.Trailer.Get(api.TrailerBytes); {
	case sent == "":
		return "", errors.New("the answer ended without saying how many rows it has, so these are not all rows: it was cut off on the way")
	case sent != strconv.FormatInt(n, 10):
		return "", fmt.Errorf("%d bytes arrived and %s were sent, so these are not all rows", n, sent)
	}
	if why := resp.Trailer.Get(api.TrailerIncomplete); why != "" {
		return "", fmt.Errorf("these are not all rows: %s", why)
	}
	return resp.Trailer.Get(api.TrailerNote), nil
}

// Patch is Do with PATCH.
func Patch[T any](ctx context.Context, c *Client, path string, in any) (out T, err error) {
	return out, c.Do(ctx, http.MethodPatch, path, in, &out)
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

package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"sync"
	"time"
)

// Recorder hands the log on and keeps the newest lines of it, without what can name values of rows: of an error it
// keeps the kind alone.
type Recorder struct {
	slog.Handler
	kept  *ring
	group []slog.Attr
}

// recorded is how many lines are kept.
const recorded = 3000

type ring struct {
	mu    sync.Mutex
	lines []string
	next  int
}

// NewRecorder hands the log on to h.
func NewRecorder(h slog.Handler) *Recorder { return &Recorder{Handler: h, kept: &ring{}} }

// harmless are the attributes that are kept as they are: names of records, counts and times.
var harmless = map[string]bool{"rule": true, "source": true, "table": true, "store": true, "run": true, "segment": true,
	"method": true, "path": true, "status": true, "took": true, "chore": true, "kind": true, "records": true,
	"segments": true, "due": true, "deleted": true, "not deleted": true, "cutoff": true, "opened": true, "closed": true,
	"delivery": true, "recipient": true, "settings": true, "state": true, "at": true}

func (r *Recorder) Handle(ctx context.Context, rec slog.Record) error {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s %s", rec.Time.UTC().Format(time.RFC3339Nano), rec.Level, rec.Message)
	add := func(a slog.Attr) bool {
		switch v := a.Value.Resolve().Any().(type) {
		case error:
			fmt.Fprintf(&b, " %s=%s", a.Key, kindOf(v))
		default:
			if harmless[a.Key] {
				fmt.Fprintf(&b, " %s=%v", a.Key, v)
			} else {
				fmt.Fprintf(&b, " %s=…", a.Key)
			}
		}
		return true
	}
	for _, a := range r.group {
		add(a)
	}
	rec.Attrs(add)
	r.kept.add(b.String())
	return r.Handler.Handle(ctx, rec)
}

// kindOf names the types that an error is made of.
func kindOf(err error) string {
	var kinds []string
	for ; err != nil; err = errors.Unwrap(err) {
		if kind := fmt.Sprintf("%T", err); kind != "*fmt.wrapError" {
			kinds = append(kinds, kind)
		}
	}
	return strings.Join(kinds, ":")
}

func (r *Recorder) WithAttrs(attrs []slog.Attr) slog.Handler {
	return &Recorder{
		Handler: r.Handler.WithAttrs(attrs),
		kept:    r.kept,
		group: append(r.group[:len(r.group):len(r.group)],
			attrs...),
	}
}

func (r *Recorder) WithGroup(name string) slog.Handler {
	return &Recorder{Handler: r.Handler.WithGroup(name), kept: r.kept, group: r.group}
}

func (k *ring) add(line string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.lines) < recorded {
		k.lines = append(k.lines, line)
		return
	}
	k.lines[k.next] = line
	k.next = (k.next + 1) % recorded
}

// WriteTo writes the lines that were kept, the oldest first.
func (r *Recorder) WriteTo(w io.Writer) (int64, error) {
	r.kept.mu.Lock()
	lines := append(append([]string{}, r.kept.lines[r.kept.next:]...), r.kept.lines[:r.kept.next]...)
	r.kept.mu.Unlock()
	n, err := io.WriteString(w, strings.Join(append(lines, ""), "\n"))
	return int64(n), err
}

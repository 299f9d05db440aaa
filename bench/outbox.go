package main

import (
	"bufio"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/notify"
	"ambercellar/internal/service"
	"ambercellar/internal/standin"
)

const (
	// waitingNotices is how many notices wait in the outbox of a service whose mail server was away for long.
	waitingNotices = 100_000
	// toldPeople is to how many people they go.
	toldPeople = 8
)

// served is the program, running.
type served struct {
	cmd   *exec.Cmd
	at    string        // its address
	ready time.Duration // from its start until it was ready
}

func serveProgram(program, data string, flags ...string) (*served, error) {
	cmd := exec.Command(program, append([]string{"serve", "-data", data, "-listen", "127.0.0.1:0", "-level", "error"},
		flags...)...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	begun := time.Now()
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	s := &served{cmd: cmd}
	for lines := bufio.NewScanner(out); s.at == "" && lines.Scan(); {
		s.at, _ = strings.CutPrefix(lines.Text(), "listening at ")
		if s.at == lines.Text() {
			s.at = ""
		}
	}
	for {
		r, err := http.Get(s.at + "/readyz")
		if err != nil {
			return nil, err
		}
		r.Body.Close()
		if r.StatusCode == http.StatusOK {
			s.ready = time.Since(begun)
			return s, nil
		}
	}
}

func (s *served) stop() { s.cmd.Process.Signal(syscall.SIGTERM); s.cmd.Wait() }

var residentForm = regexp.MustCompile(`VmRSS:\s+(\d+) kB`)

// resident is what the process has in memory, in MiB, by proc(5).
func (s *served) resident() (float64, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.cmd.Process.Pid))
	if err != nil {
		return 0, err
	}
	m := residentForm.FindSubmatch(b)
	if m == nil {
		return 0, fmt.Errorf("/proc/%d/status tells no VmRSS", s.cmd.Process.Pid)
	}
	kib, err := strconv.Atoi(string(m[1]))
	return float64(kib) / 1024, err
}

// anOutbox measures how a service starts on an empty catalog, and how it works off an outbox once the mail server is
// there again: notices a second, and its memory in the first and the last tenth.
func anOutbox(ctx context.Context, program string, say func(sizeMeasure)) error {
	dir, err := os.MkdirTemp("", "outbox-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	s, err := serveProgram(program, filepath.Join(dir, "empty"))
	if err != nil {
		return err
	}
	s.stop()
	say(sizeMeasure{"from start to ready, on an empty catalog", 1000, float64(s.ready.Microseconds()) / 1000, "ms"})

	data := filepath.Join(dir, "data")
	if err := fillOutbox(ctx, data); err != nil {
		return err
	}
	if err := untried(ctx, filepath.Join(data, "catalog.db")); err != nil {
		return err
	}
	post := &standin.Mail{}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer l.Close()
	go post.Serve(l)
	if s, err = serveProgram(program, data, "-smtp", l.Addr().String(), "-mail-from",
		"cellar@harbour.example"); err != nil {
		return err
	}
	defer s.stop()
	var first, last float64
	begun := time.Now()
	for post.Count() < waitingNotices {
		time.Sleep(50 * time.Millisecond)
		is, err := s.resident()
		if err != nil {
			return err
		}
		switch n := post.Count(); {
		case n < waitingNotices/10:
			first = max(first, is)
		case n > waitingNotices*9/10:
			last = max(last, is)
		}
		if time.Since(begun) > time.Hour {
			return fmt.Errorf("after an hour %d of %d notices have gone", post.Count(), waitingNotices)
		}
	}
	rate := waitingNotices / time.Since(begun).Seconds()
	say(sizeMeasure{fmt.Sprintf("time for a notice of %d (%.0f a second)", waitingNotices, rate), 5, 1000 / rate, "ms"})
	say(sizeMeasure{"memory in the last tenth, beside that in the first", 120, 100 * last / first, "%"})
	return nil
}

func fillOutbox(ctx context.Context, data string) error {
	s, _, err := service.Open(ctx, data, slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err != nil {
		return err
	}
	defer s.Close()
	var people []notify.Recipient
	for i := range toldPeople {
		r := notify.Recipient{Name: fmt.Sprint("keeper-", i), Address: fmt.Sprintf("keeper-%d@harbour.example", i),
			Events: notify.Kinds}
		if _, err := s.Catalog.SetRecipient(ctx, "bench", r); err != nil {
			return err
		}
		people = append(people, r)
	}
	e := notify.Event{Kind: notify.EventRunDone, Record: "01M8Q0000000000000000000", At: time.Now(),
		Detail: notify.Detail{Rule: "boarding-scans", Source: "harbour", Table: "boarding_scan",
			Numbers: map[string]int64{"copied": 15000, "deleted": 15000, "left": 0}}}
	for done := 0; done < waitingNotices; {
		var out []catalog.Delivery
		for ; len(out) < 1000; done++ {
			d := catalog.NewDelivery(
				&people[done%toldPeople],
				notify.NoticeOf(&e, "https://cellar.example"),
				false,
				time.Now(),
			)
			d.NextAt = catalog.At(time.Now().Add(time.Minute)) // until the mail server is there
			out = append(out, d)
		}
		if err := s.Catalog.Deliver(ctx, out...); err != nil {
			return err
		}
	}
	return nil
}

// untried has all notices tried at once: the service that took them had no mail server and tried in vain.
func untried(ctx context.Context, path string) error {
	db, err := sql.Open("sqlite", "file:"+path)
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, "UPDATE delivery SET attempts = 0, next_at = made_at")
	return errors.Join(err, db.Close())
}

// scrapes asks for the figures of a service, and returns how long an answer takes and how many series it has.
func scrapes(at, token string) (each time.Duration, series int, err error) {
	const asks = 20
	for i := range asks + 1 {
		q, err := http.NewRequest(http.MethodGet, at+"/metrics", nil)
		if err != nil {
			return 0, 0, err
		}
		q.Header.Set("Authorization", "Bearer "+token)
		begun := time.Now()
		r, err := http.DefaultClient.Do(q)
		if err != nil {
			return 0, 0, err
		}
		b, err := io.ReadAll(r.Body)
		r.Body.Close()
		if err != nil || r.StatusCode != http.StatusOK {
			return 0, 0, fmt.Errorf("/metrics answers %s, %w", r.Status, err)
		}
		if i > 0 { // the first sums up the days that are over
			each += time.Since(begun) / asks
		}
		series = strings.Count(string(b), "\nambercellar_")
	}
	return each, series, nil
}

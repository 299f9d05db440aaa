package e2e

import (
	"database/sql"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"ambercellar/client"
	"ambercellar/internal/api"
)

// cutter passes a service's connections on, and ends them once so many bytes of answers have come through.
func cutter(t *testing.T, server string, after int64) string {
	t.Helper()
	return cutTimes(t, server, after, math.MaxInt)
}

// cutTimes is cutter for so many connections; those that follow are left whole.
func cutTimes(t *testing.T, server string, after int64, times int) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for n := 0; ; n++ {
			near, err := l.Accept()
			if err != nil {
				return
			}
			if n == times {
				after = math.MaxInt64
			}
			go func(after int64) {
				defer near.Close()
				far, err := net.Dial("tcp", strings.TrimPrefix(server, "http://"))
				if err != nil {
					return
				}
				defer far.Close()
				go io.Copy(far, near)
				io.CopyN(near, far, after)
			}(after)
		}
	}()
	return "http://" + l.Addr().String()
}

// A stream that does not come to its end is an error, for our own client and for any other: where a segment cannot be
// read in the middle of it, and where the connection is cut at whatever place. A file that it was to fill is not there
// then.
func TestAStreamThatWasCutOffIsAnError(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(20_000)
	w.define("archive", "unlimited")
	w.in("2020-06-01", "2020-12-01", "2021-06-01", "")
	whole := map[string]string{}
	for _, format := range []string{"csv", "ndjson", "parquet"} {
		whole[format] = w.must("search", "harbour", "scan", "-rows", format)
	}
	if n := strings.Count(whole["csv"], "\n"); n != 20_001 {
		t.Fatalf("the whole answer has %d lines", n)
	}
	straight := w.svc.server
	for format, text := range whole {
		for _, share := range []int{1, 50, 99} {
			w.svc.server = cutter(t, straight, int64(len(text)*share/100))
			if out, stderr, status := w.run("search", "harbour", "scan", "-rows", format); status == 0 ||
				stderr == "" {
				t.Errorf("%s, cut at %d %%: %d of %d bytes, status %d, %q", format, share, len(out), len(text), status,
					stderr)
			}
		}
	}
	w.svc.server = straight

	file := filepath.Join(w.dir, "rows.csv")
	into := []string{"restore", "request", "-source", "harbour", "-table", "scan", "-from", "2019-01-01", "-into",
		"file", "-out", file}
	w.svc.server = cutter(t, straight, 300_000)
	if _, stderr, status := w.run(into...); status == 0 {
		t.Errorf("a download that was cut off: %q", stderr)
	}
	w.svc.server = straight
	if left, err := filepath.Glob(file + "*"); err != nil || len(left) != 0 {
		t.Errorf("half a file stands there: %v, %v", left, err)
	}
	w.must(into...)
	if text, err := os.ReadFile(file); err != nil || strings.Count(string(text), "\n") != 20_001 {
		t.Errorf("the file after that: %d lines, %v", strings.Count(string(text), "\n"), err)
	}

	// The newest segment's file is away.
	s := must1[client.Items[client.Segment]](w, "segment", "list").Items[0]
	found, err := filepath.Glob(filepath.Join(w.dir, "data", "*", s.Stem+".parquet"))
	if err != nil || len(found) != 1 {
		t.Fatalf("the segment's file: %v, %v", found, err)
	}
	if err := os.Rename(found[0], found[0]+".away"); err != nil {
		t.Fatal(err)
	}
	for format, text := range whole {
		out, stderr, status := w.run("search", "harbour", "scan", "-rows", format)
		if status == 0 || !strings.Contains(stderr, s.ID) && !strings.Contains(stderr, "cut") {
			t.Errorf("%s without a file: %d of %d bytes, status %d, %q", format, len(out), len(text), status, stderr)
		}
		req, _ := http.NewRequest(http.MethodPost, fmt.Sprintf("%s/api/v1/search/rows?format=%s", straight, format),
			strings.NewReader(`{"source": "harbour", "table": "scan"}`))
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Authorization", "Bearer "+w.token)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			continue // that is an error too
		}
		n, err := io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
		if resp.StatusCode == http.StatusNotFound {
			t.Fatalf("%s: no such route", format)
		}
		if resp.StatusCode == http.StatusOK && err == nil && resp.Trailer.Get(api.TrailerIncomplete) == "" {
			t.Errorf("%s without a file: any client reads %d of %d bytes, and nothing is wrong", format, n, len(text))
		}
	}
}

// Every download that is cut off, at whatever place, is an error, and leaves no file: a ledger, a certificate in both
// forms, a backup, and rows that were replaced.
func TestADownloadThatWasCutOffIsAnError(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(2_000)
	w.apply("clauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar, keep: PT1S}\n")
	r := w.ended(w.planned().ID)
	w.exec("INSERT INTO scan (id, scanned_at, note) SELECT 7, '2020-01-01 00:00:00', 'again'")
	back := must1[client.Restore](w, "restore", "request", "-run", r.ID, "-conflicts", "replace")
	w.outlived()
	d := must1[client.Disposal](w, "disposal", "start", must1[client.Disposal](w, "disposal", "plan", "scans").ID)
	w.eventually("the disposal is done",
		func() bool { return must1[client.Disposal](w, "disposal", "show", d.ID).State == client.DisposalDone })
	straight := w.svc.server
	for name, command := range map[string][]string{
		"ledger": {"run", "ledger", r.ID}, "certificate": {"disposal", "certificate", d.ID},
		"paper":  {"disposal", "certificate", d.ID, "-format", "pdf"},
		"backup": {"catalog", "backup"}, "replaced": {"restore", "replaced", back.ID},
	} {
		file := filepath.Join(w.dir, name)
		command = append(command, "-out", file)
		w.must(command...)
		whole, err := os.Stat(file)
		if err == nil {
			err = os.Remove(file)
		}
		if err != nil || whole.Size() == 0 {
			t.Fatalf("%s: %v, %v", name, whole, err)
		}
		for _, share := range []int64{0, 10, 50, 99} {
			w.svc.server = cutter(t, straight, max(whole.Size()*share/100, 1))
			if _, stderr, status := w.run(command...); status == 0 || stderr == "" {
				t.Errorf("%s, cut at %d %% of %d bytes: status %d, %q", name, share, whole.Size(), status, stderr)
			}
			if left, err := filepath.Glob(file + "*"); err != nil || len(left) != 0 {
				t.Errorf("%s, cut at %d %%: there is %v, %v", name, share, left, err)
			}
		}
		w.svc.server = straight
		w.must(command...)
	}
}

// A run that was being cancelled when the service died is cancelled at the next start, and deletes nothing more.
func TestACancelledRunStaysCancelled(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(20_000)
	w.define("archive", "careful")
	r := w.planned()
	w.someDeleted(r.ID, 300)
	w.stop(syscall.SIGKILL)
	records, err := sql.Open("sqlite", "file:"+filepath.Join(w.dir, "data", "catalog.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer records.Close()
	// as the service keeps it before it does anything else
	if _, err := records.Exec("UPDATE run SET cancelling = 1"); err != nil {
		t.Fatal(err)
	}
	if err := records.Close(); err != nil {
		t.Fatal(err)
	}
	left := w.count("SELECT count(*) FROM scan")
	for range 2 { // the first may die before it is done
		w.start()
		if got := w.ended(r.ID); got.State != client.Cancelled || got.Ledger.Balanced == nil || !*got.Ledger.Balanced {
			t.Fatalf("after the start it is %s: %+v", got.State, got.Ledger)
		}
		w.stop(syscall.SIGKILL)
	}
	w.start()
	if n := w.count("SELECT count(*) FROM scan"); n != left {
		t.Errorf("%d rows were deleted after it was cancelled", left-n)
	}
	w.must("segment", "verify", "-all")
	w.must("restore", "request", "-pace", "unlimited", "-run", r.ID)
	if n := w.count("SELECT count(*) FROM scan"); n != 20_100 {
		t.Errorf("%d rows are there after all came back", n)
	}
}

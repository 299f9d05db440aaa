package main

import (
	"bufio"
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"ambercellar/client"
	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/standin"
)

// searchSegments is how many segments the searched archive has.
const searchSegments = 100

// searchMeasure is what one kind of search took: medians, in seconds.
type searchMeasure struct {
	First       float64 `json:"first_lookup_seconds"` // one row, by its key, right after the service started
	Lookup      float64 `json:"lookup_seconds"`       // later ones
	Scan        float64 `json:"scan_seconds"`         // every row, by a condition that no bound helps with
	ByHand      float64 `json:"by_hand_seconds,omitempty"`
	LookupBytes int64   `json:"lookup_bytes"` // fetched from the store
	ScanBytes   int64   `json:"scan_bytes"`
	Stored      int64   `json:"stored_bytes"`
	PeakMemory  int64   `json:"peak_memory_bytes"`
}

// searches measures searching an archive of so many rows: in a directory beside grep over the same rows as CSV, and in
// a stand-in object store, with the bytes that are fetched from it.
func searches(ctx context.Context, rows, rounds int, out, program string) error {
	dir, err := os.MkdirTemp("", "ambercellar-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	cellar, csv := filepath.Join(dir, "cellar"), filepath.Join(dir, "rows.csv.zst")
	st, err := store.MakeDirectory(cellar)
	if err != nil {
		return err
	}
	fmt.Printf("\nsearch: an archive of %d rows in %d segments\n", rows, searchSegments)
	if err := fillArchive(ctx, st, csv, rows); err != nil {
		return err
	}
	results := map[string]*searchMeasure{}
	service := searchedService{program, filepath.Join(dir, "one"), nil}
	if results["directory"], err = service.measure(ctx,
		client.NewStore{Existing: true, Name: "filled", Path: cellar}, rows, rounds); err != nil {
		return err
	}
	var byHand []float64
	for range rounds {
		begun := time.Now()
		text, err := exec.CommandContext(ctx, "sh", "-c", "zstd -dc '"+csv+"' | grep -c ',seal lost$'").Output()
		if err != nil || strings.TrimSpace(string(text)) != fmt.Sprint(rows/lostEvery) {
			return fmt.Errorf("grep counted %q, %w", text, err)
		}
		byHand = append(byHand, time.Since(begun).Seconds())
	}
	results["directory"].ByHand = middle(byHand)

	if results["object store"], err = searchedObjects(ctx, program, filepath.Join(dir, "two"), st, rows,
		rounds); err != nil {
		return err
	}
	return writeSearches(results, rows, out)
}

// searchedObjects measures the same archive in a stand-in object store.
func searchedObjects(ctx context.Context, program, dir string, from store.Store, rows, rounds int) (*searchMeasure,
	error) {
	var fetched atomic.Int64
	h, err := standin.Objects{Buckets: []string{"filled"}}.Handler()
	if err != nil {
		return nil, err
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h.ServeHTTP(&countedResponse{ResponseWriter: w, n: &fetched}, r)
	}))
	defer server.Close()
	os.Setenv("AWS_ACCESS_KEY_ID", "bench")
	os.Setenv("AWS_SECRET_ACCESS_KEY", "bench")
	bucket := store.Bucket{Endpoint: server.URL, Name: "filled"}
	objects, err := store.OpenBucket(bucket)
	if err != nil {
		return nil, err
	}
	files, err := from.List(ctx, "")
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		if _, err := archive.CopyFile(ctx, from, objects, f.Name); err != nil {
			return nil, err
		}
	}
	service := searchedService{program, dir, &fetched}
	return service.measure(ctx, client.NewStore{Existing: true, Name: "filled",
		Bucket: (*client.StoreBucket)(&bucket)}, rows, rounds)
}

// writeSearches sums up, and keeps the figures.
func writeSearches(results map[string]*searchMeasure, rows int, out string) error {
	fmt.Printf("\n| search of %d rows | first look-up by key | later ones | full scan | look-up to scan, first and "+
		"later | grep by hand | scan to grep | look-up fetches | scan fetches | stored | memory "+
		"|\n|---|---|---|---|---|---|---|---|---|---|---|\n", rows)
	for _, name := range []string{"directory", "object store"} {
		m := results[name]
		hand, ratio := "–", "–"
		if m.ByHand > 0 {
			hand, ratio = fmt.Sprintf("%.2f s", m.ByHand), fmt.Sprintf("%.2f ×", m.Scan/m.ByHand)
		}
		fmt.Printf("| %s | %.3f s | %.3f s | %.2f s | 1/%.0f, 1/%.0f | %s | %s | %.1f MB | %.1f MB | %.1f MB | %d "+
			"MiB |\n", name, m.First, m.Lookup, m.Scan, m.Scan/m.First, m.Scan/m.Lookup, hand, ratio,
			float64(m.LookupBytes)/1e6, float64(m.ScanBytes)/1e6, float64(m.Stored)/1e6, m.PeakMemory>>20)
	}
	return written(out, "search", results)
}

type countedResponse struct {
	http.ResponseWriter
	n *atomic.Int64
}

func (c *countedResponse) Write(p []byte) (int, error) {
	c.n.Add(int64(len(p)))
	return c.ResponseWriter.Write(p)
}

// lostEvery is of how many rows one has the note that the scan looks for.
const lostEvery = 10_000

// fillArchive writes the segments and, through zstd -3, the same rows as CSV.
func fillArchive(ctx context.Context, st store.Store, csv string, rows int) error {
	zstd := exec.CommandContext(ctx, "zstd", "-q", "-3", "-o", csv)
	in, err := zstd.StdinPipe()
	if err == nil {
		err = zstd.Start()
	}
	if err != nil {
		return err
	}
	text := bufio.NewWriterSize(in, 1<<20)
	scans := &scanWriter{text: text, rows: rows, random: rand.New(rand.NewPCG(1, 2)),
		at: time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC)}
	link := archive.Link{Sequence: 1}
	for n := range searchSegments {
		first := scans.at
		m := &archive.Manifest{ManifestOrigin: archive.ManifestOrigin{Source: "bench", Engine: "sqlite", Table: "scan",
			Rule: "scan", Revision: 1, Run: "01K00000000000000000000000", Number: n + 1},
			ManifestColumns: archive.ManifestColumns{Columns: searchedColumns, Key: []string{"id"}},
			ManifestTerms:   archive.ManifestTerms{Stored: first},
			Link:            link}
		m.Age.Column = "scanned_at"
		m.Name()
		d, err := archive.Create(ctx, st, m)
		if err == nil {
			err = scans.write(d, m)
		}
		if err == nil {
			err = d.Commit()
		}
		if err != nil {
			return err
		}
		at := scans.at
		hash, err := archive.Publish(ctx, st, m, archive.Range{Oldest: first.Format("2006-01-02 15:04:05"),
			Newest: at.Format("2006-01-02 15:04:05")})
		if err != nil {
			return err
		}
		if hash, err = archive.WriteClosing(ctx, st, m, &archive.Closing{Deleted: m.Rows, Digest: m.Digest, Closed: at,
			Link: archive.Link{Sequence: link.Sequence + 1, Previous: hash}}); err != nil {
			return err
		}
		link = archive.Link{Sequence: link.Sequence + 2, Previous: hash}
	}
	if err := text.Flush(); err != nil {
		return err
	}
	in.Close()
	return zstd.Wait()
}

var searchedColumns = []shape.Column{{Name: "id", Type: "bigint", Kind: value.Int},
	{Name: "booking_id", Type: "bigint", Kind: value.Int},
	{Name: "scanned_at", Type: "timestamp", Kind: value.Timestamp, Age: shape.AgeTime},
	{Name: "fare", Type: "numeric(9,2)", Kind: value.Decimal, Precision: 9, Scale: 2},
	{Name: "outcome", Type: "varchar(10)", Kind: value.Text},
	{Name: "note", Type: "varchar(40)", Kind: value.Text}}

// scanWriter makes up scans, and writes each into a segment and, as CSV, into a text.
type scanWriter struct {
	text   *bufio.Writer
	rows   int // of all segments
	random *rand.Rand
	at     time.Time // of the last one
	id     int64
}

// write writes the rows of one segment.
func (s *scanWriter) write(d *archive.Draft, m *archive.Manifest) error {
	outcomes := []string{"ok", "ok", "ok", "late", "refused"}
	chunk := &value.Chunk{Width: len(searchedColumns)}
	var hasher value.Hasher
	var line []byte
	for range s.rows / searchSegments {
		s.id++
		s.at = s.at.Add(7 * time.Second)
		note := fmt.Sprintf("gate %d of quay %d", s.random.IntN(40), s.random.IntN(9))
		if s.id%lostEvery == 0 {
			note = "seal lost"
		}
		row := []value.Value{value.Of(s.id), value.Of(s.random.Int64N(int64(s.rows))),
			{Kind: value.Timestamp, N: s.at.UnixMicro()}, {Kind: value.Decimal, N: s.random.Int64N(20_000), Scale: 2},
			value.OfText(outcomes[s.random.IntN(len(outcomes))]), value.OfText(note)}
		m.Digest.Add(hasher.Row(row))
		chunk.Values = append(chunk.Values, row...)
		line = line[:0]
		for i, v := range row {
			if i > 0 {
				line = append(line, ',')
			}
			line = v.AppendText(line)
		}
		if _, err := s.text.Write(append(line, '\n')); err != nil {
			return err
		}
		if chunk.Rows() == 1000 {
			if err := d.Write(chunk); err != nil {
				return err
			}
			chunk.Reset()
		}
	}
	return d.Write(chunk)
}

// searchedService is a service that searches one store. fetched counts what is fetched from it; nil: the service
// tells.
type searchedService struct {
	program, dir string
	fetched      *atomic.Int64
}

func (x searchedService) measure(ctx context.Context, s client.NewStore, rows, rounds int) (*searchMeasure, error) {
	fetched := x.fetched
	c, process, stop, err := serve(ctx, x.program, x.dir)
	if err != nil {
		return nil, err
	}
	defer stop()
	if _, err := c.AddStore(ctx, s); err != nil {
		return nil, err
	}
	adopted, err := c.Adopt(ctx, s.Name)
	if err != nil || adopted.Segments != searchSegments {
		return nil, fmt.Errorf("%d segments were taken up, %w", adopted.Segments, err)
	}
	m := &searchMeasure{}
	totals, err := c.Stores(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range totals.Items {
		m.Stored += x.Totals.FileBytes
	}
	ask := func(where string, want int) (seconds float64, bytes int64, err error) {
		if fetched != nil {
			fetched.Store(0)
		}
		begun := time.Now()
		f, err := c.Search(ctx, client.SearchRequest{Source: "bench", Table: "scan", Where: where, Limit: 10_000})
		if err == nil && len(f.Items) != want {
			err = fmt.Errorf("%s: %d rows were found instead of %d", where, len(f.Items), want)
		}
		bytes = f.Searched.Bytes
		if fetched != nil {
			bytes = fetched.Load()
		}
		return time.Since(begun).Seconds(), bytes, err
	}
	if m.First, _, err = ask(fmt.Sprintf("id = %d", rows/3), 1); err != nil {
		return nil, err
	}
	var lookups, scans []float64
	for round := range rounds {
		seconds, bytes, err := ask(fmt.Sprintf("id = %d", rows/7*(round+1)/rounds+1), 1)
		if err != nil {
			return nil, err
		}
		lookups, m.LookupBytes = append(lookups, seconds), bytes
		if seconds, bytes, err = ask("note = 'seal lost'", rows/lostEvery); err != nil {
			return nil, err
		}
		scans, m.ScanBytes = append(scans, seconds), bytes
	}
	m.Lookup, m.Scan = middle(lookups), middle(scans)
	m.PeakMemory, err = resident(process, "VmHWM:")
	return m, err
}

package service

import (
	"archive/zip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"runtime"
	"runtime/debug"
	"runtime/pprof"
	"time"

	"ambercellar/internal/catalog"
)

// supportRuns is how many runs, plans and deliveries are told of at the most.
const supportRuns = 500

// About says which program runs where.
type About struct {
	Version  string         `json:"version"`
	Go       string         `json:"go"`
	System   string         `json:"system"`
	CPUs     int            `json:"cpus"`
	PID      int            `json:"pid"`
	Started  time.Time      `json:"started"`
	Now      time.Time      `json:"now"`
	Instance string         `json:"instance"`
	Modules  []string       `json:"modules"`
	Memory   uint64         `json:"heap_bytes"`
	Counts   map[string]int `json:"counts"`
}

// SupportRun is what is told of a run: no reason, which can name values.
type SupportRun struct {
	ID        string           `json:"id"`
	Rule      string           `json:"rule"`
	Source    string           `json:"source"`
	Table     string           `json:"table"`
	Action    string           `json:"action"`
	State     catalog.RunState `json:"state"`
	HasReason bool             `json:"has_reason"`
	Due       int64            `json:"due"`
	Ledger    catalog.Ledger   `json:"ledger"`
	Slices    int              `json:"slices"`
	Working   float64          `json:"working_seconds"`
	CreatedAt catalog.Time     `json:"created_at"`
	StartedAt *catalog.Time    `json:"started_at"`
	EndedAt   *catalog.Time    `json:"ended_at"`
	Retries   int              `json:"retries"`
}

// SupportFinding is what is told of a finding: no evidence, which can name values.
type SupportFinding struct {
	Kind     string           `json:"kind"`
	Subject  string           `json:"subject"`
	Severity catalog.Severity `json:"severity"`
	OpenedAt catalog.Time     `json:"opened_at"`
	ClosedAt *catalog.Time    `json:"closed_at"`
}

// Support writes a zip for whoever helps: versions, configuration, checks, queue, findings, runs, the newest lines of
// the log, and what goes on in the process. It holds no secret, no condition, no reason and no value of a row.
func (s *Service) Support(ctx context.Context, actor string, w io.Writer) error {
	if err := s.Catalog.Note(ctx, actor, "service support", s.Instance, ""); err != nil {
		return err
	}
	z := zip.NewWriter(w)
	for _, part := range []struct {
		name  string
		write func(context.Context, io.Writer) error
	}{
		{"about.json", jsonOf(s.about)}, {"configuration.json", jsonOf(func(context.Context) (any, error) {
			return s.Configuration(), nil
		})},
		{"checks.json", jsonOf(s.checks)}, {"runs.json", jsonOf(s.supportRuns)},
		{"findings.json", jsonOf(s.supportFindings)},
		{"queue.json", jsonOf(s.supportQueue)},
		{"log.txt", func(_ context.Context, w io.Writer) error {
			if s.Recorder == nil {
				return nil
			}
			_, err := s.Recorder.WriteTo(w)
			return err
		}},
		{"goroutines.txt", func(_ context.Context, w io.Writer) error {
			return pprof.Lookup("goroutine").WriteTo(w, 1) // without arguments, which may be values
		}},
		{"heap.pprof", func(_ context.Context, w io.Writer) error { return pprof.Lookup("heap").WriteTo(w, 0) }},
	} {
		f, err := z.CreateHeader(&zip.FileHeader{Name: part.name, Method: zip.Deflate, Modified: s.Now().UTC()})
		if err != nil {
			return err
		}
		if err := part.write(ctx, f); err != nil { // what cannot be told is left out, and says so
			fmt.Fprintf(f, "\nthis part is not whole: %s\n", kindOf(err))
		}
	}
	return z.Close()
}

func jsonOf(read func(context.Context) (any, error)) func(context.Context, io.Writer) error {
	return func(ctx context.Context, w io.Writer) error {
		v, err := read(ctx)
		if err != nil {
			return err
		}
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		return e.Encode(v)
	}
}

func (s *Service) about(ctx context.Context) (any, error) {
	var memory runtime.MemStats
	runtime.ReadMemStats(&memory)
	out := About{Version: Version, Go: runtime.Version(), System: runtime.GOOS + "/" + runtime.GOARCH,
		CPUs: runtime.NumCPU(), PID: os.Getpid(), Started: s.Started.UTC(), Now: s.Now().UTC(), Instance: s.Instance,
		Memory: memory.HeapAlloc, Counts: map[string]int{}}
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, m := range info.Deps {
			out.Modules = append(out.Modules, m.Path+" "+m.Version)
		}
	}
	sources, err := s.Catalog.Sources(ctx)
	if err != nil {
		return nil, err
	}
	for _, source := range sources {
		out.Counts["sources, "+source.Engine]++
	}
	names, err := s.Catalog.RuleNames(ctx, mostComing)
	out.Counts["rules"] = len(names)
	return out, err
}

// checks tells what was looked at and how that stands: messages can name values.
func (s *Service) checks(ctx context.Context) (any, error) {
	list, err := s.Health.Examine(ctx)
	for i := range list {
		if list[i].Level != CheckGood {
			list[i].Message = "…"
		}
	}
	return list, err
}

func (s *Service) supportRuns(ctx context.Context) (any, error) {
	list, err := s.Catalog.Runs(ctx, catalog.RunFilter{}, catalog.First(supportRuns))
	out := make([]SupportRun, len(list))
	for i := range list {
		r := &list[i]
		out[i] = SupportRun{
			r.ID,
			r.Rule,
			r.Source,
			r.Table,
			r.Action,
			r.State,
			r.Reason != "",
			r.Due,
			r.Ledger,
			r.Slices,
			float64(r.Working) / 1e6,
			r.CreatedAt,
			r.StartedAt,
			r.EndedAt,
			r.Retries,
		}
	}
	return out, err
}

func (s *Service) supportFindings(ctx context.Context) (any, error) {
	list, err := s.Catalog.Findings(ctx, true, catalog.First(supportRuns))
	out := make([]SupportFinding, len(list))
	for i := range list {
		f := &list[i]
		out[i] = SupportFinding{f.Kind, f.Subject, f.Severity, f.OpenedAt, f.ClosedAt}
	}
	return out, err
}

func (s *Service) supportQueue(ctx context.Context) (any, error) {
	deliveries, err := s.Catalog.DeliveryCounts(ctx)
	working, waiting := s.Queue.counts()
	return map[string]any{"limits": s.Queue.Limits(), "runs working": working, "runs waiting": waiting,
		"deliveries": deliveries, "next firings": s.Schedules.Next()}, err
}

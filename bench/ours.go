package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"

	"ambercellar/client"
	"ambercellar/internal/service"
)

// byService does the same work through a service in a process of its own, at a pace: archived, verified, deleted, with
// a ledger.
func byService(ctx context.Context, t table, dir string, purge bool, program, pace string) (m measure, err error) {
	c, process, stop, err := serve(ctx, program, dir)
	if err != nil {
		return m, err
	}
	defer stop()
	engine, address := t.address()
	then := "then: archive\narchive: {store: cellar}\n"
	if purge {
		then = "then: purge\n"
	}
	if engine != "postgres" { // whose column has a zone
		then += "zone: UTC\n"
	}
	if _, err := c.AddSource(ctx, client.NewSource{Name: "bench", Engine: engine, Address: address}); err != nil {
		return m, err
	}
	rule := "rule: scan\nsource: bench\ntable: scan\nage: scanned_at\nclauses:\n  - keep: P1D\npace: " + pace + "\n" +
		then
	if _, err := c.ApplyRules(ctx, client.RuleFile{Text: rule}); err != nil {
		return m, err
	}
	p, err := c.MakePlan(ctx, client.NewPlan{Rule: "scan", Before: cutoff().Format(time.RFC3339)})
	if err != nil {
		return m, err
	}
	if pace == "gentle" { // what made the table ready was somebody else at work, as the service sees it
		time.Sleep(11 * time.Second)
	}
	spent := ownTime(process)
	begun := time.Now()
	r, err := c.StartRun(ctx, client.NewRun{Plan: p.ID})
	if err != nil {
		return m, err
	}
	done := make(chan []int64)
	sampling, end := context.WithCancel(ctx)
	go func() { done <- sample(sampling, process) }()
	var lastDone int64
	lastAt := begun
	err = c.Watch(ctx, r.ID, func(v client.RunView) error {
		if r = &v; v.Done-lastDone >= v.Due/10 {
			now := time.Now()
			m.Rates = append(m.Rates, float64(v.Done-lastDone)/now.Sub(lastAt).Seconds())
			lastDone, lastAt = v.Done, now
		}
		return nil
	})
	m.Seconds = time.Since(begun).Seconds()
	m.Service = ownTime(process) - spent
	end()
	m.Memory = <-done
	if err == nil && (r.State != client.Done || r.Ledger.Balanced == nil || !*r.Ledger.Balanced) {
		err = fmt.Errorf("the run is %s: %s", r.State, r.Reason)
	}
	if err != nil || purge {
		peak, unknown := resident(process, "VmHWM:")
		m.PeakMemory = peak
		return m, errors.Join(err, unknown)
	}
	m.PeakMemory, err = resident(process, "VmHWM:")
	m.Bytes = r.FileBytes
	return m, errors.Join(err, whole(dir))
}

// serve starts the service and returns a client of it, its process, and a function that stops it. PROFILE names a file
// for a profile of its processor time. before is what stands before its command.
func serve(ctx context.Context, program, dir string, before ...string) (*client.Client, int, func(), error) {
	before = append(before, program)
	cmd := exec.CommandContext(ctx, before[0], append(before[1:], "serve", "-data", dir, "-listen", "127.0.0.1:0",
		"-level", "warn", "-profile", os.Getenv("PROFILE"))...)
	cmd.Stderr = os.Stderr
	stdout, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return nil, 0, nil, err
	}
	c := &client.Client{}
	for lines := bufio.NewScanner(stdout); c.Server == "" && lines.Scan(); {
		if strings.HasPrefix(lines.Text(), "the administrator's token is in ") {
			b, err := os.ReadFile(filepath.Join(dir, service.TokenFile))
			if err != nil {
				return nil, 0, nil, err
			}
			c.Token = strings.TrimSpace(string(b))
		}
		if v, ok := strings.CutPrefix(lines.Text(), "listening at "); ok {
			c.Server = v
		}
	}
	return c, cmd.Process.Pid, func() {
		cmd.Process.Signal(syscall.SIGTERM)
		cmd.Wait()
	}, nil
}

// whole checks that the archive lies where it should.
func whole(dir string) error {
	found, err := filepath.Glob(filepath.Join(dir, "cellar", "*", "*", "*", "*.closing.json"))
	if err == nil && len(found) == 0 {
		err = errors.New("the run left no closed segment")
	}
	return err
}

// sample reads the process's resident memory every 100 ms.
func sample(ctx context.Context, pid int) (out []int64) {
	for {
		select {
		case <-ctx.Done():
			return out
		case <-time.After(100 * time.Millisecond):
			if n, err := resident(pid, "VmRSS:"); err == nil {
				out = append(out, n)
			}
		}
	}
}

func resident(pid int, field string) (int64, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for _, line := range strings.Split(string(b), "\n") {
		if rest, ok := strings.CutPrefix(line, field); ok {
			var kib int64
			_, err := fmt.Sscan(rest, &kib)
			return kib << 10, err
		}
	}
	return 0, fmt.Errorf("/proc/%d/status has no %s", pid, field)
}

// processor is how long the machine's processors have been busy since it was started, in seconds (proc(5),
// /proc/stat).
func processor() float64 {
	b, _ := os.ReadFile("/proc/stat") // 0 where there is none
	var name string
	var user, nice, system, idle, wait, irq, softirq float64
	fmt.Sscan(string(b), &name, &user, &nice, &system, &idle, &wait, &irq, &softirq)
	return (user + nice + system + irq + softirq) / 100
}

// stolen is for how many seconds, of all processors, others on the host have kept this machine waiting since it was
// started (proc(5), /proc/stat).
func stolen() float64 {
	b, _ := os.ReadFile("/proc/stat") // 0 where there is none
	f := strings.Fields(string(b))
	if len(f) < 9 {
		return 0
	}
	var ticks float64
	fmt.Sscan(f[8], &ticks)
	return ticks / 100
}

// calm is how much of the processors' time may be stolen where what a workload feels is still told.
const calm = 0.03

// becalmed waits until the host leaves this machine its processors, for two minutes at the most.
func becalmed() {
	const look = 3 * time.Second
	for range 40 {
		before := stolen()
		time.Sleep(look)
		if (stolen()-before)/look.Seconds()/float64(runtime.NumCPU()) < calm {
			return
		}
	}
}

// ownTime is the processor time that a process has used, in seconds (proc(5), fields 14 and 15 of /proc/PID/stat).
func ownTime(pid int) float64 {
	b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid)) // 0 where there is none
	_, rest, _ := strings.Cut(string(b), ") ")
	f := strings.Fields(rest)
	if len(f) < 13 {
		return 0
	}
	var user, system float64
	fmt.Sscan(f[11], &user)
	fmt.Sscan(f[12], &system)
	return (user + system) / 100
}

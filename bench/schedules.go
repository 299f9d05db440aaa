package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/service"
	"ambercellar/internal/source"
)

// scheduledRules is how many rules of a large user have a schedule.
const scheduledRules = 10_000

// manySchedules measures a service with as many scheduled rules as a large user has: what it takes to start, to look
// once, to do nothing, and what 100,000 firings leave in memory.
func manySchedules(ctx context.Context, program string, say func(sizeMeasure)) error {
	dir, err := os.MkdirTemp("", "schedules-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	data := filepath.Join(dir, "data")
	var ahead atomic.Int64
	token := ""
	open := func() (*service.Service, error) {
		s, fresh, err := service.Open(
			ctx,
			data,
			slog.New(slog.NewTextHandler(io.Discard, nil)),
			func(s *service.Service) {
				s.Now = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
			},
		)
		if fresh != "" {
			token = fresh
		}
		return s, err
	}
	s, err := open()
	if err != nil {
		return err
	}
	if err := applyScheduled(ctx, s.Catalog, dir); err != nil {
		return err
	}
	begun := time.Now()
	if _, err := s.Schedules.Tick(ctx); err != nil {
		return err
	}
	say(sizeMeasure{"the schedules are read anew after a rule changed", 2000, ms(begun), "ms"})
	begun = time.Now()
	const looks = 20
	for range looks {
		if _, err := s.Schedules.Tick(ctx); err != nil {
			return err
		}
	}
	say(sizeMeasure{"a look of the scheduler", 100, ms(begun) / looks, "ms"})
	if err := s.Close(); err != nil {
		return err
	}
	if err := addRuns(ctx, filepath.Join(data, "catalog.db")); err != nil {
		return err
	}
	if err := startAndIdle(program, data, token, say); err != nil {
		return err
	}
	if s, err = open(); err != nil {
		return err
	}
	defer s.Close()
	var first, last uint64
	const rounds = 10
	for round := range rounds {
		ahead.Add(int64(24 * time.Hour)) // each rule's firing has passed, and is kept as skipped
		if _, err := s.Schedules.Tick(ctx); err != nil {
			return err
		}
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		if last = m.HeapAlloc; round == 0 {
			first = last
		}
	}
	say(sizeMeasure{fmt.Sprintf("memory after %d firings, beside that after %d", rounds*scheduledRules,
		scheduledRules),
		110, 100 * float64(last) / float64(first), "%"})
	return nil
}

func ms(since time.Time) float64 { return float64(time.Since(since).Microseconds()) / 1000 }

// applyScheduled keeps the rules, which fire at all minutes of the day.
func applyScheduled(ctx context.Context, c *catalog.Catalog, dir string) error {
	if err := c.AddSource(ctx, "bench", source.Config{Name: "harbour", Engine: "sqlite",
		Address: filepath.Join(dir, "harbour.db")}); err != nil {
		return err
	}
	var applied []catalog.Applied
	for i := range scheduledRules {
		text := fmt.Sprintf("rule: quay-%05d\nsource: harbour\ntable: quay_%05d\nage: at\nzone: "+
			"Europe/Athens\nclauses:\n"+
			"  - keep: P1Y\nthen: purge\nschedule: {when: daily at %02d:%02d, missed: skip}\n", i, i, i%24, i%60)
		docs, problems := rule.Parse("", []byte(text))
		if len(docs) != 1 || len(problems) > 0 {
			return fmt.Errorf("%v", problems)
		}
		applied = append(applied, catalog.Applied{Document: docs[0], Changes: []string{"new"}})
	}
	return c.ApplyRules(ctx, "bench", time.Now(), applied)
}

// addRuns keeps ten runs of each rule, of the last ten days.
func addRuns(ctx context.Context, path string) error {
	db, err := sql.Open("sqlite", "file:"+path)
	if err != nil {
		return err
	}
	for _, statement := range []string{`INSERT INTO run (id, plan, rule, revision, source, table_name, action, store,
			pace, cutoff, due, state, created_at, ended_at, deleted, purged)
		SELECT printf('R%07d', i), 'p', printf('quay-%05d', i % ?1), 1, 'harbour', printf('quay_%05d', i % ?1), 'purge',
			'', 'gentle', '2025-01-01T00:00:00.000000Z', 7, 'done',
			strftime('%Y-%m-%dT%H:%M:%fZ', 'now', printf('-%d days', i / ?1)),
			strftime('%Y-%m-%dT%H:%M:%fZ', 'now', printf('-%d days', i / ?1)), 7, 7 FROM n`,
		`INSERT INTO day_sum SELECT date('now', printf('-%d days', i / ?1)), printf('quay-%05d', i % ?1), 1, 'harbour',
			printf('quay_%05d', i % ?1), '', 1, 0, 7, 700, 0, 1000 FROM n`} {
		_, one := db.ExecContext(ctx, "WITH RECURSIVE n (i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE "+
			"i < ?2 - 1) "+statement, scheduledRules, scheduledRules*10)
		err = errors.Join(err, one)
	}
	return errors.Join(err, db.Close())
}

// startAndIdle starts the program and lets it alone for a while.
func startAndIdle(program, data, token string, say func(sizeMeasure)) error {
	s, err := serveProgram(program, data)
	if err != nil {
		return err
	}
	defer s.stop()
	cmd := s.cmd
	say(sizeMeasure{"the service starts and is ready", 2000, float64(s.ready.Microseconds()) / 1000, "ms"})
	time.Sleep(5 * time.Second) // it reads the schedules
	each, series, err := scrapes(s.at, token)
	if err != nil {
		return err
	}
	say(sizeMeasure{fmt.Sprintf("a scrape of /metrics, with %d series", series), 100,
		float64(each.Microseconds()) / 1000, "ms"})
	before, err := processorTime(cmd.Process.Pid)
	if err != nil {
		return err
	}
	const idle = 60 * time.Second
	time.Sleep(idle)
	after, err := processorTime(cmd.Process.Pid)
	say(sizeMeasure{"processor of the idle service, of one core", 1, 100 * float64(after-before) / float64(idle), "%"})
	return err
}

// processorTime is what a process has taken of processors, by proc(5).
func processorTime(pid int) (time.Duration, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	fields := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
	user, err := strconv.Atoi(fields[11])
	if err != nil {
		return 0, err
	}
	system, err := strconv.Atoi(fields[12])
	return time.Duration(user+system) * 10 * time.Millisecond, err // at a hundred ticks a second
}

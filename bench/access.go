package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/client"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/audit"
)

// auditEntries is how long the audit log is that is measured.
const auditEntries = 1_000_000

// access measures who may come in, and the audit log, at the size of many years.
func access(ctx context.Context, program string, say func(sizeMeasure)) error {
	dir, err := os.MkdirTemp("", "ambercellar-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	data := filepath.Join(dir, "data")
	c, _, stop, err := serve(ctx, program, data)
	if err != nil {
		return err
	}
	made, err := c.AddAccount(ctx, client.NewAccount{Name: "nora-quay", Kind: client.Person, Role: "administrator"})
	stop()
	if err != nil {
		return err
	}
	if err := longAudit(filepath.Join(data, "catalog.db")); err != nil {
		return err
	}
	token := c.Token
	for _, where := range []struct {
		live, words string
		bound       float64
	}{{"P9Y", "", 1}, {"P1Y", ", in a store", 10}} {
		if err := auditIn(ctx, program, data, token, where.live, where.words, where.bound, say); err != nil {
			return err
		}
	}
	c, _, stop, err = serve(ctx, program, data)
	if err != nil {
		return err
	}
	defer stop()
	c.Token = token
	return comingIn(ctx, c, made.Password, say)
}

// auditIn measures the audit log where its entries lie, which is in the catalog where they stay there for long.
func auditIn(ctx context.Context, program, data, token, live, words string, bound float64,
	say func(sizeMeasure)) error {
	os.Setenv("AMBERCELLAR_AUDIT_LIVE", live)
	defer os.Unsetenv("AMBERCELLAR_AUDIT_LIVE")
	c, process, stop, err := serve(ctx, program, data)
	if err != nil {
		return err
	}
	defer stop()
	c.Token = token
	if words != "" {
		begun := time.Now()
		for moved := false; !moved; time.Sleep(100 * time.Millisecond) {
			k, err := c.AuditSegments(ctx)
			if err != nil {
				return err
			}
			moved = k.Here >= auditEntries
		}
		say(sizeMeasure{"move a million entries to a store", 120, time.Since(begun).Seconds(), "s"})
	}
	if err := auditPages(ctx, c, words, 50*bound, say); err != nil {
		return err
	}
	begun := time.Now()
	report, err := c.VerifyAudit(ctx)
	if err != nil || !report.Holds {
		return fmt.Errorf("the log does not hold: %+v, %w", report, err)
	}
	say(sizeMeasure{"verify a log of a million entries" + words, 10, time.Since(begun).Seconds(), "s"})
	before, err := resident(process, "VmRSS:")
	if err != nil {
		return err
	}
	begun = time.Now()
	if err := c.Download(ctx, "/audit/export?format=csv", io.Discard); err != nil {
		return err
	}
	say(sizeMeasure{"export all of it as CSV" + words, 20, time.Since(begun).Seconds(), "s"})
	begun = time.Now()
	x, err := c.MakeAuditExport(ctx, client.NewAuditExport{Format: "csv"})
	for err == nil && x.State != client.AuditExportDone {
		if x.State == client.AuditExportFailed {
			return fmt.Errorf("an export failed: %s", x.Problem)
		}
		time.Sleep(100 * time.Millisecond)
		x, err = c.OneAuditExport(ctx, x.ID)
	}
	if err != nil {
		return err
	}
	say(sizeMeasure{"export all of it in the background" + words, 20, time.Since(begun).Seconds(), "s"})
	peak, err := resident(process, "VmHWM:")
	if err != nil {
		return err
	}
	say(sizeMeasure{"memory that checking and exporting took" + words, 128, float64(peak-before) / (1 << 20), "MiB"})
	return nil
}

// auditPages asks for pages of a log, by each filter, and of the middle of it.
func auditPages(ctx context.Context, c *client.Client, words string, bound float64, say func(sizeMeasure)) error {
	from := time.Unix(1.6e9+auditEntries/2, 0).UTC().Format(time.RFC3339)
	for _, x := range []struct {
		what string
		q    client.AuditLogQuery
	}{{"the newest", client.AuditLogQuery{}}, {"of a person", client.AuditLogQuery{Actor: "actor-7"}},
		{"of a kind", client.AuditLogQuery{Kind: "run"}}, {"of a rare kind", client.AuditLogQuery{Kind: "hold"}},
		{"of one run", client.AuditLogQuery{Subject: "subject-777"}},
		{"what was refused", client.AuditLogQuery{Outcome: "refused"}},
		{"from half of its time on, of a person", client.AuditLogQuery{Actor: "actor-7", To: from}},
		{"a rare kind of a person", client.AuditLogQuery{Actor: "actor-7", Kind: "hold"}},
		{"what nobody did", client.AuditLogQuery{Actor: "actor-7", Kind: "store", Outcome: "failed"}}} {
		x.q.Limit = 50
		var took []float64
		for range 7 {
			begun := time.Now()
			if _, err := c.AuditLog(ctx, x.q); err != nil {
				return err
			}
			took = append(took, float64(time.Since(begun).Microseconds())/1000)
		}
		slices.Sort(took)
		say(sizeMeasure{"a page of the log: " + x.what + words, bound, took[len(took)/2], "ms"})
	}
	return nil
}

// longAudit puts entries in the place of a catalog's audit log, as the service writes them, in one transaction.
func longAudit(path string) error {
	db, err := sqlx.Open("sqlite", path)
	if err != nil {
		return err
	}
	tx, err := db.Beginx()
	if err != nil {
		return err
	}
	var id int64
	var log string
	if err := tx.Get(&log, "SELECT value FROM setting WHERE name = 'audit_log'"); err != nil {
		return err
	}
	if _, err := tx.Exec("DELETE FROM audit; DELETE FROM audit_detail; DELETE FROM setting WHERE name LIKE " +
		"'audit_head_%'"); err != nil {
		return err
	}
	hash := audit.Genesis(log)
	entry, err := tx.Preparex(
		"INSERT INTO audit (id, at, actor, session, address, action, subject, outcome, digest, hash) " +
			"VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
	)
	if err != nil {
		return err
	}
	detail, err := tx.Preparex("INSERT INTO audit_detail (entry, salt, text) VALUES (?, ?, ?)")
	if err != nil {
		return err
	}
	actions := []string{"run start", "run done", "plan make", "session begin", "rows search", "restore request"}
	for i := range auditEntries {
		id++
		e := audit.Entry{ID: id, At: time.Unix(1.6e9+int64(i), 0).UTC(), Actor: fmt.Sprintf("actor-%d", i%40),
			Session: "01M8RFWERXD8SWT9T6RS08AZDX", Address: "10.1.2.3", Action: actions[i%len(actions)],
			Subject: fmt.Sprintf("subject-%d", i%50_000), Outcome: audit.OutcomeDone}
		if i%5_000 == 0 {
			e.Action = "hold place"
		}
		if i%1_000 == 0 {
			e.Outcome = audit.OutcomeRefused
		}
		text := fmt.Sprintf("rule scans revision %d, cutoff 2026-01-01T00:00:00Z, as agreed with the purser", i%30)
		e.Digest = audit.Digest("K7Q2M5ZP3XN6R4T8W2Y5B3C6D4", text)
		e.Hash = e.Sum(hash)
		hash = e.Hash
		if _, err := entry.Exec(e.ID, catalog.At(e.At), e.Actor, e.Session, e.Address, e.Action, e.Subject, e.Outcome,
			e.Digest,
			e.Hash); err != nil {
			return err
		}
		if _, err := detail.Exec(e.ID, "K7Q2M5ZP3XN6R4T8W2Y5B3C6D4", text); err != nil {
			return err
		}
	}
	return errors.Join(tx.Commit(), db.Close())
}

// asksMany asks for a path again and again, and returns how long each answer took, in microseconds, in order.
func asksMany(ctx context.Context, c *client.Client, path string, times int) ([]float64, error) {
	took := make([]float64, times)
	for i := range took {
		req, err := http.NewRequestWithContext(ctx, "GET", c.Server+"/api/v1"+path, nil)
		if err != nil {
			return nil, err
		}
		req.Header.Set("Authorization", "Bearer "+c.Token)
		begun := time.Now()
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return nil, err
		}
		io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
		took[i] = float64(time.Since(begun).Nanoseconds()) / 1000
	}
	slices.Sort(took)
	return took, nil
}

// comingIn measures what it costs to find out who asks and what they may, and what tries of passwords cost others.
func comingIn(ctx context.Context, c *client.Client, first string, say func(sizeMeasure)) error {
	s, err := c.SignIn(ctx, client.Login{Name: "nora-quay", Password: first, Keep: true})
	if err != nil {
		return err
	}
	person := &client.Client{Server: c.Server, Token: s.Token}
	const own = "seven grey gulls on a pier"
	if err := person.ChangePassword(ctx, client.NewPassword{Password: first, NewPassword: own}); err != nil {
		return err
	}
	const asks = 4000
	var free, known []float64
	for range 3 { // in turn
		one, err := asksMany(ctx, person, "/session/ways", asks)
		if err != nil {
			return err
		}
		other, err := asksMany(ctx, person, "/session", asks)
		if err != nil {
			return err
		}
		free, known = append(free, one...), append(known, other...)
	}
	slices.Sort(free)
	slices.Sort(known)
	say(
		sizeMeasure{
			"who asks, and what they may: beside a request that is open",
			50,
			known[len(known)/2] - free[len(free)/2],
			"µs",
		},
	)
	alone := known[len(known)*99/100]
	trying, end := context.WithCancel(ctx)
	var group sync.WaitGroup
	tried := 0
	var mu sync.Mutex
	for i := range 8 {
		group.Go(func() {
			for n := 0; trying.Err() == nil; n++ { // each a name of its own, so that all are heard
				_, err := c.SignIn(
					trying,
					client.Login{Name: fmt.Sprintf("nobody-%d-%d", i, n), Password: strings.Repeat("x", 20)},
				)
				var p *client.Problem
				if errors.As(err, &p) && p.Status == http.StatusUnauthorized {
					mu.Lock()
					tried++
					mu.Unlock()
				}
			}
		})
	}
	begun := time.Now()
	beside, err := asksMany(ctx, person, "/session", asks)
	rate := float64(tried) / time.Since(begun).Seconds()
	end()
	group.Wait()
	if err != nil {
		return err
	}
	say(
		sizeMeasure{
			fmt.Sprintf("p99 of others while 8 try passwords, %.0f a second (%.1f ms alone)", rate, alone/1000),
			20,
			beside[len(beside)*99/100] / 1000,
			"ms",
		},
	)
	return nil
}

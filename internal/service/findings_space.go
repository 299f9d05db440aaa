package service

import (
	"context"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net/url"
	"os"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/engine/refuse"
)

const (
	// leastFree is what must be free in a store at any rate; beyond that, it must take what the last month brought.
	leastFree = 1 << 30
	month     = 30 * 24 * time.Hour
	// A table without a rule is looked at that has grown so much within a month, in bytes and by share.
	grownBytes, grownShare = 64 << 20, 0.2
	// sizesEvery is how often the sizes of tables are kept; smaller ones than leastSize are not.
	sizesEvery = 24 * time.Hour
	leastSize  = 4 << 20
	// certificateFor is how long a certificate must still hold.
	certificateFor = month
)

// storesFull finds stores that have little room left.
func (s *Findings) storesFull(ctx context.Context) (out []catalog.Cause, err error) {
	stores, err := s.Catalog.Stores(ctx)
	if err != nil {
		return nil, err
	}
	for _, st := range stores {
		free, err := s.places.StoreState(ctx, st.Name)
		if err != nil || free < 0 { // that a store is away is said elsewhere
			continue
		}
		written, err := s.Catalog.WrittenTo(ctx, st.Name, s.Now().Add(-month))
		if err != nil {
			return nil, err
		}
		if free >= max(leastFree, written) {
			continue
		}
		out = append(out, catalog.Cause{Subject: st.Name, Severity: catalog.Warning, Address: "#/stores",
			Message: fmt.Sprintf("store %s has little room left", st.Name),
			Evidence: fmt.Sprintf("%s is free; runs of the last 30 days wrote %s", pace.Bytes.Spoken(float64(free)),
				pace.Bytes.Spoken(float64(written))),
			Remedy: "give it more room, dispose of what has been kept for long enough, or let rules name another " +
				"store"})
	}
	return out, nil
}

// growing finds tables without a rule that have grown a lot.
func (s *Findings) growing(ctx context.Context) (out []catalog.Cause, err error) {
	list, err := s.Catalog.Grown(ctx, s.Now().Add(-month), grownBytes, grownShare)
	for _, g := range list {
		out = append(out, catalog.Cause{Subject: g.Source + "." + g.Table, Severity: catalog.Notice,
			Message: fmt.Sprintf("table %s of source %s grows, and no rule is for it", g.Table, g.Source),
			Evidence: fmt.Sprintf("it has grown from %s to %s since %s", pace.Bytes.Spoken(float64(g.Was)),
				pace.Bytes.Spoken(float64(g.Is)), g.Since.Format(time.DateOnly)),
			Remedy:  "decide how long its rows are kept, and write a rule; or acknowledge that it grows",
			Address: "#/tables/" + g.Source + "/" + url.PathEscape(g.Table)})
	}
	return out, err
}

// certificates finds certificates that end soon: the service's own, and those that vouch for sources.
func (s *Findings) certificates(ctx context.Context) (out []catalog.Cause, err error) {
	files := map[string]string{}
	for _, f := range s.Certificates {
		files[f] = "the service's own certificate"
	}
	sources, err := s.Catalog.Sources(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range sources {
		if c.TLSCA != "" {
			files[c.TLSCA] = "the certificate that vouches for source " + c.Name
		}
	}
	for file, what := range files {
		ends, err := lastDay(file)
		x := catalog.Cause{Subject: file, Severity: catalog.Warning, Address: "#/",
			Remedy: "put a new one there, and start the service again"}
		switch {
		case err != nil:
			x.Message, x.Evidence = what+" cannot be read", err.Error()
		case ends.Sub(s.Now()) > certificateFor:
			continue
		case !ends.After(s.Now()):
			x.Severity, x.Message, x.Evidence = catalog.Urgent, what+" has ended", file+" ended on "+
				ends.Format(time.DateOnly)
		default:
			x.Message, x.Evidence = what+" ends soon", file+" ends on "+ends.Format(time.DateOnly)
		}
		out = append(out, x)
	}
	return out, nil
}

// lastDay returns when the first of a file's certificates ends.
func lastDay(file string) (ends time.Time, err error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return ends, err
	}
	for {
		var block *pem.Block
		if block, text = pem.Decode(text); block == nil {
			break
		}
		if block.Type != "CERTIFICATE" {
			continue
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return ends, err
		}
		ends = sooner(ends, c.NotAfter)
	}
	if ends.IsZero() {
		return ends, fmt.Errorf("%s holds no certificate", file)
	}
	return ends, nil
}

// keepSizes keeps, once a day, how large the tables of all sources are.
func (s *Chores) keepSizes(ctx context.Context) (next time.Time, err error) {
	sources, err := s.Catalog.Sources(ctx)
	if err != nil {
		return next, err
	}
	now := s.Now()
	for _, c := range sources {
		kept, one := s.Catalog.SizesKept(ctx, c.Name)
		if one == nil && kept.Add(sizesEvery).After(now) && !kept.After(now) {
			next = sooner(next, kept.Add(sizesEvery))
			continue
		}
		if one == nil {
			one = s.keepSizesOf(ctx, c.Name, now)
		}
		var frozen *refuse.Frozen
		if errors.As(one, &frozen) {
			continue
		}
		if one != nil {
			err = errors.Join(err, fmt.Errorf("the sizes of the tables of source %s: %w", c.Name, one))
		}
	}
	return next, err
}

func (s *Chores) keepSizesOf(ctx context.Context, name string, now time.Time) error {
	src, err := s.Source(ctx, name)
	if err != nil {
		return err
	}
	tables, err := src.Tables(ctx)
	if err != nil {
		return err
	}
	// One that is always there tells that the sizes were kept where no table is large.
	sizes := []catalog.TableSize{{Source: name, At: catalog.At(now), Rows: -1}}
	for _, t := range tables {
		if bytes := max(t.Bytes, 0) + max(t.IndexBytes, 0); bytes >= leastSize {
			sizes = append(sizes, catalog.TableSize{Source: name, Table: t.Name, At: catalog.At(now), Rows: t.Rows,
				Bytes: bytes})
		}
	}
	return s.Catalog.KeepSizes(ctx, sizes)
}

// storesEvery is how often it is kept how large the stores are; of a day, what was kept last stands.
const storesEvery = time.Minute

// keepingStores keeps how large the stores are.
func (s *Chores) keepingStores() chore {
	var kept time.Time
	return func(ctx context.Context) (time.Time, error) {
		now := s.Now()
		if next := kept.Add(storesEvery); next.After(now) && !kept.After(now) &&
			kept.UTC().YearDay() == now.UTC().YearDay() {
			return next, nil
		}
		stores, err := s.Catalog.Stores(ctx)
		for i := range stores {
			t, one := s.Catalog.StoreTotals(ctx, &stores[i])
			if one != nil {
				return time.Time{}, errors.Join(err, one)
			}
			free, one := s.places.StoreState(ctx, stores[i].Name)
			if one != nil {
				free = -1 // that it is away is told elsewhere
			}
			err = errors.Join(err, s.Catalog.KeepStoreSize(ctx, catalog.StoreSize{
				Day: now.UTC().Format(time.DateOnly), Store: stores[i].Name, Bytes: t.FileBytes + t.GuestBytes,
				Segments: t.Segments, Free: free}))
		}
		if err == nil {
			kept = now
		}
		return now.Add(storesEvery), err
	}
}

// auditKept looks for old entries of the audit log that are about to be destroyed, or that cannot move to a store.
func (s *Findings) auditKept(ctx context.Context) (out []catalog.Cause, err error) {
	k, err := s.audit.Kept(ctx)
	if err != nil {
		return nil, err
	}
	for i := range k.Segments {
		if seg := &k.Segments[i]; seg.DueAt != nil {
			out = append(out, catalog.Cause{Subject: fmt.Sprintf("entries %d-%d", seg.First, seg.Last),
				Severity: catalog.Notice, Address: "#/audit",
				Message: fmt.Sprintf(
					"entries %d to %d of the audit log may be destroyed from %s on",
					seg.First,
					seg.Last,
					seg.DueAt.UTC().Format(time.DateOnly),
				),
				Evidence: fmt.Sprintf("they are of %s to %s, and kept for %s", seg.Least.UTC().Format(time.DateOnly),
					seg.Greatest.UTC().Format(time.DateOnly), k.Keep),
				Remedy: "nothing, if that is right; otherwise set audit-keep, or freeze all work until it is settled"})
		}
	}
	since, n, err := s.Catalog.OldestAudit(ctx)
	if err != nil || n == 0 || !since.Before(k.Live.Before(s.Now().AddDate(0, -2, 0), time.UTC)) {
		return out, err
	}
	why := "there is no store for them"
	if k.Store != "" {
		why = "they are to move to store " + k.Store
	}
	return append(out, catalog.Cause{Subject: "old entries", Severity: catalog.Warning, Address: "#/audit",
		Message: "old entries of the audit log stay in the catalog, which grows",
		Evidence: fmt.Sprintf(
			"%d entries are in the catalog, the oldest of %s; %s",
			n,
			since.UTC().Format(time.DateOnly),
			why,
		),
		Remedy: "look at the store, at the service's log, and at audit-store"}), nil
}

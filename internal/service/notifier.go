package service

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"sync"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/notify"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/refuse"
)

// Notifier tells people and systems what happens. Events lie in the catalog from the transaction on in which they
// happened; the Notifier makes deliveries of them, one for each recipient, and sends those until they arrive.
type Notifier struct {
	*base
	places  *Places
	firings *Schedules

	mu      sync.Mutex
	ways    Ways
	sending map[catalog.Lane]bool // lanes in which something is being sent
	mails   chan struct{}         // as many as mails may be sent at a time
	hooks   chan struct{}
}

// Ways are how people and systems are reached.
type Ways struct {
	Mail    Mail
	Hosts   []string // that webhooks may be sent to; HOST or HOST:PORT
	Console string   // address of the console as people have it, without a slash at its end; empty: no links
}

// Ways returns how people and systems are reached.
func (s *Notifier) Ways() Ways {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.ways
}

// Change changes how people and systems are reached, from the next notice on.
func (s *Notifier) Change(fn func(*Ways)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	fn(&s.ways)
}

const (
	// Mails and requests that go out at a time. One that does not answer keeps no others waiting.
	mailsAtOnce, hooksAtOnce = 4, 16
	// laneStep is how many deliveries of a lane are read at a time, and sent through one connection.
	laneStep = 100
	// attemptStep is of how many it is kept at a time that they are tried.
	attemptStep = 20
	// mostComing is how many firings to come are counted.
	mostComing = 10_000
	// digestFor is how late a digest may be. A service that was off for longer tells of the last day alone.
	digestFor = 24 * time.Hour
)

// notify makes deliveries of what happened, and has sent what is to be sent. It returns when something is to be done
// next.
func (s *Notifier) notify(ctx context.Context) (next time.Time, err error) {
	digests, err := s.digest(ctx)
	for ctx.Err() == nil {
		n, one := s.gather(ctx)
		if err = errors.Join(err, one); n == 0 || one != nil {
			break
		}
	}
	later, one := s.send(ctx)
	return sooner(digests, later), errors.Join(err, one)
}

// gather makes deliveries of the oldest events.
func (s *Notifier) gather(ctx context.Context) (int, error) {
	recipients, err := s.Catalog.Recipients(ctx)
	if err != nil {
		return 0, err
	}
	return s.Catalog.TakeEvents(ctx, func(e *notify.Event) (_ *catalog.News, out []catalog.Delivery) {
		n := notify.NoticeOf(e, s.Ways().Console)
		to := func(r *notify.Recipient) {
			out = append(out, catalog.NewDelivery(r, n, e.Urgent(), s.Now()))
		}
		for i := range recipients {
			if r := &recipients[i].Body.V; r.Wants(e) {
				to(r)
			}
		}
		if e.Tell != "" {
			to(&notify.Recipient{Address: e.Tell})
		}
		if e.Kind == notify.EventFiringNothing { // it is of every night, and a finding where it goes on
			return nil, out
		}
		return &catalog.News{At: catalog.At(e.At), Kind: e.Kind, Title: n.Title, Severity: e.Severity,
			Source: e.Source, Rule: e.Rule, Address: e.Page()}, out
	})
}

// digest sums up the days that are over for those who want that, and returns when the next one is.
func (s *Notifier) digest(ctx context.Context) (next time.Time, err error) {
	recipients, err := s.Catalog.Recipients(ctx)
	for i := range recipients {
		r := &recipients[i].Body.V
		due := r.DigestDue(s.Now())
		if due.IsZero() {
			continue
		}
		next = sooner(next, r.DigestDue(due.Add(25*time.Hour))) // a day has 25 hours at most
		// a day that is summed up already, unless that was by a clock that was set back since
		done := !recipients[i].DigestedTo.Before(due) && !recipients[i].DigestedTo.After(s.Now())
		if done || s.Now().Sub(due) > digestFor {
			continue
		}
		d, one := s.Catalog.Day(ctx, due.AddDate(0, 0, -1), due)
		if one == nil {
			var coming []Coming
			coming, one = s.firings.Coming(ctx, "", s.Now().Add(24*time.Hour), mostComing)
			d.Firings = len(coming)
		}
		if one == nil {
			n := notify.DigestOf(d, r, s.Ways().Console)
			one = s.Catalog.DeliverDigest(ctx, catalog.NewDelivery(r, n, false, s.Now()), due)
		}
		if one != nil && !errors.Is(one, catalog.ErrState) {
			err = errors.Join(err, fmt.Errorf("digest for %s: %w", r.Name, one))
		}
	}
	return next, err
}

// send has each lane worked off in which nothing is being sent, and returns when the next delivery can be tried.
func (s *Notifier) send(ctx context.Context) (next time.Time, err error) {
	lanes, err := s.Catalog.Lanes(ctx)
	for _, l := range lanes {
		ready, later, one := s.ready(ctx, l)
		next, err = sooner(next, later), errors.Join(err, one)
		if len(ready) == 0 {
			continue
		}
		s.mu.Lock()
		busy := s.sending[l]
		s.sending[l] = true
		s.mu.Unlock()
		if !busy {
			s.wait.Add(1)
			go s.workOff(s.ctx, l) // however long whoever looked goes on
		}
	}
	return next, err
}

// ready lists the deliveries of a lane that can be tried now, or says when the first of them can be.
func (s *Notifier) ready(ctx context.Context, l catalog.Lane) (out []catalog.Delivery, later time.Time, err error) {
	now := s.Now()
	if !l.Urgent && l.Recipient != "" {
		r, err := s.Catalog.Recipient(ctx, l.Recipient)
		if err != nil && !errors.Is(err, catalog.ErrNotFound) {
			return nil, later, err
		}
		if err == nil {
			if until := r.Body.V.QuietUntil(now); !until.IsZero() {
				return nil, until, nil
			}
		}
	}
	list, err := s.Catalog.WaitingIn(ctx, l, laneStep)
	if err != nil || len(list) == 0 {
		return nil, later, err
	}
	// those behind the first wait for it; a clock that was set back does not count
	if wait := list[0].NextAt.Sub(now); wait > 0 && wait <= notify.Pause(list[0].Attempts) {
		return nil, list[0].NextAt.Time, nil
	}
	return list, later, nil
}

// workOff sends the deliveries of a lane, one after another, until none is ready. Where the catalog cannot be read or
// written it ends, and the next look begins anew: nothing is sent of which that cannot be kept.
func (s *Notifier) workOff(ctx context.Context, l catalog.Lane) {
	defer s.wait.Done()
	for {
		err := s.workOn(ctx, l)
		s.mu.Lock()
		var list []catalog.Delivery
		if err == nil {
			list, _, err = s.ready(ctx, l) // what came meanwhile was left to this lane
		}
		if len(list) == 0 || err != nil {
			delete(s.sending, l)
			s.mu.Unlock()
			if err != nil && ctx.Err() == nil {
				s.Log.Error("the outbox rests: the catalog does not take what it has to keep", "recipient", l.Recipient,
					"error", err)
			}
			return
		}
		s.mu.Unlock()
	}
}

func (s *Notifier) workOn(ctx context.Context, l catalog.Lane) error {
	slot := s.mails
	if notify.IsURL(l.Address) {
		slot = s.hooks
	}
	select {
	case slot <- struct{}{}:
		defer func() { <-slot }()
	case <-ctx.Done():
		return ctx.Err()
	}
	var post post
	defer post.close()
	for {
		list, _, err := s.ready(ctx, l)
		if err != nil || len(list) == 0 {
			return err
		}
		for n := 1; len(list) > 0; n = attemptStep { // the first shows whether there is a way
			some := list[:min(n, len(list))]
			list = list[len(some):]
			if on, err := s.trySome(ctx, &post, some); err != nil || !on {
				return err
			}
		}
	}
}

// trySome tries deliveries one after another, until one has to wait. That they are tried is kept before they are, of
// all in one go: a catalog that takes nothing more, or a service that is killed again and again, does not tell the same
// thing again and again.
func (s *Notifier) trySome(ctx context.Context, post *post, list []catalog.Delivery) (on bool, err error) {
	before, now := slices.Clone(list), catalog.At(s.Now())
	for i := range list {
		d := &list[i]
		if d.Attempts++; d.Attempts == 1 { // it may have waited for others, or for the end of quiet hours
			d.Since = now
		}
		d.NextAt = catalog.At(now.Add(notify.Pause(d.Attempts)))
	}
	if err := s.Catalog.SaveAttempts(ctx, list); err != nil {
		return false, err
	}
	for i := range list {
		if on, err = s.try(ctx, post, &list[i]); err != nil || !on {
			if one := s.Catalog.SaveAttempts(ctx, before[i+1:]); err == nil { // which were not tried
				err = one
			}
			return false, err
		}
	}
	return true, nil
}

// try sends a delivery and keeps what came of it. It says whether the lane goes on with the next.
func (s *Notifier) try(ctx context.Context, post *post, d *catalog.Delivery) (on bool, err error) {
	fresh, err := s.Catalog.Delivery(ctx, d.ID) // somebody may have ended it, or its recipient moved
	if err != nil || fresh.State != catalog.DeliveryWaiting || fresh.Address != d.Address || fresh.Seq != d.Seq {
		return true, err
	}
	sent := s.deliver(ctx, post, d)
	if ctx.Err() != nil { // it was stopped: whether it arrived is not known, and it is tried again
		return false, ctx.Err()
	}
	now := catalog.At(s.Now())
	var never *neverError
	switch {
	case sent == nil:
		d.State, d.EndedAt, d.Error = catalog.DeliverySent, &now, ""
	case errors.As(sent, &never) || now.Sub(d.Since.Time) > notify.TriesFor:
		d.State, d.EndedAt, d.Error = catalog.DeliveryFailed, &now, sent.Error()
	default:
		d.NextAt, d.Error = catalog.At(now.Add(notify.Pause(d.Attempts))), sent.Error()
	}
	if d.State != catalog.DeliverySent && d.Attempts == 1 {
		s.Log.Warn("somebody cannot be told", "recipient", d.Recipient, "address", d.Address, "delivery", d.ID, "error",
			sent)
	}
	if err := s.Catalog.SaveDelivery(ctx, d); err != nil && !errors.Is(err, catalog.ErrState) {
		return false, err
	}
	return d.State != catalog.DeliveryWaiting, nil
}

// deliver sends a delivery.
func (s *Notifier) deliver(ctx context.Context, p *post, d *catalog.Delivery) error {
	ctx, cancel := context.WithTimeout(ctx, sendFor)
	defer cancel()
	if !notify.IsURL(d.Address) {
		by := s.Ways().Mail
		return p.mail(ctx, &by, d)
	}
	if err := s.mayTell(d.Address); err != nil {
		return err
	}
	var key []byte
	if d.Recipient != "" {
		r, err := s.Catalog.Recipient(ctx, d.Recipient)
		if err != nil {
			return err
		}
		if key, err = s.places.Secrets.read(r.Body.V.SecretEnv, r.Body.V.SecretFile); err != nil {
			return err
		}
	}
	return postTo(ctx, d, key, s.Now())
}

// mayTell refuses a URL of a host that the start of the service does not name: what can be reached from here is not
// for everybody who may ask.
func (s *Notifier) mayTell(to string) error {
	u, err := url.Parse(to)
	hosts := s.Ways().Hosts
	if err != nil || u.Host == "" || slices.Contains(hosts, u.Host) || slices.Contains(hosts, u.Hostname()) {
		return err
	}
	return &refuse.Error{Field: "tell", Message: fmt.Sprintf("nothing is sent to %s", u.Host),
		Remedy: "name the host where the service is started (`ambercellar serve -tell-hosts HOST,…`), or write a " +
			"mail address"}
}

// SetRecipient keeps who is told what, in the place of a recipient of that name.
func (s *Notifier) SetRecipient(ctx context.Context, actor string, r notify.Recipient) (*catalog.Recipient, error) {
	if err := checkName("name", r.Name); err != nil {
		return nil, err
	}
	faults := r.Faults()
	allowed := []error{s.places.Secrets.variable("secret_env", r.SecretEnv),
		s.places.Secrets.file("secret_file", r.SecretFile)}
	if r.Webhook() {
		allowed = append(allowed, s.mayTell(r.Address))
	}
	for _, err := range allowed {
		var refused *refuse.Error
		if errors.As(err, &refused) {
			faults = append(faults, notify.Fault(*refused))
		}
	}
	if len(faults) > 0 {
		out := &refuse.Problems{What: "recipient"}
		for _, f := range faults {
			out.Problems = append(out.Problems, rule.Problem{Field: f.Field, Message: f.Message, Remedy: f.Remedy})
		}
		return nil, out
	}
	return s.Catalog.SetRecipient(ctx, actor, r)
}

// Test sends a recipient a notice that says nothing else than that it arrived, and returns its delivery.
func (s *Notifier) Test(ctx context.Context, actor, name string) (*catalog.Delivery, error) {
	r, err := s.Catalog.Recipient(ctx, name)
	if err != nil {
		return nil, err
	}
	n := notify.Notice{Kind: notify.EventTest, At: s.Now(), Title: "A test from " + s.Instance,
		Facts: []notify.Fact{
			{Name: "recipient", Value: name},
			{Name: "asked for by", Value: actor},
		}, Link: s.Ways().Console}
	d := catalog.NewDelivery(&r.Body.V, n, true, s.Now()) // whoever asks for it wants to see it now
	if err := s.Catalog.Deliver(ctx, d); err != nil {
		return nil, err
	}
	return s.Catalog.Delivery(ctx, d.ID)
}

package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/approval"
	"ambercellar/internal/core/rights"
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/restore"
)

// Approvals keep what others have to approve before it is carried out, and carry it out then.
type Approvals struct {
	*base
	access *Access
	queue  *Queue
	places *Places
}

// allowed says whether something may be carried out now, with the context to do it with. Where others have to approve
// it first, it is asked for, and a refuse.Outstanding says so.
func (s *Approvals) allowed(ctx context.Context, n deps.Need) (context.Context, error) {
	a, err := s.needed(ctx, n)
	if err != nil || a == nil {
		return ctx, err
	}
	granted, err := s.Catalog.GrantedApproval(ctx, a.What, a.Subject, a.Digest, a.Persons)
	if err != nil {
		return ctx, err
	}
	if granted != nil {
		return catalog.WithApproval(ctx, granted.ID), nil
	}
	if a, err = s.ask(ctx, a); err != nil {
		return ctx, err
	}
	return ctx, outstanding(a)
}

func outstanding(a *catalog.Approval) *refuse.Outstanding {
	given := 0
	for _, v := range a.Votes {
		if v.Approves {
			given++
		}
	}
	return &refuse.Outstanding{
		Approval: a.ID,
		What:     string(a.What),
		Persons:  a.Persons,
		Given:    given,
		Begins:   a.Begins != "",
	}
}

// ask keeps a request, in the place of one about something else, and returns it with its votes.
func (s *Approvals) ask(ctx context.Context, a *catalog.Approval) (*catalog.Approval, error) {
	if err := s.Catalog.AskApproval(ctx, a); err != nil {
		return nil, err
	}
	return s.Catalog.Approval(ctx, a.ID)
}

// needed is the request for an approval that something needs, not kept yet; nil: it needs none.
func (s *Approvals) needed(ctx context.Context, n deps.Need) (*catalog.Approval, error) {
	g, err := s.Catalog.Guard(ctx, n.Source)
	if err != nil {
		return nil, err
	}
	persons, err := approval.Persons(g.Approve, n.Whats, n.Rule, n.Rows)
	if err != nil || persons == 0 {
		return nil, err
	}
	return s.request(ctx, n, persons)
}

func (s *Approvals) request(ctx context.Context, n deps.Need, persons int) (*catalog.Approval, error) {
	digest, err := approval.Digest(n.Of)
	if err != nil {
		return nil, err
	}
	out := &catalog.Approval{What: n.Whats[0], Source: n.Source, Table: n.Table, Rule: n.Rule, Subject: n.Subject,
		Digest: digest, Summary: firstBytes(plainText(n.Summary), mostSummary), Rows: n.Rows, Persons: persons,
		AskedBy: n.Asker, AskedPerson: n.Asker}
	if !n.Until.IsZero() {
		out.ExpiresAt = catalog.At(n.Until)
	}
	if a, err := s.Catalog.Account(ctx, n.Asker); err == nil {
		out.AskedPerson = person(a)
	} else if !errors.Is(err, catalog.ErrNotFound) {
		return nil, err
	}
	if n.Begins != nil {
		b, err := json.Marshal(n.Begins)
		if err != nil {
			return nil, err
		}
		out.Begins = string(b)
	}
	return out, nil
}

// mostSummary is how much of what is asked for is told in words.
const mostSummary = 2000

// Decide keeps how somebody decides on a request, for a reason, and carries out what was asked for where that was the
// last approval that it needs.
func (s *Approvals) Decide(ctx context.Context, who *Who, id string, approves bool, reason string) (*catalog.Approval,
	error) {
	a, err := s.Catalog.Approval(ctx, id)
	if err != nil {
		return nil, err
	}
	v := catalog.Vote{Approval: id, Account: who.Name, Person: who.person(), Approves: approves,
		Reason: strings.TrimSpace(plainText(reason))}
	if v.ForPerson, err = s.mayDecide(ctx, who, a); err != nil {
		return nil, err
	}
	if !approves && v.Reason == "" {
		return nil, &refuse.Error{Field: "reason", Message: "a refusal needs a reason, which the asker is told",
			Remedy: "say why"}
	}
	if len(v.Reason) > mostSummary {
		return nil, &refuse.Error{Field: "reason", Message: "the reason is too long", Remedy: "write less"}
	}
	if approves && a.State == catalog.ApprovalWaiting {
		if err := s.still(ctx, a); err != nil {
			return nil, err
		}
	}
	if a, err = s.Catalog.Vote(ctx, v); err != nil {
		return nil, err
	}
	switch a.State {
	case catalog.ApprovalGranted:
		s.begin(ctx, a)
	case catalog.ApprovalRefused:
		s.refused(ctx, who.Name, a, v.Reason)
	}
	return s.Catalog.Approval(ctx, id)
}

// mayDecide says whether somebody may decide on a request, and in whose place where it is not in their own.
func (s *Approvals) mayDecide(ctx context.Context, who *Who, a *catalog.Approval) (forPerson string, err error) {
	if err := s.access.MayDecide(ctx, who, a.AskedBy); err != nil {
		return "", err
	}
	if who.MayIn(rights.Approve, a.Source) {
		return "", nil
	}
	list, err := s.Catalog.Delegations(ctx)
	if err != nil {
		return "", err
	}
	now := s.Now()
	for _, d := range list {
		if d.To != who.Name {
			continue
		}
		from, err := s.Catalog.Account(ctx, d.From)
		if err != nil {
			return "", err
		}
		// nobody decides on their own request by somebody else, nor twice
		if !from.Stands(now) || !whoOf(from).MayIn(rights.Approve, a.Source) || person(from) == a.AskedPerson ||
			slices.ContainsFunc(a.Votes, func(v catalog.Vote) bool {
				return v.Person == person(from) || v.ForPerson == person(from)
			}) {
			continue
		}
		return person(from), nil
	}
	return "", &MayNotError{Who: who, Right: rights.Approve, Source: a.Source}
}

// MayNotError says that somebody has no right to something.
type MayNotError struct {
	Who    *Who
	Right  rights.Right
	Source string
}

func (e *MayNotError) Error() string {
	return fmt.Sprintf("%s may not %s in source %s", e.Who.Name, e.Right, e.Source)
}

// still refuses to approve what is not any more what was asked for, and voids the request.
func (s *Approvals) still(ctx context.Context, a *catalog.Approval) error {
	n, err := s.needOf(ctx, a)
	if err == nil && n == nil {
		return nil // what it is about stands in the request itself
	}
	digest := ""
	if err == nil {
		digest, err = approval.Digest(n.Of)
	}
	if err != nil && !errors.Is(err, catalog.ErrNotFound) {
		return err
	}
	if digest == a.Digest {
		return nil
	}
	if _, err := s.Catalog.WithdrawApproval(ctx, "service", a.ID, "what it is about has changed"); err != nil {
		return err
	}
	return &refuse.Error{
		Message: "what the request " + a.ID + " is about has changed since it was asked for; it is void",
		Remedy:  "ask for it anew",
	}
}

// needOf is what a request is about, as it is now; nil: that stands in the request itself.
func (s *Approvals) needOf(ctx context.Context, a *catalog.Approval) (*deps.Need, error) {
	switch a.What {
	case approval.Runs:
		p, err := s.Catalog.Plan(ctx, a.Subject)
		if err != nil {
			return nil, err
		}
		var b plan.Begin
		if a.Begins != "" {
			if err := json.Unmarshal([]byte(a.Begins), &b); err != nil {
				return nil, err
			}
		}
		n := plan.NeedOf(p, b.Empty)
		return &n, nil
	case approval.Restores:
		r, err := s.Catalog.Restore(ctx, a.Subject)
		if err != nil {
			return nil, err
		}
		n := restore.NeedOf(r, a.Rows)
		return &n, nil
	case approval.Disposals:
		d, err := s.Catalog.Disposal(ctx, a.Subject)
		if err != nil {
			return nil, err
		}
		n := disposalNeed(d.CreatedBy, d)
		return &n, nil
	}
	return nil, nil
}

// begin carries out what was approved. That it cannot be is kept with the request; it stands, and can be asked for
// again.
func (s *Approvals) begin(ctx context.Context, a *catalog.Approval) {
	ctx = context.WithoutCancel(ctx) // whoever decided may go
	err := s.begun(ctx, a)
	trouble := ""
	if err != nil {
		trouble = err.Error()
		s.Log.Error("what was approved cannot be carried out", "approval", a.ID, "error", err)
	}
	s.queue.insist("approval "+a.ID, func() error { return s.Catalog.BeganApproval(ctx, a.ID, trouble) })
}

func (s *Approvals) begun(ctx context.Context, a *catalog.Approval) error {
	last := a.AskedBy
	if len(a.Votes) > 0 {
		last = a.Votes[len(a.Votes)-1].Account
	}
	switch a.What {
	case approval.Restores:
		r, err := s.Engine.Restores.Approve(catalog.WithApproval(ctx, a.ID), last, a.Subject)
		_, err = s.queue.carriedOut(r, err)
		return err
	case approval.Disposals:
		_, err := s.Catalog.ApproveDisposal(ctx, last, a.Subject, catalog.At(s.Now()))
		return err
	}
	if a.Begins == "" {
		return nil
	}
	switch a.What {
	case approval.Runs:
		var b plan.Begin
		if err := json.Unmarshal([]byte(a.Begins), &b); err != nil {
			return err
		}
		var turn []catalog.RunTurn
		if b.Turn != nil {
			turn = append(turn, *b.Turn)
		}
		_, err := s.queue.StartRun(ctx, a.AskedBy, b.Plan, b.Empty, turn...)
		return err
	case approval.Lifts:
		var l plan.Lift
		if err := json.Unmarshal([]byte(a.Begins), &l); err != nil {
			return err
		}
		_, err := s.Engine.Plans.LiftHold(ctx, a.AskedBy, l.Hold, l.Reason)
		return err
	case approval.Loosenings:
		var x plan.Application
		if err := json.Unmarshal([]byte(a.Begins), &x); err != nil {
			return err
		}
		_, _, err := s.Engine.Plans.ApplyOver(ctx, a.AskedBy, x.File, []byte(x.Text), x.Reason, x.Expected)
		return err
	case approval.Guards:
		var g guardChange
		if err := json.Unmarshal([]byte(a.Begins), &g); err != nil {
			return err
		}
		return s.places.SetGuard(ctx, a.AskedBy, g.Source, g.Guard)
	}
	return fmt.Errorf("a request for %s is nothing that begins by itself", a.What)
}

// refused tells what was asked for that it was refused.
func (s *Approvals) refused(ctx context.Context, by string, a *catalog.Approval, reason string) {
	var err error
	switch a.What {
	case approval.Restores:
		_, err = s.Catalog.DecideRestore(ctx, by, a.Subject, catalog.RestoreRefused, reason, catalog.At(s.Now()))
	case approval.Disposals:
		_, err = s.Catalog.SetDisposalState(
			ctx,
			by,
			a.Subject,
			catalog.DisposalCancelled,
			reason,
			catalog.At(s.Now()),
		)
	}
	if err != nil && !errors.Is(err, catalog.ErrState) {
		s.Log.Error("what was refused cannot be ended", "approval", a.ID, "error", err)
	}
}

// Of returns the open request of a record, and makes one where there is none: one that was asked for before requests
// were kept, or before its guard rails said so.
func (s *Approvals) Of(ctx context.Context, n deps.Need) (*catalog.Approval, error) {
	a, err := s.Catalog.OpenApproval(ctx, n.Whats[0], n.Subject)
	if err == nil && a.State == catalog.ApprovalWaiting && a.ExpiresAt.After(s.Now()) ||
		err != nil && !errors.Is(err, catalog.ErrNotFound) {
		return a, err
	}
	g, err := s.Catalog.Guard(ctx, n.Source)
	if err != nil {
		return nil, err
	}
	persons, err := approval.Persons(g.Approve, n.Whats, n.Rule, n.Rows)
	if err != nil {
		return nil, err
	}
	if a, err = s.request(ctx, n, max(persons, 1)); err != nil {
		return nil, err
	}
	return s.ask(ctx, a)
}

// OfPlan returns the request for the run of a plan, as Of does.
func (s *Approvals) OfPlan(ctx context.Context, id string) (*catalog.Approval, error) {
	p, err := s.Catalog.Plan(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.Of(ctx, plan.NeedOf(p, false))
}

// OfRestore returns the request for a restore, as Of does.
func (s *Approvals) OfRestore(ctx context.Context, id string) (*catalog.Approval, error) {
	r, err := s.Catalog.Restore(ctx, id)
	if err != nil {
		return nil, err
	}
	if r.State != catalog.RestoreAsked {
		return nil, fmt.Errorf("restore %s is %s and waits for no decision: %w", id, r.State, catalog.ErrState)
	}
	return s.Of(ctx, restore.NeedOf(r, -1))
}

// OfDisposal returns the request for a disposal, as Of does.
func (s *Approvals) OfDisposal(ctx context.Context, id string) (*catalog.Approval, error) {
	d, err := s.Catalog.Disposal(ctx, id)
	if err != nil {
		return nil, err
	}
	if d.State != catalog.DisposalPlanned {
		return nil, fmt.Errorf("disposal %s is %s and waits for no approval: %w", id, d.State, catalog.ErrState)
	}
	return s.Of(ctx, disposalNeed(d.CreatedBy, d))
}

// disposalNeed says what others may have to approve before a disposal is started: exactly these segments.
func disposalNeed(asker string, d *catalog.Disposal) deps.Need {
	whats := []approval.What{approval.Disposals}
	if d.Kind == catalog.KindErasure {
		whats = append(whats, approval.Erasures)
	}
	segments := make([]string, len(d.Items.V))
	for i := range d.Items.V {
		segments[i] = d.Items.V[i].Segment
	}
	return deps.Need{
		Whats:   whats,
		Source:  d.Source,
		Table:   d.Table,
		Rule:    d.Rule,
		Subject: d.ID,
		Rows:    d.Rows,
		Asker:   asker,
		Of: struct {
			Order    catalog.DisposalOrder
			Segments []string
		}{d.DisposalOrder, segments},
		Summary: fmt.Sprintf("%s of %d segments of %s.%s: %s", d.Kind, len(segments), d.Source, d.Table, d.Note),
	}
}

// Withdraw ends a request of somebody's own, or anybody's for who administers.
func (s *Approvals) Withdraw(ctx context.Context, who *Who, id, reason string) (*catalog.Approval, error) {
	a, err := s.Catalog.Approval(ctx, id)
	if err != nil {
		return nil, err
	}
	if a.AskedPerson != who.person() && !who.MayIn(rights.Administer, a.Source) {
		return nil, &refuse.Error{Message: "only who has asked for it withdraws a request", Remedy: "refuse it instead"}
	}
	if strings.TrimSpace(reason) == "" {
		return nil, &refuse.Error{Field: "reason", Message: "no reason is given", Remedy: "say why"}
	}
	if a, err = s.Catalog.WithdrawApproval(ctx, who.Name, id, plainText(reason)); err != nil {
		return nil, err
	}
	s.refused(ctx, who.Name, a, "taken back: "+plainText(reason))
	return a, nil
}

// mostDelegated is for how long somebody can decide for somebody else.
const mostDelegated = 90 * 24 * time.Hour

// Delegate lets somebody else decide in one's place for a time.
func (s *Approvals) Delegate(ctx context.Context, who *Who, to, until, reason string) (*catalog.Delegation, error) {
	if who.Account == nil {
		return nil, &refuse.Error{Message: "the administrator's token delegates nothing", Remedy: "sign in as a person"}
	}
	if !who.MaySomewhere(rights.Approve) {
		return nil, &refuse.Error{Message: who.Name + " may not decide on anything, and has nothing to delegate",
			Remedy: "ask an administrator for the role approver"}
	}
	at, err := s.access.expiry(until)
	if err != nil || at.Sub(s.Now()) > mostDelegated {
		return nil, &refuse.Error{
			Field:   "until",
			Message: fmt.Sprintf("%.80q is no time within 90 days to come", until),
			Remedy:  "write an instant like 2027-03-31, or a duration like P14D",
		}
	}
	a, err := s.Catalog.Account(ctx, to)
	if err != nil && !errors.Is(err, catalog.ErrNotFound) {
		return nil, err
	}
	if err != nil || a.Kind != catalog.Person || !a.Stands(s.Now()) || person(a) == who.person() {
		return nil, &refuse.Error{Field: "to", Message: fmt.Sprintf("%.80q is no other person who may come in", to),
			Remedy: "name somebody else's account"}
	}
	if strings.TrimSpace(reason) == "" || len(reason) > mostAbout {
		return nil, &refuse.Error{
			Field:   "reason",
			Message: "the reason is missing, or too long",
			Remedy:  "say why, shortly",
		}
	}
	d := &catalog.Delegation{From: who.Name, To: a.Name, Until: *at, Reason: plainText(reason)}
	return d, s.Catalog.Delegate(ctx, who.Name, d)
}

// tending returns what ends requests whose time is over, and begins what was approved when the service stopped before
// that.
func (s *Approvals) tending() chore {
	first := true
	return func(ctx context.Context) (time.Time, error) {
		if err := s.Catalog.ExpireApprovals(ctx); err != nil {
			return time.Time{}, err
		}
		if first { // later on, whoever decides begins it
			list, err := s.Catalog.ToBegin(ctx)
			if err != nil {
				return time.Time{}, err
			}
			for i := range list {
				a, err := s.Catalog.Approval(ctx, list[i].ID)
				if err != nil {
					return time.Time{}, err
				}
				s.begin(ctx, a)
			}
			first = false
		}
		return time.Time{}, nil
	}
}

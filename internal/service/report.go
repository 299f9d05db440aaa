package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/audit"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/upkeep"
)

// ReportFormat is the name of the format of reports of runs, with its version.
const ReportFormat = "ambercellar-run-report/1"

// RunReport tells an auditor all of a run: by which rule and why, who planned, approved and started it, what it did
// to the row, and what has become of the rows since.
type RunReport struct {
	Format    string            `json:"format"`
	Made      catalog.Time      `json:"made"`
	Ledger    *upkeep.RunLedger `json:"ledger"`
	StartedBy string            `json:"started_by"`
	Balanced  *bool             `json:"balanced"` // the books of the run balance; null: they were not closed
	Rule      ReportRule        `json:"rule"`
	Plan      ReportPlan        `json:"plan"`
	Approvals []ReportApproval  `json:"approvals"` // that were asked for, whatever became of them
	Segments  []ReportSegment   `json:"segments"`
	Audit     []ReportEntry     `json:"audit"` // the entries of the audit log about the run, its plan and its approvals
	Head      audit.Head        `json:"head"`  // how far the audit log was when this was made
}

// ReportRule is the revision of the rule by which a run worked.
type ReportRule struct {
	Name      string       `json:"name"`
	Revision  int          `json:"revision"`
	Text      string       `json:"text"`
	Changes   []string     `json:"changes"` // since the revision before
	Reason    string       `json:"reason"`  // why a locked clause was loosened; empty: none was
	AppliedBy string       `json:"applied_by"`
	AppliedAt catalog.Time `json:"applied_at"`
}

// ReportPlan is what a run was to take.
type ReportPlan struct {
	ID       string       `json:"id"`
	MadeBy   string       `json:"made_by"` // empty: before it was kept who made plans
	MadeAt   catalog.Time `json:"made_at"`
	Note     string       `json:"note"`
	Due      int64        `json:"due"`
	Total    int64        `json:"total"`    // rows of the table
	Guards   []string     `json:"guards"`   // guard rails that it went beyond
	Override string       `json:"override"` // the reason for that
	Warnings []string     `json:"warnings"`
	// the very text whose SHA-256 was approved; empty: the plan is old, and parts of it were let go
	Approved string `json:"approved"`
}

// ReportApproval is a request for an approval, and how it was decided on.
type ReportApproval struct {
	ID      string       `json:"id"`
	Summary string       `json:"summary"`  // what was asked for, in words
	Digest  string       `json:"digest"`   // SHA-256 of what was asked for
	Persons int          `json:"persons"`  // so many others had to approve it
	AskedBy string       `json:"asked_by"` // the account, or schedule
	AskedAt catalog.Time `json:"asked_at"`
	State   string       `json:"state"`
	Votes   []ReportVote `json:"votes"`
}

// ReportVote is how a person decided.
type ReportVote struct {
	Person    string       `json:"person"`     // whoever it was
	Account   string       `json:"account"`    // under which they decided
	ForPerson string       `json:"for_person"` // in whose place; empty: in their own
	Approves  bool         `json:"approves"`
	Reason    string       `json:"reason"`
	At        catalog.Time `json:"at"`
}

// ReportSegment is what has become of the rows that a run archived.
type ReportSegment struct {
	Segment  string        `json:"segment"`
	State    string        `json:"state"`
	Verified *catalog.Time `json:"verified"`   // when it was last read back and found whole; null: it was not
	Damage   string        `json:"damage"`     // what was found to be wrong; empty: nothing
	Keep     *catalog.Time `json:"keep_until"` // null: without an end
	Disposed *catalog.Time `json:"disposed"`   // when its rows were destroyed; null: they were not
	Disposal string        `json:"disposal"`
}

// ReportEntry is an entry of the audit log, with what it takes to check its hash.
type ReportEntry struct {
	Before  string       `json:"before"` // the hash of the entry before it
	ID      int64        `json:"id"`
	At      catalog.Time `json:"at"`
	Actor   string       `json:"actor"`
	Session string       `json:"session"` // empty: by a token, or by the service itself
	Address string       `json:"address"`
	Action  string       `json:"action"`
	Subject string       `json:"subject"`
	Outcome string       `json:"outcome"`
	Detail  string       `json:"detail"`
	Digest  string       `json:"digest"`
	Hash    string       `json:"hash"` // of the entry, with that of the one before
}

// Report tells all of a run that has ended.
func (s *Audit) Report(ctx context.Context, id string) (*RunReport, error) {
	r, err := s.Catalog.Run(ctx, id)
	if err != nil {
		return nil, err
	}
	out := &RunReport{Format: ReportFormat, Made: catalog.At(s.Now()), StartedBy: r.StartedBy, Balanced: r.Balanced,
		Approvals: []ReportApproval{}, Segments: []ReportSegment{}, Audit: []ReportEntry{}}
	if out.Ledger, err = s.Engine.Upkeep.Ledger(ctx, id); err != nil {
		return nil, err
	}
	subjects := []string{r.ID, r.Plan}
	for _, fill := range []func() error{
		func() error { return s.reportRule(ctx, r, out) },
		func() error { return s.reportPlan(ctx, r, out) },
		func() error {
			list, err := s.Catalog.ApprovalsOf(ctx, r.Plan)
			for i := range list {
				out.Approvals = append(out.Approvals, reportApproval(&list[i]))
				subjects = append(subjects, list[i].ID)
			}
			return err
		},
		func() error { return s.reportSegments(ctx, r, out) },
		func() error {
			list, err := s.About(ctx, subjects)
			for i := range list {
				out.Audit = append(out.Audit, reportEntry(&list[i]))
			}
			return err
		},
	} {
		if err := fill(); err != nil {
			return nil, err
		}
	}
	head, err := s.Catalog.AuditHead(ctx)
	if err != nil {
		return nil, err
	}
	out.Head = *head
	return out, nil
}

func (s *Audit) reportRule(ctx context.Context, r *catalog.Run, out *RunReport) error {
	list, err := s.Catalog.Revisions(ctx, r.Rule)
	i := slices.IndexFunc(list, func(x catalog.Revision) bool { return x.Revision == r.Revision })
	if err != nil || i < 0 {
		return errors.Join(err, fmt.Errorf("revision %d of rule %s: %w", r.Revision, r.Rule, catalog.ErrNotFound))
	}
	x := list[i]
	out.Rule = ReportRule{Name: x.Rule, Revision: x.Revision, Text: x.Text, Changes: x.Changes.V, Reason: x.Reason,
		AppliedBy: x.AppliedBy, AppliedAt: x.AppliedAt}
	return nil
}

func (s *Audit) reportPlan(ctx context.Context, r *catalog.Run, out *RunReport) error {
	p, err := s.Catalog.Plan(ctx, r.Plan)
	if err != nil {
		return err
	}
	out.Plan = ReportPlan{ID: p.ID, MadeBy: p.MadeBy, MadeAt: p.MadeAt, Note: p.Detail.V.Note, Due: p.Counts.V.Due,
		Total: p.Counts.V.Total, Guards: p.Detail.V.Guards, Override: p.Detail.V.Override, Warnings: p.Warnings.V}
	if p.Thin {
		return nil
	}
	text, err := json.Marshal(plan.NeedOf(p, r.Emptying).Of)
	out.Plan.Approved = string(text)
	return err
}

func (s *Audit) reportSegments(ctx context.Context, r *catalog.Run, out *RunReport) error {
	list, err := s.Catalog.RunSegments(ctx, r.ID)
	for i := range list {
		x := &list[i]
		out.Segments = append(out.Segments, ReportSegment{Segment: x.ID, State: string(x.State), Verified: x.VerifiedAt,
			Damage: x.Damage, Keep: x.KeepUntil, Disposed: x.DisposedAt, Disposal: x.Disposal})
	}
	return err
}

func reportApproval(a *catalog.Approval) ReportApproval {
	out := ReportApproval{ID: a.ID, Summary: a.Summary, Digest: a.Digest, Persons: a.Persons, AskedBy: a.AskedBy,
		AskedAt: a.AskedAt, State: string(a.State), Votes: []ReportVote{}}
	for _, v := range a.Votes {
		out.Votes = append(out.Votes, ReportVote{Person: v.Person, Account: v.Account, ForPerson: v.ForPerson,
			Approves: v.Approves, Reason: v.Reason, At: v.At})
	}
	return out
}

func reportEntry(e *catalog.EntryBehind) ReportEntry {
	return ReportEntry{Before: e.Before, ID: e.ID, At: e.At, Actor: e.Actor, Session: e.Session, Address: e.Address,
		Action: e.Action, Subject: e.Subject, Outcome: string(e.Outcome), Detail: e.Detail, Digest: e.Digest,
		Hash: e.Hash}
}

// Check checks a report with nothing but itself, and with what lies at some places: the hashes of its entries, that
// what was approved is the plan that it holds, by as many others as were demanded, and the ledger.
func (r *RunReport) Check(ctx context.Context, places []archive.Place) (*upkeep.LedgerChecked, error) {
	if r.Format != ReportFormat || r.Ledger == nil {
		return nil, fmt.Errorf("it is no report of a run (%q)", r.Format)
	}
	out := &upkeep.LedgerChecked{Wrong: []string{}}
	if len(places) > 0 {
		var err error
		if out, err = upkeep.CheckLedger(ctx, r.Ledger, places); err != nil {
			return nil, err
		}
	}
	wrong := func(format string, args ...any) { out.Wrong = append(out.Wrong, fmt.Sprintf(format, args...)) }
	last := ReportEntry{}
	for _, e := range r.Audit {
		is := audit.Entry{ID: e.ID, At: e.At.Time, Actor: e.Actor, Session: e.Session, Address: e.Address,
			Action:  e.Action,
			Subject: e.Subject, Outcome: audit.EntryOutcome(e.Outcome), Digest: e.Digest}
		if is.Sum(e.Before) != e.Hash {
			wrong("entry %d of the audit log is not what was written", e.ID)
		}
		if e.ID <= last.ID || e.ID == last.ID+1 && e.Before != last.Hash {
			wrong("entry %d of the audit log does not follow entry %d", e.ID, last.ID)
		}
		last = e
	}
	sum := sha256.Sum256([]byte(r.Plan.Approved))
	digest := hex.EncodeToString(sum[:])
	for _, a := range r.Approvals {
		if a.State != string(catalog.ApprovalUsed) {
			continue
		}
		if r.Plan.Approved != "" && a.Digest != digest {
			wrong("what request %s approved is not the plan of the run", a.ID)
		}
		others := map[string]bool{}
		for _, v := range a.Votes {
			who := v.Person
			if v.ForPerson != "" {
				who = v.ForPerson
			}
			if v.Approves && v.Account != a.AskedBy {
				others[who] = true
			}
		}
		if len(others) < a.Persons {
			wrong("request %s needed %d others, and %d have approved it", a.ID, a.Persons, len(others))
		}
	}
	return out, nil
}

package cli

import (
	"context"
	"flag"
	"fmt"

	"ambercellar/client"
)

func approvalCommands() []Command {
	reason := func(f *flag.FlagSet) { f.String("reason", "", "why; it is kept") }
	return []Command{
		{Name: "approval list", Summary: "list what others have to approve before it is carried out",
			Flags: func(f *flag.FlagSet) {
				f.Bool("all", false, "those that are decided too")
				limitFlag(f)
			}, Run: approvalList},
		{
			Name:    "approval show",
			Args:    "APPROVAL",
			Summary: "show what is asked for, and who decided how",
			Run:     approvalShow,
		},
		{
			Name: "approval approve",
			Args: "APPROVAL",
			Summary: "approve it; what was to begin by itself begins with the last " +
				"approval that it needs",
			Flags: reason,
			Run:   approvalVerb((*client.Client).Approve),
		},
		{Name: "approval refuse", Args: "APPROVAL", Summary: "refuse it, for a reason", Flags: reason,
			Run: approvalVerb((*client.Client).Refuse)},
		{
			Name:    "approval withdraw",
			Args:    "APPROVAL",
			Summary: "take a request of your own back, for a reason",
			Flags:   reason,
			Run:     approvalVerb((*client.Client).Withdraw),
		},
		{Name: "delegation add", Args: "USER", Summary: "let somebody else decide in your place for a time",
			Flags: func(f *flag.FlagSet) {
				f.String("until", "", "an instant, or a duration like P14D; 90 days at the most")
				f.String("reason", "", "why; it is kept")
			}, Run: delegationAdd},
		{Name: "delegation list", Summary: "list who decides for somebody else now", Run: delegationList},
		{Name: "delegation end", Args: "DELEGATION", Summary: "end a delegation", Run: delegationEnd},
	}
}

func approvalList(e *Env) error {
	state := "waiting"
	if Get[bool](e, "all") {
		state = ""
	}
	l, err := items(e, func(limit int, after string) (client.Items[client.Approval], error) {
		return e.Client.Approvals(e.Ctx, client.ApprovalsQuery{State: state, Limit: limit, After: after})
	})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for i := range l.Items {
		a := &l.Items[i]
		rows = append(
			rows,
			[]string{a.ID, string(a.What), a.AskedBy, At(a.AskedAt), rowsAsked(a), votes(a), string(a.State),
				a.Summary},
		)
	}
	return e.Show(l, []string{"approval", "of", "asked by", "at", "rows", "approved", "state", "what"}, rows)
}

func rowsAsked(a *client.Approval) string {
	if a.Rows < 0 {
		return "?"
	}
	return Count(a.Rows)
}

// votes says how many have approved, of how many that have to.
func votes(a *client.Approval) string {
	n := 0
	for _, v := range a.Votes {
		if v.Approves {
			n++
		}
	}
	return fmt.Sprintf("%d of %d", n, a.Persons)
}

func (e *Env) approvalFacts(a *client.Approval) error {
	facts := []Fact{
		{"approval", a.ID},
		{"of", string(a.What)},
		{"what", a.Summary},
		{"source", a.Source},
		{"table", a.Table},
		{"rule", a.Rule},
		{"subject", a.Subject},
		{"rows", rowsAsked(a)},
		{"digest", a.Digest},
		{"asked", At(a.AskedAt) + " by " + a.AskedBy},
		{"state", string(a.State)},
		{"approved", votes(a)},
	}
	if a.State == client.ApprovalWaiting || a.State == client.ApprovalGranted {
		facts = append(facts, Fact{"until", At(a.ExpiresAt)})
	}
	for _, v := range a.Votes {
		verb := "approved"
		if !v.Approves {
			verb = "refused"
		}
		who := v.Account
		if v.ForPerson != "" {
			who += ", for " + v.ForPerson
		}
		text := At(v.At) + " by " + who
		if v.Reason != "" {
			text += ": " + v.Reason
		}
		facts = append(facts, Fact{verb, text})
	}
	return e.Facts(a, append(facts, Fact{"trouble", a.Trouble}))
}

func approvalShow(e *Env) error {
	a, err := e.Client.Approval(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.approvalFacts(a)
}

func approvalVerb(do func(*client.Client, context.Context, string, client.Decision) (*client.Approval, error)) func(
	*Env) error {
	return func(e *Env) error {
		a, err := do(e.Client, e.Ctx, e.Args[0], client.Decision{Reason: e.Flag("reason")})
		if err != nil {
			return err
		}
		return e.approvalFacts(a)
	}
}

func delegationAdd(e *Env) error {
	d, err := e.Client.Delegate(
		e.Ctx,
		client.NewDelegation{To: e.Args[0], Until: e.Flag("until"), Reason: e.Flag("reason")},
	)
	if err != nil {
		return err
	}
	return e.Facts(d, []Fact{{"delegation", d.ID}, {"who decides", d.To}, {"for", d.From}, {"until", At(d.Until)},
		{"reason", d.Reason}})
}

func delegationList(e *Env) error {
	l, err := e.Client.Delegations(e.Ctx)
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, d := range l.Items {
		rows = append(rows, []string{d.ID, d.To, d.From, At(d.Until), d.Reason})
	}
	return e.Show(l, []string{"delegation", "who decides", "for", "until", "reason"}, rows)
}

func delegationEnd(e *Env) error {
	if err := e.Client.EndDelegation(e.Ctx, e.Args[0]); err != nil {
		return err
	}
	fmt.Fprintln(e.Err, "the delegation has ended")
	return nil
}

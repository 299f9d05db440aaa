package cli

import (
	"flag"
	"fmt"

	"ambercellar/client"
)

func accountCommands() []Command {
	return []Command{
		{Name: "account add", Args: "ACCOUNT", Summary: "make an account with a token of its own, which is shown once",
			Flags: func(f *flag.FlagSet) {
				f.String("role", "", "viewer, operator, approver or administrator")
				f.Bool("rows", false, "it sees values of rows: samples, searches and files")
				f.String("about", "", "whose it is, and what for")
				f.String("expires", "", "when it ends: an instant, or a duration like P90D; left out: never")
			}, Run: accountAdd},
		{Name: "account list", Summary: "list the accounts, with when and from where each was last used",
			Run: accountList},
		{Name: "account revoke", Args: "ACCOUNT", Summary: "end an account and its sessions, at once and for good",
			Flags: func(f *flag.FlagSet) { f.String("reason", "", "why the account ends; it is kept") },
			Run:   accountRevoke},
		{Name: "whoami", Summary: "say who the token stands for, and what that account may do", Run: whoami},
	}
}

func accountAdd(e *Env) error {
	made, err := e.Client.AddAccount(e.Ctx, client.NewAccount{Name: e.Args[0], Role: e.Flag("role"),
		Rows: Get[bool](e, "rows"), About: e.Flag("about"), Expires: e.Flag("expires")})
	if err != nil {
		return err
	}
	if err := e.Facts(made, []Fact{{"account", made.Name}, {"token", made.Token}}); err != nil || e.Format != "table" {
		return err
	}
	_, err = fmt.Fprintln(e.Out, "keep the token: it is not shown again; commands read it from AMBERCELLAR_TOKEN")
	return err
}

func (e *Env) accounts(l client.Items[client.Account]) error {
	rows := [][]string{}
	for _, a := range l.Items {
		state := "stands"
		if a.RevokedAt != nil {
			state = "revoked " + At(*a.RevokedAt) + " by " + a.RevokedBy + ": " + a.Reason
		} else if a.ExpiresAt != nil {
			state = "until " + At(*a.ExpiresAt)
		}
		sees := "no"
		if a.Rows || a.Role == client.Administrator {
			sees = "yes"
		}
		used := atOrDash(a.UsedAt)
		if a.UsedFrom != "" {
			used += " from " + a.UsedFrom
		}
		rows = append(rows, []string{a.Name, string(a.Role), sees, a.About, used, state})
	}
	return e.Show(l, []string{"account", "role", "sees rows", "about", "last used", "state"}, rows)
}

func accountList(e *Env) error {
	l, err := e.Client.Accounts(e.Ctx)
	if err != nil {
		return err
	}
	return e.accounts(l)
}

func accountRevoke(e *Env) error {
	l, err := e.Client.RevokeAccount(e.Ctx, e.Args[0], client.Lift{Reason: e.Flag("reason")})
	if err != nil {
		return err
	}
	return e.accounts(l)
}

func whoami(e *Env) error {
	s, err := e.Client.Session(e.Ctx)
	if err != nil {
		return err
	}
	may := ""
	for i, right := range s.Rights {
		if i > 0 {
			may += ", "
		}
		may += string(right)
	}
	return e.Facts(s, []Fact{{"account", s.Actor}, {"role", string(s.Role)}, {"may", may}})
}

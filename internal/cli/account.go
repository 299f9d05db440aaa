package cli

import (
	"errors"
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ambercellar/client"
)

func accountCommands() []Command {
	rights := func(f *flag.FlagSet) {
		f.String("role", "", "in all sources: viewer, operator, approver or administrator; none: only what -in gives")
		f.Bool("rows", false, "may see values of rows: samples, searches and files")
		f.String("in", "", "what it may do besides, by source, like harbour=operator+rows,ferry=approver")
		f.String("about", "", "whose it is, and what for")
		f.String("expires", "", "when it ends: an instant, or a duration like P90D; left out: never")
	}
	change := func(f *flag.FlagSet) {
		rights(f)
		f.String("owner", "", "the person whose account it is")
		f.String("email", "", "the address of the person")
	}
	return []Command{
		{Name: "user add", Args: "USER", Summary: "make an account of a person, who signs in with a password",
			Flags: func(f *flag.FlagSet) {
				change(f)
				f.String("issuer", "", "of single sign-on, where the person comes in by that")
				f.String("identity", "", "how the issuer calls the person")
				f.String("data", "", "the service's data directory, on its machine: its administrator's token is used")
			}, Run: userAdd},
		{
			Name:    "user set",
			Args:    "USER",
			Summary: "change what a person is and may do; the sessions end where that changes",
			Flags:   change,
			Run:     accountSet,
		},
		{Name: "user password", Args: "USER",
			Summary: "give a person a new password for one sign-in, and take the second factor away",
			Run:     userPassword},
		{Name: "account add", Args: "ACCOUNT", Summary: "make an account of a service, with a token that is shown once",
			Flags: func(f *flag.FlagSet) {
				rights(f)
				f.String(
					"owner",
					"",
					"the person whose account it is besides: nobody decides on what they asked for as another",
				)
			}, Run: accountAdd},
		{
			Name:    "account set",
			Args:    "ACCOUNT",
			Summary: "change what an account is and may do",
			Flags:   change,
			Run:     accountSet,
		},
		{Name: "account list", Summary: "list persons and services, with when and from where each was last used",
			Run: accountList},
		{Name: "account revoke", Args: "ACCOUNT", Summary: "end an account and its sessions, at once and for good",
			Flags: func(f *flag.FlagSet) { f.String("reason", "", "why the account ends; it is kept") },
			Run:   accountRevoke},
		{Name: "session list", Summary: "list your sessions; with -all everybody's",
			Flags: func(f *flag.FlagSet) { f.Bool("all", false, "everybody's, for administrators") }, Run: sessionList},
		{Name: "session end", Args: "SESSION", Summary: "end a session", Run: sessionEnd},
		{Name: "whoami", Summary: "say who you are here, and what you may do", Run: whoami},
	}
}

// grants reads what may be done in single sources; nil: nothing is said of it.
func (e *Env) grants() (map[string]client.Grant, error) {
	if !e.given()("in") {
		return nil, nil
	}
	out := map[string]client.Grant{}
	for _, part := range Names(e.Flag("in")) {
		source, what, ok := strings.Cut(part, "=")
		role, rows, _ := strings.Cut(what, "+")
		if !ok || source == "" || rows != "" && rows != "rows" {
			return nil, Usage("-in %q is not written like harbour=operator or harbour=operator+rows", part)
		}
		out[source] = client.Grant{Role: client.Role(role), Rows: rows != ""}
	}
	return out, nil
}

func (e *Env) newAccount(kind client.AccountKind) (in client.NewAccount, err error) {
	in = client.NewAccount{Name: e.Args[0], Kind: kind, Role: e.Flag("role"), Rows: Get[bool](e, "rows"),
		About: e.Flag("about"), Expires: e.Flag("expires"), Owner: e.Flag("owner")}
	in.Grants, err = e.grants()
	return in, err
}

func accountAdd(e *Env) error {
	in, err := e.newAccount(client.ServiceUser)
	if err != nil {
		return err
	}
	made, err := e.Client.AddAccount(e.Ctx, in)
	if err != nil {
		return err
	}
	if err := e.Facts(made, []Fact{{"account", made.Name}, {"token", made.Token}}); err != nil || e.Format != "table" {
		return err
	}
	_, err = fmt.Fprintln(e.Out, "keep the token: it is not shown again; commands read it from AMBERCELLAR_TOKEN")
	return err
}

// tokenFile is where the service keeps the administrator's token, in its data directory.
const tokenFile = "administrator-token"

func userAdd(e *Env) error {
	in, err := e.newAccount(client.Person)
	if err != nil {
		return err
	}
	in.Email, in.Issuer, in.Identity = e.Flag("email"), e.Flag("issuer"), e.Flag("identity")
	if dir := e.Flag("data"); dir != "" {
		b, err := os.ReadFile(filepath.Join(dir, tokenFile))
		if err != nil {
			return fmt.Errorf("the administrator's token: %w; `ambercellar serve -new-token` makes a new one", err)
		}
		e.Client.Token = strings.TrimSpace(string(b))
	}
	made, err := e.Client.AddAccount(e.Ctx, in)
	if err != nil {
		return err
	}
	return e.firstPassword(made)
}

func userPassword(e *Env) error {
	made, err := e.Client.GivePassword(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.firstPassword(made)
}

func (e *Env) firstPassword(made *client.MadeAccount) error {
	err := e.Facts(made, []Fact{{"user", made.Name}, {"password", made.Password}})
	if err != nil || e.Format != "table" || made.Password == "" {
		return err
	}
	_, err = fmt.Fprintln(
		e.Out,
		"the password is not shown again; it is for signing in once, within three days, and is "+
			"changed then",
	)
	return err
}

func accountSet(e *Env) error {
	var in client.ChangedAccount
	given := e.given()
	for name, to := range map[string]**string{"role": &in.Role, "about": &in.About, "owner": &in.Owner,
		"email":   &in.Email,
		"expires": &in.Expires} {
		if given(name) {
			text := e.Flag(name)
			*to = &text
		}
	}
	if given("rows") {
		rows := Get[bool](e, "rows")
		in.Rows = &rows
	}
	grants, err := e.grants()
	if err != nil {
		return err
	}
	if grants != nil {
		in.Grants = &grants
	}
	a, err := e.Client.ChangeAccount(e.Ctx, e.Args[0], in)
	if err != nil {
		return err
	}
	return e.Facts(a, []Fact{{"account", a.Name}, {"kind", string(a.Kind)}, {"role", string(a.Role)},
		{"sees rows", yesOrNo(a.Rows)}, {"in sources", grantsText(a.Grants)}, {"owner", a.Owner}, {"about", a.About},
		{"email", a.Email}, {"ends", atOrDash(a.ExpiresAt)}})
}

func yesOrNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// grantsText writes what may be done in single sources, as -in takes it.
func grantsText(grants map[string]client.Grant) string {
	var out []string
	for _, source := range slices.Sorted(maps.Keys(grants)) {
		text := source + "=" + string(grants[source].Role)
		if grants[source].Rows {
			text += "+rows"
		}
		out = append(out, text)
	}
	return strings.Join(out, ",")
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
		about := a.About
		if a.Owner != "" {
			about = strings.TrimSpace("of " + a.Owner + " " + about)
		}
		at, from := a.UsedAt, a.UsedFrom
		if a.Kind == client.Person {
			at, from = a.SignedInAt, a.SignedInFrom
		}
		used := atOrDash(at)
		if from != "" {
			used += " from " + from
		}
		rows = append(
			rows,
			[]string{a.Name, string(a.Kind), string(a.Role), yesOrNo(a.Rows || a.Role == client.Administrator),
				Dash(grantsText(a.Grants)), about, used, state},
		)
	}
	return e.Show(
		l,
		[]string{"account", "kind", "role", "sees rows", "in sources", "about", "last used", "state"},
		rows,
	)
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

func sessionList(e *Env) error {
	l, err := e.Client.Sessions(e.Ctx, client.SessionsQuery{All: Get[bool](e, "all")})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, s := range l.Items {
		account := s.Account
		if account == "" {
			account = "administrator"
		}
		own := ""
		if s.Own {
			own = "this one"
		}
		rows = append(
			rows,
			[]string{s.ID, account, At(s.BegunAt), At(s.UsedAt), At(s.ExpiresAt), s.Address, s.Agent, own},
		)
	}
	return e.Show(l, []string{"session", "account", "begun", "last used", "ends", "from", "by", ""}, rows)
}

func sessionEnd(e *Env) error {
	if err := e.Client.EndSession(e.Ctx, e.Args[0]); err != nil {
		return err
	}
	fmt.Fprintln(e.Err, "the session has ended")
	return nil
}

func whoami(e *Env) error {
	s, err := e.Client.Session(e.Ctx)
	var p *client.Problem
	if errors.As(err, &p) && p.Field == "password" {
		return fmt.Errorf("%w: `ambercellar password`", err)
	}
	if err != nil {
		return err
	}
	may := make([]string, len(s.Rights))
	for i, right := range s.Rights {
		may[i] = string(right)
	}
	ends := ""
	if s.ExpiresAt != nil {
		ends = At(*s.ExpiresAt)
	}
	second := ""
	if s.Kind == string(client.Person) {
		second = "no; `ambercellar second-factor set` takes one"
		if s.SecondFactor {
			second = "yes"
		}
	}
	return e.Facts(s, []Fact{{"account", s.Actor}, {"role", string(s.Role)}, {"may", strings.Join(may, ", ")},
		{"in sources", grantsText(s.Grants)}, {"second factor", second}, {"session", s.Session},
		{"ends", ends}})
}

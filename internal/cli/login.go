package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/term"

	"ambercellar/client"
)

func loginCommands() []Command {
	return []Command{
		{Name: "login", Args: "[USER]", Summary: "sign in, and keep the session for the commands that follow",
			Flags: func(f *flag.FlagSet) {
				f.String("code", "",
					"of the second factor; left out: asked for where needed")
				f.Bool(
					"console",
					false,
					"by somebody who is signed in to the console, by single sign-on for example: they "+
						"confirm a code",
				)
			},
			Run: login},
		{Name: "logout", Summary: "end the session that login has begun", Run: logout},
		{Name: "password", Summary: "change your own password", Run: password},
		{Name: "second-factor set", Summary: "have a second factor: a code that an app shows, asked for at sign-in",
			Run: secondSet},
		{Name: "second-factor remove", Summary: "have no second factor any more", Run: secondRemove},
		{
			Name:    "profile list",
			Summary: "list the services to which login has signed in",
			Run:     profileList,
			Local:   true,
			Flags:   func(f *flag.FlagSet) { f.String("o", "table", "output: table, json or csv") },
		},
		{
			Name:    "profile use",
			Args:    "PROFILE",
			Summary: "say which of them commands talk to",
			Run:     profileUse,
			Local:   true,
		},
	}
}

// Profile is a service to which somebody has signed in.
type Profile struct {
	Server string `json:"server"`
	User   string `json:"user"`
	Token  string `json:"token,omitempty"` // of the session; empty: it has ended
}

// Profiles are kept in the user's own directory of settings.
type Profiles struct {
	Current  string             `json:"current"`
	Profiles map[string]Profile `json:"profiles"`
}

// usualProfile is what a profile is called where nothing else is said.
const usualProfile = "default"

// profilesFile is where profiles are kept.
func profilesFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("the directory of settings: %w", err)
	}
	return filepath.Join(dir, "ambercellar", "profiles.json"), nil
}

func readProfiles() (*Profiles, error) {
	p := &Profiles{Current: usualProfile, Profiles: map[string]Profile{}}
	path, err := profilesFile()
	if err != nil {
		return p, nil // nowhere to keep any
	}
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return p, nil
	}
	if err == nil {
		var st os.FileInfo
		if st, err = os.Stat(path); err == nil && st.Mode().Perm()&0o077 != 0 {
			err = fmt.Errorf("others may read it; `chmod 600 %s`", path)
		}
	}
	if err == nil {
		err = json.Unmarshal(b, p)
	}
	if err != nil {
		return nil, fmt.Errorf("the profiles in %s: %w", path, err)
	}
	if p.Profiles == nil {
		p.Profiles = map[string]Profile{}
	}
	return p, nil
}

// keep writes the profiles, for their owner alone, whole or not at all.
func (p *Profiles) keep() error {
	path, err := profilesFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	b, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".profiles-*") // of mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // where it was not renamed
	_, err = f.Write(append(b, '\n'))
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	return err
}

// connect finds out which service a command talks to, and as whom. What the environment and flags say comes first. The
// token of a profile goes to its own service alone.
func (e *Env) connect(server, profile string) error {
	e.Server = server
	token := e.Getenv("AMBERCELLAR_TOKEN")
	p, err := readProfiles()
	if err != nil && token == "" {
		return err
	}
	if err == nil {
		named := profile != "" || e.Getenv("AMBERCELLAR_PROFILE") != ""
		for _, name := range []string{profile, e.Getenv("AMBERCELLAR_PROFILE"), p.Current, usualProfile} {
			if name != "" {
				e.Profile = name
				break
			}
		}
		x, known := p.Profiles[e.Profile]
		if named && !known && server == "" {
			return Usage("there is no profile %q; `ambercellar profile list` lists them, `ambercellar login -as %s "+
				"-server …` makes it", e.Profile, e.Profile)
		}
		if e.Server == "" {
			e.Server = x.Server
		}
		if token == "" && strings.TrimSuffix(e.Server, "/") == strings.TrimSuffix(x.Server, "/") {
			token, e.User = x.Token, x.User
		}
	}
	if e.Server == "" {
		e.Server = defaultServer
	}
	e.Client = &client.Client{Server: e.Server, Token: token}
	return nil
}

// ask reads a line that nobody should see, or that everybody may.
func (e *Env) ask(prompt string, secret bool) (string, error) {
	fmt.Fprint(e.Err, prompt+": ")
	if f, ok := e.In.(*os.File); ok && secret && term.IsTerminal(int(f.Fd())) {
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(e.Err)
		return string(b), err
	}
	if e.lines == nil {
		e.lines = bufio.NewReader(io.LimitReader(e.In, 1<<20))
	}
	line, err := e.lines.ReadString('\n')
	if errors.Is(err, io.EOF) && line != "" {
		err = nil
	}
	if err != nil {
		return "", fmt.Errorf("nothing was written for %s: %w", strings.ToLower(prompt), err)
	}
	return strings.TrimRight(line, "\r\n"), nil
}

// pairEvery is how often it is asked whether somebody has confirmed a code.
const pairEvery = time.Second

// loginByConsole shows a code, and waits until somebody confirms it in the console.
func loginByConsole(e *Env) (*client.Session, error) {
	if len(e.Args) > 0 || e.Flag("code") != "" {
		return nil, Usage("with -console, who signs in is who confirms the code: leave USER and -code out")
	}
	e.Client.Token = "" // of before
	p, err := e.Client.BeginPairing(e.Ctx)
	if err != nil {
		return nil, err
	}
	fmt.Fprintf(e.Err, "sign in to the console, open your account (%s/#/account), and confirm this code within ten "+
		"minutes:\n\n    %s\n\n", e.Server, p.Code)
	for {
		s, err := e.Client.TakePairing(e.Ctx, client.PairingTaken{Code: p.Code, Secret: p.Secret})
		if err != nil {
			return nil, err
		}
		if !s.Waits {
			return s.Session, nil
		}
		if err := Sleep(e.Ctx, pairEvery); err != nil {
			return nil, err
		}
	}
}

func login(e *Env) error {
	if Get[bool](e, "console") {
		s, err := loginByConsole(e)
		if err != nil {
			return err
		}
		return e.keepSession(s)
	}
	in := client.Login{Keep: true, Code: e.Flag("code")}
	var err error
	if len(e.Args) > 0 {
		in.Name = e.Args[0]
	} else if in.Name, err = e.ask("Name", false); err != nil {
		return err
	}
	if in.Password, err = e.ask("Password", true); err != nil {
		return err
	}
	e.Client.Token = "" // of before
	s, err := e.Client.SignIn(e.Ctx, in)
	var p *client.Problem
	if errors.As(err, &p) && strings.HasSuffix(p.Type, ":second-factor") {
		if in.Code, err = e.ask("Code", false); err != nil {
			return err
		}
		s, err = e.Client.SignIn(e.Ctx, in)
	}
	if err != nil {
		return err
	}
	if s.MustChange {
		e.Client.Token = s.Token
		fmt.Fprintln(e.Err, "this password was for signing in once; choose one of your own")
		if err := e.changePassword(in.Password); err != nil {
			return errors.Join(err, ignoreProblem(e.Client.SignOut(e.Ctx)))
		}
	}
	return e.keepSession(s)
}

// keepSession keeps a session for the commands that follow.
func (e *Env) keepSession(s *client.Session) error {
	all, err := readProfiles()
	if err != nil {
		return err
	}
	all.Profiles[e.Profile], all.Current = Profile{Server: e.Server, User: s.Actor, Token: s.Token}, e.Profile
	if err := all.keep(); err != nil {
		e.Client.Token = s.Token
		return errors.Join(err, ignoreProblem(e.Client.SignOut(e.Ctx)))
	}
	fmt.Fprintf(e.Err, "signed in to %s as %s, until %s at the latest\n", e.Server, s.Actor, At(*s.ExpiresAt))
	if s.LastAt != nil {
		fmt.Fprintf(e.Err, "the last sign-in was on %s, from %s\n", At(*s.LastAt), s.LastFrom)
	}
	if e.Getenv("AMBERCELLAR_TOKEN") != "" {
		e.Warn("AMBERCELLAR_TOKEN is set, and commands use that in place of this session")
	}
	return nil
}

func logout(e *Env) error {
	all, err := readProfiles()
	if err != nil {
		return err
	}
	x := all.Profiles[e.Profile]
	if x.Token == "" {
		return fmt.Errorf("profile %s has no session", e.Profile)
	}
	e.Client = &client.Client{Server: x.Server, Token: x.Token}
	ended := e.Client.SignOut(e.Ctx)
	x.Token = ""
	all.Profiles[e.Profile] = x
	if err := errors.Join(all.keep(), ignoreProblem(ended)); err != nil {
		return err
	}
	var away *client.AwayError
	if errors.As(ended, &away) {
		e.Warn("the service does not answer: the session stands there until it runs out")
	}
	fmt.Fprintln(e.Err, "signed out of", x.Server)
	return nil
}

// changePassword asks for a new password, twice.
func (e *Env) changePassword(old string) error {
	fresh, err := e.ask("New password", true)
	if err != nil {
		return err
	}
	again, err := e.ask("The same again", true)
	if err != nil {
		return err
	}
	if fresh != again {
		return errors.New("these are two different passwords; nothing was changed")
	}
	return e.Client.ChangePassword(e.Ctx, client.NewPassword{Password: old, NewPassword: fresh})
}

func password(e *Env) error {
	old, err := e.ask("Password", true)
	if err != nil {
		return err
	}
	if err := e.changePassword(old); err != nil {
		return err
	}
	fmt.Fprintln(e.Err, "the password is changed; your other sessions have ended")
	return nil
}

func secondSet(e *Env) error {
	pass, err := e.ask("Password", true)
	if err != nil {
		return err
	}
	x, err := e.Client.OfferSecond(e.Ctx, client.PasswordAgain{Password: pass})
	if err != nil {
		return err
	}
	if e.Format == "table" {
		err = e.Facts(x, []Fact{{"secret", x.Secret}, {"address", x.Address}})
	} else {
		err = e.Facts(x, nil)
	}
	if err != nil {
		return err
	}
	code, err := e.ask("Code that your app shows for it", false)
	if err != nil {
		return err
	}
	if err := e.Client.TakeSecond(e.Ctx, client.NewSecond{Password: pass, Secret: x.Secret, Code: code}); err != nil {
		return err
	}
	fmt.Fprintln(e.Err, "from now on a code is asked for at sign-in; your other sessions have ended")
	return nil
}

func secondRemove(e *Env) error {
	pass, err := e.ask("Password", true)
	if err != nil {
		return err
	}
	code, err := e.ask("Code", false)
	if err != nil {
		return err
	}
	if err := e.Client.TakeSecond(e.Ctx, client.NewSecond{Password: pass, Code: code}); err != nil {
		return err
	}
	fmt.Fprintln(e.Err, "there is no second factor any more")
	return nil
}

func profileList(e *Env) error {
	e.Format = e.Flag("o")
	all, err := readProfiles()
	if err != nil {
		return err
	}
	rows := [][]string{}
	shown := Profiles{Current: all.Current, Profiles: map[string]Profile{}}
	for _, name := range slices.Sorted(maps.Keys(all.Profiles)) {
		x := all.Profiles[name]
		state := "signed in"
		if x.Token == "" {
			state = "signed out"
		}
		if x.Token = ""; name == all.Current {
			state += ", in use"
		}
		shown.Profiles[name] = x
		rows = append(rows, []string{name, x.Server, x.User, state})
	}
	return e.Show(shown, []string{"profile", "service", "user", "state"}, rows)
}

func profileUse(e *Env) error {
	all, err := readProfiles()
	if err != nil {
		return err
	}
	if _, known := all.Profiles[e.Args[0]]; !known {
		return Usage("there is no profile %q; `ambercellar profile list` lists them", e.Args[0])
	}
	all.Current = e.Args[0]
	return all.keep()
}

package local

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"slices"
	"strings"

	"ambercellar/internal/cli"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/settings"
	"ambercellar/internal/service"
)

// usualConfig is the file of settings that is read where none is named, if it is there.
const usualConfig = "/etc/ambercellar/ambercellar.yaml"

// serveSettings are the settings of the service.
func serveSettings() []settings.Setting {
	return []settings.Setting{
		{Name: "data", Usual: "ambercellar-data", About: "directory of the catalog and of restored files"},
		{Name: "listen", Usual: "127.0.0.1:7420", About: "address to listen at; loopback unless told otherwise",
			Check: hostPort},
		{Name: "hosts", List: true, About: "names, with commas between, under which the service is asked, beside its " +
			"addresses and the machine's name"},
		{Name: "tls-cert", Changes: true, About: "certificate file, to serve HTTPS"},
		{Name: "tls-key", Changes: true, About: "key file of the certificate"},
		{Name: "metrics", About: "address of a listener of its own for /metrics; on loopback it needs no token; left " +
			"out: /metrics is answered with the rest"},
		{Name: "scrape-token-file", Changes: true, About: "file with the token for reading /metrics; the " +
			"administrator's reads it too", Check: func(file string) error { _, err := scrapeToken(file); return err }},
		{
			Name:    "declare",
			Changes: true,
			About: "directory of files that declare sources, stores, keeps, schedules and " +
				"rules; they are taken up at the start and at SIGHUP",
		},
		{Name: "log", Usual: "text", About: "form of the log on standard error: text or json",
			Check: oneOf("text", "json")},
		{Name: "level", Usual: "info", Changes: true, About: "lowest level of the log: debug, info, warn or error",
			Check: oneOf("debug", "info", "warn", "error")},
		{
			Name:    "smtp",
			Changes: true,
			About: "HOST:PORT of the mail server through which people are told; left out: no " +
				"mail is sent",
		},
		{Name: "mail-from", Changes: true, About: "with -smtp: the sender's address"},
		{Name: "mail-user", Changes: true, About: "with -smtp: whom the service signs in as; left out: the sender"},
		{Name: "mail-password-env", Changes: true, About: "with -smtp: environment variable with the password; left " +
			"out: no signing in"},
		{
			Name:    "mail-security",
			Changes: true,
			About: "with -smtp: " + strings.Join(service.Securities, ", ") + "; left " +
				"out: starttls where the service signs in, and TLS if it is offered where it does not",
			Check: oneOf(append([]string{""}, service.Securities...)...),
		},
		{Name: "tell-hosts", List: true, Changes: true,
			About: "hosts, with commas between, that webhooks may be sent to; left out: none"},
		{
			Name:    "console-url",
			Changes: true,
			About: "address of the console as people have it, for links in what they " +
				"are told; left out: no links",
			Check: webAddress,
		},
		{
			Name:    "oidc-issuer",
			Changes: true,
			About: "address of the identity provider by which people sign in (OpenID " +
				"Connect); left out: none",
			Check: webAddress,
		},
		{Name: "oidc-client", Changes: true, About: "with -oidc-issuer: how it calls this service"},
		{
			Name:    "oidc-secret-file",
			Changes: true,
			About: "with -oidc-issuer: file with the secret of that client; left out: " +
				"it has none",
		},
		{
			Name:    "oidc-groups",
			Usual:   "groups",
			Changes: true,
			About: "with -oidc-issuer: the claim that holds the groups of a " +
				"person",
		},
		{Name: "oidc-roles", List: true, Changes: true, About: "with -oidc-issuer: what groups may do, like " +
			"dba=administrator,desk=operator,desk@harbour=operator+rows; left out: only who has an account comes in",
			Check: groupRoles},
		{
			Name: "client-ca",
			About: "with -tls-cert: file of the authorities whose client certificates services may come in " +
				"with, in place of a token: the certificate's common name is the account's",
		},
		{Name: "audit-store", Changes: true, About: "store that old entries of the audit log move to; left out: the " +
			"first by name whose files do not go cold"},
		{Name: "audit-live", Usual: service.UsualRetention.Live.String(), Changes: true, About: "how long entries of " +
			"the audit log stay in the catalog before they move to a store", Check: lengthOfTime},
		{Name: "audit-keep", Usual: service.UsualRetention.Keep.String(), Changes: true, About: "how long entries of " +
			"the audit log are kept in all, then they are destroyed; forever: for good", Check: lengthOfTime},
		{Name: "secrets", Usual: service.UsualSecrets.Dir,
			About: "directory of files that sources may name for their passwords; empty: none"},
		{Name: "secret-prefix", Usual: service.UsualSecrets.Prefix, About: "what the names of environment variables " +
			"begin with that sources and stores may name for secrets", Check: notAll},
	}
}

func oneOf(allowed ...string) func(string) error {
	return func(text string) error {
		if slices.Contains(allowed, text) {
			return nil
		}
		if len(allowed) == 2 {
			return fmt.Errorf("%q is neither %s nor %s", text, allowed[0], allowed[1])
		}
		return fmt.Errorf("%q is none of %s", text, strings.Join(slices.DeleteFunc(slices.Clone(allowed),
			func(s string) bool { return s == "" }), ", "))
	}
}

func hostPort(text string) error {
	if _, _, err := net.SplitHostPort(text); err != nil {
		return fmt.Errorf("%q is no HOST:PORT", text)
	}
	return nil
}

// forever says that something is kept for good.
const forever = "forever"

func lengthOfTime(text string) error {
	if text == forever {
		return nil
	}
	_, err := period.Parse(text)
	return err
}

func retentionOf(v settings.Values) (service.AuditRetention, error) {
	keep := v.Text("audit-keep")
	if keep == forever {
		keep = ""
	}
	return service.ParseRetention(v.Text("audit-store"), v.Text("audit-live"), keep)
}

func webAddress(text string) error {
	if text != "" && !strings.HasPrefix(text, "http://") && !strings.HasPrefix(text, "https://") {
		return fmt.Errorf("%q begins with neither http:// nor https://", text)
	}
	return nil
}

func groupRoles(text string) error {
	_, err := service.ParseGroupRoles(settings.Texts(text))
	return err
}

func singleOf(v settings.Values) (service.Single, error) {
	roles, err := service.ParseGroupRoles(v.List("oidc-roles"))
	return service.Single{
		Issuer:     v.Text("oidc-issuer"),
		Client:     v.Text("oidc-client"),
		SecretFile: v.Text("oidc-secret-file"),
		Console:    strings.TrimRight(v.Text("console-url"), "/"),
		Groups:     v.Text("oidc-groups"),
		Roles:      roles,
	}, err
}

func notAll(prefix string) error {
	if prefix == "" {
		return errors.New("it is empty: then every variable of the service could be had through the interface")
	}
	return nil
}

func settingFlags(f *flag.FlagSet) {
	f.String(
		"config",
		"",
		"file of settings, in YAML (or AMBERCELLAR_CONFIG); left out: "+usualConfig+", if it is there",
	)
	for _, s := range serveSettings() {
		f.String(s.Name, s.Usual, s.About+fmt.Sprintf(" (or %s)", s.Variable()))
	}
}

// configured reads all settings, as flags, variables and a file have them. It prints all faults, and returns an error
// where there are any; warnings it prints alone.
func configured(e *cli.Env) (settings.Values, error) {
	file, text, err := configFile(e)
	if err != nil {
		return nil, err
	}
	flags := map[string]string{}
	e.Flags.Visit(func(f *flag.Flag) { flags[f.Name] = f.Value.String() })
	all := serveSettings()
	values, problems := settings.Read(all, settings.Given{File: file, Text: text, Environ: os.Environ(), Flags: flags})
	faults := 0
	for _, p := range append(problems, together(values)...) {
		fmt.Fprintln(e.Err, p.Error())
		if !p.Warning {
			faults++
		}
	}
	if faults > 0 {
		return nil, cli.Usage(
			"%s in the configuration; `ambercellar config check` looks at it without starting anything",
			cli.Things(int64(faults), "fault"),
		)
	}
	return values, nil
}

func configFile(e *cli.Env) (file string, text []byte, err error) {
	file = e.Flag("config")
	if file == "" {
		file = os.Getenv(settings.Prefix + "CONFIG")
	}
	named := file != ""
	if !named {
		file = usualConfig
	}
	text, err = os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) && !named {
		return "", nil, nil
	}
	if err != nil {
		return "", nil, fmt.Errorf("-config: %w", err)
	}
	return file, text, nil
}

// together says what is wrong with settings that each might be right.
func together(v settings.Values) (out []rule.Problem) {
	if problem := mailOf(v).Problem(); problem != "" {
		out = append(out, rule.Problem{Field: "smtp, mail-*", Message: problem})
	}
	if _, err := retentionOf(v); err != nil {
		out = append(out, rule.Problem{Field: "audit-live, audit-keep", Message: err.Error(),
			Remedy: "keep entries longer than they stay in the catalog"})
	}
	if v.Text("oidc-issuer") != "" && (v.Text("oidc-client") == "" || v.Text("console-url") == "") {
		out = append(
			out,
			rule.Problem{Field: "oidc-client, console-url", Message: "single sign-on needs both: how the issuer " +
				"calls this service, and the address to which it sends people back",
				Remedy: "give them, or leave oidc-issuer out"},
		)
	}
	if ca := v.Text("client-ca"); ca != "" {
		if _, err := authorities(ca); err != nil || v.Text("tls-cert") == "" {
			out = append(
				out,
				rule.Problem{Field: "client-ca", Message: fmt.Sprintf("client certificates need -tls-cert, and "+
					"authorities that can be read (%v)", err), Remedy: "name a file of certificates in PEM"},
			)
		}
	}
	if cert, key := v.Text("tls-cert"), v.Text("tls-key"); cert != "" || key != "" {
		if _, err := tls.LoadX509KeyPair(cert, key); err != nil {
			out = append(out, rule.Problem{Field: "tls-cert, tls-key", Message: err.Error(),
				Remedy: "name the files of a certificate and of its key, in PEM"})
		}
	}
	return out
}

func mailOf(v settings.Values) service.Mail {
	return service.Mail{Server: v.Text("smtp"), From: v.Text("mail-from"), User: v.Text("mail-user"),
		PasswordEnv: v.Text("mail-password-env"), Security: v.Text("mail-security")}
}

// apply makes a service work by the settings that can change while it runs.
func apply(v settings.Values, s *service.Service, level *slog.LevelVar) error {
	token, err := scrapeToken(v.Text("scrape-token-file"))
	if err != nil {
		return err
	}
	s.Access.SetScrapeToken(token)
	s.Notifier.Change(func(w *service.Ways) {
		w.Mail, w.Console = mailOf(v), strings.TrimRight(v.Text("console-url"), "/")
		w.Hosts = nil
		for _, host := range v.List("tell-hosts") {
			w.Hosts = append(w.Hosts, strings.ToLower(host))
		}
	})
	single, err := singleOf(v)
	if err != nil {
		return err
	}
	s.Access.SetSingle(single)
	retention, err := retentionOf(v)
	if err != nil {
		return err
	}
	s.Audit.SetRetention(retention)
	s.SetConfiguration(shown(v))
	if err := s.Audit.Configured(context.Background(), shown(v)); err != nil {
		return err
	}
	return level.UnmarshalText([]byte(v.Text("level")))
}

// shown lists the settings in the order of their table.
func shown(v settings.Values) (out []settings.InForce) {
	for _, s := range serveSettings() {
		out = append(out, v[s.Name])
	}
	return out
}

// configCheck looks at the settings that `serve` would have with the same flags, variables and file.
func configCheck(e *cli.Env) error {
	v, err := configured(e)
	if err != nil {
		return err
	}
	if e.Flag("o") == "json" {
		return json.NewEncoder(e.Out).Encode(shown(v))
	}
	for _, x := range shown(v) {
		fmt.Fprintf(e.Out, "%-18s %-36s %s\n", x.Name, x.Text, x.From)
	}
	return nil
}

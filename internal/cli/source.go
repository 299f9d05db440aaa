package cli

import (
	"flag"
	"fmt"
	"path/filepath"
	"strings"

	"ambercellar/client"
)

// sourceCommands are the commands of sources.
func sourceCommands() []Command {
	return []Command{
		{Name: "source add", Args: "NAME", Summary: "add a database", Flags: sourceFlags, Run: sourceAdd},
		{Name: "source set", Args: "NAME", Summary: "change how a database is reached; what no flag names stays",
			Flags: sourceSetFlags, Run: sourceSet},
		{Name: "source delete", Args: "NAME", Summary: "forget a database that no rule, run or segment knows",
			Run: sourceDelete},
		{Name: "source list", Summary: "list the databases", Run: sourceList},
		{Name: "source check", Args: "NAME", Summary: "connect, and say which rights are there and which lack",
			Run: sourceCheck},
	}
}

func sourceFlags(f *flag.FlagSet) {
	f.String("engine", "sqlite", "sqlite, postgres, or mariadb (for MySQL too)")
	sourceSetFlags(f)
}

func sourceSetFlags(f *flag.FlagSet) {
	f.String("address", "", "path of the SQLite file, or URL like postgres://user@host:5432/database or "+
		"mariadb://user@host:3306/database (without password)")
	f.String("password-env", "", "environment variable of the service that holds the password")
	f.String("password-file", "", "file that holds the password, readable by the service")
	f.String("tls", "", "verify, require or off; left out, it is verify but for loopback addresses")
	f.String("tls-ca", "", "file of certificates that may sign the server's")
	f.String("origin", "", "marks our deletes for replicas and change feeds: the name of a replication origin "+
		"(PostgreSQL), or a number for gtid_domain_id (MariaDB)")
	f.String("disk", "", "directory of the service's machine on whose disk the database's files are, for watching "+
		"its free space; SQLite's own if left out")
	f.Int("connections", 4, "the most connections that the service opens, 3 to 100")
}

func sourceAdd(e *Env) error {
	connections := Get[int](e, "connections")
	address := e.Flag("address")
	if e.Flag("engine") == "sqlite" && address != "" {
		if abs, err := filepath.Abs(address); err == nil {
			address = abs
		}
	}
	in := client.NewSource{Name: e.Args[0], Engine: e.Flag("engine"), Address: address,
		PasswordEnv: e.Flag("password-env"), PasswordFile: e.Flag("password-file"),
		TLS: e.Flag("tls"), TLSCA: e.Flag("tls-ca"), Disk: e.Flag("disk"), Origin: e.Flag("origin"),
		Connections: connections}
	r, err := e.Client.AddSource(e.Ctx, in)
	if err != nil {
		return err
	}
	if e.Format == "table" {
		fmt.Fprintf(e.Out, "source %s added\n", in.Name)
	}
	return e.report(r)
}

func sourceSet(e *Env) error {
	given := e.given()
	text := func(flag string) *string {
		if !given(flag) {
			return nil
		}
		value := e.Flag(flag)
		return &value
	}
	x := client.SourceChange{Address: text("address"), PasswordEnv: text("password-env"),
		PasswordFile: text("password-file"), TLS: text("tls"), TLSCA: text("tls-ca"), Disk: text("disk"),
		Origin: text("origin")}
	if given("connections") {
		n := Get[int](e, "connections")
		x.Connections = &n
	}
	if x == (client.SourceChange{}) {
		return Usage("nothing is to be changed; name a flag, like -address")
	}
	if x.Address != nil && !strings.Contains(*x.Address, "://") {
		if abs, err := filepath.Abs(*x.Address); err == nil {
			x.Address = &abs
		}
	}
	r, err := e.Client.ChangeSource(e.Ctx, e.Args[0], x)
	if err != nil {
		return err
	}
	if e.Format == "table" {
		fmt.Fprintf(e.Out, "source %s changed\n", e.Args[0])
	}
	return e.report(r)
}

func sourceDelete(e *Env) error {
	l, err := e.Client.DeleteSource(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	if e.Format != "table" {
		return e.Show(l, nil, nil)
	}
	_, err = fmt.Fprintf(e.Out, "source %s is forgotten\n", e.Args[0])
	return err
}

func (e *Env) report(r *client.Report) error {
	if e.Format == "table" {
		fmt.Fprintf(e.Out, "%s %s", r.Engine, r.Version)
		if r.User != "" {
			fmt.Fprintf(e.Out, ", as %s, TLS %s", r.User, r.TLS)
		}
		fmt.Fprintf(e.Out, "\njournal: %s\n\n", r.Journal)
	}
	rows := [][]string{}
	for _, f := range r.Items {
		rows = append(rows, []string{string(f.Level), Dash(f.Table), f.Text, f.Remedy})
	}
	return e.Show(r, []string{"level", "table", "finding", "remedy"}, rows)
}

func sourceList(e *Env) error {
	l, err := e.Client.Sources(e.Ctx)
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, s := range l.Items {
		password := "none"
		if s.PasswordEnv != "" {
			password = "from environment " + s.PasswordEnv
		} else if s.PasswordFile != "" {
			password = "from file " + s.PasswordFile
		}
		rows = append(rows, []string{s.Name, s.Engine, s.Address, password, Count(s.Connections)})
	}
	return e.Show(l, []string{"name", "engine", "address", "password", "connections"}, rows)
}

func sourceCheck(e *Env) error {
	r, err := e.Client.CheckSource(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	if err := e.report(r); err != nil {
		return err
	}
	if !r.OK() {
		return fmt.Errorf("source %s lacks something that the service needs; the lines marked missing say what",
			e.Args[0])
	}
	return nil
}

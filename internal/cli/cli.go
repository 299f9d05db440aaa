// Package cli is the command line: each command is a flag.FlagSet over the client, but for serve and demo, which run
// the service. It formats and asks; what happens is the service's business.
package cli

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"text/tabwriter"

	"ambercellar/client"
	"ambercellar/internal/core/shape"
)

// Exit statuses.
const (
	exitDone   = 0
	exitFailed = 1
	exitUsage  = 2
	exitAsked  = 3 // others have to approve it first
)

// Command is one command of the program.
type Command struct {
	Name    string // "noun verb"
	Args    string // its arguments, for the usage line
	Summary string
	Flags   func(*flag.FlagSet) // its own flags; nil for none
	Run     func(*Env) error
	Local   bool // needs no service
}

// Env is what a running command works with.
type Env struct {
	Ctx            context.Context
	In             io.Reader
	Out, Err       io.Writer
	Flags          *flag.FlagSet
	Args           []string
	Client         *client.Client
	Format, Server string
	Profile, User  string // of login
	Getenv         func(string) string
	lines          *bufio.Reader
	verifyStores   func(e *Env, stores []string, source, table string) error
	verifyAudit    func(e *Env, catalog string, stores []string) (*client.AuditReport, error)
}

// Warn tells what the answer's reader should know beside it, where a program that reads the answer does not stumble
// over it.
func (e *Env) Warn(text string) { fmt.Fprintln(e.Err, "warning:", text) }

// usageError ends the program with status 2.
type usageError struct{ text string }

func (e *usageError) Error() string { return e.text }

func Usage(format string, args ...any) error { return &usageError{fmt.Sprintf(format, args...)} }

const defaultServer = "http://127.0.0.1:7420"

// Program is the command line: the commands of this package, and those that need no service.
type Program struct {
	Local []Command
	// what segment verify does without a service
	VerifyStores func(e *Env, stores []string, source, table string) error
	// what audit verify does without a service
	VerifyAudit func(e *Env, catalog string, stores []string) (*client.AuditReport, error)
	Getenv      func(string) string // where the client finds its settings; nil: the process's environment
}

// Commands are all commands, those of a noun together.
func (p Program) Commands() []Command {
	all := commands()
	front := 0
	for _, c := range p.Local {
		noun, _, _ := strings.Cut(c.Name, " ")
		last := -1
		for i := range all {
			if n, _, _ := strings.Cut(all[i].Name, " "); n == noun {
				last = i
			}
		}
		if last < 0 {
			last, front = front-1, front+1
		}
		all = slices.Insert(all, last+1, c)
	}
	return all
}

// Run runs the program with arguments and returns its exit status.
func (p Program) Run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	all := p.Commands()
	if p.Getenv == nil {
		p.Getenv = os.Getenv
	}
	if len(args) == 0 || args[0] == "help" || args[0] == "-h" || args[0] == "--help" || args[0] == "-help" {
		help(out, all)
		return exitDone
	}
	if args[0] == "complete" { // for shells
		words := args[1:]
		if len(words) > 0 && words[0] == "--" {
			words = words[1:]
		}
		complete(ctx, out, all, words)
		return exitDone
	}
	cmd, rest := find(all, args)
	if cmd == nil {
		fmt.Fprintf(errOut, "ambercellar: %q is no command; %s\n", strings.Join(args[:min(2, len(args))], " "),
			meant(all, args))
		return exitUsage
	}
	e := &Env{Ctx: ctx, In: in, Out: out, Err: errOut, verifyStores: p.VerifyStores,
		verifyAudit: p.VerifyAudit, Getenv: p.Getenv}
	err := e.run(cmd, rest)
	if err == nil {
		return exitDone
	}
	var u *usageError
	switch {
	case errors.Is(err, flag.ErrHelp):
		return exitDone
	case errors.As(err, &u):
		fmt.Fprintf(errOut, "ambercellar %s: %s\n", cmd.Name, u.text)
		return exitUsage
	}
	explain(errOut, cmd.Name, err)
	var asked *client.Problem
	if errors.As(err, &asked) && strings.HasSuffix(asked.Type, ":approval") {
		return exitAsked
	}
	return exitFailed
}

func find(all []Command, args []string) (*Command, []string) {
	for n := min(2, len(args)); n > 0; n-- {
		name := strings.Join(args[:n], " ")
		if i := slices.IndexFunc(all, func(c Command) bool { return c.Name == name }); i >= 0 {
			return &all[i], args[n:]
		}
	}
	return nil, nil
}

// meant says which command somebody meant, or where they are listed.
func meant(all []Command, args []string) string {
	verbs := map[string][]string{}
	var nouns, names []string
	for _, c := range all {
		noun, verb, _ := strings.Cut(c.Name, " ")
		if !slices.Contains(nouns, noun) {
			nouns = append(nouns, noun)
		}
		verbs[noun], names = append(verbs[noun], verb), append(names, c.Name)
	}
	written := strings.Join(args[:min(2, len(args))], " ")
	if len(args) > 1 && slices.Contains(nouns, args[0]) {
		if near := shape.Nearest(args[1], verbs[args[0]]); near != "" {
			return "did you mean `ambercellar " + args[0] + " " + near + "`?"
		}
	}
	if slices.Contains(nouns, args[0]) {
		return "it goes on with " + strings.Join(verbs[args[0]], ", ")
	}
	if near := shape.Nearest(written, names); near != "" {
		return "did you mean `ambercellar " + near + "`?"
	}
	if near := shape.Nearest(args[0], nouns); near != "" {
		return "did you mean `ambercellar " + near + "`?"
	}
	return "`ambercellar help` lists them"
}

// nearFlag says which flag somebody meant where none is of the name that they wrote.
func nearFlag(f *flag.FlagSet, args []string) string {
	var known []string
	f.VisitAll(func(x *flag.Flag) { known = append(known, x.Name) })
	for _, a := range args {
		name, dashed := strings.CutPrefix(a, "-")
		name, _, _ = strings.Cut(strings.TrimPrefix(name, "-"), "=")
		if dashed && name != "" && f.Lookup(name) == nil {
			if near := shape.Nearest(name, known); near != "" {
				return "did you mean -" + near + "? "
			}
			return ""
		}
	}
	return ""
}

// run parses a command's flags, which may stand before, between and after its arguments, and runs it.
func (e *Env) run(cmd *Command, args []string) error {
	f := flag.NewFlagSet(cmd.Name, flag.ContinueOnError)
	f.SetOutput(io.Discard)
	if cmd.Flags != nil {
		cmd.Flags(f)
	}
	if !cmd.Local {
		f.String("server", e.Getenv("AMBERCELLAR_SERVER"), "address of the service (or AMBERCELLAR_SERVER; where "+
			"nothing says, that of login, or "+defaultServer+")")
		f.String("as", "", "profile: which of the services that login has signed in to (or AMBERCELLAR_PROFILE)")
		f.StringVar(&e.Format, "o", "table", "output: table, json or csv")
	}
	for {
		if err := f.Parse(args); errors.Is(err, flag.ErrHelp) {
			fmt.Fprintf(e.Out, "ambercellar %s %s\n\n%s\n\n", cmd.Name, cmd.Args, cmd.Summary)
			f.SetOutput(e.Out)
			f.PrintDefaults()
			return err
		} else if err != nil {
			return Usage("%v; %s`ambercellar %s -h` shows its flags", err, nearFlag(f, args), cmd.Name)
		}
		if args = f.Args(); len(args) == 0 {
			break
		}
		e.Args = append(e.Args, args[0])
		args = args[1:]
	}
	most := len(strings.Fields(cmd.Args))
	if least := most - strings.Count(cmd.Args, "["); len(e.Args) < least || len(e.Args) > most {
		return Usage("it takes %s and was given %d; usage: ambercellar %s %s", Things(int64(most), "argument"),
			len(e.Args), cmd.Name, cmd.Args)
	}
	e.Flags = f
	if !cmd.Local {
		if !slices.Contains([]string{"table", "json", "csv"}, e.Format) {
			return Usage("-o %q is none of table, json and csv", e.Format)
		}
		if err := e.connect(e.Flag("server"), e.Flag("as")); err != nil {
			return err
		}
	}
	return cmd.Run(e)
}

// Flag is the text of a flag.
func (e *Env) Flag(name string) string { return e.Flags.Lookup(name).Value.String() }

// Get is the value of a flag that was declared with that type.
func Get[T any](e *Env, name string) T { return e.Flags.Lookup(name).Value.(flag.Getter).Get().(T) }

func help(out io.Writer, all []Command) {
	fmt.Fprint(out, "Amber Cellar moves aged rows from live tables to an archive, and back.\n\nusage: ambercellar "+
		"COMMAND [arguments] [flags]\n\n")
	w := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	noun := ""
	for _, c := range all {
		if n := strings.Fields(c.Name)[0]; n != noun && noun != "" && strings.Contains(c.Name, " ") {
			fmt.Fprintln(w, "\t")
		}
		noun = strings.Fields(c.Name)[0]
		fmt.Fprintf(w, "  %s\t%s\n", strings.TrimSpace(c.Name+" "+c.Args), c.Summary)
	}
	w.Flush()
	fmt.Fprint(out, "\n`ambercellar COMMAND -h` shows a command's flags. The client reads the service's address "+
		"and its token\nfrom AMBERCELLAR_SERVER and AMBERCELLAR_TOKEN, or from what `ambercellar login` keeps. Exit "+
		"status: 0 done,\n1 failed, 2 wrong usage, 3 others have to approve it first.\n")
}

// explain writes what went wrong and what to do about it.
func explain(w io.Writer, name string, err error) {
	var p *client.Problem
	if !errors.As(err, &p) {
		fmt.Fprintf(w, "ambercellar %s: %v\n", name, err)
		return
	}
	if len(p.Problems) > 0 {
		for _, x := range p.Problems {
			fmt.Fprintln(w, x.Error())
		}
		fmt.Fprintf(w, "ambercellar %s: nothing was changed\n", name)
		return
	}
	fmt.Fprintf(w, "ambercellar %s: ", name)
	if p.Field != "" {
		fmt.Fprintf(w, "%s: ", p.Field)
	}
	fmt.Fprintln(w, p.Detail)
	if p.Remedy != "" {
		fmt.Fprintf(w, "  %s\n", p.Remedy)
	}
}

// Show prints an answer: as a table of the given columns, as CSV of the same, or whole as JSON.
func (e *Env) Show(answer any, header []string, rows [][]string) error {
	switch e.Format {
	case "json":
		j := json.NewEncoder(e.Out)
		j.SetIndent("", "  ")
		return j.Encode(answer)
	case "csv":
		w := csv.NewWriter(e.Out)
		w.Write(header)
		w.WriteAll(rows)
		return w.Error()
	}
	w := tabwriter.NewWriter(e.Out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, strings.ToUpper(strings.Join(header, "\t")))
	for _, r := range rows {
		fmt.Fprintln(w, strings.Join(r, "\t"))
	}
	if err := w.Flush(); err != nil {
		return err
	}
	if len(rows) == 0 {
		fmt.Fprintln(e.Out, "(none)")
	}
	return nil
}

// Fact is one thing that is told of something.
type Fact struct{ Name, Value string }

// Facts prints facts as lines of name and value, those without value left out, or the answer whole as JSON.
func (e *Env) Facts(answer any, facts []Fact) error {
	if e.Format != "table" {
		rows := [][]string{}
		for _, f := range facts {
			rows = append(rows, []string{f.Name, f.Value})
		}
		return e.Show(answer, []string{"field", "value"}, rows)
	}
	w := tabwriter.NewWriter(e.Out, 0, 0, 2, ' ', 0)
	for _, f := range facts {
		if f.Value != "" {
			fmt.Fprintf(w, "%s\t%s\n", f.Name, f.Value)
		}
	}
	return w.Flush()
}

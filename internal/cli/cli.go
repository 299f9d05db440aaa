// Package cli is the command line: each command is a flag.FlagSet over the client, but for serve and demo, which run
// the service. It formats and asks; what happens is the service's business.
package cli

import (
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

	"ambercellar/internal/api"
	"ambercellar/internal/client"
)

// Exit statuses.
const (
	exitDone   = 0
	exitFailed = 1
	exitUsage  = 2
)

// command is one command of the program.
type command struct {
	name    string // "noun verb"
	args    string // its arguments, for the usage line
	summary string
	flags   func(*flag.FlagSet) // its own flags; nil for none
	run     func(*env) error
	local   bool // needs no service
}

// env is what a running command works with.
type env struct {
	ctx            context.Context
	in             io.Reader
	out, err       io.Writer
	flags          *flag.FlagSet
	args           []string
	client         *client.Client
	format, server string
}

// warn tells what the answer's reader should know beside it, where a program that reads the answer does not stumble over it.
func (e *env) warn(text string) { fmt.Fprintln(e.err, "warning:", text) }

// usageError ends the program with status 2.
type usageError struct{ text string }

func (e *usageError) Error() string { return e.text }

func usage(format string, args ...any) error { return &usageError{fmt.Sprintf(format, args...)} }

const defaultServer = "http://127.0.0.1:7420"

// Run runs the program with arguments and returns its exit status.
func Run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	all := commands()
	if len(args) == 0 || args[0] == "help" || args[0] == "-h" || args[0] == "--help" || args[0] == "-help" {
		help(out, all)
		return exitDone
	}
	cmd, rest := find(all, args)
	if cmd == nil {
		fmt.Fprintf(errOut, "ambercellar: %q is no command; `ambercellar help` lists them\n", strings.Join(args[:min(2, len(args))], " "))
		return exitUsage
	}
	e := &env{ctx: ctx, in: in, out: out, err: errOut}
	err := e.run(cmd, rest)
	if err == nil {
		return exitDone
	}
	var u *usageError
	switch {
	case errors.Is(err, flag.ErrHelp):
		return exitDone
	case errors.As(err, &u):
		fmt.Fprintf(errOut, "ambercellar %s: %s\n", cmd.name, u.text)
		return exitUsage
	}
	explain(errOut, cmd.name, err)
	return exitFailed
}

func find(all []command, args []string) (*command, []string) {
	for n := min(2, len(args)); n > 0; n-- {
		name := strings.Join(args[:n], " ")
		if i := slices.IndexFunc(all, func(c command) bool { return c.name == name }); i >= 0 {
			return &all[i], args[n:]
		}
	}
	return nil, nil
}

// run parses a command's flags, which may stand before, between and after its arguments, and runs it.
func (e *env) run(cmd *command, args []string) error {
	f := flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	f.SetOutput(io.Discard)
	if cmd.flags != nil {
		cmd.flags(f)
	}
	if !cmd.local {
		server := os.Getenv("AMBERCELLAR_SERVER")
		if server == "" {
			server = defaultServer
		}
		f.StringVar(&e.server, "server", server, "address of the service (or AMBERCELLAR_SERVER)")
		f.StringVar(&e.format, "o", "table", "output: table, json or csv")
	}
	for {
		if err := f.Parse(args); errors.Is(err, flag.ErrHelp) {
			fmt.Fprintf(e.out, "ambercellar %s %s\n\n%s\n\n", cmd.name, cmd.args, cmd.summary)
			f.SetOutput(e.out)
			f.PrintDefaults()
			return err
		} else if err != nil {
			return usage("%v; `ambercellar %s -h` shows its flags", err, cmd.name)
		}
		if args = f.Args(); len(args) == 0 {
			break
		}
		e.args = append(e.args, args[0])
		args = args[1:]
	}
	most := len(strings.Fields(cmd.args))
	if least := most - strings.Count(cmd.args, "["); len(e.args) < least || len(e.args) > most {
		return usage("it takes %d arguments and was given %d; usage: ambercellar %s %s", most, len(e.args), cmd.name, cmd.args)
	}
	e.flags = f
	if !cmd.local {
		if !slices.Contains([]string{"table", "json", "csv"}, e.format) {
			return usage("-o %q is none of table, json and csv", e.format)
		}
		e.client = &client.Client{Server: e.server, Token: os.Getenv("AMBERCELLAR_TOKEN")}
	}
	return cmd.run(e)
}

func (e *env) flag(name string) string { return e.flags.Lookup(name).Value.String() }

func help(out io.Writer, all []command) {
	fmt.Fprint(out, "Amber Cellar moves aged rows from live tables to an archive, and back.\n\nusage: ambercellar COMMAND [arguments] [flags]\n\n")
	w := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	noun := ""
	for _, c := range all {
		if n := strings.Fields(c.name)[0]; n != noun && noun != "" && strings.Contains(c.name, " ") {
			fmt.Fprintln(w, "\t")
		}
		noun = strings.Fields(c.name)[0]
		fmt.Fprintf(w, "  %s\t%s\n", strings.TrimSpace(c.name+" "+c.args), c.summary)
	}
	w.Flush()
	fmt.Fprint(out, "\n`ambercellar COMMAND -h` shows a command's flags. The client reads the service's address from AMBERCELLAR_SERVER\nand its token from AMBERCELLAR_TOKEN. Exit status: 0 done, 1 failed, 2 wrong usage.\n")
}

// explain writes what went wrong and what to do about it.
func explain(w io.Writer, name string, err error) {
	var p *api.Problem
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

// show prints an answer: as a table of the given columns, as CSV of the same, or whole as JSON.
func (e *env) show(answer any, header []string, rows [][]string) error {
	switch e.format {
	case "json":
		j := json.NewEncoder(e.out)
		j.SetIndent("", "  ")
		return j.Encode(answer)
	case "csv":
		w := csv.NewWriter(e.out)
		w.Write(header)
		w.WriteAll(rows)
		return w.Error()
	}
	w := tabwriter.NewWriter(e.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, strings.ToUpper(strings.Join(header, "\t")))
	for _, r := range rows {
		fmt.Fprintln(w, strings.Join(r, "\t"))
	}
	if err := w.Flush(); err != nil {
		return err
	}
	if len(rows) == 0 {
		fmt.Fprintln(e.out, "(none)")
	}
	return nil
}

// facts prints one thing as lines of name and value, or whole as JSON.
func (e *env) facts(answer any, pairs ...string) error {
	if e.format != "table" {
		rows := [][]string{}
		for i := 0; i+1 < len(pairs); i += 2 {
			rows = append(rows, pairs[i:i+2])
		}
		return e.show(answer, []string{"field", "value"}, rows)
	}
	w := tabwriter.NewWriter(e.out, 0, 0, 2, ' ', 0)
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			fmt.Fprintf(w, "%s\t%s\n", pairs[i], pairs[i+1])
		}
	}
	return w.Flush()
}

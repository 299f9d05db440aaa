// Command man writes the manual pages of the program from its commands: one of all, and one of each noun (run, store,
// …) with its verbs and their flags.
package main

import (
	"bytes"
	"compress/gzip"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/cpuguy83/go-md2man/v2/md2man"

	"ambercellar/internal/cli"
	"ambercellar/internal/local"
)

func main() {
	out := flag.String("out", "build/man", "directory for the pages")
	version := flag.String("version", "", "of the program")
	flag.Parse()
	if err := os.MkdirAll(*out, 0o755); err != nil {
		log.Fatal(err)
	}
	for name, text := range pages(local.Program().Commands(), *version) {
		if err := write(filepath.Join(*out, name+".1.gz"), md2man.Render([]byte(text))); err != nil {
			log.Fatal(err)
		}
	}
}

// write packs a page. The same page makes the same file.
func write(file string, page []byte) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	z, err := gzip.NewWriterLevel(f, gzip.BestCompression)
	if err == nil {
		_, err = z.Write(page)
		err = errors.Join(err, z.Close())
	}
	return errors.Join(err, f.Close())
}

// pages are the manual pages in Markdown, by their names.
func pages(all []cli.Command, version string) map[string]string {
	out := map[string]string{}
	nouns := map[string][]cli.Command{}
	for _, c := range all {
		noun := strings.Fields(c.Name)[0]
		nouns[noun] = append(nouns[noun], c)
	}
	var list bytes.Buffer
	for _, noun := range slices.Sorted(func(yield func(string) bool) {
		for noun := range nouns {
			if !yield(noun) {
				return
			}
		}
	}) {
		var b bytes.Buffer
		name := "ambercellar-" + noun
		head(&b, name, version, summary(noun, nouns[noun]))
		fmt.Fprint(&b, "# SYNOPSIS\n\n")
		for _, c := range nouns[noun] {
			fmt.Fprintf(&b, "**ambercellar %s** %s [flags]\n\n", c.Name, escape(c.Args))
		}
		fmt.Fprint(&b, "# COMMANDS\n\n")
		for _, c := range nouns[noun] {
			fmt.Fprintf(&b, "## %s\n\n%s.\n\n", c.Name, escape(sentence(c.Summary)))
			flags(&b, c)
		}
		fmt.Fprint(&b, "# SEE ALSO\n\n**ambercellar**(1)\n")
		out[name] = b.String()
		fmt.Fprintf(&list, "**%s**(1)\n: %s\n\n", name, escape(summary(noun, nouns[noun])))
	}
	var b bytes.Buffer
	head(&b, "ambercellar", version, "moves aged rows from live tables to an archive, and back")
	fmt.Fprintf(&b, whole, list.String())
	out["ambercellar"] = b.String()
	return out
}

// whole is the page of the program, with a place for the list of its commands.
const whole = `# SYNOPSIS

**ambercellar** COMMAND [arguments] [flags]

# DESCRIPTION

Rules say how long the rows of a table stay live. The service (**ambercellar serve**) moves those that are due to
compressed archive storage in small batches, or deletes them, without blocking the workload; every other command talks
to it.

# COMMANDS

%s# ENVIRONMENT

**AMBERCELLAR_SERVER**
: address of the service; left out: http://127.0.0.1:7420

**AMBERCELLAR_TOKEN**
: the administrator's token

Each setting of **ambercellar serve** has a variable, which its help names.

# EXIT STATUS

0: done; 1: failed; 2: wrong usage

# FILES

/etc/ambercellar/ambercellar.yaml
: settings of the service

/etc/ambercellar/secrets
: files that may be named for passwords

/var/lib/ambercellar
: the service's records and its first store
`

func head(b io.Writer, name, version, summary string) {
	fmt.Fprintf(b, "%% %s 1 \"\" \"Amber Cellar %s\" \"Amber Cellar\"\n\n# NAME\n\n%s - %s\n\n", strings.ToUpper(name),
		version, name, escape(summary))
}

// summary says in a line what the commands of a noun are for.
func summary(noun string, list []cli.Command) string {
	if len(list) == 1 && list[0].Name == noun {
		return list[0].Summary
	}
	var verbs []string
	for _, c := range list {
		if verb := strings.TrimPrefix(c.Name, noun+" "); verb != c.Name {
			verbs = append(verbs, verb)
		}
	}
	return strings.Join(verbs, ", ")
}

// flags lists a command's own flags.
func flags(b io.Writer, c cli.Command) {
	f := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	if c.Flags != nil {
		c.Flags(f)
	}
	f.VisitAll(func(x *flag.Flag) {
		kind, usage := flag.UnquoteUsage(x)
		fmt.Fprintf(b, "**-%s** %s\n: %s", x.Name, kind, escape(usage))
		if x.DefValue != "" && x.DefValue != "false" && x.DefValue != "0" {
			fmt.Fprintf(b, " (default %s)", escape(x.DefValue))
		}
		fmt.Fprint(b, "\n\n")
	})
	if !c.Local {
		fmt.Fprint(
			b,
			"**-o** *table|json|csv*\n: form of the output\n\n**-server** *URL*\n: address of the service\n\n",
		)
	}
}

func sentence(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// escape keeps Markdown from reading anything into a text.
var escape = strings.NewReplacer("*", `\*`, "_", `\_`, "<", `\<`, "`", "\\`", "[", `\[`, "|", `\|`).Replace

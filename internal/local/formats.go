package local

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ambercellar/internal/api"
	"ambercellar/internal/cli"
)

func version(e *cli.Env) error {
	_, err := fmt.Fprintln(e.Out, "ambercellar", serviceVersion())
	return err
}

// printSchema prints the JSON Schema of one of the archive's formats, or of what a command prints with `-o json`.
func printSchema(e *cli.Env) error {
	name := strings.Join(e.Args, " ")
	text, err := api.FormatSchema(name)
	if answer, ok := cli.Answers[name]; ok && err == nil {
		text, err = api.AnswerSchema(name, answer)
	}
	if err != nil {
		return err
	}
	if text == nil {
		return cli.Usage("%q is neither a format (%s) nor a command that prints JSON, like \"run show\"", name,
			strings.Join(slices.Sorted(maps.Keys(api.Formats)), ", "))
	}
	_, err = e.Out.Write(text)
	return err
}

func openAPI(e *cli.Env) error {
	_, err := e.Out.Write(api.Document())
	return err
}

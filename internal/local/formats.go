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

// printSchema prints the JSON Schema of one of the archive's formats.
func printSchema(e *cli.Env) error {
	text, err := api.FormatSchema(e.Args[0])
	if err != nil {
		return err
	}
	if text == nil {
		return cli.Usage("%q is none of %s", e.Args[0], strings.Join(slices.Sorted(maps.Keys(api.Formats)), ", "))
	}
	_, err = e.Out.Write(text)
	return err
}

func openAPI(e *cli.Env) error {
	_, err := e.Out.Write(api.Document())
	return err
}

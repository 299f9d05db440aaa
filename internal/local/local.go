// Package local holds the commands that need no running service: those that are the service, and those that work on
// its files. All others are in package cli, which knows the service's client alone.
package local

import (
	"flag"

	"ambercellar/internal/cli"
)

// Program is the command line with all commands.
func Program() cli.Program {
	return cli.Program{Local: commands(), VerifyStores: verifyStores, VerifyAudit: verifyAudit}
}

func commands() []cli.Command {
	return []cli.Command{
		{Name: "serve", Summary: "run the service", Flags: serveFlags, Run: serve, Local: true},
		{Name: "config check", Run: configCheck, Local: true,
			Summary: "look at the settings of the service, all faults at once, and show where each comes from",
			Flags: func(f *flag.FlagSet) {
				settingFlags(f)
				f.String("o", "table", "output: table or json")
			}},
		{Name: "demo", Summary: "run the service on made-up data, or the whole example with -once", Flags: demoFlags,
			Run: runDemo, Local: true},
		{Name: "standin s3", Summary: "serve a stand-in for an S3-compatible object store, for demonstrations and " +
			"tests", Flags: standinFlags, Run: standinObjects, Local: true},
		{Name: "standin mail", Summary: "serve a stand-in for a mail server, which shows what it got on a page",
			Flags: standinMailFlags, Run: standinMail, Local: true},
		{Name: "standin identity", Summary: "serve a stand-in for an identity provider, where everybody may be anybody",
			Flags: standinIdentityFlags, Run: standinIdentity, Local: true},
		{Name: "version", Summary: "print the version", Run: version, Local: true},
		{Name: "schema", Args: "FORMAT|COMMAND [VERB]",
			Summary: "print the JSON Schema of a format (manifest, closing, range, disposal, certificate, ledger, " +
				"run-report), " +
				"or of what a command prints with -o json",
			Run: printSchema, Local: true},
		{Name: "openapi", Summary: "print the OpenAPI document of the interface", Run: openAPI, Local: true},

		{Name: "store key", Summary: "make a key for sealed stores, in a file of keys", Flags: storeKeyFlags,
			Run: storeKey, Local: true},
		{Name: "run check", Args: "LEDGER",
			Summary: "check an exported ledger, or a run's report, with nothing but what lies in stores, without " +
				"a service",
			Flags: runCheckFlags, Run: runCheck, Local: true},
		{Name: "catalog restore", Args: "FILE",
			Summary: "put a backup in the place of a catalog, while the service is stopped",
			Flags:   catalogRestoreFlags, Run: catalogRestore, Local: true},
	}
}

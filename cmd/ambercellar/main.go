// Command ambercellar is the service, its demo and its command-line client.
package main

import (
	"context"
	"os"

	"ambercellar/internal/cli"
)

func main() {
	os.Exit(cli.Run(context.Background(), os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

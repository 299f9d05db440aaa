// Command ambercellar is the service, its demo and its command-line client.
package main

import (
	"context"
	"os"

	"ambercellar/internal/local"
)

func main() {
	os.Exit(local.Program().Run(context.Background(), os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

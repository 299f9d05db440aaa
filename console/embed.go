// Package console holds the built web console, so that the service's binary carries it. It is built by Vite from src;
// before the first build it is empty.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files returns the console's files.
func Files() (fs.FS, error) { return fs.Sub(dist, "dist") }

// Package console holds the files of the web console, built by Vite.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files of the console; empty when it was not built.
func Files() (fs.FS, error) { return fs.Sub(dist, "dist") }

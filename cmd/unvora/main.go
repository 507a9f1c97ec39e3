// Unvora: export, clone and re-register virtual machines, and remember every copy.
package main

import (
	"os"

	"unvora.example/unvora/internal/cli"
)

// version is set when a release is built.
var version = "dev"

func main() { os.Exit(cli.Main(version)) }

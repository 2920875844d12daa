// Command dorvik gets a developer from a refused push to an accepted one.
package main

import (
	"os"
	"runtime/debug"

	"dorvik.dev/dorvik/internal/cli"
	"dorvik.dev/dorvik/internal/tui"
)

// memory is up to what, in bytes, the collector lets garbage stay: a join of the largest texts is to need less than a
// gigabyte.
const memory = 700 << 20

func main() {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memory)
	}
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr, cli.Screens{Job: tui.Run, File: tui.RunFile}))
}

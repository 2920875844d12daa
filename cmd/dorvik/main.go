// Command dorvik gets a developer from a refused push to an accepted one.
package main

import (
	"os"

	"dorvik.dev/dorvik/internal/cli"
	"dorvik.dev/dorvik/internal/tui"
)

func main() {
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr, cli.Screens{Job: tui.Run, File: tui.RunFile}))
}

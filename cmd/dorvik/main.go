// Command dorvik gets a developer from a refused push to an accepted one.
package main

import (
	"context"
	"errors"
	"os"

	"dorvik/internal/cli"
)

func main() {
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr, func(context.Context, string, string) error { return errors.New("no screen") }))
}

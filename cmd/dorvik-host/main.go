// Command dorvik-host is the stand-in host of Dorvik's demo: it serves the repositories of a folder on this machine.
package main

import (
	"fmt"
	"io"
	"os"
	"strconv"

	"dorvik.dev/dorvik/internal/host"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "dorvik-host:", err)
		os.Exit(1)
	}
}

// run serves the folder that the first argument names, on the port that the second one names or a free one. It prints
// the address, and ends when its standard input is closed.
func run(args []string) (err error) {
	if len(args) == 0 || len(args) > 2 {
		return fmt.Errorf("it is called as: dorvik-host FOLDER [PORT]")
	}
	port := 0
	if len(args) == 2 {
		if port, err = strconv.Atoi(args[1]); err != nil {
			return fmt.Errorf("%q is no port", args[1])
		}
	}
	h, err := host.Serve(args[0], port)
	if err != nil {
		return err
	}
	fmt.Println(h.Address())
	_, _ = io.Copy(io.Discard, os.Stdin)
	return h.Close()
}

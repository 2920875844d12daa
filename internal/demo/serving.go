package demo

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// hostProgram is the stand-in host. It is a program of its own, so that dorvik holds no HTTP server.
const hostProgram = "dorvik-host"

// ServeHost starts the stand-in host of a folder, which ends with this process at the latest.
func ServeHost(dir string) (address string, end func(), err error) {
	end = func() {}
	path := hostProgram
	if own, err := os.Executable(); err == nil {
		if beside := filepath.Join(filepath.Dir(own), hostProgram); exists(beside) {
			path = beside
		}
	}
	cmd := exec.Command(path, dir)
	lives, err := cmd.StdinPipe() // the host ends when this is closed
	if err != nil {
		return "", end, err
	}
	says, err := cmd.StdoutPipe()
	if err != nil {
		return "", end, err
	}
	if err := cmd.Start(); err != nil {
		return "", end, fmt.Errorf("starting the stand-in host: %w; it is built by “make build”, and has to be beside "+
			"dorvik or on the PATH", err)
	}
	end = func() { _ = lives.Close(); _ = cmd.Wait() }
	address, err = bufio.NewReader(says).ReadString('\n')
	if err != nil {
		end()
		return "", func() {}, fmt.Errorf("the stand-in host did not start: %w", err)
	}
	return strings.TrimSpace(address), end, nil
}

// exists reports whether there is a file.
func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

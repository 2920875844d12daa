package check

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"time"
)

// Programs of the person's own are lines for the shell, as git has them: what they work on is added at the end.

// Editor returns the command that opens a file in an editor on the terminal.
func Editor(line, file string) *exec.Cmd { return onTerminal(line+` "$@"`, line, file) }

// onTerminal returns a command line that uses the terminal.
func onTerminal(line string, args ...string) *exec.Cmd {
	cmd := exec.Command("sh", append([]string{"-c", line}, args...)...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	return cmd
}

// Give passes a text to the standard input of a command in a directory. The error has the command's output.
func Give(ctx context.Context, dir, line, text string) error {
	cmd := exec.CommandContext(ctx, "sh", "-c", line)
	cmd.Dir, cmd.Stdin = dir, strings.NewReader(text)
	said := &firstWords{}
	cmd.Stdout, cmd.Stderr = said, said
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("“%s” ended with %w%s", line, err, said)
	}
	return nil
}

// Ask returns the standard output of a command in a directory, up to a number of bytes. The error has what it wrote to
// its standard error.
func Ask(ctx context.Context, dir, line string, most int64) ([]byte, error) {
	cmd := exec.CommandContext(ctx, "sh", "-c", line)
	said := &firstWords{}
	cmd.Dir, cmd.Stderr = dir, said
	cmd.WaitDelay = time.Second // for what it started and left running
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return nil, fmt.Errorf("starting “%s”: %w", line, err)
	}
	data, err := io.ReadAll(io.LimitReader(out, most))
	out.Close() // a command that writes more ends
	if ended := cmd.Wait(); ended != nil && int64(len(data)) < most {
		return nil, fmt.Errorf("“%s” ended with %w%s", line, ended, said)
	}
	return data, err
}

// Show starts a viewer for a file and leaves it open. The viewer does not use the terminal. If it fails within a
// moment, Show returns an error with its output.
func Show(ctx context.Context, line, file string, moment time.Duration) error {
	cmd := Editor(line, file)
	said := &firstWords{}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = nil, said, said
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("opening %s: %w", file, err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	select {
	case err := <-ended:
		if code := cmd.ProcessState.ExitCode(); code == 127 {
			return fmt.Errorf("there is no program “%s” here", line)
		}
		if err != nil {
			return fmt.Errorf("“%s” ended with %w%s", line, err, said)
		}
	case <-ctx.Done():
	case <-time.After(moment):
	}
	return nil
}

// firstWords keeps the beginning of a program's output.
type firstWords []byte

func (w *firstWords) Write(b []byte) (int, error) {
	const most = 1000
	*w = append(*w, b[:min(len(b), most-len(*w))]...)
	return len(b), nil
}

func (w *firstWords) String() string {
	if s := strings.Join(strings.Fields(string(*w)), " "); s != "" {
		return ": " + s
	}
	return ""
}

// Shell returns the person's command line, or their shell if it is empty, to be run in a directory on the terminal.
func Shell(line, dir string) *exec.Cmd {
	if line == "" {
		line = `exec "${SHELL:-sh}"`
	}
	cmd := onTerminal(line)
	cmd.Dir = dir
	return cmd
}

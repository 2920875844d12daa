// Package check finds the project's own build and test command and runs it.
package check

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"regexp"
	"strings"
	"syscall"
	"time"
)

// Command is a check: a line for the shell, and where it comes from.
type Command struct {
	Line       string
	Source     string // such as "go.mod"; ends the sentence "found from ..."
	Configured bool   // set by the person, not found: that is agreement enough
}

// ProjectFiles gives a file at the top of the project; ok is false where there is none.
type ProjectFiles func(name string) (text string, ok bool)

var makeTarget = regexp.MustCompile(`(?m)^(check|test|build)\s*:([^=]|$)`)

// Find tells how a project is checked from the files at its top; ok is false
// where nothing tells. The first that fits is taken, in the order below.
func Find(files ProjectFiles) (c Command, ok bool) {
	has := func(name string) bool { _, ok := files(name); return ok }
	if has("go.mod") {
		return Command{Line: "go build ./... && go test ./...", Source: "go.mod"}, true
	}
	for _, name := range []string{"GNUmakefile", "makefile", "Makefile"} {
		text, _ := files(name)
		targets := map[string]bool{}
		for _, m := range makeTarget.FindAllStringSubmatch(text, -1) {
			targets[m[1]] = true
		}
		for _, t := range []string{"check", "test", "build"} {
			if targets[t] {
				return Command{Line: "make " + t, Source: "the target " + t + " of " + name}, true
			}
		}
	}
	if text, ok := files("package.json"); ok {
		if line := npm(text); line != "" {
			return Command{Line: line, Source: "package.json"}, true
		}
	}
	for _, f := range []struct{ name, line string }{
		{"Cargo.toml", "cargo build && cargo test"},
		{"pom.xml", "mvn -q -B test"},
		{"gradlew", "./gradlew build"},
		{"build.gradle", "gradle build"},
		{"build.gradle.kts", "gradle build"},
		{"CMakeLists.txt", "cmake -S . -B build && cmake --build build && ctest --test-dir build --output-on-failure"},
	} {
		if has(f.name) {
			return Command{Line: f.line, Source: f.name}, true
		}
	}
	for _, name := range []string{"pyproject.toml", "setup.cfg", "setup.py", "tox.ini"} {
		if text, ok := files(name); ok {
			line := "python3 -m compileall -q ."
			if strings.Contains(text, "pytest") || has("pytest.ini") || has("conftest.py") {
				line += " && python3 -m pytest -q"
			}
			return Command{Line: line, Source: name}, true
		}
	}
	return Command{}, false
}

func npm(text string) string {
	var p struct{ Scripts map[string]string }
	if json.Unmarshal([]byte(text), &p) != nil {
		return ""
	}
	var parts []string
	if p.Scripts["build"] != "" {
		parts = append(parts, "npm run build")
	}
	if t := p.Scripts["test"]; t != "" && !strings.Contains(t, "no test specified") {
		parts = append(parts, "npm test")
	}
	return strings.Join(parts, " && ")
}

// Report is how a run ended.
type Report struct {
	Passed bool
	Exit   int // -1 where a signal ended it
	Took   time.Duration
}

// Run runs a command line by the shell in a folder and gives each line of its
// output, of both streams, to emit as it comes, one call at a time. Cancelling
// ends the command with all it started, and gives the context's error.
func Run(ctx context.Context, dir, line string, env []string, emit func(line string)) (Report, error) {
	cmd := exec.CommandContext(ctx, "sh", "-c", line)
	cmd.Dir, cmd.Env = dir, env
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = 2 * time.Second
	out, in := io.Pipe()
	cmd.Stdout, cmd.Stderr = in, in
	start := time.Now()
	if err := cmd.Start(); err != nil {
		return Report{}, fmt.Errorf("starting the check: %w", err)
	}
	done := make(chan error, 1)
	go func() {
		err := cmd.Wait()
		in.Close()
		done <- err
	}()
	lines := bufio.NewReader(out)
	for {
		l, err := readLine(lines)
		if l != "" || err == nil {
			emit(l)
		}
		if err != nil {
			break
		}
	}
	err := <-done
	r := Report{Passed: err == nil, Took: time.Since(start)}
	if ctx.Err() != nil {
		return r, ctx.Err()
	}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		r.Exit = exit.ExitCode()
		return r, nil
	}
	if err != nil && !errors.Is(err, exec.ErrWaitDelay) {
		return r, fmt.Errorf("running the check: %w", err)
	}
	r.Passed = err == nil || cmd.ProcessState.Success()
	return r, nil
}

// maxLine is the length in bytes past which a line of output is cut.
const maxLine = 8 << 10

func readLine(r *bufio.Reader) (string, error) {
	var b strings.Builder
	for {
		part, more, err := r.ReadLine()
		if b.Len() < maxLine {
			b.Write(part[:min(len(part), maxLine-b.Len())])
		}
		if err != nil || !more {
			return b.String(), err
		}
	}
}

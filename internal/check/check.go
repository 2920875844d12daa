// Package check finds the project's build and test commands and runs them.
package check

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"path"
	"slices"
	"strings"
	"syscall"
	"time"

	"dorvik.dev/dorvik/internal/core/rx"
)

// Command is a check: shell lines and where they come from.
type Command struct {
	Steps      []string // commands in order; the first that fails ends the check
	Source     string   // such as "go.mod"; ends the sentence "found from ..."
	Configured bool     // set by dorvik.check, not detected
	Own        bool     // set in the person's own configuration, not in the repository's
}

// Line returns all steps as one shell line.
func (c Command) Line() string { return strings.Join(c.Steps, " && ") }

// ProjectFiles returns the text of a file at the top of the project. ok is false if it does not exist.
type ProjectFiles func(name string) (text string, ok bool)

var makeTarget = rx.New(`(?m)^(check|test|build)\s*:([^=]|$)`)

// Find returns the check that the files at the project's top imply, the first that applies. ok is false if there is
// none.
func Find(files ProjectFiles) (c Command, ok bool) {
	has := func(name string) bool { _, ok := files(name); return ok }
	if has("go.mod") {
		return found("go build ./... && go test ./...", "go.mod"), true
	}
	for _, name := range []string{"GNUmakefile", "makefile", "Makefile"} {
		text, _ := files(name)
		targets := map[string]bool{}
		for _, m := range makeTarget.FindAllStringSubmatch(text, -1) {
			targets[m[1]] = true
		}
		for _, t := range []string{"check", "test", "build"} {
			if targets[t] {
				return found("make "+t, "the target "+t+" of "+name), true
			}
		}
	}
	if text, ok := files("package.json"); ok {
		if line := npm(text); line != "" {
			return found(line, "package.json"), true
		}
	}
	top, _ := files("./")
	for _, u := range usual {
		name := u.name
		if strings.Contains(name, "*") {
			name = firstMatch(top, name)
		}
		text, ok := files(name)
		if !ok || !strings.Contains(text, u.with) {
			continue
		}
		line := u.line
		if u.bundled && has("Gemfile") {
			line = "bundle exec " + line
		}
		return found(line, name), true
	}
	for _, name := range []string{"pyproject.toml", "setup.cfg", "setup.py", "tox.ini"} {
		if text, ok := files(name); ok {
			line := "python3 -m compileall -q ."
			if strings.Contains(text, "pytest") || has("pytest.ini") || has("conftest.py") {
				line += " && python3 -m pytest -q"
			}
			return found(line, name), true
		}
	}
	if c, ok := plainTests(files); ok {
		return c, true
	}
	for _, f := range []struct{ name, line string }{
		{"Dockerfile", "docker build ."}, {"Containerfile", "podman build ."}} {
		if has(f.name) {
			return found(f.line, f.name), true
		}
	}
	return Command{}, false
}

// usual lists files at the top of a project and the check that they imply, the first that applies. * matches anything
// in a name.
var usual = []struct {
	name    string
	with    string // a text that the file has; or empty
	line    string
	bundled bool // runs by Bundler where the project has a Gemfile
}{
	{"Cargo.toml", "", "cargo build && cargo test", false},
	{"pom.xml", "", "mvn -q -B test", false},
	{"gradlew", "", "./gradlew build", false},
	{"build.gradle", "", "gradle build", false},
	{"build.gradle.kts", "", "gradle build", false},
	{"build.sbt", "", "sbt test", false},
	{"CMakeLists.txt", "", "cmake -S . -B build && cmake --build build && ctest --test-dir build --output-on-failure",
		false},
	{"*.sln", "", dotnet, false},
	{"*.slnx", "", dotnet, false},
	{"*.csproj", "", dotnet, false},
	{"*.fsproj", "", dotnet, false},
	{"Package.swift", "", "swift build && swift test", false},
	{"pubspec.yaml", "sdk: flutter", "flutter analyze && flutter test", false},
	{"pubspec.yaml", "", "dart analyze && dart test", false},
	{"mix.exs", "", "mix test", false},
	{"composer.json", `"test"`, "composer test", false},
	{"phpunit.xml", "", "vendor/bin/phpunit", false},
	{"phpunit.xml.dist", "", "vendor/bin/phpunit", false},
	{".rspec", "", "rspec", true},
	{"Rakefile", "", "rake", true},
}

const dotnet = "dotnet build && dotnet test"

// firstMatch returns the first name of a list, one a line, that a pattern matches; or the empty string.
func firstMatch(list, pattern string) string {
	for name := range strings.Lines(list) {
		name = strings.TrimSpace(name)
		if ok, _ := path.Match(pattern, name); ok {
			return name
		}
	}
	return ""
}

// found returns a command with one step per part.
func found(line, source string) Command {
	return Command{Steps: strings.Split(line, " && "), Source: source}
}

// LookedFor names what Find looks for.
const LookedFor = "go.mod, a Makefile with check, test or build, package.json with build or test, Cargo.toml, " +
	"pom.xml, Gradle, build.sbt, CMakeLists.txt, a .NET solution or project, Package.swift, pubspec.yaml, mix.exs, " +
	"composer.json with test, phpunit.xml, Rakefile, .rspec, pyproject.toml and the like, tests by their names " +
	"(test_*.py, *_test.py, *.test.js, *_test.rb, *_test.sh) at the top, in test and in tests, and a container file"

// plainTests finds tests by their file names alone. files lists a directory, one name per line.
func plainTests(files ProjectFiles) (c Command, ok bool) {
	for _, dir := range []string{"./", "tests/", "test/"} {
		list, _ := files(dir)
		for name := range strings.Lines(list) {
			name = strings.TrimSpace(name)
			text, _ := files(path.Join(dir, name))
			source := "the tests " + path.Join(dir, name)
			switch {
			case pythonTest.MatchString(name) && (strings.Contains(text, "import pytest") || !strings.Contains(text,
				"unittest")):
				return found("python3 -m pytest -q", source), true
			case pythonTest.MatchString(name):
				return found("python3 -m unittest discover -s "+dir+" -p '"+pattern(name)+"'", source), true
			case scriptTest.MatchString(name):
				return found("node --test", source), true
			case strings.HasSuffix(name, "_test.rb"):
				return found("for t in "+dir+"*_test.rb; do ruby -I. \"$t\" || exit; done", source), true
			case strings.HasSuffix(name, "_test.sh"):
				return found("for t in "+dir+"*_test.sh; do sh \"$t\" || exit; done", source), true
			}
		}
	}
	return Command{}, false
}

var (
	pythonTest = rx.New(`^(test_.*|.*_test)\.py$`)
	scriptTest = rx.New(`[._]test\.[cm]?js$`)
)

// pattern returns the pattern for test files like one.
func pattern(name string) string {
	if strings.HasPrefix(name, "test_") {
		return "test_*.py"
	}
	return "*_test.py"
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

// Report is the result of a run.
type Report struct {
	Passed bool
	Exit   int // exit code; -1 if a signal ended the step
	Took   time.Duration
	Steps  []Step
}

// Step is one command of a check. A step that did not run took no time.
type Step struct {
	Line   string
	First  string // why part of a later step runs first; empty for the check's own steps
	Known  string // why the step is not run again; empty if it runs
	Ran    bool
	Passed bool
	Took   time.Duration
}

// Reasons why a step is not run again.
const (
	PassedBefore    = "passed before, on exactly this tree"
	InstalledBefore = "installed here before, from the same lock file"
)

// StepsOf returns the steps of a command before they run.
func (c Command) StepsOf() (out []Step) {
	for _, l := range c.Steps {
		out = append(out, Step{Line: l})
	}
	return out
}

// RunSteps runs steps one after the other until one fails. It calls begun, unless nil, before each.
func RunSteps(ctx context.Context, dir string, steps []Step, env []string, emit func(line string),
	begun func(steps []Step, at int)) (all Report, err error) {
	all.Passed, all.Steps = true, slices.Clone(steps)
	for i := range all.Steps {
		one := &all.Steps[i]
		if one.Known != "" {
			one.Passed = true
			continue
		}
		if begun != nil {
			begun(slices.Clone(all.Steps), i)
		}
		r, err := Run(ctx, dir, one.Line, env, emit)
		one.Ran, one.Passed, one.Took = true, r.Passed, r.Took
		all.Passed, all.Exit, all.Took = r.Passed, r.Exit, all.Took+r.Took
		if err != nil || !r.Passed {
			return all, err
		}
	}
	return all, nil
}

// Run runs a shell line in a directory and passes each line of output, of both streams, to emit, one call at a time.
// Cancelling ends the command with its children and returns the context's error.
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

// maxLine is the length in bytes at which a line of output is cut.
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

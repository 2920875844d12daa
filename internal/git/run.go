// Package git is the only package that runs git. It uses plumbing and wire commands, never those that merge, replay or
// compare, and output separated by zero bytes where git offers it.
package git

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"dorvik.dev/dorvik/internal/vcs"
)

// Error is a failed git command.
type Error struct {
	Doing  string // the activity, such as "reading the branches"
	Args   []string
	Words  string // what git said
	Code   int    // exit code; -1 if git did not exit by itself
	Reason error
}

func (e *Error) Error() string {
	words := e.Words
	if words == "" {
		words = e.Reason.Error()
	}
	return fmt.Sprintf("%s: git %s: %s", e.Doing, subcommand(e.Args), words)
}

func (e *Error) Unwrap() error { return e.Reason }

// ErrNoGit reports that git is not installed.
var ErrNoGit = errors.New("git was not found; install git and see that it is on your PATH")

// environment returns the environment for git: the caller's without variables that select a repository, in a fixed
// language, without prompts on the terminal.
func environment() []string {
	env := make([]string, 0, 48)
	for _, kv := range os.Environ() {
		switch name, _, _ := strings.Cut(kv, "="); name {
		case "GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_OBJECT_DIRECTORY", "GIT_COMMON_DIR",
			"GIT_PREFIX", "GIT_NAMESPACE", "GIT_ALTERNATE_OBJECT_DIRECTORIES", "LC_ALL", "LANGUAGE", "GIT_TRACE":
		default:
			env = append(env, kv)
		}
	}
	return append(env, "LC_ALL=C", "GIT_TERMINAL_PROMPT=0", "GIT_OPTIONAL_LOCKS=0")
}

// cleanEnvironment is the caller's environment without the variables with which git hooks select a repository.
func cleanEnvironment() []string {
	var env []string
	for _, kv := range os.Environ() {
		if !strings.HasPrefix(kv, "GIT_") {
			env = append(env, kv)
		}
	}
	return env
}

type call struct {
	doing string
	stdin io.Reader
	args  []string
	hold  *os.File // inherited by the command and all it starts; or nil
	index string   // path of the index file; empty for the repository's own
	env   []string // further variables
}

// allowed lists the git commands that Dorvik runs. Commands that merge, replay, compare or stash are Dorvik's own
// work.
var allowed = map[string]bool{
	"cat-file": true, "checkout-index": true, "commit-tree": true, "config": true, "fetch": true,
	"for-each-ref": true, "index-pack": true, "ls-files": true, "ls-remote": true, "push": true,
	"read-tree": true, "rev-list": true, "rev-parse": true, "status": true,
	"update-index": true, "update-ref": true, "var": true, "worktree": true, "write-tree": true,
}

// notAllowed reports a git command that Dorvik does not run.
type notAllowed struct{ args []string }

func (e notAllowed) Error() string {
	return fmt.Sprintf("“git %s” is not a command that Dorvik runs", strings.Join(e.args, " "))
}

// subcommand returns the git command among arguments, after settings of -c.
func subcommand(args []string) string {
	for len(args) > 2 && args[0] == "-c" {
		args = args[2:]
	}
	if len(args) == 0 {
		return ""
	}
	return args[0]
}

// command returns a git command in its own session: it has no terminal, and cancelling also kills its helpers. A
// command that is not allowed fails at its start.
func command(ctx context.Context, dir string, args []string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Dir, cmd.Env = dir, environment()
	if !allowed[subcommand(args)] {
		cmd.Err = notAllowed{args}
	}
	apart(cmd)
	return cmd
}

// apart starts a command in its own session, which cancelling ends as a whole.
func apart(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM) }
	cmd.WaitDelay = 2 * time.Second
}

func runIn(ctx context.Context, dir string, c call) (stdout, stderr []byte, err error) {
	cmd := command(ctx, dir, c.args)
	var out, errs bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = c.stdin, &out, &errs
	cmd.Env = append(cmd.Env, c.env...)
	if c.index != "" {
		cmd.Env = append(cmd.Env, "GIT_INDEX_FILE="+c.index)
	}
	if c.hold != nil {
		cmd.ExtraFiles = []*os.File{c.hold}
	}
	err = cmd.Run()
	if err != nil {
		err = failure(ctx, c, errs.String(), err)
	}
	return out.Bytes(), errs.Bytes(), err
}

func failure(ctx context.Context, c call, words string, err error) error {
	if ctx.Err() != nil {
		return fmt.Errorf("%s: %w", c.doing, ctx.Err())
	}
	if errors.Is(err, exec.ErrNotFound) {
		return ErrNoGit
	}
	code := -1
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		code = exit.ExitCode()
	}
	words = vcs.WithoutSecrets(strings.TrimSpace(words))
	return &Error{Doing: c.doing, Args: c.args, Words: words, Code: code, Reason: err}
}

// Died reports whether a signal ended a command. It may have left locks.
func Died(err error) bool {
	var exit *exec.ExitError
	return errors.As(err, &exit) && !exit.Exited()
}

// code returns the exit code of a failed call, or 0.
func code(err error) int {
	var e *Error
	if errors.As(err, &e) {
		return e.Code
	}
	return 0
}

package svn

import (
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"

	"dorvik.dev/dorvik/internal/core/rx"
	"dorvik.dev/dorvik/internal/vcs"
)

// Error is a failed svn command.
type Error struct {
	Doing string   // such as "reading the working copy"
	Said  []string // the lines of standard error, without secrets
	Exit  int      // its exit code
}

func (e *Error) Error() string {
	what := ""
	for _, line := range e.Said {
		if _, words, ok := coded(line); ok && what == "" {
			what = words
		}
	}
	if what == "" {
		what = strings.Join(e.Said, "; ")
	}
	if what == "" {
		what = fmt.Sprintf("svn ended with code %d and said nothing", e.Exit)
	}
	return e.Doing + ": " + what
}

// Has reports whether svn named one of the error codes, such as E155004.
func (e *Error) Has(codes ...string) bool {
	return slices.ContainsFunc(e.Said, func(line string) bool {
		code, _, ok := coded(line)
		return ok && slices.Contains(codes, code)
	})
}

var codedLine = rx.New(`^(?:svn|svnrdump): (?:warning: )?([EW]\d{6}): (.*)`)

// coded splits a line of svn into its code and its words.
func coded(line string) (code, words string, ok bool) {
	m := codedLine.FindStringSubmatch(line)
	if m == nil {
		return "", "", false
	}
	return m[1], m[2], true
}

// ErrNoProgram reports that Subversion is not installed.
var ErrNoProgram = errors.New(
	"this folder belongs to Subversion, but there is no “svn” here: install Subversion, and " +
		"start dorvik again")

// program runs svn.
type program struct {
	// inherits is a file that svn has open as long as it runs; nil for none. Whoever locks it knows that no svn of a
	// Dorvik that was killed is still at work.
	inherits *os.File

	mu       sync.Mutex
	env      []string // variables besides the person's
	user     string   // to log in as; empty for what svn has stored
	password string
	asks     bool // the person was asked for both
}

// allowed lists the svn commands that Dorvik runs. Those that join are Dorvik's own work: “update” runs only where
// nothing is changed.
var allowed = map[string]bool{"add": true, "changelist": true,
	"commit": true, "copy": true, "info": true, "list": true, "lock": true, "log": true, "move": true, "propdel": true,
	"proplist": true,
	"propset":  true,
	"remove":   true, "revert": true, "status": true, "unlock": true, "update": true}

// call is one run of svn in a folder.
type call struct {
	dir   string
	doing string
	args  []string
	dump  bool // svnrdump, which writes revisions as a stream
	// warns is called with what svn said though it ended well; nil if nobody asks.
	warns func(said []string)
}

// in returns a call of svn in a folder.
func in(dir, doing string, args ...string) call { return call{dir: dir, doing: doing, args: args} }

// run runs svn and returns what it prints. The error is an *Error if it failed.
func (p *program) run(ctx context.Context, c call) ([]byte, error) {
	var out bytes.Buffer
	err := p.stream(ctx, c, func(from io.Reader) error {
		_, err := out.ReadFrom(from)
		return err
	})
	return out.Bytes(), err
}

// xml runs svn and decodes the XML that it prints.
func (p *program) xml(ctx context.Context, c call, into any) error {
	c.args = slices.Insert(slices.Clone(c.args), 1, "--xml")
	out, err := p.run(ctx, c)
	if err != nil {
		return err
	}
	if err := xml.Unmarshal(out, into); err != nil {
		return fmt.Errorf("%s: svn printed what cannot be read: %w", c.doing, err)
	}
	return nil
}

// stream runs svn and has its output read while it runs.
func (p *program) stream(ctx context.Context, c call, read func(from io.Reader) error) error {
	name, args := "svn", slices.Clone(c.args)
	if c.dump {
		name = "svnrdump"
	} else if !allowed[args[0]] {
		return fmt.Errorf("svn %s is not for Dorvik to run", args[0])
	}
	p.mu.Lock()
	env, user, password, asks := slices.Clone(p.env), p.user, p.password, p.asks
	p.mu.Unlock()
	args = append(args, "--non-interactive")
	if user != "" {
		args = append(args, "--username", user)
	}
	if asks {
		args = append(args, "--no-auth-cache", "--password-from-stdin")
	}
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir = c.dir
	if asks {
		cmd.Stdin = strings.NewReader(password)
	}
	cmd.Env = append(append(os.Environ(), "LC_ALL=C.UTF-8"), env...)
	if args[0] != "commit" { // nobody edits files in the moment after a likeness was made
		cmd.Env = append(cmd.Env, noSleep)
	}
	var said bytes.Buffer
	cmd.Stderr = &said
	if p.inherits != nil {
		cmd.ExtraFiles = []*os.File{p.inherits}
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		if errors.Is(err, exec.ErrNotFound) {
			return ErrNoProgram
		}
		return fmt.Errorf("%s: %w", c.doing, err)
	}
	rerr := read(out)
	if rerr != nil {
		_ = cmd.Process.Kill()
	}
	err = cmd.Wait()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if ended := (*exec.ExitError)(nil); errors.As(err, &ended) && rerr == nil {
		return &Error{c.doing, linesOf(vcs.WithoutSecrets(said.String())), ended.ExitCode()}
	}
	if c.warns != nil {
		c.warns(linesOf(vcs.WithoutSecrets(said.String())))
	}
	return errors.Join(rerr, err)
}

// noSleep has svn not wait, after it wrote files, until an edit would get another time than its own.
const noSleep = "SVN_I_LOVE_CORRUPTED_WORKING_COPIES_SO_DISABLE_SLEEP_FOR_TIMESTAMPS=yes"

// linesOf returns the lines of a text that are not empty.
func linesOf(text string) (lines []string) {
	for line := range strings.Lines(text) {
		if line = strings.TrimRight(line, "\r\n"); line != "" {
			lines = append(lines, line)
		}
	}
	return lines
}

// target is a path as an argument. What follows the last @ would be a revision.
func target(path string) string {
	if path == "" {
		return "."
	}
	if strings.HasPrefix(path, "-") {
		path = "./" + path
	}
	if strings.Contains(path, "@") {
		path += "@"
	}
	return path
}

package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/demo"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/visible"
)

// exit is an outcome with an exit code that is no error.
type exit struct{ code int }

func (e exit) Error() string { return fmt.Sprintf("exit code %d", e.code) }

// usage is a wrong call.
type usage struct{ error }

// env is the environment of a command.
type env struct {
	out, err io.Writer
	dir      string
	json     bool
	answers  bool // what is said is what was asked for

	unrelated bool
	screens   Screens
	played    *demo.Rehearsal // the running demo, or nil

	mu      sync.Mutex // guards opened: an abandoned command may still use it
	printed bool       // JSON was written

	opened *recovery.Workspace // the command's repository; nil before it is opened
}

// sayNotLookedAt reports failed foresight.
func (e *env) sayNotLookedAt() {
	for _, n := range e.notLookedAt() {
		e.remark("▲ %s", n)
	}
}

// notLookedAt returns the sentences about failed foresight.
func (e *env) notLookedAt() (out []string) {
	if e.opened != nil {
		for _, n := range e.opened.Planner.Extras.NotLookedAt() {
			out = append(out, n.Sentence())
		}
	}
	return out
}

// say prints text for a person: to standard output if that is what was asked for, else to standard error. It makes
// text from outside safe to show.
func (e *env) say(format string, args ...any) {
	if e.answers && !e.json {
		fmt.Fprintln(e.out, visible.Lines(fmt.Sprintf(format, args...)))
		return
	}
	e.remark(format, args...)
}

// remark prints text for a person to standard error.
func (e *env) remark(format string, args ...any) {
	fmt.Fprintln(e.err, visible.Lines(fmt.Sprintf(format, args...)))
}

// answering has a command print what it says to standard output.
func answering(e *env, cmd *cobra.Command) *cobra.Command {
	run := cmd.RunE
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		e.answers = true
		return run(cmd, args)
	}
	return cmd
}

// print prints the command's one JSON value.
func (e *env) print(v any) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.printed {
		return nil
	}
	e.printed = true
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	if err := enc.Encode(v); err != nil {
		return err
	}
	_, err := e.out.Write(visible.JSON(text.Bytes()))
	return err
}

// session opens the repository and its stored recovery.
func (e *env) session(ctx context.Context) (*recovery.Session, error) {
	s, err := recovery.OpenSession(ctx, e.dir)
	if err == nil {
		_, err = e.allowing(s.Workspace, nil)
	}
	return s, err
}

// workspace opens the repository for reading.
func (e *env) workspace(ctx context.Context) (*recovery.Workspace, error) {
	return e.allowing(recovery.OpenWorkspace(ctx, e.dir))
}

// allowing records the opened workspace and applies the flags that allow something.
func (e *env) allowing(w *recovery.Workspace, err error) (*recovery.Workspace, error) {
	if e.opened = w; err == nil && e.unrelated {
		w.Planner.AllowUnrelated()
	}
	return w, err
}

// full opens the full screen.
func (e *env) full(ctx context.Context, theme string) error {
	s, err := e.session(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	return e.screens.Job(ctx, s, theme, e.played)
}

func noArgs(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		near := ""
		cmd.SuggestionsMinimumDistance = 2 // changed letters
		if list := cmd.SuggestionsFor(args[0]); len(list) > 0 {
			near = fmt.Sprintf(" Did you mean %q?", list[0])
		}
		return usage{fmt.Errorf("unexpected argument %q; dorvik --help lists the commands.%s", args[0], near)}
	}
	return nil
}

func (e *env) jsonFlag(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().BoolVar(&e.json, "json", false, "write JSON to standard output")
	return cmd
}

// Exit codes, as the contract has them.
const (
	exitDone      = 0
	exitFailed    = 1
	exitUsage     = 2
	exitConflicts = 3
	exitCheck     = 4
	exitRefused   = 5
	exitMoved     = 6
)

// Screens opens the full screen. main provides it, so commands work without one.
type Screens struct {
	Job  func(ctx context.Context, s *recovery.Session, theme string, played *demo.Rehearsal) error
	File func(ctx context.Context, s *recovery.Session, theme, name string,
		save func(j *plan.Join) error) (saved bool, err error)
}

// onlyReads marks commands that only read.
func onlyReads(cmd *cobra.Command) *cobra.Command {
	cmd.Annotations = map[string]string{reads: "yes"}
	return cmd
}

// reads marks a command that only reads, so it can be ended at any time.
const reads = "reads"

// grace is the time such a command has to end after a signal.
const grace = 10 * time.Millisecond

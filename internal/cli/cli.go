// Package cli is the commands and their JSON. It holds no rule of the job: it
// asks recovery and writes down what it says.
package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/apply"
	"dorvik.dev/dorvik/internal/core/caught"
	"dorvik.dev/dorvik/internal/demo"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/visible"
)

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

// exit is an outcome that is no error but has a code of its own.
type exit struct{ code int }

func (e exit) Error() string { return fmt.Sprintf("exit code %d", e.code) }

// usage is a wrong call.
type usage struct{ error }

// Screens opens the full screen; main gives it, so that commands can be used without one.
type Screens struct {
	Job  func(ctx context.Context, s *recovery.Session, theme string, played *demo.Rehearsal) error
	File func(ctx context.Context, s *recovery.Session, theme, name string,
		save func(j *plan.Join) error) (saved bool, err error)
}

// env is what a command works with.
type env struct {
	out, err io.Writer
	dir      string
	json     bool

	unrelated bool
	screens   Screens
	played    *demo.Rehearsal // the demo, while it is played

	mu      sync.Mutex // a command that is left may still be at it
	printed bool       // JSON was written

	opened *recovery.Workspace // that the command works in; nil before
}

// Main runs the command line and gives the exit code.
func Main(args []string, out, errs io.Writer, screens Screens) int {
	boundHeap()
	collectLate(0)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP,
		syscall.SIGQUIT, syscall.SIGABRT)
	defer stop()
	return run(ctx, args, out, errs, screens)
}

func run(ctx context.Context, args []string, out, errs io.Writer, screens Screens) int {
	e := &env{out: out, err: errs, screens: screens}
	root := e.root()
	root.SetArgs(args)
	root.SetOut(errs)
	root.SetErr(errs)
	do := func() error { return caught.Do(func() error { return root.ExecuteContext(ctx) }) }
	if cmd, _, err := root.Find(args); err != nil || cmd.Annotations[reads] == "" {
		return e.code(do())
	}
	ended := make(chan error, 1)
	go func() { ended <- do() }()
	select {
	case err := <-ended:
		return e.code(err)
	case <-ctx.Done():
	}
	select {
	case err := <-ended:
		return e.code(err)
	case <-time.After(grace): // it is amid something large, and nothing is lost by that
		return e.code(context.Canceled)
	}
}

// reads marks a command that only reads: it can be left at any time.
const reads = "reads"

// grace is how long such a command has to end by itself when it is told to.
const grace = 10 * time.Millisecond

// onlyReads marks a command so.
func onlyReads(cmd *cobra.Command) *cobra.Command {
	cmd.Annotations = map[string]string{reads: "yes"}
	return cmd
}

// Root gives the commands, for what is written about them.
func Root() *cobra.Command { return (&env{out: io.Discard, err: io.Discard}).root() }

func (e *env) code(err error) int {
	e.sayNotLookedAt()
	var x exit
	var u usage
	if err == nil {
		return exitDone
	}
	if errors.As(err, &x) {
		return x.code
	}
	e.say("dorvik: %v", err)
	if e.json { // one value comes out whatever happens
		_ = e.print(map[string]any{"version": 1, "result": "failed", "error": visible.Lines(err.Error())})
	}
	var moved *apply.MovedError
	var ref *vcs.RefMovedError
	var refusal *vcs.Refusal
	var published *plan.PublishedError
	switch {
	case errors.As(err, &u):
		return exitUsage
	case errors.Is(err, ledger.ErrInUse), errors.As(err, &moved), errors.As(err, &ref):
		return exitMoved
	case errors.As(err, &published):
		return exitConflicts
	case errors.As(err, &refusal):
		return exitRefused
	}
	return exitFailed
}

// sayNotLookedAt tells which foresight failed.
func (e *env) sayNotLookedAt() {
	for _, n := range e.notLookedAt() {
		e.say("▲ %s", n)
	}
}

// notLookedAt is which foresight failed, as sentences.
func (e *env) notLookedAt() (out []string) {
	if e.opened != nil {
		for _, n := range e.opened.Planner.Extras.NotLookedAt() {
			out = append(out, n.Sentence())
		}
	}
	return out
}

// say tells a person something, on standard error. Text from outside is made
// fit to be shown.
func (e *env) say(format string, args ...any) {
	fmt.Fprintln(e.err, visible.Lines(fmt.Sprintf(format, args...)))
}

// print writes the one value that there is.
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

func (e *env) root() *cobra.Command {
	var theme string
	root := &cobra.Command{
		Use:   "dorvik",
		Short: "Get from a refused push to an accepted one, without losing anybody's work",
		Long: `Somebody pushed before you, and your push was refused. Dorvik shows what
happened, works out both ways to join the two lines (rebase and merge) before
anything is touched, helps you settle what both of you changed, checks that the
joined code builds, and pushes.

Without a command it opens the full screen in the repository you are in. Nothing
in your branch, index or files changes until you accept the joined result, and
that can be undone.`,
		Example: `  dorvik                                   the full screen
  dorvik look                              where you stand, in a few lines
  dorvik plan --json                       what merge and rebase would each ask
  dorvik recover --prefer weave --push     the whole job without a screen
  dorvik pick 4f2a91c                      bring a commit of another branch over
  dorvik demo                              try it on made-up repositories`,
		SilenceErrors: true, SilenceUsage: true,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if theme != "dark" && theme != "light" {
				return usage{fmt.Errorf("--theme is dark or light, not %q", theme)}
			}
			return e.full(cmd.Context(), theme)
		},
	}
	root.PersistentFlags().StringVarP(&e.dir, "directory", "C", "", "work in `DIR` instead of here")
	root.PersistentFlags().StringVar(&theme, "theme", "dark",
		"colours of the full screen: dark or light; NO_COLOR=1 turns them off")
	root.PersistentFlags().BoolVar(&e.unrelated, "unrelated", false, "join two lines that have no common ancestor, too")
	root.CompletionOptions.DisableDefaultCmd = true
	root.SetHelpCommand(&cobra.Command{Hidden: true})
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usage{err} })
	root.AddCommand(onlyReads(e.look()), onlyReads(e.plan()), e.recover(), e.check(), e.pushing(), onlyReads(e.ways()),
		e.settle(&theme),
		e.pick(&theme), e.undo(),
		onlyReads(e.history()),
		onlyReads(e.annotate()),
		e.draw(), e.logbook(), e.demo(&theme), e.version())
	return root
}

// session opens the repository and the recovery kept in it.
func (e *env) session(ctx context.Context) (*recovery.Session, error) {
	s, err := recovery.OpenSession(ctx, e.dir)
	if err == nil {
		_, err = e.allowing(s.Workspace, nil)
	}
	return s, err
}

// workspace opens the repository for looking only.
func (e *env) workspace(ctx context.Context) (*recovery.Workspace, error) {
	return e.allowing(recovery.OpenWorkspace(ctx, e.dir))
}

// allowing remembers the workspace that was opened, and allows in it what the flags allow.
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

func noArgs(_ *cobra.Command, args []string) error {
	if len(args) > 0 {
		return usage{fmt.Errorf("no word is expected here, and there is %q; dorvik --help lists the commands", args[0])}
	}
	return nil
}

func (e *env) jsonFlag(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().BoolVar(&e.json, "json", false, "write JSON to standard output")
	return cmd
}

// Package cli has the commands and their JSON. It contains no rule of the job: it calls recovery and prints the
// results.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/askpass"
	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/caught"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/visible"
)

// Main runs the command line and returns the exit code.
func Main(args []string, out, errs io.Writer, screens Screens) int {
	if askpass.Asked(os.Args[0]) && len(args) == 1 {
		return askpass.Ask(args[0], out)
	}
	boundHeap()
	collectLate(0)
	return command(args, out, errs, screens)
}

// command runs the command line until it ends or a signal stops it.
func command(args []string, out, errs io.Writer, screens Screens) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP,
		syscall.SIGQUIT, syscall.SIGABRT)
	defer stop()
	return run(ctx, args, out, errs, screens)
}

func run(ctx context.Context, args []string, out, errs io.Writer, screens Screens) int {
	e := &env{out: out, err: errs, screens: screens}
	root := e.root()
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(errs)
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd() // it takes the output when it is made
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
	case <-time.After(grace): // the command is in a long step; ending it loses nothing
		return e.code(context.Canceled)
	}
}

// Root returns the commands, for generated documentation.
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
	e.remark("dorvik: %s", answered(err))
	if e.json { // print one JSON value in any case
		_ = e.print(map[string]any{"version": 1, "result": "failed", "error": visible.Lines(answered(err))})
	}
	var moved *change.MovedError
	var ref *vcs.RefMovedError
	var refusal *vcs.Refusal
	var published *plan.PublishedError
	var fixed *plan.FixedError
	var linear *plan.LinearError
	switch {
	case errors.As(err, &u):
		return exitUsage
	case errors.Is(err, ledger.ErrInUse), errors.As(err, &moved), errors.As(err, &ref):
		return exitMoved
	case errors.As(err, &published), errors.As(err, &fixed), errors.As(err, &linear):
		return exitConflicts
	case errors.As(err, &refusal):
		return exitRefused
	}
	return exitFailed
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
that can be undone.

` + exitCodes(),
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
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usage{err} })
	root.AddCommand(answering(e, onlyReads(lookCommand(e))), answering(e, onlyReads(planCommand(e))), recoverCommand(e),
		checkCommand(e), pushCommand(e), commitCommand(e), answering(e, onlyReads(waysCommand(e))), proposalsCommand(e),
		settleCommand(e, &theme),
		pickCommand(e, &theme), undoCommand(e),
		answering(e, onlyReads(historyCommand(e))),
		answering(e, onlyReads(annotateCommand(e))),
		drawCommand(e), answering(e, logbookCommand(e)), demoCommand(e, &theme), versionCommand(e), lockCommand(e),
		unlockCommand(e), setupCommand(e), settingsHelp())
	v := built()
	root.Version = v.Dorvik + bracketed(v.Revision)
	root.SetVersionTemplate("dorvik {{.Version}}\n")
	return root
}

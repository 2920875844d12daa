package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/core/settle"
)

// preferFlag adds the flag for the ways that settle conflicts.
func preferFlag(cmd *cobra.Command, prefer *string) {
	cmd.Flags().StringVar(prefer, "prefer", "",
		"`WAYS` to settle conflicts by, in order: "+strings.Join(settle.Preferences(), ", "))
}

// add defines the flags of a recovery without a screen.
func (f *recoverFlags) add(cmd *cobra.Command) {
	preferFlag(cmd, &f.prefer)
	cmd.Flags().StringVar(&f.check, "check", "", "check with `CMD`")
	cmd.Flags().BoolVar(&f.noCheck, "no-check", false, "go on without a check")
	cmd.Flags().BoolVar(&f.each, "each", false, "check every replayed commit by itself, too")
	cmd.Flags().BoolVar(&f.mend, "mend", false, "take the mends that are certain before the check")
	cmd.Flags().BoolVar(&f.push, "push", false, "push the result")
	cmd.Flags().BoolVar(&f.pushMarks, "push-marks", false, "push though conflict marks stand in a file")
	cmd.Flags().BoolVar(&f.carry, "carry", false, "bring uncommitted work along, joined onto the result")
	cmd.Flags().BoolVar(&f.moveAside, "move-aside", false, "move untracked files that are in the way aside; "+
		"undo brings it back")
}

// ways parses the preference and checks the flags.
func (f *recoverFlags) ways() (prefer []settle.Way, err error) {
	if f.prefer != "" {
		if prefer, err = settle.ParsePreference(f.prefer); err != nil {
			return nil, usage{fmt.Errorf("--prefer: %w", err)}
		}
	}
	if f.check != "" && f.noCheck {
		return nil, usage{fmt.Errorf("--check and --no-check cannot both be meant")}
	}
	return prefer, nil
}

func pickCommand(e *env, theme *string) *cobra.Command {
	var f recoverFlags
	var parent int
	cmd := &cobra.Command{
		Use: "pick COMMIT…", Short: "Bring single commits over from another branch",
		Long: `Makes single commits, or those of ranges such as A..B, again on the branch you are
on, through the same stages as a recovery: what they would change, the conflicts,
the check, the push. What stands on your branch is yours, and what the commits
change is theirs. Nothing changes until you accept the result.

In a terminal it opens the full screen. Elsewhere, or with one of the flags below,
it does the whole job without a screen; where a decision is missing it stops with
the pick saved, and dorvik goes on with it.`,
		Example: `  dorvik pick 4f2a91c
  dorvik pick v1.2..fixes --prefer suggested --check 'make test'`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usage{fmt.Errorf("pick takes the commits to bring over, or ranges such as A..B")}
			}
			return nil
		},
	}
	f.add(cmd)
	cmd.Flags().IntVar(&parent, "parent", 0,
		"of a commit that joins lines, bring over what it changed against its `N`th parent, from 1")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		prefer, err := f.ways()
		if err != nil {
			return err
		}
		ctx := cmd.Context()
		s, err := e.session(ctx)
		if err != nil {
			return err
		}
		defer s.Close()
		if err := s.Pick(ctx, args, parent); err != nil {
			return err
		}
		if f == (recoverFlags{}) && !e.json && isTerminal(e.out) {
			return e.screens.Job(ctx, s, *theme, nil)
		}
		return e.job(ctx, s, f, prefer, s.Locate)
	}
	return e.jsonFlag(cmd)
}

// isTerminal reports whether a file is a terminal.
func isTerminal(w any) bool {
	f, ok := w.(*os.File)
	if !ok {
		return false
	}
	info, err := f.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/recovery"
)

type undoJSON struct {
	Version  int       `json:"version"`
	Waypoint string    `json:"waypoint"`
	Branch   string    `json:"branch"`
	Tip      object.ID `json:"tip"`
	Notice   string    `json:"notice,omitempty"`
}

func undoCommand(e *env) *cobra.Command {
	cmd := &cobra.Command{
		Use: "undo [WAYPOINT]", Short: "Take the last accepted join back, or what any entry of the logbook did",
		Long: `Takes branch, index and files back to where they were before the last join, or before
a waypoint of the logbook. Where commits were made since, or it was pushed, it says so and
changes nothing: --since goes back all the same and keeps those commits under a waypoint;
--by-commit takes back only what that join brought, by a new commit on top of all, and
leaves what is on the remote as it is.`,
		Args: cobra.MatchAll(func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage{cobra.MaximumNArgs(1)(nil, args)}
			}
			return nil
		}),
	}
	var since, byCommit bool
	cmd.Flags().BoolVar(&since, "since", false, "go back though commits were made since, or it was pushed")
	cmd.Flags().BoolVar(&byCommit, "by-commit", false, "take back only what that join brought, by a new commit")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if (since || byCommit) && (len(args) == 0 || since && byCommit) {
			return usage{errors.New("say one of --since and --by-commit, and which waypoint; dorvik logbook lists " +
				"them")}
		}
		ctx, name := cmd.Context(), ""
		if len(args) == 1 {
			name = args[0]
		}
		s, err := e.session(ctx)
		if err != nil {
			return err
		}
		defer s.Close()
		notice := s.TakeNotice()
		if notice != "" {
			e.say("%s", notice)
		}
		switch {
		case s.Applier.TookBack() && name == "":
			// If an interrupted change was just undone, do not undo an older join, too.
			b, err := s.Repo.Current(ctx)
			if err != nil || !e.json {
				return err
			}
			return e.print(undoJSON{1, "", b.Name, b.Tip, notice})
		case byCommit:
			if err := s.Counter(ctx, name); err != nil {
				return err
			}
			return e.job(ctx, s, recoverFlags{noCheck: true, carry: s.Ledger.State().Carry}, nil, s.Locate)
		case since:
			return e.goBackSince(ctx, s, name)
		}
		w, err := s.Applier.GoBack(ctx, name)
		if err != nil {
			return err
		}
		return e.wentBack(s, w, w.Before)
	}
	return e.jsonFlag(cmd)
}

// goBackSince goes back before a waypoint, whatever came after it.
func (e *env) goBackSince(ctx context.Context, s *recovery.Session, name string) error {
	way, err := s.WayBack(ctx, name)
	if err != nil {
		return err
	}
	e.say("%s", way.Sentence())
	w, err := s.Return(ctx, name)
	if err != nil {
		return err
	}
	to := w.Before
	if w.Name != name { // the undo has a waypoint of its own
		to = w.After
	}
	return e.wentBack(s, w, to)
}

// wentBack reports where the branch is.
func (e *env) wentBack(s *recovery.Session, w *ledger.Waypoint, at object.ID) error {
	notice := s.TakeNotice()
	if notice != "" {
		e.say("%s", notice)
	}
	e.say("%s is back at %s, with its files. Your decisions are kept.", w.Branch, s.Planner.Place(
		context.Background(), at, s.Planner.Name(at)))
	if e.json {
		return e.print(undoJSON{1, w.Name, w.Branch, at, notice})
	}
	return nil
}

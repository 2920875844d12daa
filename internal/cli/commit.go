package cli

import (
	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/recovery"
)

// committedJSON is the report of commit.
type committedJSON struct {
	Version  int       `json:"version"`
	Branch   string    `json:"branch"`
	Commit   object.ID `json:"commit"`
	Tree     object.ID `json:"tree"`
	Waypoint string    `json:"waypoint"`
	Notice   string    `json:"notice,omitempty"`
}

// commitCommand commits what is staged.
func commitCommand(e *env) *cobra.Command {
	cmd := &cobra.Command{Use: "commit -m TEXT", Short: "Commit what is staged, with hooks and signing as configured",
		Long: `Commits what is staged; in Mercurial, which stages nothing, all tracked files; in
Subversion, what is in no change list becomes one. No file changes, and “dorvik undo”
makes it uncommitted again. To choose files or single edits, commit in the full screen.`,
		Args: noArgs}
	d := recovery.Draft{Staged: true}
	cmd.Flags().StringVarP(&d.Message, "message", "m", "", "the message, which is `TEXT`")
	cmd.Flags().BoolVar(&d.Amends, "amend", false, "add it to the last commit, if that was never pushed")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		ctx := cmd.Context()
		s, err := e.session(ctx)
		if err != nil {
			return err
		}
		defer s.Close()
		if d.Amends && d.Message == "" {
			last, err := s.Commits.LastUnpushed(ctx)
			if err != nil {
				return err
			}
			if last != nil {
				d.Message = last.Text()
			}
		}
		wp, err := s.Commits.Make(ctx, d, change.Consent{WithoutHooks: true})
		if err != nil {
			return err
		}
		notice := s.TakeNotice()
		if notice != "" {
			e.say("%s", notice)
		}
		if named, err := s.Tasks.NamedIn(ctx, d.Message); err != nil {
			return err
		} else if !named {
			e.say("The message names no task. A push needs one (dorvik.referenceWanted).")
		}
		e.say("Committed: %s is now at %s. “dorvik undo” takes it back.", wp.Branch,
			s.Planner.Place(ctx, wp.After, s.Planner.Name(wp.After)))
		if !e.json {
			return nil
		}
		tree, err := s.Planner.Tree(ctx, wp.After)
		if err != nil {
			return err
		}
		return e.print(committedJSON{1, wp.Branch, wp.After, tree, wp.Name, notice})
	}
	return e.jsonFlag(cmd)
}

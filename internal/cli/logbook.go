package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/words"
)

func logbookCommand(e *env) *cobra.Command {
	cmd := &cobra.Command{
		Use: "logbook", Short: "List what Dorvik did here: joins, undoing them, pushes",
		Long: `Lists what was done in this repository, the newest first: results that went onto a
branch, and back, and pushes, each with its waypoint. “dorvik draw report --waypoint
NAME -o FILE” tells one in full, and “dorvik undo NAME” goes back before it.`,
		Args: noArgs,
	}
	var clean string
	cmd.Flags().StringVar(&clean, "clean", "", "forget what waypoints keep that are older than so many `DAYS`")
	var forget bool
	cmd.Flags().BoolVar(&forget, "forget-decisions", false, "forget how conflicts were settled in earlier recoveries")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if forget {
			s, err := e.session(cmd.Context())
			if err != nil {
				return err
			}
			defer s.Close()
			n, err := s.ForgetDecisions()
			if err == nil {
				e.say("%s forgotten.", words.Count(n, "decision is", "decisions are"))
			}
			return err
		}
		if clean != "" {
			return e.clean(cmd.Context(), clean)
		}
		w, err := e.workspace(cmd.Context())
		if err != nil {
			return err
		}
		defer w.Close()
		all, err := w.History.Logbook()
		if err != nil {
			return err
		}
		if e.json {
			if all == nil {
				all = []ledger.LogEntry{}
			}
			return e.print(map[string]any{"version": 1, "entries": all})
		}
		if len(all) == 0 {
			e.say("Dorvik has changed nothing here yet.")
		}
		for _, entry := range all {
			e.say("%s  %-10s %s", entry.When.Format("2006-01-02 15:04"), entry.Name(),
				entry.Sentence(w.Repo.Dialect(), entry.To.String()))
		}
		return nil
	}
	return e.jsonFlag(cmd)
}

// clean removes what old waypoints keep.
func (e *env) clean(ctx context.Context, days string) error {
	age, err := recovery.Days(days)
	if err != nil {
		return usage{fmt.Errorf("--clean: %w", err)}
	}
	s, err := e.session(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	n, err := s.Clean(ctx, age)
	if err != nil {
		return err
	}
	e.say("%s cleaned.", words.Count(n, "waypoint was", "waypoints were"))
	if e.json {
		return e.print(map[string]any{"version": 1, "cleaned": n})
	}
	return nil
}

package cli

import (
	"errors"
	"fmt"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
)

// answered returns the text of an error with its remedy.
func answered(err error) string { return err.Error() + remedy(err) }

// remedy returns how a command answers an error on purpose, as a sentence after it, or "". Errors name facts; the flags
// are named here.
func remedy(err error) string {
	var (
		blocked  *plan.Blocked
		stuck    *plan.StuckError
		moved    *change.MovedError
		merge    *replay.PickedMergeError
		unagreed *prove.UnagreedError
	)
	switch {
	case errors.As(err, &stuck):
		return " Open dorvik to take it over, or use --take-over finish, anew or back."
	case errors.As(err, &moved) && moved.Undo != "":
		return fmt.Sprintf(". “dorvik undo %s --since” goes back all the same, and keeps what came since under a "+
			"waypoint; "+
			"“dorvik undo %[1]s --by-commit” takes back only what that join brought.", moved.Undo)
	case errors.As(err, &merge) && merge.Parent == 0:
		return "; --parent 1 means its change against its first parent"
	case errors.As(err, &unagreed) && unagreed.Terms.Filter == "":
		return fmt.Sprintf("; look at it, and use --check '%s' to run it, or --no-check to continue without",
			unagreed.Terms.Command.Line())
	case errors.As(err, &blocked):
		return map[plan.Remedy]string{
			plan.JoinUnrelated: " To join them all the same, use --unrelated.",
			plan.UndoPushed: " “dorvik undo " + blocked.Waypoint + " --by-commit” takes it back by a new commit; " +
				"“--since” " +
				"instead takes your branch back, and leaves the remote as it is.",
			plan.NameTheirs: " Use --theirs.",
		}[blocked.Remedy]
	}
	return ""
}

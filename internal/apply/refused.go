package apply

import (
	"errors"
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// MovedError says that the branch is not where the join started from.
type MovedError struct {
	Branch string
	Work   bool   // it is uncommitted work that was changed, and not the branch
	Undo   string // the waypoint that was to be undone
}

func (e *MovedError) Error() string {
	if e.Work {
		return "a file that the change replaces was saved meanwhile; nothing was done. Look again and join anew"
	}
	if e.Undo != "" {
		return fmt.Sprintf("the branch %s is not where that join left it: something was done since. Nothing was "+
			"changed. “dorvik undo %s --since” goes back all the same, and keeps what came since under a waypoint; "+
			"“dorvik undo %[2]s --by-commit” takes back only what that join brought", e.Branch, e.Undo)
	}
	return fmt.Sprintf("the branch %s was changed meanwhile, by you or another program; nothing was done. Look again "+
		"and join anew", e.Branch)
}

// refusedPaths are the files that git says it would overwrite, if that is why it failed.
func refusedPaths(err error) (paths []string) {
	var ge *git.Error
	if !errors.As(err, &ge) {
		return nil
	}
	for line := range strings.SplitSeq(ge.Words, "\n") {
		if !strings.Contains(line, "overwritten") && !strings.Contains(line, "uptodate") &&
			!strings.Contains(line, "would lose") {
			continue
		}
		if _, rest, ok := strings.Cut(line, "'"); ok {
			if path, _, ok := strings.Cut(rest, "'"); ok {
				paths = append(paths, path)
			}
		}
	}
	return paths
}

// OverwriteError says that a join would change what is not committed.
type OverwriteError struct {
	Paths   []string
	Unknown bool // all of them are things git does not know: they can be moved aside
	Hidden  bool // git was told not to look at them, and they are not as it has them
}

func (e *OverwriteError) Error() string {
	if e.Hidden {
		return fmt.Sprintf("the join must change %s, which git was told to take for unchanged, and %s not. Have git "+
			"look again with “git update-index --no-skip-worktree --no-assume-unchanged”, and it is carried or "+
			"committed like other work. Nothing was changed", strings.Join(e.Paths, ", "),
			words.Is(len(e.Paths), "it is", "they are"))
	}
	if e.Unknown {
		return fmt.Sprintf("the join must write where you have %s, which git does not know. Nothing was changed; have "+
			"it moved aside (undo brings it back), or move it yourself", strings.Join(e.Paths, ", "))
	}
	return fmt.Sprintf("the join must change %s, where you have work that is not committed; have it carried along, or "+
		"commit it, and try again. Nothing was changed",
		strings.Join(e.Paths, ", "))
}

// Consent is what the person has agreed to beyond the join itself.
type Consent struct {
	MoveAside        bool // what git does not know and is in the way, brought back by undo
	RewritePublished bool // commits that are on a remote
	LeaveBranches    bool // other branches that a rebase's list moves stay where they are
	MakeAnew         bool // the branch of the remote that is pushed to, which is gone there
	WithoutHooks     bool // those that a commit can change and that were not agreed to are left out
}

// CutError says that a change could be neither made nor taken back.
type CutError struct {
	Doing, Back error
	Branch      string
}

func (e *CutError) Error() string {
	return fmt.Sprintf("changing %s failed (%v), and so did taking it back (%v). Your commits are all there; mend the "+
		"cause and start dorvik again: it will make branch and files whole",
		e.Branch, e.Doing, e.Back)
}

func (e *CutError) Unwrap() []error { return []error{e.Doing, e.Back} }

// AsksError says that going back must change uncommitted work in a way that a person has to decide.
type AsksError struct {
	Position *plan.Position // of going back, with that work
	Paths    []string
}

func (e *AsksError) Error() string {
	return fmt.Sprintf("going back must change %s, where you have work that is not committed and does not fit there: "+
		"settle it in the full screen, or commit it, or move it away, and go back again. Nothing was changed",
		strings.Join(e.Paths, ", "))
}

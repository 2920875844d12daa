package change

import (
	"fmt"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// MovedError says that the branch is not where the join started from.
type MovedError struct {
	Branch string
	Work   bool   // uncommitted work changed, not the branch
	Undo   string // name of the waypoint to undo
}

func (e *MovedError) Error() string {
	if e.Work {
		return "a file that the change replaces was saved meanwhile; nothing was done. Look again and join again"
	}
	if e.Undo != "" {
		return fmt.Sprintf("the branch %s is not where that join left it: something was done since. Nothing was "+
			"changed",
			e.Branch)
	}
	return fmt.Sprintf("the branch %s was changed meanwhile, by you or another program; nothing was done. Look "+
		"again and join again", e.Branch)
}

// OverwriteError says that a join would change what is not committed.
type OverwriteError struct {
	Paths   []string
	Unknown bool   // all paths are untracked: they can be moved aside
	Hidden  bool   // git ignores changes to the paths on request, and they did change
	Switch  string // the branch that was to be checked out; empty for a join
}

func (e *OverwriteError) Error() string {
	if e.Switch != "" {
		return fmt.Sprintf("%s has something else at %s, where you have work that is not committed. Commit it or move "+
			"it away, and try again. Nothing was changed", e.Switch, words.List(words.Some(e.Paths, 3)))
	}
	if e.Hidden {
		return fmt.Sprintf("the join must change %s, which git was told to treat as unchanged, and %s not. Make "+
			"git look again with “git update-index --no-skip-worktree --no-assume-unchanged”, and it is carried or "+
			"committed like other work. Nothing was changed", strings.Join(e.Paths, ", "),
			words.Is(len(e.Paths), "it is", "they are"))
	}
	if e.Unknown {
		return fmt.Sprintf("the join must write where you have %s, which is not tracked. Nothing was changed; "+
			"let Dorvik move it aside (undo brings it back), or move it yourself", strings.Join(e.Paths, ", "))
	}
	return fmt.Sprintf("the join must change %s, where you have work that is not committed; let Dorvik carry it "+
		"along, or commit it, and try again. Nothing was changed",
		strings.Join(e.Paths, ", "))
}

// AsksError says that going back must change uncommitted work in a way that a person has to decide.
type AsksError struct {
	Position *plan.Position // the position of the undo, with that work
	Paths    []string
}

func (e *AsksError) Error() string {
	return fmt.Sprintf("going back must change %s, where you have work that is not committed and does not fit there: "+
		"settle it in the full screen, or commit it, or move it away, and go back again. Nothing was changed",
		strings.Join(e.Paths, ", "))
}

// HooksError says that hooks would run that a commit can change, and that were not agreed to as
// they are now.
type HooksError struct{ Hooks []*vcs.Hook }

func (e *HooksError) Error() string {
	return fmt.Sprintf("the hooks %s are among the files of the repository, and would run with your rights: agree to "+
		"them, or have the join made without. Nothing was changed", words.List(e.Names()))
}

// Names are those of the hooks.
func (e *HooksError) Names() (out []string) {
	for _, h := range e.Hooks {
		out = append(out, h.Name)
	}
	return out
}

// Dir is the folder that they are in.
func (e *HooksError) Dir() string { return filepath.Dir(e.Hooks[0].Path) }

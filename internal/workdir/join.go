package workdir

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// This file has what a change of a working folder needs in a system without an index.

// Obstacles is Between for going from a position to a tree: carried work is not in the way. A zero tree has none.
func (w *Tree) Obstacles(ctx context.Context, p *plan.Position, tree object.ID) (same []string, err error) {
	if tree.IsZero() {
		return nil, nil
	}
	from, err := w.Planner.Tree(ctx, p.Head())
	if err != nil {
		return nil, err
	}
	if p.Carried != nil {
		return w.Between(ctx, from, tree, UnknownTo(p.Dirty), p.Carried.Paths...)
	}
	return w.Between(ctx, from, tree, p.Dirty)
}

// TouchedFrom is Touched for going from a position to a tree.
func (w *Tree) TouchedFrom(ctx context.Context, p *plan.Position, tree object.ID) (*change.Touched, error) {
	from, err := w.Planner.Tree(ctx, p.Head())
	if err != nil {
		return nil, err
	}
	own := map[string]bool{}
	for _, d := range p.Dirty {
		own[d.Path] = !d.Untracked
	}
	return w.Touched(ctx, from, tree, own)
}

// Reserve returns a name for a waypoint that no other has, with its ref at the commit before the change.
func Reserve(ctx context.Context, l *ledger.Ledger, in vcs.Pointer, before object.ID) (string, error) {
	for {
		name, err := l.Store.NextName()
		if err != nil {
			return "", err
		}
		err = in.UpdateRefs(ctx, "", vcs.RefUpdate{Name: (&ledger.Waypoint{Name: name}).Ref(), New: before})
		if taken := (*vcs.RefMovedError)(nil); errors.As(err, &taken) {
			continue
		}
		return name, err
	}
}

// JournalPath returns where the journal of a repository is, given the system's own folder.
func JournalPath(own string) string { return filepath.Join(own, "dorvik", "moving.json") }

// Interrupted reads the journal of a repository. It returns nil if there is none, and a *JournalError that names the
// command look if it is damaged.
func Interrupted[T any](own, look string) (*T, error) {
	of, path := new(T), JournalPath(own)
	found, ok, err := ReadJournal(path, of)
	switch {
	case err != nil || !found:
		return nil, err
	case !ok:
		return nil, &JournalError{Path: path, Look: look}
	}
	return of, nil
}

// EraseJournal notes that a change is done. Without a journal it does nothing.
func EraseJournal(own string) error {
	if err := os.Remove(JournalPath(own)); err != nil && !isGone(err) {
		return fmt.Errorf("noting that the change is done: %w", err)
	}
	return nil
}

// CutError reports a change that could neither be completed nor undone. The next start tries again.
type CutError struct {
	Cause, Undo error
	Branch      string
	Safe        string // what is not lost, as a sentence without a full stop
}

func (e *CutError) Error() string {
	return fmt.Sprintf("%v; and %v. %s. Fix the cause and start dorvik again: it completes the change of %s, or takes "+
		"it back, and says which", e.Cause, e.Undo, e.Safe, e.Branch)
}

func (e *CutError) Unwrap() error { return e.Cause }

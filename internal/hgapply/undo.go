package hgapply

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/exact"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
	"dorvik.dev/dorvik/internal/workdir"
)

// GoBack undoes a join; an empty name selects the last one. Uncommitted work returns to its state before the join, or
// is merged if it was edited since.
func (a *Applier) GoBack(ctx context.Context, name string) (*ledger.Waypoint, error) {
	wp, err := a.Ledger.Store.ToUndo(name)
	if err != nil {
		return nil, err
	}
	p, err := a.Returning(ctx, wp)
	if err != nil {
		return nil, err
	}
	if p.Branch.Name != wp.Branch || p.Branch.Tip != wp.After || a.Repo.Busy() != "" {
		return nil, &change.MovedError{Branch: wp.Branch, Undo: wp.Name}
	}
	if wp.After != wp.Theirs {
		on, err := a.Repo.OnRemote(ctx, wp.After)
		if err != nil {
			return nil, err
		}
		if on != "" {
			return nil, &plan.Blocked{What: "This join was pushed, to " + on + ".",
				Next: "Others may build on it by now, and it stays there.", Remedy: plan.UndoPushed, Waypoint: wp.Name}
		}
	}
	tr := &Transition{Kind: change.Undoing, Waypoint: *wp, From: a.Repo.Parents(), To: [2]object.ID{wp.Before},
		Keep: wp.Name + "-undone", Begun: time.Now()}
	if wp.TakenOver() {
		if err := a.files.readParents(wp, tr); err != nil {
			return nil, err
		}
	}
	if err := a.layBack(ctx, p, wp, tr); err != nil {
		return nil, err
	}
	if err := a.back(ctx, wp, tr); err != nil {
		return nil, err
	}
	if err := a.marksBack(ctx, tr); err != nil {
		return nil, err
	}
	if err := a.Repo.Keep(ctx, a.Planner.Store, tr.Was, tr.Is); err != nil {
		return nil, err
	}
	if err := a.make(ctx, tr); err != nil {
		return nil, err
	}
	return &tr.Waypoint, nil
}

// Returning returns the position of going back to before a waypoint.
func (a *Applier) Returning(ctx context.Context, wp *ledger.Waypoint) (*plan.Position, error) {
	b, dirty, err := a.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	p := &plan.Position{Branch: b, Yours: b.Tip, Theirs: wp.Before, Dirty: dirty,
		Kind: plan.Returning{Waypoint: wp.Name}, Divergence: &history.Divergence{}}
	p.Carried, err = a.WorkTree.Uncommitted(ctx, b.Tip, dirty)
	return p, err
}

// layBack finds the files before and after an undo.
func (a *Applier) layBack(ctx context.Context, p *plan.Position, wp *ledger.Waypoint, tr *Transition) (err error) {
	after, err := a.Planner.Tree(ctx, wp.After)
	if err != nil {
		return err
	}
	before, err := a.Planner.Tree(ctx, wp.Before)
	if err != nil {
		return err
	}
	tr.Was = after
	if p.Carried != nil {
		tr.Was = p.Carried.Files
	}
	switch {
	case wp.Kept != nil && tr.Was == wp.Kept.Is.Files:
		tr.Is = wp.Kept.Was.Files
	case wp.TakenOver():
		return &plan.Blocked{What: "Files were changed since what was half done was taken over.",
			Next: "Commit them, or put them back, and undo again. Nothing was changed."}
	case p.Carried == nil:
		tr.Is = before
	default:
		r, err := a.Planner.Engine.Trees(ctx, after, tr.Was, before)
		if err != nil {
			return err
		}
		decided, _, err := a.Planner.Files.Resolve(ctx, r, &settle.Decisions{})
		if err != nil {
			return err
		}
		if !r.Clean() {
			return &change.AsksError{Position: p, Paths: pathsOf(r)}
		}
		if tr.Is, err = r.Tree(ctx, decided); err != nil {
			return err
		}
	}
	_, err = a.WorkTree.dir().Between(ctx, tr.Was, tr.Is, workdir.UnknownTo(p.Dirty))
	if over := (*change.OverwriteError)(nil); errors.As(err, &over) {
		return &plan.Blocked{What: "Going back must write where you have files that hg does not know.",
			Next: "Move them away, and undo again. Nothing was changed."}
	}
	return err
}

func pathsOf(r *merge.Result) (out []string) {
	for i := range r.Conflicts {
		out = append(out, r.Conflicts[i].Path)
	}
	return out
}

// back has a transition undo a waypoint: what it replaced comes again, and what it made goes.
func (a *Applier) back(ctx context.Context, wp *ledger.Waypoint, tr *Transition) error {
	k, err := a.files.readKept(wp)
	if err != nil {
		return err
	}
	tr.Branch = k.Branch
	for _, b := range k.Bookmarks {
		tr.Bookmarks = append(tr.Bookmarks, b.Back())
	}
	replaced := filepath.Join(a.files.keepAt(wp.Name), replacedFile)
	if _, err := os.Stat(replaced); err == nil {
		there, err := a.Repo.There(ctx, k.Replaced)
		if err != nil {
			return err
		}
		tr.Bundle = replaced
		tr.Adds = slices.DeleteFunc(k.Replaced, func(id object.ID) bool { return slices.Contains(there, id) })
	}
	stays := slices.DeleteFunc([]object.ID{wp.Before, wp.Theirs, tr.To[0], tr.To[1]}, object.ID.IsZero)
	made, err := history.Only(ctx, a.Planner.Store, wp.After, stays...)
	if err != nil {
		return err
	}
	var stay []object.ID
	if tr.Remove, stay, err = a.Repo.Removable(ctx, plan.IdsOf(made)); err != nil {
		return err
	}
	if len(stay) > 0 {
		a.Ledger.Tell("%s of the join %s, because others build on %[3]s or have %[3]s.", words.Count(len(stay),
			"changeset", "changesets"), words.Is(len(stay), "stays", "stay"), words.Is(len(stay), "it", "them"))
	}
	return nil
}

// readParents has an undo go back into a half-done operation.
func (f *files) readParents(wp *ledger.Waypoint, tr *Transition) error {
	at := f.keepAt(wp.Name)
	text, err := os.ReadFile(filepath.Join(at, parentsFile))
	if err != nil {
		return fmt.Errorf("reading what was half done: %w; nothing was changed", err)
	}
	one, other, _ := strings.Cut(strings.TrimSpace(string(text)), "\n")
	if tr.To[0], err = object.ParseID(one); err == nil && other != "" {
		tr.To[1], err = object.ParseID(other)
	}
	tr.State, tr.Back = wp.Kept.State, filepath.Join(at, stateFolder)
	return err
}

// readKept reads what an undo needs. There is nothing if a waypoint has none.
func (f *files) readKept(wp *ledger.Waypoint) (k kept, err error) {
	data, err := os.ReadFile(filepath.Join(f.keepAt(wp.Name), keptFile))
	if isGone(err) {
		return k, nil
	}
	if err == nil {
		err = exact.Unmarshal(data, &k)
	}
	if err != nil {
		err = fmt.Errorf("reading what waypoint %s kept: %w; nothing was changed", wp.Name, err)
	}
	return k, err
}

// marksBack finds the marks after an undo: those of now with those of before the join or, in a half-done operation,
// what its files have and its first parent does not.
func (a *Applier) marksBack(ctx context.Context, tr *Transition) (err error) {
	if tr.Back != "" {
		return a.files.markAll(ctx, tr)
	}
	if tr.Marks, err = a.Repo.MarksNow(ctx); err != nil {
		return err
	}
	k, err := a.files.readKept(&tr.Waypoint)
	m := &tr.Marks
	m.Added, m.Removed = append(m.Added, k.Marks.Added...), append(m.Removed, k.Marks.Removed...)
	if m.Copies == nil {
		m.Copies = map[string]string{}
	}
	maps.Copy(m.Copies, k.Marks.Copies)
	return err
}

// markAll marks what the files have and the first parent does not.
func (f *files) markAll(ctx context.Context, tr *Transition) error {
	m := &tr.Marks
	m.Added, m.Removed = nil, nil
	from, err := f.Planner.Tree(ctx, tr.To[0])
	if err != nil {
		return err
	}
	return f.Planner.Store.EachChange(ctx, from, tr.Is, func(c object.Change) {
		switch {
		case c.Old.Absent():
			m.Added = append(m.Added, c.Path)
		case c.New.Absent():
			m.Removed = append(m.Removed, c.Path)
		}
	})
}

package svnapply

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/exact"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/svn"
	"dorvik.dev/dorvik/internal/workdir"
)

// GoBack undoes a join; an empty name selects the last one. The files that it changed come back byte for byte, and with
// them what svn knew. What was edited since is merged into them.
func (a *Applier) GoBack(ctx context.Context, name string) (*ledger.Waypoint, error) {
	wp, err := a.Ledger.Store.ToUndo(name)
	if err != nil {
		return nil, err
	}
	p, err := a.Returning(ctx, wp)
	if err != nil {
		return nil, err
	}
	k, err := a.readKept(wp)
	if err != nil {
		return nil, err
	}
	_, base, err := a.Repo.Checked(ctx)
	if err != nil {
		return nil, err
	}
	if p.Branch.Name != wp.Branch || base != k.Base || a.Repo.Busy() != "" {
		return nil, &change.MovedError{Branch: wp.Branch, Undo: wp.Name}
	}
	tr := &Transition{Kind: change.Undoing, Waypoint: *wp, Keep: wp.Name + "-undone", Begun: time.Now(),
		Notes: k.Notes, Marked: k.Marked,
		From: filepath.Join(a.WorkTree.kept(wp.Name+"-undone"), likenessDir)}
	if err := a.layBack(ctx, p, k, tr); err != nil {
		return nil, err
	}
	if err := a.prepareBack(ctx, wp, k, tr); err != nil {
		return nil, errors.Join(err, os.RemoveAll(a.WorkTree.kept(tr.Keep)))
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

// readKept reads what an undo needs.
func (a *Applier) readKept(wp *ledger.Waypoint) (k kept, err error) {
	data, err := os.ReadFile(filepath.Join(a.WorkTree.kept(wp.Name), keptFile))
	if err == nil {
		err = exact.Unmarshal(data, &k)
	}
	if err != nil {
		err = fmt.Errorf("reading what waypoint %s kept: %w; nothing was changed", wp.Name, err)
	}
	return k, err
}

// layBack finds the files before and after an undo.
func (a *Applier) layBack(ctx context.Context, p *plan.Position, k kept, tr *Transition) (err error) {
	if tr.Was, err = a.Planner.Tree(ctx, p.Branch.Tip); err != nil {
		return err
	}
	if p.Carried != nil {
		tr.Was = p.Carried.Files
	}
	if tr.Is = k.Was; tr.Was != k.Is {
		r, err := a.Planner.Engine.Trees(ctx, k.Is, tr.Was, k.Was)
		if err != nil {
			return err
		}
		decided, _, err := a.Planner.Files.Resolve(ctx, r, &settle.Decisions{})
		if err != nil {
			return err
		}
		if !r.Clean() {
			return &plan.Blocked{What: fmt.Sprintf("You edited files since, where going back must change them: %s.",
				pathsOf(r)), Next: "Put your edits aside, and undo again. Nothing was changed."}
		}
		if tr.Is, err = r.Tree(ctx, decided); err != nil {
			return err
		}
	}
	_, err = a.WorkTree.dir().Between(ctx, tr.Was, tr.Is, workdir.UnknownTo(p.Dirty))
	if over := (*change.OverwriteError)(nil); errors.As(err, &over) {
		return &plan.Blocked{What: "Going back must write where you have files that svn does not know.",
			Next: "Move them away, and undo again. Nothing was changed."}
	}
	return err
}

func pathsOf(r *merge.Result) (out string) {
	for i := range r.Conflicts {
		if out != "" {
			out += ", "
		}
		out += r.Conflicts[i].Path
	}
	return out
}

// prepareBack makes the old state beside the working copy, of what was kept.
func (a *Applier) prepareBack(ctx context.Context, wp *ledger.Waypoint, k kept, tr *Transition) error {
	var err error
	if tr.Old, err = svn.HashAt(filepath.Join(a.Repo.Where().Own, keptDatabase)); err != nil {
		return err
	}
	had, err := a.Repo.Dirs(ctx)
	if err != nil {
		return err
	}
	tr.Made, tr.Gone = without(k.Dirs, had), without(had, k.Dirs)
	kept := filepath.Join(a.WorkTree.kept(wp.Name))
	if err := svn.Restore(ctx, a.Repo, filepath.Join(kept, keptDatabase), filepath.Join(tr.From, ".svn"),
		wp.Before); err != nil {
		return err
	}
	if tr.New, err = svn.HashAt(newDatabase(tr)); err != nil {
		return err
	}
	changes, err := a.changes(ctx, tr)
	if err != nil {
		return err
	}
	tr.Stays = staying(changes, k.Dirs)
	for _, c := range changes {
		if c.New.Absent() {
			continue
		}
		if err := a.bring(ctx, filepath.Join(kept, keptFiles), k, tr, c); err != nil {
			return fmt.Errorf("preparing %s as it was: %w; nothing was changed", c.Path, err)
		}
	}
	return nil
}

// bring makes a file as it is to be after an undo: as it was kept or, where it was edited since, of the joined text.
func (a *Applier) bring(ctx context.Context, files string, k kept, tr *Transition, c object.Change) error {
	was, err := a.Planner.Store.Find(ctx, k.Was, c.Path)
	if err != nil {
		return err
	}
	if was.Name, c.New.Name = "", ""; was == c.New {
		if err := svn.CopyWhole(filepath.Join(files, filepath.FromSlash(c.Path)),
			filepath.Join(tr.From, filepath.FromSlash(c.Path))); err == nil || !os.IsNotExist(err) {
			return err
		}
	}
	return svn.WriteFile(ctx, a.Planner.Store, tr.From, c.Path, c.New)
}

package memory

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/vcs"
)

// Open is a workspace over a clone.
func (c *Clone) Open() *recovery.Workspace {
	return recovery.NewWorkspace(recovery.Adapter{
		Repo:     c,
		Store:    c.store(),
		WorkTree: func(p *plan.Planner) change.WorkTree { return &worktree{c, p} },
		Mover: func(p *plan.Planner, l *ledger.Ledger, _ *prove.Prover, tree change.WorkTree) change.Mover {
			return &mover{c, p, l, tree}
		},
		Contains: func(context.Context, string, object.ID, object.ID) bool { return false },
	})
}

// worktree tells of the files of a clone.
type worktree struct {
	c       *Clone
	planner *plan.Planner
}

func (w *worktree) Uncommitted(ctx context.Context, on object.ID, dirty []vcs.Dirty) (*plan.Uncommitted, error) {
	if len(dirty) == 0 {
		return nil, nil
	}
	base, err := w.planner.Tree(ctx, on)
	if err != nil {
		return nil, err
	}
	u := &plan.Uncommitted{On: on, Staged: base, Files: w.c.files}
	for _, d := range dirty {
		u.Paths = append(u.Paths, d.Path)
	}
	u.Add(plan.Part{Base: base, Tree: w.c.files, Subject: "your uncommitted work"})
	return u, nil
}

func (w *worktree) NothingOwn([]vcs.Dirty) bool { return false }

// InTheWay finds files that are not committed and that going to a tree would write.
func (w *worktree) InTheWay(ctx context.Context, p *plan.Position, tree object.ID) error {
	from, err := w.planner.Tree(ctx, p.Head())
	if err != nil {
		return err
	}
	changes, err := w.planner.Store.Changes(ctx, from, tree)
	if err != nil {
		return err
	}
	var paths []string
	for _, d := range p.Dirty {
		if slices.ContainsFunc(changes, func(c object.Change) bool { return c.Path == d.Path }) {
			paths = append(paths, d.Path)
		}
	}
	if len(paths) > 0 {
		return &change.OverwriteError{Paths: paths}
	}
	return nil
}

func (w *worktree) AskHidden(context.Context) func() (map[string]bool, error) {
	return func() (map[string]bool, error) { return nil, nil }
}

func (w *worktree) Touched(ctx context.Context, p *plan.Position, tree object.ID) (*change.Touched, error) {
	from, err := w.planner.Tree(ctx, p.Head())
	if err != nil {
		return nil, err
	}
	out := &change.Touched{}
	return out, w.planner.Store.EachChange(ctx, from, tree, func(c object.Change) {
		out.Paths = append(out.Paths,
			c.Path)
	})
}

// HalfDone finds nothing: a change is made at once.
func (w *worktree) HalfDone() (*change.HalfDone, bool, error) { return nil, false, nil }

// mover moves a clone's branch and files together.
type mover struct {
	c       *Clone
	planner *plan.Planner
	ledger  *ledger.Ledger
	tree    change.WorkTree
}

func (m *mover) Begin(context.Context) error                                 { return nil }
func (m *mover) End()                                                        {}
func (m *mover) TookBack() bool                                              { return false }
func (m *mover) AsideAt(*ledger.Waypoint) string                             { return "" }
func (m *mover) Forget(*ledger.Waypoint) error                               { return nil }
func (m *mover) Sign(_ context.Context, commit object.ID) (object.ID, error) { return commit, nil }
func (m *mover) Signatures() map[object.ID]object.ID                         { return nil }
func (m *mover) AgreeToHooks(context.Context, []*vcs.Hook) error             { return nil }
func (m *mover) AskToPush(context.Context, change.Consent) error             { return nil }

// Accept goes to a join that was built.
func (m *mover) Accept(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built, consent change.Consent,
	what string) (*ledger.Waypoint, error) {
	if m.c.tip() != p.Yours || m.c.branch != p.Branch.Name {
		return nil, &change.MovedError{Branch: p.Branch.Name}
	}
	if published, err := m.planner.Published(ctx, j); err != nil {
		return nil, err
	} else if len(published) > 0 && !consent.RewritePublished {
		return nil, &plan.PublishedError{Commits: published}
	}
	tree, err := m.planner.Tree(ctx, b.Tip)
	if err != nil {
		return nil, err
	}
	now := *p
	if _, now.Dirty, err = m.c.Status(ctx); err != nil {
		return nil, err
	}
	files := tree
	if j.Carried != nil {
		files = j.Carried.Files
	} else if err := m.tree.InTheWay(ctx, &now, tree); err != nil {
		return nil, err
	} else if files, err = m.besides(ctx, &now, tree); err != nil {
		return nil, err
	}
	if err := m.c.Keep(ctx, m.planner.Store, append(b.Tips(), files)...); err != nil {
		return nil, err
	}
	wp := m.ledger.NewWaypoint(p, j, b.Tip, tree)
	if wp.Name, err = m.ledger.Store.NextName(); err != nil {
		return nil, err
	}
	wp.Kept = &ledger.Kept{Was: plan.Held{Staged: m.c.files, Files: m.c.files},
		Is: plan.Held{Staged: files, Files: files}}
	if err := m.c.UpdateRefs(ctx, what, vcs.RefUpdate{Name: wp.Ref(), New: wp.Before},
		vcs.RefUpdate{Name: p.Branch.Full(), New: b.Tip, Old: p.Yours}); err != nil {
		return nil, err
	}
	m.c.files = files
	return wp, m.ledger.Joined(wp)
}

// Switch goes to another branch. Work that is not committed stays, unless the other branch has something else there.
func (m *mover) Switch(ctx context.Context, branch string) error {
	b, dirty, err := m.c.Status(ctx)
	if err != nil {
		return err
	}
	to, err := m.c.Ref(ctx, "refs/heads/"+branch)
	if err != nil {
		return err
	}
	if to.IsZero() {
		return &plan.Blocked{What: "There is no branch " + branch + ".", Next: "Nothing was changed."}
	}
	tree, err := m.planner.Tree(ctx, to)
	if err != nil {
		return err
	}
	p := plan.Alone(b, b.Tip)
	p.Dirty = dirty
	if err := m.tree.InTheWay(ctx, p, tree); err != nil {
		return err
	}
	if m.c.files, err = m.besides(ctx, p, tree); err != nil {
		return err
	}
	return m.c.SetHead(ctx, branch, to, "")
}

// besides is a tree with the work that is not committed and not in its way.
func (m *mover) besides(ctx context.Context, p *plan.Position, tree object.ID) (object.ID, error) {
	work := map[string]object.Entry{}
	for _, d := range p.Dirty {
		e, err := m.planner.Store.Find(ctx, m.c.files, d.Path)
		if err != nil {
			return tree, err
		}
		work[d.Path] = e
	}
	if len(work) == 0 {
		return tree, nil
	}
	return m.planner.Store.Edit(ctx, tree, maps.Clone(work))
}

// GoBack goes back to before a waypoint. What was edited since is joined.
func (m *mover) GoBack(ctx context.Context, name string) (*ledger.Waypoint, error) {
	wp, err := m.ledger.Store.ToUndo(name)
	if err != nil {
		return nil, err
	}
	if m.c.tip() != wp.After || m.c.branch != wp.Branch {
		return nil, &change.MovedError{Branch: wp.Branch, Undo: wp.Name}
	}
	files := wp.Kept.Was.Files
	if m.c.files != wp.Kept.Is.Files {
		r, err := m.planner.Engine.Trees(ctx, wp.Kept.Is.Files, m.c.files, files)
		if err != nil {
			return nil, err
		}
		decided, _, err := m.planner.Files.Resolve(ctx, r, &settle.Decisions{})
		if err != nil {
			return nil, err
		}
		if !r.Clean() {
			p, err := m.Returning(ctx, wp)
			if err != nil {
				return nil, err
			}
			return nil, &change.AsksError{Position: p, Paths: pathsOf(r)}
		}
		if files, err = r.Tree(ctx, decided); err != nil {
			return nil, err
		}
		if err := m.c.Keep(ctx, m.planner.Store, files); err != nil {
			return nil, err
		}
	}
	if err := m.c.UpdateRefs(ctx, fmt.Sprintf("reset: moving to %s", wp.Before),
		vcs.RefUpdate{Name: "refs/heads/" + wp.Branch, New: wp.Before, Old: wp.After}); err != nil {
		return nil, err
	}
	m.c.files = files
	return wp, m.ledger.Undone(wp)
}

func pathsOf(r *merge.Result) (out []string) {
	for i := range r.Conflicts {
		out = append(out, r.Conflicts[i].Path)
	}
	return out
}

// Returning is the position of going back to before a waypoint.
func (m *mover) Returning(ctx context.Context, wp *ledger.Waypoint) (*plan.Position, error) {
	b, dirty, err := m.c.Status(ctx)
	if err != nil {
		return nil, err
	}
	p := &plan.Position{Branch: b, Yours: wp.After, Theirs: wp.Before, Kind: plan.Returning{Waypoint: wp.Name},
		Dirty: dirty}
	p.Carried, err = m.tree.Uncommitted(ctx, wp.After, dirty)
	if err == nil {
		err = m.planner.Part(ctx, p)
	}
	return p, err
}

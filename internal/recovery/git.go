package recovery

import (
	"context"
	"os"
	"path/filepath"

	"dorvik.dev/dorvik/internal/apply"
	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/vcs"
)

// This file alone knows git.

// openGit opens the git repository that contains a folder.
func openGit(ctx context.Context, dir string) (*Workspace, error) {
	repo, err := git.Open(ctx, dir)
	if err != nil {
		return nil, err
	}
	return overGit(repo, object.NewOverlay(repo.Format, repo)), nil
}

// OwnSettings are a person's settings of a system, for all repositories.
type OwnSettings interface {
	// Get returns the value of a key. ok is false if it is not set.
	Get(ctx context.Context, key string) (value string, ok bool, err error)
	Set(ctx context.Context, key, value string) error
	Unset(ctx context.Context, key string) error
}

// GitSettings returns the person's settings of git.
func GitSettings() OwnSettings { return git.Global{} }

// planGit is openGit that reads ahead for joining two revisions. Empty ones mean the branch and its upstream.
func planGit(ctx context.Context, dir, yours, theirs string) (*Workspace, error) {
	var s *plan.Scout
	var early *git.Early
	repo, err := git.OpenEarly(ctx, dir, func(e *git.Early) {
		early = e
		s = plan.SendOut(ctx, object.NewOverlay(e.Objects().Format, e.Objects()), e.Resolve, yours, theirs)
	})
	if s != nil && (err != nil || !early.Is(repo)) {
		s.Stop()
		s = nil
	}
	if err != nil {
		return nil, err
	}
	if s == nil {
		return overGit(repo, object.NewOverlay(repo.Format, repo)), nil
	}
	w := overGit(repo, s.Store)
	w.Planner.Scout = s
	return w, nil
}

// overGit opens a workspace over a git repository.
func overGit(repo *git.Repo, store *object.Overlay) *Workspace {
	tree := &apply.WorkTree{Repo: repo}
	return NewWorkspace(Adapter{
		Repo:  repo,
		Store: store,
		WorkTree: func(p *plan.Planner) change.WorkTree {
			tree.Planner = p
			return tree
		},
		Mover: func(p *plan.Planner, l *ledger.Ledger, prover *prove.Prover, _ change.WorkTree) change.Mover {
			return apply.New(repo, p, l, prover, tree)
		},
		Contains: func(ctx context.Context, path string, older, newer object.ID) bool {
			return submoduleContains(ctx, filepath.Join(repo.Dir, filepath.FromSlash(path)), older, newer)
		},
	})
}

// submoduleContains asks the submodule in a folder whether newer contains older. It returns false if the submodule is
// not checked out.
func submoduleContains(ctx context.Context, dir string, older, newer object.ID) bool {
	if _, err := os.Lstat(filepath.Join(dir, ".git")); err != nil {
		return false // not cloned: git would answer for the repository around it
	}
	sub, err := git.Open(ctx, dir)
	if err != nil {
		return false
	}
	defer sub.Close()
	held, err := history.IsAncestor(ctx, object.NewOverlay(sub.Format, sub), older, newer)
	return err == nil && held
}

// layOutTwo creates a repository whose branch and upstream are at the given commits.
func layOutTwo(ctx context.Context, dir string, who object.Signature, store *object.Overlay, yours,
	theirs object.ID) error {
	if err := git.InitClone(dir, ".", "main", who.Name, who.Email); err != nil {
		return err
	}
	r := git.At(filepath.Join(dir, ".git"))
	defer r.Close()
	if err := r.Keep(ctx, store, yours, theirs); err != nil {
		return err
	}
	if err := r.UpdateRefs(ctx, "settle", vcs.RefUpdate{Name: "refs/remotes/origin/main", New: theirs},
		vcs.RefUpdate{Name: "refs/heads/main", New: yours}); err != nil {
		return err
	}
	work, err := git.Open(ctx, dir)
	if err != nil {
		return err
	}
	defer work.Close()
	return work.Checkout(ctx, yours)
}

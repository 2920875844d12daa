package recovery

import (
	"context"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/plan"
)

// OpenToPlan is OpenWorkspace for what two revisions would be joined to; empty ones stand for the branch and what it
// follows.
func OpenToPlan(ctx context.Context, dir, yours, theirs string) (*Workspace, error) {
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
		return newWorkspace(repo, object.NewOverlay(repo.Format, repo)), nil
	}
	w := newWorkspace(repo, s.Store)
	w.Planner.Scout = s
	return w, nil
}

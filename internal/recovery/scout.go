package recovery

import (
	"context"

	"dorvik.dev/dorvik/internal/core/caught"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
)

// scout reads ahead what a plan will need: from before git has said what the repository is, and while the routes are
// worked out. What it finds is used where it looked at what is asked for, and dropped elsewhere.
type scout struct {
	early *git.Early
	store *object.Overlay
	stop  context.CancelFunc

	yours, theirs object.ID // what it took for the two lines; set with the following
	divergence    *history.Divergence
	parted, done  chan struct{} // closed when these, and all, are known
	trees         misfit.Trees  // that were looked into
	sides         *misfit.Sides // what of them could misfit; nil where it was not read
}

// OpenToPlan is OpenWorkspace for what two revisions would be joined to; empty ones stand for the branch and what it
// follows.
func OpenToPlan(ctx context.Context, dir, yours, theirs string) (*Workspace, error) {
	var s *scout
	repo, err := git.OpenEarly(ctx, dir, func(e *git.Early) { s = sendOut(ctx, e, yours, theirs) })
	if s != nil && (err != nil || !s.early.Is(repo)) {
		s.stop()
		s = nil
	}
	if err != nil {
		return nil, err
	}
	if s == nil {
		return newWorkspace(repo, object.NewOverlay(repo.Format, repo)), nil
	}
	w := newWorkspace(repo, s.store)
	w.scout = s
	return w, nil
}

// sendOut has a scout begin.
func sendOut(ctx context.Context, e *git.Early, yours, theirs string) *scout {
	s := &scout{early: e, store: object.NewOverlay(e.Objects().Format, e.Objects()), parted: make(chan struct{}),
		done: make(chan struct{})}
	ctx, s.stop = context.WithCancel(ctx)
	if yours == "" {
		yours = "HEAD"
	}
	go func() {
		defer close(s.done)
		_ = caught.Do(func() error { // what fails here fails again where it is asked for, and is told there
			if base := s.part(ctx, yours, theirs); !base.IsZero() {
				s.look(ctx, base)
			}
			return nil
		})
	}()
	return s
}

// part finds where the two lines part. It gives their base where there is something to join.
func (s *scout) part(ctx context.Context, yours, theirs string) (base object.ID) {
	defer close(s.parted)
	s.yours, s.theirs = s.early.Resolve(yours), s.early.Resolve(theirs)
	if s.yours.IsZero() || s.theirs.IsZero() {
		return base
	}
	d, err := history.Diverge(ctx, s.store, s.yours, s.theirs)
	if err != nil {
		return base // it is told where it is asked for
	}
	s.divergence = d
	if len(d.Yours) > 0 && len(d.Theirs) > 0 && len(d.Bases) > 0 {
		base = d.Bases[0]
	}
	return base
}

// look reads what both sides changed.
func (s *scout) look(ctx context.Context, base object.ID) {
	t := misfit.Trees{}
	for _, one := range []struct {
		commit object.ID
		to     *object.ID
	}{{base, &t.Base}, {s.yours, &t.Yours}, {s.theirs, &t.Theirs}} {
		c, err := s.store.Commit(one.commit)
		if err != nil {
			return
		}
		*one.to = c.Tree
	}
	if sides, err := misfit.Read(ctx, s.store, t.Base, t.Yours, t.Theirs); err == nil {
		s.trees, s.sides = t, sides
	}
}

// partOf gives where two lines part, if that was found out.
func (s *scout) partOf(yours, theirs object.ID) *history.Divergence {
	if s == nil {
		return nil
	}
	<-s.parted
	if s.yours != yours || s.theirs != theirs {
		s.stop() // it is after something else
		return nil
	}
	return s.divergence
}

// sidesOf gives what could misfit of trees, if that was read.
func (s *scout) sidesOf(ctx context.Context, t misfit.Trees) *misfit.Sides {
	if s == nil {
		return nil
	}
	select {
	case <-s.done:
	case <-ctx.Done():
		return nil
	}
	if t.Joined = (object.ID{}); s.trees != t {
		return nil
	}
	return s.sides
}

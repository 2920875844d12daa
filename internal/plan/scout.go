package plan

import (
	"context"

	"dorvik.dev/dorvik/internal/core/caught"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/core/object"
)

// Scout reads objects in advance, while git is still starting. Its results are used only if they match what is asked
// later.
type Scout struct {
	Store *object.Overlay
	Done  <-chan struct{} // closed when the scout is done
	Stop  context.CancelFunc

	yours, theirs object.ID // the tips that the scout used; valid when parted is closed
	divergence    *history.Divergence
	parted        chan struct{} // closed when yours and theirs are known
	trees         misfit.Trees  // trees that were searched
	sides         *misfit.Sides // names in them that can misfit; nil if not read
}

// SendOut starts a scout for two revisions. Empty ones mean HEAD and its upstream. resolve returns the zero id for
// revisions it does not know.
func SendOut(ctx context.Context, store *object.Overlay, resolve func(rev string) object.ID, yours,
	theirs string) *Scout {
	done := make(chan struct{})
	s := &Scout{Store: store, Done: done, parted: make(chan struct{})}
	ctx, s.Stop = context.WithCancel(ctx)
	if yours == "" {
		yours = "HEAD"
	}
	go func() {
		defer close(done)
		_ = caught.Do(func() error { // an error here occurs again when the result is needed, and is reported there
			if base := s.part(ctx, resolve(yours), resolve(theirs)); !base.IsZero() {
				s.look(ctx, base)
			}
			return nil
		})
	}()
	return s
}

// part computes where the lines diverge. It returns their base if there is something to join.
func (s *Scout) part(ctx context.Context, yours, theirs object.ID) (base object.ID) {
	defer close(s.parted)
	s.yours, s.theirs = yours, theirs
	if s.yours.IsZero() || s.theirs.IsZero() {
		return base
	}
	d, err := history.Diverge(ctx, s.Store, s.yours, s.theirs)
	if err != nil {
		return base // the error is reported when the result is needed
	}
	s.divergence = d
	if len(d.Yours) > 0 && len(d.Theirs) > 0 && len(d.Bases) > 0 {
		base = d.Bases[0]
	}
	return base
}

// look reads the changes of both sides.
func (s *Scout) look(ctx context.Context, base object.ID) {
	t := misfit.Trees{}
	for _, one := range []struct {
		commit object.ID
		to     *object.ID
	}{{base, &t.Base}, {s.yours, &t.Yours}, {s.theirs, &t.Theirs}} {
		c, err := s.Store.Commit(ctx, one.commit)
		if err != nil {
			return
		}
		*one.to = c.Tree
	}
	if sides, err := misfit.Read(ctx, s.Store, t.Base, t.Yours, t.Theirs); err == nil {
		s.trees, s.sides = t, sides
	}
}

// PartOf returns where two lines diverge, or nil if the scout looked elsewhere.
func (s *Scout) PartOf(yours, theirs object.ID) *history.Divergence {
	if s == nil {
		return nil
	}
	<-s.parted
	if s.yours != yours || s.theirs != theirs {
		s.Stop() // the scout searches for another position
		return nil
	}
	return s.divergence
}

// sidesOf returns the changes of both sides, or nil if the scout did not read them.
func (s *Scout) sidesOf(ctx context.Context, t misfit.Trees) *misfit.Sides {
	if s == nil {
		return nil
	}
	select {
	case <-s.Done:
	case <-ctx.Done():
		return nil
	}
	if t.Joined = (object.ID{}); s.trees != t {
		return nil
	}
	return s.sides
}

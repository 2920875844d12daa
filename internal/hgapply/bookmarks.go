package hgapply

import (
	"cmp"
	"context"
	"slices"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/hg"
	"dorvik.dev/dorvik/internal/plan"
)

// moved tells where changesets are after a change.
type moved struct {
	*Applier
	theirs object.ID
	became map[object.ID]object.ID
}

// becameOf returns what became of changesets that are made again.
func becameOf(p *plan.Position, m *hg.Making, origin map[object.ID]object.ID) map[object.ID]object.ID {
	became := map[object.ID]object.ID{}
	for commit, was := range origin {
		became[was] = cmp.Or(m.Of[commit], commit)
	}
	if p.Stuck != nil {
		for was, is := range p.Stuck.Left.Remade {
			became[was] = cmp.Or(became[is], is)
		}
	}
	return became
}

// moveBookmarks has the active bookmark go along, and those of changesets that are removed go to what became of them
// or, if that is nothing, of those below.
func (m *moved) moveBookmarks(ctx context.Context, tr *Transition, tip object.ID) error {
	all, err := m.Repo.Bookmarks(ctx, tr.Remove)
	if err != nil {
		return err
	}
	for _, b := range all {
		if b.To = tip; !b.Active {
			if b.To, err = m.above(ctx, b.From, tr.Remove); err != nil {
				return err
			}
		}
		tr.Bookmarks = append(tr.Bookmarks, b)
	}
	return nil
}

// above returns what became of a changeset that is removed, or of the nearest one below that did not vanish.
func (m *moved) above(ctx context.Context, at object.ID, removed []object.ID) (object.ID, error) {
	for slices.Contains(removed, at) && m.became[at].IsZero() {
		c, err := m.Planner.Store.Commit(ctx, at)
		if err != nil {
			return at, err
		}
		if len(c.Parents) == 0 || !slices.Contains(removed, c.Parents[0]) {
			return cmp.Or(m.theirs, at), nil
		}
		at = c.Parents[0]
	}
	return cmp.Or(m.became[at], at), nil
}

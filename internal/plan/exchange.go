package plan

import (
	"context"
	"slices"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Exchange describes what is lost sight of if the remote branch is replaced by yours. All of it is the person's own
// work: commits that were rewritten or taken back here after they were pushed.
type Exchange struct {
	Old  object.ID // the remote branch's tip, which is replaced
	Goes []Replaced
	// Others has commits by others that yours does not contain in any form. They forbid the exchange.
	Others []history.Node
}

// Replaced is a commit that an exchange takes out of the remote branch.
type Replaced struct {
	history.Node
	Now object.ID // the commit of yours with the same change, or made from it; zero if there is none
}

// Exchange reports whether the commits that the remote has and yours lacks are earlier forms of your own work. It
// returns nil if they are not: if they were not pushed from here and some have no counterpart in yours.
func (pn *Planner) Exchange(ctx context.Context, p *Position) (*Exchange, error) {
	switch p.Kind.(type) {
	case nil, Following:
	default:
		return nil, nil
	}
	if len(p.Divergence.Theirs) == 0 || p.Branch.Upstream == "" || p.Stuck != nil {
		return nil, nil
	}
	who, err := pn.Source.Committer(ctx)
	if err != nil {
		return nil, nil // without an identity nothing is known to be one's own
	}
	held := pn.pushedHere(ctx, p)
	if !held && len(p.Divergence.Theirs) > len(p.Divergence.Yours) {
		return nil, nil // some have no counterpart
	}
	same, err := pn.Changes.Same(ctx, pn.Engine, p.Divergence.Theirs, p.Divergence.Yours)
	if err != nil {
		return nil, err
	}
	remade := remadeBy(p.Divergence.Yours, p.Divergence.Theirs)
	x := &Exchange{Old: p.Theirs}
	for _, n := range p.Divergence.Theirs {
		now := same[n.ID].ID
		if now.IsZero() && held { // without that, equal dates prove nothing
			now = remade[n.ID]
		}
		switch {
		case !now.IsZero():
		case n.Author().Key() != who.Key() || n.Commit.Committer.Key() != who.Key():
			x.Others = append(x.Others, n)
		case !held: // made elsewhere, and not here in any form
			return nil, nil
		}
		x.Goes = append(x.Goes, Replaced{n, now})
	}
	if len(x.Others) == len(x.Goes) || !held && len(x.Others) > 0 {
		return nil, nil // nothing of it is known here
	}
	return x, nil
}

// remadeBy returns for each commit of theirs the one of yours that was made from it by amending or rewording, which
// keeps author and date. Commits that share them with others are left out.
func remadeBy(yours, theirs []history.Node) map[object.ID]object.ID {
	only := func(list []history.Node) map[string]object.ID {
		out := map[string]object.ID{}
		for _, n := range list {
			if _, twice := out[n.AuthorLine]; twice {
				out[n.AuthorLine] = object.ID{}
			} else {
				out[n.AuthorLine] = n.ID
			}
		}
		return out
	}
	out, mine := map[object.ID]object.ID{}, only(yours)
	for line, id := range only(theirs) {
		if now := mine[line]; !id.IsZero() && !now.IsZero() {
			out[id] = now
		}
	}
	return out
}

// pushedHere reports whether the remote branch's tip was pushed from here. The branch here then had all its commits.
func (pn *Planner) pushedHere(ctx context.Context, p *Position) bool {
	return slices.ContainsFunc(pn.Source.Reflog(ctx, p.Branch.Tracking), func(m vcs.RefMove) bool {
		return m.To == p.Theirs && m.Why == pushedFromHere
	})
}

// pushedFromHere is what git writes into the reflog of a remote-tracking branch after a push.
const pushedFromHere = "update by push"

package apply

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
)

// signer signs the commits of a join if the person wants that.
type signer struct {
	Repo    *git.Repo
	planner *plan.Planner
	carrier *carrier
	signed  map[object.ID]object.ID // signed commits, by the id of the unsigned one
}

// sign makes signed versions of the new commits and returns the new tip.
func (s *signer) sign(ctx context.Context, b plan.Built) (object.ID, error) {
	wanted, err := s.Repo.SignsCommits(ctx)
	if err != nil || !wanted {
		return b.Tip, err
	}
	ids := b.IDs
	if len(ids) == 0 {
		ids = []object.ID{b.Tip}
	}
	for _, id := range ids { // parents first
		if id.IsZero() || !s.planner.Store.Made(id) {
			continue
		}
		made, err := s.planner.Store.Commit(ctx, id)
		if err != nil {
			return b.Tip, err
		}
		c := *made
		c.Parents = nil
		for _, p := range made.Parents {
			c.Parents = append(c.Parents, s.signedAs(p))
		}
		signed, err := s.Repo.SignCommit(ctx, &c)
		if err != nil {
			return b.Tip, fmt.Errorf("%w; nothing was changed", err)
		}
		if s.signed == nil {
			s.signed = map[object.ID]object.ID{}
		}
		s.signed[id] = signed
	}
	return s.signedAs(b.Tip), nil
}

// signedAs returns the signed version of a commit, or the commit itself.
func (s *signer) signedAs(id object.ID) object.ID {
	if to, ok := s.signed[id]; ok {
		return to
	}
	return id
}

// signatures maps commits to their signed versions.
func (s *signer) signatures() map[object.ID]object.ID { return maps.Clone(s.signed) }

// sealed signs the commits if wanted and returns the tip.
func (s *signer) sealed(ctx context.Context, b plan.Built) (object.ID, error) {
	tip, err := s.sign(ctx, b)
	if err == nil {
		err = s.planner.TellApart(ctx, slices.Collect(maps.Values(s.signed)))
	}
	return tip, err
}

// Sign returns a signed version of a stored commit, or the commit itself if commits are not signed.
func (a *Applier) Sign(ctx context.Context, commit object.ID) (object.ID, error) {
	return a.signer.sealed(ctx, plan.Built{Tip: commit})
}

// movesOf lists the moves of other branches, to signed commits.
func (s *signer) movesOf(b plan.Built) (out []ledger.Move) {
	for _, m := range b.Moves {
		if m.Step >= 0 {
			m.To = b.IDs[m.Step]
		}
		if m.To = s.signedAs(m.To); m.To != m.From && !m.To.IsZero() {
			out = append(out, ledger.Move{Branch: m.Name, From: m.From, To: m.To})
		}
	}
	return out
}

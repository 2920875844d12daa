package recovery

import (
	"context"
	"fmt"
	"os"
	"slices"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// LeftAside is a stash entry that git made before a pull and could not apply afterwards.
type LeftAside struct {
	ID    object.ID
	When  time.Time
	Paths []string // paths that it changes
}

// LeftAside returns the newest such entry that was not restored, or nil.
func (s *Session) LeftAside(ctx context.Context) (*LeftAside, error) {
	for _, m := range slices.Backward(s.Repo.Reflog(ctx, "refs/stash")) {
		if m.Why != "autostash" || s.Ledger.AgreedTo(ledger.BroughtBack(m.To)) {
			continue
		}
		out := &LeftAside{ID: m.To, When: m.When}
		c, err := s.Planner.Store.Commit(ctx, m.To)
		if err != nil || len(c.Parents) < 2 {
			continue // the stash is gone or has another form
		}
		base, err := s.Planner.Tree(ctx, c.Parents[0])
		if err != nil {
			return nil, err
		}
		changes, err := s.Planner.Store.Changes(ctx, base, c.Tree)
		if err != nil {
			return nil, err
		}
		for _, ch := range changes {
			out.Paths = append(out.Paths, ch.Path)
		}
		return out, nil
	}
	return nil, nil
}

// BringBack merges the entry into the current files and stages what was staged. If that needs a decision, the error is
// a *change.AsksError and nothing changes. The stash keeps the entry.
func (s *Session) BringBack(ctx context.Context, l *LeftAside) (*ledger.Waypoint, error) {
	b, dirty, err := s.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	p := &plan.Position{Branch: b, Yours: b.Tip, Theirs: b.Tip, Dirty: dirty, Kind: plan.BringingBack{Stash: l.ID},
		Divergence: &history.Divergence{}}
	if p.Carried, err = s.WorkTree.Uncommitted(ctx, b.Tip, dirty); err != nil {
		return nil, err
	}
	if p.Carried == nil {
		tree, err := s.Planner.Tree(ctx, b.Tip)
		if err != nil {
			return nil, err
		}
		p.Carried = &plan.Uncommitted{On: b.Tip, Staged: tree, Files: tree, Seen: map[string]os.FileInfo{}}
	}
	if err := s.Planner.Resumer.PutAside(ctx, l.ID, p.Carried); err != nil {
		return nil, err
	}
	st := s.Ledger.State()
	j, err := s.Planner.Join(ctx, p, "", &st.Decisions, plan.Amends{}, nil)
	if err != nil {
		return nil, err
	}
	if j.Open > 0 {
		return nil, &change.AsksError{Position: p, Paths: j.Carried.Asking()}
	}
	return s.FastForward(ctx, p, change.Consent{})
}

// Sentence describes the entry.
func (l *LeftAside) Sentence() string {
	return fmt.Sprintf("git put uncommitted work aside before a pull on %s, could not bring it back, and left it in "+
		"the stash: %s. Press k to have it joined with your files as they are.", l.When.Format("2 Jan 2006"),
		words.List(words.Some(l.Paths, 3)))
}

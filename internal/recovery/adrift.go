package recovery

import (
	"context"
	"fmt"
	"slices"
	"time"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/words"
)

// Adrift is a line of commits that were made here and that no ref reaches: left by a reset or a failed attempt.
type Adrift struct {
	Tip     object.ID
	Commits []history.Node // newest first
	Since   time.Time      // time of the newest
}

// Sentence describes the commits.
func (a *Adrift) Sentence() string {
	var names []string
	for _, n := range a.Commits {
		names = append(names, "“"+n.Subject()+"”")
	}
	return fmt.Sprintf("%s made here %s on no branch: %s.", words.Count(len(a.Commits), "commit", "commits"),
		words.Is(len(a.Commits), "is", "are"), words.List(words.Some(names, 3)))
}

// how far back is looked: in the reflog, and along the branch.
const (
	adriftEntries = 200
	adriftLine    = 1000
)

// Adrift returns the newest unreachable commits that were made here and not rewritten, or nil.
func (w *Workspace) Adrift(ctx context.Context) (*Adrift, error) {
	b, err := w.Repo.Current(ctx)
	if err != nil || b.Tip.IsZero() {
		return nil, err
	}
	loose, err := w.Repo.Loose(ctx, w.madeHere(ctx))
	if err != nil || len(loose) == 0 {
		return nil, err
	}
	again := map[string]bool{} // key of author, date and subject, which a replayed commit keeps
	for _, n := range w.Planner.Below(ctx, b.Tip, adriftLine) {
		again[n.AuthorLine] = true
	}
	isLoose := map[object.ID]bool{}
	for _, id := range loose {
		isLoose[id] = true
	}
	for _, id := range loose { // start at the newest one that was not replayed
		out := &Adrift{Tip: id}
		for _, n := range w.Planner.Below(ctx, id, adriftLine) {
			if !isLoose[n.ID] {
				break
			}
			if !again[n.AuthorLine] {
				out.Commits = append(out.Commits, n)
			}
		}
		if len(out.Commits) > 0 && out.Commits[0].ID == id {
			out.Since = time.Unix(out.Commits[0].Commit.Committer.When, 0)
			return out, nil
		}
	}
	return nil, nil
}

// madeHere returns the commits in HEAD's reflog that were made by hand, newest first.
func (w *Workspace) madeHere(ctx context.Context) (ids []object.ID) {
	moves := w.Repo.Reflog(ctx, "HEAD")
	for _, m := range slices.Backward(moves[max(0, len(moves)-adriftEntries):]) {
		if prove.MadeByHand(m.Why) && !slices.Contains(ids, m.To) {
			ids = append(ids, m.To)
		}
	}
	return ids
}

// KeepAdrift creates a branch for the commits and returns its name.
func (w *Workspace) KeepAdrift(ctx context.Context, a *Adrift) (string, error) {
	return w.keptBranch(ctx, a.Tip)
}

package recovery

import (
	"context"
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// About is a pushed commit that the words of a refusal name.
type About struct {
	Commit history.Node
	Path   string // file that they name; empty if only the commit
}

// Sentence describes it.
func (a *About) Sentence() string {
	if a.Path == "" {
		return fmt.Sprintf("The server's words name this commit, “%s”.", a.Commit.Subject())
	}
	return fmt.Sprintf("The server's words name %s, which is in “%s”.", a.Path, a.Commit.Subject())
}

// About finds what the words of a refusal name among some commits: a commit by the first digits of its id, or by a file
// that it added or changed. It returns nil if they name nothing.
func (ps *Pusher) About(ctx context.Context, r *vcs.Refusal, commits []history.Node) (*About, error) {
	said := strings.Join(append(r.Words, r.Short), "\n")
	const leastDigits = 7
	for _, n := range commits {
		if strings.Contains(said, n.ID.Prefix(leastDigits)) {
			out := &About{Commit: n}
			return out, ps.path(ctx, n, said, func(path string) { out.Path = path })
		}
	}
	var found *About
	for _, n := range commits { // newest first: the oldest commit that names a file brought it in
		err := ps.path(ctx, n, said, func(path string) { found = &About{n, path} })
		if err != nil {
			return nil, err
		}
	}
	return found, nil
}

// path passes a file that a commit changes and that a text names, if there is one.
func (ps *Pusher) path(ctx context.Context, n history.Node, said string, found func(path string)) error {
	before, err := history.FirstParentTree(ctx, ps.s.Planner.Store, n.Commit)
	if err != nil {
		return err
	}
	return ps.s.Planner.Store.EachChange(ctx, before, n.Tree, func(c object.Change) {
		if strings.Contains(said, c.Path) && !c.New.Absent() {
			found(c.Path)
		}
	})
}

package git

import (
	"context"
	"fmt"
	"os"

	"dorvik.dev/dorvik/internal/vcs"
)

// Open opens the repository that contains a directory.
func Open(ctx context.Context, dir string) (*Repo, error) {
	return OpenEarly(ctx, dir, func(*Early) {})
}

// OpenEarly is Open, but calls early with a guess of the repository before git has confirmed it, so that reading can
// begin. If the guess was wrong the caller must drop what it read.
func OpenEarly(ctx context.Context, dir string, early func(*Early)) (*Repo, error) {
	if dir == "" {
		dir = "."
	}
	if st, err := os.Stat(dir); err != nil || !st.IsDir() {
		return nil, fmt.Errorf("no such folder: %s", dir)
	}
	r, ok := discover(ctx, dir, early)
	if !ok {
		r = newRepo(&Place{Dir: dir})
		if err := r.ask(ctx); err != nil {
			return nil, err
		}
		r.reading()
	}
	r.known.Store(true)
	return r, nil
}

// Repo is a git repository with a working tree.
type Repo struct {
	*Place
	*Configuration
	*Objects
	*Refs
	*Wire
	*Tree
	*HookRunner
	*Checkouts
}

// Repo is one of the systems that the rooms know.
var _ vcs.System = (*Repo)(nil)

// newRepo returns a repository at a place, which may not be confirmed yet.
func newRepo(at *Place) *Repo {
	c := &Configuration{Place: at}
	o := &Objects{Place: at}
	refs := &Refs{Place: at, config: c, objects: o}
	tree := &Tree{Place: at, config: c, objects: o, refs: refs}
	h := &HookRunner{Place: at, config: c}
	at.guard = h.guard
	return &Repo{Place: at, Configuration: c, Objects: o, Refs: refs, Wire: &Wire{at, c}, Tree: tree, HookRunner: h,
		Checkouts: &Checkouts{Place: at, config: c, refs: refs, objects: o, tree: tree}}
}

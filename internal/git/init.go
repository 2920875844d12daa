package git

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"dorvik.dev/dorvik/internal/core/object"
)

// At returns the repository at a directory, which must use SHA-1 ids. It may be bare.
func At(dir string) *Repo {
	r := newRepo(&Place{Dir: dir, GitDir: dir})
	r.pool = newPool(r.Objects)
	return r
}

// Bare returns the bare repository at a directory, which must use SHA-1 ids. Unlike that of At it can be read without
// asking git.
func Bare(dir string) *Repo {
	r := newRepo(&Place{Dir: dir, GitDir: dir, Common: dir})
	r.pool, r.store = newPool(r.Objects), r.openStore()
	r.known.Store(true)
	return r
}

// InitBare creates an empty bare repository as gitrepository-layout documents it.
func InitBare(dir string) error { return layOut(dir, "[core]\n\tbare = true\n") }

// InitClone creates a repository without objects whose branch follows the branch of the same name of a remote. Its
// checkouts lie beside it.
func InitClone(dir, remote, branch, name, email string) error {
	return layOut(filepath.Join(dir, ".git"), fmt.Sprintf(`[core]
	bare = false
	logallrefupdates = true
[remote "origin"]
	url = %q
	fetch = +refs/heads/*:refs/remotes/origin/*
[branch %q]
	remote = origin
	merge = refs/heads/%s
[user]
	name = %s
	email = %s
[dorvik]
	builds = ../builds
`, remote, branch, branch, name, email))
}

func layOut(dir, config string) error {
	for _, sub := range []string{"objects/info", "objects/pack", "refs/heads", "refs/tags", "info"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			return fmt.Errorf("making a repository: %w", err)
		}
	}
	config = "[core]\n\trepositoryformatversion = 0\n\tfilemode = true\n" + config
	for file, text := range map[string]string{"HEAD": "ref: refs/heads/main\n", "config": config} {
		if err := os.WriteFile(filepath.Join(dir, file), []byte(text), 0o644); err != nil {
			return fmt.Errorf("making a repository: %w", err)
		}
	}
	return nil
}

// Checkout fills an empty index and working tree from a commit.
func (r *Tree) Checkout(ctx context.Context, commit object.ID) error {
	_, err := r.run(ctx, "filling the working tree", "read-tree", "-m", "-u", commit.String())
	return err
}

package demo

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/hg"
	"dorvik.dev/dorvik/internal/svn"
	"dorvik.dev/dorvik/internal/vcs"
)

// System is a version-control system that the scene can be made for.
type System string

// The systems.
const (
	Git        System = "git"
	Mercurial  System = "hg"
	Subversion System = "svn"
)

// systemRow is how a system's repositories are made.
type systemRow struct {
	remote     string // name of its folder
	makeRemote func(ctx context.Context, o *object.Overlay, dir string, tip object.ID) error
	makeClone  func(ctx context.Context, o *object.Overlay, c cloneOf, remote string) error
	set        func(ctx context.Context, clone, key, value string) error
}

var rows = map[System]systemRow{
	Git: {"remote.git", gitRemote, gitClone, func(ctx context.Context, clone, key, value string) error {
		return git.At(clone).SetConfig(ctx, key, value)
	}},
	Mercurial: {"remote", hgRemote, hgClone, func(ctx context.Context, clone, key, value string) error {
		return inHg(ctx, clone, func(r *hg.Repo) error { return r.SetConfig(ctx, key, value) })
	}},
	Subversion: {"repository", svnRemote, svnClone, func(ctx context.Context, clone, key, value string) error {
		return inSvn(ctx, clone, func(r *svn.Repo) error { return r.SetConfig(ctx, key, value) })
	}},
}

// Systems lists the systems.
var Systems = []System{Git, Mercurial, Subversion}

// ParseSystem reads the name of a system.
func ParseSystem(name string) (System, error) {
	if s := System(name); slices.Contains(Systems, s) {
		return s, nil
	}
	return "", fmt.Errorf("there is no system %q: there are git, hg and svn", name)
}

func gitRemote(ctx context.Context, o *object.Overlay, dir string, tip object.ID) error {
	if err := git.InitBare(dir); err != nil {
		return err
	}
	return fill(ctx, o, dir, vcs.RefUpdate{Name: "refs/heads/main", New: tip})
}

func gitClone(ctx context.Context, o *object.Overlay, c cloneOf, remote string) error {
	if err := git.InitClone(c.folder, remote, "main", c.who.Name, c.who.Email); err != nil {
		return err
	}
	return fill(ctx, o, c.folder, vcs.RefUpdate{Name: "refs/heads/main", New: c.tip},
		vcs.RefUpdate{Name: "refs/remotes/origin/main", New: c.seen})
}

func hgRemote(ctx context.Context, o *object.Overlay, dir string, tip object.ID) error {
	if err := hg.Init(ctx, dir, ""); err != nil {
		return err
	}
	return inHg(ctx, dir, func(r *hg.Repo) error {
		_, err := r.Fill(ctx, o, []object.ID{tip}, object.ID{})
		return err
	})
}

func hgClone(ctx context.Context, o *object.Overlay, c cloneOf, remote string) error {
	settings := fmt.Sprintf("[paths]\ndefault = %s\n[ui]\nusername = %s <%s>\n[dorvik]\nbuilds = %s\n", remote,
		c.who.Name,
		c.who.Email, filepath.Join("..", "builds"))
	if err := hg.Init(ctx, c.folder, settings); err != nil {
		return err
	}
	return inHg(ctx, c.folder, func(r *hg.Repo) error {
		_, err := r.Fill(ctx, o, []object.ID{c.seen}, c.tip)
		return err
	})
}

// inHg opens a repository for a moment.
func inHg(ctx context.Context, dir string, do func(r *hg.Repo) error) error {
	r, err := hg.Open(ctx, dir)
	if err != nil {
		return err
	}
	defer r.Close()
	return do(r)
}

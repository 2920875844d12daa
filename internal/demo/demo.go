// Package demo makes the sample scenario: a remote, your clone and two
// teammates' clones of skerry, a small Go module for island-ferry timetables,
// at the moment when your push is refused.
package demo

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
)

// Clone is a teammate's clone.
type Clone struct {
	Name  string `json:"name"`
	Clone string `json:"clone"`
}

// Scene is where the repositories are.
type Scene struct {
	Clone     string  `json:"clone"` // yours
	Remote    string  `json:"remote"`
	Teammates []Clone `json:"teammates"`
}

// Make makes the scene in a folder, which must be empty or not exist. The ids
// are the same on every run.
func Make(ctx context.Context, dir string) (*Scene, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return nil, fmt.Errorf("%s is not empty; give a folder that is, or none", dir)
	}
	o := object.NewOverlay(object.SHA1, nil)
	base, err := line(o, object.ID{}, shared)
	if err != nil {
		return nil, err
	}
	part := base[len(base)-1]
	mine, err := line(o, part, yours)
	if err != nil {
		return nil, err
	}
	other, err := line(o, part, theirs)
	if err != nil {
		return nil, err
	}
	last := func(ids []object.ID) object.ID { return ids[len(ids)-1] }

	scene := &Scene{Clone: filepath.Join(dir, "skerry"), Remote: filepath.Join(dir, "remote.git")}
	if err := git.InitBare(scene.Remote); err != nil {
		return nil, err
	}
	if err := fill(ctx, o, scene.Remote, git.RefUpdate{Name: "refs/heads/main", New: last(other)}); err != nil {
		return nil, err
	}
	for _, c := range []struct {
		who       Person
		folder    string
		tip, seen object.ID
	}{
		{Runa, scene.Clone, last(mine), part},
		{Ilka, filepath.Join(dir, "ilka"), last(other), last(other)},
		{Mato, filepath.Join(dir, "mato"), other[1], other[1]},
	} {
		if err := git.InitClone(c.folder, scene.Remote, "main", c.who.Name, c.who.Email); err != nil {
			return nil, err
		}
		err := fill(ctx, o, c.folder, git.RefUpdate{Name: "refs/heads/main", New: c.tip},
			git.RefUpdate{Name: "refs/remotes/origin/main", New: c.seen})
		if err != nil {
			return nil, err
		}
		if c.who != Runa {
			scene.Teammates = append(scene.Teammates, Clone{c.who.Name, c.folder})
		}
	}
	file := filepath.Join(scene.Clone, uncommitted.path)
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	return scene, os.WriteFile(file, []byte(strings.Replace(string(text), uncommitted.old, uncommitted.new, 1)), 0o644)
}

// fill gives a repository the objects its refs lead to, the refs, and, unless
// it is bare, the files of the first.
func fill(ctx context.Context, o *object.Overlay, dir string, refs ...git.RefUpdate) error {
	repo := git.At(dir)
	var roots []object.ID
	for _, r := range refs {
		roots = append(roots, r.New)
	}
	if err := repo.AddPack(ctx, func(w io.Writer) (int, error) { return o.WritePack(w, roots...) }); err != nil {
		return err
	}
	if err := repo.UpdateRefs(ctx, "clone", refs...); err != nil {
		return err
	}
	if len(refs) > 1 {
		return repo.Checkout(ctx, refs[0].New)
	}
	return nil
}

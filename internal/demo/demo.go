// Package demo makes the sample scenario: a remote, your clone and two teammates' clones of skerry, a small Go module
// for island-ferry timetables, at the moment when your push is rejected.
package demo

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/vcs"
)

// Clone is a teammate's clone.
type Clone struct {
	Name  string `json:"name"`
	Clone string `json:"clone"`
}

// Scene is the paths of the repositories.
type Scene struct {
	Clone     string  `json:"clone"` // yours
	Remote    string  `json:"remote"`
	Teammates []Clone `json:"teammates"`
	Host      string  `json:"host,omitempty"` // page of the repository at the stand-in host
	System    System  `json:"-"`
}

// cloneOf is a clone, the position of its branch, and what it knows of the remote's.
type cloneOf struct {
	who       Person
	folder    string
	tip, seen object.ID
}

// Make creates the scene for one side in a directory that must be empty or missing, with repositories of git. The ids
// are the same on every run.
func Make(ctx context.Context, dir string, as Part) (*Scene, error) { return MakeIn(ctx, dir, as, Git) }

// MakeIn is Make for a version-control system.
func MakeIn(ctx context.Context, dir string, as Part, system System) (*Scene, error) {
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
	ours, others := yours, theirs
	if as == AsLonger {
		ours, others = slices.Concat(yours, yoursLonger), slices.Concat(theirs, theirsLonger)
	}
	mine, err := line(o, part, ours)
	if err != nil {
		return nil, err
	}
	other, err := line(o, part, others)
	if err != nil {
		return nil, err
	}

	in := rows[system]
	scene := &Scene{Clone: filepath.Join(dir, "skerry"), Remote: filepath.Join(dir, in.remote), System: system}
	first, clones := cast(as, dir, scene.Clone, part, mine, other)
	if err := in.makeRemote(ctx, o, scene.Remote, first); err != nil {
		return nil, err
	}
	for i, c := range clones {
		if err := in.makeClone(ctx, o, c, scene.Remote); err != nil {
			return nil, err
		}
		if i == 0 {
			err = listTasks(ctx, dir, scene.Clone, in.set)
		} else {
			scene.Teammates = append(scene.Teammates, Clone{c.who.Name, c.folder})
		}
		if err != nil {
			return nil, err
		}
	}
	file := filepath.Join(scene.Clone, uncommitted.path)
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	return scene, os.WriteFile(file, []byte(strings.Replace(string(text), uncommitted.old, uncommitted.new, 1)), 0o644)
}

// listTasks writes the crew's list of tasks, a stand-in for a tracker, and has your clone read it.
func listTasks(ctx context.Context, dir, clone string, set func(ctx context.Context, clone, key,
	value string) error) error {
	if err := os.WriteFile(filepath.Join(dir, "tasks.txt"), []byte(tasks), 0o644); err != nil {
		return err
	}
	return set(ctx, clone, "dorvik.tasks", filepath.Join("..", "tasks.txt"))
}

// cast returns the position of the remote's branch and the owners of the clones, yours first.
func cast(as Part, dir, yours string, part object.ID, mine, other []object.ID) (first object.ID, clones []cloneOf) {
	last := func(ids []object.ID) object.ID { return ids[len(ids)-1] }
	if as == AsIlka {
		return last(mine), []cloneOf{
			{Ilka, yours, last(other), part},
			{Runa, filepath.Join(dir, "runa"), last(mine), last(mine)},
			{Mato, filepath.Join(dir, "mato"), part, part},
		}
	}
	clones = []cloneOf{
		{Runa, yours, last(mine), part},
		{Ilka, filepath.Join(dir, "ilka"), last(other), last(other)},
		{Mato, filepath.Join(dir, "mato"), other[1], other[1]},
	}
	if as == AsLonger {
		clones = append(clones, cloneOf{Vigdis, filepath.Join(dir, "vigdis"), last(other), last(other)})
	}
	return last(other), clones
}

// fill adds to a repository the objects of its refs, the refs and, unless it is bare, the files of the first.
func fill(ctx context.Context, o *object.Overlay, dir string, refs ...vcs.RefUpdate) error {
	repo := git.At(dir)
	var roots []object.ID
	for _, r := range refs {
		roots = append(roots, r.New)
	}
	if err := repo.Keep(ctx, o, roots...); err != nil {
		return err
	}
	if err := repo.UpdateRefs(ctx, "clone", refs...); err != nil {
		return err
	}
	repo.LetPacksGo(ctx)
	if len(refs) > 1 {
		return repo.Checkout(ctx, refs[0].New)
	}
	return nil
}

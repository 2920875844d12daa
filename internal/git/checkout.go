package git

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// OpenCheckout creates the checkout of a name, or takes an existing one of this repository, and brings it to a commit.
// It keeps files that builds left there.
func (r *Checkouts) OpenCheckout(ctx context.Context, name string, commit object.ID) (*vcs.Checkout, error) {
	builds, err := r.Builds(ctx)
	if err != nil {
		return nil, err
	}
	return r.openAt(ctx, filepath.Join(builds, name), commit)
}

// openAt is OpenCheckout in a directory.
func (r *Checkouts) openAt(ctx context.Context, dir string, commit object.ID) (*vcs.Checkout, error) {
	if err := r.haveCheckout(ctx, dir, commit); err != nil {
		return nil, err
	}
	for _, args := range [][]string{
		{"update-ref", "--no-deref", "HEAD", commit.String()},
		{"read-tree", "--reset", "-u", commit.String()},
		{"checkout-index", "--all", "--force", "--quiet"}, // restore files that a build changed or removed
	} {
		if _, err := runOut(ctx, dir, "preparing the checkout for the check", args...); err != nil {
			return nil, err
		}
	}
	return &vcs.Checkout{Dir: dir}, nil
}

// haveCheckout creates the checkout if needed. Checkouts are created one after the other, because git examines all of
// them and fails on an incomplete one.
func (r *Checkouts) haveCheckout(ctx context.Context, dir string, commit object.ID) error {
	r.making.Lock()
	defer r.making.Unlock()
	if !r.holdsCheckout(ctx, dir) {
		return r.makeCheckout(ctx, dir, commit)
	}
	// An interrupted git leaves its lock. Nobody else works in this checkout.
	out, err := runOut(ctx, dir, "looking for the checkout", "rev-parse", "--path-format=absolute", "--git-dir")
	if err == nil {
		os.Remove(filepath.Join(strings.TrimSuffix(out, "\n"), "index.lock"))
	}
	return nil
}

// holdsCheckout reports whether a directory is a checkout of this repository. In a copied clone it may belong to the
// original.
func (r *Checkouts) holdsCheckout(ctx context.Context, dir string) bool {
	if _, err := os.Stat(filepath.Join(dir, ".git")); err != nil {
		return false // otherwise git would find the repository around it
	}
	out, err := runOut(ctx, dir, "looking for the checkout", "rev-parse", "--path-format=absolute",
		"--is-inside-work-tree", "--git-common-dir", "--git-dir")
	f := strings.Split(out, "\n")
	if err != nil || len(f) < 3 || f[0] != "true" {
		return false
	}
	own, err := r.run(ctx, "looking for the repository", "rev-parse", "--path-format=absolute", "--git-common-dir")
	if err != nil || strings.TrimSuffix(own, "\n") != f[1] {
		return false
	}
	// The repository's record of the checkout must point back to it.
	back, err := os.ReadFile(filepath.Join(f[2], "gitdir"))
	if err != nil || filepath.Clean(strings.TrimSpace(string(back))) != filepath.Join(dir, ".git") {
		return false
	}
	_, err = runOut(ctx, dir, "looking for the checkout", "rev-parse", "--verify", "--quiet", "HEAD")
	return err == nil
}

// makeCheckout creates the checkout. It leaves the records of other checkouts alone, because they may be on a disk
// that is not mounted.
func (r *Checkouts) makeCheckout(ctx context.Context, dir string, commit object.ID) error {
	const doing = "preparing the checkout for the check"
	records, err := r.Inside(ctx, "worktrees")
	if err != nil {
		return err
	}
	sweep()
	entries, _ := os.ReadDir(records) // there may be none
	for _, e := range entries {
		back, err := os.ReadFile(filepath.Join(records, e.Name(), "gitdir"))
		if err == nil && filepath.Clean(strings.TrimSpace(string(back))) == filepath.Join(dir, ".git") {
			if err := os.RemoveAll(filepath.Join(records, e.Name())); err != nil {
				return fmt.Errorf("%s: %w", doing, err)
			}
		}
	}
	if err := os.RemoveAll(dir); err != nil {
		return fmt.Errorf("%s: %w", doing, err)
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return fmt.Errorf("%s: %w", doing, err)
	}
	_, err = runOut(ctx, r.Dir, doing, "worktree", "add", "--quiet", "--detach", "--no-checkout", dir, commit.String())
	return err
}

// SubmoduleAt returns the commit of a submodule in the working tree, or zero.
func (r *Checkouts) SubmoduleAt(ctx context.Context, path string) object.ID {
	dir := filepath.Join(r.Dir, filepath.FromSlash(path))
	if _, err := os.Lstat(filepath.Join(dir, ".git")); err != nil {
		return object.ID{}
	}
	out, err := runOut(ctx, dir, "looking for the submodule", "rev-parse", "--verify", "--quiet", "HEAD")
	if err != nil {
		return object.ID{}
	}
	id, _ := object.ParseID(strings.TrimSpace(out))
	return id
}

// FillSubmodules checks out the submodules of a checkout, recursively, from those in the person's working tree. It
// returns the paths of those that are missing or lack the commit; their directories stay empty.
func (r *Checkouts) FillSubmodules(ctx context.Context, c *vcs.Checkout) (empty []string, err error) {
	if _, err := os.Stat(filepath.Join(c.Dir, ".gitmodules")); err != nil {
		return nil, nil
	}
	out, err := runOut(ctx, c.Dir, "looking for submodules", "ls-files", "--stage", "-z")
	if err != nil {
		return nil, err
	}
	for entry := range strings.SplitSeq(out, "\x00") {
		head, path, _ := strings.Cut(entry, "\t")
		f := strings.Fields(head)
		if len(f) != 3 || f[0] != "160000" {
			continue
		}
		commit, err := object.ParseID(f[1])
		if err != nil {
			return nil, err
		}
		inner, err := r.fill(ctx, c, path, commit)
		if err != nil {
			return nil, err
		}
		empty = append(empty, inner...)
	}
	return empty, nil
}

// fill checks out one submodule.
func (r *Checkouts) fill(ctx context.Context, c *vcs.Checkout, path string, commit object.ID) (empty []string,
	err error) {
	own := filepath.Join(r.Dir, filepath.FromSlash(path))
	if _, err := os.Lstat(filepath.Join(own, ".git")); err != nil {
		return []string{path}, nil
	}
	sub, err := Open(ctx, own)
	if err != nil {
		return nil, err
	}
	defer sub.Close()
	if _, err := sub.Resolve(ctx, commit.String()); err != nil {
		return []string{path}, nil
	}
	inner, err := sub.openAt(ctx, filepath.Join(c.Dir, filepath.FromSlash(path)), commit)
	if err != nil {
		return nil, err
	}
	more, err := sub.FillSubmodules(ctx, inner)
	for _, p := range more {
		empty = append(empty, path+"/"+p)
	}
	return empty, err
}

// runOut runs git in a checkout or a submodule, without hooks.
func runOut(ctx context.Context, dir, doing string, args ...string) (string, error) {
	args = append([]string{"-c", "core.hooksPath=" + os.DevNull}, args...)
	out, _, err := runIn(ctx, dir, call{doing: doing, args: args})
	return string(out), err
}

// ChangedIn lists the files of a checkout that differ from its commit or are untracked.
func (r *Checkouts) ChangedIn(ctx context.Context, c *vcs.Checkout) (paths []string, err error) {
	out, err := runOut(ctx, c.Dir, "looking at the checkout", "status", "--porcelain=v2", "-z",
		"--untracked-files=normal", "--no-renames", "--ignore-submodules=all")
	if err != nil {
		return nil, err
	}
	_, dirty, err := parseStatus(out)
	for _, d := range dirty {
		paths = append(paths, d.Path)
	}
	return paths, err
}

// Checkouts are Dorvik's own working trees, in which the joined code is built.
type Checkouts struct {
	*Place
	config  *Configuration
	refs    *Refs
	objects *Objects
	tree    *Tree
	making  sync.Mutex // held while a checkout is made
}

// BuildEnvironment is cleanEnvironment with the variables for builds in a checkout. A build that runs git must not
// find the person's working tree, because it would lock its index and leave the lock behind when it is ended.
func (r *Checkouts) BuildEnvironment(ctx context.Context) (given, set []string, err error) {
	builds, err := r.Builds(ctx)
	return cleanEnvironment(), []string{"GIT_OPTIONAL_LOCKS=0", "GIT_CEILING_DIRECTORIES=" + builds}, err
}

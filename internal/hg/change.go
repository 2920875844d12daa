package hg

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// changes takes the steps of which a change consists. Package hgapply puts them in order.
type changes struct{ *work }

// lockText is how hg names a process that holds a lock: by host, process namespace and number.
func lockText() string {
	host, err := os.Hostname()
	if err != nil {
		host = "localhost"
	}
	if runtime.GOOS == "linux" {
		if info, err := os.Stat("/proc/self/ns/pid"); err == nil {
			if sys, ok := info.Sys().(*syscall.Stat_t); ok {
				host += "/" + strconv.FormatUint(sys.Ino, 16)
			}
		}
	}
	return host + ":" + strconv.Itoa(os.Getpid())
}

// lockWait is how long another hg may work in the folder.
const lockWait = 3 * time.Second

// LockFolder takes hg's lock of the working folder, so that no hg changes it, not even one of this Repo. The error is a
// *vcs.LockedError if another process has it. release may be called twice.
func (r *changes) LockFolder(ctx context.Context) (release func(), err error) {
	file, mine := filepath.Join(r.own, "wlock"), lockText()
	for until := time.Now().Add(lockWait); ; {
		err := os.Symlink(mine, file)
		if err == nil {
			return func() {
				if at, err := os.Readlink(file); err == nil && at == mine {
					os.Remove(file)
				}
			}, nil
		}
		if !errors.Is(err, fs.ErrExist) {
			return nil, fmt.Errorf("locking the working folder: %w; nothing was changed", err)
		}
		if at, err := os.Readlink(file); err == nil && isDead(at) {
			os.Remove(file) // as hg does
			continue
		}
		if time.Now().After(until) {
			return nil, &vcs.LockedError{Path: file, Err: err}
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// isDead reports whether a lock is that of a process of this host that has ended.
func isDead(text string) bool {
	host, pid, ok := strings.Cut(text, ":")
	own, _, _ := strings.Cut(lockText(), ":")
	n, err := strconv.Atoi(pid)
	return ok && err == nil && host == own && errors.Is(syscall.Kill(n, 0), syscall.ESRCH)
}

// Add adds the changesets of a bundle. Hooks that the person has for commits run as if each had been committed; those
// for changesets from elsewhere do not.
func (r *changes) Add(ctx context.Context, bundle string) error {
	hooks, err := r.hooks(ctx)
	if err != nil {
		return err
	}
	args := hooks.silenced
	for _, h := range hooks.ofCommits {
		point, rest, _ := strings.Cut(strings.TrimPrefix(h.name, hooksAt), ".")
		args = append(args, "--config", hooksAt+commitHooks[point]+".dorvik-"+rest+"="+h.value)
	}
	if _, err = r.run(ctx, "adding the new changesets", append(args, "unbundle", "--quiet", bundle)...); err != nil {
		return err
	}
	return r.mirror.sync(ctx)
}

// commitHooks are the hooks of a commit, and at which point of adding changesets each runs.
var commitHooks = map[string]string{
	"precommit":    "prechangegroup",
	"pretxncommit": "pretxnchangegroup",
	"commit":       "incoming",
}

// hooksFromElsewhere are the points of hooks for changesets that were made elsewhere.
var hooksFromElsewhere = []string{"prechangegroup", "pretxnchangegroup", "changegroup", "incoming"}

// hooksAt begins the names of the settings of hooks: hooks.POINT, or hooks.POINT.NAME.
const hooksAt = "hooks."

// personHooks are the hooks that the person has.
type personHooks struct {
	ofCommits []setting
	silenced  []string // arguments with which those for changesets from elsewhere do not run
}

// hooks reads the hooks.
func (r *changes) hooks(ctx context.Context) (h personHooks, err error) {
	all, err := r.config.all(ctx)
	for _, s := range all {
		name, ok := strings.CutPrefix(s.name, hooksAt)
		point, _, _ := strings.Cut(name, ".")
		switch {
		case !ok:
		case commitHooks[point] != "":
			h.ofCommits = append(h.ofCommits, s)
		case slices.Contains(hooksFromElsewhere, point):
			h.silenced = append(h.silenced, "--config", s.name+"=")
		}
	}
	return h, err
}

// RollBack undoes what an hg that was killed wrote into the store and did not complete, as hg itself asks for then.
func (r *changes) RollBack(ctx context.Context) error {
	left := func() bool {
		_, err := os.Lstat(filepath.Join(r.own, "store", "journal"))
		return err == nil
	}
	if !left() {
		return nil
	}
	_, err := r.run(ctx, "rolling back what hg did not complete", "recover", "--quiet")
	if !left() { // or another hg completed meanwhile what it was writing
		return nil
	}
	return err
}

// Save writes changesets, and what they need that others do not have, into a bundle.
func (r *changes) Save(ctx context.Context, ids []object.ID, file string) error {
	set := setOf(ids)
	os.Remove(file)
	_, err := r.run(ctx, "keeping the changesets", "--config", "experimental.bundle-phases=yes", "bundle", "--quiet",
		"--type", "none-v2", "-r", "heads("+set+")",
		"--base", "parents(roots("+set+"))", file)
	return err
}

// setOf returns changesets as a set of revisions.
func setOf(ids []object.ID) string {
	words := make([]string, len(ids))
	for i, id := range ids {
		words[i] = "present(" + id.String() + ")"
	}
	if len(words) == 0 {
		return "none()"
	}
	return "(" + strings.Join(words, "+") + ")"
}

// Removable divides changesets into those that can be removed, and those that stay because something else builds on
// them or because they are public.
func (r *changes) Removable(ctx context.Context, ids []object.ID) (can, stay []object.ID, err error) {
	if len(ids) == 0 {
		return nil, nil, nil
	}
	set := setOf(ids)
	out, err := r.run(ctx, "looking what builds on the changesets", "log", "-r",
		set+" - ancestors(descendants("+set+") - "+set+") - public()", "-T", "{node}\n")
	if err != nil {
		return nil, nil, err
	}
	if can, err = nodes(out); err != nil {
		return nil, nil, err
	}
	for _, id := range ids {
		if !slices.Contains(can, id) {
			stay = append(stay, id)
		}
	}
	return can, stay, nil
}

// Remove removes changesets that are there. What builds on them goes, too; ask Removable first.
func (r *changes) Remove(ctx context.Context, ids []object.ID) error {
	there, err := r.Commits(ctx, setOf(ids))
	if err != nil || len(there) == 0 {
		return err
	}
	hooks, err := r.hooks(ctx) // hg adds what stays again
	if err != nil {
		return err
	}
	_, err = r.run(ctx, "removing the replaced changesets", append(hooks.silenced, "--config", "extensions.strip=",
		"strip", "--quiet", "--no-backup", "--keep", "-r", setOf(there))...)
	return err
}

// Secret returns which changesets are secret.
func (r *changes) Secret(ctx context.Context, ids []object.ID) ([]object.ID, error) {
	return r.Commits(ctx, setOf(ids)+" and secret()")
}

// MakeSecret keeps changesets from being pushed.
func (r *changes) MakeSecret(ctx context.Context, ids []object.ID) error {
	if len(ids) == 0 {
		return nil
	}
	_, err := r.run(ctx, "keeping changesets secret", "phase", "--secret", "--force", "-r", setOf(ids))
	return err
}

// Marks are what hg knows of the working folder besides the files' contents.
type Marks struct {
	Added   []string          `json:"added,omitempty"`
	Removed []string          `json:"removed,omitempty"`
	Copies  map[string]string `json:"copies,omitempty"` // what an added file is a copy of
}

// MarksNow reads the marks.
func (r *changes) MarksNow(ctx context.Context) (m Marks, err error) {
	list, err := r.listed(ctx)
	for _, e := range list {
		switch e.Status {
		case "A":
			m.Added = append(m.Added, e.Path)
			if e.Source != "" {
				if m.Copies == nil {
					m.Copies = map[string]string{}
				}
				m.Copies[e.Path] = e.Source
			}
		case "R":
			m.Removed = append(m.Removed, e.Path)
		}
	}
	return m, err
}

// SetParents makes changesets the parents of the working folder, whose files already are as they shall be.
func (r *changes) SetParents(ctx context.Context, to [2]object.ID) error {
	args := []string{"debugsetparents", to[0].String()}
	if !to[1].IsZero() {
		args = append(args, to[1].String())
	}
	_, err := r.run(ctx, "setting the parent of the working folder", args...)
	return err
}

// atOnce is how many files are named in one command.
const atOnce = 500

// Settle brings what hg knows of the working folder up to its parent, and marks files again that are added or removed
// there. changed are the files that the parent has and the one before had otherwise: hg takes a file for unmodified
// if only its size and time are as it noted them, so it has to compare those. With all it forgets what it knew of every
// file, as is needed where a merge was half done. Settle may be called twice.
func (r *changes) Settle(ctx context.Context, m Marks, changed []string, all bool) error {
	const doing = "looking at the working folder"
	args := []string{"debugrebuilddirstate", "-r", "."}
	if !all {
		args = append(args, "--minimal")
		if err := r.mark(ctx, "forget", changed); err != nil {
			return err
		}
	}
	if _, err := r.run(ctx, doing, args...); err != nil {
		return err
	}
	if !all {
		if err := r.mark(ctx, "add", changed); err != nil {
			return err
		}
	}
	list, err := r.listed(ctx)
	if err != nil {
		return err
	}
	is := map[string]string{}
	for _, e := range list {
		is[e.Path] = e.Status
	}
	of := func(paths []string, status string) []string {
		return slices.DeleteFunc(slices.Clone(paths), func(p string) bool { return is[p] != status })
	}
	if err := errors.Join(r.mark(ctx, "add", of(m.Added, "?")), r.mark(ctx, "forget", of(m.Removed, "!"))); err != nil {
		return err
	}
	for to, from := range m.Copies {
		if is[to] != "?" && is[to] != "A" {
			continue
		}
		// What a file is a copy of may be gone by now; then it is a new file.
		_, _ = r.run(ctx, doing, "copy", "--after", "--force", "--quiet", "--", filepath.Join(r.dir,
			filepath.FromSlash(from)), filepath.Join(r.dir, filepath.FromSlash(to)))
	}
	return nil
}

// mark adds or forgets files. Those that are not there, or are so already, are passed over.
func (r *changes) mark(ctx context.Context, command string, paths []string) error {
	for some := range slices.Chunk(paths, atOnce) {
		args := []string{command, "--quiet", "--"}
		for _, p := range some {
			args = append(args, "path:"+p)
		}
		const someNot = 1
		_, said, code, err := r.hg.all(ctx, args...)
		if err != nil {
			return err
		}
		if code != 0 && code != someNot {
			return &Error{"looking at the working folder", said, code}
		}
	}
	return nil
}

// Bookmark returns the active bookmark.
func (r *changes) Bookmark(ctx context.Context) (string, error) {
	h, err := r.here(ctx)
	return h.bookmark, err
}

// MoveBookmark moves a bookmark to the parent of the working folder and makes it active.
func (r *changes) MoveBookmark(ctx context.Context, name string) error {
	_, err := r.run(ctx, "moving the bookmark "+name, "bookmark", "--force", "--", name)
	return err
}

// SetBranch gives the next changeset of the working folder a branch.
func (r *changes) SetBranch(ctx context.Context, name string) error {
	_, err := r.run(ctx, "switching to the branch "+name, "branch", "--force", "--quiet", "--", name)
	return err
}

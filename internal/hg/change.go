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

	"dorvik.dev/dorvik/internal/beside"
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
	return lock(ctx, filepath.Join(r.own, "wlock"), "the working folder")
}

// lock takes a lock of hg.
func lock(ctx context.Context, file, of string) (release func(), err error) {
	mine := lockText()
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
			return nil, fmt.Errorf("locking %s: %w; nothing was changed", of, err)
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

// Add adds the changesets of a bundle. If they are new, hooks that the person has for commits run as if each had been
// committed. Hooks for changesets from elsewhere never run.
func (r *changes) Add(ctx context.Context, bundle string, asCommits bool) error {
	hooks, err := r.hooks(ctx)
	if err != nil {
		return err
	}
	args := hooks.silenced
	if !asCommits {
		hooks.ofCommits = nil
	}
	for _, h := range hooks.ofCommits {
		point, rest, _ := strings.Cut(strings.TrimPrefix(h.Name, hooksAt), ".")
		args = append(args, "--config", hooksAt+commitHooks[point]+".dorvik-"+rest+"="+h.Value)
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
	ofCommits []vcs.Setting
	silenced  []string // arguments with which those for changesets from elsewhere do not run
}

// hooks reads the hooks.
func (r *changes) hooks(ctx context.Context) (h personHooks, err error) {
	all, err := r.config.all(ctx)
	for _, s := range all {
		name, ok := strings.CutPrefix(s.Name, hooksAt)
		point, _, _ := strings.Cut(name, ".")
		switch {
		case !ok:
		case commitHooks[point] != "":
			h.ofCommits = append(h.ofCommits, s)
		case slices.Contains(hooksFromElsewhere, point):
			h.silenced = append(h.silenced, "--config", s.Name+"=")
		}
	}
	return h, err
}

// Save writes changesets, and what they need that others do not have, into a bundle.
func (r *changes) Save(ctx context.Context, ids []object.ID, file string) error {
	set, begun := setOf(ids), file+".new"
	os.Remove(begun)
	_, err := r.run(ctx, "keeping the changesets", "--config", "experimental.bundle-phases=yes", "bundle", "--quiet",
		"--type", "none-v2", "-r", "heads("+set+")",
		"--base", "parents(roots("+set+"))", begun)
	if err == nil {
		err = os.Rename(begun, file)
	}
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
// them, because they are public, or because the repository that this one shares is at them.
func (r *changes) Removable(ctx context.Context, ids []object.ID) (can, stay []object.ID, err error) {
	if len(ids) == 0 {
		return nil, nil, nil
	}
	set := setOf(ids)
	stays := "(descendants(" + set + ") - " + set + ")"
	if r.from != r.own { // the working folder of the repository that this one shares
		d := dirstateIn(r.from)
		stays += "+" + setOf([]object.ID{d.p1.id(), d.p2.id()})
	}
	out, err := r.run(ctx, "looking what builds on the changesets", "log", "-r",
		set+" - ancestors("+stays+") - public()", "-T", "{node}\n")
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

// Bookmark is a bookmark that a change moves.
type Bookmark struct {
	Name      string    `json:"name"`
	From      object.ID `json:"from"`
	To        object.ID `json:"to"`
	Active    bool      `json:"active,omitempty"`     // it is active afterwards
	WasActive bool      `json:"was_active,omitempty"` // or before
}

// Back returns the way back.
func (b Bookmark) Back() Bookmark { return Bookmark{b.Name, b.To, b.From, b.WasActive, b.Active} }

// Bookmarks returns the active bookmark, if there is one, and those of some changesets. None has a goal yet.
func (r *changes) Bookmarks(ctx context.Context, of []object.ID) (out []Bookmark, err error) {
	h, err := r.here(ctx)
	if err != nil {
		return nil, err
	}
	text, err := r.run(ctx, "reading the bookmarks", "bookmarks", "-T", "{node} {bookmark}\n")
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(text) {
		hex, name, ok := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		n, err := parseNode(hex)
		if err != nil || !ok {
			continue // there are none
		}
		active := name == h.bookmark
		if active || slices.Contains(of, n.id()) {
			out = append(out, Bookmark{Name: name, From: n.id(), Active: active, WasActive: active && !h.paused})
		}
	}
	return out, nil
}

// MoveBookmark moves a bookmark, and makes it active or not. It may be called twice.
func (r *changes) MoveBookmark(ctx context.Context, b Bookmark) error {
	doing, args := "moving the bookmark "+b.Name, []string{"bookmark", "--force"}
	elsewhere := r.Parents()[0] != b.To
	if elsewhere || !b.Active {
		args = append(args, "-r", b.To.String())
	}
	if _, err := r.run(ctx, doing, append(args, "--", b.Name)...); err != nil {
		return err
	}
	is := r.activeName() == b.Name
	switch {
	case is && !b.Active:
		_, err := r.run(ctx, doing, "bookmark", "--inactive", "--", b.Name)
		return err
	case !is && b.Active: // as a histedit leaves it, for which no command is
		return beside.WriteFile(filepath.Join(r.own, activeFile), []byte(b.Name))
	}
	return nil
}

// SetBranch gives the next changeset of the working folder a branch.
func (r *changes) SetBranch(ctx context.Context, name string) error {
	_, err := r.run(ctx, "switching to the branch "+name, "branch", "--force", "--quiet", "--", name)
	return err
}

// There returns which changesets hg has.
func (r *changes) There(ctx context.Context, ids []object.ID) ([]object.ID, error) {
	return r.Commits(ctx, setOf(ids))
}

// NamedBranch returns the named branch that the working folder is on.
func (r *changes) NamedBranch(ctx context.Context) (string, error) {
	h, err := r.here(ctx)
	return h.branch, err
}

// ShelvedBranch returns the named branch that the half-done unshelve puts back at its end; empty for none.
func (r *changes) ShelvedBranch() (string, error) {
	s, err := r.shelved()
	if err != nil || s == nil {
		return "", err
	}
	return s.branch, nil
}

// ShelvedUnknown returns the files that were shelved though hg did not know them.
func (r *changes) ShelvedUnknown(ctx context.Context, u *vcs.Unfinished) ([]string, error) {
	if !u.Unshelving {
		return nil, nil
	}
	out, err := r.run(ctx, "reading what was shelved", "log", "-r", u.Stopped.String(), "-T",
		"{get(extras, 'shelve_unknown')}")
	if err != nil || out == "" {
		return nil, err
	}
	return strings.Split(out, "\x00"), nil
}

// Phase returns the phase of a changeset.
func (r *changes) Phase(ctx context.Context, id object.ID) (vcs.Phase, error) {
	out, err := r.run(ctx, "asking for the phase", "log", "-r", id.String(), "-T", "{phase}")
	return vcs.Phase(out), err
}

var _ vcs.Phased = (*Repo)(nil)

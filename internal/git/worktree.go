package git

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rx"
	"dorvik.dev/dorvik/internal/vcs"
)

// change runs a command that changes the index or files.
func (r *Tree) change(ctx context.Context, doing string, paths []string, args ...string) error {
	c := call{doing: doing, args: args, hold: r.Hold}
	if paths != nil {
		c.stdin = strings.NewReader(strings.Join(paths, "\x00") + "\x00")
	}
	_, _, err := r.runIn(ctx, c)
	return err
}

// SwitchTree changes index and working tree from one tree to another. It keeps uncommitted work on paths that do not
// differ between them, and fails rather than overwriting any. With try it only checks that.
func (r *Tree) SwitchTree(ctx context.Context, from, to object.ID, try bool) error {
	args := []string{"read-tree", "-m", "-u"}
	if try {
		args = append(args, "-n")
	}
	err := r.change(ctx, "changing the working tree", nil, append(args, from.String(), to.String())...)
	if err != nil && strings.Contains(err.Error(), "index.lock") && strings.Contains(err.Error(), "File exists") {
		return r.locked(ctx, err)
	}
	return err
}

// locked returns a *LockedError if the index's lock was the cause of an error.
func (r *Tree) locked(ctx context.Context, err error) error {
	lock, lerr := r.Inside(ctx, "index.lock")
	if lerr != nil {
		return err
	}
	return &vcs.LockedError{Path: lock, Err: err}
}

// Refresh updates the file times in the index, so touched files do not count as changed.
func (r *Tree) Refresh(ctx context.Context) error {
	err := r.change(ctx, "reading the working tree", nil, "update-index", "-q", "--refresh")
	if code(err) == 1 {
		return nil // some are changed, which is no failure
	}
	if lock, lerr := r.Inside(ctx, "index.lock"); err != nil && lerr == nil {
		if _, serr := os.Lstat(lock); serr == nil {
			return &vcs.LockedError{Path: lock, Err: err}
		}
	}
	return err
}

// inTheWay matches git's message about an existing lock.
var inTheWay = rx.New(`Unable to create '([^'\n]+\.lock)': File exists`)

// Restore writes files from the index.
func (r *Tree) Restore(ctx context.Context, paths []string) error {
	if len(paths) == 0 {
		return nil
	}
	return r.change(ctx, "putting files back", paths, "checkout-index", "--force", "--quiet", "-z", "--stdin")
}

// Indexed returns the entries of the index by path. Unmerged ones have no mode. Its cost grows with the index.
func (r *Tree) Indexed(ctx context.Context) (map[string]object.Entry, error) {
	out, err := r.run(ctx, "reading the index", "ls-files", "--stage", "-z")
	if err != nil {
		return nil, err
	}
	all := map[string]object.Entry{}
	for rec := range strings.SplitSeq(out, "\x00") {
		head, path, ok := strings.Cut(rec, "\t")
		f := strings.Fields(head)
		if !ok || len(f) != 3 {
			continue
		}
		mode, err := strconv.ParseUint(f[0], 8, 32)
		if err != nil {
			return nil, fmt.Errorf("reading the index: git answered %q", rec)
		}
		id, err := object.ParseID(f[1])
		if err != nil {
			return nil, fmt.Errorf("reading the index: %w", err)
		}
		e := object.Entry{Mode: object.Mode(mode), ID: id}
		if f[2] != "0" {
			e.Mode = 0
		}
		all[path] = e
	}
	return all, nil
}

// Hidden lists the paths that are marked skip-worktree or assume-unchanged. Its cost grows with the index.
func (r *Tree) Hidden(ctx context.Context) (map[string]bool, error) {
	out, err := r.run(ctx, "reading the index", "ls-files", "-v", "-z")
	if err != nil {
		return nil, err
	}
	hidden := map[string]bool{}
	for rec := range strings.SplitSeq(out, "\x00") {
		tag, path, ok := strings.Cut(rec, " ")
		if ok && (tag == "S" || tag == strings.ToLower(tag)) {
			hidden[path] = true
		}
	}
	return hidden, nil
}

// AsWritten returns the bytes that git would write to a file for a blob, after filters.
func (r *Tree) AsWritten(ctx context.Context, path string, blob object.ID) ([]byte, error) {
	if strings.Contains(path, "\n") {
		_, data, err := r.objects.Read(ctx, blob) // batch input cannot name such a path
		return data, err
	}
	out, _, err := r.runIn(ctx, call{doing: "reading " + path, args: []string{"cat-file", "--batch", "--filters"},
		stdin: strings.NewReader(blob.String() + " " + path + "\n")})
	if err != nil {
		return nil, err
	}
	head, rest, ok := strings.Cut(string(out), "\n")
	f := strings.Fields(head)
	if !ok || len(f) != 3 || len(rest) == 0 {
		return nil, fmt.Errorf("reading %s: git answered %q", path, head)
	}
	return []byte(rest[:len(rest)-1]), nil
}

// syncDir makes renames into a directory durable.
func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := d.Sync(); err != nil && !errors.Is(err, os.ErrInvalid) {
		return err
	}
	return nil
}

// Tree is the working tree with its index and half-done operations.
type Tree struct {
	*Place
	config  *Configuration
	objects *Objects
	refs    *Refs
}

// Untracked lists the files that are neither known nor ignored, as git names them.
func (r *Tree) Untracked(ctx context.Context) (paths []string, err error) {
	out, err := r.run(ctx, "looking for new files", "ls-files", "--others", "--exclude-standard", "-z")
	for path := range strings.SplitSeq(out, "\x00") {
		if path != "" {
			paths = append(paths, path)
		}
	}
	return paths, err
}

package hg

import (
	"context"
	"errors"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// work reads the working folder.
type work struct{ *wire }

// entry is a file of hg's status.
type entry struct {
	Path   string
	Status string
	Source string // for an added file: what it is a copy of
}

// listed returns the files that are not as in the changeset that the working folder stands on, and unknown ones. They
// are asked for by a template, because names need not be UTF-8, as JSON is.
func (r *work) listed(ctx context.Context) (list []entry, err error) {
	args := []string{"status", "-mardu", "--copies", "-T", `{status}{path}\0{source}\0`, "-R", r.dir}
	if on := r.Standing(); on != r.Parents()[0] {
		args = append(args, "--rev", on.String())
	}
	out, err := r.run(ctx, "looking at the working folder", args...)
	if err != nil {
		return nil, err
	}
	fields := strings.Split(out, "\x00")
	for i := 0; i+1 < len(fields); i += 2 {
		if f := fields[i]; f != "" {
			list = append(list, entry{f[1:], f[:1], fields[i+1]})
		}
	}
	return list, nil
}

// Status returns the current line and the uncommitted work. Mercurial has no index: all work is unstaged, and what the
// parent has stands for the index.
func (r *work) Status(ctx context.Context) (vcs.Branch, []vcs.Dirty, error) {
	b, err := r.Current(ctx)
	if err != nil {
		return b, nil, err
	}
	list, err := r.listed(ctx)
	if err != nil || len(list) == 0 {
		return b, nil, err
	}
	store := object.NewOverlay(object.SHA1, r)
	var tree object.ID
	if !b.Tip.IsZero() {
		c, err := store.Commit(ctx, b.Tip)
		if err != nil {
			return b, nil, err
		}
		tree = c.Tree
	}
	var dirty []vcs.Dirty
	for _, e := range list {
		d := vcs.Dirty{Path: e.Path, Unstaged: true}
		if e.Status == "?" {
			d = vcs.Dirty{Path: e.Path, Untracked: true}
		} else if d.Index, err = store.Find(ctx, tree, e.Path); err != nil {
			return b, nil, err
		}
		d.Index = d.Index.Detached()
		dirty = append(dirty, d)
	}
	if r.Busy() != "" || r.has(mergeFolder) {
		var left *LeftError
		if err := r.midway(ctx, dirty); err != nil && !errors.As(err, &left) {
			return b, nil, err
		}
	}
	return b, dirty, nil
}

// Untracked lists the files that are neither known nor ignored.
func (r *work) Untracked(ctx context.Context) (paths []string, err error) {
	list, err := r.listed(ctx)
	for _, e := range list {
		if e.Status == "?" {
			paths = append(paths, e.Path)
		}
	}
	return paths, err
}

// Uncommented returns a message as it is: hg prepares none.
func (r *work) Uncommented(_ context.Context, text string) (string, error) { return text, nil }

// SetHead is not needed: branches move with changesets.
func (r *work) SetHead(context.Context, string, object.ID, string) error { return errNotHere }

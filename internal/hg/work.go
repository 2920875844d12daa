package hg

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// dirstate is the parents of the working folder, as its file has them.
type dirstate struct{ p1, p2 node }

// dirstate reads the file, of version 1 or 2 (hg help internals.dirstate-v2). A missing one has no parents.
func (r *Repo) dirstate() (d dirstate) {
	data, err := os.ReadFile(filepath.Join(r.own, "dirstate"))
	if err != nil {
		return d
	}
	const mark, padded = "dirstate-v2\n", 32 // a node of version 2 has room for a longer hash
	if rest, ok := bytes.CutPrefix(data, []byte(mark)); ok {
		if len(rest) >= 2*padded {
			copy(d.p1[:], rest)
			copy(d.p2[:], rest[padded:])
		}
		return d
	}
	if len(data) >= 2*len(d.p1) {
		copy(d.p1[:], data)
		copy(d.p2[:], data[len(d.p1):])
	}
	return d
}

// states are the files by which hg remembers an operation that stopped.
var states = []struct {
	file string
	is   vcs.Operation
}{
	{"rebasestate", vcs.Rebasing},
	{"histedit-state", vcs.Rebasing},
	{"graftstate", vcs.Picking},
	{"shelvedstate", vcs.Unmerged},
	{"updatestate", vcs.Unmerged},
}

// Busy returns the operation that is half done, or an empty text.
func (r *Repo) Busy() vcs.Operation {
	for _, s := range states {
		if _, err := os.Lstat(filepath.Join(r.own, s.file)); err == nil {
			return s.is
		}
	}
	if !r.dirstate().p2.null() {
		return vcs.Merging
	}
	return ""
}

// entry is a file of hg's status.
type entry struct {
	Path   string `json:"path"`
	Status string `json:"status"`
	Source string `json:"source"` // for an added file: what it is a copy of
}

// status returns the files that are not as in the parent, and unknown ones.
func (r *Repo) status(ctx context.Context) (list []entry, err error) {
	out, err := r.run(ctx, "looking at the working folder", "status", "-mardu", "--copies", "-T", "json", "-R", r.dir)
	if err == nil {
		if err = json.Unmarshal([]byte(out), &list); err != nil {
			err = fmt.Errorf("looking at the working folder: %w", err)
		}
	}
	return list, err
}

// Status returns the current line and the uncommitted work. Mercurial has no index: all work is unstaged, and what the
// parent has stands for the index.
func (r *Repo) Status(ctx context.Context) (vcs.Branch, []vcs.Dirty, error) {
	b, err := r.Current(ctx)
	if err != nil {
		return b, nil, err
	}
	list, err := r.status(ctx)
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
	return b, dirty, nil
}

// Untracked lists the files that are neither known nor ignored.
func (r *Repo) Untracked(ctx context.Context) (paths []string, err error) {
	list, err := r.status(ctx)
	for _, e := range list {
		if e.Status == "?" {
			paths = append(paths, e.Path)
		}
	}
	return paths, err
}

// Unfinished reads a half-done operation.
func (r *Repo) Unfinished(ctx context.Context) (*vcs.Unfinished, error) {
	is := r.Busy()
	if is == "" {
		return nil, nil
	}
	h, err := r.here(ctx)
	if err != nil {
		return nil, err
	}
	u := &vcs.Unfinished{Operation: is, By: vcs.InMercurial.Program, Branch: h.name(), Head: h.tip(), Before: h.tip()}
	if is == vcs.Merging && len(h.parents) > 1 {
		u.Merged = h.parents[1:]
	}
	return u, nil
}

// Uncommented returns a message as it is: hg prepares none.
func (r *Repo) Uncommented(_ context.Context, text string) (string, error) { return text, nil }

// SetHead is not needed: branches move with changesets.
func (r *Repo) SetHead(context.Context, string, object.ID, string) error { return errNotHere }

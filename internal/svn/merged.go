package svn

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// ConflictedError reports conflicts of a merge that only svn itself can end: of whole folders.
type ConflictedError struct{ Path string }

func (e *ConflictedError) Error() string {
	return fmt.Sprintf("a merge of svn left a conflict of the folder %[1]s as a whole. “svn resolve --accept working "+
		"%[1]s” keeps what is there, and “svn revert %[1]s” takes it back. Nothing was changed", e.Path)
}

// mergedAt returns the paths of the tree that a merge left in conflict at a file or folder, each with what was in the
// other line before, what is here, and what is in the other line after.
func (r *courses) mergedAt(ctx context.Context, b *base, path string, c conflict) ([]vcs.Dirty, error) {
	switch {
	case c.Type == "text":
		return r.mergedText(path, c)
	case c.Type == "property":
		return r.mergedProperties(ctx, b, path, c)
	}
	d := vcs.Dirty{Path: path, Unstaged: true, Conflict: true, Unmarked: true}
	for _, v := range c.Versions {
		if v.Kind == "dir" {
			return nil, &ConflictedError{path}
		}
		if v.Kind != "file" {
			continue
		}
		is, err := r.elsewhere(ctx, b, v.Path, v.Revision, false)
		if err != nil {
			return nil, fmt.Errorf("reading %s as it was in %s: %w", path, v.Path, err)
		}
		d.Stages[sideOf(v.Side)] = is[""].Detached()
	}
	full := filepath.Join(r.dir, filepath.FromSlash(path))
	if _, err := os.Lstat(full); os.IsNotExist(err) {
		return []vcs.Dirty{d}, nil
	}
	props, err := r.svn.propertiesOf(ctx, r.dir, target(path))
	if err == nil {
		d.Stages[1], _, err = entryAt(r.made, full, props)
	}
	return []vcs.Dirty{d}, err
}

// sideOf returns the stage of a side of a merge, as svn names it.
func sideOf(side string) int {
	if side == "source-left" {
		return 0
	}
	return 2
}

// mergedText reads the three texts that svn wrote beside a file in conflict.
func (r *courses) mergedText(path string, c conflict) ([]vcs.Dirty, error) {
	d := vcs.Dirty{Path: path, Unstaged: true, Conflict: true}
	for i, file := range []string{c.Base, c.Mine, c.Theirs} {
		e, _, err := entryAt(r.made, absolute(r.dir, file), nil)
		if err != nil || e.Absent() {
			return nil, fmt.Errorf("reading what svn put aside of %s: %w", path, err)
		}
		d.Stages[i] = e
	}
	return []vcs.Dirty{d}, nil
}

// mergedProperties compares the properties before and after in the other line with those that are here.
func (r *courses) mergedProperties(ctx context.Context, b *base, path string, c conflict) (out []vcs.Dirty, err error) {
	var sides [3]map[string]string
	for _, v := range c.Versions {
		if v.Kind == "none" || v.Kind == "" {
			continue
		}
		url := b.on(v.Path, 0).url + "@" + strconv.FormatInt(v.Revision, 10)
		err = r.svn.asked(ctx, func() (err error) {
			sides[sideOf(v.Side)], err = r.svn.propertiesOf(ctx, r.dir, url)
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	if sides[1], err = r.svn.propertiesOf(ctx, r.dir, target(path)); err != nil {
		return nil, err
	}
	names := map[string]bool{}
	for _, side := range sides {
		for name := range side {
			names[name] = true
		}
	}
	for _, name := range sortedKeys(names) {
		d := vcs.Dirty{Path: propPath(path, name), Unstaged: true, Conflict: true, Unmarked: true}
		for i, side := range sides {
			if value, ok := side[name]; ok {
				d.Stages[i] = object.Entry{Mode: object.ModeFile, ID: r.made.Put(object.KindBlob, []byte(value))}
			}
		}
		was, is, other := d.Stages[0], d.Stages[1], d.Stages[2]
		if !isMode(name) && name != mergeinfoName && was != is && is != other && was != other {
			out = append(out, d)
		}
	}
	return out, nil
}

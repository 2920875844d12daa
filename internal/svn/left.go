package svn

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// An update that stopped at conflicts is not gone on with: what it left in conflict is read as it was before. The file
// counts as checked out at its old revision, with yours as svn put it aside, and the join of all is worked out anew.

// left is what an update left in conflict.
type left struct {
	paths   []string // files and folders in conflict
	aside   []string // files that svn wrote beside them
	texts   map[string]conflict
	settled []string // files that the person settled: no mark is left in them, and svn does not know
	// merged are the paths of the tree that “svn merge” or “svn switch” left in conflict. They are no operation that
	// could be joined anew: the conflicts are settled where they are.
	merged []vcs.Dirty
}

// leftOf reads the conflicts of a status, and takes back in what was checked out what the update did to them.
func (r *courses) leftOf(ctx context.Context, entries []statusEntry, b *base) (*left, error) {
	l := &left{texts: map[string]conflict{}}
	var paths []string
	for _, e := range entries {
		if e.conflicted() {
			paths = append(paths, e.Path)
		}
	}
	if len(paths) == 0 {
		return l, nil
	}
	list, err := r.svn.infoOf(ctx, r.dir, paths)
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		if err := r.leftAt(ctx, l, b, e); err != nil {
			return nil, err
		}
	}
	// svn writes what it could not set of properties beside the file.
	for _, path := range slices.Concat(l.paths, l.mergedNodes()) {
		for _, name := range []string{path + ".prej", strings.TrimPrefix(path+"/dir_conflicts.prej", "/")} {
			if slices.ContainsFunc(entries, func(e statusEntry) bool {
				return filepath.ToSlash(e.Path) == name && e.Is.Item == "unversioned"
			}) {
				l.aside = append(l.aside, name)
			}
		}
	}
	slices.Sort(l.aside)
	l.aside = slices.Compact(l.aside)
	return l, nil
}

// leftAt adds the conflicts of a file or folder.
func (r *courses) leftAt(ctx context.Context, l *left, b *base, e infoEntry) error {
	path := nodePath(e.Path)
	if len(e.Conflicts) == 1 && len(e.Tree) == 0 && e.Conflicts[0].Type == "text" && !markedAt(r.dir, path) {
		l.settled = append(l.settled, path)
		l.putAside(r.dir, e.Conflicts[0])
		return nil
	}
	byMerge := false
	for _, c := range slices.Concat(e.Conflicts, e.Tree) {
		l.putAside(r.dir, c)
		if c.Operation != "update" {
			more, err := r.mergedAt(ctx, b, path, c)
			if err != nil {
				return err
			}
			l.merged, byMerge = append(l.merged, more...), true
			continue
		}
		if err := r.before(ctx, b, path, c); err != nil {
			return err
		}
		if c.Type == "text" {
			l.texts[path] = c
		}
	}
	if !byMerge {
		l.paths = append(l.paths, path)
	}
	return nil
}

// putAside adds the files that svn wrote beside one in conflict.
func (l *left) putAside(dir string, c conflict) {
	l.aside = append(l.aside, beneathOf(dir, c.Mine, c.Base, c.Theirs)...)
}

// mergedNodes returns the files and folders that a merge left in conflict.
func (l *left) mergedNodes() (out []string) {
	for _, d := range l.merged {
		out = append(out, nodeOf(d.Path))
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// conflicted reports whether something is in conflict.
func (e *statusEntry) conflicted() bool {
	return e.Is.Item == "conflicted" || e.Is.Tree || e.Is.Props == "conflicted"
}

// beneathOf returns the paths of files below a folder.
func beneathOf(dir string, files ...string) (out []string) {
	for _, file := range files {
		if rel, err := filepath.Rel(dir, file); err == nil && file != "" && !strings.HasPrefix(rel, "..") {
			out = append(out, filepath.ToSlash(rel))
		}
	}
	return out
}

// before has the base of a path be what it was before the update.
func (r *courses) before(ctx context.Context, b *base, path string, c conflict) error {
	rev, at, kind := int64(-1), "", "none"
	for _, v := range c.Versions {
		switch {
		case v.Side == "source-left":
			rev, at, kind = v.Revision, v.Path, cmp.Or(v.Kind, kind)
		case rev < 0: // both added it
			var err error
			if rev, err = r.absentAt(ctx, b, path, v.Revision); err != nil {
				return err
			}
		}
	}
	if rev < 0 {
		return &ConflictedError{path}
	}
	if b.taken == nil {
		b.taken = map[string]int64{}
	}
	b.taken[path] = rev
	is, err := r.below(ctx, b.tree, path)
	if err != nil {
		return err
	}
	set := map[string]object.Entry{}
	for at := range is {
		set[at] = object.Entry{}
	}
	if kind != "none" {
		was, err := r.elsewhere(ctx, b, at, rev, kind == "dir")
		if err != nil {
			return fmt.Errorf("reading %s as it was before the update: %w", path, err)
		}
		for from, e := range was {
			to := moved(from, "", path)
			if of, name, ok := PropertyOf(from); ok {
				to = propPath(moved(of, "", path), name)
			}
			set[to] = e.Detached()
		}
	}
	b.tree, err = edited(ctx, r.made, b.tree, set)
	return err
}

// absentAt returns the last revision before one in which a path was not there; zero if it always was, as far as is
// known.
func (r *courses) absentAt(ctx context.Context, b *base, path string, rev int64) (int64, error) {
	k := r.mirror.records(b.url)
	for id := r.lastBefore(ctx, &k, b, rev+1); !id.IsZero(); {
		c, err := r.store().Commit(ctx, id)
		if err != nil {
			return 0, err
		}
		e, err := r.store().Find(ctx, c.Tree, path)
		if err != nil || e.Absent() {
			return NumberOf(c), err
		}
		if id = (object.ID{}); len(c.Parents) > 0 {
			id = c.Parents[0]
		}
	}
	return 0, nil
}

// below returns all paths of a tree that belong to a file or folder, and to what is in it.
func (r *courses) below(ctx context.Context, tree object.ID, path string) (map[string]object.Entry, error) {
	return (&reviser{made: r.made}).below(ctx, tree, path)
}

// mine returns the file with the person's text of one in conflict: the one that svn put aside or, where no marks are
// left in the file, that itself. A file of which only some was settled is for the person to end.
func (l *left) mine(dir, path string) (string, error) {
	full := filepath.Join(dir, filepath.FromSlash(path))
	c, ok := l.texts[path]
	if !ok || c.Mine == "" {
		return full, nil
	}
	is, err := os.ReadFile(full)
	if errors.Is(err, os.ErrNotExist) {
		return full, nil
	}
	if err != nil {
		return "", err
	}
	if !marked(is) {
		return full, nil
	}
	sides := make([][]byte, 2)
	for i, file := range []string{c.Mine, c.Theirs} {
		if sides[i], err = os.ReadFile(absolute(dir, file)); err != nil {
			return "", fmt.Errorf("reading what svn put aside of %s: %w", path, err)
		}
	}
	if !untouched(is, sides[0], sides[1]) {
		return "", &EditedError{path}
	}
	return absolute(dir, c.Mine), nil
}

func absolute(dir, file string) string {
	if filepath.IsAbs(file) {
		return file
	}
	return filepath.Join(dir, file)
}

// EditedError reports a file in conflict of which the person settled some.
type EditedError struct{ Path string }

func (e *EditedError) Error() string {
	return fmt.Sprintf("you settled some of what svn left in conflict in %[1]s, and marks of svn are left there. "+
		"Settle the rest in the file, and Dorvik goes on with your text; or “svn revert %[1]s” takes all of yours "+
		"there back. Nothing was changed", e.Path)
}

var (
	markMine   = []byte("<<<<<<< ")
	markBase   = []byte("||||||| ")
	markMiddle = []byte("=======")
	markTheirs = []byte(">>>>>>> ")
)

// marked reports whether a text has marks of a conflict.
func marked(text []byte) bool {
	for line := range bytes.Lines(text) {
		if bytes.HasPrefix(line, markMine) {
			return true
		}
	}
	return false
}

// markedAt reports whether a file has marks of a conflict.
func markedAt(dir, path string) bool {
	text, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(path)))
	return err == nil && marked(text)
}

// untouched reports whether a text with marks is as svn wrote it: between them are lines of the sides, and all else is
// a line of one of them.
func untouched(text, mine, theirs []byte) bool {
	has := [2]map[string]bool{{}, {}}
	for i, side := range [][]byte{mine, theirs} {
		for line := range bytes.Lines(side) {
			has[i][string(bytes.TrimRight(line, "\r\n"))] = true
		}
	}
	in := ""
	for line := range bytes.Lines(text) {
		plain := string(bytes.TrimRight(line, "\r\n"))
		switch {
		case bytes.HasPrefix(line, markMine):
			in = "mine"
		case bytes.HasPrefix(line, markBase) && in == "mine":
			in = "base"
		case plain == string(markMiddle) && in != "":
			in = "theirs"
		case bytes.HasPrefix(line, markTheirs) && in == "theirs":
			in = ""
		case in == "base", in == "mine" && has[0][plain], in == "theirs" && has[1][plain],
			in == "" && (has[0][plain] || has[1][plain]):
		default:
			return false
		}
	}
	return in == ""
}

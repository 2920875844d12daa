package svn

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// copies reads what was checked out.
type copies struct{ *settings }

// node is a file or folder of a working copy as it was checked out.
type node struct {
	rev   int64 // the revision that it was brought to
	dir   bool
	sum   string // SHA-1 of its stored text in hexadecimal digits; empty for a folder
	depth string // of a folder: what of it is checked out
}

// base is what was checked out, without what was changed since.
type base struct {
	url, root string // of the folder, and of the repository
	line      string // path of the folder in the repository; empty for all of it
	uuid      string // of the repository
	nodes     map[string]node
	props     map[string]map[string]string
	taken     map[string]int64 // revisions of paths that an update left in conflict: those before it
	last      int64            // the last revision that changed something in it
	when      time.Time        // and when
	tree      object.ID
}

// revs returns the oldest and the newest revision that anything was brought to.
func (b *base) revs() (oldest, newest int64) {
	oldest = -1
	for _, rev := range b.taken {
		if oldest < 0 || rev < oldest {
			oldest = rev
		}
	}
	for _, n := range b.nodes {
		if newest = max(newest, n.rev); oldest < 0 || n.rev < oldest {
			oldest = n.rev
		}
	}
	return oldest, newest
}

// at returns the revision that a path was brought to: its own or, if it is not there, that of the nearest folder.
func (b *base) at(path string) int64 {
	for {
		if rev, ok := b.taken[path]; ok {
			return rev
		}
		if n, ok := b.nodes[path]; ok {
			return n.rev
		}
		if path == "" {
			return 0
		}
		path = folder(path)
	}
}

// folder returns the folder of a path; empty at the top.
func folder(path string) string { return path[:max(strings.LastIndexByte(path, '/'), 0)] }

// readBase reads what was checked out in a folder in which nothing is added, removed or moved, and no property changed.
func (p *program) readBase(ctx context.Context, dir string) (*base, error) {
	entries, err := p.info(ctx, dir)
	if err != nil {
		return nil, err
	}
	b := &base{nodes: make(map[string]node, len(entries))}
	for _, e := range entries {
		path := nodePath(e.Path)
		rev, err := strconv.ParseInt(e.Revision, 10, 64)
		if err != nil {
			continue // it is not committed
		}
		if path == "" {
			b.url, b.root, b.uuid, b.last, b.when = e.URL, e.Root, e.UUID, e.Commit.Revision, e.Commit.Date
			if b.line, err = url.PathUnescape(strings.Trim(strings.TrimPrefix(e.Relative, "^"), "/")); err != nil {
				return nil, fmt.Errorf("svn names the place %q: %w", e.Relative, err)
			}
		}
		b.nodes[path] = node{rev, e.Kind == "dir", e.Checksum, e.Depth}
	}
	if _, ok := b.nodes[""]; !ok {
		return nil, fmt.Errorf("svn does not say what is checked out in %s", dir)
	}
	b.props, err = p.properties(ctx, dir)
	return b, err
}

// properties reads all properties of a working copy.
func (p *program) properties(ctx context.Context, dir string) (map[string]map[string]string, error) {
	var l propertyList
	if err := p.xml(ctx, in(dir, "reading properties", "proplist", "--verbose", "--recursive", "."), &l); err != nil {
		return nil, err
	}
	out := map[string]map[string]string{}
	for _, t := range l.Targets {
		of, err := t.values()
		if err != nil {
			return nil, err
		}
		out[nodePath(t.Path)] = of
	}
	return out, nil
}

// propertiesOf reads the properties of one file or folder: a path, or an address with a revision.
func (p *program) propertiesOf(ctx context.Context, dir, what string) (map[string]string, error) {
	var l propertyList
	if err := p.xml(ctx, in(dir, "reading properties", "proplist", "--verbose", what), &l); err != nil {
		return nil, err
	}
	if len(l.Targets) == 0 { // it has none
		return nil, nil
	}
	return l.Targets[0].values()
}

// values returns the properties by their names.
func (t propertyTarget) values() (map[string]string, error) {
	out := map[string]string{}
	for _, one := range t.Properties {
		value, err := one.text()
		if err != nil {
			return nil, err
		}
		out[one.Name] = value
	}
	return out, nil
}

// text returns the value.
func (p property) text() (string, error) {
	if p.Encoding != "base64" {
		return p.Value, nil
	}
	raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(p.Value))
	if err != nil {
		return "", fmt.Errorf("svn printed the property %s in a form that cannot be read: %w", p.Name, err)
	}
	return string(raw), nil
}

// treeOf makes the tree of a base.
func (m *mirror) treeOf(ctx context.Context, b *base, made *object.Overlay) (object.ID, error) {
	sums := map[string]string{}
	for path, n := range b.nodes {
		if !n.dir && n.sum != "" {
			sums[n.sum] = path
		}
	}
	texts, err := m.learn(sums)
	if err != nil {
		return object.ID{}, err
	}
	set := make(map[string]object.Entry, len(b.nodes))
	for path, n := range b.nodes {
		if n.dir || n.sum == "" {
			continue
		}
		e := object.Entry{Mode: modeOf(b.props[path]), ID: texts[n.sum]}
		if e.Mode == object.ModeLink {
			if e.ID, err = unlinked(ctx, made, e.ID); err != nil {
				return object.ID{}, err
			}
		}
		set[path] = e
	}
	for path, props := range b.props {
		for name, value := range props {
			if !isMode(name) {
				set[propPath(path, name)] = object.Entry{Mode: object.ModeFile,
					ID: made.Put(object.KindBlob, []byte(value))}
			}
		}
	}
	return edited(ctx, made, object.ID{}, set)
}

// unlinked returns the text of a link without the mark that Subversion stores before it.
func unlinked(ctx context.Context, made *object.Overlay, id object.ID) (object.ID, error) {
	data, err := made.Blob(ctx, id)
	if err != nil {
		return id, err
	}
	return made.Put(object.KindBlob, []byte(strings.TrimPrefix(string(data), linkMark))), nil
}

// edited is Overlay.Edit that returns the empty tree where nothing is left.
func edited(ctx context.Context, made *object.Overlay, tree object.ID, set map[string]object.Entry) (object.ID,
	error) {
	id, err := made.Edit(ctx, tree, set)
	if err == nil && id.IsZero() {
		id = made.PutTree(nil)
	}
	return id, err
}

// scratchDirs begins the names of scratch folders. The number of the process that made it follows.
const scratchDirs = "base-"

// scratch makes a folder with a working copy of which no file exists: what svn knows of one, to be changed by svn
// itself. The texts that svn has stored are shared. remove removes it. Each call makes a folder of its own, as several
// looks can be under way.
func (r *copies) scratch() (dir string, remove func(), err error) {
	at := filepath.Join(r.own, "dorvik")
	if err = os.MkdirAll(at, 0o700); err == nil {
		dir, err = os.MkdirTemp(at, fmt.Sprintf("%s%d-", scratchDirs, os.Getpid()))
	}
	if err != nil {
		return "", func() {}, fmt.Errorf("asking svn what was checked out: %w", err)
	}
	return dir, func() { os.RemoveAll(dir) }, r.likeness(dir)
}

// sweep removes the scratch folders of processes that were killed.
func (r *place) sweep() {
	dirs, _ := filepath.Glob(filepath.Join(r.own, "dorvik", scratchDirs+"*"))
	for _, dir := range dirs {
		var pid int
		if _, err := fmt.Sscanf(filepath.Base(dir), scratchDirs+"%d-", &pid); err == nil &&
			errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) {
			os.RemoveAll(dir)
		}
	}
}

// likeness fills a folder with what svn knows of the working copy.
func (r *copies) likeness(dir string) error {
	at := filepath.Join(dir, ".svn")
	err := os.MkdirAll(filepath.Join(at, "tmp"), 0o700)
	for _, name := range []string{"wc.db", "format", "entries"} {
		if err == nil {
			err = copyFile(filepath.Join(r.own, name), filepath.Join(at, name))
		}
	}
	if err == nil {
		err = os.Symlink(filepath.Join(r.own, "pristine"), filepath.Join(at, "pristine"))
	}
	if err != nil {
		return fmt.Errorf("copying what svn knows of your files: %w; nothing was changed", err)
	}
	return nil
}

// copyFile copies a file. One that is not there is passed over.
func copyFile(from, to string) error {
	data, err := os.ReadFile(from)
	if os.IsNotExist(err) {
		return nil
	}
	if err != nil {
		return err
	}
	return os.WriteFile(to, data, 0o600)
}

// structural reports whether an entry is more than an edited file: then “svn info” describes something else than what
// was checked out.
func (e *statusEntry) structural() bool {
	switch e.Is.Item {
	case "unversioned", "ignored", "external", "normal", "modified", "missing", "none", "obstructed":
		return e.Is.Props == "modified" || e.Is.Props == "conflicted"
	}
	return true
}

// SwitchedError reports a working copy of which a part is from another place of the repository.
type SwitchedError struct{ Path string }

func (e *SwitchedError) Error() string {
	return fmt.Sprintf("%s is switched to another place of the repository than the folder around it, and Dorvik joins "+
		"one line at a time. “svn switch” brings it back. Nothing was changed", e.Path)
}

// WorkingError reports a working copy that an svn is changing, or was when it died.
type WorkingError struct{ Path string }

func (e *WorkingError) Error() string {
	return "svn is working in this folder, or died while it did. Wait until it ends; if none runs, “svn cleanup” " +
		"ends what it began. Nothing was changed"
}

// usable returns an error if an entry is of a working copy that cannot be joined.
func usable(entries []statusEntry) error {
	for _, e := range entries {
		switch {
		case e.Is.Locked:
			return &WorkingError{e.Path}
		case e.Is.Switched:
			return &SwitchedError{e.Path}
		}
	}
	return nil
}

// baseOf returns what was checked out. Where files were added, removed or moved, svn is asked to take that back in a
// scratch folder first.
func (r *copies) baseOf(ctx context.Context, entries []statusEntry) (*base, error) {
	dir := r.dir
	var paths []string
	for _, e := range entries {
		if e.structural() {
			paths = append(paths, e.Path)
		}
	}
	if len(paths) > 0 {
		scratch, remove, err := r.scratch()
		defer remove()
		if err != nil {
			return nil, err
		}
		if err := r.svn.revert(ctx, scratch, paths); err != nil {
			return nil, err
		}
		dir = scratch
	}
	return r.svn.readBase(ctx, dir)
}

// revert has svn take back what was changed at paths of a working copy, and below them.
func (p *program) revert(ctx context.Context, dir string, paths []string) error {
	tops := slices.Clone(paths)
	slices.Sort(tops)
	tops = slices.CompactFunc(tops, func(a, b string) bool { return strings.HasPrefix(b, a+"/") })
	const doing = "asking svn what was checked out"
	if len(tops) > 0 && tops[0] == "" { // of the top its properties alone, for what is below is listed by itself
		if _, err := p.run(ctx, in(dir, doing, "revert", "--quiet", "--depth", "empty", ".")); err != nil {
			return err
		}
		tops = tops[1:]
	}
	if len(tops) == 0 {
		return nil
	}
	return p.at(ctx, in(dir, doing, "revert", "--quiet", "--depth", "infinity"), tops)
}

// at runs a command of svn on paths, however many.
func (p *program) at(ctx context.Context, c call, paths []string) error {
	f, err := os.CreateTemp("", "dorvik-paths-")
	if err != nil {
		return fmt.Errorf("%s: %w", c.doing, err)
	}
	defer os.Remove(f.Name())
	for _, path := range paths {
		_, err = f.WriteString(target(path) + "\n")
	}
	if err := errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("%s: %w", c.doing, err)
	}
	c.args = append(slices.Clone(c.args), "--targets", f.Name())
	_, err = p.run(ctx, c)
	return err
}

func targets(paths []string) (out []string) {
	for _, path := range paths {
		out = append(out, target(path))
	}
	return out
}

// sortedKeys returns the keys of a map in their order.
func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// lockedError converts an error of svn about a working copy in use.
func lockedError(err error, own string) error {
	failed, ok := err.(*Error)
	if ok && failed.Has("E155004", "E155037", "E155009", "E200030", "E200033") {
		return &vcs.LockedError{Path: filepath.Join(own, "wc.db"), Err: failed}
	}
	return err
}

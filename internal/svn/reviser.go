package svn

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
)

// reviser goes through the revisions of a line and notes what each did to the paths of its tree.
type reviser struct {
	made *object.Overlay
	line string
	base *base // where it starts; nil for nothing
	// exact says that the trees are those that the repository has: all was brought to one revision.
	exact bool
	// other reads what a path was in a revision that is not on the way, for copies.
	other func(path string, rev int64, dir bool) (map[string]object.Entry, error)
	// keep is called with each record, and the tree after it.
	keep func(rec *record, tree object.ID) error

	tree   object.ID
	at     map[int64]object.ID // trees after revisions
	rec    *record
	set    map[string]object.Entry // changes of the revision that are not in tree yet
	edited map[string]edit
}

// revision begins a revision.
func (r *reviser) revision(ctx context.Context, is revision) error {
	if err := r.end(ctx); err != nil {
		return err
	}
	r.rec = &record{Rev: is.number, Author: is.author, Date: is.date, Log: is.log}
	r.set, r.edited = map[string]object.Entry{}, map[string]edit{}
	return ctx.Err()
}

// end ends the revision that was begun.
func (r *reviser) end(ctx context.Context) error {
	if r.rec == nil {
		return nil
	}
	if err := r.flush(ctx); err != nil {
		return err
	}
	for _, path := range sortedKeys(r.edited) {
		r.rec.Edits = append(r.rec.Edits, r.edited[path])
	}
	rec := r.rec
	r.rec, r.at[rec.Rev] = nil, r.tree
	return r.keep(rec, r.tree)
}

// flush brings the tree up to date.
func (r *reviser) flush(ctx context.Context) (err error) {
	if len(r.set) > 0 {
		r.tree, err = edited(ctx, r.made, r.tree, r.set)
		r.set = map[string]object.Entry{}
	}
	return err
}

// find returns what is at a path now.
func (r *reviser) find(ctx context.Context, path string) (object.Entry, error) {
	if e, ok := r.set[path]; ok {
		return e, nil
	}
	return r.made.Find(ctx, r.tree, path)
}

// put notes what a node has at a path from this revision on.
func (r *reviser) put(node, path string, e object.Entry) {
	if r.newer(node) {
		r.edited[path] = edit{Node: node, Path: path, Unknown: true}
		return
	}
	e.Name = ""
	r.set[path] = e
	r.edited[path] = edit{Node: node, Path: path, Mode: e.Mode, ID: e.ID}
}

// newer reports whether the working copy had a node in this revision or a later one.
func (r *reviser) newer(node string) bool { return r.base != nil && r.base.at(node) >= r.rec.Rev }

// change takes a change of the revision. Those outside of the line are passed over.
func (r *reviser) change(ctx context.Context, c change) error {
	path, ok := within(r.line, c.path)
	if !ok || r.rec == nil {
		return nil
	}
	switch c.action {
	case "delete":
		return r.remove(ctx, path)
	case "replace":
		if err := r.remove(ctx, path); err != nil {
			return err
		}
	}
	if c.from != "" {
		if err := r.copy(ctx, path, c); err != nil {
			return err
		}
	}
	if err := r.properties(ctx, path, c); err != nil {
		return err
	}
	if c.dir || c.action != "change" && !c.hasText && c.from != "" {
		return nil
	}
	return r.text(ctx, path, c)
}

// within returns a path of the repository as one below a line.
func within(line, path string) (string, bool) {
	if line == "" {
		return path, true
	}
	if path == line {
		return "", true
	}
	return strings.CutPrefix(path, line+"/")
}

// below returns all paths of the tree that belong to a node and what is below it, with what is there.
func (r *reviser) below(ctx context.Context, tree object.ID, node string) (map[string]object.Entry, error) {
	out := map[string]object.Entry{}
	for _, top := range []string{node, strings.TrimSuffix(propsAt+node, "/")} {
		e, err := r.made.Find(ctx, tree, top)
		if err != nil {
			return nil, err
		}
		switch {
		case e.IsTree():
			err = r.made.EachChange(ctx, object.ID{}, e.ID, func(c object.Change) { out[top+"/"+c.Path] = c.New })
		case !e.Absent():
			out[top] = e
		}
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// nodeOf returns the file or folder that a path of the tree belongs to.
func nodeOf(path string) string {
	if of, _, ok := PropertyOf(path); ok {
		return of
	}
	return path
}

// remove takes a file or folder away.
func (r *reviser) remove(ctx context.Context, path string) error {
	if err := r.flush(ctx); err != nil {
		return err
	}
	gone, err := r.below(ctx, r.tree, path)
	if err != nil {
		return err
	}
	if r.newer(path) {
		r.put(path, path, object.Entry{})
	}
	for _, at := range sortedKeys(gone) {
		r.put(nodeOf(at), at, object.Entry{})
	}
	return nil
}

// copy makes a file or folder as a copy of another one.
func (r *reviser) copy(ctx context.Context, path string, c change) error {
	if err := r.flush(ctx); err != nil {
		return err
	}
	found, from, err := r.source(ctx, c)
	if err != nil {
		return err
	}
	if r.newer(path) {
		r.put(path, path, object.Entry{})
	}
	for _, at := range sortedKeys(found) {
		to := path
		if of, name, ok := PropertyOf(at); ok {
			to = propPath(moved(of, from, path), name)
		} else {
			to = moved(at, from, path)
		}
		if r.put(nodeOf(to), to, found[at]); to == nodeOf(to) {
			r.rec.Copies = append(r.rec.Copies, pathCopy{to, at})
		}
	}
	return nil
}

// moved is a path below another folder.
func moved(path, from, to string) string {
	return strings.Trim(to+"/"+strings.Trim(strings.TrimPrefix(path, from), "/"), "/")
}

// source returns what a copy is of, with paths below from.
func (r *reviser) source(ctx context.Context, c change) (found map[string]object.Entry, from string, err error) {
	from, inside := within(r.line, c.from)
	known := r.exact || !c.dir && !r.mixed(from, c.fromRev)
	if tree, ok := r.treeAt(c.fromRev); ok && inside && known {
		found, err = r.below(ctx, tree, from)
		if err != nil || len(found) > 0 {
			return found, from, err
		}
	}
	found, err = r.other(c.from, c.fromRev, c.dir)
	return found, "", err
}

// treeAt returns the tree after a revision that was passed, or where the way began.
func (r *reviser) treeAt(rev int64) (object.ID, bool) {
	best, ok := int64(-1), false
	for at := range r.at {
		if at <= rev && at > best {
			best, ok = at, true
		}
	}
	return r.at[best], ok
}

// mixed reports whether the working copy had a file in a newer revision than the one asked for.
func (r *reviser) mixed(path string, rev int64) bool { return r.base != nil && r.base.at(path) > rev }

// properties takes changes of properties. Two of them are the mode of a file.
func (r *reviser) properties(ctx context.Context, path string, c change) error {
	if !c.hasProps {
		return nil
	}
	if c.fresh && c.action == "change" {
		if err := r.flush(ctx); err != nil {
			return err
		}
		had, err := r.below(ctx, r.tree, path)
		if err != nil {
			return err
		}
		for at := range had {
			if of, name, ok := PropertyOf(at); ok && of == path && c.props[name] == nil {
				r.put(path, at, object.Entry{})
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(c.props)) {
		if isMode(name) {
			continue
		}
		e := object.Entry{}
		if value := c.props[name]; value != nil {
			e = object.Entry{Mode: object.ModeFile, ID: r.made.Put(object.KindBlob, []byte(*value))}
		}
		r.put(path, propPath(path, name), e)
	}
	return nil
}

// text takes a change of a file: its text, its mode, or both.
func (r *reviser) text(ctx context.Context, path string, c change) error {
	was, err := r.find(ctx, path)
	if err != nil {
		return err
	}
	if r.newer(path) || c.action == "change" && was.Absent() { // what is not checked out is not here
		r.put(path, path, object.Entry{Mode: object.ModeFile})
		if !r.newer(path) {
			delete(r.set, path)
			delete(r.edited, path)
		}
		return nil
	}
	if was.IsTree() {
		return fmt.Errorf("revision %d changes %s as a file, and it is a folder", r.rec.Rev, path)
	}
	is := object.Entry{ID: was.ID}
	is.Mode = c.mode(was.Mode)
	if !c.hasText && (was.Absent() || was.Mode == object.ModeLink != (is.Mode == object.ModeLink)) {
		c.hasText = true // an empty file, or one that became a link with the same text
		c.delta = []byte("SVN\x00")
		if !was.Absent() {
			return r.relink(ctx, path, was, is)
		}
	}
	if c.hasText {
		if is.ID, err = r.patch(ctx, was, is.Mode, c.delta); err != nil {
			return fmt.Errorf("%s in revision %d: %w", path, r.rec.Rev, err)
		}
	}
	r.put(path, path, is)
	return nil
}

// mode returns the mode of a file that had one before. A link is one, whatever else is said of it.
func (c *change) mode(was object.Mode) object.Mode {
	has := func(name string, mode object.Mode) bool {
		value, told := c.props[name]
		if !told {
			return was == mode && !(c.fresh && c.hasProps)
		}
		return value != nil
	}
	switch {
	case has(propLink, object.ModeLink):
		return object.ModeLink
	case has(propExec, object.ModeExec):
		return object.ModeExec
	}
	return object.ModeFile
}

// relink has a file become a link, or the reverse, without a change of its stored text.
func (r *reviser) relink(ctx context.Context, path string, was, is object.Entry) error {
	data, err := r.made.Blob(ctx, was.ID)
	if err != nil {
		return err
	}
	if is.Mode == object.ModeLink {
		data = []byte(strings.TrimPrefix(string(data), linkMark))
	} else {
		data = append([]byte(linkMark), data...)
	}
	is.ID = r.made.Put(object.KindBlob, data)
	r.put(path, path, is)
	return nil
}

// patch returns the text that a difference makes of the one that was there.
func (r *reviser) patch(ctx context.Context, was object.Entry, mode object.Mode, delta []byte) (object.ID, error) {
	var text []byte
	var err error
	if !was.Absent() {
		if text, err = r.made.Blob(ctx, was.ID); err != nil {
			return object.ID{}, err
		}
		if was.Mode == object.ModeLink {
			text = append([]byte(linkMark), text...)
		}
	}
	if text, err = patched(text, delta); err != nil {
		return object.ID{}, err
	}
	if mode == object.ModeLink {
		text = []byte(strings.TrimPrefix(string(text), linkMark))
	}
	return r.made.Put(object.KindBlob, text), nil
}

// errUnknown reports that a revision is not known well enough: the working copy went back behind it.
var errUnknown = errors.New("what is known of the revisions is too little")

// onto returns a tree with what a revision did to it, as far as the working copy has it not yet.
func (rec *record) onto(ctx context.Context, made *object.Overlay, tree object.ID, b *base) (object.ID, error) {
	set := map[string]object.Entry{}
	for _, e := range rec.Edits {
		switch {
		case b.at(e.Node) >= rec.Rev:
		case e.Unknown:
			return tree, errUnknown
		default:
			set[e.Path] = object.Entry{Mode: e.Mode, ID: e.ID}
		}
	}
	if len(set) == 0 {
		return tree, nil
	}
	return edited(ctx, made, tree, set)
}

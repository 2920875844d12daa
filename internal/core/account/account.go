// Package account computes what a join leaves out. It compares trees: what a side changed since a base, and whether
// the result contains it. How the result was made, by which decisions or route, does not matter.
package account

import (
	"context"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// Kind is the kind of thing that is left out. Its text is its name in `recover --json`.
type Kind string

// The kinds.
const (
	Line     Kind = "line"
	File     Kind = "file" // a version of a whole file, or what a link or a submodule points at
	Deletion Kind = "deletion"
	Name     Kind = "name"
	Mode     Kind = "mode"
)

// Entry is one change of a side that the result lacks.
type Entry struct {
	Kind Kind
	Path string      // in the side's tree; for a deletion, in the result's tree
	Line int         // in the side's file, from 1; 0 for a deleted line that is back
	Text string      // the line, without blanks around it
	Mode object.Mode // set for a mode
	Kept string      // set for a deletion: the line that is back; empty for a whole file
	Full string      // the line with its blanks and end, by which its author is found
}

// Of lists what a side changed since base and the result lacks, by path and line; other is the other side. A line
// counts as kept anywhere in its file, and where a line of the result contains what the side did to it (see
// freshLine.holds). Of follows renamed files in the side and in the result. It reads only files that the side changed
// and that differ in the result; its cost grows with their size. The error is that of reading an object, or the
// context's.
func Of(ctx context.Context, engine *merge.Engine, base, side, other, result object.ID) ([]Entry, error) {
	a := &comparison{engine: engine, store: engine.Store, base: base, side: side, other: other,
		result: result}
	if base == side || side == result {
		return nil, nil
	}
	changes, err := a.store.Changes(ctx, base, side)
	if err != nil {
		return nil, err
	}
	if err := a.renames(ctx, changes); err != nil {
		return nil, err
	}
	for _, c := range changes {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := a.change(ctx, c); err != nil {
			return nil, err
		}
	}
	slices.SortStableFunc(a.out, func(x, y Entry) int { return strings.Compare(x.Path, y.Path) })
	return a.out, nil
}

// comparison is one call of Of.
type comparison struct {
	engine                    *merge.Engine
	store                     *object.Overlay
	base, side, other, result object.ID
	went                      map[string]string // the side's path of a renamed file, by its path in base
	from                      map[string]string // the path in base, by the side's path
	now                       map[string]string // the result's path of a moved file, by its path in base
	added                     map[object.ID]bool
	gone                      map[string]bool // see findGone; nil if the caller did not ask
	out                       []Entry
}

// renames finds the new places of files in the side and in the result.
func (a *comparison) renames(ctx context.Context, changes []object.Change) (err error) {
	gone, missing := map[string]bool{}, map[string]bool{}
	for _, c := range changes {
		if c.Old.Absent() {
			continue
		}
		if c.New.Absent() {
			gone[c.Path] = true
		}
		is, err := a.find(ctx, c.Path)
		if err != nil {
			return err
		}
		missing[c.Path] = is.Absent()
	}
	if a.went, err = a.renamed(ctx, a.side, gone); err == nil {
		a.now, err = a.renamed(ctx, a.result, missing)
	}
	a.from = map[string]string{}
	for from, to := range a.went {
		a.from[to] = from
	}
	if err != nil {
		return err
	}
	return a.renamedOver(ctx, changes)
}

// renamedOver finds files that the side moved to the place of others and that differ in the result: the file at such a
// path resembles a deleted file more than the one it replaced.
func (a *comparison) renamedOver(ctx context.Context, changes []object.Change) error {
	for _, c := range changes {
		if !c.Old.Mode.IsRegular() || !c.New.Mode.IsRegular() || c.Old.ID == c.New.ID {
			continue
		}
		is, err := a.find(ctx, c.Path)
		if err != nil {
			return err
		}
		if is.Same(c.New) {
			continue // nothing of it can be left out
		}
		was, err := a.alike(ctx, c.Old, c.New)
		if err != nil {
			return err
		}
		if was {
			continue
		}
		without, err := a.store.Edit(ctx, a.base, map[string]object.Entry{c.Path: {}})
		if err != nil {
			return err
		}
		from, err := a.engine.CameFrom(ctx, without, a.side, c.Path)
		if err != nil {
			return err
		}
		if from != "" && a.went[from] == "" {
			a.went[from], a.from[c.Path] = c.Path, from
		}
	}
	return nil
}

// renamed finds files of base that a tree has at other places.
func (a *comparison) renamed(ctx context.Context, to object.ID, gone map[string]bool) (map[string]string, error) {
	out := map[string]string{}
	list, err := a.engine.Renames(ctx, a.base, to, gone)
	for _, r := range list {
		if gone[r.From] {
			out[r.From] = r.To
		}
	}
	return out, err
}

// find returns the file of the result at a path. A directory counts as no file.
func (a *comparison) find(ctx context.Context, path string) (object.Entry, error) {
	e, err := a.store.Find(ctx, a.result, path)
	if e.IsTree() {
		e = object.Entry{}
	}
	return e, err
}

// change accounts for one path that the side changed.
func (a *comparison) change(ctx context.Context, c object.Change) error {
	old, from := c.Old, c.Path
	switch to := a.went[c.Path]; {
	case c.New.Absent() && to != "":
		return nil // the account says where it went
	case c.New.Absent():
		return a.deletion(ctx, c)
	case a.from[c.Path] != "":
		from = a.from[c.Path]
		var err error
		if old, err = a.store.Find(ctx, a.base, from); err != nil {
			return err
		}
	}
	is, at, err := a.stands(ctx, from, c.Path)
	if err != nil {
		return err
	}
	if at != "" && at != c.Path {
		own, err := a.store.Find(ctx, a.side, at)
		if err != nil {
			return err
		}
		if own.Same(is) { // it is another file of the side, and says nothing about this one
			is, at = object.Entry{}, ""
		}
	}
	if old.Absent() && !is.Same(c.New) || from != c.Path && at != c.Path {
		elsewhere, err := a.isAdded(ctx, c.New.ID)
		if err != nil {
			return err
		}
		if elsewhere || at != "" && at != c.Path {
			a.add(Entry{Kind: Name, Path: c.Path})
			if elsewhere {
				return nil
			}
		}
	}
	if from != c.Path {
		if err := a.oldPlace(ctx, from, old); err != nil {
			return err
		}
	}
	switch {
	case is.Absent():
		if !c.New.Same(old) || from != c.Path {
			a.add(Entry{Kind: File, Path: c.Path})
		}
		return nil
	case is.Same(c.New):
		return nil
	}
	return a.content(ctx, c.Path, from, old, c.New, is)
}

// oldPlace accounts for the old place of a file that the side renamed. If that file is still there, its removal was
// overruled. A different file there is a new one.
func (a *comparison) oldPlace(ctx context.Context, path string, old object.Entry) error {
	is, err := a.find(ctx, path)
	if err != nil || is.Absent() || is.Mode.IsRegular() != old.Mode.IsRegular() {
		return err
	}
	same, err := a.alike(ctx, old, is)
	if err == nil && !same { // otherwise the result has the other side's version
		others, ferr := a.store.Find(ctx, a.other, path)
		same, err = others.Same(is), ferr
	}
	if err == nil && same {
		a.add(Entry{Kind: Deletion, Path: path})
	}
	return err
}

// stands finds a file in the result: under its new name, its old one, or the name that the result gave it.
func (a *comparison) stands(ctx context.Context, from, to string) (is object.Entry, at string, err error) {
	for _, at := range []string{to, from, a.now[from]} {
		if at == "" {
			continue
		}
		if is, err = a.find(ctx, at); err != nil || !is.Absent() {
			return is, at, err
		}
	}
	return object.Entry{}, "", nil
}

// isAdded reports whether the result has a content at a path that base lacks.
func (a *comparison) isAdded(ctx context.Context, id object.ID) (bool, error) {
	if a.added == nil {
		a.added = map[object.ID]bool{}
		if err := a.store.EachChange(ctx, a.base, a.result, func(c object.Change) {
			if c.Old.Absent() {
				a.added[c.New.ID] = true
			}
		}); err != nil {
			return false, err
		}
	}
	return a.added[id], nil
}

// deletion accounts for a file that the side deleted.
func (a *comparison) deletion(ctx context.Context, c object.Change) error {
	is, at, err := a.stands(ctx, c.Path, "")
	if err == nil && !is.Absent() {
		a.add(Entry{Kind: Deletion, Path: at})
	}
	return err
}

// content accounts for a file of the side that differs in the result.
func (a *comparison) content(ctx context.Context, path, from string, old, has, is object.Entry) error {
	set := executable(old) != executable(has)
	if !old.Mode.IsRegular() {
		set = executable(has)
	}
	if set && has.Mode.IsRegular() && is.Mode.IsRegular() && executable(is) != executable(has) {
		a.add(Entry{Kind: Mode, Path: path, Mode: has.Mode})
	}
	if has.ID == is.ID && has.Mode.IsRegular() == is.Mode.IsRegular() {
		return nil
	}
	if has.ID == old.ID && has.Mode == old.Mode {
		return a.onlyMoved(ctx, path, from, has, is)
	}
	if !has.Mode.IsRegular() || !is.Mode.IsRegular() {
		a.add(Entry{Kind: File, Path: path})
		return nil
	}
	var texts [3]string
	for i, e := range []object.Entry{old, has, is} {
		if !e.Mode.IsRegular() {
			continue // the file is new, or was not text
		}
		data, err := a.store.Blob(ctx, e.ID)
		if err != nil {
			return err
		}
		if !merge.IsText(data) {
			if has.ID != old.ID {
				a.add(Entry{Kind: File, Path: path})
			}
			return nil
		}
		texts[i] = string(data)
	}
	others, err := a.othersText(ctx, path, from)
	if err != nil {
		return err
	}
	if a.gone == nil {
		if err := a.findGone(ctx); err != nil {
			return err
		}
	}
	for _, e := range leftOut(texts[0], texts[1], others, texts[2], a.gone) {
		e.Path = path
		a.add(e)
	}
	return nil
}

// onlyMoved accounts for a file that the side renamed without changing it. If the other side left it unchanged too,
// the file at the new name must be made of it.
func (a *comparison) onlyMoved(ctx context.Context, path, from string, has, is object.Entry) error {
	if path == from {
		return nil
	}
	others, err := a.store.Find(ctx, a.other, from)
	if err != nil || !others.Same(has) {
		return err // the other side changed it
	}
	made, err := a.alike(ctx, has, is)
	if err == nil && !made {
		made, err = a.isAdded(ctx, has.ID)
	}
	if err == nil && !made {
		a.add(Entry{Kind: File, Path: path})
	}
	return err
}

// alike reports whether two files are equal, or texts that share half of their lines.
func (a *comparison) alike(ctx context.Context, x, y object.Entry) (bool, error) {
	if x.ID == y.ID || !x.Mode.IsRegular() || !y.Mode.IsRegular() {
		return x.ID == y.ID, nil
	}
	one, err := a.store.Blob(ctx, x.ID)
	if err != nil {
		return false, err
	}
	two, err := a.store.Blob(ctx, y.ID)
	if err != nil {
		return false, err
	}
	b, r := bare(diff.Lines(string(one))), bare(diff.Lines(string(two)))
	shared := diff.Common(len(b), diff.Histogram(b, r))
	return 2*shared >= max(len(b), len(r)) && shared > 0, nil
}

// othersText returns the other side's version of a file, under either of its names.
func (a *comparison) othersText(ctx context.Context, path, from string) (text string, err error) {
	seen := []string{""}
	add := func(tree object.ID, at string) error {
		e, err := a.store.Find(ctx, tree, at)
		if err != nil || !e.Mode.IsRegular() {
			return err
		}
		data, err := a.store.Blob(ctx, e.ID)
		text += string(data) + "\n"
		return err
	}
	for _, at := range []string{path, from, a.now[from]} {
		if slices.Contains(seen, at) {
			continue
		}
		seen = append(seen, at)
		if err := add(a.other, at); err != nil {
			return "", err
		}
	}
	return text, nil
}

// mostGone is the limit in bytes for reading files that base or the other side has and the result lacks.
const mostGone = 1 << 20

// findGone collects the lines of files that base and the other side have and the result lacks, because the result may
// have moved them to other files.
func (a *comparison) findGone(ctx context.Context) error {
	a.gone = map[string]bool{}
	size := 0
	for _, tree := range []object.ID{a.base, a.other} {
		var ids []object.ID
		if err := a.store.EachChange(ctx, tree, a.result, func(c object.Change) {
			if c.New.Absent() && c.Old.Mode.IsRegular() {
				ids = append(ids, c.Old.ID)
			}
		}); err != nil {
			return err
		}
		for _, id := range ids {
			data, err := a.store.Blob(ctx, id)
			if err != nil {
				return err
			}
			if size += len(data); size > mostGone {
				return nil
			}
			if merge.IsText(data) {
				for _, l := range bare(diff.Lines(string(data))) {
					a.gone[l] = true
				}
			}
		}
	}
	return nil
}

func executable(e object.Entry) bool { return e.Mode&0o100 != 0 }

func (a *comparison) add(e Entry) { a.out = append(a.out, e) }

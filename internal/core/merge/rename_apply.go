package merge

import (
	"context"
	"fmt"
	"hash/maphash"
	"maps"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/object"
)

// relevant lists the paths whose renames could matter: files of the base that one side deleted and the other changed
// or deleted.
func (r *Result) relevant(ctx context.Context) (gone map[string]bool, err error) {
	gone = map[string]bool{}
	for _, p := range r.gone {
		gone[p] = true
	}
	for _, c := range r.Conflicts {
		if base, _, _ := c.Subject.Sides(); base.IsFile() && (c.Kind == ModifyDelete || c.Kind == FileDirectory) {
			gone[c.Path] = true
		}
	}
	trees := slices.Clone(r.goneTrees)
	for _, j := range r.Joined {
		if j.Origin == FromBoth && j.Base.IsTree() && j.Result.IsTree() {
			trees = append(trees, Edit{j.Path, j.Base})
		}
	}
	for _, t := range trees {
		left, err := r.store.Find(ctx, r.Yours, t.Path)
		if err != nil {
			return nil, err
		}
		changes, err := r.store.Changes(ctx, t.Entry.ID, left.Subtree())
		if err != nil {
			return nil, err
		}
		for _, c := range changes {
			if c.New.Absent() {
				gone[t.Path+"/"+c.Path] = true
			}
		}
	}
	return gone, nil
}

// withRenames joins again with the renames that matter, if there are any. Suppose yours edits quay.txt and theirs
// renames it to pier.txt. The first walk finds it changed on one side and deleted on the other, and a new pier.txt.
// The rename is then applied to base and yours too: all three have pier.txt, and its texts join like any others.
func (e *Engine) withRenames(ctx context.Context, rules *rules, plain *Result, base ancestor) (*Result, error) {
	relevant, err := plain.relevant(ctx)
	if err != nil {
		return nil, err
	}
	dirs, err := plain.directories(ctx)
	if err != nil || len(relevant) == 0 && dirs == (Three[*movedDirs]{}) {
		return plain, err
	}
	finder := object.NewFinder(e.Store)
	var lists Three[[]Rename]
	var remarks []Remark
	for _, side := range []Side{Yours, Theirs} {
		list, uncompared, err := e.renamesOf(ctx, side, plain, finder, relevant, &dirs)
		if err != nil {
			return nil, err
		}
		*lists.Of(side) = list
		if uncompared > 0 {
			remarks = append(remarks, Remark{Words: fmt.Sprintf(
				"%d files may have been renamed and were not compared: there were too many", uncompared)})
		}
	}
	if len(lists.Yours)+len(lists.Theirs) == 0 {
		plain.Remarks = append(plain.Remarks, remarks...)
		return plain, nil
	}
	m := &renamesMade{engine: e, finder: finder, ancestors: base.of, from: map[string]string{},
		trees: Three[object.ID]{plain.Base, plain.Yours, plain.Theirs},
		edits: Three[map[string]object.Entry]{map[string]object.Entry{}, map[string]object.Entry{},
			map[string]object.Entry{}}}
	if err := m.arrange(ctx, lists.Yours, lists.Theirs); err != nil {
		return nil, err
	}
	if err := m.askFollowers(ctx, &dirs); err != nil {
		return nil, err
	}
	r, err := m.walk(ctx, rules, base, plain)
	if err != nil {
		return nil, err
	}
	r.Given, r.Remarks = plain.Given, append(remarks, r.Remarks...)
	return r, nil
}

// renamesOf finds the renames of one side that matter: of files that the other side changed or deleted, of files that
// show where a directory moved, and of files in a directory that the other side moved.
func (e *Engine) renamesOf(ctx context.Context, side Side, plain *Result, finder *object.Finder,
	relevant map[string]bool, dirs *Three[*movedDirs]) (list []Rename, uncompared int, err error) {
	tree := plain.Yours
	if side == Theirs {
		tree = plain.Theirs
	}
	gone := map[string]bool{}
	for p := range relevant {
		if at, err := finder.Find(ctx, tree, p); err != nil {
			return nil, 0, err
		} else if at.Absent() || at.IsTree() {
			gone[p] = true
		}
	}
	mine, other := *dirs.Of(side), *dirs.Of(side.Other())
	if mine != nil {
		maps.Copy(gone, mine.sources)
	}
	matters := func(Rename) bool { return true }
	if other != nil {
		known := maps.Clone(gone)
		matters = func(r Rename) bool { _, ok := other.added[r.To]; return ok || known[r.From] }
		if err := e.Store.EachChange(ctx, plain.Base, tree, func(c object.Change) {
			if c.New.Absent() {
				gone[c.Path] = true
			}
		}); err != nil {
			return nil, 0, err
		}
	}
	if len(gone) == 0 {
		return nil, 0, nil
	}
	if list, uncompared, err = e.renamesBetween(ctx, plain.Base, tree, gone); err != nil {
		return nil, 0, err
	}
	list = slices.DeleteFunc(list, func(r Rename) bool { return !matters(r) })
	if mine != nil {
		mine.count(list)
	}
	return list, uncompared, nil
}

// walk joins the trees with the renames applied and adds the conflicts about the renames. It reuses the lists of
// plain, the result without renames.
func (m *renamesMade) walk(ctx context.Context, rules *rules, base ancestor, plain *Result) (*Result, error) {
	var trees Three[object.ID]
	for _, of := range []Side{ofBase, Yours, Theirs} {
		var err error
		if *trees.Of(of), err = m.engine.Store.Edit(ctx, *m.trees.Of(of), m.set(of)); err != nil {
			return nil, err
		}
	}
	r := m.engine.begin(trees.Base, trees.Yours, trees.Theirs)
	r.Joined, r.ofYours, r.ofTheirs = plain.Joined[:0], plain.ofYours[:0], plain.ofTheirs[:0]
	err := m.engine.walk(ctx, rules, base.open, r)
	if err != nil {
		return nil, err
	}
	for _, c := range r.Conflicts {
		from := strings.TrimSuffix(m.from[c.Path], asideName)
		switch s := c.Subject.(type) {
		case *Lines:
			s.From = from
		case *Versions:
			s.From = from
		}
	}
	r.from = m.from
	if err := m.settleWaiting(ctx, r); err != nil {
		return nil, err
	}
	r.force(m.deleted)
	r.Conflicts = append(r.Conflicts, m.names...)
	slices.SortStableFunc(r.Conflicts, func(a, b Conflict) int { return strings.Compare(a.Path, b.Path) })
	return r, nil
}

// renamesMade is three trees in which each side's renames were applied to the others too, as if made before the lines
// parted, and the conflicts about the renames themselves.
type renamesMade struct {
	engine    *Engine
	finder    *object.Finder
	ancestors []object.ID // the trees that the base is made of, if there are several
	trees     Three[object.ID]
	edits     Three[map[string]object.Entry] // edits that apply the renames to each tree
	deleted   []Conflict                     // files that one side renamed and the other deleted
	names     []Conflict                     // conflicts about names
	// renamed files that keep their old names, because another file has the new one
	collided []oneSided
	// renamed files that keep their old names, because a file or directory blocks the new one
	waiting []oneSided
	from    map[string]string // old names by new ones
}

// set returns the edits of a tree.
func (m *renamesMade) set(tree Side) map[string]object.Entry { return *m.edits.Of(tree) }

// oneSided is a rename that only one side made. met is the old name of a file that the other side renamed to the same
// name, or "".
type oneSided struct {
	Rename
	side Side
	met  string
}

func (m *renamesMade) entryAt(ctx context.Context, tree Side, p string) (object.Entry, error) {
	if e, ok := m.set(tree)[p]; ok {
		return e, nil
	}
	return m.finder.Find(ctx, *m.trees.Of(tree), p)
}

// ancestral reports whether one of several common ancestors has an entry at a path.
func (m *renamesMade) ancestral(ctx context.Context, p string, e object.Entry) (bool, error) {
	for _, tree := range m.ancestors {
		if at, err := m.engine.Store.Find(ctx, tree, p); err != nil || at.Same(e) {
			return true, err
		}
	}
	return false, nil
}

// blocked reports whether a side has something of its own where the directories of a path would be.
func (m *renamesMade) blocked(ctx context.Context, side Side, p string) (bool, error) {
	for i, r := range p {
		if r != '/' {
			continue
		}
		at, err := m.entryAt(ctx, side, p[:i])
		if err != nil || !at.IsFile() {
			if err != nil {
				return true, err
			}
			continue
		}
		was, err := m.entryAt(ctx, ofBase, p[:i])
		if err != nil || !at.Same(was) {
			return true, err // what the other side left unchanged goes anyway
		}
	}
	return false, nil
}

// taken reports whether a side has something of its own at a path. A directory that is as in the base except for files
// that the other side renamed does not count.
func (m *renamesMade) taken(ctx context.Context, side Side, p string) (bool, error) {
	at, err := m.entryAt(ctx, side, p)
	if err != nil || !at.IsTree() {
		return !at.Absent(), err
	}
	was, err := m.entryAt(ctx, ofBase, p)
	if err != nil || at.Same(was) || !was.IsTree() {
		return !at.Same(was), err
	}
	var left [2]object.ID
	for i, of := range []struct {
		entry object.Entry
		set   map[string]object.Entry
	}{{was, m.set(ofBase)}, {at, m.set(side)}} {
		inside := map[string]object.Entry{}
		for q, e := range of.set {
			if q, ok := strings.CutPrefix(q, p+"/"); ok {
				inside[q] = e
			}
		}
		if left[i], err = m.engine.Store.Edit(ctx, of.entry.ID, inside); err != nil {
			return true, err
		}
	}
	return left[0] != left[1], nil
}

// changed is taken, but a file as in the base does not count: the other side put the renamed file over it.
func (m *renamesMade) changed(ctx context.Context, side Side, p string) (bool, error) {
	at, err := m.entryAt(ctx, side, p)
	if err != nil {
		return true, err
	}
	if was, err := m.entryAt(ctx, ofBase, p); err != nil || at.IsFile() && at.Same(was) {
		return false, err
	}
	return m.taken(ctx, side, p)
}

// occupied reports whether a side has something of its own at a path or in its way.
func (m *renamesMade) occupied(ctx context.Context, side Side, p string) (bool, error) {
	if changed, err := m.changed(ctx, side, p); changed || err != nil {
		return changed, err
	}
	return m.blocked(ctx, side, p)
}

// free reports whether a file could be put at a path: neither side has anything there, nor a file in place of one of
// its directories.
func (m *renamesMade) free(ctx context.Context, p string) (bool, error) {
	for _, tree := range []Side{Yours, Theirs} {
		if at, err := m.entryAt(ctx, tree, p); err != nil || !at.Absent() {
			return false, err
		}
		for dir := parent(p); dir != ""; dir = parent(dir) {
			if at, err := m.entryAt(ctx, tree, dir); err != nil || at.IsFile() {
				return false, err
			}
		}
	}
	return true, nil
}

// arrange combines the renames of both sides. A blocked rename waits for those that may clear its way.
func (m *renamesMade) arrange(ctx context.Context, yours, theirs []Rename) error {
	var to, from Three[map[string]string] // new names by old ones, old by new
	for side, list := range map[Side][]Rename{Yours: yours, Theirs: theirs} {
		*to.Of(side), *from.Of(side) = map[string]string{}, map[string]string{}
		for _, r := range list {
			(*to.Of(side))[r.From] = r.To
			(*from.Of(side))[r.To] = r.From
		}
	}
	var waiting []oneSided
	for _, r := range yours {
		if other, ok := to.Theirs[r.From]; !ok {
			waiting = append(waiting, oneSided{r, Yours, from.Theirs[r.To]})
		} else if err := m.placeTwiceRenamed(ctx, r.From, r.To, other); err != nil {
			return err
		}
	}
	for _, r := range theirs {
		if _, ok := to.Yours[r.From]; !ok {
			waiting = append(waiting, oneSided{r, Theirs, from.Yours[r.To]})
		}
	}
	for last := -1; len(waiting) != last; {
		last = len(waiting)
		still := waiting[:0]
		for _, r := range waiting {
			done, err := m.placeRenamed(ctx, r)
			if err != nil {
				return err
			}
			if !done {
				still = append(still, r)
			}
		}
		waiting = still
	}
	for _, r := range waiting {
		if err := m.waitUnderOldName(ctx, r); err != nil {
			return err
		}
	}
	for _, r := range m.collided {
		kind := RenameAdd
		if r.met != "" {
			kind = RenameRename
		}
		if err := m.askName(ctx, r, kind); err != nil {
			return err
		}
	}
	return nil
}

// placeTwiceRenamed handles a file that both sides renamed: its content is joined under one of the names; if there are
// two, the name is a question.
func (m *renamesMade) placeTwiceRenamed(ctx context.Context, from, yours, theirs string) error {
	was, err := m.entryAt(ctx, ofBase, from)
	if err != nil {
		return err
	}
	if yours == theirs {
		m.set(ofBase)[from], m.set(ofBase)[yours] = object.Entry{}, was
		m.from[yours] = from
		return nil
	}
	y, err := m.entryAt(ctx, Yours, yours)
	if err != nil {
		return err
	}
	t, err := m.entryAt(ctx, Theirs, theirs)
	if err != nil {
		return err
	}
	// If the other side has something of its own at a name, the file keeps another name for now.
	yoursTaken, err := m.occupied(ctx, Theirs, yours)
	if err != nil {
		return err
	}
	theirsTaken, err := m.occupied(ctx, Yours, theirs)
	if err != nil {
		return err
	}
	at := yours
	switch {
	case yoursTaken && theirsTaken:
		at = from
	case yoursTaken:
		at = theirs
	}
	if at == from {
		if ok, err := m.free(ctx, from); err != nil || !ok {
			return err // no path is free to join the file at: the names conflict with all they hold
		}
	}
	m.set(ofBase)[from], m.set(Yours)[yours], m.set(Theirs)[theirs] = object.Entry{}, object.Entry{}, object.Entry{}
	m.set(ofBase)[at], m.set(Yours)[at], m.set(Theirs)[at] = was, y, t
	m.from[at] = from
	n := &Naming{At: at, From: from, Also: theirs}
	if n.Yours, err = m.place(ctx, at, yours, yoursTaken, Theirs, ""); err != nil {
		return err
	}
	if n.Theirs, err = m.place(ctx, at, theirs, theirsTaken, Yours, ""); err != nil {
		return err
	}
	m.names = append(m.names, Conflict{yours, RenameRename, n})
	return nil
}

// place returns the moves that bring a file from where it waits to a name. Something of the other side there makes
// room: it goes to its old name, or to one beside.
func (m *renamesMade) place(ctx context.Context, at, name string, taken bool, other Side, old string) (Placing, error) {
	out := Placing{Name: name}
	if at == name {
		return out, nil
	}
	out.Moves = []Move{{From: at, To: name}}
	if !taken {
		return out, nil
	}
	top := name
	// There may be a file where a directory must be.
	for dir := parent(name); dir != ""; dir = parent(dir) {
		if is, err := m.entryAt(ctx, other, dir); err != nil {
			return out, err
		} else if is.IsFile() {
			top = dir
		}
	}
	room := ""
	if old != "" && top == name {
		if ok, err := m.free(ctx, old); err != nil {
			return out, err
		} else if ok {
			room = old
		}
	}
	if room == "" {
		var err error
		if room, err = beside(top, other, func(p string) (bool, error) { return m.free(ctx, p) }); err != nil {
			return out, err
		}
	}
	there, err := m.entryAt(ctx, other, top)
	out.Moves = append(out.Moves, Move{top, room, there.IsTree()})
	return out, err
}

// placeRenamed handles a file that only one side renamed. done is false if its way is blocked.
func (m *renamesMade) placeRenamed(ctx context.Context, r oneSided) (done bool, err error) {
	other := r.side.Other()
	f, err := m.renamedFile(ctx, r)
	if err != nil {
		return false, err
	}
	for _, tree := range []Side{ofBase, other} {
		m.set(tree)[r.From] = object.Entry{}
	}
	undo := func() {
		for _, tree := range []Side{ofBase, other} {
			delete(m.set(tree), r.From)
		}
	}
	blocked, err := m.blocked(ctx, other, r.To)
	if err != nil {
		return false, err
	}
	// The other side's entry counts only if it is still there after its own renames.
	if f.there, err = m.entryAt(ctx, other, r.To); err != nil {
		return false, err
	}
	if taken, err := m.taken(ctx, other, r.To); err != nil {
		return false, err
	} else if !taken {
		f.there = object.Entry{}
	}
	switch {
	case blocked || f.there.IsTree():
		undo()
		return false, nil
	case f.left.Absent() || !f.left.Mode.SameType(f.is.Mode):
		return true, m.renamedAndGone(ctx, r, f)
	case f.there.Same(f.is):
		// The other side made the same rename. The file at the old name is a new one or, if the base is made of several
		// ancestors, one that an ancestor had there.
		kept, err := m.ancestral(ctx, r.From, f.left)
		if err != nil {
			return false, err
		}
		if !kept {
			delete(m.set(other), r.From)
		}
		m.set(ofBase)[r.To], m.from[r.To] = f.was, r.From
	case !f.there.Absent():
		// Another file of theirs has the new name. This one keeps its old name, and its content is joined there.
		undo()
		if here, err := m.entryAt(ctx, r.side, r.From); err != nil || !here.Absent() {
			return true, err // the old name is not free either
		}
		m.set(r.side)[r.From], m.set(r.side)[r.To] = f.is, object.Entry{}
		m.collided = append(m.collided, r)
	default:
		m.set(ofBase)[r.To], m.set(other)[r.To] = f.was, f.left
		m.from[r.To] = r.From
	}
	return true, nil
}

// renamedFile is the versions of a file that one side renamed.
type renamedFile struct {
	was   object.Entry // entry in the base
	is    object.Entry // entry at the new name
	left  object.Entry // the other side's entry at the old name
	there object.Entry // the other side's own entry at the new name
}

// renamedFile reads the versions of a renamed file, except for what the other side has at its new name.
func (m *renamesMade) renamedFile(ctx context.Context, r oneSided) (f renamedFile, err error) {
	if f.was, err = m.entryAt(ctx, ofBase, r.From); err != nil {
		return f, err
	}
	if f.is, err = m.entryAt(ctx, r.side, r.To); err != nil {
		return f, err
	}
	f.left, err = m.entryAt(ctx, r.side.Other(), r.From)
	return f, err
}

// renamedAndGone handles a renamed file that the other side deleted or replaced by another type. It stays where it is.
func (m *renamesMade) renamedAndGone(ctx context.Context, r oneSided, f renamedFile) error {
	if !f.left.Absent() {
		delete(m.set(r.side.Other()), r.From)
	}
	if f.left.Absent() || f.there.Absent() {
		// If the other side has another file at the new name, that is a conflict of its own.
		v := &Versions{Base: f.was, Yours: f.is, From: r.From}
		if r.side == Theirs {
			v.Yours, v.Theirs = v.Theirs, f.is
		}
		m.deleted = append(m.deleted, Conflict{r.To, RenameDelete, v})
		return nil
	}
	// The other side has the new name, and an entry of another type at the old one. It made the same rename if the file
	// is the same and it renamed nothing else to it.
	if !f.there.Mode.SameType(f.is.Mode) || r.met != "" || f.left.IsTree() {
		return nil
	}
	similar := finder{engine: m.engine, contents: map[object.ID]*diff.Bag{}, seed: maphash.MakeSeed()}
	score, err := similar.similarity(ctx, f.was, f.there)
	if err == nil && (score >= minSimilar || f.there.Same(f.was)) {
		m.set(ofBase)[r.To], m.from[r.To] = f.was, r.From
	}
	return err
}

// askName asks whether a file that waits under its old name gets its new one, where the other side has something else.
func (m *renamesMade) askName(ctx context.Context, r oneSided, kind ConflictKind) error {
	stay := Placing{Name: r.From}
	mine, err := m.place(ctx, r.From, r.To, true, r.side.Other(), r.met)
	if err != nil {
		return err
	}
	n := &Naming{At: r.From, From: r.From, Yours: mine, Theirs: stay}
	if r.side == Theirs {
		n.Yours, n.Theirs = stay, mine
	}
	m.names = append(m.names, Conflict{r.To, kind, n})
	return nil
}

// waitUnderOldName handles a rename whose new name the other side has a directory at, or a file in the way of. The
// file waits under its old name; the clash decides where it goes or, if there is none in the end, a question of names.
func (m *renamesMade) waitUnderOldName(ctx context.Context, r oneSided) error {
	is, err := m.entryAt(ctx, r.side, r.To)
	if err != nil {
		return err
	}
	theirs, err := m.entryAt(ctx, r.side.Other(), r.From)
	if err != nil || theirs.Absent() || !theirs.Mode.SameType(is.Mode) {
		return err
	}
	if here, err := m.entryAt(ctx, r.side, r.From); err != nil || !here.Absent() {
		return err
	}
	m.set(r.side)[r.From], m.set(r.side)[r.To] = is, object.Entry{}
	m.waiting = append(m.waiting, r)
	return nil
}

// settleWaiting moves each file that waits under its old name along with the directory of the clash in its way, or
// asks for its name.
func (m *renamesMade) settleWaiting(ctx context.Context, r *Result) error {
	for _, w := range m.waiting {
		var clash *Clash
		for _, c := range r.Conflicts {
			if s, ok := c.Subject.(*Clash); ok && strings.HasPrefix(w.To, c.Path+"/") && s.File() == w.side.Other() {
				clash = s
			}
		}
		if clash != nil {
			clash.Within = append(clash.Within, Move{From: w.From, To: w.To})
		} else if err := m.askName(ctx, w, FileDirectory); err != nil {
			return err
		}
	}
	return nil
}

package merge

import (
	"context"
	"dorvik/internal/core/object"
	"fmt"
	"hash/maphash"
	"maps"
	"slices"
	"strings"
)

// relevant lists the paths whose renames could matter: files of the base that
// one side no longer has and the other changed or no longer has either.
func (r *Result) relevant() (gone map[string]bool, err error) {
	gone = map[string]bool{}
	for _, p := range r.gone {
		gone[p] = true
	}
	for _, c := range r.Conflicts {
		if base, _, _ := c.Subject.Sides(); isFile(base) && (c.Kind == ModifyDelete || c.Kind == FileDirectory) {
			gone[c.Path] = true
		}
	}
	trees := slices.Clone(r.goneTrees)
	for _, j := range r.Joined {
		if j.Origin == FromBoth && j.Base.IsTree() && j.Result.IsTree() {
			trees = append(trees, edit{j.Path, j.Base})
		}
	}
	for _, t := range trees {
		left, err := r.store.Find(r.Yours, t.path)
		if err != nil {
			return nil, err
		}
		changes, err := r.store.Changes(t.entry.ID, left.Subtree())
		if err != nil {
			return nil, err
		}
		for _, c := range changes {
			if c.New.Absent() {
				gone[t.path+"/"+c.Path] = true
			}
		}
	}
	return gone, nil
}

// withRenames joins again with the renames that matter, if there are any.
func (e *Engine) withRenames(ctx context.Context, rules *rules, plain *Result, base ancestor) (*Result, error) {
	relevant, err := plain.relevant()
	if err != nil {
		return nil, err
	}
	dirs, err := plain.directories()
	if err != nil || len(relevant) == 0 && dirs == [3]*movedDirs{} {
		return plain, err
	}
	var lists [3][]Rename
	var remarks []Remark
	finder := object.NewFinder(e.Store)
	for side := inYours; side <= inTheirs; side++ {
		tree := [...]object.ID{inYours: plain.Yours, inTheirs: plain.Theirs}[side]
		gone := map[string]bool{}
		for p := range relevant {
			if at, err := finder.Find(tree, p); err != nil {
				return nil, err
			} else if at.Absent() || at.IsTree() {
				gone[p] = true
			}
		}
		if dirs[side] != nil {
			maps.Copy(gone, dirs[side].sources)
		}
		// What this side put into a directory that the other moved may be a file it had
		// elsewhere.
		matter := func(Rename) bool { return true }
		if other := dirs[inYours+inTheirs-side]; other != nil {
			known := maps.Clone(gone)
			matter = func(r Rename) bool { _, put := other.added[r.To]; return put || known[r.From] }
			if err := e.Store.EachChange(plain.Base, tree, func(c object.Change) {
				if c.New.Absent() {
					gone[c.Path] = true
				}
			}); err != nil {
				return nil, err
			}
		}
		if len(gone) == 0 {
			continue
		}
		var uncompared int
		if lists[side], uncompared, err = e.renames(ctx, plain.Base, tree, gone); err != nil {
			return nil, err
		}
		lists[side] = slices.DeleteFunc(lists[side], func(r Rename) bool { return !matter(r) })
		if uncompared > 0 {
			remarks = append(remarks, Remark{Words: fmt.Sprintf("%d files may have been renamed and were not compared: there were too many", uncompared)})
		}
		if dirs[side] != nil {
			dirs[side].count(lists[side])
		}
	}
	if len(lists[inYours])+len(lists[inTheirs]) == 0 {
		plain.Remarks = append(plain.Remarks, remarks...)
		return plain, nil
	}
	m := &renamesMade{engine: e, finder: finder, ancestors: base.of, base: plain.Base, yours: plain.Yours, theirs: plain.Theirs, from: map[string]string{}}
	for i := range m.set {
		m.set[i] = map[string]object.Entry{}
	}
	if err := m.arrange(lists[inYours], lists[inTheirs]); err != nil {
		return nil, err
	}
	if err := m.askFollowers(dirs); err != nil {
		return nil, err
	}
	var trees [3]object.ID
	for i, id := range []object.ID{m.base, m.yours, m.theirs} {
		if trees[i], err = e.Store.Edit(id, m.set[i]); err != nil {
			return nil, err
		}
	}
	r, err := e.walk(ctx, rules, ancestor{tree: trees[0], open: base.open}, trees[1], trees[2])
	if err != nil {
		return nil, err
	}
	r.Given, r.Remarks = plain.Given, append(remarks, r.Remarks...)
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
	if err := m.settleWaiting(r); err != nil {
		return nil, err
	}
	r.force(m.deleted)
	r.Conflicts = append(r.Conflicts, m.names...)
	slices.SortStableFunc(r.Conflicts, func(a, b Conflict) int { return strings.Compare(a.Path, b.Path) })
	return r, nil
}

// renamesMade is three trees with the renames of each side made on the others too,
// as though they had been made before the lines parted, and the conflicts that
// the renames themselves are.
type renamesMade struct {
	engine              *Engine
	finder              *object.Finder
	ancestors           []object.ID // the trees of which the base is made, if of several
	base, yours, theirs object.ID
	set                 [3]map[string]object.Entry // to be made on base, yours, theirs
	deleted             []Conflict                 // files that one side renamed and the other deleted
	names               []Conflict                 // questions of names
	collided            []oneSided                 // files that wait under their old names, as something else has the new ones
	waiting             []oneSided                 // files that wait under their old names, as something is in the way of the new ones
	from                map[string]string
}

const (
	inBase = iota
	inYours
	inTheirs
)

// sides are the sides by their trees.
var sides = [3]Side{inYours: Yours, inTheirs: Theirs}

// oneSided is a rename that only one side made. met is the old name of a file that the
// other renamed to the same name, or empty.
type oneSided struct {
	Rename
	side, other int
	met         string
}

func (m *renamesMade) entryAt(tree int, p string) (object.Entry, error) {
	if e, ok := m.set[tree][p]; ok {
		return e, nil
	}
	return m.finder.Find([]object.ID{m.base, m.yours, m.theirs}[tree], p)
}

// ancestral reports whether one of several common ancestors has an entry at a path.
func (m *renamesMade) ancestral(p string, e object.Entry) (bool, error) {
	for _, tree := range m.ancestors {
		if at, err := m.engine.Store.Find(tree, p); err != nil || at.Same(e) {
			return true, err
		}
	}
	return false, nil
}

// blocked reports whether a file cannot be put at a path of a side as though it
// had always been there: the side has something of its own where the path's
// directories would be.
func (m *renamesMade) blocked(side int, p string) (bool, error) {
	for i, r := range p {
		if r != '/' {
			continue
		}
		at, err := m.entryAt(side, p[:i])
		if err != nil || !isFile(at) {
			if err != nil {
				return true, err
			}
			continue
		}
		was, err := m.entryAt(inBase, p[:i])
		if err != nil || !at.Same(was) {
			return true, err // what it has as the base had it goes anyhow
		}
	}
	return false, nil
}

// taken reports whether a side has something of its own at a path. A directory
// is none if it is as the base had it but for files that the other side renamed: who
// puts a file there took it away.
func (m *renamesMade) taken(side int, p string) (bool, error) {
	at, err := m.entryAt(side, p)
	if err != nil || !at.IsTree() {
		return !at.Absent(), err
	}
	was, err := m.entryAt(inBase, p)
	if err != nil || at.Same(was) || !was.IsTree() {
		return !at.Same(was), err
	}
	var left [2]object.ID
	for i, of := range []struct {
		entry object.Entry
		set   map[string]object.Entry
	}{{was, m.set[inBase]}, {at, m.set[side]}} {
		inside := map[string]object.Entry{}
		for q, e := range of.set {
			if q, ok := strings.CutPrefix(q, p+"/"); ok {
				inside[q] = e
			}
		}
		if left[i], err = m.engine.Store.Edit(of.entry.ID, inside); err != nil {
			return true, err
		}
	}
	return left[0] != left[1], nil
}

// changed is taken, but for a file as the base had it: the other side put the renamed
// one over it.
func (m *renamesMade) changed(side int, p string) (bool, error) {
	at, err := m.entryAt(side, p)
	if err != nil {
		return true, err
	}
	if was, err := m.entryAt(inBase, p); err != nil || isFile(at) && at.Same(was) {
		return false, err
	}
	return m.taken(side, p)
}

// occupied reports whether a side has something of its own at a path, or in its way.
func (m *renamesMade) occupied(side int, p string) (bool, error) {
	if changed, err := m.changed(side, p); changed || err != nil {
		return changed, err
	}
	return m.blocked(side, p)
}

// free reports whether a file could be put at a path: neither side has anything
// there, nor a file where one of the path's directories would be.
func (m *renamesMade) free(p string) (bool, error) {
	for _, tree := range []int{inYours, inTheirs} {
		if at, err := m.entryAt(tree, p); err != nil || !at.Absent() {
			return false, err
		}
		for dir := parent(p); dir != ""; dir = parent(dir) {
			if at, err := m.entryAt(tree, dir); err != nil || isFile(at) {
				return false, err
			}
		}
	}
	return true, nil
}

// arrange works out what the renames of both sides mean together. One whose way is
// blocked waits for those that may clear it.
func (m *renamesMade) arrange(yours, theirs []Rename) error {
	to := [3]map[string]string{inYours: {}, inTheirs: {}}
	from := [3]map[string]string{inYours: {}, inTheirs: {}}
	var waiting []oneSided
	for side, list := range [3][]Rename{inYours: yours, inTheirs: theirs} {
		for _, r := range list {
			to[side][r.From] = r.To
			from[side][r.To] = r.From
		}
	}
	for _, r := range yours {
		if other, both := to[inTheirs][r.From]; !both {
			waiting = append(waiting, oneSided{r, inYours, inTheirs, from[inTheirs][r.To]})
		} else if err := m.placeTwiceRenamed(r.From, r.To, other); err != nil {
			return err
		}
	}
	for _, r := range theirs {
		if _, both := to[inYours][r.From]; !both {
			waiting = append(waiting, oneSided{r, inTheirs, inYours, from[inYours][r.To]})
		}
	}
	for last := -1; len(waiting) != last; {
		last = len(waiting)
		still := waiting[:0]
		for _, r := range waiting {
			done, err := m.placeRenamed(r)
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
		if err := m.waitUnderOldName(r); err != nil {
			return err
		}
	}
	for _, r := range m.collided {
		kind := RenameAdd
		if r.met != "" {
			kind = RenameRename
		}
		if err := m.askName(r, kind); err != nil {
			return err
		}
	}
	return nil
}

// placeTwiceRenamed handles a file that placeTwiceRenamed sides renamed: its content is joined at one of the
// names, and which name it has is asked if there are two.
func (m *renamesMade) placeTwiceRenamed(from, yours, theirs string) error {
	was, err := m.entryAt(inBase, from)
	if err != nil {
		return err
	}
	if yours == theirs {
		m.set[inBase][from], m.set[inBase][yours] = object.Entry{}, was
		m.from[yours] = from
		return nil
	}
	y, err := m.entryAt(inYours, yours)
	if err != nil {
		return err
	}
	t, err := m.entryAt(inTheirs, theirs)
	if err != nil {
		return err
	}
	// Where the other side has something of its own at a name, the file waits under
	// another.
	yoursTaken, err := m.occupied(inTheirs, yours)
	if err != nil {
		return err
	}
	theirsTaken, err := m.occupied(inYours, theirs)
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
		if ok, err := m.free(from); err != nil || !ok {
			return err // there is no place for it to be joined: the names are contested with all they hold
		}
	}
	m.set[inBase][from], m.set[inYours][yours], m.set[inTheirs][theirs] = object.Entry{}, object.Entry{}, object.Entry{}
	m.set[inBase][at], m.set[inYours][at], m.set[inTheirs][at] = was, y, t
	m.from[at] = from
	n := &Naming{At: at, From: from, Also: theirs}
	if n.Yours, err = m.place(at, yours, yoursTaken, inTheirs, ""); err != nil {
		return err
	}
	if n.Theirs, err = m.place(at, theirs, theirsTaken, inYours, ""); err != nil {
		return err
	}
	m.names = append(m.names, Conflict{yours, RenameRename, n})
	return nil
}

// place is taking a file from where it waits to a name. Where something of the other side
// stands there, that makes room: it goes to its old name, or to one beside.
func (m *renamesMade) place(at, name string, taken bool, other int, old string) (Placing, error) {
	out := Placing{Name: name}
	if at == name {
		return out, nil
	}
	out.Moves = []Move{{From: at, To: name}}
	if !taken {
		return out, nil
	}
	top := name
	// It may be a file where a directory of the name is to be.
	for dir := parent(name); dir != ""; dir = parent(dir) {
		if is, err := m.entryAt(other, dir); err != nil {
			return out, err
		} else if isFile(is) {
			top = dir
		}
	}
	room := ""
	if old != "" && top == name {
		if ok, err := m.free(old); err != nil {
			return out, err
		} else if ok {
			room = old
		}
	}
	if room == "" {
		var err error
		if room, err = beside(top, sides[other], m.free); err != nil {
			return out, err
		}
	}
	there, err := m.entryAt(other, top)
	out.Moves = append(out.Moves, Move{top, room, there.IsTree()})
	return out, err
}

// placeRenamed handles a file that only placeRenamed side renamed; done is false where its way is
// blocked.
func (m *renamesMade) placeRenamed(r oneSided) (done bool, err error) {
	was, err := m.entryAt(inBase, r.From)
	if err != nil {
		return false, err
	}
	is, err := m.entryAt(r.side, r.To)
	if err != nil {
		return false, err
	}
	theirs, err := m.entryAt(r.other, r.From)
	if err != nil {
		return false, err
	}
	for _, tree := range []int{inBase, r.other} {
		m.set[tree][r.From] = object.Entry{}
	}
	undo := func() {
		for _, tree := range []int{inBase, r.other} {
			delete(m.set[tree], r.From)
		}
	}
	blocked, err := m.blocked(r.other, r.To)
	if err != nil {
		return false, err
	}
	there, err := m.entryAt(r.other, r.To)
	if err != nil {
		return false, err
	}
	if taken, err := m.taken(r.other, r.To); err != nil {
		return false, err
	} else if !taken {
		there = object.Entry{}
	}
	switch {
	case blocked || there.IsTree():
		undo()
		return false, nil
	case theirs.Absent() || !theirs.Mode.SameType(is.Mode):
		// They deleted it, or made something else of it, which stays where it is.
		if !theirs.Absent() {
			delete(m.set[r.other], r.From)
		}
		if !theirs.Absent() && !there.Absent() {
			// They have the new name, too, and a thing of another type at the old one:
			// they renamed it alike, if it is that file and they renamed nothing else.
			if there.Mode.SameType(is.Mode) && r.met == "" && !theirs.IsTree() {
				f := finder{engine: m.engine, counts: map[object.ID]*spans{}, seed: maphash.MakeSeed()}
				if score, err := f.similarity(was, there); err != nil {
					return false, err
				} else if score >= minSimilar || there.Same(was) {
					m.set[inBase][r.To], m.from[r.To] = was, r.From
				}
			}
			return true, nil
		}
		// If they have something else at the new name, that is contested anyhow.
		v := &Versions{Base: was, Yours: is, From: r.From}
		if r.side == inTheirs {
			v.Yours, v.Theirs = v.Theirs, is
		}
		m.deleted = append(m.deleted, Conflict{r.To, RenameDelete, v})
	case there.Same(is):
		// They renamed it alike, and what stands at the old name is a new file, or where
		// the base is made of several what one of them had there, and kept.
		kept, err := m.ancestral(r.From, theirs)
		if err != nil {
			return false, err
		}
		if !kept {
			delete(m.set[r.other], r.From)
		}
		m.set[inBase][r.To], m.from[r.To] = was, r.From
	case !there.Absent():
		// Something else of theirs stands at the new name: two files for one name. This one
		// waits under its old name, and its content is joined there.
		undo()
		if here, err := m.entryAt(r.side, r.From); err != nil || !here.Absent() {
			return true, err // nor is there a place for it under the old name
		}
		m.set[r.side][r.From], m.set[r.side][r.To] = is, object.Entry{}
		m.collided = append(m.collided, r)
	default:
		m.set[inBase][r.To], m.set[r.other][r.To] = was, theirs
		m.from[r.To] = r.From
	}
	return true, nil
}

// askName asks whether a file that waits under its old name has its new one, where
// the other side has something else.
func (m *renamesMade) askName(r oneSided, kind Kind) error {
	stay := Placing{Name: r.From}
	mine, err := m.place(r.From, r.To, true, r.other, r.met)
	if err != nil {
		return err
	}
	n := &Naming{At: r.From, From: r.From, Yours: mine, Theirs: stay}
	if r.side == inTheirs {
		n.Yours, n.Theirs = stay, mine
	}
	m.names = append(m.names, Conflict{r.To, kind, n})
	return nil
}

// waitUnderOldName handles a rename whose new name the other side has a directory at, or a file
// in the way of. The file waits under its old name; it is for the clash to say
// where it goes, or where there is none in the end, for a question of names.
func (m *renamesMade) waitUnderOldName(r oneSided) error {
	is, err := m.entryAt(r.side, r.To)
	if err != nil {
		return err
	}
	theirs, err := m.entryAt(r.other, r.From)
	if err != nil || theirs.Absent() || !theirs.Mode.SameType(is.Mode) {
		return err
	}
	if here, err := m.entryAt(r.side, r.From); err != nil || !here.Absent() {
		return err
	}
	m.set[r.side][r.From], m.set[r.side][r.To] = is, object.Entry{}
	m.waiting = append(m.waiting, r)
	return nil
}

// settleWaiting has each file that waits under its old name go along with the directory
// of the clash that is in its way, or asks for its name where that is all there is.
func (m *renamesMade) settleWaiting(r *Result) error {
	for _, w := range m.waiting {
		var clash *Clash
		for _, c := range r.Conflicts {
			if s, is := c.Subject.(*Clash); is && strings.HasPrefix(w.To, c.Path+"/") && s.File() == sides[w.other] {
				clash = s
			}
		}
		if clash != nil {
			clash.Within = append(clash.Within, Move{From: w.From, To: w.To})
		} else if err := m.askName(w, FileDirectory); err != nil {
			return err
		}
	}
	return nil
}

package recovery

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Uncommitted is work that is not committed, to be brought along by a join: it is replayed onto
// the result like two commits more, which are never made. The first is what was staged, the
// second what the files have beyond that.
type Uncommitted struct {
	On     object.ID // the commit it was made on
	Staged object.ID // a tree: all that the index holds
	Files  object.ID // a tree: all that the files hold
	Paths  []string  // those that are not as committed, as git names them
	Parts  []Part    // of what it is made

	seen map[string]os.FileInfo // the files, just before they were read; those that are not there are not in it
}

// What becomes of a path that is carried. The names are those of `recover --json`.
const (
	CarriedSame     = "same"     // the join does not touch it
	CarriedJoined   = "joined"   // it is joined with the result
	CarriedConflict = "conflict" // and a person decided how
)

// CarriedPath is a path with uncommitted work, and what becomes of it.
type CarriedPath struct {
	Path  string `json:"path"`
	State string `json:"state"`
}

// Carried is uncommitted work joined onto a result.
type Carried struct {
	Of     *Uncommitted
	Staged object.ID // trees: what the index is to hold,
	Files  object.ID // and what the files are to hold
	Paths  []CarriedPath
	Asked  int // decisions
}

// uncommitted reads the work that is not committed; nil where there is none that git knows.
func (w *Workspace) uncommitted(ctx context.Context, on object.ID, dirty []vcs.Dirty) (*Uncommitted, error) {
	u := &Uncommitted{On: on, seen: map[string]os.FileInfo{}}
	for _, d := range dirty {
		if d.Untracked {
			continue
		}
		u.Paths = append(u.Paths, d.Path)
		if info, err := os.Lstat(filepath.Join(w.Repo.Dir, filepath.FromSlash(d.Path))); err == nil && !info.IsDir() {
			u.seen[d.Path] = info
		}
	}
	if len(u.Paths) == 0 {
		return nil, nil
	}
	var err error
	if u.Staged, u.Files, err = w.Repo.Uncommitted(ctx, dirty); err != nil {
		return nil, err
	}
	if w.Repo.Hold != nil { // a session may carry it
		if err := w.holdWork(ctx, u.Staged, u.Files); err != nil {
			return nil, err
		}
	}
	same := map[string]object.Entry{}
	for _, d := range dirty {
		if w.asIndexed(d) {
			same[d.Path] = d.Index
		}
	}
	if u.Files, err = w.Store.Edit(u.Files, same); err != nil {
		return nil, err
	}
	base, err := w.Tree(on)
	if err != nil {
		return nil, err
	}
	u.add(Part{base, u.Staged, "what you had staged", true})
	u.add(Part{u.Staged, u.Files, "your uncommitted work", false})
	return u, nil
}

// asIndexed reports whether a file that git calls changed holds, byte for byte, what the index has. git calls a text so
// whose line ends were never made to follow its attributes: storing it again would change them.
func (w *Workspace) asIndexed(d vcs.Dirty) bool {
	return d.Unstaged && !d.Untracked && !d.Conflict && w.holdsJust(d.Path, d.Index)
}

// nothingOwn reports whether all that git calls changed is as the index has it, and nothing is staged.
func (w *Workspace) nothingOwn(dirty []vcs.Dirty) bool {
	any := false
	for _, d := range dirty {
		switch {
		case d.Untracked:
		case d.Staged || !w.asIndexed(d):
			return false
		default:
			any = true
		}
	}
	return any
}

// add adds a part, if it holds anything.
func (u *Uncommitted) add(p Part) {
	if p.Base != p.Tree {
		u.Parts = append(u.Parts, p)
	}
}

// same reports whether two accounts of uncommitted work hold the same.
func (u *Uncommitted) same(v *Uncommitted) bool {
	if u == nil || v == nil {
		return u == v
	}
	return u.Staged == v.Staged && u.Files == v.Files && slices.Equal(u.Paths, v.Paths)
}

// Part is uncommitted work of one kind: what leads from one tree to another.
type Part struct {
	Base, Tree object.ID
	Subject    string
	Staged     bool // it is to be staged again
}

// node is the commit that would be made of a part.
func (w *Workspace) node(ctx context.Context, u *Uncommitted, part Part) history.Node {
	who, err := w.Repo.Committer(ctx)
	if err != nil {
		who = object.Signature{Name: "you"}
	}
	who.When, who.Zone = 0, "+0000" // the same work is the same commit
	c := object.Commit{Tree: part.Base, Parents: []object.ID{u.On}, AuthorLine: who.String(), Committer: who,
		Message: part.Subject + "\n"}
	base := c
	c.Tree, c.Parents = part.Tree, []object.ID{w.Store.PutCommit(&base)}
	return history.Node{ID: w.Store.PutCommit(&c), Commit: &c}
}

// carry joins uncommitted work onto the result of a join. What it asks is asked at the last stops.
func (w *Workspace) carry(ctx context.Context, j *Join, u *Uncommitted, resolve replay.Resolver) error {
	if u == nil || j.Refused != nil {
		return nil
	}
	base, err := w.Tree(u.On)
	if err != nil {
		return err
	}
	c := &Carried{Of: u, Staged: j.Tree, Files: j.Tree}
	j.Carried = c
	asked := map[string]bool{}
	for _, part := range u.Parts {
		same := c.Staged == c.Files
		if part.Staged && !same { // other work came between: the index has it not
			if c.Staged, err = w.carryPart(ctx, j, u, part, c.Staged, asked, resolve); err != nil {
				return err
			}
		}
		if c.Files, err = w.carryPart(ctx, j, u, part, c.Files, asked, resolve); err != nil {
			return err
		}
		if part.Staged && same {
			c.Staged = c.Files
		}
	}
	return w.carriedPaths(c, base, j.Tree, asked)
}

// carryPart joins a part of uncommitted work onto a tree.
func (w *Workspace) carryPart(ctx context.Context, j *Join, u *Uncommitted, part Part, onto object.ID,
	asked map[string]bool, resolve replay.Resolver) (object.ID, error) {
	r, err := w.engine.Trees(ctx, part.Base, part.Tree, onto)
	if err != nil {
		return onto, fmt.Errorf("joining %s onto the result: %w", part.Subject, err)
	}
	decided, _, err := resolve(r)
	if err != nil {
		return onto, err
	}
	if !r.Clean() {
		j.Stops = append(j.Stops, Stop{Commit: w.node(ctx, u, part), Result: r, Uncommitted: true})
		for i := range r.Conflicts {
			j.Carried.Asked++
			for _, p := range r.Conflicts[i].Paths() {
				asked[p] = true
			}
		}
	}
	return r.Tree(decided)
}

// carriedPaths says what becomes of each path.
func (w *Workspace) carriedPaths(c *Carried, base, result object.ID, asked map[string]bool) error {
	l, err := w.lay(base, c.Of, result, c.Staged, c.Files)
	if err != nil {
		return err
	}
	work := map[string]object.Entry{} // as it was
	for _, part := range c.Of.Parts {
		if err := w.Store.EachChange(part.Base, part.Tree, func(c object.Change) { work[c.Path] = c.New }); err != nil {
			return err
		}
	}
	for _, p := range slices.Sorted(maps.Keys(work)) {
		one := CarriedPath{p, CarriedSame}
		is, err := w.Store.Find(c.Files, p)
		if err != nil {
			return err
		}
		switch known := slices.Contains(c.Of.Paths, p); {
		case asked[p]:
			one.State = CarriedConflict
		case known && slices.Contains(l.paths, p), !known && !is.Same(work[p]):
			one.State = CarriedJoined
		}
		c.Paths = append(c.Paths, one)
	}
	return nil
}

// Names are the paths that are carried.
func (c *Carried) Names() (out []string) {
	for _, p := range c.Paths {
		out = append(out, p.Path)
	}
	return out
}

// layout is where index and files go with uncommitted work brought along. What the change does
// not touch is not in it: that stays where it is, as it is.
type layout struct {
	staged, files object.ID // trees
	start         object.ID // the tree that the change starts from, without what goes and is not left alone
	paths         []string  // with uncommitted work that is not left alone, sorted
}

// lay works out the layout of a change from one tree, on which there is uncommitted work, to
// another, with which index and files are to hold staged and files.
func (w *Workspace) lay(from object.ID, u *Uncommitted, to, staged, files object.ID) (l *layout, err error) {
	l = &layout{}
	alone := map[string]bool{}
	moves := map[string]bool{} // all paths at which something changes, and their folders
	moving := func(path string) {
		for ; path != "" && !moves[path]; path = folder(path) {
			moves[path] = true
		}
	}
	for _, pair := range [][2]object.ID{{from, to}, {to, staged}, {to, files}} {
		if err := w.Store.EachChange(pair[0], pair[1], func(c object.Change) { moving(c.Path) }); err != nil {
			return nil, err
		}
	}
	for _, p := range u.Paths {
		e, err := w.filesAt(p, from, u.Staged, u.Files, to, staged, files)
		if err != nil {
			return nil, err
		}
		alone[p] = e[0].Same(e[3]) && e[1].Same(e[4]) && e[2].Same(e[5])
	}
	for _, p := range u.Paths {
		if alone[p] && !u.beside(p, alone, moves) {
			continue
		}
		alone[p] = false
		l.paths = append(l.paths, p)
		moving(p)
	}
	slices.Sort(l.paths)
	if l.staged, err = w.towards(to, staged, alone); err == nil {
		l.files, err = w.towards(to, files, alone)
	}
	if err == nil {
		l.start, err = w.without(from, l)
	}
	return l, err
}

// filesAt gives what trees hold at a path; a folder is nothing.
func (w *Workspace) filesAt(path string, trees ...object.ID) (out []object.Entry, err error) {
	for _, t := range trees {
		e, err := w.Store.Find(t, path)
		if err != nil {
			return nil, err
		}
		if e.IsTree() {
			e = object.Entry{}
		}
		out = append(out, e)
	}
	return out, nil
}

// towards takes a tree to another, but for the paths that are left alone.
func (w *Workspace) towards(tree, to object.ID, alone map[string]bool) (object.ID, error) {
	changes, err := w.Store.Changes(tree, to)
	if err != nil {
		return object.ID{}, err
	}
	gone, put := map[string]object.Entry{}, map[string]object.Entry{}
	for _, c := range changes {
		switch {
		case alone[c.Path]:
		case c.New.Absent():
			gone[c.Path] = c.New
		default:
			put[c.Path] = c.New
		}
	}
	if tree, err = w.Store.Edit(tree, gone); err == nil { // first, as a folder can come where a file was
		tree, err = w.Store.Edit(tree, put)
	}
	if err == nil && tree.IsZero() {
		tree = w.Store.EmptyTree()
	}
	return tree, err
}

// beside reports whether a path cannot be left alone: it is a folder, or in the place of one, of
// what is not.
func (u *Uncommitted) beside(p string, alone, moves map[string]bool) bool {
	for dir := folder(p); dir != ""; dir = folder(dir) {
		if is, known := alone[dir]; known && (!is || moves[dir]) {
			return true
		}
	}
	return slices.ContainsFunc(u.Paths, func(q string) bool { return strings.HasPrefix(q, p+"/") }) && moves[p]
}

// without is a tree without the paths of a layout that are not to be there: what goes need not be
// there now, and something else can be where it was.
func (w *Workspace) without(from object.ID, l *layout) (object.ID, error) {
	gone := map[string]object.Entry{}
	for _, p := range l.paths {
		to, err := w.Store.Find(l.files, p)
		if err != nil {
			return object.ID{}, err
		}
		is, err := w.Store.Find(from, p)
		if err != nil {
			return object.ID{}, err
		}
		if (to.Absent() || to.IsTree()) && !is.Absent() && !is.IsTree() {
			gone[p] = object.Entry{}
		}
	}
	tree, err := w.Store.Edit(from, gone)
	if err == nil && tree.IsZero() {
		tree = w.Store.EmptyTree()
	}
	return tree, err
}

// submodules lists paths of the layout at which there is a submodule in one tree and something else in another: its
// folder would have to be moved, and holds a repository. Where only the commit differs, the index alone is changed.
func (w *Workspace) submodules(l *layout, trees ...object.ID) (out []string, err error) {
	for _, p := range l.paths {
		sub, other := false, false
		for _, t := range trees {
			e, err := w.Store.Find(t, p)
			if err != nil {
				return nil, err
			}
			sub = sub || e.Mode == object.ModeSubmodule
			other = other || !e.Absent() && e.Mode != object.ModeSubmodule
		}
		if sub && other {
			out = append(out, p)
		}
	}
	return out, nil
}

// Sentence says in a line what was carried; empty where nothing was.
func (c *Carried) Sentence() string {
	if c == nil || len(c.Paths) == 0 {
		return ""
	}
	is := map[string][]string{}
	for _, p := range c.Paths {
		is[p.State] = append(is[p.State], p.Path)
	}
	var out []string
	if p := is[CarriedJoined]; len(p) > 0 {
		out = append(out, "joined with the result in "+strings.Join(p, ", "))
	}
	if p := is[CarriedConflict]; len(p) > 0 {
		out = append(out, "as you decided in "+strings.Join(p, ", "))
	}
	if p := is[CarriedSame]; len(p) > 0 {
		out = append(out, "untouched in "+words.List(words.Some(p, 3)))
	}
	return "Your uncommitted work was carried along: " + strings.Join(out, "; ") + "."
}

// laid is how a change lays out uncommitted work.
type laid struct {
	*layout
	of *Uncommitted
	is Held // all that index and files hold afterwards
}

// layOut works out how uncommitted work is laid out by a change to a tree, with which index and
// files are to hold what they are to. It is nil where all of it is left alone.
func (w *Workspace) layOut(u *Uncommitted, to object.ID, is Held) (*laid, error) {
	from, err := w.Tree(u.On)
	if err != nil {
		return nil, err
	}
	l, err := w.lay(from, u, to, is.Staged, is.Files)
	if err != nil || len(l.paths) == 0 && l.files == to && l.staged == to {
		return nil, err
	}
	subs, err := w.submodules(l, from, u.Files, is.Files)
	if err == nil && len(subs) > 0 {
		err = &Blocked{"The change must move " + strings.Join(subs, ", ") + ", where a submodule is on one side and " +
			"something else on the other.", "Commit that, or put the submodule back, and try again. Nothing was " +
			"changed."}
	}
	return &laid{l, u, is}, err
}

// keepUnder has a transition move uncommitted work as it is laid out, and keep it under a
// waypoint as it was.
func (s *Session) keepUnder(ctx context.Context, wp *Waypoint, tr *Transition, l *laid, st *Stuck) error {
	k := &Kept{Paths: l.paths, Was: Held{l.of.Staged, l.of.Files}, Is: l.is}
	parents := []object.ID{l.of.On}
	if st != nil {
		parents = append(parents, st.Merged...)
	}
	var err error
	if k.Commit, err = s.keepCommit(ctx, k, parents); err != nil {
		return err
	}
	if err := s.hand(ctx, k.Commit, l); err != nil {
		return err
	}
	wp.Kept = k
	tr.Lay = &Lay{Start: l.start, Staged: l.staged, Files: l.files, Had: l.of.Files, Paths: l.paths,
		Keep: s.freeKeep(wp.Name)}
	if st != nil {
		s.keepStuck(k, tr, st)
	}
	tr.seen = l.of.seen
	return nil
}

// hand hands what a layout needs over to the repository.
func (s *Session) hand(ctx context.Context, kept object.ID, l *laid) error {
	roots := []object.ID{l.start, l.staged, l.files, l.is.Staged, l.is.Files}
	if !kept.IsZero() {
		roots = append(roots, kept)
	}
	return s.Repo.AddPack(ctx, func(w io.Writer) (int, error) { return s.Store.WritePack(w, roots...) })
}

// layBack has a transition that undoes a join bring uncommitted work along.
func (s *Session) layBack(ctx context.Context, wp *Waypoint, tr *Transition, dirty []vcs.Dirty) error {
	from, err := s.Tree(wp.After)
	if err != nil {
		return err
	}
	before := wp.Before
	if wp.Kept != nil && !wp.Kept.Head.IsZero() {
		before = wp.Kept.Head
	}
	to, err := s.Tree(before)
	if err != nil {
		return err
	}
	if dirty, err = s.withLoose(wp, dirty); err != nil {
		return err
	}
	u, err := s.uncommitted(ctx, wp.After, dirty)
	if err != nil {
		return err
	}
	var l *laid
	asItWas := wp.Kept != nil && u.holds(from) == wp.Kept.Is
	switch {
	case asItWas:
		if u == nil {
			u = &Uncommitted{On: wp.After, Staged: from, Files: from}
		}
		l, err = s.layOut(u, to, wp.Kept.Was)
		if l == nil && err == nil && wp.takenOver() {
			l = &laid{&layout{staged: to, files: to, start: from}, u, wp.Kept.Was}
		}
	case wp.takenOver():
		return &Blocked{"Files were changed since what git left half done was taken over.",
			"Commit them, or put them back, and undo again. Nothing was changed."}
	case u != nil:
		l, err = s.joinBack(ctx, wp, u, to)
	}
	if err != nil {
		return err
	}
	if l == nil {
		if err := s.notInTheWayBack(from, to, dirty); err != nil {
			return err
		}
		return s.trySwitch(ctx, from, to)
	}
	if err := s.notInTheWayBack(from, l.files, unknownTo(dirty), l.paths...); err != nil {
		return err
	}
	if err := s.hand(ctx, object.ID{}, l); err != nil {
		return err
	}
	tr.Lay = &Lay{Start: l.start, Staged: l.staged, Files: l.files, Had: u.Files, Paths: l.paths,
		Keep: s.freeKeep(wp.Name + "-undone")}
	tr.seen = u.seen
	if asItWas {
		tr.Lay.Back, tr.Lay.State, tr.Lay.HeadTo = wp.Name, wp.Kept.State, wp.Kept.Head
	}
	return nil
}

// withLoose adds to what is not committed the files that a join laid out and that git does not
// know since: an edit of a file that is there no more is one.
func (s *Session) withLoose(wp *Waypoint, dirty []vcs.Dirty) ([]vcs.Dirty, error) {
	if wp.Kept == nil {
		return dirty, nil
	}
	changes, err := s.Store.Changes(wp.Kept.Is.Staged, wp.Kept.Is.Files)
	if err != nil {
		return nil, err
	}
	for _, c := range changes {
		if !c.Old.Absent() || !s.exists(c.Path) {
			continue
		}
		i := slices.IndexFunc(dirty, func(d vcs.Dirty) bool { return d.Path == c.Path })
		switch {
		case i < 0:
			dirty = append(dirty, vcs.Dirty{Path: c.Path, Unstaged: true})
		case dirty[i].Untracked:
			dirty[i] = vcs.Dirty{Path: c.Path, Unstaged: true}
		}
	}
	return dirty, nil
}

// holds is what index and files hold; of nothing uncommitted, what is committed.
func (u *Uncommitted) holds(committed object.ID) Held {
	if u == nil {
		return Held{committed, committed}
	}
	return Held{u.Staged, u.Files}
}

// joinBack joins uncommitted work onto what a join is taken back to.
func (s *Session) joinBack(ctx context.Context, wp *Waypoint, u *Uncommitted, to object.ID) (*laid, error) {
	j := &Join{Tree: to}
	if err := s.carry(ctx, j, u, func(r *merge.Result) (merge.Decided, bool, error) {
		return s.files.Resolve(ctx, r, &settle.Decisions{})
	}); err != nil {
		return nil, err
	}
	var asks []string
	for _, p := range j.Carried.Paths {
		if p.State == CarriedConflict {
			asks = append(asks, p.Path)
		}
	}
	if len(asks) > 0 {
		p, err := s.Returning(ctx, wp)
		if err != nil {
			return nil, err
		}
		return nil, &AsksError{p, asks}
	}
	return s.layOut(u, to, Held{j.Carried.Staged, j.Carried.Files})
}

// notInTheWayBack refuses where going back would change what is not committed.
func (s *Session) notInTheWayBack(from, to object.ID, dirty []vcs.Dirty, away ...string) error {
	_, err := s.inTheWay(from, to, dirty, away...)
	var over *OverwriteError
	if errors.As(err, &over) {
		return &Blocked{"Going back must change " + strings.Join(over.Paths, ", ") +
			", where you have work that is not committed.",
			"Commit it, or move it away, and undo again. Nothing was changed."}
	}
	return err
}

// Carry has uncommitted work be brought along by joins from here on, or stay where it is.
func (s *Session) Carry(on bool) error {
	s.state.Carry = on
	return s.save()
}

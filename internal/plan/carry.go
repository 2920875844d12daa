package plan

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
)

// node returns a commit, in memory only, that stands for a part.
func (pn *Planner) node(ctx context.Context, u *Uncommitted, part Part) history.Node {
	who, err := pn.Source.Committer(ctx)
	if err != nil {
		who = object.Signature{Name: "you"}
	}
	who.When, who.Zone = 0, "+0000" // equal work gives an equal commit
	c := object.Commit{Tree: part.Base, Parents: []object.ID{u.On}, AuthorLine: who.String(), Committer: who,
		Message: part.Subject + "\n"}
	base := c
	c.Tree, c.Parents = part.Tree, []object.ID{pn.Store.PutCommit(&base)}
	return history.Node{ID: pn.Store.PutCommit(&c), Commit: &c}
}

// Carry merges uncommitted work onto the result of a join. Its conflicts become the last stops.
func (pn *Planner) Carry(ctx context.Context, j *Join, u *Uncommitted, resolve replay.Resolver) error {
	if u == nil || j.Refused != nil {
		return nil
	}
	base, err := pn.Tree(ctx, u.On)
	if err != nil {
		return err
	}
	c := &Carried{Of: u, Staged: j.Tree, Files: j.Tree}
	j.Carried = c
	asked := map[string]bool{}
	for _, part := range u.Parts {
		same := c.Staged == c.Files
		if part.Staged && !same { // unstaged work came between: the index lacks it
			if c.Staged, err = pn.carryPart(ctx, j, u, part, c.Staged, asked, resolve); err != nil {
				return err
			}
		}
		if c.Files, err = pn.carryPart(ctx, j, u, part, c.Files, asked, resolve); err != nil {
			return err
		}
		if part.Staged && same {
			c.Staged = c.Files
		}
	}
	return pn.carriedPaths(ctx, c, base, j.Tree, asked)
}

// carryPart merges one part onto a tree.
func (pn *Planner) carryPart(ctx context.Context, j *Join, u *Uncommitted, part Part, onto object.ID,
	asked map[string]bool, resolve replay.Resolver) (object.ID, error) {
	r, err := pn.Engine.Trees(ctx, part.Base, part.Tree, onto)
	if err != nil {
		return onto, fmt.Errorf("joining %s onto the result: %w", part.Subject, err)
	}
	decided, _, err := resolve(r)
	if err != nil {
		return onto, err
	}
	if !r.Clean() {
		j.Stops = append(j.Stops, Stop{Commit: pn.node(ctx, u, part), Result: r, Uncommitted: true})
		for i := range r.Conflicts {
			j.Carried.Asked++
			for _, p := range r.Conflicts[i].Paths() {
				asked[p] = true
			}
		}
	}
	return r.Tree(ctx, decided)
}

// carriedPaths computes the outcome for each path.
func (pn *Planner) carriedPaths(ctx context.Context, c *Carried, base, result object.ID, asked map[string]bool) error {
	l, err := pn.lay(ctx, base, c.Of, result, c.Staged, c.Files)
	if err != nil {
		return err
	}
	work := map[string]object.Entry{} // entries before the change
	for _, part := range c.Of.Parts {
		if err := pn.Store.EachChange(ctx, part.Base, part.Tree,
			func(c object.Change) { work[c.Path] = c.New }); err != nil {
			return err
		}
	}
	for _, p := range slices.Sorted(maps.Keys(work)) {
		one := CarriedPath{p, carriedSame}
		is, err := pn.Store.Find(ctx, c.Files, p)
		if err != nil {
			return err
		}
		switch known := slices.Contains(c.Of.Paths, p); {
		case asked[p]:
			one.State = CarriedConflict
		case known && slices.Contains(l.Paths, p), !known && !is.Same(work[p]):
			one.State = carriedJoined
		}
		c.Paths = append(c.Paths, one)
	}
	return nil
}

// lay computes the layout of a change from one tree with uncommitted work to another.
func (pn *Planner) lay(ctx context.Context, from object.ID, u *Uncommitted, to, staged, files object.ID) (l *Layout,
	err error) {
	l = &Layout{}
	alone := map[string]bool{}
	moves := map[string]bool{} // all changing paths, and their folders
	moving := func(path string) {
		for ; path != "" && !moves[path]; path = Folder(path) {
			moves[path] = true
		}
	}
	for _, pair := range [][2]object.ID{{from, to}, {to, staged}, {to, files}} {
		if err := pn.Store.EachChange(ctx, pair[0], pair[1], func(c object.Change) { moving(c.Path) }); err != nil {
			return nil, err
		}
	}
	for _, p := range u.Paths {
		e, err := pn.filesAt(ctx, p, from, u.Staged, u.Files, to, staged, files)
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
		l.Paths = append(l.Paths, p)
		moving(p)
	}
	slices.Sort(l.Paths)
	if l.Staged, err = pn.towards(ctx, to, staged, alone); err == nil {
		l.Files, err = pn.towards(ctx, to, files, alone)
	}
	if err == nil {
		l.Start, err = pn.without(ctx, from, l)
	}
	return l, err
}

// filesAt returns the entries at a path in several trees. Folders count as absent.
func (pn *Planner) filesAt(ctx context.Context, path string, trees ...object.ID) (out []object.Entry, err error) {
	for _, t := range trees {
		e, err := pn.Store.Find(ctx, t, path)
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

// towards changes a tree into another one, except for the paths in alone.
func (pn *Planner) towards(ctx context.Context, tree, to object.ID, alone map[string]bool) (object.ID, error) {
	changes, err := pn.Store.Changes(ctx, tree, to)
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
	if tree, err = pn.Store.Edit(ctx, tree, gone); err == nil { // remove first: a folder can replace a file
		tree, err = pn.Store.Edit(ctx, tree, put)
	}
	if err == nil && tree.IsZero() {
		tree = pn.Store.EmptyTree()
	}
	return tree, err
}

// without removes paths from a tree that the change deletes, because they may be deleted or replaced already.
func (pn *Planner) without(ctx context.Context, from object.ID, l *Layout) (object.ID, error) {
	gone := map[string]object.Entry{}
	for _, p := range l.Paths {
		to, err := pn.Store.Find(ctx, l.Files, p)
		if err != nil {
			return object.ID{}, err
		}
		is, err := pn.Store.Find(ctx, from, p)
		if err != nil {
			return object.ID{}, err
		}
		if (to.Absent() || to.IsTree()) && !is.Absent() && !is.IsTree() {
			gone[p] = object.Entry{}
		}
	}
	tree, err := pn.Store.Edit(ctx, from, gone)
	if err == nil && tree.IsZero() {
		tree = pn.Store.EmptyTree()
	}
	return tree, err
}

// submodules returns paths that are a submodule in one tree and something else in another. Dorvik cannot move these
// folders, because they contain repositories.
func (pn *Planner) submodules(ctx context.Context, l *Layout, trees ...object.ID) (out []string, err error) {
	for _, p := range l.Paths {
		sub, other := false, false
		for _, t := range trees {
			e, err := pn.Store.Find(ctx, t, p)
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

// LayOut computes how a change carries uncommitted work. It returns nil if the change touches none of it.
func (pn *Planner) LayOut(ctx context.Context, u *Uncommitted, to object.ID, is Held) (*Laid, error) {
	from, err := pn.Tree(ctx, u.On)
	if err != nil {
		return nil, err
	}
	l, err := pn.lay(ctx, from, u, to, is.Staged, is.Files)
	if err != nil || len(l.Paths) == 0 && l.Files == to && l.Staged == to {
		return nil, err
	}
	subs, err := pn.submodules(ctx, l, from, u.Files, is.Files)
	if err == nil && len(subs) > 0 {
		err = &Blocked{What: "The change must move " + strings.Join(subs, ", ") + ", where a submodule is on one " +
			"side and " +
			"something else on the other.", Next: "Commit that, or put the submodule back, and try again. Nothing " +
			"was " +
			"changed."}
	}
	return &Laid{l, u, is}, err
}

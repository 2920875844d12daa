package merge

import (
	"context"
	"fmt"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
)

// BaseTree returns the base tree of TreesOver: that of the only common ancestor, or several ancestors joined in
// memory.
func (e *Engine) BaseTree(ctx context.Context, bases []object.ID) (object.ID, error) {
	base, err := e.base(ctx, bases)
	return base.tree, err
}

func (e *Engine) base(ctx context.Context, bases []object.ID) (ancestor, error) {
	if len(bases) == 0 {
		return ancestor{tree: e.Store.EmptyTree()}, nil
	}
	key := fmt.Sprint(bases)
	base, ok := e.bases.get(key)
	if ok {
		return base, nil
	}
	at := bases[len(bases)-1]
	c, err := e.Store.Commit(ctx, at)
	if err != nil {
		return base, err
	}
	base.tree = c.Tree
	if len(bases) > 1 {
		base.of = append(base.of, c.Tree)
	}
	for i := len(bases) - 2; i >= 0; i-- {
		next, err := e.Store.Commit(ctx, bases[i])
		if err != nil {
			return base, err
		}
		parted, err := history.Diverge(ctx, e.Store, at, bases[i])
		if err != nil {
			return base, err
		}
		below, err := e.base(ctx, parted.Bases)
		if err != nil {
			return base, err
		}
		r, err := e.join(ctx, below, base.tree, next.Tree, false)
		if err != nil {
			return base, err
		}
		if base.tree, err = e.undecided(ctx, r); err != nil {
			return base, err
		}
		base.reopen(r.Conflicts)
		base.of = append(base.of, next.Tree)
		at = e.Store.PutCommit(&object.Commit{Tree: base.tree, Parents: []object.ID{at, bases[i]},
			Committer: next.Committer})
	}
	e.bases.put(key, base)
	return base, nil
}

// reopen records the paths of conflicts that no text shows.
func (a *ancestor) reopen(conflicts []Conflict) {
	mixed := map[string]bool{} // names of two different files whose texts are in one version
	for _, c := range conflicts {
		if n, ok := c.Subject.(*Naming); ok && n.Also == "" && c.Kind != FileDirectory {
			mixed[c.Path] = true
		}
	}
	for _, c := range conflicts {
		if _, ok := c.Subject.(*Lines); ok || c.Kind == ModeBits || mixed[c.Path] {
			continue
		}
		for _, of := range c.Paths() {
			if a.open == nil {
				a.open = map[string]bool{}
			}
			a.open[of] = true
			for p := parent(of); p != ""; p = parent(p) {
				if _, ok := a.open[p]; !ok {
					a.open[p] = false
				}
			}
		}
	}
}

// undecided returns the joined tree with conflicts left undecided.
func (e *Engine) undecided(ctx context.Context, r *Result) (object.ID, error) {
	entries := map[string]object.Entry{}
	for _, c := range r.Conflicts {
		switch s := c.Subject.(type) {
		case *Lines:
			entries[c.Path] = object.Entry{Mode: s.Mode, ID: e.Store.Put(object.KindBlob, []byte(s.Text.Undecided()))}
		case *Versions:
			switch {
			case c.Kind == ModeBits:
				entries[c.Path] = s.Yours
			case s.Base.Absent() && s.Yours.Mode.IsRegular() && s.Theirs.Mode.IsRegular():
				entries[c.Path] = object.Entry{Mode: s.Yours.Mode, ID: e.Store.Put(object.KindBlob, nil)}
			default:
				entries[c.Path] = s.Base
			}
		case *Clash:
			is, err := e.directoryFirst(ctx, s)
			if err != nil {
				return object.ID{}, err
			}
			entries[c.Path] = is
			// Put the file under a name that no side has, too: a side may have moved it out of the way.
			for _, side := range []object.Entry{s.Yours, s.Theirs} {
				if is.IsTree() && side.IsFile() {
					entries[c.Path+asideName] = side
				}
			}
		}
	}
	tree, err := r.Tree(ctx, Decided{Entries: entries})
	if err != nil {
		return tree, err
	}
	for _, c := range r.Conflicts {
		if n, ok := c.Subject.(*Naming); ok {
			if tree, err = e.undecidedName(ctx, tree, c.Path, c.Kind, n); err != nil {
				return tree, err
			}
		}
	}
	return tree, nil
}

// undecidedName leaves the name of a file of a joined tree undecided: the file stands under both names, and two files
// of one name become one text with both.
func (e *Engine) undecidedName(ctx context.Context, tree object.ID, name string, kind ConflictKind,
	n *Naming) (object.ID, error) {
	at, err := e.Store.Find(ctx, tree, n.At)
	if err != nil || at.Absent() {
		return tree, err
	}
	set := map[string]object.Entry{}
	switch {
	case kind == RenameRename && n.Also != "":
		for _, p := range []string{name, n.Also} {
			if there, err := e.Store.Find(ctx, tree, p); err != nil {
				return tree, err
			} else if there.Absent() {
				set[p] = at
			}
		}
	case kind == RenameRename, kind == RenameAdd:
		there, err := e.Store.Find(ctx, tree, name)
		if err != nil || !there.Mode.IsRegular() || !at.Mode.IsRegular() {
			return tree, err
		}
		mine, other := at, there
		if n.Yours.Name == n.At {
			mine, other = there, at
		}
		text, err := e.Text(ctx, object.ID{}, mine.ID, other.ID)
		if err != nil {
			return tree, err
		}
		held := ""
		if text != nil {
			held = text.Undecided()
		}
		set[n.At], set[name] = object.Entry{}, object.Entry{Mode: mine.Mode, ID: e.Store.Put(object.KindBlob,
			[]byte(held))}
	}
	return e.Store.Edit(ctx, tree, set)
}

// directoryFirst returns the directory of a clash, joined with what the other side left of it, or the file if nothing
// is left.
func (e *Engine) directoryFirst(ctx context.Context, c *Clash) (object.Entry, error) {
	r, err := e.join(ctx, ancestor{tree: c.Base.Subtree()}, c.Yours.Subtree(), c.Theirs.Subtree(), false)
	if err != nil {
		return object.Entry{}, err
	}
	id, err := e.undecided(ctx, r)
	if err != nil || id != e.Store.EmptyTree() {
		return object.Entry{Mode: object.ModeTree, ID: id}, err
	}
	if c.Yours.IsFile() {
		return c.Yours, nil
	}
	return c.Theirs, nil
}

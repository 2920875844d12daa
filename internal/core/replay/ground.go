package replay

import (
	"context"
	"maps"
	"sync"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// snapshot is a tree: one that there is, or one that is made when it is first asked for.
type snapshot struct {
	id  object.ID
	log *edits // not nil: the tree is what the first n of these make
	n   int
}

func (s snapshot) tree() (object.ID, error) {
	if s.log == nil {
		return s.id, nil
	}
	return s.log.tree(s.n)
}

// edits are made to a tree one after the other. Of the trees between them only those are made that are asked for. It is
// safe for use by several goroutines.
type edits struct {
	store *object.Overlay
	mu    sync.Mutex
	list  []merge.Edit
	made  map[int]object.ID // trees, by how many of the edits are in them
}

func newEdits(store *object.Overlay, tree object.ID) *edits {
	return &edits{store: store, made: map[int]object.ID{0: tree}}
}

// add makes more edits.
func (e *edits) add(list []merge.Edit) snapshot {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.list = append(e.list, list...)
	return snapshot{log: e, n: len(e.list)}
}

// tree makes the tree with the first n edits in it, from the nearest before it that is made.
func (e *edits) tree(n int) (object.ID, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	from := n
	tree, ok := e.made[from]
	for !ok {
		from--
		tree, ok = e.made[from]
	}
	set := map[string]object.Entry{}
	for _, one := range e.list[from:n] {
		set[one.Path] = one.Entry
	}
	tree, err := e.store.Edit(tree, set)
	if err != nil {
		return object.ID{}, err
	}
	e.made[n] = tree
	return tree, nil
}

// ground is what commits are brought onto one after the other, as far as they touch it. Most commits edit files that
// are there, and nothing else: for those no tree is read or made.
type ground struct {
	engine  *merge.Engine
	changes *Changes
	rules   *merge.Attributes
	now     map[string]object.Entry // what stands at the paths that commits change
	at      snapshot                // the tree that this is of
	silent  *merge.Result           // of which there is nothing to say
}

// newGround is a tree that commits of a line without merges are brought onto.
func newGround(ctx context.Context, engine *merge.Engine, changes *Changes, commits []history.Node, onto object.ID) (
	*ground, error) {
	now, err := changes.standing(onto, commits)
	if err != nil {
		return nil, err
	}
	return &ground{engine: engine, changes: changes, now: maps.Clone(now), rules: engine.Attributes(ctx, onto),
		at: snapshot{id: onto}, silent: &merge.Result{}}, nil
}

// stand has the ground be of another tree, if it is.
func (g *ground) stand(ctx context.Context, on snapshot) error {
	if g.at == on {
		return nil
	}
	was, err := g.at.tree()
	if err != nil {
		return err
	}
	is, err := on.tree()
	if err != nil {
		return err
	}
	if err := g.engine.Store.EachChange(was, is, func(c object.Change) {
		if _, ok := g.now[c.Path]; ok || !c.New.Absent() {
			g.now[c.Path] = c.New.Detached()
		}
	}); err != nil {
		return err
	}
	g.rules, g.at = g.engine.Attributes(ctx, is), snapshot{id: is}
	return nil
}

// bring joins what a commit changes with a tree. The result is nil where more than its files has to be looked at; else
// at is the joined tree: on itself where nothing of the change is left.
func (g *ground) bring(ctx context.Context, n history.Node, on snapshot) (r *merge.Result, at snapshot, err error) {
	p, err := g.changes.pathsOf(n)
	if err != nil {
		return nil, at, err
	}
	if err := g.stand(ctx, on); err != nil {
		return nil, at, err
	}
	places := make([]merge.Place, len(p.changes))
	for i, c := range p.changes {
		places[i] = merge.Place{Path: c.Path, Base: c.Old, Changed: c.New, Onto: g.now[c.Path]}
	}
	r, made, err := g.engine.Edits(ctx, g.rules, places)
	if err != nil || r == nil {
		return nil, at, err
	}
	if r = r.Brief(); len(r.Remarks) == 0 {
		r = g.silent // of ten thousand steps, nearly all are
	}
	for _, e := range made {
		g.now[e.Path] = e.Entry
	}
	if len(made) > 0 {
		if g.at.log == nil {
			g.at.log = newEdits(g.engine.Store, g.at.id)
		}
		g.at = g.at.log.add(made)
	}
	return r, g.at, nil
}

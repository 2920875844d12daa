package replay

import (
	"context"
	"maps"
	"sync"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// snapshot is a tree that is created at its first use.
type snapshot struct {
	id  object.ID
	log *treeEdits // if not nil, the tree is the result of its first n edits
	n   int
}

func (s snapshot) tree(ctx context.Context) (object.ID, error) {
	if s.log == nil {
		return s.id, nil
	}
	return s.log.tree(ctx, s.n)
}

// with returns the tree with more edits.
func (s snapshot) with(ctx context.Context, store *object.Overlay, list []merge.Edit) (snapshot, error) {
	if s.log == nil || s.n < len(s.log.list) {
		tree, err := s.tree(ctx)
		if err != nil {
			return s, err
		}
		s = snapshot{log: &treeEdits{store: store, made: map[int]object.ID{0: tree}}}
	}
	s.log.mu.Lock()
	defer s.log.mu.Unlock()
	s.log.list = append(s.log.list, list...)
	return snapshot{log: s.log, n: len(s.log.list)}, nil
}

// treeEdits applies edits to a tree one after the other, from one goroutine. Any goroutine may ask for a tree in
// between; only those are created.
type treeEdits struct {
	store *object.Overlay
	mu    sync.Mutex
	list  []merge.Edit
	made  map[int]object.ID // trees, by the number of edits in them
}

// tree returns the tree after n edits, starting from the nearest earlier one that exists.
func (e *treeEdits) tree(ctx context.Context, n int) (object.ID, error) {
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
	tree, err := e.store.Edit(ctx, tree, set)
	if err != nil {
		return object.ID{}, err
	}
	e.made[n] = tree
	return tree, nil
}

// ground is the tree that commits are replayed onto, as far as they touch it. Most commits only edit existing files,
// and for those no tree is read or created.
type ground struct {
	engine  *merge.Engine
	changes *Changes
	rules   *merge.Attributes
	now     map[string]object.Entry // current entries of the paths that commits change
	at      snapshot                // the tree that now describes
	silent  *merge.Result           // a clean result without remarks
}

// newGround returns the ground for the commits of a line without merges.
func newGround(ctx context.Context, engine *merge.Engine, changes *Changes, commits []history.Node, onto object.ID) (
	*ground, error) {
	now, err := changes.standing(ctx, onto, commits)
	if err != nil {
		return nil, err
	}
	return &ground{engine: engine, changes: changes, now: maps.Clone(now), rules: engine.Attributes(onto),
		at: snapshot{id: onto}, silent: &merge.Result{}}, nil
}

// stand switches the ground to another tree.
func (g *ground) stand(ctx context.Context, on snapshot) error {
	if g.at == on {
		return nil
	}
	was, err := g.at.tree(ctx)
	if err != nil {
		return err
	}
	is, err := on.tree(ctx)
	if err != nil {
		return err
	}
	if err := g.engine.Store.EachChange(ctx, was, is, func(c object.Change) {
		if _, ok := g.now[c.Path]; ok || !c.New.Absent() {
			g.now[c.Path] = c.New.Detached()
		}
	}); err != nil {
		return err
	}
	g.rules, g.at = g.engine.Attributes(is), on
	return nil
}

// bring joins what a commit changes with a tree. The result is nil if more than the commit's files matters. Otherwise
// at is the joined tree; it is the same tree if nothing of the change is left.
func (g *ground) bring(ctx context.Context, n history.Node, on snapshot) (r *merge.Result, at snapshot, err error) {
	p, err := g.changes.pathsOf(ctx, n)
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
	made, remarks, ok, err := g.engine.Edits(ctx, g.rules, places)
	if err != nil || !ok {
		return nil, at, err
	}
	for _, e := range made {
		g.now[e.Path] = e.Entry
	}
	if len(made) > 0 {
		if g.at, err = g.at.with(ctx, g.engine.Store, made); err != nil {
			return nil, at, err
		}
	}
	if r = g.silent; len(remarks) > 0 { // most steps have no remarks, so they share one result
		r = &merge.Result{Remarks: remarks}
	}
	return r, g.at, nil
}

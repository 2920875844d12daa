package merge

import (
	"context"

	"dorvik.dev/dorvik/internal/core/object"
)

// Trees joins two trees that were made from one base. It reads only subtrees that differ, and looks for renames only
// where they matter. It stops with the context's error.
func (e *Engine) Trees(ctx context.Context, base, yours, theirs object.ID) (*Result, error) {
	return e.join(ctx, ancestor{tree: base}, yours, theirs, true)
}

// join is Trees; it can skip the questions about files of moved directories.
func (e *Engine) join(ctx context.Context, base ancestor, yours, theirs object.ID, directories bool) (*Result, error) {
	defer e.Store.Release()
	rules := newRules(e, Three[object.ID]{base.tree, yours, theirs})
	r := e.begin(base.tree, yours, theirs)
	err := e.walk(ctx, rules, base.open, r)
	if err != nil {
		return nil, err
	}
	if !directories {
		r.emptied = nil
	}
	if r, err = e.withRenames(ctx, rules, r, base); err != nil {
		return nil, err
	}
	r.Remarks = append(r.Remarks, r.collisions()...)
	if directories {
		err = r.nameBeside(ctx, e.Lone)
	}
	return r, err
}

// begin returns an empty result.
func (e *Engine) begin(base, yours, theirs object.ID) *Result {
	return &Result{Given: Three[object.ID]{base, yours, theirs}, Base: base, Yours: yours, Theirs: theirs,
		store: e.Store}
}

// walk joins the trees of a result into it.
func (e *Engine) walk(ctx context.Context, rules *rules, open map[string]bool, r *Result) error {
	m := &merger{engine: e, rules: rules, open: open, out: r}
	return m.dir(ctx, "", tree(r.Base), tree(r.Yours), tree(r.Theirs))
}

// TreesOver joins two trees whose lines have the given best common ancestors, newest first as history.Diverge lists
// them. It joins several ancestors in memory, the oldest first, each join over a base found in the same way. Without
// ancestors the base is the empty tree. Where the ancestors disagree the base has the version of their own base; in a
// text it has both versions between lines that no side has, so a side's change there always counts. Where they
// disagree on a whole path and the sides differ there, the sides are asked. Results are cached. Merging ancestors
// recursively follows F. Kuivinen's recursive merge strategy of 2005.
func (e *Engine) TreesOver(ctx context.Context, bases []object.ID, yours, theirs object.ID) (*Result, error) {
	base, err := e.base(ctx, bases)
	if err != nil {
		return nil, err
	}
	return e.join(ctx, base, yours, theirs, true)
}

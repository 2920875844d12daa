// Package merge brings two changed versions of one base together: texts line
// by line, in the manner of diff3 (S. Khanna, K. Kunal, B. C. Pierce, "A Formal
// Investigation of Diff3", 2007), and trees path by path. What the two sides
// changed differently in one place becomes a typed conflict; nothing is
// dropped and nothing is decided here.
//
// The way of a join: [Engine.Trees] walks three trees at once (walk.go), joins each file
// that both changed (file.go, text.go; attributes, drivers and line ends have their own
// rooms), looks where renames matter (renames.go), and if they do makes each side's on the
// others and walks again (rename_apply.go, directories.go). The [Result] holds what joined
// and the conflicts; several common ancestors are joined first (bases.go).
package merge

import (
	"context"

	"dorvik.dev/dorvik/internal/core/attr"
	"dorvik.dev/dorvik/internal/core/object"
)

// Engine joins trees over one store. It remembers how texts joined, so that joining
// again after a decision costs only what the decision changes. It is safe for
// use by several goroutines.
type Engine struct {
	Store *object.Overlay

	// Contains tells whether one commit of a submodule is the other or comes after
	// it. Without it, or where it says no, two moves of a submodule are a conflict.
	Contains func(ctx context.Context, path string, older, newer object.ID) bool

	// Outside gives attributes from outside the trees, nil for none: the user's,
	// which those of the trees overrule, and the repository's, which overrule them.
	Outside func(ctx context.Context) (below, above *attr.Rules)

	// Drive runs merge drivers; without it there are none.
	Drive Driver

	pairs   int // how many pairs of files are compared at most to find renames
	maxText int // in bytes

	texts  cache[Three[object.ID], *joinedText]
	driven cache[driverCall, drivenTo]
	bases  cache[string, ancestor] // several common ancestors, by their ids, and the base they were joined to
}

// NewEngine makes an engine over a store.
func NewEngine(store *object.Overlay) *Engine {
	return &Engine{Store: store, pairs: maxPairs, maxText: MaxText}
}

// Trees joins two trees that came from one base. It reads only subtrees that
// differ, and looks for renames only where they can matter. Cancelling ctx stops
// it with the context's error.
func (e *Engine) Trees(ctx context.Context, base, yours, theirs object.ID) (*Result, error) {
	return e.join(ctx, ancestor{tree: base}, yours, theirs, true)
}

// join is Trees with or without asking about the files of moved directories.
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
		err = r.nameBeside()
	}
	return r, err
}

// walk joins the trees of a result into it.
func (e *Engine) walk(ctx context.Context, rules *rules, open map[string]bool, r *Result) error {
	m := &merger{engine: e, rules: rules, open: open, out: r}
	return m.dir(ctx, "", tree(r.Base), tree(r.Yours), tree(r.Theirs))
}

// begin is a result with nothing in it yet.
func (e *Engine) begin(base, yours, theirs object.ID) *Result {
	return &Result{Given: Three[object.ID]{base, yours, theirs}, Base: base, Yours: yours, Theirs: theirs,
		store: e.Store}
}

package merge

import (
	"context"
	"errors"
	"path"
	"slices"

	"dorvik.dev/dorvik/internal/core/object"
)

// Onto is Trees for a change, from base to changed, that is applied to a tree with many other differences. If it joins
// without a question, Onto examines and reports only the paths of the change, so its cost does not depend on the other
// differences.
func (e *Engine) Onto(ctx context.Context, base, changed, onto object.ID) (*Result, error) {
	m := &merger{engine: e, rules: newRules(e, Three[object.ID]{base, changed, onto}), touched: true,
		out: e.begin(base, changed, onto)}
	switch err := m.dir(ctx, "", tree(base), tree(changed), tree(onto)); {
	case errors.Is(err, errNotEnough):
		return e.Trees(ctx, base, changed, onto)
	case err != nil:
		return nil, err
	}
	r := m.out
	gone, err := r.relevant(ctx)
	if err != nil {
		return nil, err
	}
	// A rename may matter, or a name that differs from one of onto by case only.
	adds := slices.ContainsFunc(r.Joined, func(j Joined) bool { return j.Base.Absent() })
	if !r.Clean() || len(gone) > 0 || len(r.emptied) > 0 || adds {
		return e.Trees(ctx, base, changed, onto)
	}
	r.touched = true
	return r, nil
}

// Attributes are those of a tree's files.
type Attributes struct{ rules *rules }

// Attributes returns the attributes of a tree's files. They are read when they are needed.
func (e *Engine) Attributes(tree object.ID) *Attributes {
	return &Attributes{newRules(e, Three[object.ID]{tree, tree, tree})}
}

// Place is a file that a change edits, and the entry at its path in the tree that the change is applied to.
type Place struct {
	Path                string
	Base, Changed, Onto object.Entry
}

// Edits is Onto for a change that only edits files, all of which exist in the target tree. It reads no directory and
// does not create the tree. It returns the edits that would create it, or none if nothing of the change is left, and
// remarks. attributes are those of the target tree or of one with equal gitattributes files. ok is false if more is
// needed, or if there is a question. The error is that of reading an object.
func (e *Engine) Edits(ctx context.Context, attributes *Attributes, places []Place) (made []Edit, remarks []Remark,
	ok bool, err error) {
	for _, p := range places {
		plain := p.Base.Mode.IsRegular() && p.Changed.Mode.IsRegular() && p.Onto.Mode.IsRegular()
		if !plain || path.Base(p.Path) == attributesFile {
			return nil, nil, false, nil
		}
	}
	m := &merger{engine: e, rules: attributes.rules, out: &Result{store: e.Store}}
	for _, p := range places {
		if err := m.name(ctx, p.Path, p.Base, p.Changed, p.Onto); err != nil || !m.out.Clean() {
			return nil, nil, false, err
		}
	}
	return m.out.ofTheirs, m.out.Remarks, true, nil
}

// Package decided finds what a person decided in a merge commit, whoever made it and with any tool. It joins the
// commit's parents again and compares the commit's tree with the result. Each conflict has an answer there: one of the
// ways that Dorvik offers, or written text. Differences that would have joined by themselves were made by hand too.
package decided

import (
	"context"
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
)

// Decision is one part of a merge commit that somebody decided.
type Decision struct {
	Path string
	Kind merge.ConflictKind // empty where nothing was in conflict
	Way  settle.Way         // settle.Written if the text is none of the offered ones
	Line int                // first line in the result, from 1; 0 for a path as a whole
	// The texts of each side and of the result, or object ids if they are not text. If nothing was in conflict, Base is
	// the text joined by itself.
	Base, Yours, Theirs, Result string
	Whole                       bool             // the question is about the path, not about a place in the file
	Question                    *settle.Question // nil where nothing was in conflict
}

// Account is what a merge commit holds beyond what joins by itself.
type Account struct {
	Decisions []Decision
	Joined    int // files that both sides changed and that joined by themselves, both then and in this computation
}

// Of finds what was decided in a merge commit. Yours is its first parent and theirs is what it merged; in an octopus
// merge each parent is joined to the result of those before. It returns nothing for a commit with one parent.
func Of(ctx context.Context, engine *merge.Engine, files *settle.Files, c *object.Commit) (*Account, error) {
	out := &Account{}
	if len(c.Parents) < 2 {
		return out, nil
	}
	first, err := engine.Store.Commit(ctx, c.Parents[0])
	if err != nil {
		return nil, err
	}
	at, tree := c.Parents[0], first.Tree
	for i, id := range c.Parents[1:] {
		other, err := engine.Store.Commit(ctx, id)
		if err != nil {
			return nil, err
		}
		parted, err := history.Diverge(ctx, engine.Store, at, id)
		if err != nil {
			return nil, err
		}
		r, err := engine.TreesOver(ctx, parted.Bases, tree, other.Tree)
		if err != nil {
			return nil, err
		}
		x := &comparison{store: engine.Store, r: r, actual: c.Tree, out: out,
			settled: merge.Decided{Entries: map[string]object.Entry{}}}
		if tree, err = x.conflicts(ctx, files); err != nil {
			return nil, err
		}
		if i == len(c.Parents)-2 {
			if err := x.beyond(ctx, tree); err != nil {
				return nil, err
			}
			return out, x.count(ctx, tree)
		}
		// The next parent is merged into this one.
		at = engine.Store.PutCommit(&object.Commit{Tree: tree, Parents: []object.ID{at, id}, AuthorLine: c.AuthorLine,
			Committer: c.Committer})
	}
	return out, nil
}

// Compare finds what was decided in a tree that was made of a join.
func Compare(ctx context.Context, store *object.Overlay, files *settle.Files, r *merge.Result,
	tree object.ID) (*Account, error) {
	x := &comparison{store: store, r: r, actual: tree, out: &Account{},
		settled: merge.Decided{Entries: map[string]object.Entry{}}}
	joined, err := x.conflicts(ctx, files)
	if err != nil {
		return nil, err
	}
	return x.out, x.beyond(ctx, joined)
}

// comparison is a join and the tree that was made of it.
type comparison struct {
	store   *object.Overlay
	r       *merge.Result
	actual  object.ID
	settled merge.Decided
	asked   map[string]bool // paths that questions are about
	out     *Account
}

// conflicts finds the answer to each conflict and returns the joined tree with all of them.
func (x *comparison) conflicts(ctx context.Context, files *settle.Files) (object.ID, error) {
	x.asked = map[string]bool{}
	for i := range x.r.Conflicts {
		c := &x.r.Conflicts[i]
		f := files.Open(ctx, c)
		for _, p := range c.Paths() {
			x.asked[p] = true
		}
		if f.Text != nil {
			if err := x.text(ctx, f, c); err != nil {
				return object.ID{}, err
			}
		}
		for _, q := range f.Questions {
			if q.Whole() {
				if err := x.whole(ctx, q, c); err != nil {
					return object.ID{}, err
				}
			}
		}
	}
	return x.r.Tree(ctx, x.settled)
}

// content returns the text of an entry, or its id if it has none.
func (x *comparison) content(ctx context.Context, e object.Entry) (string, error) {
	switch {
	case e.Absent():
		return "", nil
	case !e.Mode.IsRegular() && e.Mode != object.ModeLink:
		return e.ID.String(), nil
	}
	data, err := x.store.Blob(ctx, e.ID)
	if err != nil {
		return "", err
	}
	if !merge.IsText(data) {
		return e.ID.String(), nil
	}
	return string(data), nil
}

// whole finds the option of a question about a path that the tree took.
func (x *comparison) whole(ctx context.Context, q *settle.Question, c *merge.Conflict) error {
	d := Decision{Path: q.Path, Kind: q.Kind, Way: settle.Written, Whole: true, Question: q}
	if o, ok, err := x.option(ctx, q, c); err != nil {
		return err
	} else if ok {
		d.Way = o.Way
		for p, e := range o.Effect.Entries {
			if _, known := x.settled.Entries[p]; !known || !q.Whole() {
				x.settled.Entries[p] = e
			}
		}
		x.settled.Moves = append(x.settled.Moves, o.Effect.Moves...)
	} else {
		for _, p := range c.Paths() {
			e, err := x.store.Find(ctx, x.actual, p)
			if err != nil {
				return err
			}
			x.settled.Entries[p] = e
		}
	}
	base, yours, theirs := q.Subject.Sides()
	at, err := x.store.Find(ctx, x.actual, q.Path)
	if err != nil {
		return err
	}
	for _, side := range []struct {
		to *string
		e  object.Entry
	}{{&d.Base, base}, {&d.Yours, yours}, {&d.Theirs, theirs}, {&d.Result, at}} {
		if *side.to, err = x.content(ctx, side.e); err != nil {
			return err
		}
	}
	x.out.Decisions = append(x.out.Decisions, d)
	return nil
}

// option returns the option that results in the tree's entries at the paths of a conflict. If no option results in
// equal entries it accepts entries of the same type, because contents can be conflicts of their own.
func (x *comparison) option(ctx context.Context, q *settle.Question, c *merge.Conflict) (settle.Option, bool, error) {
	if q.Kind == merge.ModeBits {
		return x.mode(ctx, q)
	}
	for _, alike := range []func(a, b object.Entry) bool{
		object.Entry.Same,
		func(a, b object.Entry) bool {
			return a.Absent() == b.Absent() && (a.Absent() || a.Mode.SameType(b.Mode))
		},
	} {
		if _, naming := q.Subject.(*merge.Naming); !naming {
			alike = object.Entry.Same // a version is taken whole
		}
		for _, o := range q.Ways {
			tree, err := x.r.Tree(ctx, o.Effect)
			if err != nil {
				continue // the text does not fit the lines around it
			}
			same := true
			for _, p := range c.Paths() {
				would, err := x.store.Find(ctx, tree, p)
				if err != nil {
					return o, false, err
				}
				is, err := x.store.Find(ctx, x.actual, p)
				if err != nil {
					return o, false, err
				}
				same = same && alike(would, is)
			}
			if same {
				return o, true, nil
			}
		}
	}
	return settle.Option{}, false, nil
}

// mode finds whose mode a file has.
func (x *comparison) mode(ctx context.Context, q *settle.Question) (settle.Option, bool, error) {
	is, err := x.store.Find(ctx, x.actual, q.Path)
	if err != nil {
		return settle.Option{}, false, err
	}
	for _, o := range q.Ways {
		if o.Effect.Entries[q.Path].Mode == is.Mode {
			return settle.Option{Way: o.Way}, true, nil // its content is a separate answer
		}
	}
	return settle.Option{}, false, nil
}

// text finds the contents of the contested places of a text.
func (x *comparison) text(ctx context.Context, f *settle.File, c *merge.Conflict) error {
	path, at, err := x.where(ctx, f)
	if err != nil {
		return err
	}
	x.settled.Entries[f.Path] = at
	data, err := x.content(ctx, at)
	if err != nil {
		return err
	}
	if !at.Mode.IsRegular() || data == at.ID.String() {
		d := Decision{Path: path, Kind: c.Kind, Way: settle.Written, Whole: true, Result: data,
			Question: f.Questions[0],
			Base:     strings.Join(f.Text.Base, ""), Yours: strings.Join(f.Text.Yours, ""),
			Theirs: strings.Join(f.Text.Theirs, "")}
		x.out.Decisions = append(x.out.Decisions, d)
		return nil
	}
	for _, a := range Answers(f, diff.Lines(data)) {
		d := Decision{Path: path, Kind: c.Kind, Way: a.Way, Line: a.Line + 1, Result: a.Text, Question: a.Of}
		if a.Of != nil {
			d.Base, d.Yours, d.Theirs = a.Of.Base, a.Of.Yours, a.Of.Theirs
		} else {
			d.Kind, d.Base = "", a.Was
		}
		x.out.Decisions = append(x.out.Decisions, d)
	}
	return nil
}

// where returns the path of a contested file in the tree: its name or, because names can be contested too, another one
// that it had.
func (x *comparison) where(ctx context.Context, f *settle.File) (string, object.Entry, error) {
	for _, p := range f.Names() {
		e, err := x.store.Find(ctx, x.actual, p)
		if err != nil || !e.Absent() {
			return p, e, err
		}
	}
	return f.Path, object.Entry{}, nil
}

// beyond finds differences from the joined tree where nothing was in conflict.
func (x *comparison) beyond(ctx context.Context, joined object.ID) error {
	changes, err := x.store.Changes(ctx, joined, x.actual)
	if err != nil {
		return err
	}
	for _, c := range changes {
		if x.asked[c.Path] {
			continue // listed already
		}
		old, err := x.content(ctx, c.Old)
		if err != nil {
			return err
		}
		new, err := x.content(ctx, c.New)
		if err != nil {
			return err
		}
		if !c.Old.Mode.IsRegular() || !c.New.Mode.IsRegular() || c.Old.Mode != c.New.Mode ||
			old == c.Old.ID.String() || new == c.New.ID.String() {
			x.out.Decisions = append(x.out.Decisions, Decision{Path: c.Path, Way: settle.Written, Whole: true,
				Base:   old,
				Result: new})
			continue
		}
		a, b := diff.Lines(old), diff.Lines(new)
		for _, e := range diff.Histogram(a, b) {
			x.out.Decisions = append(x.out.Decisions, Decision{Path: c.Path, Way: settle.Written, Line: e.B0 + 1,
				Base: strings.Join(a[e.A0:e.A1], ""), Result: strings.Join(b[e.B0:e.B1], "")})
		}
	}
	return nil
}

// count counts the files that both sides changed and that are as they join by themselves.
func (x *comparison) count(ctx context.Context, joined object.ID) error {
	files, err := x.r.Files(ctx)
	if err != nil {
		return err
	}
	for _, j := range files {
		if j.Origin != merge.FromBoth {
			continue
		}
		is, err := x.store.Find(ctx, x.actual, j.Path)
		if err != nil {
			return err
		}
		if is.Same(j.Result) {
			x.out.Joined++
		}
	}
	return nil
}

// String formats a decision for debugging.
func (d Decision) String() string {
	return fmt.Sprintf("%s:%d %s %s %q", d.Path, d.Line, d.Kind, d.Way, d.Result)
}

// Conflicts counts the decisions about conflicts.
func (a *Account) Conflicts() (n int) {
	for _, d := range a.Decisions {
		if d.Question != nil {
			n++
		}
	}
	return n
}

// Beyond counts the decisions where nothing was in conflict.
func (a *Account) Beyond() int { return len(a.Decisions) - a.Conflicts() }

// Package annotate finds the commit that added each line of a file: back through the history, through renames, merges
// and, if requested, moved lines. It starts with all lines at the given commit. Lines that a commit's text shares with
// that of a parent are passed to that parent; the rest is the commit's own. Commits are visited newest first, so lines
// that reach a commit along several paths are compared once. Texts are compared by Myers' algorithm (package diff)
// between their common ends. It takes one comparison for each commit and parent that differ in the file, and memory
// for one text.
package annotate

import (
	"container/heap"
	"context"
	"errors"
	"fmt"
	"slices"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// Found describes where consecutive lines of the file come from.
type Found struct {
	Line   int // first line of the run, from 1
	Count  int
	Commit object.ID
	Path   string // the file's name in that commit
	From   int    // first line in that commit's file, from 1
	Cut    bool   // the commit is a shallow clone's boundary: the lines may be older
}

// Annotation holds the lines of a file and the search for their origins. Create it with New. It is not safe for
// concurrent use.
type Annotation struct {
	Text  []string
	Moved bool // also follow lines that moved within the file

	engine *merge.Engine
	store  *object.Overlay
	graph  *history.Graph
	scout  *scout

	last    [3]version
	waiting queue
	at      map[place]*suspect
}

// NoTextError reports that a path has no lines in a commit.
type NoTextError struct {
	Path string
	What string // what is at the path; empty for nothing
}

func (e *NoTextError) Error() string {
	if e.What == "" {
		return fmt.Sprintf("there is no file %s in that commit", e.Path)
	}
	return fmt.Sprintf("%s has no lines: it is %s", e.Path, e.What)
}

// place is a file in a commit.
type place struct {
	commit object.ID
	path   string
}

// run is lines, numbered from 0, that the annotated file and a suspect's file share.
type run struct{ final, at, n int }

// suspect is a file in a commit that lines may come from.
type suspect struct {
	place
	history.Shape
	blob object.ID
	runs []run
	seq  int
}

// queue is a heap with the newest commit on top.
type queue []*suspect

func (q queue) Len() int { return len(q) }
func (q queue) Less(i, j int) bool {
	a, b := q[i], q[j]
	if a.Level != b.Level && a.Level != 0 && b.Level != 0 {
		return a.Level > b.Level
	}
	if a.When != b.When {
		return a.When > b.When
	}
	return a.seq < b.seq
}
func (q queue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(x any)   { *q = append(*q, x.(*suspect)) }
func (q *queue) Pop() any {
	last := (*q)[len(*q)-1]
	*q = (*q)[:len(*q)-1]
	return last
}

// New reads the file. graph may be nil. The error is a *NoTextError if the path has no lines.
func New(ctx context.Context, engine *merge.Engine, graph *history.Graph, commit object.ID, path string) (*Annotation,
	error) {
	a := &Annotation{engine: engine, store: engine.Store, graph: graph,
		at: map[place]*suspect{}}
	shape, err := a.shape(ctx, commit)
	if err != nil {
		return nil, err
	}
	e, err := a.store.Find(ctx, shape.Tree, path)
	if err != nil {
		return nil, err
	}
	if !e.Mode.IsRegular() {
		what := ""
		if !e.Absent() {
			what = e.Mode.Describe()
		}
		return nil, &NoTextError{path, what}
	}
	data, err := a.store.Blob(ctx, e.ID)
	if err != nil {
		return nil, err
	}
	if !merge.IsText(data) {
		return nil, &NoTextError{path, "no text"}
	}
	a.Text = diff.Lines(string(data))
	if len(a.Text) > 0 {
		a.suspect(place{commit, path}, shape, e.ID, []run{{0, 0, len(a.Text)}})
	}
	a.scout = newScout(a, commit, path)
	return a, nil
}

func (a *Annotation) shape(ctx context.Context, id object.ID) (history.Shape, error) {
	if s, ok := a.graph.Shape(id); ok {
		return s, nil
	}
	c, err := a.store.Commit(ctx, id)
	if err != nil {
		return history.Shape{}, err
	}
	return history.Shape{Tree: c.Tree, Parents: c.Parents, When: c.Committer.When}, nil
}

// suspect assigns lines to a file in a commit.
func (a *Annotation) suspect(p place, s history.Shape, blob object.ID, runs []run) {
	known := a.at[p]
	if known == nil {
		known = &suspect{place: p, Shape: s, blob: blob, seq: len(a.at)}
		a.at[p] = known
		heap.Push(&a.waiting, known)
	}
	known.runs = append(known.runs, runs...)
}

// Run searches and reports each line once, as soon as it is found. It stops with the context's error.
func (a *Annotation) Run(ctx context.Context, found func([]Found)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer a.scout.start(ctx, cancel)()
	for len(a.waiting) > 0 {
		if err := ctx.Err(); err != nil {
			return err
		}
		s := heap.Pop(&a.waiting).(*suspect)
		delete(a.at, s.place)
		a.scout.reached(s.commit)
		slices.SortFunc(s.runs, func(x, y run) int { return x.at - y.at })
		cut, err := a.ask(ctx, s)
		if err != nil {
			return err
		}
		if len(s.runs) == 0 {
			continue
		}
		out := make([]Found, 0, len(s.runs))
		slices.SortFunc(s.runs, func(x, y run) int { return x.final - y.final })
		for _, r := range s.runs {
			out = append(out, Found{r.final + 1, r.n, s.commit, s.path, r.at + 1, cut})
		}
		found(out)
	}
	return nil
}

// parent is a suspect's parent that contains the file.
type parent struct {
	place
	history.Shape
	entry object.Entry
}

// ask passes to the parents the lines that they contain, and leaves the rest with the suspect.
func (a *Annotation) ask(ctx context.Context, s *suspect) (cut bool, err error) {
	parents, cut, err := a.parents(ctx, s)
	if err != nil {
		return cut, err
	}
	for _, p := range parents {
		if p.entry.ID == s.blob { // every line came from this parent
			a.suspect(p.place, p.Shape, p.entry.ID, s.runs)
			s.runs = nil
			return cut, nil
		}
	}
	for i, p := range parents {
		if len(s.runs) == 0 {
			break
		}
		if slices.ContainsFunc(parents[:i], func(o parent) bool { return o.entry.ID == p.entry.ID }) {
			continue
		}
		new, err := a.text(ctx, s.blob)
		if err != nil {
			return cut, err
		}
		old, err := a.text(ctx, p.entry.ID)
		if err != nil {
			return cut, err
		}
		a.hand(s, p, old, new)
	}
	return cut, nil
}

// version is a text of the file.
type version struct {
	blob object.ID
	text string
}

// text returns a version of the file. It caches the latest ones, because each text is compared with that of its parent
// and of its child. Binary content has no lines in common with anything.
func (a *Annotation) text(ctx context.Context, id object.ID) (string, error) {
	for _, v := range a.last {
		if v.blob == id {
			return v.text, nil
		}
	}
	data, err := a.store.Blob(ctx, id)
	if err != nil {
		return "", err
	}
	v := version{blob: id}
	if merge.IsText(data) {
		v.text = string(data)
	}
	a.store.Forget(a.last[len(a.last)-1].blob)
	copy(a.last[1:], a.last[:])
	a.last[0] = v
	return v.text, nil
}

// parents finds the file in the parents, under its name or, in a parent without it, under the name it was renamed
// from.
func (a *Annotation) parents(ctx context.Context, s *suspect) (out []parent, cut bool, err error) {
	var renamed []history.Shape
	var ids []object.ID
	for _, id := range s.Parents {
		shape, err := a.shape(ctx, id)
		if errors.Is(err, object.ErrMissing) {
			cut = true
			continue
		}
		if err != nil {
			return nil, cut, err
		}
		e, err := a.store.Find(ctx, shape.Tree, s.path)
		if err != nil {
			return nil, cut, err
		}
		if e.Mode.IsRegular() {
			out = append(out, parent{place{id, s.path}, shape, e})
		} else if e.Absent() {
			renamed, ids = append(renamed, shape), append(ids, id)
		}
	}
	if slices.ContainsFunc(out, func(p parent) bool { return p.entry.ID == s.blob }) {
		return out, cut, nil
	}
	for i, shape := range renamed {
		from, err := a.engine.CameFrom(ctx, shape.Tree, s.Tree, s.path)
		if err != nil {
			return nil, cut, err
		}
		if from == "" {
			continue
		}
		e, err := a.store.Find(ctx, shape.Tree, from)
		if err != nil {
			return nil, cut, err
		}
		if e.Mode.IsRegular() {
			out = append(out, parent{place{ids[i], from}, shape, e})
		}
	}
	return out, cut, nil
}

// hand assigns to a parent the lines that its text shares with the suspect's.
func (a *Annotation) hand(s *suspect, p parent, old, new string) {
	between := diff.Between(old, new)
	edits := between.Edits
	var taken, left []run
	i, shift := 0, 0 // index of the next edit, and how far line numbers differ from the parent's
	for _, r := range s.runs {
		for r.n > 0 {
			for i < len(edits) && edits[i].B1 <= r.at {
				shift = edits[i].A1 - edits[i].B1
				i++
			}
			if i == len(edits) || edits[i].B0 >= r.at+r.n {
				taken = append(taken, run{r.final, r.at + shift, r.n})
				break
			}
			if n := edits[i].B0 - r.at; n > 0 {
				taken = append(taken, run{r.final, r.at + shift, n})
				r = run{r.final + n, r.at + n, r.n - n}
			}
			n := min(r.n, edits[i].B1-r.at)
			left = append(left, run{r.final, r.at, n})
			r = run{r.final + n, r.at + n, r.n - n}
		}
	}
	if a.Moved && len(left) > 0 {
		var moved []run
		moved, left = followMoved(between, left)
		taken = append(taken, moved...)
	}
	s.runs = left
	if len(taken) > 0 {
		a.suspect(p.place, p.Shape, p.entry.ID, taken)
	}
}

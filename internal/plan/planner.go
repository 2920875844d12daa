// Package plan computes what a join would do: the result of both routes, the questions each asks, what each leaves
// out, what will break, and how to continue a half-done operation. All objects it makes stay in memory. It cannot
// write files, refs or the index.
package plan

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/vcs"
)

// Planner computes joins. It is safe for use by several goroutines.
type Planner struct {
	*Reader
	Engine    *merge.Engine
	Files     *settle.Files
	Changes   *replay.Changes
	Accounts  *Accounts
	Foresight *Foresight
	Resumer   *Resumer
	Extras    *Extras

	Scout *Scout // nil if none was sent out

	unrelated bool // allow joins of lines without a common ancestor
	mu        sync.Mutex
	typed     map[settle.Key]string // texts found between git's conflict marks
}

// New returns a planner over the objects of a repository. source may be nil in tests.
func New(store *object.Overlay, source Source) *Planner {
	p := &Planner{
		Reader:  &Reader{Store: store, Source: source, annotators: map[[2]object.ID]*history.Annotator{}},
		Engine:  merge.NewEngine(store),
		Files:   settle.NewFiles(store),
		Changes: replay.NewChanges(store),
		Extras:  &Extras{Limit: extraLimit},
	}
	p.digits.Store(leastDigits)
	p.Accounts = &Accounts{p}
	p.Foresight = &Foresight{p: p, searching: make(chan struct{}, 1)}
	p.Resumer = &Resumer{p}
	return p
}

// Accounts lists what a result leaves out of each side.
type Accounts struct{ p *Planner }

// Resumer computes how to continue a half-done operation.
type Resumer struct{ p *Planner }

// Foresight finds edits that merge as text but break together, and mends for them.
type Foresight struct {
	p *Planner

	mu      sync.Mutex
	misfits map[misfit.Trees][]Misfit
	sides   struct { // cache of the last search
		of   misfit.Trees // the trees without the target
		read *misfit.Sides
	}
	searching chan struct{} // a lock: holds a value during a search for misfits
}

// AllowUnrelated permits joining lines without a common ancestor.
func (pn *Planner) AllowUnrelated() { pn.unrelated = true }

// Part computes where the two lines of a position diverge. The error is ErrCut in a shallow clone that is too short.
func (pn *Planner) Part(ctx context.Context, p *Position) (err error) {
	if p.Divergence = pn.Scout.PartOf(p.Yours, p.Theirs); p.Divergence == nil {
		p.Divergence, err = pn.Diverge(ctx, p.Yours, p.Theirs)
	}
	switch {
	case errors.Is(err, object.ErrMissing):
		return fmt.Errorf("reading the history: %w; see what %s says", err, pn.dialect().Verify)
	case err != nil:
		return err
	case p.Trivial() != NotTrivial || len(p.Divergence.Bases) > 0 || pn.unrelated && !p.Divergence.Cut:
		return nil
	case p.Divergence.Cut:
		return ErrCut
	}
	return &Blocked{What: "The two lines have no common ancestor: they are two unrelated histories.",
		Next: "Check that the branch follows the right branch of the right remote.", Remedy: JoinUnrelated}
}

// Diverge computes where two commits part.
func (rd *Reader) Diverge(ctx context.Context, yours, theirs object.ID) (*history.Divergence, error) {
	if by, ok := rd.Source.(vcs.Parting); ok {
		if d, err := by.Part(ctx, yours, theirs); d != nil || err != nil {
			return d, err
		}
	}
	return history.Diverge(ctx, rd.Store, yours, theirs)
}

// record notes in the joined tree what was brought in from another line, in a system that has such notes.
func record(ctx context.Context, pn *Planner, j *Join, p *Position) (err error) {
	by, ok := pn.Source.(vcs.Recording)
	if !ok || p.FromLine() == nil && !p.IsPick() || p.Resumes() != nil {
		return nil
	}
	var picks []object.ID
	if p.IsPick() {
		for _, n := range p.Divergence.Theirs {
			picks = append(picks, n.ID)
		}
	}
	was := j.Tree
	j.Tree, err = by.Recorded(ctx, pn.Store, was, p.Theirs, picks)
	j.recorded = j.Tree != was
	return err
}

// ErrCut says that a shallow clone ends before the two lines part.
var ErrCut = errors.New("this clone is shallow, and the point where the two lines part lies before its first commit; " +
	"get the rest of the history with “git fetch --unshallow”")

// Picking returns the position of picking commits onto home.Yours. The error is a *replay.PickedMergeError for a merge
// if parent does not select one of its parents.
func (pn *Planner) Picking(ctx context.Context, home *Position, picks []object.ID, parent int) (*Position, error) {
	yours := home.Yours
	k := &Picking{Home: home, Parent: parent}
	p := &Position{Branch: home.Branch, Yours: yours, Theirs: picks[len(picks)-1], Kind: k}
	var err error
	if p.Divergence, err = history.Diverge(ctx, pn.Store, p.Yours, p.Theirs); err != nil {
		return nil, err
	}
	apart := map[object.ID]bool{} // commits known not to be in your line
	for _, n := range p.Divergence.Theirs {
		apart[n.ID] = true
	}
	p.Divergence.Theirs = nil
	k.Own = p.Divergence.Yours
	for _, id := range slices.Backward(picks) {
		c, err := pn.Store.Commit(ctx, id)
		if err != nil {
			return nil, err
		}
		n := history.Node{ID: id, Commit: c}
		if len(c.Parents) > 1 && (parent < 1 || parent > len(c.Parents)) {
			return nil, &replay.PickedMergeError{Commit: n, Parent: parent}
		}
		p.Divergence.Theirs = append(p.Divergence.Theirs, n)
		if apart[id] {
			continue
		}
		// A commit of your own line may have been reverted since.
		since, err := history.Diverge(ctx, pn.Store, yours, id)
		if err != nil {
			return nil, err
		}
		if len(since.Theirs) == 0 && len(since.Yours) >= len(k.Own) {
			k.Own = append(slices.Clip(since.Yours), n)
		}
	}
	return p, nil
}

// Joined merges two commits.
func (pn *Planner) Joined(ctx context.Context, a, b object.ID) (*merge.Result, error) {
	parted, err := history.Diverge(ctx, pn.Store, a, b)
	if err != nil {
		return nil, err
	}
	return pn.over(ctx, parted.Bases, a, b)
}

// over merges two commits over the given ancestors.
func (pn *Planner) over(ctx context.Context, bases []object.ID, a, b object.ID) (*merge.Result, error) {
	yours, err := pn.Tree(ctx, a)
	if err != nil {
		return nil, err
	}
	theirs, err := pn.Tree(ctx, b)
	if err != nil {
		return nil, err
	}
	return pn.Engine.TreesOver(ctx, bases, yours, theirs)
}

// all merges a commit with others, one after the other as git does, into one commit in memory. It returns the zero id
// if one of these merges has a conflict.
func (pn *Planner) all(ctx context.Context, at object.ID, others []object.ID) (object.ID, error) {
	for _, id := range others {
		r, err := pn.Joined(ctx, at, id)
		if err != nil || !r.Clean() {
			return object.ID{}, err
		}
		tree, err := r.Tree(ctx, merge.Decided{})
		if err != nil {
			return object.ID{}, err
		}
		at = pn.Store.PutCommit(&object.Commit{Tree: tree, Parents: []object.ID{at, id}})
	}
	return at, nil
}

// keepTyped stores text that the person typed between conflict markers, to offer it as a way.
func (pn *Planner) keepTyped(k settle.Key, text string) {
	pn.mu.Lock()
	known := pn.typed[k] == text
	if pn.typed == nil {
		pn.typed = map[settle.Key]string{}
	}
	pn.typed[k] = text
	pn.mu.Unlock()
	if !known {
		pn.Files.Forget()
	}
}

// TypedIn returns the text typed between the markers of a conflict. ok is false if there is none.
func (pn *Planner) TypedIn(k settle.Key) (string, bool) {
	pn.mu.Lock()
	defer pn.mu.Unlock()
	text, ok := pn.typed[k]
	return text, ok
}

// Misfit is a pair of edits that merge as text but break together, with the commits that made them. A commit is zero
// if it is not known.
type Misfit struct {
	misfit.Misfit
	ChangedIn, UsedIn history.Node
}

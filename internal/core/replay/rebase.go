package replay

import (
	"context"
	"fmt"
	"slices"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// Outcome is what happened to a commit. Its text is its name in `plan --json`.
type Outcome string

// The outcomes.
const (
	Clean        Outcome = "clean"
	Conflict     Outcome = "conflict"
	AlreadyThere Outcome = "already-there" // theirs has the same change
	Emptied      Outcome = "emptied"       // no change is left after joining
	Dropped      Outcome = "left-out"      // a person left it out
)

// Step is one replayed commit of yours.
type Step struct {
	Commit  history.Node
	Outcome Outcome
	Same    history.Node     // their commit, for AlreadyThere
	Merge   *merge.Result    // nil for AlreadyThere, and for a merge that only joined theirs
	Own     *merge.Result    // for a merge commit: its own change, joined with the new tree
	Open    bool             // a conflict has no decision; Tree holds a placeholder
	Into    bool             // the commit is squashed into the step before
	Message string           // of the new commit; empty for the one it has
	Edited  []string         // files that a person edited in the commit
	Unfit   []merge.TextEdit // edits that no longer fit
	onto    []Parent         // parents of the new commit
	stands  bool             // the commit exists already
	Says    Says             // how a squashed commit changes the message, if Message is empty
	own     bool             // the new commit gets the committer as its author
	after   snapshot
}

// Tree returns the tree after the step. It may have to create it; the error is that of reading what this needs.
func (s *Step) Tree(ctx context.Context) (object.ID, error) { return s.after.tree(ctx) }

// Parent is the parent of a new commit: an earlier step or, if Step is negative, a commit that stays as it is.
type Parent struct {
	Step int
	ID   object.ID
}

// Left reports whether the commit is left out of the new line.
func (s *Step) Left() bool {
	return s.Outcome == AlreadyThere || s.Outcome == Emptied || s.Outcome == Dropped
}

// Joins lists the tree joins of the step in order.
func (s *Step) Joins() (out []*merge.Result) {
	for _, r := range []*merge.Result{s.Merge, s.Own} {
		if r != nil {
			out = append(out, r)
		}
	}
	return out
}

// Resolver decides the conflicts of one join. It returns their solutions and whether all of them are settled.
// Unsettled ones have stand-ins.
type Resolver func(r *merge.Result) (d merge.Decided, all bool, err error)

// MergeCommitError reports that a line cannot be replayed because it contains a commit that joins more than two lines.
type MergeCommitError struct{ Commit history.Node }

func (e *MergeCommitError) Error() string {
	return fmt.Sprintf("your commit %s “%s” joins %d lines at once, and only merges of two can be replayed; choose "+
		"merge instead",
		e.Commit.ID.Prefix(12), e.Commit.Subject(), len(e.Commit.Parents))
}

// Rebase replays commits (newest first, as history.Diverge returns them) onto the tip of theirs: the line of first
// parents and, of merged lines, everything on top of a replayed commit. Other side lines stay as they are. A merge is
// made again from the present versions of its two lines; one of more lines results in a *MergeCommitError. Requests
// about commits are followed where possible: merge commits are not left out, and in a line with merges no commit
// becomes part of another. Rebase writes nothing; Commits makes the new commits. Its cost depends on what the commits
// change.
func Rebase(ctx context.Context, engine *merge.Engine, changes *Changes, yours, theirs []history.Node,
	onto object.ID, requests Requests, resolve Resolver, progress func(done, of int)) ([]Step, error) {
	same, err := changes.Same(ctx, engine, yours, theirs)
	if err != nil {
		return nil, err
	}
	r := newReplayer(engine, yours, onto, resolve)
	bottom := yours[0]
	for len(bottom.Parents) > 0 {
		below, ok := r.mine[bottom.Parents[0]]
		if !ok {
			break
		}
		bottom = below
	}
	reading, err := r.prepare(ctx, changes, yours)
	if err != nil {
		return nil, err
	}
	defer engine.Store.Release()
	defer reading.end()
	for i := len(yours) - 1; i >= 0; i-- {
		n := yours[i]
		reading.to(len(yours) - 1 - i)
		if progress != nil {
			progress(len(yours)-1-i, len(yours))
		}
		if n.ID != bottom.ID && !r.replayed(n.Parents) {
			continue
		}
		s, request := Step{Commit: n}, requests[n.ID]
		other, ok := same[n.ID]
		switch {
		case request.Leave && len(n.Parents) < 2:
			s.onto = r.parents(n, 1)
			err = r.leave(ctx, &s)
		case ok && !request.Keep:
			s.Outcome, s.Same, s.onto = AlreadyThere, other, r.parents(n, 1)
			s.after, err = r.snapshot(ctx, s.onto[0])
		case len(n.Parents) > 1:
			s.onto = r.parents(n, 2)
			err = r.merge(ctx, &s)
		default:
			s.onto = r.parents(n, 1)
			err = r.plain(ctx, &s)
		}
		if err == nil {
			err = r.edit(ctx, &s, request.Edits)
		}
		if err != nil {
			return nil, fmt.Errorf("replaying %s: %w", n.ID, err)
		}
		r.hold(&s, request)
		r.add(s)
	}
	return r.steps, nil
}

// replayer replays a line.
type replayer struct {
	engine   *merge.Engine
	onto     object.ID
	resolve  Resolver
	mine     map[object.ID]history.Node
	picking  bool              // the commits are picked from theirs,
	parentOf int               // and the change of a merge is against this parent, from 1
	merges   bool              // the list has merges, so new commits are needed to find their bases
	at       map[object.ID]int // steps by commit
	steps    []Step
	made     []object.ID // a new commit for each step, in memory only
	ground   *ground     // state of a line of commits that only edit files; nil if trees are joined
}

// newReplayer prepares to replay commits of yours.
func newReplayer(engine *merge.Engine, yours []history.Node, onto object.ID,
	resolve Resolver) *replayer {
	r := &replayer{engine: engine, onto: onto, resolve: resolve, mine: map[object.ID]history.Node{},
		at: map[object.ID]int{}, steps: make([]Step, 0, len(yours))}
	for _, n := range yours {
		r.mine[n.ID] = n
		r.merges = r.merges || len(n.Parents) > 1
	}
	return r
}

// prepare starts reading what commits need.
func (r *replayer) prepare(ctx context.Context, changes *Changes, commits []history.Node) (*ahead, error) {
	tip, err := r.engine.Store.Commit(ctx, r.onto)
	if err != nil {
		return nil, err
	}
	if !r.merges {
		if r.ground, err = newGround(ctx, r.engine, changes, commits, tip.Tree); err != nil {
			return nil, err
		}
	}
	return readAhead(ctx, r.engine.Store, changes, commits, tip.Tree), nil
}

func (r *replayer) replayed(parents []object.ID) bool {
	return slices.ContainsFunc(parents, func(p object.ID) bool { _, ok := r.at[p]; return ok })
}

// parents returns what the first n parents of a commit have become.
func (r *replayer) parents(c history.Node, n int) (out []Parent) {
	for i, p := range c.Parents {
		if i == n {
			break
		}
		if step, ok := r.at[p]; ok {
			out = append(out, Parent{Step: step})
		} else if _, ok := r.mine[p]; i == 0 && !ok {
			out = append(out, Parent{-1, r.onto})
		} else {
			out = append(out, Parent{-1, p})
		}
	}
	if len(out) == 0 { // a root commit
		out = append(out, Parent{-1, r.onto})
	}
	return out
}

func (r *replayer) tree(ctx context.Context, p Parent) (object.ID, error) {
	at, err := r.snapshot(ctx, p)
	if err != nil {
		return object.ID{}, err
	}
	return at.tree(ctx)
}

func (r *replayer) snapshot(ctx context.Context, p Parent) (snapshot, error) {
	if p.Step >= 0 {
		return r.steps[p.Step].after, nil
	}
	c, err := r.engine.Store.Commit(ctx, p.ID)
	if err != nil {
		return snapshot{}, err
	}
	return snapshot{id: c.Tree}, nil
}

func (r *replayer) commit(p Parent) object.ID {
	if p.Step >= 0 {
		return r.made[p.Step]
	}
	return p.ID
}

func (r *replayer) add(s Step) {
	r.at[s.Commit.ID] = len(r.steps)
	r.steps = append(r.steps, s)
	switch {
	case !r.merges:
		r.made = append(r.made, object.ID{})
	case s.stands:
		r.made = append(r.made, s.Commit.ID)
	case s.Left():
		r.made = append(r.made, r.commit(s.onto[0]))
	default:
		// Bases of merges are found by real commits, so make one.
		c := &object.Commit{Tree: s.after.id, Committer: s.Commit.Committer}
		for _, p := range s.onto {
			c.Parents = append(c.Parents, r.commit(p))
		}
		r.made = append(r.made, r.engine.Store.PutCommit(c))
	}
}

// settle resolves a join and returns its tree.
func (r *replayer) settle(ctx context.Context, s *Step, joined *merge.Result) (object.ID, error) {
	var settled merge.Decided
	if !joined.Clean() {
		var all bool
		var err error
		if settled, all, err = r.resolve(joined); err != nil {
			return object.ID{}, err
		}
		s.Open = s.Open || !all
		s.Outcome = Conflict
	}
	return joined.Tree(ctx, settled)
}

func (r *replayer) plain(ctx context.Context, s *Step) error {
	n := s.Commit
	s.Outcome = Clean
	on, err := r.snapshot(ctx, s.onto[0])
	if err != nil {
		return err
	}
	if r.ground != nil {
		if s.Merge, s.after, err = r.ground.bring(ctx, n, on); err != nil {
			return err
		}
		if s.Merge != nil {
			if s.after != on {
				return nil
			}
			before, err := history.FirstParentTree(ctx, r.engine.Store, n.Commit)
			if n.Tree != before { // a commit that was empty before is kept
				s.Outcome = Emptied
			}
			return err
		}
	}
	onto, err := on.tree(ctx)
	if err != nil {
		return err
	}
	before, err := history.FirstParentTree(ctx, r.engine.Store, n.Commit)
	if len(n.Parents) > 1 {
		var c *object.Commit
		if c, err = r.engine.Store.Commit(ctx, n.Parents[r.parentOf-1]); err == nil {
			before = c.Tree
		}
	}
	if err != nil {
		return err
	}
	if r.picking {
		s.Merge, err = r.engine.Trees(ctx, before, onto, n.Tree)
	} else {
		s.Merge, err = r.engine.Onto(ctx, before, n.Tree, onto)
	}
	if err != nil {
		return err
	}
	tree, err := r.settle(ctx, s, s.Merge)
	if err != nil {
		return err
	}
	s.after = snapshot{id: tree}
	if s.Merge.Clean() && !r.picking {
		// thousands of full results would fill the memory; only those of a pick are shown
		s.Merge = s.Merge.Brief()
	}
	if tree == onto && n.Tree != before && !s.Open {
		s.Outcome = Emptied
	}
	return nil
}

// Commits makes the new commits of a replayed line on top of onto. It returns their ids, parallel to the steps (zero
// for those left out), and the new tip. Author, message, encoding and other headers are kept; signatures are not,
// because they sign the old content. A commit that already has its new parents unchanged keeps its id. Steps that
// become part of the one before share its commit. last, unless zero, replaces the tree of the commit of Last.
func Commits(ctx context.Context, store *object.Overlay, steps []Step, onto object.ID, committer object.Signature,
	last object.ID) (ids []object.ID, tip object.ID, err error) {
	ids = make([]object.ID, len(steps))
	final, kept := Last(steps)
	if !kept && !last.IsZero() {
		return nil, onto, fmt.Errorf("no commit of yours is left to hold the mend")
	}
	resolve := func(p Parent) object.ID {
		if p = Kept(steps, p); p.Step >= 0 {
			return ids[p.Step]
		}
		return p.ID
	}
	for _, group := range Groups(steps) {
		end := group[len(group)-1]
		tree := last
		if end != final || last.IsZero() {
			if tree, err = steps[end].Tree(ctx); err != nil {
				return nil, tip, err
			}
		}
		id := commitOf(store, steps, group, tree, committer, resolve)
		for _, k := range group {
			ids[k] = id
		}
	}
	if len(steps) == 0 {
		return ids, onto, nil
	}
	return ids, resolve(Parent{Step: len(steps) - 1}), nil
}

// commitOf makes the commit of a group of steps, or returns the existing one if nothing changed.
func commitOf(store *object.Overlay, steps []Step, group []int, tree object.ID, committer object.Signature,
	resolve func(Parent) object.ID) object.ID {
	s := &steps[group[0]]
	c, extra := *s.Commit.Commit, s.Commit.Extra
	added := -1
	for _, k := range group {
		m := steps[k].Message
		switch {
		case k == group[0]:
		case m == "":
			m = steps[k].Says.to(c.Message, &added)
		case steps[k].Says.Does == Adds: // the message already contains this one
			added = steps[k].Says.Chain
		}
		if m != "" && m != c.Message {
			c.Message = m
			extra = slices.DeleteFunc(slices.Clone(extra), func(h object.Header) bool { return h.Key == "encoding" })
		}
	}
	c.Tree, c.Committer, c.Extra, c.Parents = tree, committer, nil, nil
	if s.own {
		c.AuthorLine = committer.String()
	}
	for _, p := range s.onto {
		if id := resolve(p); !slices.Contains(c.Parents, id) {
			c.Parents = append(c.Parents, id)
		}
	}
	if !s.own && slices.Equal(c.Parents, s.Commit.Parents) && c.Tree == s.Commit.Tree && c.Message == s.Commit.Message {
		return s.Commit.ID
	}
	for _, h := range extra {
		if h.Key != "gpgsig" && h.Key != "gpgsig-sha256" && h.Key != "mergetag" {
			c.Extra = append(c.Extra, h)
		}
	}
	return store.PutCommit(&c)
}

// Upto makes the commit of a step without the later steps that became part of it. ids are those of Commits. If no step
// followed it returns the step's own id.
func Upto(ctx context.Context, store *object.Overlay, steps []Step, ids []object.ID, i int,
	committer object.Signature) (object.ID, error) {
	for _, group := range Groups(steps) {
		n := slices.Index(group, i)
		if n < 0 || n == len(group)-1 {
			continue
		}
		tree, err := steps[i].Tree(ctx)
		if err != nil {
			return object.ID{}, err
		}
		return commitOf(store, steps, group[:n+1], tree, committer, func(p Parent) object.ID {
			if p = Kept(steps, p); p.Step >= 0 {
				return ids[p.Step]
			}
			return p.ID
		}), nil
	}
	return ids[i], nil
}

// Kept follows a parent past steps that are left out, to a kept step or a commit that stays.
func Kept(steps []Step, p Parent) Parent {
	for p.Step >= 0 && steps[p.Step].Left() {
		p = steps[p.Step].onto[0]
	}
	return p
}

// Stands reports whether the step's commit existed before and stays as it is.
func (s *Step) Stands() bool { return s.stands }

// Groups lists the kept steps, grouped by the commit that they become.
func Groups(steps []Step) (out [][]int) {
	within := map[int]bool{}
	for i := range steps {
		if steps[i].Left() || within[i] {
			continue
		}
		group := together(steps, i)
		for _, k := range group {
			within[k] = true
		}
		out = append(out, group)
	}
	return out
}

// together lists the steps that become one commit with a step: it and those after it that become part of it.
func together(steps []Step, i int) []int {
	group := []int{i}
	for k := i + 1; k < len(steps); k++ {
		switch s := &steps[k]; {
		case s.Left():
		case s.Into && s.onto[0].Step >= i:
			group = append(group, k)
		default:
			return group
		}
	}
	return group
}

// Last returns the step that becomes the new tip. ok is false if none is kept.
func Last(steps []Step) (i int, ok bool) {
	for i = len(steps) - 1; i >= 0 && steps[i].Left(); {
		i = steps[i].onto[0].Step
	}
	return i, i >= 0
}

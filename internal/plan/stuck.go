package plan

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/decided"
	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/vcs"
)

// Stopped computes the merge at which git stopped, and what of it is settled.
func (re *Resumer) Stopped(ctx context.Context, s *Stuck) error {
	var err error
	if len(s.Left.Merged) > 0 {
		if s.from, err = re.p.all(ctx, s.Left.Head, s.Left.Merged[:len(s.Left.Merged)-1]); err != nil ||
			s.from.IsZero() {
			return err
		}
		one, other := s.from, s.Left.Merged[len(s.Left.Merged)-1]
		if s.Left.Operation == vcs.Rebasing {
			if s.swapped, err = replay.FirstHoldsTheirs(ctx, re.p.Store, s.Left.Onto, one, other); err != nil {
				return err
			}
		}
		if s.swapped {
			one, other = other, one
		}
		s.Join, err = re.p.Joined(ctx, one, other)
	} else if base, yours, theirs, ok, terr := re.stopTrees(ctx, s); terr != nil || !ok {
		return terr
	} else {
		s.trees = merge.Three[object.ID]{Base: base, Yours: yours, Theirs: theirs}
		s.Join, err = re.p.Engine.Trees(ctx, base, yours, theirs)
	}
	if err != nil {
		return err
	}
	var edits []merge.TextEdit
	for i := range s.Join.Conflicts {
		c := &s.Join.Conflicts[i]
		path, open := s.openOf(c)
		if !open {
			s.Settled = append(s.Settled, c.Path)
			continue
		}
		f := re.p.Files.Open(ctx, c)
		if f.Text == nil {
			continue
		}
		more, err := re.readMarked(ctx, s, f, path)
		if err != nil {
			return err
		}
		edits = append(edits, more...)
	}
	s.begin(edits)
	return nil
}

// stopTrees returns the three trees of that merge. ok is false if git stopped between two commits.
func (re *Resumer) stopTrees(ctx context.Context, s *Stuck) (base, yours, theirs object.ID, ok bool, err error) {
	if s.Left.Operation == vcs.Unmerged {
		return re.unmergedTrees(ctx, s)
	}
	head, err := re.p.Tree(ctx, s.Left.Head)
	if err != nil {
		return base, yours, theirs, false, err
	}
	if s.Left.Stopped.IsZero() || !s.pending() && len(s.Open) == 0 || len(s.Open) == 0 && s.Stand == head {
		return base, yours, theirs, false, nil // the commit at which it stopped was committed or dropped
	}
	c, err := re.p.Store.Commit(ctx, s.Left.Stopped)
	if err != nil {
		return base, yours, theirs, false, err
	}
	before, err := history.FirstParentTree(ctx, re.p.Store, c)
	if err == nil && s.Left.Parent > 1 && s.Left.Parent <= len(c.Parents) {
		before, err = re.p.Tree(ctx, c.Parents[s.Left.Parent-1])
	}
	if err != nil {
		return base, yours, theirs, false, err
	}
	switch s.Left.Operation {
	case vcs.Picking:
		return before, head, c.Tree, true, nil
	case vcs.Reverting:
		return c.Tree, head, before, true, nil
	}
	return before, c.Tree, head, true, nil
}

// unmergedTrees returns the trees of conflicts without an operation, from the stages in the index. For a stash, yours
// is the stash.
func (re *Resumer) unmergedTrees(ctx context.Context, s *Stuck) (base, yours, theirs object.ID, ok bool, err error) {
	var trees [3]object.ID
	for i := range trees {
		gone, put := map[string]object.Entry{}, map[string]object.Entry{}
		for _, d := range s.Dirty {
			switch {
			case !d.Conflict:
			case d.Stages[i].Absent():
				gone[d.Path] = object.Entry{}
			default:
				put[d.Path] = d.Stages[i]
			}
		}
		if trees[i], err = re.p.Store.Edit(ctx, s.Stand, gone); err == nil {
			trees[i], err = re.p.Store.Edit(ctx, trees[i], put)
		}
		if err != nil {
			return base, yours, theirs, false, err
		}
		if trees[i].IsZero() {
			trees[i] = re.p.Store.EmptyTree()
		}
	}
	if s.Left.Unshelving {
		s.stashed = true
	} else if s.stashed, err = re.bringsStashBack(ctx, s); err != nil {
		return base, yours, theirs, false, err
	}
	if s.stashed {
		trees[1], trees[2] = trees[2], trees[1]
	}
	return trees[0], trees[1], trees[2], true, err
}

// bringsStashBack reports whether the conflict markers come from a stash.
func (re *Resumer) bringsStashBack(ctx context.Context, s *Stuck) (bool, error) {
	for _, p := range s.Open {
		e, err := re.p.Store.Find(ctx, s.Held.Files, p)
		if err != nil {
			return false, err
		}
		if !e.Mode.IsRegular() {
			continue
		}
		data, err := re.p.Store.Blob(ctx, e.ID)
		if err != nil {
			return false, err
		}
		if strings.Contains(string(data), "\n>>>>>>> Stashed changes\n") {
			return true, nil
		}
	}
	return false, nil
}

// readMarked reads a file with conflict markers. Settled conflicts become decisions, other changes become edits. A
// file without markers is settled.
func (re *Resumer) readMarked(ctx context.Context, s *Stuck, f *settle.File, path string) ([]merge.TextEdit, error) {
	if slices.ContainsFunc(s.Dirty, func(d vcs.Dirty) bool { return d.Path == path && d.Unmarked }) {
		return nil, nil
	}
	e, err := re.p.Store.Find(ctx, s.Held.Files, path)
	if err != nil || !e.Mode.IsRegular() {
		return nil, err
	}
	data, err := re.p.Store.Blob(ctx, e.ID)
	if err != nil || !merge.IsText(data) {
		return nil, err
	}
	text := string(data)
	one, other, blocks, whole := markedSides(text)
	switch {
	case !whole:
		return nil, nil // the marks are not git's: the whole file is in conflict
	case blocks == 0:
		s.Open = slices.DeleteFunc(s.Open, func(p string) bool { return p == path })
		s.Settled = append(s.Settled, path)
		s.Stand, err = re.p.Store.Edit(ctx, s.Stand, map[string]object.Entry{path: e})
		return nil, err
	}
	is, was := decided.Answers(f, diff.Lines(one)), decided.Answers(f, diff.Lines(other))
	of := func(list []decided.Answer, q *settle.Question) (decided.Answer, bool) {
		i := slices.IndexFunc(list, func(a decided.Answer) bool { return a.Of == q })
		if i < 0 {
			return decided.Answer{}, false
		}
		return list[i], true
	}
	answer := map[*settle.Question]string{}
	settled := 0
	for _, q := range f.Questions {
		a, ok := of(is, q)
		b, also := of(was, q)
		if answer[q] = a.Text; !ok || !also || a.Text != b.Text {
			if text := s.typedBetween(q, a.Text, b.Text); ok && also && text != "" {
				re.p.keepTyped(q.Key, text)
				s.Note("In %s you typed between conflict marks that still stand: that is offered as a way to settle "+
					"it, and the file as it is now is kept when you accept.", path)
			}
			continue
		}
		d := settle.Decision{Key: q.Key, Way: a.Way}
		if a.Way == settle.Written {
			d.Text = a.Text
		}
		s.Found = append(s.Found, d)
		settled++
	}
	if settled > 0 {
		s.Marked = append(s.Marked, path)
	}
	before := f.Join(func(q *settle.Question) settle.Option { return settle.Option{Text: answer[q]} })
	if before == one {
		return nil, nil
	}
	return []merge.TextEdit{{Path: f.Path, Before: before, After: one}}, nil
}

// markedSides returns the text with the first side of each marked conflict, and with the second. whole is false if the
// markers are incomplete.
func markedSides(text string) (first, second string, blocks int, whole bool) {
	var one, other strings.Builder
	const (
		outside = iota
		inFirst
		inBase
		inSecond
	)
	at := outside
	for line := range strings.Lines(text) {
		m := mark(line)
		switch {
		case m == '<' && at == outside:
			at, blocks = inFirst, blocks+1
		case m == '|' && at == inFirst:
			at = inBase
		case m == '=' && (at == inFirst || at == inBase):
			at = inSecond
		case m == '>' && at == inSecond:
			at = outside
		case m == '<', m == '>':
			return "", "", blocks, false
		case at == outside:
			one.WriteString(line)
			other.WriteString(line)
		case at == inFirst:
			one.WriteString(line)
		case at == inSecond:
			other.WriteString(line)
		}
	}
	return one.String(), other.String(), blocks, at == outside
}

// mark returns the character of a conflict marker line, or 0.
func mark(line string) byte {
	line = strings.TrimRight(line, "\r\n")
	if len(line) < 7 {
		return 0
	}
	c := line[0]
	if !strings.ContainsRune("<|=>", rune(c)) || line[:7] != strings.Repeat(string(c), 7) {
		return 0
	}
	if len(line) == 7 || line[7] == ' ' && c != '=' {
		return c
	}
	return 0
}

// Resume computes how to continue the operation.
func (re *Resumer) Resume(ctx context.Context, s *Stuck) error {
	if s.Resume == nil {
		s.Resume = &Resume{}
	}
	r := s.Resume
	switch {
	case s.Left.Operation == vcs.Applying:
		s.Why = "its patches come from mails, which Dorvik does not read. Once what it stopped at is settled and " +
			"staged, “git am --continue” goes on with it; “git am --skip” leaves that patch out"
	case len(s.Left.Merged) > 0 && s.from.IsZero():
		s.Why = "it joins more than two lines at once, and those before the last do not join by themselves"
	}
	s.withoutFollowing()
	if s.Why == "" {
		var err error
		switch s.Left.Operation {
		case vcs.Merging:
			r.Merged, r.Message, r.From = s.Left.Merged, s.Left.Message, s.from
		case vcs.Rebasing:
			err = re.resumeRebase(ctx, s, r)
		case vcs.Unmerged:
		default:
			err = re.resumePicks(ctx, s, r)
		}
		if err != nil {
			return err
		}
	}
	if s.Why != "" {
		s.Resume = nil
	}
	return nil
}

// resumeRebase lists the remaining commits of a rebase.
func (re *Resumer) resumeRebase(ctx context.Context, s *Stuck, r *Resume) error {
	begun := r.Begun
	r.Begun = nil
	head, err := re.p.Store.Commit(ctx, s.Left.Head)
	if err != nil {
		return err
	}
	if err := re.made(ctx, s, r); err != nil {
		return err
	}
	if n := len(r.Todo); n > 0 && s.Left.Noted {
		if r.Todo[n-1].Message, err = re.p.Source.Uncommented(ctx, head.Message); err != nil {
			return err
		}
	}
	f := &follower{w: re.p, s: s, todo: r.Todo, at: replay.Parent{Step: len(r.Todo) - 1, ID: s.Left.Head},
		labels: map[string]replay.Parent{}}
	if s.Left.Has("signoff") {
		if f.signOff, err = re.signOff(ctx); err != nil {
			return err
		}
	}
	f.moved()
	switch last := len(f.todo) - 1; {
	case begun != nil && len(s.Left.Done) > 0:
		if err := f.stopped(ctx, begun); err != nil {
			return err
		}
	case s.Stand == head.Tree: // nothing is staged: git keeps the message that it prepared if the chain goes on
		if last >= 0 && s.Left.Noted && !s.Left.Squashing && s.Left.Message != "" && chainGoesOn(s.Left) {
			f.todo[last].Message = s.Left.Message
		}
	case s.Left.Amend == s.Left.Head && last >= 0 && f.todo[last].Commit.ID == s.Left.Head:
		f.todo[last].Stands, f.todo[last].Tree = false, s.Stand // it was staged at an edit of that commit
	default:
		s.beside = head.Tree
	}
	if err := f.follow(ctx, s.Left.Todo); err != nil {
		return err
	}
	r.moves = f.moves
	if r.Todo = f.todo; len(r.Todo) > 0 && r.Todo[0].Into {
		s.Why = "its list begins with a commit that becomes part of one that is not in the list"
	}
	return nil
}

// chainGoesOn reports whether a rebase stopped at a commit that becomes part of another, and the next one does, too.
func chainGoesOn(u *vcs.Unfinished) bool {
	return len(u.Done) > 0 && u.Done[len(u.Done)-1].Verb.Joins() && len(u.Todo) > 0 && u.Todo[0].Verb.Joins()
}

// stopped adds the commit at which the rebase stopped.
func (f *follower) stopped(ctx context.Context, begun *merge.Begun) error {
	s := f.s
	n, err := f.w.Store.Commit(ctx, s.Left.Stopped)
	if err != nil {
		return err
	}
	last := s.Left.Done[len(s.Left.Done)-1].Verb
	t := replay.Todo{Commit: history.Node{ID: s.Left.Stopped, Commit: n}, Begun: begun, Message: s.Left.Message,
		Into: last.Joins()}
	if last == vcs.Reword {
		s.reworded(n)
	}
	if f.signOff != "" && !t.Into {
		t.Message = object.WithTrailer(cmp.Or(t.Message, n.Message), f.signOff)
	}
	var others []replay.Parent
	for _, id := range s.Left.Merged {
		others = append(others, f.place(id))
	}
	f.add(t, others...)
	if f.squashed = t.Into && s.Left.Squashing; f.squashed {
		t.Says = replay.Says{Does: replay.Adds, Chain: f.chain}
	}
	return nil
}

// signOff returns the Signed-off-by line.
func (re *Resumer) signOff(ctx context.Context) (string, error) {
	who, err := re.p.Source.Committer(ctx)
	return fmt.Sprintf("Signed-off-by: %s <%s>", who.Name, who.Email), err
}

// made lists the commits that the rebase has made already.
func (re *Resumer) made(ctx context.Context, s *Stuck, r *Resume) error {
	var list []replay.Todo
	at := s.Left.Head
	for at != s.Left.Onto {
		c, err := re.p.Store.Commit(ctx, at)
		if err != nil {
			return err
		}
		if len(c.Parents) != 1 || len(list) > len(s.Left.Done) { // a list does not make such commits
			break
		}
		list = append(list, replay.Todo{Stands: true, Commit: history.Node{ID: at, Commit: c}})
		at = c.Parents[0]
	}
	slices.Reverse(list)
	r.Todo, r.Onto = list, at
	return nil
}

// resumePicks lists the commits still to be picked or reverted.
func (re *Resumer) resumePicks(ctx context.Context, s *Stuck, r *Resume) (err error) {
	begun := r.Begun
	r.Onto, r.Begun = s.Left.Head, nil
	list := s.Left.Todo
	if begun != nil {
		list = append(slices.Clone(s.Left.Done[len(s.Left.Done)-1:]), s.Left.Todo...)
	}
	if s.Left.Has("no-commit") {
		s.Why = "it was to make no commits (--no-commit), and Dorvik makes one of each"
		return nil
	}
	signOff := ""
	if s.Left.Has("signoff") {
		if signOff, err = re.signOff(ctx); err != nil {
			return err
		}
	}
	for i, c := range list {
		if c.Verb != vcs.Pick && c.Verb != vcs.Revert {
			s.Why = "its list has “" + string(c.Verb) + "”, which Dorvik does not follow"
			return nil
		}
		n, err := re.p.Store.Commit(ctx, c.Commit)
		if err != nil {
			return err
		}
		node := history.Node{ID: c.Commit, Commit: n}
		against := object.ID{}
		if len(n.Parents) > 1 || s.Left.Parent > 0 {
			if s.Left.Parent < 1 || s.Left.Parent > len(n.Parents) {
				s.Why = "its list has a commit that joins lines"
				return nil
			}
			one := *n // view the merge as a commit on that parent
			against = n.Parents[s.Left.Parent-1]
			one.Parents = []object.ID{against}
			node = history.Node{ID: re.p.Store.PutCommit(&one), Commit: &one}
		}
		t := replay.Todo{Commit: node, Theirs: true, Keep: s.Left.Has("empty=keep")}
		switch {
		case c.Verb == vcs.Revert:
			if t.Commit, err = re.reverse(ctx, node, c.Commit, against); err != nil {
				return err
			}
			t.Own, t.Message = true, t.Commit.Message
		case s.Left.Has("x"):
			t.Message = object.WithTrailer(n.Message, "(cherry picked from commit "+c.Commit.String()+")")
		}
		if signOff != "" {
			t.Message = object.WithTrailer(cmp.Or(t.Message, n.Message), signOff)
		}
		if i == 0 && begun != nil {
			t.Begun, t.Message = begun, s.Left.Message
		}
		r.Todo = append(r.Todo, t)
	}
	return nil
}

// reverse returns a commit that reverts another one, or its change against one parent.
func (re *Resumer) reverse(ctx context.Context, n history.Node, of, against object.ID) (history.Node, error) {
	before, err := history.FirstParentTree(ctx, re.p.Store, n.Commit)
	if err != nil {
		return n, err
	}
	who, err := re.p.Source.Committer(ctx)
	if err != nil {
		return n, err
	}
	who.When, who.Zone = n.Committer.When, n.Committer.Zone // equal reverts give equal commits
	what := of.String()
	if !against.IsZero() {
		what += fmt.Sprintf(", reversing\nchanges made to %s", against)
	}
	c := &object.Commit{Tree: before, Parents: []object.ID{n.ID}, AuthorLine: who.String(), Committer: who,
		Message: fmt.Sprintf("Revert \"%s\"\n\nThis reverts commit %s.\n", n.Subject(), what)}
	return history.Node{ID: re.p.Store.PutCommit(c), Commit: c}, nil
}

// Edits returns the uncommitted work that does not belong to the operation, including what git stashed before.
func (re *Resumer) Edits(ctx context.Context, s *Stuck, beyond object.ID) (*Uncommitted, error) {
	u := *s.Held
	u.Parts = nil
	if !beyond.IsZero() {
		u.Add(Part{beyond, s.Stand, "what you had staged", true})
	}
	base, files := s.Stand, s.Held.Files
	open := map[string]object.Entry{}
	for _, p := range s.Open { // the files contain marks
		e, err := re.p.Store.Find(ctx, base, p)
		if err != nil {
			return nil, err
		}
		open[p] = e
	}
	files, err := re.p.Store.Edit(ctx, files, open)
	if err != nil {
		return nil, err
	}
	u.Add(Part{base, files, "your uncommitted work", false})
	return &u, re.PutAside(ctx, s.Left.Stash, &u)
}

// PutAside adds the work that git stashed before the operation.
func (re *Resumer) PutAside(ctx context.Context, stash object.ID, u *Uncommitted) error {
	if stash.IsZero() {
		return nil
	}
	c, err := re.p.Store.Commit(ctx, stash)
	if err != nil {
		return err
	}
	if len(c.Parents) < 2 {
		return fmt.Errorf("what git put aside before (%s) is not of the form that git gives it", stash)
	}
	base, err := re.p.Tree(ctx, c.Parents[0])
	if err != nil {
		return err
	}
	staged, err := re.p.Tree(ctx, c.Parents[1])
	if err != nil {
		return err
	}
	u.Add(Part{base, staged, "what you had staged before", true})
	u.Add(Part{staged, c.Tree, "your work that git put aside", false})
	return nil
}

// DecidedIn returns the decisions made in the operation. For joining again it includes those of files and commits that
// are complete.
func (re *Resumer) DecidedIn(ctx context.Context, s *Stuck, anew bool) ([]settle.Decision, error) {
	out := slices.Clone(s.Found)
	if !anew {
		return out, nil
	}
	if s.Join != nil {
		more, err := re.decisionsOf(ctx, s.Join, s.Stand)
		if err != nil {
			return nil, err
		}
		open := map[string]bool{}
		for _, p := range s.Open {
			open[p] = true
		}
		for _, d := range more {
			if !open[d.Path] {
				out = append(out, decisionOf(d))
			}
		}
	}
	for was, is := range s.Left.Remade {
		from, err := re.p.Store.Commit(ctx, was)
		if err != nil {
			continue // no further conflicts here
		}
		to, err := re.p.Store.Commit(ctx, is)
		if err != nil || len(from.Parents) != 1 || len(to.Parents) != 1 {
			continue
		}
		base, err := re.p.Tree(ctx, from.Parents[0])
		if err != nil {
			return nil, err
		}
		onto, err := re.p.Tree(ctx, to.Parents[0])
		if err != nil {
			return nil, err
		}
		r, err := re.p.Engine.Trees(ctx, base, from.Tree, onto)
		if err != nil {
			return nil, err
		}
		more, err := re.decisionsOf(ctx, r, to.Tree)
		if err != nil {
			return nil, err
		}
		for _, d := range more {
			out = append(out, decisionOf(d))
		}
	}
	return out, nil
}

// decisionsOf returns the decisions of a merge that a tree contains.
func (re *Resumer) decisionsOf(ctx context.Context, r *merge.Result, tree object.ID) (out []decided.Decision,
	err error) {
	a, err := decided.Compare(ctx, re.p.Store, re.p.Files, r, tree)
	if err != nil {
		return nil, err
	}
	for _, d := range a.Decisions {
		if d.Question != nil && (!d.Whole || d.Way != settle.Written) {
			out = append(out, d)
		}
	}
	return out, nil
}

func decisionOf(d decided.Decision) settle.Decision {
	out := settle.Decision{Key: d.Question.Key, Way: d.Way}
	if d.Way == settle.Written {
		out.Text = d.Result
	}
	return out
}

// Finishing returns the position of continuing the operation.
func (re *Resumer) Finishing(ctx context.Context, s *Stuck) (*Position, error) {
	if s.Resume == nil {
		return nil, &Blocked{What: "This cannot be continued: " + s.Why + ".",
			Next: "It can be joined again, or taken back. Nothing was changed."}
	}
	k := &Resuming{Resume: s.Resume}
	p := &Position{Branch: s.On, Yours: s.Left.Before, Stuck: s, Kind: k, Dirty: s.Dirty}
	var err error
	if p.Carried, err = re.Edits(ctx, s, s.beside); err != nil {
		return nil, err
	}
	switch s.Left.Operation {
	case vcs.Merging:
		p.Theirs = s.Left.Merged[len(s.Left.Merged)-1]
	case vcs.Unmerged:
		p.Theirs = s.Left.Head
	case vcs.Rebasing:
		if p.Theirs = s.Left.Onto; p.Theirs.IsZero() {
			p.Theirs = s.Left.Head
		}
	default:
		p.Yours, p.Theirs = s.Left.Head, s.Left.Stopped
		k.Picks = &Picking{Home: Alone(s.On, s.Left.Head), Parent: s.Left.Parent}
	}
	if p.IsPick() {
		p.Divergence = &history.Divergence{}
	} else if p.Divergence, err = history.Diverge(ctx, re.p.Store, p.Yours, p.Theirs); err != nil {
		return nil, err
	} else if err = re.addOthers(ctx, s, p); err != nil {
		return nil, err
	}
	if s.Left.Operation != vcs.Merging {
		var list []history.Node
		for _, t := range slices.Backward(s.Resume.Todo) {
			list = append(list, t.Commit)
		}
		if p.IsPick() {
			p.Divergence.Theirs = list
		} else {
			p.Divergence.Yours = list
		}
	}
	return p, nil
}

// addOthers adds the commits of all heads of an octopus merge.
func (re *Resumer) addOthers(ctx context.Context, s *Stuck, p *Position) error {
	if s.Left.Operation != vcs.Merging {
		return nil
	}
	for _, id := range s.Left.Merged[:len(s.Left.Merged)-1] {
		more, err := history.Diverge(ctx, re.p.Store, p.Yours, id)
		if err != nil {
			return err
		}
		for _, n := range more.Theirs {
			if !slices.ContainsFunc(p.Divergence.Theirs, func(o history.Node) bool { return o.ID == n.ID }) {
				p.Divergence.Theirs = append(p.Divergence.Theirs, n)
			}
		}
	}
	return nil
}

// JoinedAs returns the tree of the merge at which git stopped, with conflicts as they are settled now.
func (re *Resumer) JoinedAs(ctx context.Context, s *Stuck) (object.ID, error) {
	tree, err := s.Join.Tree(ctx, merge.Decided{})
	if err != nil {
		return tree, err
	}
	gone, put := map[string]object.Entry{}, map[string]object.Entry{}
	for i := range s.Join.Conflicts {
		for _, p := range s.Join.Conflicts[i].Paths() {
			e, err := re.p.Store.Find(ctx, s.Stand, p)
			switch {
			case err != nil:
				return tree, err
			case e.IsTree():
			case e.Absent():
				gone[p] = e
			default:
				put[p] = e
			}
		}
	}
	if tree, err = re.p.Store.Edit(ctx, tree, gone); err == nil {
		tree, err = re.p.Store.Edit(ctx, tree, put)
	}
	return tree, err
}

// EditsOf returns the uncommitted work from before the operation.
func (re *Resumer) EditsOf(ctx context.Context, s *Stuck, before object.ID) (*Uncommitted, error) {
	u := *s.Held
	u.Parts = nil
	if !s.Left.Edits.IsZero() {
		tree, err := re.p.Tree(ctx, s.Left.Edits)
		u.Add(Part{before, tree, "your uncommitted work", false})
		return &u, err
	}
	changes, err := re.p.Store.Changes(ctx, s.Stand, s.Held.Files)
	if err != nil {
		return nil, err
	}
	edits := map[string]object.Entry{}
	for _, c := range changes {
		is, err := re.p.Store.Find(ctx, before, c.Path)
		if err != nil {
			return nil, err
		}
		if is.Same(c.Old) && !slices.Contains(s.Open, c.Path) {
			edits[c.Path] = c.New
		}
	}
	tree, err := re.p.Store.Edit(ctx, before, edits)
	if err != nil {
		return nil, err
	}
	u.Add(Part{before, tree, "your uncommitted work", false})
	return &u, re.PutAside(ctx, s.Left.Stash, &u)
}

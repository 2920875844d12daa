package recovery

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
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
	"dorvik.dev/dorvik/internal/words"
)

// TakeOver is what becomes of what git left half done. The names are those of
// `recover --take-over`.
type TakeOver string

// What can become of it.
const (
	Finish TakeOver = "finish" // gone on with from where it stands
	Anew   TakeOver = "anew"   // joined anew on the side, with what was decided
	Back   TakeOver = "back"   // taken back to where the branch was
)

// StuckError says that git left something half done here, which can be taken over.
type StuckError struct{ *Stuck }

func (e *StuckError) Error() string {
	return e.Sentence() + " Open dorvik to take it over, or say --take-over finish, anew or back"
}

// Stuck is what git left half done, with what stands of it: read, nothing is changed.
type Stuck struct {
	*vcs.Unfinished
	On      vcs.Branch // the branch that it is done to
	Dirty   []vcs.Dirty
	Open    []string // paths that are not settled
	Marked  []string // of these, those in which some conflicts are settled already, between marks
	Settled []string // paths that were in conflict and are settled
	Resume  *Resume  // how it is gone on with; nil where Dorvik cannot
	Why     string   // why it cannot
	Notes   []string // what to know of its list before going on, as sentences
	Runs    []string // commands that its list has run on the way

	found   []settle.Decision      // of open files, what is settled between the marks
	held    *Uncommitted           // all that is not committed
	stand   object.ID              // a tree: what the index holds, with what is settled in files
	join    *merge.Result          // at which it stopped; nil where it is at none
	trees   merge.Three[object.ID] // that this joins, where they are not those of commits
	swapped bool                   // of a merge that a rebase makes: HEAD holds theirs, and what it joins is yours
	stashed bool                   // of conflicts without an operation: they come from a stash
	from    object.ID              // of a merge: the commit it joins with the last of the others
	beside  object.ID              // a tree: beyond it what is staged is no part of any commit; zero where all of it is
}

// Resume is how what git left half done is gone on with.
type Resume struct {
	Merged  []object.ID   // a merge of the branch with these; else
	From    object.ID     // of a merge of several: the branch with all of them but the last, in memory
	Todo    []replay.Todo // commits that are still to be replayed
	Onto    object.ID     // onto this
	Begun   *merge.Begun  // of a merge
	Message string        // of the merge commit

	moves []branchMove // of other branches, once all is made
}

// Stuck reads what git left half done; nil where nothing is.
func (w *Workspace) Stuck(ctx context.Context) (*Stuck, error) {
	u, err := w.Repo.Unfinished(ctx)
	if err != nil {
		return nil, err
	}
	b, dirty, err := w.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	if u == nil && hasConflicts(dirty) && !b.Tip.IsZero() {
		u = &vcs.Unfinished{Operation: vcs.Unmerged, Branch: b.Name, Detached: b.Name == "", Head: b.Tip, Before: b.Tip}
	}
	if u == nil {
		return nil, nil
	}
	s := &Stuck{Unfinished: u, Dirty: dirty}
	if err := w.stillThere(ctx, s); err != nil {
		return nil, err
	}
	if u.Branch != "" {
		if s.On, err = w.Repo.Named(ctx, u.Branch); err != nil {
			return nil, err
		}
	}
	if s.held, err = w.uncommitted(ctx, u.Head, s.Dirty); err != nil {
		return nil, err
	}
	if s.held == nil {
		tree, err := w.Tree(u.Head)
		if err != nil {
			return nil, err
		}
		s.held = &Uncommitted{On: u.Head, Staged: tree, Files: tree}
	}
	s.stand = s.held.Staged
	for _, d := range s.Dirty {
		if d.Conflict {
			s.Open = append(s.Open, d.Path)
		}
	}
	if err := w.stopped(ctx, s); err != nil {
		return nil, err
	}
	return s, w.resume(ctx, s)
}

// stillThere drops the moves of branches that somebody moved since the rebase began, and says so.
func (w *Workspace) stillThere(ctx context.Context, s *Stuck) error {
	var left []vcs.BranchMove
	for _, m := range s.Moves {
		at, err := w.Repo.Ref(ctx, m.Name)
		if err != nil {
			return err
		}
		if at == m.From {
			left = append(left, m)
			continue
		}
		s.note("Its list moves %s, too, which was moved since by something else: it stays where it is.",
			strings.TrimPrefix(m.Name, "refs/heads/"))
	}
	s.Moves = left
	return nil
}

// hasConflicts reports whether the index holds paths that are not merged.
func hasConflicts(dirty []vcs.Dirty) bool {
	return slices.ContainsFunc(dirty, func(d vcs.Dirty) bool { return d.Conflict })
}

// stopped works out the join at which git stopped, and what of it is settled.
func (w *Workspace) stopped(ctx context.Context, s *Stuck) error {
	var err error
	if len(s.Merged) > 0 {
		if s.from, err = w.all(ctx, s.Head, s.Merged[:len(s.Merged)-1]); err != nil || s.from.IsZero() {
			return err
		}
		one, other := s.from, s.Merged[len(s.Merged)-1]
		if s.Operation == vcs.Rebasing {
			if s.swapped, err = replay.FirstHoldsTheirs(ctx, w.Store, s.Onto, one, other); err != nil {
				return err
			}
		}
		if s.swapped {
			one, other = other, one
		}
		s.join, err = w.joined(ctx, one, other)
	} else if base, yours, theirs, ok, terr := w.stopTrees(s); terr != nil || !ok {
		return terr
	} else {
		s.trees = merge.Three[object.ID]{Base: base, Yours: yours, Theirs: theirs}
		s.join, err = w.engine.Trees(ctx, base, yours, theirs)
	}
	if err != nil {
		return err
	}
	var edits []merge.TextEdit
	for i := range s.join.Conflicts {
		c := &s.join.Conflicts[i]
		path, open := s.openOf(c)
		if !open {
			s.Settled = append(s.Settled, c.Path)
			continue
		}
		f := w.files.Open(c)
		if f.Text == nil {
			continue
		}
		more, err := w.readMarked(s, f, path)
		if err != nil {
			return err
		}
		edits = append(edits, more...)
	}
	s.begin(edits)
	return nil
}

// joined joins two commits.
func (w *Workspace) joined(ctx context.Context, a, b object.ID) (*merge.Result, error) {
	parted, err := history.Diverge(ctx, w.Store, a, b)
	if err != nil {
		return nil, err
	}
	return w.over(ctx, parted.Bases, a, b)
}

// over joins two commits over their common ancestors.
func (w *Workspace) over(ctx context.Context, bases []object.ID, a, b object.ID) (*merge.Result, error) {
	yours, err := w.Tree(a)
	if err != nil {
		return nil, err
	}
	theirs, err := w.Tree(b)
	if err != nil {
		return nil, err
	}
	return w.engine.TreesOver(ctx, bases, yours, theirs)
}

// all joins a commit with others, one after the other as git does, to one in memory. It is zero where they
// do not join by themselves.
func (w *Workspace) all(ctx context.Context, at object.ID, others []object.ID) (object.ID, error) {
	for _, id := range others {
		r, err := w.joined(ctx, at, id)
		if err != nil || !r.Clean() {
			return object.ID{}, err
		}
		tree, err := r.Tree(merge.Decided{})
		if err != nil {
			return object.ID{}, err
		}
		at = w.Store.PutCommit(&object.Commit{Tree: tree, Parents: []object.ID{at, id}})
	}
	return at, nil
}

// begin keeps what stands of the join.
func (s *Stuck) begin(edits []merge.TextEdit) {
	s.Resume = &Resume{Begun: &merge.Begun{Tree: s.stand, Open: s.Open, Edits: edits}}
}

// openOf is the path under which git has a conflict open.
func (s *Stuck) openOf(c *merge.Conflict) (string, bool) {
	for _, p := range c.Paths() {
		for _, o := range s.Open {
			if o == p || strings.HasPrefix(o, p+"~") {
				return o, true
			}
		}
	}
	return "", false
}

// stopTrees are the trees of the join at which git stopped, yours and theirs as they are
// everywhere; ok is false where it stopped at none.
func (w *Workspace) stopTrees(s *Stuck) (base, yours, theirs object.ID, ok bool, err error) {
	if s.Operation == vcs.Unmerged {
		return w.unmergedTrees(s)
	}
	head, err := w.Tree(s.Head)
	if err != nil {
		return base, yours, theirs, false, err
	}
	if s.Stopped.IsZero() || !s.pending() && len(s.Open) == 0 || len(s.Open) == 0 && s.stand == head {
		return base, yours, theirs, false, nil // what it stopped at has been committed, or dropped
	}
	c, err := w.Store.Commit(s.Stopped)
	if err != nil {
		return base, yours, theirs, false, err
	}
	before, err := history.FirstParentTree(w.Store, c)
	if err == nil && s.Parent > 1 && s.Parent <= len(c.Parents) {
		before, err = w.Tree(c.Parents[s.Parent-1])
	}
	if err != nil {
		return base, yours, theirs, false, err
	}
	switch s.Operation {
	case vcs.Picking:
		return before, head, c.Tree, true, nil
	case vcs.Reverting:
		return c.Tree, head, before, true, nil
	}
	return before, c.Tree, head, true, nil
}

// unmergedTrees are the trees of what is in conflict without an operation: each is what the index holds merged, with
// its own stage of the rest. Where a stash was brought back, yours is what was stashed.
func (w *Workspace) unmergedTrees(s *Stuck) (base, yours, theirs object.ID, ok bool, err error) {
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
		if trees[i], err = w.Store.Edit(s.stand, gone); err == nil {
			trees[i], err = w.Store.Edit(trees[i], put)
		}
		if err != nil {
			return base, yours, theirs, false, err
		}
		if trees[i].IsZero() {
			trees[i] = w.Store.EmptyTree()
		}
	}
	if s.stashed, err = w.bringsStashBack(s); s.stashed {
		trees[1], trees[2] = trees[2], trees[1]
	}
	return trees[0], trees[1], trees[2], true, err
}

// bringsStashBack reports whether conflicts come from a stash: git names it in the marks.
func (w *Workspace) bringsStashBack(s *Stuck) (bool, error) {
	for _, p := range s.Open {
		e, err := w.Store.Find(s.held.Files, p)
		if err != nil {
			return false, err
		}
		if !e.Mode.IsRegular() {
			continue
		}
		data, err := w.Store.Blob(e.ID)
		if err != nil {
			return false, err
		}
		if strings.Contains(string(data), "\n>>>>>>> Stashed changes\n") {
			return true, nil
		}
	}
	return false, nil
}

// pending reports whether the commit that git stopped at is still to be made. At an edit it is made, and waits to be
// amended.
func (s *Stuck) pending() bool {
	if s.Operation != vcs.Rebasing || s.Remade == nil || len(s.Done) == 0 { // by patches, only git's index tells
		return true
	}
	switch s.Done[len(s.Done)-1].Verb {
	case "squash", "fixup":
		return s.Amend == s.Head
	}
	return s.Picking || len(s.Merged) > 0
}

// readMarked reads a file that git left in conflict: what is settled between the marks becomes
// decisions, and what was edited beside them edits. One without marks is settled as it is.
func (w *Workspace) readMarked(s *Stuck, f *settle.File, path string) ([]merge.TextEdit, error) {
	e, err := w.Store.Find(s.held.Files, path)
	if err != nil || !e.Mode.IsRegular() {
		return nil, err
	}
	data, err := w.Store.Blob(e.ID)
	if err != nil || !merge.IsText(data) {
		return nil, err
	}
	text := string(data)
	one, other, blocks, whole := markedSides(text)
	switch {
	case !whole:
		return nil, nil // the marks are not as git writes them: all of it is asked
	case blocks == 0:
		s.Open = slices.DeleteFunc(s.Open, func(p string) bool { return p == path })
		s.Settled = append(s.Settled, path)
		s.stand, err = w.Store.Edit(s.stand, map[string]object.Entry{path: e})
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
				w.keepTyped(q.Key, text)
				s.note("In %s you typed between conflict marks that still stand: that is offered as a way to settle "+
					"it, and the file as it is now is kept when you accept.", path)
			}
			continue
		}
		d := settle.Decision{Key: q.Key, Way: a.Way}
		if a.Way == settle.Written {
			d.Text = a.Text
		}
		s.found = append(s.found, d)
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

// typedBetween is what a person typed between the marks of a conflict, which hold first and second now: the half that
// is not as git wrote it, or both. It is empty where git wrote them so.
func (s *Stuck) typedBetween(q *settle.Question, first, second string) string {
	headIs, otherIs := q.Yours, q.Theirs
	// HEAD's half, which is first, is theirs
	if s.Operation == vcs.Rebasing && len(s.Merged) == 0 || s.swapped || s.stashed {
		headIs, otherIs = otherIs, headIs
	}
	switch {
	case first != headIs && second != otherIs:
		return first + second
	case first != headIs:
		return first
	case second != otherIs:
		return second
	}
	return ""
}

// markedSides gives a text with the first side in the place of each conflict that git marked in
// it, and with the second; whole is false where marks are left that are no such conflict.
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

// mark is the sign of a line that git marks a conflict with; 0 for any other.
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

// resume works out how what git left half done is gone on with.
func (w *Workspace) resume(ctx context.Context, s *Stuck) error {
	if s.Resume == nil {
		s.Resume = &Resume{}
	}
	r := s.Resume
	switch {
	case s.Operation == vcs.Applying:
		s.Why = "its patches come from mails, which Dorvik does not read. Once what it stopped at is settled and " +
			"staged, “git am --continue” goes on with it; “git am --skip” leaves that patch out"
	case len(s.Merged) > 0 && s.from.IsZero():
		s.Why = "it joins more than two lines at once, and those before the last do not join by themselves"
	}
	s.withoutFollowing()
	if s.Why == "" {
		var err error
		switch s.Operation {
		case vcs.Merging:
			r.Merged, r.Message, r.From = s.Merged, s.Message, s.from
		case vcs.Rebasing:
			err = w.resumeRebase(ctx, s, r)
		case vcs.Unmerged:
		default:
			err = w.resumePicks(ctx, s, r)
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

// resumeRebase lists what a rebase has still to do: the commit it stopped at, and the rest of its
// list.
func (w *Workspace) resumeRebase(ctx context.Context, s *Stuck, r *Resume) error {
	begun := r.Begun
	r.Begun = nil
	head, err := w.Store.Commit(s.Head)
	if err != nil {
		return err
	}
	if err := w.made(s, r); err != nil {
		return err
	}
	if n := len(r.Todo); n > 0 && s.Noted {
		if r.Todo[n-1].Message, err = w.Repo.Uncommented(ctx, head.Message); err != nil {
			return err
		}
	}
	f := &follower{w: w, ctx: ctx, s: s, todo: r.Todo, at: replay.Parent{Step: len(r.Todo) - 1, ID: s.Head},
		labels: map[string]replay.Parent{}}
	if s.Has("signoff") {
		if f.signOff, err = w.signOff(ctx); err != nil {
			return err
		}
	}
	f.moved()
	switch last := len(f.todo) - 1; {
	case begun != nil && len(s.Done) > 0:
		if err := f.stopped(begun); err != nil {
			return err
		}
	case s.stand == head.Tree: // nothing is staged
	case s.Amend == s.Head && last >= 0 && f.todo[last].Commit.ID == s.Head:
		f.todo[last].Stands, f.todo[last].Tree = false, s.stand // staged at an edit, so it goes into that commit
	default:
		s.beside = head.Tree
	}
	if err := f.follow(s.Todo); err != nil {
		return err
	}
	r.moves = f.moves
	if r.Todo = f.todo; len(r.Todo) > 0 && r.Todo[0].Into {
		s.Why = "its list begins with a commit that becomes part of one that is not on it"
	}
	return nil
}

// stopped puts the commit on the list at which the rebase stopped, with what stands of its join.
func (f *follower) stopped(begun *merge.Begun) error {
	s := f.s
	n, err := f.w.Store.Commit(s.Stopped)
	if err != nil {
		return err
	}
	last := s.Done[len(s.Done)-1].Verb
	t := replay.Todo{Commit: history.Node{ID: s.Stopped, Commit: n}, Begun: begun, Message: s.Message,
		Into: last == "squash" || last == "fixup"}
	if last == "reword" {
		s.reworded(n)
	}
	if f.signOff != "" && !t.Into {
		t.Message = object.WithTrailer(cmp.Or(t.Message, n.Message), f.signOff)
	}
	var others []replay.Parent
	for _, id := range s.Merged {
		others = append(others, f.place(id))
	}
	f.add(t, others...)
	if f.squashed = t.Into && s.Squashing; f.squashed {
		t.Says = replay.Says{Does: replay.Adds, Chain: f.chain}
	}
	return nil
}

// signOff is the line by which the person at the keyboard signs off a commit.
func (w *Workspace) signOff(ctx context.Context) (string, error) {
	who, err := w.Repo.Committer(ctx)
	return fmt.Sprintf("Signed-off-by: %s <%s>", who.Name, who.Email), err
}

// made lists the commits that a rebase has made already, on what they stand.
func (w *Workspace) made(s *Stuck, r *Resume) error {
	var list []replay.Todo
	at := s.Head
	for at != s.Onto {
		c, err := w.Store.Commit(at)
		if err != nil {
			return err
		}
		if len(c.Parents) != 1 || len(list) > len(s.Done) { // not as a list makes them
			break
		}
		list = append(list, replay.Todo{Stands: true, Commit: history.Node{ID: at, Commit: c}})
		at = c.Parents[0]
	}
	slices.Reverse(list)
	r.Todo, r.Onto = list, at
	return nil
}

// resumePicks lists the commits that are still to be picked, or taken back.
func (w *Workspace) resumePicks(ctx context.Context, s *Stuck, r *Resume) (err error) {
	begun := r.Begun
	r.Onto, r.Begun = s.Head, nil
	list := s.Todo
	if begun != nil {
		list = append(slices.Clone(s.Done[len(s.Done)-1:]), s.Todo...)
	}
	if s.Has("no-commit") {
		s.Why = "it was to make no commits (--no-commit), and Dorvik makes one of each"
		return nil
	}
	signOff := ""
	if s.Has("signoff") {
		if signOff, err = w.signOff(ctx); err != nil {
			return err
		}
	}
	for i, c := range list {
		if c.Verb != "pick" && c.Verb != "revert" {
			s.Why = "its list has “" + c.Verb + "”, which Dorvik does not follow"
			return nil
		}
		n, err := w.Store.Commit(c.Commit)
		if err != nil {
			return err
		}
		node := history.Node{ID: c.Commit, Commit: n}
		against := object.ID{}
		if len(n.Parents) > 1 || s.Parent > 0 {
			if s.Parent < 1 || s.Parent > len(n.Parents) {
				s.Why = "its list has a commit that joins lines"
				return nil
			}
			one := *n // as a commit of what it changed against that parent
			against = n.Parents[s.Parent-1]
			one.Parents = []object.ID{against}
			node = history.Node{ID: w.Store.PutCommit(&one), Commit: &one}
		}
		t := replay.Todo{Commit: node, Theirs: true, Keep: s.Has("empty=keep")}
		switch {
		case c.Verb == "revert":
			if t.Commit, err = w.reverse(ctx, node, c.Commit, against); err != nil {
				return err
			}
			t.Own, t.Message = true, t.Commit.Message
		case s.Has("x"):
			t.Message = object.WithTrailer(n.Message, "(cherry picked from commit "+c.Commit.String()+")")
		}
		if signOff != "" {
			t.Message = object.WithTrailer(cmp.Or(t.Message, n.Message), signOff)
		}
		if i == 0 && begun != nil {
			t.Begun, t.Message = begun, s.Message
		}
		r.Todo = append(r.Todo, t)
	}
	return nil
}

// reverse is the commit that takes another back, or what that changed against one of its parents. It is by the person
// at the keyboard.
func (w *Workspace) reverse(ctx context.Context, n history.Node, of, against object.ID) (history.Node, error) {
	before, err := history.FirstParentTree(w.Store, n.Commit)
	if err != nil {
		return n, err
	}
	who, err := w.Repo.Committer(ctx)
	if err != nil {
		return n, err
	}
	who.When, who.Zone = n.Committer.When, n.Committer.Zone // the same opposite is the same commit
	what := of.String()
	if !against.IsZero() {
		what += fmt.Sprintf(", reversing\nchanges made to %s", against)
	}
	c := &object.Commit{Tree: before, Parents: []object.ID{n.ID}, AuthorLine: who.String(), Committer: who,
		Message: fmt.Sprintf("Revert \"%s\"\n\nThis reverts commit %s.\n", n.Subject(), what)}
	return history.Node{ID: w.Store.PutCommit(c), Commit: c}, nil
}

// What names what is half done, as “the rebase”.
func (s *Stuck) What() string {
	return map[vcs.Operation]string{vcs.Merging: "the merge", vcs.Rebasing: "the rebase", vcs.Picking: "the pick",
		vcs.Reverting: "the revert", vcs.Applying: "the series of patches", vcs.Unmerged: "the conflicts"}[s.Operation]
}

// Sentence says in a sentence where git stopped.
func (s *Stuck) Sentence() string {
	if s.Operation == vcs.Unmerged {
		return words.If(s.stashed, "what was stashed was brought back, and does not fit what is here.",
			"your files hold conflicts that no merge and no rebase goes on with.") + " " + s.standing()
	}
	what := map[vcs.Operation]string{vcs.Merging: "a merge", vcs.Rebasing: "a rebase", vcs.Picking: "a pick",
		vcs.Reverting: "a revert", vcs.Applying: "applying patches"}[s.Operation]
	out := "git stopped in the middle of " + what
	if s.Operation == vcs.Applying {
		out += fmt.Sprintf(": at the %s of %s", words.Nth(s.At), words.Count(s.Patches, "patch", "patches"))
	} else if done := commitsOf(s.Done); done > 0 && done+commitsOf(s.Todo) > 1 && s.Operation != vcs.Merging {
		whose := words.If(s.Operation == vcs.Rebasing, "your ", "")
		out += fmt.Sprintf(": at the %s of %s%s", words.Nth(done), whose,
			words.Count(done+commitsOf(s.Todo), "commit", "commits"))
	}
	return out + ". " + s.standing()
}

// commitsOf counts the lines of a list that make a commit.
func commitsOf(list []vcs.Command) (n int) {
	for _, c := range list {
		if !c.Commit.IsZero() && c.Verb != "drop" {
			n++
		}
	}
	return n
}

// standing says how the files stand.
func (s *Stuck) standing() string {
	var out []string
	if n := len(s.Open); n > 0 {
		out = append(out, words.Count(n, "file has", "files have")+" conflicts")
	}
	if n := len(s.Settled); n > 0 {
		out = append(out, words.Count(n, "is", "are")+" settled already")
	}
	switch {
	case len(out) == 0 && s.Operation == vcs.Applying:
		return "It does not fit the files, or was to be looked at; git changed none of them for it."
	case len(out) == 0 && s.join != nil && s.join.Clean():
		return "Nothing is in conflict."
	case len(out) == 0:
		return "Nothing waits to be settled."
	}
	return strings.Join(out, ", ") + "."
}

// edits is the uncommitted work that is no part of what git left half done: what the files have
// beyond what stands, and what git put aside before it began.
func (w *Workspace) edits(s *Stuck, beyond object.ID) (*Uncommitted, error) {
	u := *s.held
	u.Parts = nil
	if !beyond.IsZero() {
		u.add(Part{beyond, s.stand, "what you had staged", true})
	}
	base, files := s.stand, s.held.Files
	open := map[string]object.Entry{}
	for _, p := range s.Open { // what stands there are marks
		e, err := w.Store.Find(base, p)
		if err != nil {
			return nil, err
		}
		open[p] = e
	}
	files, err := w.Store.Edit(files, open)
	if err != nil {
		return nil, err
	}
	u.add(Part{base, files, "your uncommitted work", false})
	return &u, w.putAside(s.Stash, &u)
}

// putAside adds the work that git put aside before it began.
func (w *Workspace) putAside(stash object.ID, u *Uncommitted) error {
	if stash.IsZero() {
		return nil
	}
	c, err := w.Store.Commit(stash)
	if err != nil {
		return err
	}
	if len(c.Parents) < 2 {
		return fmt.Errorf("what git put aside before (%s) is not of the form that git gives it", stash)
	}
	base, err := w.Tree(c.Parents[0])
	if err != nil {
		return err
	}
	staged, err := w.Tree(c.Parents[1])
	if err != nil {
		return err
	}
	u.add(Part{base, staged, "what you had staged before", true})
	u.add(Part{staged, c.Tree, "your work that git put aside", false})
	return nil
}

// Decided lists the decisions that stand in what git left half done: those between marks and,
// for a join anew, those of whole files and of commits that are replayed already.
func (w *Workspace) decidedIn(ctx context.Context, s *Stuck, anew bool) ([]settle.Decision, error) {
	out := slices.Clone(s.found)
	if !anew {
		return out, nil
	}
	if s.join != nil {
		more, err := w.decisionsOf(s.join, s.stand)
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
	for was, is := range s.Remade {
		from, err := w.Store.Commit(was)
		if err != nil {
			continue // no more here
		}
		to, err := w.Store.Commit(is)
		if err != nil || len(from.Parents) != 1 || len(to.Parents) != 1 {
			continue
		}
		base, err := w.Tree(from.Parents[0])
		if err != nil {
			return nil, err
		}
		onto, err := w.Tree(to.Parents[0])
		if err != nil {
			return nil, err
		}
		r, err := w.engine.Trees(ctx, base, from.Tree, onto)
		if err != nil {
			return nil, err
		}
		more, err := w.decisionsOf(r, to.Tree)
		if err != nil {
			return nil, err
		}
		for _, d := range more {
			out = append(out, decisionOf(d))
		}
	}
	return out, nil
}

// decisionsOf are the answers to the questions of a join that a tree holds.
func (w *Workspace) decisionsOf(r *merge.Result, tree object.ID) (out []decided.Decision, err error) {
	a, err := decided.Compare(w.Store, w.files, r, tree)
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

// finishing is the position of going on with what git left half done.
func (w *Workspace) finishing(ctx context.Context, s *Stuck) (*Position, error) {
	if s.Resume == nil {
		return nil, &Blocked{"This cannot be gone on with: " + s.Why + ".",
			"It can be joined anew, or taken back. Nothing was changed."}
	}
	p := &Position{Branch: s.On, Yours: s.Before, Stuck: s, Resume: s.Resume, Dirty: s.Dirty}
	var err error
	if p.Carried, err = w.edits(s, s.beside); err != nil {
		return nil, err
	}
	switch s.Operation {
	case vcs.Merging:
		p.Theirs = s.Merged[len(s.Merged)-1]
	case vcs.Unmerged:
		p.Theirs = s.Head
	case vcs.Rebasing:
		if p.Theirs = s.Onto; p.Theirs.IsZero() {
			p.Theirs = s.Head
		}
	default:
		p.Yours, p.Theirs, p.Picking, p.PickParent = s.Head, s.Stopped, true, s.Parent
		p.Home = alone(s.On, s.Head)
	}
	if p.Picking {
		p.Divergence = &history.Divergence{}
	} else if p.Divergence, err = history.Diverge(ctx, w.Store, p.Yours, p.Theirs); err != nil {
		return nil, err
	} else if err = w.addOthers(ctx, s, p); err != nil {
		return nil, err
	}
	if s.Operation != vcs.Merging {
		var list []history.Node
		for _, t := range slices.Backward(s.Resume.Todo) {
			list = append(list, t.Commit)
		}
		if p.Picking {
			p.Divergence.Theirs = list
		} else {
			p.Divergence.Yours = list
		}
	}
	return p, nil
}

// addOthers has a merge of several lines count what all of them bring.
func (w *Workspace) addOthers(ctx context.Context, s *Stuck, p *Position) error {
	if s.Operation != vcs.Merging {
		return nil
	}
	for _, id := range s.Merged[:len(s.Merged)-1] {
		more, err := history.Diverge(ctx, w.Store, p.Yours, id)
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

// anew is the position of joining anew, as if git had not begun.
func (s *Session) anew(ctx context.Context, st *Stuck, fetch bool) (*Position, error) {
	if why := st.NotAnew(); why != "" {
		return nil, &Blocked{words.Sentence(why), words.If(st.NotBack() == "", "It can be taken back.",
			"It can be gone on with.") + " Nothing was changed."}
	}
	b := st.On
	b.Tip = st.Before
	p, err := s.stand(ctx, b, st.Dirty, fetch)
	if err != nil {
		return nil, err
	}
	p.Stuck = st
	beyond := object.ID{}
	if st.join != nil { // what is staged beyond the join comes along as it is
		if beyond, err = s.joinedAs(st); err != nil {
			return nil, err
		}
	}
	p.Carried, err = s.edits(st, beyond)
	return p, err
}

// joinedAs is the tree of the join at which git stopped, with all that was in conflict as it
// stands.
func (w *Workspace) joinedAs(s *Stuck) (object.ID, error) {
	tree, err := s.join.Tree(merge.Decided{})
	if err != nil {
		return tree, err
	}
	gone, put := map[string]object.Entry{}, map[string]object.Entry{}
	for i := range s.join.Conflicts {
		for _, p := range s.join.Conflicts[i].Paths() {
			e, err := w.Store.Find(s.stand, p)
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
	if tree, err = w.Store.Edit(tree, gone); err == nil {
		tree, err = w.Store.Edit(tree, put)
	}
	return tree, err
}

// TakeOver has what git left half done be gone on with, or joined anew, from here on. What was
// decided in it is kept.
func (s *Session) TakeOver(ctx context.Context, how TakeOver) error {
	st, err := s.Stuck(ctx)
	if err != nil {
		return err
	}
	if st == nil {
		return &Blocked{"git left nothing half done here.", "There is nothing to take over."}
	}
	if how == Finish && st.Resume == nil {
		_, err := s.finishing(ctx, st)
		return err
	}
	found, err := s.decidedIn(ctx, st, how == Anew)
	if err != nil {
		return err
	}
	for _, d := range found {
		s.state.Decisions.Decide(d)
	}
	s.state.TakeOver, s.state.Stage, s.state.Route, s.state.Runs = how, Look, "", nil
	if how == Finish {
		s.state.Runs = st.Runs
	}
	s.state.Mends, s.state.Made = nil, nil
	return s.save()
}

// LeaveStuck drops the taking over; decisions are kept.
func (s *Session) LeaveStuck() error {
	s.state.TakeOver, s.state.Stage, s.state.Route, s.state.Runs = "", Look, "", nil
	return s.save()
}

// locateStuck is Locate where git left something half done.
func (s *Session) locateStuck(ctx context.Context, fetch bool) (*Position, error) {
	st, err := s.Stuck(ctx)
	if err != nil {
		return nil, err
	}
	if st == nil {
		return nil, errors.New("what git left half done is there no more: look again")
	}
	switch s.state.TakeOver {
	case Finish:
		return s.finishing(ctx, st)
	case Anew:
		return s.anew(ctx, st, fetch)
	}
	return nil, &StuckError{st}
}

// stuckStill holds that what git left half done is as it was read.
func (s *Session) stuckStill(b vcs.Branch, st *Stuck) error {
	if busy := s.Repo.Busy(); busy != st.Operation && (busy != "" || st.Operation != vcs.Unmerged) ||
		b.Tip != st.Head || (b.Name == "") != st.Detached {
		return &MovedError{Branch: st.Branch}
	}
	return nil
}

// GiveBack takes what git left half done back to where the branch was before it. Work that was
// there before is brought along; what was done in it is kept under a waypoint, and undo brings
// all of it back.
func (s *Session) GiveBack(ctx context.Context) (*Waypoint, error) {
	st, err := s.Stuck(ctx)
	if err != nil {
		return nil, err
	}
	if st == nil {
		return nil, &Blocked{"git left nothing half done here.", "There is nothing to take back."}
	}
	if why := st.NotBack(); why != "" {
		return nil, &Blocked{words.Sentence(why), "It can be gone on with. Nothing was changed."}
	}
	to, err := s.Tree(st.Before)
	if err != nil {
		return nil, err
	}
	u, err := s.editsOf(st, to)
	if err != nil {
		return nil, err
	}
	j := &Join{Tree: to}
	if err := s.carry(ctx, j, u, func(r *merge.Result) (merge.Decided, bool, error) {
		return s.files.Resolve(ctx, r, &settle.Decisions{})
	}); err != nil {
		return nil, err
	}
	if j.Carried.Asked > 0 {
		return nil, &Blocked{"Work that git put aside before it began does not fit " + st.Before.Prefix(12) + ".",
			"Go on from here, or join anew: then it is asked how. Nothing was changed."}
	}
	p := &Position{Branch: st.On, Yours: st.tip(), Theirs: st.Before, Stuck: st, Carried: u, Dirty: st.Dirty,
		Divergence: &history.Divergence{}}
	where := words.If(st.Branch == "", st.Before.String(), "refs/heads/"+st.Branch)
	return s.accept(ctx, p, j, Built{Tip: st.Before}, Consent{}, gitName(st.Operation)+" (abort): returning to "+where)
}

// NotAnew says why what is half done cannot be joined anew; empty where it can.
func (s *Stuck) NotAnew() string {
	switch {
	case s.Operation == vcs.Unmerged:
		return "nothing was being joined: there are only conflicts to settle"
	case s.Operation == vcs.Applying:
		return "patches from mails are no commits that could be joined"
	case s.Branch == "":
		return "it is done on no branch (a detached HEAD), which follows nothing that it could be joined with"
	case s.On.Upstream == "":
		return "the branch " + s.Branch + " follows no branch of a remote that it could be joined with"
	}
	return ""
}

// NotBack says why what is half done cannot be taken back; empty where it can.
func (s *Stuck) NotBack() string {
	if s.Operation == vcs.Unmerged {
		return "git did not note how the files were before these conflicts"
	}
	return ""
}

// tip is where the branch is or, where it is done on none, HEAD.
func (s *Stuck) tip() object.ID {
	if s.Branch == "" {
		return s.Head
	}
	return s.On.Tip
}

// gitName is the name of git's own command for an operation.
func gitName(o vcs.Operation) string {
	if o == vcs.Picking {
		return "cherry-pick"
	}
	return string(o)
}

// editsOf is the uncommitted work that was there before git began: edits of files that what git
// left half done does not touch, and what git put aside.
func (w *Workspace) editsOf(s *Stuck, before object.ID) (*Uncommitted, error) {
	u := *s.held
	u.Parts = nil
	changes, err := w.Store.Changes(s.stand, s.held.Files)
	if err != nil {
		return nil, err
	}
	edits := map[string]object.Entry{}
	for _, c := range changes {
		is, err := w.Store.Find(before, c.Path)
		if err != nil {
			return nil, err
		}
		if is.Same(c.Old) && !slices.Contains(s.Open, c.Path) {
			edits[c.Path] = c.New
		}
	}
	tree, err := w.Store.Edit(before, edits)
	if err != nil {
		return nil, err
	}
	u.add(Part{before, tree, "your uncommitted work", false})
	return &u, w.putAside(s.Stash, &u)
}

// Prospect is what each way of taking over comes to.
type Prospect struct {
	Asks    int // decisions that going on asks
	More    int // commits that it replays after the one it stopped at
	Kept    int // decisions that a join anew keeps
	Commits []StuckCommit
	Dirty   int // files with edits beside it, which stay as they are
}

// StuckCommit is a commit of what git left half done, and how far that came with it.
type StuckCommit struct {
	history.Node
	State string    // done, stopped, to come
	Now   object.ID // what it was made anew as
}

// Prospect works out what each way of taking over comes to. Nothing is changed.
func (s *Session) Prospect(ctx context.Context, st *Stuck) (*Prospect, error) {
	pr := &Prospect{}
	list := func(commands []vcs.Command, state string) error {
		for _, c := range commands {
			if c.Commit.IsZero() {
				continue
			}
			n, err := s.Store.Commit(c.Commit)
			if err != nil {
				return err
			}
			pr.Commits = append(pr.Commits, StuckCommit{history.Node{ID: c.Commit, Commit: n}, state,
				st.Remade[c.Commit]})
		}
		return nil
	}
	done, at := st.Done, []vcs.Command(nil)
	if n := len(done); n > 0 && !st.Stopped.IsZero() {
		done, at = done[:n-1], done[n-1:]
	}
	for _, part := range []struct {
		list  []vcs.Command
		state string
	}{{done, "done"}, {at, "stopped"}, {st.Todo, "to come"}} {
		if err := list(part.list, part.state); err != nil {
			return nil, err
		}
	}
	found, err := s.decidedIn(ctx, st, true)
	if err != nil {
		return nil, err
	}
	pr.Kept = len(found)
	for _, d := range st.Dirty {
		if d.Unstaged && !d.Conflict {
			pr.Dirty++
		}
	}
	if st.Resume == nil {
		return pr, nil
	}
	p, err := s.finishing(ctx, st)
	if err != nil {
		return nil, err
	}
	decisions := s.State().Decisions
	for _, d := range st.found {
		decisions.Decide(d)
	}
	j, err := s.Join(ctx, p, "", &decisions, Amends{}, nil)
	if err != nil {
		return nil, err
	}
	pr.Asks, pr.More = j.Open, commitsOf(st.Todo)
	return pr, nil
}

// forgetStuck notes that what git left half done is there no more.
func (s *Session) forgetStuck() {
	s.state.TakeOver, s.state.Runs = "", nil
}

// keepStuck has a transition put away what git left half done.
func (s *Session) keepStuck(k *Kept, tr *Transition, st *Stuck) {
	k.Operation, k.State = string(st.Operation), st.Files
	if st.Detached && st.Branch != "" { // else HEAD moves in the place of a branch
		k.Head, tr.Lay.Head = st.Head, st.Head
	}
	tr.Lay.State = k.State
	_ = os.MkdirAll(filepath.Join(s.keep(tr), "state"), 0o755)
}

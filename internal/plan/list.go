package plan

import (
	"context"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/vcs"
)

// follower turns the rest of a rebase's list into commits to replay. docs/half-done.md lists every verb.
type follower struct {
	w *Planner

	s        *Stuck
	todo     []replay.Todo
	at       replay.Parent            // current position of the list
	labels   map[string]replay.Parent // labels that the list set
	chain    int                      // number of chains of squashed commits so far
	squashed bool                     // the current chain contains a squash
	moves    []branchMove
	signOff  string // sign-off line for new commits; empty for none
}

// follow follows the remaining lines. It stops at the first that Dorvik cannot follow, and sets Why.
func (f *follower) follow(ctx context.Context, list []vcs.Command) error {
	for _, c := range list {
		if f.s.Why != "" {
			return nil
		}
		if err := f.line(ctx, c); err != nil {
			return err
		}
	}
	if n := len(f.todo); f.s.Why == "" && f.at.Step != n-1 && (n > 0 || f.at.ID != f.s.Left.Head) {
		f.s.Why = "its list ends on another line of commits than the one it made last"
	}
	return nil
}

// lines has what the list does at each verb. A revert is not among them: git refuses it in a rebase's list.
var lines = map[vcs.Verb]func(*follower, context.Context, vcs.Command) error{
	vcs.Pick: (*follower).commit, vcs.Reword: (*follower).commit, vcs.Edit: (*follower).commit,
	vcs.Squash: (*follower).commit, vcs.Fixup: (*follower).commit, vcs.Merge: (*follower).merge,
	vcs.Exec: (*follower).exec, vcs.Break: (*follower).stop, vcs.Label: (*follower).label, vcs.Reset: (*follower).reset,
	vcs.UpdateRef: (*follower).move,
	vcs.Drop:      func(*follower, context.Context, vcs.Command) error { return nil },
}

// line follows one line of the list.
func (f *follower) line(ctx context.Context, c vcs.Command) error {
	if !c.Verb.Joins() && c.Verb != vcs.Drop { // a new chain begins
		f.squashed = false
		f.chain++
	}
	do, ok := lines[c.Verb]
	if !ok {
		f.s.Why = "its list has “" + string(c.Verb) + "”, which Dorvik does not know"
		return nil
	}
	return do(f, ctx, c)
}

// exec notes the command that a line runs.
func (f *follower) exec(ctx context.Context, c vcs.Command) error {
	f.s.Runs = append(f.s.Runs, c.Rest)
	f.s.Note("Its list runs “%s” on the way: Dorvik runs nothing there; Check offers it for the result.", c.Rest)
	return nil
}

// stop notes that the list stops.
func (f *follower) stop(context.Context, vcs.Command) error {
	f.s.Note("Its list stops once more to let you look: Dorvik shows the result instead.")
	return nil
}

// label gives a name to where the list stands.
func (f *follower) label(ctx context.Context, c vcs.Command) error {
	f.labels[c.Rest] = f.at
	return nil
}

// reset continues from a label or a commit.
func (f *follower) reset(ctx context.Context, c vcs.Command) error {
	at, err := f.named(ctx, c.Names)
	if err != nil || len(c.Names) != 1 {
		f.s.Why = "its list goes on from “" + c.Rest + "”, which is not known here"
		return nil
	}
	f.at = at
	return nil
}

// move records that another branch moves to the present position.
func (f *follower) move(ctx context.Context, c vcs.Command) error {
	for _, m := range f.s.Left.Moves {
		if m.Name == c.Rest && m.To.IsZero() {
			f.moves = append(f.moves, branchMove{m, f.at})
			f.s.Note("Its list moves %s, too, to where it stands then: Dorvik moves it together with your branch.",
				strings.TrimPrefix(m.Name, "refs/heads/"))
		}
	}
	return nil
}

// moved records the branch moves of lines that git has already done. git makes them at its end.
func (f *follower) moved() {
	for _, m := range f.s.Left.Moves {
		if !m.To.IsZero() {
			f.moves = append(f.moves, branchMove{m, f.place(m.To)})
			f.s.Note("Its list moves %s, too: Dorvik moves it together with your branch.",
				strings.TrimPrefix(m.Name, "refs/heads/"))
		}
	}
}

// add appends a commit at the present position.
func (f *follower) add(t replay.Todo, onto ...replay.Parent) {
	t.Onto = append([]replay.Parent{f.at}, onto...)
	t.Keep = f.s.Left.Has("empty=keep")
	f.todo = append(f.todo, t)
	f.at = replay.Parent{Step: len(f.todo) - 1}
}

// named returns the position of a label, possibly one of git's, or of a commit.
func (f *follower) named(ctx context.Context, names []string) (replay.Parent, error) {
	name := ""
	if len(names) > 0 {
		name = names[0]
	}
	if p, ok := f.labels[name]; ok {
		return p, nil
	}
	id, err := f.w.Source.Resolve(ctx, "refs/rewritten/"+name)
	if err != nil {
		id, err = f.w.Source.Resolve(ctx, name)
	}
	return f.place(id), err
}

// place returns the step that made a commit, or the commit itself.
func (f *follower) place(id object.ID) replay.Parent {
	if i := slices.IndexFunc(f.todo, func(t replay.Todo) bool { return t.Stands && t.Commit.ID == id }); i >= 0 {
		return replay.Parent{Step: i}
	}
	return replay.Parent{Step: -1, ID: id}
}

// commit replays a commit.
func (f *follower) commit(ctx context.Context, c vcs.Command) error {
	n, err := f.w.Store.Commit(ctx, c.Commit)
	if err != nil {
		return err
	}
	if len(n.Parents) > 1 {
		f.s.Why = "its list has a commit that joins lines"
		return nil
	}
	t := replay.Todo{Commit: history.Node{ID: c.Commit, Commit: n}}
	switch c.Verb {
	case vcs.Reword:
		f.s.reworded(n)
	case vcs.Edit:
		f.s.Note("Its list stops at “%s” to edit it: on the road (n), j edits its files before the next is "+
			"replayed.",
			n.Subject())
	case vcs.Squash, vcs.Fixup:
		f.into(&t, c)
	}
	if t.Into && f.at.Step < 0 {
		f.s.Why = "in its list a commit becomes part of one that is not in the list"
		return nil
	}
	if !t.Into && f.signOff != "" {
		t.Message = object.WithTrailer(n.Message, f.signOff)
	}
	f.add(t)
	return nil
}

// into makes a commit part of the one before, and combines their messages.
func (f *follower) into(t *replay.Todo, c vcs.Command) {
	t.Into, t.Says.Chain = true, f.chain
	all := withoutMark(t.Commit.Message, "amend!", "squash!", "fixup!")
	switch {
	case c.Verb == vcs.Squash:
		t.Says.Does, t.Says.Text, f.squashed = replay.Adds, all, true
	case c.Flag == "": // the first message stays
	case f.squashed: // in a chain with a squash the message is appended, too
		t.Says.Does, t.Says.Text = replay.Replaces, all
	default: // -C uses this commit's message; -c also opens an editor
		t.Says.Does, t.Says.Text = replay.Replaces, withoutMark(t.Commit.Message, "amend!")
		if f.signOff != "" {
			t.Says.Text = strings.TrimRight(object.WithTrailer(t.Says.Text, f.signOff), "\n")
		}
	}
	if c.Flag == "-c" {
		f.s.reworded(t.Commit.Commit)
	}
}

// withoutMark removes the first paragraph of a message if it begins with a mark such as “fixup! Fix typo”.
func withoutMark(message string, marks ...string) string {
	for _, mark := range marks {
		if strings.HasPrefix(message, mark) {
			_, message, _ = strings.Cut(message, "\n\n")
			return strings.Trim(message, "\n")
		}
	}
	return strings.Trim(message, "\n")
}

// merge repeats a merge of the list.
func (f *follower) merge(ctx context.Context, c vcs.Command) error {
	if c.Commit.IsZero() {
		f.s.Why = "its list joins lines that no commit joined before"
		return nil
	}
	n, err := f.w.Store.Commit(ctx, c.Commit)
	if err != nil {
		return err
	}
	if len(c.Names) != 1 || len(n.Parents) != 2 {
		f.s.Why = "its list joins more than two lines at once"
		return nil
	}
	other, err := f.named(ctx, c.Names)
	if err != nil {
		f.s.Why = "its list joins “" + c.Names[0] + "”, which is not known here"
		return nil
	}
	if c.Flag == "-c" {
		f.s.reworded(n)
	}
	f.add(replay.Todo{Commit: history.Node{ID: c.Commit, Commit: n}}, other)
	return nil
}

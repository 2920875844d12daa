package recovery

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/git"
)

// follower turns what is left of a rebase's list into what is to be replayed.
type follower struct {
	w       *Workspace
	ctx     context.Context
	s       *Stuck
	todo    []replay.Todo
	at      replay.Parent            // where the list stands
	labels  map[string]replay.Parent // that it gave on the way
	message string                   // of the commit before
}

// follow goes through the lines that are still to be done, up to one that Dorvik cannot do.
func (f *follower) follow(list []git.Command) error {
	for _, c := range list {
		if f.s.Why != "" {
			return nil
		}
		if err := f.line(c); err != nil {
			return err
		}
	}
	if n := len(f.todo); f.s.Why == "" && f.at.Step != n-1 && (n > 0 || f.at.ID != f.s.Head) {
		f.s.Why = "its list ends on another line than the one it made last"
	}
	return nil
}

// line is one line of the list.
func (f *follower) line(c git.Command) error {
	switch c.Verb {
	case "drop":
	case "exec":
		f.s.Runs = append(f.s.Runs, c.Rest)
		f.s.note("Its list runs “%s” on the way: Dorvik runs nothing there; Check offers it for the result.", c.Rest)
	case "break":
		f.s.note("Its list stops once more to let you look: Dorvik shows the result instead.")
	case "update-ref":
		f.s.note("Its list takes %s along: Dorvik moves your branch only.", c.Rest)
	case "label":
		f.labels[c.Rest] = f.at
	case "reset":
		at, err := f.named(c.Names)
		if err != nil || len(c.Names) != 1 {
			f.s.Why = "its list goes on from “" + c.Rest + "”, which is not known here"
			return nil
		}
		f.at = at
	case "merge":
		return f.merge(c)
	case "pick", "reword", "edit", "squash", "fixup":
		return f.commit(c)
	default:
		f.s.Why = "its list has “" + c.Verb + "”, which Dorvik does not know"
	}
	return nil
}

// note keeps what going on leaves out that the list asks for.
func (s *Stuck) note(format string, args ...any) {
	s.Notes = append(s.Notes, fmt.Sprintf(format, args...))
}

// add puts a commit on the list, onto where that stands.
func (f *follower) add(t replay.Todo, onto ...replay.Parent) {
	t.Onto = append([]replay.Parent{f.at}, onto...)
	f.todo = append(f.todo, t)
	f.at = replay.Parent{Step: len(f.todo) - 1}
}

// named is the place of a label, one that git gave before it stopped too, or of a commit.
func (f *follower) named(names []string) (replay.Parent, error) {
	name := ""
	if len(names) > 0 {
		name = names[0]
	}
	if p, ok := f.labels[name]; ok {
		return p, nil
	}
	id, err := f.w.Repo.Resolve(f.ctx, "refs/rewritten/"+name)
	if err != nil {
		id, err = f.w.Repo.Resolve(f.ctx, name)
	}
	return f.place(id), err
}

// place is the step that made a commit, or the commit as it is.
func (f *follower) place(id object.ID) replay.Parent {
	if i := slices.IndexFunc(f.todo, func(t replay.Todo) bool { return t.Stands && t.Commit.ID == id }); i >= 0 {
		return replay.Parent{Step: i}
	}
	return replay.Parent{Step: -1, ID: id}
}

// commit is a line that replays a commit.
func (f *follower) commit(c git.Command) error {
	n, err := f.w.Store.Commit(c.Commit)
	if err != nil {
		return err
	}
	if len(n.Parents) > 1 {
		f.s.Why = "its list has a commit that joins lines"
		return nil
	}
	t := replay.Todo{Commit: history.Node{ID: c.Commit, Commit: n}}
	switch c.Verb {
	case "reword":
		f.s.note("Its list rewords “%s”: on the road (n), w writes its message; else that stays.", n.Subject())
	case "edit":
		f.s.note("Its list stops at “%s” to have it edited: on the road (n), j edits its files before the next is "+
			"replayed.",
			n.Subject())
	case "squash":
		t.Into, t.Message = true, strings.TrimRight(f.message, "\n")+"\n\n"+n.Message
	case "fixup":
		t.Into = true
	}
	if t.Into && f.at.Step < 0 {
		f.s.Why = "its list has a commit become part of one that is not on it"
		return nil
	}
	if c.Verb != "fixup" {
		if f.message = n.Message; t.Message != "" {
			f.message = t.Message
		}
	}
	f.add(t)
	return nil
}

// merge is a line that joins lines as a commit did.
func (f *follower) merge(c git.Command) error {
	if c.Commit.IsZero() {
		f.s.Why = "its list joins lines that no commit joined before"
		return nil
	}
	n, err := f.w.Store.Commit(c.Commit)
	if err != nil {
		return err
	}
	if len(c.Names) != 1 || len(n.Parents) != 2 {
		f.s.Why = "its list joins more than two lines at once"
		return nil
	}
	other, err := f.named(c.Names)
	if err != nil {
		f.s.Why = "its list joins “" + c.Names[0] + "”, which is not known here"
		return nil
	}
	f.message = n.Message
	f.add(replay.Todo{Commit: history.Node{ID: c.Commit, Commit: n}}, other)
	return nil
}

package replay

import (
	"context"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// Request is what a person wants to happen to one commit besides replaying it.
type Request struct {
	Leave   bool   `json:"leave,omitempty"`   // leave the commit out, and replay those after it without it
	Keep    bool   `json:"keep,omitempty"`    // keep the commit even if it is empty
	Into    bool   `json:"into,omitempty"`    // squash the commit into the one before
	Message string `json:"message,omitempty"` // message of the new commit, in UTF-8; empty keeps the old one
	Edits   *Edits `json:"edits,omitempty"`   // edits to its files; nil for none
}

// Edits are edits to a commit's files, in order, that are made when it is replayed. Later commits are replayed on top
// of them.
type Edits struct {
	List []merge.TextEdit `json:"list"`
}

// With returns the edits with one more.
func (e *Edits) With(one merge.TextEdit) *Edits {
	out := &Edits{}
	if e != nil {
		out.List = slices.Clone(e.List)
	}
	out.List = append(out.List, one)
	return out
}

// Requests maps commits to requests.
type Requests map[object.ID]Request

// CanLeave reports whether the commit of a step can be left out. A merge commit cannot, because it holds others.
func (s *Step) CanLeave() bool { return len(s.Commit.Parents) < 2 && s.Outcome != AlreadyThere }

// CanGoInto reports whether the i-th step can become part of the one before it. That must be its parent, and have no
// other child.
func CanGoInto(steps []Step, i int) bool {
	if i == 0 || steps[i].Left() && steps[i].Outcome != Emptied {
		return false
	}
	for k := range steps {
		if len(steps[k].Commit.Parents) > 1 {
			return false
		}
	}
	return slices.ContainsFunc(steps[:i], func(s Step) bool { return !s.Left() })
}

// hold applies a request to a step after it was replayed.
func (r *replayer) hold(s *Step, request Request) {
	if s.Outcome == Emptied && request.Keep {
		s.Outcome = Clean
	}
	if s.Left() {
		return
	}
	before := r.before()
	if request.Into && before != nil && !r.merges {
		s.Into = true
	}
	if s.Into && request.Into && request.Message == "" && s.Message == "" {
		s.Message = before.text() + "\n\n" + s.text() + "\n"
	}
	if request.Message != "" {
		s.Message = request.Message
	}
}

// edit makes the requested edits to a step's files. If a file has changed since, the edit is joined with it. An edit
// that
// does not fit, or whose file is no text any longer, is skipped and noted.
func (r *replayer) edit(ctx context.Context, s *Step, edits *Edits) error {
	if edits == nil {
		return nil
	}
	tree, err := s.Tree(ctx)
	if err != nil {
		return err
	}
	for _, one := range edits.List {
		e, err := r.engine.Store.Find(ctx, tree, one.Path)
		if err != nil {
			return err
		}
		if s.Left() && s.Outcome != Emptied || !e.Mode.IsRegular() {
			s.Unfit = append(s.Unfit, one)
			continue
		}
		data, err := r.engine.Store.Blob(ctx, e.ID)
		if err != nil {
			return err
		}
		t := merge.Merge3(diff.Lines(one.Before), diff.Lines(one.After), diff.Lines(string(data)))
		if t.Conflicts() > 0 {
			s.Unfit = append(s.Unfit, one)
			continue
		}
		e.ID = r.engine.Store.Put(object.KindBlob, []byte(t.Join(nil)))
		if tree, err = r.engine.Store.Edit(ctx, tree, map[string]object.Entry{one.Path: e}); err != nil {
			return err
		}
		s.after = snapshot{id: tree}
		s.Edited = append(s.Edited, one.Path)
		if s.Outcome == Emptied {
			s.Outcome = Clean
		}
	}
	return nil
}

// leave leaves a commit out.
func (r *replayer) leave(ctx context.Context, s *Step) (err error) {
	s.Outcome = Dropped
	s.after, err = r.snapshot(ctx, s.onto[0])
	return err
}

// before returns the last kept step, or nil.
func (r *replayer) before() *Step {
	for i := len(r.steps) - 1; i >= 0; i-- {
		if s := &r.steps[i]; !s.Left() {
			return s
		}
	}
	return nil
}

// text returns the message of a step's new commit in UTF-8.
func (s *Step) text() string {
	if s.Message != "" {
		return strings.TrimRight(s.Message, "\n")
	}
	return s.Commit.Text()
}

package recovery

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rx"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Decisions are shared with a team, where dorvik.shareDecisions is set, as objects under a ref of the remote's:
// a tree with a file for each conflict, named by its key, that holds how it was settled, when and by whom. They
// are fetched with the branch and pushed with it, never forced. What comes so is offered and never suggested.

// sharedRef is where the remote has them.
const sharedRef = "refs/dorvik/decisions"

// sharedHere is the local copy of a remote's.
func sharedHere(remote vcs.Remote) string { return "refs/dorvik/shared/" + remote.Key() }

// mostShared is how many decisions a remote keeps; the oldest go first. largestShared is how long one may be.
const (
	mostShared    = 5000
	largestShared = 1 << 20
)

// sharedDecision is one as it is written.
type sharedDecision struct {
	Way   settle.Way `json:"way"`
	Text  string     `json:"text,omitempty"`
	Moved bool       `json:"moved,omitempty"`
	When  time.Time  `json:"when"`
	By    string     `json:"by"`
}

var keyForm = rx.New(`^[0-9a-f]{32}(-[0-9]+)?$`)

// sharedPath is where in the tree a conflict's decision is.
func sharedPath(k settle.Key) string { return path.Join(string(k[:2]), string(k[2:])) }

// shares reports whether decisions are shared; they are not where the setting is neither true nor false.
func (w *Workspace) shares(ctx context.Context) bool {
	on, err := w.Repo.Flag(ctx, "dorvik.shareDecisions")
	return err == nil && on
}

// fetchShared brings the copy of a remote's decisions up to date. A remote may have none.
func (w *Workspace) fetchShared(ctx context.Context, remote vcs.Remote) error {
	tip, err := w.Repo.RemoteTip(ctx, remote, sharedRef)
	if err != nil || tip.IsZero() {
		return err
	}
	if here, err := w.Repo.Ref(ctx, sharedHere(remote)); err != nil || here == tip {
		return err
	}
	defer w.forgetShared()
	return w.Repo.FetchRef(ctx, remote, "+"+sharedRef+":"+sharedHere(remote))
}

// forgetShared has what colleagues decided be looked for anew.
func (w *Workspace) forgetShared() {
	w.shared = nil
	w.files.Forget()
}

// sharedTrees are the trees of what the remotes' people decided, looked up once: a recovery can ask hundreds of
// questions. There are none where nothing is shared.
func (w *Workspace) sharedTrees(ctx context.Context) []object.ID {
	if w.shared != nil {
		return *w.shared
	}
	var out []object.ID
	w.shared = &out
	if !w.shares(ctx) {
		return nil
	}
	remotes, err := w.Repo.Remotes(ctx)
	if err != nil {
		return nil
	}
	for _, remote := range remotes {
		tip, err := w.Repo.Ref(ctx, sharedHere(remote))
		if err != nil || tip.IsZero() {
			continue
		}
		if tree, err := w.Tree(tip); err == nil {
			out = append(out, tree)
		}
	}
	return out
}

// colleagues finds how a colleague settled a conflict.
func (s *Session) colleagues(ctx context.Context, k settle.Key) (d sharedDecision, ok bool) {
	if !keyForm.MatchString(string(k)) {
		return d, false
	}
	for _, tree := range s.sharedTrees(ctx) {
		e, err := s.Store.Find(tree, sharedPath(k))
		if err == nil && e.Absent() {
			continue
		}
		if err == nil && e.Mode.IsRegular() {
			if d, ok = s.readShared(e.ID); ok {
				return d, true
			}
		}
		s.skipped(NotLookedAt{"how a colleague settled a conflict of yours", "what was shared of it cannot be read"})
	}
	return d, false
}

// readShared reads a decision that came from elsewhere; ok is false for anything that is none.
func (s *Session) readShared(id object.ID) (d sharedDecision, ok bool) {
	data, err := s.Store.Blob(id)
	if err != nil || len(data) > largestShared || json.Unmarshal(data, &d) != nil || d.By == "" {
		return d, false
	}
	if _, ok := settle.ParsePreference(string(d.Way)); !ok && d.Way != settle.Written {
		return d, false
	}
	return d, d.Way != settle.AsBefore && d.Way != settle.Suggested
}

// share adds decisions to those that a remote has. Whoever is first there is joined with, not overwritten.
func (s *Session) share(ctx context.Context, remote vcs.Remote, list []settle.Decision) error {
	if len(list) == 0 || !s.shares(ctx) {
		return nil
	}
	who, err := s.Repo.Committer(ctx)
	if err != nil {
		return err
	}
	for range 3 {
		if err := s.fetchShared(ctx, remote); err != nil {
			return err
		}
		old, err := s.Repo.Ref(ctx, sharedHere(remote))
		if err != nil {
			return err
		}
		commit, err := s.withShared(old, list, who)
		if err != nil || commit == old {
			return err
		}
		if err := s.Repo.AddPack(ctx, func(w io.Writer) (int, error) {
			return s.Store.WritePack(w,
				commit)
		}); err != nil {
			return err
		}
		var refusal *vcs.Refusal
		_, err = s.Repo.Push(ctx, remote, sharedRef, commit)
		if errors.As(err, &refusal) && refusal.Kind == vcs.Behind {
			continue // a colleague was first
		}
		if err != nil {
			return err
		}
		defer s.forgetShared()
		return s.Repo.UpdateRefs(ctx, "dorvik: decisions", vcs.RefUpdate{Name: sharedHere(remote), New: commit,
			Old: old})
	}
	return errors.New("others shared decisions again and again meanwhile; they go with the next push")
}

// tellShared has it be said where decisions were not shared; the push is made all the same.
func (s *Session) tellShared(err error) {
	if err != nil {
		s.tell("The push is made; your decisions were not shared: %s", words.Sentence(err.Error()))
	}
}

// withShared is the commit that adds decisions to those of another, which may be none.
func (s *Session) withShared(old object.ID, list []settle.Decision, who object.Signature) (object.ID, error) {
	tree := s.Store.EmptyTree()
	var parents []object.ID
	if !old.IsZero() {
		var err error
		if tree, err = s.Tree(old); err != nil {
			return object.ID{}, err
		}
		parents = []object.ID{old}
	}
	entries := map[string]object.Entry{}
	for _, d := range list {
		if !keyForm.MatchString(string(d.Key)) {
			continue
		}
		one := sharedDecision{Way: d.Way, Text: d.Text, Moved: d.Moved, When: time.Unix(who.When, 0).UTC(),
			By: who.Name}
		data, err := json.Marshal(one)
		if err != nil {
			return object.ID{}, err
		}
		if len(data) <= largestShared {
			entries[sharedPath(d.Key)] = object.Entry{Mode: object.ModeFile, ID: s.Store.Put(object.KindBlob, data)}
		}
	}
	now, err := s.Store.Edit(tree, entries)
	if err == nil {
		now, err = s.prune(now)
	}
	if err != nil || now == tree {
		return old, err
	}
	return s.Store.PutCommit(&object.Commit{Tree: now, Parents: parents, AuthorLine: who.String(), Committer: who,
		Message: fmt.Sprintf("%d decisions\n", len(entries))}), nil
}

// prune takes the oldest decisions out of a tree that holds too many.
func (s *Session) prune(tree object.ID) (object.ID, error) {
	all, err := s.Store.Changes(s.Store.EmptyTree(), tree)
	if err != nil || len(all) <= mostShared {
		return tree, err
	}
	age := map[string]time.Time{}
	for _, c := range all {
		d, _ := s.readShared(c.New.ID) // what is none is the oldest
		age[c.Path] = d.When
	}
	slices.SortFunc(all, func(a, b object.Change) int { return age[a.Path].Compare(age[b.Path]) })
	gone := map[string]object.Entry{}
	for _, c := range all[:len(all)-mostShared+mostShared/10] {
		gone[c.Path] = object.Entry{}
	}
	return s.Store.Edit(tree, gone)
}

// ForgetDecisions takes what is remembered of conflicts out, here and not at the remote; without a key, all of
// it. It gives how many there were.
func (s *Session) ForgetDecisions(keys ...settle.Key) (int, error) {
	n, err := s.store.forget(keys)
	s.files.Forget()
	return n, err
}

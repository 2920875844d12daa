package recovery

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rx"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/exact"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Decisions are shared with a team, where dorvik.shareDecisions is set, as objects under a ref of the remote's:
// a tree with a file for each conflict, named by its key, that holds how it was settled, when and by whom. They
// are fetched with the branch and pushed with it, never forced. What comes so is offered and never suggested.

// sharedRef is the ref of shared decisions at the remote.
const sharedRef = "refs/dorvik/decisions"

// sharedHere is its local copy.
func sharedHere(remote vcs.Remote) string { return "refs/dorvik/shared/" + remote.Key() }

// mostShared is how many decisions a remote keeps; the oldest go first. largestShared is how long one may be.
const (
	mostShared    = 5000
	largestShared = 1 << 20
)

// sharedDecision is a decision as it is stored.
type sharedDecision struct {
	Way   settle.Way `json:"way"`
	Text  string     `json:"text,omitempty"`
	Moved bool       `json:"moved,omitempty"`
	When  time.Time  `json:"when"`
	By    string     `json:"by"`
}

var keyForm = rx.New(`^[0-9a-f]{32}(-[0-9]+)?$`)

// sharedPath returns the path of a decision in the tree.
func sharedPath(k settle.Key) string { return path.Join(string(k[:2]), string(k[2:])) }

// shares reports whether sharing is switched on.
func (w *Workspace) shares(ctx context.Context) bool {
	on, err := w.Repo.Flag(ctx, "dorvik.shareDecisions")
	return err == nil && on && w.Repo.Dialect().FreeRefs
}

// fetchShared fetches the shared decisions. A remote may have none.
func (w *Workspace) fetchShared(ctx context.Context, remote vcs.Remote) error {
	tip, err := w.Repo.RemoteTip(ctx, remote, sharedRef)
	if err != nil || tip.IsZero() {
		return err
	}
	if here, err := w.Repo.Ref(ctx, sharedHere(remote)); err != nil || here == tip {
		return err
	}
	defer w.forgetShared()
	return w.Repo.FetchRefs(ctx, remote, "+"+sharedRef+":"+sharedHere(remote))
}

// forgetShared clears the cache of shared decisions.
func (w *Workspace) forgetShared() {
	w.shared = nil
	w.Planner.Files.Forget()
}

// sharedTrees returns the trees of shared decisions. They are cached, because a recovery asks for hundreds.
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
		if tree, err := w.Planner.Tree(ctx, tip); err == nil {
			out = append(out, tree)
		}
	}
	return out
}

// sharing exchanges decisions with colleagues.
type sharing struct {
	workspace *Workspace
	ledger    *ledger.Ledger
}

// colleagues returns how a colleague settled a conflict.
func (sh *sharing) colleagues(ctx context.Context, k settle.Key) (d sharedDecision, ok bool) {
	if !keyForm.MatchString(string(k)) {
		return d, false
	}
	for _, tree := range sh.workspace.sharedTrees(ctx) {
		e, err := sh.workspace.Planner.Store.Find(ctx, tree, sharedPath(k))
		if err == nil && e.Absent() {
			continue
		}
		if err == nil && e.Mode.IsRegular() {
			if d, ok = sh.readShared(ctx, e.ID); ok {
				return d, true
			}
		}
		sh.workspace.Planner.Extras.Skip(plan.NotLookedAt{What: "how a colleague settled a conflict of yours",
			Why: "what was shared of it cannot be read"})
	}
	return d, false
}

// readShared reads a shared decision. ok is false if it is not valid.
func (sh *sharing) readShared(ctx context.Context, id object.ID) (d sharedDecision, ok bool) {
	data, err := sh.workspace.Planner.Store.Blob(ctx, id)
	if err != nil || len(data) > largestShared || exact.Unmarshal(data, &d) != nil || d.By == "" {
		return d, false
	}
	return d, d.Way != "" && d.Way != settle.AsBefore && !d.Way.OfFile() && d.Way != settle.Suggested
}

// share adds decisions to those at the remote. It merges with decisions pushed meanwhile.
func (sh *sharing) share(ctx context.Context, remote vcs.Remote, list []settle.Decision) error {
	if len(list) == 0 || !sh.workspace.shares(ctx) {
		return nil
	}
	who, err := sh.workspace.Repo.Committer(ctx)
	if err != nil {
		return err
	}
	for range 3 {
		if err := sh.workspace.fetchShared(ctx, remote); err != nil {
			return err
		}
		old, err := sh.workspace.Repo.Ref(ctx, sharedHere(remote))
		if err != nil {
			return err
		}
		commit, err := sh.withShared(ctx, old, list, who)
		if err != nil || commit == old {
			return err
		}
		if err := sh.workspace.Repo.Keep(ctx, sh.workspace.Planner.Store, commit); err != nil {
			return err
		}
		var refusal *vcs.Refusal
		_, err = sh.workspace.Repo.Push(ctx, vcs.Sending{Remote: remote, Ref: sharedRef, Tip: commit})
		if errors.As(err, &refusal) && refusal.Kind == vcs.Behind {
			continue // a colleague pushed first
		}
		if err != nil {
			return err
		}
		defer sh.workspace.forgetShared()
		return sh.workspace.Repo.UpdateRefs(ctx, "dorvik: decisions",
			vcs.RefUpdate{Name: sharedHere(remote), New: commit,
				Old: old})
	}
	return errors.New("others shared decisions again and again meanwhile; they go with the next push")
}

// tellShared reports that sharing failed. The push itself succeeded.
func (sh *sharing) tellShared(err error) {
	if err != nil {
		sh.ledger.Tell("The push is made; your decisions were not shared: %s", words.Sentence(err.Error()))
	}
}

// withShared returns a commit that adds decisions to an earlier one.
func (sh *sharing) withShared(ctx context.Context, old object.ID, list []settle.Decision,
	who object.Signature) (object.ID, error) {
	tree := sh.workspace.Planner.Store.EmptyTree()
	var parents []object.ID
	if !old.IsZero() {
		var err error
		if tree, err = sh.workspace.Planner.Tree(ctx, old); err != nil {
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
		data, err := exact.Marshal(one)
		if err != nil {
			return object.ID{}, err
		}
		if len(data) <= largestShared {
			entries[sharedPath(d.Key)] = object.Entry{Mode: object.ModeFile,
				ID: sh.workspace.Planner.Store.Put(object.KindBlob, data)}
		}
	}
	now, err := sh.workspace.Planner.Store.Edit(ctx, tree, entries)
	if err == nil {
		now, err = sh.prune(ctx, now)
	}
	if err != nil || now == tree {
		return old, err
	}
	return sh.workspace.Planner.Store.PutCommit(&object.Commit{Tree: now, Parents: parents, AuthorLine: who.String(),
		Committer: who, Message: fmt.Sprintf("%d decisions\n", len(entries))}), nil
}

// prune removes the oldest decisions of a tree that is too large.
func (sh *sharing) prune(ctx context.Context, tree object.ID) (object.ID, error) {
	all, err := sh.workspace.Planner.Store.Changes(ctx, sh.workspace.Planner.Store.EmptyTree(), tree)
	if err != nil || len(all) <= mostShared {
		return tree, err
	}
	age := map[string]time.Time{}
	for _, c := range all {
		d, _ := sh.readShared(ctx, c.New.ID) // an unreadable decision counts as the oldest
		age[c.Path] = d.When
	}
	slices.SortFunc(all, func(a, b object.Change) int { return age[a.Path].Compare(age[b.Path]) })
	gone := map[string]object.Entry{}
	for _, c := range all[:len(all)-mostShared+mostShared/10] {
		gone[c.Path] = object.Entry{}
	}
	return sh.workspace.Planner.Store.Edit(ctx, tree, gone)
}

// forgetDecisions removes remembered decisions here, all of them or those with the keys, and returns their number.
func (sh *sharing) forgetDecisions(keys ...settle.Key) (int, error) {
	n, err := sh.ledger.Store.Forget(keys)
	sh.workspace.Planner.Files.Forget()
	return n, err
}

// recall implements settle.Files.Recall: it returns your earlier decision or a colleague's.
func (sh *sharing) recall(k settle.Key) (r settle.Recollection, ok bool) {
	for _, d := range sh.ledger.State().Decisions.List { // this recovery already decided it
		if d.Key == k {
			return r, false
		}
	}
	if text, ok := sh.workspace.Planner.TypedIn(k); ok {
		return settle.Recollection{Decision: settle.Decision{Key: k, Way: settle.Written, Text: text}, Typed: true},
			true
	}
	if own, ok := sh.ledger.Store.Recalled(k); ok {
		return settle.Recollection{Decision: own.Decision, When: own.When.Format("2 Jan 2006")}, true
	}
	d, ok := sh.colleagues(context.Background(), k)
	return settle.Recollection{Decision: settle.Decision{Key: k, Way: d.Way, Text: d.Text, Moved: d.Moved},
		When: d.When.Format("2 Jan 2006"), By: d.By}, ok
}

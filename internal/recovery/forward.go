package recovery

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Forwards puts the branch forward: it moves another branch, at its remote and here, to what the branch holds.
type Forwards struct {
	repo    vcs.System
	planner *plan.Planner
	ledger  *ledger.Ledger
	applier change.Mover
	lines   *Lines
}

// Forward is a branch that can be moved to what the current branch holds.
type Forward struct {
	Line    vcs.Line       // branch of a remote
	Own     string         // the current branch
	At      object.ID      // tip at the remote, as asked just now
	Tip     object.ID      // tip of the current branch
	Commits []history.Node // those that the push adds, newest first
	Local   string         // branch here that follows Line and moves with it; empty if none can
	Merges  bool           // the settings or the history of Line want a merge commit of its own
}

// Sentence says what is pushed where. merge reports that a merge commit is made for it.
func (f *Forward) Sentence(merge bool) string {
	text := fmt.Sprintf("%s moves forward from %s to what %s holds: %s.", f.Line.Name, f.At.Prefix(7), f.Own,
		words.Count(len(f.Commits), "commit goes there", "commits go there"))
	if merge {
		text = fmt.Sprintf("%s moves forward from %s to a merge commit that brings in %s: that and %s.", f.Line.Name,
			f.At.Prefix(7), f.Own, words.Count(len(f.Commits), "commit go there", "commits go there"))
	}
	if f.Local != "" {
		text += fmt.Sprintf(" Your branch %s moves with it.", f.Local)
	}
	return text
}

// Line returns the line that the branch could be put forward into: the one that it is or was last joined with, if the
// branch has all of its commits, as far as is known here. It returns nil if there is none.
func (fw *Forwards) Line(ctx context.Context, p *plan.Position) *vcs.Line {
	line, ok := fw.ledger.State().Usual[p.Branch.Name]
	if k := p.FromLine(); k != nil {
		line, ok = k.Line, true
	}
	if !ok || p.IsPick() || p.Stuck != nil || !fw.repo.Dialect().FreeRefs {
		return nil
	}
	line, err := fw.remoteOf(ctx, line)
	if err != nil || line.Remote == "" {
		return nil
	}
	at, err := fw.repo.Ref(ctx, line.Tracking)
	if err != nil || at.IsZero() || at == p.Yours {
		return nil
	}
	lacking, err := history.Only(ctx, fw.planner.Store, at, p.Yours)
	if err != nil || len(lacking) > 0 {
		return nil
	}
	return &line
}

// IsTrunk reports whether a branch has a usual name of the line that others are brought into, so that it is seldom put
// forward into another one itself.
func IsTrunk(branch string) bool {
	return slices.Contains([]string{"main", "master", "trunk", "develop"}, branch)
}

// remoteOf returns the remote branch of a line. A branch here stands for its upstream.
func (fw *Forwards) remoteOf(ctx context.Context, line vcs.Line) (vcs.Line, error) {
	name, here := strings.CutPrefix(line.Tracking, "refs/heads/")
	if !here {
		if line.Remote == "" {
			return line, fmt.Errorf("%s is no branch of a remote, so nothing can be put forward into it", line.Name)
		}
		return line, nil
	}
	b, err := fw.repo.Named(ctx, name)
	if err == nil && b.Upstream == "" {
		err = fmt.Errorf("%s follows no branch of a remote, so nothing can be put forward into it", line.Name)
	}
	return b.Follows(), err
}

// Prepare asks the remote where a line is, and returns what putting the branch forward into it does. The error is a
// *plan.Blocked if the line has commits that the branch lacks.
func (fw *Forwards) Prepare(ctx context.Context, line vcs.Line) (*Forward, error) {
	b, err := fw.repo.Current(ctx)
	if err != nil {
		return nil, err
	}
	if line, err = fw.remoteOf(ctx, line); err != nil {
		return nil, err
	}
	if err := fw.lines.Fetch(ctx, line); err != nil {
		return nil, err
	}
	f := &Forward{Line: line, Own: b.Name, Tip: b.Tip}
	if f.At, err = fw.repo.Ref(ctx, line.Tracking); err != nil {
		return nil, err
	}
	if f.At.IsZero() {
		return nil, &plan.Blocked{What: "There is no " + line.Name + " to put the branch forward into.",
			Next: "Nothing was pushed."}
	}
	d, err := history.Diverge(ctx, fw.planner.Store, b.Tip, f.At)
	if err != nil {
		return nil, err
	}
	if n := len(d.Theirs); n > 0 {
		return nil, &plan.Blocked{What: fmt.Sprintf("%s has %s that %s does not have.", line.Name,
			words.Count(n, "commit", "commits"), b.Name), Next: "Join with it first. Nothing was pushed."}
	}
	if f.Commits = d.Yours; len(f.Commits) == 0 {
		return nil, &plan.Blocked{What: line.Name + " has all of " + b.Name + " already.", Next: "Nothing was pushed."}
	}
	if f.Local, err = fw.local(ctx, f); err != nil {
		return nil, err
	}
	f.Merges, err = fw.wantsMerge(ctx, f)
	return f, err
}

// local returns the branch here that follows the line, if it can move forward and is checked out nowhere.
func (fw *Forwards) local(ctx context.Context, f *Forward) (string, error) {
	list, err := fw.lines.following(ctx, f.Line.Tracking)
	if err != nil {
		return "", err
	}
	for _, b := range list {
		if b.Name == f.Own {
			continue
		}
		lacking, err := history.Only(ctx, fw.planner.Store, b.Tip, f.Tip)
		if err != nil {
			return "", err
		}
		if len(lacking) > 0 {
			continue
		}
		if at, err := fw.repo.CheckedOut(ctx, b.Name); err != nil || at != "" {
			return "", err
		}
		return b.Name, nil
	}
	return "", nil
}

// wantsMerge reports whether merge.ff or the branch's mergeOptions ask for a merge commit, or, without such a setting,
// whether most of the line's own commits are merges.
func (fw *Forwards) wantsMerge(ctx context.Context, f *Forward) (bool, error) {
	options, err := fw.repo.Config(ctx, "branch."+f.Line.Branch()+".mergeOptions")
	if err != nil {
		return false, err
	}
	ff, err := fw.repo.Config(ctx, "merge.ff")
	switch {
	case err != nil:
		return false, err
	case strings.Contains(options, "--no-ff"), ff == "false":
		return true, nil
	case strings.Contains(options, "--ff"), ff != "":
		return false, nil
	}
	const looked, most = 10, 6
	merges, id := 0, f.At
	for range looked {
		c, err := fw.planner.Store.Commit(ctx, id)
		if err != nil {
			return false, nil // a shallow clone ends here
		}
		if len(c.Parents) > 1 {
			merges++
		}
		if len(c.Parents) == 0 {
			break
		}
		id = c.Parents[0]
	}
	return merges >= most, nil
}

// Put pushes the branch into the line, and moves the local branch with it. With merge it makes a merge commit for it,
// in memory: the current branch and the files stay as they are.
func (fw *Forwards) Put(ctx context.Context, f *Forward, merge bool, consent change.Consent) (*Pushed, error) {
	if err := fw.applier.AskToPush(ctx, consent); err != nil {
		return nil, err
	}
	b, err := fw.repo.Current(ctx)
	if err != nil {
		return nil, err
	}
	if b.Name != f.Own || b.Tip != f.Tip {
		return nil, &change.MovedError{Branch: f.Own}
	}
	out := &Pushed{Tip: f.Tip, To: f.Line}
	if merge {
		if out.Tip, err = fw.merge(ctx, f); err != nil {
			return nil, err
		}
	}
	sd := sender{repo: fw.repo}
	err = sd.send(ctx, vcs.Sending{Remote: f.Line.Remote, Ref: f.Line.Ref, Tip: out.Tip}, f.At, out)
	if err != nil || out.Refusal != nil {
		return out, err
	}
	if err := sd.holds(ctx, out); err != nil {
		return out, err
	}
	if f.Local != "" {
		old, err := fw.repo.Ref(ctx, "refs/heads/"+f.Local)
		if err == nil {
			err = fw.repo.UpdateRefs(ctx, "dorvik: "+f.Own+" put forward", vcs.RefUpdate{Name: "refs/heads/" + f.Local,
				New: out.Tip, Old: old})
		}
		fw.ledger.Noted(err)
	}
	fw.ledger.Noted(fw.ledger.Store.Log(ledger.LogEntry{What: ledger.Sent, Of: ledger.PutForward, When: time.Now(),
		Branch: f.Line.Name, From: f.At, To: out.Tip}))
	return out, nil
}

// merge makes the merge commit of the line. Its tree is that of the branch, which has all of the line.
func (fw *Forwards) merge(ctx context.Context, f *Forward) (object.ID, error) {
	who, err := fw.repo.Committer(ctx)
	if err != nil {
		return object.ID{}, err
	}
	tree, err := fw.planner.Tree(ctx, f.Tip)
	if err != nil {
		return object.ID{}, err
	}
	p := &plan.Position{Branch: vcs.Branch{Name: f.Line.Branch(), Upstream: f.Own},
		Divergence: &history.Divergence{Theirs: f.Commits}}
	id := fw.planner.Store.PutCommit(&object.Commit{Tree: tree, Parents: []object.ID{f.At, f.Tip},
		AuthorLine: who.String(), Committer: who, Message: plan.MergeMessage(p)})
	if err := fw.repo.Keep(ctx, fw.planner.Store, id); err != nil {
		return id, err
	}
	return fw.applier.Sign(ctx, id)
}

// CanGo reports whether one can go to the local branch afterwards without changing a file.
func (fw *Forwards) CanGo(ctx context.Context, f *Forward) (bool, error) {
	if f.Local == "" {
		return false, nil
	}
	at, err := fw.repo.Ref(ctx, "refs/heads/"+f.Local)
	if err != nil || at.IsZero() {
		return false, err
	}
	there, err := fw.planner.Tree(ctx, at)
	if err != nil {
		return false, err
	}
	here, err := fw.planner.Tree(ctx, f.Tip)
	return there == here, err
}

// Go switches to the local branch. It holds the same files, so none changes.
func (fw *Forwards) Go(ctx context.Context, f *Forward) error {
	can, err := fw.CanGo(ctx, f)
	if err == nil && !can {
		err = &change.MovedError{Branch: f.Local}
	}
	if err != nil {
		return err
	}
	b, err := fw.repo.Current(ctx)
	if err != nil {
		return err
	}
	if b.Name != f.Own {
		return &change.MovedError{Branch: f.Own}
	}
	return fw.applier.Switch(ctx, f.Local)
}

// Delete deletes a branch at the remote that it follows, and here, if all of both was put forward. The logbook can make
// it again. The error is a *vcs.Refusal if the remote keeps it; then nothing is deleted.
func (fw *Forwards) Delete(ctx context.Context, f *Forward) error {
	b, err := fw.repo.Current(ctx)
	if err != nil {
		return err
	}
	own, err := fw.repo.Named(ctx, f.Own)
	if err != nil {
		return err
	}
	if b.Name == f.Own || own.Tip != f.Tip {
		return &change.MovedError{Branch: f.Own}
	}
	e := ledger.LogEntry{What: ledger.Moved, Of: ledger.Deleted, When: time.Now(), Branch: f.Own, From: own.Tip}
	if err := fw.repo.HoldAt(ctx, "deleted/"+f.Tip.Prefix(12), f.Tip); err != nil {
		return err
	}
	if own.Upstream != "" && own.Tracking != f.Line.Tracking {
		to := own.Follows()
		if e.At, err = fw.deleteThere(ctx, to, f.Tip); err != nil {
			return err
		}
		if !e.At.IsZero() {
			e.Line = &to
		}
	}
	err = fw.repo.UpdateRefs(ctx, "dorvik: delete "+f.Own, vcs.RefUpdate{Name: "refs/heads/" + f.Own, Old: f.Tip})
	if err != nil && e.Line == nil {
		return err
	}
	fw.ledger.Noted(fw.ledger.Store.Log(e)) // also if only the remote's branch is gone, so that it can be made again
	return err
}

// deleteThere deletes a branch of a remote and returns the tip that it had, or zero if it was gone already. All its
// commits must be in have.
func (fw *Forwards) deleteThere(ctx context.Context, to vcs.Line, have object.ID) (was object.ID, err error) {
	was, err = fw.repo.RemoteTip(ctx, to.Remote, to.Ref)
	if err != nil || was.IsZero() {
		return was, err
	}
	lacking, err := history.Only(ctx, fw.planner.Store, was, have)
	if err != nil && !errors.Is(err, object.ErrMissing) {
		return was, err
	}
	if err != nil || len(lacking) > 0 { // a commit that is not here was not put forward either
		return was, &plan.Blocked{What: to.Name + " has commits that were not put forward.",
			Next: "Nothing was deleted."}
	}
	_, err = fw.repo.Push(ctx, vcs.Sending{Remote: to.Remote, Ref: to.Ref, Old: was})
	return was, err
}

// TakeBack undoes an entry of the logbook that switched to a branch or deleted one.
func (fw *Forwards) TakeBack(ctx context.Context, e *ledger.LogEntry) error {
	switch e.Of {
	case ledger.Switched:
		was, err := fw.repo.Named(ctx, e.Was)
		if err != nil {
			return err
		}
		b, err := fw.repo.Current(ctx)
		if err != nil {
			return err
		}
		if b.Name != e.Branch || was.Tip.IsZero() {
			return &change.MovedError{Branch: e.Branch}
		}
		return fw.applier.Switch(ctx, e.Was)
	case ledger.Deleted:
		if at, err := fw.repo.Ref(ctx, "refs/heads/"+e.Branch); err != nil || !at.IsZero() {
			return &plan.Blocked{What: "There is a branch " + e.Branch + " again.", Next: "Nothing was changed."}
		}
		if err := fw.repo.UpdateRefs(ctx, "dorvik: make again", vcs.RefUpdate{Name: "refs/heads/" + e.Branch,
			New: e.From}); err != nil {
			return err
		}
		fw.ledger.Noted(fw.ledger.Store.Log(ledger.LogEntry{What: ledger.Undone, Of: ledger.Deleted, When: time.Now(),
			Branch: e.Branch, To: e.From}))
		if e.Line == nil {
			return nil
		}
		if err := fw.repo.Follow(ctx, e.Branch, e.Line.Remote, e.Line.Ref); err != nil {
			return err
		}
		at, err := fw.repo.RemoteTip(ctx, e.Line.Remote, e.Line.Ref)
		if err != nil || !at.IsZero() {
			return err
		}
		_, err = fw.repo.Push(ctx, vcs.Sending{Remote: e.Line.Remote, Ref: e.Line.Ref, Tip: e.At})
		return err
	}
	return fmt.Errorf("a logbook entry of kind %q cannot be taken back like this", e.Of)
}

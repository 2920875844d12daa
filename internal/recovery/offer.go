package recovery

import (
	"context"
	"fmt"
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

// Offer is an action that solves a problem, once the person agrees.
type Offer struct {
	Does string // the action, such as "follow origin/main"
	do   func(ctx context.Context, s *Session) error
}

// Offered is a plan.Blocked with an offer.
type Offered struct {
	Blocked *plan.Blocked
	Offer   *Offer
}

func (o *Offered) Error() string { return o.Blocked.Error() }

// Unwrap returns the plan.Blocked.
func (o *Offered) Unwrap() error { return o.Blocked }

// blockedBy returns a plan.Blocked, with the offer if there is one.
func blockedBy(what, next string, o *Offer) error {
	b := &plan.Blocked{What: what, Next: next}
	if o == nil {
		return b
	}
	return &Offered{b, o}
}

// TakeUp carries out an offer.
func (s *Session) TakeUp(ctx context.Context, o *Offer) error { return o.do(ctx, s) }

// newAt returns the remote that a branch without an upstream is pushed to: the usual one. It is an error if there is no
// remote or if a remote has a branch of that name.
func (w *Workspace) newAt(ctx context.Context, b vcs.Branch) (vcs.Remote, error) {
	remotes, err := w.Repo.Remotes(ctx)
	if err != nil {
		return "", err
	}
	if blocked := w.sameName(ctx, b, remotes); blocked != nil {
		return "", blocked
	}
	if len(remotes) == 0 {
		return "", &plan.Blocked{What: "The branch " + b.Name + " follows no branch of a remote.",
			Next: "There is no remote here either: name one with " + w.Repo.Dialect().AddRemote + "."}
	}
	return remotes[0], nil
}

// sameName reports that a remote has a branch of the same name, and offers to follow it. It returns nil if none has.
func (w *Workspace) sameName(ctx context.Context, b vcs.Branch, remotes []vcs.Remote) error {
	for _, remote := range remotes { // the usual remote first
		at, err := w.Repo.Ref(ctx, w.Lines.Aimed(ctx, remote, b.Full()).Tracking)
		if err == nil && !at.IsZero() {
			return blockedBy("The branch "+b.Name+" follows no branch of a remote.", fmt.Sprintf("%s/%s has the same "+
				"name, so it likely belongs to it: follow that, or choose another with “git branch "+
				"--set-upstream-to”.", remote, b.Name), following(b, remote, b.Name))
		}
	}
	return nil
}

// following offers to set the upstream.
func following(b vcs.Branch, remote vcs.Remote, name string) *Offer {
	return &Offer{"follow " + remote.String() + "/" + name, func(ctx context.Context, s *Session) error {
		return s.Repo.Follow(ctx, b.Name, remote, "refs/heads/"+name)
	}}
}

// pushAnew offers to push a branch to a new remote branch.
func pushAnew(b vcs.Branch, remote vcs.Remote, name string, follow bool) *Offer {
	return &Offer{"push it to " + remote.String() + " as a new branch", func(ctx context.Context, s *Session) error {
		at, err := s.Repo.RemoteTip(ctx, remote, "refs/heads/"+name)
		if err != nil {
			return err
		}
		if !at.IsZero() {
			return fmt.Errorf("%s has a branch %s by now; nothing was pushed. Look again", remote, name)
		}
		if err := s.Applier.AskToPush(ctx, change.Consent{WithoutHooks: true}); err != nil {
			return err
		}
		if _, err := s.Repo.Push(ctx, vcs.Sending{Remote: remote, Ref: "refs/heads/" + name,
			Tip: b.Tip}); err != nil {
			return err
		}
		s.Ledger.Noted(s.Ledger.Store.Log(ledger.LogEntry{What: ledger.Sent, When: time.Now(), Branch: b.Name,
			To: b.Tip}))
		if follow {
			return s.Repo.Follow(ctx, b.Name, remote, "refs/heads/"+name)
		}
		return nil
	}}
}

// notThere reports an upstream that does not exist.
func (w *Workspace) notThere(b vcs.Branch, asked bool) error {
	if !asked {
		what := fmt.Sprintf("There is no copy of %s here, and perhaps no such branch on %s.", b.Upstream, b.Remote)
		return &plan.Blocked{What: what,
			Next: fmt.Sprintf("Fetch it with “git fetch %s”, or make it with “git push %s %s”.", b.Remote, b.Remote,
				b.Name)}
	}
	return blockedBy(b.Upstream+" is not there: it was never pushed, or was deleted.",
		"Push your branch there again, or follow another with “git branch --set-upstream-to”.",
		pushAnew(b, b.Remote, strings.TrimPrefix(b.Ref, "refs/heads/"), false))
}

// cutOff reports a shallow clone that is too short, and offers to fetch the rest.
func (w *Workspace) cutOff(b vcs.Branch) error {
	var o *Offer
	if b.Remote != "" {
		o = &Offer{"get the rest of the history", func(ctx context.Context, s *Session) error {
			return s.Repo.Deepen(ctx, b.Remote)
		}}
	}
	return blockedBy("This clone is shallow, and the point where the two lines part lies before its first commit.",
		"Get the rest of the history with “git fetch --unshallow”.", o)
}

// offBranch reports a detached HEAD. If HEAD was on a branch before, it explains how they relate.
func (w *Workspace) offBranch(ctx context.Context, tip object.ID) error {
	var o *Offer
	out := &plan.Blocked{What: "You are on no branch (a detached HEAD at " + tip.Prefix(12) + ").",
		Next: "Go to your branch with “git switch”, or make one here with “git switch -c NAME”."}
	name := w.lastBranch(ctx)
	if name == "" {
		return out
	}
	at, err := w.Repo.Ref(ctx, "refs/heads/"+name)
	if err != nil || at.IsZero() {
		return out
	}
	d, err := history.Diverge(ctx, w.Planner.Store, tip, at)
	if err != nil {
		return out
	}
	again := &Offer{"check out " + name + " here", func(ctx context.Context, s *Session) error {
		return s.backOn(ctx, name, at, tip)
	}}
	switch here, there := len(d.Yours), len(d.Theirs); {
	case here == 0 && there == 0:
		out.Next = fmt.Sprintf("Your branch %s is at the same commit: check it out again.", name)
		o = again
	case there == 0:
		out.Next = fmt.Sprintf("You were on %s before. It lacks %s that %s here. Check it out here: it moves "+
			"forward, and no file changes.", name, words.Count(here, "commit", "commits"), words.Is(here, "is", "are"))
		o = again
	case here == 0:
		out.Next = fmt.Sprintf("You were on %s before. It is %s ahead and has everything that is here. Go there "+
			"with “git switch %s”.", name, words.Count(there, "commit", "commits"), name)
	default:
		out.Next = fmt.Sprintf("You were on %s before. %s here that no branch has, the newest “%s”. "+
			"Keep %s with “git branch kept” before you leave, then go to your branch with “git switch "+
			"%[1]s”.", name, words.Count(here, "commit is", "commits are"),
			d.Yours[0].Subject(), words.Is(here, "it", "them"))
		keep := "keep " + words.Is(here, "it", "them") + " under a name"
		o = &Offer{keep, func(ctx context.Context, s *Session) error { return s.keepHere(ctx, tip) }}
	}
	return blockedBy(out.What, out.Next, o)
}

// lastBranch returns the last branch in HEAD's reflog, or an empty string.
func (w *Workspace) lastBranch(ctx context.Context) (on string) {
	for _, m := range w.Repo.Reflog(ctx, "HEAD") {
		if move, ok := strings.CutPrefix(m.Why, "checkout: moving from "); ok {
			from, to, _ := strings.Cut(move, " to ")
			if on = to; !w.isBranch(ctx, to) {
				on = from
			}
		} else if name, ok := strings.CutPrefix(m.Why, "rebase (finish): returning to refs/heads/"); ok {
			on = name
		}
	}
	if on == "" { // HEAD never left its branch
		if names, err := w.Repo.Names(ctx); err == nil {
			for _, n := range names {
				if name, ok := strings.CutPrefix(n.Full, "refs/heads/"); ok {
					if on != "" {
						return "" // it is unknown which one
					}
					on = name
				}
			}
		}
	}
	if !w.isBranch(ctx, on) {
		return ""
	}
	return on
}

func (w *Workspace) isBranch(ctx context.Context, name string) bool {
	if name == "" {
		return false
	}
	at, err := w.Repo.Ref(ctx, "refs/heads/"+name)
	return err == nil && !at.IsZero()
}

// backOn attaches HEAD to a branch that is an ancestor. No file changes.
func (s *Session) backOn(ctx context.Context, name string, at, tip object.ID) error {
	b, err := s.Repo.Current(ctx)
	if err != nil {
		return err
	}
	if b.Name != "" || b.Tip != tip {
		return &change.MovedError{Branch: name}
	}
	if at != tip {
		if err := s.Repo.UpdateRefs(ctx, "merge: Fast-forward", vcs.RefUpdate{Name: "refs/heads/" + name, New: tip,
			Old: at}); err != nil {
			return err
		}
	}
	return s.Repo.SetHead(ctx, name, object.ID{}, "checkout: moving from "+tip.String()+" to "+name)
}

// keepHere creates a branch for commits on a detached HEAD.
func (s *Session) keepHere(ctx context.Context, tip object.ID) error {
	name, err := s.Workspace.keptBranch(ctx, tip)
	if err == nil {
		s.Ledger.Tell("They are on the branch %s now.", name)
	}
	return err
}

// keptBranch creates a branch with an unused name.
func (w *Workspace) keptBranch(ctx context.Context, tip object.ID) (string, error) {
	for i := 1; ; i++ {
		name := fmt.Sprintf("kept-%d", i)
		at, err := w.Repo.Ref(ctx, "refs/heads/"+name)
		if err != nil || at == tip {
			return name, err
		}
		if at.IsZero() {
			return name, w.Repo.UpdateRefs(ctx, "branch: Created from "+tip.String(),
				vcs.RefUpdate{Name: "refs/heads/" + name,
					New: tip})
		}
	}
}

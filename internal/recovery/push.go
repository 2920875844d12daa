package recovery

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Pusher pushes the branch.
type Pusher struct {
	s *Session
	// Waits is called before a push is tried again because the server's branch was locked; nil if nobody asks.
	Waits func(try, of int)
}

// Tip pushes and then asks the remote what it holds. It replaces commits only with consent to an exchange that
// Planner.Exchange allows, and only if the remote branch is where it was seen. If somebody pushed first, it undoes the
// join so that it can be made again; decisions stay. Picked commits and another line stay on the branch.
func (ps *Pusher) Tip(ctx context.Context, p *plan.Position, consent change.Consent) (*Pushed, error) {
	s := ps.s
	if err := s.Applier.AskToPush(ctx, consent); err != nil {
		return nil, err
	}
	b, _, err := s.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	want := p.Yours
	if s.Ledger.State().Accepted != nil {
		want = s.Ledger.State().Accepted.After
	}
	if b.Name != p.Branch.Name || b.Tip != want {
		return nil, &change.MovedError{Branch: p.Branch.Name}
	}
	if err := ps.NamesTask(ctx, p, b.Tip); err != nil {
		return nil, err
	}
	out := &Pushed{Tip: b.Tip}
	var first bool
	if out.To, first, err = ps.destination(ctx, p, b, consent); err != nil {
		return nil, err
	}
	gone, err := ps.gone(ctx, out.To)
	if err != nil {
		return nil, err
	}
	if gone && !consent.MakeAnew {
		out.Refusal = &vcs.Refusal{Kind: vcs.Gone, Short: out.To.Name}
		return out, nil
	}
	if out.Refusal, err = ps.locked(ctx, p); err != nil || out.Refusal != nil {
		return out, err
	}
	sending, went, err := ps.sending(ctx, p, b.Tip, consent, out)
	if err != nil {
		return nil, err
	}
	seen := object.ID{}
	if up := p.Upstream(); up.Branch.To() == out.To {
		seen = up.Theirs
	}
	if err := (sender{s.Repo, ps.Waits}).send(ctx, sending, seen, out); err != nil {
		return nil, err
	}
	if out.Refusal != nil {
		return out, errors.Join(ps.remember(ctx, out, went), ps.refused(ctx, out))
	}
	s.Ledger.Noted(ps.tagger().arrived(ctx, sending, out))
	if held := s.Workspace.Locks; held != nil { // Subversion gives locks back with a check-in
		s.Ledger.Noted(held.Ask(ctx))
	}
	s.Ledger.Noted(errors.Join(s.Ledger.Choices.Refuse(out.To.Name, nil), ps.rules().accepted(ctx, out.To.Remote,
		went)))
	return out, ps.arrived(ctx, p, b, out, first)
}

// locked returns a refusal if somebody holds a lock of a file that the push changes.
func (ps *Pusher) locked(ctx context.Context, p *plan.Position) (*vcs.Refusal, error) {
	held := ps.s.Workspace.Locks
	if held == nil || !held.Used(ctx) {
		return nil, nil
	}
	changed, err := ps.s.Planner.Mine(ctx, p)
	if err != nil {
		return nil, err
	}
	err = held.Free(ctx, slices.Sorted(maps.Keys(changed)))
	if refusal := (*vcs.Refusal)(nil); errors.As(err, &refusal) {
		return refusal, nil
	}
	return nil, err
}

// sending returns what is pushed: the branch, with its commits, and tags.
func (ps *Pusher) sending(ctx context.Context, p *plan.Position, tip object.ID, consent change.Consent, out *Pushed) (
	what vcs.Sending, went []history.Node, err error) {
	what = vcs.Sending{Remote: out.To.Remote, Ref: out.To.Ref, Tip: tip}
	if consent.Exchange {
		if what.Old, err = ps.exchanged(ctx, p, tip); err != nil {
			return what, nil, err
		}
		out.Was = what.Old
	}
	if went, err = ps.sent(ctx, p, tip); err != nil {
		return what, nil, err
	}
	tags, err := ps.tagger().of(ctx, p, out.To.Remote, tip, went)
	if err != nil {
		return what, nil, err
	}
	what.Tags = tags.Chosen(consent.Tags)
	out.Kept = slices.DeleteFunc(slices.Clone(tags.Belong), func(name string) bool {
		return slices.Contains(what.Tags, name)
	})
	return what, went, nil
}

// exchanged returns the tip that an exchange replaces, and protects it from garbage collection.
func (ps *Pusher) exchanged(ctx context.Context, p *plan.Position, tip object.ID) (old object.ID, err error) {
	up, err := ps.after(ctx, p, tip)
	if err != nil {
		return old, err
	}
	x, err := ps.s.Planner.Exchange(ctx, up)
	if err != nil {
		return old, err
	}
	if x == nil || len(x.Others) > 0 {
		what := up.Branch.To().Name + " has commits that are not yours, so it is not exchanged."
		return old, &plan.Blocked{What: what,
			Next: "Join the two lines. Nothing was pushed."}
	}
	return x.Old, ps.s.Repo.HoldAt(ctx, "exchanged/"+x.Old.Prefix(12), x.Old)
}

func (ps *Pusher) tagger() tagger { return tagger{ps.s.Repo, ps.s.Planner.Store} }

func (ps *Pusher) rules() rules { return rules{ps.s.Planner, ps.s.Ledger} }

// remember stores a refusal by a rule of the server, which is likely to be the same next time, and what its words ask.
func (ps *Pusher) remember(ctx context.Context, out *Pushed, went []history.Node) error {
	switch out.Refusal.Step() {
	case vcs.ChangeWork, vcs.PushAside, vcs.GoBackFirst:
		return errors.Join(ps.s.Ledger.Choices.Refuse(out.To.Name, out.Refusal),
			ps.rules().learn(ctx, out.To.Remote, out.Refusal, went))
	}
	return nil
}

// refused undoes the join if somebody pushed first.
func (ps *Pusher) refused(ctx context.Context, out *Pushed) error {
	s := ps.s
	a := s.Ledger.State().Accepted
	if out.Refusal.Kind != vcs.Behind || a == nil || a.By.Is(plan.Pick) || a.Line != nil || a.TakenOver() {
		return nil
	}
	if _, err := s.Applier.GoBack(ctx, a.Name); err != nil {
		return nil // the join stays
	}
	out.WentBack = true
	return s.Ledger.Reach(ledger.Look)
}

// arrived records a push that was accepted. first reports that the branch follows its new branch from now on.
func (ps *Pusher) arrived(ctx context.Context, p *plan.Position, b vcs.Branch, out *Pushed, first bool) error {
	s := ps.s
	if numbered, ok := s.Repo.(vcs.Numbered); ok {
		out.Tip = numbered.Became(out.Tip)
	}
	if err := (sender{repo: s.Repo}).holds(ctx, out); err != nil {
		return err
	}
	if phased, ok := s.Repo.(vcs.Phased); ok {
		phase, err := phased.Phase(ctx, out.Tip)
		s.Ledger.Noted(err)
		out.Phase = phase
	}
	e := ledger.LogEntry{What: ledger.Sent, When: time.Now(), Branch: b.Name, From: p.Upstream().Theirs, To: out.Tip}
	if !out.Was.IsZero() {
		e.Of = ledger.Exchanged
	}
	if a := s.Ledger.State().Accepted; a != nil {
		e.Waypoint, e.By = a.Name, a.By
		s.sharing.tellShared(s.sharing.share(ctx, out.To.Remote, a.Decisions))
	}
	s.Ledger.Noted(s.Ledger.Store.Log(e))
	if first {
		if err := s.Repo.Follow(ctx, b.Name, out.To.Remote, out.To.Ref); err != nil {
			s.Ledger.Noted(err)
		} else {
			out.Follows = out.To.Name
		}
	}
	return s.Ledger.Pushed(b.Name)
}

// destination returns the line that the branch is pushed to. first reports that it becomes the upstream.
func (ps *Pusher) destination(ctx context.Context, p *plan.Position, b vcs.Branch, consent change.Consent) (to vcs.Line,
	first bool, err error) {
	s := ps.s
	s.Lines.ApplyTarget(ctx, &b)
	if to = b.To(); to.Remote == "" {
		to, first = p.To(), true
	}
	switch {
	case to.Remote == "":
		return to, false, &plan.Blocked{What: "There is no remote to push to.",
			Next: "Name one with " + s.Repo.Dialect().AddRemote + "."}
	case consent.To != "":
		return s.Lines.Aimed(ctx, to.Remote, "refs/heads/"+consent.To), first, nil
	}
	if unclear := s.Lines.Unclear(ctx, b); unclear != nil {
		return to, false, unclear
	}
	return to, first, nil
}

// gone reports whether a branch was deleted at the remote. Pushing would create it again.
func (ps *Pusher) gone(ctx context.Context, to vcs.Line) (bool, error) {
	s := ps.s
	known, err := s.Repo.Ref(ctx, to.Tracking)
	if err != nil || known.IsZero() {
		return false, err
	}
	at, err := s.Repo.RemoteTip(ctx, to.Remote, to.Ref)
	var refused *vcs.Refusal
	if errors.As(err, &refused) {
		return false, nil // the push reports why
	}
	return err == nil && at.IsZero(), err
}

// after returns the position of the branch relative to its upstream once it is at a commit.
func (ps *Pusher) after(ctx context.Context, p *plan.Position, tip object.ID) (*plan.Position, error) {
	out := *p.Upstream()
	out.Yours = tip
	var err error
	out.Divergence, err = history.Diverge(ctx, ps.s.Planner.Store, out.Yours, out.Theirs)
	return &out, err
}

package recovery

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Through is a recovery that goes from the look to the push without a stop, as long as nothing asks.
type Through struct {
	s   *Session
	say func(step string)

	// The outcome: Pushed is set if a push was tried. Otherwise Stage and Why say where it stopped, and why.
	Pushed *Pushed
	Stage  ledger.Stage
	Why    string
	Tries  int // pushes that were tried
}

// MostTries is how often a push is tried while others push in between.
const MostTries = 250

// Where names the stage at which a person can go on, or is empty.
func (t *Through) Where() string {
	if t.Why == "" || t.Stage == ledger.Look {
		return ""
	}
	return t.Stage.String()
}

// GoThrough joins by the suggested route, runs the check that was agreed to, accepts the result and pushes it. It stops
// before the first thing that asks: a decision, a misfit, a check without an agreement, a refusal. If somebody pushes
// in between it joins again. say receives each step as it is done.
func (s *Session) GoThrough(ctx context.Context, say func(step string)) (*Through, error) {
	t := &Through{s: s, say: say}
	for t.Tries < MostTries {
		again, err := t.once(ctx)
		if err != nil || !again {
			return t, err
		}
	}
	t.stop(ledger.Push, fmt.Sprintf("others pushed in between %d times", t.Tries))
	return t, nil
}

// stop records where it stopped, and why.
func (t *Through) stop(stage ledger.Stage, why string) { t.Stage, t.Why = stage, why }

// once goes through one time. again reports that somebody pushed in between.
func (t *Through) once(ctx context.Context) (again bool, err error) {
	s := t.s
	p, err := s.Locate(ctx, true)
	var stuck *plan.StuckError
	var blocked *plan.Blocked
	switch {
	case errors.As(err, &stuck), errors.As(err, &blocked):
		t.stop(ledger.Look, err.Error())
		return false, nil
	case err != nil:
		return false, err
	case p.Unanswered != nil:
		t.stop(ledger.Look, "the remote did not answer")
		return false, nil
	case p.IsPick() || p.Stuck != nil || p.Reworks():
		t.stop(ledger.Look, "this is no plain join")
		return false, nil
	}
	x, err := s.Planner.Exchange(ctx, p)
	if err != nil {
		return false, err
	}
	if x != nil {
		t.stop(ledger.Look, p.To().Name+" has earlier forms of your own commits")
		return false, nil
	}
	if err := s.Ledger.Sync(p); err != nil {
		return false, err
	}
	t.say(p.Standing(s.Ledger.State().Accepted != nil).String())
	switch {
	case p.NothingToDo(), p.Trivial() == plan.UpToDate && !p.Pushes():
		t.stop(ledger.Look, "there is nothing to do")
		return false, nil
	case p.Trivial() == plan.UpToDate:
		if may, err := t.mayPush(ctx, p, p.Yours); err != nil || !may {
			return false, err
		}
		return t.push(ctx, p)
	case p.Trivial() == plan.FastForward:
		return t.forward(ctx, p)
	}
	return t.join(ctx, p)
}

// forward moves the branch forward. There is nothing to push then, unless another line came in.
func (t *Through) forward(ctx context.Context, p *plan.Position) (bool, error) {
	if may, err := t.mayPush(ctx, p, p.Theirs); p.FromLine() != nil && (err != nil || !may) {
		return false, err
	}
	_, err := t.s.FastForward(context.WithoutCancel(ctx), p, change.Consent{})
	if changed, err := t.changed(err); err != nil || !changed {
		return false, err
	}
	t.say(fmt.Sprintf("%s moved forward, with nothing to join.", p.Branch.Name))
	if p.FromLine() != nil {
		return t.push(ctx, p)
	}
	t.stop(ledger.Look, "there is nothing to push")
	return false, nil
}

// join joins, checks and accepts, and pushes.
func (t *Through) join(ctx context.Context, p *plan.Position) (bool, error) {
	s := t.s
	st := s.Ledger.State()
	pl, err := s.Planner.Plan(ctx, p, &st.Decisions, nil)
	if err != nil {
		return false, err
	}
	route := pl.Suggested
	if st.Route == plan.Merge || st.Route == plan.Rebase {
		route = st.Route
	}
	if route == plan.Rebase && len(pl.Published) > 0 {
		t.stop(ledger.Choose, "a rebase would rewrite commits that are on a remote")
		return false, nil
	}
	j, err := s.SettleBy(ctx, p, route, nil)
	if err != nil {
		return false, err
	}
	if j.Open > 0 {
		t.stop(ledger.Settle, words.Count(j.Open, "conflict needs", "conflicts need")+" a decision")
		return false, nil
	}
	for _, n := range j.Remarks() {
		if n.Asks {
			t.stop(ledger.Settle, words.Remark(n))
			return false, nil
		}
	}
	decided := "nothing had to be decided"
	if n := len(plan.DecidedIn(j, &st.Decisions)); n > 0 {
		decided = words.Count(n, "decision", "decisions") + " made before " + words.Is(n, "is", "are") + " kept"
	}
	t.say(fmt.Sprintf("Joined by %s: %s.", route, decided))
	b, err := t.check(ctx, p, j)
	if err != nil || t.Why != "" {
		return false, err
	}
	if may, err := t.mayPush(ctx, p, b.Tip); err != nil || !may {
		return false, err
	}
	_, err = s.Accept(context.WithoutCancel(ctx), p, j, b, change.Consent{}) // all or nothing
	if changed, err := t.changed(err); err != nil || !changed {
		return false, err
	}
	t.say(fmt.Sprintf("%s has the result.", p.Branch.Name))
	return t.push(ctx, p)
}

// mayPush looks for what keeps a tip from being pushed: conflict marks, a task that is missing, or what the server
// refused before.
func (t *Through) mayPush(ctx context.Context, p *plan.Position, tip object.ID) (bool, error) {
	marks, _, err := t.s.Planner.ConflictMarkers(ctx, p.Upstream().Theirs, tip)
	if err != nil {
		return false, err
	}
	if len(marks) > 0 {
		t.stop(ledger.Push, "conflict marks stand in "+marks[0].String())
		return false, nil
	}
	err = t.s.Push.NamesTask(ctx, p, tip)
	if errors.Is(err, NoTaskError{}) {
		t.stop(ledger.Push, err.Error())
		return false, nil
	}
	if err != nil {
		return false, err
	}
	why, err := t.s.Push.KnownRefusal(ctx, p, tip)
	if why != "" {
		t.stop(ledger.Push, why)
	}
	return why == "" && err == nil, err
}

// check makes the joined commits and runs the check. It stops if something asks or fails.
func (t *Through) check(ctx context.Context, p *plan.Position, j *plan.Join) (b plan.Built, err error) {
	pr := t.s.Prover
	u, err := pr.ToCheck(ctx, p, j)
	if err != nil {
		return b, err
	}
	switch {
	case len(u.Misfits) > 0:
		t.stop(ledger.Check, "two edits may not work together, though the texts join")
	case u.Regeneration:
		t.stop(ledger.Check, "a generated file must be made again")
	case u.Terms == nil:
		t.stop(ledger.Check, "no check was found")
	case !u.Agreed:
		t.stop(ledger.Check, "nobody agreed yet to run “"+u.Terms.Command.Line()+"”")
	case u.Passed != nil:
		t.say("The same code passed its check before.")
	default:
		proof, err := pr.Prove(ctx, p, u.Terms, u.Built.Tip, func(string) {}, func([]check.Step, int) {})
		if err != nil {
			return b, err
		}
		if !proof.Result.Passed {
			t.stop(ledger.Check, cmp.Or(strings.TrimSuffix(proof.Unchecked, "."),
				"“"+u.Terms.Command.Line()+"” failed on the joined code"))
			return b, nil
		}
		t.say(fmt.Sprintf("The joined code passes “%s”.", u.Terms.Command.Line()))
	}
	if t.Why != "" {
		return b, nil
	}
	return u.Built, t.each(ctx, p, u)
}

// each checks every new commit, if dorvik.checkEach asks for that.
func (t *Through) each(ctx context.Context, p *plan.Position, u *prove.Unchecked) error {
	if !u.WantsEach || len(u.Built.Made()) < 2 {
		return nil
	}
	all, err := t.s.Prover.CheckEach(ctx, p, u.Terms, u.Built, func(string) {}, func([]prove.Each) {})
	if err != nil {
		return err
	}
	if id := prove.FirstFailing(all); !id.IsZero() {
		t.stop(ledger.Check, "“"+u.Terms.Command.Line()+"” failed on the new commit "+t.s.Planner.Short(id))
		return nil
	}
	t.say(fmt.Sprintf("Each of the %d new commits passes.", len(all)))
	return nil
}

// push pushes. again reports that somebody pushed first and that the join was undone.
func (t *Through) push(ctx context.Context, p *plan.Position) (again bool, err error) {
	t.Tries++
	done, err := t.s.Push.Tip(ctx, p, change.Consent{})
	var hooks *change.HooksError
	var unclear *UnclearError
	switch {
	case errors.As(err, &hooks), errors.As(err, &unclear):
		t.stop(ledger.Push, err.Error())
		return false, nil
	case err != nil:
		return false, err
	}
	t.Pushed = done
	switch {
	case done.Refusal == nil:
		t.say(fmt.Sprintf("Pushed. %s now holds %s.", done.To.Name, t.s.Planner.Short(done.Holds)))
		return false, nil
	case done.Refusal.Kind == vcs.Behind && (done.WentBack || t.s.Ledger.State().Accepted == nil):
		t.Pushed = nil
		t.say(fmt.Sprintf("Somebody pushed first; joining again, for the %d. time.", t.Tries+1))
		return true, nil
	}
	t.stop(ledger.Push, done.Refusal.Error())
	return false, nil
}

// changed reports whether a change was made. It stops for what the change asks or finds in its way.
func (t *Through) changed(err error) (bool, error) {
	if why := holdsUp(err); why != "" {
		t.stop(ledger.Push, why)
		return false, nil
	}
	return err == nil, err
}

// holdsUp returns what a change asks or finds in its way, if a person can do something about it.
func holdsUp(err error) string {
	var over *change.OverwriteError
	var asks *change.AsksError
	var hooks *change.HooksError
	var stopped *vcs.HookError
	if errors.As(err, &over) || errors.As(err, &asks) || errors.As(err, &hooks) || errors.As(err, &stopped) {
		return err.Error()
	}
	return ""
}

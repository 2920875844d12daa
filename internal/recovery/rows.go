package recovery

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/proposal"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Rows joins proposals into the current branch, one after the other. The row is stored, so it can be continued by
// another process. Each join is one change of the branch, with a waypoint of its own.
type Rows struct {
	s *Session
	// Unchecked joins without running a check. Prefer settles conflicts that have no precedent.
	Unchecked bool
	Prefer    []settle.Way
	// Changed, unless nil, gets the row whenever one more has had its turn. The row is not changed afterwards.
	Changed func(now *proposal.Row)
}

// RowsOf returns the rows of a session.
func RowsOf(s *Session) *Rows { return &Rows{s: s} }

// Halt tells where a row waits for a person, and why.
type Halt struct {
	Stage ledger.Stage
	Why   string // a clause
	// Terms is the check that waits for an agreement; nil if the row waits for something else.
	Terms *prove.Terms
}

// Does says what a person does at the stage where the row waits.
func (h *Halt) Does() string {
	switch {
	case h.Terms != nil:
		return "agree to run it"
	case h.Stage == ledger.Settle:
		return "settle it"
	case h.Stage == ledger.Check:
		return "look at its check"
	}
	return "look at it"
}

// Now returns the row of the current branch, or nil.
func (r *Rows) Now() *proposal.Row { return r.s.Ledger.State().Row }

// GoTo switches to the branch that follows the one that proposals are joined into. If there is none, it makes one.
func (r *Rows) GoTo(ctx context.Context, into vcs.Line) error {
	s := r.s
	list, err := s.Lines.following(ctx, into.Tracking)
	if err != nil {
		return err
	}
	if len(list) > 0 {
		return s.Applier.Switch(ctx, list[0].Name)
	}
	name := into.Branch()
	at, err := s.Repo.Ref(ctx, into.Tracking)
	if err != nil {
		return err
	}
	if err := s.Repo.UpdateRefs(ctx, "branch: created from "+into.Name, vcs.RefUpdate{Name: "refs/heads/" + name,
		New: at}); err != nil {
		return fmt.Errorf("creating the branch %s, which follows %s: %w", name, into.Name, err)
	}
	if err := s.Repo.Follow(ctx, name, into.Remote, into.Ref); err != nil {
		return err
	}
	return s.Applier.Switch(ctx, name)
}

// Ready checks that a row can begin on the current branch, and moves the branch forward to its upstream if that is all
// it lacks. The error is a *plan.Blocked if the branch follows another one, or has commits that are not pushed.
func (r *Rows) Ready(ctx context.Context, first *proposal.Proposal) (*plan.Position, error) {
	s := r.s
	b, err := s.Repo.Current(ctx)
	if err != nil {
		return nil, err
	}
	if b.Tracking != first.Into.Tracking || b.Name == "" {
		return nil, &plan.Blocked{What: fmt.Sprintf(
			"Proposals into %s are joined on a branch that follows it; you are on %s.",
			first.Into.Name, cmp.Or(b.Name, "no branch")), Next: "Switch to it first. Nothing was changed."}
	}
	if err := s.Lines.Take(ctx, nil); err != nil {
		return nil, err
	}
	p, err := s.Locate(ctx, false)
	if err != nil {
		return nil, err
	}
	if err := s.Ledger.Sync(p); err != nil {
		return nil, err
	}
	if n := len(p.Divergence.Yours); n > 0 {
		return nil, &plan.Blocked{What: fmt.Sprintf("%s has %s that %s not pushed.", b.Name, words.Count(n, "commit",
			"commits"), words.Is(n, "is", "are")),
			Next: "Push or undo first, so that only the proposals go with the push."}
	}
	if p.Trivial() == plan.FastForward {
		if _, err := s.FastForward(context.WithoutCancel(ctx), p, change.Consent{}); err != nil {
			return nil, err
		}
		return s.Locate(ctx, false)
	}
	return p, nil
}

// Begin stores a row of proposals into the branch that the current one follows.
func (r *Rows) Begin(ctx context.Context, seq *proposal.Sequence, of func(i int) proposal.Forecast) error {
	if now := r.Now(); now != nil && now.Current() != nil {
		return &plan.Blocked{What: "Another row is not finished: " + now.Sentence(),
			Next: "Go on with it, or leave the rest out."}
	}
	p, err := r.Ready(ctx, &seq.List[0])
	if err != nil {
		return err
	}
	return r.s.Ledger.Choices.KeepRow(proposal.NewRow(p.Branch.Name, p.Yours, seq, of))
}

// Next joins one proposal after the other until one needs a person, or all had their turn; then it returns nil. A
// proposal that was withdrawn or rewritten meanwhile, or whose result does not pass the check, is left out.
func (r *Rows) Next(ctx context.Context, say func(step string)) (*Halt, error) {
	for {
		row, err := r.reconcile(ctx)
		if err != nil {
			return nil, err
		}
		item := row.Current()
		if item == nil {
			return nil, r.s.Lines.Take(ctx, nil)
		}
		halt, err := r.join(ctx, row, item, say)
		if err != nil || halt != nil {
			return halt, err
		}
		if err := r.s.Ledger.Choices.KeepRow(row); err != nil {
			return nil, err
		}
		if r.Changed != nil {
			r.Changed(r.Now())
		}
	}
}

// reconcile returns the row as it is: a person may have joined the current proposal through the stages, or undone one.
func (r *Rows) reconcile(ctx context.Context) (*proposal.Row, error) {
	s := r.s
	row := r.Now()
	if row == nil {
		return nil, &plan.Blocked{What: "No row of proposals is under way.", Next: "Choose proposals first."}
	}
	b, err := s.Repo.Current(ctx)
	if err != nil {
		return nil, err
	}
	if b.Name != row.Branch {
		return nil, &plan.Blocked{What: fmt.Sprintf("The row of proposals belongs to %s, and you are on %s.",
			row.Branch,
			cmp.Or(b.Name, "no branch")), Next: "Switch to it, or end the row. Nothing was changed."}
	}
	row = row.Clone()
	for i := range row.Items {
		item := &row.Items[i]
		in, err := history.IsAncestor(ctx, s.Planner.Store, item.Tip, b.Tip)
		if err != nil && !errors.Is(err, object.ErrMissing) {
			return nil, err
		}
		switch {
		case in && item.State != proposal.Joined:
			err = r.joined(ctx, row, item, b.Tip)
		case !in && item.State == proposal.Joined:
			*item = proposal.Item{Name: item.Name, Title: item.Title, Line: item.Line, Tip: item.Tip, By: item.By,
				Commits: item.Commits}
		}
		if err != nil {
			return nil, err
		}
	}
	return row, s.Ledger.Choices.KeepRow(row)
}

// joined records that the branch has a proposal. If the join was made here, the decisions come from its waypoint.
func (r *Rows) joined(ctx context.Context, row *proposal.Row, item *proposal.Item, at object.ID) error {
	item.State, item.Why, item.At = proposal.Joined, "", at
	wp := r.s.Ledger.State().Accepted
	if wp == nil || wp.Theirs != item.Tip || wp.After != at {
		return nil
	}
	item.Waypoint = wp.Name
	p := &plan.Position{Branch: vcs.Branch{Name: row.Branch}, Yours: wp.Before, Theirs: wp.Theirs,
		Kind: &plan.FromLine{Line: item.Line}}
	if err := r.s.Planner.Part(ctx, p); err != nil || p.Trivial() != plan.NotTrivial {
		return err
	}
	decided := &settle.Decisions{List: wp.Decisions}
	j, err := r.s.Planner.Join(ctx, p, plan.Merge, decided, plan.Amends{}, nil)
	if err != nil {
		return err
	}
	r.account(row, item, j, decided)
	if item.Checked == "" {
		item.Checked = checkedSentence(wp.Checked)
	}
	return nil
}

// checkedSentence says what a check found.
func checkedSentence(c *ledger.Checked) string {
	switch {
	case c == nil || c.Skipped:
		return "It was not checked."
	case c.Passed:
		return "It passes “" + c.Command + "”."
	}
	return "It fails “" + c.Command + "”."
}

// account counts the decisions of a join, and takes new ones as precedents.
func (r *Rows) account(row *proposal.Row, item *proposal.Item, j *plan.Join, decided *settle.Decisions) {
	item.Decided, item.Again = 0, nil
	for f, q := range j.Questions() {
		d, _, ok := decided.For(q)
		if !ok {
			continue
		}
		if p, again := row.Precedents.Find(f, q); again && p.Way == d.Way && p.Of != item.Name {
			item.Again = append(item.Again, fmt.Sprintf("%s: %s, as for proposal %s", q.Path, d.Way.Label(), p.Of))
		} else {
			item.Decided++
		}
	}
	row.Precedents.Add(j, decided, item.Name)
}

// join gives a proposal its turn.
func (r *Rows) join(ctx context.Context, row *proposal.Row, item *proposal.Item, say func(string)) (*Halt, error) {
	s := r.s
	why, err := r.changed(ctx, item)
	if err != nil {
		return nil, err
	}
	if why != "" {
		leave(item, why, say)
		return nil, nil
	}
	if err := s.Lines.Take(ctx, &item.Line); err != nil {
		return nil, err
	}
	p, err := s.Locate(ctx, false)
	if err != nil {
		return nil, err
	}
	if err := s.Ledger.Sync(p); err != nil {
		return nil, err
	}
	j, halt, err := r.settled(ctx, row, p)
	if err != nil || halt != nil {
		return halt, err
	}
	if j.Refused != nil {
		leave(item, j.Refused.Error(), say)
		return nil, nil
	}
	v, err := r.check(ctx, p, j, say)
	if err != nil || v.halt != nil {
		return v.halt, err
	}
	if v.fails != "" {
		leave(item, v.fails, say)
		return nil, nil
	}
	wp, err := s.Accept(context.WithoutCancel(ctx), p, j, v.built, change.Consent{})
	if why := holdsUp(err); why != "" {
		return &Halt{Stage: ledger.Push, Why: why}, nil
	}
	if err != nil {
		return nil, err
	}
	st := s.Ledger.State()
	item.State, item.At, item.Waypoint, item.Checked = proposal.Joined, wp.After, wp.Name, v.passes
	r.account(row, item, j, &st.Decisions)
	say(fmt.Sprintf("Proposal %s is joined%s. %s", item.Name,
		words.If(p.Trivial() == plan.FastForward, ": the branch moved forward to it", ""), v.passes))
	return nil, nil
}

// leave leaves an item out.
func leave(item *proposal.Item, why string, say func(string)) {
	item.State, item.Why = proposal.LeftOut, strings.TrimSuffix(why, ".")
	say(fmt.Sprintf("Proposal %s is left out: %s.", item.Name, item.Why))
}

// changed asks the remote whether a proposal is still what the row began with. It returns why it is not, as a clause. A
// remote that does not answer changes nothing: the copy here counts.
func (r *Rows) changed(ctx context.Context, item *proposal.Item) (why string, err error) {
	at, err := r.s.Repo.RemoteTip(ctx, item.Line.Remote, item.Line.Ref)
	switch {
	case ctx.Err() != nil:
		return "", ctx.Err()
	case err != nil, at == item.Tip:
		here, err := r.s.Repo.Ref(ctx, item.Line.Tracking)
		if err == nil && here != item.Tip {
			return fmt.Sprintf("its copy here is at %s, and it was marked at %s", here.Prefix(7), item.Tip.Prefix(7)),
				nil
		}
		return "", err
	case at.IsZero():
		return "it was withdrawn after it was marked", nil
	}
	return fmt.Sprintf("it was rewritten or added to after it was marked; it is at %s now", at.Prefix(7)), nil
}

// settled joins by a merge and settles what has a precedent or a preferred way. The rest halts the row. Where the
// branch only moves forward there is nothing to settle.
func (r *Rows) settled(ctx context.Context, row *proposal.Row, p *plan.Position) (*plan.Join, *Halt, error) {
	s := r.s
	if p.Trivial() == plan.FastForward {
		j, err := s.Planner.Join(ctx, p, "", &settle.Decisions{}, plan.Amends{}, nil)
		return j, nil, err
	}
	j, err := s.SettleBy(ctx, p, plan.Merge, nil)
	if err != nil || j.Refused != nil {
		return j, nil, err
	}
	st := s.Ledger.State()
	if again := row.Precedents.Apply(j, &st.Decisions); len(again) > 0 {
		if err := s.Decide(again...); err != nil {
			return nil, nil, err
		}
	}
	if j, err = s.SettleBy(ctx, p, plan.Merge, r.Prefer); err != nil {
		return nil, nil, err
	}
	if j.Open > 0 {
		return nil, &Halt{Stage: ledger.Settle, Why: words.Count(j.Open, "conflict needs", "conflicts need") +
			" a decision"}, nil
	}
	for _, n := range j.Remarks() {
		if n.Asks {
			return nil, &Halt{Stage: ledger.Settle, Why: strings.TrimSuffix(words.Remark(n), ".")}, nil
		}
	}
	return j, nil, nil
}

// verdict is what the check says of a joined proposal. Exactly one of the last three is set.
type verdict struct {
	built  plan.Built
	passes string // a sentence
	fails  string // a clause
	halt   *Halt
}

// check runs the check that was agreed to on a join.
func (r *Rows) check(ctx context.Context, p *plan.Position, j *plan.Join, say func(string)) (v verdict, err error) {
	u, err := r.s.Prover.ToCheck(ctx, p, j)
	if err != nil {
		return v, err
	}
	v.built = u.Built
	line := ""
	if u.Terms != nil {
		line = "“" + u.Terms.Command.Line() + "”"
	}
	halts := func(why string) (verdict, error) {
		v.halt = &Halt{Stage: ledger.Check, Why: why}
		return v, nil
	}
	switch {
	case u.Regeneration:
		return halts("a generated file must be made again")
	case (u.Terms == nil || r.Unchecked) && len(u.Misfits) > 0:
		return halts("two edits may not work together, and no check tells")
	case u.Terms == nil:
		v.passes = "It was not checked: no check was found."
	case r.Unchecked:
		v.passes = "It was not checked."
	case u.Passed != nil:
		v.passes = "It passes " + line + "."
	case !u.Agreed:
		v.halt = &Halt{Stage: ledger.Check, Why: "nobody agreed yet to run " + line, Terms: u.Terms}
	default:
		say(fmt.Sprintf("Running %s on %s.", line, p.Line().Name))
		return r.prove(ctx, p, u, v)
	}
	return v, nil
}

// prove runs the check of a join. If it fails, it also runs on the branch without the proposal, so that a proposal is
// not left out for what it did not do.
func (r *Rows) prove(ctx context.Context, p *plan.Position, u *prove.Unchecked, v verdict) (verdict, error) {
	run := func(terms *prove.Terms, tip object.ID) (*prove.Proof, error) {
		return r.s.Prover.Prove(ctx, p, terms, tip, func(string) {}, func([]check.Step, int) {})
	}
	line := "“" + u.Terms.Command.Line() + "”"
	proof, err := run(u.Terms, u.Built.Tip)
	switch {
	case err != nil:
		return v, err
	case proof.Unchecked != "":
		v.halt = &Halt{Stage: ledger.Check, Why: strings.TrimSuffix(proof.Unchecked, ".")}
		return v, nil
	case proof.Result.Passed:
		v.passes = "It passes " + line + "."
		return v, nil
	}
	tree, err := r.s.Planner.Tree(ctx, p.Yours)
	if err != nil {
		return v, err
	}
	terms, may, err := r.s.Prover.MayCheck(ctx, p, tree)
	if err != nil {
		return v, err
	}
	if may && terms != nil {
		before, err := run(terms, p.Yours)
		if err != nil {
			return v, err
		}
		if !before.Result.Passed {
			v.halt = &Halt{Stage: ledger.Check, Why: fmt.Sprintf("%s fails on %s without the proposal, too", line,
				p.Branch.Name)}
			return v, nil
		}
	}
	v.fails = line + " fails on the joined code"
	if len(u.Misfits) > 0 {
		v.fails += ": " + r.s.Workspace.Proposals.Sentence(&u.Misfits[0])
	} else if len(proof.Places) > 0 {
		at := proof.Places[0]
		v.fails += fmt.Sprintf(": %s:%d: %s", at.Path, at.Line, at.Text)
	}
	return v, nil
}

// Push pushes what the row joined, and ends the row once it is at the remote. A push that was rejected is in
// Pushed.Refusal; the row then stays. The error is a *plan.Blocked if the remote has something new, or if something in
// what goes keeps it from being pushed.
func (r *Rows) Push(ctx context.Context) (*Pushed, error) {
	s := r.s
	p, err := s.Locate(ctx, true)
	switch {
	case err != nil:
		return nil, err
	case p.Unanswered != nil:
		return nil, p.Unanswered
	case len(p.Divergence.Theirs) > 0:
		return nil, &plan.Blocked{What: fmt.Sprintf("%s has %s that your branch lacks: somebody pushed first.",
			p.Line().Name, words.Count(len(p.Divergence.Theirs), "commit", "commits")),
			Next: "Join with it, or undo the row and begin it again."}
	}
	t := &Through{s: s}
	if may, err := t.mayPush(ctx, p, p.Yours); err != nil {
		return nil, err
	} else if !may {
		return nil, &plan.Blocked{What: words.Sentence(t.Why), Next: "Nothing was pushed."}
	}
	done, err := s.Push.Tip(ctx, p, change.Consent{})
	if err != nil || done.Refusal != nil {
		return done, err
	}
	return done, r.End(ctx)
}

// LeaveOut leaves the proposal out whose turn it is.
func (r *Rows) LeaveOut(ctx context.Context, why string) error {
	row, err := r.reconcile(ctx)
	if err != nil {
		return err
	}
	item := row.Current()
	if item == nil {
		return nil
	}
	leave(item, why, func(string) {})
	if err := r.s.Lines.Take(ctx, nil); err != nil {
		return err
	}
	return r.s.Ledger.Choices.KeepRow(row)
}

// TakeBack undoes all joins of the row, newest first, and ends it. If one cannot be undone, it returns the error; the
// row then has what is left.
func (r *Rows) TakeBack(ctx context.Context) error {
	row, err := r.reconcile(ctx)
	if err != nil {
		return err
	}
	for _, item := range slices.Backward(row.Items) {
		if item.State != proposal.Joined || item.Waypoint == "" {
			continue
		}
		if _, err := r.s.Applier.GoBack(ctx, item.Waypoint); err != nil {
			return err
		}
	}
	return r.End(ctx)
}

// End forgets the row. What was joined stays.
func (r *Rows) End(ctx context.Context) error {
	if err := r.s.Lines.Take(ctx, nil); err != nil {
		return err
	}
	return r.s.Ledger.Choices.KeepRow(nil)
}

// Package ledger stores one recovery in the git directory: its state, the decisions, the waypoints, the logbook, and
// the commands that the person agreed to run. Every change is written at once.
package ledger

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/rule"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/proposal"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Ledger is the stored recovery of one repository. It is not safe for use by several goroutines.
type Ledger struct {
	Store      *Store
	Agreements *Agreements
	Choices    *Choices

	state   State    // changed only by methods named after what the person does
	notices []string // sentences about what opening found and did, or what a change could not do
}

// Open opens the ledger in a git directory. Only one process can have it open; the others get ErrInUse. If the file is
// damaged, Open moves it aside, copies what it can read into a new one, and describes that in damage.
func Open(gitDir string) (l *Ledger, damage string, err error) {
	l = &Ledger{}
	l.Choices = &Choices{l}
	if l.Agreements, err = openAgreements(gitDir); err != nil {
		return nil, "", err
	}
	if l.Store, damage, err = openStore(gitDir); err != nil {
		return nil, "", err
	}
	if l.state, err = l.Store.load(); err != nil {
		l.Close()
		return nil, "", err
	}
	return l, damage, nil
}

// Close releases the ledger for other processes.
func (l *Ledger) Close() { l.Store.close() }

// State returns a copy of the current state. Later changes do not affect it.
func (l *Ledger) State() State {
	st := l.state
	if st.Accepted != nil {
		wp := *st.Accepted
		st.Accepted = &wp
	}
	if st.Checked != nil {
		c := *st.Checked
		st.Checked = &c
	}
	return st
}

// TakeRoute selects the route and moves to Settle. It discards the check result of any other route.
func (l *Ledger) TakeRoute(r plan.Route) error {
	if l.state.Route != r {
		l.state.Checked = nil
	}
	l.state.Route, l.state.Stage = r, Settle
	return l.save()
}

// Reach sets the stage.
func (l *Ledger) Reach(stage Stage) error {
	l.state.Stage = stage
	return l.save()
}

// save writes the state.
func (l *Ledger) save() error { return l.Store.save(&l.state) }

// Sync adapts the stored recovery to the position. Decisions stay, because they are stored by what they are about. The
// rest is dropped if the branch or your commits are other ones.
func (l *Ledger) Sync(p *plan.Position) error {
	st := &l.state
	if a := st.Accepted; a != nil && (a.Branch != p.Branch.Name || a.After != p.Yours || p.NothingToDo()) {
		st.Accepted = nil
	}
	if st.Branch != p.Branch.Name || st.Yours != p.Yours && st.Accepted == nil {
		kept := State{Branch: p.Branch.Name, Decisions: st.Decisions, Accepted: st.Accepted, TakeOver: st.TakeOver,
			Runs: st.Runs, Carry: st.Carry, Requests: st.Requests, Read: st.Read, PutAside: st.PutAside,
			Lasting: st.Lasting}
		if st.Branch == p.Branch.Name {
			kept.Picks, kept.PickParent, kept.Line, kept.Rework = st.Picks, st.PickParent, st.Line, st.Rework
		}
		*st = kept
	}
	if p.IsPick() != (st.Route == plan.Pick) && p.Resumes() == nil {
		st.Route, st.Stage = "", Look
	}
	if st.Theirs != p.Theirs && st.Stage > Choose {
		st.Stage = Look // theirs moved: look again
	}
	switch {
	case st.Accepted != nil && !p.IsPick() && len(p.Divergence.Theirs) == 0:
		st.Stage = Push
	case p.Trivial() != plan.NotTrivial:
		st.Stage = Look
	}
	st.Yours, st.Theirs = p.Yours, p.Theirs
	st.forgetRequests(p)
	return l.save()
}

// UndoDecision removes the last decision. ok is false if there is none.
func (l *Ledger) UndoDecision() (d settle.Decision, ok bool, err error) {
	if d, ok = l.state.Decisions.Undo(); ok {
		err = l.save()
	}
	return d, ok, err
}

// RedoDecision restores the decision that was removed last. ok is false if there is none.
func (l *Ledger) RedoDecision() (d settle.Decision, ok bool, err error) {
	if d, ok = l.state.Decisions.Redo(); ok {
		err = l.save()
	}
	return d, ok, err
}

// MarkRead records that the person read this content of a file that joined without a conflict.
func (l *Ledger) MarkRead(path string, content object.ID) error {
	if l.state.Read[path] == content {
		return nil
	}
	read := maps.Clone(l.state.Read)
	if read == nil {
		read = map[string]object.ID{}
	}
	read[path] = content
	l.state.Read = read
	return l.save()
}

// PutAside defers a conflict and stores the reason. An empty reason ends that.
func (l *Ledger) PutAside(key settle.Key, why string) error {
	aside := maps.Clone(l.state.PutAside)
	if aside == nil {
		aside = map[settle.Key]string{}
	}
	if aside[key] = why; why == "" {
		delete(aside, key)
	}
	l.state.PutAside = aside
	return l.save()
}

// AddMend appends a mend to those there are.
func (l *Ledger) AddMend(m plan.Mend) error {
	l.state.Mends = append(slices.Clip(l.state.Mends), m)
	return l.save()
}

// UndoMend removes the last mend. ok is false if there is none.
func (l *Ledger) UndoMend() (m plan.Mend, ok bool, err error) {
	n := len(l.state.Mends)
	if n == 0 {
		return m, false, nil
	}
	m, l.state.Mends = l.state.Mends[n-1], l.state.Mends[:n-1:n-1]
	return m, true, l.save()
}

// LetGo removes a mend that no longer applies, from the list or from the commit that holds it.
func (l *Ledger) LetGo(m plan.Mend) error {
	l.state.Mends = slices.DeleteFunc(slices.Clone(l.state.Mends), func(one plan.Mend) bool { return one == m })
	for id, w := range l.state.Requests {
		if w.Edits == nil {
			continue
		}
		left := slices.DeleteFunc(slices.Clone(w.Edits.List),
			func(one merge.TextEdit) bool { return plan.Mend(one) == m })
		switch {
		case len(left) == len(w.Edits.List):
			continue
		case len(left) == 0:
			w.Edits = nil
		default:
			w.Edits = &replay.Edits{List: left}
		}
		if err := l.Request(id, w); err != nil {
			return err
		}
	}
	return l.save()
}

// Noted tells the person that something could not be stored after a change. The change itself is complete.
func (l *Ledger) Noted(err error) {
	if err != nil {
		l.Tell("%s The change itself is made.", words.Sentence(err.Error()))
	}
}

// accepted moves the state to Push, or to Look if nothing was joined.
func (l *Ledger) accepted(wp *Waypoint) {
	if wp.TakenOver() {
		l.ForgetStuck()
	}
	if wp.By == Nothing { // undone: nothing is joined
		l.state.Accepted, l.state.Stage, l.state.Yours = nil, Look, wp.After
		return
	}
	l.state.Accepted, l.state.Stage, l.state.Yours = wp, Push, wp.After
	l.state.Line, l.state.Message, l.state.Rework = nil, "", false
	if wp.By.Is(plan.Pick) {
		l.state.Picks, l.state.PickParent, l.state.Route = nil, 0, ""
	}
}

// Undone records in state and logbook that a join was undone. Calling it twice logs it once.
func (l *Ledger) Undone(wp *Waypoint) error {
	wp.GoneBack = true
	l.state.Accepted, l.state.Yours, l.state.Stage = nil, wp.Before, Settle
	l.state.Message = wp.Message
	if wp.Line != nil {
		l.state.Branch, l.state.Line = wp.Branch, wp.Line
	}
	if wp.TakenOver() {
		l.state.Stage, l.state.Route = Look, ""
	} else if wp.By.Is(plan.Pick) {
		l.state.Branch, l.state.Picks, l.state.PickParent, l.state.Route = wp.Branch, wp.Picks, wp.Parent, plan.Pick
	}
	return errors.Join(l.Store.PutWaypoint(wp), l.save(), l.Store.logOnce(wp.entry(Undone)))
}

// CheckOf returns the result of the check of a tree, or nil.
func (l *Ledger) CheckOf(tree object.ID) *Checked {
	if c := l.state.Checked; c != nil && c.Tree == tree {
		return c
	}
	return nil
}

// Decide records all decisions or none.
func (l *Ledger) Decide(decided ...settle.Decision) error {
	l.state.Decisions.Decide(decided...)
	return l.save()
}

// Pick selects commits to be picked onto a branch. Earlier decisions stay.
func (l *Ledger) Pick(branch string, picks []object.ID, parent int) error {
	st := &l.state
	if !slices.Equal(st.Picks, picks) || st.PickParent != parent {
		st.Stage, st.Mends, st.Made = Look, nil, nil
	}
	st.Branch, st.Picks, st.PickParent, st.Route = branch, picks, parent, plan.Pick
	return l.save()
}

// TakeUp takes over a half-done operation. found are the decisions that were made in it, runs the commands of its
// list.
func (l *Ledger) TakeUp(how TakeOver, found []settle.Decision, runs []string) error {
	st := &l.state
	for _, d := range found {
		st.Decisions.Decide(d)
	}
	st.TakeOver, st.Stage, st.Route, st.Runs, st.Mends, st.Made = how, Look, "", nil, nil, nil
	if how == Finish {
		st.Runs = runs
	}
	return l.save()
}

// Pushed ends the recovery, after the remote has the branch.
func (l *Ledger) Pushed(branch string) error {
	l.state = State{Branch: branch, Carry: l.state.Carry, Lasting: l.state.Lasting}
	return l.save()
}

// KeepMade stores what a command generated for a file. It replaces what was generated before.
func (l *Ledger) KeepMade(m plan.Made) error {
	made := slices.DeleteFunc(slices.Clone(l.state.Made), func(o plan.Made) bool { return o.Path == m.Path })
	l.state.Made = append(made, m)
	return l.save()
}

// KeepCheck stores the result of a check. If whole is true, all steps ran, and the duration serves as an estimate for
// the next check.
func (l *Ledger) KeepCheck(c Checked, whole bool) error {
	if l.state.Checked = &c; whole {
		l.state.LastCheck = c.Took
	}
	return l.save()
}

// CounterRef is the ref that keeps the commit which takes a join back.
func (w *Waypoint) CounterRef() string { return "refs/dorvik/counter/" + w.Name }

// Waypoints returns all waypoints by name.
func (l *Ledger) Waypoints() (map[string]*Waypoint, error) {
	list, err := l.Store.Waypoints()
	out := map[string]*Waypoint{}
	for _, w := range list {
		out[w.Name] = w
	}
	return out, err
}

// Carry selects whether joins bring uncommitted work along.
func (l *Ledger) Carry(on bool) error {
	l.state.Carry = on
	return l.save()
}

// GiveBackMends restores the mends and requests that were there before.
func (l *Ledger) GiveBackMends(before *plan.TakenMends) error {
	l.state.Mends, l.state.Requests, l.state.Checked = before.Mends, before.Requests, nil
	return l.save()
}

// Refuse remembers that a push to a remote branch was refused. Without a refusal it forgets the last one.
func (b *Choices) Refuse(to string, r *vcs.Refusal) error {
	was := b.l.state.Refusals
	if _, known := was[to]; r == nil && !known {
		return nil
	}
	now := maps.Clone(was)
	if now == nil {
		now = map[string]Refused{}
	}
	if delete(now, to); r != nil {
		now[to] = Refused{r.Kind, r.Words, time.Now()}
	}
	b.l.state.Refusals = now
	return b.l.save()
}

// Asks remembers what the server of a remote asks of commits.
func (b *Choices) Asks(remote string, rules []rule.Rule) error {
	now := maps.Clone(b.l.state.Rules)
	if now == nil {
		now = map[string][]rule.Rule{}
	}
	if delete(now, remote); len(rules) > 0 {
		now[remote] = rules
	}
	b.l.state.Rules = now
	return b.l.save()
}

// RefusedAt returns the last refusal of a push to a remote branch, or nil.
func (b *Choices) RefusedAt(to string) *Refused {
	if r, ok := b.l.state.Refusals[to]; ok {
		return &r
	}
	return nil
}

// Rework selects or ends changing one's own commits of a branch that are not pushed.
func (b *Choices) Rework(branch string, on bool) error {
	st := &b.l.state
	st.Branch, st.Rework, st.Stage, st.Route = branch, on, Look, ""
	if on {
		st.Mends, st.Made, st.Picks = nil, nil, nil
	}
	return b.l.save()
}

// DropPick returns from picking to joining the branch with its upstream.
func (l *Ledger) DropPick() error {
	l.state.Picks, l.state.PickParent, l.state.Route, l.state.Stage = nil, 0, "", Look
	l.state.Mends, l.state.Made = nil, nil
	return l.save()
}

// Request records what should happen to one of your commits when it is replayed. The zero request removes an earlier
// one.
// Positions that were located before do not see it.
func (l *Ledger) Request(commit object.ID, request replay.Request) error {
	requests := maps.Clone(l.state.Requests)
	if requests == nil {
		requests = replay.Requests{}
	}
	if requests[commit] = request; request == (replay.Request{}) {
		delete(requests, commit)
	}
	if request.Leave != l.state.Requests[commit].Leave || request.Into != l.state.Requests[commit].Into ||
		request.Edits != l.state.Requests[commit].Edits {
		l.state.Checked = nil // the tree may differ
	}
	l.state.Requests = requests
	return l.save()
}

// forgetRequests removes requests about commits that are no longer to be replayed.
func (st *State) forgetRequests(p *plan.Position) {
	if st.Accepted != nil || len(st.Requests) == 0 {
		return
	}
	kept := replay.Requests{}
	keep := func(id object.ID) {
		if w, ok := st.Requests[id]; ok {
			kept[id] = w
		}
	}
	for _, n := range p.Divergence.Yours {
		keep(n.ID)
	}
	if p.Resumes() != nil {
		for _, t := range p.Resumes().Todo {
			keep(t.Commit.ID)
		}
	}
	st.Requests = kept
}

// TakeOver is the way to take over an operation that git left half done. The names are those of `recover --take-over`.
type TakeOver string

// What can become of it.
const (
	Finish TakeOver = "finish" // continue from where it stopped
	Anew   TakeOver = "anew"   // join again, with the decisions made so far
	Back   TakeOver = "back"   // return to where the branch was
)

// LeaveStuck stops taking over. Decisions stay.
func (l *Ledger) LeaveStuck() error {
	l.state.TakeOver, l.state.Stage, l.state.Route, l.state.Runs = "", Look, "", nil
	return l.save()
}

// ForgetStuck records that the half-done operation no longer exists.
func (l *Ledger) ForgetStuck() {
	l.state.TakeOver, l.state.Runs = "", nil
}

// Underway reports whether a route was selected and Settle reached.
func (st *State) Underway() bool { return st.Stage > Choose && st.Route != "" }

// Tell queues sentences for the person.
func (l *Ledger) Tell(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); text != "" {
		l.notices = append(l.notices, text)
	}
}

// Told returns the number of queued sentences.
func (l *Ledger) Told() int { return len(l.notices) }

// TakeNotices removes and returns the queued sentences, except for the first but.
func (l *Ledger) TakeNotices(but int) []string {
	out := l.notices[but:]
	l.notices = l.notices[:but:but]
	return out
}

// NewWaypoint returns the waypoint of a join, without a name. It records how the join was decided.
func (l *Ledger) NewWaypoint(p *plan.Position, j *plan.Join, tip, tree object.ID) *Waypoint {
	st := l.State()
	wp := &Waypoint{Branch: p.Branch.Name, Before: p.Tip(), After: tip, Theirs: p.Theirs, By: byOf(p, j),
		Time: time.Now(), Decisions: plan.DecidedIn(j, &st.Decisions), Mends: j.Mended,
		Made: plan.WithoutTexts(st.Made), Requests: p.Requests, Checked: l.CheckOf(tree), Message: st.Message}
	switch k := p.Kind.(type) {
	case plan.Returning:
		wp.Return = k.Waypoint
	case plan.BringingBack:
		wp.Return = OfTheStash
	case plan.Committing:
		wp.Commits = true
	}
	if k := p.FromLine(); k != nil {
		line := k.Line
		wp.Line = &line
	}
	if p.IsPick() && p.Resumes() == nil {
		wp.Picks, wp.Parent, wp.Counter = st.Picks, st.PickParent, p.Counter()
	}
	return wp
}

// Joined records in state and logbook that a join was accepted. Calling it twice logs it once.
func (l *Ledger) Joined(wp *Waypoint) error {
	l.accepted(wp)
	return errors.Join(l.Store.PutWaypoint(wp), l.save(), l.Store.logOnce(wp.entry(Joined)),
		l.Store.Remember(wp.Decisions, wp.Time))
}

// Choices stores what a person chose for a branch beside the decisions: the line that it is joined with, where it is
// pushed to, and the message of the merge commit.
type Choices struct{ l *Ledger }

// SendTo stores which branch of the remote a branch is pushed to.
func (b *Choices) SendTo(branch, name string) error {
	targets := maps.Clone(b.l.state.Targets)
	if targets == nil {
		targets = map[string]string{}
	}
	targets[branch] = name
	b.l.state.Targets = targets
	return b.l.save()
}

// Take selects the line that a branch is joined with, and remembers it for the branch. Without a line it selects
// the upstream.
func (b *Choices) Take(branch string, line *vcs.Line) error {
	st := &b.l.state
	if line != nil && !proposal.IsLine(*line) { // a proposal is joined once
		usual := maps.Clone(st.Usual)
		if usual == nil {
			usual = map[string]vcs.Line{}
		}
		usual[branch] = *line
		st.Usual = usual
	}
	if now := st.Line; st.Branch == branch && (now == nil && line == nil || now != nil && line != nil &&
		*now == *line) {
		return b.l.save()
	}
	st.Branch, st.Line, st.Route, st.Stage, st.Picks, st.PickParent = branch, line, "", Look, nil, 0
	st.Mends, st.Made, st.Message = nil, nil, ""
	return b.l.save()
}

// KeepRow stores a copy of a row of proposals. nil forgets the row. State.Row is never changed, only replaced.
func (b *Choices) KeepRow(row *proposal.Row) error {
	b.l.state.Row = row.Clone()
	return b.l.save()
}

// Write sets the message of the merge commit. An empty one selects the proposed message again.
func (b *Choices) Write(message string) error {
	b.l.state.Message = message
	return b.l.save()
}

// TakeTask remembers the sign of the task that was taken last from the list of tasks.
func (b *Choices) TakeTask(sign string) error {
	b.l.state.LastTask = sign
	return b.l.save()
}

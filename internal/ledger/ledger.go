// Package ledger keeps what a recovery is: its state and decisions, what was decided before, the
// waypoints and the logbook of what was done, and what was agreed to run. All of it is saved as it
// happens.
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
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// Ledger is what is kept of the recovery of a repository.
type Ledger struct {
	Store      *Store
	Agreements *Agreements

	state   State    // changed only by methods that say what the person does
	notices []string // sentences: what opening found and did, or a change could not do besides, if anything
}

// Open opens what is kept in a git directory. Only one process can have it open: the error is ErrInUse for
// the others. What cannot be read is set aside, as far as it must be, and damage says so in sentences.
func Open(gitDir string) (l *Ledger, damage string, err error) {
	l = &Ledger{}
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

// Close lets others open it.
func (l *Ledger) Close() { l.Store.close() }

// State gives the recovery as it is now. What it holds is not changed by anything that
// happens later.
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

// TakeRoute has the recovery go by a route, and on to Settle. A check of another route's result
// counts no more.
func (l *Ledger) TakeRoute(r plan.Route) error {
	if l.state.Route != r {
		l.state.Checked = nil
	}
	l.state.Route, l.state.Stage = r, Settle
	return l.Save()
}

// Reach has the recovery be at a stage.
func (l *Ledger) Reach(stage Stage) error {
	l.state.Stage = stage
	return l.Save()
}

// Save keeps the state.
func (l *Ledger) Save() error { return l.Store.save(&l.state) }

// Sync fits the kept recovery to where things stand now. Decisions are kept
// by what they are about, so they stay; the rest of a recovery of another
// branch or of other commits of yours is dropped.
func (l *Ledger) Sync(p *plan.Position) error {
	st := &l.state
	if a := st.Accepted; a != nil && (a.Branch != p.Branch.Name || a.After != p.Yours || p.NothingToDo()) {
		st.Accepted = nil
	}
	if st.Branch != p.Branch.Name || st.Yours != p.Yours && st.Accepted == nil {
		kept := State{Branch: p.Branch.Name, Decisions: st.Decisions, Accepted: st.Accepted, LastCheck: st.LastCheck,
			TakeOver: st.TakeOver, Runs: st.Runs, Carry: st.Carry, Wishes: st.Wishes,
			Read: st.Read, PutAside: st.PutAside}
		if st.Branch == p.Branch.Name {
			kept.Picks, kept.PickParent = st.Picks, st.PickParent
		}
		*st = kept
	}
	if p.IsPick() != (st.Route == plan.Pick) && p.Resumes() == nil {
		st.Route, st.Stage = "", Look
	}
	if st.Theirs != p.Theirs && st.Stage > Choose {
		st.Stage = Look // their side moved: look again
	}
	switch {
	case st.Accepted != nil && !p.IsPick() && len(p.Divergence.Theirs) == 0:
		st.Stage = Push
	case p.Trivial() != plan.NotTrivial:
		st.Stage = Look
	}
	st.Yours, st.Theirs = p.Yours, p.Theirs
	st.forgetWishes(p)
	return l.Save()
}

// UndoDecision takes the last decision back; ok is false where there is none.
func (l *Ledger) UndoDecision() (d settle.Decision, ok bool, err error) {
	if d, ok = l.state.Decisions.Undo(); ok {
		err = l.Save()
	}
	return d, ok, err
}

// RedoDecision makes the decision again that was taken back last; ok is false where there is none.
func (l *Ledger) RedoDecision() (d settle.Decision, ok bool, err error) {
	if d, ok = l.state.Decisions.Redo(); ok {
		err = l.Save()
	}
	return d, ok, err
}

// MarkRead notes that the content of a file that joined by itself was read.
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
	return l.Save()
}

// PutAside has a conflict wait for later, with the reason why; with none it waits no more.
func (l *Ledger) PutAside(key settle.Key, why string) error {
	aside := maps.Clone(l.state.PutAside)
	if aside == nil {
		aside = map[settle.Key]string{}
	}
	if aside[key] = why; why == "" {
		delete(aside, key)
	}
	l.state.PutAside = aside
	return l.Save()
}

// AddMend records a mend, made on top of those there are.
func (l *Ledger) AddMend(m plan.Mend) error {
	l.state.Mends = append(slices.Clip(l.state.Mends), m)
	return l.Save()
}

// UndoMend takes the last mend back; ok is false where there is none.
func (l *Ledger) UndoMend() (m plan.Mend, ok bool, err error) {
	n := len(l.state.Mends)
	if n == 0 {
		return m, false, nil
	}
	m, l.state.Mends = l.state.Mends[n-1], l.state.Mends[:n-1:n-1]
	return m, true, l.Save()
}

// LetGo forgets a mend, wherever it belongs, that does not fit any more.
func (l *Ledger) LetGo(m plan.Mend) error {
	l.state.Mends = slices.DeleteFunc(slices.Clone(l.state.Mends), func(one plan.Mend) bool { return one == m })
	for id, w := range l.state.Wishes {
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
		if err := l.Wish(id, w); err != nil {
			return err
		}
	}
	return l.Save()
}

// Noted has what could not be kept after a change be said; the change is made all the same.
func (l *Ledger) Noted(err error) {
	if err != nil {
		l.Tell("%s The change itself is made.", words.Sentence(err.Error()))
	}
}

// accepted notes that the branch is at a waypoint's other end.
func (l *Ledger) accepted(wp *Waypoint) {
	if wp.TakenOver() {
		l.ForgetStuck()
	}
	if wp.Route == "" { // taken back: nothing is joined
		l.state.Accepted, l.state.Stage, l.state.Yours = nil, Look, wp.After
		return
	}
	l.state.Accepted, l.state.Stage, l.state.Yours = wp, Push, wp.After
	if wp.Route == plan.Pick {
		l.state.Picks, l.state.PickParent, l.state.Route = nil, 0, ""
	}
}

// Undone notes that a join was gone back from.
func (l *Ledger) Undone(wp *Waypoint) error {
	wp.GoneBack = true
	l.state.Accepted, l.state.Yours, l.state.Stage = nil, wp.Before, Settle
	if wp.TakenOver() {
		l.state.Stage, l.state.Route = Look, ""
	} else if wp.Route == plan.Pick {
		l.state.Branch, l.state.Picks, l.state.PickParent, l.state.Route = wp.Branch, wp.Picks, wp.Parent, plan.Pick
	}
	return errors.Join(l.Store.PutWaypoint(wp), l.Save(), l.Store.LogOnce(wp.Entry(Undone)))
}

// CheckOf gives the recorded outcome of a check of a tree, or nil.
func (l *Ledger) CheckOf(tree object.ID) *Checked {
	if c := l.state.Checked; c != nil && c.Tree == tree {
		return c
	}
	return nil
}

// Decide records decisions, all or none.
func (l *Ledger) Decide(decided ...settle.Decision) error {
	l.state.Decisions.Decide(decided...)
	return l.Save()
}

// Pick has single commits be brought onto a branch from here on. Decisions made before are kept.
func (l *Ledger) Pick(branch string, picks []object.ID, parent int) error {
	st := &l.state
	if !slices.Equal(st.Picks, picks) || st.PickParent != parent {
		st.Stage, st.Mends, st.Made = Look, nil, nil
	}
	st.Branch, st.Picks, st.PickParent, st.Route = branch, picks, parent, plan.Pick
	return l.Save()
}

// TakeUp has what was left half done be taken over, with what was decided in it and what its list has run on the way.
func (l *Ledger) TakeUp(how TakeOver, found []settle.Decision, runs []string) error {
	st := &l.state
	for _, d := range found {
		st.Decisions.Decide(d)
	}
	st.TakeOver, st.Stage, st.Route, st.Runs, st.Mends, st.Made = how, Look, "", nil, nil, nil
	if how == Finish {
		st.Runs = runs
	}
	return l.Save()
}

// Pushed notes that the branch is at the remote: nothing is under way any more.
func (l *Ledger) Pushed(branch string) error {
	l.state = State{Branch: branch, LastCheck: l.state.LastCheck, Carry: l.state.Carry}
	return l.Save()
}

// KeepMade keeps what a command made of a file, in the place of what it made of that before.
func (l *Ledger) KeepMade(m plan.Made) error {
	made := slices.DeleteFunc(slices.Clone(l.state.Made), func(o plan.Made) bool { return o.Path == m.Path })
	l.state.Made = append(made, m)
	return l.Save()
}

// KeepCheck keeps the outcome of a check; whole tells that all of it ran, so that it tells how long that takes.
func (l *Ledger) KeepCheck(c Checked, whole bool) error {
	if l.state.Checked = &c; whole {
		l.state.LastCheck = c.Took
	}
	return l.Save()
}

// CounterRef is the ref that keeps the commit by which an entry is taken back.
func (w *Waypoint) CounterRef() string { return "refs/dorvik/counter/" + w.Name }

// Waypoints gives what is kept, by name.
func (l *Ledger) Waypoints() (map[string]*Waypoint, error) {
	list, err := l.Store.Waypoints()
	out := map[string]*Waypoint{}
	for _, w := range list {
		out[w.Name] = w
	}
	return out, err
}

// Carry has uncommitted work be brought along by joins from here on, or stay where it is.
func (l *Ledger) Carry(on bool) error {
	l.state.Carry = on
	return l.Save()
}

// GiveBackMends takes back what TakeMends did.
func (l *Ledger) GiveBackMends(before *plan.TakenMends) error {
	l.state.Mends, l.state.Wishes, l.state.Checked = before.Mends, before.Wishes, nil
	return l.Save()
}

// DropPick goes back to joining the branch with its upstream.
func (l *Ledger) DropPick() error {
	l.state.Picks, l.state.PickParent, l.state.Route, l.state.Stage = nil, 0, "", Look
	l.state.Mends, l.state.Made = nil, nil
	return l.Save()
}

// Wish says what is to become of one commit of yours, beyond its being replayed; the zero wish is
// none. A position that is to show it is located anew, or has its Wishes replaced by the state's.
func (l *Ledger) Wish(commit object.ID, wish replay.Wish) error {
	wishes := maps.Clone(l.state.Wishes)
	if wishes == nil {
		wishes = replay.Wishes{}
	}
	if wishes[commit] = wish; wish == (replay.Wish{}) {
		delete(wishes, commit)
	}
	if wish.Leave != l.state.Wishes[commit].Leave || wish.Into != l.state.Wishes[commit].Into ||
		wish.Edits != l.state.Wishes[commit].Edits {
		l.state.Checked = nil // it may be another tree
	}
	l.state.Wishes = wishes
	return l.Save()
}

// forgetWishes drops those about commits that are no longer yours to be replayed.
func (st *State) forgetWishes(p *plan.Position) {
	if st.Accepted != nil || len(st.Wishes) == 0 {
		return
	}
	kept := replay.Wishes{}
	keep := func(id object.ID) {
		if w, ok := st.Wishes[id]; ok {
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
	st.Wishes = kept
}

// TakeOver is what becomes of what git left half done. The names are those of
// `recover --take-over`.
type TakeOver string

// What can become of it.
const (
	Finish TakeOver = "finish" // gone on with from where it stands
	Anew   TakeOver = "anew"   // joined anew on the side, with what was decided
	Back   TakeOver = "back"   // taken back to where the branch was
)

// LeaveStuck drops the taking over; decisions are kept.
func (l *Ledger) LeaveStuck() error {
	l.state.TakeOver, l.state.Stage, l.state.Route, l.state.Runs = "", Look, "", nil
	return l.Save()
}

// ForgetStuck notes that what git left half done is there no more.
func (l *Ledger) ForgetStuck() {
	l.state.TakeOver, l.state.Runs = "", nil
}

// Underway reports whether a route was taken and the recovery is beyond the choice.
func (st *State) Underway() bool { return st.Stage > Choose && st.Route != "" }

// Tell adds a sentence, or several, to what the person has to be told.
func (l *Ledger) Tell(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); text != "" {
		l.notices = append(l.notices, text)
	}
}

// Told is how many sentences wait to be told.
func (l *Ledger) Told() int { return len(l.notices) }

// TakeNotices takes the sentences that wait to be told, but for the first so many.
func (l *Ledger) TakeNotices(but int) []string {
	out := l.notices[but:]
	l.notices = l.notices[:but:but]
	return out
}

// NewWaypoint is the waypoint of a join that takes the branch to a tip.
func (l *Ledger) NewWaypoint(p *plan.Position, j *plan.Join, tip, tree object.ID) *Waypoint {
	st := l.State()
	wp := &Waypoint{Branch: p.Branch.Name, Before: p.Tip(), After: tip, Theirs: p.Theirs, Route: j.Route,
		Time: time.Now(), Decisions: plan.DecidedIn(j, &st.Decisions), Mends: j.Mended,
		Made: plan.WithoutTexts(st.Made), Wishes: p.Wishes, Checked: l.CheckOf(tree)}
	switch k := p.Kind.(type) {
	case plan.Returning:
		wp.Return = k.Waypoint
	case plan.BringingBack:
		wp.Return = OfTheStash
	}
	if p.SettlesOnly() {
		wp.Route = "" // nothing is joined
	}
	if p.IsPick() && p.Resumes() == nil {
		wp.Picks, wp.Parent, wp.Counter = st.Picks, st.PickParent, p.Counter()
	}
	return wp
}

// Joined notes in the state and in the logbook that a join was accepted. Doing so twice notes it once.
func (l *Ledger) Joined(wp *Waypoint) error {
	l.accepted(wp)
	return errors.Join(l.Store.PutWaypoint(wp), l.Save(), l.Store.LogOnce(wp.Entry(Joined)),
		l.Store.Remember(wp.Decisions, wp.Time))
}

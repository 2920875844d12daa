package recovery

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/diagnose"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Session is a workspace with the recovery kept in the git directory. Only one
// can be open in a repository at a time.
type Session struct {
	*Workspace
	state   State // changed only by methods that say what the person does
	store   *store
	notices []string // sentences: what opening found and did, or a change could not do besides, if anything

	toldNotLooked int // how many of NotLookedAt were told

	agreements *agreements

	TookBack bool // opening took back what an earlier run was cut off in

	makeAnew bool // a branch of the remote that is gone is pushed all the same

	last lastRun // of the check on what is joined

	signed  map[object.ID]object.ID // by the commit without its signature
	release func() error            // lets go of the index's lock; nil where it is not taken
}

// OpenSession opens the repository that holds a folder and the recovery kept
// there. If an earlier run was ended while it changed branch and files, it is
// finished, or found not to have begun.
func OpenSession(ctx context.Context, dir string) (*Session, error) {
	w, err := OpenWorkspace(ctx, dir)
	if err != nil {
		return nil, err
	}
	s := &Session{Workspace: w}
	if s.agreements, err = openAgreements(w.Repo.GitDir); err != nil {
		w.Close()
		return nil, err
	}
	w.agreed, w.files.Recall = s.AgreedTo, s.recall
	if err := s.letHooks(ctx); err != nil {
		w.Close()
		return nil, err
	}
	var damage string
	if s.store, damage, err = openStore(w.Repo.GitDir); err == nil {
		s.tell("%s", damage)
		if err = s.hold(); err == nil {
			if s.state, err = s.store.load(); err == nil {
				s.sweep(ctx)
				s.clearNoted()
				s.clearOwnLocks()
				if err = s.goOn(ctx); err == nil {
					s.sweepKept()
					s.Repo.LetPacksGo(ctx)
				}
			}
			if err == nil {
				os.RemoveAll(filepath.Join(w.Repo.GitDir, filepath.FromSlash(git.IndexFolder)))
			}
		}
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// Close saves nothing: all is saved as it happens.
func (s *Session) Close() {
	if s.Repo.Hold != nil {
		s.Repo.LetPacksGo(context.Background())
		s.Repo.Hold.Close()
	}
	s.store.close()
	s.Workspace.Close()
}

// sweep removes packs that earlier runs had not ended making. None is being made: this
// session has the lock that whoever made one would hold.
func (s *Session) sweep(ctx context.Context) {
	if dir, err := s.Repo.Inside(ctx, git.PackFolder); err == nil {
		os.RemoveAll(dir)
	}
}

// State gives the recovery as it is now. What it holds is not changed by anything that
// happens later.
func (s *Session) State() State {
	st := s.state
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
func (s *Session) TakeRoute(r Route) error {
	if s.state.Route != r {
		s.state.Checked = nil
	}
	s.state.Route, s.state.Stage = r, Settle
	return s.save()
}

// Reach has the recovery be at a stage.
func (s *Session) Reach(stage Stage) error {
	s.state.Stage = stage
	return s.save()
}

// save keeps the state.
func (s *Session) save() error { return s.store.save(&s.state) }

// Sync fits the kept recovery to where things stand now. Decisions are kept
// by what they are about, so they stay; the rest of a recovery of another
// branch or of other commits of yours is dropped.
func (s *Session) Sync(p *Position) error {
	st := &s.state
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
	if p.Picking != (st.Route == Pick) && p.Resume == nil {
		st.Route, st.Stage = "", Look
	}
	if st.Theirs != p.Theirs && st.Stage > Choose {
		st.Stage = Look // their side moved: look again
	}
	switch {
	case st.Accepted != nil && !p.Picking && len(p.Divergence.Theirs) == 0:
		st.Stage = Push
	case p.Trivial() != NotTrivial:
		st.Stage = Look
	}
	st.Yours, st.Theirs = p.Yours, p.Theirs
	st.forgetWishes(p)
	return s.save()
}

// Decide records decisions, all or none.
func (s *Session) Decide(decided ...settle.Decision) error {
	for i, d := range decided {
		if d.Way != settle.AsBefore {
			continue
		}
		r, ok := s.recall(d.Key)
		if !ok {
			return errors.New("what was decided before about this is not known any more; say another way")
		}
		decided[i] = r.Decision
	}
	s.state.Decisions.Decide(decided...)
	return s.save()
}

// UndoDecision takes the last decision back; ok is false where there is none.
func (s *Session) UndoDecision() (d settle.Decision, ok bool, err error) {
	if d, ok = s.state.Decisions.Undo(); ok {
		err = s.save()
	}
	return d, ok, err
}

// RedoDecision makes the decision again that was taken back last; ok is false where there is none.
func (s *Session) RedoDecision() (d settle.Decision, ok bool, err error) {
	if d, ok = s.state.Decisions.Redo(); ok {
		err = s.save()
	}
	return d, ok, err
}

// MarkRead notes that the content of a file that joined by itself was read.
func (s *Session) MarkRead(path string, content object.ID) error {
	if s.state.Read[path] == content {
		return nil
	}
	read := maps.Clone(s.state.Read)
	if read == nil {
		read = map[string]object.ID{}
	}
	read[path] = content
	s.state.Read = read
	return s.save()
}

// PutAside has a conflict wait for later, with the reason why; with none it waits no more.
func (s *Session) PutAside(key settle.Key, why string) error {
	aside := maps.Clone(s.state.PutAside)
	if aside == nil {
		aside = map[settle.Key]string{}
	}
	if aside[key] = why; why == "" {
		delete(aside, key)
	}
	s.state.PutAside = aside
	return s.save()
}

// AddMend records a mend, made on top of those there are.
func (s *Session) AddMend(m Mend) error {
	s.state.Mends = append(slices.Clip(s.state.Mends), m)
	return s.save()
}

// UndoMend takes the last mend back; ok is false where there is none.
func (s *Session) UndoMend() (m Mend, ok bool, err error) {
	n := len(s.state.Mends)
	if n == 0 {
		return m, false, nil
	}
	m, s.state.Mends = s.state.Mends[n-1], s.state.Mends[:n-1:n-1]
	return m, true, s.save()
}

// LetGo forgets a mend, wherever it belongs, that does not fit any more.
func (s *Session) LetGo(m Mend) error {
	s.state.Mends = slices.DeleteFunc(slices.Clone(s.state.Mends), func(one Mend) bool { return one == m })
	for id, w := range s.state.Wishes {
		if w.Edits == nil {
			continue
		}
		left := slices.DeleteFunc(slices.Clone(w.Edits.List), func(one merge.TextEdit) bool { return Mend(one) == m })
		switch {
		case len(left) == len(w.Edits.List):
			continue
		case len(left) == 0:
			w.Edits = nil
		default:
			w.Edits = &replay.Edits{List: left}
		}
		if err := s.Wish(id, w); err != nil {
			return err
		}
	}
	return s.save()
}

// PublishedError says that a rebase would rewrite commits that others may have.
type PublishedError struct{ Commits []Published }

func (e *PublishedError) Error() string {
	var names []string
	for _, n := range e.Commits {
		names = append(names, n.String())
	}
	names = words.Some(names, 5)
	return "a rebase would give new ids to commits that are on a remote already, and whoever has them would have " +
		"them twice: " + strings.Join(names, ", ") + ". Nothing was changed"
}

// Consent is what the person has agreed to beyond the join itself.
type Consent struct {
	MoveAside        bool // what git does not know and is in the way, brought back by undo
	RewritePublished bool // commits that are on a remote
	LeaveBranches    bool // other branches that a rebase's list moves stay where they are
	WithoutHooks     bool // those that a commit can change and that were not agreed to are left out
}

// MovedError says that the branch is not where the join started from.
type MovedError struct {
	Branch string
	Work   bool   // it is uncommitted work that was changed, and not the branch
	Undo   string // the waypoint that was to be undone
}

func (e *MovedError) Error() string {
	if e.Work {
		return "a file that the change replaces was saved meanwhile; nothing was done. Look again and join anew"
	}
	if e.Undo != "" {
		return fmt.Sprintf("the branch %s is not where that join left it: something was done since. Nothing was "+
			"changed. “dorvik undo %s --since” goes back all the same, and keeps what came since under a waypoint; "+
			"“dorvik undo %[2]s --by-commit” takes back only what that join brought", e.Branch, e.Undo)
	}
	return fmt.Sprintf("the branch %s was changed meanwhile, by you or another program; nothing was done. Look again "+
		"and join anew", e.Branch)
}

// guard tells whether a join could be accepted now: the branch is where it was, and so is the
// uncommitted work that is carried, and none is in the way. It gives how that is laid out; nil
// where none is moved, and what is in the way and holds just what is put there.
func (s *Session) guard(ctx context.Context, p *Position, j *Join, tree object.ID) (l *laid, same []string,
	err error) {
	if err := s.refresh(ctx); err != nil { // files that were only touched are not changed
		return nil, nil, err
	}
	b, dirty, err := s.Repo.Status(ctx)
	if err != nil {
		return nil, nil, err
	}
	if p.Stuck != nil {
		if err := s.stuckStill(b, p.Stuck); err != nil {
			return nil, nil, err
		}
	} else if b.Name != p.Branch.Name || b.Tip != p.Yours || s.Repo.Busy() != "" {
		return nil, nil, &MovedError{Branch: p.Branch.Name}
	}
	now := *p
	now.Dirty, now.hidden = dirty, nil // which is asked anew
	if p.Carried == nil || j.Carried == nil {
		same, err = s.inTheWayOf(ctx, &now, tree)
		return nil, same, err
	}
	u, err := s.uncommitted(ctx, p.Carried.On, dirty)
	if err != nil {
		return nil, nil, err
	}
	from, err := s.Tree(p.Carried.On)
	if err != nil {
		return nil, nil, err
	}
	if u == nil {
		u = &Uncommitted{On: p.Carried.On, Staged: from, Files: from}
	}
	if !u.same(p.Carried) {
		return nil, nil, &MovedError{Branch: p.Branch.Name, Work: true}
	}
	l, err = s.layOut(u, tree, Held{j.Carried.Staged, j.Carried.Files})
	if err != nil {
		return nil, nil, err
	}
	if l == nil && p.Stuck != nil { // git's own state is put away all the same
		l = &laid{&layout{staged: tree, files: tree, start: from}, u, Held{j.Carried.Staged, j.Carried.Files}}
	}
	if l == nil {
		same, err = s.inTheWayOf(ctx, &now, tree)
		return nil, same, err
	}
	same, err = s.inTheWayOf(ctx, &now, l.files, l.paths...)
	return l, same, err
}

// guardAside is guard, which gives what is to be moved aside: with consent, all that git does not
// know; without, what it does not know and is no matter, as just that is put in its place.
func (s *Session) guardAside(ctx context.Context, p *Position, j *Join, tree object.ID,
	consent Consent) (l *laid, aside []string, err error) {
	l, aside, err = s.guard(ctx, p, j, tree)
	var over *OverwriteError
	if consent.MoveAside && errors.As(err, &over) && over.Unknown {
		return l, append(aside, over.Paths...), nil
	}
	return l, aside, err
}

// Published is a commit of yours that is on a remote, and on which branch there.
type Published struct {
	history.Node
	On  string
	Who []string // others who have commits there, and so may have this one
}

// String names the commit and where it is.
func (p Published) String() string {
	return fmt.Sprintf("%s “%s” (on %s)", p.ID.Prefix(12), p.Subject(), p.On)
}

// Published lists the commits that a rebase would give new ids and that are on a remote.
func (w *Workspace) Published(ctx context.Context, j *Join) (out []Published, err error) {
	if j.Route != Rebase {
		return nil, nil
	}
	var nodes []history.Node // oldest first
	var below []object.ID
	among := map[object.ID]bool{}
	for i := range j.Steps {
		n := j.Steps[i].Commit
		nodes, among[n.ID] = append(nodes, n), true
		below = append(below, slices.DeleteFunc(slices.Clone(n.Parents), func(p object.ID) bool { return among[p] })...)
	}
	if len(nodes) == 0 {
		return nil, nil
	}
	unpushed, err := w.Repo.Unpushed(ctx, idsOf(nodes), below)
	if err != nil {
		return nil, err
	}
	on := map[object.ID]string{}
	for _, n := range slices.Backward(nodes) {
		if unpushed[n.ID] {
			continue
		}
		if on[n.ID] == "" {
			if on[n.ID], err = w.Repo.OnRemote(ctx, n.ID); err != nil {
				return nil, err
			}
		}
		for _, p := range n.Parents { // what holds a commit holds those before it
			if on[p] == "" {
				on[p] = on[n.ID]
			}
		}
	}
	for _, n := range nodes {
		if !unpushed[n.ID] && on[n.ID] != "" {
			out = append(out, Published{n, on[n.ID], nil})
		}
	}
	return out, w.mayHave(ctx, out)
}

// mayHave adds who else has commits where published ones are, by the newest of them.
func (w *Workspace) mayHave(ctx context.Context, list []Published) error {
	const newest = 50
	me := ""
	if who, err := w.Repo.Committer(ctx); err == nil {
		me = who.Email
	}
	who := map[string][]string{}
	for i, p := range list {
		if _, ok := who[p.On]; !ok {
			ref := "refs/remotes/" + p.On
			if tag, ok := strings.CutPrefix(p.On, "tag "); ok {
				ref = "refs/tags/" + tag
			}
			tip, err := w.Repo.Resolve(ctx, ref)
			if err != nil {
				return err
			}
			others := slices.DeleteFunc(w.below(tip, newest),
				func(n history.Node) bool { return n.Author().Email == me })
			who[p.On] = Authors(others)
		}
		list[i].Who = who[p.On]
	}
	return nil
}

// FastForward moves the branch forward to theirs, where nothing of yours is in the way.
func (s *Session) FastForward(ctx context.Context, p *Position, consent Consent) (*Waypoint, error) {
	j, err := s.Join(ctx, p, "", &s.state.Decisions, Amends{}, nil)
	if err != nil {
		return nil, err
	}
	if j.Route = Route(FastForward); p.Return != "" {
		j.Route = ""
	}
	b, err := s.Build(ctx, p, j)
	if err != nil {
		return nil, err
	}
	wp, err := s.Accept(ctx, p, j, b, consent)
	if err == nil && !p.Stash.IsZero() {
		s.noted(s.Agree(broughtBack(p.Stash)))
	}
	return wp, err
}

// Accept is the one moment at which things change: the commits go to the
// repository, and branch, index and working tree go to the joined state
// together. It refuses, changing nothing, if the branch or files in the way
// changed meanwhile.
func (s *Session) Accept(ctx context.Context, p *Position, j *Join, b Built, consent Consent) (*Waypoint, error) {
	what, err := s.reflog(p, j, b)
	if err != nil {
		return nil, err
	}
	return s.accept(ctx, p, j, b, consent, what)
}

// reflog is what the reflogs say of a join, in the words that git has for it.
func (s *Session) reflog(p *Position, j *Join, b Built) (string, error) {
	tip, err := s.Store.Commit(b.Tip)
	if err != nil {
		return "", err
	}
	switch {
	case p.Return != "":
		return "reset: moving to " + p.Theirs.String(), nil
	case p.Trivial() == FastForward:
		return "merge " + p.Branch.Upstream + ": Fast-forward", nil
	case j.Route == Rebase:
		onto := p.Theirs
		if p.Resume != nil {
			onto = p.Stuck.Onto
		}
		return "rebase (finish): refs/heads/" + p.Branch.Name + " onto " + onto.String(), nil
	case j.Route == Pick && p.Resume != nil && p.Stuck.Operation == vcs.Reverting:
		return "revert: " + tip.Subject(), nil
	case j.Route == Pick:
		return "cherry-pick: " + tip.Subject(), nil
	case len(j.Stops) > 0 || p.Resume != nil:
		return "commit (merge): " + tip.Subject(), nil
	}
	return "merge " + p.Branch.Upstream + ": Merge made by dorvik.", nil
}

func (s *Session) accept(ctx context.Context, p *Position, j *Join, b Built, consent Consent,
	what string) (*Waypoint, error) {
	tree, err := s.Tree(b.Tip)
	if err != nil {
		return nil, err
	}
	if err := s.guardPublished(ctx, j, consent); err != nil {
		return nil, err
	}
	l, aside, err := s.guardAside(ctx, p, j, tree, consent)
	if err != nil {
		return nil, err
	}
	if err := s.addTip(ctx, b.tips()...); err != nil {
		return nil, err
	}
	from, err := s.Tree(p.Head())
	if err != nil {
		return nil, err
	}
	if len(aside) == 0 && l == nil {
		if err := s.trySwitch(ctx, from, tree); err != nil {
			return nil, err
		}
	}
	if err := s.mayFilter(ctx, p, tree); err != nil {
		return nil, err
	}
	hooks := &hookRun{s: s, ctx: ctx, without: consent.WithoutHooks}
	if b, err = hooks.before(p, j, b); err != nil {
		return nil, err
	}
	made := b
	if b.Tip, err = s.sealed(ctx, b); err != nil {
		return nil, err
	}
	// Signing can take its time: whoever moved something meanwhile is not joined over.
	if l, aside, err = s.guardAside(ctx, p, j, tree, consent); err != nil {
		return nil, err
	}
	wp, err := s.newWaypoint(ctx, p, j, b, tree, aside, consent)
	if err != nil {
		return nil, err
	}
	tr := &Transition{Kind: Accepting, Branch: wp.Branch, From: wp.Before, To: wp.After, Message: what,
		Begun: time.Now()}
	if l != nil {
		if err := s.keepUnder(ctx, wp, tr, l, p.Stuck); err != nil {
			return nil, err
		}
	}
	tr.Waypoint = *wp
	if err := s.make(ctx, tr); err != nil {
		return nil, s.unmade(wp, err)
	}
	hooks.after(p, j, made, wp)
	s.tellSubmodules(ctx, from, tree)
	return wp, nil
}

// unmade notes that a join was not made, unless the next start has to end it, one way or the other.
func (s *Session) unmade(wp *Waypoint, err error) error {
	if cut := (*CutError)(nil); errors.As(err, &cut) {
		return err
	}
	wp.GoneBack = true
	return errors.Join(err, s.store.putWaypoint(wp))
}

// newWaypoint is the waypoint of a join that is accepted now, under a name of its own.
func (s *Session) newWaypoint(ctx context.Context, p *Position, j *Join, b Built, tree object.ID, aside []string,
	consent Consent) (*Waypoint, error) {
	wp := s.waypointOf(p, j, b.Tip, tree)
	wp.Aside = aside
	if !consent.LeaveBranches {
		wp.Moves = s.movesOf(b)
	}
	return wp, s.nameWaypoint(ctx, wp)
}

// tellSubmodules says which submodules the change moved, and that they themselves stand where they were: as
// git does, it leaves them to the person, unless submodule.recurse is set.
func (s *Session) tellSubmodules(ctx context.Context, from, to object.ID) {
	changes, err := s.Store.Changes(from, to)
	if err != nil {
		return // all of it is read already
	}
	var names []string
	for _, c := range changes {
		if c.New.Mode == object.ModeSubmodule && s.Repo.SubmoduleAt(ctx, c.Path) != c.New.ID {
			names = append(names, c.Path)
		}
	}
	if len(names) > 0 {
		s.tell("The submodule %s is at another commit in the joined code than in your working tree: “git submodule "+
			"update --init %s” brings it there.", words.List(words.Some(names, 3)), strings.Join(names, " "))
	}
}

// waypointOf is the waypoint of a join that takes the branch to a tip.
func (s *Session) waypointOf(p *Position, j *Join, tip, tree object.ID) *Waypoint {
	wp := &Waypoint{Branch: p.Branch.Name, Before: p.tip(), After: tip, Theirs: p.Theirs, Route: j.Route,
		Time: time.Now(), Decisions: decidedIn(j, &s.state.Decisions), Mends: j.Mended,
		Made: withoutTexts(s.state.Made), Wishes: p.Wishes, Checked: s.CheckOf(tree), Return: p.Return}
	if p.SettlesOnly() {
		wp.Route = "" // nothing is joined
	}
	if p.Picking && p.Resume == nil {
		wp.Picks, wp.Parent, wp.Counter = s.state.Picks, s.state.PickParent, p.Counter
	}
	return wp
}

// decidedIn are the decisions that a join asked for, and none that are kept of others.
func decidedIn(j *Join, all *settle.Decisions) (out []settle.Decision) {
	asked := map[settle.Key]bool{}
	for _, q := range j.questions() {
		asked[q.Key] = true
	}
	for _, d := range all.List {
		if asked[d.Key] {
			out = append(out, d)
		}
	}
	return out
}

// movesOf are the moves of other branches, to the commits as they were signed.
func (s *Session) movesOf(b Built) (out []Move) {
	for _, m := range b.moves {
		if m.step >= 0 {
			m.to = b.IDs[m.step]
		}
		if m.to = s.Signed(m.to); m.to != m.from && !m.to.IsZero() {
			out = append(out, Move{m.name, m.from, m.to})
		}
	}
	return out
}

// tips are the commits that lead to all that was built.
func (b Built) tips() []object.ID {
	out := []object.ID{b.Tip}
	for _, m := range b.moves {
		if m.step < 0 {
			out = append(out, m.to)
		}
	}
	return out
}

// addTip writes built commits, and what of them the repository has not, to the repository.
func (s *Session) addTip(ctx context.Context, tips ...object.ID) error {
	return s.Repo.AddPack(ctx, func(w io.Writer) (int, error) { return s.Store.WritePack(w, tips...) })
}

// sealed signs the commits where that is wanted, and gives the tip.
func (s *Session) sealed(ctx context.Context, b Built) (object.ID, error) {
	tip, err := s.sign(ctx, b)
	if err == nil {
		err = s.tellApart(ctx, slices.Collect(maps.Values(s.signed)))
	}
	return tip, err
}

// guardPublished refuses to rewrite what is on a remote, unless that was agreed to.
func (s *Session) guardPublished(ctx context.Context, j *Join, consent Consent) error {
	if consent.RewritePublished {
		return nil
	}
	published, err := s.Published(ctx, j)
	if err == nil && len(published) > 0 {
		err = &PublishedError{published}
	}
	return err
}

// nameWaypoint gives a new waypoint the next name whose ref is free. Making the ref takes
// the name: other working trees of the repository, and a logbook that was lost, have names
// of the same row. Another ref holds the new commits until the branch does.
func (s *Session) nameWaypoint(ctx context.Context, wp *Waypoint) error {
	for {
		name, err := s.store.nextName()
		if err != nil {
			return err
		}
		wp.Name = name
		err = s.Repo.UpdateRefs(ctx, "waypoint "+name, vcs.RefUpdate{Name: wp.Ref(), New: wp.Before})
		if taken := (*vcs.RefMovedError)(nil); errors.As(err, &taken) {
			continue
		}
		if err == nil {
			err = s.setRefs(ctx, "waypoint "+name, map[string]object.ID{"refs/dorvik/making/" + s.treeName(): wp.After})
		}
		return err
	}
}

// noted has what could not be kept after a change be said; the change is made all the same.
func (s *Session) noted(err error) {
	if err != nil {
		s.tell("%s The change itself is made.", words.Sentence(err.Error()))
	}
}

// accepted notes that the branch is at a waypoint's other end.
func (s *Session) accepted(wp *Waypoint) {
	if wp.takenOver() {
		s.forgetStuck()
	}
	if wp.Route == "" { // taken back: nothing is joined
		s.state.Accepted, s.state.Stage, s.state.Yours = nil, Look, wp.After
		return
	}
	s.state.Accepted, s.state.Stage, s.state.Yours = wp, Push, wp.After
	if wp.Route == Pick {
		s.state.Picks, s.state.PickParent, s.state.Route = nil, 0, ""
	}
}

// sign makes the commits of a join again with signatures, where the person wants
// commits signed, and gives the new tip. Commits that were there before stay.
func (s *Session) sign(ctx context.Context, b Built) (object.ID, error) {
	wanted, err := s.Repo.SignsCommits(ctx)
	if err != nil || !wanted {
		return b.Tip, err
	}
	ids := b.IDs
	if len(ids) == 0 {
		ids = []object.ID{b.Tip}
	}
	for _, id := range ids { // parents first
		if id.IsZero() || !s.Store.Made(id) {
			continue
		}
		made, err := s.Store.Commit(id)
		if err != nil {
			return b.Tip, err
		}
		c := *made
		c.Parents = nil
		for _, p := range made.Parents {
			c.Parents = append(c.Parents, s.Signed(p))
		}
		signed, err := s.Repo.SignCommit(ctx, &c)
		if err != nil {
			return b.Tip, fmt.Errorf("%w; nothing was changed", err)
		}
		if s.signed == nil {
			s.signed = map[object.ID]object.ID{}
		}
		s.signed[id] = signed
	}
	return s.Signed(b.Tip), nil
}

// Signatures gives, by commits that were made, those that were made of them with a
// signature.
func (s *Session) Signatures() map[object.ID]object.ID { return maps.Clone(s.signed) }

// Signed gives the commit that was made of one with a signature, or itself.
func (s *Session) Signed(id object.ID) object.ID {
	if to, ok := s.signed[id]; ok {
		return to
	}
	return id
}

// refusedPaths are the files that git says it would overwrite, if that is why it failed.
func refusedPaths(err error) (paths []string) {
	var ge *git.Error
	if !errors.As(err, &ge) {
		return nil
	}
	for line := range strings.SplitSeq(ge.Words, "\n") {
		if !strings.Contains(line, "overwritten") && !strings.Contains(line, "uptodate") &&
			!strings.Contains(line, "would lose") {
			continue
		}
		if _, rest, ok := strings.Cut(line, "'"); ok {
			if path, _, ok := strings.Cut(rest, "'"); ok {
				paths = append(paths, path)
			}
		}
	}
	return paths
}

// trySwitch asks git whether the working tree could be switched, and names the
// files if not.
func (s *Session) trySwitch(ctx context.Context, from, to object.ID) error {
	err := s.locking(func() error { return s.Repo.SwitchTree(ctx, from, to, true) })
	if paths := refusedPaths(err); len(paths) > 0 {
		return &OverwriteError{Paths: paths}
	}
	if err != nil {
		return fmt.Errorf("%w. Nothing was changed", err)
	}
	return nil
}

// GoBack takes branch, index and working tree back to a waypoint; an empty
// name is the last join. Uncommitted work is brought along: where it is as the join left it,
// it is as it was before the join; else it is joined. It refuses if the branch moved on since,
// or if that work cannot be joined without a decision.
func (s *Session) GoBack(ctx context.Context, name string) (*Waypoint, error) {
	wp, err := s.store.waypoint(name)
	switch {
	case err != nil:
		return nil, err
	case wp == nil && name != "":
		return nil, fmt.Errorf("there is no waypoint %s", name)
	case wp == nil:
		return nil, &Blocked{"There is nothing to undo:", "Dorvik has joined nothing here that was not undone."}
	}
	dirty, err := s.canGoBack(ctx, wp)
	if err != nil {
		return nil, err
	}
	tr := &Transition{Kind: Undoing, Waypoint: *wp, Branch: wp.Branch, From: wp.After, To: wp.Before,
		Message: "reset: moving to " + wp.Before.String(), Begun: time.Now()}
	if err := s.layBack(ctx, wp, tr, dirty); err != nil {
		return nil, err
	}
	if err := s.make(ctx, tr); err != nil {
		return nil, err
	}
	return &tr.Waypoint, nil
}

// canGoBack refuses where the branch has moved on from a waypoint, or its result was pushed,
// and else gives what is not committed.
func (s *Session) canGoBack(ctx context.Context, wp *Waypoint) ([]vcs.Dirty, error) {
	if err := s.refresh(ctx); err != nil {
		return nil, err
	}
	b, dirty, err := s.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	if b.Name != wp.Branch || b.Tip != wp.After || s.Repo.Busy() != "" {
		return nil, &MovedError{Branch: wp.Branch, Undo: wp.Name}
	}
	if b.Tracking == "" || wp.After == wp.Theirs {
		return dirty, nil
	}
	on, err := s.Repo.OnRemote(ctx, wp.After)
	if err == nil && on != "" {
		err = &Blocked{"This join was pushed, to " + on + ".",
			"Others may build on it by now, and it stays there. “dorvik undo " + wp.Name + " --by-commit” takes it " +
				"back by a new commit; “--since” instead takes your branch back, and leaves the remote as it is."}
	}
	return dirty, err
}

// undone notes that a join was gone back from.
func (s *Session) undone(wp *Waypoint) error {
	wp.GoneBack = true
	s.state.Accepted, s.state.Yours, s.state.Stage = nil, wp.Before, Settle
	if wp.takenOver() {
		s.state.Stage, s.state.Route = Look, ""
	} else if wp.Route == Pick {
		s.state.Branch, s.state.Picks, s.state.PickParent, s.state.Route = wp.Branch, wp.Picks, wp.Parent, Pick
	}
	return errors.Join(s.store.putWaypoint(wp), s.save())
}

// Pushed is how a push went.
type Pushed struct {
	Tip      object.ID
	Holds    object.ID    // what the remote said it holds afterwards
	Refusal  *vcs.Refusal // nil if it was accepted
	Said     []string     // by the hook here, and by the server
	Unsure   bool         // it failed, and the remote did not say whether it holds the tip all the same
	WentBack bool         // the join was undone, to be made again on what is new
}

// PushTip pushes the branch's tip, never forcing, and asks the remote again
// what it holds. If somebody pushed first, the join is undone and the remote
// fetched, so that it can be made again with the decisions kept. What was picked
// stays: it is to be joined with what is new like any other commit of yours.
func (s *Session) PushTip(ctx context.Context, p *Position, consent Consent) (*Pushed, error) {
	if err := s.askToPush(ctx, consent); err != nil {
		return nil, err
	}
	b, _, err := s.Repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	want := p.Yours
	if s.state.Accepted != nil {
		want = s.state.Accepted.After
	}
	if b.Name != p.Branch.Name || b.Tip != want {
		return nil, &MovedError{Branch: p.Branch.Name}
	}
	out := &Pushed{Tip: b.Tip}
	to := b.To()
	gone, err := s.gone(ctx, p, to)
	if err != nil {
		return nil, err
	}
	if gone {
		out.Refusal = &vcs.Refusal{Kind: vcs.Gone, Short: to.Name}
		return out, nil
	}
	out.Said, err = s.Repo.Push(ctx, to.Remote, to.Ref, b.Tip)
	if errors.As(err, &out.Refusal) && ctx.Err() == nil {
		s.confirm(ctx, p, to, out)
		err = nil
	}
	if out.Refusal != nil {
		if a := s.state.Accepted; out.Refusal.Kind == vcs.Behind && a != nil && a.Route != Pick && !a.takenOver() {
			if _, err := s.GoBack(ctx, a.Name); err == nil {
				out.WentBack = true
				s.state.Stage = Look
				return out, s.save()
			}
		}
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	if out.Holds, err = s.Repo.RemoteTip(ctx, to.Remote, to.Ref); err != nil {
		return out, fmt.Errorf("the push was accepted, but then the remote did not answer: %w", err)
	}
	e := LogEntry{What: Sent, When: time.Now(), Branch: b.Name, From: p.Upstream().Theirs, To: b.Tip}
	if a := s.state.Accepted; a != nil {
		e.Waypoint, e.Route = a.Name, a.Route
		s.tellShared(s.share(ctx, to.Remote, a.Decisions))
	}
	s.state = State{Branch: b.Name, LastCheck: s.state.LastCheck, Carry: s.state.Carry}
	s.noted(s.store.log(e))
	return out, s.save()
}

// confirm asks the remote what it holds after a refusal: what was said is one thing, what is so another.
func (s *Session) confirm(ctx context.Context, p *Position, to vcs.Dest, out *Pushed) {
	at, err := s.Repo.RemoteTip(ctx, to.Remote, to.Ref)
	out.Unsure = err != nil
	switch r := out.Refusal; {
	case err != nil:
	case at == out.Tip:
		out.Refusal = nil
	case r.Kind == vcs.Behind && r.Raced() && at == p.Upstream().Theirs && p.Upstream().Branch.To() == to:
		r.Kind = vcs.Busy // nothing is new there: it was the lock
	}
}

// askToPush asks about the hooks that git runs for a push, and says which are left out.
func (s *Session) askToPush(ctx context.Context, consent Consent) error {
	hooks := &hookRun{s: s, ctx: ctx, without: consent.WithoutHooks}
	err := hooks.ask("pre-push", "reference-transaction")
	hooks.tellSkipped()
	return err
}

// gone reports whether a branch of the remote that there was is there no more: a push would make it
// anew, and whoever deleted it would not be asked.
func (s *Session) gone(ctx context.Context, p *Position, to vcs.Dest) (bool, error) {
	agreed := s.makeAnew
	s.makeAnew = false // it was for one push
	known, err := s.Repo.Ref(ctx, to.Tracking)
	if err != nil || known.IsZero() || agreed {
		return false, err
	}
	at, err := s.Repo.RemoteTip(ctx, to.Remote, to.Ref)
	var refused *vcs.Refusal
	if errors.As(err, &refused) {
		return false, nil // the push will say why
	}
	return err == nil && at.IsZero(), err
}

// MakeAnew has the next push make the remote's branch anew, if it is there no more.
func (s *Session) MakeAnew() { s.makeAnew = true }

// CheckCommand gives the check of the joined tree: the one set with
// `git config dorvik.check`, or one found from the project's files. ok is false
// where there is none.
func (w *Workspace) CheckCommand(ctx context.Context, tree object.ID) (c check.Command, ok bool, err error) {
	set, err := w.Repo.Values(ctx, "dorvik.check", false)
	if err != nil {
		return c, false, err
	}
	c.Own = true
	for _, one := range set {
		if one.Value != "" {
			c.Steps, c.Own = append(c.Steps, one.Value), c.Own && one.Own
		}
	}
	if len(c.Steps) > 0 {
		c.Source, c.Configured = "git config dorvik.check", true
		return c, true, nil
	}
	c, ok = check.Find(func(name string) (string, bool) {
		if strings.HasSuffix(name, "/") {
			return w.namesIn(tree, strings.TrimSuffix(name, "/"))
		}
		e, ferr := w.Store.Find(tree, name)
		if ferr != nil || !e.Mode.IsRegular() {
			return "", false
		}
		data, ferr := w.Store.Blob(e.ID)
		return string(data), ferr == nil
	})
	return c, ok, nil
}

// RunCheck runs a command on the joined commit in a checkout of its own and
// records the outcome for its tree. at is where it ran. With a position, what is likeliest to fail of it is run first.
func (s *Session) RunCheck(ctx context.Context, p *Position, c check.Command, tip object.ID, emit func(line string),
	told begun) (r check.Report, at *laidOut, err error) {
	tree, err := s.Tree(tip)
	if err != nil {
		return r, nil, err
	}
	if at, err = s.checkout(ctx, "check", tip, emit); err != nil {
		return r, nil, err
	}
	steps, err := s.stepsFor(ctx, p, at.Dir, c, tree)
	if err != nil {
		return r, at, err
	}
	now := lastRun{tree: tree}
	r, err = s.runSteps(ctx, at.Dir, c, steps, tree, func(l string) {
		if now.output = append(now.output, l); len(now.output) > 2*mostOutput {
			now.output = slices.Clone(now.output[mostOutput:])
		}
		emit(l)
	}, func(steps []check.Step, which int) {
		now.output = nil
		if told != nil {
			told(steps, which)
		}
	})
	if err != nil {
		return r, at, err
	}
	now.steps = r.Steps
	s.last = now
	s.state.Checked = &Checked{Tree: tree, Command: c.Line(), Passed: r.Passed, Took: r.Took}
	if r.Passed || !slices.ContainsFunc(r.Steps, func(one check.Step) bool { return one.First != "" || one.Known }) {
		s.state.LastCheck = r.Took // a part of it tells nothing of how long all takes
	}
	return r, at, s.save()
}

// namesIn lists what is in a folder of a tree, line by line.
func (w *Workspace) namesIn(tree object.ID, dir string) (names string, ok bool) {
	if dir != "." {
		e, err := w.Store.Find(tree, dir)
		if err != nil || !e.IsTree() {
			return "", false
		}
		tree = e.ID
	}
	entries, err := w.Store.Tree(tree)
	for _, e := range entries {
		names += e.Name + "\n"
	}
	return names, err == nil
}

// environment is what checks run in: what builds need, and what dorvik.checkEnv names.
func (s *Session) environment(ctx context.Context) ([]string, error) {
	env, _, err := s.environments(ctx)
	return env, err
}

// environments is environment with the names of variables that are set and not handed on.
func (s *Session) environments(ctx context.Context) (env, left []string, err error) {
	keep, err := s.Repo.Values(ctx, "dorvik.checkEnv", false)
	var names []string
	for _, k := range keep {
		if k.Own { // a repository cannot ask for them
			names = append(names, strings.Fields(k.Value)...)
		}
	}
	// A build may ask git about the folder it is in. That is inside the git directory: were it to find the person's
	// working tree from there, it would lock its index, and leave the lock behind where it is ended.
	env, left = check.Environment(git.CleanEnvironment(), names)
	return append(env, "GIT_OPTIONAL_LOCKS=0", "GIT_CEILING_DIRECTORIES="+filepath.Join(s.Repo.GitDir, "dorvik")), left,
		err
}

// checkout brings a checkout, by its name, to a joined commit, and says to emit in what it is not as the working
// tree is.
func (s *Session) checkout(ctx context.Context, name string, tip object.ID, emit func(string)) (*laidOut, error) {
	tree, err := s.Tree(tip)
	if err != nil {
		return nil, err
	}
	if err := s.Repo.AddPack(ctx, func(w io.Writer) (int, error) { return s.Store.WritePack(w, tip) }); err != nil {
		return nil, err
	}
	keep := "refs/dorvik/" + name
	old, err := s.Repo.Ref(ctx, keep)
	if err != nil {
		return nil, err
	}
	if err := s.Repo.UpdateRefs(ctx, "dorvik: check", vcs.RefUpdate{Name: keep, New: tip, Old: old}); err != nil {
		return nil, err
	}
	co, err := s.Repo.OpenCheckout(ctx, filepath.Join(s.Repo.GitDir, "dorvik", name), tip)
	if err != nil {
		return nil, err
	}
	return s.furnish(ctx, co, tree, emit)
}

// Diagnose finds the places in the joined tree that the output of a check run
// in a folder speaks of.
func (w *Workspace) Diagnose(tree object.ID, output []string, dir string) ([]diagnose.Place, error) {
	files, err := w.Store.Changes(object.ID{}, tree)
	if err != nil {
		return nil, err
	}
	byName := map[string][]string{}
	for _, f := range files {
		base := path.Base(f.Path)
		byName[base] = append(byName[base], f.Path)
	}
	return diagnose.Places(output, dir, func(base string) []string { return byName[base] }), nil
}

// CheckOf gives the recorded outcome of a check of a tree, or nil.
func (s *Session) CheckOf(tree object.ID) *Checked {
	if c := s.state.Checked; c != nil && c.Tree == tree {
		return c
	}
	return nil
}

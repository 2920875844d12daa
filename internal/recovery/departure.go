package recovery

import (
	"context"
	"errors"
	"slices"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rule"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Departure lists what is known before a push.
type Departure struct {
	Commits int               // commits that the push adds
	Left    []plan.LeftOut    // edits that the result lacks
	Marks   []plan.MarkerFile // files with conflict marks, in any pushed commit
	Read    int               // files that were searched for marks
	Asked   time.Time         // time at which the remote was asked
	Moved   bool              // the remote branch moved after the join
	Gone    bool              // the remote branch is gone
	New     bool              // the remote has no such branch yet
	// Exchange is what the remote branch has of the person's own commits in another form; nil if nothing. Has lists the
	// other branches that have them.
	Exchange *plan.Exchange
	Has      []string
	Lacks    []history.Node // commits of the remote branch that the result does not have
	Silent   error          // why the remote did not answer

	Tasks   []string // signs of tasks in the messages of what goes
	NoTask  bool     // dorvik.referenceWanted asks for one, and there is none
	Tags    Tags
	Refused *ledger.Refused // the last refusal of a push to the same place; nil if the last one was accepted
	Aside   bool            // by that refusal the branch takes no push, and no other branch there has the commits yet
	Breaks  []Breach        // what the server asked for before, and commits that go do not have
	Keeps   []rule.Rule     // what it asked for before, and they have

	Unclear *UnclearError // git's settings leave open where the push goes; nil if not

	Touched *change.Touched // files on disk that the join changes

	Others []lookback.Other // authors of commits on their side
	Pull   []string         // sentences about the next pull of others
}

// Mended returns how many of the left-out lines a mend changed.
func (d *Departure) Mended() (n int) {
	for _, l := range d.Left {
		if l.Mend {
			n++
		}
	}
	return n
}

// Departure checks what can be checked before a push. j is nil if nothing was joined.
func (ps *Pusher) Departure(ctx context.Context, p *plan.Position, j *plan.Join, tip object.ID) (*Departure, error) {
	s := ps.s
	d := &Departure{}
	var err error
	if j != nil {
		st := s.Ledger.State()
		if d.Left, err = s.Planner.Accounts.LeftOut(ctx, p, j, &st.Decisions); err != nil {
			return nil, err
		}
		if d.Touched, err = s.WorkTree.Touched(ctx, p, j.Tree); err != nil {
			return nil, err
		}
	}
	if p.Resumes() != nil { // continuing only changes the branch; pushing is separate
		since := p.Yours
		if j.Route == plan.Rebase {
			since = p.Theirs
		}
		if d.Marks, d.Read, err = s.Planner.ConflictMarkers(ctx, since, tip); err != nil {
			return nil, err
		}
		return d, s.Ledger.Reach(ledger.Push)
	}
	if err := ps.addSent(ctx, p, tip, d); err != nil {
		return nil, err
	}
	if err := ps.departureForOthers(ctx, p, j, tip, d); err != nil {
		return nil, err
	}
	up := p.Upstream()
	if d.Lacks, err = history.Only(ctx, s.Planner.Store, up.Theirs, tip); err != nil {
		return nil, err
	}
	if d.Marks, d.Read, err = s.Planner.ConflictMarkers(ctx, up.Theirs, tip); err != nil {
		return nil, err
	}
	d.Unclear = s.Lines.Unclear(ctx, up.Branch)
	if j == nil || p.FromLine() != nil {
		if err := ps.replaces(ctx, p, tip, d); err != nil {
			return nil, err
		}
	}
	d.Refused = s.Ledger.Choices.RefusedAt(p.To().Name)
	if d.Aside, err = ps.goesAside(ctx, p.To().Remote, d.Refused, tip); err != nil {
		return nil, err
	}
	if p.To().Remote == "" {
		return d, s.Ledger.Reach(ledger.Push)
	}
	if err := ps.askAgain(ctx, p, d); err != nil {
		return nil, err
	}
	if p.Trivial() == plan.NotTrivial {
		return d, s.Ledger.Reach(ledger.Push)
	}
	return d, nil
}

// sent lists the commits that a push of a tip adds to the remote, as far as is known here, newest first.
func (ps *Pusher) sent(ctx context.Context, p *plan.Position, tip object.ID) ([]history.Node, error) {
	up := p.Upstream()
	there := []object.ID{up.Theirs}
	if p.BringsIn() { // it is at the repository, and goes as one revision
		there = append(there, p.Theirs)
	}
	if at, ok := up.Kind.(plan.Starting); ok { // everything that the remote has already
		var err error
		if there, err = ps.s.Lines.tipsOf(ctx, at.To.Remote); err != nil {
			return nil, err
		}
	}
	return history.Only(ctx, ps.s.Planner.Store, tip, there...)
}

// addSent adds what a push sends: how many commits, their tasks and tags, and what the server may refuse about them.
func (ps *Pusher) addSent(ctx context.Context, p *plan.Position, tip object.ID, d *Departure) error {
	goes, err := ps.sent(ctx, p, tip)
	if err != nil {
		return err
	}
	d.Commits = len(goes)
	to := p.To().Remote
	tags, err := ps.tagger().of(ctx, p, to, tip, goes)
	if err != nil {
		return err
	}
	d.Tags = *tags
	if d.Breaks, err = ps.rules().broken(ctx, to, goes); err != nil {
		return err
	}
	for _, r := range ps.s.Ledger.State().Rules[to.String()] {
		if !slices.ContainsFunc(d.Breaks, func(b Breach) bool { return b.Rule == r }) {
			d.Keeps = append(d.Keeps, r)
		}
	}
	if d.Tasks, err = ps.tasks(ctx, goes); errors.Is(err, NoTaskError{}) {
		d.NoTask, err = true, nil
	}
	return err
}

// NoTaskError reports a push that must name a task, by dorvik.referenceWanted, and does not.
type NoTaskError struct{}

func (NoTaskError) Error() string {
	return "no commit that goes names a task, and dorvik.referenceWanted asks for one; name it in a message. Nothing " +
		"was pushed"
}

// tasks lists the signs of tasks in the messages of commits. The error is a NoTaskError if there must be one.
func (ps *Pusher) tasks(ctx context.Context, commits []history.Node) (signs []string, err error) {
	refs, err := ps.s.Planner.References(ctx)
	if err != nil {
		return nil, err
	}
	signs = refs.Of(commits)
	if refs.Wanted && len(signs) == 0 && len(commits) > 0 {
		return nil, NoTaskError{}
	}
	return signs, nil
}

// NamesTask returns a NoTaskError if a push of a tip must name a task and does not.
func (ps *Pusher) NamesTask(ctx context.Context, p *plan.Position, tip object.ID) error {
	goes, err := ps.sent(ctx, p, tip)
	if err == nil {
		_, err = ps.tasks(ctx, goes)
	}
	return err
}

// goesAside reports whether a tip has to go to another branch first: by an earlier refusal the branch takes no push,
// and the remote does not have the tip elsewhere.
func (ps *Pusher) goesAside(ctx context.Context, to vcs.Remote, r *ledger.Refused, tip object.ID) (bool, error) {
	if r == nil || !r.Aside() {
		return false, nil
	}
	there, err := ps.s.Lines.tipsOf(ctx, to)
	if err != nil {
		return false, err
	}
	goes, err := history.Only(ctx, ps.s.Planner.Store, tip, there...)
	return len(goes) > 0, err
}

// KnownRefusal describes why the server would refuse a tip, by what it refused before; it is empty if nothing is
// known.
func (ps *Pusher) KnownRefusal(ctx context.Context, p *plan.Position, tip object.ID) (why string, err error) {
	r := ps.s.Ledger.Choices.RefusedAt(p.To().Name)
	if aside, err := ps.goesAside(ctx, p.To().Remote, r, tip); aside || err != nil {
		return "a push to " + p.To().Name + " was refused before: " + r.Why(), err
	}
	goes, err := ps.sent(ctx, p, tip)
	if err != nil {
		return "", err
	}
	broken, err := ps.rules().broken(ctx, p.To().Remote, goes)
	if err != nil || len(broken) == 0 {
		return "", err
	}
	return broken[0].Sentence(), nil
}

// askAgain adds what the remote says of the branch now.
func (ps *Pusher) askAgain(ctx context.Context, p *plan.Position, d *Departure) error {
	up, to := p.Upstream(), p.To()
	at, err := ps.s.Repo.RemoteTip(ctx, to.Remote, to.Ref)
	d.Silent, d.Asked = err, time.Now()
	switch {
	case err != nil:
	case to.Tracking != up.Branch.Tracking: // the branch is new at the remote
		d.Moved, d.New = !at.IsZero(), at.IsZero()
	case at.IsZero():
		d.Gone = true
	default:
		d.Moved = at != up.Theirs
	}
	return ctx.Err()
}

// replaces adds what a push of a commit takes out of the remote branch, if that is the person's own.
func (ps *Pusher) replaces(ctx context.Context, p *plan.Position, tip object.ID, d *Departure) error {
	after, err := ps.after(ctx, p, tip)
	if err != nil {
		return err
	}
	x, err := ps.s.Planner.Exchange(ctx, after)
	if err != nil || x == nil || len(x.Others) > 0 {
		return err
	}
	d.Exchange = x
	names, err := ps.s.Repo.Names(ctx)
	if err != nil {
		return err
	}
	oldest := x.Goes[len(x.Goes)-1].ID
	for _, n := range names {
		if n.Full == p.To().Tracking || n.Full == p.Branch.Full() {
			continue
		}
		missing, err := history.Only(ctx, ps.s.Planner.Store, oldest, n.Commit)
		if err != nil {
			return err
		}
		if len(missing) == 0 {
			d.Has = append(d.Has, n.Name)
		}
	}
	return nil
}

// departureForOthers adds what the push means for others.
func (ps *Pusher) departureForOthers(ctx context.Context, p *plan.Position, j *plan.Join, tip object.ID,
	d *Departure) error {
	s := ps.s
	var rewritten []plan.Published
	var err error
	if j != nil && j.Route == plan.Rebase {
		if rewritten, err = s.Planner.Published(ctx, j); err != nil {
			return err
		}
	}
	d.Pull = lookback.NextPull(s.Repo.Dialect(), p, d.Commits, false, rewritten)
	up := p.Upstream()
	if len(up.Divergence.Theirs) == 0 || p.IsPick() {
		return nil
	}
	c, err := s.Planner.Store.Commit(ctx, tip)
	if err == nil {
		d.Others, err = s.History.Others(ctx, up.Divergence.Theirs, up.Theirs, c.Tree)
	}
	return err
}

package recovery

import (
	"context"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/plan"
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
	Lacks   []history.Node    // commits of the remote branch that the result does not have
	Silent  error             // why the remote did not answer

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
func (s *Session) Departure(ctx context.Context, p *plan.Position, j *plan.Join, tip object.ID) (*Departure, error) {
	d := &Departure{Commits: p.Goes(j)}
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
	if err := s.departureForOthers(ctx, p, j, tip, d); err != nil {
		return nil, err
	}
	up := p.Upstream()
	if d.Marks, d.Read, err = s.Planner.ConflictMarkers(ctx, up.Theirs, tip); err != nil {
		return nil, err
	}
	if err := s.departsWith(ctx, p, tip, d); err != nil {
		return nil, err
	}
	d.Unclear = s.Workspace.Unclear(ctx, up.Branch)
	to := p.To()
	if to.Remote == "" {
		return d, s.Ledger.Reach(ledger.Push)
	}
	at, err := s.Repo.RemoteTip(ctx, to.Remote, to.Ref)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
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
	if p.Trivial() == plan.NotTrivial {
		return d, s.Ledger.Reach(ledger.Push)
	}
	return d, nil
}

// departsWith adds what a push of other commits than yours alone sends, and what the destination has beyond them.
func (s *Session) departsWith(ctx context.Context, p *plan.Position, tip object.ID, d *Departure) (err error) {
	up := p.Upstream()
	if p.IsPick() {
		d.Lacks = up.Divergence.Theirs
	}
	if p.FromLine() == nil {
		return nil
	}
	var there []object.ID
	if at, ok := up.Kind.(plan.Starting); ok { // everything that the remote has already
		if there, err = s.Workspace.tipsOf(ctx, at.To.Remote); err != nil {
			return err
		}
	} else {
		there = append(there, up.Theirs)
		if d.Lacks, err = history.Only(ctx, s.Planner.Store, up.Theirs, tip); err != nil {
			return err
		}
	}
	goes, err := history.Only(ctx, s.Planner.Store, tip, there...)
	d.Commits = len(goes)
	return err
}

// departureForOthers adds what the push means for others.
func (s *Session) departureForOthers(ctx context.Context, p *plan.Position, j *plan.Join, tip object.ID,
	d *Departure) error {
	var rewritten []plan.Published
	var err error
	if j != nil && j.Route == plan.Rebase {
		if rewritten, err = s.Planner.Published(ctx, j); err != nil {
			return err
		}
	}
	d.Pull = lookback.NextPull(p, d.Commits, false, rewritten)
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

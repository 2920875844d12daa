package recovery

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Brief is where one stands, in so few words that a shell prompt can hold it.
type Brief struct {
	Branch   string // empty on none
	Upstream string
	Yours    int       // commits that are not there
	Theirs   int       // commits that are not here, as of the last fetch
	HalfDone string    // what git, or Dorvik, left half done
	Joined   bool      // accepted here, and not pushed
	Known    time.Time // when the remote was last fetched from; zero where that is not known
}

// Brief reads where one stands from what is here. The remote is not asked, the working tree not
// looked at, and nothing written.
func (w *Workspace) Brief(ctx context.Context) (*Brief, error) {
	b, err := w.Repo.Current(ctx)
	if err != nil {
		return nil, err
	}
	out := &Brief{Branch: b.Name, Upstream: b.Upstream, HalfDone: string(w.Repo.Busy())}
	if tr, alive, err := w.WorkTree.HalfDone(); err == nil && tr != nil && !alive {
		out.HalfDone = string(tr.Kind)
	}
	if kept, err := ledger.Peek(w.Repo.Where().Own); err == nil && kept != nil && kept.Accepted != nil {
		out.Joined = kept.Accepted.Branch == b.Name && kept.Accepted.After == b.Tip
	}
	if b.Tracking == "" {
		return out, nil
	}
	out.Known = w.Repo.FetchedAt(ctx, b.Remote, b.Tracking)
	theirs, err := w.Repo.Ref(ctx, b.Tracking)
	if err != nil || theirs.IsZero() || b.Tip.IsZero() {
		return out, err
	}
	d, err := history.Diverge(ctx, w.Planner.Store, b.Tip, theirs)
	if err != nil {
		return nil, err
	}
	out.Yours, out.Theirs = len(d.Yours), len(d.Theirs)
	return out, nil
}

// Collisions are the branches of remotes, but for what your branch follows, that would ask
// something if they were joined with yours: those that ask most come first. more tells how many
// older branches were not looked at.
func (w *Workspace) Collisions(ctx context.Context) (out []lookback.Branching, more int, err error) {
	b, err := w.Repo.Current(ctx)
	if err != nil {
		return nil, 0, err
	}
	more, err = w.History.Branchings(ctx, func(c lookback.Branching) {
		if c.Remote && c.Full != b.Tracking && len(c.Clashes) > 0 {
			out = append(out, c)
		}
	})
	slices.SortStableFunc(out, func(x, y lookback.Branching) int {
		return cmp.Or(y.Asks-x.Asks, len(y.Clashes)-len(x.Clashes), strings.Compare(x.Name, y.Name))
	})
	return out, more, err
}

// Ahead works out what would become of uncommitted work if it were committed now and joined with
// a result: nil where there is none. It is what carrying would do, and nothing is moved.
func (s *Session) Ahead(ctx context.Context, p *plan.Position, tree object.ID,
	decisions *settle.Decisions) (*plan.Carried,
	error) {
	u, err := s.WorkTree.Uncommitted(ctx, p.Yours, p.Dirty)
	if err != nil || u == nil {
		return nil, err
	}
	j := &plan.Join{Tree: tree}
	err = s.Planner.Carry(ctx, j, u, func(r *merge.Result) (merge.Decided, bool, error) {
		return s.Planner.Files.Resolve(ctx, r,
			decisions)
	})
	return j.Carried, err
}

// News is what a remote has that it had not when it was last asked.
type News struct {
	Commits int
	By      []string
	Went    bool // what was there before is there no more
}

// AskQuietly fetches, and tells what is new on what a branch follows; nil where nothing is, or where
// the remote does not answer. Nothing but the copies of the remote's branches is moved.
func (w *Workspace) AskQuietly(ctx context.Context, b vcs.Branch) (*News, error) {
	before, err := w.Repo.Ref(ctx, b.Tracking)
	if err != nil {
		return nil, err
	}
	if err := w.Repo.Fetch(ctx, b.Remote); err != nil {
		return nil, ctx.Err()
	}
	after, err := w.Repo.Ref(ctx, b.Tracking)
	if err != nil || after == before || after.IsZero() {
		return nil, err
	}
	d, err := history.Diverge(ctx, w.Planner.Store, before, after)
	if err != nil {
		return nil, err
	}
	return &News{len(d.Theirs), plan.Authors(d.Theirs), len(d.Yours) > 0}, nil
}

// FetchEvery is how often the remote is asked while the screen is open, as dorvik.fetchEvery says: a
// number of minutes, or a time such as 90s; 0 for never.
func (w *Workspace) FetchEvery(ctx context.Context) (time.Duration, error) {
	return w.Repo.Duration(ctx, "dorvik.fetchEvery")
}

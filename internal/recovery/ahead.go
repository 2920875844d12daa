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
	"dorvik.dev/dorvik/internal/words"
)

// Brief summarises the repository for a shell prompt.
type Brief struct {
	Branch   string // empty if HEAD is detached
	Upstream string
	Yours    int       // commits that the remote lacks
	Theirs   int       // commits that the branch lacks, as of the last fetch
	HalfDone string    // half-done operation of git or Dorvik
	Joined   bool      // joined here, not pushed
	Known    time.Time // time of the last fetch; zero if unknown
}

// Brief reads local data only. It does not contact the remote or examine files.
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

// Collisions returns remote branches that would conflict with yours, most conflicts first. more is the number of older
// branches that were not examined.
func (w *Workspace) Collisions(ctx context.Context) (out []lookback.Branching, more int, err error) {
	b, err := w.Repo.Current(ctx)
	if err != nil {
		return nil, 0, err
	}
	all, more, err := w.History.Branchings(ctx)
	for _, c := range all {
		if c.Line.Remote != "" && c.Line.Tracking != b.Tracking && len(c.Clashes) > 0 {
			out = append(out, c)
		}
	}
	slices.SortStableFunc(out, func(x, y lookback.Branching) int {
		return cmp.Or(y.Asks-x.Asks, len(y.Clashes)-len(x.Clashes), strings.Compare(x.Line.Name, y.Line.Name))
	})
	return out, more, err
}

// Ahead computes the result of carrying uncommitted work into a join. It returns nil if there is none.
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

// News describes new commits on a remote.
type News struct {
	Commits int
	By      []string
	Went    bool       // earlier commits are gone from the remote
	Locks   []vcs.Lock // that others took meanwhile
}

// AskQuietly fetches and returns what is new on the upstream. It returns nil if nothing is new or the remote does not
// answer.
func (w *Workspace) AskQuietly(ctx context.Context, b vcs.Branch) (*News, error) {
	before, err := w.Repo.Ref(ctx, b.Tracking)
	if err != nil {
		return nil, err
	}
	if err := w.Repo.Fetch(ctx, b.Remote); err != nil {
		return nil, ctx.Err()
	}
	locks, err := newLocks(ctx, w.Locks)
	if err != nil {
		return nil, ctx.Err()
	}
	after, err := w.Repo.Ref(ctx, b.Tracking)
	switch {
	case err != nil:
		return nil, err
	case len(locks) > 0 && (after == before || after.IsZero()):
		return &News{Locks: locks}, nil
	case after == before || after.IsZero():
		return nil, nil
	}
	d, err := history.Diverge(ctx, w.Planner.Store, before, after)
	if err != nil {
		return nil, err
	}
	return &News{len(d.Theirs), plan.Authors(d.Theirs), len(d.Yours) > 0, locks}, nil
}

// newLocks asks for locks, and returns those that others took since they were asked for last.
func newLocks(ctx context.Context, held vcs.Locking) (out []vcs.Lock, err error) {
	if held == nil {
		return nil, nil
	}
	was, err := held.Locks(ctx)
	if err != nil {
		return nil, err
	}
	if err := held.Ask(ctx); err != nil {
		return nil, err
	}
	is, err := held.Locks(ctx)
	for _, l := range is {
		if !l.Mine && l.Owner != "" && !slices.ContainsFunc(was, func(o vcs.Lock) bool {
			return o.Path == l.Path && o.Owner == l.Owner
		}) {
			out = append(out, l)
		}
	}
	return out, err
}

// Sentence describes the news of an upstream.
func (n *News) Sentence(now time.Time, upstream string) string {
	var out []string
	if n.Commits > 0 || n.Went {
		out = append(out, upstream+words.If(n.Went, " was rewritten", " moved")+": "+
			words.Count(n.Commits, "new commit", "new commits")+" by "+words.List(words.Some(n.By, 3))+".")
	}
	for i, l := range n.Locks {
		if i == 2 {
			out = append(out, words.Count(len(n.Locks)-i, "other file is locked.", "other files are locked."))
			break
		}
		text, _ := plan.LockSentence(now, l, nil)
		out = append(out, text)
	}
	return strings.Join(out, " ") + " Nothing here was moved."
}

// FetchEvery returns the interval for fetching in the background, from dorvik.fetchEvery. Zero means never.
func (w *Workspace) FetchEvery(ctx context.Context) (time.Duration, error) {
	return w.Repo.Duration(ctx, "dorvik.fetchEvery")
}

package lookback

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Branching is how a branch, the local copy of a remote's branch, or a tag relates to the current branch.
type Branching struct {
	Line vcs.Line
	Last history.Node // its newest commit

	Known time.Time // for a remote's branch: when the remote was last asked; zero if unknown
	// For a branch here with an upstream: the upstream, and the commits that only one of them has.
	Upstream      string
	Ahead, Behind int

	Counted bool // the next four are known
	There   int  // commits of the line that yours lacks
	Here    int  // commits of yours that the line lacks
	By      []string
	Err     error // why it could not be compared

	Joined  bool     // the rest is known
	Same    int      // how many of There have the same change here
	Clashes []string // files with conflicts if the two were joined
	Asks    int      // number of decisions
}

// Most lines that are compared; the newest come first.
const (
	maxBranches = 200
	maxTags     = 30
)

// Lines returns all branches except the current one, and the newest tags if requested, newest first. It compares
// nothing yet. more is the number of older branches that were left out. Where the remote has to be asked for its
// branches and does not answer, err comes with those that are known.
func (h *History) Lines(ctx context.Context, tags bool) (list []Branching, more int, err error) {
	b, err := h.Repo.Current(ctx)
	if err != nil || b.Tip.IsZero() {
		return nil, 0, err
	}
	var unread error
	if by, ok := h.Repo.(vcs.Discovering); ok && tags {
		more, unread = by.Discover(ctx)
	}
	names, err := h.Repo.Names(ctx)
	if err != nil {
		return nil, 0, err
	}
	names = slices.DeleteFunc(names, func(n vcs.Named) bool {
		return n.Full == b.Full() || !tags && strings.HasPrefix(n.Full, "refs/tags/")
	})
	var ids []object.ID
	for _, n := range names {
		ids = append(ids, n.Commit)
	}
	h.Planner.Store.Prefetch(ctx, ids...)
	var tagged []Branching
	for _, n := range names {
		one := Branching{Line: n.Line(), Last: history.Node{ID: n.Commit}}
		if one.Last.Commit, err = h.Planner.Store.Commit(ctx, n.Commit); err != nil {
			return nil, 0, err
		}
		if strings.HasPrefix(n.Full, "refs/tags/") {
			tagged = append(tagged, one)
		} else {
			list = append(list, one)
		}
	}
	newest := func(x, y Branching) int { return cmp.Compare(y.Last.Committer.When, x.Last.Committer.When) }
	slices.SortStableFunc(list, newest)
	slices.SortStableFunc(tagged, newest)
	if len(list) > maxBranches {
		more += len(list) - maxBranches
		list = list[:maxBranches]
	}
	return append(list, tagged[:min(len(tagged), maxTags)]...), more, unread
}

// Compare compares lines with the current branch and passes each to each, with its index, whenever more of it is
// known: first the number of commits of all, then what joining them asks, nearest first.
func (h *History) Compare(ctx context.Context, list []Branching, each func(i int, b Branching)) error {
	b, err := h.Repo.Current(ctx)
	if err != nil {
		return err
	}
	list = slices.Clone(list)
	parted := make([]*history.Divergence, len(list))
	order := make([]int, len(list))
	for i := range list {
		if err := ctx.Err(); err != nil {
			return err
		}
		one := &list[i]
		order[i], one.Counted = i, true
		if parted[i], one.Err = h.Planner.Diverge(ctx, b.Tip, one.Last.ID); one.Err == nil {
			one.There, one.Here, one.By = len(parted[i].Theirs), len(parted[i].Yours), plan.Authors(parted[i].Theirs)
		}
		if one.Line.Remote != "" {
			one.Known = h.Repo.FetchedAt(ctx, one.Line.Remote, one.Line.Tracking)
		} else if one.Err == nil {
			one.Err = h.besideUpstream(ctx, one)
		}
		each(i, *one)
	}
	slices.SortStableFunc(order, func(i, j int) int {
		return cmp.Compare(list[i].There+list[i].Here, list[j].There+list[j].Here)
	})
	for _, i := range order {
		one := &list[i]
		if one.Err == nil {
			one.Err = h.joining(ctx, b.Tip, parted[i], one)
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		one.Joined = one.Err == nil
		each(i, *one)
	}
	return nil
}

// joining adds what joining a line with tip would ask.
func (h *History) joining(ctx context.Context, tip object.ID, parted *history.Divergence, one *Branching) error {
	same, err := h.Planner.Changes.Same(ctx, h.Planner.Engine, parted.Theirs, parted.Yours)
	if err != nil {
		return err
	}
	one.Same = len(same)
	one.Clashes, one.Asks, err = h.Planner.Clashes(ctx, parted, tip, one.Last.ID)
	return err
}

// besideUpstream compares a branch here with its upstream.
func (h *History) besideUpstream(ctx context.Context, one *Branching) error {
	name, ok := strings.CutPrefix(one.Line.Tracking, "refs/heads/")
	if !ok {
		return nil
	}
	b, err := h.Repo.Named(ctx, name)
	if err != nil || b.Tracking == "" {
		return err
	}
	at, err := h.Repo.Ref(ctx, b.Tracking)
	if err != nil || at.IsZero() {
		return err
	}
	d, err := history.Diverge(ctx, h.Planner.Store, one.Last.ID, at)
	if err == nil {
		one.Upstream, one.Ahead, one.Behind = b.Upstream, len(d.Yours), len(d.Theirs)
	}
	return err
}

// Branchings compares all branches with the current one, newest first. more is the number of older ones that were left
// out.
func (h *History) Branchings(ctx context.Context) (list []Branching, more int, err error) {
	list, more, err = h.Lines(ctx, false)
	if err != nil {
		return nil, 0, err
	}
	return list, more, h.Compare(ctx, list, func(i int, b Branching) { list[i] = b })
}

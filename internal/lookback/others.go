package lookback

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Other is a person with commits on their side, and the consequences of a result for them.
type Other struct {
	Name, Email string
	Commits     int
	Files       []ChangedFile // files they changed that differ in the result: theirs before, the result after
	Kept        int           // files they changed that are unchanged in the result
}

// Others returns for each author of commits of theirs what a joined tree changes of their work. tip is theirs.
func (h *History) Others(ctx context.Context, theirs []history.Node, tip, joined object.ID) ([]Other, error) {
	if len(theirs) == 0 {
		return nil, nil
	}
	tree, err := h.Planner.Tree(ctx, tip)
	if err != nil {
		return nil, err
	}
	changes, err := h.Changed(ctx, tree, joined, nil)
	if err != nil {
		return nil, err
	}
	by := map[string]ChangedFile{}
	for _, f := range changes {
		by[f.Path] = f
		if f.From != "" {
			by[f.From] = f
		}
	}
	out, touched, err := h.touched(ctx, theirs)
	if err != nil {
		return nil, err
	}
	for i := range out {
		o := &out[i]
		for path := range touched[o.Email] {
			f, changed := by[path]
			switch {
			case !changed:
				o.Kept++
			case !slices.ContainsFunc(o.Files, func(x ChangedFile) bool { return x.Path == f.Path }):
				o.Files = append(o.Files, f)
			}
		}
		slices.SortFunc(o.Files, func(a, b ChangedFile) int { return cmp.Compare(a.Path, b.Path) })
	}
	return out, nil
}

// touched finds the authors of some commits and the files that each changed, by e-mail address.
func (h *History) touched(ctx context.Context, commits []history.Node) (out []Other, files map[string]map[string]bool,
	err error) {
	files = map[string]map[string]bool{}
	for _, n := range commits {
		who := n.Author()
		i := slices.IndexFunc(out, func(o Other) bool { return o.Email == who.Email })
		if i < 0 {
			i = len(out)
			out = append(out, Other{Name: who.Name, Email: who.Email})
			files[who.Email] = map[string]bool{}
		}
		out[i].Commits++
		if len(n.Parents) > 1 {
			continue // a merge's commits have their own authors
		}
		of := files[who.Email]
		if err := history.EachChange(ctx, h.Planner.Store, n.Commit,
			func(c object.Change) { of[c.Path] = true }); err != nil {
			return nil, nil, err
		}
	}
	return out, files, nil
}

// LastJoin returns the last join made on the branch that the branch still contains, and the position before it, or
// nil.
func (h *History) LastJoin(ctx context.Context, p *plan.Position) (*plan.Position, *ledger.Waypoint, error) {
	points, err := h.waypoints()
	if err != nil {
		return nil, nil, err
	}
	var w *ledger.Waypoint
	for _, one := range points { // oldest first
		if one.Branch == p.Branch.Name && one.By != ledger.Nothing && !one.GoneBack {
			w = one
		}
	}
	if w == nil {
		return nil, nil, nil
	}
	tip, err := h.Repo.Ref(ctx, p.Branch.Full()) // the position may be out of date
	if err != nil || tip.IsZero() {
		return nil, nil, err
	}
	held, err := history.IsAncestor(ctx, h.Planner.Store, w.After, tip)
	if err != nil || !held {
		return nil, nil, err
	}
	was := before(p.Branch, w)
	return was, w, h.Planner.Part(ctx, was)
}

// before returns the position before a join, with the line that was joined. It has no divergence yet.
func before(b vcs.Branch, w *ledger.Waypoint) *plan.Position {
	p := &plan.Position{Branch: b, Yours: w.Before, Theirs: w.Theirs}
	if w.Line != nil {
		p.Kind = &plan.FromLine{Line: *w.Line}
	}
	return p
}

// since returns the commit that what a join made is on top of.
func since(was *plan.Position, w *ledger.Waypoint) object.ID {
	if was.BringsIn() { // the other line is no part of the branch's
		return w.Before
	}
	return w.Theirs
}

// Sides returns the commits of the two lines of the recovery under way or, if there is none, of the last join. Yours
// then includes the commits that the join made.
func (h *History) Sides(ctx context.Context, p *plan.Position) (yours, theirs []history.Node, err error) {
	d := p.Divergence
	was, w, err := h.LastJoin(ctx, p)
	if err != nil || was == nil || len(d.Yours) > 0 && len(d.Theirs) > 0 && p.Yours != w.Before {
		return d.Yours, d.Theirs, err
	}
	yours, err = history.Only(ctx, h.Planner.Store, w.After, since(was, w))
	return yours, was.Divergence.Theirs, err
}

// Received is what a push means for others: the commit they get, and the consequences for each.
type Received struct {
	Tip    object.ID
	Others []Other
	Pull   []string // sentences about what their next pull does
}

// LastReceived returns what the last join made here means for others after the push. It is nil if the branch has none
// or went back before it.
func (h *History) LastReceived(ctx context.Context, p *plan.Position) (*Received, error) {
	was, w, err := h.LastJoin(ctx, p)
	if err != nil || w == nil || w.By.Is(plan.Pick) {
		return nil, err
	}
	tree, err := h.Planner.Tree(ctx, w.After)
	if err != nil {
		return nil, err
	}
	gone, err := history.Only(ctx, h.Planner.Store, w.After, since(was, w))
	if err != nil {
		return nil, err
	}
	r := &Received{Tip: w.After}
	var rewritten []plan.Published
	if w.By.Is(plan.Rebase) {
		if rewritten, err = h.stillOn(ctx, w); err != nil {
			return nil, err
		}
	}
	r.Pull = NextPull(h.Repo.Dialect(), p, len(gone), true, rewritten)
	r.Others, err = h.Others(ctx, was.Divergence.Theirs, w.Theirs, tree)
	return r, err
}

// stillOn finds the commits that a rebase replaced and that a remote still has.
func (h *History) stillOn(ctx context.Context, w *ledger.Waypoint) (out []plan.Published, err error) {
	olds, err := history.Only(ctx, h.Planner.Store, w.Before, w.After)
	if err != nil {
		return nil, err
	}
	for _, n := range olds {
		on, err := h.Repo.OnRemote(ctx, n.ID)
		if err != nil {
			return nil, err
		}
		if on != "" {
			out = append(out, plan.Published{Node: n, On: on, Who: nil})
		}
	}
	return out, nil
}

// NextPull describes what the next pull does for people with the remote's branch and, for those with commits that were
// rewritten, how they recover. commits are the number that the push adds; rewritten are those of them that a remote
// had under other ids. in is the system, in whose words that is.
func NextPull(in vcs.Dialect, p *plan.Position, commits int, pushed bool, rewritten []plan.Published) (
	sentences []string) {
	to := p.To().Name
	sentences = append(sentences, fmt.Sprintf(in.Say("Everyone who has %s as it "+
		words.If(pushed, "was before the push", "is now")+" moves forward by "+
		words.Count(commits, "commit", "commits")+" with their next pull: nothing to join, nothing to decide. Anyone "+
		"who committed meanwhile joins their own work with it, as you did."), to))
	on := map[string][]plan.Published{}
	var branches []string
	for _, r := range rewritten {
		if on[r.On] == nil {
			branches = append(branches, r.On)
		}
		on[r.On] = append(on[r.On], r)
	}
	for _, b := range branches {
		n := len(on[b])
		sentences = append(sentences, fmt.Sprintf("%s of yours %s on %s under another id, and %s there. Whoever "+
			"builds on %s gets both copies when the lines are joined: let them rebase what is theirs onto %s, which "+
			"leaves out what is there already, or make an end of %s.",
			words.Count(n, "commit", "commits"), words.Is(n, "was", "were"), b, words.Is(n, "stays", "stay"), b,
			to, b))
	}
	return sentences
}

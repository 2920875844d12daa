// Package proposal lists the branches that people put forward at a remote, and computes what joining each would ask.
// It knows them from the remote's refs alone, so it works with any host that shows proposals as refs.
package proposal

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/hostapi"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Proposal is a branch that was put forward to be joined into another one.
type Proposal struct {
	Name string
	Line vcs.Line     // its commits: the ref at the remote, and the ref here that holds a copy
	Into vcs.Line     // the branch that it is to be joined into
	From string       // branch of the remote at the same commit, such as berths; empty if there is none
	Own  string       // branch here that is pushed to From, if the person wrote the newest commit; empty if none
	Last history.Node // newest commit
	At   object.ID    // tip of Into at the remote, as of the last fetch

	Check hostapi.CheckState // what the host's check says of it; empty if it tells nothing

	title string
}

// Key identifies what joining a proposal asks: the tips of both lines.
func (p *Proposal) Key() string { return p.At.String() + " " + p.Last.ID.String() }

// Title returns the title that the host tells or, if it tells none, the subject of the newest commit that joins no
// lines.
func (p *Proposal) Title() string { return cmp.Or(p.title, p.Last.Subject()) }

// Forecast is what joining a proposal into its branch asks. It is computed in memory.
type Forecast struct {
	Commits int      `json:"commits"`
	By      []string `json:"by"`                // authors of the commits
	Clashes []string `json:"clashes,omitempty"` // paths with conflicts
	Asks    int      `json:"asks"`              // number of decisions
	Misfits []string `json:"misfits,omitempty"` // one sentence each
	Forward bool     `json:"forward,omitempty"` // the branch only has to move forward to it
	Err     string   `json:"error,omitempty"`   // why it cannot be joined, or was not computed
	Unsure  bool     `json:"unsure,omitempty"`  // the search for misfits failed
}

// Joins reports whether the proposal joins by itself.
func (f *Forecast) Joins() bool { return f.Err == "" && f.Asks == 0 }

// Listed is what a remote shows.
type Listed struct {
	Remote    vcs.Remote
	Proposals []Proposal // in the order in which they came, as their names or their commits' dates tell
	In        int        // number of others that are in their branch already
	More      int        // number of older ones that were not examined
	Unknown   []string   // names of those whose branch is not at the remote
}

// Board reads the proposals of a repository's remotes.
type Board struct {
	Repo    vcs.System
	Planner *plan.Planner
	cache   *cache
	me      string // e-mail address of the person at the keyboard, as of the last List; empty if unknown
}

// New returns the board of a repository.
func New(repo vcs.System, planner *plan.Planner) *Board {
	return &Board{Repo: repo, Planner: planner, cache: newCache(repo.Where().Own)}
}

// most limits how many proposals are examined; the newest are.
const most = 200

// Pattern returns the pattern of refs that dorvik.proposals names, or the usual one.
func (b *Board) Pattern(ctx context.Context) (Pattern, error) {
	said, err := b.Repo.Config(ctx, "dorvik.proposals")
	if err != nil {
		return Pattern{}, err
	}
	return ParsePattern(cmp.Or(said, Usual))
}

// Remote returns the remote whose proposals are meant if none is named: that of dorvik.proposalsAt, of the branch's
// upstream, or the first one. The error is a *plan.Blocked if there is no remote.
func (b *Board) Remote(ctx context.Context) (vcs.Remote, error) {
	said, err := b.Repo.Config(ctx, "dorvik.proposalsAt")
	if err != nil || said != "" {
		return vcs.Remote(said), err
	}
	if !b.Repo.Dialect().FreeRefs {
		return "", &plan.Blocked{What: "Remotes of Mercurial have branches and bookmarks only: there are no proposals.",
			Next: "Join a line with c, or “dorvik recover --from LINE”. Nothing was changed."}
	}
	if here, err := b.Repo.Current(ctx); err == nil && here.Remote != "" && here.Remote != "." {
		return here.Remote, nil
	}
	remotes, err := b.Repo.Remotes(ctx)
	if err != nil {
		return "", err
	}
	if len(remotes) == 0 {
		return "", &plan.Blocked{What: "This repository has no remote, so nobody can put anything forward to it.",
			Next: "Add one with " + b.Repo.Dialect().AddRemote + "."}
	}
	return remotes[0], nil
}

// List asks a remote for its proposals and fetches those that are not here yet. It costs one fetch of the remote, one
// question for refs, and one fetch if any proposal is new. A remote that does not answer is a *vcs.Refusal.
func (b *Board) List(ctx context.Context, remote vcs.Remote) (*Listed, error) {
	pattern, err := b.Pattern(ctx)
	if err != nil {
		return nil, err
	}
	b.me = ""
	if me, err := b.Repo.Committer(ctx); err == nil { // without a name nobody is you
		b.me = me.Email
	}
	if err := b.Repo.Fetch(ctx, remote); err != nil {
		return nil, err
	}
	refs, err := b.Repo.RemoteRefs(ctx, remote, pattern.prefix, hostapi.StateRef)
	if err != nil {
		return nil, err
	}
	out := &Listed{Remote: remote}
	found, err := b.matching(ctx, remote, pattern, refs, out)
	if err != nil {
		return nil, err
	}
	if err := b.fetch(ctx, remote, found, refs); err != nil {
		return nil, err
	}
	shown := map[string]hostapi.Proposal{} // by ref; empty if the host tells nothing
	if state, err := ReadState(ctx, b.Repo, b.Planner.Store, remote); err == nil && !refs[hostapi.StateRef].IsZero() {
		for _, p := range state.Proposals {
			shown[p.Ref] = p
		}
	}
	names, err := b.Repo.Names(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range found {
		if err := b.complete(ctx, &p, refs[p.Line.Ref], names); err != nil {
			return nil, err
		}
		if at, told := shown[p.Line.Ref]; told && at.Tip == p.Last.ID.String() {
			p.title, p.Check = cmp.Or(words.OneLine(at.Title), p.title), at.Check.State
		}
		in, err := history.IsAncestor(ctx, b.Planner.Store, p.Last.ID, p.At)
		switch {
		case err != nil:
			return nil, err
		case in:
			out.In++
		default:
			out.Proposals = append(out.Proposals, p)
		}
	}
	slices.SortStableFunc(out.Proposals, func(x, y Proposal) int {
		return cmp.Or(byNumber(x.Name, y.Name), cmp.Compare(x.Last.Committer.When, y.Last.Committer.When))
	})
	return out, nil
}

// matching returns the newest of the refs that are proposals into a branch of the remote.
func (b *Board) matching(ctx context.Context, remote vcs.Remote, pattern Pattern, refs map[string]object.ID,
	out *Listed) (found []Proposal, err error) {
	usual := ""
	for _, ref := range slices.Sorted(maps.Keys(refs)) {
		name, into, ok := pattern.Match(ref)
		if !ok {
			continue
		}
		if into == "" && usual == "" {
			head, err := b.Repo.RemoteHead(ctx, remote)
			if err != nil {
				return nil, err
			}
			usual = strings.TrimPrefix(head, "refs/heads/")
		}
		into = "refs/heads/" + cmp.Or(into, usual)
		p := Proposal{Name: name, Line: lineOf(remote, name, ref), Into: vcs.Line{
			Name: remote.String() + "/" + strings.TrimPrefix(into, "refs/heads/"), Remote: remote, Ref: into,
			Tracking: b.Repo.TrackingOf(ctx, remote, into)}}
		if p.At, err = b.Repo.Ref(ctx, p.Into.Tracking); err != nil {
			return nil, err
		}
		if p.At.IsZero() {
			out.Unknown = append(out.Unknown, name)
			continue
		}
		found = append(found, p)
	}
	slices.SortStableFunc(found, func(x, y Proposal) int { return byNumber(x.Name, y.Name) })
	out.More = max(0, len(found)-most)
	return found[out.More:], nil
}

// lineOf returns the commits of a proposal as a line that a branch can be joined with.
func lineOf(remote vcs.Remote, name, ref string) vcs.Line {
	return vcs.Line{Name: "proposal " + name, Remote: remote, Ref: ref,
		Tracking: "refs/dorvik/proposals/" + remote.Key() + "/" + vcs.Remote(strings.TrimPrefix(ref, "refs/")).Key()}
}

// IsLine reports whether a line is a proposal.
func IsLine(l vcs.Line) bool { return strings.HasPrefix(l.Tracking, "refs/dorvik/proposals/") }

// byNumber orders names that are numbers by their value, and all others as equal.
func byNumber(x, y string) int {
	a, err := strconv.ParseUint(x, 10, 64)
	b, err2 := strconv.ParseUint(y, 10, 64)
	if err != nil || err2 != nil {
		return 0
	}
	return cmp.Compare(a, b)
}

// fetch fetches the proposals, and the host's state, whose copies here are not at the remote's commits.
func (b *Board) fetch(ctx context.Context, remote vcs.Remote, list []Proposal, refs map[string]object.ID) error {
	var specs []string
	for _, p := range list {
		at, err := b.Repo.Ref(ctx, p.Line.Tracking)
		if err != nil {
			return err
		}
		if at != refs[p.Line.Ref] {
			specs = append(specs, "+"+p.Line.Ref+":"+p.Line.Tracking)
		}
	}
	if shown := refs[hostapi.StateRef]; !shown.IsZero() {
		at, err := b.Repo.Ref(ctx, stateHere(remote))
		if err != nil {
			return err
		}
		if at != shown {
			specs = append(specs, stateSpec(remote))
		}
	}
	if len(specs) == 0 {
		return nil
	}
	return b.Repo.FetchRefs(ctx, remote, specs...)
}

// mostMerges limits how many merges are passed over in search of a title.
const mostMerges = 50

// complete reads the newest commit of a proposal and finds the branch that it comes from. The proposal may have been
// rewritten since the remote was asked for its refs, so the copy here counts.
func (b *Board) complete(ctx context.Context, p *Proposal, seen object.ID, names []vcs.Named) error {
	at, err := b.Repo.Ref(ctx, p.Line.Tracking)
	if err != nil {
		return err
	}
	if p.Last.ID = at; at.IsZero() {
		p.Last.ID = seen
	}
	if p.Last.Commit, err = b.Planner.Store.Commit(ctx, p.Last.ID); err != nil {
		return fmt.Errorf("reading proposal %s: %w", p.Name, err)
	}
	of := p.Last
	for range mostMerges {
		if len(of.Parents) < 2 {
			break
		}
		of.ID = of.Parents[0]
		if of.Commit, err = b.Planner.Store.Commit(ctx, of.ID); err != nil {
			return fmt.Errorf("reading proposal %s: %w", p.Name, err)
		}
	}
	p.title = of.Subject()
	for _, n := range names {
		if n.Remote == p.Line.Remote && n.Commit == p.Last.ID && n.Ref != p.Into.Ref {
			p.From = strings.TrimPrefix(n.Ref, "refs/heads/")
		}
	}
	p.Own, err = b.own(ctx, p, names)
	return err
}

// own returns the branch here that is pushed to the proposal's, if the person wrote the newest commit.
func (b *Board) own(ctx context.Context, p *Proposal, names []vcs.Named) (string, error) {
	if p.From == "" || b.me == "" || p.Last.Author().Email != b.me {
		return "", nil
	}
	for _, n := range names {
		name, here := strings.CutPrefix(n.Full, "refs/heads/")
		if !here {
			continue
		}
		one, err := b.Repo.Named(ctx, name)
		if err != nil {
			return "", err
		}
		if to := one.To(); to.Remote == p.Line.Remote && to.Ref == "refs/heads/"+p.From {
			return name, nil
		}
	}
	return "", nil
}

// Questions returns the conflicts of a proposal with the commits that meet there.
func (b *Board) Questions(ctx context.Context, p *Proposal) ([]plan.Attributed, error) {
	pos, err := b.position(ctx, p, p.At)
	if err != nil || pos.Trivial() != plan.NotTrivial {
		return nil, err
	}
	j, err := b.Planner.Join(ctx, pos, plan.Merge, &settle.Decisions{}, plan.Amends{}, nil)
	if err != nil || j.Refused != nil {
		return nil, err
	}
	return b.Planner.Attribute(ctx, pos, j, &settle.Decisions{})
}

// position returns the position of a proposal relative to a commit of the branch that it is to be joined into.
func (b *Board) position(ctx context.Context, p *Proposal, at object.ID) (*plan.Position, error) {
	pos := &plan.Position{Branch: vcs.Branch{Name: p.Into.Branch()}, Yours: at,
		Theirs: p.Last.ID, Kind: &plan.FromLine{Line: p.Line}}
	return pos, b.Planner.Part(ctx, pos)
}

// Forecast computes what joining each of the proposals asks, and passes each outcome with its index. Outcomes are kept
// by the tips of both lines, so a proposal is computed once. It ends early if ctx is cancelled.
func (b *Board) Forecast(ctx context.Context, list []Proposal, each func(i int, f Forecast)) error {
	defer b.cache.save()
	for i := range list {
		f, ok := b.cache.get(list[i].Key())
		if !ok {
			var err error
			if f, err = b.workOut(ctx, &list[i]); ctx.Err() != nil {
				return ctx.Err()
			}
			if err != nil {
				f = Forecast{Err: err.Error()}
			} else if !f.Unsure {
				b.cache.put(list[i].Key(), f)
			}
		}
		each(i, f)
	}
	return nil
}

// workOut computes one forecast.
func (b *Board) workOut(ctx context.Context, p *Proposal) (f Forecast, err error) {
	b.Planner.Extras.Begin()
	pos, err := b.position(ctx, p, p.At)
	if err != nil {
		return f, err
	}
	f.Commits = len(pos.Divergence.Theirs)
	for _, n := range pos.Divergence.Theirs {
		if who := b.name(n); !slices.Contains(f.By, who) {
			f.By = append(f.By, who)
		}
	}
	if f.Forward = pos.Trivial() == plan.FastForward; pos.Trivial() != plan.NotTrivial {
		return f, nil
	}
	j, err := b.Planner.Join(ctx, pos, plan.Merge, &settle.Decisions{}, plan.Amends{}, nil)
	if err != nil {
		return f, err
	}
	if j.Refused != nil {
		return f, j.Refused
	}
	f.Asks = j.Open
	for _, s := range j.Stops {
		for _, file := range s.Files {
			f.Clashes = append(f.Clashes, file.Path)
		}
	}
	failed := len(b.Planner.Extras.NotLookedAt())
	misfits, err := b.Planner.Foresight.Misfits(ctx, pos, j)
	for _, m := range misfits {
		f.Misfits = append(f.Misfits, b.Sentence(&m)+".")
	}
	f.Unsure = len(b.Planner.Extras.NotLookedAt()) > failed
	return f, err
}

// name returns the author of a commit, or "you".
func (b *Board) name(n history.Node) string {
	switch {
	case n.Commit == nil:
		return "somebody"
	case b.me != "" && n.Author().Email == b.me:
		return "you"
	}
	return n.Author().Name
}

// Sentence describes a misfit, without its full stop, by the names of those who made the two edits.
func (b *Board) Sentence(m *plan.Misfit) string {
	return words.Misfit(m.Misfit, b.name(m.ChangedIn), b.name(m.UsedIn))
}

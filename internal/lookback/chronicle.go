package lookback

import (
	"context"
	"errors"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Where is where a commit stands from the person's view. Its text is its name in `history --json`.
type Where string

// What a commit can be.
const (
	OnRemote   Where = "remote"      // the remote has it
	OnlyHere   Where = "yours"       // yours, not pushed
	Replayed   Where = "replayed"    // yours, not pushed, replayed by a rebase
	LeftBehind Where = "left-behind" // left behind by a rebase; a waypoint keeps it
	PickedFrom Where = "picked"      // yours, not pushed, picked from another line
)

// Entry is a commit of a history.
type Entry struct {
	history.Row
	*object.Commit
	Where  Where
	Was    object.ID        // the commit it was replayed or picked from
	There  history.Node     // the other side's commit with the same change; a zero id if none is known
	Names  []vcs.Named      // branches and tags at the commit
	Keeper *ledger.Waypoint // waypoint that keeps a commit that was left behind
	Apart  bool             // in a compared line and not in yours
	Here   bool             // in yours and not in a compared line
	New    bool             // in the upstream and not in the branch
	Parted bool             // the last common commit of the lines
	Alone  bool             // the repository has no remote
	Of     Side             // its side in the last recovery here
}

// Bookmark is a place of a history to jump to.
type Bookmark struct {
	Commit object.ID
	Words  string
}

// Chronicle is a history that is read on demand. It is not safe for concurrent use.
type Chronicle struct {
	Bookmarks []Bookmark
	Tips      []object.ID
	Untold    error // why Dorvik's own records could not be read; nil if they were

	w     *History
	log   *history.Log
	lanes *history.Lanes
	names map[object.ID][]vcs.Named

	own      bool // the history is the branch's own
	nowhere  bool // there is no remote-tracking branch
	unpushed map[object.ID]bool
	new      map[object.ID]bool // commits that only the upstream has
	parted   map[object.ID]bool
	behind   map[object.ID]*ledger.Waypoint
	apart    map[object.ID]bool
	here     map[object.ID]bool
	was      map[object.ID]made
	of       map[object.ID]Side // sides in the last recovery
	there    map[object.ID]history.Node
	pairs    [][2][]history.Node // pairs of lines whose changes are compared
}

// made is what a commit was made of, and how.
type made struct {
	of  object.ID
	how Where
}

// Graph returns the repository's commit-graph, or nil. It reads it once.
func (h *History) Graph(ctx context.Context) *history.Graph {
	h.graphOnce.Do(func() {
		files := h.Repo.GraphFiles(ctx)
		if len(files) == 0 {
			return
		}
		if g, err := history.ParseGraph(h.Planner.Store.Format(), files...); err == nil {
			h.graph = g // a damaged graph file counts as none
		}
	})
	return h.graph
}

// lastWaypoints is the number of recent joins that a history shows.
const lastWaypoints = 8

// Chronicle begins a history of some revisions. Without any it is that of the branch, with the commits of its upstream
// and those that a rebase by Dorvik left behind. A revision on another line is compared with the branch: commits that
// the branch lacks are Apart.
func (h *History) Chronicle(ctx context.Context, revs ...string) (*Chronicle, error) {
	c := &Chronicle{w: h, own: len(revs) == 0, lanes: history.NewLanes(), names: map[object.ID][]vcs.Named{},
		unpushed: map[object.ID]bool{}, new: map[object.ID]bool{}, parted: map[object.ID]bool{},
		behind: map[object.ID]*ledger.Waypoint{}, apart: map[object.ID]bool{}, here: map[object.ID]bool{},
		was: map[object.ID]made{}, of: map[object.ID]Side{}, there: map[object.ID]history.Node{}}
	b, err := h.Repo.Current(ctx)
	if err != nil {
		return nil, err
	}
	if b.Tip.IsZero() && len(revs) == 0 {
		return nil, &plan.Blocked{What: "The branch " + b.Name + " has no commit yet.",
			Next: "There is no history to show."}
	}
	names, err := h.Repo.Names(ctx)
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		c.names[n.Commit] = append(c.names[n.Commit], n)
	}
	if err := c.remote(ctx, b, names); err != nil {
		return nil, err
	}
	if !b.Tip.IsZero() {
		points, err := h.waypoints()
		c.Untold = err
		if err := c.joins(ctx, b, points); err != nil {
			return nil, err
		}
	}
	if err := c.begin(ctx, b, revs); err != nil {
		return nil, err
	}
	c.log, err = history.NewLog(ctx, h.Planner.Store, h.Graph(ctx), c.Tips...)
	return c, err
}

// begin finds the commits that the history starts from.
func (c *Chronicle) begin(ctx context.Context, b vcs.Branch, revs []string) error {
	add := func(id object.ID) {
		if !id.IsZero() && !slices.Contains(c.Tips, id) {
			c.Tips = append(c.Tips, id)
		}
	}
	if len(revs) > 0 {
		for _, rev := range revs {
			id, err := c.w.Repo.Resolve(ctx, rev)
			if err != nil {
				return err
			}
			add(id)
			if !b.Tip.IsZero() {
				if err := c.compare(ctx, b.Tip, id); err != nil {
					return err
				}
			}
		}
		return nil
	}
	add(b.Tip)
	if b.Tracking != "" {
		up, err := c.w.Repo.Ref(ctx, b.Tracking)
		if err != nil {
			return err
		}
		add(up)
	}
	for id, w := range c.behind {
		if id == w.Before {
			add(id)
		}
	}
	slices.SortFunc(c.Tips[1:], func(x, y object.ID) int { return strings.Compare(x.String(), y.String()) })
	return nil
}

// remote finds which commits of the branch the remote lacks.
func (c *Chronicle) remote(ctx context.Context, b vcs.Branch, names []vcs.Named) error {
	if b.Tip.IsZero() {
		return nil
	}
	var remotes []object.ID
	for _, n := range names {
		if n.Full == b.Tracking || b.Tracking == "" && strings.HasPrefix(n.Full, "refs/remotes/") {
			remotes = append(remotes, n.Commit)
		}
	}
	if c.nowhere = len(remotes) == 0; c.nowhere {
		return nil
	}
	if len(remotes) > 1 {
		only, err := history.Only(ctx, c.w.Planner.Store, b.Tip, remotes...)
		c.pushed(only)
		return err
	}
	parted, err := history.Diverge(ctx, c.w.Planner.Store, b.Tip, remotes[0])
	if err != nil {
		return err
	}
	c.pushed(parted.Yours)
	for _, n := range parted.Theirs {
		c.new[n.ID] = true
	}
	c.partAt(parted)
	c.pair(parted)
	return nil
}

// pair schedules the comparison of the changes of two lines.
func (c *Chronicle) pair(d *history.Divergence) {
	if len(d.Yours) > 0 && len(d.Theirs) > 0 {
		c.pairs = append(c.pairs, [2][]history.Node{d.Yours, d.Theirs})
	}
}

// partAt records where two lines part.
func (c *Chronicle) partAt(d *history.Divergence) {
	if !c.own || len(d.Bases) == 0 || len(d.Yours) == 0 || len(d.Theirs) == 0 || c.parted[d.Bases[0]] {
		return
	}
	c.parted[d.Bases[0]] = true
	c.Bookmarks = append(c.Bookmarks, Bookmark{d.Bases[0], "where the lines part"})
}

// pushed records that the remote has all commits of the branch except some.
func (c *Chronicle) pushed(but []history.Node) {
	for _, n := range but {
		c.unpushed[n.ID] = true
	}
}

// Same finds the commits of the two lines that make the same change; Entry.There has them afterwards. It takes time
// for long lines, so the rest does not wait for it.
func (c *Chronicle) Same(ctx context.Context) error {
	for len(c.pairs) > 0 {
		yours, theirs := c.pairs[0][0], c.pairs[0][1]
		c.pairs = c.pairs[1:]
		same, err := c.w.Planner.Changes.Same(ctx, c.w.Planner.Engine, yours, theirs)
		if err != nil {
			return err
		}
		by := map[object.ID]history.Node{}
		for _, n := range yours {
			by[n.ID] = n
		}
		for id, n := range same {
			c.there[id], c.there[n.ID] = n, by[id]
		}
	}
	return nil
}

// Compared reports whether Same has nothing left to do.
func (c *Chronicle) Compared() bool { return len(c.pairs) == 0 }

// Refresh updates entries with the findings of Same.
func (c *Chronicle) Refresh(entries []Entry) {
	for i := range entries {
		entries[i].There = c.there[entries[i].ID]
	}
}

// compare finds the commits of another line that the branch lacks, and those whose change it has.
func (c *Chronicle) compare(ctx context.Context, mine, other object.ID) error {
	parted, err := c.w.Planner.Diverge(ctx, mine, other)
	if err != nil {
		return err
	}
	for _, n := range parted.Theirs {
		c.apart[n.ID] = true
	}
	for _, n := range parted.Yours {
		c.here[n.ID] = true
	}
	c.own = true // the point where the lines part counts
	c.partAt(parted)
	c.pair(parted)
	return nil
}

// joins reads Dorvik's joins of the branch: which commits were made of which, and which were left behind.
func (c *Chronicle) joins(ctx context.Context, b vcs.Branch, points []*ledger.Waypoint) error {
	told := 0
	for _, p := range slices.Backward(points) {
		if p.Branch != b.Name || p.GoneBack {
			continue
		}
		if told++; told > lastWaypoints {
			break
		}
		parted, err := history.Diverge(ctx, c.w.Planner.Store, p.After, p.Before)
		if errors.Is(err, object.ErrMissing) {
			continue // somebody deleted what the waypoint kept
		}
		if err != nil {
			return err
		}
		if told == 1 && c.own {
			c.Bookmarks = append(c.Bookmarks, Bookmark{p.After, "the last recovery here"})
			if err := c.sides(ctx, b, p); err != nil {
				return err
			}
		}
		how := Replayed
		olds := parted.Theirs
		if p.By.Is(plan.Pick) {
			how = PickedFrom
			for _, id := range p.Picks {
				if commit, err := c.w.Planner.Store.Commit(ctx, id); err == nil {
					olds = append(olds, history.Node{ID: id, Commit: commit})
				}
			}
		}
		c.paired(olds, parted.Yours, how)
		if err := c.left(ctx, b, p, parted.Theirs); err != nil {
			return err
		}
	}
	return nil
}

// sides records the side of each commit in a join.
func (c *Chronicle) sides(ctx context.Context, b vcs.Branch, p *ledger.Waypoint) error {
	if p.By.Is(plan.Pick) {
		return nil
	}
	yours, err := history.Only(ctx, c.w.Planner.Store, p.After, since(before(b, p), p))
	if err != nil {
		return err
	}
	was, err := c.w.Planner.Diverge(ctx, p.Before, p.Theirs)
	if err != nil {
		return err
	}
	for _, n := range yours {
		c.of[n.ID] = SideYours
	}
	for _, n := range was.Theirs {
		c.of[n.ID] = SideTheirs
	}
	c.partAt(was)
	return nil
}

// paired finds which commits were made of which others. A replayed commit keeps author, date and message.
func (c *Chronicle) paired(olds, news []history.Node, how Where) {
	key := func(n history.Node) string { return n.AuthorLine + "\x00" + strings.TrimSpace(n.Message) }
	by := map[string]object.ID{}
	for _, n := range olds {
		by[key(n)] = n.ID
	}
	for _, n := range news {
		if id, ok := by[key(n)]; ok && id != n.ID {
			if _, known := c.was[n.ID]; !known {
				c.was[n.ID] = made{id, how}
			}
		}
	}
}

// left records the commits that a join left behind and that no line contains any longer.
func (c *Chronicle) left(ctx context.Context, b vcs.Branch, p *ledger.Waypoint, olds []history.Node) error {
	if len(olds) == 0 {
		return nil
	}
	if at, err := c.w.Repo.Ref(ctx, p.Ref()); err != nil || at.IsZero() {
		return err
	}
	only, err := history.Only(ctx, c.w.Planner.Store, p.Before, b.Tip)
	if err != nil {
		return err
	}
	for _, n := range only {
		if c.behind[n.ID] == nil {
			c.behind[n.ID] = p
		}
	}
	return nil
}

// More reads at most n more commits. It returns none at the end of the history.
func (c *Chronicle) More(ctx context.Context, n int) ([]Entry, error) {
	listed, err := c.log.Next(ctx, n)
	if err != nil {
		return nil, err
	}
	ids := make([]object.ID, len(listed))
	for i, l := range listed {
		ids[i] = l.ID
	}
	c.w.Planner.Store.Prefetch(ctx, ids...)
	entries := make([]Entry, len(listed))
	for i, row := range c.lanes.Add(listed) {
		e := Entry{Row: row, Where: OnRemote, Names: c.names[row.ID], There: c.there[row.ID],
			Apart: c.apart[row.ID], Here: c.here[row.ID], New: c.new[row.ID], Parted: c.parted[row.ID],
			Alone: c.nowhere, Of: c.of[row.ID]}
		if e.Commit, err = c.w.Planner.Store.Commit(ctx, row.ID); err != nil {
			return nil, err
		}
		m := c.was[row.ID]
		e.Was = m.of
		mine := c.nowhere || c.unpushed[row.ID]
		switch {
		case c.behind[row.ID] != nil && !mine:
			e.Where, e.Keeper = LeftBehind, c.behind[row.ID]
		case mine && m.how != "":
			e.Where = m.how
		case mine:
			e.Where = OnlyHere
		}
		entries[i] = e
	}
	return entries, nil
}

// Cut reports whether the history ends at the boundary of a shallow clone.
func (c *Chronicle) Cut() bool { return c.log.Cut() }

// Side is whose commit it is from the person's view. It has a sign.
type Side uint8

// The sides a commit can be on.
const (
	SideBase Side = iota // both sides have it
	SideYours
	SideTheirs
	SideJoined // a merge of the lines
	SideBehind // on no line any longer
)

// Side returns yours if the remote lacks the commit, theirs if the branch lacks it, and otherwise both.
func (e *Entry) Side() Side {
	switch {
	case e.Where == LeftBehind:
		return SideBehind
	case len(e.Commit.Parents) > 1:
		return SideJoined
	case e.Apart || e.New:
		return SideTheirs
	case e.Here || e.Where != OnRemote && !e.Alone:
		return SideYours
	}
	return e.Of
}

// Sign returns the sign of the side.
func (e *Entry) Sign() string { return [...]string{"○", "◐", "◑", "●", "◌"}[e.Side()] }

// Said returns remarks about a commit, a few words each. short formats an id.
func (e *Entry) Said(short func(object.ID) string) (out []string) {
	if e.Here {
		out = append(out, "in your branch, not there")
	}
	unsent := "yours, not pushed"
	if short(e.ID) == vcs.Unnumbered {
		unsent = "yours, not checked in"
	}
	switch e.Where {
	case OnlyHere:
		if !e.Alone {
			out = append(out, unsent)
		}
	case Replayed:
		out = append(out, unsent+"; replayed from "+short(e.Was))
	case PickedFrom:
		out = append(out, unsent+"; picked from "+short(e.Was))
	case LeftBehind:
		said := "left behind by a rebase; waypoint " + e.Keeper.Name + " keeps it"
		if e.Keeper.By.Is(plan.Pick) {
			said = "left behind; waypoint " + e.Keeper.Name + " keeps it"
		}
		out = append(out, said)
	case OnRemote:
		switch {
		case e.New:
			out = append(out, "not in your branch yet")
		case e.Apart:
			out = append(out, "not in your branch")
		case e.Of == SideYours && len(e.Commit.Parents) < 2:
			out = append(out, "yours, on the remote")
		}
		if !e.Was.IsZero() {
			out = append(out, "was "+short(e.Was))
		}
	}
	if !e.There.ID.IsZero() {
		there := short(e.There.ID)
		if there == vcs.Unnumbered {
			there = "one of yours"
		}
		out = append(out, "same change as "+there)
	}
	if e.Parted {
		out = append(out, "where the lines part")
	}
	return out
}

package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/visible"
	"dorvik.dev/dorvik/internal/words"
)

type sideJSON struct {
	Tip     object.ID `json:"tip"`
	Commits int       `json:"commits"`
}

type commitJSON struct {
	ID      object.ID `json:"commit"`
	Author  string    `json:"author"`
	Email   string    `json:"email"`
	Time    string    `json:"time"`
	Subject string    `json:"subject"`
}

// knownJSON is the age of what is known of the remote.
type knownJSON struct {
	At    string `json:"at"`    // time of the last fetch; empty if unknown
	Asked bool   `json:"asked"` // the remote was asked just now
}

func knownOf(p *plan.Position) (out knownJSON) {
	out.Asked = !p.Asked.IsZero()
	if at := p.Known; !at.IsZero() {
		out.At = at.Format(time.RFC3339)
	}
	return out
}

type lookJSON struct {
	Version       int          `json:"version"`
	Branch        string       `json:"branch"`
	Upstream      string       `json:"upstream"`
	From          string       `json:"from,omitempty"` // line that is joined instead of the upstream
	Fetched       bool         `json:"fetched"`
	Yours         sideJSON     `json:"yours"`
	Theirs        sideJSON     `json:"theirs"`
	YoursCommits  []commitJSON `json:"yours_commits"`
	TheirsCommits []commitJSON `json:"theirs_commits"`
	Bases         []object.ID  `json:"bases"`
	Overlap       []groundJSON `json:"overlap"`
	Uncommitted   []string     `json:"uncommitted"`
	Recovery      *openJSON    `json:"recovery"`
	TakenOut      []commitJSON `json:"taken_out,omitempty"` // commits that were in theirs before it was rewritten
	Known         knownJSON    `json:"known"`
	InTheWay      []string     `json:"in_the_way"`     // uncommitted work that the join would have to change
	HalfDone      string       `json:"half_done"`      // git's half-done operation; Dorvik's own is in halfDone
	Carried       []string     `json:"carried"`        // uncommitted work that --carry would bring along
	Open          []string     `json:"open,omitempty"` // files in conflict, in git's half-done operation

	Notes       []string      `json:"notes,omitempty"` // remarks about the list of git's half-done operation
	Misfits     []misfitJSON  `json:"misfits"`
	NotLookedAt []string      `json:"not_looked_at,omitempty"` // what could not be looked at, as sentences
	Locks       []vcs.Lock    `json:"locks,omitempty"`         // as they were when the remote was asked last
	ToLock      []string      `json:"to_lock,omitempty"`       // changed files that are to be locked before that
	Branches    *[]branchJSON `json:"branches,omitempty"`      // with --branches: most decisions first
}

// branchJSON is a branch that would raise questions if it were joined with yours.
type branchJSON struct {
	Branch    string   `json:"branch"`
	Author    string   `json:"author"`
	Paths     []string `json:"paths"`
	Conflicts int      `json:"conflicts"`
}

// briefJSON is the position as a shell prompt needs it.
type briefJSON struct {
	Version  int    `json:"version"`
	Branch   string `json:"branch"`
	Upstream string `json:"upstream"`
	Yours    int    `json:"yours"`
	Theirs   int    `json:"theirs"`
	HalfDone string `json:"half_done"`
	Joined   bool   `json:"joined"` // joined here and not pushed
	Known    string `json:"known"`
}

// groundJSON is a file that a side changed.
type groundJSON struct {
	Path        string `json:"path"`
	Meeting     string `json:"meeting"`
	YoursLines  int    `json:"yours_lines"`
	TheirsLines int    `json:"theirs_lines"`
	Decide      bool   `json:"decide"`
}

type openJSON struct {
	Stage   string `json:"stage"`
	Route   string `json:"route"`
	Settled int    `json:"decisions"`
}

func commits(nodes []history.Node) []commitJSON {
	out := []commitJSON{}
	for _, n := range nodes {
		a := n.Author()
		out = append(out, commitJSON{n.ID, a.Name, a.Email, a.Time().Format("2006-01-02T15:04:05Z07:00"), n.Subject()})
	}
	return out
}

func lookCommand(e *env) *cobra.Command {
	var noFetch, short, branches, watch bool
	var from string
	cmd := &cobra.Command{
		Use: "look", Short: "Say where you stand: yours, theirs, and where both changed the same files",
		Args: noArgs,
	}
	cmd.Flags().BoolVar(&noFetch, "no-fetch", false, "do not ask the remote first; use what was last fetched")
	cmd.Flags().BoolVar(&short, "short", false, "one line for a shell prompt; nothing is asked, and nothing written")
	fromFlag(cmd, &from)
	cmd.Flags().BoolVar(&branches, "branches", false, "also what would collide with the other pushed branches")
	cmd.Flags().BoolVar(&watch, "watch", false,
		"go on asking, and say what is new: commits, and locks that others take")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if watch && (e.json || short || noFetch) {
			return usage{errors.New("--watch goes on in words, and asks the remote")}
		}
		w, err := e.workspace(cmd.Context())
		if err != nil {
			return err
		}
		defer w.Close()
		if short {
			return e.brief(cmd.Context(), w)
		}
		half, alive, err := w.WorkTree.HalfDone()
		if err != nil {
			return err
		}
		if half != nil {
			return e.halfDone(half, alive)
		}
		v, err := w.Glance(cmd.Context(), !noFetch, from)
		var stuck *plan.StuckError
		if errors.As(err, &stuck) {
			return e.stuck(stuck)
		}
		if err != nil {
			return err
		}
		collide, more, err := collisions(cmd.Context(), w, branches)
		if err != nil {
			return err
		}
		if e.json {
			out := lookOf(v, branches, collide)
			out.NotLookedAt = e.notLookedAt()
			return e.print(out)
		}
		if e.sayLook(v); branches {
			e.sayBranches(collide, more)
		}
		if watch {
			return watchOn(cmd.Context(), e, w, v.Position.Branch)
		}
		return nil
	}
	return e.jsonFlag(cmd)
}

// collisions returns the other branches that would collide, if they are asked for.
func collisions(ctx context.Context, w *recovery.Workspace, asked bool) ([]lookback.Branching, int, error) {
	if !asked {
		return nil, 0, nil
	}
	return w.Collisions(ctx)
}

// usualPause is the time between two questions to the remote where dorvik.fetchEvery says none.
const usualPause = time.Minute

// watchOn asks the remote at intervals, and says what is new, until the command is interrupted.
func watchOn(ctx context.Context, e *env, w *recovery.Workspace, b vcs.Branch) error {
	every, err := w.FetchEvery(ctx)
	if err != nil {
		return err
	}
	every = cmp.Or(every, usualPause)
	e.say("Asking %s every %s. Ctrl+c ends it.", b.Remote, every)
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(every):
		}
		news, err := w.AskQuietly(ctx, b)
		if err != nil {
			return err
		}
		if news != nil {
			e.say("%s  %s", time.Now().Format("15:04"), news.Sentence(time.Now(), b.Upstream))
		}
	}
}

// fromFlag adds the flag for the other side of a join.
func fromFlag(cmd *cobra.Command, from *string) {
	cmd.Flags().StringVar(from, "from", "",
		"join with `LINE` instead of the upstream: a branch, a remote's branch, a tag, or an address (“URL BRANCH”)")
}

// brief prints one line for a shell prompt: the branch, ◐ the number of your commits, ◑ the number of theirs, and
// reminders.
func (e *env) brief(ctx context.Context, w *recovery.Workspace) error {
	b, err := w.Brief(ctx)
	if err != nil {
		return err
	}
	if e.json {
		out := briefJSON{1, b.Branch, b.Upstream, b.Yours, b.Theirs, b.HalfDone, b.Joined, ""}
		if !b.Known.IsZero() {
			out.Known = b.Known.Format(time.RFC3339)
		}
		return e.print(out)
	}
	var parts []string
	add := func(is bool, what string) {
		if is {
			parts = append(parts, what)
		}
	}
	parts = append(parts, words.If(b.Branch == "", "no branch", b.Branch))
	add(b.Yours > 0, fmt.Sprintf("◐%d", b.Yours))
	add(b.Theirs > 0, fmt.Sprintf("◑%d", b.Theirs))
	add(b.HalfDone != "", "▲ "+b.HalfDone+" half done")
	add(b.Joined, "joined, not pushed")
	if old := time.Since(b.Known); b.Upstream != "" && !b.Known.IsZero() && old > 24*time.Hour {
		add(true, "asked "+words.Ago(time.Now(), b.Known))
	}
	_, err = fmt.Fprintln(e.out, visible.Lines(strings.Join(parts, " ")))
	return err
}

// sayBranches reports branches that would collide.
func (e *env) sayBranches(collide []lookback.Branching, more int) {
	if len(collide) == 0 {
		e.say("No other pushed branch would collide with yours.")
	}
	for _, c := range collide {
		e.say("  %s, by %s: %s, in %s", c.Line.Name, words.List(words.Some(c.By, 2)), words.Count(c.Asks, "decision",
			"decisions"), words.List(words.Some(c.Clashes, 3)))
	}
	if more > 0 {
		e.say("%s not compared.", words.Count(more, "older branch was", "older branches were"))
	}
}

// position reports the position. with includes the sentence itself.
func (e *env) position(p *plan.Position, in vcs.Dialect, with bool) {
	if with {
		e.say("%s", p.Standing(false))
	}
	short := func(id object.ID) string { return id.Prefix(12) }
	for _, s := range []string{p.Rewritten(), p.Triangle(), p.OtherHeads(short, in)} {
		if s != "" {
			e.say("%s", s)
		}
	}
}

// sayLook reports the position for people.
func (e *env) sayLook(v *recovery.Glance) {
	p := v.Position
	e.position(p, e.opened.Repo.Dialect(), true)
	e.asked(p)
	for _, o := range v.Overlap {
		if o.Kind != plan.OnlyYours && o.Kind != plan.OnlyTheirs {
			e.say("  %-12s %s", o.Kind, o.Path)
		}
	}
	e.sayMisfits(v.Misfits)
	stopping, others := v.Locks.Sentences(time.Now())
	for _, text := range stopping {
		e.say("▲ %s", text)
	}
	for _, text := range others {
		e.say("%s", text)
	}
	if n := len(p.Dirty); n > 0 {
		stay := words.Is(n, "; joining leaves it as it is.", "; joining leaves them as they are.")
		if v.InTheWay != nil || p.NothingToDo() || p.Trivial() == plan.UpToDate {
			stay = "."
		}
		e.say("%s not committed%s", words.Count(n, "path is", "paths are"), stay)
	}
	if v.InTheWay != nil {
		e.say("Before the join: %v.", v.InTheWay)
	}
	switch kept := v.Kept; {
	case v.InUse:
		e.say("A Dorvik is open in this repository.")
	case kept != nil && len(kept.Picks) > 0:
		e.say("A pick is unfinished here, of %s. Open dorvik to go on, or to drop it.",
			words.Count(len(kept.Picks), "commit", "commits"))
	case kept != nil:
		e.say("A recovery is unfinished here, at %s. Open dorvik to go on.", kept.Stage)
	}
}

// halfDone reports that a change is running or was interrupted. Nothing else can be said until it is complete.
func (e *env) halfDone(tr *change.HalfDone, underWay bool) error {
	text := tr.Sentence(underWay)
	e.say("%s", text)
	if e.json {
		return e.print(map[string]any{"version": 1, "branch": tr.Branch, "half_done": tr.Kind, "from": tr.From,
			"to": tr.To, "text": text, "under_way": underWay})
	}
	return nil
}

// stuck reports a half-done operation of git.
func (e *env) stuck(s *plan.StuckError) error {
	if e.json {
		out := lookJSON{Version: 1, Branch: s.Left.Branch, Upstream: s.On.Upstream, HalfDone: string(s.Left.Operation),
			Yours: sideJSON{Tip: s.Left.Head}, YoursCommits: []commitJSON{}, TheirsCommits: []commitJSON{},
			Bases: []object.ID{}, Overlap: []groundJSON{}, Uncommitted: []string{}, InTheWay: []string{},
			Carried: []string{}, Open: s.Open, Notes: s.Notes, Misfits: []misfitJSON{}}
		for _, d := range s.Dirty {
			out.Uncommitted = append(out.Uncommitted, d.Path)
		}
		return e.print(out)
	}
	e.sayStuck(s.Stuck)
	return nil
}

// sayStuck describes a half-done operation, its list, and the possible next steps.
func (e *env) sayStuck(s *plan.Stuck) {
	e.say("%s", words.Sentence(s.Sentence()))
	for _, n := range s.Notes {
		e.say("▲ %s", n)
	}
	for _, way := range []struct {
		how, does, not string
	}{
		{"finish", "goes on from here", words.If(s.Resume == nil, cmp.Or(s.Why, "Dorvik cannot continue it"), "")},
		{"anew", "joins again, on the side", s.NotAnew()},
		{"back", "takes it back to how it was before it began", s.NotBack()},
	} {
		if way.not == "" {
			e.say("  recover --take-over %-6s  %s", way.how, way.does)
		} else {
			e.say("  not --take-over %-6s      %s", way.how, way.not)
		}
	}
	e.say("Or open dorvik, and choose there. Nothing was changed.")
}

// asked reports the age of what is known if the remote was not asked or did not answer.
func (e *env) asked(p *plan.Position) {
	if p.Unanswered != nil {
		e.remark("%s", words.Sentence(p.Unanswered.Error()))
	} else if p.Asked.IsZero() && p.Asks() != "" {
		e.remark("%s", known(p))
	}
}

// known describes the age of what is known of the remote.
func known(p *plan.Position) string {
	if p.Known.IsZero() {
		return "The remote was not asked, and it is not known when it last was: this may be old."
	}
	return "The remote was not asked: this is what was fetched on " + p.Known.Format("2 Jan 2006 at 15:04") +
		", and may be old."
}

func lookOf(v *recovery.Glance, branches bool, collide []lookback.Branching) lookJSON {
	p := v.Position
	out := lookJSON{
		Version: 1, Branch: p.Branch.Name, Upstream: p.Branch.Upstream, Fetched: !p.Asked.IsZero(),
		Yours: sideJSON{p.Yours, len(p.Divergence.Yours)}, Theirs: sideJSON{p.Theirs, len(p.Divergence.Theirs)},
		YoursCommits: commits(p.Divergence.Yours), TheirsCommits: commits(p.Divergence.Theirs),
		TakenOut: commits(p.TakenOut), Bases: p.Divergence.Bases, Overlap: []groundJSON{}, Uncommitted: []string{},
		InTheWay: []string{}, Carried: []string{}, Misfits: misfitsJSON(v.Misfits),
	}
	for _, g := range v.Overlap {
		out.Overlap = append(out.Overlap, groundJSON{g.Path, string(g.Kind), g.Yours, g.Theirs, g.Decide})
	}
	if p.FromLine() != nil {
		out.From = p.Line().Name
	}
	out.Known = knownOf(p)
	if over := v.InTheWay; over != nil {
		out.InTheWay = over.Paths
	}
	for _, d := range p.Dirty {
		out.Uncommitted = append(out.Uncommitted, d.Path)
		if !d.Untracked {
			out.Carried = append(out.Carried, d.Path)
		}
	}
	if branches {
		list := []branchJSON{}
		for _, c := range collide {
			list = append(list, branchJSON{c.Line.Name, strings.Join(c.By, ", "), c.Clashes, c.Asks})
		}
		out.Branches = &list
	}
	out.Locks, out.ToLock = v.Locks.List, v.Locks.Wanted
	if kept := v.Kept; kept != nil {
		out.Recovery = &openJSON{kept.Stage.String(), string(kept.Route), len(kept.Decisions.List)}
	}
	return out
}

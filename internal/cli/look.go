package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"dorvik/internal/core/history"
	"dorvik/internal/core/object"
	"dorvik/internal/core/settle"
	"dorvik/internal/recovery"
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

type lookJSON struct {
	Version       int          `json:"version"`
	Branch        string       `json:"branch"`
	Upstream      string       `json:"upstream"`
	Fetched       bool         `json:"fetched"`
	Yours         sideJSON     `json:"yours"`
	Theirs        sideJSON     `json:"theirs"`
	YoursCommits  []commitJSON `json:"yours_commits"`
	TheirsCommits []commitJSON `json:"theirs_commits"`
	Bases         []object.ID  `json:"bases"`
	Overlap       []groundJSON `json:"overlap"`
	Uncommitted   []string     `json:"uncommitted"`
	Recovery      *openJSON    `json:"recovery"`
	TakenOut      []commitJSON `json:"taken_out,omitempty"` // once in theirs, which was rewritten
	Known         string       `json:"known"`               // when the remote was last fetched; empty where nobody knows
	InTheWay      []string     `json:"in_the_way"`          // uncommitted work that the join would have to change
	HalfDone      string       `json:"half_done"`           // empty here; see halfDone
}

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

func (e *env) look() *cobra.Command {
	var noFetch bool
	cmd := &cobra.Command{
		Use: "look", Short: "Say where you stand: yours, theirs, and where both touch the same ground",
		Args: noArgs,
	}
	cmd.Flags().BoolVar(&noFetch, "no-fetch", false, "do not ask the remote first; use what was last fetched")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		ctx := cmd.Context()
		w, err := e.workspace(ctx)
		if err != nil {
			return err
		}
		defer w.Close()
		half, alive, err := w.HalfDone()
		if err != nil {
			return err
		}
		if half != nil && !alive {
			return e.halfDone(half)
		}
		p, err := w.Stand(ctx, !noFetch)
		if err != nil {
			return err
		}
		j, err := w.Join(ctx, p, recovery.Merge, &settle.Book{}, nil, nil)
		if err != nil {
			return err
		}
		ground, err := w.Overlaps(p, j)
		if err != nil {
			return err
		}
		kept, err := recovery.Peek(w)
		if err != nil && !errors.Is(err, recovery.ErrInUse) {
			return err
		}
		inUse := errors.Is(err, recovery.ErrInUse)
		var over *recovery.OverwriteError
		if err := w.InTheWay(p, j.Tree); err != nil && !errors.As(err, &over) {
			return err
		}
		if e.json {
			return e.print(lookOf(p, ground, kept, over))
		}
		e.say("%s", Sentence(p))
		if words := p.Rewritten(); words != "" {
			e.say("%s", words)
		}
		if p.Unanswered != nil {
			e.say("The remote did not answer: %v", p.Unanswered)
		}
		if p.Asked.IsZero() {
			e.say("%s", known(p))
		}
		for _, g := range ground {
			if g.Kind != recovery.OnlyYours && g.Kind != recovery.OnlyTheirs {
				e.say("  %-12s %s", g.Kind, g.Path)
			}
		}
		if n := len(p.Dirty); n > 0 {
			if over == nil {
				e.say("%s not committed; joining leaves them as they are.", plural(n, "path is", "paths are"))
			} else {
				e.say("%s not committed.", plural(n, "path is", "paths are"))
			}
		}
		if over != nil {
			e.say("Before the join: %v.", over)
		}
		if inUse {
			e.say("A Dorvik is open in this repository.")
		} else if kept != nil && len(kept.Picks) > 0 {
			e.say("A pick of %s is unfinished here. Open dorvik to go on, or to drop it.", plural(len(kept.Picks), "commit", "commits"))
		} else if kept != nil {
			e.say("A recovery is unfinished here, at %s. Open dorvik to go on.", kept.Stage)
		}
		return nil
	}
	return e.jsonFlag(cmd)
}

// halfDone says that a run was cut off while it changed things: nothing else can be said
// before that is made whole.
func (e *env) halfDone(tr *recovery.Transition) error {
	e.say("%s", tr.Sentence())
	if e.json {
		return e.print(map[string]any{"version": 1, "branch": tr.Branch, "half_done": tr.Kind, "from": tr.From, "to": tr.To, "text": tr.Sentence()})
	}
	return nil
}

// known says how old what is known of the remote is.
func known(p *recovery.Position) string {
	if p.Known.IsZero() {
		return "The remote was not asked, and it is not known when it last was: this may be old."
	}
	return "The remote was not asked: this is what was fetched on " + p.Known.Format("2 Jan 2006 at 15:04") + ", and may be old."
}

func lookOf(p *recovery.Position, ground []recovery.Overlap, kept *recovery.State, over *recovery.OverwriteError) lookJSON {
	out := lookJSON{
		Version: 1, Branch: p.Branch.Name, Upstream: p.Branch.Upstream, Fetched: !p.Asked.IsZero(),
		Yours: sideJSON{p.Yours, len(p.Parted.Yours)}, Theirs: sideJSON{p.Theirs, len(p.Parted.Theirs)},
		YoursCommits: commits(p.Parted.Yours), TheirsCommits: commits(p.Parted.Theirs),
		TakenOut: commits(p.TakenOut), Bases: p.Parted.Bases, Overlap: []groundJSON{}, Uncommitted: []string{}, InTheWay: []string{},
	}
	for _, g := range ground {
		out.Overlap = append(out.Overlap, groundJSON{g.Path, string(g.Kind), g.Yours, g.Theirs, g.Decide})
	}
	if !p.Known.IsZero() {
		out.Known = p.Known.Format("2006-01-02T15:04:05Z07:00")
	}
	if over != nil {
		out.InTheWay = over.Paths
	}
	for _, d := range p.Dirty {
		out.Uncommitted = append(out.Uncommitted, d.Path)
	}
	if kept != nil {
		out.Recovery = &openJSON{kept.Stage.String(), string(kept.Route), len(kept.Book.Decisions)}
	}
	return out
}

// Sentence says in one plain sentence where a position stands.
func Sentence(p *recovery.Position) string {
	yours, theirs := len(p.Parted.Yours), len(p.Parted.Theirs)
	who := strings.Join(recovery.Authors(p.Parted.Theirs), " and ")
	switch {
	case p.Picking:
		return fmt.Sprintf("%s of %s to bring onto %s.", plural(theirs, "commit", "commits"), who, p.Branch.Name)
	case p.NothingToDo():
		return fmt.Sprintf("%s and %s hold the same commits. There is nothing to join and nothing to push.", p.Branch.Name, p.Branch.Upstream)
	case theirs == 0:
		return fmt.Sprintf("%s has nothing new. Your %s can be pushed as they are.", p.Branch.Upstream, plural(yours, "commit", "commits"))
	case yours == 0:
		return fmt.Sprintf("%s pushed %s to %s. You have nothing unpushed, so your branch can simply move forward.", who, plural(theirs, "commit", "commits"), p.Branch.Upstream)
	}
	return fmt.Sprintf("A push is refused as things are: %s pushed %s to %s, and your %s not build on them.",
		who, plural(theirs, "commit", "commits"), p.Branch.Upstream, plural(yours, "commit does", "commits do"))
}

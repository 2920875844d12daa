package cli

import (
	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/recovery"
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
	Known         string       `json:"known"`               // when the remote was last fetched; or empty
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
		Use: "look", Short: "Say where you stand: yours, theirs, and where both changed the same files",
		Args: noArgs,
	}
	cmd.Flags().BoolVar(&noFetch, "no-fetch", false, "do not ask the remote first; use what was last fetched")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		w, err := e.workspace(cmd.Context())
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
		v, err := w.Glance(cmd.Context(), !noFetch)
		if err != nil {
			return err
		}
		if e.json {
			return e.print(lookOf(v))
		}
		e.sayLook(v)
		return nil
	}
	return e.jsonFlag(cmd)
}

// position says where one stands; with is whether to begin with the sentence itself.
func (e *env) position(p *recovery.Position, with bool) {
	if with {
		e.say("%s", p.Standing(false))
	}
	if s := p.Rewritten(); s != "" {
		e.say("%s", s)
	}
}

// sayLook says where one stands, for people.
func (e *env) sayLook(v *recovery.Glance) {
	p := v.Position
	e.position(p, true)
	if p.Unanswered != nil {
		e.say("%s", words.Sentence(p.Unanswered.Error()))
	} else if p.Asked.IsZero() {
		e.say("%s", known(p))
	}
	for _, o := range v.Overlap {
		if o.Kind != recovery.OnlyYours && o.Kind != recovery.OnlyTheirs {
			e.say("  %-12s %s", o.Kind, o.Path)
		}
	}
	if n := len(p.Dirty); n > 0 {
		stay := "; joining leaves them as they are."
		if v.InTheWay != nil {
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
		e.say("A pick of %s is unfinished here. Open dorvik to go on, or to drop it.",
			words.Count(len(kept.Picks), "commit", "commits"))
	case kept != nil:
		e.say("A recovery is unfinished here, at %s. Open dorvik to go on.", kept.Stage)
	}
}

// halfDone says that a run was cut off while it changed things: nothing else can be said
// before that is made whole.
func (e *env) halfDone(tr *recovery.Transition) error {
	e.say("%s", tr.Sentence())
	if e.json {
		return e.print(map[string]any{"version": 1, "branch": tr.Branch, "half_done": tr.Kind, "from": tr.From,
			"to": tr.To, "text": tr.Sentence()})
	}
	return nil
}

// known says how old what is known of the remote is.
func known(p *recovery.Position) string {
	if p.Known.IsZero() {
		return "The remote was not asked, and it is not known when it last was: this may be old."
	}
	return "The remote was not asked: this is what was fetched on " + p.Known.Format("2 Jan 2006 at 15:04") +
		", and may be old."
}

func lookOf(v *recovery.Glance) lookJSON {
	p := v.Position
	out := lookJSON{
		Version: 1, Branch: p.Branch.Name, Upstream: p.Branch.Upstream, Fetched: !p.Asked.IsZero(),
		Yours: sideJSON{p.Yours, len(p.Divergence.Yours)}, Theirs: sideJSON{p.Theirs, len(p.Divergence.Theirs)},
		YoursCommits: commits(p.Divergence.Yours), TheirsCommits: commits(p.Divergence.Theirs),
		TakenOut: commits(p.TakenOut), Bases: p.Divergence.Bases, Overlap: []groundJSON{}, Uncommitted: []string{},
		InTheWay: []string{},
	}
	for _, g := range v.Overlap {
		out.Overlap = append(out.Overlap, groundJSON{g.Path, string(g.Kind), g.Yours, g.Theirs, g.Decide})
	}
	if !p.Known.IsZero() {
		out.Known = p.Known.Format("2006-01-02T15:04:05Z07:00")
	}
	if over := v.InTheWay; over != nil {
		out.InTheWay = over.Paths
	}
	for _, d := range p.Dirty {
		out.Uncommitted = append(out.Uncommitted, d.Path)
	}
	if kept := v.Kept; kept != nil {
		out.Recovery = &openJSON{kept.Stage.String(), string(kept.Route), len(kept.Decisions.List)}
	}
	return out
}

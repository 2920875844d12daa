package tui

import (
	"context"
	"fmt"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/demo"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// teammatesScreen shows the clones of the demo's teammates. Each can pull, and the demo can be played from the other
// side.
type teammatesScreen struct {
	job    *job
	list   list
	pulled map[string]*pulled // by folder of the clone
}

// pulled is the effect of a pull on a teammate's clone.
type pulled struct {
	before, after history.Node
	commits       int
	said          string // message if the pull brought nothing
	files         []pulledFile
}

// pulledFile is a file that a pull changed, with the authors of its lines.
type pulledFile struct {
	path         string
	mine, theirs int
	lines        []plan.Line
}

// openTeammates shows the teammates' clones.
func openTeammates(j *job) tea.Cmd {
	s := &teammatesScreen{job: j, pulled: map[string]*pulled{}}
	s.list.rows = func() int { return len(s.rows()) }
	j.open(s)
	return nil
}

// playAgain leaves and starts the demo again.
func (j *job) playAgain(as demo.Part) tea.Cmd {
	j.played.Again = as
	return j.quit()
}

func (s *teammatesScreen) mates() []demo.Clone { return s.job.played.Scene.Teammates }

// mateRow is a row of the list: a teammate, a file of one who pulled, or the other side.
type mateRow struct {
	mate int // index of the teammate; -1 for the other side
	file *pulledFile
}

func (s *teammatesScreen) rows() (out []mateRow) {
	for i, m := range s.mates() {
		out = append(out, mateRow{i, nil})
		if p := s.pulled[m.Clone]; p != nil {
			for k := range p.files {
				out = append(out, mateRow{i, &p.files[k]})
			}
		}
	}
	return append(out, mateRow{-1, nil})
}

func (s *teammatesScreen) actions() []action {
	at := s.rows()[s.list.row]
	what := "play it"
	switch {
	case at.file != nil:
		what = "read it"
	case at.mate >= 0:
		what = "have " + words.First(s.mates()[at.mate].Name) + " pull"
	}
	out := append([]action{acts(keys.Next, what, s.enterRow)}, s.list.keys("")...)
	return append(out, act(keys.Back, "", quietly(s.job.close)))
}

func (s *teammatesScreen) enterRow() tea.Cmd {
	at := s.rows()[s.list.row]
	switch {
	case at.mate < 0:
		return s.job.playAgain(s.job.played.Part.Other())
	case at.file != nil:
		title := term.Text(term.Plain, " ").Bold(term.Bright, at.file.path).Add(term.Dim,
			"   in "+words.First(s.mates()[at.mate].Name)+
				"'s clone   ").Mark(term.MarkYours).Add(term.Dim, "what you had "+
			" ").Mark(term.MarkTheirs).Add(term.Dim, "what they had")
		s.job.open(newReader(s.job.frame, title, at.file.lines, true))
		return nil
	}
	return s.pull(s.mates()[at.mate])
}

// pull pulls in a teammate's clone by Dorvik's own means.
func (s *teammatesScreen) pull(m demo.Clone) tea.Cmd {
	pos := s.job.pos
	return s.job.startVital("pulling in "+m.Clone, func(ctx context.Context, _ func(int, int)) (then, error) {
		p, err := pullIn(ctx, m.Clone)
		if err != nil {
			return nil, err
		}
		show := func() tea.Cmd {
			s.pulled[m.Clone] = p
			return nil
		}
		if pos == nil || p.said != "" {
			return show, nil
		}
		was, _, err := s.job.s.History.LastJoin(ctx, pos)
		if err == nil && was != nil {
			err = p.read(s.job.s, was)
		}
		return show, err
	})
}

// pullIn fetches in a clone, moves its branch forward, and returns the effect.
func pullIn(ctx context.Context, dir string) (*pulled, error) {
	mate, err := recovery.OpenSession(ctx, dir)
	if err != nil {
		return nil, err
	}
	defer mate.Close()
	v, err := mate.Survey(ctx, true, nil)
	if err != nil {
		return nil, err
	}
	node := func(id object.ID) (history.Node, error) {
		c, err := mate.Planner.Store.Commit(ctx, id)
		return history.Node{ID: id, Commit: c}, err
	}
	out := &pulled{}
	if out.before, err = node(v.Position.Yours); err != nil {
		return nil, err
	}
	out.after = out.before
	if v.Position.Trivial() != plan.FastForward {
		out.said = v.Position.Standing(false).String()
		return out, nil
	}
	if _, err := mate.FastForward(ctx, v.Position, change.Consent{}); err != nil {
		return nil, err
	}
	out.commits = len(v.Position.Divergence.Theirs)
	out.after, err = node(v.Position.Theirs)
	return out, err
}

// read finds the changed files and the authors of their lines. was is the position before the join. It reads here,
// where both lines are.
func (p *pulled) read(s *recovery.Session, was *plan.Position) error {
	changes, err := s.Planner.Store.Changes(context.Background(), p.before.Tree, p.after.Tree)
	if err != nil {
		return err
	}
	for _, c := range changes {
		f := pulledFile{path: c.Path}
		lines, ok, err := s.Planner.Lines(context.Background(), was, p.after.Tree, c.Path)
		if err != nil {
			return err
		}
		if !ok {
			continue
		}
		f.lines = lines
		for _, l := range lines {
			switch l.Origin {
			case plan.LineYours:
				f.mine++
			case plan.LineTheirs:
				f.theirs++
			}
		}
		p.files = append(p.files, f)
	}
	return nil
}

func (s *teammatesScreen) update(msg tea.Msg) tea.Cmd {
	return s.list.update(msg)
}

func (s *teammatesScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	p.Head("THE TEAMMATES", "  their clones are real, in folders beside yours")
	rows := s.list.on(p, w)
	for _, m := range s.mates() {
		rows.page.Blank()
		rows.item(term.Line{}.Mark(term.MarkTheirs).Bold(term.Theirs, m.Name).Add(term.Dim, "   "+m.Clone))
		d := s.pulled[m.Clone]
		if d == nil {
			rows.page.Row(term.Text(term.Dim, "      has not pulled yet"))
			continue
		}
		if d.said != "" {
			rows.page.Rows(term.Indent(term.Wrap(term.Text(term.Plain, d.said), w-8), 6))
			continue
		}
		rows.page.Row(term.Text(term.Dim, "      before  ").Add(term.Base,
			s.job.s.Planner.Short(d.before.ID)+"  ").Add(term.Plain, d.before.Subject()))
		rows.page.Row(term.Text(term.Dim, "      after   ").Add(term.Joined,
			s.job.s.Planner.Short(d.after.ID)+"  ").Add(term.Plain, d.after.Subject()).
			Add(term.Dim, "   moved forward by "+words.Count(d.commits, "commit", "commits")+", nothing to join"))
		for _, f := range d.files {
			l := term.Text(term.Plain, "  "+f.path).Fit(34).Mark(term.MarkYours).Add(term.Plain,
				fmt.Sprintf("%3d of your lines   ",
					f.mine)).
				Mark(term.MarkTheirs).Add(term.Plain, fmt.Sprintf("%3d of theirs", f.theirs))
			rows.item(l)
		}
	}
	rows.page.Blank()
	rows.page.Head("THE OTHER SIDE", "")
	rows.page.Blank()
	rows.item(term.Text(term.Plain, words.If(s.job.played.Part == demo.AsRuna,
		"play it as Ilka, whose push is refused as Runa was faster",
		"play it as Runa again")))
	return rows.window(h)
}

func (s *teammatesScreen) status() term.Line { return term.Text(term.Dim, "the demo") }

func (s *teammatesScreen) remark() term.Line {
	return term.Text(term.Dim,
		"A pull here fetches from the demo's remote and moves the branch forward, in their clone.")
}

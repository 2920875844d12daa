package tui

import (
	"context"
	"fmt"
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/decided"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// commitScreen shows a commit: its message and changes and, for a merge commit, the changes against each side and what
// a person decided.
type commitScreen struct {
	job   *job
	reads besides
	node  history.Node
	entry *lookback.Entry // nil if the commit's role is unknown
	d     *lookback.Details
	side  int  // index of the parent to compare with
	rows  list // rows: decisions, then files

	through []action // goes to the next of several commits; or none
}

// openCommit shows a commit of a history.
func openCommit(j *job, e *lookback.Entry) tea.Cmd {
	return showCommit(j, history.Node{ID: e.ID, Commit: e.Commit}, e)
}

// showCommits shows the first of several commits; the key goes through them.
func showCommits(j *job, by key.Binding, all []history.Node) tea.Cmd {
	cmd := showCommit(j, all[0], nil)
	if s, ok := j.screen().(*commitScreen); ok && len(all) > 1 {
		onward := append(slices.Clone(all[1:]), all[0])
		s.through = []action{{keys.Written(by, by.Keys()[0], fmt.Sprintf("the next of %d", len(all))), func() tea.Cmd {
			s.reads.stop()
			j.close()
			return showCommits(j, by, onward)
		}, false}}
	}
	return cmd
}

func showCommit(j *job, n history.Node, e *lookback.Entry) tea.Cmd {
	s := &commitScreen{job: j, reads: j.newBeside(), node: n, entry: e}
	s.rows.rows = s.count
	j.open(s)
	return s.reads.start(func(ctx context.Context) (then, error) {
		d, err := s.job.s.History.Details(ctx, n.ID, nil)
		if err != nil {
			return func() tea.Cmd { s.job.close(); return s.job.failed(err) }, nil
		}
		ids := []object.ID{n.ID}
		for _, a := range d.Sides {
			if !a.Parent.ID.IsZero() {
				ids = append(ids, a.Parent.ID)
			}
		}
		if err := s.job.s.Planner.TellApart(ctx, ids); err != nil {
			return nil, err
		}
		return func() tea.Cmd { s.d = d; return nil }, nil
	})
}

func (s *commitScreen) decisions() []decided.Decision {
	if s.d == nil || s.d.Decided == nil {
		return nil
	}
	return s.d.Decided.Decisions
}

func (s *commitScreen) files() []lookback.ChangedFile {
	if s.d == nil {
		return nil
	}
	return s.d.Sides[s.side].Files
}

func (s *commitScreen) count() int { return len(s.decisions()) + len(s.files()) }

// file returns the marked file, or nil on a decision.
func (s *commitScreen) file() *lookback.ChangedFile {
	if i := s.rows.row - len(s.decisions()); i >= 0 && i < len(s.files()) {
		return &s.files()[i]
	}
	return nil
}

func (s *commitScreen) actions() []action {
	var out []action
	if s.count() > 0 {
		what := "read the change"
		if s.file() == nil {
			what = "read the decision"
		}
		out = append(out, act(keys.Next, what, s.enterRow))
	}
	out = append(append(out, s.through...), s.rows.keys("file")...)
	if f := s.file(); f != nil && f.Text && !f.New.Absent() {
		path := f.Path
		out = append(out, act(keys.Annotate, "who wrote its lines", func() tea.Cmd {
			return openAnnotate(s.job, s.node.ID, path)
		}))
	}
	if s.d != nil && len(s.d.Sides) > 1 {
		turn := func(by int) func() tea.Cmd {
			return quietly(func() {
				s.side = (s.side + by + len(s.d.Sides)) % len(s.d.Sides)
				s.rows.to(s.rows.row)
			})
		}
		out = append(out, act(keys.Left, "against the other side", turn(-1)), also(keys.Right, turn(1)))
	}
	return append(out, act(keys.Back, "", quietly(func() { s.reads.stop(); s.job.close() })))
}

func (s *commitScreen) enterRow() tea.Cmd {
	if f := s.file(); f != nil {
		path := f.Path
		return openChange(s.job, *f, s.node.Subject(), func() tea.Cmd { return openAnnotate(s.job, s.node.ID, path) })
	}
	s.job.open(newDecision(s.job.frame, s.decisions()[s.rows.row]))
	return nil
}

func (s *commitScreen) update(msg tea.Msg) tea.Cmd {
	s.rows.update(msg)
	if _, ok := msg.(clickedRow); ok {
		return s.enterRow()
	}
	return nil
}

func (s *commitScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	sign := term.MarkBase
	if s.entry != nil {
		sign = signOf(s.entry)
	}
	p.Row(term.Text(term.Plain, " ").Mark(sign).Add(sign.Hue, s.job.s.Planner.Short(s.node.ID)+"  ").Bold(term.Bright,
		s.node.Subject()))
	s.people(&p)
	if s.entry != nil {
		for _, said := range s.entry.Said(s.job.s.Planner.Short) {
			p.Row(term.Text(sign.Hue, "   "+said))
		}
	}
	s.message(&p, w)
	if s.d == nil {
		p.Blank()
		p.Row(term.Text(term.Dim, "   Reading what it changed…"))
		return s.rows.scroll.Window(p, h)
	}
	rows := s.rows.on(p, w)
	s.decidedRows(rows)
	s.fileRows(rows)
	return rows.window(h)
}

// people shows author and committer, where they differ, with dates.
func (s *commitScreen) people(p *term.Page) {
	const form = "2 Jan 2006 15:04 -0700"
	a, c := s.node.Author(), s.node.Committer
	p.Row(term.Text(term.Plain, "   ").Add(term.Plain, a.Name).Add(term.Dim, words.If(a.Email != "",
		" <"+a.Email+">", "")+"   "+a.Time().Format(form)))
	if c.Name != a.Name || c.Email != a.Email || c.When != a.When {
		p.Row(term.Text(term.Dim, "   committed by ").Add(term.Plain, c.Name).Add(term.Dim,
			"   "+c.Time().Format(form)))
	}
	if s.d != nil && s.d.Phase != "" {
		p.Row(term.Text(term.Dim, "   "+s.d.Phase))
	}
	if s.d != nil && s.d.Signature != "" {
		p.Row(term.Text(term.Dim, "   "+s.d.Signature))
	}
	id := s.node.ID.String()
	if numbered, ok := s.job.s.Repo.(vcs.Numbered); ok {
		id = numbered.Shown(context.Background(), s.node.ID)
	}
	p.Row(term.Text(term.Faint, "   "+id))
}

// message shows the body of the message with marked references.
func (s *commitScreen) message(p *term.Page, w int) {
	text := s.node.Text()
	var refs [][2]int
	var names []string
	if s.d != nil {
		for _, r := range s.d.References {
			refs = append(refs, r)
			names = append(names, text[r[0]:r[1]])
		}
	}
	at := 0
	for i, row := range splitLines(text) {
		if i > 0 {
			if i == 1 && row != "" {
				p.Blank()
			}
			var here [][2]int
			for _, r := range refs {
				if r[0] >= at && r[0] < at+len(row) {
					here = append(here, [2]int{r[0] - at, r[1] - at})
				}
			}
			p.Rows(term.Indent(term.Wrap(term.Marked(nil, row, 0, here, term.Ink{}), w-4), 3))
		}
		at += len(row) + 1
	}
	if len(names) > 0 {
		p.Row(term.Text(term.Dim, "   speaks of ").Bold(term.Bright, words.List(names)))
	}
}

// decidedRows lists what a person decided in a merge commit.
func (s *commitScreen) decidedRows(p *listed) {
	a := s.d.Decided
	if a == nil {
		return
	}
	p.page.Blank()
	p.page.Head("WHAT A PERSON DECIDED IN IT", "")
	p.page.Blank()
	if len(a.Decisions) == 0 {
		p.page.Row(term.Text(term.Plain, "    ").Then(term.Done("nothing")).Add(term.Dim,
			"   it is what joining its two sides makes by itself"))
	}
	for _, d := range a.Decisions {
		p.item(decisionLine(d))
	}
	if a.Joined > 0 {
		p.page.Row(term.Text(term.Dim, fmt.Sprintf("      %s that both sides changed joined by %s",
			words.Count(a.Joined, "file", "files"), words.Is(a.Joined, "itself", "themselves"))))
	}
}

// fileRows lists the changed files.
func (s *commitScreen) fileRows(p *listed) {
	a := s.d.Sides[s.side]
	added, removed := 0, 0
	for _, f := range a.Files {
		added, removed = added+f.Added, removed+f.Removed
	}
	what := fmt.Sprintf("  %s, %s added, %s removed", words.Count(len(a.Files), "file", "files"),
		words.Count(added, "line", "lines"), words.Count(removed, "line", "lines"))
	if len(s.d.Sides) > 1 {
		what += fmt.Sprintf(", against its side %d of %d: %s %s", s.side+1, len(s.d.Sides),
			s.job.s.Planner.Short(a.Parent.ID),
			a.Parent.Subject())
	}
	p.page.Blank()
	p.page.Row(term.Text(term.Plain, "  ").Then(term.Heading("WHAT IT CHANGED")).Add(term.Dim, what).Cut(p.w))
	p.page.Blank()
	column := fileColumn(a.Files, p.w)
	for _, f := range a.Files {
		p.item(fileLine(f, column))
	}
	if len(a.Files) == 0 {
		p.page.Row(term.Text(term.Dim, "    nothing: its files are "+words.If(a.Parent.Commit == nil, "none",
			"those of the commit before it")))
	}
}

// fileColumn returns the width for file names, up to half of the space.
func fileColumn(files []lookback.ChangedFile, w int) int {
	n := 20
	for _, f := range files {
		n = max(n, term.Cells(f.Path)+2)
	}
	return min(n, w/2)
}

// fileLine draws a changed file with its counts, its name in a column of the given width.
func fileLine(f lookback.ChangedFile, column int) term.Line {
	l := term.Text(term.Plain, term.CutPath(f.Path, column-1)).Fit(column)
	switch {
	case f.Text:
		l = l.Add(term.Joined, fmt.Sprintf("%6s", "+"+fmt.Sprint(f.Added))).Add(term.Trouble, fmt.Sprintf("%7s",
			"−"+fmt.Sprint(f.Removed)))
	default:
		l = l.Add(term.Dim, "   no text")
	}
	switch {
	case f.From != "":
		l = l.Add(term.Dim, "   was "+term.CutPath(f.From, max(16, column)))
	case f.Old.Absent():
		l = l.Add(term.Dim, "   new")
	case f.New.Absent():
		l = l.Add(term.Dim, "   deleted")
	case f.Old.Mode != f.New.Mode:
		l = l.Add(term.Dim, "   "+f.Old.Mode.Describe()+" → "+f.New.Mode.Describe())
	}
	return l
}

func (s *commitScreen) status() term.Line { return term.Text(term.Dim, "a commit") }

func (s *commitScreen) remark() term.Line {
	return term.Text(term.Dim, "You are only looking. Nothing changes here.")
}

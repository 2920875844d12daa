package tui

import (
	"context"
	"fmt"

	"charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/decided"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/words"
)

// commitScreen is a commit: what it says, and what it changed; of a merge commit against each
// side, and what a person decided in it.
type commitScreen struct {
	*job
	reads  besides
	node   history.Node
	entry  *lookback.Entry // nil where it is not known what it is to the person
	d      *lookback.Details
	side   int // the parent it is held against
	row    int // decisions first, then files
	scroll scroll
	at     []int // the rows of the page that rows are on
}

// openCommit looks at a commit of a history.
func (j *job) openCommit(e *lookback.Entry) tea.Cmd {
	return j.showCommit(history.Node{ID: e.ID, Commit: e.Commit}, e)
}

func (j *job) showCommit(n history.Node, e *lookback.Entry) tea.Cmd {
	s := &commitScreen{job: j, reads: j.newBeside(), node: n, entry: e}
	j.open(s)
	return s.reads.start(func(ctx context.Context) (then, error) {
		d, err := s.s.History.Details(ctx, n.ID, nil)
		if err != nil {
			return func() tea.Cmd { s.close(); return s.failed(err) }, nil
		}
		ids := []object.ID{n.ID}
		for _, a := range d.Sides {
			if !a.Parent.ID.IsZero() {
				ids = append(ids, a.Parent.ID)
			}
		}
		if err := s.s.Planner.TellApart(ctx, ids); err != nil {
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

// file is the file one is on, nil on a decision.
func (s *commitScreen) file() *lookback.ChangedFile {
	if i := s.row - len(s.decisions()); i >= 0 && i < len(s.files()) {
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
		out = append(out, act(keys.next, what, s.enterRow))
	}
	out = append(out, rowKeys("file", s.count(), s.scroll.room(), func(by int) tea.Cmd {
		s.moveTo(s.row + by)
		return nil
	})...)
	if f := s.file(); f != nil && f.Text && !f.New.Absent() {
		path := f.Path
		out = append(out, act(keys.annotate, "who wrote its lines", func() tea.Cmd {
			return s.openAnnotate(s.node.ID, path)
		}))
	}
	if s.d != nil && len(s.d.Sides) > 1 {
		turn := func(by int) func() tea.Cmd {
			return quietly(func() {
				s.side = (s.side + by + len(s.d.Sides)) % len(s.d.Sides)
				s.moveTo(min(s.row, s.count()-1))
			})
		}
		out = append(out, act(keys.left, "against the other side", turn(-1)), also(keys.right, turn(1)))
	}
	return append(out, act(keys.back, "", quietly(func() { s.reads.stop(); s.close() })))
}

func (s *commitScreen) moveTo(row int) {
	s.row = max(0, min(row, s.count()-1))
	if s.row < len(s.at) {
		if s.row == 0 {
			s.scroll.to(0)
		}
		s.scroll.show(s.at[s.row])
	}
}

func (s *commitScreen) enterRow() tea.Cmd {
	if f := s.file(); f != nil {
		path := f.Path
		return s.openChange(*f, s.node.Subject(), func() tea.Cmd { return s.openAnnotate(s.node.ID, path) })
	}
	s.open(newDecision(s.frame, s.decisions()[s.row]))
	return nil
}

func (s *commitScreen) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case clickedCommit:
		s.moveTo(int(msg))
		return s.enterRow()
	case tea.MouseWheelMsg:
		s.scroll.update(msg)
	}
	return nil
}

func (s *commitScreen) view(w, h int) page {
	p := page{nil}
	sign := markBase
	if s.entry != nil {
		sign = signOf(s.entry)
	}
	p.row(txt(plain, " ").mark(sign).add(sign.hue, s.s.Planner.Short(s.node.ID)+"  ").bold(bright, s.node.Subject()))
	s.people(&p)
	if s.entry != nil {
		for _, said := range s.entry.Said(s.s.Planner.Short) {
			p.row(txt(sign.hue, "   "+said))
		}
	}
	s.message(&p, w)
	if s.d == nil {
		p.blank()
		p.row(txt(dim, "   Reading what it changed…"))
		return s.scroll.window(p, h)
	}
	s.at = s.at[:0]
	s.decidedRows(&p, w)
	s.fileRows(&p, w)
	return s.scroll.window(p, h)
}

// people says who made it and when, author and committer where they differ.
func (s *commitScreen) people(p *page) {
	const form = "2 Jan 2006 15:04 -0700"
	a, c := s.node.Author(), s.node.Committer
	p.row(txt(plain, "   ").add(plain, a.Name).add(dim, " <"+a.Email+">   "+a.Time().Format(form)))
	if c.Name != a.Name || c.Email != a.Email || c.When != a.When {
		p.row(txt(dim, "   committed by ").add(plain, c.Name).add(dim, "   "+c.Time().Format(form)))
	}
	if s.d != nil && s.d.Signature != "" {
		p.row(txt(dim, "   "+s.d.Signature))
	}
	p.row(txt(faint, "   "+s.node.ID.String()))
}

// message is what it says below its first line, with references made out.
func (s *commitScreen) message(p *page, w int) {
	text := s.node.Text()
	var refs [][2]int
	var names []string
	if s.d != nil {
		for _, r := range s.d.References {
			refs = append(refs, [2]int{r.From, r.To})
			names = append(names, r.Text)
		}
	}
	at := 0
	for i, row := range splitLines(text) {
		if i > 0 {
			if i == 1 && row != "" {
				p.blank()
			}
			var here [][2]int
			for _, r := range refs {
				if r[0] >= at && r[0] < at+len(row) {
					here = append(here, [2]int{r[0] - at, r[1] - at})
				}
			}
			p.rows(indent(wrap(marked(nil, row, 0, here, ink{}), w-4), 3))
		}
		at += len(row) + 1
	}
	if len(names) > 0 {
		p.row(txt(dim, "   speaks of ").bold(bright, words.List(names)))
	}
}

// decidedRows tells what a person decided in a merge commit.
func (s *commitScreen) decidedRows(p *page, w int) {
	a := s.d.Decided
	if a == nil {
		return
	}
	p.blank()
	p.head("WHAT A PERSON DECIDED IN IT", "")
	p.blank()
	if len(a.Decisions) == 0 {
		p.row(txt(plain, "    ").then(done("nothing")).add(dim, "   it is what joining its two sides makes by itself"))
	}
	for i, d := range a.Decisions {
		s.at = append(s.at, len(*p))
		p.row(s.pointed(i, decisionLine(d)).cut(w).clicks(clickedCommit(i)))
	}
	if a.Joined > 0 {
		p.row(txt(dim, fmt.Sprintf("      %s that both sides changed joined by %s",
			words.Count(a.Joined, "file", "files"), words.Is(a.Joined, "itself", "themselves"))))
	}
}

// pointed is a row that can be gone to.
func (s *commitScreen) pointed(i int, l line) line {
	l = txt(bright, words.If(i == s.row, "  ▶ ", "    ")).then(l)
	if i == s.row {
		return l.fit(s.w).on(onRow)
	}
	return l
}

// fileRows lists the files that changed.
func (s *commitScreen) fileRows(p *page, w int) {
	a := s.d.Sides[s.side]
	added, removed := 0, 0
	for _, f := range a.Files {
		added, removed = added+f.Added, removed+f.Removed
	}
	what := fmt.Sprintf("  %s, %s added, %s removed", words.Count(len(a.Files), "file", "files"),
		words.Count(added, "line", "lines"), words.Count(removed, "line", "lines"))
	if len(s.d.Sides) > 1 {
		what += fmt.Sprintf(", against its side %d of %d: %s %s", s.side+1, len(s.d.Sides),
			s.s.Planner.Short(a.Parent.ID),
			a.Parent.Subject())
	}
	p.blank()
	p.row(txt(plain, "  ").then(heading("WHAT IT CHANGED")).add(dim, what).cut(w))
	p.blank()
	column := fileColumn(a.Files, w)
	for i, f := range a.Files {
		s.at = append(s.at, len(*p))
		at := len(s.decisions()) + i
		p.row(s.pointed(at, fileLine(f, column)).clicks(clickedCommit(at)))
	}
	if len(a.Files) == 0 {
		p.row(txt(dim, "    nothing: its files are "+words.If(a.Parent.Commit == nil, "none",
			"those of the commit before it")))
	}
}

// fileColumn is how wide the names of files are, up to half of the room.
func fileColumn(files []lookback.ChangedFile, w int) int {
	n := 20
	for _, f := range files {
		n = max(n, cells(f.Path)+2)
	}
	return min(n, w/2)
}

// fileLine is a changed file with its counts, its name in a column so wide.
func fileLine(f lookback.ChangedFile, column int) line {
	l := txt(plain, cutPath(f.Path, column-1)).fit(column)
	switch {
	case f.Text:
		l = l.add(joined, fmt.Sprintf("%6s", "+"+fmt.Sprint(f.Added))).add(trouble, fmt.Sprintf("%7s",
			"−"+fmt.Sprint(f.Removed)))
	default:
		l = l.add(dim, "   no text")
	}
	switch {
	case f.From != "":
		l = l.add(dim, "   was "+cutPath(f.From, max(16, column)))
	case f.Old.Absent():
		l = l.add(dim, "   new")
	case f.New.Absent():
		l = l.add(dim, "   deleted")
	case f.Old.Mode != f.New.Mode:
		l = l.add(dim, "   "+f.Old.Mode.Describe()+" → "+f.New.Mode.Describe())
	}
	return l
}

func (s *commitScreen) status() line { return txt(dim, "a commit") }

func (s *commitScreen) remark() line { return txt(dim, "You are only looking. Nothing changes here.") }

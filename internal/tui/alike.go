package tui

import (
	"context"
	"fmt"
	"path"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// alikeScreen settles several conflicts in one way, after showing the effect on each.
type alikeScreen struct {
	*settleScreen
	groups []alike
	marked int
	rows   term.Scroll
}

// alike is a group of open conflicts and one way for all of them.
type alike struct {
	name   string
	picks  []pickedWay
	out    []settle.Piece // pieces that the way leaves out
	alone  int            // places of the file that joined by themselves and are otherwise with the way
	wholly bool           // it takes a whole file, and what joined by itself in it too
}

// pickedWay is a way of one conflict.
type pickedWay struct {
	q *plan.Attributed
	o settle.Option
}

// openAlike computes the groups and opens the screen.
func (s *settleScreen) openAlike() tea.Cmd {
	a := &alikeScreen{settleScreen: s}
	return s.job.start("working out what that does", func(context.Context, func(int, int)) (then, error) {
		a.findGroups(s.question())
		return func() tea.Cmd { s.job.open(a); return nil }, nil
	})
}

// findGroups finds the groups: as suggested or by a side; everywhere, in the file, in the directory, by the author, of
// the kind of a conflict, and where only blanks differ.
func (a *alikeScreen) findGroups(q *plan.Attributed) {
	type group struct {
		name string
		in   func(other *plan.Attributed) bool
	}
	anywhere := group{"wherever it is open", func(*plan.Attributed) bool { return true }}
	here := group{"in " + q.File.Path, func(other *plan.Attributed) bool { return other.File.Path == q.File.Path }}
	folder := group{"in " + path.Dir(q.File.Path) + "/", func(other *plan.Attributed) bool {
		return strings.HasPrefix(other.File.Path, path.Dir(q.File.Path)+"/")
	}}
	theirs := group{"that " + a.theirName(q) + " made", func(other *plan.Attributed) bool {
		return q.Theirs.Commit != nil && other.Theirs.Commit != nil &&
			other.Theirs.Author().Key() == q.Theirs.Author().Key()
	}}
	kind := group{"where " + words.Hint(q.Question), func(other *plan.Attributed) bool {
		return q.Question.Whole() && other.Question.Kind == q.Question.Kind
	}}
	blanks := group{"where only blanks differ", func(other *plan.Attributed) bool {
		c := other.Question
		squeeze := func(s string) string { return strings.Join(strings.Fields(s), "") }
		return !c.Whole() && squeeze(c.Yours) == squeeze(c.Theirs)
	}}
	suggested := func(c *settle.Question) settle.Way { return c.Suggested }
	a.add("suggested, wherever there is one", anywhere.in, suggested)
	for _, g := range []group{here, theirs} {
		a.add("suggested, "+g.name, g.in, suggested)
	}
	for _, g := range []group{blanks, kind, here, folder, theirs, anywhere} {
		for _, w := range []settle.Way{settle.Yours, settle.Theirs} {
			a.add(w.Label()+", "+g.name, g.in, func(*settle.Question) settle.Way { return w })
		}
	}
	wholly := q.File.Wholly()
	a.groups = a.groups[:min(len(a.groups), 9-len(wholly))] // there are nine digits
	for _, o := range wholly {
		a.addWholly(q.File, o)
	}
}

// addWholly adds a way that takes a whole file from one version, whatever was settled in it before.
func (a *alikeScreen) addWholly(f *settle.File, o settle.Option) {
	g := alike{name: strings.Replace(o.Way.Label(), "the whole file", "all of "+f.Path, 1), wholly: true}
	for i := range a.job.questions {
		if q := &a.job.questions[i]; q.File == f && !q.Question.Whole() {
			if o, ok := q.Question.Option(o.Way); ok {
				g.picks = append(g.picks, pickedWay{q, o})
			}
		}
	}
	g.out, _ = f.LeftOutWholly(o)
	for _, h := range f.Text.Hunks {
		if h.Origin != merge.Contested && h.Origin != merge.FromBase && h.Origin != o.Way.Whose() {
			g.alone++
		}
	}
	a.groups = append(a.groups, g)
}

// add adds a group unless it is empty or equal to another.
func (a *alikeScreen) add(name string, in func(*plan.Attributed) bool, way func(*settle.Question) settle.Way) {
	g := alike{name: name}
	for i := range a.job.questions {
		q := &a.job.questions[i]
		if q.Decision != nil || !in(q) {
			continue
		}
		o, ok := q.Question.Option(way(q.Question))
		if !ok {
			continue
		}
		g.picks = append(g.picks, pickedWay{q, o})
		if !q.Question.Whole() {
			out, _ := q.File.LeftOut(q.Question, o)
			g.out = append(g.out, out...)
		}
	}
	for _, other := range a.groups {
		if len(other.picks) == len(g.picks) && other.same(g) {
			return
		}
	}
	if len(g.picks) > 0 {
		a.groups = append(a.groups, g)
	}
}

func (g alike) same(other alike) bool {
	for i, p := range g.picks {
		if p.q != other.picks[i].q || p.o.Way != other.picks[i].o.Way {
			return false
		}
	}
	return true
}

func (a *alikeScreen) actions() []action {
	var out []action
	n := len(a.groups)
	if n > 0 {
		g := a.groups[a.marked]
		out = append(out, acts(keys.Next, "settle "+words.Count(len(g.picks), "conflict", "conflicts")+" so", a.take))
	}
	mark := func(to int) func() tea.Cmd {
		return quietly(func() { a.marked = max(0, min(to, n-1)); a.rows.To(0) })
	}
	if n > 1 {
		out = append(out, action{keys.Written(keys.Up, fmt.Sprintf("1–%d", n), "mark what"), mark(a.marked - 1), false},
			also(keys.Down, mark(a.marked+1)))
		for i := range n {
			out = append(out, also(keys.Digits[i+1], mark(i)))
		}
	}
	out = append(out, act(keys.Back, "", quietly(a.job.close)))
	return append(out, scrollKeys(&a.rows)[2:]...) // pages
}

// take settles the marked group.
func (a *alikeScreen) take() tea.Cmd {
	g := a.groups[a.marked]
	a.job.close()
	return a.job.rejoin(func(to *recovery.Session) error {
		var all []settle.Decision
		for _, p := range g.picks {
			all = append(all, settle.Decision{Key: p.q.Question.Key, Way: p.o.Way})
		}
		return to.Decide(all...)
	}, func() tea.Cmd {
		a.job.flash = term.Text(term.Plain, words.Count(len(g.picks), "conflict is",
			"conflicts are")+" settled so; each press of u "+
			"takes one back.")
		return a.turnTo(a.nextOpen(-1))
	})
}

func (a *alikeScreen) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case clickedWay:
		a.marked = max(0, min(int(msg), len(a.groups)-1))
	case tea.MouseWheelMsg:
		a.rows.Update(msg)
	case judged:
		return a.settleScreen.update(msg)
	}
	return nil
}

func (a *alikeScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	p.Head("MANY AT ONCE", "  what is settled stays, unless you take a whole file")
	p.Blank()
	if len(a.groups) == 0 {
		p.Say(w, term.Text(term.Plain, "Nothing is open."))
		return p
	}
	for i, g := range a.groups {
		l := term.Text(term.Bright, words.If(i == a.marked, "  ▶ ", "    ")).Bold(term.Bright,
			fmt.Sprint(i+1)).Add(term.Plain, "  "+g.name).
			Fit(max(40, w/2)).Add(term.Plain, words.Count(len(g.picks), "conflict", "conflicts"))
		rows := []term.Line{l.Then(leavesOut(g.out, ", "))}
		if rows[0].Width() > w { // what would be lost must not be cut off
			rows = []term.Line{l, term.Line{}.Fit(max(40, w/2)).Then(leavesOut(g.out, ""))}
		}
		for _, l := range rows {
			if i == a.marked {
				l = l.Fit(w).On(term.OnRow)
			}
			p.Row(l.Cut(w).Clicks(clickedWay(i)))
		}
	}
	p.Blank()
	p.Row(term.Text(term.Plain, "  ").Then(term.Rule(w - 4)))
	p.Head("WHAT THAT DOES", "")
	p.Blank()
	var rows term.Page
	for _, pick := range a.groups[a.marked].picks {
		c := pick.q.Question
		where := lineWords(c.Place.Yours)
		if c.Whole() {
			where = words.Hint(c)
		} else if c.Place.Yours.Empty() {
			where = afterLine(c.Place.Yours.Lo)
		}
		rows.Row(term.Text(term.Plain, "    ").Then(term.Text(term.Plain,
			term.CutPath(c.Path, w/3)).Fit(w/3)).Add(term.Dim, "  "+where).Fit(max(w/2,
			w/3+20)).
			Add(term.Joined, "  "+pick.o.Way.Label()).Add(term.Dim, "  "+pick.o.Reason).Cut(w))
	}
	if g := a.groups[a.marked]; g.wholly && g.alone > 0 {
		rows.Row(term.Text(term.Plain, "    ").Add(term.Trouble, words.Count(g.alone,
			"place of this file that joined by itself is", "places of this file that joined by themselves are")+
			" taken from there, too").Cut(w))
	}
	return append(p, a.rows.Window(rows, max(1, h-len(p)))...)
}

// leavesOut describes what is left out, after a preceding text.
func leavesOut(out []settle.Piece, before string) term.Line {
	if says := words.Costs(settle.Verdict{LeavesOut: out}, ""); says != "" {
		return term.Text(term.Trouble, before+says)
	}
	return term.Text(term.Dim, before+"nothing is left out")
}

func (a *alikeScreen) remark() term.Line {
	return term.Text(term.Dim, "Nothing is settled before enter. Decisions can be changed one by one afterwards.")
}

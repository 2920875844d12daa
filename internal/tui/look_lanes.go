package tui

import (
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// lanes draws the commits of both sides since the common ancestor.
type lanes struct {
	job   *job
	pos   *plan.Position
	plan  *plan.Plan     // nil until it is known
	below []history.Node // the common ancestor, and the one before it
}

// need returns the width in cells at which no subject is cut.
func (s *lanes) need() (n int) {
	for _, side := range [][]history.Node{s.pos.Divergence.Yours, s.pos.Divergence.Theirs} {
		longest := 0
		for _, c := range side {
			longest = max(longest, len([]rune(c.Subject())))
		}
		n += longest + 12
	}
	return n
}

// column is one side's drawn commits.
type column struct {
	nodes []history.Node
	mark  term.Mark
	side  merge.Side
	same  map[object.ID]history.Node // commits of theirs with the same change
	each  int                        // rows for each commit
	most  int                        // most commits shown
}

// view draws the two lines.
func (s *lanes) view(w, h int) term.Page {
	ahead := words.If(s.pos.Branch.Linear, "WHAT A CHECK-IN WOULD SEND", "WHAT A PUSH WOULD SEND")
	if s.pos.FromLine() != nil {
		ahead = "WHAT ONLY YOUR BRANCH HAS"
	}
	p := term.Page{term.Heading(map[plan.Trivial]string{plan.NotTrivial: "WHERE THE LINES PART",
		plan.UpToDate: ahead, plan.FastForward: "WHAT IS NEW THERE"}[s.pos.Trivial()]), nil}
	a, b := s.pos.Divergence.Yours, s.pos.Divergence.Theirs
	room, each := h-9, 3
	for each > 1 && max(len(a), len(b))*each > room {
		each--
	}
	most := max(2, room/each)
	same := s.alreadyThere()
	colA := s.lane(column{a, term.MarkYours, merge.Yours, same, each, most})
	colB := s.lane(column{b, term.MarkTheirs, merge.Theirs, same, each, most})
	mine, others := ", not on "+s.pos.Line().Name, ", not here yet"
	if s.pos.Exchange != nil {
		others = ", earlier forms of yours"
	}
	if s.pos.IsPick() {
		mine, others = ", since the lines parted", ", picked"
		if oldest := b[len(b)-1]; len(oldest.Parents) > 0 && oldest.Parents[0] != s.pos.Base() {
			colB.Row(term.Text(term.Theirs, "┊ ").Add(term.Dim, "older ones are not picked"))
		}
	}
	switch {
	case len(a) == 0 && s.pos.Counter() != "":
		return append(p, s.oneLane(colB, term.Yours, "yours", ", to be made")...)
	case len(a) == 0:
		return append(p, s.oneLane(colB, term.Theirs, "theirs", others)...)
	case len(b) == 0:
		return append(p, s.oneLane(colA, term.Yours, "yours", mine)...)
	}
	lane := (w - 3) / 2
	// Yours gets the width that theirs does not need.
	lane = max(lane, min(colA.Width()+2, w-2-colB.Width()))
	if tail := len([]rune(mine)) + len("yours"); tail > lane { // a long name
		mine = ", not there"
	}
	p.Row(term.Text(term.Plain, "   ").Bold(term.Yours, "yours").Add(term.Dim, mine).Fit(lane+4).Bold(term.Theirs,
		"theirs").Add(term.Dim, others))
	p.Blank()
	p.Rows(together(colA, colB, lane, w))
	half := lane / 2
	p.Row(term.Text(term.Yours, " ╰"+strings.Repeat("─", half-1)).Add(term.Plain, "┬").
		Add(term.Theirs, strings.Repeat("─", lane-half-1)+"╯"))
	p.Rows(s.stem(half + 1))
	p.Blank()
	p.Rows(term.Wrap(s.sum(), w-1))
	return p
}

// oneLane draws the only line with commits.
func (s *lanes) oneLane(commits term.Page, h term.Hue, name, what string) term.Page {
	p := term.Page{term.Text(term.Plain, "   ").Bold(h, name).Add(term.Dim, what), nil}
	p.Rows(term.Indent(commits, 1))
	return append(p, s.stem(1)...)
}

// together puts two lanes side by side, ending on the same row.
func together(a, b term.Page, lane, w int) (p term.Page) {
	n := max(len(a), len(b))
	for i := range n {
		var x, y term.Line
		if k := i - (n - len(a)); k >= 0 {
			x = a[k]
		}
		if k := i - (n - len(b)); k >= 0 {
			y = b[k]
		}
		p.Row(term.Text(term.Plain, " ").Then(x.Cut(lane - 1)).Fit(lane + 1).Then(y.Cut(w - lane - 1)))
	}
	return p
}

// sum returns the number of commits after the join.
func (s *lanes) sum() term.Line {
	a, b := len(s.pos.Divergence.Yours), len(s.pos.Divergence.Theirs)
	switch {
	case s.plan == nil:
		return nil
	case s.plan.Pick != nil:
		return term.Text(term.Plain, fmt.Sprintf("%s will hold %s more.", s.pos.Branch.Name,
			words.Count(s.plan.Pick.Kept(), "commit", "commits")))
	}
	var by []string
	if s.plan.Rebase.Refused == nil {
		by = append(by, words.Count(b+s.plan.Rebase.Kept(), "commit", "commits")+" by rebase")
	}
	if s.plan.Merge.Refused == nil {
		by = append(by, words.Count(a+b+1, "commit", "commits")+" by merge")
	}
	if s.pos.BringsIn() {
		return term.Text(term.Plain, fmt.Sprintf("%s will hold one revision more, with %s of %s.", s.pos.Branch.Name,
			words.Is(b, "the one", fmt.Sprintf("all %d", b)), s.pos.Line().Name))
	}
	if s.plan.OneWay() {
		mine := words.Count(s.plan.Rebase.Kept(), "change list", "change lists") + " of yours"
		if s.pos.Branch.Ungroup {
			mine = "your changes"
		}
		return term.Text(term.Plain, fmt.Sprintf("After %s come %s, and %s on top.", s.job.s.Planner.Short(
			s.pos.Base()),
			words.Count(b, "revision", "revisions"), mine))
	}
	return term.Text(term.Plain, fmt.Sprintf("After %s %s will hold %s.", s.job.s.Planner.Short(s.pos.Base()),
		s.pos.Branch.Name, strings.Join(by, ", ")))
}

// alreadyThere maps commits to those of the other side with the same change.
func (s *lanes) alreadyThere() map[object.ID]history.Node {
	same := map[object.ID]history.Node{}
	if s.plan == nil {
		return same
	}
	steps := s.plan.Asking().Steps
	if s.plan.Rebase != nil {
		steps = s.plan.Rebase.Steps
	}
	for _, st := range steps {
		if st.Outcome == replay.AlreadyThere {
			same[st.Commit.ID] = st.Same
		}
	}
	return same
}

// stem draws the common ancestor and its parent.
func (s *lanes) stem(at int) term.Page {
	var p term.Page
	pad := strings.Repeat(" ", at)
	for i, n := range s.below {
		l := term.Text(term.Plain, pad).Mark(term.MarkBase)
		if i == 0 {
			what := "where the lines part"
			switch s.pos.Trivial() {
			case plan.UpToDate:
				what = s.pos.Line().Name + " is here"
			case plan.FastForward:
				what = s.pos.Branch.Name + " is here"
			}
			p.Row(l.Add(term.Base, s.job.s.Planner.Short(n.ID)+" ").Add(term.Plain, n.Subject()).Add(term.Dim,
				"  "+what))
			if more := len(s.pos.Divergence.Bases) - 1; more > 0 {
				p.Row(term.Text(term.Faint, pad+"│ ").Add(term.Dim,
					fmt.Sprintf("and %d more: the lines were merged across each "+
						"other", more)))
			}
			continue
		}
		p.Row(term.Text(term.Faint, pad+"│"))
		p.Row(l.Add(term.Base, s.job.s.Planner.Short(n.ID)+" ").Add(term.Dim, n.Subject()))
		if len(n.Parents) > 0 {
			p.Row(term.Text(term.Faint, pad+"┊"))
		}
	}
	return p
}

// lane draws one side's commits, newest first.
func (s *lanes) lane(a column) term.Page {
	var p term.Page
	h := a.mark.Hue
	for i, n := range a.nodes {
		if i == a.most-1 && len(a.nodes) > a.most {
			p.Row(term.Text(h, "┊ ").Add(term.Dim, fmt.Sprintf("%d more, older", len(a.nodes)-i)))
			break
		}
		p.Row(term.Line{}.Mark(a.mark).Add(h, s.job.s.Planner.Short(n.ID)+" ").Add(term.Plain, n.Subject()))
		if a.each > 1 {
			l := term.Text(h, "│ ").Add(term.Dim, s.job.first(n, a.side)+", "+s.job.age(n))
			if t, ok := a.same[n.ID]; ok {
				l = l.Add(term.Joined, ", in "+s.job.s.Planner.Short(t.ID)+" too")
			}
			p.Row(l)
		}
		if a.each > 2 {
			p.Row(term.Text(h, "│"))
		}
	}
	return p
}

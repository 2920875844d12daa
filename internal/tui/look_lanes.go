package tui

import (
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// lanesNeed is the width at which no subject of the two lanes is cut.
func (s *lookScreen) lanesNeed() (n int) {
	for _, side := range [][]history.Node{s.pos.Divergence.Yours, s.pos.Divergence.Theirs} {
		longest := 0
		for _, c := range side {
			longest = max(longest, len([]rune(c.Subject())))
		}
		n += longest + 12
	}
	return n
}

// column is one side's commits as they are drawn.
type column struct {
	nodes []history.Node
	mark  mark
	side  merge.Side
	same  map[object.ID]history.Node // of theirs that hold the same change
	each  int                        // rows a commit
	most  int                        // commits
}

// lanes draws the two lines since the common ancestor.
func (s *lookScreen) lanes(w, h int) page {
	p := page{heading(map[plan.Trivial]string{plan.NotTrivial: "WHERE THE LINES PART",
		plan.UpToDate: "WHAT A PUSH WOULD SEND", plan.FastForward: "WHAT IS NEW THERE"}[s.pos.Trivial()]), nil}
	a, b := s.pos.Divergence.Yours, s.pos.Divergence.Theirs
	room, each := h-9, 3
	for each > 1 && max(len(a), len(b))*each > room {
		each--
	}
	most := max(2, room/each)
	same := s.alreadyThere()
	colA := s.lane(column{a, markYours, merge.Yours, same, each, most})
	colB := s.lane(column{b, markTheirs, merge.Theirs, same, each, most})
	mine, others := ", not on "+s.pos.Branch.Upstream, ", not here yet"
	if s.pos.IsPick() {
		mine, others = ", since the lines parted", ", picked"
		if oldest := b[len(b)-1]; len(oldest.Parents) > 0 && oldest.Parents[0] != s.pos.Base() {
			colB.row(txt(theirs, "┊ ").add(dim, "older ones are not picked"))
		}
	}
	switch {
	case len(a) == 0 && s.pos.Counter() != "":
		return append(p, s.oneLane(colB, yours, "yours", ", to be made")...)
	case len(a) == 0:
		return append(p, s.oneLane(colB, theirs, "theirs", others)...)
	case len(b) == 0:
		return append(p, s.oneLane(colA, yours, "yours", mine)...)
	}
	lane := (w - 3) / 2
	// What their lane does not need, yours may have.
	lane = max(lane, min(colA.width()+2, w-2-colB.width()))
	p.row(txt(plain, "   ").bold(yours, "yours").add(dim, mine).fit(lane+4).bold(theirs, "theirs").add(dim, others))
	p.blank()
	p.rows(together(colA, colB, lane, w))
	half := lane / 2
	p.row(txt(yours, " ╰"+strings.Repeat("─", half-1)).add(plain, "┬").
		add(theirs, strings.Repeat("─", lane-half-1)+"╯"))
	p.rows(s.stem(half + 1))
	p.blank()
	p.rows(wrap(s.sum(), w-1))
	return p
}

// oneLane draws the line that alone has commits.
func (s *lookScreen) oneLane(commits page, h hue, name, what string) page {
	p := page{txt(plain, "   ").bold(h, name).add(dim, what), nil}
	p.rows(indent(commits, 1))
	return append(p, s.stem(1)...)
}

// together puts two lanes side by side, so that they end on the same row.
func together(a, b page, lane, w int) (p page) {
	n := max(len(a), len(b))
	for i := range n {
		var x, y line
		if k := i - (n - len(a)); k >= 0 {
			x = a[k]
		}
		if k := i - (n - len(b)); k >= 0 {
			y = b[k]
		}
		p.row(txt(plain, " ").then(x.cut(lane - 1)).fit(lane + 1).then(y.cut(w - lane - 1)))
	}
	return p
}

// sum says how many commits there will be.
func (s *lookScreen) sum() line {
	a, b := len(s.pos.Divergence.Yours), len(s.pos.Divergence.Theirs)
	switch {
	case s.plan == nil:
		return nil
	case s.plan.Pick != nil:
		return txt(plain, fmt.Sprintf("%s will hold %s more.", s.pos.Branch.Name,
			words.Count(s.plan.Pick.Kept(), "commit", "commits")))
	}
	l := txt(plain, fmt.Sprintf("After %s %s will hold ", s.s.Planner.Short(s.pos.Base()), s.pos.Branch.Name))
	if s.plan.Rebase.Refused == nil {
		l = l.add(plain, words.Count(b+s.plan.Rebase.Kept(), "commit", "commits")+" by rebase, ")
	}
	return l.add(plain, words.Count(a+b+1, "commit", "commits")+" by merge.")
}

// alreadyThere gives, for commits that hold a change the other side has too, that side's commit.
func (s *lookScreen) alreadyThere() map[object.ID]history.Node {
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

// stem draws the common ancestor and the one before it.
func (s *lookScreen) stem(at int) page {
	var p page
	pad := strings.Repeat(" ", at)
	for i, n := range s.below {
		l := txt(plain, pad).mark(markBase)
		if i == 0 {
			what := "where the lines part"
			switch s.pos.Trivial() {
			case plan.UpToDate:
				what = s.pos.Branch.Upstream + " is here"
			case plan.FastForward:
				what = s.pos.Branch.Name + " is here"
			}
			p.row(l.add(base, s.s.Planner.Short(n.ID)+" ").add(plain, n.Subject()).add(dim, "  "+what))
			if more := len(s.pos.Divergence.Bases) - 1; more > 0 {
				p.row(txt(faint, pad+"│ ").add(dim, fmt.Sprintf("and %d more: the lines were merged across each "+
					"other", more)))
			}
			continue
		}
		p.row(txt(faint, pad+"│"))
		p.row(l.add(base, s.s.Planner.Short(n.ID)+" ").add(dim, n.Subject()))
		if len(n.Parents) > 0 {
			p.row(txt(faint, pad+"┊"))
		}
	}
	return p
}

// lane draws one side's commits, newest first.
func (s *lookScreen) lane(a column) page {
	var p page
	h := a.mark.hue
	for i, n := range a.nodes {
		if i == a.most-1 && len(a.nodes) > a.most {
			p.row(txt(h, "┊ ").add(dim, fmt.Sprintf("%d more, older", len(a.nodes)-i)))
			break
		}
		p.row(line{}.mark(a.mark).add(h, s.s.Planner.Short(n.ID)+" ").add(plain, n.Subject()))
		if a.each > 1 {
			l := txt(h, "│ ").add(dim, s.first(n, a.side)+", "+s.age(n))
			if t, ok := a.same[n.ID]; ok {
				l = l.add(joined, ", in "+s.s.Planner.Short(t.ID)+" too")
			}
			p.row(l)
		}
		if a.each > 2 {
			p.row(txt(h, "│"))
		}
	}
	return p
}

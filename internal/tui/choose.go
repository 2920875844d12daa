package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik/internal/core/replay"
	"dorvik/internal/core/settle"
	"dorvik/internal/recovery"
	"dorvik/internal/words"
)

type chooseView struct {
	route   recovery.Route
	confirm bool // rebase of pushed commits was asked for once,
	agreed  bool // and agreed to
}

func (m *model) chooseKeys() []binding {
	if m.choose.confirm {
		return []binding{{"y", "rebase all the same"}, {"esc", "no"}}
	}
	if m.pos.Picking {
		return []binding{{"enter", "go on"}, {"↑↓", "scroll"}, {"esc", "back"}}
	}
	return []binding{{"←→", "compare"}, {"enter", "take this way"}, {"↑↓", "scroll"}, {"esc", "back"}}
}

func (m *model) chooseKey(name string, page int) tea.Cmd {
	confirm := m.choose.confirm
	m.choose.confirm = false
	switch name {
	case "left", "right", "tab":
		if m.pos.Picking {
			return nil // there is but one way
		}
		if m.choose.route == recovery.Rebase {
			m.choose.route = recovery.Merge
		} else {
			m.choose.route = recovery.Rebase
		}
	case "enter", "y":
		if name == "y" && !confirm || m.busy() {
			return nil
		}
		j := m.plan.Of(m.choose.route)
		if j.Refused != nil {
			m.flash = txt(trouble, "▲ ").add(plain, sentence(j.Refused.Error()))
			return nil
		}
		if m.choose.route == recovery.Rebase && m.plan.Pushed && !confirm {
			m.choose.confirm = true
			m.flash = txt(trouble, "▲ ").add(plain, "Some of these commits are on a remote: whoever has them will have them twice. Press y to rebase all the same.")
			return nil
		}
		if name == "enter" && confirm {
			m.choose.confirm = true
			return nil
		}
		m.choose.agreed = m.choose.agreed || confirm
		route := m.choose.route
		return m.rejoin(func(s *recovery.Session) error {
			return s.TakeRoute(route)
		}, m.afterJoin)
	case "esc":
		if !confirm {
			m.goTo(recovery.Look)
		}
	default:
		m.scrollKey(name, page)
	}
	return nil
}

func (m *model) choosePage(w, h int) page {
	var p page
	p.blank()
	if m.pos.Picking {
		p.rows(indent(m.routePage(recovery.Pick, min(w-4, wide)), 2))
		return p
	}
	routes := []recovery.Route{recovery.Rebase, recovery.Merge}
	if w >= wide {
		bw := (w - 7) / 2
		boxes := [2]page{}
		rows := 0
		for i, r := range routes {
			boxes[i] = m.routePage(r, bw-6)
			rows = max(rows, len(boxes[i]))
		}
		left, right := m.box(boxes[0], routes[0], bw, rows), m.box(boxes[1], routes[1], bw, rows)
		for i := range left {
			p.row(txt(plain, "  ").then(left[i]).add(plain, "   ").then(right[i]))
		}
	} else {
		tabs := txt(plain, "  ")
		for i, r := range routes {
			if i > 0 {
				tabs = tabs.add(dim, "   ")
			}
			if r == m.choose.route {
				tabs = tabs.bold(bright, "▶ "+title(r))
			} else {
				tabs = tabs.add(dim, "  "+title(r))
			}
		}
		p.row(tabs.add(dim, "     ←→ shows the other"))
		p.blank()
		m.why(&p, w)
		p.blank()
		p.rows(indent(m.routePage(m.choose.route, w-4), 2))
	}
	if w >= wide {
		p.blank()
		m.why(&p, w)
	}
	return p
}

// why gives the reason for the suggested route.
func (m *model) why(p *page, w int) {
	p.rows(indent(wrap(line{}.bold(bright, "Why "+string(m.plan.Suggested)+": ").add(dim, m.plan.Why), w-4), 2))
	if m.plan.Rebase.Refused == nil && m.plan.Merge.Refused == nil && m.plan.Merge.Conflicts() > 0 {
		p.rows(indent(wrap(txt(dim, "What you decide on one way is kept where the same conflict comes up on the other."), w-4), 2))
	}
}

func title(r recovery.Route) string { return strings.ToUpper(string(r[:1])) + string(r[1:]) }

// box draws a frame of the given size around a page: heavy around the chosen route.
func (m *model) box(p page, r recovery.Route, w, rows int) page {
	g := []string{"┌", "─", "┐", "│", "└", "┘"}
	h := faint
	if r == m.choose.route {
		g = []string{"┏", "━", "┓", "┃", "┗", "┛"}
		h = bright
	}
	out := page{txt(h, g[0]+strings.Repeat(g[1], w-2)+g[2])}
	for i := range rows {
		var l line
		if i < len(p) {
			l = p[i]
		}
		out.row(txt(h, g[3]).add(plain, "  ").then(l).fit(w-1).add(h, g[3]))
	}
	out.row(txt(h, g[4]+strings.Repeat(g[1], w-2)+g[5]))
	return out
}

// routePage tells what a route makes and asks.
func (m *model) routePage(r recovery.Route, w int) page {
	var p page
	j := m.plan.Of(r)
	head := line{}.bold(bright, title(r))
	if r == m.plan.Suggested && !m.pos.Picking {
		head = head.add(joined, "   ▲ suggested")
	}
	p.row(head)
	switch r {
	case recovery.Rebase:
		p.row(txt(dim, "your commits are replayed after theirs"))
	case recovery.Pick:
		p.row(txt(dim, "the picked commits are replayed after yours"))
	default:
		p.row(txt(dim, "one new commit joins the two lines"))
	}
	p.blank()
	if j.Refused != nil {
		p.rows(wrap(txt(trouble, "▲ ").add(plain, sentence(j.Refused.Error())), w))
		return p
	}
	p.rows(m.drawing(r, j, w))
	p.blank()
	fact := func(what string, l line) {
		for i, row := range wrap(l, w-14) {
			if i > 0 {
				what = ""
			}
			p.row(txt(dim, " "+what).fit(14).then(row))
		}
	}
	if r == recovery.Pick {
		fact("history", txt(plain, "your line, and "+plural(j.Kept(), "new commit", "new commits")+" after it"))
		fact("rewrites", txt(plain, "nothing"))
		fact("keeps", txt(plain, "author, date and message of each"))
		m.leavesOut(j, fact)
	} else if r == recovery.Rebase {
		fact("history", txt(plain, "one straight line, no extra commit"))
		l := txt(plain, plural(j.Kept(), "of your commits, ", "of your commits, "))
		if m.plan.Pushed {
			l = l.add(trouble, "▲ some on a remote already")
		} else {
			l = l.add(joined, "none was ever pushed").add(plain, ": safe")
		}
		fact("rewrites", l)
		m.leavesOut(j, fact)
	} else {
		fact("history", txt(plain, "two lines and a joint"))
		fact("rewrites", txt(plain, "nothing"))
		subject, _, _ := strings.Cut(recovery.MergeMessage(m.pos), "\n")
		fact("adds", txt(plain, "1 merge commit, ").add(dim, "“"+subject+"”"))
	}
	p.blank()
	m.asks(&p, j, w, fact)
	p.blank()
	if d := m.st.LastCheck; d > 0 {
		fact("check", txt(plain, "once, about "+seconds(d)).add(dim, "  (as the last run)"))
	} else {
		fact("check", txt(plain, "once, on the joined result"))
	}
	p.blank()
	switch r {
	case recovery.Pick:
		p.rows(wrap(txt(dim, "The picked commits stay where they are. If that branch is joined later, the same change is met twice, and found to be there already."), w))
	case recovery.Rebase:
		p.rows(wrap(txt(dim, "Suits you when the commits are still only yours and the team likes a line that reads in order."), w))
	default:
		p.rows(wrap(txt(dim, "Suits you when others already build on your commits, or when the joint itself should stay visible."), w))
	}
	return p
}

// leavesOut lists the commits that are not replayed.
func (m *model) leavesOut(j *recovery.Join, fact func(string, line)) {
	other := settle.SideTheirs
	if j.Route == recovery.Pick {
		other = settle.SideYours
	}
	for i := range j.Steps {
		s := &j.Steps[i]
		switch s.Outcome {
		case replay.AlreadyThere:
			fact("leaves out", txt(plain, s.Commit.ID.Short()).add(dim, fmt.Sprintf(" is there already: %s did the same", first2(m.name(s.Same, other)))))
		case replay.Emptied:
			fact("leaves out", txt(plain, s.Commit.ID.Short()).add(dim, " has nothing left to add"))
		}
	}
}

func (m *model) asks(p *page, j *recovery.Join, w int, fact func(string, line)) {
	n := j.Conflicts()
	if n == 0 {
		fact("asks you", txt(joined, "nothing: it joins by itself"))
		return
	}
	l := line{}.bold(trouble, fmt.Sprint(n)).add(plain, map[bool]string{true: " decision", false: " decisions"}[n == 1])
	if j.Route != recovery.Merge {
		l = l.add(plain, ", at "+plural(len(j.Stops), "stop", "stops"))
	} else {
		l = l.add(plain, ", once")
	}
	fact("asks you", l)
	rows := 0
	for _, s := range j.Stops {
		if rows > 8 {
			p.row(txt(dim, "   and more"))
			return
		}
		sign, h := "●", yours
		if j.Route == recovery.Pick {
			sign, h = "■", theirs
		}
		if s.Commit.Commit != nil {
			p.row(txt(plain, "   ").add(h, sign+" ").add(plain, s.Commit.ID.Short()+" ").add(dim, s.Commit.Subject()).cut(w))
		}
		for i, f := range s.Files {
			if i == 5 {
				p.row(txt(dim, "     and "+plural(len(s.Files)-i, "more file", "more files")))
				break
			}
			words, h := hint(f)
			p.row(txt(plain, "     "+f.Path).add(dim, "   "+plural(len(f.Conflicts), "conflict", "conflicts")+" · ").add(h, words).cut(w))
			rows++
		}
	}
}

// hint says in a few words how a file's conflicts can be settled.
func hint(f *settle.File) (string, hue) {
	c := f.Conflicts[0]
	switch {
	case c.Suggested == settle.Weave:
		return "can be woven", joined
	case c.Suggested == settle.TheirsYours:
		return "both added lines here", joined
	case c.Whole():
		return words.Hint(c), plain
	case c.Suggested != "":
		return "one side holds both edits", joined
	}
	return "needs your eye", plain
}

// drawing shows the history a route would make.
func (m *model) drawing(r recovery.Route, j *recovery.Join, w int) page {
	var p page
	b := m.pos.Base().Short()
	a, t := m.pos.Parted.Yours, m.pos.Parted.Theirs
	const cell = 5
	if r == recovery.Pick {
		l, ids := txt(base, " ◆"), txt(dim, " "+b)
		if len(a) > 0 {
			l = l.add(yours, fmt.Sprintf("── %d × ● ──", len(a)))
		}
		if j.Kept() > (w-24)/cell {
			return page{l.add(theirs, fmt.Sprintf("── %d × ■′", j.Kept())), ids}
		}
		for i := range j.Steps {
			if !j.Steps[i].Left() {
				l = l.add(theirs, "─────■′")
				ids = ids.fit(l.width()-2).add(theirs, j.Steps[i].Commit.ID.Short())
			}
		}
		return page{l, ids}
	}
	if r == recovery.Rebase {
		line1, line2 := txt(base, " ◆"), txt(dim, " "+b)
		room := (w - 8) / cell
		kept := []string{}
		for i := range j.Steps {
			if !j.Steps[i].Left() {
				kept = append(kept, j.Steps[i].Commit.ID.Short())
			}
		}
		if len(kept)+len(t) > room {
			line1 = line1.add(theirs, fmt.Sprintf("── %d × ■ ──", len(t))).add(yours, fmt.Sprintf("── %d × ●", len(kept)))
			return page{line1, line2}
		}
		for i := len(t) - 1; i >= 0; i-- {
			line1, line2 = line1.add(theirs, "────■"), line2.add(theirs, " "+t[i].ID.Short())
		}
		for _, id := range kept {
			line1, line2 = line1.add(yours, "────●"), line2.add(yours, " "+id)
		}
		return page{line1, line2}
	}
	lane := func(sign string, n int) string {
		if n > 8 {
			return fmt.Sprintf("───%d × %s", n, sign)
		}
		return strings.Repeat("───"+sign, n)
	}
	top, bottom := lane("●", len(a)), lane("■", len(t))
	n := max(len([]rune(top)), len([]rune(bottom)))
	pad := func(s string) string { return s + strings.Repeat("─", n-len([]rune(s))) + "───" }
	p.row(txt(base, " ◆").add(yours, pad(top)+"╮"))
	p.row(txt(theirs, " │").add(plain, strings.Repeat(" ", n+3)).bold(joined, "✦").add(joined, "  joined"))
	p.row(txt(theirs, " ╰"+pad(bottom)+"╯"))
	return p
}

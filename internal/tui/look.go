package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik/internal/core/history"
	"dorvik/internal/core/object"
	"dorvik/internal/core/replay"
	"dorvik/internal/core/settle"
	"dorvik/internal/recovery"
)

func asBlocked(err error, b **recovery.Blocked) bool { return errors.As(err, b) }

func (m *model) lookKeys() []binding {
	if m.consent {
		return []binding{{"y", "let it run"}, {"esc", "no"}}
	}
	var out []binding
	switch {
	case m.pos.NothingToDo():
	case m.pos.Picking:
		out = append(out, binding{"enter", "see what they would make"}, binding{"x", "drop the pick"})
	case m.pos.Trivial() == recovery.FastForward:
		out = append(out, binding{"enter", "move forward"})
	case m.pos.Trivial() == recovery.UpToDate:
		out = append(out, binding{"enter", "go to Push"})
	default:
		out = append(out, binding{"enter", "choose a way to join"})
	}
	out = append(out, binding{"f", "fetch"}, binding{"↑↓", "scroll"})
	if len(m.drivers) > 0 {
		out = append(out, binding{"d", "merge driver"})
	}
	if m.movable() {
		out = append(out, binding{"m", "move it aside"})
	}
	if m.canUndo() {
		out = append(out, binding{"u", "undo the join"})
	}
	return append(out, binding{"q", "quit"})
}

// movable reports whether what is in the way can be moved aside, and was not agreed to be.
func (m *model) movable() bool { return m.inWay != nil && m.inWay.Unknown && !m.aside }

// moveAside has what is in the way moved aside when the result is accepted.
func (m *model) moveAside() {
	if m.movable() {
		m.aside = true
		m.flash = txt(plain, list(short(m.inWay.Paths, 3))+" will be moved aside when you accept the result. Undo brings it back.")
	}
}

func (m *model) canUndo() bool { return m.st.Accepted != nil && m.push.holds == "" }

func (m *model) lookKey(name string, page int) tea.Cmd {
	consent := m.consent
	m.consent = false
	if consent {
		if name == "y" && !m.busy() {
			return m.agreeToDriver()
		}
		m.flash = txt(plain, "The merge driver is not run; its files are joined as text.")
		return nil
	}
	switch name {
	case "d":
		if len(m.drivers) > 0 {
			d := m.drivers[0]
			m.consent = true
			m.flash = txt(trouble, "▲ ").add(plain, fmt.Sprintf("“%s” is your configuration's merge driver “%s”; files of the repository pick it. Press y to let it run here.", d.Command, d.Name))
		}
	case "enter", "right":
		if m.busy() {
			return nil
		}
		switch {
		case m.pos.NothingToDo():
			m.flash = txt(plain, "There is nothing to join and nothing to push.")
		case m.pos.Trivial() == recovery.FastForward:
			return m.accept(false)
		case m.pos.Trivial() == recovery.UpToDate:
			return m.toPush()
		default:
			m.goTo(recovery.Choose)
		}
	case "m":
		m.moveAside()
	case "f", "r":
		if !m.busy() {
			return m.load(true)
		}
	case "x":
		if m.pos.Picking && !m.busy() {
			return m.dropPick()
		}
	case "u":
		if m.canUndo() && !m.busy() {
			return m.undoJoin()
		}
	default:
		m.scrollKey(name, page)
	}
	return nil
}

func (m *model) lookPage(w, h int) page {
	var p page
	p.blank()
	m.headline(&p, w)
	p.blank()
	if m.pos.NothingToDo() {
		m.uncommitted(&p, w-2, 2)
		return p
	}
	if w < wide {
		p.rows(indent(m.lanes(w-3, 26), 2))
		p.blank()
		p.rows(indent(m.groundPage(w-3), 2))
		return p
	}
	left := max(w/2+2, min(m.lanesNeed()+6, w*56/100))
	lanes := m.lanes(left-3, h-len(p)-4)
	p.rows(beside(indent(lanes, 2), m.groundPage(w-left-4), left, w, h-len(p)-1))
	return p
}

// lanesNeed is the width at which no subject of the two lanes is cut.
func (m *model) lanesNeed() (n int) {
	for _, side := range [][]history.Node{m.pos.Parted.Yours, m.pos.Parted.Theirs} {
		longest := 0
		for _, c := range side {
			longest = max(longest, len([]rune(c.Subject())))
		}
		n += longest + 9
	}
	return n
}

func indent(p page, n int) page {
	for i := range p {
		p[i] = txt(plain, strings.Repeat(" ", n)).then(p[i])
	}
	return p
}

// headline says in one plain sentence what happened, and what to do.
func (m *model) headline(p *page, w int) {
	yours, their := len(m.pos.Parted.Yours), len(m.pos.Parted.Theirs)
	l := line{}
	second := ""
	switch {
	case m.pos.Picking:
		l = l.bold(bright, plural(their, "commit", "commits")+" to pick. ").add(plain, fmt.Sprintf("What %s changed there is brought onto %s, commit by commit.", m.theirNames(), m.pos.Branch.Name))
		second = "Your branch is as it was until you accept the result. The commits stay where they are, too."
		if n := len(m.pos.Home.Parted.Theirs); n > 0 {
			second += fmt.Sprintf(" %s has %s that you do not have: a push will want them joined.", m.pos.Branch.Upstream, plural(n, "commit", "commits"))
		}
	case m.pos.NothingToDo():
		l = l.bold(joined, "Nothing to do. ").add(plain, m.pos.Branch.Name+" and "+m.pos.Branch.Upstream+" hold the same commits.")
		second = "There is nothing to join and nothing to push."
		if m.push.holds != "" {
			l = line{}.bold(joined, "Pushed. ").add(plain, m.push.holds)
			second = "Yours and theirs are one line now. There is nothing left to do."
		}
	case m.pos.Trivial() == recovery.UpToDate:
		l = l.bold(joined, "Nothing new on "+m.pos.Branch.Upstream+". ").add(plain, "Your "+plural(yours, "commit", "commits")+" can be pushed as they are.")
		second = "There is nothing to join."
		if m.st.Accepted != nil {
			second = "They are the joined result, accepted here and not pushed yet."
		}
	case m.pos.Trivial() == recovery.FastForward:
		l = l.bold(joined, "Only theirs is new. ").add(plain, fmt.Sprintf("%s pushed %s to %s, and you have nothing unpushed.",
			m.theirNames(), plural(their, "commit", "commits"), strings.TrimPrefix(m.pos.Branch.Ref, "refs/heads/")))
		second = "Your branch can move forward to theirs without joining anything."
	default:
		l = l.bold(trouble, "A push is refused as things are. ").add(plain, fmt.Sprintf("%s pushed %s to %s, and yours %s not build on them.",
			m.theirNames(), plural(their, "commit", "commits"), strings.TrimPrefix(m.pos.Branch.Ref, "refs/heads/"), map[bool]string{true: "does", false: "do"}[yours == 1]))
		second = "Your " + plural(yours, "commit is", "commits are") + " safe here. Join the two lines, check that the result builds, and push again."
	}
	inner := w - 4
	p.rows(indent(wrap(l, inner), 2))
	p.rows(indent(wrap(txt(dim, second), inner), 2))
	if err := m.pos.Unanswered; err != nil {
		p.blank()
		p.rows(indent(wrap(txt(trouble, "▲ ").add(plain, sentence(err.Error())+" What you see is what was last fetched."), inner), 2))
	}
	if m.notice != "" {
		p.blank()
		p.rows(indent(wrap(txt(trouble, "▲ ").add(plain, m.notice), inner), 2))
	}
	if words := m.pos.Rewritten(); words != "" {
		p.blank()
		p.rows(indent(wrap(txt(trouble, "▲ ").add(plain, words), inner), 2))
	}
	if m.inWay != nil {
		p.blank()
		words := "The join must change %s, where you have work that is not committed. Commit it or put it aside before you accept the result; until then nothing is touched."
		switch {
		case m.aside:
			words = "The join must write where you have %s, which git does not know. It is moved aside when you accept the result, and undo brings it back."
		case m.inWay.Unknown:
			words = "The join must write where you have %s, which git does not know. Press m to have it moved aside when you accept the result; until then nothing is touched."
		}
		p.rows(indent(wrap(txt(trouble, "▲ ").add(plain, fmt.Sprintf(words, list(short(m.inWay.Paths, 4)))), inner), 2))
	}
}

func short(paths []string, n int) []string {
	if len(paths) <= n {
		return paths
	}
	return append(append([]string(nil), paths[:n]...), plural(len(paths)-n, "more", "more"))
}

// lanes draws the two lines since the common ancestor.
func (m *model) lanes(w, h int) page {
	var p page
	p.row(heading("WHERE THE LINES PART"))
	p.blank()
	same := map[object.ID]history.Node{}
	steps := m.plan.Asking().Steps
	if m.plan.Rebase != nil {
		steps = m.plan.Rebase.Steps
	}
	for _, s := range steps {
		if s.Outcome == replay.AlreadyThere {
			same[s.Commit.ID] = s.Same
		}
	}
	a, b := m.pos.Parted.Yours, m.pos.Parted.Theirs
	room := h - 9
	deep := max(len(a), len(b))
	each := 3
	for each > 1 && deep*each > room {
		each--
	}
	most := max(2, room/each)
	colA := m.lane(a, yours, "●", settle.SideYours, same, each, most)
	colB := m.lane(b, theirs, "■", settle.SideTheirs, same, each, most)
	mine, others := ", not pushed", ", not here yet"
	if m.pos.Picking {
		mine, others = ", since the lines parted", ", picked"
		if oldest := b[len(b)-1]; len(oldest.Parents) > 0 && oldest.Parents[0] != m.pos.Base() {
			colB.row(txt(theirs, "┊ ").add(dim, "older ones are not picked"))
		}
	}
	lane := (w - 3) / 2
	// What their lane does not need, yours may have.
	lane = max(lane, min(colA.width()+2, w-2-colB.width()))
	switch {
	case len(a) == 0:
		p.row(txt(plain, "   ").bold(theirs, "theirs").add(dim, others))
		p.blank()
		p.rows(indent(colB, 1))
		p.rows(m.stem(1))
		return p
	case len(b) == 0:
		p.row(txt(plain, "   ").bold(yours, "yours").add(dim, ", not pushed"))
		p.blank()
		p.rows(indent(colA, 1))
		p.rows(m.stem(1))
		return p
	}
	p.row(txt(plain, "   ").bold(yours, "yours").add(dim, mine).fit(lane+4).bold(theirs, "theirs").add(dim, others))
	p.blank()
	n := max(len(colA), len(colB))
	for i := range n {
		var x, y line
		if k := i - (n - len(colA)); k >= 0 {
			x = colA[k]
		}
		if k := i - (n - len(colB)); k >= 0 {
			y = colB[k]
		}
		p.row(txt(plain, " ").then(x.cut(lane - 1)).fit(lane + 1).then(y.cut(w - lane - 1)))
	}
	half := lane / 2
	p.row(txt(yours, " ╰"+strings.Repeat("─", half-1)).add(plain, "┬").add(theirs, strings.Repeat("─", lane-half-1)+"╯"))
	p.rows(m.stem(half + 1))
	p.blank()
	if m.pos.Picking {
		p.rows(wrap(txt(plain, fmt.Sprintf("%s will hold %s more.", m.pos.Branch.Name, plural(m.plan.Pick.Kept(), "commit", "commits"))), w-1))
		return p
	}
	sum := line{}.add(plain, fmt.Sprintf("After %s %s will hold ", m.pos.Base().Short(), m.pos.Branch.Name))
	byMerge := plural(len(a)+len(b)+1, "commit", "commits") + " by merge"
	if m.plan.Rebase.Refused == nil {
		sum = sum.add(plain, plural(len(b)+m.plan.Rebase.Kept(), "commit", "commits")+" by rebase, ")
	}
	p.rows(wrap(sum.add(plain, byMerge+"."), w-1))
	return p
}

// stem draws the common ancestor and the one before it.
func (m *model) stem(at int) page {
	var p page
	pad := strings.Repeat(" ", at)
	for i, n := range m.under {
		l := txt(plain, pad)
		if i == 0 {
			p.row(l.add(bright, "◆ ").add(base, n.ID.Short()+" ").add(plain, n.Subject()).add(dim, "  common ancestor"))
			if more := len(m.pos.Parted.Bases) - 1; more > 0 {
				p.row(txt(faint, pad+"│ ").add(dim, fmt.Sprintf("and %d more: the lines were merged across each other", more)))
			}
			continue
		}
		p.row(txt(faint, pad+"│"))
		p.row(l.add(base, "◆ "+n.ID.Short()+" ").add(dim, n.Subject()))
		if len(n.Parents) > 0 {
			p.row(txt(faint, pad+"┊"))
		}
	}
	return p
}

// lane draws one side's commits, newest first, with each rows a commit and at
// most most of them.
func (m *model) lane(nodes []history.Node, h hue, sign string, side settle.Side, same map[object.ID]history.Node, each, most int) page {
	var p page
	for i, n := range nodes {
		if i == most-1 && len(nodes) > most {
			p.row(txt(h, "┊ ").add(dim, plural(len(nodes)-i, "more, older", "more, older")))
			break
		}
		p.row(txt(h, sign+" ").add(h, n.ID.Short()+" ").add(plain, n.Subject()))
		if each > 1 {
			l := txt(h, "│").add(dim, "      "+first2(m.name(n, side))+", "+m.age(n))
			if t, ok := same[n.ID]; ok {
				l = l.add(joined, " in "+t.ID.Short()+" too")
			}
			p.row(l)
		}
		if each > 2 {
			p.row(txt(h, "│"))
		}
	}
	return p
}

// first2 shortens a colleague's name to the first word, but not "you, from
// elsewhere".
func first2(name string) string {
	if strings.HasPrefix(name, "you") {
		return name
	}
	return first(name)
}

// groundPage shows file by file what both sides touched, uncommitted work, and
// who to ask.
func (m *model) groundPage(w int) page {
	var p page
	p.row(heading("WHERE YOU TOUCH THE SAME GROUND").flush(txt(dim, "changed lines "), w))
	p.blank()
	if m.pos.Trivial() != recovery.NotTrivial {
		p = nil
		if m.pos.Trivial() == recovery.FastForward {
			p.row(heading("NO GROUND IN COMMON"))
			p.blank()
			p.rows(wrap(txt(plain, "You changed nothing that is not pushed, so nothing can conflict."), w))
		}
		m.uncommitted(&p, w, 0)
		m.whoToAsk(&p)
		return p
	}
	m.groundRows(&p, w)
	decide := 0
	for _, g := range m.ground {
		if g.Decide {
			decide++
		}
	}
	p.blank()
	alone := plural(len(m.ground)-decide, "joins by itself", "join by themselves")
	if decide == 0 {
		p.row(txt(joined, fmt.Sprintf("No file needs a decision; %s.", alone)))
	} else {
		p.row(line{}.bold(trouble, plural(decide, "file", "files")).add(plain, " will need a decision; ").add(joined, alone+"."))
	}
	m.remarks(&p, m.plan.Asking(), w)
	m.uncommitted(&p, w, 0)
	m.whoToAsk(&p)
	return p
}

// remarks tells what should be known of a join though it asks nothing.
func (m *model) remarks(p *page, j *recovery.Join, w int) {
	const most = 4
	all := j.Remarks()
	for i, n := range all {
		if i == most {
			p.row(txt(dim, fmt.Sprintf("▲ and %d remarks more; dorvik plan lists them.", len(all)-most)))
			return
		}
		l := txt(trouble, "▲ ")
		if n.Path != "" {
			l = l.add(bright, n.Path).add(plain, ": ")
		}
		p.rows(wrap(l.add(plain, n.Words+"."), w))
	}
}

const meetingWidth = 13

func (m *model) groundRows(p *page, w int) {
	name := 12
	top := 1
	for _, g := range m.ground {
		name = max(name, len(g.Path))
		top = max(top, g.Yours, g.Theirs)
	}
	bar := max(7, min(20, (w-name-meetingWidth-6)/2)) // of each side, in cells
	name = min(name, w-2*bar-meetingWidth-6)
	p.row(txt(plain, strings.Repeat(" ", name+bar-4)).add(yours, "yours ●").add(faint, "   ").add(theirs, "■ theirs"))
	p.blank()
	const most = 14
	for i, g := range m.ground {
		if i == most && len(m.ground) > most+1 {
			p.row(txt(dim, plural(len(m.ground)-i, "more file", "more files")))
			break
		}
		h := plain
		if g.Meeting == recovery.OnlyYours || g.Meeting == recovery.OnlyTheirs {
			h = dim
		}
		l := txt(h, cutPath(g.Path, name)).fit(name + 2)
		y, t := length(g.Yours, g.YoursWhole, top, bar), length(g.Theirs, g.TheirsWhole, top, bar)
		l = l.add(plain, strings.Repeat(" ", bar-y)).add(yours, strings.Repeat("█", y)).add(faint, "│").
			add(theirs, strings.Repeat("█", t)).add(plain, strings.Repeat(" ", bar-t+2))
		word, wh := string(g.Meeting), plain
		switch g.Meeting {
		case recovery.SameLines, recovery.SamePlace:
			wh = trouble
		case recovery.SameChange:
			wh = joined
		case recovery.OnlyYours:
			word, wh = "only you", dim
		case recovery.OnlyTheirs:
			word, wh = "only them", dim
			if g.Author != "" {
				word = "only " + first(g.Author)
			}
		}
		if g.Decide {
			wh = trouble
		}
		p.row(l.add(wh, word))
	}
}

// length is the length of a bar: at least one cell for any change.
func length(n int, whole bool, top, most int) int {
	if n == 0 && !whole {
		return 0
	}
	return max(1, n*most/top)
}

// cutPath shortens a path at its front, where it says least.
func cutPath(path string, width int) string {
	r := []rune(path)
	if len(r) <= width {
		return path
	}
	return "…" + string(r[len(r)-width+1:])
}

func (m *model) uncommitted(p *page, w, in int) {
	if len(m.pos.Dirty) == 0 {
		return
	}
	var paths []string
	for _, d := range m.pos.Dirty {
		paths = append(paths, d.Path)
	}
	if len(*p) > 0 {
		p.blank()
	}
	var q page
	q.row(heading("NOT COMMITTED YET"))
	l := txt(plain, list(short(paths, 3))+". ")
	if m.inWay == nil {
		l = l.add(dim, "This stays exactly as it is: the join does not touch "+map[bool]string{true: "that file", false: "those files"}[len(paths) == 1]+".")
	}
	q.rows(wrap(l, w))
	p.rows(indent(q, in))
}

func (m *model) whoToAsk(p *page) {
	if len(m.pos.Parted.Theirs) == 0 {
		return
	}
	p.blank()
	p.row(heading("WHO TO ASK"))
	names := recovery.Authors(m.pos.Parted.Theirs)
	for i, name := range names {
		if i == 5 {
			p.row(txt(dim, "  and "+plural(len(names)-i, "other", "others")))
			break
		}
		mine := slices.DeleteFunc(slices.Clone(m.pos.Parted.Theirs), func(n history.Node) bool { return n.Author().Name != name })
		p.row(txt(theirs, "■ ").add(plain, m.name(mine[0], settle.SideTheirs)+" ").
			add(dim, fmt.Sprintf("%s, %s, last %s", mine[0].Author().Email, plural(len(mine), "commit", "commits"), m.age(mine[0]))))
	}
}

// agreeToDriver lets a merge driver run in this repository, and looks again.
func (m *model) agreeToDriver() tea.Cmd {
	if err := m.s.Agree(m.drivers[0].String()); err != nil {
		return m.failure(err)
	}
	return m.load(false)
}

// dropPick goes back to where the branch stands to its upstream.
func (m *model) dropPick() tea.Cmd {
	if err := m.s.DropPick(); err != nil {
		return m.failure(err)
	}
	cmd := m.load(false)
	m.flash = txt(plain, "The pick is dropped; your branch is as it was.")
	return cmd
}

// undoJoin takes the accepted join back.
func (m *model) undoJoin() tea.Cmd {
	name := m.st.Accepted.Name
	cmd := m.start("going back", func(ctx context.Context, _ func(int, int)) (tea.Msg, error) {
		m.s.Notice = ""
		if _, err := m.s.GoBack(ctx, name); err != nil {
			return nil, err
		}
		return wentBack{m.s.Notice}, nil
	})
	m.task.vital = true
	return cmd
}

type wentBack struct{ notice string }

func (m *model) takeWentBack(b wentBack) tea.Cmd {
	m.notice = b.notice
	m.flash = txt(joined, "✓ ").add(plain, "The join is undone: branch, index and files are as they were. Your decisions are kept.")
	m.push, m.check = pushView{}, checkView{}
	m.goTo(recovery.Look)
	return m.load(true)
}

package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik/internal/recovery"
)

// The smallest screen that everything fits on, in cells.
const (
	minWidth  = 60
	minHeight = 18
	wide      = 110 // from here on panels stand side by side
)

// View draws the whole screen.
func (m *model) View() tea.View {
	rows := m.draw()
	text := make([]string, len(rows))
	for i, r := range rows {
		text[i] = m.theme.render(r)
	}
	v := tea.NewView(strings.Join(text, "\n"))
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "dorvik"
	if c := m.theme.paperColor(); c != nil {
		v.BackgroundColor = c
	}
	return v
}

// draw gives the rows of the screen, each as wide as it.
func (m *model) draw() page {
	if m.w < minWidth || m.h < minHeight {
		return page{txt(plain, fmt.Sprintf("Too small: dorvik needs %d×%d.", minWidth, minHeight)).fit(m.w)}
	}
	var p page
	p.row(m.header())
	if m.h >= 30 {
		p.blank()
	}
	p.row(m.stages())
	p.row(rule(m.w))
	room := m.h - len(p) - 3
	body := m.body(m.w, room)
	for i := range room {
		if i < len(body) {
			p.row(body[i])
		} else {
			p.blank()
		}
	}
	p.row(rule(m.w))
	p.row(m.said())
	p.row(m.keyLine())
	for i := range p {
		p[i] = p[i].fit(m.w)
	}
	return p
}

func (m *model) header() line {
	l := line{}.add(plain, " ").bold(bright, "dorvik").add(dim, "  "+m.repo)
	right := line{}
	if m.pos != nil {
		l = l.add(plain, "   "+m.pos.Branch.Name).add(dim, " → ").add(plain, m.pos.Branch.Upstream)
		right = m.status()
	}
	return l.flush(right.add(plain, " "), m.w)
}

// status is the right end of the first row.
func (m *model) status() line {
	switch m.stage {
	case recovery.Settle:
		if it := m.item(); it != nil && m.join.Stops[it.stop].Commit.Commit != nil {
			return txt(dim, fmt.Sprintf("%s  ·  stop %d of %d", m.join.Stops[it.stop].Commit.ID.Short(), it.stop+1, len(m.join.Stops)))
		}
		return txt(dim, string(m.st.Route))
	case recovery.Check:
		return txt(dim, m.check.command.Line)
	}
	switch {
	case m.pos.Unanswered != nil:
		return txt(trouble, "▲ "+m.pos.Branch.Remote+" did not answer")
	case m.pos.Asked.IsZero() && m.task != nil:
		return txt(dim, "asking "+m.pos.Branch.Remote+"…")
	case m.pos.Asked.IsZero():
		return txt(trouble, "▲ not asked").add(dim, "  f fetches")
	}
	return txt(dim, "fetched "+ago(m.now(), m.pos.Asked))
}

// stages is the row of the five stages, each with its state.
func (m *model) stages() line {
	gap := line{}.add(faint, "  ─────  ")
	if m.w < wide {
		gap = line{}.add(faint, " ── ")
	}
	l := line{}.add(plain, " ")
	for s := recovery.Look; s <= recovery.Push; s++ {
		if s > recovery.Look {
			l = l.then(gap)
		}
		word, state := s.String(), m.stageState(s)
		if m.w < wide && s != m.stage {
			state = ""
		}
		switch {
		case s == m.stage:
			l = l.bold(bright, "▶ "+word)
			if state != "" {
				l = l.add(plain, " "+state)
			}
		case s == recovery.Check && s < m.stage && m.check.ready && !m.check.passed:
			l = l.add(trouble, "▲ "+word)
			if state != "" {
				l = l.add(dim, " "+state)
			}
		case s < m.stage:
			l = l.add(joined, "✓ "+word)
			if state != "" {
				l = l.add(dim, " "+state)
			}
		default:
			l = l.add(dim, "· "+word)
		}
	}
	return l
}

func (m *model) stageState(s recovery.Stage) string {
	if m.pos == nil {
		return ""
	}
	switch s {
	case recovery.Look:
		if m.pos.Picking {
			return fmt.Sprintf("%d to pick", len(m.pos.Parted.Theirs))
		}
		return fmt.Sprintf("%d new · %d unpushed", len(m.pos.Parted.Theirs), len(m.pos.Parted.Yours))
	case recovery.Choose:
		if m.stage == recovery.Choose {
			return string(m.choose.route)
		}
		if m.join != nil {
			return string(m.join.Route)
		}
		return string(m.st.Route)
	case recovery.Settle:
		if m.join == nil {
			return ""
		}
		if n := m.join.Settled + m.join.Open; m.stage == recovery.Settle {
			return fmt.Sprintf("%d of %d", m.join.Settled, n)
		} else if n == 0 {
			return "nothing to settle"
		}
		return fmt.Sprintf("%d settled", m.join.Settled)
	case recovery.Check:
		return m.check.state()
	}
	return ""
}

// body is what stands between the two rules.
func (m *model) body(w, h int) page {
	switch {
	case m.help != nil:
		return window(m.helpPage(w), h, &m.help.off)
	case m.viewer != nil:
		return m.viewer.view(w, h)
	case m.blocked != nil:
		return m.blockedPage(w)
	case m.pos == nil:
		return nil
	case m.editing != nil && m.stage != recovery.Settle:
		p := page{m.editing.title, nil}
		p.rows(m.editing.ed.view(w, h-2))
		return p
	}
	switch m.stage {
	case recovery.Choose:
		return window(m.choosePage(w, h), h, &m.off)
	case recovery.Settle:
		return m.settlePage(w, h)
	case recovery.Check:
		return m.checkPage(w, h)
	case recovery.Push:
		return window(m.pushPage(w), h, &m.off)
	}
	return window(m.lookPage(w, h), h, &m.off)
}

func (m *model) blockedPage(w int) page {
	var p page
	p.blank()
	text := line{}.add(plain, "  ")
	var b *recovery.Blocked
	if asBlocked(m.blocked, &b) {
		p.prose(w-4, text.bold(trouble, b.What+" ").add(plain, b.Next))
	} else {
		p.prose(w-4, text.bold(trouble, "This did not work. ").add(plain, sentence(m.blocked.Error())))
	}
	p.blank()
	p.row(txt(dim, "  Nothing has been changed. Press r to look again, q to leave."))
	return p
}

// said is the row above the keys: what runs, what just happened, or what is true here.
func (m *model) said() line {
	l := line{}.add(plain, " ")
	if m.task != nil {
		if t := m.task.line(); t != nil {
			return l.then(t)
		}
	}
	if m.flash != nil {
		return l.then(m.flash)
	}
	return l.add(dim, m.remark())
}

// remark is the standing sentence of the stage.
func (m *model) remark() string {
	switch {
	case m.blocked != nil || m.pos == nil:
		return "Nothing has been changed: your branch and working tree are as you left them."
	case m.help != nil:
		return "Quitting is safe: decisions are kept, and nothing changes until you accept."
	case m.editing != nil:
		return "You are writing the text yourself. Nothing on disk changes yet."
	case m.viewer != nil:
		return "You are only reading."
	}
	switch m.stage {
	case recovery.Choose:
		if m.pos.Picking {
			return "This was worked out without touching your branch, index or files."
		}
		return "Both ways were worked out without touching your branch, index or files."
	case recovery.Settle:
		return m.settleRemark()
	case recovery.Check:
		return "Checked in a checkout of its own; your working tree is not used."
	case recovery.Push:
		return m.pushRemark()
	}
	return "Nothing has been changed: your branch and working tree are as you left them."
}

// binding is a key and what it does.
type binding struct{ key, does string }

// keyLine names the keys that matter here, as many as fit, and always ?.
func (m *model) keyLine() line {
	last := line{}.bold(bright, "?").add(plain, " all keys")
	l := line{}.add(plain, " ")
	bindings := m.bindings()
	for i, b := range bindings {
		next := l.bold(bright, b.key).add(plain, " "+b.does)
		if i+1 < len(bindings) || m.help == nil {
			next = next.add(plain, "   ")
		}
		if next.width()+last.width() > m.w {
			break
		}
		l = next
	}
	if m.help != nil {
		return l
	}
	return l.then(last)
}

func (m *model) bindings() []binding {
	switch {
	case m.help != nil:
		return []binding{{"esc", "back"}, {"↑↓", "scroll"}, {"q", "quit"}}
	case m.editing != nil:
		return []binding{{"ctrl+s", "keep this"}, {"esc", "leave without keeping"}, {"ctrl+z", "undo"}, {"ctrl+k", "delete line"}}
	case m.viewer != nil:
		return []binding{{"esc", "back"}, {"↑↓", "scroll"}, {"n p", "next, previous change"}}
	case m.blocked != nil:
		return []binding{{"r", "look again"}, {"q", "quit"}}
	case m.pos == nil:
		return []binding{{"q", "quit"}}
	}
	switch m.stage {
	case recovery.Choose:
		return m.chooseKeys()
	case recovery.Settle:
		return m.settleKeys()
	case recovery.Check:
		return m.checkKeys()
	case recovery.Push:
		return m.pushKeys()
	}
	return m.lookKeys()
}

// key handles a key press.
func (m *model) key(k tea.KeyPressMsg) tea.Cmd {
	name := k.String()
	if name == "ctrl+c" {
		if m.task != nil {
			m.task.cancel()
			return nil
		}
		if m.editing != nil && m.editing.ed.dirty && !m.editing.leaving {
			m.editing.leaving = true
			m.flash = txt(plain, "What you wrote is not kept yet. Press ctrl+c again to quit without it, or ctrl+s to keep it.")
			return nil
		}
		return tea.Quit
	}
	if m.editing != nil {
		return m.editKey(name, k.Key().Text)
	}
	m.flash = nil
	switch name {
	case "?":
		if m.help == nil {
			m.help = &scroll{}
		} else {
			m.help = nil
		}
		return nil
	case "q":
		if m.task != nil {
			m.task.cancel()
			if m.changing() {
				m.flash = txt(plain, "One moment: your branch is being changed. Press q again when it is done.")
				return nil
			}
		}
		return tea.Quit
	}
	page := max(1, m.h-8)
	if m.help != nil || m.viewer != nil {
		switch name {
		case "esc", "enter", "h", "backspace":
			m.help, m.viewer = nil, nil
		case "n", "p":
			if m.viewer != nil {
				m.viewer.jump(name == "n")
			}
		default:
			m.scrollKey(name, page)
		}
		return nil
	}
	if m.blocked != nil {
		if name == "r" && m.task == nil {
			m.blocked = nil
			return m.load(m.pos != nil)
		}
		return nil
	}
	if m.pos == nil {
		return nil
	}
	switch m.stage {
	case recovery.Look:
		return m.lookKey(name, page)
	case recovery.Choose:
		return m.chooseKey(name, page)
	case recovery.Settle:
		return m.settleKey(name, page)
	case recovery.Check:
		return m.checkKey(name, page)
	}
	return m.pushKey(name, page)
}

func (m *model) scrollKey(name string, page int) {
	switch name {
	case "up":
		m.scrollBy(-1)
	case "down":
		m.scrollBy(1)
	case "pgup":
		m.scrollBy(-page)
	case "pgdown", "space":
		m.scrollBy(page)
	case "home":
		m.scrollBy(-1 << 20)
	case "end":
		m.scrollBy(1 << 20)
	}
}

// busy says so and reports true while a task runs that a key must wait for.
func (m *model) busy() bool {
	if m.task == nil {
		return false
	}
	m.flash, m.waited = txt(plain, "One moment: "+m.task.doing+". ctrl+c cancels."), m.task
	return true
}

func (m *model) editKey(name, text string) tea.Cmd {
	e := m.editing
	switch name {
	case "ctrl+s":
		if m.busy() {
			return nil
		}
		if e.ed.invalid != "" {
			m.flash = txt(trouble, "▲ ").add(plain, "This text is not UTF-8, and writing it back would change more than you did. Choose one of the ways instead.")
			return nil
		}
		m.editing = nil
		return e.save(e.ed.text())
	case "esc":
		if e.ed.dirty && m.flash == nil {
			m.flash = txt(plain, "Press esc again to leave without keeping what you wrote, or ctrl+s to keep it.")
			return nil
		}
		m.editing, m.flash = nil, nil
		return nil
	}
	m.flash, e.leaving = nil, false
	e.ed.key(name, text, m.h-10)
	return nil
}

// click selects what is under the mouse where that is a way or a conflict.
func (m *model) click(x, y int) tea.Cmd {
	if m.stage == recovery.Settle && m.editing == nil && m.viewer == nil && m.help == nil {
		top := m.h - 3 - m.bodyHeight()
		return m.settleClick(x, y-top)
	}
	return nil
}

func (m *model) bodyHeight() int {
	if m.h >= 30 {
		return m.h - 7
	}
	return m.h - 6
}

// changing reports whether the running task is the one that must not be cut off.
func (m *model) changing() bool { return m.task != nil && m.task.vital }

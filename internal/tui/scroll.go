package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"charm.land/bubbles/v2/viewport"
)

// scroll is where in something longer than its room one is. The viewport keeps the place,
// and knows the keys and the wheel; the rows themselves stay lines, drawn when they are seen.
type scroll struct {
	vp   viewport.Model
	made bool
}

// size tells how many rows there are, and in how many they are seen.
func (s *scroll) size(rows, room int) {
	if !s.made {
		s.vp, s.made = viewport.New(), true
		s.vp.KeyMap = viewport.KeyMap{Up: keys.up, Down: keys.down, PageUp: keys.pageUp,
			PageDown: keys.pageDown}
	}
	s.vp.SetHeight(max(1, room))
	if s.vp.TotalLineCount() != rows {
		s.vp.SetContentLines(make([]string, rows)) // it need not know what they hold
	}
	s.vp.SetYOffset(s.vp.YOffset())
}

// at is the first row seen.
func (s *scroll) at() int { return s.vp.YOffset() }

// room is in how many rows they are seen.
func (s *scroll) room() int { return s.vp.Height() }

// to has a row be the first one seen, as far as there are rows below it.
func (s *scroll) to(row int) { s.vp.SetYOffset(row) }

// around has a row be seen with others above and below it.
func (s *scroll) around(row int) { s.to(row - s.vp.Height()/2) }

// show has a row be seen, moving no further than it must: the rows at the edges may say how much
// is hidden beyond.
func (s *scroll) show(row int) {
	edge := 0
	room := s.vp.Height()
	if room > 2 {
		edge = 1
	}
	switch {
	case row < s.at()+edge:
		s.to(row - edge)
	case row >= s.at()+room-edge:
		s.to(row - room + 1 + edge)
	}
}

// update scrolls by a key or the wheel.
func (s *scroll) update(msg tea.Msg) { s.vp, _ = s.vp.Update(msg) }

// window is what of a page is seen in a room. Its edges say how much is not.
func (s *scroll) window(p page, room int) page {
	s.size(len(p), room)
	if len(p) <= room {
		return p
	}
	return s.edges(append(page(nil), p[s.at():s.at()+room]...), len(p))
}

// edges writes on the first and last of the rows seen how many are hidden beyond.
func (s *scroll) edges(seen page, rows int) page {
	if above := s.at(); above > 0 {
		seen[0] = txt(dim, fmt.Sprintf("  ↑ %d more above", above+1))
	}
	if below := rows - s.at() - len(seen); below > 0 {
		seen[len(seen)-1] = txt(dim, fmt.Sprintf("  ↓ %d more below", below+1))
	}
	return seen
}

// moves reports whether there is more than is seen.
func (s *scroll) moves() bool { return !s.made || s.vp.TotalLineCount() > s.vp.Height() }

// actions are the keys that scroll, with what they are called in the last row.
func (s *scroll) actions() []action {
	up := act(keys.up, "scroll", quietly(func() { s.vp.ScrollUp(1) }))
	if !s.moves() {
		up = also(up.Binding, up.do) // there is nowhere to go
	}
	return []action{up, also(keys.down, quietly(func() { s.vp.ScrollDown(1) })),
		also(keys.pageUp, quietly(s.vp.PageUp)), also(keys.pageDown,
			quietly(s.vp.PageDown)),
		also(keys.top, quietly(func() { s.vp.GotoTop() })), also(keys.bottom,
			quietly(func() { s.vp.GotoBottom() })),
	}
}

// toTheEnd is more rows than there are.
const toTheEnd = 1 << 30

// rowKeys are the keys that go from row to row of a list; move goes some rows down, or up. what
// is what a row is, in the last row of the screen.
func rowKeys(what string, rows, page int, move func(by int) tea.Cmd) []action {
	by := func(n int) func() tea.Cmd { return func() tea.Cmd { return move(n) } }
	up := act(written(keys.up, "↑↓", what), what, by(-1))
	if rows < 2 {
		up = also(keys.up, up.do) // there is nowhere to go
	}
	page = max(1, page-1)
	return []action{up, also(keys.down, by(1)), also(keys.pageUp, by(-page)), also(keys.pageDown, by(page)),
		also(keys.top, by(-toTheEnd)), also(keys.bottom, by(toTheEnd))}
}

// wheeled is how many rows the wheel turned.
func wheeled(msg tea.MouseWheelMsg) int {
	return map[tea.MouseButton]int{tea.MouseWheelUp: -3, tea.MouseWheelDown: 3}[msg.Button]
}

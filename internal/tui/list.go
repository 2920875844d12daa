package tui

import (
	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
)

// toTheEnd is more rows than there are.
const toTheEnd = 1 << 30

// scrollKeys returns the keys that scroll a page. The last row names them only where there is more than is seen.
func scrollKeys(s *term.Scroll) []action {
	by := func(rows int) func() tea.Cmd { return quietly(func() { s.By(rows) }) }
	up := act(keys.Up, "scroll", by(-1))
	if !s.Moves() {
		up = also(up.Binding, up.do)
	}
	return []action{up, also(keys.Down, by(1)), also(keys.PageUp, by(-s.Room())), also(keys.PageDown, by(s.Room())),
		also(keys.Top, by(-toTheEnd)), also(keys.Bottom, by(toTheEnd))}
}

// rowKeys are the keys that go from row to row of a list; move goes some rows down, or up. what
// is what a row is, in the last row of the screen.
func rowKeys(what string, rows, page int, move func(by int) tea.Cmd) []action {
	by := func(n int) func() tea.Cmd { return func() tea.Cmd { return move(n) } }
	up := act(keys.Written(keys.Up, "↑↓", what), what, by(-1))
	if rows < 2 {
		up = also(keys.Up, up.do) // there is nowhere to go
	}
	page = max(1, page-1)
	return []action{up, also(keys.Down, by(1)), also(keys.PageUp, by(-page)), also(keys.PageDown, by(page)),
		also(keys.Top, by(-toTheEnd)), also(keys.Bottom, by(toTheEnd))}
}

// wheeled is how many rows the wheel turned.
func wheeled(msg tea.MouseWheelMsg) int {
	return map[tea.MouseButton]int{tea.MouseWheelUp: -3, tea.MouseWheelDown: 3}[msg.Button]
}

package tui

import (
	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
)

// toTheEnd is more rows than any list has.
const toTheEnd = 1 << 30

// scrollKeys returns the keys that scroll a page. The last row names them only if there is more than fits.
func scrollKeys(s *term.Scroll) []action {
	by := func(rows int) func() tea.Cmd { return quietly(func() { s.By(rows) }) }
	up := act(keys.Up, "scroll", by(-1))
	if !s.Moves() {
		up = also(up.Binding, up.do)
	}
	return []action{up, also(keys.Down, by(1)), also(keys.PageUp, by(-s.Room())), also(keys.PageDown, by(s.Room())),
		also(keys.Top, by(-toTheEnd)), also(keys.Bottom, by(toTheEnd))}
}

// rowKeys returns the keys that go from row to row by calling move. The last of them goes to the end.
func rowKeys(what string, rows, page int, move func(by int) tea.Cmd) []action {
	by := func(n int) func() tea.Cmd { return func() tea.Cmd { return move(n) } }
	up := act(keys.Written(keys.Up, "↑↓", what), what, by(-1))
	if rows < 2 {
		up = also(keys.Up, up.do) // the list has one row
	}
	page = max(1, page-1)
	return []action{up, also(keys.Down, by(1)), also(keys.PageUp, by(-page)), also(keys.PageDown, by(page)),
		also(keys.Top, by(-toTheEnd)), also(keys.Bottom, by(toTheEnd))}
}

// wheeled returns the number of rows that the wheel turned.
func wheeled(msg tea.MouseWheelMsg) int {
	return map[tea.MouseButton]int{tea.MouseWheelUp: -3, tea.MouseWheelDown: 3}[msg.Button]
}

// list is the rows of a screen, one of which is marked. It handles keys, clicks and the wheel; its screen draws the
// contents of rows.
type list struct {
	row    int            // marked row, from 0
	rows   func() int     // number of rows
	turned func() tea.Cmd // called after a row was marked; or nil
	end    func() tea.Cmd // replaces the key for the end, if marking the last row is not enough
	scroll term.Scroll
}

// clickedRow is a click on a row of a list.
type clickedRow int

// keys returns the keys that go from row to row. what names a row in the last row of the screen.
func (l *list) keys(what string) []action {
	out := rowKeys(what, l.rows(), l.scroll.Room(), func(by int) tea.Cmd { return l.to(l.row + by) })
	if l.end != nil {
		out[len(out)-1].do = l.end
	}
	return out
}

// to marks a row, or the nearest one that exists.
func (l *list) to(row int) tea.Cmd {
	l.row = max(0, min(row, l.rows()-1))
	if l.turned == nil {
		return nil
	}
	return l.turned()
}

// update handles a click or the wheel.
func (l *list) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case clickedRow:
		return l.to(int(msg))
	case tea.MouseWheelMsg:
		return l.to(l.row + wheeled(msg))
	}
	return nil
}

// rowLine draws row i with the mark if it is the marked one, and a click that marks it.
func (l *list) rowLine(i, w int, text term.Line) term.Line {
	sign := "    "
	if i == l.row {
		sign = "  ▶ "
	}
	row := term.Text(term.Bright, sign).Then(text).Cut(w)
	if i == l.row {
		row = row.Fit(w).On(term.OnRow)
	}
	return row.Clicks(clickedRow(i))
}

// listed is a page with the rows of a list, in order, between other rows.
type listed struct {
	page   term.Page
	list   *list
	w      int // width in cells
	next   int // next row to draw
	marked int // page line of the marked row
}

// on returns a listed that continues a page.
func (l *list) on(p term.Page, w int) *listed { return &listed{page: p, list: l, w: w} }

// item draws the next row of the list.
func (d *listed) item(text term.Line) {
	if d.next == d.list.row {
		d.marked = len(d.page)
	}
	d.page.Row(d.list.rowLine(d.next, d.w, text))
	d.next++
}

// window returns the visible part of the page with the marked row. With the first row marked it shows everything above
// it too.
func (d *listed) window(room int) term.Page {
	s := &d.list.scroll
	s.Size(len(d.page), room)
	if d.list.row == 0 {
		s.To(0)
	}
	s.Show(d.marked)
	return s.Window(d.page, room)
}

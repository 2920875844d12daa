package term

import (
	"fmt"

	"charm.land/bubbles/v2/viewport"
	tea "charm.land/bubbletea/v2"
)

// Scroll is a position in a page that is longer than its room. The viewport of Bubbles keeps it; the rows themselves
// stay lines.
type Scroll struct {
	vp   viewport.Model
	made bool
}

// Size sets the number of rows and how many of them are visible.
func (s *Scroll) Size(rows, room int) {
	if !s.made {
		s.vp, s.made = viewport.New(), true
		s.vp.KeyMap = viewport.KeyMap{} // scrollKeys has the keys
	}
	s.vp.SetHeight(max(1, room))
	if s.vp.TotalLineCount() != rows {
		s.vp.SetContentLines(make([]string, rows)) // only their number matters
	}
	s.vp.SetYOffset(s.vp.YOffset())
}

// At returns the index of the first visible row.
func (s *Scroll) At() int { return s.vp.YOffset() }

// Room returns the number of visible rows.
func (s *Scroll) Room() int { return s.vp.Height() }

// To scrolls to a row, as far as there are rows below it.
func (s *Scroll) To(row int) { s.vp.SetYOffset(row) }

// Around scrolls so that a row is in the middle.
func (s *Scroll) Around(row int) { s.To(row - s.vp.Height()/2) }

// Show scrolls the least that makes a row visible. It avoids the first and last visible rows, which may be covered by
// Edges.
func (s *Scroll) Show(row int) {
	edge := 0
	room := s.vp.Height()
	if room > 2 {
		edge = 1
	}
	switch {
	case row < s.At()+edge:
		s.To(row - edge)
	case row >= s.At()+room-edge:
		s.To(row - room + 1 + edge)
	}
}

// Update scrolls by the mouse wheel.
func (s *Scroll) Update(msg tea.Msg) { s.vp, _ = s.vp.Update(msg) }

// Window returns the visible rows of a page. The first and last of them say how many rows are hidden.
func (s *Scroll) Window(p Page, room int) Page {
	room = max(0, room)
	s.Size(len(p), room)
	if len(p) <= room {
		return p
	}
	return s.Edges(append(Page(nil), p[s.At():s.At()+room]...), len(p))
}

// Edges replaces the first and last visible rows by the number of rows hidden beyond them.
func (s *Scroll) Edges(seen Page, rows int) Page {
	if len(seen) == 0 {
		return seen // there is no room for any
	}
	if above := s.At(); above > 0 {
		seen[0] = Text(Dim, fmt.Sprintf("  ↑ %d more above", above+1))
	}
	if below := rows - s.At() - len(seen); below > 0 {
		seen[len(seen)-1] = Text(Dim, fmt.Sprintf("  ↓ %d more below", below+1))
	}
	return seen
}

// Moves reports whether there are more rows than are visible.
func (s *Scroll) Moves() bool { return !s.made || s.vp.TotalLineCount() > s.vp.Height() }

// By scrolls some rows down, or up if rows is negative.
func (s *Scroll) By(rows int) { s.To(s.At() + rows) }

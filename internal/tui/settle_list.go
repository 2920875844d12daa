package tui

import (
	"fmt"
	"strconv"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/words"
)

const listWidth = 31

// listing is the list of Settle with the keys: conflicts, and below them what joined by itself.
type listing struct {
	*settleScreen
	row   int    // the conflicts first, then the files
	typed string // digits
}

// toList gives the list the keys.
func (s *settleScreen) toList() {
	s.open(&listing{settleScreen: s, row: s.at})
}

// listed is the list while it has the keys, or a file of it is read.
func (s *settleScreen) listed() *listing {
	for _, over := range s.over {
		if l, ok := over.(*listing); ok {
			return l
		}
	}
	return nil
}

func (l *listing) actions() []action {
	enter := acts(keys.next, "go to it", l.enterRow)
	if l.row >= len(l.questions) {
		enter = acts(keys.next, "read it", l.enterRow)
	}
	move := func(by int) func() tea.Cmd {
		return quietly(func() { l.moveTo(l.row + by) })
	}
	up := written(keys.up, fmt.Sprintf("↑↓ 1–%d", len(l.questions)), "conflict, file")
	out := []action{enter, {up, move(-1), false}, also(keys.down, move(1)), also(keys.pageUp, move(-10)),
		also(keys.pageDown, move(10)),
		also(keys.top, move(-1<<20)), also(keys.bottom, move(1<<20))}
	for d := range keys.digits {
		out = append(out, also(keys.digits[d], quietly(func() { l.digit(d) })))
	}
	return append(out, act(keys.back, "back to the conflict", quietly(l.close)), also(keys.list, quietly(l.close)))
}

func (l *listing) moveTo(row int) {
	l.row, l.typed = max(0, min(row, len(l.questions)+len(l.joinedAlone)-1)), ""
}

// digit goes to the conflict of a number that is typed digit by digit.
func (l *listing) digit(d int) {
	for _, typed := range []string{l.typed + strconv.Itoa(d), strconv.Itoa(d)} {
		if n, err := strconv.Atoi(typed); err == nil && n >= 1 && n <= len(l.questions) {
			l.row, l.typed = n-1, typed
			return
		}
	}
}

// enterRow goes to the conflict of the row, or reads its file.
func (l *listing) enterRow() tea.Cmd {
	if l.row < len(l.questions) {
		l.close()
		return l.turnTo(l.row)
	}
	return l.read(l.joinedAlone[l.row-len(l.questions)].Path)
}

func (l *listing) update(msg tea.Msg) tea.Cmd {
	if at, ok := msg.(clickedConflict); ok {
		l.row = int(at)
		return l.enterRow()
	}
	if wheel, ok := msg.(tea.MouseWheelMsg); ok {
		l.moveTo(l.row + map[tea.MouseButton]int{tea.MouseWheelUp: -1, tea.MouseWheelDown: 1}[wheel.Button])
		return nil
	}
	return l.settleScreen.update(msg)
}

func (l *listing) view(w, h int) page {
	if w < wide {
		return l.listPage(w, h)
	}
	return l.settleScreen.view(w, h)
}

func (l *listing) remark() line {
	if l.row < len(l.questions) {
		return txt(dim, "Enter goes to this conflict; a number goes to the conflict of that number.")
	}
	return txt(dim, "This file joined by itself. Read it if you like.")
}

// listRow is a row of the list, drawn when it is seen.
type listRow func() line

// listPage is the conflicts, and below them what joined by itself.
func (s *settleScreen) listPage(w, h int) page {
	rows, cursor := s.listRows(w, h)
	s.list.size(len(rows), h)
	s.list.show(cursor)
	var seen page
	for _, row := range rows[s.list.at():min(len(rows), s.list.at()+h)] {
		seen.row(row())
	}
	return s.list.edges(seen, len(rows))
}

// listRows are the rows of the list, and which of them one is on.
func (s *settleScreen) listRows(w, h int) (rows []listRow, cursor int) {
	here, listed := s.at, s.listed()
	if listed != nil {
		here = listed.row
	}
	add := func(l line) { rows = append(rows, func() line { return l }) }
	entry := func(i int, click tea.Msg, draw listRow) {
		if i == here {
			cursor = len(rows)
			under := draw
			draw = func() line {
				return txt(bright, words.If(listed != nil, "▶ ", "▷ ")).then(under()).fit(w).on(onRow)
			}
		} else {
			under := draw
			draw = func() line { return txt(plain, "  ").then(under()).fit(w) }
		}
		rows = append(rows, func() line { return draw().clicks(click) })
	}
	if h > 24 {
		add(nil)
	}
	digits := len(fmt.Sprint(len(s.questions)))
	add(txt(plain, " ").then(heading("CONFLICTS")).
		add(plain, fmt.Sprintf("  %d", s.join.Settled)).add(dim, fmt.Sprintf(" of %d settled", len(s.questions))))
	add(nil)
	for i := range s.questions {
		q := &s.questions[i]
		if i == 0 || q.Stop != s.questions[i-1].Stop || q.Conflict.Path != s.questions[i-1].Conflict.Path {
			if i > 0 {
				add(nil)
			}
			if stop := s.join.Stops[q.Stop]; stop.Uncommitted && (i == 0 || q.Stop != s.questions[i-1].Stop) {
				add(txt(plain, "  ").mark(markYours).add(yours, stop.Commit.Subject()))
			}
			add(txt(plain, "  ").bold(plain, cutPath(q.Conflict.Path, w-3)))
		}
		entry(i, clickedConflict(i), func() line {
			return txt(faint, fmt.Sprintf("%*d ", digits, i+1)).then(s.conflictRow(q))
		})
	}
	add(nil)
	add(txt(plain, " ").then(rule(w - 2)))
	add(txt(plain, " ").then(heading("JOINED BY THEMSELVES")).add(plain, fmt.Sprintf("  %d", len(s.joinedAlone))))
	for i, o := range s.joinedAlone {
		entry(len(s.questions)+i, clickedFile(i), func() line {
			m, count := joinedSign(o)
			k := plain
			if s.isRead(o.Path) {
				m, k = markSettled, dim
			}
			return line{}.mark(m).add(k, cutPath(o.Path, w-12)).fit(w-8).add(dim, count)
		})
	}
	if s.screen() == screen(s) && len(s.joinedAlone) > 0 {
		add(nil)
		add(txt(dim, "  ").bold(bright, keys.list.Help().Key).add(dim, " goes into this list"))
	}
	return rows, cursor
}

// conflictRow is a conflict in the list.
func (s *settleScreen) conflictRow(q *recovery.Attributed) line {
	if why := s.aside(q); why != "" {
		return line{}.mark(markBehind).add(dim, "later: "+why)
	}
	where := lineWords(q.Conflict.Place.Yours)
	if q.Conflict.Place.Yours.Empty() {
		where = afterLine(q.Conflict.Place.Yours.Lo)
	}
	if q.Conflict.Whole() {
		where = words.Hint(q.Conflict)
	}
	if q.Decision != nil {
		return line{}.mark(markSettled).add(dim, q.Decision.Way.Label()+"  "+where)
	}
	return line{}.mark(markOpen).add(dim, where)
}

// joinedSign tells of a file that joined by itself whose change it has, and how many lines changed.
func joinedSign(o recovery.Overlap) (mark, string) {
	m, count := markJoined, fmt.Sprintf("~%d", max(o.Yours, o.Theirs))
	switch o.Kind {
	case recovery.OnlyYours:
		m = markYours
	case recovery.OnlyTheirs:
		m = markTheirs
	case recovery.SameChange:
		count = "="
	}
	if o.YoursWhole || o.TheirsWhole {
		count = "bin"
	}
	return m, count
}

// lineWords tells a span as people count lines, from 1.
func lineWords(s merge.Span) string {
	if s.Hi-s.Lo == 1 {
		return fmt.Sprintf("line %d", s.Hi)
	}
	return fmt.Sprintf("lines %d–%d", s.Lo+1, s.Hi)
}

func afterLine(n int) string {
	if n == 0 {
		return "at the start"
	}
	return fmt.Sprintf("after line %d", n)
}

// joinedAlone are the files that ask nothing.
func joinedAlone(overlap []recovery.Overlap, questions []recovery.Attributed) (out []recovery.Overlap) {
	asked := map[string]bool{}
	for _, q := range questions {
		for _, p := range q.File.Names() {
			asked[p] = true
		}
	}
	for _, o := range overlap {
		if !o.Decide && !asked[o.Path] {
			out = append(out, o)
		}
	}
	return out
}

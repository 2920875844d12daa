package tui

import (
	"fmt"
	"path"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

const listWidth = 31

// listing is the list of Settle when it has the keys: conflicts, and below them what joined by itself.
type listing struct {
	*settleScreen
	row   int    // conflicts first, then files
	typed string // typed digits
	only  string // filter on path, kind or author; empty for all rows
}

// toList gives the keys to the list.
func (s *settleScreen) toList() {
	s.job.open(&listing{settleScreen: s, row: s.at})
}

// listed returns the list while it has the keys or a file of it is shown.
func (s *settleScreen) listed() *listing {
	for _, over := range s.job.over {
		if l, ok := over.(*listing); ok {
			return l
		}
	}
	return nil
}

func (l *listing) actions() []action {
	enter := acts(keys.Next, "go to it", l.enterRow)
	if l.row >= len(l.job.questions) {
		enter = acts(keys.Next, "read it", l.enterRow)
	}
	move := func(by int) func() tea.Cmd {
		return quietly(func() { l.moveTo(l.row + by) })
	}
	up := keys.Written(keys.Up, fmt.Sprintf("↑↓ 1–%d", len(l.job.questions)), "conflict, file")
	out := []action{enter, {up, move(-1), false}, also(keys.Down, move(1)), also(keys.PageUp, move(-10)),
		also(keys.PageDown, move(10)),
		also(keys.Top, move(-1<<20)), also(keys.Bottom, move(1<<20))}
	for d := range keys.Digits {
		out = append(out, also(keys.Digits[d], quietly(func() { l.digit(d) })))
	}
	out = append(out, act(keys.Find, "show only…", l.filter))
	if l.only != "" {
		return append(out, act(keys.Back, "show all", quietly(func() { l.only = "" })))
	}
	return append(out, act(keys.Back, "back to the conflict", quietly(l.job.close)),
		also(keys.List, quietly(l.job.close)))
}

// moveTo goes to a row or, if it is hidden, to the next visible one.
func (l *listing) moveTo(row int) {
	last := len(l.job.questions) + len(l.job.joinedAlone) - 1
	step := 1
	if row < l.row {
		step = -1
	}
	l.typed = ""
	for row = max(0, min(row, last)); row >= 0 && row <= last; row += step {
		if l.shows(l.only, row) {
			l.row = row
			return
		}
	}
}

// filter asks for a text and shows only the rows that contain it.
func (l *listing) filter() tea.Cmd {
	f := &finding{screen: l, f: l.job.frame, label: "show only", says: "What has this in its path, its kind or its " +
		"author's name, and what is open, settled, put aside or " +
		"read.", empty: term.Text(term.Dim, "such as fares/, ilka, deleted, open")}
	f.open(l.only, act(keys.Next, "show these", f.typed(func(text string) tea.Cmd {
		for row := range len(l.job.questions) + len(l.job.joinedAlone) {
			if l.shows(text, row) {
				l.only, l.row = text, row
				return nil
			}
		}
		l.job.flash = term.Text(term.Plain, "Nothing here has “"+text+"”.")
		return nil
	})))
	return nil
}

// shows reports whether a row of the list contains a text.
func (s *settleScreen) shows(text string, row int) bool {
	if text == "" {
		return true
	}
	var has string
	if row < len(s.job.questions) {
		q := &s.job.questions[row]
		has = q.Question.Path + " " + words.Hint(q.Question) + " " + s.theirName(q) + " " +
			words.If(q.Decision != nil, "settled", words.If(s.aside(q) != "", "put aside "+s.aside(q), "open"))
	} else {
		o := s.job.joinedAlone[row-len(s.job.questions)].file
		has = o.Path + " joined " + words.If(s.isRead(o.Path), "read", "unread")
	}
	return strings.Contains(strings.ToLower(has), strings.ToLower(text))
}

// digit goes to the conflict whose number is typed.
func (l *listing) digit(d int) {
	for _, typed := range []string{l.typed + strconv.Itoa(d), strconv.Itoa(d)} {
		if n, err := strconv.Atoi(typed); err == nil && n >= 1 && n <= len(l.job.questions) {
			l.row, l.typed = n-1, typed
			return
		}
	}
}

// enterRow goes to the conflict of the row, or shows its file.
func (l *listing) enterRow() tea.Cmd {
	if l.row < len(l.job.questions) {
		l.job.close()
		return l.turnTo(l.row)
	}
	return l.read(l.job.joinedAlone[l.row-len(l.job.questions)].file.Path)
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

func (l *listing) view(w, h int) term.Page {
	if w < wide {
		return l.page().listPage(w, h)
	}
	return l.settleScreen.view(w, h)
}

func (l *listing) remark() term.Line {
	if l.only != "" {
		return term.Text(term.Dim, "Only what has “"+l.only+"” is shown; esc shows all.")
	}
	if l.row < len(l.job.questions) {
		return term.Text(term.Dim, "Enter goes to this conflict; a number goes to the conflict of that number."+
			askedFirst(&l.job.questions[l.row]))
	}
	switch row := l.job.joinedAlone[l.row-len(l.job.questions)]; {
	case row.part:
		return term.Text(term.Dim, "What joined by itself in this file, beside its conflicts. Read it if you like.")
	case row.settled:
		return term.Text(term.Dim, "You settled this file before. Enter shows it; there it can be reopened.")
	}
	return term.Text(term.Dim, "This file joined by itself. Read it if you like.")
}

// listRow is a row of the list: a fixed line, or one that is drawn when it is visible, of a conflict or, with higher
// numbers, of a file that joined by itself.
type listRow struct {
	line term.Line
	of   int // index of a conflict or file; -1 for a heading
}

// listPage draws the conflicts and what joined by itself.
func (s settlePage) listPage(w, h int) term.Page {
	r := s.listRows(w, h)
	s.list.Size(len(r.rows), h)
	s.list.Show(r.cursor)
	var seen term.Page
	for _, row := range r.rows[s.list.At():min(len(r.rows), s.list.At()+h)] {
		seen.Row(r.draw(row))
	}
	return s.list.Edges(seen, len(r.rows))
}

// listRows collects the rows of the list; cursor is the marked one.
type listRows struct {
	*settleScreen
	here   int // current conflict or file
	open   *listing
	w      int
	rows   []listRow
	cursor int
}

// listRows returns the rows of the list and the marked one.
func (s settlePage) listRows(w, h int) *listRows {
	r := &listRows{settleScreen: s.settleScreen, here: s.at, open: s.listed(), w: w,
		rows: make([]listRow, 0, len(s.job.questions)+len(s.job.joinedAlone)+16)}
	if r.open != nil {
		r.here = r.open.row
	}
	if h > 24 {
		r.add(nil)
	}
	r.add(term.Text(term.Plain, " ").Then(term.Heading("CONFLICTS")).
		Add(term.Plain, fmt.Sprintf("  %d", s.job.join.Settled)).Add(term.Dim,
		fmt.Sprintf(" of %d settled", len(s.job.questions))))
	r.add(nil)
	r.conflicts()
	r.add(nil)
	r.add(term.Text(term.Plain, " ").Then(term.Rule(w - 2)))
	r.add(term.Text(term.Plain, " ").Then(term.Heading(words.If(len(s.job.pos.SettledBefore()) > 0,
		"JOINED ALREADY", "JOINED BY THEMSELVES"))).Add(term.Plain,
		fmt.Sprintf("  %d", len(s.job.joinedAlone))))
	for i := range s.job.joinedAlone {
		r.entry(len(s.job.questions) + i)
	}
	if s.job.screen() == screen(s.settleScreen) && len(s.job.joinedAlone) > 0 {
		r.add(nil)
		r.add(term.Text(term.Dim, "  ").Bold(term.Bright, keys.List.Help().Key).Add(term.Dim, " goes into this list"))
	}
	return r
}

// conflicts adds the rows of the conflicts, file by file.
func (r *listRows) conflicts() {
	before := -1 // index of the row before
	for i := range r.job.questions {
		q := &r.job.questions[i]
		if r.hidden(i) {
			continue
		}
		stop := before < 0 || q.Stop != r.job.questions[before].Stop
		if stop || q.Question.Path != r.job.questions[before].Question.Path {
			if before >= 0 {
				r.add(nil)
			}
			if at := r.job.join.Stops[q.Stop]; at.Uncommitted && stop {
				r.add(term.Text(term.Plain, "  ").Mark(term.MarkYours).Add(term.Yours, at.Commit.Subject()))
			}
			r.add(term.Text(term.Plain, "  ").Bold(term.Plain, term.CutPath(q.Question.Path, r.w-3)))
		}
		before = i
		r.entry(i)
	}
}

// hidden reports whether a filter hides the row.
func (r *listRows) hidden(row int) bool { return r.open != nil && !r.shows(r.open.only, row) }

func (r *listRows) add(l term.Line) { r.rows = append(r.rows, listRow{l, -1}) }

// entry adds a row that can be marked.
func (r *listRows) entry(i int) {
	if r.hidden(i) {
		return
	}
	if i == r.here {
		r.cursor = len(r.rows)
	}
	r.rows = append(r.rows, listRow{nil, i})
}

// draw draws a row.
func (r *listRows) draw(row listRow) term.Line {
	if row.of < 0 {
		return row.line
	}
	l, click := r.entryLine(row.of)
	if row.of != r.here {
		return term.Text(term.Plain, "  ").Then(l).Fit(r.w).Clicks(click)
	}
	return term.Text(term.Bright, words.If(r.open != nil, "▶ ", "▷ ")).Then(l).Fit(r.w).On(term.OnRow).Clicks(click)
}

// entryLine returns the text of a conflict's or file's row and its click.
func (r *listRows) entryLine(i int) (term.Line, tea.Msg) {
	if i < len(r.job.questions) {
		digits := len(fmt.Sprint(len(r.job.questions)))
		return term.Text(term.Faint, fmt.Sprintf("%*d ", digits,
			i+1)).Then(r.page().conflictRow(&r.job.questions[i])), clickedConflict(i)
	}
	i -= len(r.job.questions)
	o := r.job.joinedAlone[i]
	m, count := joinedSign(o.file)
	k := term.Plain
	if r.isRead(o.file.Path) {
		m, k = term.MarkSettled, term.Dim
	}
	name := term.CutPath(o.file.Path, r.w-12)
	switch {
	case o.part:
		name, count = "rest of "+term.CutPath(path.Base(o.file.Path), r.w-18), ""
	case o.settled:
		m, count = term.MarkSettled, "by you"
	}
	return term.Line{}.Mark(m).Add(k, name).Fit(r.w-8).Add(term.Dim, count), clickedFile(i)
}

// conflictRow draws a conflict in the list.
func (s settlePage) conflictRow(q *plan.Attributed) term.Line {
	if why := s.aside(q); why != "" {
		return term.Line{}.Mark(term.MarkBehind).Add(term.Dim, "later: "+why)
	}
	where := lineWords(q.Question.Place.Yours)
	if q.Question.Place.Yours.Empty() {
		where = afterLine(q.Question.Place.Yours.Lo)
	}
	if q.Question.Whole() {
		where = words.Hint(q.Question)
	}
	if q.Decision != nil {
		return term.Line{}.Mark(term.MarkSettled).Add(term.Dim, q.Decision.Way.Label()+"  "+where)
	}
	return term.Line{}.Mark(term.MarkOpen).Add(term.Dim, where)
}

// joinedSign returns the sign of a file that joined by itself and its number of changed lines.
func joinedSign(o plan.Overlap) (term.Mark, string) {
	m, count := term.MarkJoined, fmt.Sprintf("~%d", max(o.Yours, o.Theirs))
	switch o.Kind {
	case plan.OnlyYours:
		m = term.MarkYours
	case plan.OnlyTheirs:
		m = term.MarkTheirs
	case plan.SameChange:
		count = "="
	}
	switch {
	case !o.Counted && count != "=":
		count = "…"
	case o.YoursWhole || o.TheirsWhole:
		count = "bin"
	}
	return m, count
}

// lineWords formats a span of lines, counted from 1.
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

package tui

import (
	"cmp"
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/rx"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

func (s *settleScreen) view(w, h int) page {
	q := s.question()
	switch {
	case q == nil:
		p := page{nil, txt(plain, "  ").then(done("Nothing asks for a decision: all joined by itself."))}
		return append(p, nil, txt(dim, "  Enter goes on to the check."))
	case w < wide:
		return s.conflictPage(q, w, h)
	}
	right := s.conflictPage(q, w-listWidth-3, h)
	return beside(s.listPage(listWidth, h), right, listWidth, w, h)
}

// conflictPage is one conflict: where and who, the two edits, the ways, the result.
func (s *settleScreen) conflictPage(q *plan.Attributed, w, h int) page {
	if q.Question.Whole() {
		return s.shapePage(q, w, h)
	}
	if s.w < wide && s.views == allViews {
		return s.tightPage(q, w, h)
	}
	p := s.conflictHead(q, w, h)
	switch s.views {
	case fileView:
		return append(p, s.resultPage(q, w, h-len(p), true)...)
	case editView:
		return append(p, s.edits.window(s.editsPage(q, w, 1<<20), h-len(p))...)
	case textsView:
		return append(p, s.edits.window(s.textsPage(q, w), h-len(p))...)
	case againstView:
		return append(p, s.edits.window(s.againstPage(q, w), h-len(p))...)
	}
	ways := s.waysPage(q, w)
	// The ways always show; the edits get what the result can spare.
	room := max(3, h-len(p)-len(ways)-2)
	edits := s.editsPage(q, w, max(3, room*2/5))
	p.rows(edits[:min(len(edits), room)])
	p.row(rule(w))
	p.rows(ways)
	if left := h - len(p) - 1; left >= 3 {
		p.row(rule(w))
		p.rows(s.resultPage(q, w, left, false))
	}
	return p
}

// shapePage is a conflict that is no place in a text: what it is about, the ways and what each leaves and, where
// there is room, what the sides have.
func (s *settleScreen) shapePage(q *plan.Attributed, w, h int) page {
	p, ways := s.conflictHead(q, w, h), s.waysPage(q, w)
	about := s.kindPage(q, w)
	p.rows(about[:min(len(about), max(3, h-len(p)-len(ways)-2))])
	p.row(rule(w))
	p.rows(ways)
	if q.Question.Kind != merge.ModeBits {
		if left := s.leavesPage(q, w); h-len(p) > len(left) {
			p.row(rule(w))
			p.rows(left)
		}
	}
	if x := s.seen[q.Question.Key]; x != nil && h-len(p) >= 6 {
		if drawn := s.photos(x, w, min(h-len(p)-1, 24)); drawn != nil {
			p.row(rule(w))
			p.rows(drawn)
		}
	}
	if change := s.changes[q.Question.Key]; change != nil && h-len(p) >= 5 {
		p.row(rule(w))
		who := words.If(change.hue == yours, "you", s.theirName(q))
		p.row(txt(plain, " ").bold(change.hue, "what "+who+" changed in it").add(dim, "  lost if it is deleted"))
		for _, row := range fromEdit(change.rows(s.theme.colour), h-len(p), w) {
			p.row(row.cut(w))
		}
	}
	return p
}

// tightPage is a conflict where there is little room: of all of it some is in view, the result always.
func (s *settleScreen) tightPage(q *plan.Attributed, w, h int) page {
	p := s.conflictHead(q, w, min(h, 13))
	ways := s.waysPage(q, w)
	if room := h - len(p) - 8; len(ways) > max(3, room) { // the marked one, and those beside it
		n := max(3, room)
		from := max(0, min(s.way+len(ways)-len(q.Question.Ways)-1-n/2, len(ways)-n))
		ways = ways[from : from+n]
	}
	left := h - len(p) - len(ways) - 2
	result := max(3, left*2/5)
	edits := s.editsPage(q, w, max(4, left-result))
	if result = h - len(p) - len(ways) - 2 - len(edits); result < 3 {
		edits = edits[:max(0, len(edits)-(3-result))] // v shows them
		result = 3
	}
	p.rows(edits)
	p.row(rule(w))
	p.rows(ways)
	p.row(rule(w))
	p.rows(s.resultPage(q, w, result, false))
	return p[:min(len(p), h)]
}

// conflictHead is where a conflict is, and whose edits meet there.
func (s *settleScreen) conflictHead(q *plan.Attributed, w, h int) page {
	var p page
	if h > 24 && s.w >= wide {
		p.blank()
	}
	title := txt(plain, " ").bold(bright, q.Question.Path).add(dim, place(q))
	if len(s.questions) > 1 {
		title = title.flush(txt(dim, fmt.Sprintf("conflict %d of %d ", s.at+1, len(s.questions))), w)
	}
	p.row(title)
	if s.w >= wide {
		y, t := s.credit(q, merge.Yours), s.credit(q, merge.Theirs)
		if y.width()+t.width()+3 <= w {
			p.row(y.flush(t.add(plain, " "), w))
		} else {
			p.row(y.cut(w))
			p.row(t.cut(w))
		}
	}
	if h >= 14 {
		p.row(rule(w))
	}
	return p
}

// place says where in its file a conflict is.
func place(q *plan.Attributed) string {
	c := q.Question
	if c.Whole() {
		return ""
	}
	at := "  was " + lineWords(c.Place.Base)
	if c.Place.Base.Empty() {
		at = "  both added " + afterLine(c.Place.Base.Lo)
	}
	if f := around(q); f != "" {
		at = "  in " + f + "," + at[1:]
	}
	if q.File.From != "" {
		at += ", renamed from " + q.File.From
	}
	return at
}

// credit is who made an edit, when, and with which words.
func (s *settleScreen) credit(q *plan.Attributed, side merge.Side) line {
	n, m, more := q.Yours, markYours, q.More[0]
	if side == merge.Theirs {
		n, m, more = q.Theirs, markTheirs, q.More[1]
	}
	l := txt(plain, " ").mark(m)
	if n.Commit == nil {
		return l.add(m.hue, string(side))
	}
	if side == merge.Yours && s.join.Stops[q.Stop].Uncommitted {
		return l.add(m.hue, "you").add(dim, "  not committed  ").add(plain, n.Subject())
	}
	if s.file != nil { // the commits are made for it
		if n.Author().When == 0 {
			return l.add(m.hue, n.Subject())
		}
		return l.add(m.hue, s.name(n, side)).add(dim, "  "+s.age(n)+"  ").add(plain, n.Subject())
	}
	return l.add(m.hue, s.name(n, side)).add(dim, "  "+s.age(n)+"  ").add(plain, n.Subject()+" ").add(dim,
		s.s.Planner.Short(n.ID)+words.If(more > 0, fmt.Sprintf(", and %d more", more), ""))
}

var goFunc = rx.New(`^func (?:\([^)]*\) )?(\w+)`)

// around names the function a place stands in, where the file's language lets
// one see that without reading it.
func around(q *plan.Attributed) string {
	if q.Question.Whole() {
		return ""
	}
	lines, at := q.File.Text.Base, q.Question.Place.Base.Lo
	if !strings.HasSuffix(q.Question.Path, ".go") {
		const most = 36
		if q.Question.Place.Base.Empty() {
			at-- // what it is added after
		}
		name := []rune(settle.Around(q.Question.Path, lines, at))
		if len(name) > most {
			name = append(name[:most-1], '…')
		}
		return string(name)
	}
	for i := min(at, len(lines)-1); i >= 0; i-- {
		if match := goFunc.FindStringSubmatch(lines[i]); match != nil {
			return "func " + match[1]
		}
		if i < at && strings.HasPrefix(lines[i], "}") {
			return ""
		}
	}
	return ""
}

// The columns of a way: its name, and whether the file then parses.
const (
	wayColumn     = 27
	verdictColumn = 22
)

// costs tells what a way costs, naming the other side.
func (s *settleScreen) costs(q *plan.Attributed, v settle.Verdict) string {
	who := s.theirName(q)
	if strings.HasPrefix(who, "you") { // the person's own commits, from another clone
		who = ""
	}
	return words.Costs(v, who)
}

// waysPage lists the ways, the marked one on a row of its own colour.
func (s *settleScreen) waysPage(q *plan.Attributed, w int) page {
	var p page
	c := q.Question
	if head := txt(plain, " ").then(heading("WAYS TO SETTLE IT")); c.Suggested == "" && (s.h >= 30 ||
		s.w >= wide) { // else the row above the keys says so
		p.row(head.add(dim, "  No way is clearly right. Choose one."))
	} else if s.h >= 24 && s.w >= wide {
		p.row(head)
	}
	vs := s.verdicts[c.Key]
	for i, o := range c.Ways {
		l := s.wayName(q, i, o).fit(wayColumn)
		var v settle.Verdict
		if i < len(vs) {
			v = vs[i]
		}
		column := verdictColumn
		switch {
		case c.Whole():
			l = l.add(dim, words.Outcome(c, o.Way))
			column = max(column, l.width()-wayColumn+2)
		case vs == nil:
			l = l.add(dim, "…")
		default:
			l = l.then(parses(v))
			if w < 100 && v.Twice == "" && (v.Parses == nil || *v.Parses) {
				column = 11
			}
			column = max(column, l.width()-wayColumn+2) // what is wrong is said in full
		}
		l = l.fit(wayColumn+column).add(plain, " ")
		if o.Way != c.Suggested {
			p.row(s.wayRow(l.add(dim, cmp.Or(o.Reason, s.costs(q, v))), i, w))
			continue
		}
		why := txt(joined, "suggested: "+words.Why(c))
		const least = 24 // columns in which a reason can be read
		if l.width()+why.width() > w && (s.h < 30 || w-l.width() < least) {
			why = txt(joined, "suggested") // the row above the keys tells why
		}
		for k, part := range wrap(why, max(least, w-l.width())) {
			if k == 0 {
				p.row(s.wayRow(l.then(part), i, w))
			} else {
				p.row(txt(plain, "").fit(wayColumn+column).add(plain, "   ").then(part).clicks(clickedWay(i)))
			}
		}
	}
	if !c.Whole() {
		l := txt(bright, "   ").bold(bright, keys.write.Help().Key).add(plain, "  write it yourself")
		if q.Decision != nil && q.Decision.Way == settle.Written {
			l = l.add(joined, " ✓").add(dim, "   as you wrote it")
		}
		p.row(s.wayRow(l, len(c.Ways), w))
	}
	return p
}

// wayRow is the row of a way, marked if it is the marked one.
func (s *settleScreen) wayRow(l line, i, w int) line {
	if i == s.way {
		l = txt(bright, " ▶ ").then(l[1:]).fit(w).on(onRow)
	}
	return l.cut(w).clicks(clickedWay(i))
}

// wayName is a way's number and name.
func (s *settleScreen) wayName(q *plan.Attributed, i int, o settle.Option) line {
	h := plain
	switch o.Way {
	case settle.Weave:
		h = joined
	case settle.Yours:
		h = yours
	case settle.Theirs:
		h = theirs
	}
	l := txt(bright, "   ").bold(bright, fmt.Sprint(i+1)).add(plain, "  ")
	l = l.put(ink{hue: h, bold: o.Way == settle.Weave}, o.Way.Label())
	if q.Decision != nil && q.Decision.Way == o.Way {
		l = l.add(joined, " ✓")
	}
	return l
}

// parses says whether the file parses with a way.
func parses(v settle.Verdict) line {
	switch {
	case v.Twice != "":
		return line{}.mark(markWarning).add(trouble, v.Twice)
	case v.Parses == nil:
		return nil
	case *v.Parses:
		return txt(joined, "parses ✓")
	}
	problem := v.Problem // without its line, which is that of a file that does not exist yet
	if _, words, ok := strings.Cut(problem, ": "); ok && strings.HasPrefix(problem, "line ") {
		problem = words
	}
	return txt(trouble, "✗ "+problem)
}

// kindPage says what a conflict that is no place in a text is about.
func (s *settleScreen) kindPage(q *plan.Attributed, w int) page {
	var p page
	d := words.Deeds{Who: s.theirName(q)}
	if s.file == nil && !s.join.Stops[q.Stop].Uncommitted {
		for n, to := range map[*history.Node]*string{&q.Yours: &d.Yours, &q.Theirs: &d.Theirs} {
			if n.Commit != nil {
				*to = s.s.Planner.Short(n.ID)
			}
		}
	}
	if change := s.changes[q.Question.Key]; change != nil {
		d.Lines = change.lines()
	}
	p.rows(indent(wrap(txt(plain, words.About(q.Question, d)), w-4), 1))
	if at := s.went[q.Question.Key]; at != nil {
		many := fmt.Sprintf("%d of its %d lines %s in ", at.Lines, at.Of, words.Is(at.Lines, "is", "are"))
		if at.Lines == at.Of {
			many = words.If(at.Of == 1, "Its line is in ", fmt.Sprintf("All %d of its lines are in ", at.Of))
		}
		p.rows(indent(wrap(txt(plain, many).add(bright, at.Path).add(plain, " now: a change to them can be made "+
			"there."), w-4), 1))
	}
	p.blank()
	b, y, t := words.Has(q.Question)
	if x := s.seen[q.Question.Key]; x != nil {
		b += describe(x.photos.Base, x.kinds.Base)
		y += describe(x.photos.Yours, x.kinds.Yours)
		t += describe(x.photos.Theirs, x.kinds.Theirs)
	}
	for _, has := range []struct {
		mark
		name, what string
	}{{markBase, "before", b}, {markYours, "yours", y}, {markTheirs, "theirs", t}} {
		p.row(txt(has.hue, " "+has.sign+" "+has.name).fit(12).add(dim, has.what))
	}
	return p
}

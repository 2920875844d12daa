package tui

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"dorvik/internal/core/diff"
	"dorvik/internal/core/merge"
	"dorvik/internal/core/settle"
	"dorvik/internal/recovery"
	"dorvik/internal/words"
)

const listWidth = 29

func (m *model) settlePage(w, h int) page {
	it := m.item()
	if it == nil {
		p := page{nil, txt(joined, "  ✓ ").add(plain, "Nothing asks for a decision: all joined by itself.")}
		return append(p, nil, txt(dim, "  Enter goes on to the check."))
	}
	if w < wide {
		if m.settle.reading {
			return m.settleList(w, h)
		}
		return m.conflictPage(it, w, h)
	}
	right := m.conflictPage(it, w-listWidth-3, h)
	return beside(m.settleList(listWidth, h), right, listWidth, w, h)
}

// settleList is the conflicts, and below them what joined by itself.
func (m *model) settleList(w, h int) page {
	var p page
	if h > 24 {
		p.blank()
	}
	p.row(txt(plain, " ").then(heading("CONFLICTS")).add(plain, fmt.Sprintf("  %d", m.join.Settled)).add(dim, fmt.Sprintf(" of %d settled", len(m.items))))
	p.blank()
	path := ""
	cursor := 0
	for i := range m.items {
		it := &m.items[i]
		if key := fmt.Sprint(it.stop, it.c.Path); key != path {
			if i > 0 {
				p.blank()
			}
			path = key
			p.row(txt(plain, "  ").bold(plain, cutPath(it.c.Path, w-3)))
		}
		sign, h := "╳", trouble
		word := lineWords(it.c.Place.Yours)
		if it.c.Place.Yours.Empty() {
			word = afterLine(it.c.Place.Yours.Lo)
		}
		if it.c.Whole() {
			word = words.Hint(it.c)
		}
		if it.done != nil {
			sign, h, word = "✓", joined, it.done.Way.Label()+"  "+word
		}
		if i == m.settle.at {
			cursor = len(p)
		}
		p.row(m.rowOf(txt(plain, "   ").add(h, sign+" ").add(dim, word), i == m.settle.at, w))
	}
	p.blank()
	p.row(txt(plain, " ").then(rule(w - 2)))
	files := m.joinedFiles()
	p.row(txt(plain, " ").then(heading("JOINED BY THEMSELVES")).add(plain, fmt.Sprintf("  %d", len(files))))
	for i, g := range files {
		sign, hu := "✦", joined
		count := fmt.Sprintf("+%d", max(g.Yours, g.Theirs))
		switch g.Meeting {
		case recovery.OnlyYours:
			sign, hu = "●", yours
		case recovery.OnlyTheirs:
			sign, hu = "■", theirs
		case recovery.SameChange:
			count = "="
		}
		if g.YoursWhole || g.TheirsWhole {
			count = "bin"
		} else if count != "=" {
			count = fmt.Sprintf("~%d", max(g.Yours, g.Theirs))
		}
		here := m.settle.reading && i == m.settle.file
		if here {
			cursor = len(p)
		}
		l := txt(plain, "  ").add(hu, sign+" ").add(plain, cutPath(g.Path, w-11)).fit(w-5).add(dim, count)
		if here {
			l = l.fit(w).on(onRow)
		}
		p.row(l)
	}
	if !m.settle.reading && len(files) > 0 {
		p.blank()
		p.row(txt(dim, "  press ").bold(bright, "j").add(dim, " to read them"))
	}
	off := max(0, cursor-h/2)
	return window(p, h, &off)
}

func (m *model) rowOf(l line, here bool, w int) line {
	if here && !m.settle.reading {
		return txt(bright, "▸").then(l[1:].lead(l[0])).fit(w).on(onRow)
	}
	return l
}

// lead keeps the first blanks of a line less one cell, which the cursor takes.
func (l line) lead(blanks span) line {
	return line{{blanks.text[1:], blanks.ink}}.then(l)
}

// from is the file's name before it was renamed, if it was.
func (it *item) from() string { return it.file.From }

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

// conflictPage is one conflict: where and who, the two edits, the ways, the result.
func (m *model) conflictPage(it *item, w, h int) page {
	var p page
	if h > 24 && m.w >= wide {
		p.blank()
	}
	c := it.c
	place := ""
	switch {
	case c.Whole():
	case c.Place.Base.Empty():
		place = "  both added " + afterLine(c.Place.Base.Lo)
	default:
		place = "  " + lineWords(c.Place.Base)
	}
	if from := it.from(); from != "" && !c.Whole() {
		place += ", was " + from
	}
	if f := around(it); f != "" {
		place = "  in " + f + "," + place[1:]
	}
	title := txt(plain, " ").bold(bright, c.Path).add(dim, place)
	if w < wide-listWidth-3 && len(m.items) > 1 || m.w < wide {
		title = title.flush(txt(dim, fmt.Sprintf("conflict %d of %d ", m.settle.at+1, len(m.items))), w)
	}
	p.row(title)
	if m.w >= wide {
		y, t := m.credit(it, settle.SideYours), m.credit(it, settle.SideTheirs)
		if y.width()+t.width()+3 <= w {
			p.row(y.flush(t.add(plain, " "), w))
		} else {
			p.row(y.cut(w))
			p.row(t.cut(w))
		}
	}
	p.row(rule(w))
	if m.editing != nil {
		p.row(txt(plain, " ").bold(joined, "WRITE IT YOURSELF").add(dim, "  what the place will hold"))
		p.rows(m.editing.ed.view(w, h-len(p)))
		return p
	}
	switch {
	case c.Whole():
	case m.settle.view == fileView:
		return append(p, m.resultPage(it, w, h-len(p), true)...)
	case m.settle.view == editView:
		return append(p, window(m.editsPage(it, w, 1<<20), h-len(p), &m.off)...)
	}
	ways := m.waysPage(it, w)
	// The ways always show; the edits get what the result can spare.
	room := h - len(p) - len(ways) - 2
	share := room
	if m.w >= wide {
		share = max(3, room*2/5)
	} else if room > 12 {
		share = room * 3 / 5
	}
	edits := m.editsPage(it, w, share)
	if c.Whole() {
		edits = m.kindPage(it, w)
	}
	if len(edits) > max(3, room) {
		edits = edits[:max(3, room)]
	}
	p.rows(edits)
	p.row(rule(w))
	p.rows(ways)
	if left := h - len(p) - 1; left >= 3 && !c.Whole() {
		p.row(rule(w))
		p.rows(m.resultPage(it, w, left, false))
	}
	return p
}

// credit is who made an edit, when, and with which words.
func (m *model) credit(it *item, side settle.Side) line {
	n, l, h := it.yours, txt(yours, " ● "), yours
	if side == settle.SideTheirs {
		n, l, h = it.theirs, txt(theirs, " ■ "), theirs
	}
	if n.Commit == nil {
		return l.add(h, string(side))
	}
	return l.add(h, m.name(n, side)).add(dim, "  "+m.age(n)+"  ").add(plain, n.Subject()+" ").add(dim, n.ID.Short())
}

var goFunc = regexp.MustCompile(`^func (?:\([^)]*\) )?(\w+)`)

// around names the function a place stands in, where the file's language lets
// one see that without reading it.
func around(it *item) string {
	if it.c.Whole() || !strings.HasSuffix(it.c.Path, ".go") {
		return ""
	}
	lines := it.file.Text.Base
	for i := min(it.c.Place.Base.Lo, len(lines)-1); i >= 0; i-- {
		if match := goFunc.FindStringSubmatch(lines[i]); match != nil {
			return "func " + match[1]
		}
		if i < it.c.Place.Base.Lo && strings.HasPrefix(lines[i], "}") {
			return ""
		}
	}
	return ""
}

// editsPage shows what each side did to the base.
func (m *model) editsPage(it *item, w, rows int) page {
	you := page{txt(plain, " ").bold(yours, "what you did").add(dim, " to the base")}
	who := first2(m.name(it.theirs, settle.SideTheirs))
	they := page{txt(plain, " ").bold(theirs, "what "+who+" did").add(dim, " to the base")}
	if m.w < wide { // one row says who and what
		you, they = page{m.credit(it, settle.SideYours)}, page{m.credit(it, settle.SideTheirs)}
	}
	from := it.c.Place.Base.Lo + 1
	yourText, theirText, yourNote, theirNote := it.c.Yours, it.c.Theirs, "removed", "removed"
	if o := it.c.Ways[0]; o.Moved != nil { // each edit is shown on the lines, wherever they went
		yourText, theirText, _ = it.file.Sides(it.c, o)
		if o.Moved.Side == settle.SideYours {
			yourNote = "moved to " + lineWords(it.file.Text.Regions[o.Moved.Region].Yours)
		} else {
			theirNote = "moved to " + lineWords(it.file.Text.Regions[o.Moved.Region].Theirs)
		}
	}
	a := m.editRows(it.c.Base, it.c.Yours, yourText, yourNote, from, yours, onYours)
	b := m.editRows(it.c.Base, it.c.Theirs, theirText, theirNote, from, theirs, onTheirs)
	limit := func(p page, n int) page {
		if len(p) > n {
			return append(p[:n-1:n-1], txt(dim, fmt.Sprintf("      … %s; v shows all", plural(len(p)-n+1, "more line", "more lines"))))
		}
		return p
	}
	if m.w >= wide {
		half := (w - 3) / 2
		return beside(append(you, limit(a, rows-1)...), append(they, limit(b, rows-1)...), half, w, 0)
	}
	each := max(1, rows/2-1)
	return append(append(you, limit(a, each)...), append(they, limit(b, each)...)...)
}

// editRows draws an edit word by word on the base: what went struck through,
// what came on the side's ground. Place is what the side has there, if the lines are
// not elsewhere; a note says what became of them where that is nothing. Without colour, signs tell them apart.
func (m *model) editRows(baseText, place, side, note string, from int, h hue, g ground) page {
	var p page
	if place == "" && baseText != "" {
		p.row(txt(dim, "      ("+note+":)"))
	}
	a, b := diff.Words(baseText), diff.Words(side)
	edits := diff.WordEdits(a, b)
	row, number := line{}, from
	fresh := false // the row began with a line that is not in the base
	flush := func() {
		label := txt(faint, fmt.Sprintf("%5d ", number))
		if fresh {
			label = txt(h, "    + ")
		}
		p.row(label.then(row))
		row = nil
	}
	put := func(tok string, k ink, inBase bool) {
		text := strings.TrimSuffix(tok, "\n")
		if k.strike && strings.TrimSpace(text) == "" {
			text = "" // a struck-out blank reads as a dash
		}
		if !m.theme.colour && strings.TrimSpace(text) != "" {
			if k.strike {
				text, k.strike = "⟨−"+text+"⟩", false // a stroke would hide the sign
			} else if k.ground != noGround {
				text = "⟨+" + text + "⟩"
			}
		}
		if len(row) == 0 {
			fresh = !inBase
		}
		row = row.put(k, text)
		if strings.HasSuffix(tok, "\n") {
			if len(row) == 0 {
				fresh = !inBase
			}
			flush()
			if inBase {
				number++
			}
		}
	}
	run := func(toks []string, k ink, inBase bool) {
		// Tokens of one line go together, so that a mark spans them.
		for len(toks) > 0 {
			n := 1
			for n < len(toks) && !strings.HasSuffix(toks[n-1], "\n") {
				n++
			}
			put(strings.Join(toks[:n], ""), k, inBase)
			toks = toks[n:]
		}
	}
	at := 0
	for _, e := range edits {
		run(a[at:e.A0], ink{hue: plain}, true)
		run(a[e.A0:e.A1], ink{hue: dim, strike: true}, true)
		run(b[e.B0:e.B1], ink{hue: h, ground: g, bold: true}, false)
		at = e.A1
	}
	run(a[at:], ink{hue: plain}, true)
	if len(row) > 0 {
		flush()
	}
	if len(p) == 0 {
		p.row(txt(dim, "      nothing"))
	}
	return p
}

// waysPage lists the ways, the marked one on a row of its own colour.
func (m *model) waysPage(it *item, w int) page {
	p := page{txt(plain, " ").then(heading("WAYS TO SETTLE IT"))}
	if it.c.Suggested == "" {
		p[0] = p[0].add(dim, "  none is better than asking: say which")
	}
	vs := m.settle.verdicts[it.c.Key]
	who := first2(m.name(it.theirs, settle.SideTheirs))
	whose := who + "'s"
	if strings.HasPrefix(who, "you") {
		whose = "their"
	}
	narrow := w < 100
	for i, o := range it.c.Ways {
		mark := "   "
		if i == m.settle.way {
			mark = " ▶ "
		}
		h := plain
		switch o.Way {
		case settle.Weave:
			h = joined
		case settle.Yours:
			h = yours
		case settle.Theirs:
			h = theirs
		}
		l := txt(bright, mark).bold(bright, fmt.Sprint(i+1)).add(plain, "  ")
		l = l.put(ink{hue: h, bold: o.Way == settle.Weave}, o.Way.Label())
		if it.done != nil && it.done.Way == o.Way {
			l = l.add(joined, " ✓")
		}
		l = l.fit(27)
		var v settle.Verdict
		if vs != nil && i < len(vs) {
			v = vs[i]
		}
		switch {
		case it.c.Whole():
			l = l.add(dim, words.Outcome(it.c, o.Way))
		case vs == nil:
			l = l.add(dim, "…")
		case v.Parses == nil:
		case *v.Parses:
			l = l.add(joined, "parses ✓")
		default:
			l = l.add(trouble, "✗ "+problemWords(v.Problem))
		}
		verdict := 22
		switch {
		case it.c.Whole():
			verdict = max(verdict, l.width()-25)
		case narrow && (v.Parses == nil || *v.Parses):
			verdict = 11
		}
		l = l.fit(27+verdict).add(plain, " ")
		if words := cmp.Or(o.Reason, costs(v, whose)); words != "" && !(o.Way == it.c.Suggested) {
			l = l.add(dim, words)
		}
		if o.Way == it.c.Suggested {
			why := "suggested: " + words.Why(it.c)
			l = l.add(joined, why)
		}
		if i == m.settle.way {
			l = l.fit(w).on(onRow)
		}
		p.row(l.cut(w))
	}
	if !it.c.Whole() {
		mark := "   "
		if m.settle.way == len(it.c.Ways) {
			mark = " ▶ "
		}
		l := txt(bright, mark).bold(bright, "e").add(plain, "  write it yourself")
		if it.done != nil && it.done.Way == settle.Written {
			l = l.add(joined, " ✓").add(dim, "   as you wrote it")
		}
		if m.settle.way == len(it.c.Ways) {
			l = l.fit(w).on(onRow)
		}
		p.row(l)
	}
	return p
}

// problemWords leaves out the line: it is that of a file that does not exist yet.
func problemWords(s string) string {
	if _, words, ok := strings.Cut(s, ": "); ok && strings.HasPrefix(s, "line ") {
		return words
	}
	return s
}

// costs tells what a way leaves out and what it keeps against a side's will.
func costs(v settle.Verdict, whose string) string {
	say := func(pieces []settle.Piece, verb string, names map[settle.Side]string) string {
		var parts []string
		for _, side := range []settle.Side{settle.SideYours, settle.SideTheirs} {
			if n := settle.CountWords(pieces, side); n > 0 {
				parts = append(parts, strings.Replace(names[side], "#", plural(n, "word", "words"), 1))
			}
		}
		if len(parts) == 0 {
			return ""
		}
		return verb + strings.Join(parts, " and ")
	}
	if out := say(v.LeavesOut, "leaves out ", map[settle.Side]string{settle.SideYours: "your #", settle.SideTheirs: whose + " #"}); out != "" {
		return out
	}
	return say(v.Keeps, "keeps ", map[settle.Side]string{settle.SideYours: "# you removed", settle.SideTheirs: "# " + strings.TrimSuffix(whose, "'s") + " removed"})
}

// kindPage says what a conflict that is no place in a text is about.
func (m *model) kindPage(it *item, w int) page {
	var p page
	p.rows(indent(wrap(txt(plain, words.About(it.c, first2(m.name(it.theirs, settle.SideTheirs)))), w-4), 1))
	p.blank()
	b, y, t := words.Has(it.c)
	for _, s := range []struct {
		h    hue
		sign string
		name string
		has  string
	}{{base, "◆", "base", b}, {yours, "●", "yours", y}, {theirs, "■", "theirs", t}} {
		p.row(txt(s.h, " "+s.sign+" "+s.name).fit(12).add(dim, s.has))
	}
	return p
}

// parts is the joined text with the marked way in the conflict's place, and which of
// them the way is about: the place, or where its lines were moved to.
func (m *model) parts(it *item) (parts []settle.Part, at int) {
	o := m.marked(it)
	parts = it.file.Parts(func(c *settle.Conflict) settle.Option {
		if c == it.c {
			return o
		}
		o, _ := it.file.Chosen(c, &m.st.Book)
		return o
	})
	if o.Moved != nil {
		return parts, o.Moved.Region
	}
	return parts, slices.IndexFunc(parts, func(p settle.Part) bool { return p.Of == it.c && p.Origin == merge.Contested })
}

// linesBefore counts the lines of the result above a part.
func linesBefore(parts []settle.Part, at int) (n int) {
	for _, p := range parts[:at] {
		n += len(p.Lines)
	}
	return n
}

// resultPage is what the file will hold, around the place, with the origin of
// each line.
func (m *model) resultPage(it *item, w, h int, whole bool) page {
	parts, at := m.parts(it)
	yours, theirs, _ := it.file.Sides(it.c, m.marked(it))
	mine := paint(yours, theirs, strings.Join(parts[at].Lines, ""))
	before := linesBefore(parts, at)
	lead := max(1, (h-1-len(mine))/2)
	if whole {
		lead = max(1, (h-1)/3)
	}
	start := max(0, before-lead+m.off)
	if before-lead+m.off < 0 {
		m.off = lead - before
	}
	end := start + h - 1
	rows := m.resultRows(it, parts, at, mine, start, end)
	if len(rows) < h-1 && start > 0 { // at the end of the file: show more above
		start = max(0, start-(h-1-len(rows)))
		m.off = start - before + lead
		rows = m.resultRows(it, parts, at, mine, start, end)
	}
	head := txt(plain, " ").bold(joined, "RESULT").add(dim, fmt.Sprintf("  lines %d–%d of what %s will hold", start+1, start+len(rows), it.c.Path))
	if m.settle.way == unmarked {
		head = txt(plain, " ").bold(joined, "RESULT").add(dim, fmt.Sprintf("  not said yet; %s around the place, which is as it was before both edits", it.c.Path))
	}
	p := page{head.cut(w)}
	for _, r := range rows {
		p.row(r.cut(w))
	}
	for i := range p {
		if i > 0 && len(p[i]) > 0 && p[i][0].ink.ground == onJoined {
			p[i] = p[i].fit(w).on(onJoined)
		}
	}
	return p
}

// resultRows draws lines [start, end) of the result, the part at as mine.
func (m *model) resultRows(it *item, parts []settle.Part, at int, mine []line, start, end int) page {
	var p page
	n := 0
	for i, part := range parts {
		if n >= end {
			break
		}
		if n+len(part.Lines) <= start {
			n += len(part.Lines)
			continue
		}
		sign, h := " ", dim
		switch part.Origin {
		case merge.FromYours:
			sign, h = "●", yours
		case merge.FromTheirs:
			sign, h = "■", theirs
		case merge.FromBoth:
			sign, h = "✦", joined
		}
		if part.Of != nil {
			sign, h = "╳", trouble
			if _, settled := it.file.Chosen(part.Of, &m.st.Book); settled || i == at {
				sign, h = "✦", joined
			}
		}
		for k, l := range part.Lines {
			if n >= start && n < end {
				text := txt(plain, l)
				if i == at {
					text = mine[k]
				}
				row := txt(faint, fmt.Sprintf("%5d ", n+1)).add(h, sign+" ").then(text)
				if i == at {
					row = row.on(onJoined)
				}
				p.row(row)
			}
			n++
		}
	}
	return p
}

// paint colours the words of a result by the side that brought them.
func paint(yourText, theirText, text string) []line {
	words := diff.Words(text)
	notIn := func(side string) []bool {
		set := make([]bool, len(words))
		for _, e := range diff.WordEdits(diff.Words(side), words) {
			for i := e.B0; i < e.B1; i++ {
				set[i] = true
			}
		}
		return set
	}
	fromYours, fromTheirs := notIn(theirText), notIn(yourText)
	var out []line
	row := line{}
	for i, t := range words {
		k := ink{hue: plain}
		switch {
		case fromYours[i] && fromTheirs[i]:
			k = ink{hue: joined, bold: true}
		case fromYours[i]:
			k = ink{hue: yours, bold: true}
		case fromTheirs[i]:
			k = ink{hue: theirs, bold: true}
		}
		row = row.put(k, strings.TrimSuffix(t, "\n"))
		if strings.HasSuffix(t, "\n") {
			out = append(out, row)
			row = line{}
		}
	}
	if len(row) > 0 {
		out = append(out, row)
	}
	return out
}

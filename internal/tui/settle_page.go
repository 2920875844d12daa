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
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

func (s *settleScreen) view(w, h int) term.Page {
	q := s.question()
	switch {
	case q == nil:
		p := term.Page{nil, term.Text(term.Plain,
			"  ").Then(term.Done("Nothing asks for a decision: all joined by itself."))}
		return append(p, nil, term.Text(term.Dim, "  Enter goes on to the check."))
	case w < wide:
		return s.page().conflictPage(q, w, h)
	}
	right := s.page().conflictPage(q, w-listWidth-3, h)
	return term.Beside(s.page().listPage(listWidth, h), right, listWidth, w, h)
}

// conflictPage draws one conflict: place and people, the two edits, the ways, the result.
func (s settlePage) conflictPage(q *plan.Attributed, w, h int) term.Page {
	if q.Question.Whole() {
		return s.shapePage(q, w, h)
	}
	if s.job.w < wide && s.views == allViews {
		return s.tightPage(q, w, h)
	}
	p := s.conflictHead(q, w, h)
	switch s.views {
	case fileView:
		return append(p, s.resultPage(q, w, h-len(p), true)...)
	case editView:
		return append(p, s.edits.Window(s.editsPage(q, w, 1<<20), h-len(p))...)
	case textsView:
		return append(p, s.edits.Window(s.textsPage(q, w), h-len(p))...)
	case againstView:
		return append(p, s.edits.Window(s.againstPage(q, w), h-len(p))...)
	}
	ways := s.waysPage(q, w)
	// The ways always show. The edits get the rows that the result does not need.
	room := max(3, h-len(p)-len(ways)-2)
	edits := s.editsPage(q, w, max(3, room*2/5))
	p.Rows(edits[:min(len(edits), room)])
	p.Row(term.Rule(w))
	p.Rows(ways)
	if left := h - len(p) - 1; left >= 3 {
		p.Row(term.Rule(w))
		p.Rows(s.resultPage(q, w, left, false))
	}
	return p
}

// shapePage draws a conflict that is no place in a text: its subject, the ways with their outcomes and, if there is
// space, the sides' versions.
func (s settlePage) shapePage(q *plan.Attributed, w, h int) term.Page {
	p, ways := s.conflictHead(q, w, h), s.waysPage(q, w)
	about := s.kindPage(q, w)
	p.Rows(about[:min(len(about), max(3, h-len(p)-len(ways)-2))])
	p.Row(term.Rule(w))
	p.Rows(ways)
	if q.Question.Kind != merge.ModeBits {
		if left := s.leavesPage(q, w); h-len(p) > len(left) {
			p.Row(term.Rule(w))
			p.Rows(left)
		}
	}
	if x := s.seen[q.Question.Key]; x != nil && h-len(p) >= 6 {
		if drawn := s.photos(x, w, min(h-len(p)-1, 24)); drawn != nil {
			p.Row(term.Rule(w))
			p.Rows(drawn)
		}
	}
	if change := s.changes[q.Question.Key]; change != nil && h-len(p) >= 5 {
		p.Row(term.Rule(w))
		who := words.If(change.hue == term.Yours, "you", s.theirName(q))
		p.Row(term.Text(term.Plain, " ").Bold(change.hue, "what "+who+" changed in it").Add(term.Dim,
			"  lost if it is deleted"))
		for _, row := range fromEdit(change.rows(s.job.theme.Colour), h-len(p), w) {
			p.Row(row.Cut(w))
		}
	}
	return p
}

// tightPage draws a conflict in little space: parts of everything, and always the result.
func (s settlePage) tightPage(q *plan.Attributed, w, h int) term.Page {
	p := s.conflictHead(q, w, min(h, 13))
	ways := s.waysPage(q, w)
	if room := h - len(p) - 8; len(ways) > max(3, room) { // keep the marked way and its neighbours
		n := max(3, room)
		from := max(0, min(s.way+len(ways)-len(q.Question.Ways)-1-n/2, len(ways)-n))
		ways = ways[from : from+n]
	}
	left := h - len(p) - len(ways) - 2
	result := max(3, left*2/5)
	edits := s.editsPage(q, w, max(4, left-result))
	if result = h - len(p) - len(ways) - 2 - len(edits); result < 3 {
		edits = edits[:max(0, len(edits)-(3-result))] // v shows all edits
		result = 3
	}
	p.Rows(edits)
	p.Row(term.Rule(w))
	p.Rows(ways)
	p.Row(term.Rule(w))
	p.Rows(s.resultPage(q, w, result, false))
	return p[:min(len(p), h)]
}

// conflictHead draws the place of a conflict and the authors of its edits.
func (s settlePage) conflictHead(q *plan.Attributed, w, h int) term.Page {
	var p term.Page
	if h > 24 && s.job.w >= wide {
		p.Blank()
	}
	title := term.Text(term.Plain, " ").Bold(term.Bright, q.Question.Path).Add(term.Dim, place(q))
	if len(s.job.questions) > 1 {
		title = title.Flush(term.Text(term.Dim, fmt.Sprintf("conflict %d of %d ", s.at+1, len(s.job.questions))), w)
	}
	p.Row(title)
	if s.job.w >= wide {
		y, t := s.credit(q, merge.Yours), s.credit(q, merge.Theirs)
		if y.Width()+t.Width()+3 <= w {
			p.Row(y.Flush(t.Add(term.Plain, " "), w))
		} else {
			p.Row(y.Cut(w))
			p.Row(t.Cut(w))
		}
	}
	if h >= 14 {
		p.Row(term.Rule(w))
	}
	return p
}

// place describes the place of a conflict in its file.
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

// credit names the author, date and commit of an edit.
func (s settlePage) credit(q *plan.Attributed, side merge.Side) term.Line {
	n, m, wrote := q.Yours, term.MarkYours, q.Wrote[0]
	if side == merge.Theirs {
		n, m, wrote = q.Theirs, term.MarkTheirs, q.Wrote[1]
	}
	l := term.Text(term.Plain, " ").Mark(m)
	if n.Commit == nil {
		return l.Add(m.Hue, string(side))
	}
	if side == merge.Yours && s.job.join.Stops[q.Stop].Uncommitted {
		return l.Add(m.Hue, "you").Add(term.Dim, "  not committed  ").Add(term.Plain, n.Subject())
	}
	if s.job.file != nil { // a single file has placeholder commits
		if n.Author().When == 0 {
			return l.Add(m.Hue, n.Subject())
		}
		return l.Add(m.Hue, s.job.name(n, side)).Add(term.Dim, "  "+s.job.age(n)+"  ").Add(term.Plain, n.Subject())
	}
	if len(wrote.Commits) > 1 {
		return s.credits(l, wrote.Commits, side, m.Hue)
	}
	return l.Add(m.Hue, s.job.name(n, side)).Add(term.Dim, "  "+s.job.age(n)+"  ").Add(term.Plain,
		n.Subject()+" ").Add(term.Dim, s.job.s.Planner.Short(n.ID))
}

// signs stand for the commits behind the lines of a side.
var signs = []string{"①", "②", "③", "④", "⑤", "⑥", "⑦", "⑧", "⑨"}

// writerSign returns the sign of a commit by its index; those beyond the signs have one together.
func writerSign(i int) string {
	if i < len(signs) {
		return signs[i]
	}
	return "⊕"
}

// credits names several commits behind a side's lines, each with its sign.
func (s settlePage) credits(l term.Line, all []history.Node, side merge.Side, hue term.Hue) term.Line {
	for i, n := range all[:min(len(all), len(signs))] {
		l = l.Add(hue, words.If(i > 0, "  ", "")+writerSign(i)+" "+s.job.name(n, side)).Add(term.Plain, " "+n.Subject())
	}
	if more := len(all) - len(signs); more > 0 {
		l = l.Add(hue, fmt.Sprintf("  %s %d more", writerSign(len(signs)), more))
	}
	return l
}

var goFunc = rx.New(`^func (?:\([^)]*\) )?(\w+)`)

// around names the surrounding function, if the language shows it without parsing.
func around(q *plan.Attributed) string {
	if q.Question.Whole() {
		return ""
	}
	lines, at := q.File.Text.Base, q.Question.Place.Base.Lo
	if !strings.HasSuffix(q.Question.Path, ".go") {
		const most = 36
		if q.Question.Place.Base.Empty() {
			at-- // the row it is added after
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

// costs describes the costs of a way with the other side's name.
func (s settlePage) costs(q *plan.Attributed, v settle.Verdict) string {
	who := s.theirName(q)
	if q.Wrote[1].People() > 1 {
		who = ""
	}
	if strings.HasPrefix(who, "you") { // the person's own commits from another clone
		who = ""
	}
	return words.Costs(v, who)
}

// waysPage lists the ways; the marked one has a background.
func (s settlePage) waysPage(q *plan.Attributed, w int) term.Page {
	c := q.Question
	p := s.waysHead(c, w)
	vs := s.job.verdicts[c.Key]
	for i, o := range c.Ways {
		l := s.wayName(q, i, o).Fit(wayColumn)
		var v settle.Verdict
		if i < len(vs) {
			v = vs[i]
		}
		column := verdictColumn
		switch {
		case c.Whole():
			l = l.Add(term.Dim, words.Outcome(c, o.Way))
			column = max(column, l.Width()-wayColumn+2)
		case vs == nil:
			l = l.Add(term.Dim, "…")
		default:
			l = l.Then(parses(v))
			if w < 100 && v.Twice == "" && v.Problem == "" {
				column = 11
			}
			column = max(column, l.Width()-wayColumn+2) // show the problem in full
		}
		l = l.Fit(wayColumn+column).Add(term.Plain, " ")
		if o.Way != c.Suggested {
			p.Row(s.wayRow(l.Add(term.Dim, cmp.Or(o.Reason, s.costs(q, v))), i, w))
			continue
		}
		why := term.Text(term.Joined, "suggested: "+words.Why(c))
		const least = 24 // least columns for a readable reason
		if l.Width()+why.Width() > w && (s.job.h < 30 || w-l.Width() < least) {
			why = term.Text(term.Joined, "suggested") // the row above the keys gives the reason
		}
		for k, part := range term.Wrap(why, max(least, w-l.Width())) {
			if k == 0 {
				p.Row(s.wayRow(l.Then(part), i, w))
			} else {
				p.Row(term.Text(term.Plain, "").Fit(wayColumn+column).Add(term.Plain,
					"   ").Then(part).Clicks(clickedWay(i)))
			}
		}
	}
	if !c.Whole() {
		l := term.Text(term.Bright, "   ").Bold(term.Bright, keys.Write.Help().Key).Add(term.Plain,
			"  write it yourself")
		if q.Decision != nil && q.Decision.Way == settle.Written {
			l = l.Add(term.Joined, " ✓").Add(term.Dim, "   as you wrote it")
		}
		p.Row(s.wayRow(l, len(c.Ways), w))
	}
	return p
}

// waysHead draws the heading over the ways, which says why none is suggested, where there is room. Otherwise the row
// above the keys says it.
func (s settlePage) waysHead(c *settle.Question, w int) (p term.Page) {
	head := term.Text(term.Plain, " ").Then(term.Heading("WAYS TO SETTLE IT"))
	switch {
	case c.Suggested == "" && (s.job.h >= 30 || s.job.w >= wide):
		why := "No way is clearly right. Choose one."
		if c.Doubt != "" {
			why = "None is suggested: " + c.Doubt + "."
		}
		p.Row(head.Add(term.Dim, "  "+why).Cut(w))
	case c.Suggested != "" && s.job.h >= 24 && s.job.w >= wide:
		p.Row(head)
	}
	return p
}

// wayRow draws the row of a way.
func (s settlePage) wayRow(l term.Line, i, w int) term.Line {
	if i == s.way {
		l = term.Text(term.Bright, " ▶ ").Then(l[1:]).Fit(w).On(term.OnRow)
	}
	return l.Cut(w).Clicks(clickedWay(i))
}

// wayName draws the number and name of a way.
func (s settlePage) wayName(q *plan.Attributed, i int, o settle.Option) term.Line {
	h := term.Plain
	if m := markOf(o.Way.Whose()); m != term.MarkNone {
		h = m.Hue
	}
	l := term.Text(term.Bright, "   ").Bold(term.Bright, fmt.Sprint(i+1)).Add(term.Plain, "  ")
	l = l.Put(term.Ink{Hue: h, Bold: o.Way == settle.Weave}, o.Way.Label())
	if q.Decision != nil && q.Decision.Way == o.Way {
		l = l.Add(term.Joined, " ✓")
	}
	return l
}

// parses tells whether the file parses with a way.
func parses(v settle.Verdict) term.Line {
	switch {
	case v.Twice != "":
		return term.Line{}.Mark(term.MarkWarning).Add(term.Trouble, v.Twice)
	case v.Parses != nil && *v.Parses:
		return term.Text(term.Joined, "parses ✓")
	case v.Closes != nil && *v.Closes:
		return term.Text(term.Joined, "brackets ✓")
	case v.Problem == "":
		return nil
	}
	problem := v.Problem // without the line number: the file does not exist yet
	if _, words, ok := strings.Cut(problem, ": "); ok && strings.HasPrefix(problem, "line ") {
		problem = words
	}
	return term.Text(term.Trouble, "✗ "+problem)
}

// kindPage describes a conflict that is no place in a text.
func (s settlePage) kindPage(q *plan.Attributed, w int) term.Page {
	var p term.Page
	d := words.Credits{Who: s.theirName(q)}
	if s.job.file == nil && !s.job.join.Stops[q.Stop].Uncommitted {
		for n, to := range map[*history.Node]*string{&q.Yours: &d.Yours, &q.Theirs: &d.Theirs} {
			if n.Commit != nil {
				*to = s.job.s.Planner.Short(n.ID)
			}
		}
	}
	if change := s.changes[q.Question.Key]; change != nil {
		d.Lines = change.lines()
	}
	p.Rows(term.Indent(term.Wrap(term.Text(term.Plain, words.About(q.Question, d)), w-4), 1))
	if at := s.went[q.Question.Key]; at != nil {
		many := fmt.Sprintf("%d of its %d lines %s in ", at.Lines, at.Of, words.Is(at.Lines, "is", "are"))
		if at.Lines == at.Of {
			many = words.If(at.Of == 1, "Its line is in ", fmt.Sprintf("All %d of its lines are in ", at.Of))
		}
		p.Rows(term.Indent(term.Wrap(term.Text(term.Plain, many).Add(term.Bright, at.Path).Add(term.Plain,
			" now: a change to them can be made "+
				"there."), w-4), 1))
	}
	p.Blank()
	b, y, t := words.Has(q.Question)
	if x := s.seen[q.Question.Key]; x != nil {
		b += describe(x.photos.Base, x.kinds.Base)
		y += describe(x.photos.Yours, x.kinds.Yours)
		t += describe(x.photos.Theirs, x.kinds.Theirs)
	}
	var changed exhibits
	if x := s.seen[q.Question.Key]; x != nil {
		changed = *x
	}
	for _, has := range []struct {
		term.Mark
		name, what, changed string
	}{{term.MarkBase, "before", b, ""}, {term.MarkYours, "yours", y, changed.yours},
		{term.MarkTheirs, "theirs", t, changed.theirs}} {
		p.Row(term.Text(has.Hue, " "+has.Sign+" "+has.name).Fit(12).Add(term.Dim, has.what))
		if has.changed != "" {
			p.Row(term.Text(term.Plain, "").Fit(12).Add(term.Plain, has.changed).Cut(w))
		}
	}
	return p
}

// settlePage draws Settle. It changes only the scroll position.
type settlePage struct{ *settleScreen }

// page returns the drawing of the screen.
func (s *settleScreen) page() settlePage { return settlePage{s} }

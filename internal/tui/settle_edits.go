package tui

import (
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// editsPage shows what each side did to the text both started from.
func (s *settleScreen) editsPage(q *plan.Attributed, w, rows int) page {
	you := page{txt(plain, " ").bold(yours, "what you did").add(dim, " to the text both started from")}
	they := page{txt(plain, " ").bold(theirs, "what "+s.theirName(q)+" did").add(dim, " to it")}
	if s.w < wide { // one row says who and what
		you, they = page{s.credit(q, merge.Yours)}, page{s.credit(q, merge.Theirs)}
	}
	c := q.Question
	mine := edit{base: c.Base, place: c.Yours, text: c.Yours, note: "removed", from: c.Place.Base.Lo + 1, hue: yours,
		ground: onYours}
	other := edit{base: c.Base, place: c.Theirs, text: c.Theirs, note: "removed", from: mine.from, hue: theirs,
		ground: onTheirs}
	if s.theme.colour {
		mine.code = s.coder.lines(c.Path, c.Base)
		other.code = mine.code
	}
	if o := c.Ways[0]; o.Moved != nil { // each edit is shown on the lines, wherever they went
		mine.text, other.text, _ = q.File.Sides(c, o)
		region := q.File.Text.Hunks[o.Moved.Hunk]
		if o.Moved.Side == merge.Yours {
			mine.note = "moved to " + lineWords(region.Yours)
		} else {
			other.note = "moved to " + lineWords(region.Theirs)
		}
	}
	a, b := mine.rows(s.theme.colour), other.rows(s.theme.colour)
	if s.w >= wide {
		half := (w - 3) / 2
		if s.views == editView {
			a, b = folded(a, half), folded(b, half)
		}
		return beside(append(you, atMost(a, rows-1)...), append(they, atMost(b, rows-1)...), half, w, 0)
	}
	if s.views == editView {
		a, b = folded(a, w), folded(b, w)
	}
	each := max(1, rows/2-1)
	return append(append(you, fromEdit(a, each, w)...), append(they, fromEdit(b, each, w)...)...)
}

// folded has lines that are too long go on in the next rows, beside their numbers.
func folded(p page, w int) (out page) {
	for _, row := range p {
		if row.width() <= w || len(row) < 2 {
			out.row(row)
			continue
		}
		label := row[:1]
		for _, part := range fold(row[1:], w-label.width()) {
			out.row(label.then(part))
			label = txt(faint, strings.Repeat(" ", label.width()))
		}
	}
	return out
}

// textsPage is the three texts of the place, whole: beside each other, the base in the middle, or where there is no
// room for that under each other.
func (s *settleScreen) textsPage(q *plan.Attributed, w int) page {
	c := q.Question
	type side struct {
		mark
		name, text string
		from       int
	}
	all := []side{{markYours, "yours", c.Yours, c.Place.Yours.Lo}, {markBase, "what both started from", c.Base,
		c.Place.Base.Lo}, {markTheirs, "theirs", c.Theirs, c.Place.Theirs.Lo}}
	draw := func(x side, w int) (p page) {
		p.row(txt(plain, " ").mark(x.mark).bold(x.hue, x.name))
		var tints [][]tinted
		if s.theme.colour {
			tints = s.coder.lines(c.Path, x.text)
		}
		for i, l := range diff.Lines(x.text) {
			row := txt(faint, fmt.Sprintf("%5d ", x.from+i+1))
			var words []tinted
			if i < len(tints) {
				words = tints[i]
			}
			for k, part := range fold(code(nil, l, words, nil, ink{}), max(10, w-7)) { // whole, however long
				if k > 0 {
					row = txt(faint, "      ")
				}
				p.row(row.then(part))
			}
		}
		if x.text == "" {
			p.row(txt(dim, "      nothing"))
		}
		return p
	}
	if s.w < wide {
		var p page
		for _, x := range all {
			p.rows(draw(x, w))
		}
		return p
	}
	third := (w - 6) / 3
	two := beside(draw(all[1], third), draw(all[2], third), third, 2*third+3, 0)
	return beside(draw(all[0], third), two, third, w, 0)
}

// againstPage is what theirs has that yours has not, and the other way round: the base left aside.
func (s *settleScreen) againstPage(q *plan.Attributed, w int) page {
	c := q.Question
	e := edit{base: c.Yours, text: c.Theirs, place: c.Theirs, note: "removed", from: c.Place.Yours.Lo + 1, hue: theirs,
		ground: onTheirs}
	if s.theme.colour {
		e.code = s.coder.lines(c.Path, c.Yours)
	}
	p := page{txt(plain, " ").bold(yours, "your text").add(dim, ", and ").bold(theirs, "what "+s.theirName(q)+" has").
		add(dim, " in the place of what is struck out")}
	return append(p, e.rows(s.theme.colour)...)
}

// fromEdit is so many rows of an edit, from the first that it changes, and how many more there are.
func fromEdit(p page, n, w int) page {
	if len(p) <= n {
		return p
	}
	first := slices.IndexFunc(p, func(l line) bool {
		return slices.ContainsFunc(l, func(s span) bool {
			return s.ink.strike || s.ink.ground != noGround || strings.HasPrefix(s.text, "⟨")
		})
	})
	first = max(0, min(first, len(p)-n))
	out := append(page(nil), p[first:first+n]...)
	more := txt(dim, fmt.Sprintf(" … %d more, v shows", len(p)-n))
	out[n-1] = out[n-1].cut(w - more.width() - 1).fit(w - more.width()).then(more)
	return out
}

// atMost is the first rows of a page, and how many more there are.
func atMost(p page, n int) page {
	if len(p) <= n {
		return p
	}
	return append(p[:n-1:n-1], txt(dim, fmt.Sprintf("      … %s; v shows all", words.Count(len(p)-n+1, "more line",
		"more lines"))))
}

// edit is what a side did to a text, to be drawn word by word.
type edit struct {
	base, text string
	place      string // what the side has there; its lines may be elsewhere
	note       string // what became of them where that is nothing
	from       int    // number of the first line of base
	hue        hue
	ground     ground
	code       [][]tinted // the base, line by line
}

// lines counts the lines that changed.
func (e *edit) lines() (n int) {
	for _, d := range diff.Histogram(diff.Lines(e.base), diff.Lines(e.text)) {
		n += max(d.A1-d.A0, d.B1-d.B0)
	}
	return n
}

// drawnEdit is the rows of an edit as they come to be.
type drawnEdit struct {
	edit
	colour bool
	out    page
	row    line
	line   int // of the base, from 0, and
	col    int // the byte of it that comes next
	number int
	fresh  bool // the row began with a line that is not in the base
}

// rows draws an edit on the base: what went struck through, what came on the side's ground.
// Without colour, signs tell them apart.
func (e edit) rows(colour bool) page {
	d := &drawnEdit{edit: e, colour: colour, number: e.from}
	if e.place == "" && e.base != "" {
		d.out.row(txt(dim, "      ("+e.note+":)"))
	}
	a, b := settle.Atoms(e.base), settle.Atoms(e.text)
	at := 0
	for _, c := range diff.WordEdits(a, b) {
		d.words(a[at:c.A0], ink{hue: plain}, true)
		d.words(a[c.A0:c.A1], ink{hue: dim, strike: true}, true)
		if came := strings.Join(b[c.B0:c.B1], ""); colour && len(d.row) > 0 && c.A1 > c.A0 &&
			strings.TrimSpace(came) != "" {
			d.row = d.row.add(dim, "›") // else the two texts run together
		}
		d.words(b[c.B0:c.B1], ink{hue: e.hue, ground: e.ground, bold: true}, false)
		at = c.A1
	}
	d.words(a[at:], ink{hue: plain}, true)
	if len(d.row) > 0 {
		d.flush()
	}
	if len(d.out) == 0 {
		d.out.row(txt(dim, "      nothing"))
	}
	return d.out
}

// words adds words of one ink; those of one line go together, so that a mark spans them.
func (d *drawnEdit) words(words []string, k ink, inBase bool) {
	for len(words) > 0 {
		n := 1
		for n < len(words) && !strings.HasSuffix(words[n-1], "\n") {
			n++
		}
		d.put(strings.Join(words[:n], ""), k, inBase)
		words = words[n:]
	}
}

// put adds a piece of a line, and ends the row where it ends the line.
func (d *drawnEdit) put(piece string, k ink, inBase bool) {
	text := strings.TrimSuffix(piece, "\n")
	blank := strings.TrimSpace(text) == ""
	switch {
	case blank && k.strike:
		text = "" // a struck-out blank reads as a dash
	case blank || d.colour:
	case k.strike:
		text, k.strike = "⟨−"+text+"⟩", false // a stroke would hide the sign
	case k.ground != noGround:
		text = "⟨+" + text + "⟩"
	}
	if len(d.row) == 0 {
		d.fresh = !inBase
	}
	var kinds []tinted
	if inBase && k.hue == plain && d.line < len(d.code) && d.colour {
		kinds = d.code[d.line]
	}
	d.row = tint(d.row, text, d.col, kinds, k)
	if inBase {
		if d.col += len(piece); strings.HasSuffix(piece, "\n") {
			d.line, d.col = d.line+1, 0
		}
	}
	if !strings.HasSuffix(piece, "\n") {
		return
	}
	if len(d.row) == 0 {
		d.fresh = !inBase
	}
	d.flush()
	if inBase {
		d.number++
	}
}

func (d *drawnEdit) flush() {
	label := txt(faint, fmt.Sprintf("%5d ", d.number))
	if d.fresh {
		label = txt(d.hue, "    + ")
	}
	d.out.row(label.then(d.row))
	d.row = nil
}

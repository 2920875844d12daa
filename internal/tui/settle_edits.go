package tui

import (
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// editsPage shows what each side did to the base.
func (s settlePage) editsPage(q *plan.Attributed, w, rows int) term.Page {
	you := term.Page{term.Text(term.Plain, " ").Bold(term.Yours, "what you did").Add(term.Dim,
		" to the text both started from")}
	they := term.Page{term.Text(term.Plain, " ").Bold(term.Theirs, "what "+s.they(q)+" did").Add(term.Dim,
		" to it")}
	if s.job.w < wide { // one row has author and subject
		you, they = term.Page{s.credit(q, merge.Yours)}, term.Page{s.credit(q, merge.Theirs)}
	}
	c := q.Question
	mine := edit{base: c.Base, place: c.Yours, text: c.Yours, note: "removed", from: c.Place.Base.Lo + 1,
		hue:    term.Yours,
		ground: term.OnYours}
	mine.wrote = q.Wrote[0]
	other := edit{base: c.Base, place: c.Theirs, text: c.Theirs, note: "removed", from: mine.from, hue: term.Theirs,
		ground: term.OnTheirs}
	other.wrote = q.Wrote[1]
	if s.job.theme.Colour {
		mine.code = s.job.coder.Lines(c.Path, c.Base)
		other.code = mine.code
	}
	if o := c.Ways[0]; o.Moved != nil { // show each edit on the moved lines
		mine.text, other.text, _ = q.File.Sides(c, o)
		region := q.File.Text.Hunks[o.Moved.Hunk]
		if o.Moved.Side == merge.Yours {
			mine.note = "moved to " + lineWords(region.Yours)
		} else {
			other.note = "moved to " + lineWords(region.Theirs)
		}
	}
	a, b := mine.rows(s.job.theme.Colour), other.rows(s.job.theme.Colour)
	if s.job.w >= wide {
		half := (w - 3) / 2
		if s.views == editView {
			a, b = folded(a, half), folded(b, half)
		}
		return term.Beside(append(you, atMost(a, rows-1)...), append(they, atMost(b, rows-1)...), half, w, 0)
	}
	if s.views == editView {
		a, b = folded(a, w), folded(b, w)
	}
	each := max(1, rows/2-1)
	return append(append(you, fromEdit(a, each, w)...), append(they, fromEdit(b, each, w)...)...)
}

// folded wraps long lines beside their numbers.
func folded(p term.Page, w int) (out term.Page) {
	for _, row := range p {
		if row.Width() <= w || len(row) < 2 {
			out.Row(row)
			continue
		}
		label := row[:1]
		for _, part := range term.Fold(row[1:], w-label.Width()) {
			out.Row(label.Then(part))
			label = term.Text(term.Faint, strings.Repeat(" ", label.Width()))
		}
	}
	return out
}

// textsPage shows the three whole texts of the place: side by side with the base in the middle or, in a narrow
// terminal, below each other.
func (s settlePage) textsPage(q *plan.Attributed, w int) term.Page {
	c := q.Question
	type side struct {
		term.Mark
		name, text string
		from       int
	}
	all := []side{{term.MarkYours, "yours", c.Yours, c.Place.Yours.Lo},
		{term.MarkBase, "what both started from", c.Base,
			c.Place.Base.Lo}, {term.MarkTheirs, "theirs", c.Theirs, c.Place.Theirs.Lo}}
	draw := func(x side, w int) (p term.Page) {
		p.Row(term.Text(term.Plain, " ").Mark(x.Mark).Bold(x.Hue, x.name))
		var tints [][]term.Tinted
		if s.job.theme.Colour {
			tints = s.job.coder.Lines(c.Path, x.text)
		}
		for i, l := range diff.Lines(x.text) {
			row := term.Text(term.Faint, fmt.Sprintf("%5d ", x.from+i+1))
			var words []term.Tinted
			if i < len(tints) {
				words = tints[i]
			}
			for k, part := range term.Fold(term.Code(nil, l, words, nil, term.Ink{}),
				max(10, w-7)) { // never cut
				if k > 0 {
					row = term.Text(term.Faint, "      ")
				}
				p.Row(row.Then(part))
			}
		}
		if x.text == "" {
			p.Row(term.Text(term.Dim, "      nothing"))
		}
		return p
	}
	if s.job.w < wide {
		var p term.Page
		for _, x := range all {
			p.Rows(draw(x, w))
		}
		return p
	}
	third := (w - 6) / 3
	two := term.Beside(draw(all[1], third), draw(all[2], third), third, 2*third+3, 0)
	return term.Beside(draw(all[0], third), two, third, w, 0)
}

// againstPage shows what each side has that the other lacks, without the base.
func (s settlePage) againstPage(q *plan.Attributed, w int) term.Page {
	c := q.Question
	e := edit{base: c.Yours, text: c.Theirs, place: c.Theirs, note: "removed", from: c.Place.Yours.Lo + 1,
		hue:    term.Theirs,
		ground: term.OnTheirs}
	if s.job.theme.Colour {
		e.code = s.job.coder.Lines(c.Path, c.Yours)
	}
	p := term.Page{term.Text(term.Plain, " ").Bold(term.Yours, "your text").Add(term.Dim, ", and ").Bold(term.Theirs,
		"what "+s.theirName(q)+" has").
		Add(term.Dim, " in the place of what is struck out")}
	return append(p, e.rows(s.job.theme.Colour)...)
}

// fromEdit returns rows of an edit from its first change on, and the number of the rest.
func fromEdit(p term.Page, n, w int) term.Page {
	if len(p) <= n {
		return p
	}
	first := slices.IndexFunc(p, func(l term.Line) bool {
		return slices.ContainsFunc(l, func(s term.Span) bool {
			return s.Ink.Strike || s.Ink.Ground != term.NoGround || strings.HasPrefix(s.Text, "⟨")
		})
	})
	first = max(0, min(first, len(p)-n))
	out := append(term.Page(nil), p[first:first+n]...)
	more := term.Text(term.Dim, fmt.Sprintf(" … %d more, v shows", len(p)-n))
	out[n-1] = out[n-1].Cut(w - more.Width() - 1).Fit(w - more.Width()).Then(more)
	return out
}

// atMost returns the first rows of a page and the number of the rest.
func atMost(p term.Page, n int) term.Page {
	if len(p) <= n {
		return p
	}
	return append(p[:n-1:n-1], term.Text(term.Dim, fmt.Sprintf("      … %s; v shows all",
		words.Count(len(p)-n+1, "more line",
			"more lines"))))
}

// edit is a side's edit of a text, drawn word by word.
type edit struct {
	base, text string
	place      string // what the side has there; its lines may be at another path
	note       string // what happened to the lines, if none are left
	from       int    // first line number of the base
	hue        term.Hue
	ground     term.Ground
	code       [][]term.Tinted // the base's lines
	wrote      history.Writers // the commits behind the side's lines, if there are several
}

// lines counts the changed lines.
func (e *edit) lines() (n int) {
	for _, d := range diff.Histogram(diff.Lines(e.base), diff.Lines(e.text)) {
		n += max(d.A1-d.A0, d.B1-d.B0)
	}
	return n
}

// drawnEdit collects the rows of an edit.
type drawnEdit struct {
	edit
	colour  bool
	out     term.Page
	row     term.Line
	now     string // the side's line so far
	changed bool   // the side changed it
	line    int    // line of the base, from 0, and
	col     int    // its next byte
	number  int
	fresh   bool // the row began with an inserted line
}

// rows draws an edit of the base: removed words are struck through, added ones have the side's background. Without
// colour there are signs.
func (e edit) rows(colour bool) term.Page {
	d := &drawnEdit{edit: e, colour: colour, number: e.from}
	if e.place == "" && e.base != "" {
		d.out.Row(term.Text(term.Dim, "      ("+e.note+":)"))
	}
	a, b := settle.Atoms(e.base), settle.Atoms(e.text)
	at := 0
	for _, c := range diff.AtLines(diff.WordEdits(a, b), a, b) {
		d.words(a[at:c.A0], term.Ink{Hue: term.Plain}, true)
		d.words(a[c.A0:c.A1], term.Ink{Hue: term.Dim, Strike: true}, true)
		if came := strings.Join(b[c.B0:c.B1], ""); colour && len(d.row) > 0 && c.A1 > c.A0 &&
			strings.TrimSpace(came) != "" {
			d.row = d.row.Add(term.Dim, "›") // separates the two texts
		}
		d.words(b[c.B0:c.B1], term.Ink{Hue: e.hue, Ground: e.ground, Bold: true}, false)
		at = c.A1
	}
	d.words(a[at:], term.Ink{Hue: term.Plain}, true)
	if len(d.row) > 0 {
		d.flush()
	}
	if len(d.out) == 0 {
		d.out.Row(term.Text(term.Dim, "      nothing"))
	}
	return d.out
}

// words adds words of one style. Those of one line go together, so a mark spans them.
func (d *drawnEdit) words(words []string, k term.Ink, inBase bool) {
	for len(words) > 0 {
		n := 1
		for n < len(words) && !strings.HasSuffix(words[n-1], "\n") {
			n++
		}
		d.put(strings.Join(words[:n], ""), k, inBase)
		words = words[n:]
	}
}

// put adds a piece of a line, and ends the row at the line's end.
func (d *drawnEdit) put(piece string, k term.Ink, inBase bool) {
	if !k.Strike {
		d.now += piece
		d.changed = d.changed || k.Ground != term.NoGround
	}
	text := strings.TrimSuffix(piece, "\n")
	blank := strings.TrimSpace(text) == ""
	switch {
	case blank && k.Strike:
		text = "" // a struck-out blank looks like a dash
	case blank || d.colour:
	case k.Strike:
		text, k.Strike = "⟨−"+text+"⟩", false // a stroke would hide the character
	case k.Ground != term.NoGround:
		text = "⟨+" + text + "⟩"
	}
	if len(d.row) == 0 {
		d.fresh = !inBase
	}
	var kinds []term.Tinted
	if inBase && k.Hue == term.Plain && d.line < len(d.code) && d.colour {
		kinds = d.code[d.line]
	}
	d.row = term.Tint(d.row, text, d.col, kinds, k)
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
	label := term.Text(term.Faint, fmt.Sprintf("%5d ", d.number))
	if d.fresh {
		label = term.Text(d.hue, "    + ")
	}
	if i, ok := d.wrote.Of(d.now); ok && d.changed && len(d.wrote.Commits) > 1 {
		label = term.Text(d.hue, " "+writerSign(i)).Add(term.Faint, fmt.Sprintf("%3d ", d.number))
		if d.fresh {
			label = term.Text(d.hue, " "+writerSign(i)+"  + ")
		}
	}
	d.out.Row(label.Then(d.row))
	d.row, d.now, d.changed = nil, "", false
}

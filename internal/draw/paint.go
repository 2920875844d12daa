package draw

import (
	"image/color"
	"math"
	"strings"

	"golang.org/x/text/unicode/bidi"
)

// canvas is a page of one format. Lengths and positions are in points from the top left corner.
type canvas interface {
	// stroke draws along a path, and fill what a path encloses.
	stroke(p path, c color.RGBA, width float64, dash ...float64)
	fill(p path, c color.RGBA)
	// text writes text of one font, starting at a point on its baseline.
	text(f face, size float64, x, y float64, c color.RGBA, s string)
}

// path is a sequence of straight lines and Bézier curves.
type path []step

// step is one part of a path: its end, with two control points for a curve. Without a kind it returns to the start.
type step struct {
	kind byte // 'M' moves, 'L' draws a line, 'C' a curve, 'Z' closes the path
	c    [2]xy
	to   xy
}

type xy struct{ x, y float64 }

func (p *path) move(x, y float64)   { *p = append(*p, step{kind: 'M', to: xy{x, y}}) }
func (p *path) line(x, y float64)   { *p = append(*p, step{kind: 'L', to: xy{x, y}}) }
func (p *path) curve(c0, c1, to xy) { *p = append(*p, step{'C', [2]xy{c0, c1}, to}) }
func (p *path) shut()               { *p = append(*p, step{kind: 'Z'}) }

// painter paints shapes on a canvas.
type painter struct {
	canvas
	down   float64 // offset of the page from the top of the canvas
	colour palette
	// The reader of the picture reorders right-to-left text, and collapses blanks unless they are non-breaking.
	reader bool
}

// visual returns a text in visual order from the left, by the Unicode bidirectional algorithm (UAX #9).
func visual(s string) string {
	if !strings.ContainsFunc(s, func(r rune) bool { return r >= 0x590 }) {
		return s
	}
	const mark = "\u200e" // makes the whole run left-to-right
	var p bidi.Paragraph
	if _, err := p.SetString(mark + s); err != nil {
		return s
	}
	order, err := p.Order()
	if err != nil {
		return s
	}
	var b strings.Builder
	for i := range order.NumRuns() {
		r := order.Run(i)
		if r.Direction() == bidi.RightToLeft {
			b.WriteString(bidi.ReverseString(r.String()))
		} else {
			b.WriteString(r.String())
		}
	}
	return strings.TrimPrefix(b.String(), mark)
}

func (p *painter) page(pg *Page) {
	for _, s := range pg.Shapes {
		switch s := s.(type) {
		case Line:
			p.line(s)
		case Block:
			p.block(s)
		case Text:
			p.write(s)
		case Sign:
			p.sign(s)
		}
	}
}

func (p *painter) hue(h Hue) color.RGBA { return p.colour[h] }

func (p *painter) line(l Line) {
	var dash []float64
	if l.Dashed {
		dash = []float64{3.2 * l.Width, 1.6 * l.Width}
	}
	var way path
	way.move(l.Points[0][0], p.down+l.Points[0][1])
	for i, to := range l.Points[1:] {
		from := l.Points[i]
		if l.Smooth && from[0] != to[0] {
			mid := p.down + (from[1]+to[1])/2
			way.curve(xy{from[0], mid}, xy{to[0], mid}, xy{to[0], p.down + to[1]})
			continue
		}
		way.line(to[0], p.down+to[1])
	}
	p.stroke(way, p.hue(l.Hue), l.Width, dash...)
}

func (p *painter) block(b Block) {
	if b.Hatched {
		p.hatch(b)
		return
	}
	p.fill(p.edge(b), p.hue(b.Hue))
}

// edge returns the outline of a block.
func (p *painter) edge(b Block) (way path) {
	way.move(b.X0, p.down+b.Y0)
	way.line(b.X1, p.down+b.Y0)
	way.line(b.X1, p.down+b.Y1)
	way.line(b.X0, p.down+b.Y1)
	way.shut()
	return way
}

// hatch fills a block with slanted lines.
func (p *painter) hatch(b Block) {
	const wide = 0.8
	p.stroke(p.edge(b), p.hue(b.Hue), wide)
	h := b.Y1 - b.Y0
	for x := b.X0 - h; x < b.X1; x += 3 {
		x0, x1 := max(x, b.X0), min(x+h, b.X1)
		if x1 <= x0 {
			continue
		}
		var way path
		way.move(x0, p.down+b.Y1-(x0-x))
		way.line(x1, p.down+b.Y1-(x1-x))
		p.stroke(way, p.hue(b.Hue), wide)
	}
}

func (p *painter) write(t Text) {
	x, all := t.X, t.String
	if !p.reader {
		all = visual(all)
	}
	for _, r := range runs(t.Face, all) {
		text := r.text
		if p.reader {
			text = strings.ReplaceAll(text, "  ", "\u00a0\u00a0")
			if strings.HasPrefix(text, " ") {
				text = "\u00a0" + text[1:]
			}
		}
		p.text(r.face, t.Size, x, p.down+t.Y, p.hue(t.Hue), text)
		x += width(r.face, t.Size, r.text)
	}
}

func (p *painter) sign(s Sign) {
	hue := p.hue(map[SignKind]Hue{SignBase: Base, SignYours: Yours, SignTheirs: Theirs, SignJoined: Joined,
		SignBehind: Dim}[s.Kind])
	at := xy{s.X, p.down + s.Y}
	whole := arc(at, s.R, 0, 2*math.Pi)
	p.fill(whole, p.hue(Paper))
	switch s.Kind {
	case SignYours:
		p.fill(arc(at, s.R, math.Pi/2, math.Pi), hue)
	case SignTheirs:
		p.fill(arc(at, s.R, -math.Pi/2, math.Pi), hue)
	case SignJoined:
		p.fill(whole, hue)
	}
	var dash []float64
	if s.Kind == SignBehind {
		dash = []float64{s.R * 0.5, s.R * 0.5}
	}
	p.stroke(whole, hue, s.R*0.32, dash...)
}

// arc returns a part of a circle closed by its chord. Angles are in radians, counterclockwise from the right.
func arc(c xy, r, start, angle float64) (way path) {
	place := func(x, y float64) xy { return xy{c.x + x, c.y - y} }
	first := place(r*math.Cos(start), r*math.Sin(start))
	way.move(first.x, first.y)
	const piece = math.Pi / 8 // largest angle drawn as one curve
	for a := start; a < start+angle-1e-9; a += piece {
		k := 4.0 / 3 * math.Tan(piece/4) * r
		x0, y0 := r*math.Cos(a), r*math.Sin(a)
		x1, y1 := r*math.Cos(a+piece), r*math.Sin(a+piece)
		way.curve(place(x0-k*math.Sin(a), y0+k*math.Cos(a)), place(x1+k*math.Sin(a+piece), y1-k*math.Cos(a+piece)),
			place(x1, y1))
	}
	way.shut()
	return way
}

// used returns the characters of each face that a drawing needs.
func (d *Drawing) used() (out [faces]map[rune]bool) {
	for _, pg := range d.Pages {
		for _, s := range pg.Shapes {
			t, ok := s.(Text)
			if !ok {
				continue
			}
			for _, r := range runs(t.Face, t.String) {
				if out[r.face] == nil {
					out[r.face] = map[rune]bool{' ': true, '\u00a0': true}
				}
				for _, c := range r.text {
					out[r.face][c] = true
				}
			}
		}
	}
	return out
}

package draw

import (
	"bytes"
	"html"
	"image/color"
	"io"
	"math"
	"strings"

	"golang.org/x/text/unicode/bidi"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgsvg"
)

// painter paints shapes on a canvas, whose origin is at the bottom left.
type painter struct {
	vg.Canvas
	h      float64
	colour palette
	faces  subsets
	// What reads the picture orders characters that run from the right, and takes blanks in a row
	// for one unless they are of the kind that do not break.
	reader bool
}

// visual is a text in the order in which it is seen from the left, by the Unicode bidirectional
// algorithm (UAX #9).
func visual(s string) string {
	if !strings.ContainsFunc(s, func(r rune) bool { return r >= 0x590 }) {
		return s
	}
	const mark = "\u200e" // has the whole run from the left, whatever comes first
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

func (p *painter) at(x, y float64) vg.Point { return vg.Point{X: vg.Length(x), Y: vg.Length(p.h - y)} }

func (p *painter) page(pg *Page) {
	for _, s := range pg.Shapes {
		switch s := s.(type) {
		case Line:
			p.line(s)
		case Block:
			p.block(s)
		case Text:
			p.text(s)
		case Sign:
			p.sign(s)
		}
	}
}

func (p *painter) hue(h Hue) color.RGBA { return p.colour[h] }

func (p *painter) line(l Line) {
	p.SetColor(p.hue(l.Hue))
	p.SetLineWidth(vg.Length(l.Width))
	if l.Dashed {
		p.SetLineDash([]vg.Length{vg.Length(3.2 * l.Width), vg.Length(1.6 * l.Width)}, 0)
	}
	var path vg.Path
	path.Move(p.at(l.Points[0][0], l.Points[0][1]))
	for i, to := range l.Points[1:] {
		from := l.Points[i]
		if l.Smooth && from[0] != to[0] {
			mid := (from[1] + to[1]) / 2
			path.CubeTo(p.at(from[0], mid), p.at(to[0], mid), p.at(to[0], to[1]))
			continue
		}
		path.Line(p.at(to[0], to[1]))
	}
	p.Stroke(path)
	if l.Dashed {
		p.SetLineDash(nil, 0)
	}
}

func (p *painter) block(b Block) {
	p.SetColor(p.hue(b.Hue))
	if b.Hatched {
		p.hatch(b)
		return
	}
	p.Fill(p.edge(b))
}

// edge is the way around a block.
func (p *painter) edge(b Block) (path vg.Path) {
	path.Move(p.at(b.X0, b.Y0))
	path.Line(p.at(b.X1, b.Y0))
	path.Line(p.at(b.X1, b.Y1))
	path.Line(p.at(b.X0, b.Y1))
	path.Close()
	return path
}

// hatch fills a block with slanted lines, cut at its edges.
func (p *painter) hatch(b Block) {
	p.SetLineWidth(0.8)
	p.Stroke(p.edge(b))
	h := b.Y1 - b.Y0
	for x := b.X0 - h; x < b.X1; x += 3 {
		x0, x1 := max(x, b.X0), min(x+h, b.X1)
		if x1 <= x0 {
			continue
		}
		var l vg.Path
		l.Move(p.at(x0, b.Y1-(x0-x)))
		l.Line(p.at(x1, b.Y1-(x1-x)))
		p.Stroke(l)
	}
}

func (p *painter) text(t Text) {
	p.SetColor(p.hue(t.Hue))
	x, all := t.X, t.String
	if !p.reader {
		all = visual(all)
	}
	for _, r := range runs(t.Face, all) {
		f := *p.faces[r.face]
		f.Font.Size = font.Length(t.Size)
		text := r.text
		if p.reader {
			text = strings.ReplaceAll(text, "  ", "\u00a0\u00a0")
			if strings.HasPrefix(text, " ") {
				text = "\u00a0" + text[1:]
			}
		}
		p.FillString(f, p.at(x, t.Y), text)
		x += width(r.face, t.Size, r.text)
	}
}

func (p *painter) sign(s Sign) {
	hue := map[SignKind]Hue{SignBase: Base, SignYours: Yours, SignTheirs: Theirs, SignJoined: Joined,
		SignBehind: Dim}[s.Kind]
	circle := func(start, angle float64) vg.Path {
		var path vg.Path
		c := p.at(s.X, s.Y)
		path.Move(vg.Point{X: c.X + vg.Length(s.R*math.Cos(start)), Y: c.Y + vg.Length(s.R*math.Sin(start))})
		const step = math.Pi / 8 // the curves of a circle, as both kinds of file draw them alike
		for a := start; a < start+angle-1e-9; a += step {
			k := 4.0 / 3 * math.Tan(step/4) * s.R
			x0, y0 := s.R*math.Cos(a), s.R*math.Sin(a)
			x1, y1 := s.R*math.Cos(a+step), s.R*math.Sin(a+step)
			path.CubeTo(vg.Point{X: c.X + vg.Length(x0-k*math.Sin(a)), Y: c.Y + vg.Length(y0+k*math.Cos(a))},
				vg.Point{X: c.X + vg.Length(x1+k*math.Sin(a+step)), Y: c.Y + vg.Length(y1-k*math.Cos(a+step))},
				vg.Point{X: c.X + vg.Length(x1), Y: c.Y + vg.Length(y1)})
		}
		path.Close()
		return path
	}
	whole := circle(0, 2*math.Pi)
	p.SetColor(p.hue(Paper))
	p.Fill(whole)
	p.SetColor(p.hue(hue))
	switch s.Kind {
	case SignYours:
		p.Fill(circle(math.Pi/2, math.Pi))
	case SignTheirs:
		p.Fill(circle(-math.Pi/2, math.Pi))
	case SignJoined:
		p.Fill(whole)
	}
	p.SetLineWidth(vg.Length(s.R * 0.32))
	if s.Kind == SignBehind {
		p.SetLineDash([]vg.Length{vg.Length(s.R * 0.5), vg.Length(s.R * 0.5)}, 0)
	}
	p.Stroke(whole)
	p.SetLineDash(nil, 0)
}

// used is which characters of which faces a drawing needs.
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

// SVG writes the drawing as one picture, its pages one below the other.
func (d *Drawing) SVG(w io.Writer) error {
	cut, err := subset(d.used())
	if err != nil {
		return err
	}
	h := d.H * float64(len(d.Pages))
	c := vgsvg.NewWith(vgsvg.UseWH(vg.Length(d.W), vg.Length(h)), vgsvg.EmbedFonts(true))
	for i, pg := range d.Pages {
		p := &painter{c, h - float64(i)*d.H, d.colour, cut, true}
		p.block(Block{Box: Box{0, 0, d.W, d.H}, Hue: Paper})
		p.page(pg)
	}
	var b bytes.Buffer
	if _, err := c.WriteTo(&b); err != nil {
		return err
	}
	// The picture's title, which is read aloud where it cannot be seen.
	head, rest, _ := bytes.Cut(b.Bytes(), []byte(">\n<defs>"))
	title := "<title>" + html.EscapeString(d.Title) + "</title>"
	_, err = w.Write(bytes.Join([][]byte{head, []byte(">\n" + title + "\n<defs>"), rest}, nil))
	return err
}

package draw

import (
	"bytes"
	"encoding/base64"
	"encoding/xml"
	"fmt"
	"image/color"
	"io"
	"strconv"
)

// svgCanvas writes SVG 1.1 (https://www.w3.org/TR/SVG11/).
type svgCanvas struct{ bytes.Buffer }

// number formats a length with its visible digits.
func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 32) }

// places returns a path as the value of attribute d.
func (p path) places() string {
	var b bytes.Buffer
	for _, s := range p {
		b.WriteByte(s.kind)
		points := []xy{s.to}
		switch s.kind {
		case 'Z':
			continue
		case 'C':
			points = []xy{s.c[0], s.c[1], s.to}
		}
		for i, at := range points {
			if i > 0 {
				b.WriteByte(' ')
			}
			b.WriteString(number(at.x) + "," + number(at.y))
		}
	}
	return b.String()
}

func hex(c color.RGBA) string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

func (c *svgCanvas) stroke(p path, hue color.RGBA, width float64, dash ...float64) {
	fmt.Fprintf(c, `<path d="%s" fill="none" stroke="%s" stroke-width="%s"`, p.places(), hex(hue), number(width))
	for i, d := range dash {
		if i == 0 {
			c.WriteString(` stroke-dasharray="`)
		} else {
			c.WriteByte(',')
		}
		c.WriteString(number(d))
	}
	if len(dash) > 0 {
		c.WriteByte('"')
	}
	c.WriteString("/>\n")
}

func (c *svgCanvas) fill(p path, hue color.RGBA) {
	fmt.Fprintf(c, `<path d="%s" fill="%s"/>`+"\n", p.places(), hex(hue))
}

func (c *svgCanvas) text(f face, size, x, y float64, hue color.RGBA, s string) {
	fmt.Fprintf(c, `<text class="f%d" x="%s" y="%s" font-size="%s" fill="%s">`, f, number(x), number(y), number(size),
		hex(hue))
	_ = xml.EscapeText(c, []byte(s)) // writing to a buffer cannot fail
	c.WriteString("</text>\n")
}

// SVG writes the drawing as one image with its pages below each other and its faces embedded.
func (d *Drawing) SVG(w io.Writer) error {
	cut, err := subset(d.used())
	if err != nil {
		return err
	}
	h := d.H * float64(len(d.Pages))
	c := &svgCanvas{}
	fmt.Fprintf(c, `<svg xmlns="http://www.w3.org/2000/svg" width="%spt" height="%[2]spt" viewBox="0 0 %[1]s %[2]s">
<title>`, number(d.W), number(h))
	_ = xml.EscapeText(c, []byte(d.Title)) // screen readers read the title
	c.WriteString("</title>\n<defs><style>\n")
	for f, font := range cut {
		if font != nil {
			fmt.Fprintf(c, "@font-face{font-family:%q;src:url(data:font/ttf;base64,%s)}\n", names[f].family,
				base64.StdEncoding.EncodeToString(font))
			fmt.Fprintf(c, ".f%d{font-family:%q,%s}\n", f, names[f].family, names[f].like)
		}
	}
	c.WriteString("</style></defs>\n")
	for i, pg := range d.Pages {
		p := &painter{c, float64(i) * d.H, d.colour, true}
		p.block(Block{Box: Box{0, 0, d.W, d.H}, Hue: Paper})
		p.page(pg)
	}
	c.WriteString("</svg>\n")
	_, err = c.WriteTo(w)
	return err
}

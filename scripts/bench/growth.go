package main

import (
	"fmt"
	"html"
	"math"
	"strings"
)

// curve is how a cost follows a size, the smallest first.
type curve struct {
	name   string
	points []point
}

// point is what was measured of one size.
type point struct {
	size    int
	seconds float64
}

// The place of a curve, in points.
const (
	sheetWide = 595.0
	edge      = 42.0 // margin of the sheet
	curveHigh = 128.0
	curveLeft = edge + 170 // left end of the axis
	curveEnd  = sheetWide - edge - 60
)

// growth returns an SVG with curves one below the other, on axes of powers of ten. Beside each a dashed line shows what
// would be in proportion to the size.
func growth(title, text string, curves []curve) []byte {
	var b strings.Builder
	high := 2*edge + 40 + curveHigh*float64(len(curves))
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" width="%gpt" height="%gpt" viewBox="0 0 %[1]g %[2]g" `+
		`font-family="sans-serif" font-size="9" fill="#1c202b">`+"\n<rect width=\"100%%\" height=\"100%%\" fill=\"#fff\"/>\n",
		sheetWide, high)
	write(&b, edge, edge+12, `font-size="16" font-weight="bold"`, title)
	write(&b, edge, edge+28, `fill="#565c6c"`, text)
	for i, c := range curves {
		c.draw(&b, edge+40+curveHigh*float64(i))
	}
	b.WriteString("</svg>\n")
	return []byte(b.String())
}

// write writes a text; at is its style.
func write(b *strings.Builder, x, y float64, at, text string) {
	fmt.Fprintf(b, "<text x=\"%.1f\" y=\"%.1f\" %s>%s</text>\n", x, y, at, html.EscapeString(text))
}

// draw draws a curve below y.
func (c curve) draw(b *strings.Builder, y float64) {
	top, bottom := y+16, y+curveHigh-26
	first, last := c.points[0], c.points[len(c.points)-1]
	proportion := first.seconds * float64(last.size) / float64(first.size)
	least, most := first.seconds, proportion
	for _, p := range c.points {
		least, most = min(least, p.seconds), max(most, p.seconds)
	}
	across := func(size int) float64 {
		return curveLeft + (curveEnd-curveLeft)*math.Log(float64(size)/float64(first.size))/
			math.Log(float64(max(last.size, first.size+1))/float64(first.size))
	}
	up := func(seconds float64) float64 {
		if most <= least {
			return bottom
		}
		return bottom - (bottom-top)*math.Log(seconds/least)/math.Log(most/least)
	}
	for i, line := range strings.SplitN(c.name, ", ", 2) {
		write(b, edge, top+12*float64(i), "", line)
	}
	const rule = "<path d=\"M%.1f %.1fL%.1f %.1f\" stroke=\"#b4b8c4\" stroke-width=\"0.6\"%s/>\n"
	fmt.Fprintf(b, rule, curveLeft, bottom, curveEnd, bottom, "")
	fmt.Fprintf(b, rule, curveLeft, up(first.seconds), curveEnd, up(proportion), ` stroke-dasharray="3 2"`)
	var path strings.Builder
	for i, p := range c.points {
		x, y := across(p.size), up(p.seconds)
		fmt.Fprintf(&path, "%s%.1f %.1f", map[bool]string{true: "M", false: "L"}[i == 0], x, y)
		fmt.Fprintf(b, "<rect x=\"%.1f\" y=\"%.1f\" width=\"5\" height=\"5\" fill=\"#076b47\"/>\n", x-2.5, y-2.5)
		write(b, x, bottom+12, `font-size="7.5" text-anchor="middle" fill="#565c6c"`, thousands(p.size))
		write(b, x-5, y-3, `font-size="7.5" text-anchor="end"`, seconds(p.seconds))
	}
	fmt.Fprintf(b, "<path d=\"%s\" fill=\"none\" stroke=\"#076b47\" stroke-width=\"1.4\"/>\n", path.String())
}

// thousands writes a number with a comma before each three digits.
func thousands(n int) string {
	if n < 1000 {
		return fmt.Sprint(n)
	}
	return thousands(n/1000) + fmt.Sprintf(",%03d", n%1000)
}

// seconds writes a time with two digits that count.
func seconds(s float64) string {
	switch {
	case s < 0.0995:
		return fmt.Sprintf("%.2g ms", s*1000)
	case s < 0.995:
		return fmt.Sprintf("%.0f ms", s*1000)
	}
	return fmt.Sprintf("%.2g s", s)
}

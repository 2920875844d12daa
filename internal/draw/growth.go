package draw

import (
	"fmt"
	"math"
)

// Curve is how a cost follows a size, the smallest first.
type Curve struct {
	Name   string
	Points []Point
}

// Point is what was measured of one size.
type Point struct {
	Size    int
	Seconds float64
}

// Growth draws curves one below the other, on axes of powers of ten. Beside each a faint line shows what would be in
// proportion to the size.
func Growth(title, text string, curves []Curve, opt Options) *Drawing {
	s := newSheet(title, opt)
	s.title(title, text)
	for _, c := range curves {
		s.curve(c)
	}
	return s.finish()
}

// The place of a curve, in points.
const (
	curveHigh = 104.0
	curveLeft = 150.0 // where its axis begins
)

// curve draws one.
func (s *sheet) curve(c Curve) {
	s.room(curveHigh + 24)
	top, bottom := s.y+6, s.y+curveHigh-16
	left, right := margin+curveLeft, s.d.W-margin-60
	first, last := c.Points[0], c.Points[len(c.Points)-1]
	least, most := first.Seconds, first.Seconds*float64(last.Size)/float64(first.Size)
	for _, p := range c.Points {
		least, most = min(least, p.Seconds), max(most, p.Seconds)
	}
	x := func(size int) float64 {
		return left + (right-left)*math.Log(float64(size)/float64(first.Size))/
			math.Log(float64(max(last.Size, first.Size+1))/float64(first.Size))
	}
	y := func(seconds float64) float64 {
		if most <= least {
			return bottom
		}
		return bottom - (bottom-top)*math.Log(seconds/least)/math.Log(most/least)
	}
	s.write(margin, s.y+10, sans, 9, Ink, wrapped(sans, 9, c.Name, curveLeft-20))
	s.put(Line{Points: [][2]float64{{left, bottom}, {right, bottom}}, Width: 0.6, Hue: Faint},
		Line{Points: [][2]float64{{left, y(first.Seconds)}, {right, y(first.Seconds * float64(last.Size) /
			float64(first.Size))}}, Width: 0.6, Hue: Faint, Dashed: true})
	var points [][2]float64
	for _, p := range c.Points {
		at := [2]float64{x(p.Size), y(p.Seconds)}
		points = append(points, at)
		size, took := thousands(p.Size), seconds(p.Seconds)
		s.put(Block{Box: Box{at[0] - 2.5, at[1] - 2.5, at[0] + 2.5, at[1] + 2.5}, Hue: Joined},
			Text{at[0] - width(sans, 7.5, size)/2, bottom + 11, 7.5, sans, Dim, size},
			Text{at[0] - 5 - width(sans, 7.5, took), at[1] - 3, 7.5, sans, Ink, took}) // the curve comes from below
	}
	s.put(Line{Points: points, Width: 1.4, Hue: Joined})
	s.y += curveHigh + 14
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

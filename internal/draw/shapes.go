// Package draw makes drawings and reports of a recovery and of a history: SVG, PDF and, of the
// report, Markdown.
//
// A drawing is a model of shapes on pages (Drawing), which is painted on a canvas: one for SVG, and one over
// codeberg.org/go-pdf/fpdf for PDF. Text is text, in faces that are part of what is written. The same model gives the
// same bytes. Characters no face has are drawn as □, and scripts that join their letters are drawn letter by letter.
package draw

import (
	"image/color"

	"golang.org/x/image/math/fixed"
)

// Drawing is a list of pages of shapes.
type Drawing struct {
	Title  string
	W, H   float64 // page size, in points of 1/72 inch
	Pages  []*Page
	colour palette
}

// Page lists the shapes of a page from back to front. The origin is the top left corner.
type Page struct{ Shapes []Shape }

// Shape is something that is drawn.
type Shape interface{ box() Box }

// Box is the bounding box of a shape in points.
type Box struct{ X0, Y0, X1, Y1 float64 }

// Line is a line through points. A smooth one enters and leaves each point vertically.
type Line struct {
	Points [][2]float64
	Width  float64
	Dashed bool
	Smooth bool
	Hue    Hue
}

// Block is a filled rectangle. Hatching distinguishes it without colour.
type Block struct {
	Box
	Hue     Hue
	Hatched bool
}

// Text is a piece of text; Y is its base line.
type Text struct {
	X, Y, Size float64
	Face       face
	Hue        Hue
	String     string
}

// Sign is one of Dorvik's signs; R is half of its width.
type Sign struct {
	X, Y, R float64 // centre and radius
	Kind    SignKind
}

// SignKind is the kind of a sign.
type SignKind uint8

// The signs: two halves make a whole.
const (
	SignBase   SignKind = iota // ○
	SignYours                  // ◐
	SignTheirs                 // ◑
	SignJoined                 // ●
	SignBehind                 // ◌
)

func (l Line) box() (b Box) {
	b = Box{l.Points[0][0], l.Points[0][1], l.Points[0][0], l.Points[0][1]}
	for _, p := range l.Points {
		b = Box{min(b.X0, p[0]), min(b.Y0, p[1]), max(b.X1, p[0]), max(b.Y1, p[1])}
	}
	return b
}

func (b Block) box() Box { return b.Box }

func (t Text) box() Box {
	return Box{t.X, t.Y - 0.76*t.Size, t.X + width(t.Face, t.Size, t.String), t.Y + 0.24*t.Size}
}

func (s Sign) box() Box { return Box{s.X - s.R, s.Y - s.R, s.X + s.R, s.Y + s.R} }

// Hue is a colour named by its meaning.
type Hue uint8

// The hues.
const (
	Ink Hue = iota
	Dim
	Faint
	Yours
	Theirs
	Base
	Joined
	Trouble
	Paper
	OnYours
	OnTheirs
	OnJoined
	OnBase
	hues
)

type palette [hues]color.RGBA

func rgb(v uint32) color.RGBA { return color.RGBA{uint8(v >> 16), uint8(v >> 8), uint8(v), 0xff} }

var palettes = map[string]palette{
	"light": {Ink: rgb(0x1c202b), Dim: rgb(0x565c6c), Faint: rgb(0xb4b8c4), Yours: rgb(0x9a5b00), Theirs: rgb(0x6336ad),
		Base: rgb(0x4f5567), Joined: rgb(0x076b47), Trouble: rgb(0xb3261e), Paper: rgb(0xffffff),
		OnYours:  rgb(0xfbe9cb),
		OnTheirs: rgb(0xebe1fa), OnJoined: rgb(0xdcf2e8), OnBase: rgb(0xeef0f4)},
	"dark": {Ink: rgb(0xe2e5ee), Dim: rgb(0x9aa0b3), Faint: rgb(0x474c5e), Yours: rgb(0xe8a33d), Theirs: rgb(0xb48cf2),
		Base: rgb(0x9aa0b5), Joined: rgb(0x5fd0a0), Trouble: rgb(0xf06a66), Paper: rgb(0x11131a),
		OnYours:  rgb(0x3a2a12),
		OnTheirs: rgb(0x2c1d45), OnJoined: rgb(0x12302a), OnBase: rgb(0x1d202b)},
}

func fixedInt(n int) fixed.Int26_6 { return fixed.I(n) }

package draw

import (
	"bytes"
	"image"
	"image/color"
	_ "image/gif" // the forms of pictures that are known
	_ "image/jpeg"
	_ "image/png"
	"net/http"
	"strings"

	_ "golang.org/x/image/bmp"
	"golang.org/x/image/draw"
	_ "golang.org/x/image/tiff"
	_ "golang.org/x/image/webp"
)

// Photo is a picture that a project holds, to be shown in the cells of a terminal.
type Photo struct {
	Format        string // such as png
	Width, Height int    // in pixels
	img           image.Image
}

// mostPixels is how large a picture is drawn at most: a small file can claim to be a very large one.
const mostPixels = 16 << 20

// OpenPhoto reads a picture; ok is false where the data is none that is known. One that is too large, or broken
// after its head, has its size and is not drawn.
func OpenPhoto(data []byte) (p *Photo, ok bool) {
	head, format, err := image.DecodeConfig(bytes.NewReader(data))
	if err != nil || head.Width <= 0 || head.Height <= 0 {
		return nil, false
	}
	p = &Photo{Format: format, Width: head.Width, Height: head.Height}
	if int64(head.Width)*int64(head.Height) <= mostPixels {
		if img, _, err := image.Decode(bytes.NewReader(data)); err == nil {
			p.img = img
		}
	}
	return p, true
}

// Cell is two pixels, one over the other: as large as a character, nearly.
type Cell struct{ Upper, Lower color.RGBA }

// Cells scales the picture to so many cells at most, keeping its shape, over a ground. There are none where it
// cannot be drawn.
func (p *Photo) Cells(width, height int, ground color.Color) [][]Cell {
	if p.img == nil || width < 1 || height < 1 {
		return nil
	}
	w, h := width, 2*height
	if p.Width*h > p.Height*w {
		h = max(1, p.Height*w/p.Width)
	} else {
		w = max(1, p.Width*h/p.Height)
	}
	w, h = min(w, p.Width), min(h, p.Height)
	to := image.NewRGBA(image.Rect(0, 0, w, h+h%2))
	draw.Draw(to, to.Bounds(), image.NewUniform(ground), image.Point{}, draw.Src)
	draw.ApproxBiLinear.Scale(to, image.Rect(0, 0, w, h), p.img, p.img.Bounds(), draw.Over, nil)
	out := make([][]Cell, (h+1)/2)
	for y := range out {
		for x := range w {
			out[y] = append(out[y], Cell{to.RGBAAt(x, 2*y), to.RGBAAt(x, 2*y+1)})
		}
	}
	return out
}

// KindOf says what sort of thing a content is that is no text, as far as its beginning tells.
func KindOf(data []byte) string {
	kind, _, _ := strings.Cut(http.DetectContentType(data), ";")
	switch major, minor, _ := strings.Cut(kind, "/"); {
	case kind == "application/octet-stream", major == "text":
		return ""
	case major == "image", major == "audio", major == "video", major == "font":
		return strings.ToUpper(strings.TrimPrefix(minor, "x-")) + " " + major
	default:
		return strings.ToUpper(strings.TrimPrefix(minor, "x-"))
	}
}

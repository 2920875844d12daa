package draw

import (
	"bytes"
	"image"
	"image/color"
	_ "image/gif" // supported formats
	_ "image/jpeg"
	_ "image/png"

	_ "golang.org/x/image/bmp"
	"golang.org/x/image/draw"
	_ "golang.org/x/image/tiff"
	_ "golang.org/x/image/webp"
)

// Photo is an image of the project, shown in the cells of a terminal.
type Photo struct {
	Format        string // such as png
	Width, Height int    // in pixels
	img           image.Image
}

// mostPixels is the number of pixels above which an image is not drawn. A small file can claim to be a very large
// image.
const mostPixels = 16 << 20

// OpenPhoto reads an image. ok is false if the format is unknown. An image that is too large, or broken after its
// header, has a size but is not drawn.
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

// Cell is two pixels, one above the other, in a character cell.
type Cell struct{ Upper, Lower color.RGBA }

// Cells scales the image to at most width by height cells over a background, and keeps its shape. It returns nil if
// the image cannot be drawn.
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

// signatures lists the first bytes of file types as in the MIME Sniffing standard (https://mimesniff.spec.whatwg.org).
// A '?' matches any byte.
var signatures = []struct{ begins, kind string }{
	{"GIF87a", "GIF image"}, {"GIF89a", "GIF image"}, {"\x89PNG\r\n\x1a\n", "PNG image"},
	{"\xff\xd8\xff", "JPEG image"},
	{"RIFF????WEBPVP", "WEBP image"}, {"BM", "BMP image"}, {"\x00\x00\x01\x00", "ICO image"},
	{"%PDF-", "PDF"}, {"%!PS-Adobe-", "POSTSCRIPT"}, {"\x1f\x8b\x08", "GZIP"}, {"PK\x03\x04", "ZIP"},
	{"Rar!\x1a\x07\x00", "RAR"}, {"Rar!\x1a\x07\x01\x00", "RAR"}, {"\x00asm", "WASM"},
	{"FORM????AIFF", "AIFF audio"}, {"ID3", "MP3 audio"}, {"OggS\x00", "OGG"}, {"MThd\x00\x00\x00\x06", "MIDI audio"},
	{"RIFF????WAVE", "WAVE audio"}, {"RIFF????AVI ", "AVI video"}, {"????ftyp", "MP4 video"},
	{"\x1a\x45\xdf\xa3", "WEBM video"},
	{"\x00\x01\x00\x00", "TTF font"}, {"OTTO", "OTF font"}, {"wOFF", "WOFF font"}, {"wOF2", "WOFF2 font"},
}

// KindOf names the type of a binary content by its first bytes, or returns "".
func KindOf(data []byte) string {
	for _, s := range signatures {
		if len(data) >= len(s.begins) && begins(data, s.begins) {
			return s.kind
		}
	}
	return ""
}

func begins(data []byte, with string) bool {
	for i := range len(with) {
		if with[i] != '?' && with[i] != data[i] {
			return false
		}
	}
	return true
}

package draw

import (
	"bytes"
	"embed"
	"fmt"
	"strings"
	"sync"

	"codeberg.org/go-pdf/fpdf"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/font/sfnt"
)

//go:embed fonts/*.zst
var fontFiles embed.FS

// face is one of the faces that text is drawn in.
type face uint8

const (
	sans face = iota
	bold
	mono
	wide // for Chinese and Japanese
	hangul
	faces
)

// names are those by which a drawing calls its faces, the files they come from, and what CSS has for readers that do
// not use the faces in a picture.
var names = [faces]struct{ family, file, like string }{
	sans: {"Dorvik Sans", "DejaVuSans", `"DejaVu Sans",sans-serif`},
	bold: {"Dorvik Sans Bold", "DejaVuSans-Bold", `"DejaVu Sans",sans-serif;font-weight:bold`},
	mono: {"Dorvik Mono", "DejaVuSansMono", `"DejaVu Sans Mono",monospace`},
	wide: {"Dorvik Wide", "DroidSansFallbackFull", "sans-serif"},

	hangul: {"Dorvik Hangul", "NanumSquareR", "sans-serif"},
}

// loaded is a face that was read.
type loaded struct {
	data []byte
	font *opentype.Font
}

var fontOf = [faces]func() loaded{load(sans), load(bold), load(mono), load(wide), load(hangul)}

// load reads a face once, when it is first drawn with. The files are part of the program: one
// that cannot be read is a fault in it.
func load(f face) func() loaded {
	return sync.OnceValue(func() loaded {
		packed, err := fontFiles.ReadFile("fonts/" + names[f].file + ".ttf.zst")
		if err != nil {
			panic(err)
		}
		z, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1))
		if err != nil {
			panic(err)
		}
		defer z.Close()
		data, err := z.DecodeAll(packed, nil)
		if err != nil {
			panic(err)
		}
		parsed, err := opentype.Parse(data)
		if err != nil {
			panic(err)
		}
		return loaded{data, parsed}
	})
}

// copy returns the face's file. Cutting writes into what it cuts.
func (f face) copy() []byte { return bytes.Clone(fontOf[f]().data) }

// has reports whether a face has a shape for a character.
func (f face) has(r rune) bool {
	if r > 0xffff {
		return false // these cannot be written into a PDF
	}
	i, err := fontOf[f]().font.GlyphIndex(nil, r)
	return err == nil && i != 0
}

// missing stands for a character that no face has.
const missing = '□'

// run is a piece of text in one face.
type run struct {
	face face
	text string
}

// runs splits a text into pieces that one face has each.
func runs(f face, text string) (out []run) {
	for _, r := range text {
		use := f
		switch {
		case f.has(r):
		case sans.has(r):
			use = sans
		case wide.has(r):
			use = wide
		case hangul.has(r):
			use = hangul
		default:
			r = missing
		}
		if n := len(out); n > 0 && out[n-1].face == use {
			out[n-1].text += string(r)
			continue
		}
		out = append(out, run{use, string(r)})
	}
	return out
}

// advances remembers how wide characters are, in thousandths of the size.
var advances struct {
	sync.Mutex
	of [faces]map[rune]float64
}

// advance returns how wide a character is, as a part of the size.
func (f face) advance(r rune) float64 {
	advances.Lock()
	defer advances.Unlock()
	if advances.of[f] == nil {
		advances.of[f] = map[rune]float64{}
	}
	if a, ok := advances.of[f][r]; ok {
		return a
	}
	fnt := fontOf[f]().font
	var buf sfnt.Buffer
	i, err := fnt.GlyphIndex(&buf, r)
	if err != nil {
		return 0
	}
	em := fnt.UnitsPerEm()
	w, err := fnt.GlyphAdvance(&buf, i, fixedInt(int(em)), 0)
	if err != nil {
		return 0
	}
	a := float64(w) / 64 / float64(em)
	advances.of[f][r] = a
	return a
}

// width returns how wide a text is, in points.
func width(f face, size float64, text string) (w float64) {
	for _, r := range runs(f, text) {
		for _, c := range r.text {
			w += r.face.advance(c) * size
		}
	}
	return w
}

// subsets are the files of faces with only the characters of a drawing; nil for a face that it does not use.
type subsets [faces][]byte

// subset cuts the faces down to what is used of each.
func subset(used [faces]map[rune]bool) (out subsets, err error) {
	for f, chars := range used {
		if len(chars) == 0 {
			continue
		}
		var set strings.Builder
		for r := rune(0x20); r <= 0xffff; r++ { // in order, so that the same drawing is the same bytes
			if chars[r] {
				set.WriteRune(r)
			}
		}
		cut := fpdf.UTF8CutFont(face(f).copy(), set.String())
		if _, err := opentype.Parse(cut); err != nil {
			return out, fmt.Errorf("cutting %s: %w", names[f].file, err)
		}
		out[f] = cut
	}
	return out, nil
}

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

// face is a typeface.
type face uint8

const (
	sans face = iota
	bold
	mono
	wide // Chinese and Japanese
	hangul
	faces
)

// names has the name of each face in drawings, its file, and a CSS fallback for viewers that ignore embedded fonts.
var names = [faces]struct{ family, file, like string }{
	sans: {"Dorvik Sans", "DejaVuSans", `"DejaVu Sans",sans-serif`},
	bold: {"Dorvik Sans Bold", "DejaVuSans-Bold", `"DejaVu Sans",sans-serif;font-weight:bold`},
	mono: {"Dorvik Mono", "DejaVuSansMono", `"DejaVu Sans Mono",monospace`},
	wide: {"Dorvik Wide", "DroidSansFallbackFull", "sans-serif"},

	hangul: {"Dorvik Hangul", "NanumSquareR", "sans-serif"},
}

// loaded is a parsed face.
type loaded struct {
	data []byte
	font *opentype.Font
}

var fontOf = [faces]func() loaded{load(sans), load(bold), load(mono), load(wide), load(hangul)}

// load returns a function that parses a face at its first use. The files are part of the program, so an error is a
// defect.
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

// copy returns a copy of the face's file, because cutting overwrites its input.
func (f face) copy() []byte { return bytes.Clone(fontOf[f]().data) }

// has reports whether a face has a glyph for a character.
func (f face) has(r rune) bool {
	if r > 0xffff {
		return false // this format cannot be embedded in a PDF
	}
	i, err := fontOf[f]().font.GlyphIndex(nil, r)
	return err == nil && i != 0
}

// missing replaces characters that no face has.
const missing = '□'

// run is a piece of text in one face.
type run struct {
	face face
	text string
}

// runs splits a text into pieces of one face each.
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

// advances caches the widths of characters as parts of the size.
var advances struct {
	sync.Mutex
	of [faces]map[rune]float64
}

// advance returns the width of a character as a part of the size.
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

// width returns the width of a text in points.
func width(f face, size float64, text string) (w float64) {
	for _, r := range runs(f, text) {
		for _, c := range r.text {
			w += r.face.advance(c) * size
		}
	}
	return w
}

// subsets has the files of faces reduced to the characters of a drawing; unused faces are nil.
type subsets [faces][]byte

// subset reduces the faces to the used characters.
func subset(used [faces]map[rune]bool) (out subsets, err error) {
	for f, chars := range used {
		if len(chars) == 0 {
			continue
		}
		var set strings.Builder
		for r := rune(0x20); r <= 0xffff; r++ { // in order, so that equal drawings have equal bytes
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

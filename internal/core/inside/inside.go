// Package inside tells what a file that is no text holds, as far as its plain parts show it: the pages and title of a
// PDF (ISO 32000), the text of an office document (ECMA-376, ISO 26300), the list of an archive, the length of a sound,
// the name of a font. It reads at most a few megabytes of what is compressed, and never panics on a damaged file: then
// it knows less.
package inside

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/image/font/sfnt"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/rx"
)

// Contents is what is known of a file. The zero Contents is nothing.
type Contents struct {
	About string   // as a person says it, such as "a document of 340 words"; or empty
	Lines []string // what two versions can be compared by: words of a document, names in an archive, properties
}

// Changed returns what one version has that another lacks, and the reverse, each in the order in which it stands.
func Changed(from, to Contents) (added, gone []string) {
	for _, e := range diff.Myers(from.Lines, to.Lines) {
		added = append(added, to.Lines[e.B0:e.B1]...)
		gone = append(gone, from.Lines[e.A0:e.A1]...)
	}
	return added, gone
}

// Bounds of what is read.
const (
	mostPart    = 4 << 20  // bytes of one file in an archive
	mostAll     = 16 << 20 // bytes of all of them
	mostEntries = 10000
)

// Of reads a file's contents.
func Of(data []byte) Contents {
	for _, read := range []func([]byte) (Contents, bool){packed, archive, pdf, sound, font} {
		if c, ok := read(data); ok {
			return c
		}
	}
	return Contents{}
}

// packed reads a zip archive, or an office document, which is one.
func packed(data []byte) (c Contents, ok bool) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil || len(z.File) > mostEntries {
		return c, false
	}
	var names, text []string
	left := int64(mostAll)
	for _, f := range z.File {
		names = append(names, f.Name)
		if inDocument.MatchString(f.Name) && left > 0 {
			part := textOf(f, min(left, mostPart))
			left -= int64(f.UncompressedSize64)
			text = append(text, part...)
		}
	}
	if len(text) > 0 {
		return Contents{fmt.Sprintf("a document of %s", count(len(text), "word")), text}, true
	}
	slices.Sort(names)
	return Contents{"an archive of " + count(len(names), "file"), names}, true
}

// inDocument matches the parts of office documents that have their text.
var inDocument = rx.New(`^(word/document\.xml|xl/sharedStrings\.xml|ppt/slides/slide\d+\.xml|content\.xml)$`)

// textOf returns the words of the text in a part of a document.
func textOf(f *zip.File, most int64) (words []string) {
	r, err := f.Open()
	if err != nil {
		return nil
	}
	defer r.Close()
	d := xml.NewDecoder(io.LimitReader(r, most))
	for {
		t, err := d.Token()
		if err != nil {
			return words
		}
		if text, ok := t.(xml.CharData); ok {
			words = append(words, strings.Fields(string(text))...)
		}
	}
}

// archive reads a tar archive, perhaps a compressed one.
func archive(data []byte) (c Contents, ok bool) {
	var r io.Reader = bytes.NewReader(data)
	if z, err := gzip.NewReader(bytes.NewReader(data)); err == nil {
		r = io.LimitReader(z, mostAll)
	}
	t := tar.NewReader(r)
	for len(c.Lines) < mostEntries {
		h, err := t.Next()
		if err != nil {
			if !errors.Is(err, io.EOF) && len(c.Lines) == 0 {
				return c, false
			}
			break
		}
		c.Lines = append(c.Lines, h.Name)
	}
	slices.Sort(c.Lines)
	c.About = "an archive of " + count(len(c.Lines), "file")
	return c, len(c.Lines) > 0
}

var (
	page  = rx.New(`/Type\s*/Page[^s\w]`)
	title = rx.New(`/Title\s*\(((?:[^()\\]|\\.)*)\)`)
)

// pdf reads what stands in a PDF without compression.
func pdf(data []byte) (c Contents, ok bool) {
	if !bytes.HasPrefix(data, []byte("%PDF-")) {
		return c, false
	}
	text := string(data[:min(len(data), mostAll)])
	c.About = "a PDF"
	if n := len(page.FindAllStringIndex(text, -1)); n > 0 {
		c.About += " of " + count(n, "page")
		c.Lines = append(c.Lines, count(n, "page"))
	}
	if m := title.FindStringSubmatch(text); m != nil && utf8.ValidString(m[1]) && strings.TrimSpace(m[1]) != "" {
		c.About += ", “" + m[1] + "”"
		c.Lines = append(c.Lines, "title "+m[1])
	}
	return c, true
}

// sound reads the length of a WAVE file.
func sound(data []byte) (c Contents, ok bool) {
	if len(data) < 44 || string(data[:4]) != "RIFF" || string(data[8:12]) != "WAVE" {
		return c, false
	}
	rate := uint32(0) // bytes per second
	for at := 12; at+8 <= len(data); {
		name, size := string(data[at:at+4]), binary.LittleEndian.Uint32(data[at+4:])
		switch {
		case name == "fmt " && at+20 <= len(data):
			rate = binary.LittleEndian.Uint32(data[at+16:])
		case name == "data" && rate > 0:
			length := time.Duration(float64(size) / float64(rate) * float64(time.Second)).Round(100 * time.Millisecond)
			return Contents{"a sound of " + length.String(), []string{"length " + length.String()}}, true
		}
		next := at + 8 + int(size) + int(size&1)
		if next <= at {
			break
		}
		at = next
	}
	return Contents{About: "a sound"}, true
}

// font reads the name and size of a TrueType or OpenType font.
func font(data []byte) (c Contents, ok bool) {
	f, err := sfnt.Parse(data)
	if err != nil {
		return c, false
	}
	name, err := f.Name(nil, sfnt.NameIDFull)
	if err != nil {
		name = "without a name"
	}
	glyphs := count(f.NumGlyphs(), "glyph")
	return Contents{"a font, " + name + ", of " + glyphs, []string{name, glyphs}}, true
}

func count(n int, of string) string {
	if n == 1 {
		return "1 " + of
	}
	return fmt.Sprintf("%d %ss", n, of)
}

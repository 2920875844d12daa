// Package visible makes text from outside safe to show: control characters, characters that change the direction of
// text, and invalid encoding become visible marks.
package visible

import (
	"bytes"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// tabWidth is the number of columns between tab stops.
const tabWidth = 4

// Line returns a line of text in a form that is safe to show. Tabs become blanks up to the next stop. A final line
// feed is removed; others become marks.
func Line(s string) string {
	s = strings.TrimSuffix(s, "\n")
	if plain(s) {
		return s
	}
	var b strings.Builder
	col := 0
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		mark := string(r)
		switch {
		case r == utf8.RuneError && n <= 1:
			mark = fmt.Sprintf("‹%02x›", s[i])
		case r == '\t':
			mark = strings.Repeat(" ", tabWidth-col%tabWidth)
		case r == '\r' && i+1 == len(s):
			mark = "␍"
		case r < 0x20:
			mark = string(rune(0x2400) + r)
		case r == 0x7f:
			mark = "␡"
		case hidden(r):
			mark = fmt.Sprintf("‹%04x›", r)
		}
		b.WriteString(mark)
		col += utf8.RuneCountInString(mark)
		i += n
	}
	return b.String()
}

func plain(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] < 0x20 || s[i] >= 0x7f {
			return false
		}
	}
	return true
}

// hidden reports whether a character is invisible or changes how others are shown.
func hidden(r rune) bool {
	switch {
	case r == 0x200d: // joins emoji characters
		return false
	case r >= 0x80 && r < 0xa0, r == 0x2028, r == 0x2029:
		return true
	}
	return unicode.In(r, unicode.Cf, unicode.Co, unicode.Cs)
}

// JSON escapes, in encoded JSON, the characters that Line replaces and JSON allows. The values stay the same.
func JSON(data []byte) []byte {
	if !bytes.ContainsFunc(data, marked) {
		return data
	}
	out := make([]byte, 0, len(data)+64)
	for _, r := range string(data) {
		if !marked(r) {
			out = utf8.AppendRune(out, r)
			continue
		}
		for _, unit := range utf16.AppendRune(nil, r) {
			out = fmt.Appendf(out, `\u%04x`, unit)
		}
	}
	return out
}

func marked(r rune) bool { return r == 0x7f || hidden(r) }

// Lines applies Line to each line of a text.
func Lines(s string) string {
	parts := strings.Split(s, "\n")
	for i, p := range parts {
		parts[i] = Line(p)
	}
	return strings.Join(parts, "\n")
}

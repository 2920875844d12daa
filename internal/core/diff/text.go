package diff

import (
	"iter"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Lines splits a text into lines, each with its line feed; the last may lack one. Joined they are the text.
func Lines(s string) []string {
	if s == "" {
		return nil
	}
	lines := make([]string, 0, strings.Count(s, "\n")+1)
	for s != "" {
		i := strings.IndexByte(s, '\n') + 1
		if i == 0 {
			i = len(s)
		}
		lines = append(lines, s[:i])
		s = s[i:]
	}
	return lines
}

// Words splits a text into runs of letters, digits and underscores, runs of blanks, line ends, and single other
// characters. Joined they are the text, in any encoding.
func Words(s string) []string {
	var words []string
	for s != "" {
		class, n := classify(s)
		for class != single && n < len(s) {
			c, size := classify(s[n:])
			if c != class {
				break
			}
			n += size
		}
		words = append(words, s[:n])
		s = s[n:]
	}
	return words
}

const (
	single = iota
	letters
	blanks
)

func classify(s string) (class, size int) {
	r, n := utf8.DecodeRuneInString(s)
	switch {
	case r == '\r' && len(s) > 1 && s[1] == '\n':
		return single, 2
	case r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r):
		return letters, n
	case r == ' ' || r == '\t':
		return blanks, n
	}
	return single, n
}

// IsWord reports whether a token of Words contains letters or digits.
func IsWord(token string) bool {
	class, _ := classify(token)
	return class == letters
}

// HasWord reports whether a text contains a word. Then an equal text elsewhere is probably the same. It costs as much
// as Words.
func HasWord(text string) bool { return slices.ContainsFunc(Words(text), IsWord) }

// NameWords returns the words of the names in a text, in lower case: runs of ASCII letters and digits, divided where a
// capital follows a small letter or a digit.
func NameWords(text string) iter.Seq[string] {
	class := func(c byte) int {
		switch {
		case 'a' <= c && c <= 'z', '0' <= c && c <= '9':
			return 1
		case 'A' <= c && c <= 'Z':
			return 2
		}
		return 0
	}
	return func(yield func(string) bool) {
		for from := 0; from < len(text); {
			to, last := from, class(text[from])
			for to < len(text) {
				now := class(text[to])
				if now == 0 || last == 1 && now == 2 {
					break
				}
				to, last = to+1, now
			}
			if to > from && !yield(strings.ToLower(text[from:to])) {
				return
			}
			if from = to; to < len(text) && class(text[to]) == 0 {
				from++
			}
		}
	}
}

// WordEdits compares two token lists of Words. It merges edits that only a few blanks or signs separate, because such
// alignments are accidental.
func WordEdits(a, b []string) []Edit {
	edits := Myers(a, b)
	out := edits[:0]
	for _, e := range edits {
		if n := len(out); n > 0 && weak(a[out[n-1].A1:e.A0]) && heavy(out[n-1], a, b) && heavy(e, a, b) {
			out[n-1].A1, out[n-1].B1 = e.A1, e.B1
			continue
		}
		out = append(out, e)
	}
	return out
}

// AtLines begins edits that only add or remove lines at a line's start where it can, as a person reads them.
func AtLines(edits []Edit, a, b []string) []Edit {
	out, before := make([]Edit, len(edits)), Edit{}
	for i, e := range edits {
		before = e.toLine(before, a, b)
		out[i] = before
	}
	return out
}

// toLine moves an edit that only adds or removes, with a line end among it, back to the start of a line. It stays
// behind the edit before.
func (e Edit) toLine(before Edit, a, b []string) Edit {
	tokens, lo, hi, least := a, e.A0, e.A1, before.A1
	if e.A0 == e.A1 {
		tokens, lo, hi, least = b, e.B0, e.B1, before.B1
	} else if e.B0 < e.B1 {
		return e
	}
	lineEnd := func(t string) bool { return strings.HasSuffix(t, "\n") }
	if !slices.ContainsFunc(tokens[lo:hi], lineEnd) {
		return e
	}
	for by := 0; lo-by >= least; by++ {
		if lo == by || lineEnd(tokens[lo-by-1]) {
			return Edit{e.A0 - by, e.A1 - by, e.B0 - by, e.B1 - by}
		}
		if lo-by == least || tokens[lo-by-1] != tokens[hi-by-1] {
			break
		}
	}
	return e
}

func weak(between []string) bool {
	if len(between) > 3 {
		return false
	}
	for _, t := range between {
		if IsWord(t) || strings.HasSuffix(t, "\n") {
			return false
		}
	}
	return true
}

// heavy reports whether an edit replaces words instead of only adding or removing them.
func heavy(e Edit, a, b []string) bool {
	return anyWord(a[e.A0:e.A1]) && anyWord(b[e.B0:e.B1])
}

func anyWord(tokens []string) bool {
	for _, t := range tokens {
		if IsWord(t) {
			return true
		}
	}
	return false
}

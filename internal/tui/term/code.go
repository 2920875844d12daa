package term

import (
	"strings"
	"sync"

	"github.com/alecthomas/chroma/v2"

	"dorvik.dev/dorvik/internal/core/lexing"
)

// maxCode is the size in bytes above which code is not coloured, because that would take too long.
const maxCode = 1 << 20

// Tinted is a run of characters of a line of code with its colour.
type Tinted struct {
	text string
	hue  Hue
}

// Coder colours code by the language that the file's name implies. It caches results and is safe for concurrent use.
type Coder struct {
	mu    sync.Mutex
	known map[[2]string][][]Tinted
}

// NewCoder returns a Coder with an empty cache.
func NewCoder() *Coder { return &Coder{known: map[[2]string][][]Tinted{}} }

// Lines returns the coloured words of each line of text. It returns nil if the language is unknown or the text is
// larger than 1 MiB.
func (c *Coder) Lines(path, text string) [][]Tinted {
	if len(text) > maxCode {
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	key := [2]string{path, text}
	if out, ok := c.known[key]; ok {
		return out
	}
	if len(c.known) > 64 {
		clear(c.known)
	}
	out := lexed(path, text)
	c.known[key] = out
	return out
}

// lexed splits text into coloured words, line by line.
func lexed(path, text string) [][]Tinted {
	tokens, ok := lexing.Tokens(path, text)
	if !ok {
		return nil
	}
	out := [][]Tinted{nil}
	for _, t := range tokens {
		h := hueOf(t.Type)
		for i, part := range strings.SplitAfter(t.Value, "\n") {
			if i > 0 {
				out = append(out, nil)
			}
			if part != "" {
				last := len(out) - 1
				out[last] = append(out[last], Tinted{part, h})
			}
		}
	}
	return out
}

// hueOf returns the colour of a kind of token.
func hueOf(t chroma.TokenType) Hue {
	switch {
	case t.InCategory(chroma.Comment):
		return codeComment
	case t.InSubCategory(chroma.LiteralString):
		return codeString
	case t.InSubCategory(chroma.LiteralNumber), t == chroma.KeywordConstant:
		return codeNumber
	case t.InCategory(chroma.Keyword):
		return codeWord
	case t == chroma.NameFunction, t == chroma.NameClass, t == chroma.NameTag:
		return codeName
	}
	return Plain
}

// Code appends a line of code to l in the colours of its words; words may be nil. marks are byte ranges of text to
// underline.
func Code(l Line, text string, words []Tinted, marks [][2]int, k Ink) Line {
	text = strings.TrimRight(text, "\n")
	if words == nil {
		words = []Tinted{{text, k.Hue}}
	}
	at := 0
	for _, w := range words {
		piece := strings.TrimRight(w.text, "\n")
		ik := k
		if k.Hue == Plain {
			ik.Hue = w.hue
		}
		l = Marked(l, piece, at, marks, ik)
		at += len(w.text)
	}
	return l
}

// Tint appends a piece of a line of code that starts at byte at of the line. It uses the colours of the words unless
// the ink has a hue of its own.
func Tint(l Line, piece string, at int, words []Tinted, k Ink) Line {
	if k.Hue != Plain || words == nil {
		return l.Put(k, piece)
	}
	from := 0 // offset of the word
	for _, w := range words {
		to := from + len(w.text)
		if lo, hi := max(from, at), min(to, at+len(piece)); lo < hi {
			ik := k
			ik.Hue = w.hue
			l = l.Put(ik, piece[lo-at:hi-at])
		}
		from = to
	}
	if from < at+len(piece) { // beyond the known tokens
		l = l.Put(k, piece[max(0, from-at):])
	}
	return l
}

// Window returns the coloured words of the lines from index from on. It reads only 60 lines above them for context, so
// its cost does not grow with from.
func (c *Coder) Window(path string, lines []string, from int) [][]Tinted {
	const above = 60
	lead := max(0, from-above)
	all := c.Lines(path, strings.Join(lines[lead:], ""))
	if all == nil {
		return nil
	}
	return all[min(len(all), from-lead):]
}

// Marked appends a piece of a line that starts at byte at of the line and underlines the marks in it.
func Marked(l Line, piece string, at int, marks [][2]int, k Ink) Line {
	end := at + len(piece)
	for _, m := range marks {
		from, to := max(m[0], at), min(m[1], end)
		if from >= to {
			continue
		}
		l = l.Put(k, piece[:len(piece)-(end-from)])
		hot := k
		hot.Bold, hot.Under = true, true
		l = l.Put(hot, piece[len(piece)-(end-from):len(piece)-(end-to)])
		piece, at = piece[len(piece)-(end-to):], to
	}
	return l.Put(k, piece)
}

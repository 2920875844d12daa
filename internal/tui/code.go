package tui

import (
	"strings"
	"sync"

	"github.com/alecthomas/chroma/v2"

	"dorvik.dev/dorvik/internal/core/lexing"
)

// maxCode is the size in bytes above which code is not coloured: it would take too long.
const maxCode = 1 << 20

// tinted is a run of characters of one kind of word, in a line of code.
type tinted struct {
	text string
	hue  hue
}

// coder colours code by the language that a file's name tells. It is safe for several
// goroutines.
type coder struct {
	mu    sync.Mutex
	known map[[2]string][][]tinted
}

func newCoder() *coder { return &coder{known: map[[2]string][][]tinted{}} }

// lines gives a text line by line; nil where its language is not known.
func (c *coder) lines(path, text string) [][]tinted {
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

func lexed(path, text string) [][]tinted {
	tokens, ok := lexing.Tokens(path, text)
	if !ok {
		return nil
	}
	out := [][]tinted{nil}
	for _, t := range tokens {
		h := hueOf(t.Type)
		for i, part := range strings.SplitAfter(t.Value, "\n") {
			if i > 0 {
				out = append(out, nil)
			}
			if part != "" {
				last := len(out) - 1
				out[last] = append(out[last], tinted{part, h})
			}
		}
	}
	return out
}

// hueOf is the colour of a kind of word.
func hueOf(t chroma.TokenType) hue {
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
	return plain
}

// code writes a line of a coloured text, i from 0, with the hues of its words; without them as
// it is. marks are bytes that are to stand out.
func code(l line, text string, words []tinted, marks [][2]int, k ink) line {
	text = strings.TrimRight(text, "\n")
	if words == nil {
		words = []tinted{{text, k.hue}}
	}
	at := 0
	for _, w := range words {
		piece := strings.TrimRight(w.text, "\n")
		ik := k
		if k.hue == plain {
			ik.hue = w.hue
		}
		l = marked(l, piece, at, marks, ik)
		at += len(w.text)
	}
	return l
}

// tint writes a piece of a line of code that begins at a byte of it, with the hues of its words where the ink has
// none of its own.
func tint(l line, piece string, at int, words []tinted, k ink) line {
	if k.hue != plain || words == nil {
		return l.put(k, piece)
	}
	from := 0 // where the word begins
	for _, w := range words {
		to := from + len(w.text)
		if lo, hi := max(from, at), min(to, at+len(piece)); lo < hi {
			ik := k
			ik.hue = w.hue
			l = l.put(ik, piece[lo-at:hi-at])
		}
		from = to
	}
	if from < at+len(piece) { // beyond what is known
		l = l.put(k, piece[max(0, from-at):])
	}
	return l
}

// window gives some lines of a text that is long, the first of which is from, by what stands a little above them:
// all of it would take too long, at every key.
func (c *coder) window(path string, lines []string, from int) [][]tinted {
	const above = 60
	lead := max(0, from-above)
	all := c.lines(path, strings.Join(lines[lead:], ""))
	if all == nil {
		return nil
	}
	return all[min(len(all), from-lead):]
}

// marked writes a piece of a line that begins at a byte of it.
func marked(l line, piece string, at int, marks [][2]int, k ink) line {
	end := at + len(piece)
	for _, m := range marks {
		from, to := max(m[0], at), min(m[1], end)
		if from >= to {
			continue
		}
		l = l.put(k, piece[:len(piece)-(end-from)])
		hot := k
		hot.bold, hot.under = true, true
		l = l.put(hot, piece[len(piece)-(end-from):len(piece)-(end-to)])
		piece, at = piece[len(piece)-(end-to):], to
	}
	return l.put(k, piece)
}

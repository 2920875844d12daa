package tui

import (
	"bytes"
	"os"
	"time"

	"github.com/charmbracelet/x/term"
)

// keyboard is the terminal's input. It ends a paste that does not end by itself, because everything after it would
// count as text.
type keyboard struct {
	*os.File
	now    func() time.Time
	paste  bool      // a paste has begun
	pasted int       // bytes of the paste so far
	last   time.Time // time of the last input
	tail   []byte    // end of the input, which may begin a mark
}

// pasteBegins and the others are the marks around a paste (XTerm Control Sequences), and the longest pause and length
// of one.
var pasteBegins, pasteEnds = []byte("\x1b[200~"), []byte("\x1b[201~")

const (
	pastePause   = time.Second
	longestPaste = 16 << 20 // bytes
)

// newKeyboard reads standard input. It returns nil if that is no terminal.
func newKeyboard() *keyboard {
	if !term.IsTerminal(os.Stdin.Fd()) {
		return nil
	}
	return &keyboard{File: os.Stdin, now: time.Now}
}

// Read implements io.Reader. Input after a pause in a paste is not part of it.
func (k *keyboard) Read(b []byte) (n int, err error) {
	room := len(b) - len(pasteEnds)
	if !k.paste || room <= 0 {
		n, err = k.File.Read(b)
		k.follow(b[:n])
		return n, err
	}
	n, err = k.File.Read(b[:room])
	late := k.now().Sub(k.last) > pastePause || k.pasted > longestPaste
	if n > 0 && late && !bytes.HasPrefix(b[:n], pasteEnds) && len(k.tail) == 0 {
		copy(b[len(pasteEnds):], b[:n])
		n += copy(b, pasteEnds)
	}
	k.follow(b[:n])
	return n, err
}

// follow records whether the input so far ends in a paste.
func (k *keyboard) follow(came []byte) {
	if len(came) == 0 {
		return
	}
	k.last = k.now()
	text := append(k.tail, came...)
	for {
		mark := pasteBegins
		if k.paste {
			mark = pasteEnds
		}
		at := bytes.Index(text, mark)
		if at < 0 {
			break
		}
		k.paste, k.pasted, text = !k.paste, 0, text[at+len(mark):]
	}
	if k.paste {
		k.pasted += len(came)
	}
	k.tail = append(k.tail[:0:0], beginning(text)...)
}

// beginning returns the suffix of a text that can be the beginning of a mark. Both marks begin alike.
func beginning(text []byte) []byte {
	from := text[max(0, len(text)-len(pasteEnds)+1):]
	for i := range from {
		if bytes.HasPrefix(pasteBegins, from[i:]) || bytes.HasPrefix(pasteEnds, from[i:]) {
			return from[i:]
		}
	}
	return nil
}

// Package outline reads Go source by its layout, without parsing it. It relies on gofmt: a top-level declaration
// begins at the left margin, and inside it only the closing bracket does. Other source, or a raw string with such a
// line, is cut in the wrong places, so callers must expect cuts that do not parse.
package outline

import (
	"strings"
)

// Decl is a top-level declaration or a parenthesised group of them.
type Decl struct {
	Line   int      // first line, from 0
	Lines  int      // number of lines
	Text   string   // text of these lines, without comments and blank lines after the declaration
	Token  string   // const, func, import, type or var
	Names  []string // declared names; for a method, its receiver's type
	Method string   // the name of a method
}

// Cut lists the declarations of a text in order and returns the text before the first one: the package clause with its
// comments. It takes linear time.
func Cut(text string) (head string, decls []Decl) {
	open, from := -1, 0 // index of the current declaration, and the offset at which it begins
	end, lines := 0, 0  // offset and line after its last line of code
	shut := func() {
		if open >= 0 {
			d := &decls[open]
			d.Text, d.Lines = text[from:end], lines-d.Line
			d.name()
		}
	}
	for at, n := 0, 0; at < len(text); n++ {
		next := len(text)
		if i := strings.IndexByte(text[at:], '\n'); i >= 0 {
			next = at + i + 1
		}
		line := text[at:next]
		if word := keyword(line); word != "" {
			if shut(); open < 0 {
				head = text[:at]
			}
			open, from = len(decls), at
			decls = append(decls, Decl{Line: n, Token: word})
		}
		if isCode(line) {
			end, lines = next, n+1
		}
		at = next
	}
	if shut(); open < 0 {
		head = text
	}
	return head, decls
}

// keyword returns the keyword with which a line begins a declaration, or "".
func keyword(line string) string {
	word := ""
	switch line[0] {
	case 'f':
		word = "func"
	case 't':
		word = "type"
	case 'v':
		word = "var"
	case 'c':
		word = "const"
	case 'i':
		word = "import"
	default:
		return ""
	}
	if rest, ok := strings.CutPrefix(line, word); ok && rest != "" && strings.IndexByte(" (\t\"", rest[0]) >= 0 {
		return word
	}
	return ""
}

// isCode reports whether a line contains more than blanks and a comment at the left margin.
func isCode(line string) bool {
	return line[0] > ' ' && line[0] != '/' || !strings.HasPrefix(line, "//") && strings.TrimSpace(line) != ""
}

// name finds the names that the declaration declares.
func (d *Decl) name() {
	rest := strings.TrimLeft(d.Text[len(d.Token):], " \t")
	switch {
	case d.Token == "import":
	case d.Token == "func":
		if receiver, method, ok := strings.Cut(rest, ")"); ok && strings.HasPrefix(rest, "(") {
			rest, _, _ = strings.Cut(receiver, "[")
			rest = rest[strings.LastIndexAny(rest, " *(")+1:]
			d.Method = strings.Join(names(strings.TrimLeft(method, " ")), "")
		}
		d.Names = names(rest)
	case !strings.HasPrefix(rest, "("):
		d.Names = names(rest)
	default:
		for line := range strings.Lines(rest) {
			if inner, ok := strings.CutPrefix(line, "\t"); ok {
				d.Names = append(d.Names, names(inner)...)
			}
		}
	}
}

// names parses the list of identifiers at the beginning of a text.
func names(text string) (out []string) {
	for {
		n := 0
		for n < len(text) && (text[n] == '_' || text[n] >= 0x80 || '0' <= text[n] && text[n] <= '9' ||
			'a' <= text[n]|0x20 && text[n]|0x20 <= 'z') {
			n++
		}
		if n == 0 {
			return out
		}
		out = append(out, text[:n])
		rest, more := strings.CutPrefix(text[n:], ", ")
		if !more {
			return out
		}
		text = rest
	}
}

package format

import (
	"fmt"
	"strings"
)

// marks are what a scanner has to know of a language to find its brackets.
type marks struct {
	line       []string  // what begins a comment up to the end of the line
	block      [2]string // what begins and ends a comment; empty if there is none
	quotes     string    // quotes of texts that end with their line
	long       []string  // quotes of texts over several lines, the longer ones first
	apostrophe bool      // a single quote is one only around a character, as in 'a' and '\n'
	indent     bool      // what ends with a colon goes on in deeper lines
}

var (
	cLike  = marks{line: []string{"//"}, block: [2]string{"/*", "*/"}, quotes: `"'`}
	script = marks{line: []string{"//"}, block: [2]string{"/*", "*/"}, quotes: `"'`, long: []string{"`"}}
	triple = marks{line: []string{"//"}, block: [2]string{"/*", "*/"}, quotes: `"'`, long: []string{`"""`}}
	rust   = marks{line: []string{"//"}, block: [2]string{"/*", "*/"}, quotes: `"`, apostrophe: true}
	php    = marks{line: []string{"//", "#"}, block: [2]string{"/*", "*/"}, long: []string{`"`, "'"}}
	python = marks{line: []string{"#"}, quotes: `"'`, long: []string{`"""`, "'''"}, indent: true}
	sql    = marks{line: []string{"--"}, block: [2]string{"/*", "*/"}, long: []string{"'", `"`}}
	sheet  = marks{block: [2]string{"/*", "*/"}, quotes: `"'`}
	hash   = marks{line: []string{"#", "//"}, block: [2]string{"/*", "*/"}, quotes: `"`}
)

// opened is a bracket that is open, and its line.
type opened struct {
	bracket byte
	line    int
}

// bracketScanner finds the brackets of a text that do not match.
type bracketScanner struct {
	marks
	text string
	at   int
	line int // from 1
	open []opened
}

// brackets returns the first bracket of a text that does not match, or a block without lines. It takes linear time.
func (m marks) brackets(text string) string {
	s := bracketScanner{marks: m, text: text, line: 1}
	for s.at < len(text) {
		if problem := s.step(); problem != "" {
			return problem
		}
	}
	if n := len(s.open); n > 0 {
		return fmt.Sprintf("line %d: %c is not closed", s.open[n-1].line, s.open[n-1].bracket)
	}
	if m.indent {
		return blocks(text)
	}
	return ""
}

// step reads the next thing.
func (s *bracketScanner) step() string {
	rest := s.text[s.at:]
	for _, begin := range s.marks.line {
		if strings.HasPrefix(rest, begin) {
			s.skip(upTo(rest, "\n"))
			return ""
		}
	}
	if s.block[0] != "" && strings.HasPrefix(rest, s.block[0]) {
		s.skip(past(rest, len(s.block[0]), s.block[1]))
		return ""
	}
	for _, quote := range s.long {
		if strings.HasPrefix(rest, quote) {
			s.skip(past(rest, len(quote), quote))
			return ""
		}
	}
	switch c := rest[0]; {
	case strings.IndexByte(s.quotes, c) >= 0:
		s.skip(quoted(rest))
	case c == '\'' && s.apostrophe:
		s.skip(character(rest))
	case strings.IndexByte("([{", c) >= 0:
		s.open = append(s.open, opened{c, s.line})
		s.skip(1)
	case strings.IndexByte(")]}", c) >= 0:
		s.skip(1)
		return s.closed(c)
	default:
		s.skip(1)
	}
	return ""
}

// skip goes on by some bytes.
func (s *bracketScanner) skip(n int) {
	s.line += strings.Count(s.text[s.at:s.at+n], "\n")
	s.at += n
}

// closed takes a closing bracket.
func (s *bracketScanner) closed(c byte) string {
	n := len(s.open)
	if n == 0 {
		return fmt.Sprintf("line %d: %c closes nothing", s.line, c)
	}
	last := s.open[n-1]
	if strings.IndexByte("([{", last.bracket) != strings.IndexByte(")]}", c) {
		return fmt.Sprintf("line %d: %c is closed by %c", last.line, last.bracket, c)
	}
	s.open = s.open[:n-1]
	return ""
}

// upTo returns the bytes before a sign, or all.
func upTo(text, sign string) int {
	if i := strings.Index(text, sign); i >= 0 {
		return i
	}
	return len(text)
}

// past returns the bytes up to the end of what ends with a sign that no backslash stands before.
func past(text string, from int, sign string) int {
	for i := from; i < len(text); i++ {
		switch {
		case text[i] == '\\' && sign != "*/":
			i++
		case strings.HasPrefix(text[i:], sign):
			return i + len(sign)
		}
	}
	return len(text)
}

// quoted returns the bytes of a text in quotes, which ends with its line at the latest.
func quoted(text string) int {
	for i := 1; i < len(text); i++ {
		switch text[i] {
		case '\\':
			i++
		case text[0]:
			return i + 1
		case '\n':
			return i
		}
	}
	return len(text)
}

// character returns the bytes of a character in quotes, or one byte if the quote is another sign.
func character(text string) int {
	const most = 12 // bytes, such as '\u{10ffff}'
	n := quoted(text)
	if n > 2 && n <= most && text[n-1] == '\'' && (text[1] == '\\' || !strings.Contains(text[1:n-1], " ")) {
		return n
	}
	return 1
}

// blocks returns the first line that ends with a colon and has no deeper line below it.
func blocks(text string) string {
	depth, at := -1, 0
	n := 0
	for line := range strings.Lines(text) {
		n++
		body := strings.TrimSpace(line)
		if body == "" || strings.HasPrefix(body, "#") {
			continue
		}
		in := len(line) - len(strings.TrimLeft(line, " \t"))
		if depth >= 0 && in <= depth {
			return fmt.Sprintf("line %d: nothing is in this block", at)
		}
		if depth = -1; strings.HasSuffix(body, ":") && !strings.ContainsAny(body, `#"'`) {
			depth, at = in, n
		}
	}
	if depth >= 0 {
		return fmt.Sprintf("line %d: nothing is in this block", at)
	}
	return ""
}

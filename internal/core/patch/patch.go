// Package patch reads patches, and the mails they come in: the unified format of POSIX diff with the
// headers that git adds to it (renames, copies, modes, binary files), and messages as RFC 5322 and
// RFC 2045 to 2047 have them. It tells which version of a file a patch was made from, as far as the patch
// knows it, so that it can be joined like any other change.
package patch

import (
	"fmt"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/object"
)

// File is what a patch does to one file.
type File struct {
	Old, New         string      // paths; Old is empty where the file is made, New where it is deleted
	OldMode, NewMode object.Mode // 0 where the patch does not say
	OldID, NewID     string      // of the contents, maybe shortened; empty where the patch does not say
	Copied           bool        // from Old, which stays
	Hunks            []Hunk
	Binary           *Binary // of a binary file
}

// Hunk is a stretch of lines, as they were and as they are to be, with what is around the change.
type Hunk struct {
	At            int // the first line, from 1, where it was when the patch was made
	Before, After []string
	Trail         int // lines after the change that stay
}

// Error says what about a patch cannot be read.
type Error struct {
	Line int // from 1
	Why  string
}

func (e *Error) Error() string { return fmt.Sprintf("line %d of the patch %s", e.Line, e.Why) }

// Parse reads all that a patch does. What stands before the first file, between files, and after the last
// is passed over. strip is how many folders are taken off the front of each path, 1 as a rule.
func Parse(text string, strip int) ([]File, error) {
	p := &parser{lines: diff.Lines(text), strip: strip}
	var out []File
	for p.at < len(p.lines) {
		switch {
		case p.starts("diff --git "):
			f, err := p.file()
			if err != nil {
				return nil, err
			}
			out = append(out, f)
		case p.starts("--- ") && p.at+2 < len(p.lines) && strings.HasPrefix(p.lines[p.at+1], "+++ ") &&
			strings.HasPrefix(p.lines[p.at+2], "@@ "):
			f := File{}
			if err := p.text(&f); err != nil {
				return nil, err
			}
			out = append(out, f)
		default:
			p.at++
		}
	}
	return out, nil
}

type parser struct {
	lines []string
	at    int
	strip int
}

func (p *parser) starts(prefix string) bool {
	return p.at < len(p.lines) && strings.HasPrefix(p.lines[p.at], prefix)
}

func (p *parser) fail(why string, args ...any) error {
	return &Error{p.at + 1, fmt.Sprintf(why, args...)}
}

// line is the line at hand without its end.
func (p *parser) line() string { return strings.TrimRight(p.lines[p.at], "\r\n") }

// file reads what begins with git's own header.
func (p *parser) file() (f File, err error) {
	name, named := p.common(strings.TrimPrefix(p.line(), "diff --git "))
	f.Old, f.New = name, name
	for p.at++; p.at < len(p.lines); p.at++ {
		line := p.line()
		word, rest := line, ""
		for _, w := range []string{"old mode ", "new mode ", "deleted file mode ", "new file mode ", "copy from ",
			"copy to ", "rename from ", "rename to ", "similarity index ", "dissimilarity index ", "index "} {
			if r, ok := strings.CutPrefix(line, w); ok {
				word, rest = strings.TrimSpace(w), r
			}
		}
		switch word {
		case "old mode":
			f.OldMode, err = p.mode(rest)
		case "new mode":
			f.NewMode, err = p.mode(rest)
		case "deleted file mode":
			f.New = ""
			f.OldMode, err = p.mode(rest)
		case "new file mode":
			f.Old = ""
			f.NewMode, err = p.mode(rest)
		case "copy from", "rename from":
			named = true
			f.Copied = word == "copy from"
			f.Old, err = p.whole(rest)
		case "copy to", "rename to":
			f.New, err = p.whole(rest)
		case "similarity index", "dissimilarity index":
		case "index":
			ids, mode, hasMode := strings.Cut(rest, " ")
			f.OldID, f.NewID, _ = strings.Cut(ids, "..")
			if hasMode {
				f.OldMode, err = p.mode(mode)
				f.NewMode = f.OldMode
			}
		default:
			return f, p.content(&f, named)
		}
		if err != nil {
			return f, err
		}
	}
	return f, p.content(&f, named)
}

// content reads what follows git's header, which may be nothing.
func (p *parser) content(f *File, named bool) error {
	switch {
	case p.starts("GIT binary patch"):
		p.at++
		var err error
		if f.Binary, err = p.binary(); err != nil {
			return err
		}
	case p.starts("Binary files "):
		return p.fail("names a binary file without its content")
	case p.starts("--- "):
		return p.text(f)
	}
	if !named {
		return p.fail("does not tell which file is meant")
	}
	return nil
}

// text reads the two names of a file, and its hunks.
func (p *parser) text(f *File) error {
	var names [2]string
	for i, sign := range []string{"--- ", "+++ "} {
		if !p.starts(sign) {
			return p.fail("has no line that begins with %q", sign)
		}
		name, _, _ := strings.Cut(p.line()[len(sign):], "\t")
		if name != "/dev/null" {
			var err error
			if names[i], err = p.path(name); err != nil {
				return err
			}
		}
		p.at++
	}
	if f.Old == "" && f.New == "" || !f.Copied && f.Old == f.New {
		f.Old, f.New = names[0], names[1]
		if f.Old != "" && f.New != "" { // made by hand: one of them may be of a copy beside it
			f.Old = f.New
		}
	}
	for p.starts("@@ ") {
		h, err := p.hunk()
		if err != nil {
			return err
		}
		f.Hunks = append(f.Hunks, h)
	}
	return nil
}

// hunk reads one hunk.
func (p *parser) hunk() (h Hunk, err error) {
	w := strings.Fields(p.line())
	if len(w) < 4 || w[3] != "@@" {
		return h, p.fail("is no head of a hunk")
	}
	at, before, err := p.span(w[1], "-")
	if err != nil {
		return h, err
	}
	_, after, err := p.span(w[2], "+")
	if err != nil {
		return h, err
	}
	if h.At = at; before == 0 {
		h.At++ // it names the line before
	}
	for p.at++; before > 0 || after > 0 || p.starts("\\"); p.at++ {
		if p.at == len(p.lines) {
			return h, p.fail("ends in the middle of a hunk")
		}
		line := p.lines[p.at]
		sign, rest := line[0], line[1:]
		if strings.Trim(line, "\r\n") == "" { // a blank at the end of a line that was lost on the way
			sign, rest = ' ', line
		}
		switch sign {
		case ' ':
			h.Before, h.After = append(h.Before, rest), append(h.After, rest)
			before, after = before-1, after-1
			h.Trail++
		case '-':
			h.Before, before, h.Trail = append(h.Before, rest), before-1, 0
		case '+':
			h.After, after, h.Trail = append(h.After, rest), after-1, 0
		case '\\': // of the line before
			last := p.lines[p.at-1]
			if last[0] != '+' {
				h.Before = unended(h.Before)
			}
			if last[0] != '-' {
				h.After = unended(h.After)
			}
		default:
			return h, p.fail("is no line of a hunk")
		}
		if before < 0 || after < 0 {
			return h, p.fail("is one more than its hunk says that there are")
		}
	}
	return h, nil
}

// unended takes the end off the last of the lines.
func unended(lines []string) []string {
	if n := len(lines); n > 0 {
		lines[n-1] = strings.TrimSuffix(lines[n-1], "\n")
	}
	return lines
}

// span reads where a hunk is and how long.
func (p *parser) span(s, sign string) (at, size int, err error) {
	from, n, has := strings.Cut(strings.TrimPrefix(s, sign), ",")
	if at, err = strconv.Atoi(from); err == nil && has {
		size, err = strconv.Atoi(n)
	} else {
		size = 1
	}
	if err != nil || !strings.HasPrefix(s, sign) || at < 0 || size < 0 {
		return 0, 0, p.fail("is no head of a hunk")
	}
	return at, size, nil
}

func (p *parser) mode(s string) (object.Mode, error) {
	m, err := strconv.ParseUint(s, 8, 32)
	if err != nil {
		return 0, p.fail("has the mode %q, which is none", s)
	}
	return object.Mode(m), nil
}

// common is the name that both sides of git's header have, where it is the same.
func (p *parser) common(names string) (string, bool) {
	if strings.HasPrefix(names, `"`) {
		first, rest, err := unquote(names)
		if err != nil {
			return "", false
		}
		second, _, err := unquote(strings.TrimPrefix(rest, " "))
		if err != nil {
			second = strings.TrimPrefix(rest, " ")
		}
		return p.same(first, second)
	}
	// Neither is in quotes, and both may have blanks: the middle is where both are the same.
	if n := len(names); n%2 == 1 && names[n/2] == ' ' {
		return p.same(names[:n/2], names[n/2+1:])
	}
	return "", false
}

func (p *parser) same(a, b string) (string, bool) {
	first, err := p.stripped(a)
	if err != nil {
		return "", false
	}
	second, err := p.stripped(b)
	return first, err == nil && first == second
}

// whole is a name that stands for itself.
func (p *parser) whole(s string) (string, error) {
	if strings.HasPrefix(s, `"`) {
		name, _, err := unquote(s)
		if err != nil {
			return "", p.fail("has a name that cannot be read")
		}
		s = name
	}
	return p.safe(s)
}

// path is a name with folders in front that are taken off.
func (p *parser) path(s string) (string, error) {
	if strings.HasPrefix(s, `"`) {
		name, _, err := unquote(s)
		if err != nil {
			return "", p.fail("has a name that cannot be read")
		}
		s = name
	}
	return p.stripped(s)
}

func (p *parser) stripped(s string) (string, error) {
	for range p.strip {
		_, rest, ok := strings.Cut(s, "/")
		if !ok {
			return "", p.fail("has the name %q, with too few folders to take %d off", s, p.strip)
		}
		s = rest
	}
	return p.safe(s)
}

// safe holds that a path stays within the project.
func (p *parser) safe(s string) (string, error) {
	for part := range strings.SplitSeq(s, "/") {
		if part == "" || part == "." || part == ".." || strings.EqualFold(part, ".git") {
			return "", p.fail("has the name %q, which does not lie in the project", s)
		}
	}
	return s, nil
}

// unquote reads a name in quotes, with the escapes of C.
func unquote(s string) (name, rest string, err error) {
	for i := 1; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '"':
			name, err = strconv.Unquote(s[:i+1])
			return name, s[i+1:], err
		}
	}
	return "", "", strconv.ErrSyntax
}

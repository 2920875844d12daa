package settle

import (
	"strings"

	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/rx"
)

var (
	heading = rx.New(`^#{1,6}\s+\S`)
	section = rx.New(`^\s*\[+[^\]]+\]+\s*$`)
	keyLine = rx.New(`^\s*(?:- )?["']?[\w./ -]+["']?\s*:\s*[\[{]?\s*$`)
	opens   = rx.New(`\b(def|class|function|fn|func|interface|struct|enum|impl|trait|module|namespace|` +
		`describe|it|test|sub|resource|CREATE TABLE)\b|^\s*[\w<>\[\],.*&: ]+\([^;]*\)[^;]*\{?\s*$`)
	noDeclaration = rx.New(`^\s*(if|for|while|switch|else|elif|try|catch|with|return|case|do|\})\b?`)
)

// Around returns the context of a line as far as the lines show it: the heading, the section of settings, the key of
// an entry, the function or class; or "".
func Around(file string, lines []string, at int) string {
	at = min(at, len(lines)-1)
	if at < 0 {
		return ""
	}
	switch lang.Of(file).Outline {
	case lang.Headings:
		name := above(lines, at+1, func(l string, _ int) bool { return heading.MatchString(l) })
		return strings.TrimLeft(name, "# ")
	case lang.Sections:
		return above(lines, at+1, func(l string, _ int) bool { return section.MatchString(l) })
	case lang.Keys:
		return above(lines, at, less(lines, at, keyLine.MatchString))
	case lang.Blocks:
		return above(lines, at, less(lines, at, func(l string) bool {
			return strings.HasSuffix(strings.TrimSpace(l), "{")
		}))
	case lang.None:
		return ""
	}
	return above(lines, at, less(lines, at, func(l string) bool {
		return opens.MatchString(l) && !noDeclaration.MatchString(l)
	}))
}

// less returns a filter for lines that are less indented than one.
func less(lines []string, at int, is func(l string) bool) func(l string, in int) bool {
	for at > 0 && strings.TrimSpace(lines[at]) == "" {
		at--
	}
	most := len(indentOf(lines[at]))
	return func(l string, in int) bool {
		if strings.TrimSpace(l) == "" || in >= most {
			return false
		}
		return is(l)
	}
}

// above returns the last line before one for which is returns true, as a name.
func above(lines []string, at int, is func(l string, in int) bool) string {
	for i := at - 1; i >= 0; i-- {
		if l := strings.TrimRight(lines[i], "\r\n"); is(l, len(indentOf(l))) {
			return strings.TrimRight(strings.Trim(strings.TrimSpace(l), "[]"), " {:(")
		}
	}
	return ""
}

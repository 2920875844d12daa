// Package attr parses gitattributes files as gitattributes(5) documents them, and returns the attributes of a path.
package attr

import (
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Value is the value of an attribute. The zero Value means unspecified.
type Value struct {
	State Setting
	Text  string // the value, if State is Valued
}

// Setting is the kind of a Value.
type Setting uint8

// The states.
const (
	Unspecified Setting = iota
	Set
	Unset
	Valued
)

// Attributes maps names to values. Attributes that are missing are unspecified.
type Attributes map[string]Value

type assignment struct {
	name  string
	value Value
}

type rule struct {
	match func(p string) bool // takes the path relative to the attributes file
	set   []assignment
}

// Rules holds the rules of one gitattributes file in order.
type Rules struct {
	rules  []rule
	macros map[string][]assignment
}

// Parse parses a gitattributes file. Like git it skips lines that make no sense. It takes O(n) time.
func Parse(text string) *Rules {
	f := &Rules{macros: map[string][]assignment{}}
	for line := range strings.SplitSeq(text, "\n") {
		line = strings.TrimLeft(strings.TrimSuffix(line, "\r"), " \t")
		if line == "" || line[0] == '#' {
			continue
		}
		if name, ok := strings.CutPrefix(line, "[attr]"); ok {
			if words := strings.Fields(name); len(words) > 0 && validName(words[0]) {
				f.macros[words[0]] = assignments(words[1:])
			}
			continue
		}
		pattern, rest, ok := cutPattern(line)
		if !ok || pattern == "" || pattern[0] == '!' || strings.HasSuffix(pattern, "/") {
			continue // attributes files have no negative patterns, and directories have no attributes
		}
		if match := matcher(pattern); match != nil {
			f.rules = append(f.rules, rule{match, assignments(strings.Fields(rest))})
		}
	}
	return f
}

// cutPattern splits a line into its pattern, which may be quoted, and the rest.
func cutPattern(line string) (pattern, rest string, ok bool) {
	if line[0] != '"' {
		if i := strings.IndexAny(line, " \t"); i >= 0 {
			return line[:i], line[i:], true
		}
		return line, "", true
	}
	quoted, err := strconv.QuotedPrefix(line)
	if err != nil {
		return "", "", false
	}
	pattern, err = strconv.Unquote(quoted)
	return pattern, line[len(quoted):], err == nil
}

func validName(s string) bool {
	return s != "" && s[0] != '-' && !strings.ContainsFunc(s, func(r rune) bool {
		return !(r == '-' || r == '.' || r == '_' || '0' <= r && r <= '9' || 'a' <= r && r <= 'z' || 'A' <= r &&
			r <= 'Z')
	})
}

func assignments(words []string) (out []assignment) {
	for _, w := range words {
		name, text, valued := strings.Cut(w, "=")
		v := Value{State: Set}
		switch {
		case valued:
			v = Value{Valued, text}
		case w[0] == '-':
			name, v.State = w[1:], Unset
		case w[0] == '!':
			name, v.State = w[1:], Unspecified
		}
		if validName(name) {
			out = append(out, assignment{name, v})
		}
	}
	return out
}

// matcher compiles a pattern. It returns nil for an invalid one.
func matcher(pattern string) func(string) bool {
	anchored := strings.Contains(pattern, "/")
	re, err := regexp.Compile(expression(strings.TrimPrefix(pattern, "/")))
	if err != nil {
		return nil
	}
	if !anchored {
		return func(p string) bool { return re.MatchString(path.Base(p)) }
	}
	return re.MatchString
}

// expression converts a wildcard pattern to a regular expression: * and ? stop at slashes, ** does not.
func expression(p string) string {
	var b strings.Builder
	b.WriteString(`(?s)\A`)
	for i := 0; i < len(p); {
		switch rest := p[i:]; {
		case strings.HasPrefix(rest, "**/") && (i == 0 || p[i-1] == '/'):
			b.WriteString(`(?:.*/)?`)
			i += 3
		case rest == "/**":
			b.WriteString(`/.*`)
			i += 3
		case rest == "**" && i == 0:
			b.WriteString(`.*`)
			i += 2
		case rest[0] == '*':
			b.WriteString(`[^/]*`)
			for i < len(p) && p[i] == '*' {
				i++
			}
		case rest[0] == '?':
			b.WriteString(`[^/]`)
			i++
		case rest[0] == '[':
			class, n := bracket(rest)
			b.WriteString(class)
			i += n
		case rest[0] == '\\' && len(rest) > 1:
			b.WriteString(regexp.QuoteMeta(rest[1:2]))
			i += 2
		default:
			b.WriteString(regexp.QuoteMeta(rest[:1]))
			i++
		}
	}
	b.WriteString(`\z`)
	return b.String()
}

// bracket converts a class such as [a-z] or [!abc]. As in git, an unclosed one matches nothing.
func bracket(s string) (class string, n int) {
	var b strings.Builder
	b.WriteString("[")
	i := 1
	if i < len(s) && (s[i] == '!' || s[i] == '^') {
		b.WriteString("^/")
		i++
	}
	for first := true; i < len(s); first = false {
		switch c := s[i]; {
		case c == ']' && !first:
			b.WriteString("]")
			return b.String(), i + 1
		case strings.HasPrefix(s[i:], "[:"):
			if end := strings.Index(s[i:], ":]"); end > 0 {
				b.WriteString(s[i : i+end+2])
				i += end + 2
				continue
			}
			b.WriteString(`\[`)
			i++
		case c == '\\' && i+1 < len(s):
			b.WriteString(regexp.QuoteMeta(s[i+1 : i+2]))
			i += 2
		case c == '-':
			if first || i+1 < len(s) && s[i+1] == ']' {
				b.WriteString(`\`)
			}
			b.WriteString("-")
			i++
		default:
			b.WriteString(regexp.QuoteMeta(s[i : i+1]))
			i++
		}
	}
	return `[^\x00-\x{10FFFF}]`, len(s)
}

// Scope is a File and its directory; the top is empty. It applies only to paths below the directory.
type Scope struct {
	Dir  string
	File *Rules
}

// builtin is the one macro that every repository has.
var builtin = map[string][]assignment{"binary": {{"diff", Value{State: Unset}}, {"merge", Value{State: Unset}},
	{"text", Value{State: Unset}}}}

// Of returns the attributes of a path under files in order of precedence, the lowest first. Only files of the top may
// define macros.
func Of(files []Scope, p string) Attributes {
	macros := func(name string) []assignment {
		for i := len(files) - 1; i >= 0; i-- {
			if m, ok := files[i].File.macros[name]; ok && files[i].Dir == "" {
				return m
			}
		}
		return builtin[name]
	}
	// Lines are read from the highest precedence down, and the first value stays. So an overridden macro sets nothing.
	known := Attributes{}
	var assign func(list []assignment)
	assign = func(list []assignment) {
		for _, a := range slices.Backward(list) {
			if _, ok := known[a.name]; ok {
				continue
			}
			known[a.name] = a.value
			if a.value.State == Set {
				assign(macros(a.name))
			}
		}
	}
	for _, s := range slices.Backward(files) {
		below := p
		if s.Dir != "" {
			var in bool
			if below, in = strings.CutPrefix(p, s.Dir+"/"); !in {
				continue
			}
		}
		for _, r := range slices.Backward(s.File.rules) {
			if r.match(below) {
				assign(r.set)
			}
		}
	}
	maps.DeleteFunc(known, func(_ string, v Value) bool { return v.State == Unspecified })
	return known
}

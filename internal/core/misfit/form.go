package misfit

import (
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
)

// form is what a definition asks of those who use it, as far as its lines show.
type form struct {
	def
	family string
	path   string
	lines  []string // of the whole file
	head   string   // from the first line of the definition to the bracket or sign that opens its body
	params []string
	called bool   // it has parameters
	result string // the type of what it returns; empty if it is not written
	body   []string
}

// outlineOf is the language by which the definitions of a file are found for their forms. Go has one, too.
func outlineOf(p string) *language {
	if path.Ext(p) == ".go" {
		return goDefines
	}
	return languageOf(p)
}

// formOf reads the form of a definition in the lines of a file.
func formOf(l *language, p string, lines []string, d def) form {
	f := form{def: d, family: l.family, path: p, lines: lines}
	end := d.line
	for end < min(len(lines), d.line+8)-1 && strings.Count(strings.Join(lines[d.line:end+1], ""), "(") >
		strings.Count(strings.Join(lines[d.line:end+1], ""), ")") {
		end++
	}
	f.head = strings.TrimSpace(strings.Join(lines[d.line:end+1], ""))
	f.params, f.called = paramsOf(lines, d)
	f.result = resultOf(l.family, f.head, d.name)
	in := indentation(lines[d.line])
	for i := end + 1; i < len(lines); i++ {
		text := strings.TrimSpace(lines[i])
		if text != "" && indentation(lines[i]) <= in && !strings.HasPrefix(text, ")") {
			break
		}
		f.body = append(f.body, lines[i])
	}
	return f
}

// arrow matches the type of a result that stands after the parameters.
var arrow = map[string]*rx.Expr{
	"python": rx.New(`\)\s*->\s*([^:]+):`), "rust": rx.New(`\)\s*->\s*([^{;]+)`), "swift": rx.New(
		`\)[^-]*->\s*([^{]+)`),
	"script": rx.New(`\)\s*:\s*([^{=]+)`), "go": rx.New(`\)\s*([^{]+)\{`), "php": rx.New(`\)\s*:\s*([^{;]+)`),
}

// kotlin matches a result in Kotlin or Scala, whose family writes it before the name otherwise.
var kotlin = rx.New(`\b(?:fun|def)\b.*\)\s*:\s*([^{=]+)`)

func resultOf(family, head, name string) string {
	re := arrow[family]
	if family == "java" && kotlin.MatchString(head) {
		re = kotlin
	}
	if re != nil {
		if m := re.FindStringSubmatch(head); m != nil {
			return strings.TrimSpace(m[1])
		}
		return ""
	}
	before, _, _ := strings.Cut(head, name+"(")
	words := strings.Fields(before)
	for len(words) > 0 && modifier[words[0]] {
		words = words[1:]
	}
	return strings.Join(words, " ")
}

// modifier has the words before a definition that are not the type of its result.
var modifier = func() map[string]bool {
	out := map[string]bool{}
	for w := range strings.FieldsSeq("public private protected internal static final abstract override virtual " +
		"async sealed readonly synchronized default inline extern const open suspend partial native fun def function " +
		"export func fn pub unsafe") {
		out[w] = true
	}
	return out
}()

// paramName returns the name of a parameter.
func paramName(family, param string) string {
	param, _, _ = strings.Cut(param, "=")
	switch family {
	case "go":
		param, _, _ = strings.Cut(param, " ")
	case "java", "c", "php":
		if before, _, ok := strings.Cut(param, ":"); ok { // Kotlin
			param = before
		}
	default:
		param, _, _ = strings.Cut(param, ":")
	}
	words := strings.FieldsFunc(param, func(r rune) bool { return r < 0x80 && !wordly(byte(r)) })
	if len(words) == 0 {
		return ""
	}
	return words[len(words)-1]
}

// paramType returns the type of a parameter; empty if it is not written.
func paramType(family, param string) string {
	param, _, _ = strings.Cut(param, "=")
	if _, after, ok := strings.Cut(param, ":"); ok && family != "c" {
		return strings.TrimSpace(after)
	}
	if family == "c" || family == "java" || family == "php" {
		return strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(param), paramName(family, param)))
	}
	return ""
}

func (f form) names() (out []string) {
	for _, p := range f.params {
		out = append(out, paramName(f.family, p))
	}
	return out
}

// members lists the definitions within a definition, with whether each stands there without a body.
func (f form) members() (all []string, empty map[string]bool) {
	empty = map[string]bool{}
	for i, l := range f.body {
		m := memberLine.FindStringSubmatch(strings.TrimRight(l, "\r\n"))
		if m == nil || notNames[m[1]] {
			continue
		}
		text := strings.TrimSpace(l)
		all = append(all, m[1])
		above := ""
		if i > 0 {
			above = f.body[i-1]
		}
		bodiless := strings.HasSuffix(text, ";") || !strings.ContainsAny(text, "{=") && f.family != "python" &&
			f.family != "ruby"
		switch {
		case f.family == "python":
			empty[m[1]] = strings.Contains(above, "abstractmethod")
		case strings.Contains(text, "abstract "):
			empty[m[1]] = true
		case abstracts.MatchString(f.head):
			empty[m[1]] = bodiless && !strings.Contains(text, " default ") && !strings.Contains(text, "?(")
		}
	}
	return all, empty
}

var (
	// what a member that can be called begins with
	memberLine = rx.New(`^\s+(?:[\w<>\[\],.?@]+\s+)*(\w+)\s*\([^;{]*\)?`)
	abstracts  = rx.New(`\b(interface|trait|protocol)\b`)
)

// use is a new line of the other side that has the name of a definition.
type use struct {
	by   *file
	line int    // from 0
	text string // without comments
	name string
}

// calls returns the calls of the name that begin in the line; none if the name stands in a comment or a string there,
// too, because then it is not known which are calls.
func (u use) calls() []invocation {
	count := func(text string) (n int) {
		for range occurrences(text, u.name) {
			n++
		}
		return n
	}
	if count(u.text) != count(u.by.to[u.line]) {
		return nil
	}
	return callsOf(u.by.to, u.line, u.name)
}

// around returns the line with those above it, as far as they can enclose it.
func (u use) around(n int) string {
	return strings.Join(u.by.to[max(0, u.line-n):u.line+1], "")
}

// namedArg matches an argument that is given by its name.
var namedArg = rx.New(`^(\w+)\s*(=[^=]|:\s)`)

func positional(args []string) (n int) {
	for _, a := range args {
		if !namedArg.MatchString(a) {
			n++
		}
	}
	return n
}

// sameSet reports whether two lists have the same members.
func sameSet(a, b []string) bool {
	a, b = slices.Clone(a), slices.Clone(b)
	slices.Sort(a)
	slices.Sort(b)
	return slices.Equal(a, b)
}

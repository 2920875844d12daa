package misfit

import (
	"errors"
	"iter"
	"strings"
	"time"

	"github.com/alecthomas/chroma/v2"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/lexing"
	"dorvik.dev/dorvik/internal/core/rx"
)

// language tells how the definitions of a language begin. Go is type-checked instead.
type language struct {
	family string // group of languages that can use each other's names
	// defs match a line that defines the name in their only group
	defs []*rx.Expr
	// counts is set if a call with a wrong number of arguments is an error
	counts bool
	// overloads is set if a name can be defined several times with other parameters
	overloads bool
}

func exprs(list ...string) (out []*rx.Expr) {
	for _, s := range list {
		out = append(out, rx.New(s))
	}
	return out
}

// modifiers matches the words before a definition in languages that write the type first.
const modifiers = `(?:(?:public|private|protected|internal|static|final|abstract|override|virtual|async|sealed|` +
	`readonly|synchronized|default|inline|extern|const|constexpr|unsigned|open|suspend|partial|native|volatile|` +
	`transient)\s+)*`

// notNames lists words that stand before an opening bracket without being names.
var notNames = map[string]bool{"if": true, "for": true, "while": true, "switch": true, "catch": true, "return": true,
	"function": true, "else": true, "do": true, "new": true, "throw": true, "sizeof": true, "super": true, "this": true,
	"constructor": true, "assert": true, "await": true, "yield": true, "when": true, "match": true, "using": true,
	"lock": true, "in": true, "of": true, "case": true, "delete": true, "typeof": true, "not": true, "and": true,
	"or":   true,
	"main": true,
	"init": true, "setup": true, "self": true, "true": true, "false": true, "null": true, "None": true}

var (
	python = &language{family: "python", counts: true, defs: exprs(`^\s*(?:async\s+)?def\s+(\w+)`, `^\s*class\s+(\w+)`,
		`^(\w+)\s*(?::[^=]+)?=(?:[^=]|$)`)}
	script = &language{family: "script",
		defs: exprs(`^\s*(?:export\s+)?(?:default\s+)?(?:async\s+)?function\*?\s+(\w+)`,
			`^\s*(?:export\s+)?(?:default\s+)?(?:abstract\s+)?class\s+(\w+)`,
			`^(?:export\s+)?(?:const|let|var)\s+(\w+)`,
			`^\s*(?:export\s+)?(?:declare\s+)?(?:interface|type|enum|namespace)\s+(\w+)`,
			`^\s+(?:(?:public|private|protected|static|async|get|set|readonly|override)\s+)*(\w+)\s*`+
				`\([^()]*\)\s*(?::[^{]+)?\{`,
			`^\s*exports\.(\w+)\s*=`)}
	typed = &language{family: "script", counts: true, defs: append(script.defs,
		exprs(`^\s+(?:readonly\s+)?(\w+)\??:\s*[^,=({]+;?\s*$`)...)}
	java = &language{family: "java", counts: true, overloads: true, defs: exprs(
		`^\s*`+modifiers+`(?:class|interface|enum|record|@interface|struct|object|trait)\s+(\w+)`,
		`^\s*`+modifiers+`(?:<[^>]+>\s+)?[A-Za-z_][\w<>\[\],.? ]*\s+(\w+)\s*\(`,
		`^\s*(?:public|private|protected|internal|static|final)\s+`+modifiers+`[A-Za-z_][\w<>\[\],.?]*\s+(\w+)\s*[=;{]`,
		`^\s*`+modifiers+`(?:fun|val|var|def)\s+(\w+)`)}
	c = &language{family: "c", counts: true, overloads: true, defs: exprs(`^\s*#\s*define\s+(\w+)`,
		`^(?:typedef\s+)?(?:struct|enum|union|class)\s+(\w+)\s*[{:]?\s*$`, `^(?:typedef\s.*|\})\s*(\w+)\s*;`,
		`^[A-Za-z_][\w\s*&:<>,]*?[\s*&](\w+)\s*\([^;{]*[;{]?\s*$`,
		`^(?:extern\s+|static\s+|const\s+)*\w+\s+\*?(\w+)\s*(?:\[\w*\])?\s*[=;]`,
		`^\s+([A-Z][A-Z0-9_]+)\s*(?:=[^,]*)?,?\s*$`, `^\s+(?:const\s+)?\w+\s+\*?(\w+)\s*(?:\[\w*\])?;\s*$`)}
	rust = &language{family: "rust", counts: true, defs: exprs(
		`^\s*(?:pub(?:\([^)]*\))?\s+)?(?:(?:async|const|unsafe|extern(?:\s+"\w+")?)\s+)*fn\s+(\w+)`,
		`^\s*(?:pub(?:\([^)]*\))?\s+)?(?:struct|enum|trait|type|const|static|mod|union)\s+(?:mut\s+)?(\w+)`,
		`^\s*macro_rules!\s*(\w+)`, `^\s+(?:pub(?:\([^)]*\))?\s+)?(\w+):\s*[^=]+,\s*$`,
		`^\s{4}([A-Z]\w+)(?:[({][^=]*)?,\s*$`)}
	ruby = &language{family: "ruby", counts: true, defs: exprs(`^\s*def\s+(?:self\.)?(\w+[?!]?)`,
		`^\s*(?:class|module)\s+(\w+)`, `^\s*([A-Z][A-Z0-9_]+)\s*=`, `^\s*attr_\w+\s+:(\w+)`)}
	php = &language{family: "php", counts: true, defs: exprs(`^\s*`+modifiers+`function\s+&?(\w+)`,
		`^\s*`+modifiers+`(?:class|interface|trait|enum)\s+(\w+)`, `^\s*`+modifiers+`const\s+(\w+)`)}
	shell = &language{family: "shell", defs: exprs(`^\s*(?:function\s+)?([\w-]+)\s*\(\)`, `^\s*function\s+([\w-]+)`,
		`^(?:export\s+|readonly\s+)?([A-Z][A-Z0-9_]+)=`)}
	makefile = &language{family: "make", defs: exprs(`^([\w.-]+)\s*:(?:[^=]|$)`, `^(?:export\s+)?(\w+)\s*[:?+]?=`,
		`^define\s+(\w+)`)}
	swift = &language{family: "swift", counts: true, overloads: true, defs: exprs(`^\s*`+modifiers+`func\s+(\w+)`,
		`^\s*`+modifiers+`(?:class|struct|enum|protocol|extension|typealias|actor)\s+(\w+)`,
		`^\s*`+modifiers+`(?:let|var)\s+(\w+)`, `^\s*case\s+(\w+)`)}
	proto = &language{family: "proto", defs: exprs(`^\s*(?:message|service|rpc|enum)\s+(\w+)`)}
	sql   = &language{family: "sql", defs: exprs(
		`(?i)^\s*create\s+(?:or\s+replace\s+)?(?:table|view|function|procedure)\s+(?:if\s+not\s+exists\s+)?` +
			`["\x60]?(\w+)`)}
	lua   = &language{family: "lua", defs: exprs(`^\s*(?:local\s+)?function\s+(?:[\w.]+[.:])?(\w+)`)}
	cmake = &language{family: "cmake", defs: exprs(`(?i)^\s*(?:set|option|function|macro|add_library|add_executable|` +
		`add_custom_target)\s*\(\s*(\w+)`)}
)

var languages = map[*lang.Language]*language{
	lang.Python: python, lang.JavaScript: script, lang.TypeScript: typed, lang.TSX: typed, lang.Java: java,
	lang.Kotlin: java, lang.CSharp: java, lang.Scala: java, lang.Groovy: java, lang.C: c, lang.CPlusPlus: c,
	lang.ObjectiveC: c, lang.Rust: rust, lang.Ruby: ruby, lang.PHP: php, lang.Shell: shell, lang.Make: makefile,
	lang.Swift: swift, lang.Proto: proto, lang.SQL: sql, lang.Lua: lua, lang.CMake: cmake,
}

// languageOf returns how definitions are found in a file, or nil if they are not.
func languageOf(p string) *language { return languages[lang.Of(p)] }

// def is a definition in a file.
type def struct {
	name string
	line int    // from 0
	in   string // the enclosing definition, by indentation; empty if none
	deep int
	head string // the line of the definition
}

// alike reports whether two definitions are equal except for their names.
func (d def) alike(o def) bool {
	return strings.ReplaceAll(d.head, d.name, "_") == strings.ReplaceAll(o.head, o.name, "_")
}

// definitions lists what the lines of a file define.
func (l *language) definitions(lines []string) (out []def) {
	for i := range lines {
		d, ok := l.definition(lines, i)
		if !ok {
			continue
		}
		for k := len(out) - 1; k >= 0 && d.in == ""; k-- {
			if out[k].deep < d.deep {
				d.in = out[k].name
			}
		}
		out = append(out, d)
	}
	return out
}

// definition returns what a line defines, but for what encloses it.
func (l *language) definition(lines []string, i int) (d def, ok bool) {
	text := strings.TrimRight(lines[i], "\r\n")
	for _, re := range l.defs {
		if m := re.FindStringSubmatch(text); m != nil && !notNames[m[1]] {
			return def{name: m[1], line: i, head: strings.TrimSpace(text), deep: indentation(text)}, true
		}
	}
	return d, false
}

// named lists the definitions of one name, as definitions does, in a fraction of the time.
func (l *language) named(lines []string, name string) (out []def) {
	for i, text := range lines {
		if !strings.Contains(text, name) {
			continue
		}
		d, ok := l.definition(lines, i)
		if !ok || d.name != name {
			continue
		}
		for k := i - 1; k >= 0 && d.in == "" && d.deep > 0; k-- {
			if indentation(lines[k]) < d.deep {
				if around, ok := l.definition(lines, k); ok {
					d.in = around.name
				}
			}
		}
		out = append(out, d)
	}
	return out
}

// reading caches the tokens of files during one search and limits the time for lexing.
type reading struct {
	left  time.Duration
	lines map[*file][2][]string // without comments: first without string literals, then with them
	slow  []string              // files that were too large to read as code, or came after the time limit
}

func newReading() *reading {
	return &reading{left: lexingTime, lines: map[*file][2][]string{}}
}

// lexingTime is the time limit for lexing during one search.
const lexingTime = 3 * time.Second

// code returns the lines of the file's present version without comments and, unless strs is set, without the contents
// of strings. It returns nil for a file that is too much to lex.
func (r *reading) code(one *file, strs bool) []string {
	which := 0
	if strs {
		which = 1
	}
	known, ok := r.lines[one]
	if !ok {
		if known, ok = r.read(one); !ok {
			r.slow = append(r.slow, one.path)
		}
		r.lines[one] = known
	}
	return known[which]
}

// read is code, both ways. ok is false if there is no time for it.
func (r *reading) read(one *file) (lines [2][]string, ok bool) {
	if r.left <= 0 {
		return lines, false
	}
	begun := time.Now()
	tokens, err := lexing.Cut(one.path, one.is)
	r.left -= time.Since(begun)
	if errors.Is(err, lexing.ErrSlow) {
		return lines, false
	}
	if err != nil {
		all := diff.Lines(one.is)
		return [2][]string{all, all}, true
	}
	for i := range lines {
		var b strings.Builder
		for _, t := range tokens {
			comment := t.Type.InCategory(chroma.Comment) && !t.Type.InSubCategory(chroma.CommentPreproc)
			str := t.Type.InSubCategory(chroma.LiteralString) && t.Type != chroma.LiteralStringInterpol
			if comment || str && i == 0 {
				b.WriteString(strings.Repeat("\n", strings.Count(t.Value, "\n")))
				continue
			}
			b.WriteString(t.Value)
		}
		lines[i] = diff.Lines(b.String())
	}
	return lines, true
}

// uses lists the indexes of lines that contain a name outside comments and strings, and returns all lines without
// those.
func (r *reading) uses(one *file, name string) (at []int, lines []string) {
	if !strings.Contains(one.is, name) {
		return nil, one.to
	}
	lines = r.code(one, false)
	for i, l := range lines {
		if HasWord(l, name) {
			at = append(at, i)
		}
	}
	return at, lines
}

// occurrences returns the byte offsets at which a line contains a name as a word.
func occurrences(l, name string) iter.Seq[int] {
	return func(yield func(int) bool) {
		for at := 0; name != ""; {
			i := strings.Index(l[at:], name)
			if i < 0 {
				return
			}
			lo, hi := at+i, at+i+len(name)
			if (lo == 0 || !wordly(l[lo-1])) && (hi == len(l) || !wordly(l[hi])) && !yield(lo) {
				return
			}
			at = hi
		}
	}
}

// HasWord reports whether a line contains a name as a word.
func HasWord(l, name string) bool {
	for range occurrences(l, name) {
		return true
	}
	return false
}

// importing reports whether a line may import names of another file.
func importing(l string) bool {
	return strings.Contains(l, "import") || strings.Contains(l, "require") || strings.Contains(l, "use ")
}

// exporting reports whether a line may hand on names of another file.
func exporting(l string) bool {
	return strings.HasPrefix(l, "export ") || strings.HasPrefix(l, "pub use ")
}

func indentation(line string) int { return len(line) - len(strings.TrimLeft(line, " \t")) }

// words returns the words of a line that can be a name or a part of one.
func words(l string) iter.Seq[string] {
	return strings.FieldsFuncSeq(l, func(r rune) bool { return r < 0x80 && !wordly(byte(r)) })
}

func wordly(b byte) bool {
	return b == '_' || b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= 0x80
}

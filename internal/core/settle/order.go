package settle

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/rx"
)

// free is a kind of lines whose order among each other means nothing. Elsewhere two additions are offered in both
// orders, and none is suggested.
type free struct {
	what string           // as a newcomer reads it
	in   []*lang.Language // nil for all
	not  []*lang.Language
	line *rx.Expr
}

// braces are the languages with blocks in braces.
var braces = []*lang.Language{lang.Go, lang.JavaScript, lang.TypeScript, lang.TSX, lang.Java, lang.Kotlin, lang.CSharp,
	lang.Scala,
	lang.C, lang.CPlusPlus, lang.Rust, lang.PHP, lang.Swift, lang.Dart, lang.Proto, lang.Groovy}

// frees is the table of them: each outermost line of both additions must be one of these.
var frees = []free{
	{"functions, classes and types", nil, []*lang.Language{lang.SQL, lang.Shell},
		rx.New(`^((export|default|public|private|protected|internal|static|final|abstract|async|override|open|` +
			`pub(\([^)]*\))?|` +
			`virtual|inline|extern|unsafe|const|suspend|data|sealed|case|partial|local|readonly|declare|` +
			`companion|implicit) )*` +
			`(func|fn|fun|function|def|class|struct|enum|interface|trait|type|record|module|namespace|impl|` +
			`message|service|rpc|` +
			`protocol|extension|object|mixin|sub|defmodule|defp?)\b`)},
	{"methods", []*lang.Language{lang.JavaScript, lang.TypeScript, lang.TSX}, nil,
		rx.New(`^((async|static|get|set) )*#?\w+\([^;]*\)(: ?[\w<>\[\], |]+)? ?\{`)},
	{"what is exported", []*lang.Language{lang.JavaScript, lang.TypeScript, lang.TSX, lang.Shell}, nil,
		rx.New(`^export (\{.*\}|\*|type \{.*\}) from |^export \w+=`)},
	{"branches of a switch, with values of their own", nil, []*lang.Language{lang.Rust}, rx.New(`^case ("[^"]*"|` +
		`'[^']*'|\d+|[A-Z]\w*(\.\w+)*):`)},
	{"branches of a match, with variants of their own", []*lang.Language{lang.Rust}, nil,
		rx.New(`^[A-Z]\w*(::[A-Z]\w*)+ ?([({][\w, .]*[)}])? => `)},
	{"branches of one value", []*lang.Language{lang.Python}, nil,
		rx.New(`^elif [\w.]+ == ("[^"]*"|'[^']*'|\d+|[A-Z]\w*(\.\w+)*):$`)},
	{"names that are set to values", []*lang.Language{lang.Python, lang.Ruby}, nil,
		rx.New(`^[A-Za-z_]\w*(: ?\w+)? = ("[^"]*"|'[^']*'|-?\d[\d._]*|True|False|None|true|false|nil|\[\]|\{\})$`)},
	{"branches of a case, with words of their own", []*lang.Language{lang.Shell}, nil, rx.New(`^[\w-]+\)`)},
	{"tables, and columns that are added", []*lang.Language{lang.SQL}, nil,
		rx.New(`(?i)^(create (table|index|view|unique index)|alter table \S+ add|insert into)\b`)},
	{"functions", []*lang.Language{lang.Shell}, nil, rx.New(`^(function )?[\w-]+ ?\(\) ?\{`)},
	{"methods and functions that begin with a type", braces, nil,
		rx.New(`^((public|private|protected|internal|static|final|abstract|async|override|virtual|inline|` +
			`unsigned|const) )*` +
			`[\w<>\[\],.?*&:]+ \**\w+ ?\([^;]*\)( ?(const|throws [\w, .]+))? ?\{`)},
	{"fields and members", braces, nil, rx.New(`^((public|private|protected|internal|static|final|readonly|const|` +
		`val|var|let|pub) )*` +
		`(\w+\??: ?[^={(]+[;,]?|[\w<>\[\],.?*&]+ \**\w+( ?= ?[^;]+)?;|\w+ [*\[\]\w.]+( +` + "`[^`]*`" + `)?|` +
		`(optional |repeated |required )?\w+ \w+ = \d+;)$`)},
	{"members that are functions", []*lang.Language{lang.TypeScript, lang.TSX}, nil,
		rx.New(`^(readonly )?\w+\??: ?\([^()]*\) => [^{]+[;,]$`)},
	{"constants with values of their own", nil, nil,
		rx.New(`^((export|public|private|static|final|pub|internal|protected) )*(const|val|#define|static final|` +
			`readonly|let|` +
			`var)\b.*[=\s]\S`)},
	{"constants", []*lang.Language{lang.Python, lang.Ruby, lang.Go, lang.Shell, lang.Make}, nil,
		rx.New(`^[A-Z][A-Z0-9_]*( [\w.]+)? *:?\??= *\S`)},
	{"constants with texts of their own", []*lang.Language{lang.Go}, nil, rx.New("^[A-Za-z]\\w*( \\w+)? = [\"`]")},
	{"branches for constants", []*lang.Language{lang.Kotlin, lang.Java, lang.Scala}, nil,
		rx.New(`^(case )?[A-Z]\w*(\.\w+)* (->|=>) `)},
	{"properties", []*lang.Language{lang.CSharp}, nil, rx.New(`^(\w+ )+[\w<>\[\],.?]+ \w+ \{ get;`)},
	{"entries of a table", []*lang.Language{lang.Lua}, nil, rx.New(`^(\w+|\[.*\]) = .*,$`)},
	{"fields", []*lang.Language{lang.GraphQL}, nil, rx.New(`^\w+(\(.*\))?: `)},
	{"members of an enumeration", []*lang.Language{lang.Java, lang.Kotlin, lang.CSharp, lang.Swift, lang.Rust,
		lang.TypeScript}, nil,
		rx.New(`^(case )?[A-Z]\w*( ?= ?[^,]+|\([^()]*\)| ?\{[^{}]*\})?,$`)},
	{"entries with keys", []*lang.Language{lang.JSON, lang.YAML, lang.TOML, lang.INI, lang.Properties, lang.Env,
		lang.Conf, lang.HCL}, nil,
		rx.New(`^("[^"]+"|'[^']+'|[\w./@-]+) *[:=]( |$|\S)`)},
	{"sections", []*lang.Language{lang.TOML, lang.INI, lang.HCL}, nil, rx.New(`^(\[+[^\]]+\]+|` +
		`[\w-]+( "[^"]+")+ \{)`)},
	{"entries of a map in code", nil, []*lang.Language{lang.SQL, lang.CSS, lang.Less}, rx.New(`^("[^"]+"|'[^']+'|` +
		`:?\w+)( ?=>|:) ?\S.*,$`)},
	{"tests", nil, nil, rx.New(`^(@Test\b|#\[test\]|(it|test|describe|context|specify)[ (]["'` + "`" + `])`)},
	{"items with a name or an id, and references", []*lang.Language{lang.YAML}, nil,
		rx.New(`^- ((id|name|key|slug): ?\S|\w+: ?\{\w+: ?\d+\}$)`)},
	{"functions that are declared", []*lang.Language{lang.C, lang.CPlusPlus, lang.ObjectiveC}, nil,
		rx.New(`^(extern |static |const |unsigned |struct )*\w+[ *]+\w+\([^{}]*\);$`)},
	{"names in a list in code", nil, []*lang.Language{lang.SQL}, rx.New("^(\"[\\w./ -]*\"|'[\\w./ -]*'),$")},
	{"names in a list", []*lang.Language{lang.YAML}, nil, rx.New(`^- ["']?([\w./@*-]+|[A-Za-z./][\w./@*:-]*)["']?$`)},
	{"rows", []*lang.Language{lang.CSV, lang.Markdown}, nil, rx.New(`^(\||[^,;\t]+[,;\t])`)},
	{"items of a list, and headings with what is under them", []*lang.Language{lang.Markdown, lang.RST,
		lang.AsciiDoc, lang.Text}, nil, rx.New(`^([-*+•] |#{1,6} )`)},
	{"what an image is called, and opens", []*lang.Language{lang.Dockerfile}, nil, rx.New(`^(LABEL|EXPOSE|VOLUME)\b`)},
	{"schedules", nil, nil, rx.New(`^([\d*][\d*,/-]*\s+){4}[\d*]`)},
	{"badges", []*lang.Language{lang.Markdown}, nil, rx.New(`^\[?!\[`)},
	{"elements of data", []*lang.Language{lang.XML, lang.XMLData}, nil, rx.New(`^</?[A-Za-z]`)},
	{"items of a list, and rows", []*lang.Language{lang.HTML, lang.Vue, lang.TSX, lang.JavaScript}, nil,
		rx.New(`^</?(li|option|tr|td|th|dt|dd|meta|link)\b`)},
	{"calls that enter one thing under its name", nil, []*lang.Language{lang.SQL},
		rx.New("^[\\w.$:]*(\\w\\.|add|register|handle|route|define|set|option|flag|on|path|include|url|get|post|put|" +
			"patch|" +
			"Handle|HandleFunc|Add|Register)\\w*[ (]+(\"[^\"<>{}*:]+\"|'[^'<>{}*:]+'|`[^`<>{}*:$]+`),")},
	{"targets", []*lang.Language{lang.Make}, nil, rx.New(`^[\w.%/-]+ *:([^=]|$)`)},
	{"names to ignore", []*lang.Language{lang.Ignore}, nil, rx.New(`^[^!#\s]`)},
	{"dependencies", nil, nil, rx.New(`^([\w.-]+(==|>=|~=|<=).*|(gem|implementation|testImplementation|api|` +
		`require) ?[("']?.*|` +
		`[\w./-]+ v\d\S*)$`)},
}

// orderMatters is the reason where the order of two additions is not known to mean nothing.
const orderMatters = "their order may matter"

// OrderAlone reports whether nothing but the order of two additions keeps a way from being suggested.
func (q *Question) OrderAlone() bool { return q.Doubt == orderMatters }

// inTurn reports whether a place is in a list whose members are used one after the other, by the names of what it is
// in.
func (at place) inTurn() bool {
	return ordered.MatchString(at.around()) || anyOf(turns, wordsOf(at.opener()))
}

// unordered reports whether the order of lines that are added at a place is known not to matter.
func unordered(at place, yours, theirs []string) bool {
	language := lang.Of(at.path)
	if language.Is(lang.Prose) && !language.Is(lang.Tags) && paragraphs(yours) && paragraphs(theirs) {
		return true
	}
	if at.inTurn() && !keyedHeads(language, yours, theirs) {
		return false
	}
	if slices.Contains(decorated, language) && (decorates(yours) || decorates(theirs)) {
		return false
	}
	counted := at.counted()
	for _, head := range slices.Concat(outermost(language, yours), outermost(language, theirs)) {
		if imports := sets[language]; imports != nil && imports.MatchString(head) || at.member(head) {
			continue
		}
		known := slices.ContainsFunc(frees, func(f free) bool {
			return (f.in == nil || slices.Contains(f.in, language)) && !slices.Contains(f.not, language) &&
				f.line.MatchString(head)
		})
		if !known || counted && len(diff.Words(head)) < 3 {
			return false
		}
	}
	return true
}

// keyedHeads reports whether lines are entries with keys of a format whose entries have no order, whatever their keys
// are called.
func keyedHeads(language *lang.Language, lists ...[]string) bool {
	if language != lang.YAML && language != lang.TOML {
		return false
	}
	return !slices.ContainsFunc(outermost(language, slices.Concat(lists...)), func(head string) bool {
		return !keyLine.MatchString(head) || strings.HasPrefix(head, "-")
	})
}

// decorated are the languages whose decorators are functions that are applied one after the other.
var decorated = []*lang.Language{lang.Python, lang.JavaScript, lang.TypeScript, lang.TSX}

// decorates reports whether lines only decorate what follows.
func decorates(lines []string) bool {
	return !slices.ContainsFunc(lines, func(l string) bool { return !strings.HasPrefix(strings.TrimSpace(l), "@") })
}

// paragraphs reports whether lines are paragraphs or sections of their own: they begin or end with a blank line, or
// begin with a heading.
func paragraphs(lines []string) bool {
	first, last := strings.TrimSpace(lines[0]), strings.TrimSpace(lines[len(lines)-1])
	return first == "" || last == "" || heading.MatchString(first)
}

var (
	testFile   = rx.New(`(?i)(^|[/_.-])(tests?|spec)([/_.-]|$)`)
	testRow    = rx.New(`^[{(\[].*[})\]],$`)
	methodLine = rx.New(`^\w+\(.*\)( .*)?;?$`)
)

// member reports whether a line is a row of a test's table, or a method of an interface.
func (at place) member(head string) bool {
	if testFile.MatchString(at.path) && testRow.MatchString(head) || chained.MatchString(head) && at.building() {
		return true
	}
	if !methodLine.MatchString(head) || at.text == nil {
		return false
	}
	return strings.Contains(at.around(), "interface")
}

// building reports whether a place is in the calls that set up a builder.
func (at place) building() bool {
	if at.text == nil {
		return false
	}
	i := at.line
	for i > 0 && chained.MatchString(strings.TrimSpace(at.text.Yours[i])) {
		i--
	}
	return i >= 0 && builder.MatchString(at.text.Yours[i])
}

var builder = rx.New(`[bB]uilder\w*(<\w+>)?\(`)

// ordered matches the names of what is done or tried one after the other.
var ordered = rx.New(`(?i)\b(steps?|stages?|pipelines?|jobs?|plugins|middlewares?|handlers|filters|rules|order|` +
	`sequence|tasks|` +
	`before_script|script|after_script|commands?|migrations?|entrypoint|imports?)\b`)

// turns has words of the names of lists whose members are used one after the other.
const turns = "step steps stage stages pipeline plugin plugins middleware middlewares handler handlers filter " +
	"filters rule rules order sequence task tasks cell cells command commands migration migrations priority " +
	"priorities chain apps"

// opener returns the nearest line before the place that is less indented than it.
func (at place) opener() string {
	if at.text == nil {
		return ""
	}
	lines, in := at.text.Yours, -1
	if first := at.line + 1; first < len(lines) && at.line >= 0 && strings.TrimSpace(lines[first]) != "" &&
		len(indentOf(lines[first])) > len(indentOf(lines[at.line])) {
		in = len(indentOf(lines[first])) // the place begins what it is in
	}
	for i := at.line; i >= 0; i-- {
		l := lines[i]
		switch {
		case strings.TrimSpace(l) == "":
		case in < 0 && !strings.HasSuffix(strings.TrimSpace(l), "[") && !strings.HasSuffix(strings.TrimSpace(l), "("):
			in = len(indentOf(l))
		case in < 0 || len(indentOf(l)) < in:
			return l
		}
	}
	return ""
}

// around returns what the place is in, as Around does.
func (at place) around() string {
	if at.text == nil {
		return ""
	}
	return Around(at.path, at.text.Yours, at.line)
}

// counted reports whether one of the nearest lines before the place begins to count, so that each line has a number.
func (at place) counted() bool {
	lines := []string{at.before}
	if at.text != nil {
		lines = at.text.Yours[max(0, at.line-20) : at.line+1]
	}
	return slices.ContainsFunc(lines, func(l string) bool { return strings.Contains(l, "iota") })
}

// outermost returns the lines of the least indentation that begin something: no closing signs, comments, blank lines,
// or what annotates the next line.
func outermost(language *lang.Language, lines []string) (out []string) {
	least := -1
	for _, l := range lines {
		if in := len(indentOf(l)); strings.TrimSpace(l) != "" && (least < 0 || in < least) {
			least = in
		}
	}
	for _, l := range lines {
		text := strings.TrimSpace(l)
		if text == "" || len(indentOf(l)) > least || !strings.ContainsFunc(text, isWordRune) ||
			besideHead.MatchString(l) && !strings.HasPrefix(text, "@Test") && !strings.HasPrefix(text, "#[test") {
			continue
		}
		if strings.HasPrefix(text, "#") && slices.Contains(hashed, language) {
			continue
		}
		if text == "end" || strings.HasPrefix(text, "} ") || strings.HasPrefix(text, "EOF") {
			continue
		}
		out = append(out, text)
	}
	return out
}

func isWordRune(r rune) bool {
	return r == '_' || r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' || r >= 0x80
}

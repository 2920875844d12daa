package settle

import (
	"slices"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/rx"
)

// wholeAdditions merges the regions of two additions at one place if they are different things that share lines by
// chance, such as the ends of two functions. Only whole can they stand side by side. Additions that begin alike are
// two forms of one thing and stay divided.
func wholeAdditions(t *merge.Text) *merge.Text {
	out := *t
	out.Hunks = nil
	for i := 0; i < len(t.Hunks); {
		r, n, contested := t.Hunks[i], i, 0
		for n < len(t.Hunks) && t.Hunks[n].Base.Empty() && t.Hunks[n].Origin >= merge.FromBoth {
			r.Yours.Hi, r.Theirs.Hi = t.Hunks[n].Yours.Hi, t.Hunks[n].Theirs.Hi
			if t.Hunks[n].Origin == merge.Contested {
				contested++
			}
			n++
		}
		if n > i+1 && contested > 0 {
			yours, theirs := t.Yours[r.Yours.Lo:r.Yours.Hi], t.Theirs[r.Theirs.Lo:r.Theirs.Hi]
			if heads(yours) != heads(theirs) {
				r.Origin = merge.Contested
				out.Hunks = append(out.Hunks, r)
				i = n
				continue
			}
		}
		n = max(n, i+1)
		out.Hunks = append(out.Hunks, t.Hunks[i:n]...)
		i = n
	}
	return &out
}

// besideHead matches a line that can stand above the head of a block: an annotation, or the start of a comment.
var besideHead = rx.New(`^\s*(@|#\[|/\*\*?\s*$|\*|//|--|""")`)

// heads returns the line that names a block.
func heads(lines []string) string {
	for _, l := range lines {
		if strings.ContainsFunc(l, isWordRune) && !besideHead.MatchString(l) {
			return strings.TrimSpace(l)
		}
	}
	return ""
}

// apart returns what separates two blocks: as many blank lines as stand above them, unless one of them brings its own.
func apart(first, second []string, at place) string {
	blank := func(l string) bool { return strings.TrimSpace(l) == "" }
	if len(first) < 2 || len(second) < 2 || blank(first[len(first)-1]) || blank(second[0]) || !blank(at.before) ||
		at.before == "" || !strings.HasSuffix(first[len(first)-1], "\n") {
		return ""
	}
	return at.before
}

// clashes returns the reason why two additions cannot both stand: they name, set or number the same thing, or both end
// the function that they are in.
func clashes(at place, yours, theirs []string) string {
	if ends(yours) && ends(theirs) {
		return "both end it, in different ways"
	}
	if chained.MatchString(heads(yours)) && chained.MatchString(heads(theirs)) && !at.building() {
		return "both added a link to one chain, and their order matters"
	}
	a, b := namesOf(at.path, yours), namesOf(at.path, theirs)
	for name, line := range a {
		if other, ok := b[name]; ok && other != line {
			return "both name " + name + ", and mean different things"
		}
	}
	if at.sameLine(yours, theirs) {
		return "both added one line, with other numbers"
	}
	na, nb := numbersOf(yours), numbersOf(theirs)
	for _, n := range na {
		if slices.Contains(nb, n) {
			return "both took the number " + n
		}
	}
	if n := nextNumber(at.before); n.number != "" && !functions.MatchString(heads(yours)) && n.in(yours) &&
		n.in(theirs) {
		return "both took the number " + n.number
	}
	return ""
}

var anyNumber = rx.New(`\d+`)

// sameLine reports whether both sides added one line of the same form with different numbers. If lines beside them
// have the same form, it is a list.
func (at place) sameLine(yours, theirs []string) bool {
	says := func(lines []string) (shape string) {
		for _, l := range lines {
			if !telling(l) && strings.TrimSpace(l) != "" {
				return "" // not a single line
			}
			if l = strings.TrimSpace(anyNumber.ReplaceAllString(l, "0")); l != "" {
				if shape != "" {
					return ""
				}
				shape = l
			}
		}
		return shape
	}
	shape := says(yours)
	return shape != "" && shape == says(theirs) && shape != says([]string{at.before}) &&
		shape != says([]string{at.after})
}

// chained matches a link of a chain of calls.
var chained = rx.New(`^(\.\w+\(|\|>)`)

// functions matches the beginning of a function. Numbers inside belong to it.
var functions = rx.New(`\b(def|func|fn|fun|function|sub|proc)\b|\)\s*\{`)

// numbered is a line with one number and the text around it.
type numbered struct{ before, number, after string }

var (
	oneNumber = rx.New(`^(\D*?)\b(\d{1,9})\b(\D*)$`)
	anyWord   = rx.New(`\w+`)
)

// numberIn parses a line with one number.
func numberIn(line string) numbered {
	m := oneNumber.FindStringSubmatch(strings.TrimRight(line, "\r\n"))
	if m == nil {
		return numbered{}
	}
	return numbered{anyWord.ReplaceAllString(m[1], "w"), m[2], m[3]}
}

// nextNumber returns a line with the next number.
func nextNumber(line string) numbered {
	n := numberIn(line)
	if i, err := strconv.Atoi(n.number); err == nil {
		n.number = strconv.Itoa(i + 1)
	}
	return n
}

// in reports whether one of the lines has the same form.
func (n numbered) in(lines []string) bool {
	return slices.ContainsFunc(lines, func(l string) bool { return numberIn(l) == n })
}

var ending = rx.New(`^\s*(return|raise|throw|break|continue|panic|exit)\b`)

// ends reports whether the last line of statements leaves the enclosing block.
func ends(lines []string) bool {
	least := -1
	last := ""
	for _, l := range lines {
		if strings.TrimSpace(l) == "" {
			continue
		}
		if in := len(indentOf(l)); least < 0 || in <= least {
			least, last = in, l
		}
	}
	return ending.MatchString(last)
}

// declares matches the words before a declared name.
var declares = rx.New(`^(export|default|public|private|protected|internal|static|final|abstract|async|` +
	`override|const|let|var|val|mut|pub(\([^)]*\))?|func|fn|fun|function|def|class|struct|enum|interface|trait|type|` +
	`record|module|namespace|object|CREATE|TABLE|INDEX|VIEW|IF|NOT|EXISTS|OR|REPLACE|unsigned|int|void|string|String|` +
	`boolean|bool|double|float|char|long|auto|local|readonly|declare)\s+`)

// receiver matches the receiver of a Go method, which is part of its name.
var receiver = rx.New(`^func\s*\(\s*\w*\s*\*?(\w+)[^)]*\)\s*(\w+)`)

// namesOf returns what the outermost lines of a block declare, set, or are the entry of.
func namesOf(file string, lines []string) map[string]string {
	names := map[string]string{}
	least := -1
	sections := strings.HasPrefix(heads(lines), "[") // then only sections name entries
	for _, l := range lines {
		if in := len(indentOf(l)); strings.TrimSpace(l) != "" && (least < 0 || in < least) {
			least = in
		}
	}
	for _, l := range lines {
		text := strings.TrimSpace(l)
		if sections && !strings.HasPrefix(text, "[") {
			continue
		}
		if text == "" || len(indentOf(l)) > least || besideHead.MatchString(l) && !strings.HasPrefix(text, "#") {
			continue
		}
		if name := nameOf(file, text); name != "" {
			names[name] = text
		}
	}
	return names
}

// named has the lines whose name does not stand before a sign, for some languages or, without any, for all.
var named = []struct {
	in []*lang.Language
	*rx.Expr
}{
	{nil, rx.New(`^#\s*define\s+(\w+)`)},
	{[]*lang.Language{lang.Rust}, rx.New(`^([A-Z]\w*(?:::\w+)+)`)},
	{[]*lang.Language{lang.Ruby}, rx.New(`^def\s+((?:self\.)?[\w?!]+)`)},
	{nil, rx.New(`^(<[\w:.-]+\s[^>]*?\b(?:id|key|name|Include)=["'][^"']*["'])`)},
	// a call is identified by its first argument: a route, a test's title, a key
	{nil, rx.New("^([\\w.$]+\\(\\s*(?:\"[^\"]*\"|'[^']*'|`[^`]*`))")},
	// a row of values is identified by its first
	{nil, rx.New(`^[\[{(]\s*("[^"]*"|'[^']*'|[\w.-]+)\s*,[^:=]*[\]})],?$`)},
	{[]*lang.Language{lang.Go}, rx.New(`^(\w+)\s+[*\[\]\w.]+(?:\s+` + "`[^`]*`" + `)?$`)}, // a field
	{[]*lang.Language{lang.Java, lang.CSharp, lang.C, lang.CPlusPlus, lang.TypeScript, lang.Dart},
		rx.New(`^(?:[\w<>\[\], ]+\s)(\w+);$`)},
}

func nameOf(file, text string) string {
	if m := receiver.FindStringSubmatch(text); m != nil {
		return m[1] + "." + m[2]
	}
	language := lang.Of(file)
	switch {
	case language == lang.HTML: // HTML's elements are named below
	case language.Is(lang.Prose) && language.IsKnown():
		if strings.HasPrefix(text, "#") {
			return text
		}
		if row, ok := strings.CutPrefix(text, "|"); ok { // a row of a table is named by its first cell
			cell, _, _ := strings.Cut(row, "|")
			return strings.TrimSpace(cell)
		}
		return ""
	case language == lang.CSV:
		name, _, _ := strings.Cut(strings.ReplaceAll(text, "\t", ","), ",")
		return name
	}
	for _, one := range named {
		if one.in != nil && !slices.Contains(one.in, language) {
			continue
		}
		if m := one.FindStringSubmatch(text); m != nil {
			return m[1]
		}
	}
	if strings.HasPrefix(text, "#") || strings.HasPrefix(text, "[") {
		return text
	}
	for {
		rest := declares.ReplaceAllString(text, "")
		if rest == text {
			break
		}
		text = rest
	}
	i := strings.IndexAny(text, "(=:{<")
	if i <= 0 || strings.HasPrefix(text[i:], "==") {
		return ""
	}
	name := strings.TrimRight(strings.TrimSpace(text[:i]), "+-*/|&%!? ")
	if strings.HasPrefix(text[i:], "(") && !strings.HasSuffix(strings.TrimSpace(text), "{") &&
		!strings.HasSuffix(strings.TrimSpace(text), ":") && !strings.HasSuffix(strings.TrimSpace(text), "=") {
		return "" // a call can be made twice
	}
	if strings.HasSuffix(name, "if") || strings.HasSuffix(name, "for") || name == "while" || name == "switch" ||
		name == "else" || name == "with" || name == "try" || name == "catch" {
		return ""
	}
	return name
}

var (
	givenNumber = rx.New(`=\s*(\d+)\s*[;,]?\s*$|(<<\s*\d+)\)?\s*[;,]?\s*$|[\s=](0[xX][0-9a-fA-F]+)\s*[;,]?\s*$`)
	// the first value of a row that is put into a table
	rowNumber  = rx.New(`(?i)^\s*(?:insert\s.*values\s*)?\(\s*(\d+|'[^']*')\s*,`)
	leadNumber = rx.New(`^\s*(\d+)(?:[.)]\s|_|:(?:\D|$))`)
	leadTime   = rx.New(`^\s*(\d{1,2}:\d{2})\b`)
	headID     = rx.New(`^\s*\[\w+ [^\]]*\bid ?= ?["']?([\w:.-]+)`) // of a section
	ownID      = rx.New(`^\W*["']?id["']?\s*[:=]\s*["']?([\w-]+)`)
)

// numbersOf returns the numbers that lines assign to names or sort by.
func numbersOf(lines []string) (out []string) {
	for _, l := range lines {
		l = strings.TrimRight(l, "\r\n")
		for _, re := range []*rx.Expr{givenNumber, leadNumber, rowNumber, leadTime, headID, ownID} {
			if m := re.FindStringSubmatch(l); m != nil {
				out = append(out, strings.Join(m[1:], ""))
			}
		}
	}
	return out
}

package settle

import (
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/rx"
)

// structure tells for the atoms of a text by what they are separated. It knows brackets, quotes, comments, separators
// and the clauses of a query; it knows no grammar.
type structure struct {
	language *lang.Language
	prose    bool
	atoms    []string
	spots    []spot
	groups   []group
}

// The kinds of separators within a group, from the strongest.
const (
	byStatement = iota
	byClause
	byItem
	byWord // attributes, flags, settings in a row
	bySide // a name and its value
	separatorKinds
)

// spot is the place of an atom: its group, and its number among the parts of that, by each separator.
type spot struct {
	group   int
	part    [separatorKinds]int
	in      byte // the bracket that opened the group; 0 at the top
	words   bool // in a sentence or a comment
	comment bool
}

func (s spot) quoted() bool { return s.in == '"' || s.in == '\'' || s.in == '`' || s.in == '/' }

// group is what brackets or quotes enclose.
type group struct {
	open int // the atom that opens it; -1 at the top
}

// clause matches the words that begin a clause of a query.
var clause = rx.New(`(?i)^(select|from|where|group|order|having|limit|set|values|returning|union)$`)

// declaration matches the beginning of a statement that declares something.
var declaration = rx.New(`^\s*(export|default|public|private|protected|internal|static|abstract|async|override|` +
	`pub|func|fn|fun|` +
	`function|def|class|struct|enum|interface|trait|type|record)\b|` +
	`^\s*([\w<>\[\],.?*&:]+\s+)+\**\w+\s*\([^;=]*\)[^;=]*\{\s*$`)

// column matches the definition of a column of a table.
var column = rx.New(`(?i)^\s*["\x60]?\w+["\x60]?\s+(\w*int(eger)?|serial|\w*text|\w*char|date\w*|time\w*|bool\w*|` +
	`numeric|decimal|real|double|float|uuid|json\w*|blob|bytea)\b`)

// control matches statements that are no declaration though they look like one.
var control = rx.New(`^\s*\}?\s*(return|else|throw|new|await|if|for|while|switch|catch|case|elif)\b`)

// structureOf reads a text.
func structureOf(file string, atoms []string) *structure {
	language := lang.Of(file)
	prose := language.Is(lang.Prose) && !language.Is(lang.Tags) && !pinned[path.Base(file)]
	s := &structure{language: language, prose: prose, atoms: atoms, spots: make([]spot, len(atoms)),
		groups: []group{{open: -1}}}
	r := &structureReader{language: language, s: s, file: file, levels: []spot{{}}}
	for i := range atoms {
		r.read(i)
	}
	return r.s
}

// structureReader reads atom by atom. levels has the present spot of each open group.
type structureReader struct {
	language *lang.Language
	s        *structure
	file     string
	levels   []spot
	asked    bool // a question mark stands before, whose colon separates no value
}

func (r *structureReader) top() *spot { return &r.levels[len(r.levels)-1] }

// controls matches what stands before a condition in brackets.
var controls = rx.New(`^(if|while|for|switch|until|unless)$`)

// next begins a new part by a separator. The numbers of weaker ones go on with it.
func (r *structureReader) next(by int) {
	t := r.top()
	for k := by; k < separatorKinds; k++ {
		t.part[k]++
	}
}

func (r *structureReader) read(i int) {
	a := r.s.atoms[i]
	if r.s.prose {
		r.sentence(i, a)
		return
	}
	t := r.top()
	r.s.spots[i] = *t
	if t.quoted() {
		if a == string(t.in) && (i == 0 || r.s.atoms[i-1] != `\`) || strings.Contains(a, "\n") && t.in != '`' {
			r.close()
			r.s.spots[i] = *r.top()
		}
		return
	}
	switch {
	case t.comment && !strings.Contains(a, "\n"):
	case r.comments(i):
		r.next(byClause)
		r.top().comment, r.top().words = true, true
		r.s.spots[i] = *r.top()
	case r.quotes(i, a):
		r.open(i, a[0])
	case opensAtom(a), a == "<" && r.tag(i):
		r.open(i, a[0])
	case closes(a), a == ">" && t.in == '<':
		open := r.s.groups[t.group].open
		r.close()
		r.s.spots[i] = *r.top()
		if a == ")" && open > 0 && controls.MatchString(strings.TrimSpace(strings.Join(r.s.atoms[max(0, open-2):open],
			""))) {
			r.next(byClause)
		}
	default:
		r.separate(i, a)
	}
}

// sentence reads a text of sentences: they end with a sign, a blank line, or where a line begins like an item.
func (r *structureReader) sentence(i int, a string) {
	t := r.top()
	t.words = true
	r.s.spots[i] = *t
	after := ""
	if i+1 < len(r.s.atoms) {
		after = r.s.atoms[i+1]
	}
	switch {
	case a == "]" && r.box(i):
		r.next(byClause)
	case (a == "." || a == "!" || a == "?") && (after == "" || strings.TrimSpace(after) == ""):
		r.next(byStatement)
	case strings.Contains(a, "\n") && (after == "" || strings.Contains(after, "\n") || item.MatchString(after) ||
		r.short(i)):
		r.next(byStatement)
	}
}

// box reports whether a bracket closes the box of an item that can be ticked.
func (r *structureReader) box(i int) bool {
	return i >= 4 && r.s.atoms[i-2] == "[" && item.MatchString(r.s.atoms[i-4]) && strings.TrimSpace(
		r.s.atoms[i-3]) == ""
}

// short reports whether the line that ends at an atom is too short to go on in the next one.
func (r *structureReader) short(i int) bool {
	const wrapped = 40 // characters
	n := 0
	for k := i - 1; k >= 0 && !strings.Contains(r.s.atoms[k], "\n"); k-- {
		n += len(r.s.atoms[k])
	}
	return n < wrapped
}

var item = rx.New(`^([-*+#>|]|\d+[.)])`)

// comments reports whether a comment begins.
func (r *structureReader) comments(i int) bool {
	a, blank := r.s.atoms[i], i == 0 || strings.TrimSpace(r.s.atoms[i-1]) == ""
	twice := i+1 < len(r.s.atoms) && r.s.atoms[i+1] == a
	switch {
	case a == ";":
		return blank && r.language == lang.INI
	case a == "#":
		return blank && (slices.Contains(hashed, r.language) || !r.language.IsKnown())
	case a == "-":
		return twice && blank && slices.Contains(dashed, r.language)
	case a == "/":
		star := i+1 < len(r.s.atoms) && r.s.atoms[i+1] == "*"
		return (twice || star) && (i == 0 || r.s.atoms[i-1] != ":") && !slices.Contains(hashed, r.language)
	}
	return false
}

// quotes reports whether a quote begins. A single one that does not close in its line is an apostrophe.
func (r *structureReader) quotes(i int, a string) bool {
	if a != `"` && a != "'" && a != "`" && !r.expression(i) {
		return false
	}
	for _, next := range r.s.atoms[i+1:] {
		if next == a {
			return true
		}
		if strings.Contains(next, "\n") && a != "`" {
			return false
		}
	}
	return false
}

// matching are the languages with regular expressions between slashes.
var matching = []*lang.Language{lang.JavaScript, lang.TypeScript, lang.TSX, lang.Vue, lang.Ruby}

// expression reports whether a slash begins a regular expression: nothing that it could divide stands before it.
func (r *structureReader) expression(i int) bool {
	if r.s.atoms[i] != "/" || !slices.Contains(matching, r.language) {
		return false
	}
	for i--; i >= 0 && strings.TrimSpace(r.s.atoms[i]) == ""; i-- {
	}
	return i >= 0 && strings.ContainsAny(r.s.atoms[i], "=(,:!&|?{;[")
}

// tag reports whether a tag begins.
func (r *structureReader) tag(i int) bool {
	return r.language.Is(lang.Tags) && i+1 < len(r.s.atoms) && (diff.IsWord(r.s.atoms[i+1]) || r.s.atoms[i+1] == "/")
}

func (r *structureReader) open(i int, bracket byte) {
	r.s.groups = append(r.s.groups, group{open: i})
	r.levels = append(r.levels, spot{group: len(r.s.groups) - 1, in: bracket})
}

func (r *structureReader) close() {
	if len(r.levels) > 1 {
		r.levels = r.levels[:len(r.levels)-1]
	}
}

// separate reads an atom that may separate parts.
func (r *structureReader) separate(i int, a string) {
	t := r.top()
	before, after := r.around(i)
	switch {
	case strings.Contains(a, "\n"):
		r.asked = false
		if t.comment {
			t.comment, t.words = false, false
			r.next(byStatement)
			return
		}
		if t.in != '(' && t.in != '[' && t.in != '<' && !r.goesOn(i) {
			r.next(byStatement)
		} else if t.in == '<' {
			r.next(byWord)
		}
	case a == ";":
		r.next(byStatement)
	case r.language == lang.SQL && clause.MatchString(a), r.language == lang.Dockerfile && a == "AS",
		r.language == lang.Python && t.in != 0 && (a == "for" || a == "if"),
		r.language == lang.Ruby && t.in == 0 && (a == "if" || a == "unless"),
		r.language == lang.Shell && t.in == 0 && r.piped(a, before, after):
		r.next(byClause)
		r.s.spots[i] = *r.top()
	case a == ",":
		r.next(byItem)
	case a == "?":
		r.asked = true
	case r.sides(a, before, after):
		r.next(bySide)
	case strings.TrimSpace(a) == "" && (t.in == '<' || t.in == 0 && r.flag(i)):
		r.next(byWord)
	}
}

func (r *structureReader) around(i int) (before, after string) {
	if i > 0 {
		before = r.s.atoms[i-1]
	}
	if i+1 < len(r.s.atoms) {
		after = r.s.atoms[i+1]
	}
	return before, after
}

// sides reports whether a sign separates a name from its value. In a query it may compare.
func (r *structureReader) sides(a, before, after string) bool {
	blank := strings.TrimSpace(after) == ""
	switch a {
	case "=":
		compares := before != "" && strings.ContainsAny(before[len(before)-1:], "=!<>") ||
			after != "" && strings.ContainsAny(after[:1], "=~")
		return !compares && (r.language != lang.SQL || r.setting())
	case ":":
		return blank && !r.asked && r.top().in != '['
	case ">":
		return before == "=" || before == "-"
	}
	return false
}

// setting reports whether the clause of a query sets columns.
func (r *structureReader) setting() bool {
	for i := len(r.s.atoms) - 1; i >= 0; i-- {
		if r.s.spots[i].part[byClause] == r.top().part[byClause] && r.s.spots[i].group == r.top().group &&
			strings.EqualFold(r.s.atoms[i], "set") {
			return true
		}
	}
	return false
}

// piped reports whether a sign separates two commands of a pipeline, or a command and its file.
func (r *structureReader) piped(a, before, after string) bool {
	return (a == "|" || a == ">") && strings.TrimSpace(before) == "" && (strings.TrimSpace(after) == "" || after == ">")
}

// commanding are the languages whose lines are commands with flags.
var commanding = []*lang.Language{lang.Shell, lang.Make, lang.Dockerfile}

// flag reports whether a blank stands before a flag or before a name that is set.
func (r *structureReader) flag(i int) bool {
	next := func(k int) string {
		if i+k < len(r.s.atoms) {
			return r.s.atoms[i+k]
		}
		return ""
	}
	if next(1) == "-" && diff.IsWord(next(2)) && slices.Contains(commanding, r.language) {
		return true
	}
	return next(1) == "-" && next(2) == "-" || diff.IsWord(next(1)) && next(2) == "=" && next(3) != "=" &&
		strings.TrimSpace(next(3)) != ""
}

// goesOn reports whether the line that ends at an atom and the next one are one statement.
func (r *structureReader) goesOn(i int) bool {
	lo := i
	for lo > 0 && !strings.Contains(r.s.atoms[lo-1], "\n") {
		lo--
	}
	hi := i + 1
	for hi < len(r.s.atoms) && !strings.Contains(r.s.atoms[hi], "\n") {
		hi++
	}
	text := func(lo, hi int) string { return strings.TrimSpace(strings.Join(r.s.atoms[lo:hi], "")) }
	this, next := text(lo, i), text(i+1, hi)
	switch {
	case r.language == lang.SQL:
		return !strings.HasSuffix(this, ";")
	case r.language.Is(lang.Settings), pinned[path.Base(r.file)], this == "", next == "":
		return false
	}
	return endsOpen.MatchString(this) || goesBack.MatchString(next)
}

// What a line ends with that goes on in the next one, and what it begins with if it goes on from the one before.
var (
	endsOpen = rx.New(`(&&|\|\||[-+*/%=(?.\\]|\b(and|or|AND|OR))$`)
	goesBack = rx.New(`^(&&|\|\||[+*/%?.]|(and|or|AND|OR)\b)`)
)

// same reports whether two atoms are in one part of one group.
func (s *structure) same(i, k int) bool {
	a, b := s.spots[i], s.spots[max(0, min(k, len(s.spots)-1))]
	for a.group != b.group && b.group > a.group {
		b = s.spots[s.groups[b.group].open]
	}
	for a.group != b.group && a.group > b.group {
		a = s.spots[s.groups[a.group].open]
	}
	return a.group == b.group && a.part == b.part
}

// paths returns the spots of an atom from the outermost group to its own.
func (s *structure) paths(i int) (out []spot) {
	for at := s.spots[i]; ; at = s.spots[s.groups[at.group].open] {
		out = append(out, at)
		if s.groups[at.group].open < 0 {
			slices.Reverse(out)
			return out
		}
	}
}

// shared returns what two edits at atoms i and k stand in together, or an empty string if something
// separates them. put is what the one in a comment puts in, if one is.
func (s *structure) shared(i, k int, put string) string {
	a, b := s.paths(i), s.paths(k)
	n := 0
	for n < len(a) && n < len(b) && a[n].group == b[n].group {
		by := slices.IndexFunc([]int{byStatement, byClause, byItem, byWord, bySide}, func(by int) bool {
			return a[n].part[by] != b[n].part[by]
		})
		if by >= 0 {
			return s.separated(by, a[n], b[n], i, k, put)
		}
		n++
	}
	if s.block(a, b, n) || s.language == lang.Go && (a[len(a)-1].in == '`') != (b[len(b)-1].in == '`') {
		return "" // such as the type of a field and its tag
	}
	switch {
	case s.prose || a[len(a)-1].comment:
		return "one sentence"
	case s.statement(i, declaration), s.tags(a, b), s.language == lang.SQL && s.begins(i, column):
		if n < max(len(a), len(b)) && !a[len(a)-1].quoted() || s.parted(i, k) {
			return "" // the parts of a declaration
		}
	}
	if a[len(a)-1].quoted() && n == len(a) && n == len(b) {
		return "one value"
	}
	return "one expression"
}

// parted reports whether a sign that ends a part of a declaration stands between two atoms.
func (s *structure) parted(i, k int) bool {
	return slices.ContainsFunc(s.atoms[min(i, k)+1:max(i, k, min(i, k)+1)], func(a string) bool {
		return a == ")" || a == ">" || a == "{" || a == ":"
	})
}

// block reports whether one of two spots is in a block of lines and the other before it: they are statements of their
// own.
func (s *structure) block(a, b []spot, n int) bool {
	longer := a
	if len(b) > len(a) {
		longer = b
	}
	if n != min(len(a), len(b)) || len(a) == len(b) {
		return false
	}
	open := s.groups[longer[n].group].open
	after := strings.Join(s.atoms[open+1:min(open+3, len(s.atoms))], "")
	return s.atoms[open] == "{" && strings.Contains(after, "\n")
}

// tags reports whether one of two spots is within a tag.
func (s *structure) tags(a, b []spot) bool {
	in := func(list []spot) int { return slices.IndexFunc(list, func(p spot) bool { return p.in == '<' }) }
	return in(a) >= 0 || in(b) >= 0
}

// calls reports whether an edit gives another name to what is called with an atom among its arguments.
func (s *structure) calls(e edited, argument int) bool {
	if e.from == e.to || s.statement(e.from, declaration) || s.begins(e.from, raising) {
		return false
	}
	if slices.Contains(commanding, s.language) && s.leads(e.from) && e.to <= argument &&
		!strings.Contains(strings.Join(s.atoms[e.from:argument], ""), "\n") {
		return true // a command, and its arguments
	}
	for at := s.spots[argument]; s.groups[at.group].open > 0; at = s.spots[s.groups[at.group].open] {
		if open := s.groups[at.group].open; at.in == '(' && e.from < open && open <= e.to && isName(s.atoms[open-1]) {
			return true
		}
	}
	return false
}

// separated returns what two atoms that a separator divides stand in together all the same, or an empty string.
func (s *structure) separated(by int, a, b spot, i, k int, put string) string {
	switch by {
	case byStatement:
		if a.comment != b.comment && s.above(i, k) && s.tells(i, k, put) {
			return "one value and the comment about it"
		}
	case byClause:
		if a.comment != b.comment && s.tells(i, k, put) {
			return "one value and the comment about it"
		}
		return ""
	case byItem:
		if a.in == 0 && s.atoms[i] != "" && !s.named(a) && !s.named(b) {
			return "one row"
		}
		listed := (a.in == '(' || a.in == '[') && !s.statement(i, declaration) ||
			a.in == '{' && slices.Contains(literals, s.language)
		if listed && !s.begins(i, titled) && !s.named(a) && !s.named(b) &&
			!(a.in == '[' && s.quotedItem(a) && s.quotedItem(b)) {
			return "one call or list"
		}
	}
	return ""
}

// raising matches statements that raise an error, whose kind and text are independent.
var raising = rx.New(`^\s*(raise|throw)\b`)

// leads reports whether an atom is the first word of its line.
func (s *structure) leads(i int) bool {
	for i--; i >= 0 && strings.TrimSpace(s.atoms[i]) == "" && !strings.Contains(s.atoms[i], "\n"); i-- {
	}
	return i < 0 || strings.Contains(s.atoms[i], "\n")
}

// titled matches the beginning of a test, whose title says nothing about its other arguments.
var titled = rx.New(`^\s*(it|test|describe|context|specify|t\.Run)(\.\w+)?\(`)

// literals are the languages in which braces hold values in their order.
var literals = []*lang.Language{lang.Go, lang.C, lang.CPlusPlus, lang.ObjectiveC, lang.Java, lang.CSharp}

// above reports whether a comment, in which one of two atoms is, stands in the line above the other.
func (s *structure) above(i, k int) bool {
	if s.spots[k].comment {
		i, k = k, i
	}
	return i < k && strings.Count(strings.Join(s.atoms[i:k], ""), "\n") == 1
}

// item returns the text of the item of an atom in its group.
func (s *structure) item(at spot) string {
	var out strings.Builder
	for i, p := range s.spots {
		for p.group > at.group {
			p = s.spots[s.groups[p.group].open]
		}
		if p.group == at.group && p.part[byItem] == at.part[byItem] && p.part[byStatement] == at.part[byStatement] {
			out.WriteString(s.atoms[i])
		}
	}
	return strings.TrimLeft(out.String(), ", \t\n")
}

var (
	namedItem  = rx.New(`^[\w."'$@-]+\s*[:=]|^(\w[\w<>\[\].*&?]*\s+)+[*&]?\w+\s*(=|$|\))`)
	quotedItem = rx.New("^(\"[^\"]*\"|'[^']*'|`[^`]*`)\\W*$")
)

// named reports whether the item of an atom has a name, so that its place among the others means nothing.
func (s *structure) named(at spot) bool { return namedItem.MatchString(s.item(at)) }

func (s *structure) quotedItem(at spot) bool { return quotedItem.MatchString(s.item(at)) }

// statement reports whether the statement of an atom begins as an expression says, and controls nothing.
func (s *structure) statement(i int, begins *rx.Expr) bool {
	return s.begins(i, begins) && !s.begins(i, control)
}

// begins reports whether the line of an atom begins as an expression says.
func (s *structure) begins(i int, begins *rx.Expr) bool {
	for i > 0 && !strings.Contains(s.atoms[i-1], "\n") {
		i--
	}
	end := i
	for end < len(s.atoms) && !strings.Contains(s.atoms[end], "\n") {
		end++
	}
	return begins.MatchString(strings.Join(s.atoms[i:end], ""))
}

// number matches numbers in digits or words.
var number = rx.New(`(?i)\d|\b(one|two|three|four|five|six|seven|eight|nine|ten|twelve|twenty|thirty|forty|fifty|` +
	`hundred|half|` +
	`double|twice|no|never|always|true|false|on|off)\b`)

// tells reports whether the comment of one of two atoms states a fact that the code beside it may change, or does so
// with what is put in.
func (s *structure) tells(i, k int, put string) bool {
	at := i
	if s.spots[k].comment {
		at = k
	}
	var text strings.Builder
	for n, p := range s.spots {
		if p.comment && p.part == s.spots[at].part {
			text.WriteString(s.atoms[n])
		}
	}
	return number.MatchString(text.String() + " " + put)
}

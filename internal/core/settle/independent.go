package settle

import (
	"slices"
	"strings"
	"unicode"

	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/rx"
)

// Two edits of one place can be woven if one does not depend on the other. Unless the text shows that, they do: what
// stands in one expression, value, clause or sentence was thought of together. It is shown by what separates them
// (statements, entries, named arguments, a name and its value), or by what one of them does: it gives something a new
// name everywhere, is put around everything, mends a spelling, or changes blanks only.

// edited is an edit of one side in the atoms of the base.
type edited struct {
	from, to int
	put      []string
}

// text is what the edit is called by: what it puts, or else what it takes out.
func (e edited) text(base []string) string {
	text := strings.TrimSpace(strings.Join(e.put, ""))
	if text == "" {
		text = strings.TrimSpace(strings.Join(base[e.from:e.to], ""))
	}
	return short(text)
}

// short returns the beginning of a text, in one line.
func short(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	const most = 24
	if r := []rune(text); len(r) > most {
		text = string(r[:most-1]) + "…"
	}
	return text
}

// editsOf returns a side's edits that change more than blanks outside quotes. An insertion that begins with what
// follows it is moved behind that, so that what closes a bracket comes last, and the end of a line.
func editsOf(base []string, side edits, in *structure) (out []edited) {
	for _, e := range side.list {
		one := edited{e.A0, e.A1, slices.Clone(side.atoms[e.B0:e.B1])}
		blank := strings.TrimSpace(strings.Join(slices.Concat(one.put, base[one.from:one.to]), "")) == ""
		if blank && (len(base) == 0 || !in.spots[max(0, min(one.from, len(base)-1))].quoted()) {
			continue
		}
		for one.from == one.to && one.to < len(base) && base[one.to] == one.put[0] &&
			(closes(one.put[0]) || one.put[0] == "\n") {
			one.put = append(one.put[1:], one.put[0])
			one.from, one.to = one.from+1, one.to+1
		}
		out = append(out, one)
	}
	return out
}

// weighed is a place whose edits are compared.
type weighed struct {
	at           place
	base         []string
	structure    *structure
	yours, their []edited
}

// independent reports whether the edits of both sides show that they do not depend on each other, and names the first
// of each. If they do not, why tells what they share.
func (at place) independent() (mine, other, why string, ok bool) {
	b, both := at.atoms.base, at.atoms.sides()
	w := weighed{at: at, base: b, structure: structureOf(at.path, b)}
	w.yours, w.their = editsOf(b, both[0], w.structure), editsOf(b, both[1], w.structure)
	if len(w.yours) == 0 || len(w.their) == 0 {
		return "", "", "", true // one of them changed blanks only
	}
	if len(b) == 0 {
		return w.yours[0].text(b), w.their[0].text(b), "one place", false
	}
	mine, other = w.yours[0].text(b), w.their[0].text(b)
	freeYours, aroundYours := w.free(w.yours, at.side(true))
	freeTheirs, aroundTheirs := w.free(w.their, at.side(false))
	for i, y := range w.yours {
		for j, t := range w.their {
			if freeYours[i] || freeTheirs[j] || within(t, aroundYours[i]) || within(y, aroundTheirs[j]) {
				continue
			}
			if why := w.shared(y, t); why != "" {
				return y.text(b), t.text(b), why, false
			}
		}
	}
	return mine, other, "", true
}

// side returns the lines of the whole file of one side.
func (at place) side(yours bool) []string {
	switch {
	case at.text == nil:
		return nil
	case yours:
		return at.text.Yours
	}
	return at.text.Theirs
}

// span is a range of atoms.
type span struct{ lo, hi int }

// within reports whether an edit lies in a range that something was put around.
func within(e edited, around *span) bool {
	return around != nil && e.from >= around.lo && e.to <= around.hi
}

// free marks the edits that no other edit of the place can depend on, and returns for others the range that they put
// something around.
func (w weighed) free(list []edited, file []string) (free []bool, around []*span) {
	free, around = make([]bool, len(list)), make([]*span, len(list))
	for i, e := range list {
		free[i] = w.renames(e, file) || w.spelling(e) || w.quotes(e)
		for j := i + 1; j < len(list); j++ {
			if w.wraps(e, list[j]) {
				s := &span{e.from, list[j].from}
				around[i], around[j] = s, s
				break
			}
		}
	}
	return free, around
}

// renames reports whether an edit gives a name another one, as the side did everywhere in the file.
func (w weighed) renames(e edited, file []string) bool {
	if e.to-e.from != 1 || len(e.put) != 1 || !isName(w.base[e.from]) || !isName(e.put[0]) || w.at.text == nil {
		return false
	}
	return countOf(w.at.text.Base, w.base[e.from]) > 1 && countOf(file, w.base[e.from]) == 0
}

// countOf counts a word in lines.
func countOf(lines []string, word string) (n int) {
	for _, l := range lines {
		if !strings.Contains(l, word) {
			continue
		}
		for _, a := range Atoms(l) {
			if a == word {
				n++
			}
		}
	}
	return n
}

// quotes reports whether an edit puts one kind of quotes instead of another.
func (w weighed) quotes(e edited) bool {
	return e.to-e.from == 1 && len(e.put) == 1 && w.base[e.from] != e.put[0] && (w.base[e.from] == `"` ||
		w.base[e.from] ==
			"'") && (e.put[0] == `"` || e.put[0] == "'")
}

// spelling reports whether an edit of a sentence mends a long word: it puts in or takes out one letter, but for a
// plural, or swaps two.
func (w weighed) spelling(e edited) bool {
	if e.to-e.from != 1 || len(e.put) != 1 || !w.structure.spots[e.from].words {
		return false
	}
	long, short := w.base[e.from], e.put[0]
	if swapped(long, short) {
		return true
	}
	if len(long) < len(short) {
		long, short = short, long
	}
	if len(short) < 4 || len(long) != len(short)+1 || long == short+"s" ||
		strings.ContainsFunc(long, func(r rune) bool { return !unicode.IsLetter(r) }) {
		return false
	}
	for i := range long {
		if long[:i]+long[i+1:] == short {
			return true
		}
	}
	return false
}

// swapped reports whether two long words differ in two letters that changed places.
func swapped(a, b string) bool {
	if len(a) != len(b) || len(a) < 4 || a == b {
		return false
	}
	i := 0
	for a[i] == b[i] {
		i++
	}
	return i+1 < len(a) && a[i] == b[i+1] && a[i+1] == b[i] && a[i+2:] == b[i+2:]
}

// call matches what opens a call that is put around something.
var call = rx.New(`^[\w.:!]*\w\($`)

// field matches what makes the value after it a field of an object or a table.
var field = rx.New(`^\{\s*"?\w+"?\s*[=:]$`)

// wraps reports whether two insertions put a call around everything between two separators.
func (w weighed) wraps(open, end edited) bool {
	if open.from != open.to || end.from != end.to {
		return false
	}
	before, after := strings.TrimSpace(strings.Join(open.put, "")), strings.TrimSpace(strings.Join(end.put, ""))
	if before == after && (before == `"` || before == "'") {
		return w.structure.same(open.from, end.from-1) // quotes
	}
	if field.MatchString(before) && strings.HasSuffix(after, "}") && balance(after) == -1 {
		return w.structure.same(open.from, end.from-1) // a value becomes a field of several
	}
	if strings.HasSuffix(before, "{") && balance(before) == 1 && after == "}" {
		left := w.beside(open.from-1, -1) // a block around statements
		return left == "" || strings.ContainsAny(left, "\n;{}")
	}
	if !call.MatchString(before) || !strings.HasSuffix(after, ")") || balance(after) >= 0 {
		return false
	}
	left, right := w.beside(open.from-1, -1), w.beside(end.from, 1)
	begins := left == "" || strings.ContainsAny(left, "=([{,;:\n>") || left == "return" || left == "yield" ||
		left == "in"
	finishes := right == "" || strings.ContainsAny(right, ")]},;\n:") || strings.HasPrefix(right, "//") || right == "{"
	return begins && finishes && w.structure.same(open.from, end.from-1)
}

// beside returns the next atom in a direction that is no blank; a line end counts as an atom.
func (w weighed) beside(i, step int) string {
	for ; i >= 0 && i < len(w.base); i += step {
		if strings.Contains(w.base[i], "\n") {
			return "\n"
		}
		if strings.TrimSpace(w.base[i]) != "" {
			return w.base[i]
		}
	}
	return ""
}

// shared returns what two edits stand in together, or an empty string if something separates them.
func (w weighed) shared(y, t edited) string {
	p := twoEdits{w, y, t, w.structure.spots[w.spotOf(y)], w.structure.spots[w.spotOf(t)], w.adds(y), w.adds(t)}
	for _, r := range together {
		if r.holds(p) {
			return r.in
		}
	}
	i, k, told := w.spotOf(y), w.spotOf(t), y
	if w.structure.spots[k].comment {
		told = t
	}
	return w.structure.shared(i, k, strings.Join(told.put, ""))
}

// twoEdits are an edit of each side, where they stand, and whether each adds an item.
type twoEdits struct {
	weighed
	y, t                 edited
	mine, other          spot
	addsMine, addsTheirs bool
}

// begins reports whether the line of the edits begins as an expression says.
func (p twoEdits) begins(re *rx.Expr) bool { return p.structure.begins(p.spotOf(p.y), re) }

// put returns what each edit puts in.
func (p twoEdits) put() (mine, other string) {
	return strings.Join(p.y.put, ""), strings.Join(p.t.put, "")
}

// together are the rules about two edits, of which the first that holds decides; if none does, the structure of the
// text decides. Each says what the edits are in together, or nothing if they are independent.
var together = []struct {
	in    string
	holds func(p twoEdits) bool
}{
	{"one call", func(p twoEdits) bool { // the name of what is called, and its arguments
		return p.structure.calls(p.y, p.spotOf(p.t)) || p.structure.calls(p.t, p.spotOf(p.y))
	}},
	{"one declaration: its names have one type", func(p twoEdits) bool {
		return p.addsMine != p.addsTheirs && p.mine.group == p.other.group && p.begins(variables) && (p.names(p.y) ||
			p.names(p.t))
	}},
	{"", func(p twoEdits) bool { // a new item beside an edit of another, or a new line beside an item in a line
		mine, other := p.put()
		return (p.addsMine != p.addsTheirs || p.line(p.y) != p.line(p.t)) && balance(mine) == 0 && balance(other) == 0
	}},
	{"", func(p twoEdits) bool { // new items of two lists, or parameters at two points
		return p.addsMine && p.addsTheirs && (p.mine.group != p.other.group ||
			p.y.from != p.t.from && p.structure.statement(p.y.from, functions))
	}},
	{"one loop", func(p twoEdits) bool {
		return p.begins(loop) && p.mine.part[byStatement] != p.other.part[byStatement] && p.counts(p.y) && p.counts(p.t)
	}},
	{"", func(p twoEdits) bool { // the kind of an error and its text
		return p.mine.quoted() != p.other.quoted() && p.begins(raising)
	}},
	{"one declaration: both let it be nothing", func(p twoEdits) bool {
		mine, other := p.put()
		return mayBeNothing.MatchString(mine) && mayBeNothing.MatchString(other)
	}},
	{"one declaration: whether it may be nothing depends on its type", func(p twoEdits) bool {
		return p.empties(p.y) != p.empties(p.t) && p.mine.part[bySide] != p.other.part[bySide] &&
			p.mine.group == p.other.group && p.mine.part[byClause] == p.other.part[byClause]
	}},
}

// variables matches the declaration of several names that have one type.
var variables = rx.New(`^\s*(var|const)\s+\w+`)

// names reports whether an edit adds a name without a type.
func (w weighed) names(e edited) bool { return bareName.MatchString(strings.Join(e.put, "")) }

var bareName = rx.New(`^,\s*\w+$|^\w+,\s*$`)

// loop matches the head of a loop that counts.
var loop = rx.New(`^\s*for\b[^{]*;`)

// counts reports whether an edit changes numbers and signs alone.
func (w weighed) counts(e edited) bool {
	return !strings.ContainsFunc(strings.Join(slices.Concat(w.base[e.from:e.to], e.put), ""), unicode.IsLetter)
}

// empties reports whether an edit puts in that there is no value.
func (w weighed) empties(e edited) bool {
	return noValue.MatchString(strings.TrimSpace(strings.Join(e.put, "")))
}

// mayBeNothing matches what makes a type one whose value may be missing.
var mayBeNothing = rx.New(`^\s*\?:?$|\|\s*(null|undefined|None)\b|\b(Optional|Option|Nullable)\b`)

var noValue = rx.New(`^(null|nil|None|undefined|nullptr)$`)

// adds reports whether an edit only adds an item, with what separates it from the others.
func (w weighed) adds(e edited) bool {
	if e.from != e.to {
		return false
	}
	text := strings.TrimSpace(strings.Join(e.put, ""))
	s := w.structure.spots[w.spotOf(e)]
	if s.words || s.quoted() || balance(text) != 0 {
		return false
	}
	whole := strings.Join(e.put, "")
	if slices.Contains(commanding, w.structure.language) && newFlag.MatchString(whole) ||
		w.structure.language == lang.Go && structTag.MatchString(text) {
		return true
	}
	return strings.HasPrefix(whole, " --") || strings.HasPrefix(text, ",") || strings.HasSuffix(text, ",") ||
		strings.HasSuffix(text, ";") ||
		strings.HasPrefix(text, ";") || strings.HasSuffix(strings.TrimRight(whole, " \t"), "\n") && !continues(text) ||
		s.in == '<' && strings.HasPrefix(whole, " ") && attribute.MatchString(text)
}

// line reports whether an edit only adds whole lines that do not continue the one before.
func (w weighed) line(e edited) bool {
	text := strings.Join(e.put, "")
	return w.adds(e) && strings.HasSuffix(text, "\n") && (e.from == 0 || strings.HasSuffix(w.base[e.from-1], "\n"))
}

// structTag matches the tag of a field, which says nothing of its type.
var structTag = rx.New("^`[^`]*`$")

// newFlag matches a flag without a value.
var newFlag = rx.New(`^ +-\w+$|^-\w+ +$`)

var attribute = rx.New(`^[\w:.@-]+(=("[^"]*"|'[^']*'|\{[^}]*\}))?$`)

// balance counts the brackets that a text opens and does not close.
func balance(text string) (n int) {
	for _, r := range text {
		switch r {
		case '(', '[', '{':
			n++
		case ')', ']', '}':
			n--
		}
	}
	return n
}

// spotOf returns the atom whose place an edit has.
func (w weighed) spotOf(e edited) int {
	at := e.from
	if e.from == e.to && at > 0 && !opensAtom(w.base[at-1]) {
		at--
	}
	return max(0, min(at, len(w.base)-1))
}

func opensAtom(s string) bool { return s == "(" || s == "[" || s == "{" }

func closes(s string) bool { return s == ")" || s == "]" || s == "}" }

// continues reports whether a line goes on in the next one, or goes on from the one before.
func continues(line string) bool {
	line = strings.TrimSpace(line)
	return line == "" || goesBack.MatchString(line) || endsOpen.MatchString(line)
}

// languages by the sign with which a comment begins.
var (
	hashed = []*lang.Language{lang.Python, lang.Ruby, lang.Shell, lang.YAML, lang.TOML, lang.Make, lang.Dockerfile,
		lang.Env,
		lang.Properties, lang.HCL, lang.Conf, lang.Starlark, lang.CMake, lang.INI}
	dashed = []*lang.Language{lang.SQL, lang.Lua}
)

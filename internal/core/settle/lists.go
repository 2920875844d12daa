package settle

import (
	"cmp"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/rx"
)

// inLists joins what both sides added to a list at the same point of a line: imported names, parameters, members,
// classes. Theirs comes first, because it was there first, unless the list is sorted.
func inLists(c *Question, at place) (Option, bool) {
	base, yours, theirs := diff.Lines(c.Base), diff.Lines(c.Yours), diff.Lines(c.Theirs)
	if len(base) == 0 || len(base) != len(yours) || len(base) != len(theirs) {
		return Option{}, false
	}
	var out strings.Builder
	listed, doubt := false, ""
	for i, b := range base {
		switch {
		case yours[i] == b:
			out.WriteString(theirs[i])
		case theirs[i] == b || yours[i] == theirs[i]:
			out.WriteString(yours[i])
		default:
			line, ok := joinList(at.path, b, yours[i], theirs[i])
			if !ok {
				return Option{}, false
			}
			out.WriteString(line)
			if listed = true; inCall(b, yours[i], theirs[i]) {
				doubt = "both added to one call, where the order of arguments matters"
			}
		}
	}
	return Option{Way: Weave, Text: out.String(), Reason: "both added to the list in this line", doubt: doubt}, listed
}

// inCall reports whether both sides added something without a name to the arguments of a call, or to parameters.
func inCall(base, yours, theirs string) bool {
	s, ok := openingOf(Atoms(base), Atoms(yours), Atoms(theirs))
	if !ok {
		return false
	}
	depth, open := 0, -1
	for i := len(s.before) - 1; i >= 0 && open < 0; i-- {
		switch s.before[i] {
		case ')', ']', '}':
			depth++
		case '(', '[', '{':
			if depth--; depth < 0 {
				open = i
			}
		}
	}
	if open < 1 || s.before[open] != '(' || !isWordRune(rune(s.before[open-1])) ||
		setLike.MatchString(s.before[:open]) {
		return false
	}
	named := func(text string) bool { return namedArgument.MatchString(strings.Trim(text, ", \t")) }
	return !named(s.mine) || !named(s.other)
}

var (
	// calls whose arguments are a set
	setLike = rx.New(`\b(derive|allow|deny|warn|cfg|any|all|implements|use|plugins|exclude|include|add_executable|` +
		`add_library|target_sources)$`)
	// an argument with its name, or an option of the kind WithName(…)
	namedArgument = rx.New(`^[\w."'-]+ *(=[^=]|:\s)|^[\w.]*\bWith[A-Z]\w*\(`)
)

// opening is a point of a text at which both sides inserted something, and from which neither removed anything.
type opening struct{ before, mine, other, after string }

// openingOf finds the point.
func openingOf(b, y, t []string) (s opening, ok bool) {
	lead := 0
	for lead < len(b) && lead < len(y) && lead < len(t) && b[lead] == y[lead] && b[lead] == t[lead] {
		lead++
	}
	tail := 0
	for tail < len(b)-lead && tail < len(y)-lead && tail < len(t)-lead &&
		b[len(b)-1-tail] == y[len(y)-1-tail] && b[len(b)-1-tail] == t[len(t)-1-tail] {
		tail++
	}
	if lead+tail != len(b) || len(y) == len(b) || len(t) == len(b) {
		return s, false
	}
	return opening{strings.Join(b[:lead], ""), strings.Join(y[lead:len(y)-tail], ""),
		strings.Join(t[lead:len(t)-tail], ""), strings.Join(b[lead:], "")}, true
}

// inLine puts both insertions of a text into it, in an order. ok is false if they are more than parts of a line.
func (q *Question) inLine(at place, minesFirst bool) (text string, ok bool) {
	s, ok := openingOf(at.atoms.base, at.atoms.yours, at.atoms.theirs)
	if !ok || q.Base == "" || strings.Contains(s.mine+s.other, "\n") || strings.TrimSpace(s.mine) == "" ||
		strings.TrimSpace(s.other) == "" || s.mine == s.other {
		return "", false
	}
	first, second := s.other, s.mine
	if minesFirst {
		first, second = second, first
	}
	if sep, ok := between("", s.before, s.mine, s.other, s.after); ok {
		first += sep
	}
	return s.before + first + second + s.after, true
}

// joinList joins a line to which both sides added something at one point and from which neither removed anything.
func joinList(file, base, yours, theirs string) (string, bool) {
	s, ok := openingOf(Atoms(base), Atoms(yours), Atoms(theirs))
	if !ok {
		return "", false
	}
	between, ok := between(file, s.before, s.mine, s.other, s.after)
	if !ok || firstWord(s.mine) == firstWord(s.other) && !pathLists.MatchString(s.before) {
		return "", false
	}
	mine, other := rankOf(strings.TrimSpace(s.mine)), rankOf(strings.TrimSpace(s.other))
	if mine >= 0 && other >= 0 && mine < other {
		return s.before + s.mine + between + s.other + s.after, true
	}
	return s.before + s.other + between + s.mine + s.after, true
}

var (
	separators = []string{",", "|", ";"}
	blankLists = rx.New(`(class|className|rel)\s*=\s*["'][^"']*$`)
	// POSIX lists of folders
	pathLists = rx.New(`PATH\w*\s*=\S*$`)
	// inside a tag, where attributes are
	insideTag = rx.New(`<[A-Za-z][^<>]*$`)
	// arguments of a package manager
	installs = rx.New(`\b(install|add|require)\s[^"'|;&]*$`)
	// a Makefile's variable, or the prerequisites of a target
	settings = rx.New(`^(\s*[\w.-]+\s*[:+?]?=[^"'(]*|[\w./%$() -]+:[^=]*)$`)
)

// between returns what separates two additions to a list. How they begin or end shows that it is a list.
func between(file, before, mine, other, after string) (string, bool) {
	one, two := strings.TrimSpace(mine), strings.TrimSpace(other)
	seps := separators
	if pathLists.MatchString(before) {
		seps = append(slices.Clone(seps), ":")
	}
	for _, sep := range seps {
		switch {
		case strings.HasPrefix(one, sep) && strings.HasPrefix(two, sep),
			strings.HasSuffix(one, sep) && strings.HasSuffix(two, sep):
			return "", one != sep && two != sep
		}
	}
	if strings.HasSuffix(strings.TrimRight(before, " "), ",") && closes(strings.TrimSpace(after)[:min(1,
		len(strings.TrimSpace(after)))]) && one != "" && two != "" {
		return ", ", true // both ended it
	}
	if n := len(before); n > 0 && strings.ContainsAny(before[n-1:], "[({") && after != "" &&
		strings.ContainsAny(after[:1], "])}") && one != "" && two != "" {
		return ", ", true // the list was empty
	}
	spaced := func(s string) bool {
		return (strings.HasPrefix(s, " ") || strings.HasSuffix(s, " ")) && len(strings.Fields(s)) > 0
	}
	if a, b := rankOf(one), rankOf(two); a >= 0 && b >= 0 && a != b && spaced(mine) && spaced(other) {
		return "", true
	}
	inMakefile := lang.Of(file) == lang.Make
	if lang.Of(file) == lang.CMake && strings.HasPrefix(mine, " ") && strings.HasPrefix(other, " ") &&
		strings.HasPrefix(after, ")") {
		return "", true
	}
	if spaced(mine) && spaced(other) && strings.HasPrefix(mine, " ") == strings.HasPrefix(other, " ") &&
		(blankLists.MatchString(before) || lang.Of(file).Is(lang.Tags) && insideTag.MatchString(before) ||
			installs.MatchString(before) || inMakefile && settings.MatchString(before)) {
		return "", true
	}
	return "", false
}

// firstWord returns the word that an addition to a list is about, with what it is of.
func firstWord(s string) string { return cmp.Or(dotted.FindString(s), s) }

var dotted = rx.New(`[\pL\pM\pN_]+(\.[\pL\pM\pN_]+)*`)

// afterLast joins what both sides added after the last item of a list. That item had no separator, and may have ended
// the list with a sign, which moved to the new last one.
func afterLast(c *Question, at place) (Option, bool) {
	base, yours, theirs := diff.Lines(c.Base), diff.Lines(c.Yours), diff.Lines(c.Theirs)
	n := len(base)
	if n == 0 || len(yours) <= n || len(theirs) <= n || yours[n-1] != theirs[n-1] ||
		!slices.Equal(yours[:n-1], base[:n-1]) || !slices.Equal(theirs[:n-1], base[:n-1]) {
		return Option{}, false
	}
	was, is := strings.TrimRight(base[n-1], "\r\n"), strings.TrimRight(yours[n-1], "\r\n")
	item := strings.TrimRight(was, ";)")
	end, sep := was[len(item):], ""
	for _, s := range []string{",", ` \`} {
		if is == item+s || is == item+strings.TrimRight(end, ";")+s {
			item, sep = strings.TrimSuffix(is, s), s
		}
	}
	end = was[min(len(item), len(was)):]
	if sep == "" || sep == "," && strings.HasSuffix(was, ",") {
		return Option{}, false
	}
	mine, other := yours[n:], slices.Clone(theirs[n:])
	if clashes(at, mine, other) != "" {
		return Option{}, false
	}
	last := other[len(other)-1]
	text := strings.TrimRight(last, "\r\n")
	if rest := last[len(text):]; !strings.HasSuffix(text, sep) {
		other[len(other)-1] = strings.TrimSuffix(text, end) + sep + rest
	}
	o := Option{Way: Weave, Text: strings.Join(slices.Concat(yours[:n], other, mine), ""),
		Reason: "both added after the last item; each with its separator"}
	if sep != "," && !at.installing() && !slices.ContainsFunc(slices.Concat(mine, other), isFlag) {
		o.doubt = orderMatters
	}
	return o, true
}

func isFlag(line string) bool { return strings.HasPrefix(strings.TrimSpace(line), "-") }

// installing reports whether a place is in the arguments of a package manager, over several lines.
func (at place) installing() bool {
	if at.text == nil {
		return false
	}
	for i := at.line; i >= 0 && strings.HasSuffix(strings.TrimSpace(at.text.Yours[i]), `\`); i-- {
		if installs.MatchString(strings.TrimRight(at.text.Yours[i], "\\ \r\n") + " ") {
			return true
		}
	}
	return false
}

// grouped joins two additions to what both sides made a list of, such as a value that is in brackets now, and letters
// that both added to a group of flags.
func grouped(c *Question, at place) (Option, bool) {
	b, y, t := at.atoms.base, at.atoms.yours, at.atoms.theirs
	if text, ok := joinFlags(c.Base, c.Yours, c.Theirs); ok {
		return Option{Way: Weave, Text: text, Reason: "both added letters to a group of flags",
			doubt: "the order of flags in a group may matter"}, true
	}
	var shared []string // what both sides have
	at0 := 0
	for _, e := range append(diff.Myers(y, t), diff.Edit{A0: len(y), A1: len(y)}) {
		shared = append(shared, y[at0:e.A0]...)
		at0 = e.A1
	}
	if len(b) == 0 || len(shared) <= len(b) || diff.Common(len(b), diff.Myers(b, shared)) != len(b) ||
		strings.Contains(c.Base, "\n") && strings.Count(c.Base, "\n") != 1 {
		return Option{}, false
	}
	text, ok := joinList(at.path, strings.Join(shared, ""), c.Yours, c.Theirs)
	return Option{Way: Weave, Text: text, Reason: "both made it a list and added to it"}, ok
}

// flagGroup matches a group of flags of one letter each.
var flagGroup = rx.New(`(^|\s)-([A-Za-z]+)\b`)

// joinFlags joins the letters that both sides added to one group of flags, if the lines are the same otherwise.
func joinFlags(base, yours, theirs string) (string, bool) {
	var m [3][]int
	for i, s := range []string{base, yours, theirs} {
		if m[i] = flagGroup.FindStringSubmatchIndex(s); m[i] == nil {
			return "", false
		}
	}
	cut := func(s string, m []int) (before, flags, after string) { return s[:m[4]], s[m[4]:m[5]], s[m[5]:] }
	before, had, after := cut(base, m[0])
	by, y, ay := cut(yours, m[1])
	bt, t, aft := cut(theirs, m[2])
	mine, ok := strings.CutPrefix(y, had)
	other, also := strings.CutPrefix(t, had)
	if !ok || !also || mine == "" || other == "" || mine == other || by != before || bt != before || ay != after ||
		aft != after || strings.HasPrefix(had, "-") {
		return "", false
	}
	return before + had + other + mine + after, true
}

// ranks of modifiers, in the order in which they stand. Two of one rank exclude each other.
var ranks = []string{"public private protected internal pub export", "static",
	"abstract final sealed open virtual override",
	"readonly const", "async suspend", "synchronized"}

// rankOf returns the rank of a modifier; -1 for another word.
func rankOf(word string) int {
	return slices.IndexFunc(ranks, func(list string) bool { return slices.Contains(strings.Fields(list), word) })
}

package settle

import (
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
	s, ok := openingOf(base, yours, theirs)
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
	setLike = rx.New(`\b(derive|allow|deny|warn|cfg|any|all|implements|use|plugins|exclude|include)$`)
	// an argument with its name
	namedArgument = rx.New(`^[\w."'-]+ *(=[^=]|:\s)`)
)

// opening is a point of a text at which both sides inserted something, and from which neither removed anything.
type opening struct{ before, mine, other, after string }

// openingOf finds the point in atoms.
func openingOf(base, yours, theirs string) (s opening, ok bool) {
	b, y, t := Atoms(base), Atoms(yours), Atoms(theirs)
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
func (q *Question) inLine(minesFirst bool) (text string, ok bool) {
	s, ok := openingOf(q.Base, q.Yours, q.Theirs)
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
	s, ok := openingOf(base, yours, theirs)
	if !ok {
		return "", false
	}
	between, ok := between(file, s.before, s.mine, s.other, s.after)
	if !ok || firstWord(s.mine) == firstWord(s.other) && !pathLists.MatchString(s.before) {
		return "", false
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
	if n := len(before); n > 0 && strings.ContainsAny(before[n-1:], "[({") && after != "" &&
		strings.ContainsAny(after[:1], "])}") && one != "" && two != "" {
		return ", ", true // the list was empty
	}
	spaced := func(s string) bool {
		return (strings.HasPrefix(s, " ") || strings.HasSuffix(s, " ")) && len(strings.Fields(s)) > 0
	}
	inMakefile := lang.Of(file) == lang.Make
	if spaced(mine) && spaced(other) && strings.HasPrefix(mine, " ") == strings.HasPrefix(other, " ") &&
		(blankLists.MatchString(before) || lang.Of(file).Is(lang.Tags) && insideTag.MatchString(before) ||
			installs.MatchString(before) || inMakefile && settings.MatchString(before)) {
		return "", true
	}
	return "", false
}

// firstWord returns the word that an addition to a list is about.
func firstWord(s string) string {
	for _, w := range diff.Words(s) {
		if diff.IsWord(w) {
			return w
		}
	}
	return s
}

// afterLast joins what both sides added after the last item of a list, which had no comma.
func afterLast(c *Question, at place) (Option, bool) {
	base, yours, theirs := diff.Lines(c.Base), diff.Lines(c.Yours), diff.Lines(c.Theirs)
	n := len(base)
	if n == 0 || len(yours) <= n || len(theirs) <= n {
		return Option{}, false
	}
	withComma := func(l string) string {
		text := strings.TrimRight(l, "\r\n")
		return text + "," + l[len(text):]
	}
	head := append(slices.Clone(base[:n-1]), withComma(base[n-1]))
	if strings.HasSuffix(strings.TrimSpace(base[n-1]), ",") || !slices.Equal(yours[:n], head) ||
		!slices.Equal(theirs[:n], head) {
		return Option{}, false
	}
	mine, other := yours[n:], slices.Clone(theirs[n:])
	if clashes(at, mine, other) != "" {
		return Option{}, false
	}
	if last := other[len(other)-1]; !strings.HasSuffix(strings.TrimSpace(last), ",") {
		other[len(other)-1] = withComma(last)
	}
	return Option{Way: Weave, Text: strings.Join(slices.Concat(head, other, mine), ""),
		Reason: "both added after the last item; each with its comma"}, true
}

package settle

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/rx"
)

// better returns the ways that use more than words, the best first. Each applies both edits and has a reason.
func (q *Question) better(at place) (out []Option) {
	for _, try := range []func(c *Question, at place) (Option, bool){reindented, renamed, raised, lineSet, inOrder,
		byKey, inTable,
		afterLast, inLists, grouped} {
		if o, ok := try(q, at); ok {
			out = append(out, o)
		}
	}
	return out
}

// inOrder joins lines that both sides added between two lines that are in order with them.
func inOrder(c *Question, at place) (Option, bool) {
	before, after := strings.TrimSpace(at.before), strings.TrimSpace(at.after)
	if c.Base != "" || before == "" || after == "" || at.cut || at.inTurn() {
		return Option{}, false
	}
	yours, theirs := diff.Lines(c.Yours), diff.Lines(c.Theirs)
	if clashes(at, yours, theirs) != "" || !listed(at, slices.Concat(yours, theirs)) {
		return Option{}, false
	}
	same := func(s string) string { return s }
	for _, key := range []func(string) string{strings.ToLower, same} {
		compare := func(a, b string) int {
			return strings.Compare(key(strings.TrimSpace(a)),
				key(strings.TrimSpace(b)))
		}
		fits := func(lines []string) bool {
			return slices.IsSortedFunc(slices.Concat([]string{before}, lines, []string{after}), compare)
		}
		if compare(before, after) < 0 && fits(yours) && fits(theirs) {
			all := slices.Concat(yours, theirs)
			slices.SortStableFunc(all, compare)
			return Option{Way: Sorted, Text: strings.Join(slices.Compact(all), ""),
				Reason: "in alphabetical order, as the lines around"}, true
		}
	}
	return Option{}, false
}

// listed reports whether lines are members of a list: in code they are and begin nothing that is done in its turn.
func listed(at place, lines []string) bool {
	language := lang.Of(at.path)
	if language.Outline != lang.Code || language.Is(lang.Prose) || !language.IsKnown() {
		return true
	}
	return !at.inTurn() && (unordered(at, lines, nil) || !slices.ContainsFunc(lines, func(l string) bool {
		return !strings.HasSuffix(strings.TrimSpace(l), ",")
	}))
}

// sets are the lines of a language that are members of a set: their order means nothing.
var sets = map[*lang.Language]*rx.Expr{
	lang.Go:         rx.New(`^\s*(import\s+)?([\w.]+\s+)?"[^"]+"\s*(//.*)?$`),
	lang.Python:     rx.New(`^\s*(import\s+[\w., ]+|from\s+[\w.]+\s+import\s+[\w., *]+)\s*(#.*)?$`),
	lang.Java:       rx.New(`^import\s+[\w.* ]+;\s*$`),
	lang.Kotlin:     rx.New(`^import\s+[\w.* ]+$`),
	lang.Rust:       rx.New(`^\s*(pub\s+)?use\s+[^;]+;\s*$`),
	lang.JavaScript: imports,
	lang.TypeScript: imports,
	lang.TSX:        imports,
	lang.CSharp:     rx.New(`^\s*using\s+[\w.= ]+;\s*$`),
	lang.Ignore:     rx.New(`^[^!#\s]`), // a negated line (!) depends on the lines before it
	lang.GoSum:      rx.New(`^\S+ v\S+ h1:\S+$`),
}

var imports = rx.New(`^import\s.*['"]\s*;?\s*$`)

// lineSet joins lines whose order means nothing, such as imports: it keeps what either side added and drops what
// either removed.
func lineSet(c *Question, at place) (Option, bool) {
	re := sets[lang.Of(at.path)]
	base, yours, theirs := diff.Lines(c.Base), diff.Lines(c.Yours), diff.Lines(c.Theirs)
	all := slices.Concat(base, yours, theirs)
	if re == nil || len(all) == 0 || slices.ContainsFunc(all, func(l string) bool {
		return !strings.HasSuffix(l, "\n") || !re.MatchString(strings.TrimRight(l, "\r\n"))
	}) {
		return Option{}, false
	}
	for _, l := range base {
		if !slices.Contains(yours, l) && !slices.Contains(theirs, l) {
			return Option{}, false // both sides edited the member
		}
	}
	out := slices.DeleteFunc(slices.Clone(yours), func(l string) bool {
		return slices.Contains(base, l) &&
			!slices.Contains(theirs, l)
	})
	sorted := slices.IsSorted(yours) && slices.IsSorted(theirs)
	for _, l := range theirs {
		if !slices.Contains(base, l) && !slices.Contains(out, l) {
			out = append(out, l)
		}
	}
	if sorted {
		slices.Sort(out)
	}
	return Option{Way: Weave, Text: strings.Join(out, ""), Reason: "a set of lines: all added ones, no removed one"},
		true
}

// reindented joins an edit with a change of white space only. It indents the edit as the other side indents its
// surroundings.
func reindented(c *Question, _ place) (Option, bool) {
	base, yours, theirs := diff.Lines(c.Base), diff.Lines(c.Yours), diff.Lines(c.Theirs)
	text, ok := "", false
	reason := "you changed only blanks; their edit, indented so"
	switch mine, other := onlyBlanks(base, yours), onlyBlanks(base, theirs); {
	case mine == other:
	case mine:
		text, ok = indentLike(base, yours, theirs)
	default:
		reason = "they changed only blanks; your edit, indented so"
		text, ok = indentLike(base, theirs, yours)
	}
	return Option{Way: Weave, Text: text, Reason: reason}, ok
}

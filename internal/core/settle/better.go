package settle

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/rx"
)

// better returns the ways that use more than words, the best first. Each applies both edits and has a reason.
func (q *Question) better(at place) (out []Option) {
	for _, try := range []func(c *Question, at place) (Option, bool){reindented, enclosed, renamed, raised, lineSet,
		inOrder,
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
	ends := after != "" && closes(after[:1]) && tidied[path.Base(at.path)] // the list ends here, and is kept in order
	if c.Base != "" || before == "" || after == "" || at.cut || at.inTurn() {
		return Option{}, false
	}
	yours, theirs := diff.Lines(c.Yours), diff.Lines(c.Theirs)
	if clashes(at, yours, theirs) != "" || !members(at, slices.Concat(yours, theirs)) {
		return Option{}, false
	}
	same := func(s string) string { return s }
	for _, key := range []func(string) string{strings.ToLower, same} {
		compare := func(a, b string) int {
			return strings.Compare(key(strings.TrimSpace(a)),
				key(strings.TrimSpace(b)))
		}
		fits := func(lines []string) bool {
			if ends {
				return slices.IsSortedFunc(slices.Concat([]string{before}, lines), compare)
			}
			return slices.IsSortedFunc(slices.Concat([]string{before}, lines, []string{after}), compare)
		}
		if (ends || compare(before, after) < 0) && fits(yours) && fits(theirs) {
			all := slices.Concat(yours, theirs)
			slices.SortStableFunc(all, compare)
			return Option{Way: Sorted, Text: strings.Join(slices.Compact(all), ""),
				Reason: "in alphabetical order, as the lines around"}, true
		}
	}
	return Option{}, false
}

// tidied lists the files whose lists a program keeps in order.
var tidied = map[string]bool{"go.mod": true, "go.work": true}

// members reports whether lines are members of a list: in code they are and begin nothing that is done in its turn.
func members(at place, lines []string) bool {
	language := lang.Of(at.path)
	if language.Outline != lang.Code || language.Is(lang.Prose) || !language.IsKnown() {
		return true
	}
	return !at.inTurn() && (unordered(at, lines, nil) || !slices.ContainsFunc(lines, func(l string) bool {
		return !strings.HasSuffix(strings.TrimSpace(l), ",")
	}))
}

// enclosed joins an edit with what the other side put around or between the lines, which it only indented.
func enclosed(c *Question, _ place) (Option, bool) {
	base, yours, theirs := diff.Lines(c.Base), diff.Lines(c.Yours), diff.Lines(c.Theirs)
	for _, s := range []struct {
		encloser, editor []string
		reason           string
	}{{yours, theirs, "you put lines around these; their edit, indented so"},
		{theirs, yours, "they put lines around these; your edit, indented so"}} {
		if text, ok := enclose(base, s.encloser, s.editor); ok {
			return Option{Way: Weave, Text: text, Reason: s.reason}, true
		}
	}
	return Option{}, false
}

// enclose puts into edited the lines that encloser has and base lacks, and indents it as encloser is. ok is false if
// encloser changed lines, or indented none, or both sides added lines at one point.
func enclose(base, encloser, edited []string) (text string, ok bool) {
	spaced, put := make([]string, 0, len(base)), make([][]string, len(base)+1)
	at, from := 0, 0
	for _, e := range append(diff.Histogram(plain(base), plain(encloser)),
		diff.Edit{A0: len(base), A1: len(base), B0: len(encloser), B1: len(encloser)}) {
		if e.A0 != e.A1 {
			return "", false
		}
		spaced = append(spaced, encloser[from:e.B0]...)
		put[e.A0] = append(put[e.A0], encloser[e.B0:e.B1]...)
		at, from = e.A1, e.B1
	}
	if at != len(base) || len(spaced) != len(base) || slices.Equal(spaced, base) || len(encloser) == len(base) {
		return "", false
	}
	return indentLike(base, spaced, put, edited)
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
	lang.Lua:        rx.New(`^local\s+\w+\s*=\s*require\b.*$`),
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
	for _, l := range theirs {
		if slices.Contains(base, l) || slices.Contains(yours, l) {
			continue
		}
		if slices.ContainsFunc(yours, func(o string) bool {
			return !slices.Contains(base, o) && anyNumber.ReplaceAllString(o, "0") == anyNumber.ReplaceAllString(l, "0")
		}) {
			return Option{}, false // both added one thing, in two versions
		}
	}
	by := strings.Compare
	if lang.Of(at.path) == lang.Go { // gofmt sorts imports by their paths
		by = byPath
	}
	sorted := slices.IsSortedFunc(yours, by) && slices.IsSortedFunc(theirs, by)
	for _, l := range theirs {
		if !slices.Contains(base, l) && !slices.Contains(out, l) {
			out = append(out, l)
		}
	}
	if sorted {
		slices.SortFunc(out, by)
	}
	return Option{Way: Weave, Text: strings.Join(out, ""), Reason: "a set of lines: all added ones, no removed one"},
		true
}

// byPath compares imports by what is quoted in them.
func byPath(a, b string) int {
	path := func(line string) string { return line[strings.IndexByte(line, '"')+1:] }
	return cmp.Or(strings.Compare(path(a), path(b)), strings.Compare(a, b))
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
		text, ok = indentLike(base, yours, nil, theirs)
	default:
		reason = "they changed only blanks; your edit, indented so"
		text, ok = indentLike(base, theirs, nil, yours)
	}
	return Option{Way: Weave, Text: text, Reason: reason}, ok
}

package settle

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/rx"
)

// listed joins edits of words that meet where both sides added to a list in a line. A person confirms the order.
func listed(_ *Question, at place) (Option, bool) {
	met := false
	text, ok := at.atoms.weave(func(base, yours, theirs []string) (string, bool) {
		mine, other := strings.Join(yours, ""), strings.Join(theirs, "")
		if len(base) > 0 || strings.Contains(mine+other, "\n") {
			return "", false
		}
		met = true
		switch one, two := goesOn.MatchString(mine), goesOn.MatchString(other); {
		case one && !two:
			return mine + other, true
		case two && !one:
			return other + mine, true
		}
		sep, ok := between(at.path, "", mine, other, "")
		return other + sep + mine, ok && firstWord(mine) != firstWord(other)
	})
	return Option{Way: Weave, Text: text, Reason: "both added to one list, theirs first",
		doubt: "both added to one list, and changed more beside it"}, ok && met
}

// goesOn matches what belongs to the word before it.
var goesOn = rx.New(`^[.\[(]\w`)

// cutOut takes the lines that one side only took out from what the other made of the place. What the other changed in
// them goes too, so a person confirms it.
func cutOut(q *Question, _ place) (Option, bool) {
	base, yours, theirs := diff.Lines(q.Base), diff.Lines(q.Yours), diff.Lines(q.Theirs)
	for _, c := range []struct {
		remover, editor []string
	}{{yours, theirs}, {theirs, yours}} {
		if text, ok := without(base, c.remover, c.editor); ok {
			return Option{Way: Cut, Text: text, doubt: "one side took out what the other changed"}, true
		}
	}
	return Option{}, false
}

// without returns edited without the lines of base that remover lacks. ok is false if remover has lines of its own, or
// none, and where edited lines cannot be told apart by their number.
func without(base, remover, edited []string) (text string, ok bool) {
	gone := make([]bool, len(base))
	for _, e := range diff.Histogram(base, remover) {
		if e.B0 < e.B1 {
			return "", false
		}
		fill(gone, e.A0, e.A1)
	}
	if len(remover) == 0 || !slices.Contains(gone, true) {
		return "", false
	}
	var out strings.Builder
	keep := func(base, lines []string, from int) {
		for i := range base {
			if !gone[from+i] {
				out.WriteString(lines[i])
			}
		}
	}
	at := 0
	for _, e := range append(diff.Histogram(base, edited), diff.Edit{A0: len(base), A1: len(base)}) {
		keep(base[at:e.A0], base[at:e.A0], at)
		was, is := base[e.A0:e.A1], edited[e.B0:e.B1]
		switch {
		case len(was) == len(is):
			keep(was, is, e.A0)
		case len(was) > 0 && !slices.Contains(gone[e.A0:e.A1], false): // all of it went
		case !slices.Contains(gone[e.A0:e.A1], true):
			out.WriteString(strings.Join(is, ""))
		default:
			return "", false
		}
		at = e.A1
	}
	return out.String(), true
}

package settle

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"dorvik.dev/dorvik/internal/core/diff"
)

// renames maps names to the new ones that a side gave them at every occurrence in the place.
func renames(base, side string) map[string]string {
	b, s := Atoms(base), Atoms(side)
	count := func(words []string, w string) (n int) {
		for _, o := range words {
			if o == w {
				n++
			}
		}
		return n
	}
	out, times := map[string]string{}, map[string]int{}
	for _, e := range diff.WordEdits(b, s) {
		if e.A1-e.A0 != 1 || e.B1-e.B0 != 1 || !isName(b[e.A0]) || !isName(s[e.B0]) {
			continue
		}
		if to, ok := out[b[e.A0]]; ok && to != s[e.B0] {
			out[b[e.A0]] = "" // the name became several names
			continue
		}
		out[b[e.A0]] = s[e.B0]
		times[b[e.A0]]++
	}
	for from, to := range out {
		if to == "" || times[from] < 2 || times[from] != count(b, from) || count(s, from) > 0 || count(b, to) > 0 {
			delete(out, from)
		}
	}
	return out
}

// isName reports whether a word can be an identifier.
func isName(w string) bool {
	r, _ := utf8.DecodeRuneInString(w)
	return len(w) > 1 && (r == '_' || unicode.IsLetter(r)) && diff.IsWord(w) && !strings.ContainsAny(w, ".-:/+")
}

// following applies new names to the other side's text. used is an old name that the other side uses in what it added.
func following(base, other string, names map[string]string) (text, used string) {
	words := Atoms(other)
	more := map[string]int{}
	for i, w := range words {
		if to, ok := names[w]; ok {
			words[i] = to
			more[w]++
		}
	}
	for _, w := range Atoms(base) {
		more[w]--
	}
	for from := range names {
		if more[from] > 0 {
			used = from
		}
	}
	return strings.Join(words, ""), used
}

// renamed joins a side's renaming with new text of the other that uses the old name.
func renamed(c *Question, _ place) (Option, bool) {
	mine, other := renames(c.Base, c.Yours), renames(c.Base, c.Theirs)
	if len(mine)+len(other) == 0 {
		return Option{}, false
	}
	theirs, usedThere := following(c.Base, c.Theirs, mine)
	yours, usedHere := following(c.Base, c.Yours, other)
	if usedThere == "" && usedHere == "" {
		return Option{}, false
	}
	from, to := usedThere, mine[usedThere]
	if from == "" {
		from, to = usedHere, other[usedHere]
	}
	text, ok := WeaveText(c.Base, yours, theirs)
	return Option{Way: Weave, Text: text, Reason: from + " is " + to + " now, and so it is in what the other side " +
			"put there"},
		ok && text != c.Base
}

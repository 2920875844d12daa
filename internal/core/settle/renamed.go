package settle

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"dorvik.dev/dorvik/internal/core/diff"
)

// renames returns the names that one side gave another name wherever the base has them in this place.
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
			out[b[e.A0]] = "" // it became several
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

// isName reports whether a word can be a name in a program.
func isName(w string) bool {
	r, _ := utf8.DecodeRuneInString(w)
	return len(w) > 1 && (r == '_' || unicode.IsLetter(r)) && diff.IsWord(w) && !strings.ContainsAny(w, ".-:/+")
}

// following makes the other side's text one with new names; used is a name that it uses more often than the
// base does, in what it put there.
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

// renamed joins what one side renamed with new text of the other that uses the old name: the new name is there,
// too.
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

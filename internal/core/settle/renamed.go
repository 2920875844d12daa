package settle

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/merge"
)

// renames maps names to the new ones that a side gave them at every occurrence in the place.
func renames(b []string, side edits) map[string]string {
	s := side.atoms
	count := func(words []string, w string) (n int) {
		for _, o := range words {
			if o == w {
				n++
			}
		}
		return n
	}
	out, times := map[string]string{}, map[string]int{}
	for _, e := range side.list {
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
	return (r == '_' || unicode.IsLetter(r)) && diff.IsWord(w) && !strings.ContainsAny(w, ".-:/+")
}

// following applies new names to the other side's text. used is an old name that the other side uses in what it added.
// A name of one letter in quotes is none, unless a sign marks it as one.
func following(base, other string, names map[string]string) (text, used string) {
	words := Atoms(other)
	spots := structureOf("", words).spots
	more := map[string]int{}
	for i, w := range words {
		if to, ok := names[w]; ok && (len(w) > 1 || !spots[i].quoted() || i > 0 && strings.ContainsAny(words[i-1],
			"${#")) {
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

// renamed joins a side's renaming with new text of the other that uses the old name. Both sides' names are given to the
// base first, so that they are no edits any more.
func renamed(c *Question, at place) (Option, bool) {
	both := at.atoms.sides()
	mine, other := renames(at.atoms.base, both[0]), renames(at.atoms.base, both[1])
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
	base, _ := following("", c.Base, mine)
	base, _ = following("", base, other)
	text, ok := WeaveText(base, yours, theirs)
	if !ok {
		text, ok = merge.Merge3(diff.Lines(base), diff.Lines(yours), diff.Lines(theirs)).Clean()
	}
	return Option{Way: Weave, Text: text, Reason: from + " is " + to + " now, and so it is in what the other side " +
			"put there"},
		ok && text != c.Base
}

// noNames are words that look like names and are not ones that a person gives.
const noNames = "let const var val int long short float double string bool boolean char void auto final static " +
	"public " +
	"private protected return if else for while switch case func fn def function class struct type interface true " +
	"false null nil none String Integer number any self this new await async and or not in of is"

// stale returns an old name that a text has although one side gave it another wherever the base has it: what the other
// side added still uses it.
func (a *wordwise) stale(text string) (name, now string) {
	has := func(list []string, w string) (n int) {
		for _, o := range list {
			if o == w {
				n++
			}
		}
		return n
	}
	b, result, both := a.base, Atoms(text), a.sides()
	for i, side := range both {
		renamer, other := side.atoms, both[1-i].atoms
		for _, e := range side.list {
			if e.A1-e.A0 != 1 || e.B1-e.B0 != 1 || !isName(b[e.A0]) || !isName(renamer[e.B0]) {
				continue
			}
			w, to := b[e.A0], renamer[e.B0]
			if has(renamer, w) > 0 || has(other, w) <= has(b, w) || has(result, w) == 0 ||
				slices.Contains(strings.Fields(noNames), w) || has(b, w) < 2 && !declaresAt(b, e.A0) {
				continue
			}
			return w, to
		}
	}
	return "", ""
}

// takeBack takes back the suggestion of a text in which an old name stands.
func (q *Question) takeBack(at place) {
	if lang.Of(at.path).Is(lang.Prose) && !lang.Of(at.path).Is(lang.Tags) {
		return
	}
	for i := range q.Ways {
		o := &q.Ways[i]
		if o.Because == "" || o.Way.Whose() == merge.FromYours || o.Way.Whose() == merge.FromTheirs {
			continue
		}
		if name, now := at.atoms.stale(o.Text); name != "" {
			o.Because, q.Doubt = "", name+" is "+now+" now, and what the other side added still uses it"
		}
	}
}

// declaresAt reports whether a name is given where it stands: it is set, or has its type after it.
func declaresAt(atoms []string, i int) bool {
	rest := strings.TrimLeft(strings.Join(atoms[i+1:min(len(atoms), i+5)], ""), " \t")
	return strings.HasPrefix(rest, ":=") || strings.HasPrefix(rest, "= ") || strings.HasPrefix(rest, ": ")
}

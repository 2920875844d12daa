// Package settle turns conflicts into questions a person can answer. For each it offers ways to settle it, with what
// each leaves out and whether the file still parses, and suggests one if that is safe. It stores decisions and applies
// them again where the same conflict recurs. It never decides by itself.
package settle

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
)

// Piece is a run of words that a side added or removed.
type Piece struct {
	Side merge.Side `json:"side"`
	Text string     `json:"text"`
	Line int        `json:"-"` // number of lines before it in its text

	Whole bool `json:"-"` // the text is its whole line
}

// WeaveText applies the edits of both sides to the base word by word. ok is false if they change the same words
// differently, or both add something at the same point. Equal edits are applied once.
func WeaveText(base, yours, theirs string) (text string, ok bool) {
	return inAtoms(base, yours, theirs).weave(nil)
}

// wordwise is three texts in atoms, with the edits of both sides. Comparing words is most of what judging a place
// costs, so its rules share one.
type wordwise struct {
	base, yours, theirs []string
	mine, other         []diff.Edit // what yours and theirs edit in base
}

func inAtoms(base, yours, theirs string) *wordwise {
	a := &wordwise{base: Atoms(base), yours: Atoms(yours), theirs: Atoms(theirs)}
	a.mine, a.other = diff.WordEdits(a.base, a.yours), diff.WordEdits(a.base, a.theirs)
	return a
}

// sides returns the two sides, each with its edits.
func (a *wordwise) sides() [2]edits { return [2]edits{{a.yours, a.mine}, {a.theirs, a.other}} }

// replaces reports whether a side only took out what the other put something else for: it wants nothing there.
func (a *wordwise) replaces(side merge.Side) bool {
	mine, other := a.mine, a.other
	if side == merge.Theirs {
		mine, other = other, mine
	}
	return slices.ContainsFunc(mine, func(e diff.Edit) bool {
		return e.B0 == e.B1 && slices.ContainsFunc(other, func(o diff.Edit) bool {
			return o.A0 == e.A0 && o.A1 == e.A1 && o.B0 < o.B1
		})
	})
}

// edits are one side's atoms, and what it edits in the base.
type edits struct {
	atoms []string
	list  []diff.Edit
}

// weave applies the edits of both sides. settle, unless nil, decides about parts that both sides replaced differently.
func (a *wordwise) weave(settle func(base, yours, theirs []string) (string, bool)) (text string, ok bool) {
	b := a.base
	type patch struct {
		from, to int
		put      []string
	}
	patches := func(side edits) []patch {
		var out []patch
		for _, e := range side.list {
			out = append(out, patch{e.A0, e.A1, side.atoms[e.B0:e.B1]})
		}
		return out
	}
	both := a.sides()
	py, pt := patches(both[0]), patches(both[1])
	all := slices.Clone(py)
	for _, q := range pt {
		done := false
		for i, p := range py {
			same := p.from == q.from && p.to == q.to
			switch {
			case same && slices.Equal(p.put, q.put):
				done = true
			case same && settle != nil:
				stands, ok := settle(b[p.from:p.to], p.put, q.put)
				if !ok {
					return "", false
				}
				all[i].put, done = []string{stands}, true
			case p.from < q.to && q.from < p.to || p.from == q.from && (p.from == p.to) == (q.from == q.to),
				p.from == p.to && q.from < p.from && p.from < q.to || q.from == q.to && p.from < q.from &&
					q.from < p.to:
				return "", false
			}
		}
		if !done {
			all = append(all, q)
		}
	}
	slices.SortStableFunc(all, func(p, q patch) int {
		if p.from != q.from {
			return p.from - q.from
		}
		return p.to - q.to
	})
	var out strings.Builder
	at := 0
	for _, p := range all {
		out.WriteString(strings.Join(b[at:p.from], ""))
		out.WriteString(strings.Join(p.put, ""))
		at = p.to
	}
	out.WriteString(strings.Join(b[at:], ""))
	return out.String(), true
}

// largePlace is the size in bytes of a region's three texts above which they are compared by lines. Comparing words
// takes time quadratic in the words that differ.
const largePlace = 512 << 10

// leftOut lists the words that a side added and the result lacks (out), and those that a side removed and the result
// has (kept). For large regions it lists lines.
func leftOut(base, yours, theirs, result string) (out, kept []Piece) {
	split := diff.Words
	if len(base)+len(yours)+len(theirs) > largePlace {
		split = diff.Lines
	}
	out, kept = leftOutOf(merge.Yours, base, yours, result, split)
	more, again := leftOutOf(merge.Theirs, base, theirs, result, split)
	return append(out, more...), append(kept, again...)
}

// leftOutOf is leftOut for the text of one side, with texts split in words or lines.
func leftOutOf(side merge.Side, base, text, result string, split func(string) []string) (out, kept []Piece) {
	b, w, r := split(base), split(text), split(result)
	added, taken := make([]bool, len(w)), make([]bool, len(b))
	for _, e := range diff.Myers(b, w) {
		fill(added, e.B0, e.B1)
		fill(taken, e.A0, e.A1)
	}
	lost, baseGone := removed(w, r), removed(b, r)
	if len(b) == 0 || len(base)+len(text) <= largePlace {
		wholly(base, text, w, lost)
	}
	elsewhere, again := moved(base, text, result)
	out = slices.DeleteFunc(pieces(side, w, func(i int) bool { return added[i] && lost[i] }),
		func(p Piece) bool { return elsewhere[p.Line] })
	kept = pieces(side, b, func(i int) bool { return taken[i] && !baseGone[i] })
	for i, text := range again {
		if !slices.ContainsFunc(kept, func(p Piece) bool { return p.Line == i }) {
			kept = append(kept, Piece{side, text, i, true})
		}
	}
	slices.SortStableFunc(kept, func(p, q Piece) int { return p.Line - q.Line })
	return out, kept
}

// wholly marks all words of a line as lost if a side added the line, which stands nowhere in the base in another form,
// and one of its words is lost: what is left out then is a line.
func wholly(base, side string, words []string, lost []bool) {
	lines := diff.Lines(side)
	fresh := make([]bool, len(lines))
	for _, e := range diff.Histogram(diff.Lines(base), lines) {
		if e.A0 == e.A1 {
			fill(fresh, e.B0, e.B1)
		}
	}
	at, from := 0, 0 // the line, and its first word
	for i, w := range words {
		if !strings.HasSuffix(w, "\n") && i < len(words)-1 {
			continue
		}
		any := false
		for k := from; k <= i; k++ {
			any = any || lost[k] && diff.IsWord(words[k])
		}
		if any && at < len(fresh) && fresh[at] {
			fill(lost, from, i+1)
		}
		at, from = at+strings.Count(w, "\n"), i+1
	}
}

// moved finds whole lines at other places of a result: elsewhere has lines of the side, again has lines of base that
// the side removed, both by index from 0. Lines without a word are skipped.
func moved(base, side, result string) (elsewhere map[int]bool, again map[int]string) {
	b, s := diff.Lines(base), diff.Lines(side)
	elsewhere, again = map[int]bool{}, map[int]string{}
	more := diff.More(trimmed(diff.Lines(result)), trimmed(s))
	for _, e := range diff.Histogram(b, s) {
		for i := e.B0; i < e.B1; i++ {
			l := strings.TrimSpace(s[i])
			elsewhere[i] = more[l] >= 0 && diff.HasWord(l)
		}
		if e.B1 > e.B0 {
			continue // replaced lines are compared word by word
		}
		for i := e.A0; i < e.A1; i++ {
			if l := strings.TrimSpace(b[i]); more[l] > 0 && diff.HasWord(l) {
				more[l]--
				again[i] = l
			}
		}
	}
	return elsewhere, again
}

// trimmed returns lines without the blanks around them.
func trimmed(lines []string) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = strings.TrimSpace(l)
	}
	return out
}

// removed marks the words of a that b lacks.
func removed(a, b []string) []bool {
	set := make([]bool, len(a))
	for _, e := range diff.Myers(a, b) {
		fill(set, e.A0, e.A1)
	}
	return set
}

// pieces collects runs of words for which in returns true. Runs continue over blanks but not over line ends. Runs of
// blanks do not count.
func pieces(side merge.Side, words []string, in func(i int) bool) []Piece {
	var out []Piece
	in = wholeLines(words, in)
	line, blank := 0, true // whether the line is blank so far
	for i := 0; i < len(words); {
		if !in(i) || strings.TrimSpace(words[i]) == "" {
			line += strings.Count(words[i], "\n")
			blank = strings.HasSuffix(words[i], "\n") || blank && strings.TrimSpace(words[i]) == ""
			i++
			continue
		}
		end := i + 1
		for j := end; j < len(words) && !strings.HasSuffix(words[j], "\n") &&
			(in(j) || strings.TrimSpace(words[j]) == ""); j++ {
			if in(j) {
				end = j + 1
			}
		}
		text := strings.Join(words[i:end], "")
		rest := end // the rest of the line, if it is blank
		for rest < len(words) && !strings.HasSuffix(words[rest-1], "\n") && strings.TrimSpace(words[rest]) == "" {
			rest++
		}
		ends := rest == len(words) || strings.HasSuffix(words[rest-1], "\n")
		out = append(out, Piece{side, strings.TrimSpace(text), line, blank && ends})
		blank = strings.HasSuffix(words[end-1], "\n")
		line += strings.Count(text, "\n")
		i = end
	}
	return out
}

// wholeLines extends in to the signs of each line whose words are all in, even if another line has the same signs.
func wholeLines(words []string, in func(i int) bool) func(i int) bool {
	whole := make([]bool, len(words))
	for from := 0; from < len(words); {
		to, spoken, all := from, false, true
		for ; to < len(words) && (to == from || !strings.HasSuffix(words[to-1], "\n")); to++ {
			if diff.IsWord(words[to]) {
				spoken, all = true, all && in(to)
			}
		}
		if spoken && all {
			fill(whole, from, to)
		}
		from = to
	}
	return func(i int) bool { return whole[i] || in(i) }
}

// Count counts the pieces of one side: whole lines, and the words of the rest.
func Count(pieces []Piece, side merge.Side) (lines, words int) {
	var parts []Piece
	for _, p := range pieces {
		switch {
		case p.Side != side:
		case p.Whole:
			lines++
		default:
			parts = append(parts, p)
		}
	}
	return lines, countWords(parts, side)
}

// countWords counts the words in pieces of one side. A piece of signs alone counts as one.
func countWords(pieces []Piece, side merge.Side) (n int) {
	for _, p := range pieces {
		if p.Side != side {
			continue
		}
		before := n
		for _, w := range diff.Words(p.Text) {
			if diff.IsWord(w) {
				n++
			}
		}
		if n == before {
			n++
		}
	}
	return n
}

// concat joins two texts, with a line end between them if the first lacks one and the second is not empty.
func concat(first, second string) string {
	if first != "" && second != "" && !strings.HasSuffix(first, "\n") {
		end := "\n"
		if strings.Contains(second, "\r\n") {
			end = "\r\n"
		}
		// The line end moves to the front: the joined text ends as the first did.
		return first + end + strings.TrimSuffix(second, end)
	}
	return first + second
}

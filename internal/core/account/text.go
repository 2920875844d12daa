package account

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
)

// largeEdit is the size in bytes, with its replacement, above which an edit is compared line by line. Comparing words
// takes time quadratic in the words that differ.
const largeEdit = 256 << 10

// Texts lists the lines that a side added to a text and the result lacks, and those that it removed and the result
// contains again; other is the other side's text. Line ends and blank lines do not count. Paths are empty.
func Texts(base, side, other, result string) []Entry { return leftOut(base, side, other, result, nil) }

// leftOut is Texts where some lines are known to come from other files of the two sides.
func leftOut(base, side, other, result string, known map[string]bool) []Entry {
	t := &sides{base: diff.Lines(base), side: diff.Lines(side), result: diff.Lines(result)}
	b, s, r := bare(t.base), bare(t.side), bare(t.result)
	t.edits, t.toResult = diff.Histogram(b, s), diff.Histogram(s, r)
	fromBase := diff.Histogram(b, r)
	t.held, t.fromSide = diff.Standing(len(s), len(r), t.toResult)
	t.stands, t.fromBase = diff.Standing(len(b), len(r), fromBase)
	t.sides, t.others, t.other = map[string]bool{}, map[string]bool{}, bare(diff.Lines(other))
	t.known = known
	for _, l := range t.other {
		t.others[l] = true
	}
	for _, l := range s {
		t.sides[l] = true
	}
	t.byOther = diff.Histogram(b, t.other)
	t.spare, t.more = map[string]int{}, diff.More(r, s)
	for i, l := range r {
		if !t.fromSide[i] {
			t.spare[l]++
		}
	}
	var out []Entry
	for _, e := range t.edits {
		lost := t.lost(e, b, s, r)
		for _, i := range lost {
			out = append(out, Entry{Kind: Line, Line: i + 1, Text: strings.TrimSpace(s[i]), Full: t.side[i]})
		}
		// If an edit replaced as many lines as are lost, the replaced lines are the ones that are back.
		again := t.again(e, b, r)
		for _, i := range again[min(len(lost), len(again)):] {
			out = append(out, Entry{Kind: Deletion, Kept: strings.TrimSpace(b[i]), Full: t.base[i]})
		}
	}
	return out
}

// sides is three texts as lines and their differences.
type sides struct {
	base, side, result []string
	edits, toResult    []diff.Edit
	held               []bool          // lines of side that result has in order
	stands             []bool          // lines of base that result has in order
	fromSide, fromBase []bool          // lines of result that come from side, and from base
	sides, others      map[string]bool // the lines of this side, and of the other
	known              map[string]bool // lines of other files
	other              []string
	byOther            []diff.Edit    // the other side's edits to base
	spare              map[string]int // copies of a line in the result, less those that the side kept
	more               map[string]int // copies of a line in the result, less all of the side's
}

// bare returns lines without their line ends.
func bare(lines []string) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = strings.TrimRight(l, "\r\n")
	}
	return out
}

// lost returns the lines of the side's edit that the result contains neither unchanged nor woven.
func (t *sides) lost(e diff.Edit, b, s, r []string) (out []int) {
	var missing []int
	for i := e.B0; i < e.B1; i++ {
		switch {
		case t.held[i] || strings.TrimSpace(s[i]) == "":
		case t.spare[s[i]] > 0: // the line was moved
			t.spare[s[i]]--
		default:
			missing = append(missing, i)
		}
	}
	if len(missing) == 0 {
		return nil
	}
	lo, hi := t.place(e.B0, e.B1)
	var fresh []freshLine
	size := 0
	for k := lo; k < hi; k++ {
		if !t.fromSide[k] && !t.fromBase[k] && !t.sides[r[k]] {
			fresh = append(fresh, freshLine{r[k], wordsOf(r[k]), !t.others[r[k]] && !t.known[r[k]]})
			size += len(r[k])
		}
	}
	added, taken := changed(b[e.A0:e.A1], s[e.B0:e.B1])
	for _, i := range missing {
		words := wordsOf(s[i])
		if size+len(s[i]) > largeEdit || !slices.ContainsFunc(fresh, func(f freshLine) bool {
			return f.holds(s[i], words, added[i-e.B0], taken)
		}) {
			out = append(out, i)
		}
	}
	return out
}

// changed returns the words that an edit added to each of its lines, and the words it removed from all of them.
func changed(before, after []string) (added [][]string, taken map[string]int) {
	var was, is []string
	var line []int
	for _, l := range before {
		was = append(was, wordsOf(l)...)
	}
	for i, l := range after {
		for _, w := range wordsOf(l) {
			is, line = append(is, w), append(line, i)
		}
	}
	added, taken = make([][]string, len(after)), map[string]int{}
	for _, e := range diff.Myers(was, is) {
		for k := e.B0; k < e.B1; k++ {
			added[line[k]] = append(added[line[k]], is[k])
		}
		for _, w := range was[e.A0:e.A1] {
			taken[w]++
		}
	}
	return added, taken
}

// freshLine is a line of the result that neither the side nor base has.
type freshLine struct {
	line  string
	words []string
	woven bool // the line is not the other side's either
}

// holds reports whether the line contains what a side did to a line. For a line of the other side that means
// everything between its blanks. A woven line may also consist mostly of the side's words, or contain most of them and
// the few that the side added. In no case may it have more of the removed words than the side's line.
func (f freshLine) holds(line string, words, added []string, taken map[string]int) bool {
	parts := strings.Fields(line)
	if whole := inOrder(strings.Fields(f.line), parts) == len(parts); !whole {
		has, few := inOrder(f.words, words), 0 < len(added) && 2*len(added) <= len(words)
		all := has == len(words) && 2*has > len(f.words)
		if !f.woven || !all && !(few && 2*has > len(words) && inOrder(f.words, added) == len(added) &&
			hasAll(f.words, words, added)) {
			return false
		}
	}
	left := map[string]int{}
	for _, w := range words {
		left[w]++
	}
	for _, w := range f.words {
		if left[w]--; left[w] < 0 && taken[w] > 0 && diff.IsWord(w) {
			return false
		}
	}
	return true
}

// hasAll reports whether a line contains as many copies of each word as all of its words together; a word added beside
// an equal one needs a copy of its own.
func hasAll(line, words, some []string) bool {
	more := diff.More(words, line)
	return !slices.ContainsFunc(some, func(w string) bool { return more[w] > 0 })
}

// inOrder counts the words that stand in a line in their order.
func inOrder(line, words []string) int {
	return diff.Common(len(words), diff.Myers(words, line))
}

// place returns the lines of the result at the place of some lines of the side.
func (t *sides) place(from, to int) (lo, hi int) {
	lo, hi = from, to
	for _, e := range t.toResult {
		add := (e.B1 - e.B0) - (e.A1 - e.A0)
		switch {
		case e.A1 < from:
			lo, hi = lo+add, hi+add
		case e.A0 <= to: // the edits touch
			lo, hi = min(lo, e.B0), max(hi+add, e.B1)
		}
	}
	return max(0, lo), min(hi, len(t.result))
}

// again returns the lines of base that the side's edit removed and that the result contains again.
func (t *sides) again(e diff.Edit, b, r []string) (out []int) {
	for i := e.A0; i < e.A1; i++ {
		l := b[i]
		if strings.TrimSpace(l) == "" {
			continue
		}
		switch {
		case t.more[l] > 0 && (t.stands[i] || diff.HasWord(l)):
			t.more[l]--
			out = append(out, i)
		case e.B0 == e.B1 && !t.stands[i] && t.asChanged(e, i, b, r):
			out = append(out, i)
		}
	}
	return out
}

// asChanged reports whether a line that the side only removed remains in the form that the other side gave it: that
// side's replacement, or a new line of the result with at least half of its words.
func (t *sides) asChanged(e diff.Edit, i int, b, r []string) bool {
	instead := map[string]bool{}
	for _, o := range t.byOther {
		if o.A0 <= i && i < o.A1 {
			for _, l := range t.other[o.B0:o.B1] {
				instead[l] = strings.TrimSpace(l) != ""
			}
		}
	}
	words := wordsOf(b[i])
	lo, hi := t.place(e.B0, e.B1)
	for k := lo; k < hi; k++ {
		if t.fromSide[k] || t.fromBase[k] {
			continue
		}
		if instead[r[k]] {
			return true
		}
		if same := inOrder(wordsOf(r[k]), words); same > 0 && 2*same >= len(words) {
			return true
		}
	}
	return false
}

// wordsOf returns the words and signs of a line without blanks.
func wordsOf(line string) []string {
	return slices.DeleteFunc(diff.Words(line), func(w string) bool { return strings.TrimSpace(w) == "" })
}

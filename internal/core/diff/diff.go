// Package diff compares sequences of lines or words.
//
// Histogram is the histogram variant of patience diff as JGit's documentation
// describes it; where every common line is too frequent to anchor on, it falls
// back to Myers' linear-space algorithm (E. W. Myers, "An O(ND) Difference
// Algorithm and Its Variations", Algorithmica 1, 1986). Both then slide hunks
// that could stand in several places to their last place, or to where they
// line up with a hunk of the other text.
package diff

import "sync"

// Edit replaces a[A0:A1] by b[B0:B1]. One of them may be empty.
type Edit struct{ A0, A1, B0, B1 int }

// Standing marks the elements that edits leave unchanged: of the old text of na elements and of the new one of nb.
func Standing(na, nb int, edits []Edit) (a, b []bool) {
	a, b = make([]bool, na), make([]bool, nb)
	i, j := 0, 0
	for _, e := range append(edits[:len(edits):len(edits)], Edit{na, na, nb, nb}) {
		for ; i < e.A0; i, j = i+1, j+1 {
			a[i], b[j] = true, true
		}
		i, j = e.A1, e.B1
	}
	return a, b
}

// More counts how many more copies of each element the first text has than the second. The count is negative if it has
// fewer.
func More(first, second []string) map[string]int {
	more := make(map[string]int, len(first))
	for _, x := range first {
		more[x]++
	}
	for _, x := range second {
		more[x]--
	}
	return more
}

// Common returns how many of n elements edits leave unchanged.
func Common(n int, edits []Edit) int {
	for _, e := range edits {
		n -= e.A1 - e.A0
	}
	return n
}

// Histogram lists the edits that turn a into b, in order. No two of them touch. It takes O(n + m) time for ordinary
// texts and O(64·n·m) at worst.
func Histogram(a, b []string) []Edit { return newAlphabet(a).to(b, byRareLines) }

// manyLines is the number of lines from which on two comparisons run in parallel.
const manyLines = 1 << 14

// Histograms is Histogram from one text to two others. It numbers the lines of the first text once.
func Histograms(from, a, b []string) (toA, toB []Edit) {
	letters := newAlphabet(from)
	var beside sync.WaitGroup
	if len(from) >= manyLines {
		beside.Go(func() { toB = letters.to(b, byRareLines) })
	}
	toA = letters.to(a, byRareLines)
	if len(from) < manyLines {
		toB = letters.to(b, byRareLines)
	}
	beside.Wait()
	return toA, toB
}

func byRareLines(d *differ, a0, a1, b0, b1 int) {
	d.index.init(len(d.a.sym), d.symbols)
	d.histogram(a0, a1, b0, b1)
}

// Myers lists the edits that turn a into b. It takes O((n+m)·d) time for d differences. Beyond a bound on d the result
// may be longer than the shortest.
func Myers(a, b []string) []Edit { return newAlphabet(a).to(b, (*differ).myers) }

// side is one text of a comparison: its lines as symbols (equal lines have equal symbols), and the lines that the
// other text lacks.
type side struct {
	sym     []int32
	changed []bool
}

func (s *side) mark(from, to int) {
	for i := from; i < to; i++ {
		s.changed[i] = true
	}
}

type differ struct {
	a, b    side
	symbols int   // number of distinct symbols
	index   index // used by histogram
	forward []int // used by myers: furthest x on each diagonal
	back    []int
}

// alphabet numbers the lines of a text; equal lines have equal numbers, called symbols.
type alphabet struct {
	lines []string
	sym   []int32
	ids   map[string]int32
	only  []int32 // by symbol: its position if it occurs once, or -1
}

func newAlphabet(lines []string) *alphabet {
	l := &alphabet{lines: lines, sym: make([]int32, len(lines)), ids: make(map[string]int32, len(lines)),
		only: make([]int32, 0, len(lines))}
	for i, line := range lines {
		id, ok := l.ids[line]
		if ok {
			l.only[id] = -1
		} else {
			id = int32(len(l.only))
			l.ids[line], l.only = id, append(l.only, int32(i))
		}
		l.sym[i] = id
	}
	return l
}

// symbols returns the symbols of another text and the number of them in both. Most of its lines follow one another as
// in the first text, so it compares each with the expected next line before looking it up.
func (l *alphabet) symbols(lines []string) (sym []int32, n int) {
	sym, n = make([]int32, len(lines)), len(l.only)
	var others map[string]int32 // symbols of lines that the first text does not have
	next := 0                   // the next line of the first text, if the texts go on alike
	for i, line := range lines {
		if next < len(l.lines) && l.lines[next] == line {
			sym[i] = l.sym[next]
			next++
			continue
		}
		id, ok := l.ids[line]
		if ok {
			if at := l.only[id]; at >= 0 {
				next = int(at) + 1
			}
		} else if id, ok = others[line]; !ok {
			if others == nil {
				others = map[string]int32{}
			}
			id = int32(n)
			others[line] = id
			n++
		}
		sym[i] = id
	}
	return sym, n
}

// to lists the edits that turn the text into another.
func (l *alphabet) to(b []string, algorithm func(d *differ, a0, a1, b0, b1 int)) []Edit {
	sym, n := l.symbols(b)
	d := &differ{a: side{l.sym, make([]bool, len(l.sym))}, b: side{sym, make([]bool, len(sym))}, symbols: n}
	algorithm(d, 0, len(l.sym), 0, len(sym))
	compact(&d.a, &d.b)
	compact(&d.b, &d.a)
	return d.edits()
}

func (d *differ) edits() []Edit {
	var out []Edit
	n, m := len(d.a.sym), len(d.b.sym)
	for i, j := 0, 0; i < n || j < m; {
		if i < n && j < m && !d.a.changed[i] && !d.b.changed[j] {
			i, j = i+1, j+1
			continue
		}
		e := Edit{A0: i, B0: j}
		for i < n && d.a.changed[i] {
			i++
		}
		for j < m && d.b.changed[j] {
			j++
		}
		e.A1, e.B1 = i, j
		out = append(out, e)
	}
	return out
}

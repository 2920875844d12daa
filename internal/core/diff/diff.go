// Package diff compares sequences of lines or words.
//
// Histogram is the histogram variant of patience diff as JGit's documentation
// describes it; where every common line is too frequent to anchor on, it falls
// back to Myers' linear-space algorithm (E. W. Myers, "An O(ND) Difference
// Algorithm and Its Variations", Algorithmica 1, 1986). Both then slide hunks
// that could stand in several places to their last place, or to where they
// line up with a hunk of the other text.
package diff

// Edit says that a[A0:A1] was replaced by b[B0:B1]. Either may be empty, not both.
type Edit struct{ A0, A1, B0, B1 int }

// Histogram lists the edits that turn a into b, in order, no two of them
// touching. Expected time O(n + m) on ordinary texts, at worst O(64·n·m).
func Histogram(a, b []string) []Edit {
	return run(a, b, func(d *differ, a0, a1, b0, b1 int) {
		d.index.init(len(a), d.symbols)
		d.histogram(a0, a1, b0, b1)
	})
}

// Myers lists the edits that turn a into b. Time O((n+m)·d) for d differences,
// with a bound on d past which the script may be longer than the shortest.
func Myers(a, b []string) []Edit { return run(a, b, (*differ).myers) }

func run(a, b []string, algorithm func(d *differ, a0, a1, b0, b1 int)) []Edit {
	d := newDiffer(a, b)
	algorithm(d, 0, len(a), 0, len(b))
	compact(&d.a, &d.b)
	compact(&d.b, &d.a)
	return d.edits()
}

// side is one text of a comparison: its lines as symbols (equal lines have
// equal symbols) and which of them the other text lacks.
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
	symbols int   // that there are
	index   index // of the histogram
	forward []int // of Myers: furthest x on each diagonal
	back    []int
}

func newDiffer(a, b []string) *differ {
	ids := make(map[string]int32, len(a))
	intern := func(lines []string) side {
		s := side{make([]int32, len(lines)), make([]bool, len(lines))}
		for i, l := range lines {
			id, ok := ids[l]
			if !ok {
				id = int32(len(ids))
				ids[l] = id
			}
			s.sym[i] = id
		}
		return s
	}
	d := &differ{a: intern(a), b: intern(b)}
	d.symbols = len(ids)
	return d
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

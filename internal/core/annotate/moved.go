package annotate

import (
	"cmp"
	"slices"
	"unicode"

	"dorvik.dev/dorvik/internal/core/diff"
)

const (
	leastMoved = 20 // least letters and digits of lines that count as moved: shorter ones occur everywhere
	mostPlaces = 16 // most occurrences of a line that a search begins at: a frequent line proves nothing
)

// block is a run of lines of the new text that the old one has elsewhere.
type block struct {
	run    int // index among the runs searched for
	off    int // offset in the run
	at, n  int // offset in the middle of the old text
	weight int // number of letters and digits
}

// followMoved finds moved lines: lines of which each text has more copies than the other. The heaviest block comes
// first, and each line of the old text is used once. moved has positions in the old text; left is the rest.
func followMoved(m diff.Middle, lines []run) (moved, left []run) {
	was, is, above := m.A, m.B, m.Above
	free := make([]bool, len(was)) // old lines that are gone, and that no run was matched with
	places := map[string][]int{}
	for _, e := range m.Edits {
		for i := e.A0 - above; i < e.A1-above; i++ {
			free[i] = true
			places[was[i]] = append(places[was[i]], i)
		}
	}
	left = slices.Clone(lines)
	for len(places) > 0 {
		best := block{weight: leastMoved - 1}
		for i, r := range left {
			for off := 0; off < r.n; off++ {
				of := places[is[r.at-above+off]]
				if len(of) > mostPlaces {
					continue
				}
				for _, at := range of {
					b := block{run: i, off: off, at: at}
					for off+b.n < r.n && at+b.n < len(was) && free[at+b.n] && was[at+b.n] == is[r.at-above+off+b.n] {
						b.weight += weight(was[at+b.n])
						b.n++
					}
					if b.weight > best.weight {
						best = b
					}
				}
			}
		}
		if best.n == 0 {
			break
		}
		for k := range best.n {
			free[best.at+k] = false
		}
		r := left[best.run]
		moved = append(moved, run{r.final + best.off, best.at + above, best.n})
		end := best.off + best.n
		rest := []run{{r.final, r.at, best.off}, {r.final + end, r.at + end, r.n - end}}
		rest = slices.DeleteFunc(rest, func(r run) bool { return r.n == 0 })
		left = slices.Replace(left, best.run, best.run+1, rest...)
	}
	slices.SortFunc(left, func(a, b run) int { return cmp.Compare(a.at, b.at) })
	return moved, left
}

// weight returns the number of letters and digits.
func weight(line string) (n int) {
	for _, r := range line {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			n++
		}
	}
	return n
}

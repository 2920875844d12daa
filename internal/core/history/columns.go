package history

import (
	"cmp"
	"slices"
)

// search finds columns for the lines that begin in a piece. It goes depth first and tries the cheapest column of each
// line first, so the first result is the greedy one. It abandons branches that save no crossing over the best known
// result (A. H. Land, A. G. Doig, "An Automatic Method of Solving Discrete Programming Problems", Econometrica 28,
// 1960).
type search struct {
	*piece
	best   []int
	cost   int
	trials int
}

const (
	maxTrials = 2000
	fewLines  = 6
	crossing  = 1 << 20 // cost of a crossing, in columns: more than any drawing has
)

func newSearch(p *piece) *search { return &search{piece: p, cost: far} }

func (s *search) run() {
	if len(s.fresh) > 0 {
		s.place(0, 0)
	}
	for i, l := range s.fresh {
		l.column = s.best[i]
	}
}

// choice is a column for a line and its cost.
type choice struct{ column, cost int }

func (s *search) place(i, spent int) {
	if s.best != nil && spent/crossing >= s.cost/crossing {
		return
	}
	if i == len(s.fresh) {
		s.cost = spent
		s.best = s.best[:0]
		for _, l := range s.fresh {
			s.best = append(s.best, l.column)
		}
		return
	}
	l := s.fresh[i]
	for _, c := range s.choices(l, i) {
		if s.trials++; s.trials > maxTrials && s.best != nil {
			break
		}
		l.column = c.column
		s.place(i+1, spent+c.cost)
	}
	l.column = -1
}

// choices lists the columns that stay free for a line, the cheapest first. If there are few columns it leaves some
// empty for later lines. The first line of all is the leftmost.
func (s *search) choices(l *line, i int) []choice {
	taken := map[int]bool{}
	last := -1
	for _, o := range s.all {
		if o == l || o.column < 0 {
			continue
		}
		if o.ends == far || o.ends >= l.begins-1 {
			last = max(last, o.column)
		}
		if apart(o, l) && apart(l, o) {
			continue
		}
		taken[o.column] = true
	}
	var out []choice
	if last < 0 {
		return []choice{{0, 0}}
	}
	spare := 0
	if rest := len(s.fresh) - 1 - i; rest <= fewLines {
		spare = rest
	}
	for column := 0; column <= last+1+spare; column++ {
		if !taken[column] {
			l.column = column
			out = append(out, choice{column, s.adds(l)})
		}
	}
	l.column = -1
	slices.SortStableFunc(out, func(a, b choice) int { return cmp.Compare(a.cost, b.cost) })
	return out
}

// apart reports whether one of two lines ends before the other begins.
func apart(a, b *line) bool {
	below := func(a, b *line) bool { // reports whether b begins well below a's end
		end := a.ends
		if a.gap && end != far {
			end++
		}
		return a.ends != far && b.begins > end
	}
	return below(a, b) || below(b, a)
}

// adds returns the cost of a line among those that have columns already.
func (s *search) adds(l *line) (cost int) {
	cost = l.column
	for _, b := range s.bends {
		if b.from.column < 0 || b.to.column < 0 {
			continue
		}
		lo, hi := min(b.from.column, b.to.column), max(b.from.column, b.to.column)
		if b.from == l || b.to == l {
			cost += hi - lo
			for _, o := range s.all {
				if o.column > lo && o.column < hi && o.begins < b.row && o.ends > b.row {
					cost += crossing
				}
			}
		} else if l.column > lo && l.column < hi && l.begins < b.row && l.ends > b.row {
			cost += crossing
		}
	}
	return cost
}

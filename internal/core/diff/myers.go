package diff

import "math"

// costBound is the number of differences beyond which the search accepts the furthest point it has reached. The square
// root keeps the cost near O(n^1.5).
func costBound(n int) int { return max(256, int(math.Sqrt(float64(n)))) }

// myers marks a shortest edit script of the region. It halves the region at the middle of an optimal path.
func (d *differ) myers(a0, a1, b0, b1 int) {
	as, bs := d.a.sym, d.b.sym
	if d.forward == nil {
		d.forward = make([]int, len(as)+len(bs)+3)
		d.back = make([]int, len(as)+len(bs)+3)
	}
	for {
		for a0 < a1 && b0 < b1 && as[a0] == bs[b0] {
			a0, b0 = a0+1, b0+1
		}
		for a0 < a1 && b0 < b1 && as[a1-1] == bs[b1-1] {
			a1, b1 = a1-1, b1-1
		}
		if a0 == a1 || b0 == b1 {
			d.a.mark(a0, a1)
			d.b.mark(b0, b1)
			return
		}
		x, y := d.middle(a0, a1, b0, b1)
		d.myers(a0, x, b0, y)
		a0, b0 = x, y
	}
}

// middle returns a point on an optimal path from (a0,b0) to (a1,b1). It searches from both ends until the searches
// meet. It never returns an end of the region.
func (d *differ) middle(a0, a1, b0, b1 int) (x, y int) {
	as, bs := d.a.sym, d.b.sym
	origin := len(bs) + 1 // index of diagonal 0 in the arrays
	lowest, highest := a0-b1, a1-b0
	f := frontier{x: d.forward, origin: origin, lo: a0 - b0, hi: a0 - b0, outside: -1}
	b := frontier{x: d.back, origin: origin, lo: a1 - b1, hi: a1 - b1, outside: math.MaxInt}
	odd := (f.lo-b.lo)&1 != 0
	f.x[f.lo+origin], b.x[b.lo+origin] = a0, a1
	bound := costBound(a1 - a0 + b1 - b0)
	for cost := 1; ; cost++ {
		f.widen(lowest, highest)
		for k := f.hi; k >= f.lo; k -= 2 {
			x := max(f.x[k-1+origin]+1, f.x[k+1+origin])
			y := x - k
			for x < a1 && y < b1 && as[x] == bs[y] {
				x, y = x+1, y+1
			}
			f.x[k+origin] = x
			if odd && b.lo <= k && k <= b.hi && b.x[k+origin] <= x {
				return x, y
			}
		}
		b.widen(lowest, highest)
		for k := b.hi; k >= b.lo; k -= 2 {
			x := min(b.x[k-1+origin], b.x[k+1+origin]-1)
			y := x - k
			for x > a0 && y > b0 && as[x-1] == bs[y-1] {
				x, y = x-1, y-1
			}
			b.x[k+origin] = x
			if !odd && f.lo <= k && k <= f.hi && x <= f.x[k+origin] {
				return x, y
			}
		}
		if cost >= bound {
			return furthest(f, b, a0, a1, b0, b1)
		}
	}
}

// frontier is the progress of a search: on diagonal k = x-y it has reached x = at[k+origin], for every other k from lo
// to hi.
type frontier struct {
	x       []int
	origin  int
	lo, hi  int
	outside int // marks a diagonal that no search continues from
}

// widen adds a diagonal on each side, or drops one where the region ends.
func (f *frontier) widen(lowest, highest int) {
	if f.lo > lowest {
		f.lo--
		f.x[f.lo-1+f.origin] = f.outside
	} else {
		f.lo++
	}
	if f.hi < highest {
		f.hi++
		f.x[f.hi+1+f.origin] = f.outside
	} else {
		f.hi--
	}
}

// furthest returns the furthest point of the search that came further.
func furthest(f, b frontier, a0, a1, b0, b1 int) (x, y int) {
	fBest, fx, fy := -1, 0, 0
	for k := f.hi; k >= f.lo; k -= 2 {
		x := min(f.x[k+f.origin], a1, b1+k)
		if x+x-k > fBest {
			fBest, fx, fy = x+x-k, x, x-k
		}
	}
	bBest, bx, by := math.MaxInt, 0, 0
	for k := b.hi; k >= b.lo; k -= 2 {
		x := max(b.x[k+b.origin], a0, b0+k)
		if x+x-k < bBest {
			bBest, bx, by = x+x-k, x, x-k
		}
	}
	if fBest-(a0+b0) > (a1+b1)-bBest {
		return fx, fy
	}
	return bx, by
}

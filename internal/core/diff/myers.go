package diff

import "math"

// Past this many differences the search takes the furthest point it reached
// rather than the best one. The root keeps the cost near O(n^1.5).
func costBound(n int) int { return max(256, int(math.Sqrt(float64(n)))) }

// myers marks a shortest edit script of the region, halving it at the middle
// of an optimal path.
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

// middle gives a point that an optimal path from (a0,b0) to (a1,b1) passes
// through, by searching from both ends until the searches meet. Diagonal k is
// x-y; forward[k] and back[k] hold the furthest x reached on it. Neither end
// of the region is ever given.
func (d *differ) middle(a0, a1, b0, b1 int) (x, y int) {
	as, bs := d.a.sym, d.b.sym
	origin := len(bs) + 1 // of the diagonals in the arrays
	fwd := func(k int) *int { return &d.forward[k+origin] }
	bck := func(k int) *int { return &d.back[k+origin] }
	lowest, highest := a0-b1, a1-b0
	fMid, bMid := a0-b0, a1-b1
	odd := (fMid-bMid)&1 != 0
	fLo, fHi, bLo, bHi := fMid, fMid, bMid, bMid
	*fwd(fMid), *bck(bMid) = a0, a1
	bound := costBound(a1 - a0 + b1 - b0)

	for cost := 1; ; cost++ {
		// Widen by a diagonal on each side, or narrow where the region ends.
		if fLo > lowest {
			fLo--
			*fwd(fLo - 1) = -1
		} else {
			fLo++
		}
		if fHi < highest {
			fHi++
			*fwd(fHi + 1) = -1
		} else {
			fHi--
		}
		for k := fHi; k >= fLo; k -= 2 {
			x := max(*fwd(k - 1)+1, *fwd(k + 1))
			y := x - k
			for x < a1 && y < b1 && as[x] == bs[y] {
				x, y = x+1, y+1
			}
			*fwd(k) = x
			if odd && bLo <= k && k <= bHi && *bck(k) <= x {
				return x, y
			}
		}
		if bLo > lowest {
			bLo--
			*bck(bLo - 1) = math.MaxInt
		} else {
			bLo++
		}
		if bHi < highest {
			bHi++
			*bck(bHi + 1) = math.MaxInt
		} else {
			bHi--
		}
		for k := bHi; k >= bLo; k -= 2 {
			x := min(*bck(k - 1), *bck(k + 1)-1)
			y := x - k
			for x > a0 && y > b0 && as[x-1] == bs[y-1] {
				x, y = x-1, y-1
			}
			*bck(k) = x
			if !odd && fLo <= k && k <= fHi && x <= *fwd(k) {
				return x, y
			}
		}
		if cost < bound {
			continue
		}
		// Too far apart: take whichever search came further.
		fBest, fx := -1, 0
		for k := fHi; k >= fLo; k -= 2 {
			x := min(*fwd(k), a1, b1+k)
			if x+x-k > fBest {
				fBest, fx = x+x-k, x
				y = x - k
			}
		}
		bBest, bx, by := math.MaxInt, 0, 0
		for k := bHi; k >= bLo; k -= 2 {
			x := max(*bck(k), a0, b0+k)
			if x+x-k < bBest {
				bBest, bx, by = x+x-k, x, x-k
			}
		}
		if fBest-(a0+b0) > (a1+b1)-bBest {
			return fx, y
		}
		return bx, by
	}
}

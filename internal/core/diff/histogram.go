package diff

// maxChain is the number of occurrences in a beyond which a line is no anchor.
const maxChain = 64

// index records where each symbol stands in a region of a: first[sym] is its first position plus one, next[pos] the
// following one, count[sym] their number.
type index struct {
	first, count, next []int32
}

func (x *index) init(lines, symbols int) {
	x.first = make([]int32, symbols)
	x.count = make([]int32, symbols)
	x.next = make([]int32, lines)
}

func (x *index) build(sym []int32, lo, hi int) {
	for i := hi - 1; i >= lo; i-- {
		s := sym[i]
		x.next[i] = x.first[s]
		x.first[s] = int32(i + 1)
		x.count[s]++
	}
}

func (x *index) clear(sym []int32, lo, hi int) {
	for i := lo; i < hi; i++ {
		x.first[sym[i]], x.count[sym[i]] = 0, 0
	}
}

// anchor is a run of lines that both texts have, around a rare one.
type anchor struct{ a0, a1, b0, b1 int }

// histogram splits the region at its best anchor and continues with both parts.
func (d *differ) histogram(a0, a1, b0, b1 int) {
	for a0 < a1 && b0 < b1 {
		at, rarity, common := d.anchor(a0, a1, b0, b1)
		if common && rarity > maxChain {
			d.myers(a0, a1, b0, b1)
			return
		}
		if at.a0 == at.a1 {
			break // nothing in common
		}
		d.histogram(a0, at.a0, b0, at.b0)
		a0, b0 = at.a1, at.b1
	}
	d.a.mark(a0, a1)
	d.b.mark(b0, b1)
}

// anchor finds the common run with the rarest line, or the longest of several. rarity is the number of that line's
// occurrences in a's region. common reports whether the texts share any line.
func (d *differ) anchor(a0, a1, b0, b1 int) (best anchor, rarity int32, common bool) {
	as, bs, x := d.a.sym, d.b.sym, &d.index
	x.build(as, a0, a1)
	defer x.clear(as, a0, a1)

	rarity = maxChain + 1
	for j := b0; j < b1; {
		after := j + 1
		s := bs[j]
		if x.count[s] > 0 {
			common = true
		}
		if x.count[s] == 0 || x.count[s] > rarity {
			j = after
			continue
		}
		for p := x.first[s]; p != 0; {
			run := anchor{int(p) - 1, int(p), j, j + 1}
			rare := x.count[s]
			for run.a0 > a0 && run.b0 > b0 && as[run.a0-1] == bs[run.b0-1] {
				run.a0--
				run.b0--
				if rare > 1 {
					rare = min(rare, x.count[as[run.a0]])
				}
			}
			for run.a1 < a1 && run.b1 < b1 && as[run.a1] == bs[run.b1] {
				if rare > 1 {
					rare = min(rare, x.count[as[run.a1]])
				}
				run.a1++
				run.b1++
			}
			after = max(after, run.b1)
			if run.a1-run.a0 > best.a1-best.a0 || rare < rarity {
				best, rarity = run, rare
			}
			for p = x.next[p-1]; p != 0 && int(p) <= run.a1; {
				p = x.next[p-1]
			}
		}
		j = after
	}
	return best, rarity, common
}

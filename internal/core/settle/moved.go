package settle

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
)

// Relocation is the part of an option outside the question's place: where one side moved lines that the other edited,
// the region of the new place becomes Text.
type Relocation struct {
	Hunk int        // index in File.Text.Regions, of a region that is not in conflict
	Side merge.Side // the side that moved the lines
	Text string
}

// mover finds lines that one side moved. Its first use takes time and memory proportional to the texts; later uses to
// the lines.
type mover struct {
	f     *File
	once  func() merge.Three[map[string]int] // by version: positions of lines that occur once
	taken map[int]bool                       // regions that a way uses already
}

func newMover(f *File) *mover {
	return &mover{f, sync.OnceValue(func() merge.Three[map[string]int] {
		return merge.Three[map[string]int]{Base: single(f.Text.Base), Yours: single(f.Text.Yours),
			Theirs: single(f.Text.Theirs)}
	}), map[int]bool{}}
}

// single maps the lines that occur once, without blanks at their ends, to their positions.
func single(lines []string) map[string]int {
	at := map[string]int{}
	for i, l := range lines {
		l = strings.TrimSpace(l)
		if _, again := at[l]; again || l == "" {
			i = -1
		}
		at[l] = i
	}
	maps.DeleteFunc(at, func(_ string, i int) bool { return i < 0 })
	return at
}

// follow returns the option that applies one side's edit at the place to which the other side moved the lines.
func (m *mover) follow(c *Question) (Option, bool) {
	base, t := diff.Lines(c.Base), m.f.Text
	for _, s := range []struct {
		side   merge.Side
		origin merge.Origin
		mover  string
		other  string
		span   func(merge.Hunk) merge.Span
		why    string
	}{
		{merge.Yours, merge.FromYours, c.Yours, c.Theirs, func(r merge.Hunk) merge.Span { return r.Yours },
			"their edit, at line %d, where you moved it"},
		{merge.Theirs, merge.FromTheirs, c.Theirs, c.Yours, func(r merge.Hunk) merge.Span { return r.Theirs },
			"your edit, at line %d, where they moved it"},
	} {
		gone, ok := removedRun(base, diff.Lines(s.mover))
		if !ok {
			continue
		}
		block := base[gone.Lo:gone.Hi]
		at, ok := m.went(block, s.origin, s.side, s.span)
		if !ok {
			continue
		}
		put := t.Lines(t.Hunks[at])
		rest, inside, ok := split(base, diff.Lines(s.other), gone)
		if !ok {
			continue
		}
		there, ok := carry(block, put, inside)
		if !ok || there == strings.Join(put, "") {
			continue
		}
		here, ok := weaveLines(slices.Concat(base[:gone.Lo], base[gone.Hi:]), diff.Lines(s.mover), rest)
		if !ok {
			continue
		}
		m.taken[at] = true
		return Option{Way: Weave, Text: here, Reason: fmt.Sprintf(s.why, s.span(t.Hunks[at]).Lo+1),
			Moved: &Relocation{at, s.side, there}}, true
	}
	return Option{}, false
}

// went finds the region that contains at least half of a block's lines, one of which is unique in base and side.
func (m *mover) went(block []string, origin merge.Origin, side merge.Side,
	span func(merge.Hunk) merge.Span) (region int, ok bool) {
	regions := m.f.Text.Hunks
	once := m.once()
	base, places := once.Base, *once.Of(side)
	votes, full := map[int]int{}, 0
	for _, l := range block {
		l = strings.TrimSpace(l)
		if l != "" {
			full++
		}
		at, ok := places[l]
		if _, inBase := base[l]; !ok || !inBase {
			continue
		}
		i, _ := slices.BinarySearchFunc(regions, at, func(r merge.Hunk, line int) int {
			if span(r).Hi <= line {
				return -1
			}
			return 1
		})
		if regions[i].Origin == origin && !m.taken[i] {
			votes[i]++
		}
	}
	region = -1
	for i, n := range votes {
		if region < 0 || n > votes[region] || n == votes[region] && i < region {
			region = i
		}
	}
	if region < 0 {
		return 0, false
	}
	gone := make([]bool, len(block))
	for _, e := range diff.Histogram(plain(block), plain(m.f.Text.Lines(regions[region]))) {
		fill(gone, e.A0, e.A1)
	}
	same := 0
	for i, l := range block {
		if !gone[i] && words(l) != "" {
			same++
		}
	}
	return region, 2*same >= full
}

// removedRun returns the lines of the base that a side removed in one piece, possibly replaced by others. ok is false
// if it did anything else.
func removedRun(base, side []string) (run merge.Span, ok bool) {
	edits := diff.Histogram(base, side)
	if len(edits) != 1 || edits[0].A0 == edits[0].A1 {
		return run, false
	}
	return merge.Span{Lo: edits[0].A0, Hi: edits[0].A1}, true
}

// split divides a side at the ends of a run of the base. ok is false if an edit crosses an end.
func split(base, side []string, run merge.Span) (rest, inside []string, ok bool) {
	lo, hi := run.Lo, run.Hi // as positions in the side
	for _, e := range diff.Histogram(base, side) {
		grown := e.B1 - e.B0 - (e.A1 - e.A0)
		switch {
		case e.A1 < run.Lo || e.A1 == run.Lo && e.A0 < e.A1:
			lo, hi = lo+grown, hi+grown
		case run.Lo <= e.A0 && e.A1 <= run.Hi:
			hi += grown
		case e.A0 >= run.Hi:
		default:
			return nil, nil, false
		}
	}
	return slices.Concat(side[:lo], side[hi:]), side[lo:hi], true
}

// carry applies an edit of a block at its new place, with the indentation there.
func carry(block, put, edited []string) (string, bool) {
	before, inside, after := cutBlank(put)
	if _, was, _ := cutBlank(block); onlyBlanks(was, inside) && !slices.Equal(was, inside) {
		_, edit, _ := cutBlank(edited)
		text, ok := indentLike(was, inside, nil, edit)
		return before + text + after, ok
	}
	return weaveLines(block, put, edited)
}

// cutBlank removes blank lines at both ends.
func cutBlank(lines []string) (before string, inside []string, after string) {
	lo, hi := 0, len(lines)
	for lo < hi && words(lines[lo]) == "" {
		lo++
	}
	for hi > lo && words(lines[hi-1]) == "" {
		hi--
	}
	return strings.Join(lines[:lo], ""), lines[lo:hi], strings.Join(lines[hi:], "")
}

// weaveLines joins three texts by lines and, where that is not enough, by words.
func weaveLines(base, yours, theirs []string) (string, bool) {
	t, fits := merge.Merge3(base, yours, theirs), true
	text := t.Join(func(_ int, r merge.Hunk) string {
		woven, ok := WeaveText(strings.Join(base[r.Base.Lo:r.Base.Hi], ""),
			strings.Join(yours[r.Yours.Lo:r.Yours.Hi], ""), strings.Join(theirs[r.Theirs.Lo:r.Theirs.Hi], ""))
		fits = fits && ok
		return woven
	})
	return text, fits
}

func fill(set []bool, from, to int) {
	for i := from; i < to; i++ {
		set[i] = true
	}
}

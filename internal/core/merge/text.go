package merge

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
)

// Origin is where a region of a joined text, or a joined path, comes from.
type Origin uint8

const (
	FromBase   Origin = iota // neither side changed it
	FromYours                // only yours changed it
	FromTheirs               // only theirs changed it
	FromBoth                 // both made the same change, or each a part of it
	Contested                // both changed it differently: a conflict
)

// Span is the half-open range [Lo, Hi) of lines, counted from 0.
type Span struct{ Lo, Hi int }

// Empty reports whether the span holds no line.
func (s Span) Empty() bool { return s.Lo == s.Hi }

// Hunk is a run of lines of one origin and its place in all three texts.
type Hunk struct {
	Origin              Origin
	Base, Yours, Theirs Span
}

// Text is three versions of a text, divided into regions in order and without gaps.
type Text struct {
	Base, Yours, Theirs []string
	Hunks               []Hunk
	NewEnds             Origin // the side that changed all line ends: all texts then have the new ones
}

// Merge3 joins three texts, given as lines. Edits of the two sides that overlap or touch contest their place unless
// they are equal. Where both sides only added lines, their common lines are no conflict. It takes the time of two
// histogram diffs.
func Merge3(base, yours, theirs []string) Text {
	t := Text{Base: base, Yours: yours, Theirs: theirs}
	a, b := diff.Histograms(base, yours, theirs)
	t.Hunks = hunks(t, a, b)
	return t
}

func hunks(t Text, a, b []diff.Edit) []Hunk {
	var out []Hunk
	at := Hunk{} // the end of the hunks so far, in all three texts
	emit := func(o Origin, base, yours, theirs int) {
		r := Hunk{o, Span{at.Base.Hi, base}, Span{at.Yours.Hi, yours}, Span{at.Theirs.Hi, theirs}}
		if !r.Base.Empty() || !r.Yours.Empty() || !r.Theirs.Empty() {
			out = append(out, r)
		}
		at = r
	}
	for len(a) > 0 || len(b) > 0 {
		// The next cluster: a chain of edits that touch, of either side.
		lo, hi := len(t.Base), -1
		if len(a) > 0 {
			lo = a[0].A0
		}
		if len(b) > 0 {
			lo = min(lo, b[0].A0)
		}
		emit(FromBase, lo, at.Yours.Hi+lo-at.Base.Hi, at.Theirs.Hi+lo-at.Base.Hi)
		hi = lo
		var ours, others int
		for {
			if ours < len(a) && a[ours].A0 <= hi {
				hi = max(hi, a[ours].A1)
				ours++
			} else if others < len(b) && b[others].A0 <= hi {
				hi = max(hi, b[others].A1)
				others++
			} else {
				break
			}
		}
		yEnd := at.Yours.Hi + hi - lo + growth(a[:ours])
		tEnd := at.Theirs.Hi + hi - lo + growth(b[:others])
		a, b = a[ours:], b[others:]
		switch y, th := t.Yours[at.Yours.Hi:yEnd], t.Theirs[at.Theirs.Hi:tEnd]; {
		case others == 0:
			emit(FromYours, hi, yEnd, tEnd)
		case ours == 0:
			emit(FromTheirs, hi, yEnd, tEnd)
		case slices.Equal(y, th):
			emit(FromBoth, hi, yEnd, tEnd)
		case lo == hi:
			y0, t0 := at.Yours.Hi, at.Theirs.Hi
			for _, e := range diff.Histogram(y, th) {
				emit(FromBoth, hi, y0+e.A0, t0+e.B0)
				emit(Contested, hi, y0+e.A1, t0+e.B1)
			}
			emit(FromBoth, hi, yEnd, tEnd)
		default:
			emit(Contested, hi, yEnd, tEnd)
		}
	}
	emit(FromBase, len(t.Base), len(t.Yours), len(t.Theirs))
	return out
}

func growth(edits []diff.Edit) (n int) {
	for _, e := range edits {
		n += e.B1 - e.B0 - (e.A1 - e.A0)
	}
	return n
}

// Conflicts returns the number of contested regions.
func (t Text) Conflicts() (n int) {
	for _, r := range t.Hunks {
		if r.Origin == Contested {
			n++
		}
	}
	return n
}

// Lines returns the joined lines of an uncontested region.
func (t Text) Lines(r Hunk) []string {
	if r.Origin == FromTheirs {
		return t.Theirs[r.Theirs.Lo:r.Theirs.Hi]
	}
	return t.Yours[r.Yours.Lo:r.Yours.Hi]
}

// Of returns the lines that a version has in a region.
func (t Text) Of(r Hunk, version Origin) []string {
	switch version {
	case FromYours:
		return t.Yours[r.Yours.Lo:r.Yours.Hi]
	case FromTheirs:
		return t.Theirs[r.Theirs.Lo:r.Theirs.Hi]
	}
	return t.Base[r.Base.Lo:r.Base.Hi]
}

// size returns the number of bytes of the uncontested regions.
func (t Text) size() (n int) {
	for _, r := range t.Hunks {
		if r.Origin == Contested {
			continue
		}
		for _, l := range t.Lines(r) {
			n += len(l)
		}
	}
	return n
}

// Clean returns the joined text; ok is false if there are conflicts.
func (t Text) Clean() (text string, ok bool) {
	if t.Conflicts() > 0 {
		return "", false
	}
	return t.Join(nil), true
}

// Join returns the joined text. It calls settle for the text of each contested region with its number, from 0.
func (t Text) Join(settle func(conflict int, r Hunk) string) string {
	var b strings.Builder
	b.Grow(t.size())
	n := 0
	for _, r := range t.Hunks {
		if r.Origin == Contested {
			b.WriteString(settle(n, r))
			n++
			continue
		}
		for _, l := range t.Lines(r) {
			b.WriteString(l)
		}
	}
	return b.String()
}

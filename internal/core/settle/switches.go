package settle

import (
	"cmp"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
)

// Switch is one edit to a text: a removed line, an added line, or changed words. If it is on, the result contains it.
type Switch struct {
	Side     merge.Origin // FromYours, FromTheirs or FromBoth
	Line     int          // line of the base, from 0, that the edit is in, or before which it inserts a line
	Old, New string       // removed and inserted text
	Within   bool         // the edit is within a line; otherwise it is a whole line
	Minor    bool         // the edit changes blanks only, and goes with the same side's other edits to the line
	On       bool

	lo, hi int // range of removed atoms of the base
}

// Board holds the single edits of two sides to a text, each of which can be on or off. With exactly one side's edits
// on, the result is that side's text.
type Board struct {
	Switches []Switch // in order of position; insertions at one position keep their order
	Base     []string // lines of the base

	atoms []string
	start []int         // index of the first atom of each line of the base, and one past the last
	to    map[int][]int // by line of the base: indexes of its edits
}

// NewBoard finds the single edits of both sides. All are off. It takes the time of two line diffs and of word diffs of
// the changed lines.
func NewBoard(base, yours, theirs string) *Board {
	b := &Board{Base: diff.Lines(base)}
	for _, l := range b.Base {
		b.start = append(b.start, len(b.atoms))
		b.atoms = append(b.atoms, Atoms(l)...)
	}
	b.start = append(b.start, len(b.atoms))
	mine, other := b.edits(merge.FromYours, diff.Lines(yours)), b.edits(merge.FromTheirs, diff.Lines(theirs))
	comeMine, comeOther := coming(mine), coming(other)
	unpaired := map[Switch]int{} // theirs' edits without a counterpart
	for _, o := range other {
		unpaired[o.edit()]++
	}
	paired := map[Switch]int{}
	for _, s := range mine {
		together := !s.comes() || slices.Equal(comeMine[s.lo], comeOther[s.lo])
		if k := s.edit(); together && unpaired[k] > 0 {
			s.Side = merge.FromBoth
			unpaired[k]--
			paired[k]++
		}
		b.Switches = append(b.Switches, s)
	}
	for _, o := range other {
		if k := o.edit(); paired[k] > 0 {
			paired[k]--
			continue
		}
		b.Switches = append(b.Switches, o)
	}
	slices.SortStableFunc(b.Switches, func(x, y Switch) int {
		return cmp.Or(cmp.Compare(x.lo, y.lo), cmp.Compare(x.rank(), y.rank()))
	})
	b.to = map[int][]int{}
	for i, s := range b.Switches {
		if !s.comes() {
			b.to[s.Line] = append(b.to[s.Line], i)
		}
	}
	return b
}

// edit returns the edit without its side.
func (s Switch) edit() Switch {
	s.Side = merge.FromBase
	return s
}

// rank orders edits at one place: added lines come before edits to the line there.
func (s *Switch) rank() int {
	if s.comes() {
		return 0
	}
	return 1
}

// comes reports whether it adds a line.
func (s *Switch) comes() bool { return !s.Within && s.New != "" }

// coming returns the lines that are added at each place.
func coming(list []Switch) map[int][]string {
	out := map[int][]string{}
	for _, s := range list {
		if s.comes() {
			out[s.lo] = append(out[s.lo], s.New)
		}
	}
	return out
}

// edits returns the edits of one side.
func (b *Board) edits(side merge.Origin, lines []string) (out []Switch) {
	for _, e := range diff.Histogram(b.Base, lines) {
		for e.A0 < e.A1 && e.B0 < e.B1 && b.alike(e.A0, lines[e.B0]) {
			out = append(out, b.within(side, e.A0, lines[e.B0])...)
			e.A0, e.B0 = e.A0+1, e.B0+1
		}
		for i := e.A0; i < e.A1; i++ {
			out = append(out, Switch{Side: side, Line: i, Old: b.Base[i], lo: b.start[i], hi: b.start[i+1]})
		}
		for _, l := range lines[e.B0:e.B1] {
			out = append(out, Switch{Side: side, Line: e.A1, New: l, lo: b.start[e.A1], hi: b.start[e.A1]})
		}
	}
	return out
}

// alike reports whether one line became the other: at least half of its words are left.
func (b *Board) alike(line int, to string) bool {
	was := Atoms(b.Base[line])
	stay, all, at := 0, 0, 0
	for _, e := range append(diff.WordEdits(slices.Clone(was), Atoms(to)), diff.Edit{A0: len(was), A1: len(was)}) {
		for _, w := range was[at:e.A0] {
			if diff.IsWord(w) {
				stay++
			}
		}
		at = e.A1
	}
	for _, w := range was {
		if diff.IsWord(w) {
			all++
		}
	}
	return all > 0 && 2*stay >= all && strings.HasSuffix(b.Base[line], "\n") == strings.HasSuffix(to, "\n")
}

// within returns the edits within a line.
func (b *Board) within(side merge.Origin, line int, to string) (out []Switch) {
	was, is := b.atoms[b.start[line]:b.start[line+1]], Atoms(to)
	for _, e := range diff.WordEdits(slices.Clone(was), is) {
		s := Switch{Side: side, Line: line, Within: true, Old: strings.Join(was[e.A0:e.A1], ""),
			New: strings.Join(is[e.B0:e.B1], ""), lo: b.start[line] + e.A0, hi: b.start[line] + e.A1}
		s.Minor = strings.TrimSpace(s.Old+s.New) == ""
		out = append(out, s)
	}
	if !slices.ContainsFunc(out, func(s Switch) bool { return !s.Minor }) {
		for i := range out {
			out[i].Minor = false
		}
	}
	return out
}

// clash reports whether two edits of different sides exclude each other: they change the same words, or one changes a
// line that the other removes.
func (s *Switch) clash(o *Switch) bool {
	switch {
	case s.Side == o.Side, s.comes(), o.comes(), s.New == "" && o.New == "":
		return false
	case s.lo == s.hi || o.lo == o.hi: // insertions of words
		in, around := s, o
		if o.lo == o.hi {
			in, around = o, s
		}
		return around.lo < in.lo && in.lo < around.hi || !around.Within && around.lo == in.lo && around.lo < around.hi
	}
	return s.lo < o.hi && o.lo < s.hi
}

// Toggle turns an edit on or off, together with its companions. It turns off edits of the other side that clash with
// it.
func (b *Board) Toggle(i int) {
	s := &b.Switches[i]
	b.set(i, !s.On)
	for _, k := range b.to[s.Line] {
		if o := &b.Switches[k]; !s.Minor && o.Minor && o.Line == s.Line && o.Side == s.Side {
			b.set(k, s.On)
		}
	}
}

func (b *Board) set(i int, on bool) {
	s := &b.Switches[i]
	s.On = on
	for _, k := range b.clashing(i) {
		if on {
			b.Switches[k].On = false
		}
	}
}

// clashing returns the edits that are on and clash with one.
func (b *Board) clashing(i int) (out []int) {
	s := &b.Switches[i]
	if s.comes() {
		return nil
	}
	for _, k := range b.to[s.Line] { // an edit never goes beyond its line
		if o := &b.Switches[k]; o.On && s.clash(o) {
			out = append(out, k)
		}
	}
	return out
}

// Take turns all edits of the sides on or off. Of two that clash yours is on.
func (b *Board) Take(yours, theirs bool) {
	for i := range b.Switches {
		b.Switches[i].On = false
	}
	for _, side := range []merge.Origin{merge.FromYours, merge.FromBoth, merge.FromTheirs} {
		for i := range b.Switches {
			s := &b.Switches[i]
			wanted := side != merge.FromTheirs && yours || side != merge.FromYours && theirs
			if s.Side == side && wanted && len(b.clashing(i)) == 0 {
				s.On = true
			}
		}
	}
}

// Start turns on the edits that result in a text. If the usual combinations do not, ok is false and nothing changes.
func (b *Board) Start(text string) (ok bool) {
	was := slices.Clone(b.Switches)
	for _, theirsFirst := range []bool{false, true} {
		if theirsFirst {
			b.theirsFirst()
		}
		for _, take := range [][2]bool{{true, true}, {true, false}, {false, true}, {false, false}} {
			if b.Take(take[0], take[1]); b.Text() == text {
				return true
			}
		}
	}
	b.Switches = was
	return false
}

// theirsFirst puts their added lines before yours.
func (b *Board) theirsFirst() {
	slices.SortStableFunc(b.Switches, func(x, y Switch) int {
		if x.lo != y.lo || !x.comes() || !y.comes() {
			return cmp.Or(cmp.Compare(x.lo, y.lo), cmp.Compare(x.rank(), y.rank()))
		}
		return cmp.Compare(y.Side, x.Side)
	})
}

// Move exchanges an added line with its neighbour at the same place and returns its new index.
func (b *Board) Move(i, by int) int {
	if !b.CanMove(i, by) {
		return i
	}
	b.Switches[i], b.Switches[i+by] = b.Switches[i+by], b.Switches[i]
	return i + by
}

// CanMove reports whether the switch and the one by positions away add lines at the same place.
func (b *Board) CanMove(i, by int) bool {
	if i+by < 0 || i < 0 || max(i, i+by) >= len(b.Switches) {
		return false
	}
	s, o := &b.Switches[i], &b.Switches[i+by]
	return s.comes() && o.comes() && s.lo == o.lo
}

// Fragment is a piece of a result and the side whose edit added it, or FromBase.
type Fragment struct {
	Text   string
	Origin merge.Origin
	Of     int // index of the switch, or of the base's line if Origin is FromBase
}

// Fragments returns the result piece by piece.
func (b *Board) Fragments() (out []Fragment) {
	var text strings.Builder // text of the current fragment
	flush := func() {
		if n := len(out); n > 0 && text.Len() > 0 {
			out[n-1].Text = text.String()
			text.Reset()
		}
	}
	defer flush()
	ended, last := true, -1 // whether the output ends with a line end, and the base's line it came from, -1 for none
	put := func(piece string, from merge.Origin, of, line int) {
		if piece == "" {
			return
		}
		if !ended && (line < 0 || line != last) { // the last line of a text may have no end
			piece = "\n" + piece
		}
		if n := len(out); n == 0 || out[n-1].Origin != from || out[n-1].Of != of {
			flush()
			out = append(out, Fragment{Origin: from, Of: of})
		}
		text.WriteString(piece)
		ended, last = strings.HasSuffix(piece, "\n"), line
	}
	gone := make([]bool, len(b.atoms))
	for _, s := range b.Switches {
		for i := s.lo; s.On && i < s.hi; i++ {
			gone[i] = true
		}
	}
	k, line := 0, 0
	for i := 0; i <= len(b.atoms); i++ {
		for ; k < len(b.Switches) && b.Switches[k].lo == i; k++ {
			s := b.Switches[k]
			switch {
			case s.On && s.Within:
				put(s.New, s.Side, k, s.Line)
			case s.On:
				put(s.New, s.Side, k, -1)
			}
		}
		for line+1 < len(b.start) && b.start[line+1] <= i {
			line++
		}
		if i < len(b.atoms) && !gone[i] {
			put(b.atoms[i], merge.FromBase, line, line)
		}
	}
	return out
}

// Text returns the result.
func (b *Board) Text() string {
	var text strings.Builder
	for _, f := range b.Fragments() {
		text.WriteString(f.Text)
	}
	return text.String()
}

// Adopt makes one edit in a text that was written from the base: by lines or, where those meet, by words. ok is false
// if the text has something else there. It takes the time of two diffs.
func (b *Board) Adopt(i int, text string) (with string, ok bool) {
	one := *b
	one.Switches = slices.Clone(b.Switches)
	for k := range one.Switches {
		one.Switches[k].On = k == i
	}
	t := merge.Merge3(b.Base, diff.Lines(text), diff.Lines(one.Text()))
	var out strings.Builder
	for _, h := range t.Hunks {
		if h.Origin != merge.Contested {
			out.WriteString(strings.Join(t.Lines(h), ""))
			continue
		}
		of := func(lines []string, at merge.Span) string { return strings.Join(lines[at.Lo:at.Hi], "") }
		is := of(t.Yours, h.Yours)
		woven, ok := WeaveText(of(t.Base, h.Base), is, of(t.Theirs, h.Theirs))
		if !ok {
			s := b.Switches[i]
			there := strings.Contains(is, s.New) && (s.Old == "" || !strings.Contains(is, s.Old))
			if woven = is; !there {
				return text, false
			}
		}
		out.WriteString(woven)
	}
	return out.String(), true
}

package settle

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/format"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/rx"
)

// place is the surroundings of a contested region: its file, the joined lines next to it (empty at an end) and the
// whole texts.
type place struct {
	path, before, after string
	line                int             // of before in the text of yours, from 0; -1 if there is none
	cut                 bool            // part of an addition by both sides, which share the lines around it
	entries             *format.Entries // nil if the texts have no entries or were not read
	text                *merge.Text     // the whole file's text; nil if there is none
	atoms               *wordwise       // of the contested region
}

// moment matches a time of day or a date of ISO 8601, by which rows are often in order.
var moment = rx.New(`\b(\d\d:\d\d(:\d\d)?|\d{4}-\d\d-\d\d([T ]\d\d:\d\d(:\d\d)?)?)\b`)

// ascend reports whether the line above, yours and theirs are in order by their times or dates, in this order only.
func (at place) ascend(yours, theirs []string) bool {
	if at.before == "" {
		return false
	}
	times := func(lists ...[]string) (out []string) {
		for _, l := range slices.Concat(lists...) {
			out = append(out, moment.FindString(l))
		}
		return out
	}
	all := times([]string{at.before}, yours, theirs)
	return !slices.Contains(all, "") && slices.IsSorted(all) && !slices.IsSorted(times(theirs, yours))
}

func indentOf(line string) string { return line[:len(line)-len(strings.TrimLeft(line, " \t"))] }

// indentLike returns edited with the indentation that spaced has where base had another. Unchanged lines are spaced's;
// new ones are indented like the nearest of those. put has the lines that go before each line of base, and after the
// last; nil for none. ok is false if an edit replaces lines between which some go, or adds some where others go.
func indentLike(base, spaced []string, put [][]string, edited []string) (text string, ok bool) {
	if put == nil {
		put = make([][]string, len(base)+1)
	}
	var out strings.Builder
	at := 0
	for _, e := range append(diff.Histogram(plain(base), plain(edited)), diff.Edit{A0: len(base), A1: len(base)}) {
		for i := at; i < e.A0; i++ {
			out.WriteString(strings.Join(put[i], "") + spaced[i])
		}
		switch inside := put[min(e.A0+1, len(base)):max(e.A1, min(e.A0+1, len(base)))]; {
		case e.A0 == e.A1 && len(put[e.A0]) > 0 && e.B0 < e.B1,
			slices.ContainsFunc(inside, func(lines []string) bool { return len(lines) > 0 }):
			return "", false
		case e.A0 < e.A1:
			out.WriteString(strings.Join(put[e.A0], ""))
		}
		at = e.A1
		for _, l := range edited[e.B0:e.B1] {
			indent, found := "", words(l) == ""
			if !found {
				indent, found = newIndent(base, spaced, e, indentOf(l))
			}
			if !found {
				return "", false
			}
			out.WriteString(indent + strings.TrimLeft(l, " \t"))
		}
	}
	return out.String() + strings.Join(put[len(base)], ""), true
}

// newIndent returns the new form of an indentation next to an edit: that of the nearest line of the base with the same
// indentation, or of the nearest with a shorter one plus the rest.
func newIndent(base, spaced []string, e diff.Edit, indent string) (string, bool) {
	var near []int // lines of the base, nearest first
	for k := e.A0; k < e.A1; k++ {
		near = append(near, k)
	}
	for d := range base {
		near = append(near, e.A0-1-d, e.A1+d)
	}
	less, found := "", false
	for _, k := range near {
		if k < 0 || k >= len(base) || words(base[k]) == "" {
			continue
		}
		was := indentOf(base[k])
		if was == indent {
			return indentOf(spaced[k]), true
		}
		if !found && strings.HasPrefix(indent, was) {
			less, found = indentOf(spaced[k])+indent[len(was):], true
		}
	}
	return less, found
}

func onlyBlanks(base, side []string) bool {
	return len(base) > 0 && slices.EqualFunc(base, side, func(a, b string) bool { return words(a) == words(b) })
}

// plain returns lines without blanks at their ends and with single blanks between words.
func plain(lines []string) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = words(l)
	}
	return out
}

func words(line string) string { return strings.Join(strings.Fields(line), " ") }

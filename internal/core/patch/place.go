package patch

import (
	"errors"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
)

// ErrNotFrom says that a patch was not made from a text.
var ErrNotFrom = errors.New("the patch was not made from this version")

// Apply makes the change of hunks on the very text they were made from.
func Apply(hunks []Hunk, text string) (string, error) {
	lines := diff.Lines(text)
	var out []string
	done := 0
	for _, h := range hunks {
		at := h.At - 1
		if at < done || at+len(h.Before) > len(lines) || !slices.Equal(lines[at:at+len(h.Before)], h.Before) {
			return "", ErrNotFrom
		}
		out = append(append(out, lines[done:at]...), h.After...)
		done = at + len(h.Before)
	}
	return whole(append(out, lines[done:]...)), nil
}

// whole puts lines together. One without an end that others follow is given one: the end of a file is no longer
// its end where a hunk adds lines after it, and a hunk made for the end may be put before other lines.
func whole(lines []string) string {
	var b strings.Builder
	for i, line := range lines {
		b.WriteString(line)
		if line != "" && i < len(lines)-1 && !strings.HasSuffix(line, "\n") {
			b.WriteByte('\n')
		}
	}
	return b.String()
}

// Nearly is a hunk that fits only nearly: the line that it was put at, from 1.
type Nearly int

// Version tells the version that hunks were made from, as far as they know it: a text as it is now, with
// each hunk's lines in the place of those that are most like them; and that version with the change made.
// A hunk whose lines stand there as they are is put at the nearest such place, as git puts it; where the
// lines differ it is the place that is most alike (found in the way of P. H. Sellers, "The Theory and
// Computation of Evolutionary Distances", 1980), and told. Time is the product of the lines of a hunk and of
// the text for those; beyond a limit such a hunk stays at its own line.
func Version(hunks []Hunk, now string) (before, after string, nearly []Nearly) {
	lines := diff.Lines(now)
	var old, changed []string
	done, drift := 0, 0
	for _, h := range hunks {
		want := min(max(h.At-1+drift, done), len(lines))
		from, to, exact := h.exact(lines, done, want)
		if !exact {
			from, to = h.likest(lines, done, want)
			nearly = append(nearly, Nearly(from+1))
		}
		drift = from - (h.At - 1)
		old = append(append(old, lines[done:from]...), h.Before...)
		changed = append(append(changed, lines[done:from]...), h.After...)
		done = to
	}
	old, changed = append(old, lines[done:]...), append(changed, lines[done:]...)
	return whole(old), whole(changed), nearly
}

// exact is the nearest place at which the lines of a hunk stand as they are. One with nothing after the change
// was at the end of the file, and must be again; one of the first line, at the beginning.
func (h *Hunk) exact(lines []string, least, want int) (from, to int, ok bool) {
	n := len(h.Before)
	fits := func(at int) bool {
		switch {
		case at < least || at+n > len(lines):
			return false
		case h.Trail == 0 && at+n != len(lines), h.At <= 1 && at != 0:
			return false
		}
		return slices.Equal(lines[at:at+n], h.Before)
	}
	for d := range len(lines) + 1 {
		if fits(want - d) {
			return want - d, want - d + n, true
		}
		if fits(want + d) {
			return want + d, want + d + n, true
		}
	}
	return 0, 0, false
}

// most lines of a hunk times lines of a text that are compared to place it.
const most = 1 << 25

// alike is how many edits a line that is the same is worth.
const alike = 3

// likest is the place at which the most lines are those of the hunk, with the fewest edits between; of several
// the nearest.
func (h *Hunk) likest(lines []string, least, want int) (from, to int) {
	b, text := h.Before, lines[least:]
	if want -= least; len(b)*len(text) > most || len(b) == 0 {
		return least + want, least + min(want, len(text))
	}
	type cell struct{ cost, start int }
	row := make([]cell, len(text)+1)
	for k := range row {
		row[k] = cell{0, k}
	}
	for i, line := range b {
		diagonal := row[0]
		row[0] = cell{i + 1, 0}
		for k, other := range text {
			up := row[k+1]
			best := cell{diagonal.cost + 1, diagonal.start}
			if line == other {
				best.cost -= 1 + alike
			}
			if up.cost+1 < best.cost {
				best = cell{up.cost + 1, up.start}
			}
			if left := row[k]; left.cost+1 < best.cost {
				best = cell{left.cost + 1, left.start}
			}
			diagonal, row[k+1] = up, best
		}
	}
	end := 0
	far := func(c cell) int { return max(c.start-want, want-c.start) }
	for k, c := range row {
		if c.cost < row[end].cost || c.cost == row[end].cost && far(c) < far(row[end]) {
			end = k
		}
	}
	if row[end].cost >= len(b) { // nothing there is like it
		return least + want, least + want
	}
	return least + row[end].start, least + end
}

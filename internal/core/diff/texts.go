package diff

import "strings"

// context is the number of equal lines kept at each end of the middle, so that hunks can slide along them.
const context = 32

// Middle is the part in which two texts differ, between their common ends.
type Middle struct {
	Above int      // equal lines above the hunk
	A, B  []string // the hunk's lines in each text
	Edits []Edit   // line numbers are those of the whole texts
}

// TextEdits is Myers for the lines of two texts. It costs only as much as the middle in which they differ.
func TextEdits(a, b string) []Edit { return Between(a, b).Edits }

// Between returns the part in which two texts differ.
func Between(a, b string) Middle {
	first := lineStart(a, commonStart(a, b), context)
	last := commonEnd(a[first:], b[first:])
	last = len(a) - lineEnd(a, len(a)-last, context)
	if len(a)-last < first || len(b)-last < first {
		last = 0
	}
	m := Middle{strings.Count(a[:first], "\n"), Lines(a[first : len(a)-last]), Lines(b[first : len(b)-last]), nil}
	m.Edits = Myers(m.A, m.B)
	for i := range m.Edits {
		e := &m.Edits[i]
		e.A0, e.A1, e.B0, e.B1 = e.A0+m.Above, e.A1+m.Above, e.B0+m.Above, e.B1+m.Above
	}
	return m
}

// lineStart returns the start of the line some lines above a byte.
func lineStart(s string, at, lines int) int {
	at = strings.LastIndexByte(s[:at], '\n') + 1
	for ; lines > 0 && at > 0; lines-- {
		at = strings.LastIndexByte(s[:at-1], '\n') + 1
	}
	return at
}

// lineEnd returns the end of the line some lines below a byte, after its line feed. The byte's line counts as one.
func lineEnd(s string, at, lines int) int {
	for lines++; lines > 0; lines-- {
		n := strings.IndexByte(s[at:], '\n')
		if n < 0 {
			return len(s)
		}
		at += n + 1
	}
	return at
}

// block is the number of bytes compared at a time in long equal parts.
const block = 256

// commonStart returns the number of bytes that two texts share at their starts.
func commonStart(a, b string) (n int) {
	least := min(len(a), len(b))
	for n+block <= least && a[n:n+block] == b[n:n+block] {
		n += block
	}
	for n < least && a[n] == b[n] {
		n++
	}
	return n
}

// commonEnd returns the number of bytes that two texts share at their ends.
func commonEnd(a, b string) (n int) {
	least := min(len(a), len(b))
	for n+block <= least && a[len(a)-n-block:len(a)-n] == b[len(b)-n-block:len(b)-n] {
		n += block
	}
	for n < least && a[len(a)-1-n] == b[len(b)-1-n] {
		n++
	}
	return n
}

package merge

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/core/diff"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lines makes a text of one-letter lines: "abc" is three of them.
func lines(s string) []string {
	var out []string
	for _, r := range s {
		out = append(out, string(r)+"\n")
	}
	return out
}

// shape writes a merge down: joined letters as they are, conflicts as
// [base|yours|theirs].
func shape(t Text) string {
	squeeze := func(l []string) string { return strings.ReplaceAll(strings.Join(l, ""), "\n", "") }
	out := t.Join(func(_ int, r Hunk) string {
		return "[" + squeeze(t.Base[r.Base.Lo:r.Base.Hi]) + "|" + squeeze(t.Yours[r.Yours.Lo:r.Yours.Hi]) + "|" +
			squeeze(t.Theirs[r.Theirs.Lo:r.Theirs.Hi]) + "]"
	})
	return strings.ReplaceAll(out, "\n", "")
}

func TestMerge3(t *testing.T) {
	for _, c := range []struct{ name, base, yours, theirs, want string }{
		{"nothing", "abc", "abc", "abc", "abc"},
		{"all empty", "", "", "", ""},
		{"only yours", "abc", "aXc", "abc", "aXc"},
		{"only theirs", "abc", "abc", "abY", "abY"},
		{"far apart", "abcde", "Xbcde", "abcdY", "XbcdY"},
		{"one line between is enough", "abc", "Xbc", "abY", "XbY"},
		{"touching edits are a conflict", "abcd", "aXcd", "abYd", "a[bc|Xc|bY]d"},
		{"same line", "abc", "aXc", "aYc", "a[b|X|Y]c"},
		{"the same edit", "abc", "aXc", "aXc", "aXc"},
		{"the same deletion", "abc", "ac", "ac", "ac"},
		{"edit against deletion", "abc", "aXc", "ac", "a[b|X|]c"},
		{"deletions that overlap", "abcd", "ad", "acd", "a[bc||c]d"},
		{"insertions at one place", "ab", "aXb", "aYb", "a[|X|Y]b"},
		{"insertions with lines in common", "ab", "aXZb", "aYZb", "a[|X|Y]Zb"},
		{"insertion beside an edit", "abc", "aXbc", "aYc", "a[b|Xb|Y]c"},
		{"insertions at both ends", "ab", "Xab", "abY", "XabY"},
		{"overlaps chain", "abcdef", "XXXdef", "abYYYf", "[abcde|XXXde|abYYY]f"},
		{"a chain through the middle", "abcdefg", "aXXXXfg", "abYdeZg", "a[bcdef|XXXXf|bYdeZ]g"},
		{"equal edits inside a chain", "abcd", "aXYd", "aXYd", "aXYd"},
		{"two conflicts", "abcde", "XbcdX", "YbcdY", "[a|X|Y]bcd[e|X|Y]"},
		{"the example of the diff3 paper", "123456", "145236", "124536", "1[23||2]45[|2|]36"},
		{"added on both sides", "", "X", "Y", "[|X|Y]"},
		{"added on both sides, partly equal", "", "aXc", "aYc", "a[|X|Y]c"},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.want, shape(Merge3(lines(c.base), lines(c.yours), lines(c.theirs))))
		})
	}
}

func TestMergeKeepsLineEnds(t *testing.T) {
	for _, c := range []struct{ name, base, yours, theirs, want string }{
		{"no line end at the end, on one side", "a\nb", "a\nb\n", "a\nb", "a\nb\n"},
		{"no line end, edited above", "a\nb\nc", "X\nb\nc", "a\nb\nc", "X\nb\nc"},
		{"both add a line end and one edits far above", "a\nb\nc\nd", "a\nb\nc\nd\n", "X\nb\nc\nd", "X\nb\nc\nd\n"},
		{"carriage returns stay", "a\r\nb\r\nc\r\n", "X\r\nb\r\nc\r\n", "a\r\nb\r\nY\r\n", "X\r\nb\r\nY\r\n"},
		{"broken encoding stays", "a\xff\nb\nc\n", "a\xff\nb\nX\xfe\n", "Y\nb\nc\n", "Y\nb\nX\xfe\n"},
	} {
		m := Merge3(diff.Lines(c.base), diff.Lines(c.yours), diff.Lines(c.theirs))
		require.Zero(t, m.Conflicts(), c.name)
		assert.Equal(t, c.want, m.Join(nil), c.name)
	}
}

func random(r *rand.Rand, n int) []string {
	out := make([]string, r.IntN(n))
	for i := range out {
		out[i] = string(rune('a'+r.IntN(10))) + "\n"
	}
	return out
}

func edited(r *rand.Rand, a []string) []string {
	b := slices.Clone(a)
	for range r.IntN(4) {
		at := r.IntN(len(b) + 1)
		b = slices.Concat(b[:at], random(r, 4), b[min(len(b), at+r.IntN(3)):])
	}
	return b
}

// TestLaws holds what must be true of any merge.
func TestLaws(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	text := func(l []string) string { return strings.Join(l, "") }
	for range 3000 {
		b := random(r, 40)
		x, y := edited(r, b), edited(r, b)
		require.Equal(t, text(x), Merge3(b, x, b).Join(nil), "only yours changed: yours")
		require.Equal(t, text(x), Merge3(b, b, x).Join(nil), "only theirs changed: theirs")
		require.Equal(t, text(x), Merge3(b, x, x).Join(nil), "both the same: the same")

		m, swapped := Merge3(b, x, y), Merge3(b, y, x)
		require.Equal(t, m.Conflicts() == 0, swapped.Conflicts() == 0)
		if m.Conflicts() == 0 {
			require.Equal(t, m.Join(nil), swapped.Join(nil), "a clean merge has no sides")
		}
		// The regions cover all three texts, in order and without gaps.
		at := Hunk{}
		for _, g := range m.Hunks {
			require.Equal(t, []int{at.Base.Hi, at.Yours.Hi, at.Theirs.Hi}, []int{g.Base.Lo, g.Yours.Lo, g.Theirs.Lo})
			at = g
		}
		require.Equal(t, []int{len(b), len(x), len(y)}, []int{at.Base.Hi, at.Yours.Hi, at.Theirs.Hi})
	}
}

func FuzzMerge3(f *testing.F) {
	f.Add("a\nb\nc\n", "a\nX\nc\n", "a\nb\nY\n")
	f.Add("", "x", "y\n")
	f.Fuzz(func(t *testing.T, base, yours, theirs string) {
		b, y, th := diff.Lines(base), diff.Lines(yours), diff.Lines(theirs)
		m := Merge3(b, y, th)
		n := 0
		m.Join(func(k int, g Hunk) string {
			require.Equal(t, n, k)
			n++
			require.NotEqual(t, m.Yours[g.Yours.Lo:g.Yours.Hi], m.Theirs[g.Theirs.Lo:g.Theirs.Hi])
			return ""
		})
		require.Equal(t, n, m.Conflicts())
		require.Equal(t, yours, Merge3(b, y, b).Join(nil))
		require.Equal(t, theirs, Merge3(b, b, th).Join(nil))
	})
}

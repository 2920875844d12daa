package account

import (
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/core/diff"
)

// FuzzTexts holds the law of the account for any four texts: a line that the side put in, and that stands in none of the
// other texts, is told; what is told is a line of the side, or of the base; and a result that is the side's leaves
// nothing out.
func FuzzTexts(f *testing.F) {
	f.Add("a\nb\n", "a\nb\nmine\n", "a\ntheirs\n", "a\ntheirs\n")
	f.Add("", "x y\n", "x\n", "y x\n")
	f.Add("a\r\nb\n", "b", "\n\n", " b \n")
	f.Fuzz(func(t *testing.T, base, side, other, result string) {
		if len(base)+len(side)+len(other)+len(result) > 4000 {
			return
		}
		for _, e := range Texts(base, side, other, side) {
			t.Fatalf("the side's own text leaves out %+v", e)
		}
		told := map[string]bool{}
		for _, e := range Texts(base, side, other, result) {
			if told[strings.TrimSpace(e.Full)] = true; !strings.Contains(side+base, strings.TrimSpace(e.Full)) {
				t.Fatalf("%q is in neither text", e.Full)
			}
		}
		words := map[string]bool{}
		for _, w := range diff.Words(base + "\n" + other + "\n" + result) {
			words[w] = true
		}
		for _, l := range bare(diff.Lines(side)) {
			list := diff.Words(l)
			if len(list) != 1 || !diff.IsWord(list[0]) || words[l] {
				continue // a line of several words may be woven
			}
			if !told[strings.TrimSpace(l)] {
				t.Fatalf("%q is in no other text, and not told", l)
			}
		}
	})
}

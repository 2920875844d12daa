package account

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestTexts takes files of one letter a line where nothing else is said; "" stands for nothing left out.
func TestTexts(t *testing.T) {
	for name, c := range map[string]struct{ base, side, other, result, want string }{
		"held":                        {"a b c", "a x c", "a b c", "a x c", ""},
		"a line of the side is gone":  {"a b c", "a x c", "a y c", "a y c", "2 x"},
		"both lines of it are gone":   {"a c", "a x y c", "a c", "a c", "2 x, 3 y"},
		"one of two copies is gone":   {"a c", "a x x c", "a c", "a x c", "3 x"},
		"moved further down":          {"a c", "a x c", "a c y", "a c y x", ""},
		"only the order was changed":  {"a b c", "c b a", "a b c", "a b c", ""},
		"a deleted line stands again": {"a b c", "a c", "a B b c", "a B b c", "stands b"},
		"deleted by both":             {"a b c", "a c", "a c", "a c", ""},
		"only blanks differ":          {"a c", "a x c", "a c", "a\n  x\nc", ""},
		"only line ends differ":       {"a\nc", "a\nx\nc", "a\nc", "a\r\nx\r\nc", ""},
		"both in one line": {"fare := 3", "fare := 4", "fare := 3 // of a car", "fare := 4 // of a car",
			""},
		"only theirs in the line": {"fare := 3 + 1", "fare := 4 + 1", "fare := 3 + 2", "fare := 3 + 2",
			"1 fare := 4 + 1"},
		"the whole text is gone": {"", "x y", "", "", "1 x, 2 y"},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.want, told(Texts(lines(c.base), lines(c.side), lines(c.other), lines(c.result))))
		})
	}
}

// TestSideHoldsItself: against itself a side never misses a thing, and against the base it misses all it put in.
func TestSideHoldsItself(t *testing.T) {
	texts := []string{"", "a", "a b c", "a a a", "x b y", "a b c d e f"}
	for _, base := range texts {
		for _, side := range texts {
			b, s := lines(base), lines(side)
			assert.Empty(t, Texts(b, s, b, s), "%q to %q", base, side)
			if base != side {
				assert.NotEmpty(t, Texts(b, s, b, b), "%q to %q, taken back", base, side)
			}
		}
	}
}

// lines puts each letter on a line of its own; a text that has longer words is left as it is.
func lines(text string) string {
	fields := strings.Fields(text)
	for _, f := range fields {
		if len(f) > 1 || strings.Contains(text, "\n") {
			return text + "\n"
		}
	}
	return strings.Join(fields, "\n") + strings.Repeat("\n", min(len(fields), 1))
}

func told(entries []Entry) string {
	var out []string
	for _, e := range entries {
		if e.Kind == Deletion {
			out = append(out, "stands "+e.Kept)
			continue
		}
		out = append(out, fmt.Sprintf("%d %s", e.Line, e.Text))
	}
	return strings.Join(out, ", ")
}

package misfit

import (
	"testing"

	"dorvik.dev/dorvik/internal/core/diff"

	"github.com/stretchr/testify/assert"
)

// TestCallsOfALine: a text before a call in its line does not shift it, and arguments that are spread are not counted.
func TestCallsOfALine(t *testing.T) {
	for text, want := range map[string]struct {
		args  [][]string
		after []string
	}{
		`print("far (", fare(2, 1).low)`: {[][]string{{"2", "1"}}, []string{".low)"}},
		`x = fare(a(1), "b, c")`:         {[][]string{{"a(1)", `"b, c"`}}, []string{""}},
		`fare(*rest) + fare(1)`:          {[][]string{{"1"}}, []string{""}},
		`fares(1); a.fare (2);`:          {[][]string{{"2"}}, []string{";"}},
	} {
		var args [][]string
		var after []string
		for _, c := range callsOf(diff.Lines(text), 0, "fare") {
			args, after = append(args, c.args), append(after, c.after)
		}
		assert.Equal(t, want.args, args, text)
		assert.Equal(t, want.after, after, text)
	}
}

// TestMendsThatCollide: two mends of one line that change the same words: the first stays.
func TestMendsThatCollide(t *testing.T) {
	mends := []Mend{{"a.go", 1, []string{"x := old\n"}, []string{"x := one\n"}, 0},
		{"a.go", 1, []string{"x := old\n"}, []string{"x := two\n"}, 1}}
	assert.Equal(t, "x := one\n", Apply("x := old\n", mends))
}

// TestTouchedByAResult: the line that closes a head belongs to the definition above it.
func TestTouchedByAResult(t *testing.T) {
	from := diff.Lines("def low_water(\n    pier,\n) -> int:\n    return 1\n")
	to := diff.Lines("def low_water(\n    pier,\n) -> None:\n    return 1\n")
	f := &file{path: "a.py", from: from, to: to, edits: []diff.Edit{{A0: 2, A1: 3, B0: 2, B1: 3}}}
	assert.Equal(t, []string{"low_water"}, f.touchedBy(outlineOf("a.py")))
}

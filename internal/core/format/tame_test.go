package format

import (
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestHostileTextsAreNotRead gives each reader texts of 20 kB that nest as deep as that allows. None is read, so no
// memory to speak of is used.
func TestHostileTextsAreNotRead(t *testing.T) {
	deep := func(open, inner, end string) string {
		n := 20_000 / (len(open) + len(end))
		return strings.Repeat(open, n) + inner + strings.Repeat(end, n) + "\n"
	}
	var indents strings.Builder
	for i := range 300 {
		indents.WriteString(strings.Repeat(" ", i) + "k:\n")
	}
	for ending, texts := range map[string][]string{
		".yaml": {deep("- ", "x", ""), deep("[", "", "]"), deep("{a: ", "x", "}"), deep("? ", "x", ""),
			indents.String()},
		".json": {deep("[", "", "]"), deep(`{"a":`, "1", "}")},
		".toml": {strings.Repeat("a.", 10_000) + "a = 1\n", "[" + strings.Repeat("a . ", 10_000) + "a]\n",
			"a = " + deep("{a=", "1", "}"), "a = " + deep("[", "", "]")},
		".xml": {deep("<a>", "", "</a>"), deep("<a b='1'>", "x", "</a>")},
		".go":  {"package x\nvar a = " + deep("(", "1", ")")},
	} {
		for _, text := range texts {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			assert.Empty(t, Problem("x"+ending, text))
			assert.False(t, Tame(text), "%s %.20q", ending, text)
			runtime.ReadMemStats(&after)
			assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(1<<20))
		}
	}
	for _, text := range []string{"", strings.Repeat("[]", 20_000), strings.Repeat("- x\n", 20_000),
		strings.Repeat("<a/>", 9_000),
		strings.Repeat("<a></a>\n", 9_000), strings.Repeat("a:\n  b:\n    - c\n", 5_000), strings.Repeat("<br>\n", 150),
		"[" + strings.Repeat("1.5,", 9_000) + "1.5]", strings.Repeat("a.b.c = 1\n", 9_000)} {
		assert.True(t, Tame(text), "%.20q", text)
	}
	assert.False(t, Tame(strings.Repeat("x", mostText+1)))
}

package plan

import (
	"testing"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"

	"github.com/stretchr/testify/assert"
)

// TestInOrder: names before contents, and what gives a name before what uses it.
func TestInOrder(t *testing.T) {
	text := func(p string, yours, theirs string) *settle.File {
		m := merge.Merge3([]string{"x\n"}, []string{yours + "\n"}, []string{theirs + "\n"})
		return settle.Open(&merge.Conflict{Path: p, Kind: merge.Content, Subject: &merge.Lines{Text: &m,
			Mode: object.ModeFile}})
	}
	gone := settle.Open(&merge.Conflict{Path: "z.txt", Kind: merge.ModifyDelete, Subject: &merge.Versions{}})
	uses, gives := text("a.py", "print(low_water(1))", "print(2)"), text("b.py", "def low_water(pier):",
		"def low_tide(p):")
	other := text("c.py", "print(4)", "print(5)")

	out, why := inOrder([]*settle.File{uses, gives, other, gone})
	assert.Equal(t, []*settle.File{gone, gives, uses, other}, out)
	assert.Equal(t, map[*settle.File]string{gone: "names and kinds of files are asked before contents",
		gives: "it gives low_water, which a.py uses"}, why)

	back := text("b.py", "def low_water(pier): return show_all()", "def low_tide(p):")
	uses = text("a.py", "def show_all(): return low_water(1)", "print(2)")
	out, _ = inOrder([]*settle.File{uses, back})
	assert.Equal(t, []*settle.File{uses, back}, out, "a circle stays as it is")

	mine, theirs := text("a.py", "def run_all(): one()", "a"), text("b.py", "def run_all(): two()", "b")
	_, why = inOrder([]*settle.File{mine, theirs})
	assert.Empty(t, why, "a name that both files define is each one's own")
}

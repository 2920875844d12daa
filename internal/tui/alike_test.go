package tui

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dorvik.dev/dorvik/internal/gittest"
)

// TestManyAtOnce settles conflicts alike, after what that does was seen, and takes them back.
func TestManyAtOnce(t *testing.T) {
	s := demoClone(t)
	b := newBench(t, s.Clone)
	b.press("enter", "right", "enter")
	b.see("▶ Settle 0 of 2")
	b.press("+")
	b.see("MANY AT ONCE", "1  suggested, wherever there is one", "2 conflicts, nothing is left out",
		"yours, in docs/harbours.md", "of theirs", "WHAT THAT DOES", "fares/fares.go", "weave")
	b.fits("many at once")
	b.press("3")
	b.see("▶ 3  yours, in docs/harbours.md", "enter settle 1 conflict so")
	b.press("esc", "tab", "+", "8")
	b.see("▶ 8  theirs, all of fares/fares.go", "leaves out 14 words of yours",
		"3 places of this file that joined by themselves are taken from there, too")
	b.press("enter")
	b.see("1 conflict is settled so", "✓ theirs, the whole file")
	b.press("u", "tab")
	b.see("▶ Settle 0 of 2")
	b.press("+", "enter")
	b.see("2 conflicts are settled so", "Settle 2 of 2", "2 ✓ weave")
	b.press("u", "u")
	b.see("▶ Settle 0 of 2", "ctrl+y redo")
	b.press("ctrl+y")
	b.see("▶ Settle 1 of 2", "is redone")
	b.m.s.Close()
	again := newBench(t, s.Clone) // also after quitting
	again.see("▶ Settle 1 of 2")
	again.press("ctrl+y")
	again.see("2 of 2")
	again.press("u", "u")
	b = again
	b.see("▶ Settle 0 of 2")
	b.press("+", "end", "down", "down", "down", "down", "down", "enter") // theirs, everywhere
	b.see("Settle 2 of 2", "2 ✓ theirs")
	b.press("+") // there is nothing more to be settled alike
	b.see("All settled")
	assert.Equal(t, " M cmd/skerry/main.go", gittest.At(t, s.Clone).Git("status", "--porcelain"))
}

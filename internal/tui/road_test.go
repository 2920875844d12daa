package tui

import (
	"os"
	"path/filepath"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
)

// TestRoad goes along the road of a rebase: what a commit's outcomes cost, one left out, one joined
// with the one before and reworded, an earlier decision changed, and the route in the middle.
func TestRoad(t *testing.T) {
	s := demoClone(t)
	mine := gittest.At(t, s.Clone)
	b := newBench(t, s.Clone)
	b.press("enter", "enter")
	b.see("▶ Settle 0 of 2")
	b.press("n")
	b.see("THE ROAD", "≠ 8816c1d  Charge vehicles", "asks 1 decision", "◌ b9b7987",
		"not needed: d34e868 holds the same change",
		"as it is now: asks 1 decision", "left out", "loses", "asks 1 fewer decision", "skip is 2")
	b.press("enter")
	b.see("conflict 1 of 2", "fares/fares.go")

	b.press("n", "down", "2", "enter") // Ness is left out
	b.see("nothing more is asked", "3717920  Add Ness to the harbour list", "left out by you")
	b.press("down", "3", "enter") // and the berth goes into the half metres
	b.see("part of the one before")
	b.press("w")
	for range 40 {
		b.press("ctrl+k")
	}
	b.run(func() tea.Msg { return tea.PasteMsg{Content: "Half metres, and the berth"} })
	b.press("ctrl+s")
	b.see("Half metres, and the berth", "new message")
	b.press("esc")
	b.see("the one commit that asks")
	b.press("enter", "enter")
	b.see("▶ Check")
	b.press("n", "home", "down")
	b.see("✓ 8816c1d", "1 decision made")
	b.press("esc", "s", "y")
	b.see("Ready to join and push", "Half metres, and the berth", "new id, was 8816c1d and 7721813",
		"3717920  Add Ness to the harbour list   left out by you", "- Ness, slip only")

	// An earlier decision is changed, and the commit taken back in; only what that opens is asked.
	b.press("n", "down", "down", "1", "enter")
	b.see("1 more decision is asked")
	b.press("up", "enter")
	b.see("fares/fares.go", "of 2 settled")
	b.press("2", "enter")
	b.see("docs/harbours.md")
	b.press("enter", "enter", "s", "y")
	b.see("Ready to join and push", "1 × yours")

	// The route is changed in the middle: what was decided holds there, too.
	b.press("esc", "esc", "esc", "left")
	b.see("▶ Choose merge")
	b.press("enter")
	b.see("✓ Choose merge", "✓ Settle 2 settled", "▶ Check")
	b.press("esc", "esc", "right", "enter", "s", "y", "b")
	b.see("Joined here, not pushed yet")
	assert.Equal(t, "Half metres, and the berth", mine.Git("log", "-1", "--format=%s"))
	b.press("u")
	b.see("The join is undone")
	assert.Equal(t, "Print the berth on the ticket", mine.Git("log", "-1", "--format=%s"))
}

// TestHooksAreAskedAbout has hooks of the repository's own be run, and one of the clone refuse.
func TestHooksAreAskedAbout(t *testing.T) {
	s := demoClone(t)
	mine := gittest.At(t, s.Clone)
	hook := func(path, text string) {
		mine.Write(path, "#!/bin/sh\n"+text)
		require.NoError(t, os.Chmod(filepath.Join(mine.Dir, path), 0o755))
	}
	mine.Git("config", "core.hooksPath", ".hooks")
	hook(".hooks/pre-rebase", "echo not on a Friday\nexit 3\n")
	b := newBench(t, s.Clone)
	b.press("enter", "enter", "enter", "enter", "enter", "s", "y")
	b.see("Ready to join and push")
	before := mine.Git("rev-parse", "main")
	b.press("b")
	b.see("The repository brings hooks in", "pre-rebase", "Let them run?")
	b.press("y")
	b.see("The hook pre-rebase stopped it", "ended with 3, and nothing was changed", "WHAT WAS SAID", "not on a Friday")
	assert.Equal(t, before, mine.Git("rev-parse", "main"))
	b.fits("a hook's words")
	hook(".hooks/pre-rebase", "exit 0\n")
	hook(".hooks/pre-push", "echo tested, and well\n")
	b.press("enter")
	b.see("Let them run?") // it is another one now
	b.press("esc")
	b.see("They are not run")
	b.press("enter")
	b.see("✓ Pushed", "The hook pre-push was not run: the repository brought it, and you did not agree.")
}

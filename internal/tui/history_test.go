package tui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/demo"
	"dorvik.dev/dorvik/internal/gittest"
)

// pushed is a bench in the demo's clone after a merge that was pushed from there.
func pushed(t *testing.T) (*bench, *demo.Scene) {
	s := demoClone(t)
	gittest.Own(t, "dorvik.check", "true")
	b := newBench(t, s.Clone)
	b.m.played = &demo.Rehearsal{Scene: s, Part: demo.AsRuna}
	b.press("enter", "right", "enter", "3", "enter", "1", "enter", "enter", "enter", "enter")
	b.see("Pushed.")
	return b, s
}

// TestLookingBack goes from Push to the history, to the merge commit and what was decided in it, to
// its files and their lines, and back.
func TestLookingBack(t *testing.T) {
	b, _ := pushed(t)
	b.press("h")
	b.see("HISTORY  main", "Merge origin/main into main", "◐ │  7721813", "│ ◑  5e77693", "where the lines part",
		"11 commits")
	b.fits("History")
	b.press("enter")
	b.see("WHAT A PERSON DECIDED IN IT", "docs/harbours.md:9", "the first side's, then the other's", "fares/fares.go:",
		"2 files that both sides changed joined by themselves", "against its side 1 of 2", "+6     −1")
	b.fits("a merge commit")
	b.press("right")
	b.see("against its side 2 of 2")
	b.press("left", "enter")
	b.see("the other side: what was merged", "- Holm, pier, all vehicles", "what was taken: the first side's, then "+
		"the other's")
	b.fits("a decision")
	b.press("esc", "end", "up", "up", "enter")
	b.see("fares/fares.go", "+ // roundUp is", "lines as they were", "− ")
	b.fits("a change")
	b.press("tab", "shift+tab", "esc", "a")
	b.see("fares/fares.go   as of", "◑ Ilka Renn", "WHO WROTE IT", "11 lines of yours", "5 lines of theirs", "49 lines")
	b.fits("lines and their authors")
	b.press("tab")
	b.see("Round fares up to ten cents")
	b.press("left")
	b.see("as of 4c9ac17", "44 lines")
	b.press("right")
	b.see("49 lines")
	b.press("enter")
	b.see("Ilka Renn <ilka@skerry.example>", "WHAT IT CHANGED")
	b.press("esc", "esc", "esc", "esc")
	b.see("Pushed.")
}

// TestFinding: what is typed is found, alone or one after the other; nothing is lost by leaving it.
func TestFinding(t *testing.T) {
	b := newBench(t, demoClone(t).Clone)
	at := func() string { return b.m.over[0].(*historyScreen).here().Subject() }
	b.press("h", "/")
	b.see("by:ilka", "A commit must match everything")
	b.press(strings.Split("by:ilka", "")...)
	b.fits("finding")
	b.press("enter")
	b.see("only by:ilka", "3 found in 10", "Round fares up to ten cents")
	assert.NotContains(t, b.text(), "Add Holm")
	b.fits("found")
	b.press("esc")
	b.see("Add Holm")
	b.press("/")
	b.press(strings.Split("harbour", "")...)
	b.press("tab")
	assert.Equal(t, "Add Ness to the harbour list", at())
	b.press("tab")
	assert.Equal(t, "Add Holm to the harbour list", at())
	b.press("tab")
	b.see("There is none below.")
	b.press("shift+tab", "shift+tab")
	assert.Equal(t, "Add Ness to the harbour list", at())
	b.see("There is none above.")
	b.press("esc", "left")
	assert.Equal(t, "Winter timetable", at(), "where the lines part")
	b.press("right")
	b.see("The newest commit.")
	b.press("/")
	b.m.receive(tea.PasteMsg{Content: "since:never\n"})
	b.press("enter")
	b.see("\"never\" is not a date", "HISTORY")
	b.press("/")
	b.press(strings.Split("nobody wrote this", "")...)
	b.press("enter")
	b.see("Nothing was found.", "0 found in 10")
	b.press("esc", "end", "home", "pgdown", "esc")
	b.see("A push would be rejected")
}

// TestPickingFromAList: branches are compared, two commits of one are marked and picked.
func TestPickingFromAList(t *testing.T) {
	s := demoClone(t)
	at := gittest.At(t, s.Clone)
	at.Git("stash", "-q")
	at.Git("checkout", "-q", "-b", "winter", "main~1")
	for _, name := range []string{"Berth lights", "Ice on the slip", "Night bell"} {
		at.Commit(name, strings.ReplaceAll(name, " ", "-"), "x\n")
	}
	at.Git("checkout", "-q", "main")
	at.Git("cherry-pick", "winter~1")
	b := newBench(t, s.Clone)
	b.press("h", "c")
	b.see("BRANCHES", "winter", "3 there, not here", "2 here, not there", "1 same change", "origin/main")
	b.fits("Branches")
	for !strings.Contains(b.text(), "▶ winter") {
		b.press("down")
	}
	b.press("enter")
	b.see("HISTORY  winter", "beside your branch", "not in your branch", "same change as")
	b.fits("another branch")
	list := b.m.over[len(b.m.over)-1].(*historyScreen)
	b.press("t")
	assert.Equal(t, "Berth lights", list.here().Subject(), "on to the next that could be picked")
	b.press("up", "t")
	assert.Len(t, list.marked, 1, "what is here by its change cannot be marked")
	b.press("down", "t", "t", "t")
	b.see("2 commits are marked", "g pick 2")
	b.press("g")
	b.see("2 commits to pick.", "Berth lights", "Night bell")
	b.press("enter")
	b.fits("Choose, of a pick")
}

// TestWhatOthersGetAndTeammates: e tells it, i has a teammate pull for real, z begins again.
func TestWhatOthersGetAndTeammates(t *testing.T) {
	b, s := pushed(t)
	b.see("WHAT THE OTHERS GET", "1 of 3 files of theirs with your changes in: fares/fares.go")
	b.press("e")
	b.see("moves forward by 5 commits with their next pull", "Ilka Renn   2 of 3 files as they left them",
		"routes.json")
	b.fits("what the others get")
	b.press("enter")
	b.see("as they left it, and as it is in the result", "HalfMetre")
	b.press("esc", "down", "esc", "i")
	b.see("THE TEAMMATES", "has not pulled yet", "play it as Ilka")
	b.press("enter")
	b.see("before  5e77693", "Merge origin/main into main", "moved forward by 5 commits, nothing to join",
		"of your lines")
	b.fits("the teammates")
	ilka := gittest.At(t, s.Teammates[0].Clone)
	assert.Equal(t, ilka.Git("rev-parse", "HEAD"), gittest.At(t, s.Clone).Git("rev-parse", "HEAD"))
	assert.Contains(t, ilka.Read("fares/fares.go"), "roundUp(rate*v.HalfMetres(), 10)", "both sides' words are there")
	assert.Empty(t, ilka.Git("status", "--porcelain"))
	b.press("down", "down", "enter")
	b.see("in Ilka's clone", "what you had")
	b.press("esc", "home", "up", "enter")
	b.see("Nothing to do.")
	b.press("esc", "enter", "e")
	b.see("WHAT THE OTHERS GET", "as they left them")
	b.press("esc")
	cmd := b.m.receive(tea.KeyPressMsg(keyOf("z")))
	require.NotNil(t, cmd)
	assert.IsType(t, tea.QuitMsg{}, cmd())
	assert.Equal(t, demo.AsRuna, b.m.played.Again)
}

// TestPictures: what the screen shows is drawn, to a file beside the working tree that is not there yet.
func TestPictures(t *testing.T) {
	s := demoClone(t)
	b := newBench(t, s.Clone)
	dir := filepath.Dir(s.Clone)
	b.press("p")
	b.see("A PICTURE", "▶ overlap", "▸SVG", "skerry-overlap.svg", "light background")
	b.fits("a picture")
	b.press("v", "enter")
	b.see("skerry-overlap.svg is written.")
	data, err := os.ReadFile(filepath.Join(dir, "skerry-overlap.svg"))
	require.NoError(t, err)
	assert.Contains(t, string(data), "Overlap of main and origin/main")
	b.press("p", "right")
	b.see("skerry-overlap.pdf")
	b.press("left")
	b.see("skerry-overlap-2.svg")
	b.press("end", "down", "down", "down", "right", "right")
	b.see("▸Markdown", "skerry-report.md")
	b.press("enter", "enter", "p")
	b.see("▶ routes")
	text, err := os.ReadFile(filepath.Join(dir, "skerry-report.md"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "# Joining main and origin/main")
}

// TestTheLogbook: what was done is listed, told in full, drawn, and undone from there; where that
// cannot be it is said, and the list stays.
func TestTheLogbook(t *testing.T) {
	s := demoClone(t)
	gittest.Own(t, "dorvik.check", "true")
	b := newBench(t, s.Clone)
	b.press("l")
	b.see("LOGBOOK", "Dorvik has changed nothing here yet.", "0 entries")
	b.fits("an empty logbook")
	b.press("esc", "enter", "right", "enter", "3", "enter", "1", "enter", "enter", "enter", "b")
	b.see("Nothing is pushed yet")
	b.press("l")
	b.see("1 entry", "main was joined by merge, and went to", "waypoint 1", "u go back before it")
	b.fits("the logbook")
	b.press("enter")
	b.see("Joining main and origin/main", "THE TWO LINES", "◐ 7721813cb840")
	b.fits("an entry")
	b.press("end")
	b.see("HOW TO GO BACK", "dorvik undo 1")
	b.press("p")
	b.see("▶ report", "skerry-report.pdf")
	b.press("enter")
	b.see("is written.")
	b.press("esc", "u")
	b.see("main is back at 7721813", "A push would be rejected")
	b.press("l")
	b.see("2 entries", "A join of main was undone: it went back to 7721813")
	b.press("down", "u")
	b.see("LOGBOOK", "▲ ")
}

package tui

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
)

// TestLogbook goes back before a join that was pushed and built upon, compares, and takes it back by
// a commit.
func TestLogbook(t *testing.T) {
	s := demoClone(t)
	mine := gittest.At(t, s.Clone)
	before := mine.Git("rev-parse", "main")
	b := newBench(t, s.Clone)
	b.press("l")
	b.see("LOGBOOK", "Dorvik has changed nothing here yet.")
	b.press("esc", "enter", "enter", "enter", "enter", "enter", "s", "y", "enter")
	b.see("✓ Pushed")
	mine.Commit("after", "later", "later\n")
	b.press("l")
	b.see("main was pushed", "WHAT IT KEEPS", "waypoint 1", "decisions", "2 were made")
	b.press("down", "v")
	b.see("FROM WAYPOINT 1 TO NOW", "docs/harbours.md", "later")
	b.fits("since")
	b.press("enter")
	b.see("from waypoint 1 to now")
	b.press("esc", "esc", "u")
	b.see("goes back to where it was before waypoint 1", "1 commit made since is left behind", "“after”",
		"origin/main keeps what was pushed", "Go back?")
	b.press("esc")
	b.fits("logbook")
	b.press("u", "y")
	b.see("main is back at")
	assert.Equal(t, before, mine.Git("rev-parse", "main"))
	b.press("l")
	b.see("main went back to where it was before waypoint 1")
	b.press("u")
	b.see("main is back at")
	assert.Equal(t, "after", mine.Git("log", "-1", "--format=%s"))
	b.press("l", "x")
	b.see("older than 30 days lose what they keep")
	b.press("y")
	b.see("0 waypoints were cleaned")
	b.press("end", "g")
	b.see("Taking back what waypoint 1 brought", "Take back what")
}

// TestUndoAsks undoes a join on top of which a file was edited that does not fit there.
func TestUndoAsks(t *testing.T) {
	s := demoClone(t)
	mine := gittest.At(t, s.Clone)
	before := mine.Git("rev-parse", "main")
	b := newBench(t, s.Clone)
	b.press("enter", "enter", "enter", "enter", "enter", "s", "y", "b")
	b.see("Joined here, not pushed yet")
	text := mine.Read("fares/fares.go")
	mine.Write("fares/fares.go", strings.Replace(text, "roundUp(rate*v.HalfMetres(), 10)",
		"roundUp(rate*v.HalfMetres(), 5)",
		1))
	b.press("u")
	b.see("does not fit where the branch goes back to", "your uncommitted work", "fares/fares.go")
	b.press("esc")
	b.see("They are the joined result, accepted here and not pushed yet")
	b.press("u", "1")
	b.see("▶ 1  yours")
	b.press("enter")
	b.see("All settled", "enter go back")
	b.press("enter")
	b.see("main is back at", "A push would be rejected")
	assert.Equal(t, before, mine.Git("rev-parse", "main"))
	assert.Contains(t, mine.Read("fares/fares.go"), "roundUp(rate*v.HalfMetres(), 5)")
}

// TestTakingOver goes on with what git left half done, joins it anew and takes it back, by keys.
func TestTakingOver(t *testing.T) {
	s := demoClone(t)
	mine := gittest.At(t, s.Clone)
	mine.Git("fetch", "-q")
	before := mine.Git("rev-parse", "main")
	_, err := mine.Try("rebase", "--autostash", "origin/main")
	require.Error(t, err)
	says := mine.Git("status")
	b := newBench(t, s.Clone)
	b.see("Git stopped in the middle of a rebase: at the 1st of your 3 commits.", "WHAT CAN BECOME OF IT",
		"go on from here", "asks 2 decisions, and replays 2 commits more", "join anew", "go back", "▶ stopped at")
	b.fits("half done")
	b.press("3", "enter")
	b.see("as before it began")
	b.press("esc")
	assert.Equal(t, says, mine.Git("status"))
	b.press("2", "enter")
	b.see("You join again", "▶ Look")
	b.press("esc")
	b.see("WHAT CAN BECOME OF IT")
	b.press("3", "enter", "y")
	b.see("main is at", "as before it began")
	assert.Equal(t, before, mine.Git("rev-parse", "main"))
	b.press("l", "u")
	b.see("WHAT CAN BECOME OF IT")
	assert.Equal(t, says, mine.Git("status"))
	b.press("1", "enter")
	b.see("▶ Settle 0 of 2")
	b.press("n")
	b.see("THE ROAD", "8816c1d  Charge vehicles")
	b.press("esc", "enter", "enter", "enter", "s", "y")
	b.see("Ready to finish")
	b.press("enter")
	b.see("is finished, and nothing of it is left over")
	assert.NotContains(t, mine.Git("status"), "rebase")
}

// TestNewsFromTheRemote are told while the screen is open, and move nothing.
func TestNewsFromTheRemote(t *testing.T) {
	s := demoClone(t)
	mine, mate := gittest.At(t, s.Clone), gittest.At(t, s.Teammates[0].Clone)
	b := newBench(t, s.Clone)
	tip := mine.Git("rev-parse", "main")
	mate.Git("fetch", "-q")
	mate.Git("reset", "-q", "--hard", "origin/main")
	mate.Commit("more", "more", "more\n")
	mate.Git("push", "-q", "origin", "HEAD:main")
	j := b.m
	j.every = 1
	cmd := j.watch()
	msg := cmd().(besideEnded)
	require.NoError(t, msg.err)
	j.every = 0
	msg.then()
	b.see("origin/main moved: 1 new commit by", "Nothing here was moved")
	assert.Equal(t, tip, mine.Git("rev-parse", "main"))
	b.press("f")
	b.see("5 theirs")
}

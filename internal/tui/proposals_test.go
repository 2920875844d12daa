package tui

import (
	"fmt"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"dorvik.dev/dorvik/internal/demo"
	"dorvik.dev/dorvik/internal/gittest"
)

// proposed has you on main, as it is at the remote, and proposals of Ilka that each add a line to the list of harbours;
// the third one's text is hostile, and the last one is yours.
func proposed(t *testing.T) (*demo.Scene, *gittest.Repo) {
	s := demoClone(t)
	ilka, mine := gittest.At(t, s.Teammates[0].Clone), gittest.At(t, s.Clone)
	mine.Git("stash", "-q")
	mine.Git("fetch", "-q")
	mine.Git("reset", "-q", "--hard", "origin/main")
	list := ilka.Read("docs/harbours.md")
	add := func(r *gittest.Repo, n int, title, line string) {
		r.Git("switch", "-q", "-C", fmt.Sprintf("p%d", n), "origin/main")
		r.Commit(title, "docs/harbours.md", strings.Replace(list, "September\n", "September\n- "+line+"\n", 1))
		who := map[bool]string{true: "Ilka Renn <ilka@skerry.example>",
			false: "Runa Holt <runa@skerry.example>"}[r == ilka]
		r.Git("commit", "-q", "--amend", "--no-edit", "--author="+who)
		r.Git("push", "-q", "origin", fmt.Sprintf("HEAD:refs/proposals/%d/main", n))
	}
	add(ilka, 1, "Add Voe", "Voe")
	add(ilka, 2, "Add Skaill", "Skaill")
	add(ilka, 3, "\x1b[31mred \u202e backwards \u009b1m", "Muness")
	ilka.Git("push", "-q", "origin", "HEAD:refs/proposals/4\u202e/main")
	add(mine, 5, "Add Eswick", "Eswick")
	mine.Git("push", "-q", "-u", "origin", "p5")
	mine.Git("switch", "-q", "main")
	ilka.Git("switch", "-q", "-C", "main", "origin/main")
	ilka.Commit("Moves on", "docs/harbours.md", strings.Replace(list, "September\n", "September\n- Hillswick\n", 1))
	ilka.Git("push", "-q", "origin", "main")
	gittest.Own(t, "dorvik.check", "true")
	return s, mine
}

// The list tells what each proposal asks; one's own is made to join on its branch, and somebody else's is sent back.
func TestProposals(t *testing.T) {
	s, mine := proposed(t)
	b := newBench(t, s.Clone)
	b.press("P")
	b.see("PROPOSALS", "├─≠ 1", "Add Voe", "1 decision", "you, ",
		"Ilka Renn put a branch of a fork forward, to be joined into main.",
		"It brings 1 commit by Ilka Renn, and asks 1 decision in docs/harbours.md.", "enter join it into main")
	assert.NotContains(t, b.m.text(), "\x1b[31mred")
	assert.NotContains(t, b.m.text(), "\u202e", "what comes from outside is cleaned")
	b.fits("Proposals")
	b.press("@")
	b.see("A NOTE TO ILKA RENN", "does not join into main as it is.", "docs/harbours.md", "Moves on",
		"Bring main into your branch, settle this there, and push")
	b.press("esc", "end")
	b.see("Enter brings main into your branch p5, so that it can be joined; main does not change.")
	b.press("enter")
	b.see("p5 → origin/main", "This brings main into your branch", "choose a way to join")
	assert.Equal(t, "p5", mine.Git("branch", "--show-current"))
	b.press("P", "enter")
	b.see("main → proposal 1")
	assert.Equal(t, "main", mine.Git("branch", "--show-current"), "somebody else's is joined on its own branch")
}

// A row shows what became of each, and one can leave it, leave one out, undo it.
func TestARowOnTheScreen(t *testing.T) {
	s, mine := proposed(t)
	b := newBench(t, s.Clone)
	b.press("P", "t", "t")
	b.see(" 1 ├─≠ 1", " 2 ├─≠ 2", "enter join the 2 taken, one by one")
	b.press("up", "up", "t", "t", "enter")
	b.see("A ROW OF PROPOSALS", "Proposal 2 needs you. 1 conflict needs a decision.", "enter settle it",
		"x leave 2 out")
	b.fits("A row")
	b.press("x")
	b.see("Proposal 1 needs you.", "left out: you decided so")
	mine.Git("switch", "-q", "-c", "side")
	b.press("esc")
	b.see("2 proposals into main: 0 joined, 1 left out, 1 to go. They go on when you are on main.", "P proposals")
	mine.Git("switch", "-q", "main")
	b.press("f", "P")
	b.see("enter go on with 1")
	b.press("enter")
	b.see("Proposal 1 needs you.")
	b.press("enter")
	b.see("CONFLICTS  0 of 1 settled", "main → proposal 1")
	b.press("4", "enter", "enter", "enter")
	b.see("Ready to join.", "enter join it, and go on with the row")
	b.press("enter")
	b.see("All had their turn. 2 proposals into main: 1 joined, 1 left out.", "joined, 1 decision")
	b.press("down")
	b.see("It passes “true”.")
	b.fits("A row at its end")
	b.press("esc")
	b.see("2 proposals into main: 1 joined, 1 left out. P shows what became of each.")
	mine.Git("push", "-q", "origin", "main") // beside Dorvik
	b.press("f", "P")
	b.see("All had their turn. 2 proposals into main: 1 joined, 1 left out. origin/main has what was joined.",
		"enter end the row")
	b.press("enter")
	b.see("The row is ended.", "P proposals")
}

// A row that is cancelled says nothing of joining any more, and goes on.
func TestARowIsCancelled(t *testing.T) {
	s, _ := proposed(t)
	b := newBench(t, s.Clone)
	b.press("P", "t", "t", "enter")
	b.see("Proposal 1 needs you.")
	b.press("x") // goes on with the second, which asks
	cmd := b.m.receive(tea.KeyPressMsg(keyOf("esc")))
	b.run(cmd)
	b.press("P")
	begun := b.m.receive(tea.KeyPressMsg(keyOf("enter")))
	b.see("Joining…")
	b.run(b.m.receive(tea.KeyPressMsg(keyOf("ctrl+c"))), begun)
	b.see("2 proposals into main: 0 joined, 1 left out, 1 to go.", "enter go on with 2")
	b.press("enter")
	b.see("Proposal 2 needs you. 1 conflict needs a decision.")
}

// A row is undone as a whole.
func TestARowIsUndone(t *testing.T) {
	s, mine := proposed(t)
	b := newBench(t, s.Clone)
	b.press("P", "t", "enter", "enter", "4", "enter", "enter", "enter", "enter")
	b.see("All had their turn. 1 proposal into main: 1 joined, 0 left out. Nothing is pushed yet.")
	tip := mine.Git("rev-parse", "main")
	b.press("u")
	b.see("The row is undone")
	assert.NotEqual(t, tip, mine.Git("rev-parse", "main"))
	assert.Equal(t, mine.Git("rev-parse", "origin/main"), mine.Git("rev-parse", "main"))
	assert.Contains(t, ansi.Strip(b.m.text()), "P proposals")
}

// A remote that does not answer, or shows nothing, is told.
func TestNoProposals(t *testing.T) {
	s := demoClone(t)
	b := newBench(t, s.Clone)
	b.press("P")
	b.see("origin shows no proposals that wait, as far as its refs tell (refs/proposals/{name}/{into}).")
	b.fits("No proposals")
	b.press("esc")
	gittest.At(t, s.Clone).Git("remote", "set-url", "origin", s.Remote+"-gone")
	b.press("P")
	b.see("A push would be rejected")
	assert.NotContains(t, b.text(), "PROPOSALS")
}

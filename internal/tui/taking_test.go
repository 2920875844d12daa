package tui

import (
	"bytes"
	"image"
	"image/png"
	"slices"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/term"
)

// TestEditByEdit settles a conflict by single edits of both sides.
func TestEditByEdit(t *testing.T) {
	b := newBench(t, demoClone(t).Clone)
	b.press("enter", "enter", "t")
	b.see("SINGLE EDITS", "PerMetre › PerHalfMetre", "4 of 4 edits taken", "return roundUp(rate*v.HalfMetres(), 10)")
	b.fits("edit by edit")
	b.press("4")
	b.see("0 of 4 edits taken", "return rate * v.Metres()")
	b.press("2")
	b.see("2 of 4 edits taken", "return roundUp(rate*v.Metres(), 10)")
	b.press("t")
	b.see("3 of 4 edits taken", "rate := band.PerHalfMetre")
	b.press("esc")
	b.see("Press esc again to leave it as it was")
	b.press("down", "esc", "esc")
	b.see("Settle 0 of 2")
	b.press("t", "down", "t", "enter")
	b.see("Settle 1 of 2")
	d := b.m.st.Decisions.List[0]
	assert.Equal(t, settle.Written, d.Way)
	assert.Contains(t, d.Text, "rate := band.PerHalfMetre\n\treturn rate * v.HalfMetres(), 10)")
	b.press("t")
	b.see("2 of 2 edits taken", "- Holm, pier", "- Ness, slip")
	b.press("left", "right", "w")
	b.see("WRITE IT YOURSELF")
	b.press("x", "ctrl+t")
	b.see("TAKE AN EDIT OVER", "WHAT YOU WRITE")
	b.fits("taking an edit over")
	b.press("esc", "ctrl+s")
	b.see("All settled")
	assert.Regexp(t, `(?s)^x- Ness, .*- Holm, `, b.m.st.Decisions.List[1].Text, "the other way round")
}

// TestWhatJoinedByItselfIsReopened: its edits can be left one by one, it can be written in, and it is marked when it
// was read.
func TestWhatJoinedByItselfIsReopened(t *testing.T) {
	s := demoClone(t)
	gittest.Own(t, "dorvik.check", "true")
	b := newBench(t, s.Clone)
	b.press("enter", "enter", "enter", "enter", "j", "down", "enter")
	b.see("routes.json", "reopen it, edit by edit", "mark as read; the next")
	b.fits("a joined file")
	b.press("t")
	b.see("becomes part of your last commit", "edits taken", `{"name": "Skua", "cars": 24}`)
	b.press("end", "t", "up", "t", "enter")
	b.see("routes.json is as you want it", "u on Check takes it")
	text, ok, err := b.m.s.Planner.TextAt(t.Context(), b.m.join.Tree, "routes.json")
	require.NoError(t, err)
	require.True(t, ok)
	assert.NotContains(t, text, "Skua")
	assert.Contains(t, text, "Ness", "yours stays")
	b.press("j", "down", "enter", "w", "x", "ctrl+s")
	text, _, _ = b.m.s.Planner.TextAt(t.Context(), b.m.join.Tree, "routes.json")
	assert.Contains(t, text, "x")
	require.Len(t, b.m.st.Mends, 2)
	left, err := b.m.s.Planner.Accounts.LeftOut(b.t.Context(), b.m.pos, b.m.join, &b.m.st.Decisions)
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(left, func(l plan.LeftOut) bool {
		return l.Path == "routes.json" && strings.Contains(l.Text, "Skua")
	}), "what was left is told: %v", left)

	b.press("j", "down", "enter", "t")
	b.see("holds more than the edits of both sides")
	b.press("enter")
	b.see("notices/pier.txt", "mark as read; the next")
	for range len(b.m.joinedAlone) - 1 {
		b.press("enter")
	}
	b.see("All that joined by itself was read.", "✓ routes.json", "✓ notices/pier.txt")
}

// TestAskingAColleague writes a note, gives it on, and puts the conflict aside; it comes back when the others are
// settled.
func TestAskingAColleague(t *testing.T) {
	s := demoClone(t)
	at := gittest.At(t, s.Clone)
	b := newBench(t, s.Clone)
	b.press("enter", "enter", "@")
	b.see("A NOTE TO ILKA", "## fares/fares.go, in func VehicleFare, was lines 42–43",
		"Nothing has been sent yet.")
	b.fits("a note")
	b.press("!", "ctrl+s")
	b.see("The note is on the clipboard", "Put this conflict aside until Ilka answers?")
	assert.Contains(t, at.Read(".git/dorvik/note.md"), "!# How do our changes go together?")
	b.press("y")
	b.see("Put aside: Ilka was asked", "◌ later: Ilka was asked", "docs/harbours.md")
	b.press("enter")
	b.see("Settle 1 of 2", "Put aside: Ilka was asked. It can be settled all the same")
	b.press("m")
	b.see("It is taken up again.")
	b.press("m", "S", "o", "o", "n", "enter")
	b.see("Put aside: Soon.")
	b.m.s.Close()
	b = newBench(t, s.Clone)
	b.see("◌ later: Soon")
	gittest.Own(t, "dorvik.note", "cat > given; echo sent")
	b.press("@", "ctrl+s")
	b.see("The note was given to “cat > given; echo sent”.")
	assert.Contains(t, at.Read("given"), "I want to settle it like this (weave)")
	b.press("esc")
	gittest.Own(t, "dorvik.note", "echo no way out; exit 3")
	b.press("@", "ctrl+s")
	b.see("ended with exit status 3: no way out")
	b.press("enter")
	b.see("All settled")
}

// TestPicturesBesideEachOther draws both sides' pictures, and opens them in a viewer.
func TestPicturesBesideEachOther(t *testing.T) {
	s := demoClone(t)
	at := gittest.At(t, s.Clone)
	var b bytes.Buffer
	img := image.NewGray(image.Rect(0, 0, 30, 20))
	img.Pix[0] = 255
	require.NoError(t, png.Encode(&b, img))
	at.Commit("picture", "assets/pier.png", b.String())
	gittest.Own(t, "dorvik.viewer", "cp -t "+t.TempDir())
	x := newBench(t, s.Clone)
	x.press("enter", "enter", "tab", "tab")
	x.see("◐ yours", "a picture: PNG, 30×20 pixels", "◑ theirs", "▀", "No way is clearly right")
	x.fits("pictures")
	theme := x.m.theme
	x.m.dress(theme.WithoutColour())
	assert.NotContains(t, x.m.text(), "▀")
	x.m.dress(theme)
	x.press("o")
	x.see("yours and theirs are opened by “cp -t")
	gittest.Own(t, "dorvik.viewer", "false")
	x.press("o")
	x.see("“false” ended with exit status 1; “git config dorvik.viewer” names another")
	x.press("3", "enter")
	x.see("✓ keep both")
}

// TestViewsOfAConflict: the edits, the result, the three texts, and one side against the other; and the commits
// behind them, by a key.
func TestViewsOfAConflict(t *testing.T) {
	b := newBench(t, demoClone(t).Clone)
	b.press("enter", "enter", "v", "v", "v")
	b.see("◐ yours", "○ what both started from", "◑ theirs", "rate := band.PerHalf", "return rate * v.Metre",
		"return roundUp(rate*v", "yours against theirs")
	b.fits("the three texts")
	b.press("v")
	b.see("your text, and what Ilka has in the place of what is struck out", "PerHalfMetre›PerMetre")
	b.fits("against")
	b.press("v")
	b.see("WAYS TO SETTLE IT", "RESULT")
	b.press("<")
	b.see("Charge vehicles by the half metre", "fares/fares.go")
	b.press("esc", ">")
	b.see("Round fares up to ten cents", "Ilka Renn")
	b.press("esc")
	b.see("Settle 0 of 2")
}

// TestEditorSelects: what is selected is replaced, cut, put in and indented; texts are found and replaced, brackets
// matched.
func TestEditorSelects(t *testing.T) {
	for _, c := range []struct{ name, text, keys, want string }{
		{"typing replaces", "abc", "shift+right shift+right X", "Xc"},
		{"over lines", "ab\ncd\nef", "right shift+down X", "aXd\nef"},
		{"backwards", "abc", "end shift+left backspace", "ab"},
		{"cut and put in", "ab\ncd", "shift+right ctrl+x end ctrl+v", "ba\ncd"},
		{"a line where nothing is selected", "ab\ncd\n", "ctrl+x end enter ctrl+v", "cd\nab\n\n"},
		{"copy", "ab", "shift+right alt+c end ctrl+v", "aba"},
		{"a move ends it", "ab", "shift+right right X", "abX"},
		{"indent", "a\n\nb\nc", "shift+down shift+down tab", "\ta\n\n\tb\nc"},
		{"and back", "\ta\n    b", "shift+down shift+tab", "a\nb"},
		{"by words", "one two", "ctrl+shift+right delete", " two"},
		{"brackets", "f(a, [b])", "right ctrl+b backspace", "f(a, [b)"},
		{"brackets over lines", "f {\n  g()\n}", "end left ctrl+b right X", "f {\n  g()\n}X"},
		{"no bracket", "ab", "ctrl+b X", "Xab"},
		{"find", "one two Two", "ctrl+f t w o enter X", "one X Two"},
		{"find again", "two a two", "ctrl+f t w o enter ctrl+f enter X", "two a X"},
		{"find goes round", "Two a", "end ctrl+f t w o enter X", "X a"},
		{"replace", "a-a\na", "ctrl+r a enter b enter", "b-b\nb"},
		{"take out", "a-a", "ctrl+r a enter enter", "-"},
	} {
		e := term.NewEditor(c.text, 1)
		f := newFrame(t.Context(), term.ThemeOf("dark"))
		f.open(&writing{frame: f, ed: e, around: func(w, h int) term.Page { return e.View(w, h) }})
		for _, k := range strings.Fields(c.keys) {
			f.key(tea.KeyPressMsg(keyOf(k)))
			assert.NotEmpty(t, f.draw(), c.name)
		}
		assert.Equal(t, c.want, e.Text(), c.name)
		for e.At > 0 {
			e.Undo()
		}
		assert.Equal(t, c.text, e.Text(), "%s: all undone", c.name)
	}
}

// TestTheListIsFiltered by path, author and state, and jumps over what is not shown.
func TestTheListIsFiltered(t *testing.T) {
	b := newBench(t, demoClone(t).Clone)
	b.press("enter", "enter", "j", "/", "m", "a", "t", "o", "enter")
	b.see("▶ 2 ≠ line 9", "Only what has “mato” is shown")
	assert.NotContains(t, b.text(), "1 ≠")
	b.fits("the list, filtered")
	b.press("down", "up")
	b.see("▶ 2 ≠ line 9")
	b.press("esc")
	b.see("1 ≠ lines 42–43")
	b.press("/", "u", "n", "r", "e", "a", "d", "enter")
	b.see("▶ ● routes.json")
	b.press("/", "x", "enter")
	b.see("Nothing here has “unreadx”.")
	b.press("esc", "esc")
	b.see("WAYS TO SETTLE IT")
}

// TestACommitIsEditedOnTheRoad: its files are edited in it, and what stands on it is replayed with that.
func TestACommitIsEditedOnTheRoad(t *testing.T) {
	s := demoClone(t)
	mine := gittest.At(t, s.Clone)
	b := newBench(t, s.Clone)
	b.press("enter", "enter", "enter", "enter", "n", "end", "j")
	b.see("ITS FILES", "Which file should be edited in this commit?", "▶ timetable/sailing.go")
	b.fits("its files")
	b.press("down", "enter")
	b.see("timetable/sailing_test.go  in “Print the berth on the ticket”")
	b.press("/", "/", "x", "ctrl+s")
	b.see("joins by itself, edited by you", "nothing more is asked")
	b.press("esc", "enter", "s", "y", "b")
	b.see("Joined here, not pushed yet")
	assert.Contains(t, mine.Git("show", "HEAD:timetable/sailing_test.go"), "//xpackage timetable")
}

// TestAnEditIsTakenOverWhileWriting: it is made where it belongs in what was written, as one change.
func TestAnEditIsTakenOverWhileWriting(t *testing.T) {
	b := newBench(t, demoClone(t).Clone)
	b.press("enter", "enter", "3", "w", "#", "ctrl+t")
	b.see("TAKE AN EDIT OVER", "WHAT YOU WRITE", "PerMetre › PerHalfMetre")
	w := b.m.screen().(*adopting).writing
	before := w.ed.Text()
	require.Contains(t, before, "#")
	require.NotContains(t, before, "PerHalfMetre")
	for !strings.Contains(w.board.Switches[b.m.screen().(*adopting).at].New, "PerHalfMetre") {
		b.press("down")
	}
	b.press("enter")
	b.see("Inserted", "● ◑")
	assert.Equal(t, strings.Replace(before, "PerMetre", "PerHalfMetre", 1), w.ed.Text())
	b.press("enter")
	b.see("Your text contains that edit already")
	b.press("esc", "ctrl+z")
	assert.Equal(t, before, w.ed.Text(), "one change")
	b.press("ctrl+home")
	for range len(w.ed.Lines) {
		b.press("ctrl+k")
	}
	b.press("x", "ctrl+t", "enter")
	b.see("inserted at the cursor")
}

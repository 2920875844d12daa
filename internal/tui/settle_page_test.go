package tui

import (
	"archive/zip"
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/tui/term"
)

// TestWhoWroteEachLine: where several commits are behind an edit, each line has the sign of its own, and the key goes
// through them.
func TestWhoWroteEachLine(t *testing.T) {
	gittest.Isolate(t)
	_, mine, other := gittest.Team(t, "notes.txt", "one\ntwo\nthree\nfour\n")
	mine.Commit("all of it", "notes.txt", "1\n2\n3\n4\n")
	for _, by := range [][3]string{{"Ilka Renn", "the first two", "ONE\nTWO\nthree\nfour\n"},
		{"Mato Veld", "the last two", "ONE\nTWO\nTHREE\nFOUR\n"}} {
		other.Write("notes.txt", by[2])
		other.Git("commit", "-qam", by[1], "--author", by[0]+" <"+by[0][:4]+"@skerry.example>")
	}
	other.Git("push", "-q")
	mine.Git("fetch", "-q")
	b := newBench(t, mine.Dir)
	b.press("enter", "enter")
	b.see("① Mato Veld the last two", "② Ilka Renn the first two", "what they did to it", "②  1 one›ONE",
		"①  3 three›THREE")
	b.fits("who wrote each line")
	b.press(">")
	b.see("the last two", "> the next of 2")
	b.press(">")
	b.see("the first two", "> the next of 2")
	b.press("esc")
	b.see("① Mato Veld")
}

// TestTheTextOfDocumentsIsCompared: of two versions that are no text.
func TestTheTextOfDocumentsIsCompared(t *testing.T) {
	gittest.Isolate(t)
	doc := func(text string) string {
		var out bytes.Buffer
		z := zip.NewWriter(&out)
		w, err := z.Create("word/document.xml")
		require.NoError(t, err)
		_, err = w.Write([]byte("<w><p>" + text + "</p></w>"))
		require.NoError(t, err)
		require.NoError(t, z.Close())
		return out.String()
	}
	_, mine, other := gittest.Team(t, "plan.docx", doc("Winter timetable of the islands"))
	mine.Commit("mine", "plan.docx", doc("Summer timetable of the islands"))
	other.Commit("theirs", "plan.docx", doc("Winter timetable of the northern islands"))
	other.Git("push", "-q")
	mine.Git("fetch", "-q")
	b := newBench(t, mine.Dir)
	b.press("enter", "enter")
	b.see("a document of 5 words", "new in it: “Summer”; gone: “Winter”", "a document of 6 words",
		"new in it: “northern”")
	b.fits("the text of documents")
}

// TestWhatWasSettledBeforeIsListed: in a half-done merge, what the person settled and added is in the list, can be
// reopened, and what it leaves out is told before the push.
func TestWhatWasSettledBeforeIsListed(t *testing.T) {
	gittest.Isolate(t)
	_, mine, other := gittest.Team(t, "a.txt", "one\ntwo\n", "b.txt", "one\ntwo\n")
	mine.Commit("numbers", "a.txt", "one\n2\n", "b.txt", "one\n2\n")
	other.Commit("capitals", "a.txt", "one\nTWO\n", "b.txt", "one\nTWO\n")
	other.Git("push", "-q")
	mine.Git("fetch", "-q")
	_, err := mine.Try("merge", "origin/main")
	require.Error(t, err)
	mine.Write("a.txt", "one\n2\n")
	mine.Git("add", "a.txt")
	b := newBench(t, mine.Dir)
	b.press("enter", "j", "end")
	b.see("JOINED ALREADY", "✓ a.txt", "by you", "You settled this file before.")
	b.press("enter")
	b.see("a.txt", "reopen it, edit by edit", "write in it")
	b.press("esc", "esc", "2", "enter", "enter")
	b.fits("what was settled before")
	b.press("s", "enter")
	b.see("LEFT OUT", "a.txt:2", "TWO")
}

// TestWhatIsUndecidedHasNoSide: while no way is marked, no word of the place is in a side's colour.
func TestWhatIsUndecidedHasNoSide(t *testing.T) {
	gittest.Isolate(t)
	_, mine, other := gittest.Team(t, "n.md", "The board shows boats.\n")
	mine.Commit("mine", "n.md", "The board shows trips.\n")
	other.Commit("theirs", "n.md", "The board shows boats and piers.\n")
	other.Git("push", "-q")
	mine.Git("fetch", "-q")
	b := newBench(t, mine.Dir)
	b.press("enter", "enter")
	b.see("not decided yet", "The board shows boats.")
	seen := false
	for _, row := range b.m.draw() {
		for _, span := range row {
			if after := strings.Contains(span.Text, "RESULT"); after || seen {
				seen = true
				assert.NotContains(t, []term.Hue{term.Yours, term.Theirs}, span.Ink.Hue, span.Text)
			}
		}
	}
	assert.True(t, seen)
}

// TestAPlaceGrowsToItsFile: from writing a place to the whole file; the place settles, and the rest becomes part of a
// commit. The same from the list, while a conflict is open.
func TestAPlaceGrowsToItsFile(t *testing.T) {
	for _, fromList := range []bool{false, true} {
		b := newBench(t, demoClone(t).Clone)
		b.press("enter", "enter")
		if fromList {
			b.press("j", "end", "enter", "w")
		} else {
			b.press("w", "1", "ctrl+g")
			b.see("the conflict is in lines 47–48; what you write elsewhere becomes part of",
				"47  1   rate := band.PerHalfMetre")
		}
		b.press("ctrl+home", "/", "/", " ", "h", "i", "enter", "ctrl+s")
		b.see("becomes part of", "u on Check takes it")
		if !fromList {
			b.see("fares/fares.go: 1 place of it is settled by what you wrote, and the rest is an edit")
		}
		assert.Equal(t, !fromList, b.m.questions[0].Decision != nil)
		b.press("+", "enter") // all by the suggested way, where any is left
		text, _, err := b.m.s.Planner.TextAt(t.Context(), b.m.join.Tree, "fares/fares.go")
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(text, "// hi\n"), text)
		assert.Equal(t, !fromList, strings.Contains(text, "1\trate"), text)
		assert.Empty(t, b.m.join.Lost)
	}
}

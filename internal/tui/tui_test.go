package tui

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"charm.land/bubbles/v2/spinner"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/demo"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// bench drives a model without a terminal: it runs commands and feeds what they
// give back until none is left.
type bench struct {
	t       testing.TB
	m       *app
	drawing bool // all the time while something runs
}

func newBench(t *testing.T, dir string) *bench {
	s, err := recovery.OpenSession(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	b := benchOf(t, s)
	b.m.now = func() time.Time { return time.Date(2026, 3, 5, 12, 0, 0, 0, time.UTC) }
	b.m.w, b.m.h = 142, 40
	b.run(b.m.load(false))
	return b
}

// benchOf is a bench of a session, on which nothing is awaited.
func benchOf(t testing.TB, s *recovery.Session) *bench {
	b := &bench{t: t, m: newApp(t.Context(), s, "dark")}
	b.m.awaitSettings = func(context.Context) error { return errors.New("nothing is awaited") }
	return b
}

func (b *bench) run(cmds ...tea.Cmd) {
	msgs := make(chan tea.Msg)
	pending := 0
	start := func(cmd tea.Cmd) {
		if cmd != nil {
			pending++
			go func() { msgs <- cmd() }()
		}
	}
	for _, c := range cmds {
		start(c)
	}
	next := func() tea.Msg {
		for b.drawing {
			select {
			case msg := <-msgs:
				return msg
			default:
				b.text()
			}
		}
		return <-msgs
	}
	for ; pending > 0; pending-- {
		switch msg := next().(type) {
		case tea.BatchMsg:
			for _, c := range msg {
				start(c)
			}
		case spinner.TickMsg, tea.QuitMsg:
		default:
			cmd := b.m.receive(msg)
			start(cmd)
		}
	}
}

var codes = map[string]tea.Key{
	"enter": {Code: tea.KeyEnter}, "esc": {Code: tea.KeyEscape}, "up": {Code: tea.KeyUp},
	"down": {Code: tea.KeyDown}, "left": {Code: tea.KeyLeft},
	"right": {Code: tea.KeyRight}, "ctrl+s": {Code: 's', Mod: tea.ModCtrl}, "ctrl+c": {Code: 'c', Mod: tea.ModCtrl},
	"pgdown": {Code: tea.KeyPgDown},
	"tab":    {Code: tea.KeyTab}, "shift+tab": {Code: tea.KeyTab, Mod: tea.ModShift}, "home": {Code: tea.KeyHome},
	"delete": {Code: tea.KeyDelete}, "ctrl+y": {Code: 'y', Mod: tea.ModCtrl},
	"ctrl+left": {Code: tea.KeyLeft, Mod: tea.ModCtrl}, "ctrl+k": {Code: 'k', Mod: tea.ModCtrl},
	"backspace": {Code: tea.KeyBackspace}, "end": {Code: tea.KeyEnd}, "ctrl+z": {Code: 'z', Mod: tea.ModCtrl},
	"ctrl+right": {Code: tea.KeyRight, Mod: tea.ModCtrl},
	"shift+left": {Code: tea.KeyLeft, Mod: tea.ModShift}, "shift+right": {Code: tea.KeyRight, Mod: tea.ModShift},
	"shift+up": {Code: tea.KeyUp, Mod: tea.ModShift}, "shift+down": {Code: tea.KeyDown, Mod: tea.ModShift},
	"ctrl+shift+right": {Code: tea.KeyRight, Mod: tea.ModCtrl | tea.ModShift}, "ctrl+x": {Code: 'x', Mod: tea.ModCtrl},
	"ctrl+v": {Code: 'v', Mod: tea.ModCtrl}, "alt+c": {Code: 'c', Mod: tea.ModAlt}, "ctrl+b": {Code: 'b',
		Mod: tea.ModCtrl},
	"ctrl+t": {Code: 't', Mod: tea.ModCtrl}, "ctrl+f": {Code: 'f', Mod: tea.ModCtrl}, "ctrl+r": {Code: 'r',
		Mod: tea.ModCtrl},
}

func (b *bench) key(name string) {
	cmd := b.m.receive(tea.KeyPressMsg(keyOf(name)))
	b.run(cmd)
}

func (b *bench) press(keys ...string) {
	for _, k := range keys {
		b.key(k)
		b.m.draw() // as the program does
	}
}

func keyOf(name string) tea.Key {
	if k, known := codes[name]; known {
		return k
	}
	return tea.Key{Code: []rune(name)[0], Text: name}
}

// text is the screen without its colours.
// text is the whole screen, row by row.
func (f *frame) text() string {
	rows := f.draw()
	text := make([]string, len(rows))
	for i, r := range rows {
		text[i] = f.theme.Render(r)
	}
	return strings.Join(text, "\n")
}

func (b *bench) text() string { return ansi.Strip(b.m.text()) }

func (b *bench) see(texts ...string) {
	b.t.Helper()
	screen := b.text()
	for _, s := range texts {
		if !strings.Contains(screen, s) {
			b.t.Errorf("%q is not on the screen:\n%s", s, screen)
		}
	}
}

// fits draws the screen at many sizes and in all themes: rows never exceed the
// screen and hold nothing but text.
func (b *bench) fits(where string) {
	b.t.Helper()
	w, h, theme := b.m.w, b.m.h, b.m.theme
	for _, size := range [][2]int{{142, 40}, {80, 24}, {60, 18}, {50, 16}, {200, 60}, {110, 30}, {109, 29}, {20, 5}} {
		b.m.w, b.m.h = size[0], size[1]
		rows := b.m.draw()
		if size[0] >= minWidth {
			assert.Len(b.t, rows, size[1], "%s at %v", where, size)
		}
		for i, r := range rows {
			assert.Equal(b.t, size[0], ansi.StringWidth(theme.Render(r)), "%s at %v, row %d, as it is drawn", where,
				size, i)
			assert.Equal(b.t, size[0], r.Width(), "%s at %v, row %d: %q", where, size, i, ansi.Strip(theme.Render(r)))
			for _, s := range r {
				assert.False(b.t, !s.Drawn && strings.ContainsFunc(s.Text, func(r rune) bool {
					return r < ' ' ||
						r == 0x7f
				}), "%s: %q", where, s.Text)
			}
		}
	}
	b.m.w, b.m.h = w, h
	b.m.dress(theme.WithoutColour())
	assert.NotContains(b.t, b.m.text(), "\x1b[38", where)
	b.m.dress(theme)
}

// TestDrawingWhileTasksRun draws all the time while it joins, signs, pushes and undoes: under the
// race detector it shows that drawing never touches what tasks change.
func TestDrawingWhileTasksRun(t *testing.T) {
	s := demoClone(t)
	at := gittest.At(t, s.Clone)
	signer := filepath.Join(t.TempDir(), "signer")
	require.NoError(t, os.WriteFile(signer, []byte("#!/bin/sh\ncat >/dev/null\necho '[GNUPG:] SIG_CREATED ' >&2\necho "+
		"'-----BEGIN PGP SIGNATURE-----'\necho\necho x\necho '-----END PGP SIGNATURE-----'\n"), 0o755))
	at.Git("config", "commit.gpgSign", "true")
	at.Git("config", "gpg.program", signer)
	gittest.Own(t, "dorvik.check", "true")
	b := newBench(t, s.Clone)
	b.drawing = true
	b.press("enter", "enter", "1", "enter", "1", "enter", "enter", "enter")
	b.see("Ready to join and push.")
	b.press("b")
	b.see("Nothing is pushed yet")
	b.press("u")
	b.see("The join is undone")
	b.press("enter", "enter", "enter", "enter")
	b.press("enter")
	b.see("Pushed.")
}

func demoClone(t *testing.T) *demo.Scene {
	gittest.Isolate(t)
	for _, name := range []string{"GIT_AUTHOR_NAME", "GIT_AUTHOR_EMAIL", "GIT_COMMITTER_NAME", "GIT_COMMITTER_EMAIL"} {
		os.Unsetenv(name)
	}
	s, err := demo.Make(t.Context(), filepath.Join(t.TempDir(), "demo"), demo.AsRuna)
	require.NoError(t, err)
	return s
}

func TestEveryScreenOfTheDemoFits(t *testing.T) {
	s := demoClone(t)
	gittest.Own(t, "dorvik.check", "echo timetable/sailing.go:29:9: undefined; exit 1")
	b := newBench(t, s.Clone)
	b.see("A push would be rejected", "you, 25 h ago", "in d34e868 too", "only Mato",
		"7 commits by rebase, 9 commits by merge")
	b.fits("Look")
	b.press("?")
	b.see("EVERYWHERE", "never swap")
	b.fits("help")
	b.press("?", ",", "enter", "ctrl+t")
	b.see("SKERRY-31", "6 tasks")
	b.fits("the list of tasks")
	b.press("x", "y")
	b.see("No task has these words.")
	b.press("backspace", "backspace", "I", "C", "E", "enter")
	b.see("ITS MESSAGE", "SKERRY-38")
	b.press("ctrl+t")
	b.see("▶ SKERRY-38", "taken last")
	b.fits("the list with the one taken last")
	b.press("esc", "esc", "esc", "esc", "enter")
	b.see("Why rebase:", "b9b7987 is there already: Mato did the same", "weave is suggested", "both added lines here")
	b.fits("Choose")
	b.press("enter")
	b.see("1 of 2 commits that ask", "what Ilka did", "in func VehicleFare", "✗ rate := twice",
		"leaves out your 2 and Ilka's 2 words")
	b.fits("Settle")
	for range 7 {
		b.press("down")
		b.fits("Settle, another way")
	}
	b.press("v")
	b.fits("the edits")
	b.press("v")
	b.see("RESULT  lines")
	b.fits("the whole result")
	b.press("v", "j", "down", "down", "down", "enter")
	b.see("notices/pier.txt", "● made in joining", "yellow")
	b.fits("a joined file")
	b.press("tab", "shift+tab", "esc", "esc", "1", "w")
	b.see("WRITE IT YOURSELF", "roundUp(rate*v.HalfMetres(), 10)")
	b.fits("writing")
	b.press("x", "esc")
	b.see("Press esc again")
	b.press("esc", "enter")
	b.see("Settle 1 of 2")
	b.press("enter")
	b.see("All settled")
	b.press("enter")
	b.see("MAY NOT WORK TOGETHER")
	b.see("1 error", "✗ timetable/sailing.go:29:9", "THE PLACE", "stopped after", "return DepthAt(")
	b.fits("Check")
	b.press("o")
	b.fits("output")
	b.press("esc", "enter")
	b.fits("mending")
	b.press("end", "!", "ctrl+s")
	b.see("Mended: timetable/sailing.go", "your last commit, “Print the berth on the ticket”")
	b.press("u")
	b.see("is undone")
	b.press("s")
	b.see("Go on without?")
	b.press("y")
	b.see("Ready to join and push.", "the check failed", "you chose to go on", "every line, name and deletion")
	b.fits("Push")
	b.press("b")
	b.see("Nothing is pushed yet")
	b.press("enter")
	b.see("Pushed.")
	b.fits("pushed")
	assert.Contains(t, b.m.farewell(), "pushed.")
	b.press("enter")
	b.see("one line now")
	b.fits("nothing to do")
}

func TestOneSidedStates(t *testing.T) {
	s := demoClone(t)
	mine := gittest.At(t, s.Clone)
	mine.Git("checkout", "-q", "--", ".")
	mine.Git("reset", "-q", "--hard", "origin/main")
	b := newBench(t, s.Clone)
	b.see("Only theirs is new.", "move forward", "nothing can conflict")
	b.fits("fast-forward")
	b.press("enter")
	b.see("Nothing to do.", "moved forward to theirs")
	assert.Equal(t, gittest.At(t, s.Remote).Git("rev-parse", "main"), mine.Git("rev-parse", "main"))

	mine.Git("-c", "user.name=x", "commit", "-q", "--allow-empty", "-m", "mine \x1b[31m red")
	b.press("f")
	b.see("Nothing new on origin/main.", "go on to Push", "mine ␛[31m red")
	b.fits("only yours")
	b.press("enter")
	b.see("1 commit goes to origin/main")
	b.press("enter")
	b.see("Pushed.")
}

// TestSeveralCommonAncestors merges lines that were merged across each other.
func TestSeveralCommonAncestors(t *testing.T) {
	s := demoClone(t)
	mine, ilka := gittest.At(t, s.Clone), gittest.At(t, s.Teammates[0].Clone)
	mine.Git("checkout", "-q", "--", ".")
	mine.Git("fetch", "-q")
	ilka.Git("fetch", "-q", s.Clone, "main:mine")
	mine.Git("merge", "-q", "-s", "ours", "-m", "one way", "origin/main")
	ilka.Git("merge", "-q", "-s", "ours", "-m", "the other", "mine")
	ilka.Git("push", "-q", "origin", "main")
	b := newBench(t, s.Clone)
	b.see("A push would be rejected", "and 1 more: the lines were merged across each other")
	b.fits("several ancestors")
	b.press("enter")
	b.fits("one route refused")
}

func TestUnansweredAndBlocked(t *testing.T) {
	s := demoClone(t)
	mine := gittest.At(t, s.Clone)
	mine.Git("remote", "set-url", "origin", filepath.Join(t.TempDir(), "gone"))
	b := newBench(t, s.Clone)
	b.see("origin did not answer", "As it was last fetched, on")
	b.fits("unanswered")
	mine.Git("checkout", "-q", "--detach")
	b.press("f")
	b.see("You are on no branch", "Press enter to check out main here")
	b.fits("blocked")
	b.press("enter")
	assert.Equal(t, "main", mine.Git("symbolic-ref", "--short", "HEAD"))
	b.see("held nothing that you do not have; 4 commits of yours", "Push when it can be reached")
}

func TestRefusals(t *testing.T) {
	s := demoClone(t)
	hook := filepath.Join(s.Remote, "hooks", "pre-receive")
	require.NoError(t, os.MkdirAll(filepath.Dir(hook), 0o755))
	gittest.Program(t, hook, "#!/bin/sh\necho 'No pushes on Fridays.'\nexit 1\n")
	b := newBench(t, s.Clone)
	b.press("enter", "enter", "enter", "enter", "enter", "s", "y", "enter")
	b.see("The push was refused.", "by a hook or a rule of its own", "WHAT WAS SAID", "No pushes on Fridays.",
		"undo the join")
	b.fits("refused")
	require.NoError(t, os.Remove(hook))
	b.press("r")
	b.see("Pushed.")
}

// TestARefusedMessageIsReworded: a rule about messages is met by rewording the commit that the server names, without
// joining anything.
func TestARefusedMessageIsReworded(t *testing.T) {
	s := demoClone(t)
	mine, remote := gittest.At(t, s.Clone), gittest.At(t, s.Remote)
	mine.Git("stash", "-q")
	mine.Git("fetch", "-q")
	mine.Git("reset", "-q", "--hard", "origin/main")
	mine.Commit("Warn of ice #7", "notices/ice.txt", "Ice\n")
	mine.Commit("Warn of fog", "notices/fog.txt", "Fog\n")
	mine.Commit("Warn of wind #9", "notices/wind.txt", "Wind\n")
	require.NoError(t, os.MkdirAll(filepath.Join(s.Remote, "hooks"), 0o755))
	gittest.Program(t, filepath.Join(s.Remote, "hooks", "update"), `#!/bin/sh
for c in $(git rev-list "$2..$3"); do
  git log -1 --format=%s $c | grep -q '#[0-9]' || { echo "The commit message of $c must name a task."; exit 1; }
done
`)
	b := newBench(t, s.Clone)
	b.see("Your 3 commits can be pushed as they are.", "n change your commits")
	b.press("enter", "enter")
	b.see("The push was refused.", "speak of the message", "must name a task", "enter change your commits")
	b.press("enter")
	b.see("THE ROAD", "▶ 2 ● ", "name this commit, “Warn of fog”")
	b.press("w", "end")
	b.press(strings.Split(" #8", "")...)
	b.press("ctrl+s")
	b.see("Replayed again from there")
	b.press("esc", "s", "y")
	b.see("Ready to join and push. 3 commits go", "Warn of fog #8")
	b.press("enter")
	b.see("Pushed.")
	assert.Equal(t, "Warn of wind #9\nWarn of fog #8\nWarn of ice #7", remote.Git("log", "-3", "--format=%s", "main"))
	assert.Equal(t, mine.Git("rev-parse", "main"), remote.Git("rev-parse", "main"))
}

// TestAProtectedBranchIsPushedAsAnother proposes a name, and pushes there; the branch keeps its upstream.
func TestAProtectedBranchIsPushedAsAnother(t *testing.T) {
	s := demoClone(t)
	mine, remote := gittest.At(t, s.Clone), gittest.At(t, s.Remote)
	mine.Git("stash", "-q")
	mine.Git("fetch", "-q")
	mine.Git("reset", "-q", "--hard", "origin/main")
	mine.Commit("Warn of ice", "notices/ice.txt", "Ice\n")
	require.NoError(t, os.MkdirAll(filepath.Join(s.Remote, "hooks"), 0o755))
	gittest.Program(t, filepath.Join(s.Remote, "hooks", "update"), `#!/bin/sh
[ "$1" != refs/heads/main ] || { echo "main is a protected branch."; exit 1; }
`)
	b := newBench(t, s.Clone)
	b.press("enter", "enter")
	b.see("The branch is protected", "enter push to another branch")
	b.press("enter")
	b.see("push to the branch  warn-of-ice")
	b.press("enter")
	b.see("Pushed.", "origin/warn-of-ice now holds")
	assert.Equal(t, mine.Git("rev-parse", "main"), remote.Git("rev-parse", "warn-of-ice"))
	assert.Equal(t, "origin/main", mine.Git("rev-parse", "--abbrev-ref", "main@{u}"))
}

// TestAllOfItByOneKey joins, checks and pushes by one key where nothing asks, and stops at what does.
func TestAllOfItByOneKey(t *testing.T) {
	s := demoClone(t)
	mine, remote := gittest.At(t, s.Clone), gittest.At(t, s.Remote)
	b := newBench(t, s.Clone)
	b.see("2 files will need a decision")
	assert.NotContains(t, b.text(), "do all of it", "something asks")
	mine.Git("stash", "-q")
	mine.Git("reset", "-q", "--hard", "HEAD~4")
	mine.Commit("Warn of ice", "notices/ice.txt", "Ice\n")
	b.press("f")
	b.see("A push would be rejected.", ". do all of it")
	b.press(".")
	b.see("ALL OF IT", "Joined by rebase: nothing had to be decided.", "Stopped: nobody agreed yet to run",
		"go on by hand, at Check")
	b.press("enter")
	b.see("agree and run it")
	b.press("esc", "esc", "esc")
	gittest.Own(t, "dorvik.check", "true")
	b.press("f", ".")
	b.see("The joined code passes “true”.", "main has the result.", "Pushed. origin/main now holds", "Done.")
	assert.Equal(t, mine.Git("rev-parse", "main"), remote.Git("rev-parse", "main"))
	b.press("enter")
	b.see("Nothing to do.")
}

// TestWorkIsCommittedFromLook chooses files and single edits, writes the message, and takes the commit back.
func TestWorkIsCommittedFromLook(t *testing.T) {
	s := demoClone(t)
	mine := gittest.At(t, s.Clone)
	mine.Git("checkout", "-q", "-f", ".")
	was := mine.Git("rev-parse", "main")
	text := strings.Replace(strings.Replace(mine.Read("docs/harbours.md"), "#", "##", 1), "\n", "\n\nTides vary.\n", 1)
	mine.Write("docs/harbours.md", text+"One more line.\n")
	mine.Write("notices/ice.txt", "Ice\n")
	b := newBench(t, s.Clone)
	b.see("NOT COMMITTED YET", ", commit your work")
	b.press(",")
	b.see("COMMIT  the marked files", "✓  docs/harbours.md", "·  notices/ice.txt", "new", "tab into the last commit")
	b.fits("work")
	b.press("v")
	b.see("docs/harbours.md", "your edits since the last commit")
	b.press("t", "enter")
	b.see("some of its edits")
	b.press("down", "t")
	b.see("✓  notices/ice.txt")
	b.press("enter")
	b.see("ITS MESSAGE")
	b.press(strings.Split("Ice", "")...)
	b.press("ctrl+s")
	b.see("Committed: main is at", "5 yours")
	assert.Equal(t, "Ice", mine.Git("log", "-1", "--format=%s"))
	assert.Equal(t, "docs/harbours.md\nnotices/ice.txt", mine.Git("show", "--format=", "--name-only"))
	assert.Equal(t, " M docs/harbours.md", mine.Git("status", "--porcelain"))
	assert.Equal(t, text+"One more line.\n", mine.Read("docs/harbours.md"))
	b.press("l", "u")
	b.see("main is back at")
	assert.Equal(t, was, mine.Git("rev-parse", "main"))
	assert.Equal(t, " M docs/harbours.md\n?? notices/ice.txt", mine.Git("status", "--porcelain"))
}

// TestConflictsOfWholePaths shows each kind of conflict that is not about lines.
func TestConflictsOfWholePaths(t *testing.T) {
	gittest.Isolate(t)
	remote := gittest.New(t, "--bare")
	seed := gittest.New(t)
	seed.Commit("base", "kept", "1\n", "dropped", "1\n", "bin", "\x001", "link-target", "x\n", "crlf\r name", "x\n")
	require.NoError(t, os.Symlink("a", filepath.Join(seed.Dir, "link")))
	seed.Commit("link")
	seed.Git("push", "-q", remote.Dir, "main")
	mine, other := remote.Clone(), remote.Clone()
	for i, r := range []*gittest.Repo{mine, other} {
		require.NoError(t, os.Remove(filepath.Join(r.Dir, "link")))
		require.NoError(t, os.Symlink(fmt.Sprint("b", i), filepath.Join(r.Dir, "link")))
		r.Write("bin", fmt.Sprint("\x00", 2+i))
		r.Write("crlf\r name", fmt.Sprint(i, "\n"))
		r.Write("added", "same\n")
		require.NoError(t, os.Chmod(filepath.Join(r.Dir, "added"), []os.FileMode{0o644, 0o755}[i]))
	}
	require.NoError(t, os.Remove(filepath.Join(mine.Dir, "kept")))
	other.Write("kept", "2\n")
	mine.Write("dropped", "2\n")
	require.NoError(t, os.Remove(filepath.Join(other.Dir, "dropped")))
	mine.Write("both", "file\n")
	other.Write("both/x", "dir\n")
	mine.Commit("mine")
	other.Git("-c", "user.email=o@skerry.example", "add", "-A")
	other.Git("-c", "user.email=o@skerry.example", "commit", "-q", "-m", "theirs", "--author",
		"Ilka Renn <ilka@skerry.example>")
	other.Git("push", "-q")

	b := newBench(t, mine.Dir)
	b.press("enter", "right", "enter")
	says := map[string]string{
		"added": "disagree on whether this file is a program", "bin": "It is not text",
		"both":    "You have a file of this name, and Ilka has a directory",
		"dropped": "Ilka deleted this file in ",
		"kept":    "and Ilka changed 1 line of it in ", "link": "pointed this link elsewhere",
	}
	require.Len(t, b.m.questions, len(says)+1)
	for range b.m.questions {
		path := b.m.settle.question().Question.Path
		if words, ok := says[path]; ok {
			b.see(words, "yours", "theirs")
		} else {
			b.see("crlf␍ name")
		}
		b.fits(path)
		way := "2"
		if path == "kept" {
			b.see("suggested: keeps the file", "what Ilka changed in it", "lost if it is deleted",
				"WHAT EACH LEAVES", "is deleted")
		}
		if !b.m.settle.question().Question.Whole() {
			way = "1"
		} else {
			before := b.text()
			b.press("w", "v")
			assert.Equal(t, before, b.text(), "there is no text to write, and no more of it to see")
		}
		b.press(way, "enter")
	}
	b.see("All settled")
	b.press("u")
	assert.Equal(t, 1, b.m.join.Open)
	b.press("2", "enter", "enter")
	b.see("No check was found")
	b.press("enter")
	b.see("will be left out", "your version of the file")
	b.press("b")
	assert.Equal(t, "dir\n", mine.Read("both/x"))
	assert.Equal(t, "2\n", mine.Read("kept"))
	assert.Empty(t, mine.Git("status", "--porcelain"))
	assert.NoFileExists(t, filepath.Join(mine.Dir, "dropped"))
}

// TestRenames joins an edit with a rename, and settles what renames clash in.
func TestRenames(t *testing.T) {
	gittest.Isolate(t)
	remote := gittest.New(t, "--bare")
	seed := gittest.New(t)
	text := func(name string) string { return strings.Repeat("the "+name+" line\n", 8) }
	seed.Commit("base", "edited", text("edited"), "apart", text("apart"), "gone", text("gone"), "moved", text("moved"))
	seed.Git("push", "-q", remote.Dir, "main")
	mine, other := remote.Clone(), remote.Clone()
	mine.Write("edited", "mine\n"+text("edited"))
	mine.Git("mv", "apart", "here")
	mine.Git("rm", "-q", "gone")
	mine.Git("mv", "moved", "there")
	mine.Write("there", "mine\n"+text("moved"))
	mine.Commit("mine")
	other.Git("mv", "edited", "renamed")
	other.Git("mv", "apart", "elsewhere")
	other.Git("mv", "gone", "kept")
	other.Write("moved", "theirs\n"+text("moved"))
	other.Git("add", "-A")
	other.Git("commit", "-q", "-m", "theirs", "--author", "Ilka Renn <ilka@skerry.example>")
	other.Git("push", "-q")

	b := newBench(t, mine.Dir)
	b.press("enter", "right", "enter")
	require.Len(t, b.m.questions, 3)
	b.see("both renamed apart, to different names", "the file is here", "the file is elsewhere", "Choose one")
	b.press("enter")
	b.see("nothing was taken")
	b.fits("rename/rename")
	b.press("2", "enter")
	b.see("Ilka renamed gone to this, and you deleted it", "suggested: keeps the file")
	b.fits("rename/delete")
	b.press("enter")
	b.see("both added at the start, renamed from moved", "what you did")
	b.press("4", "enter")
	b.see("All settled")
	b.press("enter", "enter", "b")
	assert.Equal(t, "mine\n"+text("edited"), mine.Read("renamed"), "the edit followed the rename")
	assert.Equal(t, "theirs\nmine\n"+text("moved"), mine.Read("there"))
	assert.Equal(t, text("apart"), mine.Read("elsewhere"))
	assert.Equal(t, text("gone"), mine.Read("kept"))
	for _, old := range []string{"edited", "apart", "here", "gone", "moved"} {
		assert.NoFileExists(t, filepath.Join(mine.Dir, old))
	}
	assert.Empty(t, mine.Git("status", "--porcelain"))
}

func TestMovedLinesAndMergeDrivers(t *testing.T) {
	gittest.Isolate(t)
	remote := gittest.New(t, "--bare")
	seed := gittest.New(t)
	const fare, rest = "fare:\n  from Ness\n  to Holm\n\n", "tides:\n  high\n  low\n\nships:\n  Skarv\n  Terne\n\n"
	seed.Commit("base", "table", fare+rest, "list", "1\n2\n3\n4\n5\n6\n7\n", ".gitattributes", "list merge=mine\n")
	seed.Git("push", "-q", remote.Dir, "main")
	mine, other := remote.Clone(), remote.Clone()
	mine.Commit("mine", "table", rest+fare, "list", "one\n2\n3\n4\n5\n6\n7\n")
	other.Commit("theirs", "table", strings.Replace(fare, "Ness", "Ness pier", 1)+rest, "list",
		"1\n2\n3\n4\n5\n6\nseven\n")
	other.Git("push", "-q")
	mine.Git("config", "merge.mine.driver", "printf 'driven\\n' > %A")

	b := newBench(t, mine.Dir)
	b.see("your merge driver “mine” runs only once", "d merge driver")
	b.press("d")
	b.see("printf", "Let it run?", "y let it run")
	b.press("esc")
	b.see("joined as text")
	b.press("d", "y")
	b.see("joined by your merge driver “mine”")
	assert.NotContains(t, b.text(), "d merge driver")
	b.fits("a driver")

	b.press("enter", "right", "enter")
	b.see("suggested: their edit, at line 9, where you moved it", "the lines you moved are there twice",
		"(moved to lines 9–12:)", "The lines are where they were moved to", "10 ●   from Ness pier")
	b.fits("moved lines")
	b.m.w, b.m.h = 80, 24
	b.see("Suggested: their edit, at line 9, where you moved it.")
	b.m.w, b.m.h = 142, 40
	b.press("3")
	b.see("Takes their text")
	b.press("1", "w")
	b.see("WRITE IT YOURSELF", "from Ness pier")
	b.press("end", "!", "ctrl+s")
	b.see("as you wrote it", "9 ● fare:!")
	b.press("u", "enter", "enter", "enter", "b")
	assert.Equal(t, rest+strings.Replace(fare, "Ness", "Ness pier", 1), mine.Read("table"))
	assert.Equal(t, "driven\n", mine.Read("list"))
}

func TestPicking(t *testing.T) {
	gittest.Isolate(t)
	remote := gittest.New(t, "--bare")
	seed := gittest.New(t)
	seed.Commit("base", "a", "1\n2\n3\n4\n5\n", "b", "b\n")
	seed.Git("push", "-q", remote.Dir, "main")
	mine := remote.Clone()
	mine.Git("checkout", "-q", "-b", "night")
	mine.Commit("one", "a", "1\n2\nthree\n4\n5\n")
	mine.Commit("two", "b", "bb\n")
	mine.Git("checkout", "-q", "main")
	mine.Commit("mine", "a", "1\n2\nDrei\n4\n5\n", "b", "bb\n")

	b := newBench(t, mine.Dir)
	require.NoError(t, b.m.s.Pick(t.Context(), []string{"night~1", "night"}, 0))
	b.run(b.m.load(false))
	b.see("2 commits to pick", "theirs, picked", "yours, since the lines parted", "x drop the pick", "same lines",
		"main will hold 1 commit more")
	b.fits("look at a pick")
	b.press("enter")
	b.see("your line, and 1 new commit after it", "has nothing left to add", "1 decision, at 1 commit")
	b.fits("choose a pick")
	b.press("right", "enter")
	b.see("the one commit that asks")
	b.fits("settle a pick")
	b.press("3", "enter", "enter", "enter")
	b.see("2 commits go to origin/main", "new id, was", "as it is", "nothing of it is left",
		"what you picked stays on your branch")
	b.fits("push a pick")
	b.press("b")
	b.see("Picked:", "undo the pick")
	other := remote.Clone()
	other.Commit("new", "c", "c\n")
	other.Git("push", "-q")
	b.press("enter")
	b.see("Somebody pushed first", "What you picked is on your branch", "1 theirs · 2 yours")
	b.press("enter", "enter", "enter", "enter")
	b.see("Pushed.")
	assert.Equal(t, "one\nmine\nnew\nbase", mine.Git("log", "--format=%s", "origin/main"))
	b.press("enter")
	b.see("Yours and theirs are one line now")
}

func TestPushedCommitsAreHeldBack(t *testing.T) {
	s := demoClone(t)
	gittest.At(t, s.Clone).Git("push", "-q", "origin", "main:refs/heads/side")
	b := newBench(t, s.Clone)
	b.press("enter")
	b.see("▶ Choose merge", "▲ 4 are on a remote: b9b7987")
	b.press("left", "enter")
	b.see("Rebase all the same?")
	b.press("enter")
	assert.Same(t, b.m.choose, b.m.under, "enter alone is not enough")
	b.press("y")
	assert.Same(t, b.m.settle, b.m.under)
}

func TestUncommittedWorkInTheWay(t *testing.T) {
	s := demoClone(t)
	gittest.At(t, s.Clone).Write("timetable/tide.go", "edited\n")
	b := newBench(t, s.Clone)
	b.see("The join must change timetable/tide.go")
	b.press("enter", "enter", "enter", "enter", "enter", "s", "y")
	b.see("Not yet: timetable/tide.go is in the way", "enter carry your work along")
	b.press("enter") // the file is another one by now, and so it asks
	b.see("your uncommitted work", "timetable/tide.go")
	assert.Equal(t, "edited\n", gittest.At(t, s.Clone).Read("timetable/tide.go"))
}

func TestAges(t *testing.T) {
	now := time.Date(2026, 3, 5, 12, 0, 0, 0, time.UTC)
	for d, want := range map[time.Duration]string{12 * time.Second: "12 s ago", 5 * time.Minute: "5 min ago",
		30 * time.Hour: "30 h ago",
		72 * time.Hour: "3 days ago", 100 * 24 * time.Hour: "25 Nov 2025", 62 * 24 * time.Hour: "2 Jan",
		-time.Hour: "5 Mar 2026"} {
		assert.Equal(t, want, words.Ago(now, now.Add(-d)))
	}
	assert.Equal(t, "a, b and c", words.List([]string{"a", "b", "c"}))
	assert.Equal(t, "…long/path.go", term.CutPath("a/very/long/path.go", 13))
	assert.Equal(t, settle.Weave.Label(), "weave")
}

// longFile makes a clone in which both sides changed every fiftieth line of a file.
func longFile(t testing.TB, lines int) (dir string) {
	remote := gittest.New(t, "--bare")
	seed := gittest.New(t)
	text := func(who string) string {
		var s strings.Builder
		for i := range lines {
			if i%50 == 25 && who != "" {
				fmt.Fprintf(&s, "line %d by %s\n", i, who)
			} else {
				fmt.Fprintf(&s, "line %d\n", i)
			}
		}
		return s.String()
	}
	seed.Commit("base", "long.go", text(""))
	seed.Git("push", "-q", remote.Dir, "main")
	mine, other := remote.Clone(), remote.Clone()
	mine.Commit("mine", "long.go", text("me"))
	other.Commit("theirs", "long.go", text("them"))
	other.Git("push", "-q")
	return mine.Dir
}

// BenchmarkKey is the answer to one key, rendering included, in a file of 20,000
// lines with 400 conflicts.
func BenchmarkKey(b *testing.B) {
	gittest.Isolate(b)
	s, err := recovery.OpenSession(b.Context(), longFile(b, 20_000))
	require.NoError(b, err)
	defer s.Close()
	d := benchOf(b, s)
	p := &program{frame: d.m.frame}
	d.m.receive(tea.WindowSizeMsg{Width: 200, Height: 60})
	d.run(d.m.load(false))
	d.press("enter")
	begun := time.Now()
	d.press("enter")
	b.Logf("Settle is there after %d ms", time.Since(begun).Milliseconds())
	require.Len(b, d.m.questions, 400)
	for _, keys := range [][]string{{"down"}, {"up"}, {"tab"}, {"t", "t", "down", "esc", "esc"}} {
		b.Run(strings.Join(keys, " "), func(b *testing.B) {
			var took []time.Duration
			for b.Loop() {
				for _, key := range keys {
					begun := time.Now()
					cmd := d.m.receive(tea.KeyPressMsg(keyOf(key)))
					p.render()
					took = append(took, time.Since(begun))
					d.run(cmd) // beside the screen
				}
			}
			slices.Sort(took)
			b.ReportMetric(float64(took[len(took)*99/100].Microseconds())/1000, "p99-ms")
		})
	}
	b.Run("joining again after a decision", func(b *testing.B) {
		for n := 0; b.Loop(); n++ {
			decisions := settle.Decisions{List: []settle.Decision{{Key: d.m.questions[n%400].Question.Key,
				Way: settle.Theirs}}}
			j, err := s.Planner.Join(b.Context(), d.m.pos, plan.Rebase, &decisions, plan.Amends{}, nil)
			if err != nil || j.Settled != 1 {
				b.Fatal(err, j.Settled)
			}
		}
	})
}

// TestWhatIsTypedIsNotLost: pasted lines end as lines of the file do, and ctrl+c asks once.
func TestWhatIsTypedIsNotLost(t *testing.T) {
	s := demoClone(t)
	b := newBench(t, s.Clone)
	b.press("enter", "enter", "1", "w")
	b.m.receive(tea.PasteMsg{Content: "one\rtwo\r\nthree\n"})
	assert.Contains(t, b.m.screen().(*writing).ed.Text(), "one\ntwo\nthree\n")
	assert.NotContains(t, b.m.screen().(*writing).ed.Text(), "\r")
	cmd := b.m.receive(tea.KeyPressMsg(codes["ctrl+c"]))
	assert.Nil(t, cmd)
	b.see("is not kept yet", "one")
	b.press("x")
	cmd = b.m.receive(tea.KeyPressMsg(codes["ctrl+c"]))
	assert.Nil(t, cmd, "asked again after more was typed")
	cmd = b.m.receive(tea.KeyPressMsg(codes["ctrl+c"]))
	require.NotNil(t, cmd)
	assert.IsType(t, tea.QuitMsg{}, cmd())
}

// TestWhatIsInTheWayIsMovedAside by one key, and brought back by undo.
func TestWhatIsInTheWayIsMovedAside(t *testing.T) {
	gittest.Isolate(t)
	remote := gittest.New(t, "--bare")
	seed := gittest.New(t)
	seed.Commit("base", "f", "1\n")
	seed.Git("push", "-q", remote.Dir, "main")
	mine, other := remote.Clone(), remote.Clone()
	mine.Commit("mine", "m", "m\n")
	other.Commit("theirs", "quay/sub/x", "theirs\n")
	other.Git("push", "-q")
	mine.Write(".git/info/exclude", "quay\n")
	mine.Write("quay", "ignored, and mine\n")
	b := newBench(t, mine.Dir)
	b.see("The join must write where you have quay, which is not tracked", "m move it aside")
	b.press("enter", "enter", "enter")
	b.see("Not yet: quay is in the way", "enter move it aside")
	b.press("b")
	assert.Equal(t, "ignored, and mine\n", mine.Read("quay"))
	b.press("enter")
	b.see("Ready to join and push", "quay will be moved aside")
	b.press("b")
	b.see("quay was moved aside; until this is pushed undo brings it back")
	assert.Equal(t, "theirs\n", mine.Read("quay/sub/x"))
	b.press("u")
	assert.Equal(t, "ignored, and mine\n", mine.Read("quay"))
}

package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/svntest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAPullIntoConflicts is where most come from: a pull stopped in the middle of a rebase, one place was settled by
// hand, and Dorvik goes on to the accepted push.
func TestAPullIntoConflicts(t *testing.T) { onEach(t, pullIntoConflicts) }

func pullIntoConflicts(t *testing.T, x *terminal) {
	mine := x.file(x.scene.Clone)
	left := x.in.pullIntoRebase(t, x.scene.Clone)
	text := mine.Read("fares/fares.go")
	from, to := strings.Index(text, "<<<<<<<"), strings.Index(text, ">>>>>>>")
	mine.Write("fares/fares.go", text[:from]+"\trate := band.PerHalfMetre\n\treturn roundUp(rate*v.HalfMetres(), 10)\n"+
		text[to+strings.Index(text[to:], "\n")+1:])
	x.in.settled(t, x.scene.Clone, "fares/fares.go")
	x.open("80x24")
	x.see("stopped in the middle of a rebase", "WHAT CAN BECOME OF IT", "go on from here")
	x.press("Enter")
	x.see("Settle 0 of 1", "docs/harbours.md")
	x.press("Enter")
	x.see("All settled")
	x.press("Enter")
	x.see("agree and run it")
	x.press("s", "y")
	x.see("Ready to finish.")
	x.press("Enter")
	x.see("is finished, and nothing of it is left", "push to "+x.in.remote+"/"+x.in.branch)
	assert.Equal(t, left, strings.TrimSpace(x.in.status(t, x.scene.Clone)))
	x.press("Enter")
	x.see("Pushed.")
	assert.Equal(t, x.remoteTip(), x.tip())
	assert.Contains(t, mine.Read("fares/fares.go"), "roundUp(rate*v.HalfMetres(), 10)")
	x.in.sound(t, x.scene.Clone)
	x.press("q")
	x.see("ended with 0")
}

// TestAnUpdateIntoConflicts: svn mixed two people's work into the files and stopped; one place was settled by hand.
func TestAnUpdateIntoConflicts(t *testing.T) {
	x := demoOf(t, "svn")
	mine, c := x.file(x.scene.Clone), svntest.At(t, x.scene.Clone, "Runa Holt")
	c.Svn("update", "-q", "--accept", "postpone")
	text := mine.Read("fares/fares.go")
	from, to := strings.Index(text, "<<<<<<<"), strings.Index(text, ">>>>>>>")
	mine.Write("fares/fares.go", text[:from]+"\trate := band.PerHalfMetre\n\treturn roundUp(rate*v.HalfMetres(), 10)\n"+
		text[to+strings.Index(text[to:], "\n")+1:])
	x.open("80x24")
	x.see("An update stopped at conflicts.", "docs/harbours.md", "1 theirs")
	x.press("Enter")
	x.see("Why update:")
	x.press("Enter")
	x.see("Settle 0 of 1", "docs/harbours.md")
	x.press("Enter")
	x.see("All settled")
	x.press("Enter")
	x.see("agree and run it")
	x.press("s", "y")
	x.see("Ready to join and push.")
	x.press("Enter")
	x.see("Pushed.")
	assert.Equal(t, x.remoteTip(), x.tip())
	assert.Equal(t, "M cmd/skerry/main.go", strings.TrimSpace(x.in.status(t, x.scene.Clone)), "no copy is left")
	assert.Contains(t, mine.Read("fares/fares.go"), "roundUp(rate*v.HalfMetres(), 10)")
	assert.Contains(t, mine.Read("docs/harbours.md"), "- Holm, pier, all vehicles, April to September\n- Ness, slip only")
	x.press("q")
	x.see("ended with 0")
}

// TestAFileInTheWayIsCarried has uncommitted work in a file that the join changes, which asks, and
// takes the push back afterwards: here, and by a commit there.
func TestAFileInTheWayIsCarried(t *testing.T) {
	x := newTerminal(t)
	mine := x.mine()
	tide := mine.Read("timetable/tide.go")
	mine.Write("timetable/tide.go", strings.Replace(tide, "in metres, so", "in metres over the sill, so", 1))
	before := mine.Git("rev-parse", "main")
	x.open("142x40")
	x.fetched()
	x.see("The join must change timetable/tide.go", "it asks 1 decision, in timetable/tide.go")
	x.press("k")
	x.see("is carried along", "origin was asked")
	x.press("Enter")
	x.see("Why rebase:", "your uncommitted work")
	x.press("Enter")
	x.see("Settle 0 of 3")
	x.press("Enter")
	x.see("Settle 1 of 3")
	x.press("Enter")
	x.see("Settle 2 of 3", "the last stop", "◐ your uncommitted work")
	x.press("Enter")
	x.see("All settled")
	x.press("Enter")
	x.see("agree and run it")
	x.press("s", "y")
	x.see("Ready to join and push.", "uncommitted work is carried along")
	x.press("Enter")
	x.see("Pushed.")
	assert.Contains(t, mine.Read("timetable/tide.go"), "// DepthAtPier is the water at a pier, in metres over the sill, so")
	assert.Equal(t, " M cmd/skerry/main.go\n M timetable/tide.go", mine.Git("status", "--porcelain"))

	x.press("l")
	x.see("main was pushed", "main was joined by rebase")
	x.press("Down")
	x.pressUntil("g", "Taking back what waypoint 1 brought.")
	x.see("Take back what")
	x.pressUntil("x", "Nothing to do.")
	mine.Git("checkout", "-q", "timetable/tide.go")
	x.press("l")
	x.see("LOGBOOK", "main was joined by rebase")
	x.press("Down")
	x.pressUntil("u", "goes back to where it was before waypoint 1")
	x.see("origin/main keeps what was pushed", "Go back?")
	x.press("y")
	x.see("main is back at")
	assert.Equal(t, before, mine.Git("rev-parse", "main"))
	assert.NotEqual(t, before, x.remoteTip())
}

// TestTheRoad is a rebase of three stops, in which one commit comes to nothing, one is left out, and
// an earlier decision is changed; then it is a merge, and what was decided holds.
func TestTheRoad(t *testing.T) {
	x := newTerminal(t)
	mine := x.mine()
	mine.Git("stash", "-q")
	tide := mine.Read("timetable/tide.go")
	mine.Commit("Say which depth", "timetable/tide.go", strings.Replace(tide, "// DepthAt is", "// DepthAtPier is", 1))
	bands := mine.Read("fares/bands.csv")
	mine.Commit("A band for bicycles", "fares/bands.csv", bands+"bicycle,1,1\n")
	x.open("142x40")
	x.fetched()
	x.press("Enter")
	x.see("Why rebase:", "4 decisions, at 4 commits")
	x.press("Enter")
	x.see("Settle 0 of 4")
	x.press("n")
	x.see("THE ROAD", "A band for bicycles", "asks 1 decision", "joins by itself")
	x.press("Down", "Down", "2") // the berth
	x.see("WHAT HAPPENS TO IT  7721813", "loses")
	x.press("Enter")
	x.see("left out by you")
	x.press("Escape")
	x.see("Settle 0 of 4", "conflict 1 of 4")
	for _, done := range []string{"Settle 1 of 4", "Settle 2 of 4", "Settle 3 of 4", "All settled"} {
		x.press("Enter")
		x.see(done)
	}
	x.press("n")
	x.see("Say which depth", "nothing of it is left, as you settled it")
	x.press("Home", "Down", "Enter") // the fares again: theirs
	x.see("fares/fares.go", "4 of 4 settled")
	x.press("3", "Enter")
	x.see("All settled", "1 ✓ theirs")
	x.press("Enter")
	x.see("agree and run it")
	x.press("s", "y")
	x.see("Ready to join and push.", "Print the berth on the ticket   left out by you", "Say which depth   not needed")
	x.press("Escape")
	x.see("▶ Check")
	x.press("Escape")
	x.see("▶ Settle")
	x.press("Escape")
	x.see("▶ Choose", "made already") // worked out anew: a key before that is let go
	x.press("Right", "Enter")
	x.see("Choose merge", "4 settled")
	x.press("q")
	x.see("ended with 0", "decisions are kept")
}

// TestKilledAndTwoAtOnce kills the program in Settle and while it changes the branch, and opens two.
func TestKilledAndTwoAtOnce(t *testing.T) {
	x := newTerminal(t)
	mine := x.mine()
	before := mine.Git("rev-parse", "main")
	x.open("80x24")
	x.settleFirst()
	out, err := exec.Command(binary, "-C", x.scene.Clone, "recover").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "another Dorvik is open in this repository")
	require.NoError(t, exec.Command("pkill", "-9", "-f", "^"+binary+" -C "+x.scene.Clone).Run())
	x.see("ended with 137")

	x.open("80x24")
	x.see("Settle 1 of 2", "Continuing where you left off: 1 decision was kept")
	x.press("Enter")
	x.see("All settled")
	x.press("q")
	x.see("ended with 0")

	// A git that kills whoever asks it to move the branch.
	real, err := exec.LookPath("git")
	require.NoError(t, err)
	bin := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(bin, "git"), []byte("#!/bin/sh\ncase \"$*\" in *update-ref*finish*) "+
		"kill -9 $PPID; exit 1;; esac\nexec "+real+" \"$@\"\n"), 0o755))
	x.open("80x24", "env", "PATH="+bin+":$PATH")
	x.see("agree and run it", "2 decisions were kept")
	x.press("s", "y")
	x.see("Ready to join and push.")
	x.press("b")
	x.see("ended with 137")
	assert.Equal(t, before, mine.Git("rev-parse", "main"))

	x.open("80x24")
	x.see("An earlier run was interrupted")
	x.see("origin was asked")
	assert.Equal(t, " M cmd/skerry/main.go", mine.Git("status", "--porcelain"))
	x.press("q")
	x.see("ended with 0")
}

// pressUntil presses a key, again while something runs that it has to wait for, until a text is seen.
func (x *terminal) pressUntil(key, text string) {
	x.t.Helper()
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		if x.press(key); strings.Contains(x.screen(), text) {
			return
		}
	}
	x.see(text)
}

// settleFirst settles the first conflict.
func (x *terminal) settleFirst() {
	x.t.Helper()
	x.fetched80()
	x.press("Enter")
	x.see("Why rebase:")
	x.press("Enter")
	x.see("Settle 0 of 2")
	x.press("Enter")
	x.see("Settle 1 of 2")
}

func (x *terminal) fetched80() {
	x.t.Helper()
	x.see("A push would be rejected", "origin was asked")
}

// TestSuspendedAndHungUp goes back to the shell and returns; then its terminal goes away.
func TestSuspendedAndHungUp(t *testing.T) {
	x := newTerminal(t)
	x.running = true
	x.tmux("new-session", "-d", "-s", "s", "-x", "100", "-y", "30", "--", "env", "PS1=shell> ", "bash", "--norc",
		"--noprofile")
	x.see("shell>")
	x.press(binary+" -C "+x.scene.Clone, "Enter")
	x.see("A push would be rejected", "origin was asked")
	x.press("C-z")
	x.see("Stopped", "shell>")
	x.press("fg", "Enter")
	x.see("A push would be rejected", "all keys")
	x.press("Enter")
	x.see("Why rebase:")
	x.press("Enter")
	x.see("Settle 0 of 2")
	x.press("Enter")
	x.see("Settle 1 of 2")
	require.NoError(t, exec.Command("pkill", "-HUP", "-f", "^"+binary+" -C "+x.scene.Clone).Run())
	x.see("1 decision is kept", "shell>")
	assert.Equal(t, " M cmd/skerry/main.go", gittest.At(t, x.scene.Clone).Git("status", "--porcelain"))
	x.press("exit", "Enter")
}

// TestAsGitsMergetool has the real git open Settle for each file of a rebase: yours stay yours, what was left is
// there again, and git believes the exit code.
func TestAsGitsMergetool(t *testing.T) {
	x := newTerminal(t)
	mine := x.mine()
	mine.Git("config", "merge.tool", "dorvik")
	mine.Git("config", "mergetool.dorvik.cmd", binary+` settle --mergetool --name "$MERGED" "$BASE" "$LOCAL" "$REMOTE" "$MERGED"`)
	mine.Git("config", "mergetool.dorvik.trustExitCode", "true")
	mine.Git("config", "mergetool.keepBackup", "false")
	mine.Git("checkout", "-q", "--", ".")
	_, err := mine.Try("pull", "-q", "--rebase")
	require.Error(t, err)
	marked := mine.Read("fares/fares.go")
	start := func() {
		x.t.Helper()
		line := "cd " + x.scene.Clone + " && git mergetool --no-prompt; echo ended with $?; sleep 600"
		if x.running {
			x.tmux("respawn-pane", "-k", "-t", "s", "sh", "-c", line)
			return
		}
		x.running = true
		x.tmux("new-session", "-d", "-s", "s", "-x", "100", "-y", "30", "--", "sh", "-c", line)
	}
	start()
	x.see("Settle 0 of 1", "fares/fares.go", "◐ you", "Charge vehicles by the half metre", "◑ Ilka Renn")
	x.press("Enter")
	x.see("All settled. Enter writes fares/fares.go")
	x.press("q")
	x.see("is as it was. What you settled is kept", "ended with 1")
	assert.Equal(t, marked, mine.Read("fares/fares.go"))
	start()
	x.see("Settle 1 of 1", "All settled")
	x.press("Enter")
	x.see("is written.", "ended with 0")
	assert.Contains(t, mine.Read("fares/fares.go"), "return roundUp(rate*v.HalfMetres(), 10)")
	assert.Equal(t, "M  fares/fares.go", mine.Git("status", "--porcelain"), "and nothing is left beside")
	out, _ := mine.Try("-c", "core.editor=true", "rebase", "--continue")
	assert.Contains(t, out, "Merge conflict in docs/harbours.md", "git goes on to the next stop")
}

// TestInOnesOwnEditor writes a place in the editor that git would open, and comes back to the screen.
func TestInOnesOwnEditor(t *testing.T) {
	x := newTerminal(t)
	editor := filepath.Join(t.TempDir(), "editor")
	require.NoError(t, os.WriteFile(editor, []byte("#!/bin/sh\nclear; echo editing $(basename $1); read go\n"+
		"[ \"$go\" = no ] && exit 3\necho '// by hand' >> $1\n"), 0o755))
	x.open("142x40", "VISUAL="+editor)
	x.fetched()
	x.press("Enter")
	x.see("Why rebase:")
	x.press("Enter")
	x.see("Settle 0 of 2")
	x.press("w")
	x.see("WRITE IT YOURSELF", "ctrl+g the whole file")
	x.press("C-o")
	x.see("editing fares.go")
	x.press("no", "Enter")
	x.see("Your editor ended with exit status 3; the text is as it was here.")
	x.press("C-o")
	x.see("editing fares.go")
	x.press("yes", "Enter")
	x.see("This is what your editor left", "the conflict is in lines 47–48")
	x.press("C-End")
	x.see("// by hand")
	x.press("C-s")
	x.see("Settle 1 of 2", "1 place of it is settled by what you wrote, and the rest is an edit that becomes part of")
	x.press("S-Tab")
	x.see("that fares/fares.go will hold, before your edit of the rest")
	x.press("j", "End")
	x.see("What joined by itself in this file, beside its conflicts.")
	x.press("Enter")
	x.see("made in joining", "write in it")
	x.press("End")
	x.see("// by hand")
}

// until waits for something to be so.
func (x *terminal) until(so func() bool) {
	x.t.Helper()
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(40 * time.Millisecond) {
		if so() {
			return
		}
	}
	require.Fail(x.t, "it never came to be so", x.screen())
}

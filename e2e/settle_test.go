package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
)

// again puts clone and remote back to where they were before anything was joined, as a later recovery meets the very
// same conflict.
func (x *terminal) again(yours, theirs string) {
	x.t.Helper()
	gittest.At(x.t, x.scene.Remote).Git("update-ref", "refs/heads/main", theirs)
	x.mine().Git("reset", "-q", "--hard", yours)
	x.mine().Git("update-ref", "refs/remotes/origin/main", theirs)
}

// joinedUnchecked goes from where all is settled to the end of the push.
func (x *terminal) joinedUnchecked() {
	x.t.Helper()
	x.see("All settled")
	x.press("Enter")
	x.see("agree and run it")
	x.press("s", "y")
	x.see("Ready to join and push.")
	x.press("Enter")
	x.see("✓ Pushed.")
	x.press("q")
	x.see("ended with 0")
}

// TestWhatWasDecidedIsRemembered: on the other route, after their branch moved, in a later recovery, and in the clone
// of a colleague.
func TestWhatWasDecidedIsRemembered(t *testing.T) {
	x := newTerminal(t)
	mine, remote := x.mine(), gittest.At(t, x.scene.Remote)
	mine.Git("stash", "-q")
	mine.Git("config", "dorvik.shareDecisions", "true")
	yours := mine.Git("rev-parse", "main")
	x.open("142x40")
	x.fetched()
	x.press("Enter")
	x.see("Why rebase:")
	x.press("Enter")
	x.see("Settle 0 of 2", "fares/fares.go")
	x.press("3", "Enter") // theirs, against what is suggested
	x.see("Settle 1 of 2")
	x.press("Escape")
	x.see("Why rebase:", "1 made already") // worked out anew: a key before that is let go
	x.press("Right", "Enter")
	x.see("Settle 1 of 2", "✓ theirs")
	x.press("q")
	x.see("ended with 0")

	mate := gittest.New(t)
	mate.Git("pull", "-q", x.scene.Remote, "main")
	mate.Commit("Moor at the new pier", "moorings.txt", "The new pier.\n")
	mate.Git("push", "-q", x.scene.Remote, "HEAD:main")
	theirs := remote.Git("rev-parse", "main")
	x.open("142x40")
	x.see("5 theirs", "origin was asked")
	x.press("Enter")
	x.see("Why rebase:")
	x.press("Enter")
	x.see("Settle 1 of 2", "✓ theirs")
	x.press("Enter")
	x.joinedUnchecked()

	x.again(yours, theirs)
	x.open("142x40")
	x.see("5 theirs", "origin was asked")
	x.press("Enter")
	x.see("Why rebase:")
	x.press("Enter")
	x.see("Settle 0 of 2", "▶ 1  as before", "as you settled it on")
	x.press("Enter")
	x.see("Settle 1 of 2")
	x.press("q")
	x.see("ended with 0")

	x.scene.Clone = filepath.Join(t.TempDir(), "colleague")
	gittest.At(t, filepath.Dir(x.scene.Clone)).Git("clone", "-q", mine.Dir, x.scene.Clone)
	theirClone := x.mine()
	theirClone.Git("remote", "set-url", "origin", x.scene.Remote)
	theirClone.Git("config", "user.name", "Signe Holt")
	theirClone.Git("config", "user.email", "signe@skerry.example")
	theirClone.Git("config", "dorvik.shareDecisions", "true")
	x.again(yours, theirs)
	x.open("142x40")
	x.see("5 theirs", "origin was asked")
	x.press("Enter")
	x.see("Why rebase:")
	x.press("Enter")
	x.see("Settle 0 of 2", "as before", "settled it on", "▶ 1  weave")
	x.press("2")
	x.see("▶ 2  as before")
	x.press("Enter")
	x.see("Settle 1 of 2", "✓ theirs")
}

// TestEveryShapeByKeys settles each kind of conflict that is no place in a text: nothing is taken before it is marked,
// and both are kept where both can be.
func TestEveryShapeByKeys(t *testing.T) {
	x := newTerminal(t)
	remote := gittest.New(t, "--bare")
	mine, other := remote.Clone(), remote.Clone()
	x.scene.Clone = mine.Dir
	mine.Git("config", "user.name", "Runa Berg")
	mine.Git("config", "user.email", "runa@skerry.example")
	mine.Commit("The notices", "badge.bin", "\x00old", "notices.txt", "one\ntwo\n", "old.txt", "1\n2\n3\n4\n")
	require.NoError(t, os.Symlink("old.txt", filepath.Join(mine.Dir, "link")))
	mine.Commit("A link")
	mine.Git("push", "-q", "-u", "origin", "HEAD")
	other.Git("pull", "-q")
	for r, side := range map[*gittest.Repo]string{mine: "mine", other: "theirs"} {
		r.Git("mv", "old.txt", side+".txt")
		require.NoError(t, os.Remove(filepath.Join(r.Dir, "link")))
		require.NoError(t, os.Symlink(side+".txt", filepath.Join(r.Dir, "link")))
		r.Write("badge.bin", "\x00"+side)
		r.Write("horn.bin", "\x00"+side+" horn")
		r.Write("run.sh", side[:1])
	}
	other.Git("rm", "-q", "notices.txt")
	other.Commit("Theirs", "timetable/a", "theirs\n")
	other.Git("push", "-q")
	mine.Commit("Mine", "notices.txt", "one\ntwo\nthree\n", "timetable", "mine\n")
	x.open("142x40")
	x.see("1 theirs · 1 yours", "origin was asked")
	x.press("Enter")
	x.see("Why ")
	x.press("Enter")
	x.see("Settle 0 of 7")
	done := 0
	for _, c := range []struct{ path, says, way string }{
		{"badge.bin", "WHAT EACH LEAVES", "3"}, {"horn.bin", "both added a file of this name", "3"},
		{"link", "a link to theirs.txt", "2"}, {"mine.txt", "to different names", "1"},
		{"notices.txt", "you changed 1 line of it", "1"}, {"run.sh", "both added", "6"},
		{"timetable", "Ada has a directory", "3"},
	} {
		for range 8 {
			if strings.Contains(x.title(), c.path) {
				break
			}
			before := x.title()
			x.press("Tab")
			x.until(func() bool { return x.title() != before })
		}
		x.see(c.path, c.says)
		if !strings.Contains(x.screen(), "suggested: ") {
			x.press("Enter")
			x.see("Nothing is marked, so nothing was taken")
		}
		x.press(c.way, "Enter")
		done++
		x.see(fmt.Sprintf("Settle %d of 7", done))
	}
	x.see("All settled")
	x.press("Enter")
	x.see("No check was found")
	mine.Git("config", "dorvik.check", "test -e notices.txt") // in another terminal, so to say
	x.see("The settings were changed", "test -e notices.txt", "agree and run it")
	mine.Git("config", "dorvik.check", "test -e run.sh")
	x.see("test -e run.sh", "set by git config dorvik.check")
	x.press("Enter")
	x.see("The joined code passes")
	x.press("Enter")
	x.see("Ready to join and push.")
	x.press("Enter")
	x.see("✓ Pushed.")
	for path, want := range map[string]string{"badge.bin": "\x00theirs", "badge-yours.bin": "\x00mine",
		"horn.bin": "\x00theirs horn", "horn-yours.bin": "\x00mine horn", "link": "theirs.txt",
		"mine.txt":    "1\n2\n3\n4\n",
		"notices.txt": "one\ntwo\nthree\n", "timetable/a": "theirs\n", "timetable-yours": "mine\n",
		"run.sh": "t", "run-yours.sh": "m"} {
		out, err := exec.Command("git", "-C", remote.Dir, "show", "HEAD:"+path).Output()
		require.NoError(t, err, path)
		assert.Equal(t, want, string(out), path)
	}
}

// title is the row with the path of the conflict.
func (x *terminal) title() string {
	for row := range strings.Lines(x.screen()) {
		if strings.Contains(row, "conflict ") && strings.Contains(row, " of ") {
			_, title, _ := strings.Cut(row, "│")
			return strings.TrimSpace(title)
		}
	}
	return ""
}

// TestTheCollisionIsMendedByOneKey: warned of on Look, mended on Check before anything is built, built, pushed.
func TestTheCollisionIsMendedByOneKey(t *testing.T) {
	x := newTerminal(t)
	x.open("142x40")
	x.fetched()
	x.see("MAY NOT WORK TOGETHER", "Ilka renamed DepthAt to DepthAtPier", "timetable/sailing.go:29")
	x.press("Enter")
	x.see("Why rebase:", "may break")
	x.press("Enter")
	x.see("Settle 0 of 2")
	x.press("Enter")
	x.see("Settle 1 of 2")
	x.press("Enter")
	x.see("All settled")
	x.press("Enter")
	x.see("agree and run it", "takes this mend")
	x.press("Enter")
	x.see("Yours builds, theirs builds, together they do not.", "THE TWO THAT COLLIDE", "undefined: DepthAt")
	x.press("*")
	x.see("each works without the other", "Print the berth on the ticket", "Ilka", "DepthAtPier")
	x.press("Escape")
	x.see("The joined code does not pass")
	x.press("t")
	x.see("1 place mended", "The joined code passes")
	x.press("Enter")
	x.see("Ready to join and push.")
	x.press("Enter")
	x.see("✓ Pushed.")
	assert.Contains(t, gittest.At(t, x.scene.Remote).Content("main", "timetable/sailing.go"), "DepthAtPier(s.From")
}

// TestWhatAColleagueWroteDoesNotRunUnasked: a Makefile that they changed is shown, and asked about again; and theirs
// that fails alone is said to.
func TestWhatAColleagueWroteDoesNotRunUnasked(t *testing.T) {
	x := newTerminal(t)
	remote := gittest.New(t, "--bare")
	mine, other := remote.Clone(), remote.Clone()
	x.scene.Clone = mine.Dir
	mine.Git("config", "user.name", "Runa Berg")
	mine.Git("config", "user.email", "runa@skerry.example")
	ran := filepath.Join(t.TempDir(), "ran")
	mine.Commit("start", "Makefile", "build:\n\ttrue\n\ntest:\n\ttest ! -e broken\n", "a", "1\n")
	mine.Git("push", "-q", "-u", "origin", "HEAD")
	other.Git("pull", "-q")
	mine.Commit("mine", "a", "2\n")
	other.Commit("theirs", "broken", "yes\n")
	other.Git("push", "-q")
	x.open("142x40")
	x.see("1 theirs · 1 yours", "origin was asked")
	x.press("Enter")
	x.see("Why ")
	x.press("Enter")
	x.see("$ make test", "agree and run it")
	x.press("Enter")
	x.see("The joined code does not pass", "yours ✓", "theirs ✗", "Theirs did not build before you came.")
	x.press("q")
	x.see("ended with 0")
	other.Git("rm", "-q", "broken")
	other.Commit("a target of another kind", "Makefile", "build:\n\ttrue\n\ntest:\n\ttouch "+ran+"\n")
	other.Git("push", "-q")
	x.open("142x40")
	x.see("2 theirs · 1 yours", "origin was asked")
	x.press("Enter")
	x.see("Why ")
	x.press("Enter")
	x.see("You agreed to it before.", "Makefile  changed by", "touch "+ran)
	assert.NoFileExists(t, ran)
	x.press("Enter")
	x.see("The joined code passes")
	assert.FileExists(t, ran)
}

// TestTheJoinedCodeIsTriedByHand: a shell in it, before anything is accepted; what is changed there is shown, and taken.
func TestTheJoinedCodeIsTriedByHand(t *testing.T) {
	x := newTerminal(t)
	gittest.Own(t, "dorvik.run", "sed -i s/DepthAt\\(s.From/DepthAtPier\\(s.From/ timetable/sailing.go; echo x > "+
		"new; echo tried")
	x.open("142x40")
	x.settleByRebase()
	x.see("agree and run it")
	x.press("!")
	x.see("WHAT YOU CHANGED THERE", "timetable/sailing.go", "+ ", "return DepthAtPier(s.From", "Not taken: new")
	x.press("Enter")
	x.see("What you changed in 1 file becomes part of your last commit", "Mended: timetable/sailing.go")
	x.press("Enter")
	x.see("The joined code passes")
	assert.Equal(t, " M cmd/skerry/main.go", x.mine().Git("status", "--porcelain"))
}

// TestAProgramRunsBesideTheScreen: such as a server. Its output is read, and the key ends it; so does leaving.
func TestAProgramRunsBesideTheScreen(t *testing.T) {
	x := newTerminal(t)
	file := filepath.Join(t.TempDir(), "pid")
	gittest.Own(t, "dorvik.run", "echo serving; echo $$ > "+file+"; exec sleep 4321")
	x.open("142x40")
	x.settleByRebase()
	x.see("agree and run it")
	x.press("!")
	x.see("IN THE JOINED CODE", "$ echo serving", "    serving", "It runs beside the screen", "! end it")
	x.press("Escape")
	x.see("Beside the screen runs echo serving", "! shows what it prints")
	x.press("!")
	x.see("IN THE JOINED CODE", "! end it")
	x.press("!")
	x.see("You ended it after", "! run it again")
	x.press("!")
	x.see("It runs beside the screen")
	runs := func() bool {
		text, err := os.ReadFile(file)
		pid, _ := strconv.Atoi(strings.TrimSpace(string(text)))
		return err == nil && pid > 0 && syscall.Kill(pid, 0) == nil
	}
	assert.Eventually(t, runs, 10*time.Second, 20*time.Millisecond)
	x.press("q")
	assert.Eventually(t, func() bool { return !runs() }, 10*time.Second, 20*time.Millisecond, "it ends with the screen")
}

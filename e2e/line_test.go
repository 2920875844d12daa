package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
)

// onFeature has a pushed branch with one commit of one's own; main has three new commits.
func (x *terminal) onFeature(pushed bool) *gittest.Repo {
	mine := x.mine()
	mine.Git("stash", "-q")
	mine.Git("fetch", "-q")
	mine.Git("switch", "-q", "-c", "winter", "HEAD~4")
	mine.Write("notices/ice.txt", "Ice on the slip\n")
	mine.Git("add", "notices")
	mine.Git("commit", "-q", "-m", "Warn of ice")
	if pushed {
		mine.Git("push", "-q", "-u", "origin", "winter")
	}
	mine.Git("branch", "-f", "main", "origin/main")
	return mine
}

// lineOf marks a line of the list by going down from the first.
func (x *terminal) lineOf(name string) {
	x.t.Helper()
	for range 12 {
		if strings.Contains(x.screen(), "▶ "+name) {
			return
		}
		x.press("Down")
		time.Sleep(100 * time.Millisecond) // until it is drawn
	}
	x.see("▶ " + name)
}

// toPush goes on from Look to Push, which has a text. A key that comes while the remote is asked does nothing, so it is
// pressed again while Look is shown.
func (x *terminal) toPush(text string) {
	x.t.Helper()
	for end := time.Now().Add(patience); time.Now().Before(end) && strings.Contains(x.screen(), "▶ Look"); {
		x.press("Enter")
		for wait := time.Now().Add(3 * time.Second); time.Now().Before(wait) &&
			strings.Contains(x.screen(), "▶ Look"); {
			time.Sleep(40 * time.Millisecond)
		}
	}
	x.see("▶ Push", text)
}

func TestMainIntoABranchAndTheBranchForward(t *testing.T) {
	x := newTerminal(t)
	mine := x.onFeature(false)
	x.open("142x40")
	x.see("winter is not on origin yet. It has 1 commit that no branch there has.", "c another line",
		"origin was asked")
	x.press("c")
	x.see("LINES", "an address that no remote has", "Joining")
	x.lineOf("origin/main")
	x.see("Joining origin/main brings 4 commits by Ilka Renn and Mato Veld, and asks nothing.")
	x.press("Enter")
	x.see("origin/main and winter have parted.", "winter → origin/main")
	x.press("Enter")
	x.see("Why rebase:")
	x.press("Right")
	x.see("Choose merge")
	x.press("Enter")
	x.see("found from go.mod", "agree and run it")
	x.press("Enter")
	x.see("The joined code passes")
	x.press("Enter")
	x.see("Ready to join and push. 2 commits go to origin/winter, a new branch there, which winter then follows.",
		"Merge origin/main into winter")
	x.press("w")
	x.see("ITS MESSAGE", "- Add Holm to the harbour list (Mato Veld)")
	x.press("Escape")
	x.see("Ready to join and push.")
	x.press("Enter")
	x.see("Pushed.", "winter now follows it", "^ put forward into origin/main")
	x.press("^")
	x.see("PUT FORWARD  winter into origin/main", "2 commits go there. Your branch main moves with it.")
	x.press("Enter")
	x.see("origin/main now holds", "go to main, and delete winter")
	x.press("Down", "Down", "Enter")
	x.see("You are on main, and winter is deleted.", "main → origin/main", "Nothing to do.")
	remote := gittest.At(t, x.scene.Remote)
	assert.Equal(t, mine.Git("rev-parse", "main"), remote.Git("rev-parse", "main"))
	_, err := remote.Try("rev-parse", "--verify", "-q", "winter")
	assert.Error(t, err)
	x.press("l")
	x.see("The branch winter was deleted here and as origin/winter.")
	x.press("u")
	x.see("The branch winter is there again.")
	assert.Equal(t, mine.Git("rev-parse", "winter"), remote.Git("rev-parse", "winter"))
	x.press("q")
	x.see("ended with 0")
}

func TestAForkBehindItsProject(t *testing.T) {
	x := newTerminal(t)
	mine := x.onFeature(true)
	fork := gittest.New(t, "--bare")
	mine.Git("push", "-q", fork.Dir, "winter")
	mine.Git("remote", "set-url", "origin", fork.Dir)
	mine.Git("update-ref", "-d", "refs/remotes/origin/main")
	x.open("142x40")
	x.see("Nothing to do.", "origin was asked")
	x.press("c")
	x.see("LINES", "an address that no remote has")
	x.press("End")
	x.see("▶ an address that no remote has")
	x.press("Enter")
	x.see("such as https://HOST/PATH")
	x.tmux("send-keys", "-t", "s", "-l", "--", x.scene.Remote)
	x.press("Enter")
	x.see("main was fetched. Keep its address as the remote")
	x.press("Escape")
	x.see("remote.git main and winter have parted.")
	x.press("Enter")
	x.see("Why merge:")
	x.press("Enter")
	x.see("agree and run it")
	x.press("Enter")
	x.see("The joined code passes")
	x.press("Enter")
	x.see("go to origin/winter, which has not moved")
	x.press("Enter")
	x.see("Pushed.")
	assert.Equal(t, mine.Git("rev-parse", "winter"), fork.Git("rev-parse", "winter"))
	assert.Equal(t, "origin", mine.Git("remote"))
}

func TestAPublishedBranchIsRebasedAndExchanged(t *testing.T) {
	x := newTerminal(t)
	mine := x.onFeature(true)
	remote := gittest.At(t, x.scene.Remote)
	mine.Git("rebase", "-q", "origin/main")
	x.open("142x40")
	x.see("origin/winter has your commits as they were.", "= exchange what is there", "origin was asked")
	x.press("=")
	x.see("Ready to exchange. 1 commit of origin/winter, all of them yours, is replaced by", "WHAT GOES", "here as")
	x.press("Enter")
	x.see("Pushed.", "origin/winter now holds")
	assert.Equal(t, mine.Git("rev-parse", "winter"), remote.Git("rev-parse", "winter"))

	// A colleague's commit is on it: nothing is exchanged.
	other := gittest.At(t, x.scene.Teammates[0].Clone)
	other.Git("fetch", "-q")
	other.Git("switch", "-q", "winter")
	other.Git("commit", "-q", "--allow-empty", "-m", "Also warn of fog")
	other.Git("push", "-q")
	mine.Git("commit", "-q", "--amend", "-m", "Warn of ice and fog")
	was := remote.Git("rev-parse", "winter")
	x.press("Enter")
	x.see("A push would be rejected.", "Also warn of fog")
	assert.NotContains(t, x.screen(), "exchange")
	out, err := exec.Command(binary, "-C", x.scene.Clone, "push", "--exchange").CombinedOutput()
	require.Error(t, err, "%s", out)
	assert.Equal(t, was, remote.Git("rev-parse", "winter"))
}

// ahead has one's own commits on top of the newest main, none of them pushed.
func (x *terminal) ahead(subjects ...string) *gittest.Repo {
	mine := x.mine()
	mine.Git("stash", "-q")
	mine.Git("fetch", "-q")
	mine.Git("reset", "-q", "--hard", "origin/main")
	for _, s := range subjects {
		file := strings.ToLower(strings.Fields(s)[2])
		mine.Write("notices/"+file+".txt", strings.Repeat(s+"\n", 20))
		mine.Git("add", "notices")
		mine.Git("commit", "-q", "-m", s)
	}
	return mine
}

// serverHook has the server run a program for each pushed branch.
func (x *terminal) serverHook(text string) {
	hook := filepath.Join(x.scene.Remote, "hooks", "update")
	require.NoError(x.t, os.MkdirAll(filepath.Dir(hook), 0o755))
	gittest.Program(x.t, hook, "#!/bin/sh\n"+text)
}

// A push that must name a task asks for it before it goes: from the list, narrowed by typing.
func TestATaskIsPickedFromTheList(t *testing.T) {
	x := newTerminal(t)
	mine := x.ahead("Warn of ice")
	mine.Git("config", "dorvik.referenceWanted", "true")
	x.open("100x30")
	x.see("can be pushed as it is.", "origin was asked")
	x.press("Enter")
	x.see("no commit names a task", "enter name a task in a message")
	x.press("Enter")
	x.see("THE ROAD")
	x.press("w")
	x.see("ITS MESSAGE", "ctrl+t name a task")
	x.press("End", "C-t")
	x.see("TASKS", "SKERRY-31", "6 tasks", "enter name this task")
	x.tmux("send-keys", "-t", "s", "-l", "--", "slip ice")
	x.see("SKERRY-38")
	require.Eventually(t, func() bool { return !strings.Contains(x.screen(), "SKERRY-31") }, time.Minute,
		50*time.Millisecond)
	x.press("Enter")
	x.see("Warn of ice SKERRY-38")
	x.press("C-s")
	x.see("Replayed again from there")
	x.press("Escape")
	x.see("agree and run it")
	x.press("Enter")
	x.see("The joined code passes")
	x.press("Enter")
	x.see("Ready to", "SKERRY-38")
	x.press("Enter")
	x.see("Pushed.")
	assert.Equal(t, "Warn of ice SKERRY-38", gittest.At(t, x.scene.Remote).Git("log", "-1", "--format=%s", "main"))
}

func TestATaskRuleIsMetByRewording(t *testing.T) {
	x := newTerminal(t)
	mine := x.ahead("Warn of ice #7", "Warn of fog")
	x.serverHook(`for c in $(git rev-list "$2..$3"); do
  git log -1 --format=%s $c | grep -q '#[0-9]' || { echo "The commit message of $c must name a task."; exit 1; }
done
`)
	x.open("100x30")
	x.see("Your 2 commits can be pushed as they are.", "origin was asked")
	x.toPush("Ready to push. 2 commits go to origin/main")
	x.press("Enter")
	x.see("The push was refused.", "must name a task", "enter change your commits")
	x.press("Enter")
	x.see("THE ROAD", "“Warn of fog”")
	x.press("w")
	x.see("ITS MESSAGE", "Warn of fog")
	x.press("End", "Space", "#", "8", "C-s")
	x.see("Replayed again from there")
	x.press("Escape")
	x.see("agree and run it")
	x.press("Enter")
	x.see("The joined code passes")
	x.press("Enter")
	x.see("Ready to join and push.", "Warn of fog #8")
	x.press("Enter")
	x.see("Pushed.")
	assert.Equal(t, x.remoteTip(), mine.Git("rev-parse", "main"))
	assert.Equal(t, "Warn of fog #8\nWarn of ice #7", mine.Git("log", "-2", "--format=%s"))
}

func TestAFileOverTheLimitIsLeftOut(t *testing.T) {
	x := newTerminal(t)
	mine := x.ahead("Warn of ice", "Warn of fog")
	mine.Write("notices/fog.txt", "Fog\n")
	mine.Git("commit", "-q", "--amend", "-a", "--no-edit")
	x.serverHook(`[ "$(git cat-file -s $3:notices/ice.txt 2>/dev/null || echo 0)" -gt 100 ] || exit 0
echo "notices/ice.txt is larger than 100 bytes."; exit 1
`)
	x.open("142x40")
	x.see("Your 2 commits can be pushed as they are.", "origin was asked")
	x.toPush("Ready to push.")
	x.press("Enter")
	x.see("larger than the server takes", "enter change your commits")
	x.press("Enter")
	x.see("THE ROAD", "▶ 1", "name notices/ice.txt, which is in “Warn of ice”")
	x.press("2", "Enter")
	x.see("Replayed again from there")
	x.press("Escape")
	x.see("agree and run it")
	x.press("Enter")
	x.see("The joined code passes")
	x.press("Enter")
	x.see("Ready to join and push. 1 commit goes to origin/main", "LEFT OUT", "as the server asked before",
		"no file over 100 bytes")
	x.press("Enter")
	x.see("Pushed.")
	assert.Equal(t, x.remoteTip(), mine.Git("rev-parse", "main"))
	assert.Equal(t, "Warn of fog", mine.Git("log", "-1", "--format=%s"))
}

// TestOneKeyWhileOthersPush: others push before each of one's own pushes, and one key still does all of it.
func TestOneKeyWhileOthersPush(t *testing.T) {
	x := newTerminal(t)
	mine := x.ahead("Warn of ice")
	gittest.Own(t, "dorvik.check", "true")
	left := filepath.Join(t.TempDir(), "left")
	require.NoError(t, os.WriteFile(left, []byte("3"), 0o644))
	hook := filepath.Join(mine.Dir, ".git/hooks/pre-push")
	require.NoError(t, os.MkdirAll(filepath.Dir(hook), 0o755))
	gittest.Program(t, hook, fmt.Sprintf(`#!/bin/sh
left=$(cat %[1]s)
[ "$left" -gt 0 ] || exit 0
echo $((left - 1)) > %[1]s
unset $(git rev-parse --local-env-vars)
cd %[2]s && git pull -q --rebase && git commit -q --allow-empty -m "busy $left" && git push -q
`, left, x.scene.Teammates[0].Clone))
	x.open("142x40")
	x.see("Your 1 commit can be pushed as it is.", "origin was asked", ". do all of it")
	x.press(".")
	x.see("ALL OF IT", "Somebody pushed first; joining again, for the 4. time.", "The joined code passes “true”.",
		"Pushed. origin/main now holds", "It was joined 4 times")
	assert.Equal(t, x.remoteTip(), mine.Git("rev-parse", "main"))
	assert.Equal(t, "busy 1\nbusy 2\nbusy 3", mine.Git("log", "-3", "--format=%s", "HEAD~1"))
	x.press("Enter")
	x.see("Nothing to do.")
}

// TestAProtectedMainTakesWhatAnotherBranchHas: main takes only what is on another branch, so the commit goes there first.
func TestAProtectedMainTakesWhatAnotherBranchHas(t *testing.T) {
	x := newTerminal(t)
	mine := x.ahead("Warn of ice")
	x.serverHook(`[ "$1" = refs/heads/main ] || exit 0
git for-each-ref --contains $3 refs/heads | grep -q . ||
	{ echo "main is a protected branch: push another one first."; exit 1; }
`)
	x.open("142x40")
	x.see("Your 1 commit can be pushed as it is.", "origin was asked")
	x.toPush("Ready to push.")
	x.press("Enter")
	x.see("The branch is protected", "enter push to another branch")
	x.press("Enter")
	x.see("push to the branch  warn-of-ice")
	x.press("Enter")
	x.see("Pushed. origin/warn-of-ice now holds")
	x.press("Enter")
	x.see("Your 1 commit can be pushed as it is.", "origin was asked")
	x.toPush("Ready to push.")
	x.press("Enter")
	x.see("Pushed. origin/main now holds")
	assert.Equal(t, x.remoteTip(), mine.Git("rev-parse", "main"))
}

// TestATaskRuleIsMetInAMerge: the merge's own message lacks a task; it is undone, written, and pushed.
func TestATaskRuleIsMetInAMerge(t *testing.T) {
	x := newTerminal(t)
	mine := x.ahead("Warn of ice #7")
	mine.Git("reset", "-q", "--hard", "HEAD~2")
	mine.Git("cherry-pick", "ORIG_HEAD")
	x.serverHook(`for c in $(git rev-list "$2..$3"); do
  git log -1 --format=%s $c | grep -q '#[0-9]' || { echo "The commit message of $c must name a task."; exit 1; }
done
`)
	x.open("142x40")
	x.see("A push would be rejected.", "origin was asked")
	x.press("Enter")
	x.see("Why rebase:")
	x.press("Right")
	x.see("Choose merge")
	x.press("Enter")
	x.see("agree and run it")
	x.press("Enter")
	x.see("The joined code passes")
	x.press("Enter")
	x.see("Ready to join and push.", "tasks", "#7")
	x.press("Enter")
	x.see("The push was refused.", "must name a task")
	x.press("Enter")
	x.see("One of your commits joins two lines. Undo the join with u")
	x.press("u")
	x.see("▶ Look 1 theirs · 1 yours", "The join is undone", "enter choose a way to join")
	for range 10 { // a key that comes while the remote is asked does nothing
		x.press("Enter")
		time.Sleep(2 * time.Second)
		if strings.Contains(x.screen(), "▶ Choose") {
			break
		}
	}
	x.see("Why ", "▶ Choose merge")
	x.press("Enter")
	x.see("The joined code passes")
	x.press("Enter")
	x.see("Ready to join and push.")
	x.press("w")
	x.see("ITS MESSAGE", "Merge origin/main into main", "References: #7")
	x.press("End", "Space", "#", "9", "C-s")
	x.see("Merge origin/main into main #9", "Ready to join and push.", "#7, #9", "the remote is where it was")
	x.press("Enter")
	x.see("Pushed.")
	assert.Equal(t, "Merge origin/main into main #9", mine.Git("log", "-1", "--format=%s"))
	assert.Equal(t, x.remoteTip(), mine.Git("rev-parse", "main"))
}

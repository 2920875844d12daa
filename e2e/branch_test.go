package e2e

import (
	"os/exec"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/svntest"
)

// TestABranchIsBroughtIn: a branch of Subversion comes into trunk by the keys of a join, and what it holds is noted.
func TestABranchIsBroughtIn(t *testing.T) {
	x := demoOf(t, "svn")
	mine := svntest.At(t, x.scene.Clone, "Runa Holt")
	mine.Svn("revert", "-q", "-R", ".")
	mine.Svn("changelist", "-q", "--remove", "-R", ".")
	mine.Svn("update", "-q")
	url := "file://" + x.scene.Remote
	mine.Svn("mkdir", "-q", "-m", "A place for branches", url+"/branches")
	mine.Svn("copy", "-q", "-m", "Winter", url+"/trunk@4", url+"/branches/winter")
	mato := svntest.Checkout(t, url+"/branches/winter", "Mato Veld")
	mato.Write("notices/winter.txt", "Winter runs from November.\n")
	mato.Commit("Say when winter begins")

	x.open("80x24")
	x.see("Nothing to do.", "another line")
	x.press("c")
	x.see("branches/winter", "1 there, not here")
	x.press("Down", "Enter")
	x.see("branches/winter has 1 revision that trunk does not have")
	x.press("Enter")
	x.see("one new revision brings the other line in")
	x.press("Enter")
	x.see("agree and run it")
	x.press("s", "y")
	x.see("Ready to join and check in.", "1 revision goes to repository/trunk")
	x.press("Enter")
	x.see("Checked in.", "brings the other line in")
	x.press("q")
	x.see("ended with 0", "dorvik: checked in.")
	assert.Empty(t, x.in.status(t, x.scene.Clone))
	assert.Equal(t, x.remoteTip(), x.tip())
	assert.Equal(t, "Winter runs from November.\n", mine.Read("notices/winter.txt"))
	assert.Empty(t, mine.Svn("mergeinfo", "--show-revs", "eligible", "^/branches/winter", "."))
	assert.True(t, strings.Contains(mine.Svn("log", "-l", "1"), "- Say when winter begins (Mato Veld)"))
}

// TestWithoutATerminal: one sentence names the commands to use instead.
func TestWithoutATerminal(t *testing.T) {
	x := newTerminal(t)
	cmd := exec.Command(binary, "-C", x.scene.Clone)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	out, err := cmd.CombinedOutput()
	require.Error(t, err)
	assert.Regexp(t, `^dorvik: there is no terminal here .*“dorvik look”.*“dorvik recover”.*\n$`, string(out))
}

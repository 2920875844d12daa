package recovery

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/vcs"
)

// Switching to another branch leaves what git switch leaves: files, index, HEAD and its reflog. What is not committed
// stays, and what is in the way is told before anything changes.
func TestSwitchingBranches(t *testing.T) {
	tm := newTeam(t)
	tm.mine.Git("branch", "there")
	tm.mine.Git("switch", "-q", "there")
	tm.mine.Commit("there", "f", "there\n", "new/x", "new\n")
	tm.mine.Git("rm", "-q", "d/h")
	tm.mine.Commit("and gone")
	tm.mine.Git("switch", "-q", "main")
	tm.mine.Write("g", "edited\n")
	tm.mine.Write("loose", "loose\n")
	byGit := gittest.At(t, (&harbour{}).copy(t, tm.mine.Dir))
	byGit.Git("switch", "-q", "there")

	s := tm.session()
	require.NoError(t, s.Applier.Switch(t.Context(), "there"))
	assert.Equal(t, gittest.Files(t, byGit.Dir), gittest.Files(t, tm.mine.Dir))
	for _, ask := range [][]string{{"status", "--porcelain=v2", "--branch"}, {"ls-files", "-s"},
		{"reflog", "-1", "--format=%gs"}} {
		assert.Equal(t, byGit.Git(ask...), tm.mine.Git(ask...))
	}
	list, err := s.History.Logbook()
	require.NoError(t, err)
	assert.Equal(t, "there was checked out instead of main.", list[0].Sentence(vcs.InGit, ""))
	require.NoError(t, s.Forwards.TakeBack(t.Context(), &list[0]))
	assert.Equal(t, "main", tm.mine.Git("branch", "--show-current"))
	assert.Equal(t, "h\n", tm.mine.Read("d/h"))

	for _, c := range []struct {
		name string
		do   func()
		says string
	}{
		{"work in the way", func() { tm.mine.Write("f", "edited\n") }, "there has something else at f"},
		{"work that git does not know", func() { tm.mine.Write("new/x", "mine\n") },
			"there has something else at new/x"},
		{"no such branch", func() { tm.mine.Git("branch", "-m", "there", "away") }, "There is no branch there."},
		{"checked out elsewhere", func() {
			tm.mine.Git("worktree", "add", "-q", "-b", "there", t.TempDir()+"/w", "away")
		}, "is checked out in"},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.do()
			before := gittest.Files(t, tm.mine.Dir)
			require.ErrorContains(t, s.Applier.Switch(t.Context(), "there"), c.says)
			assert.Equal(t, before, gittest.Files(t, tm.mine.Dir))
			assert.Equal(t, "main", tm.mine.Git("branch", "--show-current"))
			tm.mine.Git("checkout", "-q", "f")
			tm.mine.Git("clean", "-qfd", "new")
		})
	}
}

package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/demo"
	"dorvik.dev/dorvik/internal/gittest"
)

// feature has the clone of the demo on a branch with one commit of its own.
func feature(t *testing.T) (s *demo.Scene, mine, remote *gittest.Repo) {
	s = scene(t)
	mine, remote = gittest.At(t, s.Clone), gittest.At(t, s.Remote)
	mine.Git("stash", "-q")
	mine.Git("fetch", "-q")
	mine.Git("switch", "-q", "-c", "winter", "HEAD~4")
	mine.Commit("Warn of ice", "notices/ice.txt", "Ice\n")
	return s, mine, remote
}

// TestAnotherLine names another line than the upstream in look, plan and recover, and puts the branch forward.
func TestAnotherLine(t *testing.T) {
	s, mine, remote := feature(t)
	run := func(want int, words ...string) (map[string]any, string) {
		t.Helper()
		code, out, errs := dorvik(append(append([]string{"-C", s.Clone}, words...), "--json")...)
		require.Equal(t, want, code, errs)
		return asJSON(t, out), errs
	}
	r, _ := run(exitDone, "look")
	assert.Nil(t, r["from"])
	r, _ = run(exitDone, "look", "--from", "origin/main")
	assert.Equal(t, "origin/main", r["from"])
	assert.Len(t, r["theirs_commits"], 4)
	r, _ = run(exitDone, "plan", "--from", s.Remote+" main", "--exit-code=false")
	assert.Equal(t, s.Remote+" main", r["from"])
	code, _, errs := dorvik("-C", s.Clone, "plan", "--from", "origin/main", "--yours", "main")
	assert.Equal(t, exitUsage, code, errs)
	code, _, errs = dorvik("-C", s.Clone, "look", "--from", "nowhere")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "no branch, tag or remote")

	main := remote.Git("rev-parse", "main")
	r, _ = run(exitDone, "recover", "--from", "origin/main", "--then", "main", "--no-check", "--push")
	assert.Equal(t, "pushed", r["result"])
	f := r["put_forward"].(map[string]any)
	assert.Equal(t, []any{"origin/main", main, r["tip"]}, []any{f["branch"], f["from"], f["to"]})
	for _, branch := range []string{"main", "winter"} {
		assert.Equal(t, r["tip"], remote.Git("rev-parse", branch), branch)
	}
	assert.Equal(t, "origin/winter", mine.Git("rev-parse", "--abbrev-ref", "winter@{u}"))
	_, errs = run(exitFailed, "recover", "--from", "origin/main", "--then", "main")
	assert.Contains(t, errs, "origin/main has all of winter already")
}

// TestAFirstPushShowsItsCommits pushes a branch that has no upstream, and one whose place is not clear.
func TestAFirstPushShowsItsCommits(t *testing.T) {
	s, mine, remote := feature(t)
	code, _, errs := dorvik("-C", s.Clone, "push")
	assert.Equal(t, exitDone, code, errs)
	assert.Contains(t, errs, "Warn of ice\n")
	assert.Contains(t, errs, "winter now follows origin/winter.")

	mine.Git("branch", "-q", "--set-upstream-to=origin/winter", "main")
	mine.Git("switch", "-q", "-c", "other", "--track", "origin/winter")
	mine.Commit("More ice", "notices/ice.txt", "Ice!\n")
	code, out, errs := dorvik("-C", s.Clone, "push", "--json")
	assert.Equal(t, exitRefused, code)
	assert.Contains(t, errs,
		"git would not push other from here, because the upstream has another name than the branch.")
	assert.Equal(t, "dorvik push --to winter", asJSON(t, out)["refusal"].(map[string]any)["next"])
	code, _, errs = dorvik("-C", s.Clone, "push", "--to", "other")
	assert.Equal(t, exitDone, code, errs)
	assert.Contains(t, errs, "Pushed. origin/other now holds")
	assert.Equal(t, mine.Git("rev-parse", "other"), remote.Git("rev-parse", "other"))
}

// TestExchange replaces one's own commits at the remote, and only those.
func TestExchange(t *testing.T) {
	s, mine, remote := feature(t)
	mine.Git("push", "-q", "-u", "origin", "winter")
	was := mine.Git("rev-parse", "winter")
	mine.Git("commit", "-q", "--amend", "-m", "Warn of ice and fog")
	for _, words := range [][]string{{"push"}, {"recover", "--no-check", "--push"}} {
		code, _, errs := dorvik(append([]string{"-C", s.Clone}, words...)...)
		assert.Equal(t, exitConflicts, code, errs)
		assert.Contains(t, errs, "dorvik push --exchange")
		assert.Equal(t, was, remote.Git("rev-parse", "winter"))
	}
	code, out, errs := dorvik("-C", s.Clone, "push", "--exchange", "--json")
	require.Equal(t, exitDone, code, errs)
	r := asJSON(t, out)
	assert.Equal(t, map[string]any{"was": was, "now": mine.Git("rev-parse", "winter")}, r["exchanged"])
	assert.Equal(t, mine.Git("rev-parse", "winter"), remote.Git("rev-parse", "winter"))

	other := gittest.At(t, s.Teammates[0].Clone)
	other.Git("fetch", "-q")
	other.Git("switch", "-q", "winter")
	other.Git("commit", "-q", "--allow-empty", "-m", "Also")
	other.Git("push", "-q")
	mine.Git("commit", "-q", "--amend", "-m", "Warn of fog")
	code, _, errs = dorvik("-C", s.Clone, "push", "--exchange")
	assert.Equal(t, exitRefused, code)
	assert.Contains(t, errs, "not exchanged")
	assert.Equal(t, other.Git("rev-parse", "winter"), remote.Git("rev-parse", "winter"))
}

// TestCommit commits what is staged, with the contract's report, and undo makes it uncommitted again.
func TestCommit(t *testing.T) {
	s := scene(t)
	mine := gittest.At(t, s.Clone)
	mine.Git("checkout", "-q", "-f", ".")
	code, _, errs := dorvik("-C", s.Clone, "commit", "-m", "Nothing")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "Nothing is staged.")
	mine.Write("notices/ice.txt", "Ice\n")
	mine.Git("add", "notices")
	mine.Write("docs/harbours.md", "edited\n")
	code, out, errs := dorvik("-C", s.Clone, "commit", "-m", "Warn of ice", "--json")
	require.Equal(t, exitDone, code, errs)
	r := asJSON(t, out)
	assert.Equal(t, mine.Git("rev-parse", "HEAD"), r["commit"])
	assert.Equal(t, mine.Git("rev-parse", "HEAD^{tree}"), r["tree"])
	assert.Equal(t, " M docs/harbours.md", mine.Git("status", "--porcelain"))
	mine.Write("notices/ice.txt", "Ice on the slip\n")
	mine.Git("add", "notices")
	code, _, errs = dorvik("-C", s.Clone, "commit", "--amend")
	require.Equal(t, exitDone, code, errs)
	assert.Equal(t, "Warn of ice", mine.Git("log", "-1", "--format=%s"))
	assert.Equal(t, "Ice on the slip\n", mine.Content("HEAD", "notices/ice.txt"))
	code, _, errs = dorvik("-C", s.Clone, "undo")
	assert.Equal(t, exitDone, code, errs)
	assert.Equal(t, r["commit"], mine.Git("rev-parse", "HEAD"))
	assert.Equal(t, "M  notices/ice.txt", strings.Split(mine.Git("status", "--porcelain"), "\n")[1])
}

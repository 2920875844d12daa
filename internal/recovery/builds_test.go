package recovery

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
)

// TestWhoBuilds: each of the four, and what that comes to.
func TestWhoBuilds(t *testing.T) {
	for _, c := range []struct {
		base, yours, theirs string // what the file "broken.md" of each holds; the check wants no "x" in it
		verdict             string
	}{
		{"ok\n", "ok\nmine\n", "theirs\nok\n", "Yours builds, theirs builds, together they do not."},
		{"ok\n", "ok\nx\n", "theirs\nok\n", "Yours fails alone."},
		{"ok\n", "ok\nmine\n", "x\nok\n", "Theirs did not build before you came."},
		{"ok\n", "ok\nx\n", "x\nok\n", "Yours fails alone, and so does theirs."},
		{"x\nok\n", "x\nok\nmine\n", "theirs\nx\nok\n",
			"The common ancestor fails, too: the cause is older, or the command is wrong."},
	} {
		tm := newTeam(t)
		tm.mine.Commit("start", "broken.md", c.base)
		tm.mine.Git("push", "-q")
		tm.other.Git("pull", "-q")
		tm.mine.Commit("mine", "broken.md", c.yours)
		tm.other.Commit("theirs", "broken.md", c.theirs)
		tm.other.Git("push", "-q")
		gittest.Own(t, "dorvik.check",
			"echo >> $COUNT; ! grep -q x broken.md && ! { grep -q mine broken.md && grep -q theirs broken.md; }")
		gittest.Own(t, "dorvik.checkEnv", "COUNT")
		count := t.TempDir() + "/count"
		t.Setenv("COUNT", count)
		s := tm.session()
		p, j, b := ready(t, s, plan.Merge, settle.YoursTheirs)
		terms, agreed, err := s.Prover.MayCheck(t.Context(), p, j.Tree)
		require.NoError(t, err)
		require.True(t, agreed)
		proof, err := s.Prover.Prove(t.Context(), p, terms, b.Tip, func(string) {}, nil)
		require.NoError(t, err)
		require.False(t, proof.Result.Passed, c.verdict)
		for range 2 {
			told := 0
			builds, err := s.Prover.WhoBuilds(t.Context(), p, terms, func(prove.Builds) { told++ })
			require.NoError(t, err)
			assert.Equal(t, 4, told)
			assert.Equal(t, c.verdict, builds.Verdict())
			runs, err := os.ReadFile(count)
			require.NoError(t, err)
			assert.Equal(t, "\n\n\n\n", string(runs), "nothing is built twice")
		}
		s.Close()
	}
	assert.Empty(t, (&prove.Builds{}).Verdict())
}

// TestTheirsIsNotRunByWhatNobodyAgreedTo: what a command goes by in their tree alone was never shown.
func TestTheirsIsNotRunByWhatNobodyAgreedTo(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.mine.Commit("make", "Makefile", "test:\n\tfalse\n")
	tm.mine.Git("push", "-q")
	tm.other.Git("pull", "-q")
	tm.mine.Commit("mine", "Makefile", "test:\n\tfalse\n# mine\n", "g", "mine\n")
	tm.other.Commit("theirs", "Makefile", "test:\n\ttouch ran\n", "h", "theirs\n")
	tm.other.Git("push", "-q")
	s := tm.session()
	p, j, b := ready(t, s, plan.Merge, settle.Yours)
	terms, _, err := s.Prover.MayCheck(t.Context(), p, j.Tree)
	require.NoError(t, err)
	_, err = s.Prover.Prove(t.Context(), p, terms, b.Tip, func(string) {}, nil)
	require.NoError(t, err)
	builds, err := s.Prover.WhoBuilds(t.Context(), p, terms, func(prove.Builds) {})
	require.NoError(t, err)
	assert.Nil(t, builds.Theirs)
	assert.Equal(t,
		[]string{"Theirs was not run: the command can run what others changed, which you did not agree to: " +
			"Makefile by Ada Sund."}, builds.Unrun)
	assert.False(t, *builds.Yours || *builds.Base)
}

// TestNobodyIsBlamedOnAGuess: where what the project depends on is not installed in the checkout, or the shell does not
// know the command, a failure tells nothing of the code.
func TestNobodyIsBlamedOnAGuess(t *testing.T) {
	for name, c := range map[string]struct{ check, manifest, unchecked, lack, install string }{
		"a typing mistake": {"mkae test", "",
			"The shell does not know a command in “mkae test”: nothing was checked.", "", ""},
		"no program": {"./f", "", "The shell cannot run a command in “./f”: nothing was checked.", "", ""},
		"not installed": {"test -d node_modules", `{"dependencies":{"tide":"1.0.0"}}`, "",
			"what package.json names is not installed there (there is no node_modules; “npm install” installs it)",
			"npm install"},
		"nothing to install": {"false", `{"name":"skerry"}`, "", "", ""},
		"a command that is installed": {"npx-tide", `{"dependencies":{"tide":"1.0.0"}}`, "",
			"what package.json names is not installed there (there is no node_modules; “npm install” installs it)",
			"npm install"},
		"a script misses a program": {"sh ./all", "", "", "“no-such-tide” is not installed there", ""},
		"a module that is named": {"echo \"Error: Cannot find module 'tide'\"; mkdir node_modules; false",
			`{"name":"tide"}`, "",
			"“tide” is not installed there, which is named in package.json (“npm install” installs it)",
			"npm install"},
		"a module that nothing names": {"echo \"Error: Cannot find module 'pier'\"; false", `{"name":"skerry"}`, "",
			"", ""},
		"a module, and no manifest": {"echo \"ModuleNotFoundError: No module named 'pier'\"; false", "", "",
			"“pier” is not installed there, and no file says how to install it", ""},
		"a module that a side removed": {"echo \"ModuleNotFoundError: No module named 'gone'\"; false", "", "", "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			tm := newTeam(t)
			start := []string{"all", "no-such-tide\n", "gone.py", "\n"}
			if c.manifest != "" {
				start = append(start, "package.json", c.manifest)
			}
			tm.mine.Commit("start", start...)
			tm.mine.Git("push", "-q")
			tm.other.Git("pull", "-q")
			tm.other.Git("rm", "-q", "gone.py")
			tm.diverge()
			gittest.Own(t, "dorvik.check", c.check)
			s := tm.session()
			p, j, b := ready(t, s, plan.Rebase, settle.YoursTheirs)
			terms, _, err := s.Prover.MayCheck(t.Context(), p, j.Tree)
			require.NoError(t, err)
			proof, err := s.Prover.Prove(t.Context(), p, terms, b.Tip, func(string) {}, nil)
			require.NoError(t, err)
			assert.False(t, proof.Result.Passed)
			assert.Equal(t, c.unchecked, proof.Unchecked)
			assert.Equal(t, c.install, proof.Install)
			assert.Equal(t, c.lack == "" && c.unchecked == "", proof.Blames())
			if c.lack != "" {
				assert.Equal(t, []string{c.lack}, proof.Lacks)
			}
			builds, err := s.Prover.WhoBuilds(t.Context(), p, terms, func(prove.Builds) {})
			require.NoError(t, err)
			assert.Equal(t, proof.Blames(), builds.Verdict() != "", builds.Verdict())
			_, err = s.Prover.CheckEach(t.Context(), p, terms, b, func(string) {}, func([]prove.Each) {})
			if proof.Blames() {
				require.NoError(t, err)
			} else {
				assert.ErrorContains(t, err, "failed, which says nothing about the code: ")
			}
		})
	}
}

// TestTheCheckIsCleared: a command that was typed can be taken back, and the check is found from the files again.
func TestTheCheckIsCleared(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.mine.Commit("start", "go.mod", "module skerry\n")
	s := tm.session()
	tip, err := s.Repo.Resolve(t.Context(), "main")
	require.NoError(t, err)
	tree, err := s.Planner.Tree(t.Context(), tip)
	require.NoError(t, err)
	for _, line := range []string{"mkae", "make test", "", ""} {
		require.NoError(t, s.Prover.SetCheck(t.Context(), line, nil, tree))
		c, ok, err := s.Prover.CheckCommand(t.Context(), tree)
		require.NoError(t, err)
		require.True(t, ok)
		if line == "" {
			line = "go build ./... && go test ./..."
		}
		assert.Equal(t, line, c.Line())
	}
}

// TestTheSameLockFileIsInstalledOnce: a checkout that has what the lock file names is not filled again, until its
// folder or the file is another, or something is missing all the same.
func TestTheSameLockFileIsInstalledOnce(t *testing.T) {
	tm := newTeam(t)
	tools, checkouts, runs := t.TempDir(), t.TempDir(), filepath.Join(t.TempDir(), "runs")
	gittest.Own(t, "dorvik.builds", checkouts)
	require.NoError(t, os.WriteFile(filepath.Join(tools, "npm"), []byte(
		"#!/bin/sh\nmkdir -p node_modules\necho >>"+runs+"\n"), 0o755))
	t.Setenv("PATH", tools+string(os.PathListSeparator)+os.Getenv("PATH"))
	tm.mine.Commit("start", "package.json", `{"dependencies":{"tide":"1.0.0"}}`, "package-lock.json", "{}\n", "all",
		"test ! -e last || sh ./last\n")
	tm.mine.Git("push", "-q")
	tm.other.Git("pull", "-q")
	tm.diverge()
	gittest.Own(t, "dorvik.check", "npm ci && sh ./all")
	s := tm.session()
	p, j, b := ready(t, s, plan.Rebase, settle.YoursTheirs)
	terms, _, err := s.Prover.MayCheck(t.Context(), p, j.Tree)
	require.NoError(t, err)
	at := func() string {
		found, err := filepath.Glob(filepath.Join(checkouts, "*", "check"))
		require.NoError(t, err)
		require.Len(t, found, 1)
		return found[0]
	}
	last := func(script string) {
		require.NoError(t, os.WriteFile(filepath.Join(at(), "last"), []byte(script), 0o644))
	}
	for _, c := range []struct {
		what    string
		before  func()
		known   string
		passed  bool
		install int // how often it was installed by then
	}{
		{"nothing is there", func() {}, "", true, 1},
		{"the same file", func() { last("true") }, check.InstalledBefore, true, 1},
		{"the folder went", func() { require.NoError(t, os.RemoveAll(filepath.Join(at(), "node_modules"))) }, "",
			true, 2},
		{"a package is missing", func() { last("echo \"Error: Cannot find module 'tide'\"; false") },
			check.InstalledBefore, false, 2},
		{"after that", func() { last("true") }, "", true, 3},
	} {
		c.before()
		proof, err := s.Prover.Prove(t.Context(), p, terms, b.Tip, func(string) {}, nil)
		require.NoError(t, err, c.what)
		require.Len(t, proof.Result.Steps, 2, c.what)
		assert.Equal(t, c.known, proof.Result.Steps[0].Known, c.what)
		assert.Equal(t, []string{"npm ci", "sh ./all"}, []string{proof.Result.Steps[0].Line,
			proof.Result.Steps[1].Line})
		assert.Equal(t, c.passed, proof.Result.Passed, c.what)
		count, err := os.ReadFile(runs)
		require.NoError(t, err)
		assert.Len(t, count, c.install, c.what)
	}
	builds, err := s.Prover.WhoBuilds(t.Context(), p, terms, func(prove.Builds) {})
	require.NoError(t, err)
	assert.Empty(t, builds.Unrun)
}

package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
)

// TestNothingRunsUnasked has a colleague put a canary into everything that docs/check.md lists as started out of the
// tree, in one commit and taken back in the next, and runs every command with nothing agreed.
func TestNothingRunsUnasked(t *testing.T) {
	gittest.Isolate(t)
	remote := gittest.New(t, "--bare")
	mine, other := remote.Clone(), remote.Clone()
	canary := t.TempDir()
	hooks := []string{"pre-merge-commit", "pre-rebase", "pre-commit", "commit-msg", "prepare-commit-msg", "post-merge",
		"post-checkout", "post-rewrite", "pre-push", "reference-transaction", "post-index-change", "pre-auto-gc"}
	files := func(body string) (out []string) {
		out = append(out, "Makefile", "include a.mk\ntest:\n\t"+body+"\n", "a.mk", "x := $(shell "+body+")\n", "go.mod",
			"module skerry\n", "gen.go", "package skerry\n\n//go:generate "+body+"\n", "package.json",
			`{"scripts":{"preinstall":"`+body+`","test":"`+body+`"}}`, "package-lock.json",
			"{}\n"+body+"\n", ".npmrc", "script-shell=./tools/smudge.sh\n", "tools/smudge.sh", body+"; cat\n",
			"tools/join.sh", body+"\n", "conftest.py", "import os; os.system('"+body+"')\n")
		for _, h := range hooks {
			out = append(out, "hooks/"+h, "#!/bin/sh\n"+body+"\n")
		}
		return out
	}
	start := append(files("true"), ".gitattributes", "*.up filter=up\n*.n merge=up\n", "a.up", "a\n", "a.n", "1\n")
	mine.Commit("start", start...)
	for _, h := range hooks {
		require.NoError(t, os.Chmod(filepath.Join(mine.Dir, "hooks", h), 0o755))
	}
	mine.Git("commit", "-qam", "executable")
	mine.Git("push", "-q", "-u", "origin", "HEAD")
	other.Git("pull", "-q")
	mine.Commit("mine", "a.n", "mine\n", "m.md", "m\n", "package-lock.json", "{}\nmine\n")
	other.Commit("hostile", append(files("touch "+canary+"/ran"), "b.up", "b\n", "a.n", "theirs\n")...)
	other.Commit("more", "c.up", "c\n")
	other.Git("push", "-q")
	mine.Git("config", "core.hooksPath", "hooks")
	mine.Git("config", "filter.up.smudge", "sh tools/smudge.sh")
	mine.Git("config", "filter.up.clean", "cat")
	gittest.Own(t, "merge.up.driver", "sh tools/join.sh %A")
	gittest.Own(t, "dorvik.up.agreed", "true")
	run := func(args string) string {
		_, _, errs := dorvik(append([]string{"-C", mine.Dir}, strings.Fields(args)...)...)
		assert.NotContains(t, errs, "panic", args)
		entries, err := os.ReadDir(canary)
		require.NoError(t, err)
		require.Empty(t, entries, args)
		return errs
	}
	for _, args := range []string{"look", "plan", "look --branches", "recover --no-check",
		"recover --prefer suggested,theirs,anew", "recover --prefer theirs --no-check",
		"recover --prefer suggested,theirs",
		"recover --prefer theirs --no-check --push", "check", "check --each", "push", "history", "undo", "logbook"} {
		run(args)
	}
	said := ""
	other.Git("revert", "--no-edit", "HEAD", "HEAD~1")
	other.Commit("last", "z.md", "z\n")
	other.Git("push", "-q")
	gittest.Own(t, "dorvik.check", "make test && test ! -e z.md || test ! -e m.md")
	gittest.Own(t, "dorvik.checkEach", "true")
	for _, args := range []string{"recover --prefer theirs --push", "check", "check --each"} {
		said += run(args)
	}
	assert.Contains(t, said, "The joined code does not pass", "what was agreed to runs")
	assert.Contains(t, said, "Makefile by Ada Sund", "and what is between is asked about")
}

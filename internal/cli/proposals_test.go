package cli

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
)

// TestProposalsCommand lists proposals, among them one with a hostile title, and joins two in a row, one of which asks.
func TestProposalsCommand(t *testing.T) {
	s := scene(t)
	mine, ilka := gittest.At(t, s.Clone), gittest.At(t, s.Teammates[0].Clone)
	mine.Git("stash", "-q")
	mine.Git("fetch", "-q")
	mine.Git("reset", "-q", "--hard", "origin/main")
	list := ilka.Read("docs/harbours.md")
	for i, title := range []string{"Add Voe", "Add \x1b[31mSkaill\u202e", "Add Muness"} {
		ilka.Git("switch", "-q", "-C", "p", "origin/main")
		ilka.Commit(title, "docs/harbours.md", strings.Replace(list, "September\n", fmt.Sprintf("September\n- N%d\n",
			i), 1))
		ilka.Git("push", "-q", "origin", fmt.Sprintf("HEAD:refs/proposals/%d/main", i+1))
	}
	run := func(want int, words ...string) (out, errs string) {
		t.Helper()
		code, out, errs := dorvik(append([]string{"-C", s.Clone, "proposals"}, words...)...)
		require.Equal(t, want, code, "%s%s", out, errs)
		return out, errs
	}
	out, errs := run(exitDone)
	assert.Contains(t, out, "1    Add Voe\n     a fork → main, by ")
	assert.Contains(t, out, ": 1 commit, joins by itself\n")
	assert.NotContains(t, out+errs, "\x1b")
	assert.NotContains(t, out+errs, "\u202e")
	out, _ = run(exitDone, "--json")
	assert.NotContains(t, out, "\u202e", "escaped")
	listed := asJSON(t, out)["proposals"].([]any)
	require.Len(t, listed, 3)
	one := listed[0].(map[string]any)
	for name, want := range map[string]any{"name": "1", "from": "", "into": "main", "commits": 1.0, "joins": true,
		"asks": 0.0, "misfits": 0.0, "title": "Add Voe"} {
		assert.Equal(t, want, one[name], name)
	}
	for _, wrong := range [][]string{{"--order", "best"}, {"--join", "9"}, {"--join", "1", "--go-on"},
		{"--join", "1", "--prefer", "nothing"}, {"surplus"}} {
		run(exitUsage, wrong...)
	}
	_, errs = run(exitFailed, "--go-on")
	assert.Contains(t, errs, "No row of proposals is under way.")

	out, _ = run(exitConflicts, "--join", "1,2,3", "--order", "least", "--no-check", "--json")
	row := asJSON(t, out)
	assert.Equal(t, "conflicts", row["result"])
	assert.Equal(t, "1 conflict needs a decision", row["why"])
	_, errs = run(exitFailed, "--join", "3")
	assert.Contains(t, errs, "Another row is not finished: 3 proposals into main: 1 joined, 0 left out, 2 to go.")
	out, _ = run(exitDone, "--go-on", "--no-check", "--prefer", "yours-theirs", "--push", "--json")
	row = asJSON(t, out)
	assert.Equal(t, "pushed", row["result"])
	assert.Equal(t, mine.Git("rev-parse", "main"), gittest.At(t, s.Remote).Git("rev-parse", "main"))
	last := row["proposals"].([]any)[2].(map[string]any)
	assert.Equal(t, "joined", last["state"])
	assert.Equal(t, []any{"docs/harbours.md: yours, then theirs, as for proposal 2"}, last["again"])
	_, errs = run(exitFailed, "--take-back")
	assert.Contains(t, errs, "No row of proposals is under way.", "it ended with the push")
	out, _ = run(exitDone)
	assert.Contains(t, out, "3 others are in their branches already.")
}

package cli

import (
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/demo"
	"dorvik.dev/dorvik/internal/gittest"
)

// TestCheck runs the demo's check without a screen: nobody agreed to it, it fails, it is mended, and passes.
func TestCheck(t *testing.T) {
	s := scene(t)
	at := gittest.At(t, s.Clone)
	at.Git("fetch", "-q")
	run := func(want int, args ...string) map[string]any {
		t.Helper()
		code, out, errs := dorvik(append([]string{"-C", s.Clone, "check", "--json"}, args...)...)
		assert.Equal(t, want, code, errs)
		return asJSON(t, out)
	}
	got := run(exitConflicts)
	assert.Equal(t, "conflicts", got["result"])
	code, _, errs := dorvik("-C", s.Clone, "recover", "--route", "rebase", "--prefer", "suggested")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "was never agreed to")
	before := at.Git("rev-parse", "HEAD")

	got = run(exitConflicts)
	assert.Equal(t, "not-agreed", got["result"])
	hash := got["agree"].(string)
	assert.Len(t, hash, 32)
	assert.Equal(t, "not-agreed", run(exitConflicts, "--agree=0000")["result"])
	got = run(exitCheck, "--agree="+hash)
	assert.Equal(t, "failed", got["result"])
	assert.Equal(t, map[string]any{"base": true, "yours": true, "theirs": true, "joined": false}, got["builds"])
	assert.Equal(t, "Yours builds, theirs builds, together they do not.", got["verdict"])
	assert.Equal(t, map[string]any{"path": "timetable/sailing.go", "line": 29.0, "column": 9.0,
		"text": "undefined: DepthAt"},
		got["errors"].([]any)[0])
	assert.Equal(t, map[string]any{"yours": misfitOf(got, "used"), "theirs": misfitOf(got, "changed")}, got["pair"])
	steps := got["steps"].([]any)
	assert.Equal(t, []any{false, nil}, []any{steps[0].(map[string]any)["passed"], steps[1].(map[string]any)["passed"]})
	misfit := got["misfits"].([]any)[0].(map[string]any)
	assert.Equal(t, []any{"renamed", "DepthAt", "DepthAtPier", true}, []any{misfit["kind"], misfit["name"],
		misfit["now"],
		misfit["certain"]})
	mend := got["mends"].([]any)[0].(map[string]any)
	assert.Contains(t, mend["diff"], "+\treturn DepthAtPier(s.From, s.Departs) >= need")

	first := got["first_failing"]
	assert.NotNil(t, first, "halved for")
	assert.Equal(t, first, run(exitCheck, "--each")["first_failing"])
	code, out, _ := dorvik("-C", s.Clone, "recover", "--json")
	assert.Equal(t, exitCheck, code)
	recovered := asJSON(t, out)
	for _, field := range []string{"verdict", "builds", "pair", "mends", "errors", "misfits", "first_failing"} {
		assert.Equal(t, got[field], recovered[field], field)
	}
	got = run(exitDone, "--mend")
	assert.Equal(t, "passed", got["result"])
	assert.Equal(t, "passed", run(exitDone, "--each")["result"])
	assert.Equal(t, "passed", run(exitDone, "--", "test", "-e", "go.mod")["result"])
	assert.Equal(t, before, at.Git("rev-parse", "HEAD"), "nothing was touched")
	code, _, errs = dorvik("-C", s.Clone, "check", "make")
	assert.Equal(t, exitUsage, code)
	assert.Contains(t, errs, "comes after --")
}

// misfitOf is the commit of a side of the first misfit.
func misfitOf(got map[string]any, which string) any {
	return got["misfits"].([]any)[0].(map[string]any)[which].(map[string]any)["commit"]
}

// TestCheckOfTheLongerScene: one collision is mended amid the road, the other is found to be what is left.
func TestCheckOfTheLongerScene(t *testing.T) {
	gittest.Isolate(t)
	s, err := demo.Make(t.Context(), filepath.Join(t.TempDir(), "demo"), demo.AsLonger)
	require.NoError(t, err)
	at := gittest.At(t, s.Clone)
	at.Git("fetch", "-q")
	code, _, errs := dorvik("-C", s.Clone, "recover", "--route", "rebase", "--prefer", "suggested")
	assert.Equal(t, exitFailed, code, errs)
	code, out, errs := dorvik("-C", s.Clone, "check", "--json", "--agree", "--mend")
	assert.Equal(t, exitCheck, code, errs)
	got := asJSON(t, out)
	assert.Len(t, got["misfits"], 2)
	assert.Len(t, got["mends"], 1)
	pair := got["pair"].(map[string]any)
	assert.Equal(t, []string{"Print the fare on the foot ticket", "Children travel for half"}, []string{
		at.Git("log", "-1", "--format=%s", pair["yours"].(string)),
		at.Git("log", "-1", "--format=%s", pair["theirs"].(string))})
	code, out, errs = dorvik("-C", s.Clone, "check", "--json", "--each")
	assert.Equal(t, exitCheck, code, errs)
	assert.NotNil(t, asJSON(t, out)["first_failing"])
	assert.Contains(t, errs, "4 of 7", "the berth is mended in its own commit")
	assert.Equal(t, got["first_failing"], asJSON(t, out)["first_failing"], "by halving, too")
	code, out, _ = dorvik("-C", s.Clone, "recover", "--json", "--mend", "--each", "--check", "go vet ./timetable")
	assert.Equal(t, exitDone, code)
	assert.Equal(t, "joined", asJSON(t, out)["result"])
}

// TestShellLine: a command after -- keeps its words, as they were quoted.
func TestShellLine(t *testing.T) {
	for want, args := range map[string][]string{
		"make test && true":         {"make test && true"},
		"make test":                 {"make", "test"},
		`go test -run 'A|B' ./...`:  {"go", "test", "-run", "A|B", "./..."},
		`echo 'it'\''s' '' '$HOME'`: {"echo", "it's", "", "$HOME"},
	} {
		assert.Equal(t, want, shellLine(args))
		if len(args) > 1 {
			out, err := exec.Command("sh", "-c", "printf '%s\\n' "+want).Output()
			require.NoError(t, err)
			assert.Equal(t, strings.Join(args, "\n")+"\n", string(out))
		}
	}
}

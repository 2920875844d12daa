package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dorvik.dev/dorvik/internal/gittest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestLookShort is the line for a shell prompt, in every state that it tells; it writes nothing.
func TestLookShort(t *testing.T) {
	s := scene(t)
	r := gittest.At(t, s.Clone)
	short := func() string {
		before := fingerprint(t, s.Clone)
		code, out, errs := dorvik("-C", s.Clone, "look", "--short")
		assert.Zero(t, code, errs)
		assert.Empty(t, errs)
		assert.Equal(t, before, fingerprint(t, s.Clone), "nothing is written")
		return strings.TrimSuffix(out, "\n")
	}
	assert.Equal(t, "main ◐4", short(), "as it was last fetched")
	r.Git("fetch", "-q")
	assert.Equal(t, "main ◐4 ◑4", short())
	_, err := r.Try("rebase", "--autostash", "origin/main")
	require.Error(t, err)
	assert.Equal(t, "no branch ▲ rebase half done", short())
	r.Git("rebase", "--abort")
	old := time.Now().Add(-3 * 24 * time.Hour)
	for _, name := range []string{"FETCH_HEAD", "logs/refs/remotes/origin/main"} {
		path := filepath.Join(s.Clone, ".git", name)
		if _, err := os.Stat(path); err == nil {
			require.NoError(t, os.Chtimes(path, old, old))
		}
	}
	assert.Equal(t, "main ◐4 ◑4 asked 3 days ago", short())
	code, out, _ := dorvik("-C", s.Clone, "look", "--short", "--json")
	assert.Zero(t, code)
	v := asJSON(t, out)
	assert.Equal(t, []any{"main", "origin/main", 4.0, 4.0, false, ""},
		[]any{v["branch"], v["upstream"], v["yours"], v["theirs"], v["joined"], v["half_done"]})
	code, _, errs := dorvik("-C", s.Clone, "recover", "--prefer", "suggested,theirs", "--no-check")
	require.Zero(t, code, errs)
	assert.Equal(t, "main ◐3 joined, not pushed", short())
	code, _, errs = dorvik("-C", s.Clone, "push")
	require.Zero(t, code, errs)
	assert.Equal(t, "main", short())
}

// TestLookBranches tells which other pushed branches would collide, the worst first.
func TestLookBranches(t *testing.T) {
	s := scene(t)
	r := gittest.At(t, s.Clone)
	mate := gittest.At(t, filepath.Join(t.TempDir(), "mate"))
	require.NoError(t, os.MkdirAll(mate.Dir, 0o755))
	mate.Git("clone", "-q", s.Remote, ".")
	base := r.Git("merge-base", "main", "origin/main")
	for branch, edits := range map[string]map[string]string{
		"harmless": {"notes.md": "new\n"},
		"fares":    {"fares/fares.go": "package fares\n"},
		"worse":    {"fares/fares.go": "package fares\n", "docs/harbours.md": "none\n"},
	} {
		mate.Git("checkout", "-q", "-b", branch, base)
		for path, text := range edits {
			mate.Write(path, text)
		}
		mate.Git("add", ".")
		mate.Git("commit", "-q", "-m", branch)
		mate.Git("push", "-q", "origin", branch)
	}
	code, out, errs := dorvik("-C", s.Clone, "look", "--branches", "--json")
	require.Zero(t, code, errs)
	list := asJSON(t, out)["branches"].([]any)
	require.Len(t, list, 2)
	first := list[0].(map[string]any)
	assert.Equal(t, "origin/worse", first["branch"])
	assert.Equal(t, []any{"docs/harbours.md", "fares/fares.go"}, first["paths"])
	assert.Equal(t, 2.0, first["conflicts"])
	assert.NotEmpty(t, first["author"])
	assert.Equal(t, "origin/fares", list[1].(map[string]any)["branch"])
	_, out, _ = dorvik("-C", s.Clone, "look", "--branches")
	assert.Contains(t, out, "origin/worse, by ")
	code, out, _ = dorvik("-C", s.Clone, "look", "--json")
	assert.Zero(t, code)
	assert.NotContains(t, asJSON(t, out), "branches", "only where it is asked for")
}

// TestPushAlone is the last stage alone: it joins nothing.
func TestPushAlone(t *testing.T) {
	s := scene(t)
	r := gittest.At(t, s.Clone)
	before := r.Git("rev-parse", "main")
	code, out, errs := dorvik("-C", s.Clone, "push", "--json")
	assert.Equal(t, 5, code)
	assert.Equal(t, "refused", asJSON(t, out)["result"])
	assert.Contains(t, errs, "join first")
	assert.Equal(t, before, r.Git("rev-parse", "main"))
	code, _, errs = dorvik("-C", s.Clone, "recover", "--prefer", "suggested,theirs", "--no-check")
	require.Zero(t, code, errs)
	code, out, errs = dorvik("-C", s.Clone, "push", "--json")
	require.Zero(t, code, errs)
	assert.Equal(t, "pushed", asJSON(t, out)["result"])
	assert.Equal(t, r.Git("rev-parse", "main"), r.Git("ls-remote", "origin", "refs/heads/main")[:40])
	code, out, _ = dorvik("-C", s.Clone, "push", "--json")
	assert.Zero(t, code)
	assert.Equal(t, "nothing-to-do", asJSON(t, out)["result"])
}

// TestUndoAfterThePush takes the branch back, and takes the push back by a new commit.
func TestUndoAfterThePush(t *testing.T) {
	s := scene(t)
	r := gittest.At(t, s.Clone)
	before := r.Git("rev-parse", "main")
	code, _, errs := dorvik("-C", s.Clone, "recover", "--prefer", "suggested,theirs", "--no-check", "--push")
	require.Zero(t, code, errs)
	tip := r.Git("rev-parse", "main")
	code, _, errs = dorvik("-C", s.Clone, "undo")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "undo 1 --by-commit")
	for _, args := range [][]string{{"--since"}, {"--since", "--by-commit", "1"}} {
		code, _, _ = dorvik(append([]string{"-C", s.Clone, "undo"}, args...)...)
		assert.Equal(t, 2, code)
	}
	code, out, errs := dorvik("-C", s.Clone, "undo", "--since", "1", "--json")
	require.Zero(t, code, errs)
	assert.Contains(t, errs, "origin/main keeps what was pushed")
	assert.Equal(t, []any{before, "2"}, []any{asJSON(t, out)["tip"], asJSON(t, out)["waypoint"]})
	assert.Equal(t, before, r.Git("rev-parse", "main"))
	code, _, errs = dorvik("-C", s.Clone, "undo")
	require.Zero(t, code, errs)
	assert.Equal(t, tip, r.Git("rev-parse", "main"))

	code, out, errs = dorvik("-C", s.Clone, "undo", "--by-commit", "1", "--json")
	require.Zero(t, code, errs)
	assert.Equal(t, "joined", asJSON(t, out)["result"])
	assert.Empty(t, r.Git("diff", "main", "main~4"), "what was theirs is what there is")
	code, out, errs = dorvik("-C", s.Clone, "logbook", "--clean", "1", "--json")
	require.Zero(t, code, errs)
	assert.Equal(t, 0.0, asJSON(t, out)["cleaned"])
	code, _, _ = dorvik("-C", s.Clone, "logbook", "--clean", "soon")
	assert.Equal(t, 2, code)
}

// TestWatchingIsInWords: --watch goes on, so it has no one answer.
func TestWatchingIsInWords(t *testing.T) {
	s := scene(t)
	for _, flag := range []string{"--json", "--short", "--no-fetch"} {
		code, out, errs := dorvik("-C", s.Clone, "look", "--watch", flag)
		assert.Equal(t, 2, code, flag)
		assert.Contains(t, out+errs, "--watch goes on in words", flag)
	}
}

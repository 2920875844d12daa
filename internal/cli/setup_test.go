package cli

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
)

// TestSetupIsTakenOut: what was there before stays, and --remove leaves the settings as they were.
func TestSetupIsTakenOut(t *testing.T) {
	gittest.Isolate(t)
	config := func(args ...string) string {
		out, err := exec.Command("git", append([]string{"config", "--global"}, args...)...).Output()
		require.NoError(t, err)
		return strings.TrimSpace(string(out))
	}
	config("alias.recover", "log -1")
	config("user.name", "Runa Holt")
	before, err := os.ReadFile(os.Getenv("GIT_CONFIG_GLOBAL"))
	require.NoError(t, err)
	states := func(args ...string) (out []string) {
		code, text, errs := dorvik(append([]string{"setup", "--json"}, args...)...)
		require.Zero(t, code, errs)
		for _, s := range asJSON(t, text)["settings"].([]any) {
			out = append(out, s.(map[string]any)["state"].(string))
		}
		return out
	}
	assert.Equal(t, []string{"other", "written", "written", "written", "written"}, states())
	assert.Equal(t, []string{"other", "there", "there", "there", "there"}, states())
	assert.Equal(t, "log -1", config("alias.recover"))
	assert.Contains(t, config("mergetool.dorvik.cmd"), `"$MERGED" "$BASE"`)
	code, out, errs := dorvik("setup")
	assert.Zero(t, code)
	assert.Empty(t, errs)
	assert.Contains(t, out, "stays as you have it: log -1")
	assert.Equal(t, []string{"other", "removed", "removed", "removed", "removed"}, states("--remove"))
	assert.Equal(t, []string{"other", "missing", "missing", "missing", "missing"}, states("--remove"))
	after, err := os.ReadFile(os.Getenv("GIT_CONFIG_GLOBAL"))
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))
}

// TestGitJoinsByTheDriver that setup writes.
func TestGitJoinsByTheDriver(t *testing.T) {
	bin := t.TempDir()
	built, err := exec.Command("go", "build", "-o", bin+"/dorvik", "dorvik.dev/dorvik/cmd/dorvik").CombinedOutput()
	require.NoError(t, err, "%s", built)
	t.Setenv("PATH", bin+":"+os.Getenv("PATH"))
	r := gittest.New(t)
	r.Commit("start", "f.go", "package f\n\nvar (\n\ta = 1\n\tb = 2\n)\n", ".gitattributes", "*.go merge=dorvik\n")
	r.Git("checkout", "-q", "-b", "other")
	r.Commit("theirs", "f.go", "package f\n\nvar (\n\ta = 1\n\tb = 3\n)\n")
	r.Git("checkout", "-q", "main")
	r.Commit("mine", "f.go", "package f\n\nvar (\n\ta = 2\n\tb = 2\n)\n")
	code, _, errs := dorvik("setup")
	require.Zero(t, code, errs)
	_, err = r.Try("merge", "-q", "-m", "joined", "other")
	require.Error(t, err, "neighbouring lines are for a person")
	assert.Contains(t, r.Read("f.go"), "<<<<<<<")
	r.Git("merge", "--abort")
	r.Git("checkout", "-q", "other")
	r.Commit("theirs again", "f.go", "package f\n\n// One of theirs.\nvar (\n\ta = 1\n\tb = 2\n)\n")
	r.Git("checkout", "-q", "main")
	r.Git("merge", "-q", "-m", "joined", "other")
	assert.Equal(t, "package f\n\n// One of theirs.\nvar (\n\ta = 2\n\tb = 2\n)\n", r.Read("f.go"))
}

package demo

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/gittest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func demoIn(t *testing.T, as Part) *Scene {
	gittest.Isolate(t)
	s, err := Make(t.Context(), filepath.Join(t.TempDir(), "demo"), as)
	require.NoError(t, err)
	return s
}

func TestSceneIsWhatItClaims(t *testing.T) {
	for _, part := range Parts {
		t.Run(string(part), func(t *testing.T) { isWhatItClaims(t, part) })
	}
	_, err := ParsePart("nothing")
	assert.EqualError(t, err, `there is no scene "nothing": there are refused, teammate and longer`)
}

func isWhatItClaims(t *testing.T, part Part) {
	s := demoIn(t, part)
	for _, dir := range []string{s.Clone, s.Remote, s.Teammates[0].Clone, s.Teammates[1].Clone} {
		out, err := gittest.At(t, dir).Try("fsck", "--strict")
		require.NoError(t, err, "%s: %s", dir, out)
	}
	mine := gittest.At(t, s.Clone)
	assert.Equal(t, " M cmd/skerry/main.go", mine.Git("status", "--porcelain"))
	counts := map[Part][2]string{AsLonger: {"8", "12"}}[part]
	if counts[0] == "" {
		counts = [2]string{"4", "4"}
	}
	assert.Equal(t, counts[0], mine.Git("rev-list", "--count", "origin/main..main"))
	_, err := mine.Try("push", "origin", "main")
	assert.ErrorContains(t, err, "fetch first", "the push is refused")
	assert.Equal(t, counts[1], gittest.At(t, s.Remote).Git("rev-list", "--count", mine.Git("rev-parse",
		"origin/main")+"..main"))

	listed, err := os.ReadFile(filepath.Join(s.Clone, mine.Git("config", "dorvik.tasks")))
	require.NoError(t, err)
	assert.Contains(t, string(listed), "SKERRY-34 Ness")

	again := demoIn(t, part)
	assert.Equal(t, mine.Git("rev-parse", "main"), gittest.At(t, again.Clone).Git("rev-parse", "main"),
		"same ids on every run")

	_, err = Make(t.Context(), s.Clone, part)
	assert.ErrorContains(t, err, "not empty")
	js, err := json.Marshal(s)
	require.NoError(t, err)
	mate := map[Part]string{AsRuna: "Ilka Renn", AsIlka: "Runa Holt", AsLonger: "Ilka Renn"}[part]
	assert.Contains(t, string(js), `"teammates":[{"name":"`+mate+`","clone":`)
}

func TestBothSidesBuildAndPass(t *testing.T) {
	s, longer := demoIn(t, AsRuna), demoIn(t, AsLonger)
	for _, dir := range []string{s.Clone, s.Teammates[0].Clone, s.Teammates[1].Clone, longer.Clone,
		longer.Teammates[2].Clone} {
		for _, args := range [][]string{{"vet", "./..."}, {"test", "./..."}} {
			cmd := exec.Command("go", args...)
			cmd.Dir = dir
			cmd.Env = append(os.Environ(), "GOFLAGS=-mod=mod", "GOWORK=off")
			out, err := cmd.CombinedOutput()
			assert.NoError(t, err, "%s: %s", dir, out)
		}
		out, err := exec.Command("gofmt", "-l", dir).CombinedOutput()
		assert.NoError(t, err)
		assert.Empty(t, string(out))
	}
}

// TestTheDemoStaysInItsFolder: not even what checks build is anywhere else.
func TestTheDemoStaysInItsFolder(t *testing.T) {
	dir := t.TempDir()
	s, err := Make(t.Context(), dir, AsRuna)
	require.NoError(t, err)
	for _, clone := range append(s.Teammates, Clone{Clone: s.Clone}) {
		r, err := git.Open(t.Context(), clone.Clone)
		require.NoError(t, err)
		builds, err := r.Builds(t.Context())
		r.Close()
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(builds, dir+string(filepath.Separator)), builds)
	}
}

package recovery

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
)

const makefile = "include rules.mk\ntest:\n\ttrue\n"

// TestConsentIsAboutWhatRuns: it is asked for once for a check as it reads, again when what it goes by changed, and
// nothing in the repository gives it.
func TestConsentIsAboutWhatRuns(t *testing.T) {
	tm := newTeam(t)
	tm.mine.Commit("make", "Makefile", makefile, "rules.mk", "x = 1\n")
	tm.mine.Git("push", "-q")
	tm.other.Git("pull", "-q")
	tm.diverge()
	s := tm.session()
	p, j, _ := ready(t, s, Merge, settle.Yours)
	terms, agreed, err := s.MayCheck(t.Context(), p, j.Tree)
	require.NoError(t, err)
	assert.False(t, agreed, "nobody was asked")
	assert.Equal(t, []string{"Makefile", "rules.mk"}, []string{terms.Files[0].Path, terms.Files[1].Path})
	require.NoError(t, s.Agree(terms.String()))
	again := func() (*Terms, bool) {
		p, j, _ = ready(t, s, Merge, settle.Yours)
		terms, agreed, err := s.MayCheck(t.Context(), p, j.Tree)
		require.NoError(t, err)
		return terms, agreed
	}
	_, agreed = again()
	assert.True(t, agreed)

	tm.other.Commit("another rule", "rules.mk", "x = 2\n")
	tm.other.Git("push", "-q")
	changed, agreed := again()
	assert.False(t, agreed)
	require.Len(t, changed.Changed(), 1)
	assert.Equal(t, "rules.mk", changed.Changed()[0].Path)
	assert.Equal(t, "another rule", changed.Changed()[0].By.Subject())
	assert.NotEqual(t, terms.Hash(), changed.Hash())
	assert.ErrorContains(t, &UnagreedError{changed}, "was agreed to in this repository, and rules.mk changed since")
	assert.ErrorContains(t, &UnagreedError{terms}, "was never agreed to in this repository")
	tm.mine.Git("config", "filter.loud.smudge", "touch ran; cat")
	filtered, agreed := again()
	assert.False(t, agreed)
	assert.Equal(t, []string{"loud: touch ran; cat"}, filtered.Filters)
	tm.mine.Git("config", "--unset", "filter.loud.smudge")
	require.NoError(t, s.Agree(changed.String()))

	// What is in the repository names a check, and agrees to none.
	tm.mine.Git("config", "dorvik.check", "touch ran")
	terms, agreed = again()
	assert.False(t, agreed)
	assert.Equal(t, []string{"touch ran"}, terms.Command.Steps)
	s.Close()
	config, err := os.UserConfigDir()
	require.NoError(t, err)
	data, err := os.ReadFile(filepath.Join(config, "dorvik", "agreed"))
	require.NoError(t, err)
	assert.Equal(t, 2, strings.Count(string(data), `"in":"`+filepath.Join(tm.mine.Dir, ".git")+`"`))
	copied := t.TempDir()
	require.NoError(t, os.CopyFS(copied, os.DirFS(tm.mine.Dir)))
	gittest.At(t, copied).Git("config", "--unset", "dorvik.check")
	s, err = OpenSession(t.Context(), copied)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	_, agreed = again()
	assert.False(t, agreed, "a copy was not agreed to")

	// The person's own configuration is agreement enough, until what it goes by changes.
	gittest.Own(t, "dorvik.check", "make one")
	gittest.Own(t, "dorvik.check", "make test")
	terms, agreed = again()
	assert.True(t, agreed)
	require.NoError(t, s.Agree(terms.String()))
	gittest.At(t, copied).Commit("again", "Makefile", makefile+"\techo\n")
	_, agreed = again()
	assert.False(t, agreed)
}

// TestStepsAndEnvironment: the steps run in order until one fails, without secrets.
func TestStepsAndEnvironment(t *testing.T) {
	tm := newTeam(t)
	tm.diverge()
	t.Setenv("DEPLOY_TOKEN", "secret")
	t.Setenv("MY_API_KEY", "kept")
	gittest.Own(t, "dorvik.checkEnv", "MY_API_KEY")
	tm.mine.Git("config", "dorvik.checkEnv", "DEPLOY_TOKEN")
	for _, step := range []string{"echo $CI.$DEPLOY_TOKEN.$MY_API_KEY.$GIT_OPTIONAL_LOCKS", "exit 3", "echo late"} {
		tm.mine.Git("config", "--add", "dorvik.check", step)
	}
	s := tm.session()
	p, j, b := ready(t, s, Merge, settle.Yours)
	terms, _, err := s.MayCheck(t.Context(), p, j.Tree)
	require.NoError(t, err)
	var out []string
	var begun []int
	proof, err := s.Prove(t.Context(), p, terms, b.Tip, j.Tree, func(l string) { out = append(out, l) },
		func(_ []check.Step, i int) { begun = append(begun, i) })
	require.NoError(t, err)
	assert.Equal(t, []string{"true..kept.0"}, out)
	assert.Equal(t, []int{0, 1}, begun)
	assert.Equal(t, 3, proof.Result.Exit)
	var how []bool
	for _, s := range proof.Result.Steps {
		how = append(how, s.Ran, s.Passed)
	}
	assert.Equal(t, []bool{true, true, true, false, false, false}, how)
}

// TestLimits: what takes too long, or too much, did not pass.
func TestLimits(t *testing.T) {
	tm := newTeam(t)
	tm.diverge()
	s := tm.session()
	p, j, b := ready(t, s, Merge, settle.Yours)
	run := func(line string) (passed bool, out string) {
		var said []string
		proof, err := s.Prove(t.Context(), p, termsOf(line), b.Tip, j.Tree, func(l string) { said = append(said, l) },
			nil)
		require.NoError(t, err)
		return proof.Result.Passed, strings.Join(said, "\n")
	}
	tm.mine.Git("config", "dorvik.checkTime", "50ms")
	passed, out := run("echo begun; sleep 600")
	assert.False(t, passed)
	assert.Contains(t, out, "took longer than 50ms and was ended")
	tm.mine.Git("config", "--unset", "dorvik.checkTime")
	tm.mine.Git("config", "dorvik.checkMemory", "64")
	passed, _ = run("head -c 200000000 /dev/zero | tail -c 200000000 > /dev/null")
	assert.False(t, passed)
	passed, _ = run("true")
	assert.True(t, passed)
	tm.mine.Git("config", "dorvik.checkMemory", "much")
	_, err := s.Prove(t.Context(), p, termsOf("echo"), b.Tip, j.Tree, func(string) {}, nil)
	assert.ErrorContains(t, err, "dorvik.checkMemory is much, which is no number of megabytes")
}

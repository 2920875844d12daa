package recovery

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
)

const makefile = "include rules.mk\ntest:\n\ttrue\n"

// consents is a team with a check, and what a new look at the join says of it.
func consents(t *testing.T, files ...string) (tm *team, look func(s *Session) *prove.Terms) {
	tm = newTeam(t)
	tm.mine.Commit("start", files...)
	tm.mine.Git("push", "-q")
	tm.other.Git("pull", "-q")
	tm.mine.Commit("mine", "mine.md", "mine\n")
	tm.other.Commit("theirs", "theirs.md", "theirs\n")
	tm.other.Git("push", "-q")
	return tm, func(s *Session) *prove.Terms {
		t.Helper()
		p, j, _ := ready(t, s, plan.Merge, settle.Yours)
		terms, agreed, err := s.Prover.MayCheck(t.Context(), p, j.Tree)
		require.NoError(t, err)
		assert.Equal(t, agreed, terms.Agreed())
		return terms
	}
}

// asksOf are the files that are asked about, with who changed them.
func asksOf(t *prove.Terms) (out []string) {
	for _, f := range t.Asks {
		out = append(out, f.Path+f.Whose())
	}
	return out
}

// TestConsentIsAboutWhatRuns: it is asked for once for a check, again when others changed what it can run, and nothing
// in the repository gives it.
func TestConsentIsAboutWhatRuns(t *testing.T) {
	tm, look := consents(t, "Makefile", makefile, "rules.mk", "x = 1\n")
	s := tm.session()
	first := look(s)
	assert.False(t, first.Agreed(), "nobody was asked")
	assert.Empty(t, first.Asks)
	require.NoError(t, s.Prover.Asker.AgreeTo(first))
	assert.True(t, look(s).Agreed())

	tm.other.Commit("another rule", "rules.mk", "x = 2\n")
	tm.other.Git("push", "-q")
	changed := look(s)
	assert.False(t, changed.Agreed())
	assert.Equal(t, []string{"rules.mk by Ada Sund"}, asksOf(changed))
	assert.Equal(t, "another rule", changed.Asks[0].By[0].Subject())
	assert.NotEqual(t, first.Hash(), changed.Hash())
	assert.ErrorContains(t, &prove.UnagreedError{Terms: changed}, "was changed since: rules.mk by Ada Sund")
	assert.ErrorContains(t, &prove.UnagreedError{Terms: first}, "was never agreed to in this repository")
	tm.mine.Git("config", "filter.loud.smudge", "touch ran; cat")
	filtered := look(s)
	assert.False(t, filtered.Agreed())
	assert.Equal(t, []string{"loud: touch ran; cat"}, filtered.Filters)
	tm.mine.Git("config", "--unset", "filter.loud.smudge")
	require.NoError(t, s.Prover.Asker.AgreeTo(changed))

	// What is in the repository names a check, and agrees to none.
	tm.mine.Git("config", "dorvik.check", "touch ran")
	own := look(s)
	assert.False(t, own.Agreed())
	assert.Equal(t, []string{"touch ran"}, own.Command.Steps)
	tm.mine.Git("config", "--unset", "dorvik.check")
	s.Close()
	copied := t.TempDir()
	require.NoError(t, os.CopyFS(copied, os.DirFS(tm.mine.Dir)))
	for what, dir := range map[string]string{"a copy": copied, "another in its place": tm.mine.Dir} {
		if dir == tm.mine.Dir {
			require.NoError(t, os.WriteFile(filepath.Join(dir, ".git", "dorvik", "mark"), []byte("another"), 0o600))
		}
		s, err := OpenSession(t.Context(), dir)
		require.NoError(t, err)
		assert.False(t, look(s).Before, "%s was not agreed to", what)
		s.Close()
	}

	// The person's own configuration is agreement enough, until others change what it can run.
	gittest.Own(t, "dorvik.check", "make one")
	gittest.Own(t, "dorvik.check", "make test")
	s, err := OpenSession(t.Context(), copied)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	assert.Equal(t, []string{"rules.mk by Ada Sund"}, asksOf(look(s)))
	tm.other.Commit("as it was", "rules.mk", "x = 1\n")
	tm.other.Git("push", "-q")
	terms := look(s)
	assert.True(t, terms.Agreed())
	require.NoError(t, s.Prover.Asker.AgreeTo(terms))
	gittest.At(t, copied).Commit("again", "Makefile", makefile+"\techo\n")
	assert.True(t, look(s).Agreed(), "it is your own edit")
	tm.other.Commit("again, too", "Makefile", "# by theirs\n"+makefile)
	tm.other.Git("push", "-q")
	assert.Equal(t, []string{"Makefile by Ada Sund"}, asksOf(look(s)), "it is of both")
	require.NoError(t, s.Ledger.Trust("ada@skerry.example"))
	assert.True(t, look(s).Agreed(), "theirs is always run")
}

// TestWhatOthersChangedIsAsked: whatever of it a command can run, however it comes to it, and not the code under test.
func TestWhatOthersChangedIsAsked(t *testing.T) {
	const hostile = "touch ran\n"
	for name, c := range map[string]struct {
		check  string
		start  []string
		theirs []string
		asks   string
	}{
		"a second include": {"make", []string{"Makefile", "include a.mk b.mk\n"}, []string{"b.mk", hostile}, "b.mk"},
		"another folder": {"make -C sub", []string{"sub/Makefile", "all:\n"}, []string{"sub/Makefile", hostile},
			"sub/Makefile"},
		"going there": {"cd sub && make", []string{"sub/Makefile", "all:\n"},
			[]string{"sub/Makefile", hostile}, "sub/Makefile"},
		"one found first": {"make", []string{"Makefile", "all:\n"}, []string{"GNUmakefile", hostile},
			"GNUmakefile"},
		"a script's script": {"sh run.sh", []string{"run.sh", ". lib/all\n", "lib/all", ":\n"},
			[]string{"lib/all", hostile}, "lib/all"},
		"a named program": {"make", []string{"Makefile", "a:\n\tpython3 tools/gen.py\n", "tools/gen.py", ""},
			[]string{"tools/gen.py", hostile}, "tools/gen.py"},
		"that names another": {"make", []string{"Makefile", "a:\n\tpython3 gen.py\n", "gen.py", "run('deep.py')",
			"deep.py", ""}, []string{"deep.py", hostile}, "deep.py"},
		"settings": {"npm test", []string{"package.json", "{}"}, []string{".npmrc", "script-shell=./x\n"},
			".npmrc"},
		"a workspace": {"npm test", []string{"package.json", "{}"}, []string{"packages/a/package.json", "{}"},
			"packages/a/package.json"},
		"tests' settings": {"pytest", []string{"pytest.ini", ""}, []string{"tests/deep/conftest.py", hostile},
			"tests/deep/conftest.py"},
		"code under test": {"pytest", []string{"pytest.ini", "", "tide.py", ""},
			[]string{"tide.py", "x = 1\n", "test_tide.py", ""}, ""},
		"a document": {"make", []string{"Makefile", "all:\n"}, []string{"README.md", "# x\n"}, ""},
		"nothing go reads": {"go build ./... && go test ./...", []string{"go.mod", "module x\n"},
			[]string{"Makefile", hostile, "a.go", "package x\n"}, ""},
		"what go reads": {"go test ./...", []string{"go.mod", "module x\n"}, []string{"go.mod", "module y\n"},
			"go.mod"},
		"one it is to run by": {"go test -exec ./by ./...", []string{"by", "exec \"$@\"\n"}, []string{"by", hostile},
			"by"},
	} {
		t.Run(name, func(t *testing.T) {
			tm, look := consents(t, c.start...)
			gittest.Own(t, "dorvik.check", c.check)
			s := tm.session()
			terms := look(s)
			assert.True(t, terms.Agreed())
			require.NoError(t, s.Prover.Asker.AgreeTo(terms))
			tm.other.Commit("new", c.theirs...)
			tm.other.Git("push", "-q")
			now := look(s)
			assert.Equal(t, c.asks == "", now.Agreed())
			if c.asks != "" {
				assert.Equal(t, []string{c.asks + " by Ada Sund"}, asksOf(now))
			}

			if name != "a second include" {
				return // else by git, unseen
			}
			tm.mine.Git("pull", "-q", "--no-rebase", "--no-edit")
			tm.other.Commit("newer", "newer.md", "x\n")
			tm.other.Git("push", "-q")
			assert.Equal(t, asksOf(now), asksOf(look(s)))
		})
	}
}

// TestWhatWasTakenBackIsAskedToo: a commit of theirs that the next takes back is run by nothing unasked: not by the
// search for the two that collide, and not by a check of each commit.
func TestWhatWasTakenBackIsAskedToo(t *testing.T) {
	tm, look := consents(t, "Makefile", "all:\n\ttest ! -e b.md || test ! -e c.md\n")
	ran := filepath.Join(t.TempDir(), "ran")
	tm.other.Commit("hostile", "Makefile", "all:\n\ttouch "+ran+"\n")
	tm.other.Commit("as it was", "Makefile", "all:\n\ttest ! -e b.md || test ! -e c.md\n", "c.md", "c\n")
	tm.other.Git("push", "-q")
	tm.mine.Commit("b", "b.md", "b\n")
	gittest.Own(t, "dorvik.check", "make")
	s := tm.session()
	terms := look(s)
	assert.True(t, terms.Agreed())
	p, _, b := ready(t, s, plan.Merge, settle.Yours)
	proof, err := s.Prover.Prove(t.Context(), p, terms, b.Tip, func(string) {}, nil)
	require.NoError(t, err)
	assert.False(t, proof.Result.Passed)
	_, err = s.Prover.FindPair(t.Context(), p, terms, func(int, int) {})
	var asks *prove.UnagreedError
	require.ErrorAs(t, err, &asks)
	assert.Equal(t, []string{"Makefile by Ada Sund"}, asksOf(asks.Terms))
	assert.NoFileExists(t, ran)
	require.NoError(t, s.Prover.Asker.AgreeTo(asks.Terms))
	_, err = s.Prover.FindPair(t.Context(), p, terms, func(int, int) {})
	require.NoError(t, err)
	assert.FileExists(t, ran)
}

// TestFiltersAndDriversOfTheTree: a program of the person's own configuration that runs files of the repository runs
// them only as they were when that was agreed to.
func TestFiltersAndDriversOfTheTree(t *testing.T) {
	ran := filepath.Join(t.TempDir(), "ran")
	tm, look := consents(t, ".gitattributes", "*.up filter=up\nn merge=up\n", "tools/up.sh", "cat\n", "a.up", "a\n",
		"n", "1\n")
	tm.mine.Git("config", "filter.up.smudge", "sh tools/up.sh")
	gittest.Own(t, "merge.up.driver", "sh tools/join.sh %A")
	gittest.Own(t, "dorvik.up.agreed", "true")
	tm.mine.Commit("join", "tools/join.sh", "echo driven > $1\n", "n", "mine\n")
	tm.other.Commit("hostile", "tools/up.sh", "touch "+ran+"; cat\n", "b.up", "b\n", "n", "theirs\n")
	tm.other.Git("push", "-q")
	gittest.Own(t, "dorvik.check", "true")
	s := tm.session()
	terms := look(s)
	assert.Equal(t, []string{"tools/up.sh by Ada Sund"}, asksOf(terms), "the checkout would run it")
	p, j, b := ready(t, s, plan.Merge, settle.Yours)
	drivers, err := s.Workspace.Drivers.Unagreed(t.Context(), j)
	require.NoError(t, err)
	require.Len(t, drivers, 1)
	assert.Equal(t, []string{"tools/join.sh"}, drivers[0].Files())
	var asks *prove.UnagreedError
	_, err = s.Prover.LayOut(t.Context(), p, b.Tip, "")
	require.ErrorAs(t, err, &asks)
	_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
	require.ErrorAs(t, err, &asks)
	assert.ErrorContains(t, err, "others changed what that runs: tools/up.sh by Ada Sund")
	assert.NoFileExists(t, ran)
	require.NoError(t, s.Prover.Asker.AgreeTo(asks.Terms))
	require.NoError(t, s.Ledger.Agree(drivers[0].String()))
	p, j, b = ready(t, s, plan.Merge, settle.Yours)
	text, _, err := s.Planner.TextAt(t.Context(), j.Tree, "n")
	require.NoError(t, err)
	assert.Equal(t, "driven\n", text)
	_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	assert.Contains(t, tm.mine.Read("tools/up.sh"), "touch", "it is there, and may run")
}

// TestStepsAndEnvironment: the steps run in order until one fails, without secrets.
func TestStepsAndEnvironment(t *testing.T) {
	tm := newTeam(t)
	tm.diverge()
	t.Setenv("DEPLOY_TOKEN", "secret")
	t.Setenv("MY_API_KEY", "kept")
	gittest.Own(t, "dorvik.checkEnv", "MY_API_KEY")
	tm.mine.Git("config", "dorvik.checkEnv", "DEPLOY_TOKEN")
	for _, step := range []string{"echo $CI.$DEPLOY_TOKEN.$MY_API_KEY.$GIT_OPTIONAL_LOCKS",
		"echo no DEPLOY_TOKEN; exit 3",
		"echo late"} {
		tm.mine.Git("config", "--add", "dorvik.check", step)
	}
	s := tm.session()
	p, j, b := ready(t, s, plan.Merge, settle.Yours)
	terms, _, err := s.Prover.MayCheck(t.Context(), p, j.Tree)
	require.NoError(t, err)
	var out []string
	var begun []int
	proof, err := s.Prover.Prove(t.Context(), p, terms, b.Tip, func(l string) { out = append(out, l) },
		func(_ []check.Step, i int) { begun = append(begun, i) })
	require.NoError(t, err)
	assert.Equal(t,
		[]string{"true..kept.0", "no DEPLOY_TOKEN", "dorvik: DEPLOY_TOKEN is set for you and was not given " +
			"to the check; name it in “git config --global dorvik.checkEnv”"}, out)
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
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	s := tm.session()
	p, j, b := ready(t, s, plan.Merge, settle.Yours)
	run := func(line string) (passed bool, out string) {
		var said []string
		proof, err := s.Prover.Prove(t.Context(), p, termsOf(line, j.Tree), b.Tip,
			func(l string) { said = append(said, l) },
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
	_, err := s.Prover.Prove(t.Context(), p, termsOf("echo", j.Tree), b.Tip, func(string) {}, nil)
	assert.ErrorContains(t, err, "dorvik.checkMemory is much, which is no number of megabytes")
}

package recovery

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

var allHooks = []string{"pre-rebase", "pre-merge-commit", "pre-commit", "prepare-commit-msg", "commit-msg",
	"post-checkout", "post-merge", "post-rewrite", "pre-push"}

// hooked has every hook of a repository note how it was called, and what it saw.
func hooked(r *gittest.Repo, dir, said string) {
	for _, name := range allHooks {
		r.Write(dir+"/"+name, `#!/bin/sh
{
  echo "`+name+` $(for a in "$@"; do case $a in */*MSG) echo FILE;; *) echo $a;; esac; done | tr '\n' ' ')"
  case `+name+` in
    post-rewrite) cat;;
    pre-merge-commit|pre-commit) git diff --cached --name-only; git rev-parse -q --verify MERGE_HEAD; ls;;
    prepare-commit-msg) head -1 "$1"; echo "See 7." >> "$1";;
    commit-msg) tail -1 "$1";;
  esac
} >> '`+said+`'
`)
		if err := os.Chmod(filepath.Join(r.Dir, dir, name), 0o755); err != nil {
			panic(err)
		}
	}
}

// TestHooksRunAsByGit has git and Dorvik do the same in the same clone, and compares which hooks
// were run, with what words, and what they saw.
func TestHooksRunAsByGit(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		mine, theirs []string // files of the commits
		route        plan.Route
		git          []string
		same         []string // hooks that are to be called alike, with what they say
		reword       bool
	}{
		"a merge that joins by itself": {[]string{"m", "m\n"}, []string{"n", "n\n"}, plan.Merge,
			[]string{"merge", "-q", "--no-edit", "origin/main"}, []string{"pre-merge-commit", "post-merge"}, false},
		"a merge with a conflict": {[]string{"f", "mine\n"}, []string{"f", "theirs\n"}, plan.Merge,
			[]string{"merge", "-q", "origin/main"}, []string{"pre-commit"}, false},
		"moving forward": {nil, []string{"n", "n\n"}, plan.Route(plan.FastForward),
			[]string{"merge", "-q", "origin/main"},
			[]string{"post-merge"}, false},
		"a rebase": {[]string{"m", "m\n"}, []string{"n", "n\n"}, plan.Rebase, []string{"rebase", "-q", "origin/main"},
			[]string{"pre-rebase", "post-rewrite"}, false},
		"a rebase with a new message": {[]string{"m", "m\n"}, []string{"n", "n\n"}, plan.Rebase, nil,
			[]string{"pre-rebase", "commit-msg", "post-rewrite"}, true},
	} {
		t.Run(name, func(t *testing.T) {
			tm := newTeam(t)
			said := filepath.Join(t.TempDir(), "said")
			if c.mine != nil {
				tm.mine.Commit("mine", c.mine...)
			}
			tm.other.Commit("theirs", c.theirs...)
			tm.other.Git("push", "-q")
			tm.mine.Git("fetch", "-q")
			hooked(tm.mine, ".git/hooks", said)
			read := func() string {
				data, err := os.ReadFile(said)
				require.NoError(t, err)
				require.NoError(t, os.Remove(said))
				return string(data)
			}
			s := tm.session()
			if c.reword {
				require.NoError(t, s.Ledger.Request(idOf(t, tm.mine.Git("rev-parse", "main")),
					replay.Request{Message: "new\n"}))
			}
			before := tm.mine.Git("rev-parse", "main")
			p, j, b := ready(t, s, c.route, settle.Theirs)
			j.Route = c.route
			_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
			require.NoError(t, err)
			tip := tm.mine.Git("rev-parse", "main")
			ours := read()
			message := tm.mine.Git("log", "-1", "--format=%B")
			if c.route == plan.Merge || c.reword {
				assert.Contains(t, message, "See 7.", "what a hook writes into the message is in it")
				assert.Contains(t, ours, "commit-msg FILE \nSee 7.")
			}
			assert.Regexp(t,
				`^(merge origin/main: (Merge made by|Fast-forward)|commit \(merge\): Merge|rebase \(finish\): re`+
					`fs/heads/main onto )`,
				tm.mine.Git("reflog", "-1", "--format=%gs"))
			if c.git == nil {
				assert.Contains(t, ours, "post-rewrite rebase \n"+before+" "+tip+"\n")
				return
			}
			tm.mine.Git("reset", "-q", "--hard", before)
			if _, err := tm.mine.Try(c.git...); err != nil {
				tm.mine.Git("checkout", "--theirs", ".")
				tm.mine.Git("add", ".")
				tm.mine.Git("commit", "-q", "--no-edit")
			}
			theirs := strings.ReplaceAll(read(), tm.mine.Git("rev-parse", "main"), tip)
			for _, name := range c.same {
				assert.Equal(t, callOf(theirs, name), callOf(ours, name))
				assert.NotEmpty(t, callOf(ours, name))
			}
		})
	}
}

// TestRewrittenOfAFinishedRebase: the hook is told of the commits that git had made before it stopped,
// too, as git itself tells it at the end.
func TestRewrittenOfAFinishedRebase(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.mine.Commit("first", "m", "m\n")
	tm.mine.Commit("second", "f", "1\n")
	tm.mine.Commit("third", "n", "n\n")
	var was []string
	for _, rev := range []string{"main~2", "main~1", "main"} {
		was = append(was, tm.mine.Git("rev-parse", rev))
	}
	tm.other.Commit("theirs", "f", "2\n")
	tm.other.Git("push", "-q")
	tm.mine.Git("fetch", "-q")
	_, err := tm.mine.Try("rebase", "origin/main")
	require.Error(t, err)
	said := filepath.Join(t.TempDir(), "said")
	hooked(tm.mine, ".git/hooks", said)
	finishBy(t, tm.session(), ledger.Finish, plan.Rebase)
	want := "post-rewrite rebase \n"
	for i, rev := range []string{"main~2", "main~1", "main"} {
		want += was[i] + " " + tm.mine.Git("rev-parse", rev) + "\n"
	}
	data, err := os.ReadFile(said)
	require.NoError(t, err)
	assert.Equal(t, strings.TrimPrefix(want, "post-rewrite "), callOf(string(data), "post-rewrite"))
}

// callOf is what a hook said, from its name to the next one's.
func callOf(all, name string) string {
	_, rest, ok := strings.Cut("\n"+all, "\n"+name+" ")
	if !ok {
		return ""
	}
	end := len(rest)
	for _, next := range allHooks {
		if i := strings.Index(rest, "\n"+next+" "); i >= 0 {
			end = min(end, i+1)
		}
	}
	return rest[:end]
}

// TestAHookRefuses has each hook that can refuse do so: nothing is changed, and what it said is
// told; one that is told afterwards changes nothing.
func TestAHookRefuses(t *testing.T) {
	for _, name := range allHooks[:8] {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			tm := newTeam(t)
			tm.diverge()
			route := plan.Merge
			if strings.Contains(name, "re") && strings.Contains(name, "base") || name == "post-checkout" ||
				name == "post-rewrite" {
				route = plan.Rebase
			}
			if name == "pre-merge-commit" || name == "post-merge" {
				tm.mine.Git("reset", "-q", "--hard", "HEAD~1")
				tm.mine.Commit("mine", "m", "m\n")
			}
			tm.mine.Write(".git/hooks/"+name, "#!/bin/sh\necho not on a Friday\nexit 3\n")
			require.NoError(t, os.Chmod(filepath.Join(tm.mine.Dir, ".git/hooks", name), 0o755))
			s := tm.session()
			before, files := tm.mine.Git("rev-parse", "main"), gittest.Files(t, tm.mine.Dir)
			p, j, b := ready(t, s, route, settle.Theirs)
			_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
			if strings.HasPrefix(name, "post-") {
				require.NoError(t, err)
				assert.Contains(t, s.TakeNotice(), "not on a Friday")
				assert.Equal(t, b.Tip.String(), tm.mine.Git("rev-parse", "main"))
				return
			}
			var refused *vcs.HookError
			require.ErrorAs(t, err, &refused)
			assert.Equal(t, &vcs.HookError{Name: name, Said: []string{"not on a Friday"}, Code: 3}, refused)
			assert.Equal(t, before, tm.mine.Git("rev-parse", "main"))
			assert.Equal(t, files, gittest.Files(t, tm.mine.Dir))
			assert.Empty(t, tm.mine.Git("status", "--porcelain"))
		})
	}
}

// TestHooksInTheTreeAreAgreedTo holds that hooks which a commit can change run only as they were
// when they were agreed to.
func TestHooksInTheTreeAreAgreedTo(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.mine.Git("config", "core.hooksPath", "tools/hooks")
	said := filepath.Join(t.TempDir(), "said")
	hooked(tm.mine, "tools/hooks", said)
	tm.mine.Git("add", ".")
	tm.mine.Git("commit", "-q", "--no-verify", "-m", "hooks")
	tm.other.Commit("theirs", "n", "n\n")
	tm.other.Git("push", "-q")
	require.NoError(t, os.RemoveAll(said))
	s := tm.session()
	p, j, b := ready(t, s, plan.Rebase, settle.Theirs)
	_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
	var asks *change.HooksError
	require.ErrorAs(t, err, &asks)
	assert.Equal(t, []string{"pre-rebase", "post-checkout", "post-rewrite"}, asks.Names())
	assert.Equal(t, filepath.Join(tm.mine.Dir, "tools/hooks"), asks.Dir())

	_, err = s.Accept(t.Context(), p, j, b, change.Consent{WithoutHooks: true})
	require.NoError(t, err)
	assert.NoFileExists(t, said)
	assert.Contains(t, s.TakeNotice(), "were not run")
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)

	require.NoError(t, s.Applier.AgreeToHooks(t.Context(), asks.Hooks))
	p, j, b = ready(t, s, plan.Rebase, settle.Theirs)
	_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	assert.FileExists(t, said)
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)

	tm.mine.Write("tools/hooks/pre-rebase", "#!/bin/sh\n# another\n")
	p, j, b = ready(t, s, plan.Rebase, settle.Theirs)
	_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
	require.ErrorAs(t, err, &asks)
	assert.Equal(t, []string{"pre-rebase"}, asks.Names(), "it is another one now")
}

// TestNoHookOfTheTreeRunsUnasked: not by Dorvik and not by git as Dorvik has it work, in the working tree and in the
// checkout of a check; once they are agreed to git runs them, as long as they and what they name stay as they are.
func TestNoHookOfTheTreeRunsUnasked(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	ran := t.TempDir()
	var files []string
	for _, name := range []string{"reference-transaction", "post-index-change", "pre-push", "post-checkout",
		"post-merge"} {
		files = append(files, "hooks/"+name, "#!/bin/sh\ncat > /dev/null\nsh tools/note "+name+"\n")
	}
	tm.mine.Commit("hooks", append(files, "tools/note", "touch '"+ran+"'/$1\n")...)
	for _, name := range []string{"reference-transaction", "post-index-change", "pre-push", "post-checkout",
		"post-merge"} {
		require.NoError(t, os.Chmod(filepath.Join(tm.mine.Dir, "hooks", name), 0o755))
	}
	tm.mine.Git("commit", "-qam", "executable")
	tm.mine.Git("push", "-q")
	tm.other.Git("pull", "-q")
	tm.diverge()
	tm.mine.Git("config", "core.hooksPath", "hooks")
	all := func() (names string) {
		entries, err := os.ReadDir(ran)
		require.NoError(t, err)
		for _, e := range entries {
			names += e.Name() + " "
			require.NoError(t, os.Remove(filepath.Join(ran, e.Name())))
		}
		return names
	}
	s := tm.session()
	run := func(consent change.Consent) error {
		p, j, b := ready(t, s, plan.Merge, settle.Yours)
		_, _, err := s.Prover.RunCheck(t.Context(), p, termsOf("true", j.Tree).Command, b.Tip, func(string) {}, nil)
		require.NoError(t, err)
		if _, err = s.Accept(t.Context(), p, j, b, consent); err == nil {
			_, err = s.Push.Tip(t.Context(), p, consent)
		}
		return err
	}
	var asks *change.HooksError
	require.ErrorAs(t, run(change.Consent{}), &asks)
	assert.Equal(t, []string{"reference-transaction", "post-index-change"}, asks.Names())
	require.NoError(t, run(change.Consent{WithoutHooks: true}))
	assert.Contains(t, s.TakeNotice(), "pre-push and reference-transaction were not run")
	assert.Empty(t, all())

	tm.other.Git("pull", "-q")
	again := func(theirs ...string) {
		tm.other.Commit("theirs", theirs...)
		tm.other.Git("push", "-q")
		tm.mine.Write("x.md", tm.mine.Read("x.md")+"mine\n")
		tm.mine.Git("add", ".")
		tm.mine.Git("-c", "core.hooksPath=/dev/null", "commit", "-qm", "mine")
	}
	tm.mine.Write("x.md", "")
	again("more.md", "more\n")
	all()
	require.ErrorAs(t, run(change.Consent{}), &asks)
	require.NoError(t, s.Applier.AgreeToHooks(t.Context(), asks.Hooks))
	require.ErrorAs(t, run(change.Consent{}), &asks)
	assert.Equal(t, []string{"pre-push"}, asks.Names())
	require.NoError(t, s.Applier.AgreeToHooks(t.Context(), asks.Hooks))
	p, err := s.Locate(t.Context(), false)
	require.NoError(t, err)
	_, err = s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	assert.Equal(t, "post-index-change post-merge pre-push reference-transaction ", all())
	s.Close()

	tm.other.Git("pull", "-q")
	again("tools/note", "touch '"+ran+"'/theirs-$1\n")
	all()
	s = tm.session()
	require.NoError(t, run(change.Consent{WithoutHooks: true}))
	assert.NotContains(t, all(), "theirs")
	assert.Contains(t, s.TakeNotice(), "not run")
}

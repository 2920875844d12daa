package svn

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/svntest"
	"dorvik.dev/dorvik/internal/vcs"
)

// TestRefusals provokes each refusal by a real svn.
func TestRefusals(t *testing.T) {
	svntest.Isolate(t)
	for _, row := range []struct {
		name  string
		is    vcs.RefusalKind
		words string
		make  func(t *testing.T, repo string, ilka, runa *svntest.Copy)
	}{
		{"out of date", vcs.Behind, "is out of date", func(t *testing.T, _ string, ilka, runa *svntest.Copy) {
			ilka.Write("f", "theirs\n")
			ilka.Commit("theirs")
		}},
		{"a hook", vcs.ServerRule, "name a task", func(t *testing.T, repo string, _, _ *svntest.Copy) {
			hook := filepath.Join(repo, "hooks", "pre-commit")
			require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\necho name a task >&2\nexit 1\n"), 0o755))
		}},
		{"a lock", vcs.Locked, "locked by 'ilka'", func(t *testing.T, _ string, ilka, _ *svntest.Copy) {
			ilka.Svn("lock", "-q", "f")
		}},
		{"no repository", vcs.Missing, "", func(t *testing.T, repo string, _, _ *svntest.Copy) {
			require.NoError(t, os.Rename(repo, repo+".away"))
		}},
	} {
		t.Run(row.name, func(t *testing.T) {
			url := svntest.Repository(t)
			ilka := svntest.Checkout(t, url+"/trunk", "ilka")
			ilka.Write("f", "base\n")
			ilka.Commit("start")
			runa := svntest.Checkout(t, url+"/trunk", "runa")
			row.make(t, url[len("file://"):], ilka, runa)
			runa.Write("f", "mine\n")
			out, err := runa.Try("commit", "-q", "-m", "mine")
			require.Error(t, err)
			refusal := refusalOf(linesOf(out))
			assert.Equal(t, row.is, refusal.Kind, out)
			assert.Contains(t, out, row.words)
			assert.NotContains(t, refusal.Error(), "details follow")
		})
	}
}

// TestAServerWithoutAnAnswer: nobody listens there.
func TestAServerWithoutAnAnswer(t *testing.T) {
	svntest.Isolate(t)
	out, err := exec.Command("svn", "info", "--non-interactive", "svn://127.0.0.1:9/trunk").CombinedOutput()
	require.Error(t, err)
	assert.Equal(t, vcs.Unreachable, refusalOf(linesOf(string(out))).Kind, "%s", out)
}

func TestLocks(t *testing.T) {
	svntest.Isolate(t)
	url := svntest.Repository(t)
	ilka := svntest.Checkout(t, url+"/trunk", "ilka")
	for _, name := range []string{"a", "b", "c", "d"} {
		ilka.Write(name, "base\n")
	}
	ilka.Commit("start")
	runa := svntest.Checkout(t, url+"/trunk", "runa")
	ilka.Svn("lock", "-q", "-m", "drawing the pier", "a")
	runa.Svn("lock", "-q", "b", "c")
	ilka.Svn("lock", "-q", "--force", "b")
	runa.Svn("unlock", "-q", "--force", url+"/trunk/c")
	r := open(t, runa)
	r.svn.user = "runa"
	require.NoError(t, r.Held.Ask(ctx))
	list, err := r.Held.Locks(ctx)
	require.NoError(t, err)
	for i := range list {
		assert.Equal(t, list[i].Owner == "", list[i].Since.IsZero())
		list[i].Since = list[0].Since
	}
	assert.Equal(t, []vcs.Lock{{Path: "a", Owner: "ilka", Why: "drawing the pier"}, {Path: "b", Owner: "ilka",
		Broken: true},
		{Path: "c", Broken: true}}, without(list))

	refused := (*vcs.Refusal)(nil)
	require.ErrorAs(t, r.Held.Lock(ctx, []string{"a"}, "mine", false), &refused)
	assert.Equal(t, vcs.Locked, refused.Kind)
	require.NoError(t, r.Held.Lock(ctx, []string{"a", "d"}, "mine", true))
	require.NoError(t, r.Held.Unlock(ctx, []string{"d"}))
	list, err = r.Held.Locks(ctx)
	require.NoError(t, err)
	assert.Equal(t, vcs.Lock{Path: "a", Owner: "runa", Why: "mine", Mine: true}, without(list)[0])

	require.NoError(t, r.Held.Free(ctx, []string{"d"}))
	require.True(t, errors.As(r.Held.Free(ctx, []string{"d", propPath("b", "svn:eol-style")}), &refused))
	assert.Equal(t, vcs.Locked, refused.Kind)
	assert.Contains(t, refused.Words[0], "b is locked by ilka since")
	wanted, err := r.Held.Lockable(ctx, []string{"a", "b"})
	require.NoError(t, err)
	assert.Empty(t, wanted)
	runa.Svn("propset", "-q", "svn:needs-lock", "*", "b")
	_, _, err = r.Status(ctx) // what is asked of locks goes by the last look
	require.NoError(t, err)
	wanted, err = r.Held.Lockable(ctx, []string{"a", "b"})
	require.NoError(t, err)
	assert.Equal(t, []string{"b"}, wanted)
}

// without returns locks without their times.
func without(list []vcs.Lock) []vcs.Lock {
	for i := range list {
		list[i].Since = vcs.Lock{}.Since
	}
	return list
}

// TestLogin: a server that wants a password is asked with what the person says, and a wrong answer is forgotten.
func TestLogin(t *testing.T) {
	svntest.Isolate(t)
	repo := svntest.Repository(t)[len("file://"):]
	for name, text := range map[string]string{
		"svnserve.conf": "[general]\nanon-access = none\npassword-db = passwd\nrealm = skerry\n",
		"passwd":        "[users]\nruna = tide\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(repo, "conf", name), []byte(text), 0o600))
	}
	address := svntest.Serve(t, repo)
	runa := svntest.At(t, t.TempDir(), "runa")
	runa.Svn("checkout", "-q", "--password", "tide", "--no-auth-cache", address+"/trunk", ".")
	r := open(t, runa)
	refused := (*vcs.Refusal)(nil)
	require.ErrorAs(t, r.Fetch(ctx, repository), &refused)
	assert.Equal(t, vcs.NoLogin, refused.Kind)

	asked := filepath.Join(t.TempDir(), "asked")
	helper := func(word string) {
		at := filepath.Join(t.TempDir(), "ask")
		text := "#!/bin/sh\necho \"$1\" >> " + asked + "\ncase $1 in User*) echo runa ;; *) echo " + word + " ;; esac\n"
		require.NoError(t, os.WriteFile(at, []byte(text), 0o755))
		r.AskBy([]string{"SSH_ASKPASS=" + at})
	}
	helper("wrong")
	require.ErrorAs(t, r.Fetch(ctx, repository), &refused)
	assert.Equal(t, vcs.NoLogin, refused.Kind)
	helper("tide")
	require.NoError(t, r.Fetch(ctx, repository))
	text, err := os.ReadFile(asked)
	require.NoError(t, err)
	assert.Contains(t, string(text), "User name for ")
	assert.Contains(t, string(text), "Password for ")
	require.NoError(t, os.Remove(asked))
	require.NoError(t, r.Fetch(ctx, repository), "the answer is kept")
	assert.NoFileExists(t, asked)
}

// TestTheProjectSaysHowTasksAreNamed by properties that several programs read, unless a setting does.
func TestTheProjectSaysHowTasksAreNamed(t *testing.T) {
	svntest.Isolate(t)
	url := svntest.Repository(t)
	c := svntest.Checkout(t, url+"/trunk", "runa")
	for _, is := range []struct {
		props           map[string]string
		reference, form string
		wanted          bool
	}{
		{nil, "", "", false},
		{map[string]string{"bugtraq:message": "Task: %BUGID%", "bugtraq:warnifnoissue": "true"},
			`(?i)Task: ([0-9]+)`, "Task: {task}", true},
		{map[string]string{"bugtraq:number": "false"}, `(?i)Task: ([^\s,]+)`, "Task: {task}", true},
		{map[string]string{"bugtraq:logregex": "tasks? \\d+(, ?\\d+)*\n(\\d+)"}, `(\d+)`, "Task: {task}", true},
	} {
		for name, value := range is.props {
			c.Svn("propset", "-q", name, value, ".")
		}
		r := open(t, c)
		reference, err := r.Config(ctx, "dorvik.reference")
		require.NoError(t, err)
		form, err := r.Config(ctx, "dorvik.taskForm")
		require.NoError(t, err)
		wanted, err := r.Flag(ctx, "dorvik.referenceWanted")
		require.NoError(t, err)
		assert.Equal(t, []any{is.reference, is.form, is.wanted}, []any{reference, form, wanted})
	}
	r := open(t, c)
	require.NoError(t, r.SetConfig(ctx, "dorvik.reference", "X-[0-9]+"))
	said, err := r.Config(ctx, "dorvik.reference")
	require.NoError(t, err)
	assert.Equal(t, "X-[0-9]+", said)
}

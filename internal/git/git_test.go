package git

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/vcs"
)

func open(t *testing.T, dir string) *Repo {
	r, err := Open(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(r.Close)
	return r
}

func TestParsePush(t *testing.T) {
	const head = "To /srv/x.git\n"
	for _, c := range []struct {
		name, stdout, stderr string
		exit                 int
		kind                 vcs.RefusalKind
		words                string
	}{
		{"accepted", head + " \tabc:refs/heads/main\t1..2\nDone\n", "", 0, "", ""},
		{"fetch first", head + "!\tabc:refs/heads/main\t[rejected] (fetch first)\nDone\n",
			"error: failed to push some refs\nhint: Updates were rejected", 1, vcs.Behind, ""},
		{"non-fast-forward", head + "!\tabc:refs/heads/main\t[rejected] (non-fast-forward)\nDone\n", "", 1,
			vcs.Behind, ""},
		{"lost a race on the server", head + "!\tabc:refs/heads/main\t[remote rejected] (failed to update ref)\n",
			"", 1, vcs.Behind, ""},
		{"hook", head + "!\tabc:refs/heads/main\t[remote rejected] (pre-receive hook declined)\n",
			"remote: No pushes on Fridays.        \nremote: \nremote: Ask Mato.\n", 1, vcs.ServerRule,
			"No pushes on Fridays.|Ask Mato."},
		{"somebody's lock", head + "!\tabc:refs/heads/main\t[remote rejected] (pre-receive hook declined)\n",
			"remote: pier.png is locked by Mato since Monday\n", 1, vcs.Locked,
			"pier.png is locked by Mato since Monday"},
		{"protected", head + "!\tabc:refs/heads/main\t[remote rejected] (protected branch hook declined)\n",
			"remote: error: Protected.\n", 1, vcs.Protected, "error: Protected."},
		{"a lock", head + "!\tabc:refs/heads/main\t[remote rejected] (failed to update ref)\n",
			"remote: error: cannot lock ref 'refs/heads/main': Unable to create '/srv/x.git/refs/heads/main.lock': File " +
				"exists.\n", 1, vcs.Busy, "error: cannot lock ref 'refs/heads/main': Unable to create " +
				"'/srv/x.git/refs/heads/main.lock': File exists."},
		{"protected by its words", head + "!\tabc:refs/heads/main\t[remote rejected] (pre-receive hook declined)\n",
			"remote: You may not push to this protected branch.\n", 1, vcs.Protected,
			"You may not push to this protected branch."},
		{"size", head + "!\tabc:refs/heads/main\t[remote rejected] (pre-receive hook declined)\n",
			"remote: pier.bin exceeds the file size limit of 50 MB\n", 1, vcs.Size,
			"pier.bin exceeds the file size limit of 50 MB"},
		{"host key", "", "Host key verification failed.\nfatal: Could not read from remote repository.\n", 128,
			vcs.HostUnknown,
			"Host key verification failed.|fatal: Could not read from remote repository."},
		{"permission", head + "!\tabc:refs/heads/main\t[remote rejected] (permission denied)\n", "", 1, vcs.NoAccess,
			""},
		{"local hook", "", "the tests fail\nerror: failed to push some refs to '/srv/x.git'\n", 1, vcs.LocalHook,
			"the tests fail|error: failed to push some refs to '/srv/x.git'"},
		{"ssh key", "", "git@x: Permission denied (publickey).\nfatal: Could not read from remote repository.\n",
			128, vcs.NoLogin, "git@x: Permission denied (publickey).|fatal: Could not read from remote repository."},
		{"password", "", "fatal: could not read Username for 'http://x': terminal prompts disabled\n", 128, vcs.NoLogin,
			"fatal: could not read Username for 'http://x': terminal prompts disabled"},
		{"no network", "", "fatal: unable to access 'http://x/': Could not resolve host: x\n", 128, vcs.NoHost,
			"fatal: unable to access 'http://x/': Could not resolve host: x"},
		{"no repository", "", "fatal: '/nowhere' does not appear to be a git repository\n", 128, vcs.Missing,
			"fatal: '/nowhere' does not appear to be a git repository"},
		{"something else", "", "fatal: the sky fell\n", 128, vcs.Other, "fatal: the sky fell"},
		{"rubbish", "!\n!\t\n\t\t\n", "", 1, vcs.Other, ""},
	} {
		got := parsePush(c.stdout, c.stderr, c.exit)
		if c.kind == "" {
			assert.Nil(t, got, c.name)
			continue
		}
		require.NotNil(t, got, c.name)
		assert.Equal(t, c.kind, got.Kind, c.name)
		assert.Equal(t, c.words, strings.Join(got.Words, "|"), c.name)
		assert.NotEmpty(t, got.Error(), c.name)
	}
}

// TestALockOfADeadGitIsNamed, wherever it is.
func TestALockOfADeadGitIsNamed(t *testing.T) {
	ctx := t.Context()
	_, clone, other := gittest.Team(t, "f", "1\n")
	other.Commit("two", "f", "2\n")
	other.Git("push", "-q")
	r, err := Open(ctx, clone.Dir)
	require.NoError(t, err)
	defer r.Close()
	tip, err := r.Resolve(ctx, "HEAD")
	require.NoError(t, err)
	for name, do := range map[string]func() error{
		"refs/remotes/origin/main": func() error { return r.Fetch(ctx, "origin") },
		"refs/heads/new": func() error {
			return r.UpdateRefs(ctx, "new",
				vcs.RefUpdate{Name: "refs/heads/new", New: tip})
		},
	} {
		lock := filepath.Join(clone.Dir, ".git", name+".lock")
		require.NoError(t, os.WriteFile(lock, nil, 0o644))
		var locked *vcs.LockedError
		require.ErrorAs(t, do(), &locked, name)
		assert.Equal(t, lock, locked.Path)
		require.NoError(t, os.Remove(lock))
		assert.NoError(t, do(), name)
	}
}

func FuzzParsePush(f *testing.F) {
	f.Add("!\ta:b\t[rejected] (fetch first)\n", "remote: no\n", 1)
	f.Fuzz(func(t *testing.T, out, errs string, exit int) {
		r := parsePush(out, errs, exit)
		assert.Equal(t, exit == 0, r == nil)
		if r != nil {
			assert.NotEmpty(t, r.Error())
		}
	})
}

func TestRealPushes(t *testing.T) {
	gittest.Isolate(t)
	server := gittest.New(t, "--bare")
	first := gittest.New(t)
	first.Commit("one", "a", "1\n")
	first.Git("remote", "add", "origin", server.Dir)
	first.Git("push", "-q", "-u", "origin", "main")
	clone := server.Clone()
	clone.Commit("two", "b", "2\n")
	late := first.Commit("late", "c", "3\n")

	push := func(dir, rev string) *vcs.Refusal {
		r := open(t, dir)
		tip, err := r.Resolve(t.Context(), rev)
		require.NoError(t, err)
		_, err = r.Push(t.Context(), vcs.Sending{Remote: "origin", Ref: "refs/heads/main", Tip: tip})
		if err == nil {
			return nil
		}
		refusal, ok := err.(*vcs.Refusal)
		require.True(t, ok, "%v", err)
		return refusal
	}
	assert.Nil(t, push(clone.Dir, "HEAD"))
	assert.Equal(t, vcs.Behind, push(first.Dir, "HEAD").Kind)
	assert.Equal(t, late, first.Git("rev-parse", "main"))

	hook := filepath.Join(server.Dir, "hooks", "pre-receive")
	require.NoError(t, os.MkdirAll(filepath.Dir(hook), 0o755))
	gittest.Program(t, hook, "#!/bin/sh\necho 'No pushes on Fridays.'\nexit 1\n")
	clone.Commit("three", "b", "3\n")
	refusal := push(clone.Dir, "HEAD")
	assert.Equal(t, vcs.ServerRule, refusal.Kind)
	assert.Equal(t, []string{"No pushes on Fridays."}, refusal.Words)

	hook = filepath.Join(clone.Dir, ".git", "hooks", "pre-push")
	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\necho 'running the tests'\necho 'tests fail' >&2\nexit "+
		"1\n"), 0o755))
	refusal = push(clone.Dir, "HEAD")
	assert.Equal(t, vcs.LocalHook, refusal.Kind)
	assert.Equal(t, []string{"running the tests", "tests fail"}, refusal.Words[:2])

	first.Git("remote", "set-url", "origin", filepath.Join(t.TempDir(), "gone"))
	assert.Equal(t, vcs.Missing, push(first.Dir, "HEAD").Kind)
	r := open(t, first.Dir)
	var unreachable *vcs.Refusal
	require.ErrorAs(t, r.Fetch(t.Context(), "origin"), &unreachable)
	assert.Equal(t, vcs.Missing, unreachable.Kind)
	_, err := r.RemoteTip(t.Context(), "origin", "refs/heads/main")
	assert.ErrorAs(t, err, &unreachable)
}

func TestOpen(t *testing.T) {
	gittest.Isolate(t)
	for _, format := range []string{"sha1", "sha256"} {
		g := gittest.New(t, "--object-format="+format)
		tip := g.Commit("one", "d/f", "text\n")
		r := open(t, filepath.Join(g.Dir, "d"))
		assert.Equal(t, g.Git("rev-parse", "--show-toplevel"), r.Dir)
		id, err := r.Resolve(t.Context(), "main")
		require.NoError(t, err)
		assert.Equal(t, tip, id.String())
		kind, data, err := r.Read(t.Context(), id)
		require.NoError(t, err)
		assert.Equal(t, object.KindCommit, kind)
		assert.Equal(t, id, r.Format.Sum(kind, data))
		_, _, err = r.Read(t.Context(), r.Format.Sum(object.KindBlob, []byte("not here")))
		assert.ErrorIs(t, err, object.ErrMissing)
		r.Close() // it starts again when it is needed
		_, _, err = r.Read(t.Context(), id)
		assert.NoError(t, err)
		_, err = r.Resolve(t.Context(), "--help")
		assert.Error(t, err)
	}
	_, err := Open(t.Context(), t.TempDir())
	assert.ErrorIs(t, err, ErrNotRepo)
	_, err = Open(t.Context(), gittest.New(t, "--bare").Dir)
	assert.ErrorIs(t, err, ErrBare)
	_, err = Open(t.Context(), filepath.Join(t.TempDir(), "nowhere"))
	assert.ErrorContains(t, err, "no such folder")
	t.Setenv("PATH", t.TempDir())
	_, err = Open(t.Context(), t.TempDir())
	assert.ErrorIs(t, err, ErrNoGit)
}

func TestForbiddenCommandsNeverStart(t *testing.T) {
	gittest.Isolate(t)
	r := open(t, gittest.New(t).Dir)
	for _, args := range [][]string{{"merge", "x"}, {"-c", "user.name=A", "rebase"}, {"diff"}, {"stash"}, {"apply"},
		{"-c", "merge"}, {"cherry-pick"}, {"rerere"}, {"patch-id"}, {}} {
		_, err := r.run(t.Context(), "trying", args...)
		assert.ErrorAs(t, err, &notAllowed{}, args)
	}
	_, err := r.run(t.Context(), "trying", "-c", "core.quotePath=false", "rev-parse", "--git-dir")
	assert.NoError(t, err)
}

func TestStatus(t *testing.T) {
	gittest.Isolate(t)
	g := gittest.New(t)
	r := open(t, g.Dir)
	b, dirty, err := r.Status(t.Context())
	require.NoError(t, err)
	assert.True(t, b.Tip.IsZero())
	assert.Empty(t, dirty)

	g.Commit("one", "a b", "1\n", "c", "1\n", "d", "1\n", "gone", "1\n")
	clone := g.Clone()
	clone.Write("a b", "2\n")
	clone.Git("add", "a b")
	clone.Write("a b", "3\n")
	clone.Write("c", "2\n")
	clone.Write("new/x", "1\n")
	clone.Git("mv", "d", "e")
	require.NoError(t, os.Remove(filepath.Join(clone.Dir, "gone")))
	b, dirty, err = open(t, clone.Dir).Status(t.Context())
	require.NoError(t, err)
	for i := range dirty { // ids are of what this test wrote
		assert.Equal(t, dirty[i].Untracked || dirty[i].Path == "d", dirty[i].Index.Absent(), dirty[i].Path)
		dirty[i].Index = object.Entry{}
	}
	assert.Equal(t, vcs.Branch{Name: "main", Tip: b.Tip, Upstream: "origin/main", Tracking: "refs/remotes/origin/main",
		Remote: "origin", Ref: "refs/heads/main"}, b)
	assert.ElementsMatch(t, []vcs.Dirty{{Path: "a b", Staged: true, Unstaged: true}, {Path: "c", Unstaged: true},
		{Path: "d", Staged: true},
		{Path: "e", Staged: true}, {Path: "gone", Unstaged: true}, {Path: "new/", Untracked: true}}, dirty)

	for _, bad := range []string{"1 x", "1 M. a b c", "# branch.oid zzz", "u UU a b c d e f g"} {
		_, _, err := parseStatus(bad)
		assert.Error(t, err, bad)
	}
}

func TestRefsMoveTogetherOrNotAtAll(t *testing.T) {
	gittest.Isolate(t)
	g := gittest.New(t)
	one, two := g.Commit("one"), g.Commit("two")
	r := open(t, g.Dir)
	a, err := object.ParseID(one)
	require.NoError(t, err)
	b, err := object.ParseID(two)
	require.NoError(t, err)
	require.NoError(t, r.UpdateRefs(t.Context(), "m", vcs.RefUpdate{Name: "refs/x/a", New: a},
		vcs.RefUpdate{Name: "refs/x/b", New: b}))
	err = r.UpdateRefs(t.Context(), "m", vcs.RefUpdate{Name: "refs/x/a", New: b, Old: a},
		vcs.RefUpdate{Name: "refs/x/b",
			New: a, Old: a})
	var moved *vcs.RefMovedError
	require.ErrorAs(t, err, &moved)
	assert.Equal(t, "refs/x/b", moved.Name)
	at, err := r.Ref(t.Context(), "refs/x/a")
	require.NoError(t, err)
	assert.Equal(t, a, at)
	require.NoError(t, r.UpdateRefs(t.Context(), "m", vcs.RefUpdate{Name: "refs/x/a", Old: a}))
	at, err = r.Ref(t.Context(), "refs/x/a")
	require.NoError(t, err)
	assert.True(t, at.IsZero())
}

func TestCheckout(t *testing.T) {
	gittest.Isolate(t)
	g := gittest.New(t)
	one, two := g.Commit("one", "a", "1\n", "b", "1\n"), g.Commit("two", "a", "2\n")
	r := open(t, g.Dir)
	dir := builds(t, r)
	at := func(rev string) string {
		id, err := object.ParseID(rev)
		require.NoError(t, err)
		co, err := r.OpenCheckout(t.Context(), "check", id)
		require.NoError(t, err)
		return gittest.At(t, co.Dir).Read("a")
	}
	assert.Equal(t, "2\n", at(two))
	inside := gittest.At(t, dir)
	inside.Write("built", "x")
	inside.Write("b", "spoilt by a build\n")
	st, err := os.Stat(filepath.Join(dir, "a"))
	require.NoError(t, err)
	assert.Equal(t, "2\n", at(two))
	again, err := os.Stat(filepath.Join(dir, "a"))
	require.NoError(t, err)
	assert.Equal(t, st.ModTime(), again.ModTime(), "what did not change is not written again")
	assert.Equal(t, "1\n", inside.Read("b"), "what a build changed is put right")
	assert.Equal(t, "x", inside.Read("built"), "what a build made stays")
	assert.Equal(t, "1\n", at(one))
	assert.Equal(t, one, inside.Git("rev-parse", "HEAD"))
	assert.Equal(t, two, g.Git("rev-parse", "HEAD"), "the person's HEAD is not moved")
	assert.Empty(t, g.Git("status", "--porcelain"))

	require.NoError(t, os.Remove(filepath.Join(dir, ".git")))
	assert.Equal(t, "2\n", at(two), "a broken checkout is made anew")
}

// TestACheckoutTouchesOnlyItsOwnRecord: a person's own working tree that is unplugged stays on
// record, and a copy of a clone does not work in the original's checkout.
func TestACheckoutTouchesOnlyItsOwnRecord(t *testing.T) {
	gittest.Isolate(t)
	g := gittest.New(t)
	g.Commit("one", "a", "1\n")
	r := open(t, g.Dir)
	tip, err := r.Resolve(t.Context(), "HEAD")
	require.NoError(t, err)
	stick := filepath.Join(t.TempDir(), "stick")
	g.Git("worktree", "add", "-q", "--detach", stick)
	require.NoError(t, os.Rename(stick, stick+" unplugged"))
	check := builds(t, r)
	_, err = r.OpenCheckout(t.Context(), "check", tip)
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(check))
	_, err = r.OpenCheckout(t.Context(), "check", tip)
	require.NoError(t, err, "what is left of it is no hindrance")
	require.NoError(t, os.Rename(stick+" unplugged", stick))
	assert.Contains(t, g.Git("worktree", "list"), stick)
	assert.Empty(t, gittest.At(t, stick).Git("status", "--porcelain"))

	copied := filepath.Join(t.TempDir(), "copy")
	require.NoError(t, os.CopyFS(copied, os.DirFS(g.Dir)))
	require.NoError(t, os.WriteFile(filepath.Join(check, "built"), []byte("by the original\n"), 0o644))
	c := open(t, copied)
	own := builds(t, c)
	_, err = c.OpenCheckout(t.Context(), "check", tip)
	require.NoError(t, err)
	assert.FileExists(t, filepath.Join(check, "built"), "the original's is not touched")
	assert.NotEqual(t, check, own)
	assert.True(t, c.holdsCheckout(t.Context(), own))
	assert.True(t, r.holdsCheckout(t.Context(), check))
	assert.False(t, r.holdsCheckout(t.Context(), own))
	assert.False(t, strings.HasPrefix(own, copied), "tools that look upward do not find what lies beside the project")

	require.NoError(t, os.RemoveAll(copied))
	require.NoError(t, os.RemoveAll(check))
	_, err = r.OpenCheckout(t.Context(), "check", tip)
	require.NoError(t, err)
	assert.NoDirExists(t, filepath.Dir(own), "the checkout of a repository that is gone goes, too")
	t.Setenv("HOME", "/dev/null")
	assert.Equal(t, filepath.Join(r.GitDir, "dorvik", "check"), builds(t, r), "without a cache")
	g.Git("config", "dorvik.builds", "../elsewhere")
	assert.Equal(t, filepath.Join(filepath.Dir(g.Dir), "elsewhere"),
		filepath.Dir(filepath.Dir(builds(t, open(t, g.Dir)))))
}

// builds is the directory of a repository's checkout for the check.
func builds(t *testing.T, r *Repo) string {
	dir, err := r.Builds(t.Context())
	require.NoError(t, err)
	return filepath.Join(dir, "check")
}

package git

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/vcs"
)

// pair is a clone with one commit, and its remote.
func pair(t *testing.T) (mine *gittest.Repo, remote *gittest.Repo) {
	gittest.Isolate(t)
	remote = gittest.New(t, "--bare")
	seed := gittest.New(t)
	seed.Commit("base", "a", "1\n", "dir/b", "b\n")
	seed.Git("push", "-q", remote.Dir, "main")
	return remote.Clone(), remote
}

func id(t *testing.T, r *gittest.Repo, rev string) object.ID {
	id, err := object.ParseID(r.Git("rev-parse", rev))
	require.NoError(t, err)
	return id
}

func TestWhereOneIs(t *testing.T) {
	mine, _ := pair(t)
	r, ctx := open(t, mine.Dir), t.Context()
	b, err := r.Current(ctx)
	require.NoError(t, err)
	assert.Equal(t, vcs.Branch{Name: "main", Tip: id(t, mine, "HEAD"), Upstream: "origin/main",
		Tracking: "refs/remotes/origin/main",
		Remote:   "origin", Ref: "refs/heads/main"}, b)
	mine.Git("checkout", "-q", "--detach")
	b, err = r.Current(ctx)
	require.NoError(t, err)
	assert.Equal(t, vcs.Branch{Tip: id(t, mine, "HEAD")}, b, "a detached HEAD is on no branch")
	mine.Git("checkout", "-q", "--orphan", "new")
	b, err = r.Current(ctx)
	require.NoError(t, err)
	assert.Equal(t, "new", b.Name)
	assert.True(t, b.Tip.IsZero(), "an unborn branch has no commit")
}

func TestWhatWasFetched(t *testing.T) {
	mine, remote := pair(t)
	r, ctx := open(t, mine.Dir), t.Context()
	const tracking = "refs/remotes/origin/main"
	other := remote.Clone()
	other.Commit("theirs", "c", "c\n")
	other.Git("push", "-q")
	before := time.Now().Add(-time.Minute)
	require.NoError(t, r.Fetch(ctx, "origin"))
	theirs := id(t, mine, tracking)
	assert.Contains(t, r.Fetched(ctx, tracking), theirs)
	assert.True(t, r.FetchedAt(ctx, "origin", tracking).After(before))
	mine.Git("reset", "-q", "--hard", "origin/main")
	pushed := mine.Commit("mine", "d", "d\n")
	mine.Git("push", "-q")
	for _, c := range r.Fetched(ctx, tracking) {
		assert.NotEqual(t, pushed, c.String(), "what a push from here put there was not fetched")
	}
	on, err := r.OnRemote(ctx, theirs)
	require.NoError(t, err)
	assert.Equal(t, "origin/main", on)
	on, err = r.OnRemote(ctx, id(t, mine, mine.Commit("unpushed", "e", "e\n")))
	require.NoError(t, err)
	assert.Empty(t, on)
	loose, missing := id(t, mine, "HEAD"), object.SHA1.Sum(object.KindCommit, []byte("a shallow clone lacks it"))
	unpushed, err := r.Unpushed(ctx, []object.ID{loose, id(t, mine, pushed)}, []object.ID{theirs, missing})
	require.NoError(t, err)
	assert.Equal(t, map[object.ID]bool{loose: true}, unpushed)
	at, err := r.RemoteTip(ctx, "origin", "refs/heads/main")
	require.NoError(t, err)
	assert.Equal(t, pushed, at.String())
	at, err = r.RemoteTip(ctx, "origin", "refs/heads/none")
	require.NoError(t, err)
	assert.True(t, at.IsZero())
	mine.Git("remote", "set-url", "origin", filepath.Join(t.TempDir(), "gone"))
	_, err = r.RemoteTip(ctx, "origin", "refs/heads/main")
	var refused *vcs.Refusal
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, vcs.Missing, refused.Kind)
	assert.Empty(t, r.Fetched(ctx, "refs/remotes/origin/none"))
	require.NoError(t, os.RemoveAll(filepath.Join(r.GitDir, "FETCH_HEAD")))
	assert.True(t, r.FetchedAt(ctx, "none", "refs/remotes/none/none").IsZero())
}

func TestCommitsByName(t *testing.T) {
	mine, _ := pair(t)
	r, ctx := open(t, mine.Dir), t.Context()
	a, b := mine.Commit("a", "a", "2\n"), mine.Commit("b", "a", "3\n")
	list, err := r.Commits(ctx, "main~2..main")
	require.NoError(t, err)
	assert.Equal(t, a+" "+b, list[0].String()+" "+list[1].String(), "the oldest first")
	list, err = r.Commits(ctx, "main")
	require.NoError(t, err)
	assert.Equal(t, b, list[0].String())
	for _, bad := range []string{"nowhere", "main..nowhere", "--all..main"} {
		_, err = r.Commits(ctx, bad)
		assert.ErrorContains(t, err, bad)
	}
	read := map[object.ID]bool{}
	r.ReadMany(ctx, []object.ID{id(t, mine, "main"), object.SHA1.Sum(object.KindBlob, []byte("nowhere")),
		id(t, mine, "main:a")},
		func(id object.ID, kind object.Kind, data []byte) { read[id] = len(data) > 0 })
	assert.Equal(t, map[object.ID]bool{id(t, mine, "main"): true, id(t, mine, "main:a"): true}, read,
		"what is missing is left out")
}

// TestIdsStandAlone: as many digits are asked for as tell an id from all others.
func TestIdsStandAlone(t *testing.T) {
	mine, _ := pair(t)
	r, ctx := open(t, mine.Dir), t.Context()
	assert.Zero(t, r.Abbrev(ctx))
	for setting, want := range map[string]int{"auto": 0, "11": 11, "no": 40} {
		mine.Git("config", "core.abbrev", setting)
		assert.Equal(t, want, r.Abbrev(ctx), setting)
	}
	var ids []object.ID
	byDigit := map[string][]object.ID{}
	for n := range 40 { // among 40 ids two begin alike
		blob, err := object.ParseID(func() string {
			out, _ := mine.TryInput([]byte(fmt.Sprint(n)), "hash-object", "-w", "--stdin")
			return out
		}())
		require.NoError(t, err)
		ids = append(ids, blob)
		byDigit[blob.Prefix(4)] = append(byDigit[blob.Prefix(4)], blob)
	}
	alone, err := r.Alone(ctx, ids, 40)
	require.NoError(t, err)
	assert.True(t, alone)
	absent := object.SHA1.Sum(object.KindBlob, []byte("nowhere"))
	alone, err = r.Alone(ctx, []object.ID{absent}, 7)
	require.NoError(t, err)
	assert.True(t, alone, "what is made in memory is in no repository yet")
	twin, err := object.ParseID(ids[0].Prefix(8) + strings.Repeat("0", 32))
	require.NoError(t, err)
	for _, list := range [][]object.ID{{twin}, {twin, ids[0]}} {
		alone, err = r.Alone(ctx, list, 8)
		require.NoError(t, err)
		assert.False(t, alone, "another object begins so")
		alone, err = r.Alone(ctx, list, 12)
		require.NoError(t, err)
		assert.True(t, alone)
	}
}

func TestSettings(t *testing.T) {
	mine, _ := pair(t)
	r, ctx := open(t, mine.Dir), t.Context()
	mine.Git("config", "dorvik.check", "make\ntest")
	v, err := r.Config(ctx, "dorvik.check")
	require.NoError(t, err)
	assert.Equal(t, "make\ntest", v)
	v, err = r.Config(ctx, "dorvik.none")
	require.NoError(t, err)
	assert.Empty(t, v)
	mine.Git("config", "core.attributesFile", "~/attrs")
	v, err = r.ConfigPath(ctx, "core.attributesFile")
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(os.Getenv("HOME"), "attrs"), v)
	v, err = r.ConfigPath(ctx, "core.excludesFile")
	require.NoError(t, err)
	assert.Empty(t, v)
	who, err := r.Committer(ctx)
	require.NoError(t, err)
	assert.NotEmpty(t, who.Name)
	for _, kv := range cleanEnvironment() {
		assert.False(t, strings.HasPrefix(kv, "GIT_"), kv)
	}
	_, err = r.run(ctx, "failing", "config", "--file", filepath.Join(t.TempDir(), "none"), "--get", "x")
	var failed *Error
	require.ErrorAs(t, err, &failed)
	assert.ErrorIs(t, err, failed.Reason)
	assert.False(t, Died(err))
	assert.True(t, Died(&Error{Reason: killed(t)}))
}

// killed is the error of a program that a signal ended.
func killed(t *testing.T) error {
	err := exec.CommandContext(t.Context(), "sh", "-c", "kill -9 $$").Run()
	require.Error(t, err)
	return err
}

// TestTheWorkingTreeChanges by trees, keeps what is not concerned, and refuses to overwrite.
func TestTheWorkingTreeChanges(t *testing.T) {
	mine, _ := pair(t)
	mine.Commit("next", "a", "2\n", "new", "n\n")
	r, ctx := open(t, mine.Dir), t.Context()
	from, to := id(t, mine, "HEAD^{tree}"), id(t, mine, "HEAD~^{tree}")
	mine.Write("dir/b", "edited\n")
	require.NoError(t, r.SwitchTree(ctx, from, to, true))
	assert.Equal(t, "2\n", mine.Read("a"), "it was only tried")
	require.NoError(t, r.SwitchTree(ctx, from, to, false))
	assert.Equal(t, "1\n", mine.Read("a"))
	assert.NoFileExists(t, filepath.Join(mine.Dir, "new"))
	assert.Equal(t, "edited\n", mine.Read("dir/b"))
	mine.Write("new", "in the way\n")
	require.Error(t, r.SwitchTree(ctx, to, from, false))
	assert.Equal(t, "in the way\n", mine.Read("new"))
	assert.Equal(t, "1\n", mine.Read("a"))
	require.NoError(t, os.Remove(filepath.Join(mine.Dir, "new")))

	index, err := r.Indexed(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[string]object.Entry{"a": {Mode: object.ModeFile, ID: id(t, mine, "HEAD~:a")},
		"dir/b": {Mode: object.ModeFile, ID: id(t, mine, "HEAD:dir/b")}}, index)
	require.NoError(t, r.Restore(ctx, nil))
	require.NoError(t, r.Restore(ctx, []string{"dir/b"}))
	assert.Equal(t, "b\n", mine.Read("dir/b"))

	require.NoError(t, os.Chtimes(filepath.Join(mine.Dir, "a"), time.Time{}, time.Unix(1e9, 0)))
	require.NoError(t, r.Refresh(ctx))
	mine.Write("a", "edited\n")
	require.NoError(t, r.Refresh(ctx), "what is edited is no failure")
	lock := filepath.Join(r.GitDir, "index.lock")
	require.NoError(t, os.WriteFile(lock, nil, 0o644))
	require.NoError(t, os.Chtimes(filepath.Join(mine.Dir, "dir/b"), time.Time{}, time.Unix(1e9, 0))) // to be noted
	for _, err := range []error{r.Refresh(ctx), r.SwitchTree(ctx, to, from, false)} {
		var locked *vcs.LockedError
		require.ErrorAs(t, err, &locked)
		assert.Equal(t, lock, locked.Path)
		assert.ErrorContains(t, err, "another program is working")
		assert.Error(t, locked.Unwrap())
	}
}

func TestFilesAsTheyAreWritten(t *testing.T) {
	mine, _ := pair(t)
	mine.Write(".gitattributes", "a eol=crlf\n")
	r, ctx := open(t, mine.Dir), t.Context()
	for path, want := range map[string]string{"a": "1\r\n", "b": "1\n", "odd\nname": "1\n"} {
		data, err := r.AsWritten(ctx, path, id(t, mine, "HEAD:a"))
		require.NoError(t, err)
		assert.Equal(t, want, string(data), path)
	}
	_, err := r.AsWritten(ctx, "a", object.SHA1.Sum(object.KindBlob, []byte("nowhere")))
	assert.Error(t, err)
}

// TestPacks are in the repository whole or not at all.
func TestPacks(t *testing.T) {
	mine, _ := pair(t)
	r, ctx := open(t, mine.Dir), t.Context()
	o := object.NewOverlay(r.Format, r)
	base, err := o.Commit(ctx, id(t, mine, "HEAD"))
	require.NoError(t, err)
	tree, err := o.Edit(ctx, base.Tree, map[string]object.Entry{"made": {Mode: object.ModeFile,
		ID: o.Put(object.KindBlob,
			[]byte("made\n"))}})
	require.NoError(t, err)
	tip := o.PutCommit(&object.Commit{Tree: tree, Parents: []object.ID{id(t, mine, "HEAD")},
		AuthorLine: "A <a@x> 1 +0000",
		Committer:  object.Signature{Name: "A", Email: "a@x", When: 1, Zone: "+0000"}, Message: "made\n"})
	require.ErrorContains(t, r.AddPack(ctx, func(w io.Writer) (int, error) {
		_, err := io.WriteString(w, "PACK")
		return 1, err
	}), "storing the joined commits", "half a pack")
	require.ErrorContains(t, r.AddPack(ctx, func(io.Writer) (int, error) { return 0, io.ErrShortWrite }),
		"nothing was changed")
	require.NoError(t, r.AddPack(ctx, func(io.Writer) (int, error) { return 0, nil }), "no pack at all")
	_, err = mine.Try("cat-file", "-e", tip.String())
	require.Error(t, err)
	require.NoError(t, r.Keep(ctx, o, tip))
	assert.Equal(t, "made", mine.Git("show", tip.String()+":made"))
	mine.Git("fsck", "--strict")
	left, err := os.ReadDir(filepath.Join(r.GitDir, PackFolder))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestSigning(t *testing.T) {
	mine, _ := pair(t)
	r, ctx := open(t, mine.Dir), t.Context()
	wanted, err := r.SignsCommits(ctx)
	require.NoError(t, err)
	assert.False(t, wanted)
	signer := filepath.Join(t.TempDir(), "signer")
	script := "#!/bin/sh\ncat >/dev/null\necho '[GNUPG:] SIG_CREATED ' >&2\nprintf -- '-----BEGIN PGP " +
		"SIGNATURE-----\\n\\nx\\n-----END PGP SIGNATURE-----\\n'\n"
	gittest.Program(t, signer, script)
	mine.Git("config", "gpg.program", signer)
	mine.Git("config", "commit.gpgSign", "yes")
	wanted, err = r.SignsCommits(ctx)
	require.NoError(t, err)
	assert.True(t, wanted)
	_, data, err := r.Read(ctx, id(t, mine, "HEAD"))
	require.NoError(t, err)
	c, err := object.ParseCommit(data)
	require.NoError(t, err)
	signed, err := r.SignCommit(ctx, c)
	require.NoError(t, err)
	assert.NotEqual(t, id(t, mine, "HEAD"), signed)
	assert.Contains(t, mine.Git("cat-file", "-p", signed.String()), "BEGIN PGP SIGNATURE")
	c.Extra = []object.Header{{Key: "mergetag", Value: "x"}}
	_, err = r.SignCommit(ctx, c)
	assert.ErrorContains(t, err, "mergetag")
	c.Extra = nil
	mine.Git("config", "gpg.program", filepath.Join(t.TempDir(), "none"))
	_, err = r.SignCommit(ctx, c)
	assert.ErrorContains(t, err, "signing “base”")
}

// TestLaidOutRepositories are what git takes for such.
func TestLaidOutRepositories(t *testing.T) {
	gittest.Isolate(t)
	seed := gittest.New(t)
	seed.Commit("base", "a", "1\n")
	bare, clone := filepath.Join(t.TempDir(), "bare"), filepath.Join(t.TempDir(), "clone")
	require.NoError(t, InitBare(bare))
	require.NoError(t, InitClone(clone, bare, "main", "Runa Holt", "runa@skerry.example"))
	seed.Git("push", "-q", bare, "main")
	c := gittest.At(t, clone)
	c.Git("fetch", "-q")
	r := At(clone)
	defer r.Close()
	c.Git("update-ref", "refs/heads/main", "origin/main")
	require.NoError(t, r.Checkout(t.Context(), id(t, seed, "HEAD")))
	assert.Equal(t, "1\n", c.Read("a"))
	assert.Equal(t, "Runa Holt", c.Git("config", "user.name"))
	assert.Empty(t, c.Git("status", "--porcelain"))
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	assert.ErrorContains(t, InitBare(filepath.Join(file, "x")), "making a repository")
}

// TestAChangeInTheSameMoment reads a file that was changed so soon after git had written it that only
// its content tells.
func TestAChangeInTheSameMoment(t *testing.T) {
	mine, _ := pair(t)
	r, ctx, when := open(t, mine.Dir), t.Context(), time.Unix(1767000000, 0)
	mine.Git("config", "core.trustctime", "false")
	at := func(path string) {
		require.NoError(t, os.Chtimes(filepath.Join(mine.Dir, path), when, when))
	}
	at("a")
	mine.Git("update-index", "--refresh")
	mine.Write("a", "2\n")
	at("a")
	at(".git/index")
	_, files, err := r.Uncommitted(ctx, []vcs.Dirty{{Path: "a"}})
	require.NoError(t, err)
	assert.Equal(t, "2", mine.Git("cat-file", "blob", files.String()+":a"))
}

// TestAPartialCloneWithoutItsRemote says what is so, and what to do.
func TestAPartialCloneWithoutItsRemote(t *testing.T) {
	gittest.Isolate(t)
	remote, seed := gittest.New(t, "--bare"), gittest.New(t)
	seed.Commit("base", "a", "1\n")
	seed.Git("push", "-q", remote.Dir, "main")
	remote.Git("config", "uploadpack.allowFilter", "true")
	clone := filepath.Join(t.TempDir(), "clone")
	seed.Git("clone", "-q", "--filter=blob:none", "--no-checkout", "file://"+remote.Dir, clone)
	require.NoError(t, os.Rename(remote.Dir, remote.Dir+".gone"))
	r := open(t, clone)
	blob := id(t, seed, "HEAD:a")
	_, _, err := r.Read(t.Context(), blob)
	var partial *PartialError
	require.ErrorAs(t, err, &partial)
	assert.Equal(t, blob, partial.ID)
	assert.Contains(t, err.Error(), "Connect to the remote")
	require.NoError(t, os.Rename(remote.Dir+".gone", remote.Dir))
	_, data, err := r.Read(t.Context(), blob)
	require.NoError(t, err)
	assert.Equal(t, "1\n", string(data))
}

// TestAReadThatFetchesCanBeCancelled reads from a partial clone whose remote never answers.
func TestAReadThatFetchesCanBeCancelled(t *testing.T) {
	gittest.Isolate(t)
	remote, seed := gittest.New(t, "--bare"), gittest.New(t)
	seed.Commit("base", "a", "1\n")
	seed.Git("push", "-q", remote.Dir, "main")
	remote.Git("config", "uploadpack.allowFilter", "true")
	dir := filepath.Join(t.TempDir(), "clone")
	seed.Git("clone", "-q", "--filter=blob:none", "--no-checkout", "file://"+remote.Dir, dir)
	clone := gittest.At(t, dir)
	asked := filepath.Join(t.TempDir(), "asked")
	clone.Git("config", "remote.origin.uploadpack", "touch '"+asked+"'; sleep 600; git-upload-pack")
	r := open(t, dir)
	blob := id(t, seed, "HEAD:a")
	ctx, cancel := context.WithCancel(t.Context())
	go func() {
		for !exists(asked) {
			time.Sleep(time.Millisecond)
		}
		cancel()
	}()
	_, _, err := r.Read(ctx, blob)
	require.ErrorIs(t, err, context.Canceled)
	clone.Git("config", "--unset", "remote.origin.uploadpack")
	_, data, err := r.Read(t.Context(), blob)
	require.NoError(t, err, "the next read starts another process")
	assert.Equal(t, "1\n", string(data))
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

package recovery

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
)

// TestAFullDisk joins and undoes on a small file system with less and less room left, and
// then with room again.
func TestAFullDisk(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 20)
	disk := t.TempDir()
	if err := syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=8m"); err != nil {
		t.Skip("no file system can be mounted here: ", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(disk, syscall.MNT_DETACH) })
	dir, filler := filepath.Join(disk, "clone"), filepath.Join(disk, "filler")
	levels, failed, every := 50, 0, 5
	if os.Getenv("DORVIK_FILES") != "" { // the soak tries all
		every = 1
	}
	for what, from := range map[string]string{"accept": h.dir, "undo": h.joined} {
		for level := 0; level < levels; level += every {
			require.NoError(t, os.RemoveAll(dir))
			out, err := exec.Command("cp", "-a", from, dir).CombinedOutput()
			require.NoError(t, err, "%s", out)
			fill(t, disk, filler, level*4096)
			err = run(dir, what)
			if err != nil {
				failed++
			}
			require.NoError(t, os.Remove(filler))
			if !h.whole(t, dir, fmt.Sprintf("%s with %d kB left: %v", what, level*4, err)) {
				return
			}
		}
	}
	assert.Positive(t, failed, "the disk was full")
	assert.Less(t, failed, 2*levels/every, "and then it was not")
}

// fill leaves so many bytes on a file system.
func fill(t *testing.T, disk, file string, left int) {
	var st syscall.Statfs_t
	require.NoError(t, syscall.Statfs(disk, &st))
	n := int(st.Bavail)*int(st.Bsize) - left
	require.NoError(t, os.WriteFile(file, bytes.Repeat([]byte{'x'}, max(0, n)), 0o644))
}

// TestAFolderWithoutPermission joins as an ordinary user who may not write to a folder.
func TestAFolderWithoutPermission(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 0)
	program := filepath.Join(t.TempDir(), "act")
	data, err := os.ReadFile(os.Args[0])
	require.NoError(t, err)
	gittest.Program(t, program, string(data))
	for _, folder := range []string{"d", "turns", "."} {
		dir := h.copy(t, h.dir)
		cmd := exec.Command(program)
		cmd.Env = append(os.Environ(), "DORVIK_ACT=accept", "DORVIK_DIR="+dir)
		if os.Getuid() == 0 {
			for p := filepath.Dir(dir); len(p) > len(os.TempDir()); p = filepath.Dir(p) {
				require.NoError(t, os.Chmod(p, 0o755))
			}
			out, err := exec.Command("chown", "-R", "65534:65534", dir).CombinedOutput()
			require.NoError(t, err, "%s", out)
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
			require.True(t, reachable(program) && reachable(dir), "another user can get there")
		}
		at := gittest.At(t, dir)
		require.NoError(t, os.Chmod(filepath.Join(dir, folder), 0o555))
		out, err := cmd.CombinedOutput()
		require.NoError(t, os.Chmod(filepath.Join(dir, folder), 0o755))
		if os.Getuid() == 0 {
			chown, cerr := exec.Command("chown", "-R", "0:0", dir).CombinedOutput()
			require.NoError(t, cerr, "%s", chown)
		}
		at.Git("update-index", "-q", "--refresh")
		if folder == "d" {
			assert.NoError(t, err, "nothing of it is written: %s", out)
			continue
		}
		assert.Error(t, err, "%s: %s", folder, out)
		assert.Equal(t, h.before, at.Git("rev-parse", "main"), "%s: %s", folder, out)
		h.whole(t, dir, folder+": "+string(out))
	}
}

func reachable(path string) bool {
	for p := filepath.Dir(path); p != "/"; p = filepath.Dir(p) {
		info, err := os.Stat(p)
		if err != nil || info.Mode()&0o001 == 0 {
			return false
		}
	}
	return true
}

// TestWhatCannotBeWritten joins what theirs has and no file system here can hold, and what the
// repository has lost.
func TestWhatCannotBeWritten(t *testing.T) {
	t.Parallel()
	for name, spoil := range map[string]func(tm *team){
		"a link target over the limit": func(tm *team) {
			blob, err := tm.other.TryInput([]byte(strings.Repeat("x/", 2500)), "hash-object", "-w", "--stdin")
			require.NoError(t, err)
			tm.other.Git("update-index", "--add", "--cacheinfo", "120000,"+blob+",link")
		},
		"a name over the limit": func(tm *team) {
			blob := tm.other.Git("rev-parse", "HEAD:g")
			tm.other.Git("update-index", "--add", "--cacheinfo", "100644,"+blob+","+strings.Repeat("n", 300))
		},
	} {
		t.Run(name, func(t *testing.T) {
			tm := newTeam(t)
			tm.diverge()
			tm.other.Write("aaa", "written first\n")
			tm.other.Git("add", "aaa")
			spoil(tm)
			tm.other.Git("commit", "-q", "-m", "spoilt")
			tm.other.Git("push", "-q")
			s := tm.session()
			p, j, b := ready(t, s, plan.Merge, settle.Theirs)
			before, files := tm.mine.Git("rev-parse", "main"), gittest.Files(t, tm.mine.Dir)
			_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
			require.Error(t, err)
			assert.Regexp(t, "as it was before|Nothing was changed", err.Error())
			assert.Equal(t, before, tm.mine.Git("rev-parse", "main"))
			assert.Equal(t, files, gittest.Files(t, tm.mine.Dir))
			assert.Empty(t, tm.mine.Git("status", "--porcelain"))
		})
	}
	t.Run("a blob that is damaged", func(t *testing.T) {
		tm := newTeam(t)
		tm.diverge()
		tm.mine.Git("fetch", "-q")
		tm.mine.Git("repack", "-adq")
		packs, err := filepath.Glob(filepath.Join(tm.mine.Dir, ".git/objects/pack/*.pack"))
		require.NoError(t, err)
		for _, pack := range packs {
			data, err := os.ReadFile(pack)
			require.NoError(t, err)
			require.NoError(t, os.Remove(pack), "packs cannot be written")
			_ = os.Remove(strings.TrimSuffix(pack, "pack") + "idx")
			_, err = tm.mine.TryInput(data, "unpack-objects", "-q")
			require.NoError(t, err)
		}
		s := tm.session()
		p, j, b := ready(t, s, plan.Merge, settle.Theirs)
		id := tm.other.Git("rev-parse", "HEAD:d/h")
		loose := filepath.Join(tm.mine.Dir, ".git/objects", id[:2], id[2:])
		require.NoError(t, os.Chmod(loose, 0o644))
		require.NoError(t, os.WriteFile(loose, []byte("damage"), 0o644))
		before, files := tm.mine.Git("rev-parse", "main"), gittest.Files(t, tm.mine.Dir)
		_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
		require.Error(t, err)
		assert.Equal(t, before, tm.mine.Git("rev-parse", "main"))
		assert.Equal(t, files, gittest.Files(t, tm.mine.Dir))
		assert.Empty(t, tm.mine.Git("status", "--porcelain"))
	})
}

// TestADamagedStoreIsSetAside damages the file of recoveries in all ways.
func TestADamagedStoreIsSetAside(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	s := tm.session()
	ready(t, s, plan.Rebase, settle.Theirs)
	s.Close()
	path := ledger.StatePath(filepath.Join(tm.mine.Dir, ".git"))
	good, err := os.ReadFile(path)
	require.NoError(t, err)
	page := os.Getpagesize()
	damages := map[string][]byte{"empty file": {}, "rubbish": []byte("rubbish"), "zeros": make([]byte, len(good)),
		"no end": good[:len(good)/2], "two pages": good[:2*page], "cut within a page": good[:3*page+100]}
	for at := 0; at < len(good); at += page / 2 {
		bad := bytes.Clone(good)
		copy(bad[at:], bytes.Repeat([]byte{0xff}, page/2))
		damages["no sense from "+strconv.Itoa(at)] = bad
	}
	for name, bad := range damages {
		require.NoError(t, os.WriteFile(path, bad, 0o644))
		w, err := OpenWorkspace(t.Context(), tm.mine.Dir)
		require.NoError(t, err)
		_, err = ledger.Peek(w.Repo.Where().Own)
		assert.NoError(t, err, name)
		w.Close()
		s, err := OpenSession(t.Context(), tm.mine.Dir)
		if !assert.NoError(t, err, name) {
			continue
		}
		set, err := filepath.Glob(path + ".damaged-*")
		require.NoError(t, err)
		if len(set) > 0 {
			assert.Contains(t, s.TakeNotice(), "was damaged", name)
			held, err := os.ReadFile(set[0])
			require.NoError(t, err)
			assert.Equal(t, len(bad), len(held), "%s: it is kept", name)
			require.NoError(t, os.Remove(set[0]))
		}
		p, j, b := ready(t, s, plan.Rebase, settle.Theirs)
		_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
		assert.NoError(t, err, name)
		_, err = s.Applier.GoBack(t.Context(), "")
		assert.NoError(t, err, name)
		s.Close()
	}
}

// TestWhatGitDoesNotKnowIsMovedAside puts things git ignores or does not know where the join
// writes: it stops and names them; agreed to, they are moved aside and come back with undo.
// TestWhatIsTheSameIsNoMatter holds that a file which is not tracked and that is just what the
// join puts there is in nobody's way, and is there again when the join is undone.
func TestWhatIsTheSameIsNoMatter(t *testing.T) {
	t.Parallel()
	for _, exclude := range []string{"", "new\n"} {
		for text, same := range map[string]bool{"theirs\n": true, "theirs": false} {
			tm := newTeam(t)
			tm.other.Write("new/sub/x", "theirs\n")
			tm.diverge()
			tm.mine.Write(".git/info/exclude", exclude)
			tm.mine.Write("new/sub/x", text)
			s := tm.session()
			p, j, b := ready(t, s, plan.Merge, settle.Theirs)
			wp, err := s.Accept(t.Context(), p, j, b, change.Consent{})
			if !same {
				var over *change.OverwriteError
				require.ErrorAs(t, err, &over)
				continue
			}
			require.NoError(t, err)
			assert.Equal(t, []string{"new/sub/x"}, wp.Aside)
			assert.Empty(t, tm.mine.Git("status", "--porcelain"))
			_, err = s.Applier.GoBack(t.Context(), "")
			require.NoError(t, err)
			assert.Equal(t, text, tm.mine.Read("new/sub/x"))
		}
	}
}

func TestWhatGitDoesNotKnowIsMovedAside(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		put  func(tm *team)
		path string
	}{
		"an ignored file where a folder is to be": {func(tm *team) { tm.mine.Write("new", "mine, ignored\n") }, "new"},
		"a link where a folder is to be": {func(tm *team) {
			require.NoError(t,
				os.Symlink("g", filepath.Join(tm.mine.Dir, "new")))
		}, "new"},
		"an ignored file where a file is to be": {func(tm *team) { tm.mine.Write("new/sub/x", "mine, ignored\n") },
			"new/sub/x"},
		"a folder where a file is to be": {func(tm *team) { tm.mine.Write("new/sub/x/deep", "mine\n") },
			"new/sub/x"},
		"an empty folder where a file is to be": {func(tm *team) {
			require.NoError(t,
				os.MkdirAll(filepath.Join(tm.mine.Dir, "new/sub/x"), 0o755))
		}, "new/sub/x"},
	} {
		t.Run(name, func(t *testing.T) {
			tm := newTeam(t)
			tm.other.Write("new/sub/x", "theirs\n")
			tm.diverge()
			tm.mine.Write(".git/info/exclude", "new\nx\n")
			c.put(tm)
			s := tm.session()
			p, j, b := ready(t, s, plan.Merge, settle.Theirs)
			before, files := tm.mine.Git("rev-parse", "main"), gittest.Files(t, tm.mine.Dir)
			_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
			var over *change.OverwriteError
			require.ErrorAs(t, err, &over)
			assert.Equal(t, []string{c.path}, over.Paths)
			assert.True(t, over.Unknown)
			assert.Equal(t, before, tm.mine.Git("rev-parse", "main"))
			assert.Equal(t, files, gittest.Files(t, tm.mine.Dir))

			wp, err := s.Accept(t.Context(), p, j, b, change.Consent{MoveAside: true})
			require.NoError(t, err)
			assert.Equal(t, []string{c.path}, wp.Aside)
			assert.Equal(t, "theirs\n", tm.mine.Read("new/sub/x"))
			tm.mine.Write("new/sub/x", "edited since\n")
			_, err = s.Applier.GoBack(t.Context(), "")
			var asks *change.AsksError
			require.ErrorAs(t, err, &asks)
			assert.Equal(t, []string{"new/sub/x"}, asks.Paths)
			tm.mine.Write("new/sub/x", "theirs\n")
			_, err = s.Applier.GoBack(t.Context(), "")
			require.NoError(t, err)
			assert.Equal(t, files, gittest.Files(t, tm.mine.Dir))
		})
	}
}

// TestFilesThatWereOnlyTouched are not uncommitted work.
func TestFilesThatWereOnlyTouched(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	tm.mine.Git("fetch", "-q")
	clone := &harbour{}
	dir := clone.copy(t, tm.mine.Dir)
	require.NoError(t, exec.Command("touch", "-d", "2001-01-01", filepath.Join(dir, "f"), filepath.Join(dir,
		"d/h")).Run())
	require.NoError(t, act(dir, "accept"))
	require.NoError(t, exec.Command("touch", "-d", "2002-01-01", filepath.Join(dir, "f"), filepath.Join(dir,
		"d/h")).Run())
	require.NoError(t, act(dir, "undo"))
}

// TestWhatChangesWhileSigning is not joined over.
func TestWhatChangesWhileSigning(t *testing.T) {
	t.Parallel()
	for name, meanwhile := range map[string]string{
		"another branch":    "git switch -q -c elsewhere",
		"a merge begun":     "git rev-parse main > .git/MERGE_HEAD",
		"another commit":    "git -c commit.gpgSign=false commit -q --allow-empty -m meanwhile",
		"an edited file":    "echo edited > d/h",
		"a file in the way": "echo mine > theirs-new",
	} {
		t.Run(name, func(t *testing.T) {
			tm := newTeam(t)
			tm.other.Write("theirs-new", "n\n")
			tm.diverge()
			signer := filepath.Join(t.TempDir(), "signer")
			require.NoError(t, os.WriteFile(signer, []byte("#!/bin/sh\ncat >/dev/null\n(cd "+tm.mine.Dir+" && unset "+
				"GIT_DIR GIT_INDEX_FILE GIT_WORK_TREE && "+meanwhile+")\necho '[GNUPG:] SIG_CREATED ' >&2\necho "+
				"'-----BEGIN PGP SIGNATURE-----'\necho\necho x\necho '-----END PGP SIGNATURE-----'\n"), 0o755))
			tm.mine.Git("config", "commit.gpgSign", "true")
			tm.mine.Git("config", "gpg.program", signer)
			s := tm.session()
			p, j, b := ready(t, s, plan.Merge, settle.Theirs)
			_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
			require.Error(t, err)
			assert.NotContains(t, tm.mine.Git("log", "--format=%s", "main"), "Join ")
			tree, err := tm.mine.Try("write-tree")
			require.NoError(t, err)
			assert.Equal(t, tm.mine.Git("rev-parse", "HEAD^{tree}"), tree, "the index is as it was")
		})
	}
}

// TestAPushThatOnlyReportsFailure: the remote took it, and then the connection broke.
func TestAPushThatOnlyReportsFailure(t *testing.T) {
	tm := newTeam(t)
	tm.diverge()
	s := tm.session()
	p, j, b := ready(t, s, plan.Merge, settle.Theirs)
	_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	real, err := exec.LookPath("git")
	require.NoError(t, err)
	bin := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(bin, "git"),
		[]byte("#!/bin/sh\n"+real+" \"$@\" || exit\n[ \"$1\" = push ] && { echo 'fatal: the remote end hung up "+
			"unexpectedly' >&2; exit 128; }\nexit 0\n"), 0o755))
	t.Setenv("PATH", bin+":"+os.Getenv("PATH"))
	done, err := s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	assert.Nil(t, done.Refusal)
	assert.Equal(t, b.Tip, done.Holds)
	assert.Equal(t, b.Tip.String(), tm.remote.Git("rev-parse", "main"))
}

// TestAPushThatNobodyKnowsOf: it failed, and the remote is gone.
func TestAPushThatNobodyKnowsOf(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	s := tm.session()
	p, j, b := ready(t, s, plan.Merge, settle.Theirs)
	_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	tm.mine.Git("remote", "set-url", "origin", filepath.Join(t.TempDir(), "gone"))
	done, err := s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	require.NotNil(t, done.Refusal)
	assert.True(t, done.Unsure)
}

// TestPublishedCommitsAreRewrittenOnlyIfAgreedTo holds the rule where both faces pass.
func TestPublishedCommitsAreRewrittenOnlyIfAgreedTo(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	tm.mine.Git("push", "-q", "origin", "main:refs/heads/elsewhere")
	s := tm.session()
	p, j, b := ready(t, s, plan.Rebase, settle.Theirs)
	before := tm.mine.Git("rev-parse", "main")
	_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
	var published *plan.PublishedError
	require.ErrorAs(t, err, &published)
	assert.Len(t, published.Commits, 1)
	assert.Equal(t, before, tm.mine.Git("rev-parse", "main"))
	_, err = s.Accept(t.Context(), p, j, b, change.Consent{RewritePublished: true})
	require.NoError(t, err)
}

// TestMarksInAnyCommitThatGoes finds them though a later commit took them out.
func TestMarksInAnyCommitThatGoes(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	const marks = "<<<<<<< a\nx\n=======\ny\n>>>>>>> b\n"
	bad := tm.mine.Commit("bad", "m", marks)
	tm.mine.Commit("mended", "m", "x\n")
	tm.other.Commit("theirs has some, which is not yours to mend", "t", marks)
	tm.other.Git("push", "-q")
	s := tm.session()
	p, _, b := ready(t, s, plan.Merge, settle.Theirs)
	found, _, err := s.Planner.ConflictMarkers(t.Context(), p.Theirs, b.Tip)
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, bad, found[0].Commit.String())
	assert.Equal(t, "m", found[0].Path)
}

package recovery

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
)

// standing is all that is not committed in a clone, to be compared: files, index, and what git
// says of both.
type standing struct {
	files               map[string]string
	index, status, head string
}

func standingOf(t *testing.T, dir string) standing {
	r := gittest.At(t, dir)
	files := gittest.Files(t, dir)
	maps.DeleteFunc(files, func(_, is string) bool { return is == "a folder" }) // which git knows nothing of
	return standing{files, r.Git("ls-files", "-s"), r.Git("status", "--porcelain=v2"),
		r.Git("rev-parse", "HEAD")}
}

// TestUncommittedWorkIsCarried: work of all kinds in files that the join changes is joined onto
// the result, staged what was staged; and undo brings all of it back as it was.
func TestUncommittedWorkIsCarried(t *testing.T) {
	t.Parallel()
	lines := strings.Replace(base, "two", "THEIRS", 1)
	last := func(s string) string { return strings.Replace(s, "five", "FIVE", 1) }
	four := func(s string) string { return strings.Replace(s, "four", "FOUR", 1) }
	for name, c := range map[string]struct {
		dirty  func(r *gittest.Repo)
		status string            // afterwards, of all
		files  map[string]string // afterwards
		staged map[string]string // what the index has, afterwards
	}{
		"not staged": {func(r *gittest.Repo) { r.Write("f", last(base)) }, " M f",
			map[string]string{"f": last(lines)}, map[string]string{"f": lines}},
		"staged": {func(r *gittest.Repo) { r.Write("f", last(base)); r.Git("add", "f") }, "M  f",
			map[string]string{"f": last(lines)}, map[string]string{"f": last(lines)}},
		"staged in part": {func(r *gittest.Repo) {
			r.Write("f", last(base))
			r.Git("add", "f")
			r.Write("f", four(last(base)))
		}, "MM f", map[string]string{"f": four(last(lines))}, map[string]string{"f": last(lines)}},
		"staged and taken back in the file": {func(r *gittest.Repo) {
			r.Write("f", last(base))
			r.Git("add", "f")
			r.Write("f", base)
		}, "MM f", map[string]string{"f": lines}, map[string]string{"f": last(lines)}},
		"moved, and edited": {func(r *gittest.Repo) {
			r.Git("mv", "f", "moved")
			r.Write("moved", last(base))
		}, "RM f -> moved", map[string]string{"moved": last(lines)}, map[string]string{"moved": lines}},
		"a mode": {func(r *gittest.Repo) { require.NoError(t, os.Chmod(filepath.Join(r.Dir, "f"), 0o755)) }, " M f",
			map[string]string{"f": lines}, nil},
		"the same edit": {func(r *gittest.Repo) { r.Write("f", lines) }, "", map[string]string{"f": lines}, nil},
		"deleted, and so on their side": {func(r *gittest.Repo) { r.Git("rm", "-q", "gone") }, "",
			map[string]string{"f": lines}, nil},
		"in a directory that they moved": {func(r *gittest.Repo) { r.Write("d/h", "h\nmore\n") }, " M e/h",
			map[string]string{"e/h": "h\nmore\n"}, nil},
		"meant to be added": {func(r *gittest.Repo) {
			r.Write("f", last(base))
			r.Write("soon", "soon\n")
			r.Git("add", "-N", "soon")
		}, " M f| A soon", map[string]string{"f": last(lines), "soon": "soon\n"}, nil},
		"other files stay": {func(r *gittest.Repo) {
			r.Write("f", last(base))
			r.Write("g", "g edited\n")
			r.Write("new", "new\n")
			r.Git("add", "new")
		}, " M f| M g|A  new", map[string]string{"f": last(lines), "g": "g edited\n"}, nil},
	} {
		for _, route := range []plan.Route{plan.Merge, plan.Rebase, plan.Route(plan.FastForward)} {
			t.Run(name+"/"+string(route), func(t *testing.T) {
				tm := newTeam(t)
				tm.other.Commit("more", "gone", "to go\n", "d/i", "i\n", "d/j", "j\n")
				tm.other.Git("push", "-q")
				tm.mine.Git("pull", "-q")
				tm.other.Git("rm", "-q", "gone")
				tm.other.Git("mv", "d", "e")
				tm.other.Commit("theirs", "f", lines)
				tm.other.Git("push", "-q")
				if route != plan.Route(plan.FastForward) {
					tm.mine.Commit("mine", "m", "m\n")
				}
				c.dirty(tm.mine)
				before := standingOf(t, tm.mine.Dir)
				s := tm.session()
				var over *change.OverwriteError
				p, j, b := ready(t, s, route, settle.Yours)
				_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
				if name != "deleted, and so on their side" {
					require.ErrorAs(t, err, &over)
				}
				require.Equal(t, before, standingOf(t, tm.mine.Dir), "refused, nothing is changed")
				require.NoError(t, s.Ledger.Carry(true))
				p, j, b = ready(t, s, route, settle.Yours)
				wp, err := s.Accept(t.Context(), p, j, b, change.Consent{})
				require.NoError(t, err)
				assert.Equal(t, c.status, strings.ReplaceAll(tm.mine.Git("status", "--porcelain"), "\n", "|"))
				for path, text := range c.files {
					assert.Equal(t, text, tm.mine.Read(path))
				}
				for path, text := range c.staged {
					assert.Equal(t, strings.TrimSuffix(text, "\n"), tm.mine.Git("show", ":"+path))
				}
				assert.Equal(t, lines, tm.mine.Git("show", "HEAD:f")+"\n", "it is not committed")
				assert.NoFileExists(t, filepath.Join(tm.mine.Dir, ".git/index.lock"))
				if wp.Kept != nil {
					assert.Equal(t, before.files["f"] != "", len(tm.mine.Git("ls-tree", wp.KeptRef()+":files",
						"f")) > 0)
				}
				tm.mine.Git("gc", "-q", "--prune=now")
				_, err = s.Applier.GoBack(t.Context(), "")
				require.NoError(t, err)
				assert.Equal(t, before, standingOf(t, tm.mine.Dir), "undone")
				s.Close()
				gone := openAgain(t, tm.mine.Dir)
				assert.Empty(t, gone.TakeNotice())
				assert.Equal(t, before, standingOf(t, tm.mine.Dir), "opened again")
			})
		}
	}
}

func openAgain(t *testing.T, dir string) *Session {
	s, err := OpenSession(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// lay writes files over a working tree: those that were there and are not among them go.
func (f files) lay(t *testing.T, dir string, was files) {
	for _, path := range slices.Sorted(maps.Keys(was)) {
		if f[path] != was[path] {
			require.NoError(t, os.RemoveAll(filepath.Join(dir, path)))
			_ = os.Remove(filepath.Dir(filepath.Join(dir, path))) // if it is empty, as git does
		}
	}
	for path, to := range f {
		at := filepath.Join(dir, path)
		if was[path] == to && exists(at) {
			continue
		}
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		if to.mode == "120000" {
			require.NoError(t, os.Symlink(to.text, at))
			continue
		}
		perm := os.FileMode(0o644)
		if to.mode == "100755" {
			perm = 0o755
		}
		require.NoError(t, os.WriteFile(at, []byte(to.text), perm))
	}
}

// edited is files with random edits, none of which makes a submodule.
func edited(r *rand.Rand, f files, n int) files {
	out := maps.Clone(f)
	s := &story{Rand: r}
	for range n {
		s.edit(out)
	}
	for path, to := range out {
		if to.mode == "160000" {
			out[path] = file{"100644", s.lines(path, 3)}
		}
	}
	return out
}

// TestASparseCheckoutIsKept carries work over a join in a checkout that holds a part of the files.
func TestASparseCheckoutIsKept(t *testing.T) {
	t.Parallel()
	for _, how := range []string{"--cone", "--no-cone"} {
		tm := newTeam(t)
		tm.other.Write("out/side", "theirs\n")
		tm.diverge()
		tm.mine.Git("sparse-checkout", "set", how, "d")
		tm.mine.Write("d/h", "edited\n")
		tm.mine.Git("add", "d/h")
		parts := func() string { return tm.mine.Git("ls-files", "-t") }
		before, files := parts(), gittest.Files(t, tm.mine.Dir)
		s := tm.session()
		require.NoError(t, s.Ledger.Carry(true))
		p, j, b := ready(t, s, plan.Merge, settle.TheirsYours)
		_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
		require.NoError(t, err)
		assert.Contains(t, parts(), "S out/side")
		assert.NoDirExists(t, filepath.Join(tm.mine.Dir, "out"))
		assert.Equal(t, "M  d/h", tm.mine.Git("status", "--porcelain"))
		_, err = s.Applier.GoBack(t.Context(), "")
		require.NoError(t, err)
		assert.Equal(t, before, parts())
		assert.Equal(t, files, gittest.Files(t, tm.mine.Dir))
	}
}

// TestCarriedWorkIsConserved: random uncommitted work, random joins, decided at random. Every byte
// of it is afterwards in its file, in the index, or kept under the waypoint; and undo brings files,
// index and what git says of them back as they were.
func TestCarriedWorkIsConserved(t *testing.T) {
	t.Parallel()
	n, seed := 25, uint64(11)
	if v, err := strconv.Atoi(os.Getenv("DORVIK_HISTORIES")); err == nil {
		n = v / 10
	}
	if v, err := strconv.ParseUint(os.Getenv("DORVIK_SEED"), 10, 64); err == nil {
		seed = v
	}
	moved, refused := 0, 0
	for i := range n {
		r := rand.New(rand.NewPCG(seed, uint64(i)))
		s := &story{Rand: r}
		start := files{}
		for range 3 + r.IntN(4) {
			path := names[r.IntN(len(names))]
			start.put(path, file{"100644", s.lines(path, 4+r.IntN(20))})
		}
		theirs, yours := edited(r, start, 1+r.IntN(4)), edited(r, start, r.IntN(3))
		from := s.commit("refs/heads/base", 0, 0, start)
		s.commit("refs/heads/theirs", from, 0, theirs)
		s.commit("refs/heads/main", from, 0, yours)
		repo := gittest.New(t)
		_, err := repo.TryInput(s.out.Bytes(), "fast-import", "--quiet")
		require.NoError(t, err)
		repo.Git("reset", "-q", "--hard", "main")
		repo.Git("branch", "-q", "--set-upstream-to=theirs")
		staged := edited(r, yours, r.IntN(3))
		work := edited(r, staged, r.IntN(4))
		staged.lay(t, repo.Dir, yours)
		repo.Git("add", "-A")
		work.lay(t, repo.Dir, staged)
		if r.IntN(3) == 0 {
			repo.Git("add", "-N", ".")
		}
		before := standingOf(t, repo.Dir)
		if wp := carryOver(t, repo, r); wp != nil && !t.Failed() {
			moved++
			holdsAll(t, repo, wp, before)
			s := openAgain(t, repo.Dir)
			after := standingOf(t, repo.Dir)
			_, err := s.Applier.GoBack(t.Context(), "")
			var blocked *plan.Blocked // files and folders in each other's place can be too much
			switch {
			case errors.As(err, &blocked):
				refused++
				assert.Equal(t, after, standingOf(t, repo.Dir), "refused")
			case assert.NoError(t, err):
				assert.Equal(t, before, standingOf(t, repo.Dir), "undone")
			}
			s.Close()
		}
		if t.Failed() {
			t.Fatalf("history %d of seed %d", i, seed)
		}
	}
	assert.Greater(t, moved, n/5)
	assert.LessOrEqual(t, refused, n/100)
	t.Logf("%d of %d moved uncommitted work, undoing was refused for %d", moved, n, refused)
}

// carryOver joins by a random route, deciding at random; nil where nothing uncommitted was moved.
func carryOver(t *testing.T, repo *gittest.Repo, r *rand.Rand) *ledger.Waypoint {
	s := openAgain(t, repo.Dir)
	defer s.Close()
	require.NoError(t, s.Ledger.Carry(true))
	p, err := s.Locate(t.Context(), false)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Sync(p))
	if p.Trivial() == plan.UpToDate {
		return nil
	}
	require.NoError(t, s.Ledger.TakeRoute([]plan.Route{plan.Merge, plan.Rebase}[r.IntN(2)]))
	for {
		j, err := s.Planner.Join(t.Context(), p, s.Ledger.State().Route, decisions(s), plan.Amends{}, nil)
		require.NoError(t, err)
		if c := firstWithout(j, decisions(s)); c != nil {
			require.NoError(t, s.Decide(settle.Decision{Key: c.Key, Way: c.Ways[r.IntN(len(c.Ways))].Way}))
			continue
		}
		b, err := s.Planner.Build(t.Context(), p, j)
		require.NoError(t, err)
		before := standingOf(t, repo.Dir)
		wp, err := s.Accept(t.Context(), p, j, b, change.Consent{MoveAside: true})
		if err != nil {
			assert.Equal(t, before, standingOf(t, repo.Dir), "refused: %v", err)
			var blocked *plan.Blocked
			assert.ErrorAs(t, err, &blocked)
			return nil
		}
		if wp.Kept == nil {
			return nil
		}
		return wp
	}
}

// holdsAll holds that each file and each staged text of before is where it was, or kept.
func holdsAll(t *testing.T, repo *gittest.Repo, wp *ledger.Waypoint, before standing) {
	kept := filepath.Join(repo.Dir, ".git", "dorvik", "kept", wp.Name)
	aside := filepath.Join(repo.Dir, ".git", "dorvik", "aside", wp.Name)
	after := gittest.Files(t, repo.Dir)
	dirty := map[string]bool{}
	for line := range strings.Lines(before.status) {
		f := strings.Fields(strings.TrimSpace(line))
		for _, path := range f[max(0, len(f)-2):] { // of a rename both
			dirty[strings.TrimSuffix(path, "/")] = true
		}
	}
	for path, text := range before.files {
		if !dirty[path] || after[path] == text {
			continue
		}
		at := filepath.Join(kept, "files", path)
		if !exists(at) {
			at = filepath.Join(aside, path)
		}
		info, err := os.Lstat(at)
		if !assert.NoError(t, err, "%s is kept", path) {
			continue
		}
		if info.Mode().IsRegular() {
			data, err := os.ReadFile(at)
			require.NoError(t, err)
			assert.Equal(t, text, fmt.Sprintf("%v %s", info.Mode()&0o111 != 0, data), path)
		}
	}
	reach := repo.Git("rev-list", "--objects", "--all", "--indexed-objects")
	for line := range strings.Lines(before.index) {
		if f := strings.Fields(line); !strings.HasPrefix(f[0], "16") && !strings.HasPrefix(f[1], "e69de29") {
			assert.Contains(t, reach, f[1], "what was staged as %s", f[3])
		}
	}
}

// TestWhatGitWasToldNotToLookAt is in the way, said to be, and not said to be carried.
func TestWhatGitWasToldNotToLookAt(t *testing.T) {
	t.Parallel()
	for _, flag := range []string{"--skip-worktree", "--assume-unchanged"} {
		tm := newTeam(t)
		tm.mine.Commit("mine", "m", "m\n")
		tm.other.Commit("theirs", "f", "theirs\n")
		tm.other.Git("push", "-q")
		tm.mine.Git("update-index", flag, "f")
		tm.mine.Write("f", "edited unseen\n")
		s := tm.session()
		for _, carry := range []bool{false, true} {
			require.NoError(t, s.Ledger.Carry(carry))
			v, err := s.Survey(t.Context(), true, nil)
			require.NoError(t, err)
			require.NotNil(t, v.InTheWay, flag)
			assert.True(t, v.InTheWay.Hidden)
			assert.Equal(t, []string{"f"}, v.InTheWay.Paths)
			assert.Contains(t, v.InTheWay.Error(), "was told to treat as unchanged")
			assert.NotContains(t, v.InTheWay.Error(), "have it carried along")
		}
	}
}

// A link in the place of a folder: what git knows in that folder counts as deleted, and is not looked for where the link
// leads.
func TestWorkBehindALink(t *testing.T) {
	tm, ctx := newTeam(t), t.Context()
	away := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(away, "h"), []byte("elsewhere\n"), 0o644))
	tm.mine.Write("x/g/h", "staged\n")
	tm.mine.Git("add", "x")
	require.NoError(t, os.RemoveAll(filepath.Join(tm.mine.Dir, "x/g")))
	require.NoError(t, os.Symlink(away, filepath.Join(tm.mine.Dir, "x/g")))
	tm.other.Commit("theirs", "o", "o\n")
	tm.other.Git("push", "-q")
	s := tm.session()
	require.NoError(t, s.Ledger.Carry(true))
	before := tm.mine.Git("status", "--porcelain")
	p, err := s.Locate(ctx, true)
	require.NoError(t, err)
	require.NotNil(t, p.Carried)
	_, err = s.FastForward(ctx, p, change.Consent{})
	require.NoError(t, err)
	assert.Equal(t, before, tm.mine.Git("status", "--porcelain"))
	assert.Equal(t, "staged", tm.mine.Git("show", ":x/g/h"))
	assert.Equal(t, "elsewhere\n", tm.mine.Read("x/g/h"))
	_, err = s.Applier.GoBack(ctx, "")
	require.NoError(t, err)
	assert.Equal(t, before, tm.mine.Git("status", "--porcelain"))
}

// A file that was moved by hand, and by the others, too: the untracked file at its new place does not become an edit of
// theirs, but is moved aside, and undo brings it back.
func TestAFileThatBothMoved(t *testing.T) {
	tm, ctx := newTeam(t), t.Context()
	text := strings.Repeat("a line\n", 20)
	tm.other.Commit("long", "long", text)
	tm.other.Git("push", "-q")
	tm.mine.Git("pull", "-q")
	tm.other.Git("mv", "long", "moved")
	tm.other.Commit("moved", "moved", text+"theirs\n")
	tm.other.Git("push", "-q")
	require.NoError(t, os.Rename(filepath.Join(tm.mine.Dir, "long"), filepath.Join(tm.mine.Dir, "moved")))
	s := tm.session()
	require.NoError(t, s.Ledger.Carry(true))
	before := standingOf(t, tm.mine.Dir)
	p, err := s.Locate(ctx, true)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Sync(p))
	j, err := s.SettleBy(ctx, p, plan.Merge, []settle.Way{settle.Yours})
	require.NoError(t, err)
	b, err := s.Planner.Build(ctx, p, j)
	require.NoError(t, err)
	_, err = s.Accept(ctx, p, j, b, change.Consent{})
	var over *change.OverwriteError
	require.ErrorAs(t, err, &over)
	assert.Equal(t, []string{"moved"}, over.Paths)
	wp, err := s.Accept(ctx, p, j, b, change.Consent{MoveAside: true})
	require.NoError(t, err)
	assert.Equal(t, []string{"moved"}, wp.Aside)
	_, err = s.Applier.GoBack(ctx, "")
	require.NoError(t, err)
	after := standingOf(t, tm.mine.Dir)
	assert.Equal(t, before.files, after.files)
	assert.Equal(t, before.index, after.index)
}

// TestNamesThatAreNotUTF8: files whose names are bytes of another encoding are joined, carried, moved aside and brought
// back like others, by a later run, too.
func TestNamesThatAreNotUTF8(t *testing.T) {
	t.Parallel()
	const edited, inWay = "caf\xe9", "quai\xff/n\xfa"
	tm := newTeam(t)
	tm.other.Commit("start of it", edited, base)
	tm.other.Git("push", "-q")
	tm.mine.Git("pull", "-q", "--rebase")
	tm.mine.Commit("mine", edited, "MINE\n"+base)
	tm.other.Commit("theirs", edited, base+"THEIRS\n", inWay, "theirs\n")
	tm.other.Git("push", "-q")
	tm.mine.Write(edited, "MINE\n"+strings.Replace(base, "three", "EDITED", 1))
	tm.mine.Write(inWay, "in the way\n")
	before := gittest.Files(t, tm.mine.Dir)
	s := tm.session()
	require.NoError(t, s.Ledger.Carry(true))
	p, j, b := ready(t, s, plan.Rebase, settle.Yours)
	wp, err := s.Accept(t.Context(), p, j, b, change.Consent{MoveAside: true})
	require.NoError(t, err)
	assert.Equal(t, []string{inWay}, wp.Aside)
	assert.Equal(t, "MINE\n"+strings.Replace(base, "three", "EDITED", 1)+"THEIRS\n", tm.mine.Read(edited))
	assert.Equal(t, "theirs\n", tm.mine.Read(inWay))
	s.Close()
	s = tm.session()
	defer s.Close()
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, before, gittest.Files(t, tm.mine.Dir))
}

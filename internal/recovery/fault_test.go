package recovery

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/faulttest"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
)

// TestMain is also the program that is killed: with DORVIK_ACT it does what that says, in a
// process of its own.
func TestMain(m *testing.M) {
	faulttest.Main()
	if what := os.Getenv("DORVIK_ACT"); what != "" {
		if at, err := strconv.Atoi(os.Getenv("DORVIK_STEP")); err == nil {
			dieAt(at)
		}
		if at, err := strconv.Atoi(os.Getenv("DORVIK_FAIL")); err == nil {
			failAt(at)
		}
		if err := act(os.Getenv("DORVIK_DIR"), what); err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	after, err := gittest.IsolateAll()
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	code := m.Run()
	after()
	os.Exit(code)
}

// act does a whole join, or takes it back.
func act(dir, what string) error {
	ctx := context.Background()
	s, err := OpenSession(ctx, dir)
	if err != nil {
		return err
	}
	defer s.Close()
	switch what {
	case "undo":
		_, err := s.Applier.GoBack(ctx, "")
		return err
	case "switch":
		if b, err := s.Repo.Current(ctx); err != nil || b.Name == "there" {
			return err // it is done
		}
		return s.Applier.Switch(ctx, "there")
	case "return":
		way, err := s.WayBack(ctx, "1")
		if err != nil && strings.Contains(err.Error(), "is there already") {
			return nil // it is done
		}
		if err == nil && way.Direct() {
			err = errors.New("nothing came after")
		}
		if err == nil {
			_, err = s.Return(ctx, "1")
		}
		return err
	case "finish", "back":
		if s.Repo.Busy() == "" {
			return nil // it is done
		}
		if what == "back" {
			_, err := s.GiveBack(ctx)
			return err
		}
		if err := s.TakeOver(ctx, ledger.Finish); err != nil {
			return err
		}
	}
	if err := s.Ledger.Carry(what == "carry"); err != nil {
		return err
	}
	p, err := s.Locate(ctx, false)
	if err != nil {
		return err
	}
	if err := s.Ledger.Sync(p); err != nil || p.Trivial() == plan.UpToDate {
		return err
	}
	if err := s.Ledger.TakeRoute(plan.Merge); err != nil {
		return err
	}
	for {
		j, err := s.Planner.Join(ctx, p, plan.Merge, decisions(s), plan.Amends{}, nil)
		if err != nil {
			return err
		}
		if c := firstWithout(j, decisions(s)); c != nil {
			if err := s.Decide(settle.Decision{Key: c.Key, Way: settle.Theirs}); err != nil {
				return err
			}
			continue
		}
		b, err := s.Planner.Build(ctx, p, j)
		if err != nil {
			return err
		}
		_, err = s.Accept(ctx, p, j, b, change.Consent{MoveAside: what == "aside"})
		return err
	}
}

// dieAt has the process be killed at the n-th step.
func dieAt(n int) {
	at := 0
	ledger.Step = func(string) error {
		if at++; at == n {
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
			select {}
		}
		return nil
	}
}

// failAt has the n-th step fail, and counts them in a file.
func failAt(n int) {
	at := 0
	ledger.Step = func(name string) error {
		at++
		_ = os.WriteFile(os.Getenv("DORVIK_STEPS"), []byte(strconv.Itoa(at)), 0o644)
		if at == n {
			return fmt.Errorf("%s: made to fail", name)
		}
		return nil
	}
}

// harbour is a clone about to be joined, with uncommitted work of all kinds, to be copied.
type harbour struct {
	dir          string // before the join
	joined       string // after it
	act          string // how it is made
	before       string // the branch's tip
	files, after map[string]string
	aside        map[string]string // uncommitted, untracked and ignored bytes
	status       [2]string         // what git says of them, before and after
	stuck        bool              // git left something half done
}

func newHarbour(t *testing.T, many int) *harbour {
	tm := newTeam(t)
	more := []string{"f", strings.Replace(base, "two", "THEIRS", 1), "new/deep/x", "new\n", "mode", "#!/bin/sh\n",
		"turns", "now a file\n"}
	for i := range many {
		more = append(more, fmt.Sprintf("many/%d", i), fmt.Sprintf("many %d\n", i))
	}
	tm.other.Write("gone", "to go\n")
	tm.other.Write("turns/into", "was in a folder\n")
	tm.other.Write("mode", "#!/bin/sh\n")
	require.NoError(t, os.Symlink("f", filepath.Join(tm.other.Dir, "link")))
	tm.other.Write("target/x", "in both\n")
	require.NoError(t, os.Symlink("target", filepath.Join(tm.other.Dir, "way")))
	tm.other.Commit("start")
	tm.other.Git("push", "-q")
	tm.mine.Git("pull", "-q")
	tm.mine.Commit("mine", "f", strings.Replace(base, "two", "MINE", 1), "m", "m\n", "crlf.txt", "a\r\nb\r\n")
	tm.other.Git("rm", "-q", "gone", "turns/into")
	require.NoError(t, os.Remove(filepath.Join(tm.other.Dir, "link")))
	require.NoError(t, os.Symlink("g", filepath.Join(tm.other.Dir, "link")))
	require.NoError(t, os.Remove(filepath.Join(tm.other.Dir, "way")))
	tm.other.Write("way/x", "in both\n") // a folder in the place of a link to one that has the same
	for i := 0; i < len(more); i += 2 {
		tm.other.Write(more[i], more[i+1])
	}
	require.NoError(t, os.Chmod(filepath.Join(tm.other.Dir, "mode"), 0o755))
	tm.other.Commit("theirs")
	tm.other.Git("push", "-q")
	mine := tm.mine
	mine.Git("fetch", "-q")
	mine.Write(".git/info/exclude", "*.log\n")
	h := &harbour{dir: mine.Dir, before: mine.Git("rev-parse", "main"), act: "accept",
		aside: map[string]string{"g": "edited, not staged\n", "d/h": "more\n",
			"untracked/x": "untracked\n", "ignored.log": "ignored\n", "staged": "staged\n"}}
	mine.Write("d/h", "staged first\n")
	mine.Write("staged", "staged\n")
	mine.Git("add", "d/h", "staged")
	for path, text := range h.aside {
		mine.Write(path, text)
	}
	require.NoError(t, os.MkdirAll(filepath.Join(mine.Dir, "empty"), 0o755))
	return h.ready(t)
}

// newLadenHarbour is one with uncommitted work in files that the join changes, which is carried.
func newLadenHarbour(t *testing.T) *harbour {
	h := newHarbour(t, 0)
	r := gittest.At(t, h.dir)
	r.Write("f", strings.Replace(r.Read("f"), "five", "STAGED", 1))
	r.Git("add", "f")
	r.Write("f", strings.Replace(r.Read("f"), "four", "EDITED", 1))
	r.Write("crlf.txt", "a\r\nb\r\nc\n")
	require.NoError(t, os.Remove(filepath.Join(r.Dir, "gone")))
	r.Write("mode", "#!/bin/sh\nexit\n")
	r.Git("add", "mode")
	h.act = "carry"
	return h.ready(t)
}

// newAsideHarbour is one with files that git does not know where the join puts folders and files.
func newAsideHarbour(t *testing.T) *harbour {
	h := newHarbour(t, 2)
	r := gittest.At(t, h.dir)
	r.Write(".git/info/exclude", "*.log\nnew\n0\n")
	r.Write("new", "mine, ignored\n")
	r.Write("many/0", "mine, ignored\n")
	r.Write("turns/x.log", "mine, ignored\n")
	h.act = "aside"
	return h.ready(t)
}

// newStuckHarbour is one in which git left a rebase half done, with work beside it, which is
// finished or taken back.
func newStuckHarbour(t *testing.T, act string) *harbour {
	mine := newHalfDone(t, halfDones["rebase"])
	settledSoFar["other edits, too"](mine)
	h := &harbour{dir: mine.Dir, act: act, stuck: true}
	return h.ready(t)
}

// newSwitchHarbour is one with another branch to go to, and work beside what differs there.
func newSwitchHarbour(t *testing.T) *harbour {
	h := newHarbour(t, 3)
	gittest.At(t, h.dir).Git("branch", "there", "origin/main")
	h.act = "switch"
	return h.ready(t)
}

// newReturnHarbour is one that was joined, and had a commit made on top, and that goes back to
// before both.
func newReturnHarbour(t *testing.T) *harbour {
	h := newHarbour(t, 0)
	r := gittest.At(t, h.joined)
	r.Write("later", "later\n")
	r.Git("add", "later")
	r.Git("commit", "-q", "-m", "later", "--", "later")
	back := &harbour{dir: h.joined, act: "return", before: r.Git("rev-parse", "main")}
	return back.ready(t)
}

// isBefore reports whether a clone is as before.
func (h *harbour) isBefore(at *gittest.Repo) bool {
	if h.stuck {
		return exists(filepath.Join(at.Dir, ".git/rebase-merge"))
	}
	if h.act == "switch" {
		return at.Git("symbolic-ref", "HEAD") == "refs/heads/main"
	}
	return at.Git("rev-parse", "main") == h.before
}

// ready makes the join of it, to compare with.
func (h *harbour) ready(t *testing.T) *harbour {
	h.files = gittest.Files(t, h.dir)
	h.joined = h.copy(t, h.dir)
	require.NoError(t, act(h.joined, h.act))
	h.after = gittest.Files(t, h.joined)
	for i, dir := range []string{h.dir, h.joined} {
		h.status[i] = h.says(gittest.At(t, dir))
	}
	return h
}

// copy makes a copy of a clone, times and all.
func (h *harbour) copy(t *testing.T, from string) string {
	to := filepath.Join(t.TempDir(), "clone")
	out, err := exec.Command("cp", "-a", from, to).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return to
}

// whole holds that a clone is, once Dorvik has been started in it, wholly as before or
// wholly as after, the person's own work as it was, and that the job can be ended.
func (h *harbour) whole(t *testing.T, dir, what string) bool {
	w, err := OpenWorkspace(t.Context(), dir)
	if !assert.NoError(t, err, what) {
		return false
	}
	half, _, err := w.WorkTree.HalfDone()
	assert.NoError(t, err, what)
	at := gittest.At(t, dir)
	status := at.Git("status", "--porcelain")
	w.Close()
	s, err := OpenSession(t.Context(), dir)
	if !assert.NoError(t, err, what) {
		return false
	}
	notice := s.TakeNotice()
	s.Close()
	ok := true
	if half != nil {
		ok = assert.NotEmpty(t, notice, "%s: it is said", what)
	} else {
		// What does not say that it is half done is whole already.
		ok = assert.Equal(t, status, at.Git("status", "--porcelain"), what)
	}
	is, says := h.files, h.status[0]
	if !h.isBefore(at) {
		is, says = h.after, h.status[1]
	}
	ok = ok && assert.Equal(t, is, gittest.Files(t, dir), "%s: files\n%s", what, notice) &&
		assert.Equal(t, says, h.says(at), what)
	for _, left := range []string{".git/index.lock", ".git/dorvik/moving.json", ".git/dorvik/pack", ".git/dorvik/index",
		".git/refs/heads/main.lock", ".git/HEAD.lock"} {
		ok = assert.NoFileExists(t, filepath.Join(dir, left), what) && assert.NoDirExists(t, filepath.Join(dir,
			left), what) && ok
	}
	packs, _ := filepath.Glob(filepath.Join(dir, ".git/objects/pack/tmp_*"))
	ok = assert.Empty(t, packs, what) && ok
	return ok && assert.NoError(t, act(dir, h.act), what) && assert.Equal(t, h.after, gittest.Files(t, dir),
		"%s: it can be done after all", what)
}

// says is what git says of a clone; with what is half done there.
func (h *harbour) says(at *gittest.Repo) string {
	if h.stuck {
		return at.Git("status")
	}
	return at.Git("status", "--porcelain")
}

// run has a process do something under a fault, and waits until all it started is dead.
func run(dir, what string, env ...string) error {
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(append(os.Environ(), "DORVIK_ACT="+what, "DORVIK_DIR="+dir), env...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// faultyGit puts a git first on the PATH that does something else at its n-th call, and gives
// the variables that say so. It counts calls in a file.
func faultyGit(t *testing.T) (dir string, env func(mode string, at int) []string) {
	real, err := exec.LookPath("git")
	require.NoError(t, err)
	dir = t.TempDir()
	script := `#!/bin/sh
n=$(($(cat "$FAULT_COUNT" 2>/dev/null || echo 0) + 1))
echo $n > "$FAULT_COUNT"
if [ $n = "$FAULT_AT" ]; then
  case $FAULT_MODE in
  kill-after) ` + real + ` "$@"; kill -9 $PPID; exit 1;;
  fail-instead) echo "fatal: made to fail" >&2; exit 128;;
  fail-after) ` + real + ` "$@"; echo "fatal: made to fail" >&2; exit 128;;
  refs-halfway|refs-halfway-alive)
    if [ "$1" = update-ref ]; then
      head -z -n 3 > "$FAULT_COUNT.first"
      ` + real + ` update-ref -m half --stdin -z < "$FAULT_COUNT.first"
      ! grep -qa refs/heads "$FAULT_COUNT.first" || : > .git/HEAD.lock
    fi
    [ $FAULT_MODE = refs-halfway-alive ] || kill -9 $PPID
    kill -9 $$;;
  die-halfway|git-dies)
    if [ "$1" = checkout-index ]; then
      at=${3#--prefix=}
      mkdir -p "$at/new/deep"; printf 'fil' > "$at/new/deep/x"; printf 'one' > "$at/f"
    fi
    [ $FAULT_MODE = git-dies ] || kill -9 $PPID
    kill -9 $$;;
  esac
fi
exec ` + real + ` "$@"
`
	gittest.Program(t, filepath.Join(dir, "git"), script)
	return dir, func(mode string, at int) []string {
		count := filepath.Join(dir, "count")
		os.Remove(count)
		return []string{"PATH=" + dir + ":" + os.Getenv("PATH"), "FAULT_COUNT=" + count, "FAULT_MODE=" + mode,
			"FAULT_AT=" + strconv.Itoa(at)}
	}
}

// TestEveryFaultLeavesAWhole kills the process, or has a command fail, at every call of git and
// at every step of its own, while it joins and while it undoes.
func TestEveryFaultLeavesAWhole(t *testing.T) {
	t.Parallel()
	many := 0
	if v, err := strconv.Atoi(os.Getenv("DORVIK_FILES")); err == nil {
		many = v
	}
	soak := os.Getenv("DORVIK_FILES") != ""
	for name, every := range map[string]int{"light": 7, "aside": 31, "laden": 31, "stuck": 61, "given back": 97,
		"returned": 97} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := map[string]func() *harbour{"light": func() *harbour { return newHarbour(t, many) },
				"aside":      func() *harbour { return newAsideHarbour(t) },
				"laden":      func() *harbour { return newLadenHarbour(t) },
				"stuck":      func() *harbour { return newStuckHarbour(t, "finish") },
				"returned":   func() *harbour { return newReturnHarbour(t) },
				"given back": func() *harbour { return newStuckHarbour(t, "back") }}[name]()
			if soak {
				every = 1
			}
			h.everyFault(t, every)
		})
	}
}

// everyFault tries each fault at each call of git and at each step of its own or, where not all are
// wanted, every n-th of them.
func (h *harbour) everyFault(t *testing.T, every int) {
	bin, env := faultyGit(t)
	points := 0
	for what, from := range map[string]string{h.act: h.dir, "undo": h.joined} {
		// How many calls, and steps, there are.
		dir := h.copy(t, from)
		require.NoError(t, run(dir, what, env("", 0)...))
		count, err := os.ReadFile(filepath.Join(bin, "count"))
		require.NoError(t, err)
		calls, err := strconv.Atoi(strings.TrimSpace(string(count)))
		require.NoError(t, err)
		counted := filepath.Join(t.TempDir(), "steps")
		require.NoError(t, run(h.copy(t, from), what, "DORVIK_FAIL=0", "DORVIK_STEPS="+counted))
		count, err = os.ReadFile(counted)
		require.NoError(t, err)
		total, err := strconv.Atoi(string(count))
		require.NoError(t, err)
		require.Greater(t, calls, 5)
		require.Greater(t, total, 5)

		for at := 1; at <= calls; at++ {
			// Killed half-way through anything but writing files is killed before it.
			for i, mode := range []string{"kill-after", "fail-instead", "fail-after", "die-halfway", "git-dies",
				"refs-halfway",
				"refs-halfway-alive"} {
				if t.Failed() {
					return
				}
				if (5*at+i)%every != 0 {
					continue
				}
				dir := h.copy(t, from)
				err := run(dir, what, env(mode, at)...)
				h.whole(t, dir, fmt.Sprintf("%s, %s at call %d: %v", what, mode, at, err))
				points++
			}
		}
		for at := 1; at <= total; at++ {
			if every > 1 && at%every%7 != 3 { // one in seven, and others in each scene
				continue
			}
			dir := h.copy(t, from)
			err := run(dir, what, "DORVIK_STEP="+strconv.Itoa(at))
			assert.Error(t, err)
			h.whole(t, dir, fmt.Sprintf("%s, killed at step %d", what, at))
			dir = h.copy(t, from)
			err = run(dir, what, "DORVIK_FAIL="+strconv.Itoa(at), "DORVIK_STEPS="+counted)
			h.whole(t, dir, fmt.Sprintf("%s, step %d failing: %v", what, at, err))
			points += 2
			if t.Failed() {
				return
			}
		}
	}
	t.Logf("%d points tried", points)
}

// TestWhatSomebodyDidAfterACut: the run was killed at each step, and then its owner edited a file
// the join changes, or was on another branch and came back. Nothing of either is lost.
func TestWhatSomebodyDidAfterACut(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 0)
	for at := 1; ; at++ {
		dir := h.copy(t, h.dir)
		if err := run(dir, "accept", "DORVIK_STEP="+strconv.Itoa(at)); err == nil {
			require.Greater(t, at, 8)
			return
		}
		half := exists(filepath.Join(dir, ".git/dorvik/moving.json"))
		for name, meanwhile := range map[string]func(r *gittest.Repo){
			"edited":         func(r *gittest.Repo) { r.Write("f", "edited after the cut\n") },
			"written":        func(r *gittest.Repo) { r.Write("new/deep/x", "written after the cut\n") },
			"another branch": func(r *gittest.Repo) { _, _ = r.Try("switch", "-q", "-c", "elsewhere") },
			"and back": func(r *gittest.Repo) {
				_, _ = r.Try("switch", "-q", "-c", "elsewhere")
				_, _ = r.Try("switch", "-q", "main")
			},
			"a commit of all": func(r *gittest.Repo) { r.Git("commit", "-q", "-m", "after the cut") },
		} {
			if t.Failed() {
				return
			}
			what := fmt.Sprintf("killed at step %d, then %s", at, name)
			one := h.copy(t, dir)
			r := gittest.At(t, one)
			if name != "edited" && name != "written" { // as git tells one to
				os.Remove(filepath.Join(one, ".git/index.lock"))
			}
			meanwhile(r)
			tip := r.Git("rev-parse", "HEAD")
			w, err := OpenWorkspace(t.Context(), one)
			require.NoError(t, err)
			tr, alive, err := w.WorkTree.HalfDone()
			assert.NoError(t, err)
			assert.Equal(t, half, tr != nil, what)
			assert.False(t, alive)
			w.Close()
			s, err := OpenSession(t.Context(), one)
			if !assert.NoError(t, err, what) {
				continue
			}
			told := s.TakeNotice()
			assert.Equal(t, half, told != "", "%s: %q", what, told)
			s.Close()
			assert.NoFileExists(t, filepath.Join(one, ".git/dorvik/moving.json"), what)
			for path, text := range h.aside {
				assert.Equal(t, text, r.Read(path), what)
			}
			switch name {
			case "edited":
				assert.Equal(t, "edited after the cut\n", r.Read("f"), what)
			case "written":
				assert.Equal(t, "written after the cut\n", r.Read("new/deep/x"), what)
			case "a commit of all":
				assert.Equal(t, tip, r.Git("rev-parse", "HEAD"), what)
			default:
				is := h.files
				if head := r.Git("rev-parse", "HEAD"); head != h.before {
					is = h.after
				}
				assert.Equal(t, is, gittest.Files(t, one), what)
				assert.Equal(t, h.status[0], r.Git("status", "--porcelain"), what)
			}
		}
	}
}

// TestACommitOnTopOfHalfTheFiles: git died half-way through the files, and its owner removed the
// lock and committed. The files that were half written are put back, and that is said.
func TestACommitOnTopOfHalfTheFiles(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 0)
	_, env := faultyGit(t)
	half := 0
	for at := 1; ; at++ {
		dir := h.copy(t, h.dir)
		if run(dir, "accept", env("die-halfway", at)...) == nil {
			break
		}
		lock := filepath.Join(dir, ".git/index.lock")
		if !exists(filepath.Join(dir, ".git/dorvik/moving.json")) || !exists(lock) {
			continue
		}
		half++
		require.NoError(t, os.Remove(lock))
		r := gittest.At(t, dir)
		tip := func() string { return r.Git("rev-parse", "main") }
		r.Git("commit", "-q", "-m", "after the cut")
		before := tip()
		s, err := OpenSession(t.Context(), dir)
		require.NoError(t, err)
		assert.Contains(t, s.TakeNotice(), "moved since")
		s.Close()
		assert.Equal(t, before, tip())
		assert.Equal(t, h.files, gittest.Files(t, dir))
	}
	assert.Positive(t, half)
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// TestALockOfAnother is named, and not removed.
func TestALockOfAnother(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 0)
	for what, from := range map[string]string{"accept": h.dir, "undo": h.joined} {
		dir := h.copy(t, from)
		lock := filepath.Join(dir, ".git/index.lock")
		require.NoError(t, os.WriteFile(lock, nil, 0o644))
		before := gittest.Files(t, dir)
		err := act(dir, what)
		assert.ErrorContains(t, err, "index.lock")
		assert.ErrorContains(t, err, "remove")
		assert.FileExists(t, lock)
		assert.Equal(t, before, gittest.Files(t, dir))
		assert.NoFileExists(t, filepath.Join(dir, ".git/dorvik/moving.json"))
	}
}

// TestAStartThatFails kills the process at each step. The next start finds the index locked by another git, and may
// fail. The one after that must still leave a whole.
func TestAStartThatFails(t *testing.T) {
	t.Parallel()
	for name, make := range map[string]func() *harbour{"laden": func() *harbour { return newLadenHarbour(t) },
		"aside":      func() *harbour { return newAsideHarbour(t) },
		"stuck":      func() *harbour { return newStuckHarbour(t, "finish") },
		"given back": func() *harbour { return newStuckHarbour(t, "back") },
		"returned":   func() *harbour { return newReturnHarbour(t) }} {
		t.Run(name, func(t *testing.T) {
			h := make()
			every := 9 // of which the soak tries all
			if os.Getenv("DORVIK_FILES") != "" {
				every = 1
			}
			for what, from := range map[string]string{h.act: h.dir, "undo": h.joined} {
				for at := every; !t.Failed(); at += every {
					dir := h.copy(t, from)
					if run(dir, what, "DORVIK_STEP="+strconv.Itoa(at)) == nil {
						break
					}
					lock := filepath.Join(dir, ".git/index.lock")
					os.Remove(lock)
					require.NoError(t, os.WriteFile(lock, nil, 0o644))
					later := time.Now().Add(2 * time.Hour) // it is not one that the killed run left
					require.NoError(t, os.Chtimes(lock, later, later))
					s, err := OpenSession(t.Context(), dir)
					if err == nil {
						s.Close()
					}
					assert.FileExists(t, lock, "it is another's")
					os.Remove(lock)
					h.whole(t, dir, fmt.Sprintf("%s, killed at step %d; the next start: %v", what, at, err))
				}
			}
		})
	}
}

// TestAFileSavedWhileUndoWrites is neither overwritten nor lost: it stays as it was saved, and what undo had for its
// place is kept and told.
func TestAFileSavedWhileUndoWrites(t *testing.T) {
	was := ledger.Step
	t.Cleanup(func() { ledger.Step = was })
	for _, h := range []*harbour{newLadenHarbour(t), newStuckHarbour(t, "finish")} {
		dir := h.copy(t, h.joined)
		r := gittest.At(t, dir)
		saved := map[string]string{}
		ledger.Step = func(name string) error {
			if path, ok := strings.CutPrefix(name, "over "); ok {
				saved[path] = "saved meanwhile: " + path + "\n"
				r.Write(path, saved[path])
			}
			return nil
		}
		s := openAgain(t, dir)
		wp, err := s.Applier.GoBack(t.Context(), "")
		require.NoError(t, err)
		ledger.Step = was
		require.NotEmpty(t, saved)
		told := s.TakeNotice()
		for path, text := range saved {
			assert.Equal(t, text, r.Read(path))
			kept := filepath.Join(s.Repo.Where().Own, "dorvik/kept", wp.Name, "files", path)
			assert.Contains(t, told,
				path+" was saved meanwhile, and stays as it was saved; as it was before it is kept as "+kept)
			data, err := os.ReadFile(kept)
			require.NoError(t, err)
			assert.Equal(t, h.files[path], fmt.Sprintf("%v %s", strings.HasPrefix(h.files[path], "true"), data))
		}
	}
}

// TestAFileThatIsHeldOpenWhileAJoinWrites keeps what goes into it, and tells.
func TestAFileThatIsHeldOpenWhileAJoinWrites(t *testing.T) {
	was := ledger.Step
	t.Cleanup(func() { ledger.Step = was })
	h := newHarbour(t, 0)
	dir := h.copy(t, h.dir)
	s := openAgain(t, dir)
	p, j, b := ready(t, s, plan.Merge, settle.Theirs)
	held, err := os.OpenFile(filepath.Join(dir, "f"), os.O_WRONLY|os.O_APPEND, 0)
	require.NoError(t, err)
	defer held.Close()
	ledger.Step = func(name string) error {
		if name == "files written" {
			_, err := held.WriteString("written late\n")
			return err
		}
		return nil
	}
	_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	kept := regexp.MustCompile(`what was written is kept as (\S+)\.`).FindStringSubmatch(s.TakeNotice())
	require.NotNil(t, kept)
	data, err := os.ReadFile(kept[1])
	require.NoError(t, err)
	assert.Contains(t, string(data), "written late\n")
}

// TestAFileSavedWhileAJoinWrites is neither overwritten nor lost, whenever an editor saves it: before its turn, in its
// place while that is free, or as a new file where the join brings one.
func TestAFileSavedWhileAJoinWrites(t *testing.T) {
	was := ledger.Step
	t.Cleanup(func() { ledger.Step = was })
	h := newHarbour(t, 0)
	for _, at := range []string{"move aside", "switch files", "files"} {
		for _, path := range []string{"f", "gone", "mode", "new/deep/x"} {
			what := path + " saved at: " + at
			dir := h.copy(t, h.dir)
			r := gittest.At(t, dir)
			s := openAgain(t, dir)
			p, j, b := ready(t, s, plan.Merge, settle.Theirs)
			ledger.Step = func(name string) error {
				if name == at {
					r.Write(path, "saved meanwhile\n")
				}
				return nil
			}
			_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
			ledger.Step = was
			require.Error(t, err, what)
			told := err.Error() + " " + s.TakeNotice()
			assert.Equal(t, h.before, r.Git("rev-parse", "main"), what)
			assert.Equal(t, "saved meanwhile\n", r.Read(path), what)
			files := gittest.Files(t, dir)
			if before, had := h.files[path]; had && at == "files" { // the editor wrote it anew: both are there
				kept := regexp.MustCompile(`kept as (\S+/clean/` + path + `)(?:[. ]|$)`).FindStringSubmatch(told)
				require.NotNil(t, kept, "%s: %s", what, told)
				data, err := os.ReadFile(kept[1])
				require.NoError(t, err)
				assert.Equal(t, before[strings.IndexByte(before, ' ')+1:], string(data), what)
			}
			files[path] = h.files[path]
			if h.files[path] == "" {
				delete(files, path)
				delete(files, "new")
				delete(files, "new/deep")
			}
			assert.Equal(t, h.files, files, what)
			assert.NoFileExists(t, filepath.Join(dir, ".git/index.lock"), what)
			assert.NoFileExists(t, filepath.Join(dir, ".git/dorvik/moving.json"), what)
			s.Close()
		}
	}
}

package cli

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
)

// asProgram has the test be the program, for git to call.
const asProgram = "DORVIK_TEST_AS_PROGRAM"

func TestMain(m *testing.M) {
	if os.Getenv(asProgram) != "" {
		os.Exit(Main(os.Args[1:], os.Stdout, os.Stderr, Screens{}))
	}
	os.Exit(m.Run())
}

// filesIn writes files into a folder, those that are not "-", and gives their paths.
func filesIn(t *testing.T, dir string, contents ...string) (paths []string) {
	for i, c := range contents {
		p := filepath.Join(dir, []string{"base", "yours", "theirs", "result"}[i])
		if paths = append(paths, p); c != "-" {
			require.NoError(t, os.WriteFile(p, []byte(c), 0o640))
		}
	}
	return paths
}

// TestSettleCertain: what joins by itself is joined, and the rest is marked just as git marks it.
func TestSettleCertain(t *testing.T) {
	lines := func(changed string) string {
		return strings.Replace("a\nb\nc\nd\ne\nf\ng\nh\n", changed[:1]+"\n", changed+"\n", 1)
	}
	for name, c := range map[string]struct {
		base, yours, theirs string
		code                int
	}{
		"joins":        {lines("a"), lines("b yours"), lines("g theirs"), exitDone},
		"conflicts":    {lines("a"), lines("b yours"), lines("b theirs"), exitConflicts},
		"no line ends": {"x", "x yours", "x theirs", exitConflicts},
		"other ends":   {"x\r\ny\r\n", "X\r\ny\r\n", "XX\r\ny\r\n", exitConflicts},
		"both added":   {"", "yours\n", "theirs\n", exitConflicts},
	} {
		for _, style := range []string{"merge", "diff3"} {
			p := filesIn(t, t.TempDir(), c.base, c.yours, c.theirs, "before")
			code, _, _ := dorvik(append([]string{"settle", "--certain", "--marker-size", "9", "--style", style},
				p...)...)
			assert.Equal(t, c.code, code, name)
			args := []string{"merge-file", "-p", "--marker-size=9", "-L", "yours", "-L", "base", "-L", "theirs"}
			if style == "diff3" {
				args = append(args, "--diff3")
			}
			want, _ := gittest.New(t).Try(append(args, p[1], p[0], p[2])...)
			got, err := os.ReadFile(p[3])
			require.NoError(t, err)
			assert.Equal(t, want, strings.TrimSuffix(string(got), "\n"), "%s, %s", name, style)
			info, err := os.Stat(p[3])
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o640), info.Mode().Perm(), "its rights stay")
		}
	}
	dir := t.TempDir()
	p := filesIn(t, dir, "a", "\x00yours", "b", "before")
	code, _, errs := dorvik(append([]string{"settle", "--certain"}, p...)...)
	assert.Equal(t, exitConflicts, code)
	assert.Contains(t, errs, "is not a text")
	got, _ := os.ReadFile(p[3])
	assert.Equal(t, "\x00yours", string(got))
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 4, "nothing is left beside")
}

// TestSettleAsDriver: real git merges by it.
func TestSettleAsDriver(t *testing.T) {
	r := gittest.New(t)
	bin, err := os.Executable()
	require.NoError(t, err)
	r.Git("config", "merge.dorvik.driver",
		asProgram+"=1 "+bin+" settle --certain --name %P --marker-size %L %O %A %B %A")
	r.Commit("base", ".gitattributes", "*.txt merge=dorvik conflict-marker-size=11\n", "f.txt", "1\n2\n3\n4\n5\n6\n7\n")
	r.Git("switch", "-q", "-c", "side")
	r.Commit("theirs", "f.txt", "1\n2\n3\n4\n5\n6\nseven\n")
	r.Git("switch", "-q", "main")
	r.Commit("yours", "f.txt", "one\n2\n3\n4\n5\n6\n7\n")
	r.Git("merge", "-q", "--no-edit", "side")
	assert.Equal(t, "one\n2\n3\n4\n5\n6\nseven\n", r.Read("f.txt"))
	r.Git("switch", "-q", "side")
	r.Commit("theirs again", "f.txt", "1\n2\n3\nfour\n5\n6\nseven\n")
	r.Git("switch", "-q", "main")
	r.Commit("yours again", "f.txt", "one\n2\n3\nfor\n5\n6\nseven\n")
	_, err = r.Try("merge", "-q", "--no-edit", "side")
	require.Error(t, err, "git is told that a conflict is left")
	assert.Contains(t, r.Read("f.txt"), "<<<<<<<<<<< yours\nfor\n===========\nfour\n>>>>>>>>>>> theirs\n")
	assert.Equal(t, "UU f.txt", r.Git("status", "--porcelain"))
}

// TestSettleOnScreen: the screen is opened where something is asked, and on what it gives the result is
// written; decisions of a run that was broken off are there again.
func TestSettleOnScreen(t *testing.T) {
	gittest.Isolate(t)
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	const base, mine, other = "1\n2\n3\n", "1\nmine\n3\n", "1\nother\n3\n"
	p := filesIn(t, t.TempDir(), base, mine, other, "before")
	tty, err := os.OpenFile(os.DevNull, os.O_WRONLY, 0) // a device of characters, as a terminal is
	require.NoError(t, err)
	defer tty.Close()
	opened := 0
	run := func(do func(s *recovery.Session, j *plan.Join, p *plan.Position) bool) (int, string) {
		var errs bytes.Buffer
		code := command(append([]string{"settle"}, p...), tty, &errs, Screens{File: func(ctx context.Context,
			s *recovery.Session,
			_, name string, save func(*plan.Join) error) (bool, error) {
			opened++
			assert.Equal(t, p[3], name)
			pos, err := s.Locate(ctx, false)
			require.NoError(t, err)
			st := s.Ledger.State()
			j, err := s.Planner.Join(ctx, pos, plan.Merge, &st.Decisions, plan.Amends{}, nil)
			require.NoError(t, err)
			if !do(s, j, pos) {
				return false, nil
			}
			st = s.Ledger.State()
			j, err = s.Planner.Join(ctx, pos, plan.Merge, &st.Decisions, plan.Amends{}, nil)
			require.NoError(t, err)
			return true, save(j)
		}})
		return code, errs.String()
	}
	code, _ := run(func(s *recovery.Session, j *plan.Join, _ *plan.Position) bool {
		require.Equal(t, 1, j.Open)
		q := j.Stops[0].Files[0].Questions[0]
		require.NoError(t, s.Decide(settle.Decision{Key: q.Key, Way: settle.TheirsYours}))
		return false
	})
	assert.Equal(t, exitConflicts, code)
	got, _ := os.ReadFile(p[3])
	assert.Equal(t, "before", string(got))
	code, errs := run(func(_ *recovery.Session, j *plan.Join, _ *plan.Position) bool {
		assert.Equal(t, 1, j.Settled, "it is kept")
		return true
	})
	assert.Equal(t, exitDone, code, errs)
	got, _ = os.ReadFile(p[3])
	assert.Equal(t, "1\nother\nmine\n3\n", string(got))
	cache, err := os.UserCacheDir()
	require.NoError(t, err)
	left, err := os.ReadDir(filepath.Join(cache, "dorvik", "settle"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is kept of what is done")

	p = filesIn(t, t.TempDir(), base, "0\n"+base, base+"4\n", "-")
	code, errs = run(nil)
	assert.Equal(t, exitDone, code)
	assert.Contains(t, errs, "joins by itself")
	got, _ = os.ReadFile(p[3])
	assert.Equal(t, "0\n"+base+"4\n", string(got))
	assert.Equal(t, 2, opened)

	p = filesIn(t, t.TempDir(), base, mine, "-", "before") // they deleted it
	code, errs = run(func(s *recovery.Session, j *plan.Join, _ *plan.Position) bool {
		q := j.Stops[0].Files[0].Questions[0]
		require.True(t, q.Whole())
		require.NoError(t, s.Decide(settle.Decision{Key: q.Key, Way: settle.Theirs}))
		return true
	})
	assert.Equal(t, exitDone, code, errs)
	assert.NoFileExists(t, p[3])

	p = filesIn(t, t.TempDir(), base, mine, other, "before")
	code, _, errs = dorvik(append([]string{"settle"}, p...)...)
	assert.Equal(t, exitConflicts, code)
	assert.Contains(t, errs, "there is no terminal to settle it on")
	for _, wrong := range [][]string{{"settle", "a"}, append([]string{"settle", "--style", "odd"}, p...)} {
		code, _, _ = dorvik(wrong...)
		assert.Equal(t, exitUsage, code)
	}
}

func TestRecoverMakesAnew(t *testing.T) {
	gittest.Isolate(t)
	const mark = "# Code generated by make; DO NOT EDIT.\n"
	remote, mine, other := gittest.Team(t, "names", mark+"a\n")
	mine.Commit("b", "names", mark+"a b\n")
	other.Commit("c", "names", mark+"a c\n")
	other.Git("push", "-q")
	mine.Git("config", "dorvik.generate", "echo made > names")
	recover := func() (int, string) {
		code, _, errs := dorvik("-C", mine.Dir, "recover", "--prefer", "anew", "--no-check", "--push")
		return code, errs
	}
	code, errs := recover()
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "names must be regenerated by “echo made > names”, which was never agreed to")
	s, err := recovery.OpenSession(t.Context(), mine.Dir)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Agree("make names by echo made > names"))
	s.Close()
	code, errs = recover()
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, errs, "names was regenerated by “echo made > names”.")
	assert.Equal(t, "made\n", remote.Content("HEAD", "names"))
}

package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
)

// timed gives the shortest of a few runs of each command in a folder, and its peak
// memory in bytes. They take turns, so that what else the machine does meets all.
func timed(b *testing.B, runs int, dir string, commands ...[]string) (best []time.Duration, peak []int64) {
	best, peak = slices.Repeat([]time.Duration{time.Hour}, len(commands)), make([]int64, len(commands))
	for range runs {
		for i, c := range commands {
			cmd := exec.Command(c[0], c[1:]...)
			cmd.Dir = dir
			start := time.Now()
			used, err := runMeasured(cmd)
			took := time.Since(start)
			// That there are conflicts is 1 for git, and 3 for dorvik.
			asks := map[string]int{"git": 1, binary: 3}[c[0]]
			if code := cmd.ProcessState.ExitCode(); code != 0 && code != asks {
				b.Fatal(c, err)
			}
			best[i], peak[i] = min(best[i], took), max(peak[i], used)
		}
	}
	return best, peak
}

// report tells how two commands compare, git's the first.
func report(b *testing.B, took []time.Duration, peak []int64) {
	b.ReportMetric(took[1].Seconds()/took[0].Seconds(), "x-git")
	b.ReportMetric(float64(peak[1])/(1<<20), "MB-peak")
	b.ReportMetric(float64(peak[0])/(1<<20), "MB-git")
	b.ReportMetric(took[1].Seconds()*1000, "ms-dorvik")
	b.ReportMetric(took[0].Seconds()*1000, "ms-git")
}

// alone tells of a command that git has no like of.
func alone(b *testing.B, took time.Duration, peak int64) {
	b.ReportMetric(took.Seconds(), "s-dorvik")
	b.ReportMetric(float64(peak)/(1<<20), "MB-peak")
}

func mergeTree(yours string) []string {
	return []string{"git", "merge-tree", "--write-tree", yours, "theirs"}
}

func planBy(route, yours string) []string {
	return []string{binary, "plan", "--route", route, "--yours", yours, "--theirs", "theirs"}
}

// BenchmarkPlan measures whole processes against git's own, in one run: the ratios are what counts.
func BenchmarkPlan(b *testing.B) {
	gittest.Isolate(b)
	for _, c := range []struct {
		name, fixture, yours string
		runs                 int
		write                func(*importing)
	}{
		{"merge", "large", "yours", 15, large},
		{"renamed-directories", "large", "origin/moved", 9, large},
		{"100,000-files", "files100000", "yours", 15, grown(100_000)},
		{"1,000,000-lines", "lines1000000", "yours", 3, long(1_000_000)},
		{"rewritten", "rewritten", "yours", 3, versions(rewritten)},
	} {
		b.Run(c.name, func(b *testing.B) {
			_, clone := made(b, c.fixture, c.write)
			for b.Loop() {
				took, peak := timed(b, c.runs, clone.Dir, mergeTree(c.yours), planBy("merge", c.yours))
				report(b, took, peak)
			}
		})
	}
	b.Run("rebase", func(b *testing.B) {
		_, clone := made(b, "large", large)
		for b.Loop() {
			theirs, _ := timed(b, 1, clone.Dir, []string{"git", "rebase", "-q", "theirs", "yours~0"})
			clone.Git("checkout", "-q", "yours")
			ours, peak := timed(b, 5, clone.Dir, planBy("rebase", "yours"))
			report(b, []time.Duration{theirs[0], ours[0]}, []int64{0, peak[0]})
		}
	})
	// Of these git has no like: rebasing takes it an hour, and it has no answer but the whole file of one side.
	b.Run("10,000-commits", func(b *testing.B) {
		_, clone := made(b, "commits10000", deep(10_000))
		for b.Loop() {
			took, peak := timed(b, 2, clone.Dir, planBy("rebase", "yours"))
			alone(b, took[0], peak[0])
		}
	})
	b.Run("one-line", func(b *testing.B) {
		_, clone := made(b, "oneline", versions(oneLine))
		for b.Loop() {
			took, peak := timed(b, 3, clone.Dir, planBy("merge", "yours"))
			alone(b, took[0], peak[0])
		}
	})
}

// BenchmarkShort measures what a shell prompt waits for, in 50,000 files, against the status of git without untracked
// files.
func BenchmarkShort(b *testing.B) {
	gittest.Isolate(b)
	_, clone := made(b, "large", large)
	for b.Loop() {
		took, peak := timed(b, 7, clone.Dir, []string{"git", "status", "--porcelain=v2", "--branch", "-uno"},
			[]string{binary, "look", "--short", "--no-fetch"})
		report(b, took, peak)
	}
}

// BenchmarkPrefer measures the whole job without a screen where both sides changed one line of each file.
func BenchmarkPrefer(b *testing.B) {
	gittest.Isolate(b)
	gittest.Own(b, "user.name", "Runa")
	gittest.Own(b, "user.email", "runa@skerry.example")
	for _, n := range []int{500, 5000} {
		_, clone := made(b, fmt.Sprintf("conflicts%d", n), conflicting(n))
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				again := filepath.Join(b.TempDir(), "clone")
				gittest.At(b, clone.Dir).Git("clone", "-q", "-b", "yours", clone.Dir, again)
				gittest.At(b, again).Git("branch", "-q", "--set-upstream-to=origin/theirs")
				took, peak := timed(b, 1, again, []string{binary, "recover", "--route", "merge", "--prefer",
					"yours-theirs", "--no-check"})
				alone(b, took[0], peak[0])
			}
		})
	}
}

// BenchmarkDecision is how long the rest of a rebase of 100 commits takes to be worked out again after a decision, in
// the program itself: the first commit asks 400, the others follow.
func BenchmarkDecision(b *testing.B) {
	gittest.Isolate(b)
	_, clone := made(b, "places", manyPlaces)
	s, err := recovery.OpenSession(b.Context(), clone.Dir)
	require.NoError(b, err)
	defer s.Close()
	p, err := s.Locate(b.Context(), false)
	require.NoError(b, err)
	join := func(of *settle.Decisions) *plan.Join {
		j, err := s.Planner.Join(b.Context(), p, plan.Rebase, of, plan.Amends{}, nil)
		require.NoError(b, err)
		return j
	}
	questions := join(&settle.Decisions{}).Stops[0].Files[0].Questions
	for b.Loop() {
		var decisions settle.Decisions
		worst := time.Duration(0)
		for n := range 100 {
			decisions.List = append(decisions.List, settle.Decision{Key: questions[n].Key, Way: settle.Theirs})
			begun := time.Now()
			require.Equal(b, n+1, join(&decisions).Settled)
			worst = max(worst, time.Since(begun))
		}
		b.ReportMetric(float64(worst.Microseconds())/1000, "ms")
	}
}

// BenchmarkGrowth is how cost follows what there is to do, for the drawing.
func BenchmarkGrowth(b *testing.B) {
	gittest.Isolate(b)
	for _, c := range []struct {
		what  string
		sizes []int
		route string
		of    func(int) func(*importing)
	}{
		{"files", []int{1000, 10_000, 100_000}, "merge", grown},
		{"commits", []int{100, 1000, 10_000}, "rebase", deep},
		{"lines", []int{10_000, 100_000, 1_000_000}, "merge", long},
		{"conflicts", []int{50, 500, 5000}, "merge", conflicting},
	} {
		for _, n := range c.sizes {
			b.Run(fmt.Sprintf("%s/%d", c.what, n), func(b *testing.B) {
				_, clone := made(b, fmt.Sprintf("%s%d", c.what, n), c.of(n))
				for b.Loop() {
					took, peak := timed(b, 3, clone.Dir, planBy(c.route, "yours"))
					alone(b, took[0], peak[0])
				}
			})
		}
	}
}

// BenchmarkStop is how long a process lives on that is told to end in the middle of its work, at the longest.
func BenchmarkStop(b *testing.B) {
	gittest.Isolate(b)
	for _, c := range []struct {
		name, fixture string
		args          []string
		write         func(*importing)
	}{
		{"10,000-commits", "commits10000", planBy("rebase", "yours"), deep(10_000)},
		{"1,000,000-lines", "lines1000000", planBy("merge", "yours"), long(1_000_000)},
		{"rewritten", "rewritten", planBy("merge", "yours"), versions(rewritten)},
		{"one-line", "oneline", planBy("merge", "yours"), versions(oneLine)},
		{"5,000-conflicts", "conflicts5000", []string{binary, "recover", "--route", "merge", "--prefer", "yours-theirs",
			"--no-check"}, conflicting(5000)},
	} {
		b.Run(c.name, func(b *testing.B) {
			_, clone := made(b, c.fixture, c.write)
			for b.Loop() {
				worst := time.Duration(0)
				for n := range 6 {
					cmd := exec.Command(c.args[0], c.args[1:]...)
					cmd.Dir = clone.Dir
					require.NoError(b, cmd.Start())
					time.Sleep(time.Duration(30+70*n) * time.Millisecond)
					begun := time.Now()
					if cmd.Process.Signal([]os.Signal{os.Interrupt, syscall.SIGTERM}[n%2]) == nil {
						_ = cmd.Wait() // it was told to end
						worst = max(worst, time.Since(begun))
					}
				}
				b.ReportMetric(float64(worst.Microseconds())/1000, "ms-to-stop")
			}
		})
	}
}

// BenchmarkDiff compares two files of 200,000 lines with 2,000 scattered edits,
// read from disk, against git's own command on them.
func BenchmarkDiff(b *testing.B) {
	gittest.Isolate(b)
	r := rand.New(rand.NewPCG(2, 9))
	lines := make([]string, 200_000)
	for i := range lines {
		lines[i] = fmt.Sprintf("line %d of the timetable, quay %d\n", i, r.IntN(1e6))
		if r.IntN(5) == 0 { // as code has them
			lines[i] = []string{"\n", "}\n", "\t}\n", "\treturn nil\n"}[r.IntN(4)]
		}
	}
	edited := slices.Clone(lines)
	for k := range 2000 {
		at := r.IntN(len(edited) - 3)
		switch r.IntN(3) {
		case 0:
			edited[at] = fmt.Sprintf("edited in %d\n", k)
		case 1:
			edited = slices.Insert(edited, at, fmt.Sprintf("added in %d\n", k), "\n")
		default:
			edited = slices.Delete(edited, at, at+1+r.IntN(3))
		}
	}
	dir := b.TempDir()
	files := [2]string{filepath.Join(dir, "a"), filepath.Join(dir, "b")}
	for i, text := range [][]string{lines, edited} {
		require.NoError(b, os.WriteFile(files[i], []byte(strings.Join(text, "")), 0o644))
	}
	for b.Loop() {
		theirs, _ := timed(b, 5, dir, []string{"git", "diff", "--no-index", "--histogram", files[0], files[1]})
		ours, edits := time.Hour, 0
		for range 5 {
			start := time.Now()
			var text [2]string
			for i, f := range files {
				data, err := os.ReadFile(f)
				require.NoError(b, err)
				text[i] = string(data)
			}
			edits = len(diff.Histogram(diff.Lines(text[0]), diff.Lines(text[1])))
			ours = min(ours, time.Since(start))
		}
		b.ReportMetric(ours.Seconds()/theirs[0].Seconds(), "x-git")
		b.ReportMetric(float64(edits), "edits")
		b.ReportMetric(ours.Seconds()*1000, "ms-dorvik")
		b.ReportMetric(theirs[0].Seconds()*1000, "ms-git")
	}
}

// BenchmarkLookingBack measures whole processes: the lines of a file with 1,000 commits against git's own annotating, and
// the first page of 100,000 commits, with a commit-graph and without.
func BenchmarkLookingBack(b *testing.B) {
	gittest.Isolate(b)
	for _, graph := range []string{"", "-with-commit-graph"} {
		_, git := made(b, "past"+graph, past)
		if graph != "" {
			git.Git("commit-graph", "write", "--reachable")
		}
		b.Run("annotate"+graph, func(b *testing.B) {
			for b.Loop() {
				took, peak := timed(b, 5, git.Dir, []string{"git", "blame", "--line-porcelain", "origin/timetable",
					"--", "docs/timetable"}, []string{binary, "annotate", "--json", "origin/timetable", "docs/timetable"})
				report(b, took, peak)
			}
		})
		b.Run("history"+graph, func(b *testing.B) {
			for b.Loop() {
				took, peak := timed(b, 5, git.Dir, []string{binary, "history", "--json", "--max", "100",
					"origin/main"}, []string{binary, "history", "origin/main"})
				b.ReportMetric(took[0].Seconds()*1000, "ms-100-commits")
				b.ReportMetric(took[1].Seconds()*1000, "ms-all")
				b.ReportMetric(float64(peak[0])/(1<<20), "MB-100-commits")
			}
		})
	}
}

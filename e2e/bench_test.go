package e2e

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/gittest"

	"github.com/stretchr/testify/require"
)

// large makes a repository of 50,000 files of 60 lines in a two-level tree, and
// two branches of 100 commits each that change 1,000 files in all, some of them
// the same. A third branch is the first with 300 of the 500 directories renamed.
func large(b *testing.B) *gittest.Repo {
	const perDir, dirs, lines, commits, each = 100, 500, 60, 100, 10
	r := rand.New(rand.NewPCG(1, 9))
	var out bytes.Buffer
	path := func(n int) string { return fmt.Sprintf("d%03d/f%03d.txt", n/perDir, n%perDir) }
	text := func(n int, edited map[int]string) string {
		var s bytes.Buffer
		for l := range lines {
			if e, ok := edited[l]; ok {
				s.WriteString(e)
			} else {
				fmt.Fprintf(&s, "file %d line %d of the timetable\n", n, l)
			}
		}
		return s.String()
	}
	mark := 0
	commit := func(ref string, from int) {
		mark++
		fmt.Fprintf(&out, "commit %s\nmark :%d\ncommitter A <a@skerry.example> %d +0000\ndata 1\nx\n", ref, mark,
			1767000000+mark*60)
		if from > 0 {
			fmt.Fprintf(&out, "from :%d\n", from)
		}
	}
	put := func(n int, s string) { fmt.Fprintf(&out, "M 100644 inline %s\ndata %d\n%s\n", path(n), len(s), s) }
	commit("refs/heads/main", 0)
	for n := range perDir * dirs {
		put(n, text(n, nil))
	}
	base := mark
	for side, ref := range []string{"refs/heads/yours", "refs/heads/theirs"} {
		from := base
		edits := map[int]map[int]string{}
		for c := range commits {
			commit(ref, from)
			from = mark
			for range each {
				n := r.IntN(perDir * dirs)
				if r.IntN(10) == 0 {
					n = 50 * r.IntN(100) // files that both sides touch, far apart
				}
				if edits[n] == nil {
					edits[n] = map[int]string{}
				}
				edits[n][side*30+r.IntN(20)] = fmt.Sprintf("side %d edited this in %d\n", side, c)
				put(n, text(n, edits[n]))
			}
		}
	}
	commit("refs/heads/moved", base+commits)
	for n := range 300 {
		fmt.Fprintf(&out, "R d%03d moved%03d\n", n, n)
	}
	git := gittest.New(b)
	o, err := git.TryInput(out.Bytes(), "fast-import", "--quiet")
	require.NoError(b, err, o)
	git.Git("repack", "-adq")
	return git
}

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
			if code := cmd.ProcessState.ExitCode(); code > 3 || code < 0 {
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

func mergeTree(yours string) []string {
	return []string{"git", "merge-tree", "--write-tree", yours, "theirs"}
}

func plan(route, yours string) []string {
	return []string{binary, "plan", "--route", route, "--yours", yours, "--theirs", "theirs"}
}

// BenchmarkPlan measures whole processes against git's own, in one run: the
// ratios are what counts.
func BenchmarkPlan(b *testing.B) {
	gittest.Isolate(b)
	git := large(b)
	clone := filepath.Join(b.TempDir(), "clone")
	out, err := exec.Command("git", "clone", "-q", "--no-hardlinks", "-b", "yours", git.Dir, clone).CombinedOutput()
	require.NoError(b, err, "%s", out)
	for name, yours := range map[string]string{"merge": "yours", "renamed-directories": "moved"} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				took, peak := timed(b, 7, git.Dir, mergeTree(yours), plan("merge", yours))
				report(b, took, peak)
			}
		})
	}
	b.Run("rebase", func(b *testing.B) {
		for b.Loop() {
			theirs, _ := timed(b, 1, clone, []string{"git", "rebase", "-q", "origin/theirs", "origin/yours"})
			ours, peak := timed(b, 3, git.Dir, plan("rebase", "yours"))
			b.ReportMetric(theirs[0].Seconds()/ours[0].Seconds(), "x-faster")
			b.ReportMetric(float64(peak[0])/(1<<20), "MB-peak")
			b.ReportMetric(ours[0].Seconds()*1000, "ms-dorvik")
			b.ReportMetric(theirs[0].Seconds()*1000, "ms-git")
		}
	})
}

// BenchmarkShort measures what a shell prompt waits for, in 50,000 files, against the status of git without untracked
// files.
func BenchmarkShort(b *testing.B) {
	gittest.Isolate(b)
	git := large(b)
	clone := filepath.Join(b.TempDir(), "clone")
	out, err := exec.Command("git", "clone", "-q", "-b", "yours", git.Dir, clone).CombinedOutput()
	require.NoError(b, err, "%s", out)
	gittest.At(b, clone).Git("branch", "-q", "--set-upstream-to=origin/theirs")
	for b.Loop() {
		took, peak := timed(b, 7, clone, []string{"git", "status", "--porcelain=v2", "--branch", "-uno"},
			[]string{binary, "look", "--short", "--no-fetch"})
		report(b, took, peak)
	}
}

// BenchmarkPrefer measures the whole job without a screen where both sides changed one line of each file, in 2,500 files
// and in twice as many: the time has to follow their number.
func BenchmarkPrefer(b *testing.B) {
	gittest.Isolate(b)
	gittest.Own(b, "user.name", "Runa")
	gittest.Own(b, "user.email", "runa@skerry.example")
	var took [2]time.Duration
	for b.Loop() {
		for i, n := range []int{2500, 5000} {
			var out bytes.Buffer
			for mark, ref := range []string{"main", "yours", "theirs"} {
				fmt.Fprintf(&out, "commit refs/heads/%s\nmark :%d\ncommitter A <a@skerry.example> %d +0000\ndata "+
					"1\nx\n", ref, mark+1,
					1767000000+mark)
				if mark > 0 {
					out.WriteString("from :1\n")
				}
				for k := range n {
					text := strings.Repeat(fmt.Sprintf("line of %d\n", k), 10) + ref + "\n" + strings.Repeat("end\n",
						10)
					fmt.Fprintf(&out, "M 100644 inline d%02d/f%02d\ndata %d\n%s\n", k/100, k%100, len(text), text)
				}
			}
			git := gittest.New(b)
			o, err := git.TryInput(out.Bytes(), "fast-import", "--quiet")
			require.NoError(b, err, o)
			clone := filepath.Join(b.TempDir(), "clone")
			said, err := exec.Command("git", "clone", "-q", "-b", "yours", git.Dir, clone).CombinedOutput()
			require.NoError(b, err, "%s", said)
			gittest.At(b, clone).Git("branch", "-q", "--set-upstream-to=origin/theirs")
			start := time.Now()
			said, err = exec.Command(binary, "-C", clone, "recover", "--route", "merge", "--prefer", "yours-theirs",
				"--no-check").CombinedOutput()
			require.NoError(b, err, "%s", said)
			took[i] = time.Since(start)
		}
	}
	b.ReportMetric(took[1].Seconds(), "s-5,000")
	b.ReportMetric(took[1].Seconds()/took[0].Seconds(), "x-2,500")
}

// BenchmarkSize takes what a repository may grow to: cost has to follow what
// changed. Of 10,000 commits there is no number of git's: it takes an hour.
func BenchmarkSize(b *testing.B) {
	gittest.Isolate(b)
	repo := func(write func(commit func(ref string, from int) int, put func(path, text string))) *gittest.Repo {
		var out bytes.Buffer
		mark := 0
		write(func(ref string, from int) int {
			mark++
			fmt.Fprintf(&out, "commit refs/heads/%s\nmark :%d\ncommitter A <a@skerry.example> %d +0000\ndata 1\nx\n",
				ref, mark, 1767000000+mark)
			if from > 0 {
				fmt.Fprintf(&out, "from :%d\n", from)
			}
			return mark
		}, func(path, text string) { fmt.Fprintf(&out, "M 100644 inline %s\ndata %d\n%s\n", path, len(text), text) })
		git := gittest.New(b)
		o, err := git.TryInput(out.Bytes(), "fast-import", "--quiet")
		require.NoError(b, err, o)
		git.Git("repack", "-adq")
		return git
	}
	against := func(name string, git *gittest.Repo) {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				took, peak := timed(b, 3, git.Dir, mergeTree("yours"), plan("merge", "yours"))
				report(b, took, peak)
			}
		})
	}
	against("100,000-files", repo(func(commit func(ref string, from int) int, put func(path, text string)) {
		name := func(n int) string { return fmt.Sprintf("d%03d/f%03d", n/100, n%100) }
		base := commit("main", 0)
		for n := range 100_000 {
			put(name(n), fmt.Sprintf("file %d\nof\nthe\ntimetable\n", n))
		}
		for side, ref := range []string{"yours", "theirs"} {
			commit(ref, base)
			for n := range 100 {
				put(name(n*997+side*50), fmt.Sprintf("edited by %s\n", ref))
			}
		}
	}))
	against("1,000,000-lines", repo(func(commit func(ref string, from int) int, put func(path, text string)) {
		r := rand.New(rand.NewPCG(3, 9))
		text := func(edited string) string {
			var s strings.Builder
			for l := range 1_000_000 {
				if edited != "" && r.IntN(500) == 0 {
					s.WriteString(edited)
				}
				fmt.Fprintf(&s, "%-95d\n", l)
			}
			return s.String()
		}
		base := commit("main", 0)
		put("large", text(""))
		for _, ref := range []string{"yours", "theirs"} {
			commit(ref, base)
			put("large", text(ref+"\n"))
		}
	}))
	git := repo(func(commit func(ref string, from int) int, put func(path, text string)) {
		base := commit("main", 0)
		for n := range 1000 {
			put(fmt.Sprintf("d%02d/f%02d", n/50, n%50), strings.Repeat(fmt.Sprintf("line of %d\n", n), 20))
		}
		for _, ref := range []string{"yours", "theirs"} {
			from := base
			for c := range 10_000 {
				from = commit(ref, from)
				n := c % 1000
				lines := slices.Repeat([]string{fmt.Sprintf("line of %d\n", n)}, 20)
				lines[map[string]int{"yours": 3, "theirs": 15}[ref]] = fmt.Sprintf("%s %d\n", ref, c)
				put(fmt.Sprintf("d%02d/f%02d", n/50, n%50), strings.Join(lines, ""))
			}
		}
	})
	b.Run("10,000-commits", func(b *testing.B) {
		for b.Loop() {
			ours, peak := timed(b, 1, git.Dir, plan("rebase", "yours"))
			b.ReportMetric(float64(peak[0])/(1<<20), "MB-peak")
			b.ReportMetric(ours[0].Seconds()*1000, "ms-dorvik")
		}
	})
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

// past makes a repository of one line of 100,000 commits, of which every tenth joins a short side
// line, and a branch in which 1,000 commits change one file of 1,500 lines.
func past(b *testing.B) *gittest.Repo {
	r := rand.New(rand.NewPCG(10, 10))
	var out bytes.Buffer
	mark := 0
	commit := func(ref string, parents ...int) int {
		mark++
		fmt.Fprintf(&out, "commit refs/heads/%s\nmark :%d\ncommitter A%d <a%d@skerry.example> %d +0000\ndata "+
			"8\ncommit x\n", ref,
			mark, mark%30, mark%30, 1767000000+mark*60)
		for i, p := range parents {
			fmt.Fprintf(&out, "%s :%d\n", []string{"from", "merge"}[min(i, 1)], p)
		}
		fmt.Fprintf(&out, "M 100644 inline d%02d/f%02d\ndata 7\n%06d\n\n", mark%50, mark%70, mark)
		return mark
	}
	tip := commit("main")
	for mark < 100_000 {
		if mark%10 == 0 {
			side := commit("side", tip)
			tip = commit("main", tip)
			tip = commit("main", tip, side)
			continue
		}
		tip = commit("main", tip)
	}
	var lines []string
	for n := range 1500 {
		lines = append(lines, fmt.Sprintf("line %d of the timetable, as it was in the beginning\n", n))
	}
	for n := range 1000 {
		for range 1 + r.IntN(3) {
			switch at := r.IntN(len(lines)); r.IntN(3) {
			case 0:
				lines[at] = fmt.Sprintf("line changed by %d\n", n)
			case 1:
				lines = slices.Insert(lines, at, fmt.Sprintf("line put in by %d\n", n),
					fmt.Sprintf("and another by %d\n", n))
			default:
				lines = slices.Delete(lines, at, at+1)
			}
		}
		tip = commit("timetable", tip)
		text := strings.Join(lines, "")
		fmt.Fprintf(&out, "M 100644 inline docs/timetable\ndata %d\n%s\n", len(text), text)
	}
	git := gittest.New(b)
	o, err := git.TryInput(out.Bytes(), "fast-import", "--quiet")
	require.NoError(b, err, o)
	git.Git("repack", "-adq")
	return git
}

// BenchmarkLookingBack measures whole processes: the lines of a file with 1,000 commits against
// git's own annotating, and the first page of 100,000 commits, with a commit-graph and without.
func BenchmarkLookingBack(b *testing.B) {
	gittest.Isolate(b)
	git := past(b)
	for _, graph := range []string{"", "-with-commit-graph"} {
		if graph != "" {
			git.Git("commit-graph", "write", "--reachable")
		}
		b.Run("annotate"+graph, func(b *testing.B) {
			for b.Loop() {
				took, peak := timed(b, 5, git.Dir, []string{"git", "blame", "--line-porcelain", "timetable", "--",
					"docs/timetable"},
					[]string{binary, "annotate", "--json", "timetable", "docs/timetable"})
				report(b, took, peak)
			}
		})
		b.Run("history"+graph, func(b *testing.B) {
			for b.Loop() {
				took, peak := timed(b, 5, git.Dir, []string{binary, "history", "--json", "--max", "100", "main"},
					[]string{binary, "history", "main"})
				b.ReportMetric(took[0].Seconds()*1000, "ms-100-commits")
				b.ReportMetric(took[1].Seconds()*1000, "ms-all")
				b.ReportMetric(float64(peak[0])/(1<<20), "MB-100-commits")
			}
		})
	}
}

// Command bench measures speed and memory, and says what was asked of each.
//
//	go run ./scripts/bench             runs the benchmarks and prints the table
//	go run ./scripts/bench -from FILE  prints it of what they wrote before
//	go run ./scripts/bench -draw FILE  draws how cost grows, too, as SVG
//
// What the benchmarks write is kept in bin/bench.txt, as benchstat reads it. The exit code is 1 where something is more
// than a tenth beyond what was asked.
package main

import (
	"bufio"
	"bytes"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"text/tabwriter"
)

// row is one thing that was asked.
type row struct {
	name, unit string // benchmark, and unit it reports
	what       string
	asked      float64 // upper limit
}

// grace is how much more than what was asked is taken for it: machines are never the same twice.
const grace = 1.1

var rows = []row{
	{"Plan/merge", "x-git", "plan a merge in 50,000 files, against git merge-tree", 1},
	{"Plan/100,000-files", "x-git", "the same in 100,000 files, 100 changed a side", 1},
	{"Plan/renamed-directories", "x-git", "the same with 300 renamed directories", 1},
	{"Plan/rebase", "x-git", "plan a rebase of 100 commits, against git rebase", 0.01},
	{"Plan/10,000-commits", "s-dorvik", "plan a rebase of 10,000 commits onto 10,000, s", 3},
	{"Plan/1,000,000-lines", "x-git", "a text of 96 MB with 2,000 edits a side, against git merge-tree", 0.8},
	{"Plan/1,000,000-lines", "MB-peak", "its peak memory, MB", 512},
	{"Plan/rewritten", "x-git", "100,000 lines rewritten by both, against git merge-tree", 3},
	{"Plan/one-line", "s-dorvik", "a line of 20 MB changed by both, s", 3},
	{"Plan/one-line", "MB-peak", "its peak memory, MB", 300},
	{"RealCode", "x-git-joined", "plan of real Go code till the join is read, against git merge-tree, median", 1.5},
	{"RealCode", "ms-p95", "the same with what will not work together, processor time, 95 % within, ms", 300},
	{"RealCode", "MB-peak", "its peak memory, MB", 100},
	{"Short", "x-git", "look --short, against git status", 1},
	{"Look", "ms-first-paint", "dorvik to the first paint, ms", 40},
	{"Look", "ms-lines", "to the two lines, ms", 100},
	{"Look", "ms-whole", "to the whole Look, ms", 250},
	{"Keys", "ms-p99", "a key to its frame at 200×60, 400 conflicts, p99, ms", 17},
	{"Keys", "ms-p99-checking", "the same while a check prints 10,000 lines a second, ms", 17},
	{"Keys", "%-idle", "of a processor while nothing moves, %", 1.5},
	{"Prefer/5000", "s-dorvik", "recover --prefer with 5,000 conflicting files, s", 3},
	{"Decision", "ms", "a decision to the rest of a rebase of 100 commits, ms", 50},
	{"Stop/10,000-commits", "ms-to-stop", "stopping a plan of 10,000 commits, ms", 100},
	{"Stop/1,000,000-lines", "ms-to-stop", "stopping a merge of 96 MB, ms", 100},
	{"Stop/rewritten", "ms-to-stop", "stopping a merge of rewritten lines, ms", 100},
	{"Stop/one-line", "ms-to-stop", "stopping a merge of one line, ms", 100},
	{"Stop/5,000-conflicts", "ms-to-stop", "stopping recover before it changes anything, ms", 100},
	{"Plan/merge", "MB-peak", "peak memory: merge, MB", 100},
	{"Plan/100,000-files", "MB-peak", "100,000 files, MB", 100},
	{"Plan/renamed-directories", "MB-peak", "renamed directories, MB", 100},
	{"Plan/rebase", "MB-peak", "rebase, MB", 100},
	{"Plan/10,000-commits", "MB-peak", "10,000 commits, MB", 100},
	{"Plan/rewritten", "MB-peak", "rewritten lines, MB", 100},
	{"Prefer/5000", "MB-peak", "recover --prefer, MB", 100},
	{"Short", "MB-peak", "look --short, MB", 100},
	{"LookingBack/annotate", "x-git", "the lines of a file with 1,000 commits, against git blame", 1},
	{"LookingBack/history", "ms-100-commits", "the first 100 of 100,000 commits, ms", 100},
	{"Diff", "x-git", "diff of 200,000 lines, against git diff --histogram", 1},
}

func main() {
	from := flag.String("from", "", "print the table of what a `file` has")
	to := flag.String("draw", "", "draw how cost grows, to a `file`")
	flag.Parse()
	if err := run(*from, *to); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(from, to string) error {
	if from == "" {
		from = "bin/bench.txt"
		if err := measure(from); err != nil {
			return err
		}
	}
	text, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	results := parse(text)
	if to != "" {
		if err := drawGrowth(to, results); err != nil {
			return err
		}
	}
	return table(os.Stdout, results)
}

// measure runs the benchmarks, and keeps what they write.
func measure(file string) error {
	if err := os.MkdirAll("bin", 0o755); err != nil {
		return err
	}
	cmd := exec.Command("go", "test", "-run", "^$", "-bench", ".", "-benchtime", "1x", "-timeout", "60m", "./e2e")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = io.MultiWriter(&out, os.Stderr), os.Stderr
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("the benchmarks: %w", err)
	}
	return os.WriteFile(file, out.Bytes(), 0o644)
}

// results are what benchmarks reported, by their names and the units.
type results map[string]map[string]float64

// processors is what the name of a benchmark ends in.
var processors = regexp.MustCompile(`-\d+$`)

// parse reads what benchmarks wrote, in the format of go test.
func parse(text []byte) results {
	out := results{}
	lines := bufio.NewScanner(bytes.NewReader(text))
	for lines.Scan() {
		f := strings.Fields(lines.Text())
		if len(f) < 4 || !strings.HasPrefix(f[0], "Benchmark") {
			continue
		}
		name := processors.ReplaceAllString(strings.TrimPrefix(f[0], "Benchmark"), "")
		out[name] = map[string]float64{}
		for i := 2; i+1 < len(f); i += 2 {
			if v, err := strconv.ParseFloat(f[i], 64); err == nil {
				out[name][f[i+1]] = v
			}
		}
	}
	return out
}

// table prints what was measured beside what was asked; the error says how much was missed.
func table(out io.Writer, of results) error {
	w := tabwriter.NewWriter(out, 0, 8, 2, ' ', 0)
	fmt.Fprintln(w, "what\tnow\tasked\t")
	missed, lacking := 0, 0
	for _, r := range rows {
		now, ok := of[r.name][r.unit]
		switch {
		case !ok:
			lacking++
			fmt.Fprintf(w, "%s\t–\t%g\tnot measured\n", r.what, r.asked)
		case now > r.asked*grace:
			missed++
			fmt.Fprintf(w, "%s\t%.3g\t%g\tmissed\n", r.what, now, r.asked)
		default:
			fmt.Fprintf(w, "%s\t%.3g\t%g\t\n", r.what, now, r.asked)
		}
	}
	if err := w.Flush(); err != nil {
		return err
	}
	if missed > 0 || lacking > 0 {
		return fmt.Errorf("%d of %d are more than a tenth beyond what was asked, and %d were not measured", missed,
			len(rows), lacking)
	}
	return nil
}

// drawGrowth draws how cost follows the size of what there is to do.
func drawGrowth(file string, of results) error {
	var curves []curve
	for _, c := range []struct {
		name, what string
		sizes      []int
	}{
		{"files", "planning a merge, by the files there are; 100 change on each side", []int{1000, 10_000, 100_000}},
		{"commits", "planning a rebase, by the commits on each side", []int{100, 1000, 10_000}},
		{"lines", "planning a merge of one text, by its lines", []int{10_000, 100_000, 1_000_000}},
		{"conflicts", "planning a merge, by the files in conflict", []int{50, 500, 5000}},
	} {
		one := curve{name: c.what}
		for _, n := range c.sizes {
			took, ok := of[fmt.Sprintf("Growth/%s/%d", c.name, n)]["s-dorvik"]
			if !ok {
				return fmt.Errorf("how cost grows with %s was not measured", c.name)
			}
			one.points = append(one.points, point{n, took})
		}
		curves = append(curves, one)
	}
	return os.WriteFile(file,
		growth("How cost grows", "Each step is ten times more. Dashed: what would be in proportion.",
			curves), 0o644)
}

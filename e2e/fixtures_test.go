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

	"dorvik.dev/dorvik/internal/gittest"

	"github.com/stretchr/testify/require"
)

// importing writes what git fast-import reads.
type importing struct {
	bytes.Buffer
	mark int
}

// commit begins a commit on a branch and gives its mark.
func (i *importing) commit(branch string, parents ...int) int {
	i.mark++
	fmt.Fprintf(i, "commit refs/heads/%s\nmark :%d\n", branch, i.mark)
	fmt.Fprintf(i, "committer A%d <a%d@skerry.example> %d +0000\ndata 8\ncommit x\n", i.mark%30, i.mark%30,
		1767000000+i.mark*60)
	for k, p := range parents {
		fmt.Fprintf(i, "%s :%d\n", []string{"from", "merge"}[min(k, 1)], p)
	}
	return i.mark
}

// put has the commit hold a text.
func (i *importing) put(path, text string) {
	fmt.Fprintf(i, "M 100644 inline %s\ndata %d\n%s\n", path, len(text), text)
}

// made gives the repository that a writer imports, packed, and a clone of it on yours, which follows theirs. They are
// made once where DORVIK_FIXTURES names a folder for them, which need not be there.
func made(b *testing.B, name string, write func(*importing)) (bare, clone *gittest.Repo) {
	dir := os.Getenv("DORVIK_FIXTURES")
	if dir == "" {
		dir = b.TempDir()
	}
	at := [2]string{filepath.Join(dir, name+".git"), filepath.Join(dir, name)}
	bare, clone = gittest.At(b, at[0]), gittest.At(b, at[1])
	if _, err := os.Stat(filepath.Join(at[1], "made")); err == nil {
		return bare, clone
	}
	require.NoError(b, os.MkdirAll(at[0], 0o755))
	bare.Git("init", "-q", "--bare", "-b", "main")
	var i importing
	write(&i)
	o, err := bare.TryInput(i.Bytes(), "fast-import", "--quiet")
	require.NoError(b, err, o)
	bare.Git("repack", "-adq")
	out, err := exec.Command("git", "clone", "-q", "-b", "yours", at[0], at[1]).CombinedOutput()
	require.NoError(b, err, "%s", out)
	clone.Git("branch", "-q", "--set-upstream-to=origin/theirs")
	clone.Git("branch", "-q", "theirs", "origin/theirs")
	require.NoError(b, os.WriteFile(filepath.Join(clone.Dir, ".git", "info", "exclude"), []byte("/made\n"), 0o644))
	require.NoError(b, os.WriteFile(filepath.Join(clone.Dir, "made"), nil, 0o644))
	return bare, clone
}

// large has 50,000 files of 60 lines in 500 directories, and two branches of 100 commits each that change 1,000 files in
// all, some of them the same. A third branch is the first with 300 of the 500 directories renamed.
func large(i *importing) {
	const perDir, dirs, lines, commits, each = 100, 500, 60, 100, 10
	r := rand.New(rand.NewPCG(1, 9))
	path := func(n int) string { return fmt.Sprintf("d%03d/f%03d.txt", n/perDir, n%perDir) }
	text := func(n int, edited map[int]string) string {
		var s strings.Builder
		for l := range lines {
			if e, ok := edited[l]; ok {
				s.WriteString(e)
			} else {
				fmt.Fprintf(&s, "file %d line %d of the timetable\n", n, l)
			}
		}
		return s.String()
	}
	base := i.commit("main")
	for n := range perDir * dirs {
		i.put(path(n), text(n, nil))
	}
	for side, branch := range []string{"yours", "theirs"} {
		from := base
		edits := map[int]map[int]string{}
		for c := range commits {
			from = i.commit(branch, from)
			for range each {
				n := r.IntN(perDir * dirs)
				if r.IntN(10) == 0 {
					n = 50 * r.IntN(100) // files that both sides touch, far apart
				}
				if edits[n] == nil {
					edits[n] = map[int]string{}
				}
				edits[n][side*30+r.IntN(20)] = fmt.Sprintf("side %d edited this in %d\n", side, c)
				i.put(path(n), text(n, edits[n]))
			}
		}
	}
	i.commit("moved", base+commits)
	for n := range 300 {
		fmt.Fprintf(i, "R d%03d moved%03d\n", n, n)
	}
}

// grown is a history of so many files of four lines, in directories of 100, of which each side changes 100.
func grown(files int) func(*importing) {
	return func(i *importing) {
		name := func(n int) string { return fmt.Sprintf("d%03d/f%03d", n/100, n%100) }
		base := i.commit("main")
		for n := range files {
			i.put(name(n), fmt.Sprintf("file %d\nof\nthe\ntimetable\n", n))
		}
		for side, branch := range []string{"yours", "theirs"} {
			i.commit(branch, base)
			for n := range 100 {
				i.put(name((n*997+side*50)%files), fmt.Sprintf("edited by %s\n", branch))
			}
		}
	}
}

// long is a text of so many lines of 96 bytes, with an edit by each side in every 500.
func long(lines int) func(*importing) {
	return func(i *importing) {
		r := rand.New(rand.NewPCG(3, 9))
		text := func(edited string) string {
			var s strings.Builder
			for l := range lines {
				if edited != "" && r.IntN(500) == 0 {
					s.WriteString(edited)
				}
				fmt.Fprintf(&s, "%-95d\n", l)
			}
			return s.String()
		}
		base := i.commit("main")
		i.put("large", text(""))
		for _, branch := range []string{"yours", "theirs"} {
			i.commit(branch, base)
			i.put("large", text(branch+"\n"))
		}
	}
}

// deep is so many commits on each side, each changing one of 1,000 files of 20 lines.
func deep(commits int) func(*importing) {
	return func(i *importing) {
		name := func(n int) string { return fmt.Sprintf("d%02d/f%02d", n/50, n%50) }
		base := i.commit("main")
		for n := range 1000 {
			i.put(name(n), strings.Repeat(fmt.Sprintf("line of %d\n", n), 20))
		}
		for side, branch := range []string{"yours", "theirs"} {
			from := base
			for c := range commits {
				from = i.commit(branch, from)
				n := c % 1000
				lines := slices.Repeat([]string{fmt.Sprintf("line of %d\n", n)}, 20)
				lines[3+12*side] = fmt.Sprintf("%s %d\n", branch, c)
				i.put(name(n), strings.Join(lines, ""))
			}
		}
	}
}

// versions is one file, as it was and as either side has it.
func versions(of func(who string) string) func(*importing) {
	return func(i *importing) {
		base := i.commit("main")
		i.put("large", of(""))
		for _, branch := range []string{"yours", "theirs"} {
			i.commit(branch, base)
			i.put("large", of(branch))
		}
	}
}

// rewritten is a text of 100,000 lines, each of them written anew by both sides.
func rewritten(who string) string {
	var s strings.Builder
	for l := range 100_000 {
		fmt.Fprintf(&s, "%sline %d of the timetable\n", who, l)
	}
	return s.String()
}

// oneLine is a line of 20 MB, which each side changed in one place.
func oneLine(who string) string {
	var s strings.Builder
	for n := range 2_000_000 {
		if who == "yours" && n == 500_000 || who == "theirs" && n == 1_500_000 {
			s.WriteString(who)
		}
		fmt.Fprintf(&s, "%08d, ", n)
	}
	return s.String()
}

// conflicting is so many files in which both sides changed one line.
func conflicting(files int) func(*importing) {
	return func(i *importing) {
		var base int
		for _, branch := range []string{"main", "yours", "theirs"} {
			if base == 0 {
				base = i.commit(branch)
			} else {
				i.commit(branch, base)
			}
			for k := range files {
				i.put(fmt.Sprintf("d%02d/f%02d", k/100, k%100), strings.Repeat(fmt.Sprintf("line of %d\n", k),
					10)+branch+
					"\n"+strings.Repeat("end\n", 10))
			}
		}
	}
}

// manyPlaces is a file of 20,000 lines in which both sides changed the same 400 lines, and, where each commit is to be
// replayed by itself, 100 commits of yours after it that each change a file of its own.
func manyPlaces(i *importing) {
	text := func(who string) string {
		var s strings.Builder
		for l := range 20_000 {
			if l%50 == 25 && who != "" {
				fmt.Fprintf(&s, "line %d by %s\n", l, who)
			} else {
				fmt.Fprintf(&s, "line %d\n", l)
			}
		}
		return s.String()
	}
	base := i.commit("main")
	i.put("long.txt", text(""))
	i.put("Makefile", "check:\n\t@while :; do seq 1000; sleep 0.1; done\n")
	from := i.commit("yours", base)
	i.put("long.txt", text("you"))
	for n := range 100 {
		from = i.commit("yours", from)
		i.put(fmt.Sprintf("quay%d.txt", n), fmt.Sprintf("quay %d\n", n))
	}
	i.commit("theirs", base)
	i.put("long.txt", text("them"))
}

// past is one line of 100,000 commits, of which every tenth joins a short side line, and a branch in which 1,000 commits
// change one file of 1,500 lines.
func past(i *importing) {
	r := rand.New(rand.NewPCG(10, 10))
	commit := func(branch string, parents ...int) int {
		mark := i.commit(branch, parents...)
		i.put(fmt.Sprintf("d%02d/f%02d", mark%50, mark%70), fmt.Sprintf("%06d\n", mark))
		return mark
	}
	tip := commit("main")
	for i.mark < 100_000 {
		if i.mark%10 == 0 {
			side := commit("side", tip)
			tip = commit("main", tip)
			tip = commit("main", tip, side)
			continue
		}
		tip = commit("main", tip)
	}
	for _, branch := range []string{"yours", "theirs"} { // as every fixture has them
		commit(branch, tip)
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
		i.put("docs/timetable", strings.Join(lines, ""))
	}
}

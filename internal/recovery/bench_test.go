package recovery

import (
	"bytes"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
)

// codebase makes a repository of 50,000 files of two kinds, each of ten functions, of which two branches change 1,000
// each: some lines, and every tenth time the name of a function.
func codebase(b *testing.B, kinds [2]string) *gittest.Repo {
	const perDir, dirs, each = 100, 500, 1000
	r := rand.New(rand.NewPCG(13, 1))
	var out bytes.Buffer
	path := func(n int) string {
		return fmt.Sprintf("d%03d/f%03d.%s", n/perDir, n%perDir, kinds[n/perDir%2])
	}
	text := func(n int, side string, at int, renamed bool) string {
		var s strings.Builder
		python := n/perDir%2 == 0
		if !python {
			fmt.Fprintf(&s, "package d%03d\n\n", n/perDir)
		}
		for i := range 10 {
			name, value := fmt.Sprintf("Sail%dOf%d", i, n), fmt.Sprint(i)
			if side != "" && i == at {
				if value = fmt.Sprint(i+100, " + ", len(side)); renamed {
					name = fmt.Sprintf("Sail%dOf%dBy%s", i, n, side)
				}
			}
			if python {
				fmt.Fprintf(&s, "def %s(legs):\n    \"\"\"How long leg %d takes.\"\"\"\n    total = legs * %s\n    "+
					"return total\n\n\n",
					name, i, value)
			} else {
				fmt.Fprintf(&s, "// %s says how long leg %d takes.\nfunc %s(legs int) int {\n\ttotal := legs * "+
					"(%s)\n\treturn total\n}\n\n",
					name, i, name, value)
			}
		}
		return s.String()
	}
	put := func(n int, s string) { fmt.Fprintf(&out, "M 100644 inline %s\ndata %d\n%s\n", path(n), len(s), s) }
	begin := func(ref string, mark int) {
		fmt.Fprintf(&out, "commit refs/heads/%s\nmark :%d\ncommitter A <a@skerry.example> %d +0000\ndata 1\nx\n", ref,
			mark, 1767000000+mark)
		if mark > 1 {
			fmt.Fprintf(&out, "from :1\n")
		}
	}
	begin("main", 1)
	for n := range perDir * dirs {
		put(n, text(n, "", 0, false))
	}
	fmt.Fprintf(&out, "M 100644 inline go.mod\ndata 13\nmodule skerry\n\n")
	for i, side := range []string{"yours", "theirs"} {
		begin(side, i+2)
		for range each {
			n := r.IntN(perDir * dirs)
			put(n, text(n, side, r.IntN(5)+5*i, r.IntN(10) == 0))
		}
	}
	repo := gittest.New(b)
	o, err := repo.TryInput(out.Bytes(), "fast-import", "--quiet")
	require.NoError(b, err, o)
	repo.Git("repack", "-adq")
	return repo
}

// realGo is packages of Go's own library, of which each side has other parameters, and calls that are there already once
// more, in 20 files.
func realGo(b *testing.B) *gittest.Repo {
	root, err := exec.Command("go", "env", "GOROOT").Output()
	require.NoError(b, err)
	src := filepath.Join(strings.TrimSpace(string(root)), "src")
	texts := map[string]string{"go.mod": "module skerry\n\ngo 1.24\n"}
	var paths []string
	for _, part := range []string{"go", "encoding", "net", "text"} {
		require.NoError(b, filepath.WalkDir(filepath.Join(src, part), func(file string, e fs.DirEntry,
			err error) error {
			if err != nil || e.IsDir() || filepath.Ext(file) != ".go" || strings.Contains(file, "testdata") {
				return err
			}
			data, err := os.ReadFile(file)
			rel, _ := filepath.Rel(src, file)
			texts[rel] = string(data)
			paths = append(paths, rel)
			return err
		}))
	}
	head := regexp.MustCompile(`(?m)^func (\(.*?\) )?\w+\(`)
	call := regexp.MustCompile(`(?m)^\t\w+.*\(.*\)\n`)
	r := rand.New(rand.NewPCG(1, 1))
	edited := func(side string) (out []string) {
		for range 20 {
			p := paths[r.IntN(len(paths))]
			text := call.ReplaceAllStringFunc(texts[p], func(l string) string {
				return strings.Repeat(l,
					1+r.IntN(8)/7)
			})
			if at := head.FindAllStringIndex(text, -1); len(at) > 0 && !strings.HasSuffix(p, "_test.go") {
				i := at[r.IntN(len(at))][1]
				if text[i] != ')' {
					text = text[:i] + side + " int, " + text[i:]
				}
			}
			out = append(out, p, text)
		}
		return out
	}
	repo := gittest.New(b)
	var all []string
	for _, p := range slices.Sorted(maps.Keys(texts)) {
		all = append(all, p, texts[p])
	}
	repo.Commit("start", all...)
	for _, side := range []string{"yours", "theirs"} {
		repo.Git("switch", "-q", "-c", side, "main")
		repo.Commit(side, edited(side)...)
	}
	repo.Git("repack", "-adq")
	return repo
}

// BenchmarkMisfits measures how long looking for misfits takes beside planning a merge, both from nothing: of code, of
// which every version that either side has must be read, and of texts that are none.
func BenchmarkMisfits(b *testing.B) {
	gittest.Isolate(b)
	for name, repo := range map[string]*gittest.Repo{"code": codebase(b, [2]string{"py", "go"}), "texts": codebase(b,
		[2]string{"txt", "txt"}), "real Go": realGo(b)} {
		b.Run(name, func(b *testing.B) {
			planning, looking := time.Hour, time.Hour
			for b.Loop() {
				w, err := OpenWorkspace(b.Context(), repo.Dir)
				require.NoError(b, err)
				p, err := w.Compare(b.Context(), "yours", "theirs", false)
				require.NoError(b, err)
				start := time.Now()
				j, err := w.Planner.Join(b.Context(), p, plan.Merge, &settle.Decisions{}, plan.Amends{}, nil)
				require.NoError(b, err)
				planning = min(planning, time.Since(start))
				start = time.Now()
				list, err := w.Planner.Foresight.Misfits(b.Context(), p, j)
				require.NoError(b, err)
				require.True(b, name == "real Go" || len(list) == 0)
				looking = min(looking, time.Since(start))
				w.Close()
			}
			b.ReportMetric(looking.Seconds()/planning.Seconds(), "x-planning")
			b.ReportMetric(looking.Seconds()*1000, "ms-misfits")
			b.ReportMetric(planning.Seconds()*1000, "ms-planning")
		})
	}
}

package e2e

import (
	"encoding/json"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"dorvik.dev/dorvik/internal/gittest"

	"github.com/stretchr/testify/require"
)

// BenchmarkRealCode plans merges of real Go code: of each module that Dorvik is built from, three versions that follow
// each other, of which the middle one is the base. It reports the 95th percentile and the peak over all of them, in
// processor time; and, against git merge-tree, how long it takes until a person reads what the join makes and asks,
// beside which what will not work together is looked for. It needs the network, or the modules in the cache.
func BenchmarkRealCode(b *testing.B) {
	triples := moduleTriples(b)
	gittest.Isolate(b)
	var repos []*gittest.Repo
	for _, t := range triples {
		repos = append(repos, t.repository(b))
	}
	for b.Loop() {
		b.Log("module, versions: join and whole, ms; git, ms; peak, MB")
		var whole, joins []float64
		var most int64
		for i, r := range repos {
			git, _ := timed(b, 5, r.Dir, mergeTree("yours"))
			used, peak := time.Hour, int64(0)
			for range 3 {
				cmd := exec.Command(binary, planBy("merge", "yours")[1:]...)
				cmd.Dir = r.Dir
				p, _ := runMeasured(cmd) // that there are conflicts is no failure
				used, peak = min(used, cmd.ProcessState.UserTime()+cmd.ProcessState.SystemTime()), max(peak, p)
			}
			whole, most = append(whole, used.Seconds()), max(most, peak)
			join := untilRead(b, 5, r.Dir)
			joins = append(joins, join.Seconds()/git[0].Seconds())
			b.Logf("%s %s: %d, %d; %d; %d", triples[i].module, strings.Join(triples[i].versions[:], " "),
				join.Milliseconds(),
				used.Milliseconds(), git[0].Milliseconds(), peak>>20)
		}
		slices.Sort(whole)
		slices.Sort(joins)
		b.ReportMetric(float64(len(repos)), "triples")
		b.ReportMetric(1000*whole[len(whole)/2], "ms-median")
		b.ReportMetric(1000*whole[len(whole)*95/100], "ms-p95")
		b.ReportMetric(float64(most)/(1<<20), "MB-peak")
		b.ReportMetric(joins[len(joins)/2], "x-git-joined")
		b.ReportMetric(joins[len(joins)*95/100], "x-git-joined-p95")
	}
}

// untilRead is the shortest time of a few runs until a plan begins to say what the join makes.
func untilRead(b *testing.B, runs int, dir string) time.Duration {
	best := time.Hour
	for range runs {
		cmd := exec.Command(binary, planBy("merge", "yours")[1:]...)
		cmd.Dir = dir
		out, err := cmd.StderrPipe()
		require.NoError(b, err)
		start := time.Now()
		require.NoError(b, cmd.Start())
		_, err = io.ReadFull(out, make([]byte, 1))
		require.NoError(b, err)
		best = min(best, time.Since(start))
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	return best
}

// triple is three versions of a module that follow each other, the last the one that Dorvik is built with.
type triple struct {
	module   string
	versions [3]string
	dirs     [3]string
}

// moduleTriples downloads what there is of them.
func moduleTriples(b *testing.B) (out []triple) {
	said, err := exec.Command("go", "mod", "edit", "-json").Output()
	require.NoError(b, err)
	var mod struct{ Require []struct{ Path string } }
	require.NoError(b, json.Unmarshal(said, &mod))
	for _, m := range mod.Require {
		list, err := exec.Command("go", "list", "-m", "-versions", "-f",
			"{{.Path}} {{.Version}} {{range .Versions}}{{.}} {{end}}",
			m.Path).Output()
		f := strings.Fields(string(list))
		if err != nil || len(f) < 2 {
			continue // it has no list of versions
		}
		released := slices.DeleteFunc(f[2:], func(v string) bool { return strings.Contains(v, "-") })
		at := slices.Index(released, f[1])
		if at < 2 {
			continue
		}
		t := triple{module: f[0], versions: [3]string(released[at-2 : at+1])}
		for i, v := range t.versions {
			said, err := exec.Command("go", "mod", "download", "-json", t.module+"@"+v).Output()
			var got struct{ Dir string }
			require.NoError(b, err, "%s@%s", t.module, v)
			require.NoError(b, json.Unmarshal(said, &got))
			t.dirs[i] = got.Dir
		}
		out = append(out, t)
	}
	if len(out) == 0 {
		b.Skip("no versions of modules are to be had here")
	}
	return out
}

// repository holds the middle version as the base of the two others.
func (t triple) repository(b *testing.B) *gittest.Repo {
	r := gittest.At(b, b.TempDir())
	r.Git("init", "-q", "-b", "base")
	put := func(i int) {
		r.Git("rm", "-rq", "--ignore-unmatch", ".")
		require.NoError(b, copyInto(r.Dir, t.dirs[i]))
		r.Git("add", "-Af")
		r.Git("commit", "-qm", t.versions[i], "--allow-empty")
	}
	put(1)
	r.Git("switch", "-qc", "theirs")
	put(2)
	r.Git("switch", "-q", "base")
	r.Git("switch", "-qc", "yours")
	put(0)
	r.Git("gc", "-q")
	return r
}

// copyInto copies the files of a folder of the module cache, which may not be written to, into another.
func copyInto(to, from string) error {
	return filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		at := filepath.Join(to, rel)
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return err
		}
		return os.WriteFile(at, data, 0o644)
	})
}

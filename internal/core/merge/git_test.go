package merge

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

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/gittest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// triple is a base and what two sides made of it.
type triple [3][]string

// realTexts gives Go files of a library this project is built with.
func realTexts(t *testing.T) (out [][]string) {
	dir, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/stretchr/testify").Output()
	require.NoError(t, err)
	files, err := filepath.Glob(filepath.Join(strings.TrimSpace(string(dir)), "*", "*.go"))
	require.NoError(t, err)
	for _, f := range files {
		data, err := os.ReadFile(f)
		require.NoError(t, err)
		out = append(out, diff.Lines(string(data)))
	}
	return out
}

// reworked makes edits as people make them: lines changed, taken out, added, and
// blocks doubled or moved.
func reworked(r *rand.Rand, a []string) []string {
	b := slices.Clone(a)
	for range 1 + r.IntN(4) {
		at, n := r.IntN(len(b)), 1+r.IntN(6)
		block := slices.Clone(b[at:min(len(b), at+n)])
		switch r.IntN(5) {
		case 0:
			b[at] = strings.ToUpper(b[at])
		case 1:
			b = slices.Delete(b, at, at+len(block))
		case 2:
			b = slices.Insert(b, at, fmt.Sprintf("\tadded(%d)\n", r.IntN(3)), "\n")
		case 3:
			b = slices.Insert(b, r.IntN(len(b)), block...)
		default:
			b = slices.Delete(b, at, at+len(block))
			b = slices.Insert(b, r.IntN(len(b)+1), block...)
		}
		if len(b) == 0 {
			return []string{"\n"}
		}
	}
	return b
}

// TestTextsAgreeWithGit joins 20,000 random texts and a thousand real ones, and has
// git join them as files of two commits: the same are clean, with the same result.
func TestTextsAgreeWithGit(t *testing.T) {
	r := rand.New(rand.NewPCG(20, 26))
	var all []triple
	for range 20000 {
		b := random(r, 30)
		all = append(all, triple{b, edited(r, b), edited(r, b)})
	}
	texts := realTexts(t)
	for range 1000 {
		b := texts[r.IntN(len(texts))]
		all = append(all, triple{b, reworked(r, b), reworked(r, b)})
	}
	repo := gittest.New(t)
	var in bytes.Buffer
	name := func(n int) string { return fmt.Sprintf("d%03d/f%d", n/100, n) }
	for k, branch := range []string{"base", "yours", "theirs"} {
		fmt.Fprintf(&in, "commit refs/heads/%s\nmark :%d\ncommitter A <a@skerry.example> 1767000000 +0000\ndata 0\n",
			branch, k+1)
		if k > 0 {
			fmt.Fprintln(&in, "from :1")
		}
		for n, c := range all {
			text := strings.Join(c[k], "")
			fmt.Fprintf(&in, "M 100644 inline %s\ndata %d\n%s\n", name(n), len(text), text)
		}
	}
	out, err := repo.TryInput(in.Bytes(), "fast-import", "--quiet")
	require.NoError(t, err, out)
	out, _ = repo.Try("merge-tree", "--write-tree", "--name-only", "--no-messages", "yours", "theirs")
	listed := strings.Split(strings.TrimSpace(out), "\n")
	contested := map[string]bool{}
	for _, p := range listed[1:] {
		contested[p] = true
	}
	ids := map[string]string{}
	for line := range strings.SplitSeq(repo.Git("ls-tree", "-r", listed[0]), "\n") {
		entry, path, _ := strings.Cut(line, "\t")
		ids[path] = strings.Fields(entry)[2]
	}
	clean := 0
	for n, c := range all {
		m := Merge3(c[0], c[1], c[2])
		require.Equal(t, contested[name(n)], m.Conflicts() > 0, "%d: %q", n, c)
		if m.Conflicts() > 0 {
			continue
		}
		clean++
		text := m.Join(nil)
		require.Equal(t, ids[name(n)], object.SHA1.Sum(object.KindBlob, []byte(text)).String(), "%d: %q", n, c)
		known := map[string]bool{}
		for _, l := range slices.Concat(c[0], c[1], c[2]) {
			known[l] = true
		}
		for _, l := range diff.Lines(text) {
			require.True(t, known[l], "every line comes from a side or the base, and not %q", l)
		}
	}
	assert.Greater(t, clean, 5000)
	assert.Less(t, clean, 20000)

	// The command for single files compares in another way, so what it finds clean
	// may differ; where both are clean, the results do not.
	write := func(name string, lines []string) string {
		repo.Write(name, strings.Join(lines, ""))
		return name
	}
	for n := 19850; n < 20150; n++ {
		c := all[n]
		out, err := repo.Try("merge-file", "-p", "--diff3", write("y", c[1]), write("b", c[0]), write("t", c[2]))
		if m := Merge3(c[0], c[1], c[2]); err == nil && m.Conflicts() == 0 {
			require.Equal(t, strings.TrimSpace(m.Join(nil)), strings.TrimSpace(out), "%d: %q", n, c)
		}
	}
}

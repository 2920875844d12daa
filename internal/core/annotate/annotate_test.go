package annotate

import (
	"context"
	"fmt"
	"go/build"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/gittest"
)

// world is a history in memory of one file among others.
type world struct {
	t    testing.TB
	o    *object.Overlay
	when int64
}

func newWorld(t testing.TB) *world {
	return &world{t, object.NewOverlay(object.SHA1, nil), 1_700_000_000}
}

func (w *world) commit(files map[string]string, parents ...object.ID) object.ID {
	set := map[string]object.Entry{}
	for path, text := range files {
		set[path] = object.Entry{Mode: object.ModeFile, ID: w.o.Put(object.KindBlob, []byte(text))}
	}
	tree, err := w.o.Edit(context.Background(), object.ID{}, set)
	require.NoError(w.t, err)
	w.when += 60
	who := object.Signature{Name: "Runa Holt", Email: "runa@skerry.example", When: w.when, Zone: "+0000"}
	return w.o.PutCommit(&object.Commit{Tree: tree, Parents: parents, AuthorLine: who.String(), Committer: who,
		Message: fmt.Sprintln("commit", w.when)})
}

// annotated gives the commit, path and line that each line comes from.
func (w *world) annotated(commit object.ID, path string, moved bool) []string {
	a, err := New(context.Background(), merge.NewEngine(w.o), nil, commit, path)
	require.NoError(w.t, err)
	a.Moved = moved
	out := make([]string, len(a.Text))
	require.NoError(w.t, a.Run(w.t.Context(), func(found []Found) {
		for _, f := range found {
			for k := range f.Count {
				require.Empty(w.t, out[f.Line-1+k], "told twice")
				out[f.Line-1+k] = fmt.Sprint(f.Commit, " ", f.Path, " ", f.From+k)
				assert.Equal(w.t, a.Text[f.Line-1+k], w.line(f.Commit, f.Path, f.From+k))
			}
		}
	}))
	assert.NotContains(w.t, out, "", "every line comes from somewhere")
	return out
}

func (w *world) line(commit object.ID, path string, n int) string {
	c, err := w.o.Commit(context.Background(), commit)
	require.NoError(w.t, err)
	e, err := w.o.Find(context.Background(), c.Tree, path)
	require.NoError(w.t, err)
	data, err := w.o.Blob(context.Background(), e.ID)
	require.NoError(w.t, err)
	return diff.Lines(string(data))[n-1]
}

// TestWhoBroughtALine has small histories, each step's files by name, and whom the lines of f
// in the last one come from.
func TestWhoBroughtALine(t *testing.T) {
	long := "the ferry waits for the last bus\nand leaves when it has come, not before\n"
	for _, c := range []struct {
		name  string
		steps []map[string]string
		moved bool
		want  string // the step of each line
	}{
		{"added", []map[string]string{{"f": "a\nb\n"}, {"f": "a\nx\nb\n"}, {"f": "a\nx\nb\nend"}}, false, "0 1 0 2"},
		{"changed and back", []map[string]string{{"f": "a\nb\n"}, {"f": "a\nc\n"}, {"f": "a\nb\n"}}, false, "0 2"},
		{"renamed and changed", []map[string]string{{"g": "a\nb\nc\nd\ne\n"}, {"f": "a\nb\nC\nd\ne\n"}}, false,
			"0 0 1 0 0"},
		{"renamed twice", []map[string]string{{"x/g": "a\nb\nc\n"}, {"g": "a\nb\nc\n"}, {"f": "a\nb\nc\nd\n"}}, false,
			"0 0 0 2"},
		{"no rename", []map[string]string{{"g": "a\nb\n"}, {"g": "a\nb\n", "f": "a\nb\n"}}, false, "1 1"},
		{"moved, not followed", []map[string]string{{"f": long + "1\n2\n3\n4\n5\n"}, {"f": "1\n2\n3\n4\n5\n" + long}},
			false,
			"0 0 0 0 0 1 1"},
		{"moved", []map[string]string{{"f": long + "1\n2\n3\n4\n5\n"}, {"f": "1\n2\n3\n4\n5\n" + long}}, true,
			"0 0 0 0 0 0 0"},
		{"too little to be moved", []map[string]string{{"f": "}\n1\n2\n3\n4\n5\n"}, {"f": "1\n2\n3\n4\n5\n}\n"}}, true,
			"0 0 0 0 0 1"},
		{"a picture before", []map[string]string{{"f": "a\x00b\n"}, {"f": "a\n"}}, false, "1"},
		{"gone and back", []map[string]string{{"f": "a\n"}, {"g": "z\n"}, {"f": "a\n"}}, false, "2"},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t)
			steps := map[string]string{}
			var tip []object.ID
			for i, files := range c.steps {
				tip = []object.ID{w.commit(files, tip...)}
				steps[tip[0].String()] = fmt.Sprint(i)
			}
			var got []string
			for _, l := range w.annotated(tip[0], "f", c.moved) {
				got = append(got, steps[strings.Fields(l)[0]])
			}
			assert.Equal(t, c.want, strings.Join(got, " "))
		})
	}
}

func TestWhereThereAreNoLines(t *testing.T) {
	w := newWorld(t)
	tip := w.commit(map[string]string{"d/f": "a\n", "bin": "\x00", "empty": ""})
	for path, want := range map[string]string{
		"nothing": "there is no file nothing in that commit",
		"d":       "d has no lines: it is a directory",
		"bin":     "bin has no lines: it is no text",
	} {
		_, err := New(t.Context(), merge.NewEngine(w.o), nil, tip, path)
		assert.EqualError(t, err, want)
	}
	assert.Empty(t, w.annotated(tip, "empty", true))
	_, err := New(t.Context(), merge.NewEngine(w.o), nil, object.SHA1.Sum(object.KindCommit, nil), "f")
	assert.ErrorIs(t, err, object.ErrMissing)

	a, err := New(t.Context(), merge.NewEngine(w.o), nil, tip, "d/f")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, a.Run(ctx, func([]Found) {}), context.Canceled)
}

// sources are texts that people wrote.
func sources(t testing.TB) (texts [][]string) {
	for _, name := range []string{"bufio/scan.go", "strings/builder.go", "sort/sort.go", "text/template/exec.go",
		"container/list/list.go", "path/path.go", "net/http/server.go"} {
		data, err := os.ReadFile(filepath.Join(build.Default.GOROOT, "src", name))
		require.NoError(t, err)
		texts = append(texts, diff.Lines(string(data)))
	}
	return texts
}

// edit changes a text as people do: lines rewritten, blocks put in, taken out and moved. What
// is put in is of another text, nothing of it twice.
func edit(r *rand.Rand, lines []string, other *[]string, n int) []string {
	lines = slices.Clone(lines)
	for range 1 + r.IntN(3) {
		k, size := r.IntN(len(lines)), 1+r.IntN(8)
		end := min(len(lines), k+size)
		switch r.IntN(6) {
		case 0, 1:
			size = min(size, len(*other))
			lines = slices.Insert(lines, k, (*other)[:size]...)
			*other = (*other)[size:]
		case 2:
			if len(lines) > 60 {
				lines = slices.Delete(lines, k, end)
			}
		case 3:
			block := slices.Clone(lines[k:end])
			lines = slices.Delete(lines, k, end)
			lines = slices.Insert(lines, r.IntN(len(lines)+1), block...)
		default:
			lines[k] = strings.TrimRight(lines[k], "\n") + fmt.Sprintf(" // %d\n", n)
		}
	}
	return lines
}

// random makes a history of a text, with side lines that are merged and renames, and gives
// its tip and the file's name there.
func (w *world) random(r *rand.Rand, text, other []string, n int) (tip object.ID, path string) {
	path = "f0.go"
	tip = w.commit(map[string]string{path: strings.Join(text, "")})
	for i := range n {
		if r.IntN(12) == 0 {
			path = fmt.Sprintf("d%d/f%d.go", r.IntN(3), i)
		}
		if r.IntN(6) > 0 {
			text = edit(r, text, &other, i)
			tip = w.commit(map[string]string{path: strings.Join(text, ""), "else": fmt.Sprint(i)}, tip)
			continue
		}
		sides := [2][]string{text, text}
		tips := [2]object.ID{tip, tip}
		for range 1 + r.IntN(4) {
			s := r.IntN(2)
			sides[s] = edit(r, sides[s], &other, i*10+s)
			tips[s] = w.commit(map[string]string{path: strings.Join(sides[s], "")}, tips[s])
		}
		joined := merge.Merge3(text, sides[0], sides[1]).Union()
		text = diff.Lines(joined)
		if tips[0] != tips[1] {
			tip = w.commit(map[string]string{path: joined}, tips[0], tips[1])
		}
	}
	return tip, path
}

// TestAgreesWithGit asks git, too, whom the lines of random histories of real texts come from.
// Where the answers differ the line stands in both places: it is one that a text has several
// times, or a block that can be laid in two ways.
func TestAgreesWithGit(t *testing.T) {
	texts := sources(t)
	for _, c := range []struct {
		name  string
		moved bool
		flags []string
		least float64
	}{
		{"plain", false, nil, 0.99},
		{"moved", true, []string{"-M"}, 0.985}, // git takes copies for moves, too
	} {
		t.Run(c.name, func(t *testing.T) {
			total, alike := 0, 0
			other := texts[len(texts)-1]
			for i, text := range texts[:len(texts)-1] {
				w := newWorld(t)
				tip, path := w.random(rand.New(rand.NewPCG(11, uint64(i))), text, other[i*100:], 60)
				repo := gittest.New(t)
				var pack strings.Builder
				_, err := w.o.WritePack(t.Context(), &pack, tip)
				require.NoError(t, err)
				_, err = repo.TryInput([]byte(pack.String()), "index-pack", "--stdin")
				require.NoError(t, err)
				args := append([]string{"blame", "--porcelain"}, c.flags...)
				git := blamed(repo.Git(append(args, tip.String(), "--", path)...))
				ours := w.annotated(tip, path, c.moved)
				require.Len(t, git, len(ours))
				for n, l := range ours {
					total++
					if strings.Fields(l)[0] == git[n] {
						alike++
					}
				}
			}
			t.Logf("%d of %d lines alike", alike, total)
			assert.Greater(t, float64(alike)/float64(total), c.least)
		})
	}
}

// blamed reads the commits of the lines.
func blamed(porcelain string) (out []string) {
	for l := range strings.Lines(porcelain) {
		if f := strings.Fields(l); len(f) >= 3 && len(f[0]) == 40 && !strings.HasPrefix(l, "\t") {
			out = append(out, f[0])
		}
	}
	return out
}

package misfit

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// corpusCase is a small project that two sides changed: the base, and what each has in place of that; "gone" is a
// file that a side deleted. want are the misfits as `kind name>now used-by path:line`; none where the edits fit.
// mends are the certain ones as `path:line what stands there then`.
type corpusCase struct {
	name        string
	want, mends []string
	tree        map[string]map[string]string
}

// readCorpus reads cases: each is a line "== name", lines "! misfit" and "= mend", and the files as in a txtar archive.
func readCorpus(t *testing.T, file string) (out []corpusCase) {
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, text := range strings.Split("\n"+string(data), "\n== ")[1:] {
		ar := txtar.Parse([]byte(text))
		head := strings.Split(strings.TrimSpace(string(ar.Comment)), "\n")
		c := corpusCase{name: head[0], tree: map[string]map[string]string{"base": {}, "yours": {}, "theirs": {}}}
		for _, l := range head[1:] {
			if w, ok := strings.CutPrefix(l, "! "); ok {
				c.want = append(c.want, w)
			}
			if w, ok := strings.CutPrefix(l, "= "); ok {
				c.mends = append(c.mends, w)
			}
		}
		for _, f := range ar.Files {
			side, p, _ := strings.Cut(f.Name, "/")
			require.Contains(t, c.tree, side, c.name)
			c.tree[side][p] = string(f.Data)
		}
		out = append(out, c)
	}
	return out
}

// readMarked reads cases of the second form, which the head of strings/names.txt describes.
func readMarked(t *testing.T, file string) (out []corpusCase) {
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, text := range strings.Split(string(data), "\n== ")[1:] {
		ar := txtar.Parse([]byte(text))
		c := corpusCase{tree: map[string]map[string]string{"base": {}, "yours": {}, "theirs": {}}}
		head, names, _ := strings.Cut(strings.TrimSpace(string(ar.Comment)), "\n")
		c.name = head
		for _, f := range ar.Files {
			for _, l := range strings.SplitAfter(strings.TrimRight(string(f.Data), "\n")+"\n", "\n") {
				if l == "" {
					continue
				}
				mark, l := l[:min(2, len(l)-1)], l[min(3, len(l)-1):]
				side := map[byte]string{'<': "yours", '>': "theirs"}[(mark + "  ")[0]]
				for s := range c.tree {
					if mark == "" || side == "" || (mark[1] == '-') == (s != side) {
						c.tree[s][f.Name] += l
					}
				}
				if strings.HasSuffix(mark, "!") {
					c.want = append(c.want, fmt.Sprintf("%s %s %s:%d", strings.TrimPrefix(names, "! "), side, f.Name,
						strings.Count(c.tree[side][f.Name], "\n")))
				}
			}
			for _, s := range []string{"yours", "theirs"} {
				if c.tree["base"][f.Name] != "" && c.tree[s][f.Name] == "" {
					c.tree[s][f.Name] = "gone\n"
				}
			}
			for _, s := range []string{"base", "yours", "theirs"} {
				if c.tree[s][f.Name] == "" {
					delete(c.tree[s], f.Name)
				}
			}
		}
		require.Equal(t, names != "", len(c.want) == 1, c.name)
		out = append(out, c)
	}
	return out
}

// trees makes the trees of a case. What a side does not say is as in the base.
func (c *corpusCase) trees(t *testing.T, o *object.Overlay) Trees {
	t.Helper()
	tree := func(side string) object.ID {
		set := map[string]object.Entry{}
		for _, files := range []map[string]string{c.tree["base"], c.tree[side]} {
			for p, text := range files {
				set[p] = object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(text))}
				if text == "gone\n" {
					delete(set, p)
				}
			}
		}
		id, err := o.Edit(t.Context(), o.EmptyTree(), set)
		require.NoError(t, err)
		return id
	}
	out := Trees{Base: tree("base"), Yours: tree("yours"), Theirs: tree("theirs")}
	r, err := merge.NewEngine(o).Trees(t.Context(), out.Base, out.Yours, out.Theirs)
	require.NoError(t, err)
	require.True(t, r.Clean(), "%s: the texts do not join: %v", c.name, r.Conflicts)
	out.Joined, err = r.Tree(t.Context(), merge.Decided{})
	require.NoError(t, err)
	return out
}

func (m Misfit) short() string { return string(m.Kind) + " " + m.shorter() }

// shorter is short without the kind.
func (m Misfit) shorter() string {
	now := ""
	if m.Now != "" {
		now = ">" + m.Now
	}
	return fmt.Sprintf("%s%s %s %s:%d", m.Name, now, m.Used.Side, m.Used.Path, m.Used.Line)
}

// TestCorpus holds how many of the misfits of each set are found, and how many are told that are none.
func TestCorpus(t *testing.T) {
	for _, set := range []struct {
		name  string
		found float64 // of those there are, at least
		quiet float64 // of what is told, that is real, at least
	}{{"rules", 0.98, 0.98}, {"after", 0.9, 0.95}, {"strings", 0.9, 0.97}, {"unseen", 0.75, 0.95},
		{"later", 0.75, 0.95}} {
		read, says := readCorpus, Misfit.short
		if set.name != "rules" && set.name != "after" {
			read, says = readMarked, Misfit.shorter
		}
		files, err := filepath.Glob(filepath.Join("testdata", set.name, "*.txt"))
		require.NoError(t, err)
		require.NotEmpty(t, files)
		there, found, told, false_, cases, fits := 0, 0, 0, 0, 0, 0
		classes := map[string][3]int{} // there, found, false
		for _, file := range files {
			for _, c := range read(t, file) {
				o := object.NewOverlay(object.SHA1, nil)
				got, err := Find(t.Context(), o, c.trees(t, o))
				require.NoError(t, err, c.name)
				cases++
				class, _, _ := strings.Cut(c.name, ":")
				n := classes[class]
				n[0] += len(c.want)
				if len(c.want) == 0 {
					fits++
				}
				there += len(c.want)
				told += len(got)
				left := map[string]bool{}
				for _, w := range c.want {
					left[w] = true
				}
				for _, m := range got {
					if s := says(m); left[s] {
						found, n[1] = found+1, n[1]+1
						delete(left, s)
					} else {
						false_, n[2] = false_+1, n[2]+1
						t.Logf("%s %s: told and not so: %s", filepath.Base(file), c.name, s)
					}
				}
				classes[class] = n
				for w := range left {
					t.Logf("%s %s: not found: %s", filepath.Base(file), c.name, w)
				}
			}
		}
		for _, class := range slices.Sorted(maps.Keys(classes)) {
			if n := classes[class]; n[0] > 1 {
				t.Logf("   %-20s found %d of %d , false %d", class, n[1], n[0], n[2])
			}
		}
		t.Logf("%s: %d cases, %d of them fit; of %d misfits %d found; of %d told %d are none", set.name, cases, fits,
			there,
			found, told, false_)
		assert.GreaterOrEqual(t, float64(found), set.found*float64(there), set.name)
		assert.GreaterOrEqual(t, float64(told-false_), set.quiet*float64(told), set.name)
	}
}

// TestMends: where it is certain what to do, the mended project has no misfit left; else nothing is offered.
func TestMends(t *testing.T) {
	mended, of := 0, 0
	for _, set := range []string{"rules", "after"} {
		files, err := filepath.Glob(filepath.Join("testdata", set, "*.txt"))
		require.NoError(t, err)
		for _, file := range files {
			for _, c := range readCorpus(t, file) {
				o := object.NewOverlay(object.SHA1, nil)
				trees := c.trees(t, o)
				list, err := Find(t.Context(), o, trees)
				require.NoError(t, err)
				mends, err := Mends(t.Context(), o, trees, list)
				require.NoError(t, err)
				of += len(list)
				var got []string
				for _, m := range mends {
					got = append(got, strings.TrimSpace(fmt.Sprintf("%s:%d %s", m.Path, m.Line,
						strings.TrimSpace(strings.Join(m.After, "")))))
				}
				assert.Equal(t, c.mends, got, c.name)
				if len(mends) == 0 {
					continue
				}
				done := map[int]bool{}
				byPath := map[string][]Mend{}
				for _, m := range mends {
					byPath[m.Path] = append(byPath[m.Path], m)
					done[m.Of] = true
				}
				set := map[string]object.Entry{}
				for p, some := range byPath {
					e, err := o.Find(t.Context(), trees.Joined, p)
					require.NoError(t, err)
					data, err := o.Blob(t.Context(), e.ID)
					require.NoError(t, err)
					e.ID = o.Put(object.KindBlob, []byte(Apply(string(data), some)))
					set[p] = e
				}
				trees.Joined, err = o.Edit(t.Context(), trees.Joined, set)
				require.NoError(t, err)
				left, err := Find(t.Context(), o, trees)
				require.NoError(t, err)
				assert.Len(t, left, len(list)-len(done), "%s: %v, mended by %v, still %v", c.name, list, mends, left)
				mended += len(done)
			}
		}
	}
	t.Logf("%d of %d misfits have a mend", mended, of)
	assert.Greater(t, mended, of/3)
}

package merge

import (
	"fmt"
	"hash/maphash"
	"slices"
	"strings"
	"testing"

	"dorvik/internal/core/diff"
	"dorvik/internal/core/object"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// text is n lines of a name, the first changed of them different, for treeOf.
func text(name string, n, changed int) string {
	var lines []string
	for i := range n {
		if i < changed {
			lines = append(lines, fmt.Sprintf("other-%s-%02d", name, i))
		} else {
			lines = append(lines, fmt.Sprintf("line0-%s-%02d", name, i))
		}
	}
	return strings.Join(lines, "/")
}

func TestRenamesFound(t *testing.T) {
	a := text("a", 10, 0)
	for _, c := range []struct{ name, base, side, want string }{
		{"exact", "a=" + a, "b=" + a, "a>b"},
		{"exact, the same base name preferred", "c=" + a + " d/a=" + a, "e/a=" + a, "d/a>e/a"},
		{"exact, the same base name preferred to one before", "d/y=" + a, "d/i=" + a + " x/y=" + a, "d/y>x/y"},
		{"exact, one source for one target", "a=" + a, "b=" + a + " c=" + a, "a>b"},
		{"most of it the same", "a=" + a, "b=" + text("a", 10, 3), "a>b"},
		{"half of it the same", "a=" + a, "b=" + text("a", 10, 5), "a>b"},
		{"less than half", "a=" + a, "b=" + text("a", 10, 6), ""},
		{"much longer now", "a=" + a, "b=" + a + "/" + text("x", 12, 0), ""},
		{"the best first", "a=" + a, "b=" + text("a", 10, 4) + " c=" + text("a", 10, 1), "a>c"},
		{"the same base name before the best, if it is near", "d/a=" + a, "e/a=" + text("a", 10, 2) + " c=" + text("a", 10, 1), "d/a>e/a"},
		{"the same base name, not near enough", "d/a=" + a, "e/a=" + text("a", 10, 4) + " c=" + text("a", 10, 1), "d/a>c"},
		{"two, each to its own", "a=" + a + " x=" + text("x", 10, 0), "b=" + text("x", 10, 2) + " c=" + text("a", 10, 2), "a>c x>b"},
		{"a link, exact", "l@target", "k@target", "l>k"},
		{"a link, changed", "l@target", "k@targets", ""},
		{"a link is no file", "l@target", "k=target", ""},
		{"still there, so not renamed", "a=" + a, "a=" + a + " b=" + a, ""},
		{"empty files are all alike", "a=", "b=", "a>b"},
		{"binary", "a=%" + a, "b=%" + text("a", 10, 2), "a>b"},
	} {
		o := object.NewOverlay(object.SHA1, nil)
		base, side := treeOf(t, o, c.base+" z=1"), treeOf(t, o, c.side+" z=1")
		relevant := map[string]bool{}
		changes, err := o.Changes(base, side)
		require.NoError(t, err)
		for _, ch := range changes {
			relevant[ch.Path] = true
		}
		list, _, err := NewEngine(o).renames(t.Context(), base, side, relevant)
		require.NoError(t, err)
		var got []string
		for _, r := range list {
			got = append(got, r.From+">"+r.To)
		}
		slices.Sort(got)
		assert.Equal(t, c.want, strings.Join(got, " "), c.name)

		// What the other side did not touch is not looked for.
		list, _, err = NewEngine(o).renames(t.Context(), base, side, nil)
		require.NoError(t, err)
		assert.Empty(t, list, c.name)
	}
}

func TestTrulyEmptyFilesAreNotRenamed(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	empty := object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, nil)}
	base, err := o.Edit(object.ID{}, map[string]object.Entry{"a": empty})
	require.NoError(t, err)
	side, err := o.Edit(object.ID{}, map[string]object.Entry{"b": empty})
	require.NoError(t, err)
	list, _, err := NewEngine(o).renames(t.Context(), base, side, map[string]bool{"a": true})
	require.NoError(t, err)
	assert.Empty(t, list, "there are too many of them to mean anything")
}

func TestLineEndsDoNotHideARename(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	f := finder{engine: NewEngine(o), contents: map[object.ID]*diff.Bag{}, seed: maphash.MakeSeed()}
	entry := func(s string) object.Entry {
		return object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(s))}
	}
	unix := strings.Repeat("a line of some length, to be compared\n", 20)
	score, err := f.similarity(entry(unix), entry(strings.ReplaceAll(unix, "\n", "\r\n")))
	require.NoError(t, err)
	assert.Greater(t, score, 0.9)
	score, err = f.similarity(entry(""), entry(unix))
	require.NoError(t, err)
	assert.Zero(t, score)
	_, err = f.similarity(object.Entry{Mode: object.ModeFile, ID: object.SHA1.Sum(object.KindBlob, []byte("nowhere"))}, entry(unix))
	assert.ErrorIs(t, err, object.ErrMissing)
}

func TestTwoFilesOfOneNameAreBothKept(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	a, b := text("a", 10, 0), text("b", 10, 0)
	r, err := NewEngine(o).Trees(t.Context(), treeOf(t, o, "a="+a+" x="+b), treeOf(t, o, "n="+a+" x/y=1"), treeOf(t, o, "a="+text("a", 10, 1)+" n="+b))
	require.NoError(t, err)
	assert.Equal(t, []string{"n rename/delete", "n rename/rename"}, kinds(r), "each renamed a file to n, and what the other did to it is deleted or edited")
}

func TestARenamedFileMeetsANewOne(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	a := text("a", 10, 0)
	for _, old := range []string{"x/y=1", "x@link"} { // stands where they renamed it from
		base, yours, theirs := treeOf(t, o, "x="+a), treeOf(t, o, "n=new "+old), treeOf(t, o, "n="+a)
		for _, sides := range [][2]object.ID{{yours, theirs}, {theirs, yours}} {
			r, err := NewEngine(o).Trees(t.Context(), base, sides[0], sides[1])
			require.NoError(t, err)
			assert.Equal(t, []string{"n add/add"}, kinds(r), old)
		}
	}
}

func kinds(r *Result) (out []string) {
	for _, c := range r.Conflicts {
		out = append(out, c.Path+" "+string(c.Kind))
	}
	return out
}

func TestAncestorsThatDisagreeOnAPath(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	e := NewEngine(o)
	commit := func(tree string, parents ...object.ID) object.ID {
		return o.PutCommit(&object.Commit{Tree: treeOf(t, o, tree), Parents: parents, Committer: object.Signature{Name: "a"}})
	}
	root := commit("a=1 x=1")
	one, other := commit("a=1 x=2", root), commit("a=1", root) // edited, and deleted
	for _, c := range []struct {
		yours, theirs string
		want          []string
	}{
		{"a=1 x=2", "a=2", []string{"x modify/delete"}},
		{"a=1 x=1", "a=2", []string{"x modify/delete"}},
		{"a=1 x/y=1", "a=1", []string{"x/y modify/delete"}},
		{"a=1 x=2", "a=1 x=3", []string{"x content"}},
		{"a=1 x=2", "a=1 x=2/3", []string{"x content"}},
		{"a=1 x=2", "a=2 x=2", nil},
		{"a=1", "a=2", nil},
	} {
		r, err := e.TreesOver(t.Context(), []object.ID{one, other}, treeOf(t, o, c.yours), treeOf(t, o, c.theirs))
		require.NoError(t, err)
		assert.Equal(t, c.want, kinds(r), "%s against %s", c.yours, c.theirs)
	}
}

func TestAFileThatAncestorsPutADirectoryIn(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	e := NewEngine(o)
	commit := func(tree string, parents ...object.ID) object.ID {
		return o.PutCommit(&object.Commit{Tree: treeOf(t, o, tree), Parents: parents, Committer: object.Signature{Name: "a"}})
	}
	root := commit("a=1")
	bases := []object.ID{commit("a=1 x@link", root), commit("a=1 x/y=1", root)}
	r, err := e.TreesOver(t.Context(), bases, treeOf(t, o, "a=1"), treeOf(t, o, "a=1 moved@link"))
	require.NoError(t, err)
	require.Equal(t, []string{"moved rename/delete"}, kinds(r))
	assert.Equal(t, "x", r.Conflicts[0].From())
}

func TestTooManyToCompareIsSaid(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	e := NewEngine(o)
	a, b := text("a", 10, 0), text("b", 10, 0)
	base := treeOf(t, o, "a="+a+" b="+b)
	yours := treeOf(t, o, "c="+text("a", 10, 2)+" d="+text("b", 10, 2))
	theirs := treeOf(t, o, "a="+a+"/x b="+b+"/x")
	r, err := e.Trees(t.Context(), base, yours, theirs)
	require.NoError(t, err)
	assert.Empty(t, r.Remarks)
	assert.Empty(t, r.Conflicts)
	e.pairs = 3
	r, err = e.Trees(t.Context(), base, yours, theirs)
	require.NoError(t, err)
	assert.Equal(t, []Remark{{Words: "2 files may have been renamed and were not compared: there were too many"}}, r.Remarks)
	assert.Len(t, r.Conflicts, 2)
}

// FuzzRenames holds, for any contents, that a rename found is one: its source is
// gone, its target new, neither is used twice, and at least half is the same.
func FuzzRenames(f *testing.F) {
	f.Add("a\nb\nc\n", "d\ne\nf\n", "a\nb\nx\n", "d\ne\n")
	f.Add("", "\x00", "a\r\nb\r\n", "a\nb\n")
	f.Fuzz(func(t *testing.T, a, b, c, d string) {
		o := object.NewOverlay(object.SHA1, nil)
		put := func(names []string, texts ...string) object.ID {
			set := map[string]object.Entry{}
			for i, text := range texts {
				set[names[i]] = object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(text))}
			}
			id, err := o.Edit(object.ID{}, set)
			require.NoError(t, err)
			return id
		}
		base, side := put([]string{"x/f", "g", "same"}, a, b, a), put([]string{"y/f", "h", "same"}, c, d, a)
		e := NewEngine(o)
		list, _, err := e.renames(t.Context(), base, side, map[string]bool{"x/f": true, "g": true})
		require.NoError(t, err)
		used := map[string]bool{}
		fd := finder{engine: e, contents: map[object.ID]*diff.Bag{}, seed: maphash.MakeSeed()}
		for _, r := range list {
			assert.False(t, used[r.From] || used[r.To], "%v", list)
			used[r.From], used[r.To] = true, true
			from, err := o.Find(base, r.From)
			require.NoError(t, err)
			to, err := o.Find(side, r.To)
			require.NoError(t, err)
			assert.False(t, from.Absent() || to.Absent())
			score, err := fd.similarity(from, to)
			require.NoError(t, err)
			assert.True(t, from.ID == to.ID || score >= minSimilar && score <= 1, "%v %v", r, score)
		}
	})
}

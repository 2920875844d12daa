package merge

import (
	"fmt"
	"hash/maphash"
	"slices"
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/object"

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
		{"the same base name before the best, if it is near", "d/a=" + a, "e/a=" + text("a", 10, 2) + " c=" +
			text("a", 10, 1), "d/a>e/a"},
		{"the same base name, not near enough", "d/a=" + a, "e/a=" + text("a", 10, 4) + " c=" + text("a", 10, 1),
			"d/a>c"},
		{"of several of that name the one where the files beside it went", "d/a=" + a + " d/k=" + text("k", 9, 0),
			"e/a=" + text("a", 10, 2) + " e/k=" + text("k", 9, 0) + " y/a=" + text("a", 10, 1), "d/a>e/a d/k>e/k"},
		{"not near enough there", "d/a=" + a + " d/k=" + text("k", 9, 0), "e/a=" + text("a", 10, 4) + " e/k=" +
			text("k", 9, 0) + " y/a=" + text("a", 10, 1), "d/a>y/a d/k>e/k"},
		{"two, each to its own", "a=" + a + " x=" + text("x", 10, 0), "b=" + text("x", 10, 2) + " c=" +
			text("a", 10, 2), "a>c x>b"},
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
		changes, err := o.Changes(t.Context(), base, side)
		require.NoError(t, err)
		for _, ch := range changes {
			relevant[ch.Path] = true
		}
		list, _, err := NewEngine(o).renamesBetween(t.Context(), base, side, relevant)
		require.NoError(t, err)
		var got []string
		for _, r := range list {
			got = append(got, r.From+">"+r.To)
		}
		slices.Sort(got)
		assert.Equal(t, c.want, strings.Join(got, " "), c.name)

		// What the other side did not touch is not looked for.
		list, _, err = NewEngine(o).renamesBetween(t.Context(), base, side, nil)
		require.NoError(t, err)
		assert.Empty(t, list, c.name)
	}
}

func TestTrulyEmptyFilesAreNotRenamed(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	empty := object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, nil)}
	base, err := o.Edit(t.Context(), object.ID{}, map[string]object.Entry{"a": empty})
	require.NoError(t, err)
	side, err := o.Edit(t.Context(), object.ID{}, map[string]object.Entry{"b": empty})
	require.NoError(t, err)
	list, _, err := NewEngine(o).renamesBetween(t.Context(), base, side, map[string]bool{"a": true})
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
	score, err := f.similarity(t.Context(), entry(unix), entry(strings.ReplaceAll(unix, "\n", "\r\n")))
	require.NoError(t, err)
	assert.Greater(t, score, 0.9)
	score, err = f.similarity(t.Context(), entry(""), entry(unix))
	require.NoError(t, err)
	assert.Zero(t, score)
	_, err = f.similarity(t.Context(), object.Entry{Mode: object.ModeFile, ID: object.SHA1.Sum(object.KindBlob,
		[]byte("nowhere"))}, entry(unix))
	assert.ErrorIs(t, err, object.ErrMissing)
}

func TestTwoFilesOfOneNameAreBothKept(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	a, b := text("a", 10, 0), text("b", 10, 0)
	r, err := NewEngine(o).Trees(t.Context(), treeOf(t, o, "a="+a+" x="+b), treeOf(t, o, "n="+a+" x/y=1"),
		treeOf(t, o, "a="+text("a", 10, 1)+" n="+b))
	require.NoError(t, err)
	assert.Equal(t, []string{"n rename/delete", "n rename/rename"}, kinds(r),
		"each renamed a file to n, and what the other did to it is deleted or edited")
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
		return o.PutCommit(&object.Commit{Tree: treeOf(t, o, tree), Parents: parents,
			Committer: object.Signature{Name: "a"}})
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
		return o.PutCommit(&object.Commit{Tree: treeOf(t, o, tree), Parents: parents,
			Committer: object.Signature{Name: "a"}})
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
	assert.Equal(t, []Remark{{Words: "2 files may have been renamed and were not compared: there were too many"}},
		r.Remarks)
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
			id, err := o.Edit(t.Context(), object.ID{}, set)
			require.NoError(t, err)
			return id
		}
		base, side := put([]string{"x/f", "g", "same"}, a, b, a), put([]string{"y/f", "h", "same"}, c, d, a)
		e := NewEngine(o)
		list, _, err := e.renamesBetween(t.Context(), base, side, map[string]bool{"x/f": true, "g": true})
		require.NoError(t, err)
		used := map[string]bool{}
		fd := finder{engine: e, contents: map[object.ID]*diff.Bag{}, seed: maphash.MakeSeed()}
		for _, r := range list {
			assert.False(t, used[r.From] || used[r.To], "%v", list)
			used[r.From], used[r.To] = true, true
			from, err := o.Find(t.Context(), base, r.From)
			require.NoError(t, err)
			to, err := o.Find(t.Context(), side, r.To)
			require.NoError(t, err)
			assert.False(t, from.Absent() || to.Absent())
			score, err := fd.similarity(t.Context(), from, to)
			require.NoError(t, err)
			assert.True(t, from.ID == to.ID || score >= minSimilar && score <= 1, "%v %v", r, score)
		}
	})
}

// TestEveryNameByEveryWay: whatever name is taken, what is in the files is there.
func TestEveryNameByEveryWay(t *testing.T) {
	a, b := text("a", 10, 0), text("b", 10, 0)
	for _, c := range []struct{ name, base, yours, theirs, want string }{
		{"two names for one file", "a=" + a, "x=" + a, "y=" + text("a", 10, 1), "x rename/rename"},
		{"two names, both taken by something of the other", "a=" + a + " k=k", "x=" + a + " y=mine", "y=" + a +
			" x=theirs", "x rename/rename"},
		{"one name for two files", "a=" + a + " b=" + b, "n=" + a + " b=" + text("b", 10, 1), "a=" +
			text("a", 10, 1) + " n=" + b, "n rename/rename"},
		{"a name that a new file has", "a=" + a, "n=" + text("a", 10, 1), "a=" + text("a", 10, 2) + " n=new",
			"n rename/add"},
		{"a name that a directory has", "a=" + a, "n=" + text("a", 10, 1), "a=" + text("a", 10, 2) + " n/in=new",
			"n file/directory"},
		{"a name within what is a file there", "a=" + a, "n/in=" + text("a", 10, 1), "a=" + text("a", 10, 2) +
			" n=new", "n/in file/directory"},
		{"a file in a directory that moved", "d/a=" + a + " d/b=" + b, "e/a=" + a + " e/b=" + b, "d/a=" + a +
			" d/b=" + b + " d/new=new", "e/new directory-rename"},
		{"the same, its place taken", "d/a=" + a + " d/b=" + b, "e/a=" + a + " e/b=" + b + " e/new=mine", "d/a=" +
			a + " d/b=" + b + " d/new=new", "d/new directory-rename"},
	} {
		o := object.NewOverlay(object.SHA1, nil)
		r, err := NewEngine(o).Trees(t.Context(), treeOf(t, o, c.base), treeOf(t, o, c.yours), treeOf(t, o, c.theirs))
		require.NoError(t, err, c.name)
		assert.False(t, r.Clean(), c.name)
		assert.Contains(t, kinds(r), c.want, c.name)
		asked := map[string]bool{}
		for i := range r.Conflicts {
			q := &r.Conflicts[i]
			assert.False(t, asked[q.Subject.Facts()], "%s: two questions of the same facts", c.name)
			asked[q.Subject.Facts()] = true
			assert.Contains(t, q.Paths(), q.Path, c.name)
			if n, ok := q.Subject.(*Naming); ok {
				assert.Equal(t, n.From, q.From(), c.name)
				assert.Equal(t, n.Also, q.Also(), c.name)
			}
		}
		for _, side := range []Side{Yours, Theirs} {
			d := Decided{Entries: map[string]object.Entry{}}
			leaves := false
			for _, q := range r.Conflicts {
				switch s := q.Subject.(type) {
				case *Naming:
					d.Moves = append(d.Moves, s.Of(side).Moves...)
					leaves = leaves || s.Of(side).Name == ""
				case *Clash:
					_, y, th := s.Sides()
					d.Entries[q.Path] = map[Side]object.Entry{Yours: y, Theirs: th}[side]
					d.Moves = append(d.Moves, s.Within...)
					leaves = true
				case *Lines:
					d.Entries[q.Path] = s.Theirs
				case *Versions:
					d.Entries[q.Path] = s.Yours
				}
			}
			tree, err := r.Tree(t.Context(), d)
			require.NoError(t, err, "%s, %s", c.name, side)
			got := show(t, o, tree)
			assert.Contains(t, got, "-a-09", "%s, %s: %s", c.name, side, got)
			if !leaves && strings.Contains(c.theirs, "=new") {
				assert.Contains(t, got, "=new", "%s, %s: %s", c.name, side, got)
			}
		}
	}
}

// TestNamesThatAncestorsDisagreeOn: a line that was merged across another asks no more than
// it must where the common ancestors named a file differently.
func TestNamesThatAncestorsDisagreeOn(t *testing.T) {
	a, b := text("a", 10, 0), text("b", 10, 0)
	for _, c := range []struct{ name, base, one, other, yours, theirs string }{
		{"two names", "a=" + a, "x=" + a, "y=" + a, "x=" + a, "x=" + text("a", 10, 1)},
		{"two files, one name", "a=" + a + " b=" + b, "n=" + a + " b=" + b, "a=" + a + " n=" + b, "n=" + a + " m=" +
			b, "n=" + a + " m=" + text("b", 10, 1)},
		{"a name that a new file has", "a=" + a, "n=" + a, "a=" + a + " n=" + b, "n=" + a + " o=" + b, "n=" + a +
			" o=" + b + " k=k"},
		{"a file against a directory", "k=k", "k=k p=" + a, "k=k p/in=" + b, "k=k p/in=" + b + " q=" + a,
			"k=kk p/in=" + b + " q=" + a},
	} {
		o := object.NewOverlay(object.SHA1, nil)
		e := NewEngine(o)
		commit := func(list string, parents ...object.ID) object.ID {
			return o.PutCommit(&object.Commit{Tree: treeOf(t, o, list), Parents: parents,
				Committer: object.Signature{Name: "a"}})
		}
		base := commit(c.base)
		one, other := commit(c.one, base), commit(c.other, base)
		r, err := e.TreesOver(t.Context(), []object.ID{one, other}, treeOf(t, o, c.yours), treeOf(t, o, c.theirs))
		require.NoError(t, err, c.name)
		tree, err := r.Tree(t.Context(), Decided{})
		require.NoError(t, err, c.name)
		for _, word := range []string{"-a-09", "k="} {
			if strings.Contains(c.theirs, word) {
				assert.Contains(t, show(t, o, tree), word, c.name)
			}
		}
	}
}

package merge

import (
	"context"
	"maps"
	"math/rand/v2"
	"sort"
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/core/object"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// treeOf makes a tree of a list such as "a=one x:run=two l@target s#3 d/e=text".
// "=" is a file, ":run=" an executable one, "@" a link, "#" a submodule; in
// texts, "/" is a line end after the first "=".
func treeOf(t *testing.T, o *object.Overlay, list string) object.ID {
	set := map[string]object.Entry{}
	for _, item := range strings.Fields(list) {
		i := strings.IndexAny(item, "=@#")
		require.Positive(t, i, item)
		path, text := item[:i], item[i+1:]
		e := object.Entry{Mode: object.ModeFile}
		switch item[i] {
		case '@':
			e.Mode = object.ModeLink
		case '#':
			e.Mode = object.ModeSubmodule
		default:
			text = strings.ReplaceAll(text, "/", "\n") + "\n"
		}
		if p, ok := strings.CutSuffix(path, ":run"); ok {
			path, e.Mode = p, object.ModeExec
		}
		e.ID = o.Put(object.KindBlob, []byte(strings.ReplaceAll(text, "%", "\x00")))
		set[path] = e
	}
	id, err := o.Edit(t.Context(), object.ID{}, set)
	require.NoError(t, err)
	return id
}

// show writes a tree as treeOf reads it.
func show(t *testing.T, o *object.Overlay, id object.ID) string {
	changes, err := o.Changes(t.Context(), object.ID{}, id)
	require.NoError(t, err)
	var out []string
	for _, c := range changes {
		data, err := o.Blob(t.Context(), c.New.ID)
		require.NoError(t, err)
		text := strings.ReplaceAll(strings.ReplaceAll(strings.TrimSuffix(string(data), "\n"), "\n", "/"), "\x00", "%")
		sign := map[object.Mode]string{object.ModeFile: "=", object.ModeExec: ":run=", object.ModeLink: "@",
			object.ModeSubmodule: "#"}[c.New.Mode]
		out = append(out, c.Path+sign+text)
	}
	sort.Strings(out)
	return strings.Join(out, " ")
}

func TestTrees(t *testing.T) {
	for _, c := range []struct{ name, base, yours, theirs, want string }{
		{"different files", "a=1 b=2", "a=X b=2", "a=1 b=Y", "a=X b=Y"},
		{"added on both sides, apart", "a=1", "a=1 b=2", "a=1 c=3", "a=1 b=2 c=3"},
		{"the same file added", "a=1", "a=1 b=2", "a=1 b=2", "a=1 b=2"},
		{"deleted by one", "a=1 b=2", "a=1", "a=X b=2", "a=X"},
		{"deleted by both", "a=1 b=2", "a=1", "a=1", "a=1"},
		{"all deleted", "a=1", "a=1", "", ""},
		{"text of one file joined", "a=1/2/3", "a=X/2/3", "a=1/2/Y", "a=X/2/Y"},
		{"in directories", "d/e=1/2/3 d/f=1", "d/e=X/2/3 d/f=1", "d/e=1/2/Y d/f=2", "d/e=X/2/Y d/f=2"},
		{"a directory only one side changed", "d/e=1 d/f=1 g=1", "d/e=2 g=1", "d/e=1 d/f=1 g=2", "d/e=2 g=2"},
		{"a directory deleted by one", "d/e=1 g=1", "g=1", "d/e=1 g=2", "g=2"},
		{"mode by one, text by the other", "a=1/2", "a:run=1/2", "a=1/3", "a:run=1/3"},
		{"mode by both", "a=1", "a:run=1", "a:run=1", "a:run=1"},
		{"link moved by one", "l@x", "l@y", "l@x", "l@y"},
		{"submodule moved by one", "s#1", "s#1", "s#2", "s#2"},
		{"file made a directory by one", "a=1", "a/b=1", "a=1", "a/b=1"},
		{"directory made a file by one, the rest untouched", "a/b=1 c=1", "a=9 c=1", "a/b=1 c=2", "a=9 c=2"},
		{"directory emptied by one, made a file by the other", "a/b=1 c=1", "c=1", "a=9 c=2", "a=9 c=2"},
		{"the other way round", "a/b=1 c=1", "a=9 c=2", "c=1", "a=9 c=2"},
		{"names that sort apart", "a.b=1 a=1 a-b=1", "a.b=2 a=1 a-b=1", "a.b=1 a/x=1 a-b=3", "a.b=2 a/x=1 a-b=3"},

		{"renamed by one, edited by the other", "a=1/2/3/4", "b=1/2/3/4", "a=1/2/3/X", "b=1/2/3/X"},
		{"edited by one, renamed by the other", "a=1/2/3/4", "a=1/2/3/X", "d/b=1/2/3/4", "d/b=1/2/3/X"},
		{"renamed and edited by one, edited by the other", "a=1/2/3/4/5/6", "b=Y/2/3/4/5/6", "a=1/2/3/4/5/X",
			"b=Y/2/3/4/5/X"},
		{"renamed alike by both, edited by both", "a=1/2/3/4/5/6", "b=Y/2/3/4/5/6", "b=1/2/3/4/5/X", "b=Y/2/3/4/5/X"},
		{"moved within the other's directory", "d/a=1/2/3/4 d/z=1", "e/a=1/2/3/4 d/z=1", "d/a=1/2/3/X d/z=1",
			"d/z=1 e/a=1/2/3/X"},
		{"renamed into a directory of its own name", "a=1/2/3/4", "a=1/2/3/X", "a/c=1/2/3/4", "a/c=1/2/3/X"},
		{"edited by one, moved away by the other, its directory a file now", "x/y=1/2/3/4", "m/y=1/2/3/4 x=9",
			"x/y=1/2/3/X", "m/y=1/2/3/X x=9"},
		{"a link renamed, a mode changed", "l@x a=1/2", "k@x b=1/2", "l@x a:run=1/2", "b:run=1/2 k@x"},
		{"two renamed, told apart by their names", "d/x=1/2/3/4 d/y=1/2/3/5", "e/x=1/2/3/4 e/y=1/2/3/5",
			"d/x=0/2/3/4 d/y=0/2/3/5", "e/x=0/2/3/4 e/y=0/2/3/5"},

		{"renamed and deleted", "a=1/2/3/4", "b=1/2/3/4", "", "! b rename/delete"},
		{"deleted and renamed", "a=1/2/3/4 z=1", "z=1", "b=1/2/3/4 z=1", "! b rename/delete"},
		{"renamed onto what the other added, the old name made a link", "b=1/2/3/4 z=1", "a=1/2/3/4 z=1",
			"a@y b@x z=1", "! a type"},
		{"renamed by both, the old name made a link", "b=1/2/3/4 z=1", "a=1/2/3/4 z=1", "a=1/2/3/X b@x z=1",
			"a=1/2/3/X b@x z=1"},
		{"a link renamed, and made a submodule", "l@target z=1", "k@target z=1", "l#1 z=1", "! k rename/delete"},
		{"renamed by both, apart", "a=1/2/3/4", "b=1/2/3/4", "c=1/2/3/4", "! b rename/rename"},
		{"renamed onto what the other added", "a=1/2/3/4", "b=1/2/3/4", "a=1/2/3/X b=9", "! b rename/add"},
		{"two renamed to one name", "a=1/2/3/4 b=5/6/7/8", "n=1/2/3/4 b=5/6/7/X", "a=1/2/3/X n=5/6/7/8",
			"! n rename/rename"},
		{"renamed alike, the old name used anew", "a=1/2/3/4", "b=1/2/3/4", "b=1/2/3/4 a=7/8/9", "a=7/8/9 b=1/2/3/4"},
		{"renamed and edited against an edit", "a=1/2/3/4", "b=1/2/3/X", "a=1/2/3/Y", "! b content"},

		{"a file added to a directory that was moved", "d/x=1/2/3 d/y=4/5/6", "e/x=1/2/3 e/y=4/5/6",
			"d/x=1/2/3 d/y=4/5/6 d/new=7", "! e/new directory-rename"},
		{"the same from the other side", "d/x=1/2/3 d/y=4/5/6", "d/x=1/2/3 d/y=4/5/6 d/new=7", "e/x=1/2/3 e/y=4/5/6",
			"! e/new directory-rename"},
		{"moved to the top", "d/x=1/2/3 d/y=4/5/6", "x=1/2/3 y=4/5/6", "d/x=1/2/3 d/y=4/5/6 d/new=7",
			"! new directory-rename"},
		{"told by a directory within", "d/s/x=1/2/3 z=1", "e/s/x=1/2/3 z=1", "d/s/x=1/2/3 d/new=7 z=1",
			"! e/new directory-rename"},
		{"the new place taken", "d/x=1/2/3", "e/x=1/2/3 e/new=5", "d/x=1/2/3 d/new=7", "! d/new directory-rename"},
		{"the new place holds the same", "d/x=1/2/3", "e/x=1/2/3 e/new=7", "d/x=1/2/3 d/new=7",
			"! d/new directory-rename"},
		{"split in two", "d/x=1/2/3 d/y=4/5/6", "e/x=1/2/3 f/y=4/5/6", "d/x=1/2/3 d/y=4/5/6 d/new=7",
			"! d/new directory-rename"},
		{"two directories to one, for one name", "d/x=1/2/3 c/y=4/5/6", "e/x=1/2/3 e/y=4/5/6",
			"d/x=1/2/3 d/n=7 c/y=4/5/6 c/n=8", "! c/n directory-rename, d/n directory-rename"},
		{"a new directory in it stays", "d/x=1/2/3 z=1", "e/x=1/2/3 z=1", "d/x=1/2/3 d/n/new=7 z=1",
			"d/n/new=7 e/x=1/2/3 z=1"},
		{"deleted, not moved", "d/x=1/2/3 z=1", "z=1", "d/x=1/2/3 d/new=7 z=1", "d/new=7 z=1"},
		{"one file stayed", "d/x=1/2/3 d/y=4/5/6", "e/x=1/2/3 d/y=4/5/6", "d/x=1/2/3 d/y=4/5/6 d/new=7",
			"d/new=7 d/y=4/5/6 e/x=1/2/3"},

		{"conflict in text", "a=1/2/3", "a=1/X/3", "a=1/Y/3", "! a content"},
		{"added differently", "b=1", "a=X b=1", "a=Y b=1", "! a add/add"},
		{"changed and deleted", "a=1", "a=2", "", "! a modify/delete"},
		{"deleted and changed", "a=1 b=1", "b=1", "a=2 b=1", "! a modify/delete"},
		{"binary", "a=%1", "a=%2", "a=%3", "! a binary"},
		{"binary on one side", "a=1", "a=%2", "a=3", "! a binary"},
		{"binary added twice", "b=1", "a=%2 b=1", "a=%3 b=1", "! a add/add"},
		{"modes of a file added twice", "b=1", "a:run=1 b=1", "a=1 b=1", "! a mode"},
		{"links", "l@x", "l@y", "l@z", "! l symlink"},
		{"submodules", "s#1", "s#2", "s#3", "! s submodule"},
		{"link against file", "a=1", "a@x", "a=2", "! a type"},
		{"submodule against file", "a=1", "a#1", "a=2", "! a type"},
		{"file against directory", "b=1", "a=1 b=1", "a/c=1 b=1", "! a file/directory"},
		{"directory against file", "b=1", "a/c=1 b=1", "a=1 b=1", "! a file/directory"},
		{"file edited, directory made", "a=1", "a=2", "a/c=9", "! a file/directory"},
		{"directory edited, another file made", "a/b=1", "a/b=2", "a=9", "! a file/directory"},
		{"file renamed to its directory's name", "a/b=1", "a/b=2", "a=1", "a=2"},
		{"and its neighbour, too", "a/b=1 a/c=5", "a/b=2 a/c=6", "a=1 d=5", "a=2 d=6"},
		{"its neighbour gone elsewhere, changed", "a/b=1 a/c=5", "a/b=2 a/c=6", "a=1",
			"! a file/directory, a/c modify/delete"},
		{"a file moved aside for a directory", "a=1 b=5", "a=2 b=6", "a/c=5 d=1", "a/c=6 d=2"},
		{"many", "a=1 b=1 c=1 d=1", "a=2 b=2 d=2", "a=3 b=1 c=2 d=4", "! a content, c modify/delete, d content"},
	} {
		t.Run(c.name, func(t *testing.T) {
			o := object.NewOverlay(object.SHA1, nil)
			var ids [3]object.ID
			for i, list := range []string{c.base, c.yours, c.theirs} {
				ids[i] = treeOf(t, o, list)
			}
			r, err := NewEngine(o).Trees(t.Context(), ids[0], ids[1], ids[2])
			require.NoError(t, err)
			if kinds, ok := strings.CutPrefix(c.want, "! "); ok {
				var got []string
				for _, k := range r.Conflicts {
					got = append(got, k.Path+" "+string(k.Kind))
				}
				assert.Equal(t, kinds, strings.Join(got, ", "))
				// Taking a side at every conflict about contents gives that side's content there.
				d := Decided{Entries: map[string]object.Entry{}}
				for _, k := range r.Conflicts {
					if _, names := k.Subject.(*Naming); !names {
						_, _, d.Entries[k.Path] = k.Subject.Sides()
					}
				}
				id, err := r.Tree(t.Context(), d)
				require.NoError(t, err)
				for p, want := range d.Entries {
					at, err := o.Find(t.Context(), id, p)
					require.NoError(t, err)
					assert.True(t, at.Same(want), p)
				}
				return
			}
			require.Empty(t, r.Conflicts)
			id, err := r.Tree(t.Context(), Decided{})
			require.NoError(t, err)
			assert.Equal(t, sorted(c.want), show(t, o, id))
			checkFiles(t, o, r, ids[0], id)
		})
	}
}

func sorted(s string) string {
	f := strings.Fields(s)
	sort.Strings(f)
	return strings.Join(f, " ")
}

// checkFiles holds that the account of what joined by itself names exactly the
// paths that changed.
func checkFiles(t *testing.T, o *object.Overlay, r *Result, base, result object.ID) {
	files, err := r.Files(t.Context())
	require.NoError(t, err)
	named := map[string]bool{}
	for _, f := range files {
		assert.False(t, f.Result.IsTree() || f.Base.IsTree(), f.Path)
		named[f.Path], named[f.From] = true, true
	}
	changes, err := o.Changes(t.Context(), base, result)
	require.NoError(t, err)
	for to := range r.from {
		named[to] = true // both sides did the same to it
	}
	for _, c := range changes {
		assert.True(t, named[c.Path], "%s changed and is not named in %v", c.Path, named)
	}
}

func TestCancelled(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	a, b, c := treeOf(t, o, "a=1"), treeOf(t, o, "a=2"), treeOf(t, o, "a=3")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := NewEngine(o).Trees(ctx, a, b, c)
	assert.ErrorIs(t, err, context.Canceled)
	_, err = NewEngine(o).Trees(t.Context(), a, b, object.SHA1.Sum(object.KindTree, []byte("nowhere")))
	assert.ErrorIs(t, err, object.ErrMissing)
}

func TestRemarks(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	join := func(e *Engine, base, yours, theirs string) *Result {
		r, err := e.Trees(t.Context(), treeOf(t, o, base), treeOf(t, o, yours), treeOf(t, o, theirs))
		require.NoError(t, err)
		return r
	}
	words := func(r *Result) (out []string) {
		for _, n := range r.Remarks {
			out = append(out, n.Path+" "+n.Words)
		}
		return out
	}
	e := NewEngine(o)
	r := join(e, "a=1", "a=1 Quay=1 d/x=1", "a=1 quay=2 D/y=1")
	assert.Empty(t, r.Conflicts)
	require.Len(t, r.Remarks, 2, words(r))
	assert.Contains(t, words(r)[0], "D", words(r))
	assert.Contains(t, words(r)[1], "stands beside Quay", words(r))
	assert.Empty(t, join(e, "a=1", "a=1 Quay=1 quay=2", "a=1 x=1").Remarks, "they stood together before")
	assert.Empty(t, join(e, "quay=1/2/3", "Quay=1/2/3", "quay=1/2/X").Remarks, "renamed")

	r = join(e, "m/0006_a.sql=1", "m/0006_a.sql=1 m/0007_mine.sql=1 m/0008_x.sql=1",
		"m/0006_a.sql=1 m/0007_theirs.sql=2")
	require.Len(t, r.Remarks, 1)
	assert.Equal(t, "m/0007_theirs.sql took the number 0007, as m/0007_mine.sql did; one of them wants the next",
		words(r)[0])
	assert.True(t, r.Remarks[0].Asks)
	for _, names := range [][2]string{{"0007_a.sql", "0007_b.md"}, {"7_a.sql", "7_b.sql"}, {"007", "007_b"},
		{"a/0007_a", "b/0007_b"}, {"v12-a", "w12-b"}, {"20240301120000_a", "20240301120000_b"}, {"0007-a", "0007_b"}} {
		assert.Empty(t, join(e, "x=1", "x=1 "+names[0]+"=1", "x=1 "+names[1]+"=2").Remarks, names)
	}

	// A submodule that both moved, with commits 1 < 2 < 3 and 1 < 4.
	after := map[string]string{"1": "234", "2": "3"}
	of := map[object.ID]string{}
	for _, n := range []string{"1", "2", "3", "4"} {
		entry, err := o.Find(t.Context(), treeOf(t, o, "s#"+n), "s")
		require.NoError(t, err)
		of[entry.ID] = n
	}
	e.Contains = func(_ context.Context, path string, older, newer object.ID) bool {
		return older == newer || strings.Contains(after[of[older]], of[newer])
	}
	for _, c := range [][4]string{{"1", "2", "3", "3"}, {"1", "3", "2", "3"}, {"1", "3", "4", ""},
		{"2", "3", "4", ""}, {"2", "1", "3", ""}} {
		r := join(e, "s#"+c[0], "s#"+c[1], "s#"+c[2])
		if c[3] == "" {
			require.Len(t, r.Conflicts, 1, c)
			assert.Equal(t, Submodule, r.Conflicts[0].Kind)
			continue
		}
		require.Empty(t, r.Conflicts, c)
		tree, err := r.Tree(t.Context(), Decided{})
		require.NoError(t, err)
		assert.Equal(t, treeOf(t, o, "s#"+c[3]), tree)
		assert.Len(t, r.Remarks, 1)
	}
}

func TestNamesThatAreNeverWritten(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	for _, bad := range []string{".git", ".GIT/hooks", "d/..", "git~1"} {
		_, err := NewEngine(o).Trees(t.Context(), treeOf(t, o, "a=1 d/z=1"), treeOf(t, o, "a=2 d/z=2"),
			treeOf(t, o, "a=1 d/z=1 "+bad+"=evil"))
		var refused *object.NameError
		assert.ErrorAs(t, err, &refused, bad)
	}
}

func TestDeepAndEmptyTrees(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	deep := strings.Repeat("d/", 2000) + "f"
	base, yours, theirs := treeOf(t, o, deep+"=1/2/3"), treeOf(t, o, deep+"=X/2/3"), treeOf(t, o, deep+"=1/2/Y")
	r, err := NewEngine(o).Trees(t.Context(), base, yours, theirs)
	require.NoError(t, err)
	tree, err := r.Tree(t.Context(), Decided{})
	require.NoError(t, err)
	assert.Equal(t, treeOf(t, o, deep+"=X/2/Y"), tree)

	// A tree that is empty, and one that holds an empty tree, as no tool of today
	// makes them.
	empty := o.EmptyTree()
	odd := o.PutTree([]object.Entry{{Name: "e", Mode: object.ModeTree, ID: empty}})
	for _, c := range [][4]object.ID{{empty, empty, theirs, theirs}, {empty, yours, empty, yours},
		{odd, odd, empty, empty}, {odd, odd, theirs, theirs}} {
		r, err := NewEngine(o).Trees(t.Context(), c[0], c[1], c[2])
		require.NoError(t, err)
		tree, err := r.Tree(t.Context(), Decided{})
		require.NoError(t, err)
		assert.Equal(t, c[3], tree)
	}
}

func TestATextThatIsTooLargeIsDecidedWhole(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	e := NewEngine(o)
	e.maxText = 1 << 20
	long := strings.Repeat("line/", 250_000)
	join := func() *Result {
		r, err := e.Trees(t.Context(), treeOf(t, o, "f="+long), treeOf(t, o, "f=X/"+long), treeOf(t, o, "f="+long+"Y"))
		require.NoError(t, err)
		return r
	}
	r := join()
	require.Len(t, r.Conflicts, 1)
	assert.Equal(t, Binary, r.Conflicts[0].Kind)
	assert.Equal(t, "it is larger than 1 MB", r.Conflicts[0].Subject.(*Versions).Why)
	e.maxText = MaxText
	assert.Empty(t, join().Conflicts)
}

// counted is a reader that counts what is asked of it.
type counted struct {
	object.Reader
	reads map[object.Kind]int
}

func (c counted) Read(ctx context.Context, id object.ID) (object.Kind, []byte, error) {
	kind, data, err := c.Reader.Read(ctx, id)
	c.reads[kind]++
	return kind, data, err
}

// TestOnlyWhatDiffersIsRead: no directory that is the same on both sides or changed by one, and no text but those that
// both changed. Of a change that is brought onto another tree it is only what the change touched.
func TestOnlyWhatDiffersIsRead(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	const rest = " same/f=1 same/g=2 mine/f=1 mine/g=2 theirs/f=1 theirs/g=2 deep/a/f=1 deep/b/f=2"
	base := treeOf(t, o, "both/f=1/2/3/4/5 both/g=1"+rest)
	yours := treeOf(t, o, "both/f=0/2/3/4/5 both/g=1"+strings.Replace(rest, "mine/f=1", "mine/f=9", 1))
	theirs := treeOf(t, o, "both/f=1/2/3/4/9 both/g=1"+strings.Replace(rest, "theirs/f=1", "theirs/f=9", 1))
	for name, join := range map[string]func(e *Engine) (*Result, error){
		"trees": func(e *Engine) (*Result, error) { return e.Trees(t.Context(), base, yours, theirs) },
		"onto":  func(e *Engine) (*Result, error) { return e.Onto(t.Context(), base, yours, theirs) },
	} {
		reads := map[object.Kind]int{}
		store := object.NewOverlay(object.SHA1, counted{o, reads})
		e := NewEngine(store)
		r, err := join(e)
		require.NoError(t, err)
		require.True(t, r.Clean())
		assert.Equal(t, map[object.Kind]int{object.KindTree: 3 + 3, object.KindBlob: 3}, reads, name)
		id, err := r.Tree(t.Context(), Decided{})
		require.NoError(t, err)
		assert.Contains(t, show(t, store, id), "both/f=0/2/3/4/9", name)
		assert.Contains(t, show(t, store, id), "mine/f=9", name)
		assert.Contains(t, show(t, store, id), "theirs/f=9", name)
	}
}

// TestOntoIsTrees but for its account, by random trees with files changed, added, deleted, moved and made directories.
func TestOntoIsTrees(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 2))
	paths := []string{"a/f", "a/g", "b/f", "b/c/f", "b/c/g", "d", "d2/f", "A/f"}
	texts := []string{"1/2/3/4/5/6", "0/2/3/4/5/6", "1/2/3/4/5/9", "1/2/8/4/5/6", "7/7/7"}
	change := func(files map[string]string) map[string]string {
		out := maps.Clone(files)
		for range 1 + r.IntN(2) {
			p := paths[r.IntN(len(paths))]
			switch r.IntN(4) {
			case 0:
				delete(out, p)
			case 1:
				to := paths[r.IntN(len(paths))]
				if text, ok := out[p]; ok {
					delete(out, p)
					out[to] = text
				}
			default:
				out[p] = texts[r.IntN(len(texts))]
			}
		}
		return out
	}
	touched := 0
	for n := range 3000 {
		o := object.NewOverlay(object.SHA1, nil)
		tree := func(files map[string]string) object.ID {
			var list []string
			for p, text := range files {
				if _, file := files[parent(p)]; !file {
					list = append(list, p+"="+text)
				}
			}
			return treeOf(t, o, strings.Join(list, " "))
		}
		files := map[string]string{}
		for _, p := range paths {
			if r.IntN(3) > 0 {
				files[p] = texts[r.IntN(2)]
			}
		}
		base, yours, theirs := tree(files), tree(change(files)), tree(change(change(files)))
		e := NewEngine(o)
		want, err := e.Trees(t.Context(), base, yours, theirs)
		require.NoError(t, err)
		got, err := e.Onto(t.Context(), base, yours, theirs)
		require.NoError(t, err)
		require.Equal(t, want.Conflicts, got.Conflicts, n)
		require.Equal(t, want.Remarks, got.Remarks, n)
		a, err := want.Tree(t.Context(), Decided{})
		require.NoError(t, err)
		b, err := got.Tree(t.Context(), Decided{})
		require.NoError(t, err)
		require.Equal(t, a, b, n)
		if got.touched {
			touched++
		}
	}
	assert.Greater(t, touched, 500, "the short way was taken")
}

package replay

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type bench struct {
	t *testing.T
	o *object.Overlay
}

// commit makes a commit of files given as "path=line/line", and "path:run=" for one
// that can be run.
func (b *bench) commit(message string, files string, parents ...object.ID) object.ID {
	set := map[string]object.Entry{}
	for _, f := range strings.Fields(files) {
		path, text, _ := strings.Cut(f, "=")
		mode := object.ModeFile
		if p, ok := strings.CutSuffix(path, ":run"); ok {
			path, mode = p, object.ModeExec
		}
		set[path] = object.Entry{Mode: mode, ID: b.o.Put(object.KindBlob, []byte(strings.ReplaceAll(text, "/",
			"\n")+"\n"))}
	}
	tree, err := b.o.Edit(context.Background(), object.ID{}, set)
	require.NoError(b.t, err)
	who := object.Signature{Name: "Ada", Email: "ada@skerry.example", When: 1767000000, Zone: "+0530"}
	return b.o.PutCommit(&object.Commit{Tree: tree, Parents: parents, AuthorLine: who.String(), Committer: who,
		Message: message})
}

func (b *bench) rebase(yours, theirs object.ID, resolve Resolver) ([]Step, *history.Divergence) {
	d, err := history.Diverge(b.t.Context(), b.o, yours, theirs)
	require.NoError(b.t, err)
	if resolve == nil {
		resolve = func(*merge.Result) (merge.Decided, bool, error) { return merge.Decided{}, false, nil }
	}
	steps, err := Rebase(b.t.Context(), merge.NewEngine(b.o), NewChanges(b.o), d.Yours, d.Theirs, theirs, nil,
		resolve, nil)
	require.NoError(b.t, err)
	return steps, d
}

func after(t *testing.T, s *Step) object.ID {
	tree, err := s.Tree(t.Context())
	require.NoError(t, err)
	return tree
}

func outcomes(steps []Step) string {
	var out []string
	for i := range steps {
		out = append(out, steps[i].Commit.Subject()+":"+string(steps[i].Outcome))
	}
	return strings.Join(out, " ")
}

var committer = object.Signature{Name: "Now", Email: "now@skerry.example", When: 1768000000, Zone: "+0000"}

func TestOutcomes(t *testing.T) {
	b := &bench{t, object.NewOverlay(object.SHA1, nil)}
	base := b.commit("base", "f=1/2/3/4/5 g=1")
	y1 := b.commit("same", "f=X/2/3/4/5 g=1", base)
	y2 := b.commit("clean", "f=X/2/3/4/5 g=1 h=new", y1)
	y3 := b.commit("empty", "f=X/2/3/4/5 g=1 h=new", y2)
	y4 := b.commit("clash", "f=X/2/3/4/5 g=mine h=new", y3)
	t1 := b.commit("same, elsewhere", "f=X/2/3/4/5 g=1", base)
	t2 := b.commit("theirs", "f=X/2/3/4/5 g=theirs", t1)

	steps, _ := b.rebase(y4, t2, nil)
	assert.Equal(t, "same:already-there clean:clean empty:clean clash:conflict", outcomes(steps))
	assert.Equal(t, "same, elsewhere", steps[0].Same.Subject())
	assert.True(t, steps[3].Open)

	// Settled as theirs, nothing of the last commit is left.
	steps, d := b.rebase(y4, t2, func(r *merge.Result) (merge.Decided, bool, error) {
		return merge.Decided{Entries: map[string]object.Entry{"g": r.Conflicts[0].Subject.(*merge.Lines).Theirs}},
			true, nil
	})
	assert.Equal(t, "same:already-there clean:clean empty:clean clash:emptied", outcomes(steps))
	ids, tip, err := Commits(t.Context(), b.o, steps, t2, committer, object.ID{})
	require.NoError(t, err)
	assert.True(t, ids[0].IsZero() && ids[3].IsZero())
	assert.Equal(t, tip, ids[2])
	c, err := b.o.Commit(t.Context(), ids[1])
	require.NoError(t, err)
	assert.Equal(t, []object.ID{t2}, c.Parents)
	assert.Equal(t, d.Yours[0].AuthorLine, c.AuthorLine, "the author is kept, zone and all")
	assert.Equal(t, committer, c.Committer)
}

func TestTheSameChangeToARenamedFile(t *testing.T) {
	b := &bench{t, object.NewOverlay(object.SHA1, nil)}
	const f, edited, more = "1/2/3/4/5/6/7/8/9", "1/2/3/four/5/6/7/8/9", "1/2/3/four/5/6/7/8/nine"
	for _, c := range []struct {
		yours, theirs []string
		there         int
	}{
		{[]string{"f=" + edited}, []string{"n=" + f, "n=" + edited, "n=" + more}, 1},
		{[]string{"n=" + f, "n=" + edited, "n=" + more}, []string{"f=" + edited, "f=" + edited + "/10"}, 1},
		{[]string{"f=" + edited}, []string{"n=" + f, "n=" + edited, "n=" + f}, 0}, // made, and taken back since
		{[]string{"n=" + f, "n=" + edited, "n=" + more}, []string{"f=" + edited, "f=" + f}, 0},
		{[]string{"f=" + edited}, []string{"f=" + edited, "f=" + f, "f=" + edited}, 1}, // and made again
	} {
		base := b.commit("base", "f="+f)
		line := func(who string, trees []string) object.ID {
			at := base
			for i, tree := range trees {
				at = b.commit(fmt.Sprint(who, i), tree, at)
			}
			return at
		}
		steps, _ := b.rebase(line("y", c.yours), line("t", c.theirs), nil)
		assert.Len(t, slices.DeleteFunc(slices.Clone(steps), func(s Step) bool { return s.Outcome != AlreadyThere }),
			c.there, outcomes(steps))
	}
}

func TestRebaseOntoItsOwnBaseIsTheIdentity(t *testing.T) {
	b := &bench{t, object.NewOverlay(object.SHA1, nil)}
	base := b.commit("base", "f=1")
	y1 := b.commit("one", "f=1 g=2", base)
	y2 := b.commit("two", "f=2 g=2", y1)
	steps, _ := b.rebase(y2, base, nil)
	_, tip, err := Commits(t.Context(), b.o, steps, base, committer, object.ID{})
	require.NoError(t, err)
	assert.Equal(t, y2, tip)
}

func TestTheLastKeptCommitHoldsTheMend(t *testing.T) {
	b := &bench{t, object.NewOverlay(object.SHA1, nil)}
	base := b.commit("base", "f=1/2/3 z=1")
	y1 := b.commit("one", "f=1/2/3 g=2 z=1", base)
	y2 := b.commit("two", "f=1/2/3 g=2 z=2", y1)
	t1 := b.commit("theirs, the same as two", "f=1/2/3 z=2", base)
	steps, _ := b.rebase(y2, t1, nil)
	assert.Equal(t, "one:clean two:already-there", outcomes(steps))
	mended, err := b.o.Edit(t.Context(), after(b.t, &steps[1]), map[string]object.Entry{"f": {Mode: object.ModeFile,
		ID: b.o.Put(object.KindBlob, []byte("mended"))}})
	require.NoError(t, err)
	ids, tip, err := Commits(t.Context(), b.o, steps, t1, committer, mended)
	require.NoError(t, err)
	assert.Equal(t, ids[0], tip)
	c, err := b.o.Commit(t.Context(), tip)
	require.NoError(t, err)
	assert.Equal(t, mended, c.Tree)

	steps, _ = b.rebase(b.commit("two alone", "f=1/2/3 z=2", base), t1, nil)
	assert.Equal(t, "two alone:already-there", outcomes(steps))
	_, _, err = Commits(t.Context(), b.o, steps, t1, committer, mended)
	assert.ErrorContains(t, err, "no commit of yours is left")
}

func TestHeadersAndMerges(t *testing.T) {
	b := &bench{t, object.NewOverlay(object.SHA1, nil)}
	base := b.commit("base", "f=1")
	t1 := b.commit("theirs", "f=1 g=1", base)
	id := b.commit("signed", "f=2", base)
	c, err := b.o.Commit(t.Context(), id)
	require.NoError(t, err)
	c.Extra = []object.Header{{Key: "encoding", Value: "latin1"}, {Key: "gpgsig", Value: "--\nx"},
		{Key: "note", Value: "kept"}}
	c.Message = "sm\xf8rrebr\xf8d\n"
	signed := b.o.PutCommit(c)
	steps, _ := b.rebase(signed, t1, nil)
	_, tip, err := Commits(t.Context(), b.o, steps, t1, committer, object.ID{})
	require.NoError(t, err)
	got, err := b.o.Commit(t.Context(), tip)
	require.NoError(t, err)
	assert.Equal(t, []object.Header{{Key: "encoding", Value: "latin1"}, {Key: "note", Value: "kept"}}, got.Extra)
	assert.Equal(t, c.Message, got.Message)
	assert.Equal(t, "smørrebrød", got.Subject(), "shown in UTF-8, kept as it was")
	got.Extra[0].Value = "no-such-encoding"
	assert.Equal(t, "sm\xf8rrebr\xf8d", got.Subject())

	three := b.commit("three at once", "f=1", base, t1, signed)
	d, err := history.Diverge(t.Context(), b.o, three, b.commit("other", "f=9", base))
	require.NoError(t, err)
	_, err = Rebase(t.Context(), merge.NewEngine(b.o), NewChanges(b.o), d.Yours, d.Theirs, base, nil, nil, nil)
	var refused *MergeCommitError
	assert.ErrorAs(t, err, &refused)
	assert.ErrorContains(t, err, "three at once")
}

// show writes a line of commits from a tip down to a commit, side lines in
// brackets, as subjects.
func (b *bench) line(tip, stop object.ID) string {
	c, err := b.o.Commit(context.Background(), tip)
	require.NoError(b.t, err)
	out := c.Subject()
	if len(c.Parents) > 1 {
		out += "[" + b.line(c.Parents[1], stop) + "]"
	}
	if len(c.Parents) > 0 && c.Parents[0] != stop {
		out += " " + b.line(c.Parents[0], stop)
	}
	return out
}

func (b *bench) tree(files string) object.ID {
	c, err := b.o.Commit(context.Background(), b.commit("x", files))
	require.NoError(b.t, err)
	return c.Tree
}

func TestMergesAreReplayedAsMerges(t *testing.T) {
	b := &bench{t, object.NewOverlay(object.SHA1, nil)}
	before := b.commit("before", "f=1/2/3/4/5 g=1")
	base := b.commit("base", "f=1/2/3/4/5 g=1 z=1", before)
	theirs := b.commit("theirs", "f=1/2/3/4/5 g=1 z=1 t=1", base)
	mine := b.commit("mine", "f=mine/2/3/4/5 g=1 z=1", base)
	aside := b.commit("aside", "f=1/2/3/4/aside g=1 a=1", before)
	fork := b.commit("fork", "f=mine/2/3/4/5 g=1 z=1 k=1", mine)
	clash := b.commit("clash", "f=clash/2/3/4/5 g=1", before)
	for _, c := range []struct {
		name, want, files string
		tip               object.ID
	}{
		{"a side line from before stays as it is", "after joint[aside before] mine",
			"f=mine/2/3/4/aside g=1 z=1 a=1 t=1 n=1",
			b.commit("after", "f=mine/2/3/4/aside g=1 z=1 a=1 n=1",
				b.commit("joint", "f=mine/2/3/4/aside g=1 z=1 a=1", mine, aside))},
		{"a side line from a replayed commit is replayed", "joint[fork mine] second mine",
			"f=mine/2/3/4/5 g=1 z=1 t=1 k=1 s=1",
			b.commit("joint", "f=mine/2/3/4/5 g=1 z=1 k=1 s=1", b.commit("second", "f=mine/2/3/4/5 g=1 z=1 s=1",
				mine), fork)},
		{"what the merge changed itself comes along", "joint[aside before] mine",
			"f=mine/2/3/4/aside g=evil z=1 a=1 t=1",
			b.commit("joint", "f=mine/2/3/4/aside g=evil z=1 a=1", mine, aside)},
		{"what was decided holds", "joint[clash before] mine", "f=both/2/3/4/5 g=1 z=1 t=1",
			b.commit("joint", "f=both/2/3/4/5 g=1 z=1", mine, clash)},
		{"mine was merged into theirs", "joint[mine]", "f=mine/2/3/4/5 g=1 z=1 t=1",
			b.commit("joint", "f=mine/2/3/4/5 g=1 z=1", base, mine)},
	} {
		steps, _ := b.rebase(c.tip, theirs, nil)
		for i := range steps {
			assert.Equal(t, Clean, steps[i].Outcome, c.name)
		}
		_, tip, err := Commits(t.Context(), b.o, steps, theirs, committer, object.ID{})
		require.NoError(t, err)
		assert.Equal(t, c.want, strings.ReplaceAll(strings.ReplaceAll(b.line(tip, theirs), " base before", ""),
			" base", ""), c.name)
		got, err := b.o.Commit(t.Context(), tip)
		require.NoError(t, err)
		assert.Equal(t, b.tree(c.files), got.Tree, c.name)
	}

	// A merge that only caught up is nothing any more.
	later := b.commit("later", "f=1/2/3/4/5 g=1 z=1 t=1 u=1", theirs)
	caughtUp := b.commit("caught up", "f=mine/2/3/4/5 g=1 z=1 t=1", mine, theirs)
	tip := b.commit("after", "f=mine/2/3/4/5 g=1 z=1 t=1 n=1", caughtUp)
	steps, _ := b.rebase(tip, later, nil)
	assert.Equal(t, "mine:clean caught up:emptied after:clean", outcomes(steps))
	_, tip, err := Commits(t.Context(), b.o, steps, later, committer, object.ID{})
	require.NoError(t, err)
	assert.Equal(t, "after mine", b.line(tip, later))

	// What theirs changed since is asked again; what the merge decided is not.
	t2 := b.commit("theirs too", "f=1/2/3/4/theirs g=1 z=1", base)
	joint := b.commit("joint", "f=both/2/3/4/5 g=1 z=1", b.commit("last", "f=mine/2/3/4/mine g=1 z=1", mine), clash)
	steps, _ = b.rebase(joint, t2, func(r *merge.Result) (merge.Decided, bool, error) {
		_, _, theirs := r.Conflicts[0].Subject.Sides()
		return merge.Decided{Entries: map[string]object.Entry{"f": theirs}}, true, nil
	})
	assert.Equal(t, "mine:clean last:emptied joint:conflict", outcomes(steps))
}

func TestChangeID(t *testing.T) {
	b := &bench{t, object.NewOverlay(object.SHA1, nil)}
	id := func(before, after string) ChangeID {
		at := b.commit("x", after, b.commit("p", before))
		c, err := b.o.Commit(t.Context(), at)
		require.NoError(t, err)
		ch, ok, err := NewChanges(b.o).Of(t.Context(), history.Node{ID: at, Commit: c})
		require.NoError(t, err)
		require.True(t, ok)
		return ch
	}
	const a = "f=1/2/3/4/5/6/7/8/9"
	edit := id(a, "f=1/2/3/4/X/6/7/8/9")
	assert.Equal(t, edit, id("f=0/0/"+a[2:], "f=0/0/1/2/3/4/X/6/7/8/9"), "moved down, the change is the same")
	assert.NotEqual(t, edit, id(a, "f=1/2/3/4/Y/6/7/8/9"))
	assert.NotEqual(t, edit, id("f=1/2/3/0/5/6/7/8/9", "f=1/2/3/0/X/6/7/8/9"), "other surroundings")
	assert.NotEqual(t, edit, id(strings.Replace(a, "f", "g", 1), "g=1/2/3/4/X/6/7/8/9"), "another file")
	run := func(s string) string { return strings.ReplaceAll(s, "f=", "f:run=") }
	assert.Equal(t, edit, id(run(a), run("f=1/2/3/4/X/6/7/8/9")), "a mode that stays is no part of it")
	assert.NotEqual(t, edit, id(a, run("f=1/2/3/4/X/6/7/8/9")), "one that changes is")
	assert.Equal(t, id(a, run(a)), id("f=other", run("f=other")), "of a mode alone the content is no part")
	assert.NotEqual(t, id(a, run(a)), id(run(a), a), "but which mode it was")
	at := b.commit("x", a, b.commit("p", a))
	empty, err := b.o.Commit(t.Context(), at)
	require.NoError(t, err)
	_, ok, err := NewChanges(b.o).Of(t.Context(), history.Node{ID: at, Commit: empty})
	require.NoError(t, err)
	assert.False(t, ok)
}

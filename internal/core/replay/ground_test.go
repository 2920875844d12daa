package replay

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// timetables are random lines of commits over a few files in directories: most edit, some add, delete, rename, or set
// attributes.
type timetables struct {
	*bench
	r      *rand.Rand
	mess   int  // in a hundred changes, those that do not edit
	narrow bool // all edit the same few lines, so that many are the same
}

func (l *timetables) commit(on object.ID) object.ID {
	var tree object.ID
	var parents []object.ID
	if !on.IsZero() {
		c, err := l.o.Commit(context.Background(), on)
		require.NoError(l.t, err)
		tree, parents = c.Tree, []object.ID{on}
	}
	set := map[string]object.Entry{}
	if on.IsZero() {
		for n := range 12 {
			set[fmt.Sprintf("d%d/e/f%02d", n%3, n)] = l.file(strings.Split("one two three four five six seven eight",
				" "))
		}
	}
	all, err := l.o.Changes(context.Background(), object.ID{}, tree)
	require.NoError(l.t, err)
	changes, files, places := 1+l.r.IntN(3), len(all), 8
	if l.narrow {
		changes, files, places = 1, min(files, 2), 2
	}
	for range changes {
		if files == 0 {
			break
		}
		f := all[l.r.IntN(files)]
		if l.r.IntN(100) >= l.mess {
			text, err := l.o.Text(context.Background(), f.New.ID)
			require.NoError(l.t, err)
			lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
			lines[l.r.IntN(min(len(lines), places))] = fmt.Sprint("edited ", l.r.IntN(places))
			set[f.Path] = l.file(lines)
			continue
		}
		switch l.r.IntN(4) {
		case 0:
			set[f.Path] = object.Entry{}
		case 1:
			set[f.Path], set["d1/moved-"+f.Path[strings.LastIndexByte(f.Path, '/')+1:]] = object.Entry{}, f.New
		case 2:
			set[fmt.Sprintf("d%d/new%d", l.r.IntN(3), l.r.IntN(5))] = l.file([]string{fmt.Sprint(l.r.IntN(3))})
		case 3:
			set[f.Path[:3]+".gitattributes"] = l.file([]string{[]string{"f* merge=union", "f* -merge"}[l.r.IntN(2)]})
		}
	}
	for p := range set { // no file is a directory, too
		if strings.HasPrefix(p, "d1/moved-") && set[p].Mode != object.ModeFile {
			delete(set, p)
		}
	}
	tree, err = l.o.Edit(context.Background(), tree, set)
	require.NoError(l.t, err)
	who := object.Signature{Name: "Ada", Email: "ada@skerry.example", When: 1767000000, Zone: "+0530"}
	return l.o.PutCommit(&object.Commit{Tree: tree, Parents: parents, AuthorLine: who.String(), Committer: who,
		Message: fmt.Sprint(l.r.Int())})
}

func (l *timetables) file(lines []string) object.Entry {
	return object.Entry{Mode: object.ModeFile, ID: l.o.Put(object.KindBlob, []byte(strings.Join(lines, "\n")+"\n"))}
}

func (l *timetables) line(on object.ID, commits int) object.ID {
	for range commits {
		on = l.commit(on)
	}
	return on
}

// TestAReplayIsAJoinOfTreesEachTime: for each step, whether its tree was made meanwhile or is only now, in any order.
func TestAReplayIsAJoinOfTreesEachTime(t *testing.T) {
	seen := map[string]int{}
	for seed := range uint64(400) {
		l := &timetables{&bench{t, object.NewOverlay(object.SHA1, nil)}, rand.New(rand.NewPCG(seed, 4)),
			int(seed%3) * 12,
			seed%4 == 0}
		base := l.commit(object.ID{})
		theirs := l.line(base, 1+l.r.IntN(5))
		before, err := l.o.Commit(t.Context(), theirs)
		require.NoError(t, err)
		d, err := history.Diverge(t.Context(), l.o, l.line(base, 1+l.r.IntN(8)), theirs)
		require.NoError(t, err)
		requests := Requests{}
		if requested := d.Yours[l.r.IntN(len(d.Yours))]; seed%5 == 0 {
			requests[requested.ID] = Request{Leave: true}
		} else if seed%5 == 1 {
			requests[requested.ID] = Request{Edits: (&Edits{}).With(merge.TextEdit{Path: "d0/e/f00",
				Before: "one\ntwo\nthree\nfour\nfive\nsix\nseven\neight\n", After: "one\ntwo\nthree\nfour\nfive\nsix\nseven\nlast\n"})}
		}
		undecided := func(*merge.Result) (merge.Decided, bool, error) { return merge.Decided{}, false, nil }
		steps, err := Rebase(t.Context(), merge.NewEngine(l.o), NewChanges(l.o), d.Yours, d.Theirs, theirs, requests,
			undecided, nil)
		require.NoError(t, err)
		for _, i := range l.r.Perm(len(steps)) {
			after(t, &steps[i])
		}
		onto := before.Tree
		for i := range steps {
			s := &steps[i]
			n := d.Yours[len(steps)-1-i]
			was, err := history.FirstParentTree(t.Context(), l.o, n.Commit)
			require.NoError(t, err)
			r, err := merge.NewEngine(l.o).Trees(t.Context(), was, n.Tree, onto)
			require.NoError(t, err)
			want, err := r.Tree(t.Context(), merge.Decided{})
			require.NoError(t, err)
			outcome := Clean
			switch {
			case requests[n.ID].Leave:
				outcome, want = Dropped, onto
			case requests[n.ID].Edits != nil:
				outcome, want = s.Outcome, after(t, s) // what stands on it counts
				seen["edited"] += len(s.Edited)
			case s.Outcome == AlreadyThere:
				outcome, want = AlreadyThere, onto
			case !r.Clean():
				outcome = Conflict
			case want == onto && n.Tree != was:
				outcome = Emptied
			}
			require.Equal(t, outcome, s.Outcome, "seed %d, step %d", seed, i)
			require.Equal(t, want, after(t, s), "seed %d, step %d", seed, i)
			if s.Merge != nil && outcome != Dropped {
				require.Equal(t, r.Remarks, s.Merge.Remarks, "seed %d, step %d", seed, i)
			}
			seen[string(outcome)]++
			if s.after.log != nil {
				seen["without a tree"]++
			}
			onto = want
		}
	}
	for _, what := range []Outcome{Clean, Conflict, Emptied, AlreadyThere, Dropped, "without a tree", "edited"} {
		assert.Greater(t, seen[string(what)], 10, "%s of %v", what, seen)
	}
}

// TestWhatMayBeTheSame holds that no commit is passed over that changes the same paths as another, and that few others
// are looked into.
func TestWhatMayBeTheSame(t *testing.T) {
	may, all, looked := 0, 0, 0
	for seed := range uint64(150) {
		l := &timetables{&bench{t, object.NewOverlay(object.SHA1, nil)}, rand.New(rand.NewPCG(seed, 9)), 30,
			seed%2 == 0}
		base := l.commit(object.ID{})
		d, err := history.Diverge(t.Context(), l.o, l.line(base, 2), l.line(base, 8))
		require.NoError(t, err)
		c := NewChanges(l.o)
		paths := map[ChangeID]bool{}
		var mine []pathsID
		for _, n := range d.Yours {
			p, err := c.pathsOf(t.Context(), n)
			require.NoError(t, err)
			mine = append(mine, p)
			paths[p.id] = len(p.changes) > 0
		}
		for _, lines := range [][2][]history.Node{{d.Yours, d.Theirs}, {d.Theirs, d.Yours}, {d.Yours, d.Theirs},
			{d.Yours, d.Theirs}, {d.Yours[1:], d.Theirs}} { // what it remembers is of just these lines
			got, err := c.Same(t.Context(), merge.NewEngine(l.o), lines[0], lines[1])
			require.NoError(t, err)
			want, err := NewChanges(l.o).Same(t.Context(), merge.NewEngine(l.o), lines[0], lines[1])
			require.NoError(t, err)
			require.Equal(t, want, got)
		}
		a := newAlike(l.o, mine)
		for _, n := range d.Theirs {
			p, err := c.pathsOf(t.Context(), n)
			require.NoError(t, err)
			before, err := history.FirstParentTree(t.Context(), l.o, n.Commit)
			require.NoError(t, err)
			got, err := a.mayBe(t.Context(), before, n.Tree)
			require.NoError(t, err)
			if all++; paths[p.id] {
				require.True(t, got, "seed %d: %v", seed, p.changes)
				may++
			} else if got {
				looked++
			}
		}
	}
	assert.Greater(t, may, 50)
	assert.Less(t, looked, all/20, "of paths there are two that differ in modes alone")
}

// reads counts which objects are read.
type reads struct {
	*object.Overlay
	of []object.ID
}

func (r *reads) Read(ctx context.Context, id object.ID) (object.Kind, []byte, error) {
	r.of = append(r.of, id)
	return r.Overlay.Read(ctx, id)
}

// TestNoTreeIsReadInVain: of a commit of theirs that changes another directory only the top is read; and to replay a
// commit that edits a file no more of theirs than where that file stands.
func TestNoTreeIsReadInVain(t *testing.T) {
	b := &bench{t, object.NewOverlay(object.SHA1, nil)}
	base := b.commit("base", "a/b/c/f=1/2/3 x/y/z/g=1/2/3 k=1")
	theirs := b.commit("theirs", "a/b/c/f=1/2/3 x/y/z/g=1/2/4 k=1", base)
	yours := b.commit("yours", "a/b/c/f=0/2/3 x/y/z/g=1/2/3 k=1", base)
	under := &reads{Overlay: b.o}
	seen := &bench{t, object.NewOverlay(object.SHA1, under)}
	steps, _ := seen.rebase(yours, theirs, nil)
	trees := 0
	for _, id := range under.of {
		if kind, _, err := b.o.Read(t.Context(), id); err == nil && kind == object.KindTree {
			trees++
		}
	}
	assert.Equal(t, 3+3+3, trees, "the tops of base, yours and theirs; the directories of f in base and yours, which "+
		"are those of theirs")
	assert.Equal(t, "yours:clean", outcomes(steps))
	want := b.commit("both", "a/b/c/f=0/2/3 x/y/z/g=1/2/4 k=1")
	c, err := b.o.Commit(t.Context(), want)
	require.NoError(t, err)
	assert.Equal(t, c.Tree, after(t, &steps[0]))
	assert.False(t, slices.Contains(under.of, c.Tree))
}

// TestAFileThatBecomesADirectory is told apart from neither's being changed.
func TestAFileThatBecomesADirectory(t *testing.T) {
	b := &bench{t, object.NewOverlay(object.SHA1, nil)}
	base := b.commit("base", "a=1 a-b=1 k=1")
	node := func(id object.ID) history.Node {
		c, err := b.o.Commit(t.Context(), id)
		require.NoError(t, err)
		return history.Node{ID: id, Commit: c}
	}
	p, err := NewChanges(b.o).pathsOf(t.Context(), node(b.commit("yours", "a/x/y=1 a-b=2 k=1", base)))
	require.NoError(t, err)
	a := newAlike(b.o, []pathsID{p})
	for files, want := range map[string]bool{"a/x/y=1 a-b=2 k=1": true, "a/x/y=3 a-b=4 k=1": true,
		"a=2 a-b=2 k=1":     false,
		"a/x/z=1 a-b=2 k=1": false, "a/x/y=1 k=1": true, "a/x/y=1 a-b=1 k=1": false, "a=1 a-b=1 k=1": false} {
		got, err := a.mayBe(t.Context(), node(base).Tree, node(b.commit("theirs", files, base)).Tree)
		require.NoError(t, err)
		assert.Equal(t, want, got, files)
	}
}

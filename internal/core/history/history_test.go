package history

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sort"
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/gittest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// graph makes commits in memory by name; the time of each is given.
type graph struct {
	t   *testing.T
	o   *object.Overlay
	ids map[string]object.ID
}

func newGraph(t *testing.T) *graph {
	return &graph{t, object.NewOverlay(object.SHA1, nil), map[string]object.ID{}}
}

func (g *graph) commit(name string, when int64, parents ...string) object.ID {
	sig := object.Signature{Name: name, Email: "x", When: when, Zone: "+0000"}
	c := &object.Commit{Tree: g.o.EmptyTree(), AuthorLine: sig.String(), Committer: sig, Message: name + "\n"}
	for _, p := range parents {
		c.Parents = append(c.Parents, g.ids[p])
	}
	g.ids[name] = g.o.PutCommit(c)
	return g.ids[name]
}

// into hands what some commits lead to over to git.
func (g *graph) into(repo *gittest.Repo, roots ...object.ID) {
	var pack strings.Builder
	_, err := g.o.WritePack(context.Background(), &pack, roots...)
	require.NoError(g.t, err)
	_, err = repo.TryInput([]byte(pack.String()), "index-pack", "--stdin")
	require.NoError(g.t, err)
}

func subjects(nodes []Node) string {
	var out []string
	for _, n := range nodes {
		out = append(out, n.Subject())
	}
	return strings.Join(out, " ")
}

func (g *graph) names(ids []object.ID) string {
	var out []string
	for name, id := range g.ids {
		for _, i := range ids {
			if i == id {
				out = append(out, name)
			}
		}
	}
	sort.Strings(out)
	return strings.Join(out, " ")
}

func TestDiverge(t *testing.T) {
	g := newGraph(t)
	g.commit("a", 1)
	g.commit("b", 2, "a")
	g.commit("y1", 3, "b")
	g.commit("y2", 5, "y1")
	g.commit("t1", 4, "b")
	g.commit("m", 6, "y1", "t1") // yours, having merged theirs
	g.commit("n", 7, "t1", "y1") // and the other way round: criss-cross
	g.commit("skewed", 1, "y2")  // a clock that stood still
	g.commit("other", 9)         // another root
	g.commit("joined", 10, "other", "t1")
	for _, c := range []struct{ yours, theirs, bases, only, other string }{
		{"y2", "t1", "b", "y2 y1", "t1"},
		{"y2", "y2", "y2", "", ""},
		{"b", "t1", "b", "", "t1"},
		{"y2", "b", "b", "y2 y1", ""},
		{"m", "t1", "t1", "m y1", ""},
		{"m", "n", "t1 y1", "m", "n"},
		{"skewed", "t1", "b", "skewed y2 y1", "t1"},
		{"skewed", "m", "y1", "skewed y2", "m t1"},
		{"other", "b", "", "other", "b a"},
		{"joined", "y2", "b", "joined other t1", "y2 y1"},
	} {
		d, err := Diverge(t.Context(), g.o, g.ids[c.yours], g.ids[c.theirs])
		require.NoError(t, err)
		assert.Equal(t, c.bases, g.names(d.Bases), "%s %s", c.yours, c.theirs)
		assert.Equal(t, c.only, subjects(d.Yours), "%s %s", c.yours, c.theirs)
		assert.Equal(t, c.other, subjects(d.Theirs), "%s %s", c.yours, c.theirs)
		assert.False(t, d.Cut)
	}
	_, err := Diverge(t.Context(), g.o, g.ids["a"], object.SHA1.Sum(object.KindCommit, nil))
	assert.ErrorIs(t, err, object.ErrMissing)
}

// TestDivergeAgreesWithGit compares random graphs, with wrong clocks, with
// `git merge-base --all` and `git rev-list`.
func TestDivergeAgreesWithGit(t *testing.T) {
	g := newGraph(t)
	r := rand.New(rand.NewPCG(21, 22))
	repo := gittest.New(t)
	const n = 120
	for i := range n {
		var parents []string
		for range min(i, 1+r.IntN(2)) {
			if p := fmt.Sprint("c", max(0, i-1-r.IntN(6))); len(parents) == 0 || p != parents[0] {
				parents = append(parents, p)
			}
		}
		g.commit(fmt.Sprint("c", i), int64(1000+i*10+r.IntN(60)), parents...)
	}
	var roots []object.ID
	for i := range n {
		roots = append(roots, g.ids[fmt.Sprint("c", i)])
	}
	g.into(repo, roots...)
	hex := func(nodes []Node) []string {
		out := []string{}
		for _, n := range nodes {
			out = append(out, n.ID.String())
		}
		sort.Strings(out)
		return out
	}
	sorted := func(s string) []string {
		f := strings.Fields(s)
		sort.Strings(f)
		return f
	}
	for range 60 {
		a, b := roots[r.IntN(n)], roots[r.IntN(n)]
		d, err := Diverge(t.Context(), g.o, a, b)
		require.NoError(t, err)
		want, _ := repo.Try("merge-base", "--all", a.String(), b.String())
		got := []string{}
		for _, id := range d.Bases {
			got = append(got, id.String())
		}
		sort.Strings(got)
		assert.Equal(t, sorted(want), got)
		assert.Equal(t, sorted(repo.Git("rev-list", a.String(), "^"+b.String())), hex(d.Yours))
		assert.Equal(t, sorted(repo.Git("rev-list", b.String(), "^"+a.String())), hex(d.Theirs))
		under, err := IsAncestor(t.Context(), g.o, a, b)
		require.NoError(t, err)
		_, gerr := repo.Try("merge-base", "--is-ancestor", a.String(), b.String())
		assert.Equal(t, gerr == nil, under)
	}
}

func TestWho(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	var nodes []Node
	var parent object.ID
	for i, text := range []string{"a\nb\n", "a\nb\nc\n", "a\nX\nc\n"} {
		tree, err := o.Edit(t.Context(), object.ID{}, map[string]object.Entry{"f": {Mode: object.ModeFile,
			ID: o.Put(object.KindBlob, []byte(text))}})
		require.NoError(t, err)
		c := &object.Commit{Tree: tree, AuthorLine: "A <a> 1 +0000", Message: fmt.Sprint("commit ", i)}
		if !parent.IsZero() {
			c.Parents = []object.ID{parent}
		}
		parent = o.PutCommit(c)
		nodes = append([]Node{{parent, c}}, nodes...)
	}
	who := NewAnnotator(o, nodes)
	for line, want := range map[string]string{"b\n": "commit 0", "\tc": "commit 1", "X\n": "commit 2",
		"nowhere\n": "commit 2"} {
		n, ok, err := who.Editor(t.Context(), "f", []string{line})
		require.NoError(t, err)
		assert.True(t, ok)
		assert.Equal(t, want, n.Subject(), line)
	}
	_, ok, err := who.Editor(t.Context(), "g", nil)
	require.NoError(t, err)
	assert.False(t, ok)
}

// TestWhoOfARenamedFile: who renames a file, and changes a line of it, did not write the others.
func TestWhoOfARenamedFile(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	var nodes []Node
	for _, files := range []map[string]string{
		{"old": "a\nb\n", "other": "x\nb\n"},
		{"old": "a\nb\nc\n", "other": "x\nb\n"},
		{"new": "a\nB\nc\n"},
	} {
		entries := map[string]object.Entry{}
		for name, text := range files {
			entries[name] = object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(text))}
		}
		tree, err := o.Edit(t.Context(), object.ID{}, entries)
		require.NoError(t, err)
		c := &object.Commit{Tree: tree, AuthorLine: "A <a> 1 +0000", Message: fmt.Sprint("commit ", len(nodes))}
		if len(nodes) > 0 {
			c.Parents = []object.ID{nodes[0].ID}
		}
		nodes = append([]Node{{o.PutCommit(c), c}}, nodes...)
	}
	who := NewAnnotator(o, nodes)
	for line, want := range map[string]string{"a": "commit 0", "c": "commit 1", "B": "commit 2",
		"nowhere": "commit 2"} {
		n, _, err := who.Editor(t.Context(), "new", []string{line})
		require.NoError(t, err)
		assert.Equal(t, want, n.Subject(), line)
	}
}

// counted is a reader that counts what is asked of it.
type counted struct {
	object.Reader
	reads *int
}

func (c counted) Read(ctx context.Context, id object.ID) (object.Kind, []byte, error) {
	*c.reads++
	return c.Reader.Read(ctx, id)
}

// TestDivergeReadsNoMoreThanItTells: of a long history the commits of both sides, and the one where they part.
func TestDivergeReadsNoMoreThanItTells(t *testing.T) {
	g := newGraph(t)
	last := ""
	line := func(name string, n int, when int64) object.ID {
		for i := range n {
			this := fmt.Sprint(name, i)
			if last == "" {
				g.commit(this, when)
			} else {
				g.commit(this, when+int64(i), last)
			}
			last = this
		}
		return g.ids[last]
	}
	line("base", 1000, 0)
	base := last
	yours := line("y", 5, 2000)
	last = base
	theirs := line("t", 7, 2000)
	reads := 0
	d, err := Diverge(t.Context(), object.NewOverlay(object.SHA1, counted{g.o, &reads}), yours, theirs)
	require.NoError(t, err)
	assert.Len(t, d.Yours, 5)
	assert.Len(t, d.Theirs, 7)
	assert.Equal(t, 5+7+2, reads, "and the one before that, from which on all is common")
}

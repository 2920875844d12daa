package history

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/gittest"
)

// readGraph reads the commit-graph of a repository, one file or a chain.
func readGraph(t *testing.T, repo *gittest.Repo) *Graph {
	info := filepath.Join(repo.Dir, ".git", "objects", "info")
	var files [][]byte
	if chain, err := os.ReadFile(filepath.Join(info, "commit-graphs", "commit-graph-chain")); err == nil {
		for _, name := range strings.Fields(string(chain)) {
			data, err := os.ReadFile(filepath.Join(info, "commit-graphs", "graph-"+name+".graph"))
			require.NoError(t, err)
			files = append(files, data)
		}
	} else {
		data, err := os.ReadFile(filepath.Join(info, "commit-graph"))
		require.NoError(t, err)
		files = append(files, data)
	}
	g, err := ParseGraph(object.SHA1, files...)
	require.NoError(t, err)
	return g
}

// TestLogAndGraphFile lists random histories, with clocks right and wrong, without a
// commit-graph and with the kinds of it that git writes.
func TestLogAndGraphFile(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for n, c := range []struct {
		name      string
		skewed    int64
		write     []string
		part      bool // only of an older half
		centuries bool
	}{
		{"no graph", 300, nil, false, false},
		{"one file", 300, []string{"commit-graph", "write", "--reachable"}, false, false},
		{"clocks of other years", 190_000, []string{"commit-graph", "write", "--reachable"}, false, true},
		{"generation numbers", 190_000, []string{"-c", "commitGraph.generationVersion=1", "commit-graph", "write",
			"--reachable"}, false, false},
		{"half of it", 300, []string{"commit-graph", "write", "--reachable"}, true, false},
		{"a chain", 190_000, []string{"commit-graph", "write", "--reachable", "--split=no-merge"}, true, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			repo := gittest.New(t)
			g, tips := random(t, r, 150, 1+n*2, c.skewed)
			if c.centuries {
				g.commit("future", 10_000_000_000, "c149")
				tips = append(tips, g.commit("past", 5, "future"))
			}
			g.into(repo, tips...)
			for i, id := range tips {
				repo.Git("update-ref", fmt.Sprint("refs/heads/t", i), id.String())
			}
			var graph *Graph
			if c.write != nil {
				repo.Git(c.write...)
				more := g.commit("new", 200_000, "c149")
				tips = append(tips, g.commit("newer", 200_010, "new", "c100"))
				g.into(repo, tips...)
				repo.Git("update-ref", "refs/heads/newer", tips[len(tips)-1].String())
				if c.part && len(c.write) > 3 {
					repo.Git(c.write...)
				}
				graph = readGraph(t, repo)
				_, known := graph.Shape(more)
				assert.Equal(t, c.part && len(c.write) > 3, known)
			}
			log, err := NewLog(t.Context(), g.o, graph, tips...)
			require.NoError(t, err)
			var all []Listed
			for step := 1; ; step += 3 {
				some, err := log.Next(t.Context(), step)
				require.NoError(t, err)
				if len(some) == 0 {
					break
				}
				all = append(all, some...)
			}
			var ids []string
			at := map[object.ID]int{}
			for i, l := range all {
				at[l.ID] = i
				ids = append(ids, l.ID.String())
				commit, err := g.o.Commit(t.Context(), l.ID)
				require.NoError(t, err)
				assert.Equal(t, commit.Parents, l.Parents)
				assert.Equal(t, commit.Tree, l.Tree)
				assert.Equal(t, commit.Committer.When, l.When)
				for _, p := range l.Parents {
					if s, ok := graph.Shape(p); ok && l.Level > 0 {
						assert.Less(t, s.Level, l.Level)
					}
				}
			}
			for _, l := range all {
				for _, p := range l.Parents {
					assert.Greater(t, at[p], at[l.ID], "a parent before its child")
				}
			}
			want := strings.Fields(repo.Git("rev-list", "--branches"))
			sort.Strings(want)
			assert.Equal(t, want, slices.Sorted(slices.Values(ids)))
		})
	}
}

// TestLogReadsNoMoreThanIsShown: the newest commits are listed without reading all.
func TestLogReadsNoMoreThanIsShown(t *testing.T) {
	g := newGraph(t)
	parents := []string{}
	for i := range 5000 {
		name := string(rune('a'+i%26)) + strings.Repeat("x", i/26)
		g.commit(name, int64(1_000_000+i*3600), parents...)
		parents = []string{name}
	}
	log, err := NewLog(t.Context(), g.o, nil, g.ids[parents[0]])
	require.NoError(t, err)
	some, err := log.Next(t.Context(), 50)
	require.NoError(t, err)
	assert.Len(t, some, 50)
	assert.Less(t, len(log.seen), 100)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = log.Next(ctx, 50)
	assert.ErrorIs(t, err, context.Canceled)
	rest, err := log.Next(t.Context(), 10000)
	require.NoError(t, err)
	assert.Len(t, rest, 4950)
	assert.False(t, log.Cut())
}

// FuzzParseGraph: a damaged file is refused or gives some shape, and never takes the program down.
func FuzzParseGraph(f *testing.F) {
	repo := gittest.New(f)
	for i := range 4 {
		repo.Write("a", strings.Repeat("x", i))
		repo.Commit("c")
	}
	repo.Git("commit-graph", "write", "--reachable")
	data, err := os.ReadFile(filepath.Join(repo.Dir, ".git", "objects", "info", "commit-graph"))
	require.NoError(f, err)
	head, err := object.ParseID(repo.Git("rev-parse", "HEAD"))
	require.NoError(f, err)
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		if g, err := ParseGraph(object.SHA1, data); err == nil {
			if s, ok := g.Shape(head); ok {
				assert.False(t, s.Tree.IsZero())
			}
		}
	})
}

package recovery

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/hg"
	"dorvik.dev/dorvik/internal/hgtest"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// twoLines makes a base of many files, and two lines of commits on it that each change some.
func twoLines(b *testing.B, o *object.Overlay, files, commits int) (tips [2]object.ID) {
	name := func(i int) string { return fmt.Sprintf("d%d/e%d/f%d.txt", i%100, i%7, i) }
	who := object.Signature{Name: "Runa Holm", Email: "runa@skerry.example", When: 1767261600, Zone: "+0000"}
	texts, set := make([][]string, files), map[string]object.Entry{}
	put := func(i int) {
		data := []byte(strings.Join(texts[i], "\n"))
		set[name(i)] = object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, data)}
	}
	for i := range texts {
		for k := range 40 {
			texts[i] = append(texts[i], fmt.Sprintf("line %d of %d", k, i))
		}
		put(i)
	}
	commit := func(tree object.ID, parents ...object.ID) (object.ID, object.ID) {
		tree, err := o.Edit(b.Context(), tree, set)
		require.NoError(b, err)
		clear(set)
		who.When++
		return tree, o.PutCommit(&object.Commit{Tree: tree, Parents: parents, AuthorLine: who.String(), Committer: who,
			Message: "a commit\n"})
	}
	base, start := commit(o.PutTree(nil))
	r := rand.New(rand.NewPCG(5, 0))
	for side := range tips {
		tree, at := base, start
		for k := range commits {
			for range 5 {
				i := side*files/10 + r.IntN(files/8)
				texts[i][20*side+r.IntN(18)] = fmt.Sprintf("changed in %d", k)
				put(i)
			}
			tree, at = commit(tree, at)
		}
		tips[side] = at
	}
	return tips
}

// BenchmarkPlanOfSystems plans both routes of one history, in a repository of git and in one of Mercurial. With
// “open” the repository is opened each time, which starts a program; “first” reads the whole history of Mercurial.
func BenchmarkPlanOfSystems(b *testing.B) {
	hgtest.Isolate(b)
	o := object.NewOverlay(object.SHA1, nil)
	tips := twoLines(b, o, 10_000, 200)
	gitDir, hgDir := filepath.Join(b.TempDir(), "git"), filepath.Join(b.TempDir(), "hg")
	require.NoError(b, git.InitClone(gitDir, ".", "main", "Runa Holm", "runa@skerry.example"))
	at := git.At(filepath.Join(gitDir, ".git"))
	require.NoError(b, at.Keep(b.Context(), o, tips[:]...))
	require.NoError(b, at.UpdateRefs(b.Context(), "begin", vcs.RefUpdate{Name: "refs/heads/main", New: tips[0]}))
	at.Close()
	require.NoError(b, hg.Init(b.Context(), hgDir, "[ui]\nusername = Runa Holm <runa@skerry.example>\n"))
	r, err := hg.Open(b.Context(), hgDir)
	require.NoError(b, err)
	made, err := r.Fill(b.Context(), o, tips[:], object.ID{})
	require.NoError(b, err)
	r.Close()

	work := func(b *testing.B, w *Workspace, tips [2]object.ID) {
		p, err := w.Compare(b.Context(), tips[0].String(), tips[1].String(), false)
		require.NoError(b, err)
		_, err = w.Planner.Plan(b.Context(), p, &settle.Decisions{}, nil)
		require.NoError(b, err)
	}
	for _, of := range []struct {
		name, dir string
		tips      [2]object.ID
	}{{"git", gitDir, tips}, {"hg", hgDir, [2]object.ID{made[tips[0]], made[tips[1]]}}} {
		b.Run("plan/"+of.name, func(b *testing.B) {
			w, err := OpenWorkspace(b.Context(), of.dir)
			require.NoError(b, err)
			defer w.Close()
			for b.Loop() {
				b.StopTimer()
				again := fresh(w)
				b.StartTimer()
				work(b, again, of.tips)
			}
		})
		b.Run("open/"+of.name, func(b *testing.B) {
			for b.Loop() {
				w, err := OpenWorkspace(b.Context(), of.dir)
				require.NoError(b, err)
				work(b, w, of.tips)
				w.Close()
			}
		})
	}
}

// fresh is a workspace over an opened repository that remembers nothing of earlier plans.
func fresh(w *Workspace) *Workspace {
	return NewWorkspace(Adapter{Repo: w.Repo, Store: object.NewOverlay(object.SHA1, w.Repo),
		WorkTree: func(*plan.Planner) change.WorkTree { return w.WorkTree }})
}

package recovery

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/hg"
	"dorvik.dev/dorvik/internal/hgtest"
	"dorvik.dev/dorvik/internal/plan"
)

// TestJoinsAgreeWithHg compares merges and rebases of random histories with those of hg. hg aligns lines by another
// diff than git, and knows only renames that are recorded, so it differs from git in some: there git must be of
// Dorvik's opinion.
func TestJoinsAgreeWithHg(t *testing.T) {
	hgtest.Isolate(t)
	count, seed := 30, uint64(2026)
	if v, err := strconv.Atoi(os.Getenv("DORVIK_HG_HISTORIES")); err == nil {
		count = v
	}
	if v, err := strconv.ParseUint(os.Getenv("DORVIK_SEED"), 10, 64); err == nil {
		seed = v
	}
	const batch = 500
	for i := 0; i*batch < count && !t.Failed(); i++ {
		t.Run(fmt.Sprintf("seed %d batch %d", seed, i), func(t *testing.T) {
			s := &story{Rand: rand.New(rand.NewPCG(seed, uint64(1+i))), plain: true}
			agreeWithHg(t, s, min(batch, count-i*batch))
		})
	}
}

// twins are the same random histories in a repository of git and in one of Mercurial.
type twins struct {
	*testing.T
	git  *gittest.Repo
	hg   *hgtest.Folder
	w    *Workspace // of the latter
	tips [][2]object.ID
}

func newTwins(t *testing.T, s *story, count int) *twins {
	for n := range count {
		s.history(n)
	}
	two := &twins{T: t, git: gittest.New(t), hg: hgtest.New(t, "Ada Sund <ada@skerry.example>")}
	out, err := two.git.TryInput(s.out.Bytes(), "fast-import", "--quiet")
	require.NoError(t, err, out)
	from, err := openGit(t.Context(), two.git.Dir)
	require.NoError(t, err)
	defer from.Close()
	var ids []object.ID
	for n := range count {
		for _, side := range "yt" {
			id, err := from.Repo.Resolve(t.Context(), fmt.Sprintf("refs/heads/%c%d", side, n))
			require.NoError(t, err)
			ids = append(ids, id)
		}
	}
	to, err := hg.Open(t.Context(), two.hg.Dir)
	require.NoError(t, err)
	defer to.Close()
	bundle := filepath.Join(t.TempDir(), "all.hg")
	made, err := to.Make(t.Context(), from.Planner.Store, ids, nil, nil, bundle)
	require.NoError(t, err)
	require.NoError(t, to.Add(t.Context(), bundle, true))
	for n := range count {
		two.tips = append(two.tips, [2]object.ID{made.Of[ids[2*n]], made.Of[ids[2*n+1]]})
	}
	two.hg.Sound()
	two.w, err = openHg(t.Context(), two.hg.Dir)
	require.NoError(t, err)
	t.Cleanup(two.w.Close)
	return two
}

// at brings the working folder to a changeset and removes what hg left there.
func (two *twins) at(id object.ID) {
	two.hg.Hg("update", "--quiet", "--clean", "null")
	entries, err := os.ReadDir(two.hg.Dir)
	require.NoError(two, err)
	for _, e := range entries {
		if e.Name() != ".hg" {
			require.NoError(two, os.RemoveAll(filepath.Join(two.hg.Dir, e.Name())))
		}
	}
	two.hg.Hg("update", "--quiet", "--clean", id.String())
}

// joinedTo is the outcome of a join.
type joinedTo struct {
	clean bool
	tree  object.ID
}

// mergeByHg is what hg makes of a merge. ok is false if it could not do it.
func (two *twins) mergeByHg(n int) (o joinedTo, ok bool) {
	two.at(two.tips[n][0])
	said, code := two.hg.Try("merge", "--quiet", "--tool", ":merge", "-r", two.tips[n][1].String())
	open := two.hg.Hg("resolve", "--list", "-T", "{ifeq(mergestatus, 'U', '{path} ')}")
	if code != 0 && open == "" {
		two.Logf("merge %d: hg could not: %s", n, said)
		return o, false
	}
	if code == 0 {
		o = joinedTo{true, treeIn(two.T, two.w, two.hg.Dir)}
	}
	return o, true
}

// rebaseByHg is what hg makes of a rebase.
func (two *twins) rebaseByHg(n int) (o joinedTo, ok bool) {
	two.at(two.tips[n][0])
	said, code := two.hg.Try("rebase", "--quiet", "--keep", "--tool", ":merge", "-d", two.tips[n][1].String(), "-r",
		fmt.Sprintf("only(%s, %s)", two.tips[n][0], two.tips[n][1]))
	if code == 0 {
		return joinedTo{true, treeIn(two.T, two.w, two.hg.Dir)}, true
	}
	open := two.hg.Hg("resolve", "--list", "-T", "{ifeq(mergestatus, 'U', '{path} ')}")
	two.hg.Try("rebase", "--abort")
	if open == "" {
		two.Logf("rebase %d: hg could not: %s", n, said)
	}
	return o, open != ""
}

// rebaseByGit is what git makes of it.
func (two *twins) rebaseByGit(n int) joinedTo {
	two.git.Git("checkout", "-q", "-f", "--detach", fmt.Sprintf("y%d", n))
	two.git.Git("clean", "-q", "-fdx")
	if _, err := two.git.Try("rebase", "-q", fmt.Sprintf("t%d", n)); err != nil {
		_, _ = two.git.Try("rebase", "--abort")
		return joinedTo{}
	}
	id, err := object.ParseID(two.git.Git("rev-parse", "HEAD^{tree}"))
	require.NoError(two, err)
	return joinedTo{true, id}
}

func agreeWithHg(t *testing.T, s *story, count int) {
	two := newTwins(t, s, count)
	merges := mergesByGit(t, two.git, 0, count)
	var same, other, could int
	for n, sides := range two.tips {
		p, err := two.w.Compare(t.Context(), sides[0].String(), sides[1].String(), false)
		require.NoError(t, err)
		if p.Trivial() != plan.NotTrivial {
			continue
		}
		for _, route := range []plan.Route{plan.Merge, plan.Rebase} {
			if route == plan.Rebase && (n%4 > 0 || hasMerges(p)) {
				continue
			}
			j, err := two.w.Planner.Join(t.Context(), p, route, &settle.Decisions{}, plan.Amends{}, nil)
			require.NoError(t, err)
			ours, byHg, ok := joinedTo{j.Clean(), j.Tree}, joinedTo{}, false
			if route == plan.Merge {
				byHg, ok = two.mergeByHg(n)
			} else {
				byHg, ok = two.rebaseByHg(n)
			}
			if could++; !ok || byHg == ours || !byHg.clean && !ours.clean {
				same++
				continue
			}
			if other++; !ours.clean {
				continue // a person is asked
			}
			var byGit joinedTo
			if route == plan.Rebase {
				byGit = two.rebaseByGit(n)
			} else if byGit.clean = merges[n].clean; byGit.clean {
				byGit.tree, err = object.ParseID(merges[n].tree)
				require.NoError(t, err)
			}
			assert.Equal(t, byGit, ours, "%s %d: hg has %v", route, n, byHg)
		}
	}
	t.Logf("%d joins, %d as hg makes them, %d as git does", could, same, other)
	assert.Greater(t, same, could*8/10)
}

func hasMerges(p *plan.Position) bool {
	return slices.ContainsFunc(p.Divergence.Yours, func(n history.Node) bool { return len(n.Parents) > 1 })
}

// treeIn is the tree of the files of a working folder.
func treeIn(t *testing.T, w *Workspace, dir string) object.ID {
	set := map[string]object.Entry{}
	for path, text := range gittest.Files(t, dir) {
		e := object.Entry{Mode: object.ModeFile}
		switch {
		case text == "a folder" || strings.HasPrefix(path, ".hg/"):
			continue
		case strings.HasPrefix(text, "to "):
			e.Mode, text = object.ModeLink, text[3:]
		case strings.HasPrefix(text, "true "):
			e.Mode, text = object.ModeExec, text[5:]
		default:
			text = strings.TrimPrefix(text, "false ")
		}
		e.ID = w.Planner.Store.Put(object.KindBlob, []byte(text))
		set[path] = e
	}
	tree, err := w.Planner.Store.Edit(t.Context(), w.Planner.Store.PutTree(nil), set)
	require.NoError(t, err)
	return tree
}

package recovery

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
)

// file is a path's content in a random history. Its mode is git's.
type file struct{ mode, text string }

type files map[string]file

// story makes random small histories as a stream for `git fast-import`.
type story struct {
	*rand.Rand
	out   bytes.Buffer
	mark  int
	plain bool // without submodules
}

// lines makes lines for a path. A small alphabet makes repeated lines, which is
// where diffs differ; the path in them keeps files of different paths from
// looking like renames.
func (s *story) lines(path string, n int) string {
	var b strings.Builder
	for range n {
		fmt.Fprintf(&b, "%s %d\n", path, s.IntN(12))
	}
	return b.String()
}

func (s *story) pick(f files) string {
	names := slices.Sorted(maps.Keys(f))
	if len(names) == 0 {
		return ""
	}
	return names[s.IntN(len(names))]
}

var names = []string{"a", "b", "b.txt", "d/e", "d/f", "d/g/h", "d/g/i", "d/j", "x", "x/y", "z-1", "z"}

// put sets a path and removes what cannot stand beside it.
func (f files) put(path string, to file) {
	for other := range f {
		if strings.HasPrefix(other, path+"/") || strings.HasPrefix(path, other+"/") {
			delete(f, other)
		}
	}
	f[path] = to
}

func (s *story) edit(f files) {
	path := s.pick(f)
	switch n := s.IntN(20); {
	case path == "" || n == 0:
		path = names[s.IntN(len(names))]
		f.put(path, file{"100644", s.lines(path, 1+s.IntN(12))})
	case n == 1:
		delete(f, path)
	case n == 2:
		to := f[path]
		if to.mode == "100644" {
			to.mode = "100755"
		} else if to.mode == "100755" {
			to.mode = "100644"
		}
		f[path] = to
	case n == 3:
		f.put(path, file{"120000", path + strconv.Itoa(s.IntN(3))})
	case n == 4:
		f.put(path, file{"100644", "\x00binary " + path + strconv.Itoa(s.IntN(4)) + "\n"})
	case n == 5 && !s.plain:
		f.put(path, file{"160000", strings.Repeat(strconv.Itoa(1+s.IntN(3)), 40)})
	case n == 8:
		dir, _, in := strings.Cut(path, "/")
		to := []string{"d", "x", "m", "n/d", ""}[s.IntN(5)]
		if in && to != dir {
			for p, moved := range maps.Clone(f) {
				if rest, under := strings.CutPrefix(p, dir+"/"); under {
					delete(f, p)
					f.put(strings.TrimPrefix(to+"/"+rest, "/"), moved)
				}
			}
		}
	case n == 6 || n == 7:
		to := names[s.IntN(len(names))]
		if _, taken := f[to]; !taken && !strings.HasPrefix(to, path+"/") && !strings.HasPrefix(path, to+"/") {
			moved := f[path]
			delete(f, path)
			f.put(to, moved)
		}
	case f[path].mode == "120000" || f[path].mode == "160000":
		f.put(path, file{"100644", s.lines(path, 6)})
	default:
		to := f[path]
		lines := strings.SplitAfter(to.text, "\n")
		for range 1 + s.IntN(3) {
			at := s.IntN(len(lines))
			drop := min(s.IntN(3), len(lines)-at)
			put := strings.SplitAfter(s.lines(path, s.IntN(3)), "\n")
			lines = slices.Concat(lines[:at], put[:len(put)-1], lines[at+drop:])
			if len(lines) == 0 {
				lines = []string{""}
			}
		}
		to.text = strings.Join(lines, "")
		if s.IntN(15) == 0 && len(to.text) > 100 { // see docs/differences.md on small files
			to.text = strings.TrimSuffix(to.text, "\n")
		}
		f[path] = to
	}
}

// commit writes one commit of all files and gives its mark. Merged is a second
// parent, or 0.
func (s *story) commit(ref string, from, merged int, f files) int {
	s.mark++
	fmt.Fprintf(&s.out, "commit %s\nmark :%d\ncommitter A <a@skerry.example> %d +0000\ndata 1\nx\n", ref, s.mark,
		1767000000+s.mark)
	if from > 0 {
		fmt.Fprintf(&s.out, "from :%d\n", from)
	}
	if merged > 0 {
		fmt.Fprintf(&s.out, "merge :%d\n", merged)
	}
	s.out.WriteString("deleteall\n")
	for _, path := range slices.Sorted(maps.Keys(f)) {
		if to := f[path]; to.mode == "160000" {
			fmt.Fprintf(&s.out, "M 160000 %s %s\n", to.text, path)
		} else {
			fmt.Fprintf(&s.out, "M %s inline %s\ndata %d\n%s\n", to.mode, path, len(to.text), to.text)
		}
	}
	return s.mark
}

// history writes one history: a base, and two lines of commits on it as the
// branches yN and tN. Now and then both sides make the same edit, and now and
// then each merged the other's first commits before, in its own way.
func (s *story) history(n int) {
	base := files{}
	for range 3 + s.IntN(5) {
		path := names[s.IntN(len(names))]
		base.put(path, file{"100644", s.lines(path, s.IntN(60))})
	}
	var refs = [2]string{fmt.Sprintf("refs/heads/y%d", n), fmt.Sprintf("refs/heads/t%d", n)}
	from := s.commit(fmt.Sprintf("refs/heads/b%d", n), 0, 0, base)
	tips, trees := [2]int{from, from}, [2]files{base, base}
	s.lineCommits(refs, &tips, &trees)
	for range max(0, s.IntN(8)-5) {
		first, before := tips, trees
		for i := range refs {
			trees[i] = s.mixed(before[i], before[1-i])
			tips[i] = s.commit(refs[i], first[i], first[1-i], trees[i])
		}
		s.lineCommits(refs, &tips, &trees)
	}
}

func (s *story) lineCommits(refs [2]string, tips *[2]int, trees *[2]files) {
	var edits []uint64
	for side := range refs {
		tree := maps.Clone(trees[side])
		for k := range 1 + s.IntN(3) {
			seed := s.Uint64()
			if side == 1 && k < len(edits) && s.IntN(4) == 0 {
				seed = edits[k]
			}
			edits = append(edits, seed)
			same := &story{Rand: rand.New(rand.NewPCG(seed, 0)), plain: s.plain}
			for range 1 + same.IntN(2) {
				same.edit(tree)
			}
			tips[side] = s.commit(refs[side], tips[side], 0, tree)
		}
		trees[side] = tree
	}
}

// mixed is a merge made by hand: each path as one of the two has it.
func (s *story) mixed(a, b files) files {
	out := maps.Clone(a)
	for _, path := range slices.Sorted(maps.Keys(b)) {
		if s.IntN(2) == 0 {
			out.put(path, b[path])
		}
	}
	for _, path := range slices.Sorted(maps.Keys(a)) {
		if _, both := b[path]; !both && s.IntN(2) == 0 {
			delete(out, path)
		}
	}
	return out
}

// TestJoinsAgreeWithGit compares merges and rebases of random histories with
// git's: the same tree where git joins cleanly, conflicts on the same paths
// where it does not. A long run is cut into repositories of 2,000 histories.
func TestJoinsAgreeWithGit(t *testing.T) {
	t.Parallel()
	gittest.Isolate(t)
	count, seed := 1000, uint64(2026)
	if v, err := strconv.Atoi(os.Getenv("DORVIK_HISTORIES")); err == nil {
		count = v
	}
	if v, err := strconv.ParseUint(os.Getenv("DORVIK_SEED"), 10, 64); err == nil {
		seed = v
	}
	all := os.Getenv("DORVIK_ALL") != "" // go on after a difference, to see them all
	const batch = 2000
	for i := 0; i*batch < count && (all || !t.Failed()); i++ {
		t.Run(fmt.Sprintf("seed %d batch %d", seed, i), func(t *testing.T) {
			s := &story{Rand: rand.New(rand.NewPCG(seed, uint64(1+i)))}
			agree(t, s, min(batch, count-i*batch), all)
		})
	}
}

func agree(t *testing.T, s *story, count int, all bool) {
	for n := range count {
		s.history(n)
	}
	repo := gittest.New(t)
	repo.Git("config", "advice.detachedHead", "false")
	out, err := repo.TryInput(s.out.Bytes(), "fast-import", "--quiet")
	require.NoError(t, err, out)

	merges := mergesByGit(t, repo, 0, count)
	var stats struct {
		sync.Mutex
		merges, rebases, conflicted int
	}
	const workers = 2
	var wg sync.WaitGroup
	for k := range workers {
		tree := filepath.Join(t.TempDir(), "tree")
		repo.Git("worktree", "add", "-q", "--detach", tree, "b0")
		wg.Go(func() {
			w, err := OpenWorkspace(t.Context(), tree)
			if !assert.NoError(t, err) {
				return
			}
			defer w.Close()
			at := gittest.At(t, tree)
			for n := k; n < count && (all || !t.Failed()); n += workers {
				clean := compareMerge(t, w, merges[n], n)
				if n%4 < 2 { // a rebase takes git many times as long as a merge
					clean = compareRebase(t, w, at, n) && clean
				}
				stats.Lock()
				stats.merges++
				if !clean {
					stats.conflicted++
				}
				stats.Unlock()
			}
		})
	}
	wg.Wait()
	t.Logf("%d histories, %d of them with conflicts", stats.merges, stats.conflicted)
	assert.Greater(t, stats.conflicted, count/20, "the generator makes conflicts")
	assert.Less(t, stats.conflicted, count*9/10, "and clean joins")
}

// mergeByGit is what git makes of a merge.
type mergeByGit struct {
	died  bool // git failed
	clean bool
	tree  string
	paths []string // in conflict
}

// mergesByGit has one git merge all pairs: starting one for each takes ten times as long.
func mergesByGit(t *testing.T, repo *gittest.Repo, from, count int) (out []mergeByGit) {
	var pairs strings.Builder
	for n := from; n < from+count; n++ {
		fmt.Fprintf(&pairs, "y%d t%d\n", n, n)
	}
	said, err := repo.TryInput([]byte(pairs.String()), "merge-tree", "--stdin", "--write-tree", "--name-only",
		"--no-messages")
	if err != nil && count > 1 { // git 2.39 dies on some: the others are merged without those
		half := count / 2
		return append(mergesByGit(t, repo, from, half), mergesByGit(t, repo, from+half, count-half)...)
	}
	if err != nil {
		t.Logf("merge %d: git ended with %v", from, err)
		return []mergeByGit{{died: true}}
	}
	for rest := said; rest != "" && len(out) < count; {
		var one mergeByGit
		var flag, path string
		flag, rest, _ = strings.Cut(rest, "\x00")
		one.clean = flag == "1"
		one.tree, rest, _ = strings.Cut(rest, "\x00")
		for path, rest, _ = strings.Cut(rest, "\x00"); path != ""; path, rest, _ = strings.Cut(rest, "\x00") {
			one.paths = append(one.paths, path)
		}
		out = append(out, one)
	}
	require.Len(t, out, count)
	return out
}

func compareMerge(t *testing.T, w *Workspace, git mergeByGit, n int) bool {
	p, err := w.Compare(t.Context(), fmt.Sprintf("y%d", n), fmt.Sprintf("t%d", n), false)
	if !assert.NoError(t, err) || p.Trivial() != plan.NotTrivial || git.died {
		return true
	}
	j, err := w.Planner.Join(t.Context(), p, plan.Merge, &settle.Decisions{}, plan.Amends{}, nil)
	if !assert.NoError(t, err) || j.Clean() && len(p.Divergence.Bases) == 1 && !addedLinesSurvive(t, w, p, j.Tree,
		fmt.Sprintf("merge %d", n)) || oldNameUsedAnew(t, w, p.Yours, p.Theirs) {
		return true
	}
	if j.Clean() {
		swapped, err := w.Planner.Engine.TreesOver(t.Context(), p.Divergence.Bases, j.Merge.Given.Theirs,
			j.Merge.Given.Yours)
		require.NoError(t, err)
		tree, err := swapped.Tree(t.Context(), merge.Decided{})
		if !assert.NoError(t, err) || !assert.Empty(t, swapped.Conflicts, "merge %d, swapped", n) ||
			!assert.Equal(t, j.Tree, tree, "merge %d, swapped", n) {
			return true
		}
	}
	if git.clean {
		if !j.Clean() && (gitLosesWork(t, w, p, git.tree) || basesDisagree(t, w, p)) {
			return false
		}
		return assert.True(t, j.Clean(), "merge %d: git joins cleanly, here are conflicts %v", n,
			conflictPaths(j.Stops)) &&
			(inTwoPlaces(t, w, p, j.Merge) || assert.Equal(t, git.tree, j.Tree.String(), "merge %d", n))
	}
	if j.Clean() && len(p.Divergence.Bases) > 1 && (inTwoPlaces(t, w, p, j.Merge) || basesDisagree(t, w, p) ||
		equalsAnAncestor(t, w, p, git.paths)) {
		return true
	}
	if assert.False(t, j.Clean(), "merge %d: git stops at %v", n, git.paths) && !basesDisagree(t, w, p) &&
		!inTwoPlaces(t, w, p, j.Merge) && !gitLosesWork(t, w, p, git.tree) {
		samePaths(t, w, fmt.Sprintf("merge %d", n), git.paths, j.Stops[0])
	}
	return false
}

// inTwoPlaces reports whether a side has one content of the base in several new
// places and not in the old one, or a new file where the base had one content in
// several places: which is renamed to which is anybody's guess. With several common
// ancestors the same can be where those are joined.
func inTwoPlaces(t *testing.T, w *Workspace, p *plan.Position, r *merge.Result) bool {
	for i := 1; i < len(p.Divergence.Bases); i++ {
		b, err := w.Compare(t.Context(), p.Divergence.Bases[0].String(), p.Divergence.Bases[i].String(), false)
		require.NoError(t, err)
		j, err := w.Planner.Join(t.Context(), b, plan.Merge, &settle.Decisions{}, plan.Amends{}, nil)
		require.NoError(t, err)
		if j.Merge != nil && inTwoPlaces(t, w, b, j.Merge) {
			return true
		}
	}
	for _, side := range []object.ID{r.Given.Yours, r.Given.Theirs} {
		changes, err := w.Planner.Store.Changes(t.Context(), r.Given.Base, side)
		require.NoError(t, err)
		came, went := map[object.ID]int{}, map[object.ID]int{}
		for _, c := range changes {
			if c.Old.Absent() {
				came[c.New.ID]++
			} else if c.New.Absent() {
				went[c.Old.ID]++
			}
		}
		for id, n := range went {
			if n > 1 && len(came) > 0 || came[id] > 1 {
				return true
			}
		}
	}
	return false
}

// basesDisagree reports whether the common ancestors of two lines do not join
// cleanly themselves, or have one file under different names. What is contested
// then still has to be, but git may name other paths: see docs/differences.md.
func basesDisagree(t *testing.T, w *Workspace, p *plan.Position) bool {
	for i := 1; i < len(p.Divergence.Bases); i++ {
		b, err := w.Compare(t.Context(), p.Divergence.Bases[0].String(), p.Divergence.Bases[i].String(), false)
		require.NoError(t, err)
		j, err := w.Planner.Join(t.Context(), b, plan.Merge, &settle.Decisions{}, plan.Amends{}, nil)
		require.NoError(t, err)
		if !j.Clean() || basesDisagree(t, w, b) || renamedBetween(t, w, b) {
			return true
		}
	}
	return false
}

// renamedBetween reports whether two commits have one content under different names.
func renamedBetween(t *testing.T, w *Workspace, p *plan.Position) bool {
	old, err := w.Planner.Tree(t.Context(), p.Yours)
	require.NoError(t, err)
	now, err := w.Planner.Tree(t.Context(), p.Theirs)
	require.NoError(t, err)
	changes, err := w.Planner.Store.Changes(t.Context(), old, now)
	require.NoError(t, err)
	gone := map[string]bool{}
	for _, c := range changes {
		if c.New.Absent() {
			gone[c.Path] = true
		}
	}
	renames, err := w.Planner.Engine.Renames(t.Context(), old, now, gone)
	require.NoError(t, err)
	return len(renames) > 0
}

// equalsAnAncestor reports whether at each of some paths the common ancestors differ and a side has what one of them
// has, so that only the other side changed it: see docs/differences.md.
func equalsAnAncestor(t *testing.T, w *Workspace, p *plan.Position, paths []string) bool {
	at := func(commit object.ID, path string) object.Entry {
		tree, err := w.Planner.Tree(t.Context(), commit)
		require.NoError(t, err)
		e, err := w.Planner.Store.Find(t.Context(), tree, path)
		require.NoError(t, err)
		return e
	}
	return len(p.Divergence.Bases) > 1 && !slices.ContainsFunc(paths, func(path string) bool {
		equal, differ := false, false
		for _, b := range p.Divergence.Bases {
			was := at(b, path)
			equal = equal || was.Same(at(p.Yours, path)) || was.Same(at(p.Theirs, path))
			differ = differ || !was.Same(at(p.Divergence.Bases[0], path))
		}
		return !equal || !differ
	})
}

// addedLinesSurvive holds that a clean join has every line that a side's file has
// more often than the whole base: nothing anybody wrote vanishes. (Lines of the
// base may have moved with a rename, and gone by the other side's hand.)
func addedLinesSurvive(t *testing.T, w *Workspace, p *plan.Position, result object.ID, what string) bool {
	count := func(e object.Entry) map[string]int {
		out := map[string]int{}
		if e.Mode.IsRegular() {
			data, err := w.Planner.Store.Blob(t.Context(), e.ID)
			require.NoError(t, err)
			for line := range strings.SplitSeq(string(data), "\n") {
				out[line]++
			}
		}
		return out
	}
	total := func(tree object.ID) map[string]int {
		out := map[string]int{}
		changes, err := w.Planner.Store.Changes(t.Context(), object.ID{}, tree)
		require.NoError(t, err)
		for _, c := range changes {
			for line, n := range count(c.New) {
				out[line] += n
			}
		}
		return out
	}
	base, err := w.Planner.Tree(t.Context(), p.Base())
	require.NoError(t, err)
	all, before := total(result), total(base)
	for _, side := range []object.ID{p.Yours, p.Theirs} {
		tree, err := w.Planner.Tree(t.Context(), side)
		require.NoError(t, err)
		changes, err := w.Planner.Store.Changes(t.Context(), base, tree)
		require.NoError(t, err)
		for _, c := range changes {
			for line, n := range count(c.New) {
				if !assert.GreaterOrEqual(t, all[line], n-before[line], "%s: %q, added to %s, is gone", what, line,
					c.Path) {
					return false
				}
			}
		}
	}
	return true
}

// oldNameUsedAnew reports whether both sides hold the same new file, and one of
// them has put another in the place of one of the base that the other side no
// longer has: git takes that for an edit. See docs/differences.md. With several
// common ancestors the same can happen where those are joined.
func oldNameUsedAnew(t *testing.T, w *Workspace, yours, theirs object.ID) bool {
	parted, err := history.Diverge(t.Context(), w.Planner.Store, yours, theirs)
	require.NoError(t, err)
	trees := [2]object.ID{}
	for i, c := range []object.ID{yours, theirs} {
		trees[i], err = w.Planner.Tree(t.Context(), c)
		require.NoError(t, err)
	}
	joined, err := w.Planner.Engine.TreesOver(t.Context(), parted.Bases, trees[0], trees[1])
	require.NoError(t, err)
	for i := 1; i < len(parted.Bases); i++ {
		if oldNameUsedAnew(t, w, parted.Bases[0], parted.Bases[i]) {
			return true
		}
	}
	var changed [2]map[string]object.Change
	for i, tree := range trees {
		list, err := w.Planner.Store.Changes(t.Context(), joined.Given.Base, tree)
		require.NoError(t, err)
		changed[i] = map[string]object.Change{}
		for _, c := range list {
			changed[i][c.Path] = c
		}
	}
	both, anew := false, false
	for path, y := range changed[0] {
		if th, ok := changed[1][path]; ok {
			both = both || y.Old.Absent() && y.New.Same(th.New)
			anew = anew || !y.Old.Absent() && y.New.Absent() != th.New.Absent()
		}
	}
	return both && anew
}

// gitLosesWork reports whether the tree git made lacks, without a word, a content
// that base, yours and theirs all hold; or one that a side moved, where the other
// put a thing of another type in its old place: see docs/differences.md.
func gitLosesWork(t *testing.T, w *Workspace, p *plan.Position, tree string) bool {
	var trees []object.ID
	for _, c := range []object.ID{p.Base(), p.Yours, p.Theirs} {
		tree, err := w.Planner.Tree(t.Context(), c)
		require.NoError(t, err)
		trees = append(trees, tree)
	}
	return gitLosesOf(t, w, trees, len(p.Divergence.Bases) > 1, tree)
}

// gitLosesOf is gitLosesWork for the trees of the base and the sides.
func gitLosesOf(t *testing.T, w *Workspace, trees []object.ID, severalBases bool, tree string) bool {
	result, err := object.ParseID(tree)
	require.NoError(t, err)
	return gitLosesFrom(t, w, trees, severalBases, result, nil)
}

// gitLosesFrom is gitLosesOf where git stopped, with what its index holds in place of a tree.
func gitLosesFrom(t *testing.T, w *Workspace, trees []object.ID, severalBases bool, result object.ID,
	index []object.ID) bool {
	type content map[object.ID][]string // where it is
	contents := func(tree object.ID) (content, map[string]object.Entry) {
		changes, err := w.Planner.Store.Changes(t.Context(), object.ID{}, tree)
		require.NoError(t, err)
		out, at := content{}, map[string]object.Entry{}
		for _, c := range changes {
			out[c.New.ID] = append(out[c.New.ID], c.Path)
			at[c.Path] = c.New
		}
		return out, at
	}
	left, there := contents(result)
	for _, id := range index {
		left[id] = append(left[id], "")
	}
	var all []content
	var at []map[string]object.Entry
	for _, tree := range trees {
		ids, entries := contents(tree)
		all, at = append(all, ids), append(at, entries)
	}
	for path, yours := range at[1] { // one side's version whole, where three differ and one ancestor has none
		base, theirs, is := at[0][path], at[2][path], there[path]
		if severalBases && !base.Same(yours) && !base.Same(theirs) && !yours.Same(theirs) &&
			!base.Absent() && !theirs.Absent() && (is.Same(yours) || is.Same(theirs)) {
			return true
		}
	}
	for id, paths := range all[0] {
		if left[id] != nil {
			continue
		}
		if all[1][id] != nil && all[2][id] != nil {
			return true
		}
		for mover, other := range []int{0: 0, 1: 2, 2: 1} {
			for _, path := range paths {
				is, there := at[other][path]
				if _, stays := at[mover][path]; mover > 0 && !stays && all[mover][id] != nil && there &&
					!is.Mode.SameType(at[0][path].Mode) {
					return true
				}
			}
		}
	}
	return false
}

func conflictPaths(stops []plan.Stop) (out []string) {
	for _, s := range stops {
		for _, c := range s.Result.Conflicts {
			out = append(out, c.Path)
			if c.Also() != "" && c.Kind != merge.DirectoryRename {
				out = append(out, c.Also())
			}
		}
	}
	slices.Sort(out) // a name and what is in the file can both be asked
	return slices.Compact(out)
}

// samePaths compares the paths of conflicts. Where a file and a directory
// clash git gives the file another name and lists what is in the directory;
// here that is one conflict. git also lists the old names of renamed files,
// which neither side has any more.
func samePaths(t *testing.T, w *Workspace, what string, theirs []string, stop plan.Stop) {
	for _, c := range stop.Result.Conflicts {
		if c.Kind == merge.FileDirectory || c.Kind == merge.DirectoryRename && c.Also() == "" {
			return // see docs/differences.md: what else is named beside such a clash
		}
	}
	ours := conflictPaths([]plan.Stop{stop})
	got := map[string]bool{}
	for _, p := range theirs {
		p, _, _ = strings.Cut(p, "~")
		for _, o := range ours {
			if strings.HasPrefix(p, o+"/") && !slices.Contains(ours, p) {
				p = o
			}
		}
		if slices.Contains(ours, p) {
			got[p] = true
		}
		empty := w.Planner.Store.Format().Sum(object.KindBlob, nil) // see docs/differences.md
		y, err := w.Planner.Store.Find(t.Context(), stop.Result.Yours, p)
		require.NoError(t, err)
		th, err := w.Planner.Store.Find(t.Context(), stop.Result.Theirs, p)
		require.NoError(t, err)
		if !y.Absent() || !th.Absent() {
			got[p] = got[p] || y.ID != empty && th.ID != empty && !y.Same(th)
		}
	}
	collided := slices.ContainsFunc(stop.Result.Conflicts, func(c merge.Conflict) bool {
		return c.Kind == merge.AddAdd || c.Kind == merge.RenameAdd || c.Kind == merge.RenameRename ||
			c.Kind == merge.Type
	})
	for _, c := range stop.Result.Conflicts {
		// See docs/differences.md for all four.
		for _, p := range []string{c.Path, c.Also()} {
			if p != "" && !got[p] && (c.Kind == merge.RenameAdd || c.Kind == merge.DirectoryRename || collided &&
				c.Kind == merge.ModifyDelete || directoryGone(t, w, stop.Result, p)) {
				ours = slices.DeleteFunc(ours, func(o string) bool { return o == p })
				maps.DeleteFunc(got, func(q string, _ bool) bool {
					return path.Base(q) == path.Base(p) &&
						!slices.Contains(ours, q)
				})
			}
		}
	}
	for _, c := range stop.Result.Conflicts { // what is in a file that waits under its old name is asked there
		if n, is := c.Subject.(*merge.Naming); is && n.Also != "" {
			for _, p := range c.Paths() { // what has to make room, if it comes to that
				if !slices.Contains(ours, p) {
					delete(got, p)
				}
			}
		} else if is && n.Also == "" && !got[n.At] {
			ours = slices.DeleteFunc(ours, func(o string) bool { return o == n.At })
		}
	}
	maps.DeleteFunc(got, func(_ string, is bool) bool { return !is })
	assert.ElementsMatch(t, slices.Collect(maps.Keys(got)), ours, what)
}

// directoryGone reports whether a path lies in a directory of the base that one
// side has no more. git contests such a path where the directory went.
func directoryGone(t *testing.T, w *Workspace, r *merge.Result, p string) bool {
	for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
		was, err := w.Planner.Store.Find(t.Context(), r.Given.Base, dir)
		require.NoError(t, err)
		for _, side := range []object.ID{r.Given.Yours, r.Given.Theirs} {
			is, err := w.Planner.Store.Find(t.Context(), side, dir)
			require.NoError(t, err)
			if was.IsTree() && !is.IsTree() {
				return true
			}
		}
	}
	return false
}

// takenBack reports whether theirs made a change of yours and took it back: it is not
// there, and git leaves it out all the same. See docs/differences.md.
func takenBack(t *testing.T, w *Workspace, p *plan.Position) bool {
	same, err := w.Planner.Changes.Same(t.Context(), w.Planner.Engine, p.Divergence.Yours, p.Divergence.Theirs)
	require.NoError(t, err)
	made := map[replay.ChangeID]bool{}
	for _, n := range p.Divergence.Theirs {
		id, ok, err := w.Planner.Changes.Of(t.Context(), n)
		require.NoError(t, err)
		made[id] = made[id] || ok
	}
	return slices.ContainsFunc(p.Divergence.Yours, func(n history.Node) bool {
		id, ok, err := w.Planner.Changes.Of(t.Context(), n)
		require.NoError(t, err)
		_, there := same[n.ID]
		return ok && made[id] && !there
	})
}

// sameElsewhere reports whether theirs has a change of yours in a file of another name, which git does not see. See
// docs/differences.md.
func sameElsewhere(t *testing.T, w *Workspace, p *plan.Position) bool {
	same, err := w.Planner.Changes.Same(t.Context(), w.Planner.Engine, p.Divergence.Yours, p.Divergence.Theirs)
	require.NoError(t, err)
	return slices.ContainsFunc(p.Divergence.Yours, func(n history.Node) bool {
		other, is := same[n.ID]
		if !is {
			return false
		}
		mine, _, err := w.Planner.Changes.Of(t.Context(), n)
		require.NoError(t, err)
		its, _, err := w.Planner.Changes.Of(t.Context(), other)
		require.NoError(t, err)
		return mine != its
	})
}

// rebasedByGit gives the tree that HEAD has, and how many commits it has beyond another.
func rebasedByGit(t *testing.T, w *Workspace, at *gittest.Repo, onto object.ID) (tree string, kept int) {
	trees := strings.Fields(at.Git("log", "--format=%T", onto.String()+".."))
	if len(trees) == 0 {
		id, err := w.Planner.Tree(t.Context(), onto)
		require.NoError(t, err)
		return id.String(), 0
	}
	return trees[0], len(trees)
}

// gitLosesAt reports whether git, stopped in a rebase, has lost work at one of our stops. It asks nothing there.
func gitLosesAt(t *testing.T, w *Workspace, at *gittest.Repo, stops []plan.Stop) bool {
	var index []object.ID
	for line := range strings.Lines(at.Git("ls-files", "--stage") + "\n") {
		if f := strings.Fields(line); len(f) > 2 {
			id, err := object.ParseID(f[1])
			require.NoError(t, err)
			index = append(index, id)
		}
	}
	for _, s := range stops {
		g := s.Result.Given
		if gitLosesFrom(t, w, []object.ID{g.Base, g.Yours, g.Theirs}, false, object.ID{}, index) {
			return true
		}
		if stopped := at.Git("rev-parse", "REBASE_HEAD"); s.Commit.ID.String() == stopped {
			break
		}
	}
	return false
}

func compareRebase(t *testing.T, w *Workspace, at *gittest.Repo, n int) bool {
	p, err := w.Compare(t.Context(), fmt.Sprintf("y%d", n), fmt.Sprintf("t%d", n), false)
	if !assert.NoError(t, err) || p.Trivial() != plan.NotTrivial || oldNameUsedAnew(t, w, p.Yours, p.Theirs) {
		return true
	}
	if slices.ContainsFunc(p.Divergence.Yours, func(n history.Node) bool { return len(n.Parents) > 1 }) {
		return true // git leaves merges out unless told otherwise
	}
	j, err := w.Planner.Join(t.Context(), p, plan.Rebase, &settle.Decisions{}, plan.Amends{}, nil)
	if !assert.NoError(t, err) || takenBack(t, w, p) {
		return true
	}
	said, gerr := at.Try("rebase", "-q", p.Theirs.String(), p.Yours.String())
	if gerr == nil {
		tree, kept := rebasedByGit(t, w, at, p.Theirs)
		if !j.Clean() && (gitLosesWork(t, w, p, tree) || slices.ContainsFunc(j.Stops, func(s plan.Stop) bool {
			g := s.Result.Given
			return gitLosesOf(t, w, []object.ID{g.Base, g.Yours, g.Theirs}, false, tree)
		})) {
			return false
		}
		return assert.True(t, j.Clean(), "rebase %d: git joins cleanly, here are conflicts %v", n,
			conflictPaths(j.Stops)) &&
			assert.Equal(t, tree, j.Tree.String(), "rebase %d", n) && assert.Equal(t, kept, j.Kept(),
			"rebase %d: commits kept", n)
	}
	stopped, err := at.Try("rev-parse", "--verify", "REBASE_HEAD")
	if err != nil { // no commit is at fault: git 2.39 dies on some of these
		t.Logf("rebase %d: git ended with %v: %s", n, gerr, said)
		lock := at.Git("rev-parse", "--git-path", "index.lock")
		if !filepath.IsAbs(lock) {
			lock = filepath.Join(at.Dir, lock)
		}
		_ = os.Remove(lock)
		_, _ = at.Try("rebase", "--quit")
		at.Git("reset", "-q", "--hard")
		at.Git("clean", "-q", "-fdx")
		return true
	}
	paths := strings.Split(at.Git("diff", "--name-only", "--diff-filter=U"), "\n")
	lost := !j.Clean() && gitLosesAt(t, w, at, j.Stops)
	at.Git("rebase", "--abort")
	at.Git("reset", "-q", "--hard")
	at.Git("clean", "-q", "-fdx")
	if lost || sameElsewhere(t, w, p) {
		return false
	}
	if assert.False(t, j.Clean(), "rebase %d: git stops at %v", n, paths) {
		assert.Equal(t, stopped, j.Stops[0].Commit.ID.String(), "rebase %d: the first stop", n)
		for i := range j.Steps {
			if j.Steps[i].Outcome == replay.Conflict {
				samePaths(t, w, fmt.Sprintf("rebase %d", n), paths, j.Stops[0])
				break
			}
		}
	}
	return false
}

package recovery

import (
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
)

// TestThePairThatCollides is found by as few checks as the numbers of commits have digits, wherever it is.
func TestThePairThatCollides(t *testing.T) {
	const n, m = 6, 5
	for _, at := range [][2]int{{1, 1}, {4, 2}, {6, 5}} {
		tm := newTeam(t)
		for i := 1; i <= n; i++ {
			tm.mine.Commit(fmt.Sprint("mine ", i), fmt.Sprint("mine", i), "x\n")
		}
		for i := 1; i <= m; i++ {
			tm.other.Commit(fmt.Sprint("theirs ", i), fmt.Sprint("theirs", i), "x\n")
		}
		tm.other.Git("push", "-q")
		count := t.TempDir() + "/count"
		t.Setenv("COUNT", count)
		gittest.Own(t, "dorvik.checkEnv", "COUNT")
		gittest.Own(t, "dorvik.check", fmt.Sprintf("echo >> $COUNT; ! { test -e mine%d && test -e theirs%d; }", at[0],
			at[1]))
		s := tm.session()
		p, j, b := ready(t, s, plan.Merge, settle.Yours)
		terms, _, err := s.Prover.MayCheck(t.Context(), p, j.Tree)
		require.NoError(t, err)
		_, err = s.Prover.Prove(t.Context(), p, terms, b.Tip, func(string) {}, nil)
		require.NoError(t, err)
		most := 0
		pair, err := s.Prover.FindPair(t.Context(), p, terms, func(_, atMost int) { most = atMost })
		require.NoError(t, err)
		require.True(t, pair.Found())
		assert.Equal(t, []string{fmt.Sprint("mine ", at[0]), fmt.Sprint("theirs ", at[1])},
			[]string{pair.Yours.Subject(), pair.Theirs.Subject()})
		assert.LessOrEqual(t, pair.Runs, most)
		assert.Equal(t, 6, most)
		runs, err := os.ReadFile(count)
		require.NoError(t, err)
		assert.LessOrEqual(t, len(runs)-1, pair.Runs)
		s.Close()
	}
}

// TestPairOfMisfits: one pair is told without a run; of several none is.
func TestPairOfMisfits(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.mine.Commit("start", "go.mod", "module x\n", "a.go", "package x\n\nfunc A() {}\n", "b.go", "package x\n")
	tm.mine.Git("push", "-q")
	tm.other.Git("pull", "-q")
	tm.mine.Commit("uses", "b.go", "package x\n\nfunc b() { A() }\n")
	tm.mine.Commit("else", "c", "c\n")
	tm.other.Commit("else, too", "e", "e\n")
	tm.other.Commit("renames", "a.go", "package x\n\nfunc Z() {}\n")
	tm.other.Git("push", "-q")
	s := tm.session()
	p, j, _ := ready(t, s, plan.Rebase, settle.Yours)
	list, err := s.Planner.Foresight.Misfits(t.Context(), p, j)
	require.NoError(t, err)
	require.Len(t, list, 1)
	pair := prove.PairOf(list)
	assert.Equal(t, []string{"uses", "renames"}, []string{pair.Yours.Subject(), pair.Theirs.Subject()})
	other := list[0]
	other.UsedIn = other.ChangedIn
	several := prove.PairOf(append(list, other))
	assert.False(t, several.Found())
}

// TestWhatGitLeftHalfDoneIsLookedInto checks that a rebase or a merge that git began is surveyed as one that
// Dorvik begins: files that join by themselves, misfits, and the mends of those.
func TestWhatGitLeftHalfDoneIsLookedInto(t *testing.T) {
	t.Parallel()
	for _, begin := range [][]string{{"rebase", "origin/main"}, {"rebase", "--apply", "origin/main"},
		{"merge", "origin/main"}} {
		tm := newTeam(t)
		tm.mine.Commit("start", "go.mod", "module x\n", "a.go", "package x\n\nfunc A() {}\n", "b.go", "package x\n",
			"n", "0\n")
		tm.mine.Git("push", "-q")
		tm.other.Git("pull", "-q")
		tm.mine.Commit("counts", "n", "1\n")
		tm.mine.Commit("uses", "b.go", "package x\n\nfunc b() { A() }\n")
		tm.other.Commit("renames", "a.go", "package x\n\nfunc Z() {}\n", "n", "2\n")
		tm.other.Git("push", "-q")
		tm.mine.Git("fetch", "-q")
		_, err := tm.mine.Try(begin...)
		require.Error(t, err, "it stops at n")
		s := openAgain(t, tm.mine.Dir)
		require.NoError(t, s.TakeOver(t.Context(), ledger.Finish))
		v, err := s.Survey(t.Context(), false, nil)
		require.NoError(t, err)
		kinds := map[string]plan.OverlapKind{}
		for _, o := range v.Overlap {
			kinds[o.Path] = o.Kind
		}
		assert.Equal(t, map[string]plan.OverlapKind{"n": plan.SameLines, "a.go": plan.OnlyTheirs,
			"b.go": plan.OnlyYours}, kinds, begin)
		j := v.Plan.Asking()
		unfit, err := s.Planner.Foresight.MisfitsOf(t.Context(), v.Position, v.Plan)
		require.NoError(t, err)
		require.Len(t, unfit[j.Route], 1, begin)
		mends, err := s.Planner.Foresight.MendsOf(t.Context(), v.Position, j, unfit[j.Route])
		require.NoError(t, err)
		require.Len(t, mends, 1, begin)
		assert.Equal(t, "b.go", mends[0].Path)
		s.Close()
	}
}

// TestAMendBelongsWhereItIsNeeded: into the commit that brings the line in, so that every commit builds; also where a
// line of theirs uses what a commit of yours took away. It is taken back whole.
func TestAMendBelongsWhereItIsNeeded(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.mine.Commit("start", "go.mod", "module x\n", "a.go", "package x\n\nfunc A() {}\n", "b.go", "package x\n", "c.go",
		"package x\n\nfunc C() {}\n", "k.go", "package x\n")
	tm.mine.Git("push", "-q")
	tm.other.Git("pull", "-q")
	tm.mine.Commit("uses A", "b.go", "package x\n\nfunc b() { A() }\n")
	tm.mine.Commit("renames C", "c.go", "package x\n\nfunc D() {}\n")
	tm.mine.Commit("else", "note", "n\n")
	tm.other.Commit("renames A", "a.go", "package x\n\nfunc Z() {}\n")
	tm.other.Commit("uses C", "k.go", "package x\n\nfunc k() { C() }\n")
	tm.other.Git("push", "-q")
	s := tm.session()
	p, j, _ := ready(t, s, plan.Rebase, settle.Yours)
	unfit, err := s.Planner.Foresight.Misfits(t.Context(), p, j)
	require.NoError(t, err)
	require.Len(t, unfit, 2)
	mends, err := s.Planner.Foresight.MendsOf(t.Context(), p, j, unfit)
	require.NoError(t, err)
	require.Len(t, mends, 2)
	held, err := s.Planner.Foresight.Holdings(t.Context(), j, mends, unfit)
	require.NoError(t, err)
	for i, want := range [][]int{{0, 1, 2}, {1, 2}} {
		may, err := s.Planner.Foresight.MayHold(t.Context(), j, held[i:i+1])
		require.NoError(t, err)
		assert.Equal(t, want, may)
	}
	before, err := s.Mends.Take(t.Context(), j, held)
	require.NoError(t, err)
	again := func() (*plan.Join, []plan.Misfit) {
		p, j, _ := ready(t, s, plan.Rebase, settle.Yours)
		left, err := s.Planner.Foresight.Misfits(t.Context(), p, j)
		require.NoError(t, err)
		return j, left
	}
	j, left := again()
	assert.Empty(t, left)
	assert.Empty(t, j.Mended)
	assert.Equal(t, [][]string{{"b.go"}, {"k.go"}, nil}, [][]string{j.Steps[0].Edited, j.Steps[1].Edited,
		j.Steps[2].Edited})
	for i, want := range []string{"package x\n\nfunc b() { Z() }\n", "package x\n\nfunc k() { D() }\n"} {
		text, _, err := s.Planner.TextAfter(t.Context(), &j.Steps[i], []string{"b.go", "k.go"}[i])
		require.NoError(t, err)
		assert.Equal(t, want, text)
	}
	require.NoError(t, s.Ledger.GiveBackMends(before))
	j, left = again()
	assert.Len(t, left, 2)

	held[0].In = 2 // as a person chose
	_, err = s.Mends.Take(t.Context(), j, held[:1])
	require.NoError(t, err)
	j, left = again()
	assert.Len(t, left, 1)
	assert.Equal(t, [][]string{nil, nil, {"b.go"}}, [][]string{j.Steps[0].Edited, j.Steps[1].Edited, j.Steps[2].Edited})
	require.NoError(t, s.Ledger.GiveBackMends(before))

	// In a merge they are part of the merge commit.
	p, j, _ = ready(t, s, plan.Merge, settle.Yours)
	held, err = s.Planner.Foresight.Holdings(t.Context(), j, mends, unfit)
	require.NoError(t, err)
	_, err = s.Mends.Take(t.Context(), j, held)
	require.NoError(t, err)
	j, err = s.Planner.Join(t.Context(), p, plan.Merge, decisions(s), amends(s), nil)
	require.NoError(t, err)
	assert.Len(t, j.Mended, 2)
}

// TestAMendByHandBelongsToItsLines: to the commit of yours that wrote the lines it changes, and what it takes away is
// told; lines of theirs are mended in the last.
func TestAMendByHandBelongsToItsLines(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.mine.Commit("one", "a", "alpha\nbeta\n")
	tm.mine.Commit("two", "b", "gamma\n")
	tm.other.Commit("theirs", "c", "delta\n")
	tm.other.Git("push", "-q")
	s := tm.session()
	p, j, _ := ready(t, s, plan.Rebase, settle.Yours)
	_, in, err := s.Mends.ByHand(t.Context(), p, j, plan.Mend{Path: "a", Before: "alpha\nbeta\n",
		After: "alpha\nBETA\n"})
	require.NoError(t, err)
	assert.Equal(t, "“one”", in)
	p, j, _ = ready(t, s, plan.Rebase, settle.Yours)
	assert.Equal(t, []string{"a"}, j.Steps[0].Edited)
	left, err := s.Planner.Accounts.LeftOut(t.Context(), p, j, decisions(s))
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Equal(t, []any{"beta", true}, []any{left[0].Text, left[0].Mend})
	_, in, err = s.Mends.ByHand(t.Context(), p, j, plan.Mend{Path: "c", Before: "delta\n", After: "DELTA\n"})
	require.NoError(t, err)
	assert.Equal(t, "your last commit, “two”", in)
	_, j, _ = ready(t, s, plan.Rebase, settle.Yours)
	assert.Len(t, j.Mended, 1)
}

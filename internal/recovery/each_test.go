package recovery

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
)

// TestEachCommitIsChecked: in order, up to the first that does not pass, and none twice.
func TestEachCommitIsChecked(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.other.Commit("theirs", "t", "t\n")
	tm.other.Git("push", "-q")
	tm.mine.Commit("one", "one", "1\n")
	tm.mine.Commit("two", "broken", "x\n")
	tm.mine.Commit("three", "three", "3\n")
	tm.mine.Git("rm", "-q", "broken")
	tm.mine.Commit("four", "four", "4\n")
	s := tm.session()
	p, j, b := ready(t, s, plan.Rebase, settle.Yours)
	terms := termsOf("echo; test ! -e broken", j.Tree)
	_, err := s.Prover.CheckEach(t.Context(), p, terms, b, func(string) {}, func([]prove.Each) {})
	var asks *prove.UnagreedError
	require.ErrorAs(t, err, &asks, "nobody agreed to it")
	require.NoError(t, s.Prover.Asker.AgreeTo(terms))
	for runs, want := range []int{2, 0} {
		n := 0
		all, err := s.Prover.CheckEach(t.Context(), p, terms, b, func(l string) {
			if l == "" {
				n++
			}
		}, func([]prove.Each) {})
		require.NoError(t, err)
		assert.Equal(t, want, n, runs)
		require.Len(t, all, 4)
		assert.Equal(t, []bool{true, false}, []bool{*all[0].Passed, *all[1].Passed})
		assert.Nil(t, all[2].Passed)
		assert.Equal(t, b.Made()[1], prove.FirstFailing(all))
	}
	known, err := s.Prover.EachKnown(t.Context(), terms, b)
	require.NoError(t, err)
	assert.NotNil(t, known[1].Passed)
	assert.True(t, prove.FirstFailing(known[:1]).IsZero())
	each, err := s.Prover.WantsEach(t.Context())
	require.NoError(t, err)
	assert.False(t, each)
}

// TestTheFirstFailingCommitIsHalvedFor: wherever it is, and what is known of the others is not checked again.
func TestTheFirstFailingCommitIsHalvedFor(t *testing.T) {
	t.Parallel()
	const n = 9
	for _, at := range []int{1, 4, 8, 9} {
		tm := newTeam(t)
		tm.other.Commit("theirs", "t", "t\n")
		tm.other.Git("push", "-q")
		for i := 1; i <= n; i++ {
			tm.mine.Commit(fmt.Sprint(i), fmt.Sprint("c", i), "x\n")
		}
		s := tm.session()
		p, j, b := ready(t, s, plan.Rebase, settle.Yours)
		terms := termsOf(fmt.Sprintf("echo; test ! -e c%d", at), j.Tree)
		_, err := s.Prover.Prove(t.Context(), p, terms, b.Tip, func(string) {}, nil)
		require.NoError(t, err)
		for _, most := range []int{4, 0} {
			runs := 0
			all, err := s.Prover.FindFailing(t.Context(), p, terms, b, func(l string) {
				if l == "" {
					runs++
				}
			}, func([]prove.Each) {})
			require.NoError(t, err)
			assert.LessOrEqual(t, runs, most)
			assert.Equal(t, b.Made()[at-1], prove.FirstFailing(all))
			assert.True(t, at == 1 || *all[at-2].Passed)
		}
		s.Close()
	}
}

// TestWhatIsLikeliestToFailIsFirst: of Go's tests, those where both sides' changes meet; then what failed before; what
// passed on the same tree is not run again; and all of it passes before it counts as passed.
func TestWhatIsLikeliestToFailIsFirst(t *testing.T) {
	t.Parallel()
	files := func(fare, tide string) []string {
		out := []string{"go.mod", "module skerry\n\ngo 1.24\n"}
		for _, name := range []string{"berths", "crew", "fares", "log", "tides"} {
			text, imports := "package "+name+"\n", ""
			switch name {
			case "fares":
				text += "func Fare() int { return " + fare + " }\n"
			case "tides":
				text += "func Depth() int { return " + tide + " }\n"
			case "berths":
				text, imports = "package berths\n\nimport (\n\t\"skerry/fares\"\n\t\"skerry/tides\"\n)\n\nfunc "+
					"Sum() int { "+
					"return fares.Fare() + tides.Depth() }\n", "\tif Sum() > 5 {\n\t\tt.Fatal(Sum())\n\t}\n"
			}
			out = append(out, name+"/"+name+".go", text, name+"/"+name+"_test.go",
				"package "+name+"\n\nimport \"testing\"\n\n"+
					"func Test(t *testing.T) {\n"+imports+"}\n")
		}
		return out
	}
	tm := newTeam(t)
	tm.mine.Commit("start", files("1", "1")...)
	tm.mine.Git("push", "-q")
	tm.other.Git("pull", "-q")
	tm.mine.Commit("mine", files("4", "1")...)
	tm.other.Commit("theirs", files("1", "4")...)
	tm.other.Git("push", "-q")
	s := tm.session()
	p, j, b := ready(t, s, plan.Rebase, settle.Yours)
	terms := termsOf("true", j.Tree)
	terms.Command.Steps = []string{"true", "go test ./..."}
	prove := func() (ran []string) {
		var begun []check.Step
		proof, err := s.Prover.Prove(t.Context(), p, terms, b.Tip, func(string) {}, func(steps []check.Step, at int) {
			begun = append(begun, steps[at])
		})
		require.NoError(t, err)
		for _, one := range begun {
			ran = append(ran, strings.TrimSpace(one.Line+"  "+one.First))
		}
		return append(ran, fmt.Sprint(proof.Result.Passed))
	}
	assert.Equal(t, []string{"true", "go test skerry/berths  where both sides’ changes meet", "false"}, prove())
	assert.Equal(t, []string{"go test skerry/berths  what failed before", "false"}, prove())
	text, _, err := s.Planner.TextAt(t.Context(), j.Tree, "fares/fares.go")
	require.NoError(t, err)
	require.NoError(t, s.Ledger.AddMend(plan.Mend{Path: "fares/fares.go", Before: text,
		After: strings.Replace(text, "4", "0", 1)}))
	p, j, b = ready(t, s, plan.Rebase, settle.Yours)
	terms.Tree = j.Tree
	assert.Equal(t, []string{"true", "go test skerry/berths  what failed before", "go test ./...", "true"}, prove())
	assert.Equal(t, []string{"true", "go test skerry/berths skerry/fares  where both sides’ changes meet",
		"go test ./...",
		"true"}, prove(), "what passed is run whole when it is asked for")
	_, err = s.Prover.LayOut(t.Context(), p, b.Tip, "")
	require.NoError(t, err)
	assert.Equal(t, []string{"true", "go test skerry/berths skerry/fares  where both sides’ changes meet",
		"go test ./...", "true"}, prove(), "a person may change what is there")
}

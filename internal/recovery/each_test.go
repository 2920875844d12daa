package recovery

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/settle"
)

// TestEachCommitIsChecked: in order, up to the first that does not pass, and none twice.
func TestEachCommitIsChecked(t *testing.T) {
	tm := newTeam(t)
	tm.other.Commit("theirs", "t", "t\n")
	tm.other.Git("push", "-q")
	tm.mine.Commit("one", "one", "1\n")
	tm.mine.Commit("two", "broken", "x\n")
	tm.mine.Commit("three", "three", "3\n")
	tm.mine.Git("rm", "-q", "broken")
	tm.mine.Commit("four", "four", "4\n")
	s := tm.session()
	_, _, b := ready(t, s, Rebase, settle.Yours)
	terms := termsOf("echo; test ! -e broken")
	for runs, want := range []int{2, 0} {
		n := 0
		all, err := s.CheckEach(t.Context(), terms, b, func(l string) {
			if l == "" {
				n++
			}
		}, func([]Each) {})
		require.NoError(t, err)
		assert.Equal(t, want, n, runs)
		require.Len(t, all, 4)
		assert.Equal(t, []bool{true, false}, []bool{*all[0].Passed, *all[1].Passed})
		assert.Nil(t, all[2].Passed)
		assert.Equal(t, b.Made()[1], FirstFailing(all))
	}
	known, err := s.EachKnown(t.Context(), terms, b)
	require.NoError(t, err)
	assert.NotNil(t, known[1].Passed)
	assert.True(t, FirstFailing(known[:1]).IsZero())
	each, err := s.WantsEach(t.Context())
	require.NoError(t, err)
	assert.False(t, each)
}

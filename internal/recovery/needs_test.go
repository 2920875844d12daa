package recovery

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A pick that builds on earlier commits of its line says so, and takes them along in their order.
func TestAPickTakesAlongWhatItNeeds(t *testing.T) {
	tm, ctx := newTeam(t), t.Context()
	tm.other.Git("switch", "-q", "-c", "side")
	one := tm.other.Commit("one", "list", "a\nb\nc\n")
	tm.other.Commit("apart", "else", "x\n")
	two := tm.other.Commit("two", "list", "a\nB\nc\n")
	three := tm.other.Commit("three", "list", "a\nBB\nc\n")
	tm.other.Git("push", "-q", "origin", "side")
	tm.mine.Git("fetch", "-q")
	s := tm.session()
	require.NoError(t, s.Pick(ctx, []string{three}, 0))
	v, err := s.Survey(ctx, false, nil)
	require.NoError(t, err)
	require.NotNil(t, v.Needs)
	var names, ids []string
	for _, c := range v.Needs.Commits {
		names, ids = append(names, c.Subject()), append(ids, c.ID.String())
	}
	assert.Equal(t, []string{"one", "two"}, names)
	assert.Equal(t, []string{one, two}, ids)
	assert.Equal(t, []int{1, 0}, []int{v.Needs.Asks, v.Needs.With})
	require.Len(t, v.Needs.Picks, 3)

	require.NoError(t, s.Pick(ctx, []string{three, one, two}, 0))
	st := s.Ledger.State()
	assert.Equal(t, v.Needs.Picks, st.Picks, "picks keep the order in which they were made there")
	v, err = s.Survey(ctx, false, nil)
	require.NoError(t, err)
	assert.Nil(t, v.Needs)
	assert.Zero(t, v.Plan.Asking().Open)
}

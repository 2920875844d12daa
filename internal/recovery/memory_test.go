package recovery

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
)

// TestAsBefore: the very same conflict in a later recovery is offered as it was settled before, and
// never settled so unasked.
func TestAsBefore(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	s := tm.session()
	before := tm.mine.Git("rev-parse", "main")
	theirs := tm.remote.Git("rev-parse", "main")
	p, j, b := ready(t, s, plan.Merge, settle.YoursTheirs)
	_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	_, err = s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	s.Close()

	tm.mine.Git("reset", "-q", "--hard", before)
	tm.remote.Git("update-ref", "refs/heads/main", theirs)
	tm.mine.Git("fetch", "-q", "--force")
	tm.mine.Git("update-ref", "refs/remotes/origin/main", theirs)
	s, err = OpenSession(t.Context(), tm.mine.Dir)
	require.NoError(t, err)
	defer s.Close()
	p, err = s.Locate(t.Context(), true)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Sync(p))
	j, err = s.Planner.Join(t.Context(), p, plan.Merge, decisions(s), plan.Amends{}, nil)
	require.NoError(t, err)
	assert.Equal(t, 1, j.Open, "it is asked all the same")
	q := j.Stops[0].Files[0].Questions[0]
	assert.Equal(t, settle.AsBefore, q.Suggested)
	assert.Equal(t, q.Ways[0].Text, "MINE\nTHEIRS\n")
	assert.Contains(t, q.Why, "as you settled it on "+time.Now().Format("2 Jan 2006")+": yours, then theirs")
	j, err = s.SettleBy(t.Context(), p, plan.Merge, []settle.Way{settle.AsBefore})
	require.NoError(t, err)
	assert.Zero(t, j.Open)
	assert.Equal(t, settle.YoursTheirs, s.Ledger.State().Decisions.List[0].Way, "it is a decision of its own")
	assert.Error(t, s.Decide(settle.Decision{Key: "nothing", Way: settle.AsBefore}))
}

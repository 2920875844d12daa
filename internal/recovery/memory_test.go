package recovery

import (
	"fmt"
	"testing"
	"time"

	"dorvik.dev/dorvik/internal/core/settle"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
	p, j, b := ready(t, s, Merge, settle.YoursTheirs)
	_, err := s.Accept(t.Context(), p, j, b, Consent{})
	require.NoError(t, err)
	_, err = s.PushTip(t.Context(), p, Consent{})
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
	require.NoError(t, s.Sync(p))
	j, err = s.Join(t.Context(), p, Merge, &s.state.Decisions, Amends{}, nil)
	require.NoError(t, err)
	assert.Equal(t, 1, j.Open, "it is asked all the same")
	q := j.Stops[0].Files[0].Questions[0]
	assert.Equal(t, settle.AsBefore, q.Suggested)
	assert.Equal(t, q.Ways[0].Text, "MINE\nTHEIRS\n")
	assert.Contains(t, q.Why, "as you settled it on "+time.Now().Format("2 Jan 2006")+": yours, then theirs")
	j, err = s.SettleBy(t.Context(), p, Merge, []settle.Way{settle.AsBefore})
	require.NoError(t, err)
	assert.Zero(t, j.Open)
	assert.Equal(t, settle.YoursTheirs, s.state.Decisions.List[0].Way, "it is a decision of its own")
	assert.Error(t, s.Decide(settle.Decision{Key: "nothing", Way: settle.AsBefore}))
}

// TestWhatIsRememberedIsBounded forgets the oldest first.
func TestWhatIsRememberedIsBounded(t *testing.T) {
	t.Parallel()
	s := newTeam(t).session()
	at := time.Unix(1767000000, 0)
	var many []settle.Decision
	for i := range mostRemembered {
		many = append(many, settle.Decision{Key: settle.Key(fmt.Sprint("new ", i)), Way: settle.Yours})
	}
	require.NoError(t, s.store.remember([]settle.Decision{{Key: "old", Way: settle.Base}}, at))
	r, ok := s.store.recalled("old")
	assert.True(t, ok)
	assert.Equal(t, settle.Base, r.Way)
	require.NoError(t, s.store.remember(many, at.Add(time.Hour)))
	_, ok = s.store.recalled("old")
	assert.False(t, ok)
	_, ok = s.store.recalled("new 7")
	assert.True(t, ok)
}

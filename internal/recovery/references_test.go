package recovery

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
)

// The tasks of both sides are carried into the merge's message and told before the push; one that is wanted and missing
// is told, too.
func TestTasksAreCarriedIntoTheMerge(t *testing.T) {
	tm, ctx := newTeam(t), t.Context()
	tm.mine.Git("config", "dorvik.referenceWanted", "true")
	tm.mine.Commit("mine #7", "m", "m\n")
	tm.other.Commit("theirs #8", "d/h", "H\n")
	tm.other.Git("push", "-q")
	s := tm.session()
	p, j, b := ready(t, s, plan.Merge, settle.Yours)
	assert.Equal(t, "Merge origin/main into main\n\n- theirs #8 (Ada Sund)\n\nReferences: #7, #8\n", j.Message)
	d, err := s.Push.Departure(ctx, p, j, b.Tip)
	require.NoError(t, err)
	assert.Equal(t, []string{"#7", "#8"}, d.Tasks)
	assert.False(t, d.NoTask)

	tm.mine.Git("commit", "-q", "--amend", "-m", "mine")
	p, j, b = ready(t, s, plan.Rebase, settle.Yours)
	d, err = s.Push.Departure(ctx, p, j, b.Tip)
	require.NoError(t, err)
	assert.True(t, d.NoTask, "what goes names none")
	tm.mine.Git("config", "dorvik.reference", "mine")
	d, err = s.Push.Departure(ctx, p, j, b.Tip)
	require.NoError(t, err)
	assert.False(t, d.NoTask)
	tm.mine.Git("config", "dorvik.reference", "(")
	_, err = s.Push.Departure(ctx, p, j, b.Tip)
	assert.ErrorContains(t, err, "dorvik.reference is not a regular expression")
}

// What a server refused is told before the next push to the same place, until one is accepted.
func TestARefusalIsRemembered(t *testing.T) {
	tm, ctx := newTeam(t), t.Context()
	tm.mine.Commit("mine", "m", "m\n")
	tm.refuse()
	s := tm.session()
	p, err := s.Locate(ctx, true)
	require.NoError(t, err)
	done, err := s.Push.Tip(ctx, p, change.Consent{})
	require.NoError(t, err)
	require.NotNil(t, done.Refusal)
	d, err := s.Push.Departure(ctx, p, nil, p.Yours)
	require.NoError(t, err)
	require.NotNil(t, d.Refused)
	assert.Equal(t, done.Refusal.Kind, d.Refused.Kind)
	tm.remote.Git("config", "core.hooksPath", "none")
	done, err = s.Push.Tip(ctx, p, change.Consent{})
	require.NoError(t, err)
	require.Nil(t, done.Refusal)
	assert.Nil(t, s.Ledger.Choices.RefusedAt("origin/main"))
}

package recovery

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheJobGoesOnWithoutForesight: Look, the plan and the check do without what could not be looked at, and say so once.
func TestTheJobGoesOnWithoutForesight(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	s := tm.session()
	s.Planner.Extras.Limit = time.Nanosecond
	v, err := s.Survey(t.Context(), true, nil)
	require.NoError(t, err)
	assert.NotNil(t, v.Plan.Merge)
	_, err = s.Planner.Foresight.MisfitsOf(t.Context(), v.Position, v.Plan)
	require.NoError(t, err)
	assert.Contains(t, s.TakeNotice(), "Not looked at: what will not work together (it took longer than 1ns).")
	assert.Empty(t, s.TakeNotice())
	g, err := s.Workspace.Glance(t.Context(), false, "")
	require.NoError(t, err)
	assert.NotNil(t, g.Position)
}

package recovery

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.etcd.io/bbolt"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
)

// TestLogbook: a join, its undoing, another, its push, and a move forward are written down, each once.
func TestLogbook(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	w, err := OpenWorkspace(t.Context(), tm.mine.Dir)
	require.NoError(t, err)
	defer w.Close()
	all, err := w.Logbook()
	require.NoError(t, err)
	assert.Empty(t, all, "nothing was done, and nothing is written to look")
	s := tm.session()
	_, err = w.Logbook()
	require.ErrorIs(t, err, ErrInUse)
	said := func() string {
		all, err := s.Logbook()
		require.NoError(t, err)
		var out []string
		for _, e := range all {
			out = append(out, strings.TrimSpace(e.Name()+" "+e.Sentence("there")))
		}
		return strings.Join(out, "\n")
	}
	p, j, b := ready(t, s, Merge, settle.Theirs)
	_, err = s.Accept(t.Context(), p, j, b, Consent{})
	require.NoError(t, err)
	_, err = s.GoBack(t.Context(), "")
	require.NoError(t, err)
	p, j, b = ready(t, s, Rebase, settle.Theirs)
	_, err = s.Accept(t.Context(), p, j, b, Consent{})
	require.NoError(t, err)
	p, err = s.Locate(t.Context(), false)
	require.NoError(t, err)
	_, err = s.PushTip(t.Context(), p, Consent{})
	require.NoError(t, err)
	tm.other.Git("pull", "-q", "--rebase")
	tm.other.Commit("more", "more", "m\n")
	tm.other.Git("push", "-q")
	p, err = s.Locate(t.Context(), true)
	require.NoError(t, err)
	_, err = s.FastForward(t.Context(), p, Consent{})
	require.NoError(t, err)
	assert.Equal(t, `waypoint 3 main moved forward, to there.
waypoint 2 main was pushed, at there.
waypoint 2 main was joined by rebase, and went to there.
waypoint 1 A join of main was undone: it went back to there.
waypoint 1 main was joined by merge, and went to there.`, said())

	// What was done before there was a logbook is in it by its waypoints.
	require.NoError(t, s.store.db.Update(func(tx *bbolt.Tx) error {
		if err := tx.DeleteBucket(bucketLogbook); err != nil {
			return err
		}
		_, err := tx.CreateBucket(bucketLogbook)
		return err
	}))
	assert.Equal(t, "waypoint 3 main moved forward, to there.\nwaypoint 2 main was joined by rebase, and went to "+
		"there.", said())

	for want, e := range map[string]LogEntry{
		"Commits were picked onto main, which went to x.": {What: Joined, Branch: "main", Route: Pick},
		"A pick onto main was undone: it went back to x.": {What: Undone, Branch: "main", Route: Pick},
		"main was joined by merge, and went to x.":        {What: Joined, Branch: "main", Route: Merge},
		"topic was pushed, at x.":                         {What: Sent, Branch: "topic", To: object.ID{}},
		"A join of main was undone: it went back to x.":   {What: Undone, Branch: "main", Route: Rebase},
		"topic moved forward, to x.":                      {What: Joined, Branch: "topic", Route: Route(FastForward)},
	} {
		assert.Equal(t, want, e.Sentence("x"))
		assert.Empty(t, e.Name())
	}
}

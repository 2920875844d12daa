package recovery

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.etcd.io/bbolt"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// TestLogbook: a join, its undoing, another, its push, and a move forward are written down, each once.
func TestLogbook(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	w, err := OpenWorkspace(t.Context(), tm.mine.Dir)
	require.NoError(t, err)
	defer w.Close()
	all, err := w.History.Logbook()
	require.NoError(t, err)
	assert.Empty(t, all, "nothing was done, and nothing is written to look")
	s := tm.session()
	_, err = w.History.Logbook()
	require.ErrorIs(t, err, ledger.ErrInUse)
	said := func() string {
		all, err := s.Ledger.Logbook()
		require.NoError(t, err)
		var out []string
		for _, e := range all {
			out = append(out, strings.TrimSpace(e.Name()+" "+e.Sentence(vcs.InGit, "there")))
		}
		return strings.Join(out, "\n")
	}
	p, j, b := ready(t, s, plan.Merge, settle.Theirs)
	_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)
	p, j, b = ready(t, s, plan.Rebase, settle.Theirs)
	_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	p, err = s.Locate(t.Context(), false)
	require.NoError(t, err)
	_, err = s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	tm.other.Git("pull", "-q", "--rebase")
	tm.other.Commit("more", "more", "m\n")
	tm.other.Git("push", "-q")
	p, err = s.Locate(t.Context(), true)
	require.NoError(t, err)
	_, err = s.FastForward(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	assert.Equal(t, `waypoint 3 main moved forward, to there.
waypoint 2 main was pushed, at there.
waypoint 2 main was joined by rebase, and went to there.
waypoint 1 A join of main was undone: it went back to there.
waypoint 1 main was joined by merge, and went to there.`, said())

	// What was done before there was a logbook is in it by its waypoints.
	s.Close()
	db, err := bbolt.Open(filepath.Join(s.Repo.Where().Own, "dorvik", "recovery.db"), 0o600, nil)
	require.NoError(t, err)
	require.NoError(t, db.Update(func(tx *bbolt.Tx) error { return tx.DeleteBucket([]byte("logbook")) }))
	require.NoError(t, db.Close())
	s = openAgain(t, tm.mine.Dir)
	assert.Equal(t, "waypoint 3 main moved forward, to there.\nwaypoint 2 main was joined by rebase, and went to "+
		"there.", said())

	for want, e := range map[string]ledger.LogEntry{
		"Commits were picked onto main, which went to x.": {What: ledger.Joined, Branch: "main",
			By: ledger.By(plan.Pick)},
		"A pick onto main was undone: it went back to x.": {What: ledger.Undone, Branch: "main",
			By: ledger.By(plan.Pick)},
		"main was joined by merge, and went to x.": {What: ledger.Joined, Branch: "main",
			By: ledger.By(plan.Merge)},
		"topic was pushed, at x.": {What: ledger.Sent, Branch: "topic", To: object.ID{}},
		"A join of main was undone: it went back to x.": {What: ledger.Undone, Branch: "main",
			By: ledger.By(plan.Rebase)},
		"topic moved forward, to x.": {What: ledger.Joined, Branch: "topic", By: ledger.Forward},
	} {
		assert.Equal(t, want, e.Sentence(vcs.InGit, "x"))
		assert.Empty(t, e.Name())
	}
}

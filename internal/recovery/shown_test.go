package recovery

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/hostapi"
	"dorvik.dev/dorvik/internal/vcs"
)

// show has the remote show a state, as a host does.
func (tm *team) show(text string) {
	tm.other.Git("checkout", "-q", "--orphan", "state")
	tm.other.Git("rm", "-q", "-rf", ".")
	tm.other.Commit("state", hostapi.StateFile, text)
	tm.other.Git("push", "-q", "-f", "origin", "HEAD:"+hostapi.StateRef)
	tm.other.Git("checkout", "-q", "-f", "main")
	tm.other.Git("branch", "-D", "state")
}

// What a host shows is told after a push as it is: where the branch is, its check, proposals that came in with it.
func TestWhatTheHostShows(t *testing.T) {
	tm := newTeam(t)
	s := tm.session()
	main := vcs.Line{Name: "origin/main", Remote: "origin", Ref: "refs/heads/main"}
	tip, err := object.ParseID(tm.mine.Git("rev-parse", "main"))
	require.NoError(t, err)
	v, err := s.Push.Shown(t.Context(), main, tip)
	require.NoError(t, err)
	assert.Nil(t, v, "most hosts have no such ref")

	for _, c := range []struct {
		check hostapi.Check
		want  string
	}{
		{hostapi.Check{}, "The host shows main at " + tip.Prefix(7) + "."},
		{hostapi.Check{State: hostapi.Running}, "The host shows main at " + tip.Prefix(7) +
			". Its check is running there."},
		{hostapi.Check{State: hostapi.Passed}, "The host shows main at " + tip.Prefix(7) + ". Its check passed there."},
		{hostapi.Check{State: hostapi.Failed, Output: "one\ntwo failed\n"},
			"The host shows main at " + tip.Prefix(7) + ". Its check failed there: two failed"},
	} {
		data, err := json.Marshal(hostapi.Shown{Repository: hostapi.Repository{Version: 1,
			Page:     "http://me:pw@host/skerry",
			Branches: []hostapi.Branch{{Name: "main", Tip: tip.String(), Check: c.check}}},
			Proposals: []hostapi.Proposal{
				{Number: 1, Title: "One", By: "Ilka", Into: "main", State: hostapi.Accepted, AcceptAt: tip.String()},
				{Number: 2, Title: "Before", By: "Ilka", Into: "main", State: hostapi.Accepted, AcceptAt: "else"},
				{Number: 3, Title: "Mine", From: "main", Into: "release", State: hostapi.Waiting, Tip: tip.String()}}})
		require.NoError(t, err)
		tm.show(string(data))
		v, err := s.Push.Shown(t.Context(), main, tip)
		require.NoError(t, err)
		assert.Equal(t, []string{c.want, "Proposal 1, “One” by Ilka, is accepted there.",
			"Proposal 3, “Mine”, shows what you pushed.", "Its page: http://host/skerry"}, v.Sentences())
		assert.Equal(t, c.check.State == hostapi.Running, v.Running())
	}
	for _, text := range []string{"", "{", `{"version": 2}`, `[]`} {
		tm.show(text)
		_, err := s.Push.Shown(t.Context(), main, tip)
		assert.ErrorContains(t, err, "the state that origin shows cannot be read")
	}
	tm.propose("1", "main", "one", "x\n")
	l, _ := tm.board(s.Workspace)
	require.Len(t, l.Proposals, 1, "a state that cannot be read keeps nothing from the list")
	assert.Equal(t, "Proposal 1", l.Proposals[0].Title())
	tm.show(`{"version": 1, "proposals": [{"ref": "refs/proposals/1/main", "title": "Its\n title", "check": {"state": "failed"},
		"tip": "` + l.Proposals[0].Last.ID.String() + `"}]}`)
	l, _ = tm.board(s.Workspace)
	assert.Equal(t, "Its title", l.Proposals[0].Title())
	assert.Equal(t, "It fails the check at the host.", l.Proposals[0].Checked())
}

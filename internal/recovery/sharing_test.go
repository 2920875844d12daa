package recovery

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
)

// asAsked opens a clone before the conflict that the other had, and gives the conflict.
func asAsked(t *testing.T, r *gittest.Repo, yours, theirs string) (*Session, *settle.Question) {
	r.Git("reset", "-q", "--hard", yours)
	r.Git("update-ref", "refs/remotes/origin/main", theirs)
	s := openAgain(t, r.Dir)
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Sync(p))
	j, err := s.Planner.Join(t.Context(), p, plan.Merge, decisions(s), plan.Amends{}, nil)
	require.NoError(t, err)
	return s, j.Stops[0].Files[0].Questions[0]
}

// TestDecisionsAreShared: where both want it, a colleague before the very same conflict sees how the other settled
// it; it is never suggested, hostile content is passed over, and nobody's decisions are overwritten.
func TestDecisionsAreShared(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	yours, theirs := tm.mine.Git("rev-parse", "main"), tm.remote.Git("rev-parse", "main")
	tm.other.Git("fetch", "-q", tm.mine.Dir, "main")
	tm.mine.Git("config", "dorvik.shareDecisions", "true")
	s := tm.session()
	p, j, b := ready(t, s, plan.Merge, settle.YoursTheirs)
	_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	_, err = s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	assert.Empty(t, s.TakeNotice())
	tm.remote.Git("update-ref", "refs/heads/main", theirs)
	require.Equal(t, "1", tm.remote.Git("rev-list", "--count", sharedRef))

	so, q := asAsked(t, tm.other, yours, theirs)
	_, ok := q.Option(settle.AsBefore)
	assert.False(t, ok, "who does not want it has it not")
	so.Close()
	tm.other.Git("config", "dorvik.shareDecisions", "true")
	so, q = asAsked(t, tm.other, yours, theirs)
	o, ok := q.Option(settle.AsBefore)
	require.True(t, ok)
	assert.Equal(t, "MINE\nTHEIRS\n", o.Text)
	assert.Contains(t, o.Reason, "as Ada Sund settled it on ")
	assert.NotEqual(t, settle.AsBefore, q.Suggested)
	require.NoError(t, so.Decide(settle.Decision{Key: q.Key, Way: settle.AsBefore}))
	assert.Equal(t, settle.YoursTheirs, so.Ledger.State().Decisions.List[0].Way)

	// The other adds to what there is, also when somebody was first.
	other := settle.Key(strings.Repeat("ab", 16))
	require.NoError(t, so.sharing.share(t.Context(), "origin", []settle.Decision{{Key: other, Way: settle.Theirs}}))
	require.NoError(t, s.sharing.share(t.Context(), "origin", []settle.Decision{{Key: "00" + other[2:],
		Way: settle.Base}}))
	assert.Equal(t, "3", tm.remote.Git("rev-list", "--count", sharedRef))
	assert.Len(t, strings.Fields(tm.remote.Git("ls-tree", "-r", "--name-only", sharedRef)), 3)

	for name, content := range map[string]string{
		"no decision": "{", "a way there is not": `{"way":"rm -rf","by":"x"}`, "nobody": `{"way":"yours"}`,
		"too long":           `{"way":"written","by":"x","text":"` + strings.Repeat("x", largestShared) + `"}`,
		"another suggestion": `{"way":"suggested","by":"x"}`,
	} {
		_, ok := s.sharing.readShared(t.Context(), s.Planner.Store.Put(object.KindBlob, []byte(content)))
		assert.False(t, ok, name)
	}
	_, ok = s.sharing.colleagues(t.Context(), "../../config")
	assert.False(t, ok)
	data, err := json.Marshal(sharedDecision{Way: settle.Written, Text: "\x1b[2Jx", By: "x"})
	require.NoError(t, err)
	_, ok = s.sharing.readShared(t.Context(), s.Planner.Store.Put(object.KindBlob, data))
	assert.True(t, ok, "the screen cleans what it shows")
}

// TestABrokenSharedDecisionStopsNothing: it is passed over and told once, whatever is in its place.
func TestABrokenSharedDecisionStopsNothing(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	tm.mine.Git("config", "dorvik.shareDecisions", "true")
	s := tm.session()
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	j, err := s.Planner.Join(t.Context(), p, plan.Merge, &settle.Decisions{}, plan.Amends{}, nil)
	require.NoError(t, err)
	at := sharedPath(j.Stops[0].Files[0].Questions[0].Key)
	s.Close()
	blob, err := tm.remote.TryInput([]byte("{"), "hash-object", "-w", "--stdin")
	require.NoError(t, err)
	tree := func(line string) string {
		out, err := tm.remote.TryInput([]byte(line+"\n"), "mktree", "--missing")
		require.NoError(t, err)
		return strings.TrimSpace(out)
	}
	dir, name := at[:2], at[3:]
	for what, root := range map[string]string{
		"no decision": tree("040000 tree " + tree("100644 blob "+strings.TrimSpace(blob)+"\t"+name) + "\t" + dir),
		"a link":      tree("040000 tree " + tree("120000 blob "+strings.TrimSpace(blob)+"\t"+name) + "\t" + dir),
		"another repository": tree("040000 tree " + tree("160000 commit "+tm.mine.Git("rev-parse",
			"main")+"\t"+name) + "\t" + dir),
		"a file for its folder": tree("100644 blob " + strings.TrimSpace(blob) + "\t" + dir),
	} {
		tm.remote.Git("update-ref", sharedRef, tm.remote.Git("commit-tree", root, "-m", "x"))
		_, _ = tm.mine.Try("update-ref", "-d", sharedHere("origin"))
		s := tm.session()
		p, j, b := ready(t, s, plan.Merge, settle.YoursTheirs)
		told := s.TakeNotice()
		assert.Equal(t, what != "a file for its folder", strings.Contains(told,
			"what was shared of it cannot be read"), what)
		assert.LessOrEqual(t, strings.Count(told, "shared"), 1, what)
		wp, err := s.Accept(t.Context(), p, j, b, change.Consent{})
		require.NoError(t, err, what)
		_, err = s.Push.Tip(t.Context(), p, change.Consent{})
		require.NoError(t, err, what)
		assert.NotContains(t, s.TakeNotice(), "not shared", what)
		tm.remote.Git("update-ref", "refs/heads/main", p.Theirs.String())
		tm.mine.Git("reset", "-q", "--hard", wp.Before.String())
		tm.mine.Git("update-ref", "refs/remotes/origin/main", p.Theirs.String())
		_, err = s.ForgetDecisions()
		require.NoError(t, err)
		s.Close()
	}
}

// TestSharedDecisionsAreBounded: of too many the oldest go.
func TestSharedDecisionsAreBounded(t *testing.T) {
	t.Parallel()
	s := newTeam(t).session()
	entries := map[string]object.Entry{}
	for i := range mostShared + 1 {
		data, err := json.Marshal(sharedDecision{Way: settle.Yours, By: "x", When: time.Unix(int64(i), 0)})
		require.NoError(t, err)
		entries[fmt.Sprintf("%02x/%05d", i%256, i)] = object.Entry{Mode: object.ModeFile,
			ID: s.Planner.Store.Put(object.KindBlob, data)}
	}
	tree, err := s.Planner.Store.Edit(t.Context(), s.Planner.Store.EmptyTree(), entries)
	require.NoError(t, err)
	tree, err = s.sharing.prune(t.Context(), tree)
	require.NoError(t, err)
	left, err := s.Planner.Store.Changes(t.Context(), s.Planner.Store.EmptyTree(), tree)
	require.NoError(t, err)
	assert.Len(t, left, mostShared-mostShared/10)
	e, err := s.Planner.Store.Find(t.Context(), tree, "00/00000")
	require.NoError(t, err)
	assert.True(t, e.Absent())
}

// TestWhatWasDecidedIsForgotten, one conflict's or all.
func TestWhatWasDecidedIsForgotten(t *testing.T) {
	t.Parallel()
	s := newTeam(t).session()
	list := []settle.Decision{{Key: "a", Way: settle.Yours}, {Key: "b", Way: settle.Yours}, {Key: "c",
		Way: settle.Yours}}
	require.NoError(t, s.Ledger.Store.Remember(list, time.Unix(1767000000, 0)))
	for _, c := range []struct {
		keys []settle.Key
		n    int
	}{{[]settle.Key{"b", "x"}, 1}, {nil, 2}, {nil, 0}} {
		n, err := s.ForgetDecisions(c.keys...)
		require.NoError(t, err)
		assert.Equal(t, c.n, n)
		_, ok := s.Ledger.Store.Recalled("b")
		assert.False(t, ok)
	}
}

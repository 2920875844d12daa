package recovery

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// colleague commits as somebody else.
func (tm *team) colleague(name string) {
	tm.other.Write(name, name+"\n")
	tm.other.Git("add", name)
	tm.other.Git("commit", "-q", "-m", name, "--author=Mato Veld <mato@skerry.example>", "--date=1767000100 +0100")
}

// A branch of one's own that was pushed and then rewritten is exchanged; what is somebody else's never is.
func TestOnesOwnPublishedBranchIsExchanged(t *testing.T) {
	rewrite := map[string]struct {
		do    func(tm *team)
		goes  int  // commits that the remote loses
		lost  int  // of them, those without a counterpart here
		none  bool // nothing is exchanged
		other int  // commits by others that forbid it
	}{
		"rebased": {do: func(tm *team) {
			tm.mine.Git("rebase", "-q", "origin/main")
		}, goes: 2},
		"reworded": {do: func(tm *team) {
			tm.mine.Git("commit", "-q", "--amend", "-m", "better")
		}, goes: 1},
		"amended": {do: func(tm *team) {
			tm.mine.Write("own2", "otherwise\n")
			tm.mine.Git("commit", "-q", "-a", "--amend", "--no-edit")
		}, goes: 1},
		"taken back": {do: func(tm *team) {
			tm.mine.Git("reset", "-q", "--hard", "HEAD~1")
		}, goes: 1, lost: 1},
		"a colleague's commit on it": {do: func(tm *team) {
			tm.mine.Git("rebase", "-q", "origin/main")
			tm.other.Git("fetch", "-q")
			tm.other.Git("switch", "-q", "feature")
			tm.colleague("also")
			tm.other.Git("push", "-q", "origin", "feature")
			tm.mine.Git("fetch", "-q")
		}, none: true},
		"a colleague's commit was here": {do: func(tm *team) {
			tm.other.Git("fetch", "-q")
			tm.other.Git("switch", "-q", "feature")
			tm.colleague("also")
			tm.other.Git("push", "-q", "origin", "feature")
			tm.mine.Git("pull", "-q", "--ff-only")
			tm.mine.Commit("own three", "own3", "own3\n")
			tm.mine.Git("push", "-q")
			tm.mine.Git("reset", "-q", "--hard", "HEAD~3")
		}, goes: 3, lost: 3, other: 1},
		"a colleague's commit was only pulled": {do: func(tm *team) {
			tm.other.Git("fetch", "-q")
			tm.other.Git("switch", "-q", "feature")
			tm.colleague("also")
			tm.other.Git("push", "-q", "origin", "feature")
			tm.mine.Git("pull", "-q", "--ff-only")
			tm.mine.Git("reset", "-q", "--hard", "HEAD~2")
		}, none: true},
		"a colleague's commit is replayed": {do: func(tm *team) {
			tm.other.Git("fetch", "-q")
			tm.other.Git("switch", "-q", "feature")
			tm.colleague("also")
			tm.other.Git("push", "-q", "origin", "feature")
			tm.mine.Git("pull", "-q", "--ff-only")
			tm.mine.Git("rebase", "-q", "origin/main")
		}, goes: 3},
	}
	for name, c := range rewrite {
		t.Run(name, func(t *testing.T) {
			tm, ctx := onBranch(t), t.Context()
			tm.mine.Write("own2", "own2\n")
			tm.mine.Git("add", "own2")
			tm.mine.Git("commit", "-q", "-m", "own two", "--date=1767000050 +0100")
			tm.mine.Git("push", "-q")
			tm.mine.Git("fetch", "-q")
			c.do(tm)
			was := tm.remote.Git("rev-parse", "feature")
			s := tm.session()
			p, err := s.Locate(ctx, true)
			require.NoError(t, err)
			require.NoError(t, s.Ledger.Sync(p))
			x, err := s.Planner.Exchange(ctx, p)
			require.NoError(t, err)
			if c.none {
				assert.Nil(t, x)
				_, err = s.Push.Tip(ctx, p, change.Consent{Exchange: true})
				assert.ErrorContains(t, err, "not yours")
				assert.Equal(t, was, tm.remote.Git("rev-parse", "feature"))
				return
			}
			require.NotNil(t, x)
			assert.Equal(t, was, x.Old.String())
			assert.Len(t, x.Goes, c.goes)
			lost := 0
			for _, g := range x.Goes {
				if g.Now.IsZero() {
					lost++
				}
			}
			assert.Equal(t, c.lost, lost)
			assert.Len(t, x.Others, c.other)
			if c.other > 0 {
				_, err = s.Push.Tip(ctx, p, change.Consent{Exchange: true})
				assert.ErrorContains(t, err, "not yours")
				assert.Equal(t, was, tm.remote.Git("rev-parse", "feature"))
				return
			}
			done, err := s.Push.Tip(ctx, p, change.Consent{})
			require.NoError(t, err)
			require.NotNil(t, done.Refusal, "nothing is replaced without consent")
			done, err = s.Push.Tip(ctx, p, change.Consent{Exchange: true})
			require.NoError(t, err)
			require.Nil(t, done.Refusal)
			assert.Equal(t, was, done.Was.String())
			assert.Equal(t, p.Yours.String(), tm.remote.Git("rev-parse", "feature"))
			assert.Equal(t, was, tm.mine.Git("rev-parse", "refs/dorvik/exchanged/"+was[:12]), "what was there is kept")
		})
	}
}

// Somebody pushed between the look and the push: the lease holds.
func TestAnExchangeIsGuardedByTheTipThatWasSeen(t *testing.T) {
	tm, ctx := onBranch(t), t.Context()
	tm.mine.Git("fetch", "-q")
	tm.mine.Git("rebase", "-q", "origin/main")
	s := tm.session()
	p, err := s.Locate(ctx, true)
	require.NoError(t, err)
	tm.other.Git("fetch", "-q")
	tm.other.Git("switch", "-q", "feature")
	tm.colleague("also")
	tm.other.Git("push", "-q", "origin", "feature")
	done, err := s.Push.Tip(ctx, p, change.Consent{Exchange: true})
	require.NoError(t, err)
	require.NotNil(t, done.Refusal)
	assert.Equal(t, vcs.Behind, done.Refusal.Kind)
	assert.Equal(t, tm.other.Git("rev-parse", "feature"), tm.remote.Git("rev-parse", "feature"))
}

// A published branch of one's own is rebased onto another line by Dorvik, and then exchanged.
func TestARebaseOntoAnotherLineIsExchanged(t *testing.T) {
	tm, ctx := onBranch(t), t.Context()
	was := tm.remote.Git("rev-parse", "feature")
	s := tm.session()
	tm.take(s, "origin/main")
	p, err := s.Locate(ctx, true)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Sync(p))
	j, err := s.SettleBy(ctx, p, plan.Rebase, nil)
	require.NoError(t, err)
	b, err := s.Planner.Build(ctx, p, j)
	require.NoError(t, err)
	d, err := s.Push.Departure(ctx, p, j, b.Tip)
	require.NoError(t, err)
	require.NotNil(t, d.Exchange)
	assert.Equal(t, 2, d.Commits)
	require.Len(t, d.Exchange.Goes, 1)
	assert.Equal(t, b.Tip, d.Exchange.Goes[0].Now)
	assert.Empty(t, d.Has)
	_, err = s.Accept(ctx, p, j, b, change.Consent{RewritePublished: true})
	require.NoError(t, err)
	done, err := s.Push.Tip(ctx, p, change.Consent{Exchange: true})
	require.NoError(t, err)
	require.Nil(t, done.Refusal)
	assert.Equal(t, was, done.Was.String())
	assert.Equal(t, tm.mine.Git("rev-parse", "feature"), tm.remote.Git("rev-parse", "feature"))
}

package recovery

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// TestOffers meets what is in the way, takes up what is offered, and holds that it is in the way no
// more.
func TestOffers(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		make  func(tm *team)
		offer string
		after func(t *testing.T, tm *team)
	}{
		"no upstream, and one of the same name": {func(tm *team) { tm.mine.Git("branch", "--unset-upstream") },
			"follow origin/main", func(t *testing.T, tm *team) {
				assert.Equal(t, "origin/main", tm.mine.Git("rev-parse", "--abbrev-ref", "@{u}"))
			}},
		"deleted at the remote, and pruned": {func(tm *team) {
			tm.mine.Git("push", "-q", "-u", "origin", "main:refs/heads/side")
			tm.remote.Git("update-ref", "-d", "refs/heads/side")
			tm.mine.Git("fetch", "-q", "--prune")
		}, "push it to origin as a new branch", func(t *testing.T, tm *team) {
			assert.Equal(t, tm.mine.Git("rev-parse", "main"), tm.remote.Git("rev-parse", "side"))
		}},
		"on no branch, where it is": {func(tm *team) { tm.mine.Git("checkout", "-q", "--detach") },
			"check out main here", func(t *testing.T, tm *team) {
				assert.Equal(t, "main", tm.mine.Git("symbolic-ref", "--short", "HEAD"))
			}},
		"on no branch, with commits": {func(tm *team) {
			tm.mine.Git("checkout", "-q", "--detach")
			tm.mine.Commit("here", "h", "h\n")
			tm.mine.Write("h", "edited\n")
		}, "check out main here", func(t *testing.T, tm *team) {
			assert.Equal(t, "here", tm.mine.Git("log", "-1", "--format=%s", "main"))
			assert.Equal(t, " M h", tm.mine.Git("status", "--porcelain"))
		}},
		"left in a rebase": {func(tm *team) {
			tm.diverge()
			tm.mine.Git("fetch", "-q")
			_, err := tm.mine.Try("rebase", "origin/main")
			require.Error(t, err)
			tm.mine.Git("checkout", "-q", "-f", "HEAD")
			tm.mine.Commit("by hand", "h", "h\n")
			require.NoError(t, os.RemoveAll(filepath.Join(tm.mine.Dir, ".git/rebase-merge")))
		}, "keep them under a name", func(t *testing.T, tm *team) {
			assert.Equal(t, "by hand", tm.mine.Git("log", "-1", "--format=%s", "kept-1"))
		}},
	} {
		t.Run(name, func(t *testing.T) {
			tm := newTeam(t)
			c.make(tm)
			s := tm.session()
			_, err := s.Locate(t.Context(), true)
			var help *Offered
			require.ErrorAs(t, err, &help)
			var blocked *plan.Blocked
			require.ErrorAs(t, err, &blocked)
			assert.Equal(t, c.offer, help.Offer.Does)
			require.NoError(t, s.TakeUp(t.Context(), help.Offer))
			c.after(t, tm)
			_, err = s.Locate(t.Context(), true)
			if name != "left in a rebase" {
				assert.NoError(t, err)
			}
		})
	}
}

// TestAShallowCloneIsDeepened gets the history that the two lines part in.
func TestAShallowCloneIsDeepened(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	shallow := gittest.At(t, filepath.Join(t.TempDir(), "shallow"))
	require.NoError(t, os.MkdirAll(shallow.Dir, 0o755))
	for i := range 3 {
		tm.other.Commit("more", "f", strings.Repeat("x\n", i+1))
	}
	tm.other.Git("push", "-q")
	gittest.At(t, t.TempDir()).Git("clone", "-q", "--depth=1", "file://"+tm.remote.Dir, shallow.Dir)
	shallow.Commit("mine", "s", "s\n")
	tm.other.Git("reset", "-q", "--hard", "HEAD~2")
	tm.other.Commit("instead", "f", "y\n")
	tm.other.Git("push", "-q", "-f")
	s, err := OpenSession(t.Context(), shallow.Dir)
	require.NoError(t, err)
	defer s.Close()
	_, err = s.Locate(t.Context(), true)
	var help *Offered
	require.ErrorAs(t, err, &help)
	require.NoError(t, s.TakeUp(t.Context(), help.Offer))
	s.Close()
	s, err = OpenSession(t.Context(), shallow.Dir)
	require.NoError(t, err)
	defer s.Close()
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	assert.NotEmpty(t, p.Divergence.Bases)
}

// TestAPushGoesWhereGitPushes joins with what the place that is pushed to holds, whatever is followed.
func TestAPushGoesWhereGitPushes(t *testing.T) {
	t.Parallel()
	for name, set := range map[string][][]string{
		"pushRemote":  {{"config", "branch.main.pushRemote", "fork"}},
		"pushDefault": {{"config", "remote.pushDefault", "fork"}},
		"current": {{"checkout", "-q", "-b", "topic"}, {"branch", "-q", "--set-upstream-to=origin/main"},
			{"config", "push.default", "current"}},
	} {
		t.Run(name, func(t *testing.T) {
			tm := newTeam(t)
			fork := gittest.New(t, "--bare")
			tm.mine.Git("remote", "add", "fork", fork.Dir)
			for _, args := range set {
				tm.mine.Git(args...)
			}
			to, branch := fork, "main"
			if name == "current" {
				to, branch = tm.remote, "topic"
			}
			tm.diverge()
			s := tm.session()

			// It is not there yet: yours is joined with what it follows, and goes there.
			p, j, b := ready(t, s, plan.Rebase, settle.TheirsYours)
			assert.Contains(t, p.Triangle(), "is new there")
			_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
			require.NoError(t, err)
			main := tm.remote.Git("rev-parse", "main")
			done, err := s.Push.Tip(t.Context(), p, change.Consent{})
			require.NoError(t, err)
			require.Nil(t, done.Refusal)
			assert.Equal(t, b.Tip.String(), to.Git("rev-parse", branch))
			assert.Equal(t, main, tm.remote.Git("rev-parse", "main"))

			// Somebody pushed there: yours is joined with that, and what it follows stays beside.
			mate := to.Clone()
			mate.Git("checkout", "-q", "-B", branch, "origin/"+branch)
			mate.Commit("there", "there", "there\n")
			mate.Git("push", "-q", "origin", branch)
			tm.other.Commit("beside", "beside", "beside\n")
			tm.other.Git("push", "-q", "origin", "HEAD:main")
			tm.mine.Commit("mine again", "again", "again\n")
			p, j, b = ready(t, s, plan.Rebase, settle.TheirsYours)
			assert.Equal(t, "there", p.Divergence.Theirs[0].Subject())
			assert.Contains(t, p.Triangle(), "origin/main has 1 commit beside")
			d, err := s.Push.Departure(t.Context(), p, j, b.Tip)
			require.NoError(t, err)
			assert.False(t, d.Moved)
			_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
			require.NoError(t, err)
			done, err = s.Push.Tip(t.Context(), p, change.Consent{})
			require.NoError(t, err)
			require.Nil(t, done.Refusal)
			assert.Equal(t, b.Tip.String(), to.Git("rev-parse", branch))
		})
	}
}

// TestABranchThatIsGone is not made anew at the remote unasked.
func TestABranchThatIsGone(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.mine.Commit("mine", "m", "m\n")
	tm.remote.Git("update-ref", "-d", "refs/heads/main")
	s := tm.session()
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Sync(p))
	d, err := s.Push.Departure(t.Context(), p, nil, p.Yours)
	require.NoError(t, err)
	assert.True(t, d.Gone)
	done, err := s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	require.NotNil(t, done.Refusal)
	assert.Equal(t, vcs.Gone, done.Refusal.Kind)
	_, err = tm.remote.Try("rev-parse", "-q", "--verify", "main")
	require.Error(t, err)
	done, err = s.Push.Tip(t.Context(), p, change.Consent{MakeAnew: true})
	require.NoError(t, err)
	assert.Nil(t, done.Refusal)
	assert.Equal(t, p.Yours.String(), tm.remote.Git("rev-parse", "main"))
}

// TestWhatIsAdrift finds commits that nothing points to, and not those that were made again.
func TestWhatIsAdrift(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	s := tm.session()
	adrift := func() *Adrift {
		a, err := s.Workspace.Adrift(t.Context())
		require.NoError(t, err)
		return a
	}
	assert.Nil(t, adrift())
	tm.mine.Commit("one", "a", "a\n")
	tm.mine.Git("commit", "-q", "--amend", "-m", "one, better")
	assert.Nil(t, adrift(), "it was made again")
	tm.mine.Git("-c", "user.name=x", "commit", "-q", "--allow-empty", "-m", "lost one", "--date=@1767000001 +0000")
	tm.mine.Git("commit", "-q", "--allow-empty", "-m", "lost two", "--date=@1767000002 +0000")
	assert.Nil(t, adrift())
	lost := tm.mine.Git("rev-parse", "main")
	tm.mine.Git("reset", "-q", "--hard", "HEAD~2")
	a := adrift()
	require.NotNil(t, a)
	assert.Equal(t, lost, a.Tip.String())
	assert.Equal(t, "2 commits made here are on no branch: “lost two” and “lost one”.", a.Sentence())
	name, err := s.Workspace.KeepAdrift(t.Context(), a)
	require.NoError(t, err)
	assert.Equal(t, lost, tm.mine.Git("rev-parse", name))
	assert.Nil(t, adrift())
}

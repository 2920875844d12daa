package recovery

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// entry returns the newest entry of the logbook of a kind.
func entry(t *testing.T, s *Session, of ledger.Doing) *ledger.LogEntry {
	all, err := s.Ledger.Logbook()
	require.NoError(t, err)
	for i := range all {
		if all[i].Of == of {
			return &all[i]
		}
	}
	require.Fail(t, "no such entry", of)
	return nil
}

// The whole way of a branch: main is brought in, the branch is put forward, left and deleted, and all of it undone.
func TestABranchIsPutForward(t *testing.T) {
	for _, merge := range []bool{false, true} {
		t.Run(map[bool]string{false: "fast-forward", true: "by a merge commit"}[merge], func(t *testing.T) {
			tm, ctx := onBranch(t), t.Context()
			s := tm.session()
			p, err := s.Locate(ctx, true)
			require.NoError(t, err)
			assert.Nil(t, s.Forwards.Line(ctx, p), "nothing was joined yet")
			line := tm.take(s, "main")
			_, err = s.Forwards.Prepare(ctx, line)
			assert.ErrorContains(t, err, "origin/main has 1 commit that feature does not have. Join with it first.")
			tm.take(s, "origin/main")
			tm.joinNow(s, plan.Merge)
			tip, before := tm.mine.Git("rev-parse", "feature"), tm.remote.Git("rev-parse", "main")
			p, err = s.Locate(ctx, true)
			require.NoError(t, err)
			require.Equal(t, "origin/main", s.Forwards.Line(ctx, p).Name)
			f, err := s.Forwards.Prepare(ctx, line)
			require.NoError(t, err)
			assert.Equal(t, "origin/main", f.Line.Name, "a branch here stands for its upstream")
			assert.Len(t, f.Commits, 2)
			assert.Equal(t, "main", f.Local)
			assert.False(t, f.Merges)
			assert.Contains(t, f.Sentence(merge), "Your branch main moves with it.")
			done, err := s.Forwards.Put(ctx, f, merge, change.Consent{})
			require.NoError(t, err)
			require.Nil(t, done.Refusal)
			assert.Equal(t, done.Tip.String(), tm.remote.Git("rev-parse", "main"))
			assert.Equal(t, done.Tip.String(), tm.mine.Git("rev-parse", "main"))
			assert.Equal(t, tip, tm.mine.Git("rev-parse", "HEAD"), "the branch stays")
			if merge {
				assert.Equal(t, before+" "+tip, tm.remote.Git("log", "-1", "--format=%P", "main"))
				assert.Equal(t, "Merge feature into main\n\n- Merge origin/main into feature (Ada Sund)\n"+
					"- own (Ada Sund)\n", tm.remote.Git("log", "-1", "--format=%B", "main"))
			} else {
				assert.Equal(t, tip, done.Tip.String())
			}
			_, err = s.Forwards.Prepare(ctx, line)
			if !merge {
				assert.ErrorContains(t, err, "has all of feature already")
			}
			tm.mine.Write("g", "edited\n")
			require.NoError(t, s.Forwards.Go(ctx, f))
			assert.Equal(t, "main", tm.mine.Git("symbolic-ref", "--short", "HEAD"))
			assert.Equal(t, " M g", tm.mine.Git("status", "--porcelain"), "no file changes")
			require.NoError(t, s.Forwards.Delete(ctx, f))
			_, err = tm.mine.Try("rev-parse", "--verify", "-q", "refs/heads/feature")
			assert.Error(t, err)

			gone := entry(t, s, ledger.Deleted)
			require.NoError(t, s.Forwards.TakeBack(ctx, gone))
			assert.Equal(t, tip, tm.mine.Git("rev-parse", "feature"))
			assert.Equal(t, "origin/feature", tm.mine.Git("rev-parse", "--abbrev-ref", "feature@{u}"))
			assert.Equal(t, gone.At.String(), tm.remote.Git("rev-parse", "feature"))
			assert.Error(t, s.Forwards.TakeBack(ctx, gone), "it is there again")
			require.NoError(t, s.Forwards.TakeBack(ctx, entry(t, s, ledger.Switched)))
			assert.Equal(t, "feature", tm.mine.Git("symbolic-ref", "--short", "HEAD"))
		})
	}
}

// A line that moved meanwhile is not overwritten, and a branch with more commits at the remote is not deleted.
func TestPuttingForwardLosesNothing(t *testing.T) {
	tm, ctx := onBranch(t), t.Context()
	s := tm.session()
	line := tm.take(s, "origin/main")
	tm.joinNow(s, plan.Merge)
	f, err := s.Forwards.Prepare(ctx, line)
	require.NoError(t, err)
	tm.other.Commit("meanwhile", "more", "more\n")
	tm.other.Git("push", "-q", "origin", "main")
	done, err := s.Forwards.Put(ctx, f, false, change.Consent{})
	require.NoError(t, err)
	require.NotNil(t, done.Refusal)
	assert.Equal(t, vcs.Behind, done.Refusal.Kind)
	assert.Equal(t, tm.other.Git("rev-parse", "main"), tm.remote.Git("rev-parse", "main"))

	require.NoError(t, s.Lines.Take(ctx, &line))
	tm.joinNow(s, plan.Merge)
	f, err = s.Forwards.Prepare(ctx, line)
	require.NoError(t, err)
	_, err = s.Forwards.Put(ctx, f, false, change.Consent{})
	require.NoError(t, err)
	tm.other.Git("fetch", "-q")
	tm.other.Git("switch", "-q", "feature")
	tm.other.Commit("also", "also", "also\n")
	tm.other.Git("push", "-q", "origin", "feature")
	assert.Error(t, s.Forwards.Delete(ctx, f), "one is still on it")
	require.NoError(t, s.Forwards.Go(ctx, f))
	assert.ErrorContains(t, s.Forwards.Delete(ctx, f), "origin/feature has commits that were not put forward")
	assert.Equal(t, tm.other.Git("rev-parse", "feature"), tm.remote.Git("rev-parse", "feature"))
	assert.NotEmpty(t, tm.mine.Git("rev-parse", "feature"))
}

// A remote that lets nobody delete the branch keeps it, and so does the clone.
func TestADeletionThatIsRefused(t *testing.T) {
	tm, ctx := onBranch(t), t.Context()
	s := tm.session()
	line := tm.take(s, "origin/main")
	tm.joinNow(s, plan.Merge)
	f, err := s.Forwards.Prepare(ctx, line)
	require.NoError(t, err)
	_, err = s.Forwards.Put(ctx, f, false, change.Consent{})
	require.NoError(t, err)
	require.NoError(t, s.Forwards.Go(ctx, f))
	tm.remote.Git("config", "receive.denyDeletes", "true")
	err = s.Forwards.Delete(ctx, f)
	var refused *vcs.Refusal
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, vcs.NoDelete, refused.Kind)
	assert.Equal(t, f.Tip.String(), tm.mine.Git("rev-parse", "feature"))
}

// A lock at the server is waited for here, too.
func TestPuttingForwardWaitsForALock(t *testing.T) {
	was := lockWaits
	lockWaits = []time.Duration{time.Millisecond}
	defer func() { lockWaits = was }()
	tm, ctx := onBranch(t), t.Context()
	s := tm.session()
	line := tm.take(s, "origin/main")
	tm.joinNow(s, plan.Merge)
	f, err := s.Forwards.Prepare(ctx, line)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(tm.remote.Dir, "refs/heads/main.lock"), nil, 0o644))
	done, err := s.Forwards.Put(ctx, f, false, change.Consent{})
	require.NoError(t, err)
	require.NotNil(t, done.Refusal)
	assert.Equal(t, vcs.Busy, done.Refusal.Kind)
	assert.Equal(t, 2, done.Tries)
}

// The merge commit that is made for a line is signed, if commits are.
func TestAMergeForALineIsSigned(t *testing.T) {
	tm, ctx := onBranch(t), t.Context()
	signer := filepath.Join(t.TempDir(), "signer")
	gittest.Program(t, signer, `#!/bin/sh
cat >/dev/null
echo '[GNUPG:] SIG_CREATED ' >&2
printf -- '-----BEGIN PGP SIGNATURE-----\nx\n-----END PGP SIGNATURE-----\n'
`)
	tm.mine.Git("config", "gpg.program", signer)
	s := tm.session()
	line := tm.take(s, "origin/main")
	tm.joinNow(s, plan.Merge)
	tm.mine.Git("config", "commit.gpgSign", "true")
	f, err := s.Forwards.Prepare(ctx, line)
	require.NoError(t, err)
	done, err := s.Forwards.Put(ctx, f, true, change.Consent{})
	require.NoError(t, err)
	require.Nil(t, done.Refusal)
	assert.Contains(t, tm.remote.Git("cat-file", "-p", "main"), "gpgsig")
}

// The settings and the history say whether a line wants merge commits of its own.
func TestWhetherALineWantsMergeCommits(t *testing.T) {
	for name, c := range map[string]struct {
		do   func(tm *team)
		want bool
	}{
		"usual":       {func(*team) {}, false},
		"merge.ff":    {func(tm *team) { tm.mine.Git("config", "merge.ff", "false") }, true},
		"its options": {func(tm *team) { tm.mine.Git("config", "branch.main.mergeOptions", "--no-ff") }, true},
		"its history": {func(tm *team) {
			for range 8 {
				tm.other.Git("switch", "-q", "-c", "side")
				tm.other.Git("commit", "-q", "--allow-empty", "-m", "work")
				tm.other.Git("switch", "-q", "main")
				tm.other.Git("merge", "-q", "--no-ff", "-m", "Bring it in", "side")
				tm.other.Git("branch", "-q", "-D", "side")
			}
			tm.other.Git("push", "-q", "origin", "main")
		}, true},
	} {
		t.Run(name, func(t *testing.T) {
			tm, ctx := onBranch(t), t.Context()
			c.do(tm)
			s := tm.session()
			line := tm.take(s, "origin/main")
			tm.joinNow(s, plan.Merge)
			f, err := s.Forwards.Prepare(ctx, line)
			require.NoError(t, err)
			assert.Equal(t, c.want, f.Merges)
		})
	}
}

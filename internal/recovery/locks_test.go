package recovery

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// TestLocksOfGit: a lock is a ref of the remote. One of two people gets it, and the other's change of the file waits.
func TestLocksOfGit(t *testing.T) {
	tm := newTeam(t)
	tm.mine.Commit("attributes", ".gitattributes", "*.png lockable\n", "pier.png", "\x00\x01pier")
	tm.mine.Git("push", "-q", "origin", "main")
	tm.other.Git("pull", "-q", "--rebase")
	hook := filepath.Join(tm.mine.Dir, ".git/hooks/pre-push") // not run for a lock
	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\nexit 1\n"), 0o755))
	ctx := t.Context()
	s := tm.session()
	open := func(dir string) vcs.Locking {
		w, err := OpenWorkspace(ctx, dir)
		require.NoError(t, err)
		t.Cleanup(w.Close)
		return w.Locks
	}
	other := open(tm.other.Dir)
	held := func(l vcs.Locking) (out []string) {
		require.NoError(t, l.Ask(ctx))
		list, err := l.Locks(ctx)
		require.NoError(t, err)
		for _, one := range list {
			one.Since = time.Time{}
			text := one.Path + " " + one.Owner + " " + one.Why
			if one.Mine {
				text += " mine"
			}
			if one.Broken {
				text += " broken"
			}
			out = append(out, text)
		}
		return out
	}
	mine := s.Workspace.Locks
	assert.Empty(t, held(mine))
	require.NoError(t, mine.Lock(ctx, []string{"pier.png"}, "new colours", false))
	assert.Equal(t, []string{"pier.png " + me(tm) + " new colours mine"}, held(mine))
	assert.Equal(t, []string{"pier.png " + me(tm) + " new colours"}, held(other))

	err := other.Lock(ctx, []string{"pier.png"}, "me too", false)
	refusal := (*vcs.Refusal)(nil)
	require.True(t, errors.As(err, &refusal), "%v", err)
	assert.Equal(t, vcs.Locked, refusal.Kind)
	assert.Contains(t, refusal.Words[0], "pier.png is locked by "+me(tm))
	assert.Contains(t, refusal.Words[0], ": new colours")
	assert.Error(t, other.Unlock(ctx, []string{"pier.png"}), "it is not theirs")

	// the other changes the file all the same: the push waits
	require.NoError(t, other.Lock(ctx, []string{"pier.png"}, "I must", true))
	assert.Len(t, held(mine), 1)
	assert.Contains(t, held(mine)[0], "I must broken")
	tm.mine.Commit("repaint", "pier.png", "\x00\x02pier")
	p, err := s.Locate(ctx, true)
	require.NoError(t, err)
	v, err := s.SurveyFrom(ctx, false, nil, nil)
	require.NoError(t, err)
	stopping, _ := v.Locks.Sentences(time.Now())
	require.Len(t, stopping, 1)
	assert.Contains(t, stopping[0], "Your lock on pier.png was broken")
	pushed, err := s.Push.Tip(ctx, p, change.Consent{})
	require.NoError(t, err)
	require.NotNil(t, pushed.Refusal)
	assert.Equal(t, vcs.Locked, pushed.Refusal.Kind)

	require.NoError(t, mine.Unlock(ctx, []string{"pier.png"}), "one that was broken is forgotten")
	require.NoError(t, other.Unlock(ctx, []string{"pier.png"}))
	assert.Empty(t, held(other))
	assert.Empty(t, held(mine))
	v, err = s.SurveyFrom(ctx, false, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"pier.png"}, v.Locks.Wanted, "it was changed, and is to be locked first")
	require.NoError(t, os.Remove(hook))
	pushed, err = s.Push.Tip(ctx, p, change.Consent{})
	require.NoError(t, err)
	assert.Nil(t, pushed.Refusal)
	assert.Empty(t, tm.mine.Git("ls-remote", "origin", "refs/locks/*"))
	assert.Equal(t, plan.UpToDate, p.Trivial())
}

// me returns the name of the person of a team's first clone.
func me(tm *team) string { return tm.mine.Git("log", "-1", "--format=%an") }

// TestNewLocksAreNews: what others lock is told while the screen is open.
func TestNewLocksAreNews(t *testing.T) {
	tm := newTeam(t)
	tm.mine.Git("config", "dorvik.locks", "true")
	s := tm.session()
	w, err := OpenWorkspace(t.Context(), tm.other.Dir)
	require.NoError(t, err)
	defer w.Close()
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	require.NoError(t, w.Locks.Lock(t.Context(), []string{"f"}, "tides", false))
	news, err := s.Workspace.AskQuietly(t.Context(), p.Branch)
	require.NoError(t, err)
	require.NotNil(t, news)
	assert.Regexp(t, `^f is locked by .*: “tides”\. Nothing here was moved`, news.Sentence(time.Now(), "origin/main"))
	news, err = s.Workspace.AskQuietly(t.Context(), p.Branch)
	require.NoError(t, err)
	assert.Nil(t, news)
}

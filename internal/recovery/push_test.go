package recovery

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// A lock on the server is waited for, and never told as somebody's push.
func TestALockOnTheServerIsWaitedFor(t *testing.T) {
	was := lockWaits
	lockWaits = []time.Duration{time.Millisecond, time.Millisecond}
	defer func() { lockWaits = was }()
	for _, frees := range []bool{true, false} {
		tm, ctx := newTeam(t), t.Context()
		tm.mine.Commit("own", "own", "own\n")
		lock := filepath.Join(tm.remote.Dir, "refs/heads/main.lock")
		require.NoError(t, os.WriteFile(lock, nil, 0o644))
		s := tm.session()
		p, err := s.Locate(ctx, true)
		require.NoError(t, err)
		var tries []int
		s.Push.Waits = func(try, of int) {
			assert.Equal(t, 3, of)
			if tries = append(tries, try); frees {
				_ = os.Remove(lock)
			}
		}
		done, err := s.Push.Tip(ctx, p, change.Consent{})
		require.NoError(t, err)
		if frees {
			assert.Nil(t, done.Refusal)
			assert.Equal(t, []int{2}, tries)
			continue
		}
		require.NotNil(t, done.Refusal)
		assert.Equal(t, vcs.Busy, done.Refusal.Kind)
		assert.Equal(t, 3, done.Tries)
		assert.Equal(t, []int{2, 3}, tries)
	}
}

// What a refusal's words name is found among the commits: by an id, or by a file.
func TestWhatARefusalIsAbout(t *testing.T) {
	tm, ctx := newTeam(t), t.Context()
	one := tm.mine.Commit("one", "big/pier.bin", "x\n")
	two := tm.mine.Commit("two", "other", "y\n")
	tm.mine.Commit("three", "big/pier.bin", "z\n")
	s := tm.session()
	p, err := s.Locate(ctx, true)
	require.NoError(t, err)
	for words, want := range map[string][2]string{
		"big/pier.bin is too large":             {one, "big/pier.bin"},
		"no task in " + two[:10]:                {two, ""},
		two + " has other without its reviewer": {two, "other"},
		"another file, biggest/big/pier.bin.gz": {"", ""},
		"see big/pier.bin.":                     {one, "big/pier.bin"},
		"0" + two[:12] + " is no id of these":   {"", ""},
		"No pushes on Fridays, o ther":          {"", ""},
	} {
		about, err := s.Push.About(ctx, &vcs.Refusal{Words: []string{words}}, p.Divergence.Yours)
		require.NoError(t, err)
		if want[0] == "" {
			assert.Nil(t, about, words)
			continue
		}
		require.NotNil(t, about, words)
		id, err := object.ParseID(want[0])
		require.NoError(t, err)
		assert.Equal(t, id, about.Commit.ID, words)
		assert.Equal(t, want[1], about.Path, words)
	}
}

package recovery

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestExtraFails: foresight that fails in any way ends with a sentence, and not with the job.
func TestExtraFails(t *testing.T) {
	t.Parallel()
	forever := make(chan struct{})
	t.Cleanup(func() { close(forever) })
	for name, c := range map[string]struct {
		do  func(context.Context) (int, error)
		why string
	}{
		"nothing fails":        {func(context.Context) (int, error) { return 7, nil }, ""},
		"an error":             {func(context.Context) (int, error) { return 7, errors.New("no pack") }, "no pack"},
		"a panic":              {func(context.Context) (int, error) { panic("broken") }, "a defect in Dorvik"},
		"it obeys the limit":   {func(ctx context.Context) (int, error) { <-ctx.Done(); return 7, ctx.Err() }, "longer than 5ms"},
		"it ignores the limit": {func(context.Context) (int, error) { <-forever; return 7, nil }, "longer than 5ms"},
	} {
		t.Run(name, func(t *testing.T) {
			w := &Workspace{extraLimit: 5 * time.Millisecond}
			if c.why == "" {
				w.extraLimit = time.Hour
			}
			got, ok, err := extra(t.Context(), w, "the weather", c.do)
			require.NoError(t, err)
			assert.Equal(t, c.why == "", ok)
			if ok {
				assert.Equal(t, 7, got)
				assert.Empty(t, w.NotLookedAt())
				return
			}
			assert.Zero(t, got)
			require.Len(t, w.NotLookedAt(), 1)
			assert.Contains(t, w.NotLookedAt()[0].Sentence(), "Not looked at: the weather (")
			assert.Contains(t, w.NotLookedAt()[0].Sentence(), c.why)
		})
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	w := &Workspace{extraLimit: time.Hour}
	_, ok, err := extra(ctx, w, "the weather", func(ctx context.Context) (int, error) { return 0, ctx.Err() })
	assert.False(t, ok)
	assert.ErrorIs(t, err, context.Canceled, "leaving is no failure")
	assert.Empty(t, w.NotLookedAt())
}

// TestTheJobGoesOnWithoutForesight: Look, the plan and the check do without what could not be looked at, and say so once.
func TestTheJobGoesOnWithoutForesight(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	s := tm.session()
	s.extraLimit = time.Nanosecond
	v, err := s.Survey(t.Context(), true, nil)
	require.NoError(t, err)
	assert.NotNil(t, v.Plan.Merge)
	_, err = s.MisfitsOf(t.Context(), v.Position, v.Plan)
	require.NoError(t, err)
	assert.Contains(t, s.TakeNotice(), "Not looked at: what will not work together (it took longer than 1ns).")
	assert.Empty(t, s.TakeNotice())
	g, err := s.Glance(t.Context(), false)
	require.NoError(t, err)
	assert.NotNil(t, g.Position)
}

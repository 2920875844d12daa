package plan

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
		"nothing fails": {func(context.Context) (int, error) { return 7, nil }, ""},
		"an error":      {func(context.Context) (int, error) { return 7, errors.New("no pack") }, "no pack"},
		"a panic":       {func(context.Context) (int, error) { panic("broken") }, "a defect in Dorvik"},
		"it obeys the limit": {func(ctx context.Context) (int, error) { <-ctx.Done(); return 7, ctx.Err() },
			"longer than 5ms"},
		"it ignores the limit": {func(context.Context) (int, error) { <-forever; return 7, nil }, "longer than 5ms"},
	} {
		t.Run(name, func(t *testing.T) {
			x := &Extras{Limit: 5 * time.Millisecond}
			if c.why == "" {
				x.Limit = time.Hour
			}
			got, ok, err := Extra(t.Context(), x, "the weather", c.do)
			require.NoError(t, err)
			assert.Equal(t, c.why == "", ok)
			if ok {
				assert.Equal(t, 7, got)
				assert.Empty(t, x.NotLookedAt())
				return
			}
			assert.Zero(t, got)
			require.Len(t, x.NotLookedAt(), 1)
			assert.Contains(t, x.NotLookedAt()[0].Sentence(), "Not looked at: the weather (")
			assert.Contains(t, x.NotLookedAt()[0].Sentence(), c.why)
		})
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	x := &Extras{Limit: time.Hour}
	_, ok, err := Extra(ctx, x, "the weather", func(ctx context.Context) (int, error) { return 0, ctx.Err() })
	assert.False(t, ok)
	assert.ErrorIs(t, err, context.Canceled, "leaving is no failure")
	assert.Empty(t, x.NotLookedAt())
}

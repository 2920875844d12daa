package parallel

import (
	"errors"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDo(t *testing.T) {
	for _, n := range []int{0, 1, 3, 4, 5, 8, 1000} {
		var mu sync.Mutex
		done := map[int]int{}
		assert.NoError(t, Do(n, 4, func(i int) error {
			mu.Lock()
			defer mu.Unlock()
			done[i]++
			return nil
		}))
		assert.Len(t, done, n)
		for i, times := range done {
			assert.True(t, i >= 0 && i < n && times == 1, "%d of %d, %d times", i, n, times)
		}
	}
	order := []int{}
	assert.NoError(t, Do(3, 3, func(i int) error { order = append(order, i); return nil }))
	assert.Equal(t, []int{0, 1, 2}, order, "by the caller alone")
}

func TestNothingIsBegunAfterAnError(t *testing.T) {
	broken := errors.New("broken")
	var mu sync.Mutex
	begun := 0
	err := Do(100_000, 1, func(i int) error {
		mu.Lock()
		defer mu.Unlock()
		begun++
		return broken
	})
	assert.ErrorIs(t, err, broken)
	assert.Less(t, begun, 1000)
}

func TestAPanicComesToTheCaller(t *testing.T) {
	assert.Panics(t, func() {
		_ = Do(100, 1, func(i int) error {
			if i == 70 {
				panic("here")
			}
			return nil
		})
	})
}

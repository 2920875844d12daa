package caught

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDo(t *testing.T) {
	plain := errors.New("plain")
	var none []int
	for name, c := range map[string]struct {
		do   func() error
		want string
	}{
		"nothing":  {func() error { return nil }, ""},
		"an error": {func() error { return plain }, "plain"},
		"a panic": {func() error { panic("why") },
			"a defect in Dorvik, not in your repository (why, at caught/caught_test.go:"},
		"a runtime error": {func() error { none[3] = 1; return nil },
			"index out of range [3] with length 0, at caught/caught_test.go:"},
	} {
		t.Run(name, func(t *testing.T) {
			if c.want == "" {
				assert.NoError(t, Do(c.do))
				return
			}
			assert.ErrorContains(t, Do(c.do), c.want)
		})
	}
	assert.Same(t, plain, Do(func() error { return plain }))

	first := Do(func() error { panic("once") })
	again := Do(func() error { panic(first) })
	assert.Same(t, first, again, "a panic that is passed on keeps its place")
}

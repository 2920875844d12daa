package plan

import (
	"testing"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/misfit"

	"github.com/stretchr/testify/assert"
)

// TestUntold: two files with one number are told once.
func TestUntold(t *testing.T) {
	j := &Join{besides: []merge.Remark{{Path: "m/07_b.sql", Asks: true}, {Path: "a.sql"}}}
	of := func(p string, k misfit.Kind) Misfit {
		return Misfit{Misfit: misfit.Misfit{Kind: k, Used: misfit.Place{Path: p}}}
	}
	list := []Misfit{of("m/07_b.sql", misfit.Duplicate), of("m/07_b.sql", misfit.Key), of("a.sql", misfit.Duplicate)}
	assert.Equal(t, list[1:], j.Untold(list))
	assert.Len(t, list, 3, "the list is as it was")
}

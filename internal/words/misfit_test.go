package words

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dorvik.dev/dorvik/internal/core/misfit"
)

func TestEveryMisfitHasWords(t *testing.T) {
	gone := misfit.Place{Gone: true}
	for _, c := range []struct {
		m    misfit.Misfit
		want string
	}{
		{misfit.Misfit{Kind: misfit.Renamed, Name: "A", Now: "B"}, "Ilka renamed A to B, and you use it as it was"},
		{misfit.Misfit{Kind: misfit.Moved, Name: "a.h", Now: "b.h"}, "Ilka moved a.h to b.h, and you use it as it was"},
		{misfit.Misfit{Kind: misfit.Removed, Name: "A"}, "Ilka took A out, and you use it as it was"},
		{misfit.Misfit{Kind: misfit.Removed, Name: "n", Changed: gone, Used: gone},
			"Ilka stopped using n here, and you did so there: nothing uses it any more"},
		{misfit.Misfit{Kind: misfit.Signature, Name: "A"}, "Ilka changed what A takes, gives or is, and you use it as it was"},
		{misfit.Misfit{Kind: misfit.Duplicate, Name: "A"}, "Ilka added A, and you added another"},
		{misfit.Misfit{Kind: misfit.Key, Name: "k"}, "Ilka took the key k out, and you read it as it was"},
		{misfit.Misfit{Kind: misfit.Key, Name: "k", Now: "l"}, "Ilka renamed the key k to l, and you read it as it was"},
		{misfit.Misfit{Kind: misfit.Import, Name: "fmt"}, "Ilka stopped importing fmt, and you use it as it was"},
		{misfit.Misfit{Kind: misfit.Import, Name: "fmt", Changed: gone, Used: gone},
			"Ilka stopped using fmt here, and you did so there: nothing uses it any more"},
		{misfit.Misfit{Kind: misfit.Implements, Name: "Cancel"},
			"Ilka had Cancel be asked for, too, and you wrote something without it"},
	} {
		assert.Equal(t, c.want, Misfit(c.m, "Ilka", "you"))
	}
	assert.Equal(t, "You took A out, and Mato uses it as it was", Misfit(misfit.Misfit{Kind: misfit.Removed, Name: "A"},
		"you", "Mato"))
}

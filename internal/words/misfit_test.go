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
		{misfit.Misfit{Kind: misfit.Renamed, Name: "A", Now: "B"}, "Ilka renamed A to B; your code still uses A"},
		{misfit.Misfit{Kind: misfit.Moved, Name: "a.h", Now: "b.h"}, "Ilka moved a.h to b.h; your code still uses a.h"},
		{misfit.Misfit{Kind: misfit.Removed, Name: "A"}, "Ilka removed A; your code still uses A"},
		{misfit.Misfit{Kind: misfit.Removed, Name: "n", Changed: gone, Used: gone},
			"Ilka removed a use of n; you removed the other, so nothing uses it"},
		{misfit.Misfit{Kind: misfit.Signature, Name: "A"},
			"Ilka changed the signature or type of A; your code uses it as before"},
		{misfit.Misfit{Kind: misfit.Duplicate, Name: "A"}, "Ilka added A; you added another A"},
		{misfit.Misfit{Kind: misfit.Key, What: "key", Name: "k"}, "Ilka removed the key k; your code still uses k"},
		{misfit.Misfit{Kind: misfit.Key, What: "CSS class", Name: "k", Now: "l"},
			"Ilka renamed the CSS class k to l; your code still uses k"},
		{misfit.Misfit{Kind: misfit.Duplicate, What: "port", Name: "7001"},
			"Ilka used the port 7001; you used it for something else"},
		{misfit.Misfit{Kind: misfit.Signature, What: "it is asynchronous now", Name: "f"},
			"Ilka changed f: it is asynchronous now; your code uses it as before"},
		{misfit.Misfit{Kind: misfit.Implements, What: misfit.AllListed, Name: "V"},
			"Ilka added V to a list of values; your code lists all the others"},
		{misfit.Misfit{Kind: misfit.Import, Name: "fmt"}, "Ilka removed the import of fmt; your code still uses fmt"},
		{misfit.Misfit{Kind: misfit.Import, Name: "fmt", Changed: gone, Used: gone},
			"Ilka removed a use of fmt; you removed the other, so nothing uses it"},
		{misfit.Misfit{Kind: misfit.Implements, Name: "Cancel"},
			"Ilka added Cancel to an interface; your type does not have it"},
	} {
		assert.Equal(t, c.want, Misfit(c.m, "Ilka", "you"))
	}
	assert.Equal(t, "You removed A; Mato's code still uses A", Misfit(misfit.Misfit{Kind: misfit.Removed, Name: "A"},
		"you", "Mato"))
}

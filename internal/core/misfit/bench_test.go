package misfit

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/object"
)

// BenchmarkFind looks at two large sides: one moves a thousand files and renames all they define, the other writes in a
// thousand others.
func BenchmarkFind(b *testing.B) {
	const files, each = 1000, 10
	o := object.NewOverlay(object.SHA1, nil)
	text := func(prefix string, n int) string {
		var s strings.Builder
		for i := range each {
			fmt.Fprintf(&s, "def %s_%d_%d(a):\n    return a * %d\n\n\n", prefix, n, i, i)
		}
		return s.String()
	}
	tree := func(old, new string, uses bool) object.ID {
		set := map[string]object.Entry{}
		put := func(p, text string) {
			set[p] = object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(text))}
		}
		for n := range files {
			put(fmt.Sprintf("%s/f%d.py", old, n), text(new, n))
			other := text("other", n)
			if uses {
				other += fmt.Sprintf("print(other_%d_1(2))\n", n)
			}
			put(fmt.Sprintf("b/g%d.py", n), other)
		}
		id, err := o.Edit(b.Context(), o.EmptyTree(), set)
		require.NoError(b, err)
		return id
	}
	t := Trees{Base: tree("a", "old", false), Yours: tree("c", "new", false), Theirs: tree("a", "old", true)}
	t.Joined = tree("c", "new", true)
	for b.Loop() {
		found, err := Find(b.Context(), o, t)
		require.NoError(b, err)
		require.Empty(b, found)
	}
}

package merge

import (
	"strings"
	"testing"

	"dorvik/internal/core/diff"
	"dorvik/internal/core/object"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNewLineEndsOfOneSide(t *testing.T) {
	dos := func(s string) string { return strings.ReplaceAll(s, "\n", "\r\n") }
	const base, edited, both = "one\ntwo\nthree\nfour", "one\ntwo\nthree\nFOUR", "ONE\ntwo\nthree\nFOUR"
	const mine = "ONE\ntwo\nthree\nfour"
	for _, c := range []struct{ name, base, yours, theirs, want string }{
		{"yours to CRLF", base, dos(mine), edited, dos(both)},
		{"theirs to CRLF", base, mine, dos(edited), dos(both)},
		{"yours to LF", dos(base), mine, dos(edited), both},
		{"theirs changed nothing else", base, mine, dos(base), dos(mine)},
		{"both to CRLF", base, dos(mine), dos(edited), dos(both)},
		{"mixed before", "one\r\ntwo\nthree\nfour", dos(mine), edited, ""},
		{"mixed after", base, "ONE\r\ntwo\nthree\nfour", edited, "ONE\r\ntwo\nthree\nFOUR"},
		{"the same line edited", base, dos("one\ntwo\nthree\n4"), edited, ""},
	} {
		o := object.NewOverlay(object.SHA1, nil)
		tree := func(s string) object.ID {
			return o.PutTree([]object.Entry{{Name: "f", Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(s))}})
		}
		r, err := NewEngine(o).Trees(t.Context(), tree(c.base), tree(c.yours), tree(c.theirs))
		require.NoError(t, err)
		if c.want == "" {
			require.Len(t, r.Conflicts, 1, c.name)
			continue
		}
		require.Empty(t, r.Conflicts, c.name)
		id, err := r.Tree(Decided{})
		require.NoError(t, err)
		e, err := o.Find(id, "f")
		require.NoError(t, err)
		data, err := o.Blob(e.ID)
		require.NoError(t, err)
		assert.Equal(t, c.want, string(data), c.name)
		assert.Equal(t, c.name != "mixed after", len(r.Remarks) == 1, "%s: %v", c.name, r.Remarks)
	}
}

// TestUnionHoldsAllOfBoth holds that a union leaves out no line that a side added.
func TestUnionHoldsAllOfBoth(t *testing.T) {
	base := diff.Lines("a\nb\nc\n")
	for _, c := range [][3]string{
		{"a\nx\nc\n", "a\ny\nc\n", "a\nx\ny\nc\n"},
		{"a\nb\nc\nx\n", "a\nb\nc\ny\n", "a\nb\nc\nx\ny\n"},
		{"x\nb\nc\n", "a\nb\nc\ny\n", "x\nb\nc\ny\n"},
		{"", "a\nb\nc\ny\n", "a\nb\nc\ny\n"},
	} {
		assert.Equal(t, c[2], Merge3(base, diff.Lines(c[0]), diff.Lines(c[1])).Union())
	}
}

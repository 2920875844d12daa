package merge

import (
	"context"
	"strings"
	"testing"

	"dorvik/internal/core/attr"
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

// TestWhatIsAskedOutsideCanBeCancelled: whatever a join asks of others has the caller's context.
func TestWhatIsAskedOutsideCanBeCancelled(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	e := NewEngine(o)
	asked := map[string]bool{}
	type key struct{}
	ctx := context.WithValue(t.Context(), key{}, true)
	note := func(ctx context.Context, what string) { asked[what] = ctx.Value(key{}) == true }
	e.Outside = func(ctx context.Context) (below, above *attr.Rules) { note(ctx, "attributes"); return nil, nil }
	e.Drive = func(ctx context.Context, _, _ string, _, _, _ []byte, _ int) ([]byte, DriverOutcome, error) {
		note(ctx, "driver")
		return nil, NotDefined, nil
	}
	e.Contains = func(ctx context.Context, _ string, _, _ object.ID) bool { note(ctx, "submodule"); return false }
	tree := func(text, commit string) object.ID {
		sub := object.Entry{Mode: object.ModeSubmodule, ID: object.SHA1.Sum(object.KindCommit, []byte(commit))}
		file := func(s string) object.Entry {
			return object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(s))}
		}
		id, err := o.Edit(object.ID{}, map[string]object.Entry{"f": file(text), "sub": sub, ".gitattributes": file("f merge=mine\n")})
		require.NoError(t, err)
		return id
	}
	_, err := e.Trees(ctx, tree("1\n", "a"), tree("2\n", "b"), tree("3\n", "c"))
	require.NoError(t, err)
	assert.Equal(t, map[string]bool{"attributes": true, "driver": true, "submodule": true}, asked)
}

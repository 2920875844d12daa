package merge

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/core/attr"
	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/object"

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
		id, err := r.Tree(t.Context(), Decided{})
		require.NoError(t, err)
		e, err := o.Find(t.Context(), id, "f")
		require.NoError(t, err)
		data, err := o.Blob(t.Context(), e.ID)
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
		id, err := o.Edit(ctx, object.ID{}, map[string]object.Entry{"f": file(text), "sub": sub,
			".gitattributes": file("f merge=mine\n")})
		require.NoError(t, err)
		return id
	}
	_, err := e.Trees(ctx, tree("1\n", "a"), tree("2\n", "b"), tree("3\n", "c"))
	require.NoError(t, err)
	assert.Equal(t, map[string]bool{"attributes": true, "driver": true, "submodule": true}, asked)
}

// TestAttributesSayHowAFileJoins, and a driver is run once for the same contents.
func TestAttributesSayHowAFileJoins(t *testing.T) {
	runs := 0
	for _, c := range []struct {
		attr    string
		outcome DriverOutcome
		err     error
		want    string // of f; empty where it is asked
		remark  string
	}{
		{"merge=text", NotDefined, nil, "one/2/three", ""},
		{"-merge", NotDefined, nil, "", ""},
		{"merge=binary", NotDefined, nil, "", ""},
		{"merge=union", NotDefined, nil, "one/2/three", ""},
		{"merge=mine", NotDefined, nil, "one/2/three", ""},
		{"merge=mine", NotAgreed, nil, "one/2/three", "runs only once you agree to it"},
		{"merge=mine conflict-marker-size=9", Driven, nil, "driven 9", "joined by your merge driver"},
		{"merge=mine conflict-marker-size=x", Driven, nil, "driven 7", "joined by your merge driver"},
		{"merge=mine", Undriven, nil, "", "left this to you"},
		{"merge=mine", Driven, errors.New("it fell over"), "", "left to you: it fell over"},
	} {
		o := object.NewOverlay(object.SHA1, nil)
		e := NewEngine(o)
		e.Outside = func(context.Context) (below, above *attr.Rules) { return nil, attr.Parse("f " + c.attr + "\n") }
		e.Drive = func(_ context.Context, _, _ string, _, _, _ []byte, size int) ([]byte, DriverOutcome, error) {
			runs++
			return fmt.Appendf(nil, "driven %d\n", size), c.outcome, c.err
		}
		for range 2 {
			r, err := e.Trees(t.Context(), treeOf(t, o, "f=1/2/3"), treeOf(t, o, "f=one/2/3"),
				treeOf(t, o, "f=1/2/three"))
			require.NoError(t, err)
			assert.Equal(t, c.want == "", len(r.Conflicts) == 1, c.attr)
			if c.want != "" {
				tree, err := r.Tree(t.Context(), Decided{})
				require.NoError(t, err)
				assert.Equal(t, "f="+c.want, strings.TrimSpace(show(t, o, tree)), c.attr)
			}
			if c.remark != "" {
				require.Len(t, r.Remarks, 1, c.attr)
				assert.Contains(t, r.Remarks[0].Words, c.remark)
			}
		}
	}
	assert.Equal(t, 5+2, runs, "once each, and again only where nobody had agreed or there was none")
}

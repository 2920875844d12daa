package settle

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
)

func TestDivide(t *testing.T) {
	text := func(s string) string { return strings.ReplaceAll(s, "/", "\n") + "\n" }
	for _, c := range []struct{ what, edited, first, second, before string }{
		{"nothing", "a/Y/c/d/e/Y2/g", "", "", "a/Y/c/d/e/Y2/g"},
		{"in a place", "a/new/more/c/d/e/Y2/g", "new/more", "", "a/new/more/c/d/e/Y2/g"},
		{"outside", "A/Y/c/D/e/Y2/g", "", "", "a/Y/c/d/e/Y2/g"},
		{"both", "a/new/c/D/e/Y2/g/h", "new", "", "a/new/c/d/e/Y2/g"},
		{"at the edges", "a/one/Y/two/c/d/e/Y2/g", "one/Y/two", "", "a/one/Y/two/c/d/e/Y2/g"},
		{"over an edge", "X/c/d/e/Y2/g", "X", "", "a/X/c/d/e/Y2/g"},
		{"two places", "a/1/c/d/e/2/g", "1", "2", "a/1/c/d/e/2/g"},
		{"over both", "a/X/g", "X", "", "a/X/c/d/e/Y2/g"},
	} {
		f := conflictOf(t, "a.txt", text("a/b/c/d/e/f/g"), text("a/Y/c/d/e/Y2/g"), text("a/T/c/d/e/T2/g"))
		texts, before := f.Divide(func(q *Question) Option { return Option{Way: Yours, Text: q.Yours} }, text(c.edited))
		for i, want := range []string{c.first, c.second} {
			got, ok := texts[f.Questions[i]]
			if want == "" && c.what != "over both" {
				assert.False(t, ok, c.what)
				continue
			}
			if want != "" {
				assert.Equal(t, text(want), got, c.what)
			}
		}
		if c.what != "over both" {
			assert.Equal(t, text(c.before), before, c.what)
		}
	}
}

// FuzzDivide holds that what was written is made of the texts of places, and of an edit of the file with these.
func FuzzDivide(f *testing.F) {
	f.Add("a\nb\nc\n", "a\nY\nc\n", "a\nT\nc\n", "a\nnew\nc\nd\n")
	f.Add("a\nb\nc\nd\ne\n", "a\nY\nc\nd\nY\n", "a\nT\nc\nd\nT", "x")
	f.Fuzz(func(t *testing.T, base, yours, theirs, edited string) {
		text := merge.Merge3(diff.Lines(base), diff.Lines(yours), diff.Lines(theirs))
		if text.Conflicts() == 0 {
			return
		}
		file := Open(&merge.Conflict{Path: "a.txt", Kind: merge.Content, Subject: &merge.Lines{Text: &text}})
		choose := func(q *Question) Option { return Option{Way: Yours, Text: q.Yours} }
		texts, before := file.Divide(choose, edited)
		if edited == file.Join(choose) {
			assert.Empty(t, texts)
			assert.Equal(t, edited, before)
		}
		// Lines of the result come from the file as it was, or from what was written.
		more := diff.More(diff.Lines(before), diff.Lines(file.Join(choose)))
		written := diff.Lines(edited)
		for l, n := range more {
			if n > 0 {
				assert.True(t, slices.Contains(written, l) || slices.Contains(written, strings.TrimSuffix(l, "\n")), l)
			}
		}
	})
}

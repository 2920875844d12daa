package settle

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestBetterWays(t *testing.T) {
	for _, c := range []struct{ name, path, base, yours, theirs, way, want string }{
		{"in order", "list.txt", "apple/cherry/plum", "apple/banana/cherry/plum", "apple/apricot/cherry/plum", "sorted", "apple/apricot/banana/cherry/plum"},
		{"in order, one the same", "list.txt", "apple/cherry", "apple/banana/cherry", "apple/apricot/banana/cherry", "", ""},
		{"in order but for case", "list.txt", "Apple/cherry", "Apple/Berry/cherry", "Apple/avocado/cherry", "sorted", "Apple/avocado/Berry/cherry"},
		{"not in order", "list.txt", "plum/cherry/apple", "plum/banana/cherry/apple", "plum/apricot/cherry/apple", "", ""},
		{"at the end of a list", "list.txt", "apple/cherry//text", "apple/cherry/plum//text", "apple/cherry/fig//text", "", ""},

		{"imports of Go", "a.go", "package a//import (/\t\"fmt\"/)//", "package a//import (/\t\"fmt\"/\t\"os\"/)//", "package a//import (/\t\"fmt\"/\t\"io\"/)//", "weave",
			"package a//import (/\t\"fmt\"/\t\"io\"/\t\"os\"/)//"},
		{"one removed, one added", "a.py", "import b/import a", "import a", "import b/import c/import a", "weave", "import c/import a"},
		{"no imports", "a.py", "b/a", "a", "b/c/a", "", ""},
		{"ignored patterns", ".gitignore", "bin", "bin/*.o", "bin/*.a", "weave", "bin/*.a/*.o"},
		{"patterns that take back", ".gitignore", "bin", "bin/!x", "bin/*.a", "", ""},

		{"indented against an edit", "a.c", "one();/two();/three();", "if (x) {/  one();/  two();/  three();/}", "one();/TWO();/three();", "", ""},
		{"only indented", "a.c", "one();/two();/three();", "\tone();/\ttwo();/\tthree();", "one();/TWO();/more();/three();", "weave", "\tone();/\tTWO();/\tmore();/\tthree();"},
		{"tabs for blanks, deeper", "a.c", "  if (x)/    y();", "\tif (x)/\t\ty();", "  if (x) {/    y();/      z();/  }", "weave", "\tif (x) {/\t\ty();/\t\t  z();/\t}"},
		{"they indented", "a.c", "a/b/c", "a/B/c", "  a/  b/  c", "weave", "  a/  B/  c"},
		{"both indented", "a.c", "a/b", " a/ b", "  a/  b", "", ""},

		{"members at the end", "a.json", "{/  \"a\": 1/}", "{/  \"a\": 1,/  \"b\": 2/}", "{/  \"a\": 1,/  \"c\": 3/}", "weave", "{/  \"a\": 1,/  \"c\": 3,/  \"b\": 2/}"},
		{"members in the middle", "a.json", "{/  \"a\": 1,/  \"z\": 1/}", "{/  \"a\": 1,/  \"b\": {/    \"x\": 2/  },/  \"z\": 1/}", "{/  \"a\": 1,/  \"c\": [/    3/  ],/  \"z\": 1/}", "weave",
			"{/  \"a\": 1,/  \"c\": [/    3/  ],/  \"b\": {/    \"x\": 2/  },/  \"z\": 1/}"},
		{"the same member twice", "a.json", "{/  \"a\": 1/}", "{/  \"a\": 1,/  \"b\": 2/}", "{/  \"a\": 1,/  \"b\": 3/}", "", ""},
	} {
		text := func(s string) string { return strings.ReplaceAll(s, "/", "\n") + "\n" }
		f := conflictOf(t, c.path, text(c.base), text(c.yours), text(c.theirs))
		q := f.Conflicts[0]
		at := place{path: c.path}
		if lo := q.Place.Base.Lo; lo > 0 {
			at.before = f.Text.Base[lo-1]
		}
		if hi := q.Place.Base.Hi; hi < len(f.Text.Base) {
			at.after = f.Text.Base[hi]
		}
		way, _, reason, ok := q.better(at)
		assert.Equal(t, c.way, string(way), c.name)
		if !ok {
			continue
		}
		assert.NotEmpty(t, reason, c.name)
		assert.Equal(t, way, q.Suggested, c.name)
		o, ok := q.Option(way)
		assert.True(t, ok, c.name)
		assert.Equal(t, text(c.want), f.Join(func(*Conflict) string { return o.Text }), c.name)
	}
}

// FuzzBetter holds that what is offered never leaves out a word that a side added
// alone, whatever the texts are.
func FuzzBetter(f *testing.F) {
	f.Add("a.json", "{\n\"a\": 1\n}\n", "{\n\"a\": 1,\n\"b\": 2\n}\n", "{\n\"a\": 1,\n\"c\": 2\n}\n")
	f.Add("a.go", "\"b\"\n", "\"b\"\n\"a\"\n", "\"c\"\n\"b\"\n")
	f.Add("a.c", "a\n b\n", "  a\n   b\n", "a\n b\nc\n")
	f.Fuzz(func(t *testing.T, path, base, yours, theirs string) {
		c := &Conflict{Base: base, Yours: yours, Theirs: theirs}
		way, text, reason, ok := c.better(place{path, "a\n", "z\n"})
		if !ok {
			return
		}
		assert.NotEmpty(t, way)
		assert.NotEmpty(t, reason)
		for _, side := range []string{yours, theirs} {
			for _, w := range strings.Fields(side) {
				w = strings.Trim(w, ",")
				if !strings.Contains(base, w) {
					assert.Contains(t, text, w)
				}
			}
		}
	})
}

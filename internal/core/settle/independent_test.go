package settle

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What two edits share is told, and what separates them is enough.
func TestIndependent(t *testing.T) {
	for _, c := range []struct{ path, base, yours, theirs, why string }{
		{"a.go", "x := a + b\n", "x := a + c\n", "x := d + b\n", "one expression"},
		{"a.go", "x := a + b\n", "y := a + b\n", "x := d + b\n", ""},
		{"a.go", "x := f(a, b)\n", "x := f(c, b)\n", "x := f(a, d)\n", "one call or list"},
		{"a.py", "x = f(a=1, b=2)\n", "x = f(a=3, b=2)\n", "x = f(a=1, b=4)\n", ""},
		{"a.go", "x := \"a b\"\n", "x := \"c b\"\n", "x := \"a d\"\n", "one value"},
		{"a.md", "We sail at noon.\n", "They sail at noon.\n", "We sail at one.\n", "one sentence"},
		{"a.md", "We sail. You wait.\n", "They sail. You wait.\n", "We sail. You stay.\n", ""},
		{"a.csv", "a,b,c\n", "d,b,c\n", "a,b,e\n", "one row"},
		{"a.py", "x = 3  # 3 ships\n", "x = 4  # 3 ships\n", "x = 3  # 3 boats\n",
			"one value and the comment about it"},
		{"a.py", "x = 3  # ships\n", "x = 4  # ships\n", "x = 3  # boats\n", ""},
		{"a.go", "return a(b)\n", "return w(a(b), 1)\n", "return a(c)\n", ""},
		{"a.sql", "SELECT a FROM b WHERE c = 1;\n", "SELECT d FROM b WHERE c = 1;\n",
			"SELECT a FROM b WHERE c = 2;\n", ""},
		{"a.sql", "SELECT a FROM b WHERE c = 1 AND e = 2;\n", "SELECT a FROM b WHERE c = 3 AND e = 2;\n",
			"SELECT a FROM b WHERE c = 1 AND e = 4;\n", "one expression"},
	} {
		q := &Question{Path: c.path, Base: c.base, Yours: c.yours, Theirs: c.theirs}
		_, _, why, ok := place{path: c.path, atoms: inAtoms(q.Base, q.Yours, q.Theirs)}.independent()
		assert.Equal(t, c.why, why, c.base)
		assert.Equal(t, c.why == "", ok, c.base)
	}
}

// FuzzIndependent holds that any texts are read, and that neither side is preferred.
func FuzzIndependent(f *testing.F) {
	for _, s := range []string{"x := f(a, \"b\") // 3", "<a b='c'>", "a: [1, {b: 'c'}]", "it's (", "SELECT a, 'b"} {
		f.Add("a.go", s, s+" x", "y "+s)
	}
	f.Fuzz(func(t *testing.T, path, base, yours, theirs string) {
		_, _, why, ok := place{path: path, atoms: inAtoms(base, yours, theirs)}.independent()
		_, _, _, turned := place{path: path, atoms: inAtoms(base, theirs, yours)}.independent()
		assert.Equal(t, ok, turned)
		assert.Equal(t, ok, why == "")
	})
}

// TestTheListAroundIsFound: what the lines are in is told by where they are, not by the first line that reads like
// the one before them.
func TestTheListAroundIsFound(t *testing.T) {
	for list, suggested := range map[string]bool{"names": true, "middlewares": false} {
		file := func(added string) string {
			return "const others = [\n  'a',\n];\n\nconst " + list + " = [\n  'a'," + added + "\n];\n"
		}
		f := conflictOf(t, "list.js", file(""), file("\n  'mine',"), file("\n  'theirs',"))
		assert.Equal(t, suggested, f.Questions[0].Suggested != "", list)
	}
}

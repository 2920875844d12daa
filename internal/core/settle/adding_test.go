package settle

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAtoms(t *testing.T) {
	for text, want := range map[string]string{
		"a = 1.4.10":          "a| |=| |1.4.10",
		"2024-03-01T08:30":    "2024-03-01T08:30",
		"host 10.0.0.1:80/24": "host| |10.0.0.1:80/24",
		"a.b - 1":             "a|.|b| |-| |1",
		"i-1 rc-1":            "i|-|1| |rc-1",
		"x@v3":                "x|@|v3",
		"f(a, b)":             "f|(|a|,| |b|)",
		"":                    "",
	} {
		assert.Equal(t, want, strings.Join(Atoms(text), "|"))
	}
}

func TestVersionsAreCompared(t *testing.T) {
	order := []string{"0.9", "1.0.0-alpha", "1.0.0-alpha.1", "1.0.0-alpha.beta", "1.0.0-beta.2", "1.0.0-beta.11",
		"1.0.0-rc.1", "1.0.0", "1.0.0.1", "v1.2.3", "1.10.0+build"}
	for i, a := range order {
		for k, b := range order {
			got := compareVersions(a, b)
			assert.Equal(t, i < k, got < 0, "%s %s", a, b)
			assert.Equal(t, i == k, got == 0, "%s %s", a, b)
		}
	}
}

// TestDoubts says why two additions are not suggested to stand side by side.
func TestDoubts(t *testing.T) {
	for _, c := range []struct{ path, base, yours, theirs, doubt string }{
		{"a.py", "a()\n", "a()\nx = 1\n", "a()\nx = 2\n", "both name x"},
		{"a.py", "def f():\n    a()\n", "def f():\n    a()\n    return 1\n", "def f():\n    a()\n    return 2\n",
			"both end it"},
		{"hours.txt", "", "from 8 to 17\n", "from 7 to 18\n", "both added one line, with other numbers"},
		{"hours.txt", "ship 4 leaves at 9\n", "ship 4 leaves at 9\nship 5 leaves at 10\n",
			"ship 4 leaves at 9\nship 7 leaves at 11\n",
			"their order may matter"},
		{"order.txt", "0001_init\n", "0001_init\n0002_piers\n", "0001_init\n0002_slips\n", "both took the number 0002"},
		{"times.md", "| 6:00 | Eid |\n", "| 6:00 | Eid |\n| 7:00 | Brae |\n", "| 6:00 | Eid |\n| 7:00 | Holm |\n",
			"both name 7:00"},
		{"a.go", "package x\n", "package x\n\nfunc (t *T) Go() {\n}\n", "package x\n\nfunc (t T) Go(n int) {\n}\n",
			"both name T.Go"},
		{"a.go", "package x\n", "package x\n\nfunc (t *T) Go() {\n}\n", "package x\n\nfunc (t *S) Go(n int) {\n}\n",
			""},
	} {
		q := conflictOf(t, c.path, c.base, c.yours, c.theirs).Questions[0]
		if c.doubt == "" {
			assert.Equal(t, TheirsYours, q.Suggested)
			continue
		}
		assert.Empty(t, q.Suggested, c.yours)
		assert.Contains(t, q.Doubt, c.doubt)
	}
}

// TestOneThought asks about places that nothing but signs stands between as one, unless each has its
// suggestion.
func TestOneThought(t *testing.T) {
	f := conflictOf(t, "a.js", "a(1);\n\nb(1);\n", "a(2);\n\nb(2);\n", "a(3);\n\nb(3);\n")
	assert.Len(t, f.Questions, 1)
	assert.Equal(t, "a(2);\n\nb(2);\n", f.Questions[0].Yours)
	f = conflictOf(t, "a.js", "a(1);\nz();\nb(1);\n", "a(2);\nz();\nb(2);\n", "a(3);\nz();\nb(3);\n")
	assert.Len(t, f.Questions, 2, "there is a word between")
	f = conflictOf(t, "a.env", "A=1 B=1\n\nA=2 B=2\n", "A=3 B=1\n\nA=4 B=2\n", "A=1 B=5\n\nA=2 B=6\n")
	for _, q := range f.Questions {
		assert.NotEmpty(t, q.Suggested)
	}
}

package settle

import (
	"testing"

	"dorvik.dev/dorvik/internal/core/diff"

	"github.com/stretchr/testify/assert"
)

func TestAround(t *testing.T) {
	for _, c := range []struct {
		file, text string
		at         int
		want       string
	}{
		{"a.md", "# A\n\nx\n## B\n\ny\n", 5, "B"},
		{"a.md", "x\n", 0, ""},
		{"a.ini", "[a]\nx=1\n[b]\ny=2\n", 3, "b"},
		{"a.yaml", "a:\n  b:\n    c: 1\n    d: 2\n", 3, "b"},
		{"a.json", "{\n  \"deps\": {\n    \"x\": 1\n  }\n}\n", 2, "\"deps\""},
		{"a.css", ".pier {\n  color: red;\n}\n", 1, ".pier"},
		{"a.py", "class A:\n    def b(self):\n        if x:\n            y()\n", 3, "def b(self)"},
		{"a.py", "x = 1\n", 0, ""},
		{"a.ts", "export function f(a: number) {\n  const b = 1;\n}\n", 1, "export function f(a: number)"},
		{"A.java", "class A {\n    void a(int b) {\n        x();\n    }\n}\n", 2, "void a(int b)"},
		{"a.rs", "impl A {\n    fn b() {\n        c();\n    }\n}\n", 2, "fn b()"},
		{"a.test.js", "describe('x', () => {\n  it('y', () => {\n    z();\n  });\n});\n", 2, "it('y', () =>"},
		{"a.txt", "a(b) {\n  c\n", 1, ""},
		{"a.py", "", 0, ""},
	} {
		assert.Equal(t, c.want, Around(c.file, diff.Lines(c.text), c.at), "%s %q", c.file, c.text)
	}
}

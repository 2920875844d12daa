package format

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/stretchr/testify/assert"

	"dorvik.dev/dorvik/internal/core/lang"
)

func TestBrackets(t *testing.T) {
	for _, c := range []struct{ file, text, want string }{
		{"a.js", "f(`a ( ${b}`); // (\nlet x = '(' /* [ */;\n", ""},
		{"a.js", "f(a;\n", "line 1: ( is not closed"},
		{"a.ts", "f(a));\n", "line 1: ) closes nothing"},
		{"a.java", "f(\"\"\"\n  ( \"\n\"\"\");\nchar c = '(';\n", ""},
		{"a.kt", "f(a]\n", "line 1: ( is closed by ]"},
		{"a.c", "#define A (1)\nchar c = '\\'';\nint f() {\n}\n", ""},
		{"a.c", "int f() {\n", "line 1: { is not closed"},
		{"a.rs", "fn f<'a>(x: &'a str) -> char { '(' }\n", ""},
		{"a.rs", "fn f(x: char) { match x { '\\u{28}' => (), _ => () }\n", "line 1: { is not closed"},
		{"a.php", "<?php # (\n$a = \"one\n ( two\"; f($a);\n", ""},
		{"a.py", "def f(a):\n    '''(\n    '''\n    return [a]  # )\n", ""},
		{"a.py", "def f(a):\nreturn a\n", "line 1: nothing is in this block"},
		{"a.py", "if a:\n    # why\n    f()\nelse:\n", "line 4: nothing is in this block"},
		{"a.sql", "INSERT INTO a VALUES ('it''s (', 1); -- (\n", ""},
		{"a.css", ".a { content: \"}\"; } /* { */\n", ""},
		{"a.css", ".a { top: 0;\n", "line 1: { is not closed"},
		{"a.tf", "a { # (\n  b = \"(\"\n}\n", ""},
		{"a.md", "(", ""},
	} {
		assert.Equal(t, c.want, ProblemOfBrackets(c.file, c.text), "%s: %s", c.file, c.text)
	}
	for l := range scanned {
		assert.Nil(t, grammars[l].problem, "%s has a reader", l.Name)
	}
	assert.True(t, Scans("a.py"))
	assert.False(t, Scans("a.go"))
}

// FuzzBrackets holds that every text is read to its end, and that a problem is in a line of it.
func FuzzBrackets(f *testing.F) {
	for _, s := range []string{"'\\", "\"\"\"", "`${(}`", "/* *", "'a", "if a:", "--'"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, l := range []*lang.Language{lang.Python, lang.Rust, lang.PHP, lang.SQL, lang.Java, lang.TypeScript} {
			problem, line := scanned[l].brackets(text), 0
			if problem == "" {
				continue
			}
			_, err := fmt.Sscanf(problem, "line %d: ", &line)
			require.NoError(t, err, problem)
			assert.True(t, line > 0 && line <= strings.Count(text, "\n")+1, problem)
		}
	})
}

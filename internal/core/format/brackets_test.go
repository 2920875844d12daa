package format

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/stretchr/testify/assert"
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
		{"a.rb", "class A\n  def b = 1\n  def c(x)\n    x.each do |y|\n      puts y if y\n    end\n  end\nend\n", ""},
		{"a.rb", "def a\n  x = if b\n    1\n  end\n", "line 1: def does not end"},
		{"a.rb", "def a\nend\nend\n", "line 3: end ends nothing"},
		{"a.rb", "x = <<~SQL\n  if\nSQL\n", ""},
		{"a.lua", "function a()\n  if b then\n    c()\n  end\nend\n", ""},
		{"a.lua", "if b then\n  c()\n", "line 1: if does not end"},
		{"a.sh", "if a; then b; fi\nfor x in y; do\n  case $x in\n  a) ;;\n  esac\ndone\nf() {\n  g\n}\n", ""},
		{"a.sh", "if a; then\n  b\ndone\n", "line 3: done ends nothing"},
		{"a.sh", "while a\ndo\n  b\n", "line 2: do does not end"},
		{"Makefile", "ifdef A\nb:\n\tc\nendif\n", ""},
		{"Makefile", "ifeq ($(A),1)\nb:\n\tc\n", "line 1: ifeq does not end"},
		{"CMakeLists.txt", "if(A)\n  foreach(x y)\n  endforeach()\nendif()\n", ""},
		{"CMakeLists.txt", "function(a)\nendif()\n", "line 2: endif() ends nothing"},
		{"Dockerfile", "# syntax\nARG V=1\nFROM a:$V AS b\nRUN x && \\\n    # why\n    y\nCOPY <<EOF /z\nnot one\nEOF\n", ""},
		{"Dockerfile", "FROM a\nRUN x\n    y\n", "line 3: y is no instruction"},
		{"Dockerfile", "RUN x\nFROM a\n", "line 1: RUN stands before FROM"},
		{"Dockerfile", "FROM a\nRUN x \\\n", "line 2: it goes on, and nothing follows"},
		{"Dockerfile", "# escape=`\nRUN x `\n  y\n", ""},
		{"a.html", "<ul>\n<li>a\n<!-- <b> -->\n<img src=\"x>y\">\n</ul>\n<script>if (a<b) {}</script>\n<br/>", ""},
		{"a.html", "<div>\n<span>a</div>\n", "line 2: span is ended by div"},
		{"a.vue", "<template><p>{{ a > b }}</p>\n", "line 1: template does not end"},
		{"a.j2", "{% if a %}\n<b>{{ a }}</b>\n", "line 1: if does not end"},
		{"a.ipynb", "{}", ""},
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
		for _, name := range []string{"a.py", "a.rs", "a.php", "a.sql", "a.java", "a.ts", "a.rb", "a.sh", "a.lua",
			"a.html"} {
			problem, line := ProblemOfBrackets(name, text), 0
			if problem == "" {
				continue
			}
			_, err := fmt.Sscanf(problem, "line %d: ", &line)
			require.NoError(t, err, problem)
			assert.True(t, line > 0 && line <= strings.Count(text, "\n")+1, problem)
		}
	})
}

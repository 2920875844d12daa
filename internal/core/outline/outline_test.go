package outline

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCut(t *testing.T) {
	for text, want := range map[string]string{
		"":            "",
		"package p\n": "",
		"package p\n\nimport \"x\"\n\nvar a, b = 1, 2\n":       "2 import [] / 4 var [a b]",
		"func f() {\n\tg()\n}\n\n// of g\nfunc g() {}\n":       "0+3 func [f] / 5 func [g]",
		"func (s *T[K, V]) do() {\n}\nfunc (T) of() {}\n":      "0+2 func [T] .do / 2 func [T] .of",
		"func of[T any](t T) {}\n":                             "0 func [of]",
		"type (\n\tA int\n\n\tB struct {\n\t\tc int\n\t}\n)\n": "0+7 type [A B]",
		"const (\n\tx = iota\n\ty\n)\nvar _ I = T{}":           "0+4 const [x y] / 4 var [_]",
		"type t struct {\n\ta int\n}\n// the end\n\n":          "0+3 type [t]",
		"package p\nfunction()\nvariable = 1\ntype\n":          "",
		"var s = `\nfunc f() {}\n`\n":                          "0 var [s] / 1+2 func [f]", // cut in the wrong place
		"func f(\n\ta int,\n) {\n}\r\nvar é = 1\r\n":           "0+4 func [f] / 4 var [é]",
		"import (\n\t\"a\"\n)\n":                               "0+3 import []",
	} {
		_, decls := Cut(text)
		var got []string
		for _, d := range decls {
			s := fmt.Sprint(d.Line)
			if d.Lines > 1 {
				s += fmt.Sprintf("+%d", d.Lines)
			}
			s += fmt.Sprintf(" %s %v", d.Token, d.Names)
			if d.Method != "" {
				s += " ." + d.Method
			}
			got = append(got, s)
			lines := strings.SplitAfter(text, "\n")
			assert.Equal(t, strings.Join(lines[d.Line:d.Line+d.Lines], ""), d.Text, text)
		}
		assert.Equal(t, want, strings.Join(got, " / "), text)
	}
}

// TestCutAsTheParserDoes holds that the declarations of this module are cut where the parser finds them.
func TestCutAsTheParserDoes(t *testing.T) {
	files, err := filepath.Glob("../../*/*.go")
	require.NoError(t, err)
	for _, name := range files {
		data, err := os.ReadFile(name)
		require.NoError(t, err)
		fset := token.NewFileSet()
		f, err := parser.ParseFile(fset, "", data, parser.SkipObjectResolution)
		require.NoError(t, err)
		var want, got []string
		for _, d := range f.Decls {
			method := ""
			if fn, ok := d.(*ast.FuncDecl); ok && fn.Recv != nil {
				method = fn.Name.Name
			}
			want = append(want, fmt.Sprint(fset.Position(d.Pos()).Line, fset.Position(d.End()).Line, method))
		}
		_, decls := Cut(string(data))
		for _, d := range decls {
			got = append(got, fmt.Sprint(d.Line+1, d.Line+d.Lines, d.Method))
		}
		if !strings.Contains(string(data), "`\nfunc ") && !strings.Contains(string(data), "\nimport ") {
			assert.Equal(t, want, got, name)
		}
	}
}

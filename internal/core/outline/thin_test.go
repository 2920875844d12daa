package outline

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestThin(t *testing.T) {
	never := func(int, int) bool { return false }
	for text, want := range map[string]string{
		"func f() int {\n\treturn 1\n}\n":             "func f() int { for {}\n\n}\n",
		"func f() { // so\n\tg()\n}\nvar x = 1\n":     "func f() { for {}\n\n}\nvar x = 1\n",
		"func f(\n\ta int,\n) int {\n\treturn 1\n}\n": "func f(\n\ta int,\n) int { for {}\n\n}\n",
		"func f() {}\n": "func f() {}\n",
		"var x = []int{ // 2 of them\n\t1,\n\t2,\n}\n":        "var x = []int{\n\n\n}\n",
		"var x = struct {\n\ta int\n}{\n\t1,\n}\n":            "var x = struct {\n\ta int\n}{\n\t1,\n}\n",
		"func f() {\n\t_ = `\n}\n`\n}\n":                      "func f() { for {}\n\n}\n`\n}\n", // parses no more
		"type t struct {\n\ta int\n}\n":                       "type t struct {\n\ta int\n}\n",
		"func f() {\n\tg()\n":                                 "func f() {\n\tg()\n",
		"func f() {\nL:\n\tgoto L\n}\n":                       "func f() { for {}\n\n\n}\n",
		"func f() interface {\n\tm()\n} {\n\treturn nil\n}\n": "func f() interface {\n\tm()\n} {\n\treturn nil\n}\n",
	} {
		assert.Equal(t, want, Thin(text, never), text)
		assert.Equal(t, text, Thin(text, func(int, int) bool { return true }))
	}
}

// TestThinLeavesDeclarations: where a text still parses, all that it declares stands where it stood.
func TestThinLeavesDeclarations(t *testing.T) {
	files, err := filepath.Glob("../../*/*.go")
	require.NoError(t, err)
	thinned := 0
	for _, name := range files {
		data, err := os.ReadFile(name)
		require.NoError(t, err)
		declared := func(text string) (out []string) {
			fset := token.NewFileSet()
			f, err := parser.ParseFile(fset, "", text, parser.SkipObjectResolution)
			if err != nil {
				return nil
			}
			for _, d := range f.Decls {
				at := fmt.Sprint(fset.Position(d.Pos()).Line)
				if d, ok := d.(*ast.FuncDecl); ok {
					at += " " + d.Name.Name
				}
				out = append(out, at)
			}
			return out
		}
		if now := declared(Thin(string(data), func(int, int) bool { return false })); now != nil {
			thinned++
			assert.Equal(t, declared(string(data)), now, name)
		}
	}
	assert.Greater(t, thinned, len(files)*9/10)
}

package rx

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEveryExpressionIsValid: a wrong one would be noticed at its first use only. Each is a constant in the source.
func TestEveryExpressionIsValid(t *testing.T) {
	n := 0
	require.NoError(t, filepath.WalkDir("../..", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		constants := map[string]ast.Expr{}
		ast.Inspect(file, func(node ast.Node) bool {
			if v, ok := node.(*ast.ValueSpec); ok && len(v.Values) == len(v.Names) {
				for i, name := range v.Names {
					constants[name.Name] = v.Values[i]
				}
			}
			call, ok := node.(*ast.CallExpr)
			if !ok || !makes(call.Fun) {
				return true
			}
			for _, arg := range call.Args {
				if name, ok := arg.(*ast.Ident); ok && name.Name == "s" {
					continue // of exprs, whose arguments are looked at
				}
				expr, constant := text(arg, constants)
				assert.True(t, constant, "%s has an expression that is no constant", path)
				_, err := regexp.Compile(expr)
				assert.NoError(t, err, path)
				n++
			}
			return true
		})
		return nil
	}))
	assert.Greater(t, n, 100)
	assert.Panics(t, func() { New("(").MatchString("") })
}

// makes reports whether a function makes expressions.
func makes(f ast.Expr) bool {
	switch f := f.(type) {
	case *ast.SelectorExpr:
		from, ok := f.X.(*ast.Ident)
		return ok && from.Name == "rx" && f.Sel.Name == "New"
	case *ast.Ident:
		return f.Name == "exprs"
	}
	return false
}

// text is a constant text.
func text(e ast.Expr, constants map[string]ast.Expr) (string, bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		s, err := strconv.Unquote(e.Value)
		return s, err == nil
	case *ast.Ident:
		return text(constants[e.Name], constants)
	case *ast.BinaryExpr:
		left, ok := text(e.X, constants)
		right, also := text(e.Y, constants)
		return left + right, ok && also && e.Op == token.ADD
	}
	return "", false
}

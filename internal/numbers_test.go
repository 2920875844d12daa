package internal

import (
	"flag"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/go/ast/astutil"
)

var update = flag.Bool("update", false, "write the sentences with numbers anew")

// TestSentencesWithNumbers prints every sentence of the program that has a
// number, with 0, 1 and 2, as testdata/numbers.txt. What is new there is to be
// read before it is committed: whether each could be so, and is English.
func TestSentencesWithNumbers(t *testing.T) {
	var out strings.Builder
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		if all := sentences(file); len(all) > 0 {
			out.WriteString("# " + filepath.ToSlash(path) + "\n\n")
			for _, three := range all {
				out.WriteString(strings.Join(three[:], "\n") + "\n\n")
			}
		}
		return nil
	}))
	const golden = "testdata/numbers.txt"
	if *update {
		require.NoError(t, os.WriteFile(golden, []byte(out.String()), 0o644))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	assert.Equal(t, string(want), out.String(), "read what has changed, then go test ./internal -run Numbers -update")
	assert.Empty(t, wrong.FindAllString(out.String(), -1))
}

// wrong is what no number goes with.
var wrong = regexp.MustCompile(`(?m)` +
	`\b1 [a-z]+ (are|were|have)\b.*$|\b[02] [a-z]+ (is|was|has)\b.*$|` +
	`\b[02] (commit|file|line|place|conflict|branch|decision|edit)\b.*$`)

// sentences are those of a file that have a number, each with 0, 1 and 2.
func sentences(file *ast.File) (out [][3]string) {
	astutil.Apply(file, func(c *astutil.Cursor) bool {
		e, ok := c.Node().(ast.Expr)
		if !ok || !hasNumber(e) {
			return true
		}
		switch e.(type) {
		case *ast.BinaryExpr, *ast.CallExpr:
		default:
			return true
		}
		var three [3]string
		for n := range three {
			three[n] = strings.TrimSpace(counted{n}.text(e))
		}
		if worded.MatchString(three[1]) && !slices.Contains(out, three) {
			out = append(out, three)
		}
		return false // what is within it is told with it
	}, nil)
	return out
}

// hasNumber reports whether a number is told within an expression, functions in it apart.
func hasNumber(e ast.Expr) (has bool) {
	ast.Inspect(e, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.FuncLit:
			return false
		case *ast.CallExpr:
			has = has || slices.Contains([]string{"words.Count", "words.Is", "plural"}, called(n))
		case *ast.BasicLit:
			has = has || n.Kind == token.STRING && strings.Contains(n.Value, "%d ")
		}
		return !has
	})
	return has
}

func called(c *ast.CallExpr) string {
	switch f := c.Fun.(type) {
	case *ast.Ident:
		return f.Name
	case *ast.SelectorExpr:
		if x, ok := f.X.(*ast.Ident); ok && x.Name == "words" {
			return "words." + f.Sel.Name
		}
		return f.Sel.Name
	}
	return ""
}

// counted renders expressions where every number is n.
type counted struct{ n int }

// worded is a text with words in it, not only numbers and signs.
var worded = regexp.MustCompile(`[a-z]{2}( |$)`)

var verb = regexp.MustCompile(`%[-+# 0]*[\d*]*(\.\d+)?[a-zA-Z%]`)

// text is what an expression says; what is only known when the program runs is its name in ‹›.
func (c counted) text(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.BasicLit:
		s, err := strconv.Unquote(e.Value)
		if err != nil {
			return e.Value
		}
		return s
	case *ast.ParenExpr:
		return c.text(e.X)
	case *ast.BinaryExpr:
		return c.text(e.X) + c.text(e.Y)
	case *ast.Ident:
		return "‹" + e.Name + "›"
	case *ast.SelectorExpr:
		return "‹" + e.Sel.Name + "›"
	case *ast.CallExpr:
		return c.call(e)
	}
	return "‹›"
}

func (c counted) call(e *ast.CallExpr) string {
	args := e.Args
	switch name := called(e); {
	case name == "words.Count" && len(args) == 3:
		return strconv.Itoa(c.n) + " " + c.pick(args[1], args[2])
	case name == "plural" && len(args) == 2:
		return strconv.Itoa(c.n) + " " + c.text(args[1]) + map[bool]string{false: "s"}[c.n == 1]
	case name == "words.Is" && len(args) == 3:
		return c.pick(args[1], args[2])
	case name == "words.If" && len(args) == 3:
		return "{" + c.text(args[1]) + "|" + c.text(args[2]) + "}"
	case !hasText(e):
		return "‹" + name + "›"
	}
	var parts []string
	if f, ok := e.Fun.(*ast.SelectorExpr); ok && hasText(f.X) {
		parts = append(parts, c.text(f.X))
	}
	for i, a := range args {
		switch {
		case isFormat(a):
			parts = append(parts, c.format(c.text(a), args[i+1:]))
			return strings.Join(parts, "")
		case hasText(a):
			parts = append(parts, c.text(a))
		case called(e) == "add" && i == len(args)-1:
			parts = append(parts, c.text(a))
		}
	}
	return strings.Join(parts, "")
}

// format fills a format with arguments.
func (c counted) format(format string, args []ast.Expr) string {
	return verb.ReplaceAllStringFunc(format, func(v string) string {
		if v == "%%" {
			return "%"
		}
		if len(args) == 0 {
			return "‹›"
		}
		arg := args[0]
		args = args[1:]
		if strings.HasSuffix(v, "d") {
			return strconv.Itoa(c.n)
		}
		return c.text(arg)
	})
}

func (c counted) pick(one, many ast.Expr) string {
	if c.n == 1 {
		return c.text(one)
	}
	return c.text(many)
}

// isFormat reports whether an expression is a constant text with verbs in it.
func isFormat(e ast.Expr) bool {
	switch e := e.(type) {
	case *ast.BasicLit:
		return verb.MatchString(e.Value)
	case *ast.BinaryExpr:
		_, isText := e.Y.(*ast.BasicLit)
		return isText && (isFormat(e.X) || isFormat(e.Y))
	}
	return false
}

// hasText reports whether an expression has a text of its own in it, functions in it apart.
func hasText(e ast.Expr) (has bool) {
	ast.Inspect(e, func(n ast.Node) bool {
		if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING {
			has = true
		}
		_, isFunc := n.(*ast.FuncLit)
		return !has && !isFunc
	})
	return has
}

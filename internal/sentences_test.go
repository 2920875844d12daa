package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/go/ast/astutil"
)

// TestSentences prints every sentence that the program can say as testdata/sentences.txt. What is new there is to be
// read before it is committed: can a stranger read it once?
func TestSentences(t *testing.T) {
	var out strings.Builder
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			strings.HasSuffix(filepath.Dir(path), "test") || strings.HasPrefix(path, filepath.Join("demo", "longer")) ||
			strings.HasPrefix(path, filepath.Join("demo", "scenario")) {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		if all := spoken(file); len(all) > 0 {
			out.WriteString("# " + filepath.ToSlash(path) + "\n" + strings.Join(all, "\n") + "\n\n")
		}
		return nil
	}))
	const golden = "testdata/sentences.txt"
	if *update {
		require.NoError(t, os.WriteFile(golden, []byte(out.String()), 0o644))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	assert.Equal(t, string(want), out.String(), "read what has changed, then go test ./internal -run Sentences -update")
	for _, line := range strings.Split(out.String(), "\n") {
		assert.Empty(t, winding.FindString(line), line)
	}
}

// winding are turns of phrase that a stranger stops at.
var winding = regexp.MustCompile(`(?i)\b(any more\b|have it so|as things are\b|is it told|none is better)`)

// saying is a text that a person reads: three words or more, and no command, pattern or format.
var saying = regexp.MustCompile(`^[^\\^$]*[A-Za-z,.;:”’)›}]+ [^\\^$]*[a-z›}]+ [^\\^$]*$`)

// spoken returns the sentences of a file, each once.
func spoken(file *ast.File) (out []string) {
	astutil.Apply(file, func(c *astutil.Cursor) bool {
		switch n := c.Node().(type) {
		case *ast.ImportSpec, *ast.Field:
			return false
		case *ast.CallExpr:
			switch called(n) { // not said to anybody
			case "New", "exprs", "run", "runIn", "FieldsSeq", "panic", "HasPrefix", "Contains", "CutPrefix", "TrimPrefix":
				return false
			}
			if !slices.ContainsFunc(n.Args, isFormat) {
				return true
			}
		case *ast.BinaryExpr:
			if n.Op != token.ADD || !hasText(n) {
				return true
			}
		case *ast.BasicLit:
			if n.Kind != token.STRING {
				return false
			}
		default:
			return true
		}
		text := strings.Join(strings.Fields(counted{2}.text(c.Node().(ast.Expr))), " ")
		if saying.MatchString(text) && !verb.MatchString(text) && !slices.Contains(out, text) {
			out = append(out, text)
		}
		_, call := c.Node().(*ast.CallExpr)
		return call // what is put into a format may be a sentence, too
	}, nil)
	return out
}

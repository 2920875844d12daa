package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/draw"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// TestEveryKindHasARow walks the constants of each type that has a table. use reads all that the table says of one; it
// panics, or returns nothing, where there is no row. Where docs is set, the document has a row for each.
func TestEveryKindHasARow(t *testing.T) {
	for _, table := range []struct {
		file, typ string
		use       func(name string) []string
		docs      string
	}{
		{"core/settle/way.go", "Way", func(name string) []string {
			w, err := settle.ParseWay(name)
			if err != nil {
				return nil
			}
			return []string{w.Label(), w.Taking(), w.Made()}
		}, ""},
		{"core/merge/conflict.go", "ConflictKind", func(name string) []string {
			return []string{name, words.HintOf(merge.ConflictKind(name), false)}[:1]
		}, "../docs/engine.md"},
		{"vcs/refusal.go", "RefusalKind", func(name string) []string {
			r := vcs.Refusal{Kind: vcs.RefusalKind(name)}
			return []string{r.Head(), r.Error(), r.Next(), r.Again()}
		}, ""},
		{"draw/file.go", "Kind", func(name string) []string {
			k := draw.Kind(name)
			return append(k.Formats(), k.Shows())
		}, ""},
		{"vcs/unfinished.go", "Verb", func(name string) []string {
			if !vcs.Verb(name).Known() {
				return nil
			}
			return []string{name}
		}, "../docs/half-done.md"},
	} {
		t.Run(table.typ+" of "+table.file, func(t *testing.T) {
			document := ""
			if table.docs != "" {
				data, err := os.ReadFile(table.docs)
				require.NoError(t, err)
				document = string(data)
			}
			names := constants(t, table.file, table.typ)
			require.Greater(t, len(names), 3)
			for _, name := range names {
				var says []string
				require.NotPanics(t, func() { says = table.use(name) }, "%s has no row in its table", name)
				require.NotEmpty(t, says, "%s has no row in its table", name)
				assert.NotContains(t, says, "", name)
				if table.docs != "" {
					assert.Contains(t, document, "`"+name, "%s has no row", table.docs)
				}
			}
			assert.Panics(t, func() { // what is no constant of the type has no row either
				if table.use("no such name") == nil {
					panic("not known")
				}
			})
		})
	}
}

// TestEveryLanguageIsListed: the list of the languages has all that are declared.
func TestEveryLanguageIsListed(t *testing.T) {
	f, err := parser.ParseFile(token.NewFileSet(), "core/lang/lang.go", nil, 0)
	require.NoError(t, err)
	declared := 0
	ast.Inspect(f, func(n ast.Node) bool {
		if s, ok := n.(*ast.ValueSpec); ok && len(s.Values) == 1 && ast.IsExported(s.Names[0].Name) {
			if u, ok := s.Values[0].(*ast.UnaryExpr); ok && u.Op == token.AND {
				declared++
			}
		}
		return true
	})
	assert.Equal(t, declared, len(lang.All), "a language of lang.go is not in All")
}

// constants returns the values of the constants of a type of strings in a file.
func constants(t *testing.T, file, typ string) (values []string) {
	f, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
	require.NoError(t, err)
	ast.Inspect(f, func(n ast.Node) bool {
		if s, ok := n.(*ast.ValueSpec); ok {
			if id, ok := s.Type.(*ast.Ident); ok && id.Name == typ && len(s.Values) == 1 {
				if lit, ok := s.Values[0].(*ast.BasicLit); ok {
					v, err := strconv.Unquote(lit.Value)
					require.NoError(t, err)
					values = append(values, strings.TrimSpace(v))
				}
			}
		}
		return true
	})
	return values
}

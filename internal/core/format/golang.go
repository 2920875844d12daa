package format

import (
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/scanner"
	"go/token"
	"go/types"
	"strings"
)

func goProblem(text string) string {
	fset := token.NewFileSet()
	file, err := parser.ParseFile(fset, "", text, parser.SkipObjectResolution)
	var list scanner.ErrorList
	if errors.As(err, &list) && len(list) > 0 {
		return fmt.Sprintf("line %d: %s", list[0].Pos.Line, list[0].Msg)
	}
	if err != nil {
		return err.Error()
	}
	problem := ""
	conf := types.Config{FakeImportC: true, Error: func(err error) {
		var e types.Error
		if problem != "" || !errors.As(err, &e) {
			return
		}
		line := fset.Position(e.Pos).Line
		if name, ok := strings.CutSuffix(e.Msg, " redeclared in this block"); ok {
			problem = fmt.Sprintf("line %d: %s is declared twice", line, name)
		} else if strings.HasPrefix(e.Msg, "no new variables on left side") {
			problem = fmt.Sprintf("line %d: %s := twice", line, assigned(file, e.Pos))
		}
	}}
	// The checker sees this file alone, so all other errors may be wrong.
	_, _ = conf.Check("joined", fset, []*ast.File{file}, nil)
	return problem
}

// assigned returns the names on the left of the assignment at a position.
func assigned(file *ast.File, pos token.Pos) string {
	names := ""
	ast.Inspect(file, func(n ast.Node) bool {
		if a, ok := n.(*ast.AssignStmt); ok && a.Pos() <= pos && pos <= a.End() {
			names = ""
			for _, l := range a.Lhs {
				if id, ok := l.(*ast.Ident); ok {
					names = strings.TrimPrefix(names+", "+id.Name, ", ")
				}
			}
		}
		return true
	})
	return names
}

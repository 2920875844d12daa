package settle

import (
	"encoding/json"
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/scanner"
	"go/token"
	"go/types"
	"io"
	"path"
	"strings"
)

// HasReader reports whether Problem can read files of this name's language.
func HasReader(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".go", ".json":
		return true
	}
	return false
}

// Problem says what is wrong with a file's text, in a few words with the line;
// empty where nothing is, or where nothing here reads the language. For Go that
// is the grammar, and names declared twice in one scope, which joined texts
// often bring about.
func Problem(name, text string) string {
	switch strings.ToLower(path.Ext(name)) {
	case ".go":
		return goProblem(text)
	case ".json":
		return jsonProblem(text)
	}
	return ""
}

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
	// Only this one file is seen, so all other errors may be no errors at all.
	_, _ = conf.Check("joined", fset, []*ast.File{file}, nil)
	return problem
}

// assigned gives the names on the left of the assignment at a position.
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

func jsonProblem(text string) string {
	dec := json.NewDecoder(strings.NewReader(text))
	var v json.RawMessage
	err := dec.Decode(&v)
	if err == nil {
		if _, err = dec.Token(); errors.Is(err, io.EOF) {
			return ""
		}
		if err == nil {
			err = errors.New("more text after the value")
		}
	}
	offset := dec.InputOffset()
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		offset = syntax.Offset
	}
	line := 1 + strings.Count(text[:min(int(offset), len(text))], "\n")
	return fmt.Sprintf("line %d: %v", line, err)
}

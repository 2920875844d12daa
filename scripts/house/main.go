// Command house counts, from the code itself, what tends to grow in a house nobody tidies:
// long functions, lines and names nobody explains, and knowledge in rooms where it does not
// belong. Its numbers are to fall, or to stay at nought.
//
//	go run ./scripts/house        the counts
//	go run ./scripts/house -v     and where each of them is
//	go run ./scripts/house -none  fails if there are more than are known, or fewer
package main

import (
	"bufio"
	"flag"
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/tools/go/packages"
)

const (
	longFunction = 60  // lines
	longLine     = 120 // columns, with tabs of four
	mostMethods  = 40  // methods of a type
	largestCycle = 8   // files that need each other
)

// What is counted, in the order it is printed.
const (
	functions    = "functions over 60 lines"
	assignments  = "assignments to recovery's state from outside"
	stages       = "switches on the stage outside the table"
	keyNames     = "key strings outside the one table"
	lines        = "lines over 120 columns"
	undocumented = "exported names without a doc"
	crowded      = "types with more than 40 methods"
	cycles       = "cycles of more than 8 files in a package"
	embedded     = "types embedded from another room"
	contexts     = "contexts kept in a struct"
	twins        = "names that differ by case only"
)

// all of them.
var all = []string{functions, assignments, stages, keyNames, lines, undocumented, crowded, cycles, embedded, contexts,
	twins}

// known is how many there still are of what is not at nought. It may only fall.
var known = map[string]int{}

type count struct {
	fset  *token.FileSet
	found map[string][]string
}

func main() {
	verbose := flag.Bool("v", false, "say where")
	none := flag.Bool("none", false, "fail, and say where, if there are more than are known, or fewer")
	flag.Parse()
	c := count{token.NewFileSet(), map[string][]string{}}
	pkgs, err := packages.Load(&packages.Config{
		Fset: c.fset,
		Mode: packages.NeedName | packages.NeedFiles | packages.NeedSyntax | packages.NeedTypes | packages.NeedTypesInfo | packages.NeedImports | packages.NeedDeps,
	}, "./cmd/...", "./internal/...")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	if packages.PrintErrors(pkgs) > 0 {
		os.Exit(1)
	}
	for _, p := range pkgs {
		for i, f := range p.Syntax {
			c.file(p, f)
			c.columns(p.GoFiles[i])
		}
		c.rooms(p)
	}
	any := false
	for _, what := range all {
		fmt.Printf("%5d  %s\n", len(c.found[what]), what)
		other := len(c.found[what]) != known[what]
		any = any || other
		if *verbose || *none && other {
			slices.Sort(c.found[what])
			for _, at := range c.found[what] {
				fmt.Println("         ", at)
			}
		}
	}
	if any && *none {
		os.Exit(1)
	}
}

func (c *count) add(what string, at token.Pos, name string) {
	p := c.fset.Position(at)
	c.found[what] = append(c.found[what], fmt.Sprintf("%s:%d %s", relative(p.Filename), p.Line, name))
}

func relative(path string) string {
	if here, err := os.Getwd(); err == nil {
		if r, err := filepath.Rel(here, path); err == nil {
			return r
		}
	}
	return path
}

func (c *count) columns(path string) {
	f, err := os.Open(path)
	if err != nil {
		return
	}
	defer f.Close()
	in := bufio.NewScanner(f)
	in.Buffer(nil, 1<<20)
	for n := 1; in.Scan(); n++ {
		if len([]rune(strings.ReplaceAll(in.Text(), "\t", "    "))) > longLine {
			c.found[lines] = append(c.found[lines], fmt.Sprintf("%s:%d", relative(path), n))
		}
	}
}

func (c *count) file(p *packages.Package, f *ast.File) {
	inScreens := strings.HasSuffix(p.PkgPath, "/internal/tui")
	inRecovery := strings.HasSuffix(p.PkgPath, "/internal/ledger")
	inKeys := filepath.Base(c.fset.Position(f.Pos()).Filename) == "keys.go"
	for _, d := range f.Decls {
		c.declared(d)
	}
	ast.Inspect(f, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.AssignStmt:
			for _, to := range n.Lhs {
				if at, ok := to.(*ast.SelectorExpr); ok && !inRecovery && ofRecovery(p.TypesInfo, at) {
					c.add(assignments, n.Pos(), types.ExprString(at))
				}
			}
		case *ast.SwitchStmt:
			if inScreens && n.Tag != nil && isStage(p.TypesInfo.TypeOf(n.Tag)) {
				c.add(stages, n.Pos(), "switch "+types.ExprString(n.Tag))
			}
		case *ast.BinaryExpr:
			if inScreens && isStage(p.TypesInfo.TypeOf(n.X)) {
				c.add(stages, n.Pos(), types.ExprString(n))
			}
		case *ast.BasicLit:
			if inScreens && !inKeys && n.Kind == token.STRING && isKey(n.Value) {
				c.add(keyNames, n.Pos(), n.Value)
			}
		}
		return true
	})
}

// ofRecovery reports whether a selector is a field of the ledger's State.
func ofRecovery(info *types.Info, s *ast.SelectorExpr) bool {
	of := info.TypeOf(s.X)
	if of == nil {
		return false
	}
	name := strings.TrimPrefix(of.String(), "*")
	return strings.HasSuffix(name, "/ledger.State")
}

func isStage(t types.Type) bool { return t != nil && strings.HasSuffix(t.String(), "/ledger.Stage") }

// isKey reports whether a literal is the name of a key that does something somewhere.
func isKey(literal string) bool {
	s := strings.Trim(literal, "\"`")
	named := []string{"enter", "esc", "up", "down", "left", "right", "tab", "pgup", "pgdown", "home", "end", "space",
		"backspace", "delete"}
	if slices.Contains(named, s) || strings.HasPrefix(s, "ctrl+") || strings.HasPrefix(s, "alt+") ||
		strings.HasPrefix(s, "shift+") {
		return true
	}
	return len(s) == 1 && (s[0] >= 'a' && s[0] <= 'z' || s[0] == '?' || s[0] == '[' || s[0] == ']')
}

// declared looks at the length of a function and at the docs of exported names.
func (c *count) declared(d ast.Decl) {
	switch d := d.(type) {
	case *ast.FuncDecl:
		from, to := c.fset.Position(d.Pos()).Line, c.fset.Position(d.End()).Line
		if n := to - from + 1; n > longFunction {
			c.add(functions, d.Pos(), fmt.Sprintf("%s, %d lines", d.Name.Name, n))
		}
		known := d.Recv != nil && slices.Contains([]string{"Error", "String", "Unwrap"}, d.Name.Name) // their interfaces document them
		if d.Name.IsExported() && d.Doc == nil && exportedReceiver(d) && !known {
			c.add(undocumented, d.Pos(), d.Name.Name)
		}
	case *ast.GenDecl:
		for _, s := range d.Specs {
			switch s := s.(type) {
			case *ast.TypeSpec:
				if s.Name.IsExported() && d.Doc == nil && s.Doc == nil && s.Comment == nil {
					c.add(undocumented, s.Pos(), s.Name.Name)
				}
			case *ast.ValueSpec:
				for _, name := range s.Names {
					if name.IsExported() && d.Doc == nil && s.Doc == nil && s.Comment == nil {
						c.add(undocumented, s.Pos(), name.Name)
					}
				}
			}
		}
	}
}

func exportedReceiver(d *ast.FuncDecl) bool {
	if d.Recv == nil {
		return true
	}
	t := d.Recv.List[0].Type
	if star, ok := t.(*ast.StarExpr); ok {
		t = star.X
	}
	name, ok := t.(*ast.Ident)
	return !ok || name.IsExported()
}
